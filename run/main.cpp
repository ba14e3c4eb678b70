// The headless runner: a study in, results and a report out.
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/report/report.h"
#include "core/study/answer.h"
#include "core/study/sources.h"

#include <CLI/CLI.hpp>
#include <fcntl.h>
#include <nlohmann/json.hpp>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
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
    bool anywhere = false;
};

constexpr std::size_t kLongestLine = 2000;
constexpr std::size_t kMostThreads = 1024;

/// What a file holds may be a million characters long, and a message repeats some of it.
std::string shortened(const std::string& line) {
    if (line.size() <= kLongestLine) {
        return line;
    }
    std::size_t end = kLongestLine;
    while (end > 0 && (static_cast<unsigned char>(line[end]) & 0xC0U) == 0x80U) {
        --end;
    }
    return line.substr(0, end) + "…";
}

/// With exit 2 standard error holds exactly one line.
int unusable(const std::string& line) {
    std::string one = shortened(line);
    std::replace(one.begin(), one.end(), '\n', ' ');
    std::cerr << "rapporto-run: " << one << "\n";
    return 2;
}

/// Straight into what is no file: a pipe, a terminal, a device.
Result<void> pour(int handle, const std::string& name, const std::string& text) {
    FileHandle out(handle, systemDisk());
    if (out.isOpen() && out.write(text) && out.close() == 0) {
        return {};
    }
    return tl::make_unexpected(fileTrouble("it cannot be written", name, errno));
}

Result<void> write(const std::string& path, const std::string& text) {
    struct stat info {};

    if (stat(path.c_str(), &info) == 0 && !S_ISREG(info.st_mode) && !S_ISDIR(info.st_mode)) {
        return pour(open(path.c_str(), O_WRONLY | O_CLOEXEC | O_NOCTTY), path, text);
    }
    const auto done = replaceFile(path, text);
    return done ? Result<void>() : tl::make_unexpected(done.error());
}

/// Refuses to write over what the call reads, and two things into one file.
Result<void> mayWrite(const Call& call, const Study& study) {
    for (const std::string& out : {call.out, call.report}) {
        if (auto may = out.empty() ? Result<void>() : mayWriteTo(out, study, call.study); !may) {
            return may;
        }
    }
    if (!call.out.empty() && !call.report.empty() && sameFile(call.out, call.report)) {
        return refuse(ErrorCode::File, "results and report cannot be written into one file",
                      call.out, "Choose two names.");
    }
    return {};
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
    if (auto may = mayWrite(call, *study); !may) {
        return unusable(may.error().text());
    }
    const auto outside = filesOutside(*study, directory);
    if (!outside.empty() && !call.anywhere) {
        return unusable("the study reads files outside its folder: " + joinedNames(outside) +
                        ". Call with --anywhere if you trust it.");
    }
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
    auto written = !call.out.empty()     ? write(call.out, results)
                   : call.report.empty() ? pour(dup(STDOUT_FILENO), "standard output", results)
                                         : Result<void>();
    if (!written) {
        return unusable("the results are lost: " + written.error().text());
    }
    if (writer != nullptr) {
        written = write(call.report, writer->write(study->title, buildReport(*study, byId)));
        if (!written) {
            return unusable("the report is lost: " + written.error().text());
        }
    }
    noteUnknownKeys(*study);
    for (const Answer& answer : answers) {
        if (answer.refusal) {
            std::cerr << "refused: "
                      << shortened(answer.question.id + ": " + answer.refusal->text()) << "\n";
        }
    }
    bool broken = false;
    for (const Answer& answer : answers) {
        for (const std::string& fault : answer.faults) {
            broken = true;
            if (!answer.refusal) {
                std::cerr << "refused: " << shortened(answer.question.id + ": " + fault) << "\n";
            }
        }
    }
    return refused || broken ? 3 : 0;
}

}  // namespace

int main(int argc, char** argv) {
    // A reader that goes away is an error of writing, told as one.
    signal(SIGPIPE, SIG_IGN);
    // Without this a file that is opened would take the number of a closed standard output.
    for (const int standard : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO}) {
        if (fcntl(standard, F_GETFD) < 0 && errno == EBADF) {
            (void)open("/dev/full", standard == STDIN_FILENO ? O_RDONLY : O_WRONLY);
        }
    }
    CLI::App app("Computes a Rapporto study without a window.", "rapporto-run");
    Call call;
    app.add_option("STUDY", call.study, "the study file")->required();
    app.add_option("--question", call.questions, "answer this question only (may be repeated)");
    app.add_option("--out", call.out, "write the results here (default: standard output)");
    app.add_option("--report", call.report,
                   "write a report here; its type follows the ending: .html .md .csv");
    app.add_option("--threads", call.threads, "threads to use (default: all cores)");
    app.add_flag("--anywhere", call.anywhere, "read files outside the study's folder");
    app.add_flag("--accept-changed", call.acceptChanged, "use a source whose checksum differs");
    try {
        app.parse(argc, argv);
    } catch (const CLI::CallForHelp& help) {
        return app.exit(help);
    } catch (const CLI::ParseError& error) {
        return unusable(error.what());
    }
    if (call.threads > kMostThreads) {
        return unusable("--threads is a whole number from 0 (all cores) to " +
                        std::to_string(kMostThreads));
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
