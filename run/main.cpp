// The headless runner: a study in, results and a report out.
#include "core/base/parallel.h"
#include "core/report/report.h"
#include "core/study/answer.h"
#include "core/study/sources.h"

#include <CLI/CLI.hpp>
#include <nlohmann/json.hpp>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iostream>

namespace {

using namespace rapporto;

struct Call {
    std::string study;
    std::vector<std::string> questions;
    std::string out;
    std::string report;
    std::size_t threads = 0;
    bool acceptChanged = false;
};

/// With exit 2 standard error holds exactly one line.
int unusable(const std::string& line) {
    std::string one = line;
    std::replace(one.begin(), one.end(), '\n', ' ');
    std::cerr << "rapporto-run: " << one << "\n";
    return 2;
}

bool write(const std::string& path, const std::string& text) {
    std::ofstream out(path, std::ios::binary);
    out << text;
    return static_cast<bool>(out.flush());
}

const ReportWriter* writerFor(const std::string& path) {
    const std::string ending = std::filesystem::path(path).extension().string();
    for (const ReportWriter& writer : allReportWriters()) {
        if (ending == writer.ending) {
            return &writer;
        }
    }
    return nullptr;
}

void noteUnknownKeys(const Study& study) {
    for (const auto& key : study.unknownKeys) {
        std::cerr << "note: the study’s key ‘" << key
                  << "’ is not known to this version; it was kept and not used\n";
    }
    for (const Question& q : study.questions) {
        for (const auto& key : q.unknownKeys) {
            std::cerr << "note: question " << q.id << ": the key ‘" << key
                      << "’ is not known to this version; it was not used\n";
        }
    }
}

int run(const Call& call) {
    const auto study = readStudyFile(call.study);
    if (!study) {
        return unusable(study.error().text());
    }
    for (const auto& id : call.questions) {
        if (study->find(id) == nullptr) {
            return unusable("the study has no question ‘" + id + "’");
        }
    }
    const ReportWriter* writer = call.report.empty() ? nullptr : writerFor(call.report);
    if (!call.report.empty() && writer == nullptr) {
        return unusable("a report cannot be written as ‘" + call.report +
                        "’ yet: use .html, .md or .csv");
    }
    const Job job;
    const std::string directory = std::filesystem::absolute(call.study).parent_path().string();
    const auto sources = readSources(*study, directory, call.acceptChanged, job);
    if (!sources) {
        return unusable(sources.error().text() + (sources.error().code == ErrorCode::Changed
                                                      ? " Call with --accept-changed."
                                                      : ""));
    }
    const Frame frame = makeFrame(*study, *sources);
    std::vector<Answer> answers;
    answers.reserve(study->questions.size());  // What is built below points into it.
    AnswersById byId;
    bool refused = false;
    const bool terminal = isatty(STDERR_FILENO) != 0;
    for (const Question& question : study->questions) {
        const bool wanted = call.questions.empty() ||
                            std::find(call.questions.begin(), call.questions.end(), question.id) !=
                                call.questions.end();
        if (!wanted) {
            continue;
        }
        if (terminal) {
            std::cerr << "\r" << question.id << " …" << std::flush;
        }
        answers.push_back(answerQuestion(*study, frame, question, job));
        byId.emplace(question.id, &answers.back());
        refused = refused || answers.back().refusal.has_value();
    }
    if (terminal) {
        std::cerr << "\r\033[K";
    }
    const std::string results = prettyJson(resultsJson(*study, answers));
    if (!call.out.empty() && !write(call.out, results)) {
        return unusable("the results cannot be written to ‘" + call.out + "’");
    }
    if (call.out.empty() && call.report.empty()) {
        std::cout << results;
    }
    if (writer != nullptr &&
        !write(call.report, writer->write(study->title, buildReport(*study, byId)))) {
        return unusable("the report cannot be written to ‘" + call.report + "’");
    }
    noteUnknownKeys(*study);
    for (const Answer& answer : answers) {
        if (answer.refusal) {
            std::cerr << "refused: " << answer.question.id << ": " << answer.refusal->text()
                      << "\n";
        }
    }
    bool broken = false;
    for (const Answer& answer : answers) {
        for (const std::string& fault : answer.faults) {
            broken = true;
            if (!answer.refusal) {
                std::cerr << "refused: " << answer.question.id << ": " << fault << "\n";
            }
        }
    }
    return refused || broken ? 3 : 0;
}

}  // namespace

int main(int argc, char** argv) {
    CLI::App app("Computes a Rapporto study without a window.", "rapporto-run");
    Call call;
    app.add_option("STUDY", call.study, "the study file")->required();
    app.add_option("--question", call.questions, "answer this question only (may be repeated)");
    app.add_option("--out", call.out, "write the results here (default: standard output)");
    app.add_option("--report", call.report,
                   "write a report here; its type follows the ending: .html .md .csv");
    app.add_option("--threads", call.threads, "threads to use (default: all cores)");
    app.add_flag("--accept-changed", call.acceptChanged, "use a source whose checksum differs");
    try {
        app.parse(argc, argv);
    } catch (const CLI::CallForHelp& help) {
        return app.exit(help);
    } catch (const CLI::ParseError& error) {
        return unusable(error.what());
    }
    try {
        setThreads(call.threads);
        return run(call);
    } catch (const std::bad_alloc&) {
        return unusable("there is not enough memory for this study");
    } catch (const std::exception& error) {
        return unusable(std::string("an unexpected fault: ") + error.what());
    }
}
