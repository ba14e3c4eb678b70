#include "core/report/replication.h"

#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/hash.h"
#include "core/io/table_file.h"
#include "core/report/codebook.h"
#include "core/report/writers/writer.h"
#include "core/study/compare_results.h"
#include "core/study/missing_answer.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <bit>
#include <filesystem>
#include <map>
#include <set>

namespace rapporto {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

constexpr const char* kList = "replication.json";
constexpr const char* kStudy = "study.rapporto";
constexpr const char* kResults = "results.json";
constexpr std::size_t kMostRowSums = 200000;  ///< Rows beyond share a sum.

std::uint64_t cellHash(const Column& column, std::size_t row) {
    if (column.isMissing(row)) {
        return 0x9E3779B97F4A7C15U;
    }
    if (column.isText()) {
        return contentHash(column.texts()[static_cast<std::size_t>(column.codes()[row])]);
    }
    const auto bits = std::bit_cast<std::uint64_t>(column.numbers()[row] + 0.0);
    std::string bytes(8, '\0');
    for (std::size_t k = 0; k < 8; ++k) {
        bytes[k] = static_cast<char>(bits >> (8U * k) & 0xFFU);
    }
    return contentHash(bytes);
}

/// Sums of a table along its rows and along its columns: a changed cell is where both differ.
Json sumsOf(const Table& table) {
    const std::size_t rows = table.rows();
    const std::size_t together = rows / kMostRowSums + 1;
    std::vector<std::uint64_t> ofRows((rows + together - 1) / together, 0);
    Json columns = Json::array();
    for (const Column& column : table.columns) {
        std::uint64_t sum = contentHash(column.name());
        for (std::size_t row = 0; row < rows; ++row) {
            const std::uint64_t cell = cellHash(column, row);
            sum = std::rotl(sum, 5) ^ cell;
            sum *= 0xFF51AFD7ED558CCDU;
            std::uint64_t& mine = ofRows[row / together];
            mine = (std::rotl(mine, 7) ^ cell) * 0xC4CEB9FE1A85EC53U;
        }
        columns.push_back({column.name(), fmt::format("{:016x}", sum)});
    }
    Json sums = Json::array();
    for (const std::uint64_t sum : ofRows) {
        sums.push_back(fmt::format("{:08x}", static_cast<std::uint32_t>(sum >> 32U)));
    }
    return {{"rows", rows}, {"rows_together", together}, {"columns", columns}, {"row_sums", sums}};
}

constexpr std::size_t kMostBytes = std::size_t{1} << 36U;  ///< Of one file of a folder.

Result<std::string> bytesOfFile(const std::string& path) { return readWhole(path, kMostBytes); }

/// Writes files below a folder and keeps their sums.
class Folder {
  public:
    explicit Folder(fs::path at) : at_(std::move(at)) {}

    Result<void> put(const std::string& name, const std::string& bytes) {
        std::error_code trouble;
        fs::create_directories((at_ / name).parent_path(), trouble);
        if (trouble) {
            return tl::make_unexpected(
                fileTrouble("the folder cannot be made", (at_ / name).string(), trouble.value()));
        }
        if (auto done = replaceFile((at_ / name).string(), bytes); !done) {
            return tl::make_unexpected(done.error());
        }
        files_.push_back({{"name", name}, {"sha256", sha256OfText(bytes)}});
        return {};
    }

    [[nodiscard]] const Json& files() const { return files_; }

