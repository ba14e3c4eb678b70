// The headless runner: a study in, results and a report out.
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/io/column_store.h"
#include "core/io/csv.h"
#include "core/left/left_table.h"
#include "core/report/codebook.h"
#include "core/report/replication.h"
#include "core/report/report.h"
#include "core/report/writers/writer.h"
#include "core/study/answer.h"
#include "core/study/compare_results.h"
#include "core/study/missing_answer.h"
#include "core/study/sources.h"

#include <CLI/CLI.hpp>
#include <fcntl.h>
#include <fmt/format.h>
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
    std::string codebook;
    std::string replication;  ///< Folder to write.
    std::string verify;       ///< Folder to look at.
    std::string against;      ///< Results of another run.
    std::string imputed;      ///< Folder for the sets that are filled in.
    double tolerance = 1e-9;
    bool withoutData = false;
    std::size_t threads = 0;
    bool acceptChanged = false;
    bool anywhere = false;
};

/// Something is to be written that needs answers.
bool asksForAnswers(const Call& call) {
    return !call.out.empty() || !call.report.empty() || !call.replication.empty() ||
           !call.against.empty() || !call.imputed.empty();
}

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
    std::vector<std::string> taken;
    for (const std::string& out : {call.out, call.report, call.codebook}) {
        if (out.empty()) {
            continue;
        }
        if (auto may = mayWriteTo(out, study, call.study); !may) {
            return may;
        }
        for (const std::string& other : taken) {
            if (sameFile(out, other)) {
                return refuse(ErrorCode::File,
                              "results, report and codebook cannot be written into one file", out,
                              "Choose a name for each.");
            }
        }
        taken.push_back(out);
    }
    return {};
}

/// The report or codebook, and what it needs beside it; nothing that the study reads is written
/// over.
Result<void> writeReport(const Call& call, const Study& study, const std::string& to,
                         const ReportPages& pages) {
    return saveReport(pages, to, [&](const std::string& path, const std::string& bytes) {
        auto may = mayWriteTo(path, study, call.study);
        return may ? write(path, bytes) : may;
    });
}