  private:
    fs::path at_;
    Json files_ = Json::array();
};

/// The study with its files under `data/`; what has to be copied where.
struct Moved {
    Study study;
    std::vector<std::pair<std::string, std::string>> copies;  ///< From a path, to a name.
};

Result<Moved> movedStudy(const Study& study, const std::string& directory) {
    Moved out;
    out.study = study;
    out.study.raw.reset();
    std::map<std::string, int> taken;
    const auto move = [&](Source& source) -> Result<void> {
        if (source.file.empty() || source.moments) {
            return {};
        }
        const std::string path = pathOf(source, directory);
        const auto parts = filesOfTable(path, source.reader);
        // Files of one table keep their places to each other; two of one name get a folder each.
        const fs::path home = fs::path(path).parent_path();
        const std::string own = fs::path(path).filename().string();
        const int number = ++taken[own];
        const std::string folder =
            number == 1 ? std::string("data") : "data/" + std::to_string(number);
        for (const std::string& part : parts) {
            const fs::path inside = fs::path(part).lexically_relative(home);
            if (inside.empty() || *inside.begin() == "..") {
                return refuse(ErrorCode::File,
                              "a table lies outside the folder of what describes it", part,
                              "Put both into one folder.");
            }
            out.copies.emplace_back(part, folder + "/" + inside.generic_string());
        }
        source.file = folder + "/" + own;
        if (source.sha256.empty()) {
            if (const auto sum = sha256OfTable(path, source.reader)) {
                source.sha256 = *sum;
            }
        }
        return {};
    };
    if (auto done = move(out.study.source); !done) {
        return tl::make_unexpected(done.error());
    }
    for (ShapeStep& step : out.study.shape) {
        if (Source* other = otherSource(step)) {
            if (auto done = move(*other); !done) {
                return tl::make_unexpected(done.error());
            }
        }
    }
    return out;
}

std::string readme(const Study& study, const ReplicationPlan& plan,
                   const std::vector<std::pair<std::string, std::string>>& copies) {
    std::string out = "# " + study.title +
                      "\n\nEverything that is needed to compute the results "
                      "again.\n\nThe one command, from the folder that holds this one:\n\n    "
                      "rapporto-run --verify FOLDER\n\nIt looks at every checksum, computes the "
                      "study anew and compares all numbers with results.json (exit 0: they agree; "
                      "4: they do not, and it says where).\n\n";
    out +=
        "- study.rapporto: what was asked, of which rows, how\n- results.json: all numbers\n"
        "- report.pdf, report.html, figures/: the report\n- codebook.html: the variables\n"
        "- replication.json: checksums of every file, and of the rows and columns of the data\n";
    for (const std::string& served : databasesOf(study)) {
        out += "- the data stay where they are: " + served +
               ", reached as the environment of whoever computes it again says\n";
    }
    if (plan.withData) {
        out += copies.empty() ? "" : "- data/: the data as they were read\n";
    } else if (!copies.empty()) {
        out +=
            "\nThe data are not part of this folder. Whoever may use them puts these files "
            "here:\n\n";
        for (const auto& [from, to] : copies) {
            out += "- " + to + "\n";
        }
    }
    return out + "\nMade with Rapporto " + plan.version + ".\n";
}

/// Numbers in a document.
std::size_t numbersIn(const Json& json) {
    if (json.is_number()) {
        return 1;
    }
    std::size_t count = 0;
    if (json.is_structured()) {
        for (const Json& part : json) {
            count += numbersIn(part);
        }
    }
    return count;
}

/// The cells of the data that are not as they were, by the sums along rows and columns.
void cellDifferences(const Json& before, const Json& now, std::vector<std::string>& out) {
    if (before == now) {
        return;
    }
    if (before.value("rows", 0) != now.value("rows", 0)) {
        out.push_back(fmt::format("data: {} rows were, {} are", before.value("rows", 0),
                                  now.value("rows", 0)));
        return;
    }
    std::string columns;
    for (std::size_t c = 0; c < before.at("columns").size(); ++c) {
        if (c >= now.at("columns").size() || before.at("columns")[c] != now.at("columns")[c]) {
            columns +=
                (columns.empty() ? "" : ", ") + before.at("columns")[c][0].get<std::string>();
        }
    }
    const auto together = before.value("rows_together", std::size_t{1});
    std::string rows;
    std::size_t more = 0;
    for (std::size_t r = 0; r < before.at("row_sums").size(); ++r) {
        if (before.at("row_sums")[r] != now.at("row_sums")[r]) {
            if (std::count(rows.begin(), rows.end(), ',') >= 9) {
                ++more;
                continue;
            }
            rows += (rows.empty() ? "" : ", ") +
                    (together == 1 ? std::to_string(r + 1)
                                   : fmt::format("{} to {}", r * together + 1, (r + 1) * together));
        }
    }
    out.push_back("data: row " + rows + (more > 0 ? fmt::format(" and {} more", more) : "") +
                  ", column " + columns + " is not as it was");
}

Result<void> writeFiles(const ReplicationInput& in, const Moved& moved, const std::string& folder,
                        const ReplicationPlan& plan) {
    Folder into(folder);
    std::vector<std::pair<std::string, std::string>> files;
    AnswersById byId;
    for (const Answer& answer : in.answers) {
        byId.emplace(answer.question.id, &answer);
    }
    const ReportPages pages = reportPages(in.study, byId, &in.frame);
    files.emplace_back(kStudy, studyText(moved.study));
    files.emplace_back(kResults, prettyJson(resultsJson(in.study, in.answers)));
    for (const char* ending : {".pdf", ".html"}) {
        auto written = findReportWriter(ending)->write(pages, "report");
        if (!written) {
            return tl::make_unexpected(written.error());
        }
        files.emplace_back("report" + std::string(ending), std::move(written->bytes));
    }
    int figure = 0;
    for (const ReportBlock& block : pages.blocks) {
        if (block.kind == ReportBlock::Kind::Figure) {
            files.emplace_back(fmt::format("figures/figure-{}.svg", ++figure),
                               svgOf(block.figure, "STIX, 'STIX Two Text', serif"));
        }
    }
    auto codebook =
        findReportWriter(".html")->write(codebookPages(in.study.title, in.frame), "codebook");
    if (!codebook) {
        return tl::make_unexpected(codebook.error());
    }
    files.emplace_back("codebook.html", std::move(codebook->bytes));
    files.emplace_back("README.md", readme(in.study, plan, moved.copies));
    for (const auto& [from, to] : moved.copies) {
        if (plan.withData) {
            auto bytes = bytesOfFile(from);
            if (!bytes) {
                return tl::make_unexpected(bytes.error());
            }
            files.emplace_back(to, *std::move(bytes));
        }
    }
    for (const auto& [name, bytes] : files) {
        if (auto done = into.put(name, bytes); !done) {
            return done;
        }
    }
    Json list = {{"format", "rapporto-replication"},
                 {"version", 1},
                 {"made_with", plan.version},
                 {"study", kStudy},
                 {"results", kResults},
                 {"data", plan.withData},
                 {"files", into.files()}};
    if (in.sources.table != nullptr) {
        list["cells"] = sumsOf(*in.sources.table);
    }
    return into.put(kList, prettyJson(list));
}

/// The questions that results are of: a folder may have been made of some of the study's.
std::set<std::string> questionsIn(const Json& results) {
    std::set<std::string> out;
    const auto answers = results.find("answers");
    if (answers == results.end() || !answers->is_array()) {
        return out;
    }
    for (const Json& answer : *answers) {
        const auto question = answer.is_object() ? answer.find("question") : answer.end();
        if (answer.is_object() && question != answer.end() && question->is_string()) {
            out.insert(question->get<std::string>());
        }
    }
    return out;
}

}  // namespace

Result<void> writeReplication(const ReplicationInput& in, const std::string& folder,
                              const ReplicationPlan& plan) {
    std::string place = folder;
    while (place.size() > 1 && place.ends_with('/')) {
        place.pop_back();
    }
    std::error_code trouble;
    if (fs::exists(place, trouble) &&
        !(fs::is_directory(place, trouble) && fs::is_empty(place, trouble))) {
        return refuse(ErrorCode::File, "the folder exists and is not empty", folder,
                      "Name a new one: nothing is written over what stands there.");
    }
    const auto moved = movedStudy(in.study, in.directory);
    if (!moved) {
        return tl::make_unexpected(moved.error());
    }
    // Beside its place, under a name that nobody else has, until it is whole.
    const std::string fresh = nameBeside(place);
    auto written = writeFiles(in, *moved, fresh, plan);
    if (written) {
        fs::remove(place, trouble);  // An empty one.
        fs::rename(fresh, place, trouble);
        if (trouble) {
            written = tl::make_unexpected(
                fileTrouble("the folder cannot be put in place", folder, trouble.value()));
        }
    }
    if (!written) {
        fs::remove_all(fresh, trouble);
    }
    return written;
}

Result<VerifyReport> verifyReplication(const std::string& folder, double relative, const Job& job) {
    const fs::path at(folder);
    const auto text = bytesOfFile((at / kList).string());
    if (!text) {
        return tl::make_unexpected(text.error());
    }
    const Json list = Json::parse(*text, nullptr, false);
    if (!list.is_object() || list.value("format", "") != "rapporto-replication" ||
        !list.contains("files") || !list.at("files").is_array()) {
        return refuse(ErrorCode::Syntax, "this is no replication folder", folder,
                      "It holds a replication.json that Rapporto wrote.");
    }
    VerifyReport out;
    for (const Json& file : list.at("files")) {
        const std::string name = file.value("name", "");
        const fs::path inside = fs::path(name).lexically_normal();
        if (name.empty() || inside.is_absolute() || *inside.begin() == "..") {
            return refuse(ErrorCode::Syntax, "it names a file outside of itself", name);
        }
        const auto sum = sha256OfFile((at / name).string(), job);
        if (!sum) {
            out.differences.push_back(name + " is missing");
        } else if (*sum != file.value("sha256", "")) {
            out.differences.push_back(name + " is not as it was written");
        }
    }
    const auto study = readStudyFile((at / list.value("study", kStudy)).string());
    if (!study) {
        return tl::make_unexpected(study.error());
    }
    if (const auto outside = filesOutside(*study, folder); !outside.empty()) {
        return refuse(ErrorCode::File, "the study reads files outside of the folder",
                      joinedNames(outside));
    }
    // A changed file is computed with all the same: what moved is what one wants to know.
    const auto sources = readSources(*study, folder, true, job);
    if (!sources) {
        return tl::make_unexpected(sources.error());
    }
    if (sources->table != nullptr && list.contains("cells")) {
        try {
            cellDifferences(list.at("cells"), sumsOf(*sources->table), out.differences);
        } catch (const nlohmann::json::exception&) {
            return refuse(ErrorCode::Syntax, "its list of sums cannot be read", kList);
        }
    }
    const auto kept = bytesOfFile((at / list.value("results", kResults)).string());
    const Json before = kept ? Json::parse(*kept, nullptr, false) : Json();
    if (!before.is_object()) {
        return refuse(ErrorCode::Syntax, "its results cannot be read", kResults);
    }
    const Frame frame = makeFrame(*study, *sources);
    std::vector<Answer> answers;
    Making making(job);
    making.sets = setsOnce(*study, frame);
    const auto asked = questionsIn(before);
    for (const Question& question : study->questions) {
        if (asked.contains(question.id)) {
            answers.push_back(answerQuestion(*study, frame, question, making));
        }
    }
    // Through text, as the file was: numbers are what they read back as.
    const Json now = Json::parse(prettyJson(resultsJson(*study, answers)));
    out.compared = numbersIn(before);
    constexpr std::size_t kMost = 50;
    std::size_t left = 0;
    for (const ResultDifference& one : differencesBetween(before, now, relative, kMost, &left)) {
        out.differences.push_back(one.text());
    }
    if (left > 0) {
        out.differences.push_back(fmt::format("and {} more", left));
    }
    return out;
}

}  // namespace rapporto