/// Every set that the study fills in, with what is derived, and which cells were filled.
Result<void> writeSets(const Call& call, const Study& study, const Frame& frame,
                       const Making& making) {
    const auto sets = making.sets(making.job);
    if (!sets) {
        return tl::make_unexpected(sets.error());
    }
    std::error_code trouble;
    std::filesystem::create_directories(call.imputed, trouble);
    if (trouble) {
        return tl::make_unexpected(
            fileTrouble("the folder cannot be made", call.imputed, trouble.value()));
    }
    const auto put = [&](const std::string& name, const Table& table) -> Result<void> {
        const std::string path = (std::filesystem::path(call.imputed) / name).string();
        auto may = mayWriteTo(path, study, call.study);
        return may ? writeCsv(table, path) : may;
    };
    for (std::size_t set = 0; set < (*sets)->count(); ++set) {
        const Frame filled = frameOfSet(study, frame, **sets, set);
        if (auto done = put(fmt::format("set-{:02}.csv", set + 1), filled.table()); !done) {
            return done;
        }
    }
    return put("filled.csv", filledCells(**sets));
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

constexpr std::size_t kMostDifferences = 200;
constexpr std::size_t kMostResults = std::size_t{1} << 31U;  // Bytes of a results file.

/// Everything in a replication folder computed again and compared.
int verify(const Call& call) {
    const auto report = verifyReplication(call.verify, call.tolerance, Job{});
    if (!report) {
        return unusable(report.error().text());
    }
    for (const std::string& line : report->differences) {
        std::cout << shortened(line) << "\n";
    }
    if (report->differences.empty()) {
        std::cout << report->compared << " numbers computed again: all agree\n";
    }
    return std::cout.flush() ? (report->differences.empty() ? 0 : 4)
                             : unusable("standard output is lost");
}

/// What moved between results that were kept and these.
int compare(const Call& call, const std::string& results) {
    const auto kept = readWhole(call.against, kMostResults);
    if (!kept) {
        return unusable(kept.error().text());
    }
    const auto before = nlohmann::ordered_json::parse(*kept, nullptr, false);
    if (!before.is_object() || before.value("format", "") != "rapporto-results") {
        return unusable("‘" + call.against + "’ holds no results of this program");
    }
    std::size_t left = 0;
    const auto moved = differencesBetween(before, nlohmann::ordered_json::parse(results),
                                          call.tolerance, kMostDifferences, &left);
    for (const ResultDifference& one : moved) {
        std::cout << shortened(one.text()) << "\n";
    }
    if (left > 0) {
        std::cout << "and " << left << " more\n";
    }
    if (moved.empty()) {
        std::cout << "nothing moved\n";
    }
    return std::cout.flush() ? (moved.empty() ? 0 : 4) : unusable("standard output is lost");
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
    for (const std::string& out : {call.report, call.codebook}) {
        if (auto known = out.empty() ? Result<void>() : knownEnding(out); !known) {
            return unusable(known.error().text());
        }
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
    // A codebook alone needs no answers.
    const bool answering = call.codebook.empty() || asksForAnswers(call) || !call.questions.empty();
    const bool terminal = isatty(STDERR_FILENO) != 0;
    Making making(job);
    making.sets = setsOnce(*study, frame);
    for (const Question& question : study->questions) {
        const bool wanted = answering && (call.questions.empty() ||
                                          std::find(call.questions.begin(), call.questions.end(),
                                                    question.id) != call.questions.end());
        if (!wanted) {
            continue;
        }
        if (terminal) {
            std::cerr << "\r" << question.id << " …" << std::flush;
        }
        answers.push_back(answerQuestion(*study, frame, question, making));
        byId.emplace(question.id, &answers.back());
        refused = refused || answers.back().refusal.has_value();
    }
    if (terminal) {
        std::cerr << "\r\033[K";
    }
    const std::string results = prettyJson(resultsJson(*study, answers));
    const bool asked = asksForAnswers(call) || !call.codebook.empty();
    auto written = !call.out.empty() ? write(call.out, results)
                   : !asked          ? pour(dup(STDOUT_FILENO), "standard output", results)
                                     : Result<void>();
    if (!written) {
        return unusable("the results are lost: " + written.error().text());
    }
    if (!call.report.empty()) {
        written = writeReport(call, *study, call.report, reportPages(*study, byId, &frame));
        if (!written) {
            return unusable("the report is lost: " + written.error().text());
        }
    }
    if (!call.codebook.empty()) {
        if (frame.left()) {
            if (auto known = frame.left()->describe(job); !known) {
                return unusable(known.error().text());
            }
        }
        written = writeReport(call, *study, call.codebook,
                              codebookPages(study->title, frame, dressOf(study->reportStyle)));
        if (!written) {
            return unusable("the codebook is lost: " + written.error().text());
        }
    }
    if (!call.imputed.empty()) {
        written = writeSets(call, *study, frame, making);
        if (!written) {
            return unusable("the sets are not written: " + written.error().text());
        }
    }
    if (!call.replication.empty()) {
        written = writeReplication({*study, directory, *sources, frame, answers}, call.replication,
                                   {!call.withoutData, RAPPORTO_VERSION});
        if (!written) {
            return unusable("the replication folder is not whole: " + written.error().text());
        }
    }
    noteUnknownKeys(*study);
    const int moved = call.against.empty() ? 0 : compare(call, results);
    if (moved == 2) {
        return moved;
    }
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
    return refused || broken ? 3 : moved;
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
    column_store::keepIn(column_store::usualFolder());
    CLI::App app("Computes a Rapporto study without a window.", "rapporto-run");
    Call call;
    app.add_option("STUDY", call.study, "the study file");
    app.add_option("--question", call.questions, "answer this question only (may be repeated)");
    app.add_option("--out", call.out, "write the results here (default: standard output)");
    app.add_option("--report", call.report,
                   "write a report here; its type follows the ending: " + reportEndings());
    app.add_option("--codebook", call.codebook,
                   "write what is known of each variable here, as --report does");
    app.add_option("--imputed", call.imputed,
                   "write every set that is filled in into this folder, as set-01.csv and so on");
    app.add_option("--replication", call.replication,
                   "write a folder from which all of it can be computed again");
    app.add_flag("--without-data", call.withoutData,
                 "leave the data out of that folder: checksums and codebook stand for them");
    app.add_option("--verify", call.verify,
                   "compute such a folder again and compare: exit 0 where all agrees, else 4");
    app.add_option("--against", call.against,
                   "say what moved since the results in this file: exit 4 where something did");
    app.add_option("--tolerance", call.tolerance,
                   "by how much of itself a number may differ in comparisons (1e-9)");
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
    if (call.study.empty() == call.verify.empty()) {
        return unusable(call.study.empty() ? "STUDY is required"
                                           : "--verify takes a folder and no study");
    }
    if (!(call.tolerance >= 0.0 && call.tolerance < 1.0)) {
        return unusable("--tolerance is a share of a number, from 0 to under 1");
    }
    if (call.threads > kMostThreads) {
        return unusable("--threads is a whole number from 0 (all cores) to " +
                        std::to_string(kMostThreads));
    }
    try {
        setThreads(call.threads);
        return call.verify.empty() ? run(call) : verify(call);
    } catch (const std::bad_alloc&) {
        return unusable("there is not enough memory for this study");
    } catch (const std::exception& error) {
        return unusable(std::string("an unexpected fault: ") + error.what());
    }
}
