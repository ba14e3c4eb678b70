#include "core/base/room.h"
#include "core/io/column_collector.h"
#include "core/io/csv_guess.h"
#include "core/io/mapped_file.h"
#include "core/io/table_file.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <unordered_map>

namespace rapporto {
namespace {

using Json = nlohmann::json;

constexpr std::size_t kDeepest = 200;
constexpr std::size_t kMostColumns = 100000;

/// What the records of a text come to, column by column.
struct Found {
    std::vector<std::string> names;
    std::vector<ColumnCollector> cells;
    std::unordered_map<std::string, std::size_t> place;
    std::size_t rows = 0;
    std::vector<Problem> problems;
    std::size_t problemCount = 0;

    void problem(std::string what) {
        ++problemCount;
        if (problems.size() < kMaxProblems) {
            problems.push_back({rows, std::move(what)});
        }
    }
};

/// Takes records as the parser comes upon them, so that neither their number nor the number of
/// their fields nor the depth of a value is held in memory or on the stack. Records are the entries
/// of the list that the text is, or of the first list of records in the object that it is, or, line
/// by line, the texts themselves.
class Records : public nlohmann::json_sax<Json> {
  public:
    Records(Found& found, bool lines, std::size_t bytes, const Job& job)
        : found_(found), home_(lines ? 0 : kUnknown), bytes_(bytes), job_(job) {}

    std::optional<Refusal> refusal;

    /// The list of records was met.
    [[nodiscard]] bool met() const { return home_ != kUnknown; }

    bool null() override {
        return value("null", [](ColumnCollector& c) { c.addMissing(); });
    }

    bool boolean(bool v) override {
        return value(v ? "true" : "false", [v](ColumnCollector& c) { c.addTruth(v); });
    }

    bool number_integer(number_integer_t v) override {
        return whole(std::to_string(v), static_cast<double>(v));
    }

    bool number_unsigned(number_unsigned_t v) override {
        return whole(std::to_string(v), static_cast<double>(v));
    }

    bool number_float(number_float_t v, const string_t& text) override {
        return value(text, [v](ColumnCollector& c) { c.addNumber(v); });
    }

    bool string(string_t& v) override {
        if (isInside()) {
            return value(Json(v).dump(-1, ' ', false, Json::error_handler_t::replace),
                         [](ColumnCollector&) {});
        }
        return value({}, [&v](ColumnCollector& c) { c.addText(v); });
    }

    bool binary(binary_t& /*v*/) override { return false; }

    bool start_object(std::size_t /*size*/) override { return opened('{'); }

    bool start_array(std::size_t /*size*/) override { return opened('['); }

    bool end_object() override { return closed('}'); }

    bool end_array() override { return closed(']'); }

    bool key(string_t& name) override {
        if (isInside()) {
            before();
            inside_ += Json(name).dump(-1, ' ', false, Json::error_handler_t::replace) + ":";
            fresh_.back() = true;
        } else {
            key_ = name;
        }
        return true;
    }

    bool parse_error(std::size_t /*at*/, const std::string& /*token*/,
                     const nlohmann::detail::exception& /*why*/) override {
        return false;
    }

  private:
    static constexpr std::size_t kUnknown = ~std::size_t{0};

    /// In a list or record that is the value of a field.
    [[nodiscard]] bool isInside() const { return inRecord_ && depth_ > home_ + 1; }

    /// Where an entry of the list of records would stand.
    [[nodiscard]] bool isAtHome() const { return depth_ == home_ && !done_; }

    bool stop(ErrorCode code, std::string what, std::string help) {
        refusal = Refusal{code, std::move(what), {}, std::move(help), {}};
        return false;
    }

    /// The comma before a part of a value that is kept as its text.
    void before() {
        inside_ += fresh_.back() ? "" : ",";
        fresh_.back() = false;
    }

    bool whole(const std::string& text, double v) {
        return value(text, [&](ColumnCollector& c) {
            isBeyondNumbers(text) ? c.addText(text) : c.addNumber(v);
        });
    }

    template <class Add>
    bool value(const std::string& text, const Add& add) {
        maybe_ = false;
        if (isInside()) {
            before();
            inside_ += text;
        } else if (inRecord_) {
            return put(add);
        } else if (isAtHome()) {
            ++found_.rows;
            found_.problem("this entry is no record: an empty row");
        }
        return true;
    }

    /// Puts a value under the present key; of a key that comes twice in one record the first
    /// counts.
    template <class Add>
    bool put(const Add& add) {
        const auto [at, fresh] = found_.place.emplace(key_, found_.cells.size());
        if (fresh) {
            if (found_.cells.size() >= kMostColumns) {
                return stop(ErrorCode::TooLarge,
                            fmt::format("the records have more than {} fields", kMostColumns),
                            "Turn the rows of the table into records.");
            }
            found_.names.push_back(key_);
            found_.cells.emplace_back();
            const auto room = roomForCells(found_.rows, found_.cells.size(), bytes_, "");
            if (!room) {
                refusal = room.error();
                return false;
            }
        }
        ColumnCollector& column = found_.cells[at->second];
        if (column.size() >= found_.rows) {
            found_.problem("‘" + key_ + "’ comes twice: the first is taken");
            return true;
        }
        column.addMissing(found_.rows - 1 - column.size());
        add(column);
        return true;
    }

    bool opened(char bracket) {
        if (depth_ >= kDeepest) {
            return stop(ErrorCode::Syntax,
                        fmt::format("values are nested more than {} deep", kDeepest),
                        "Keep what is nested in a table of its own.");
        }
        if (inRecord_) {
            if (depth_ > home_ + 1) {
                before();
            }
            inside_ += bracket;
            fresh_.push_back(true);
        } else if (bracket == '{' && isAtHome()) {
            inRecord_ = true;
            ++found_.rows;
            if ((found_.rows & 255U) == 0 && job_.stopped()) {
                return stop(ErrorCode::Stopped, "reading was stopped", "");
            }
        } else if (isAtHome()) {
            ++found_.rows;
            found_.problem("this entry is no record: an empty row");
        } else if (home_ == kUnknown && depth_ == 0 && bracket == '[') {
            home_ = 1;
        } else if (home_ == kUnknown && depth_ == 2 && bracket == '{' && maybe_) {
            home_ = 2;
            inRecord_ = true;
            ++found_.rows;
        }
        // A list right in the object may turn out, by its first entry, to be that of the records.
        maybe_ = home_ == kUnknown && depth_ == 1 && bracket == '[';
        ++depth_;
        return true;
    }

    bool closed(char bracket) {
        --depth_;
        maybe_ = false;
        if (inRecord_ && depth_ > home_) {
            inside_ += bracket;
            fresh_.pop_back();
            if (depth_ == home_ + 1) {
                found_.problem("‘" + key_ + "’ holds a list or a record: kept as its text");
                const std::string text = std::exchange(inside_, {});
                return put([&](ColumnCollector& c) { c.addText(text); });
            }
        } else if (inRecord_) {
            inRecord_ = false;
        } else if (home_ != 0 && home_ != kUnknown && depth_ + 1 == home_) {
            done_ = true;
        }
        return true;
    }

    Found& found_;
    std::size_t home_;  ///< Depth at which records stand.
    std::size_t bytes_;
    Job job_;
    std::size_t depth_ = 0;
    bool inRecord_ = false;
    bool maybe_ = false;
    bool done_ = false;
    std::string key_;
    std::string inside_;
    std::vector<bool> fresh_;
};

/// One record a line.
Result<Found> recordsByLine(std::string_view text, const std::string& path, const Job& job) {
    Found found;
    std::size_t number = 0;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        const std::string_view line = text.substr(at, end - at);
        at = end + 1;
        ++number;
        if (line.find_first_not_of(" \t\r") == std::string_view::npos) {
            continue;
        }
        Records records(found, true, text.size(), job);
        if (Json::sax_parse(line, &records)) {
            continue;
        }
        Refusal refusal =
            records.refusal.value_or(Refusal{ErrorCode::Syntax,
                                             "this is not JSON",
                                             {},
                                             "A list of records is expected, or one record a line.",
                                             {}});
        refusal.where = fmt::format("{}, line {}", path, number);
        return tl::make_unexpected(refusal);
    }
    return found;
}

Result<Found> recordsIn(std::string_view text, const std::string& path, const Job& job) {
    Found found;
    Records records(found, false, text.size(), job);
    const bool whole = Json::sax_parse(text, &records);
    if (records.refusal) {
        Refusal refusal = *records.refusal;
        refusal.where = path;
        return tl::make_unexpected(refusal);
    }
    if (!whole) {
        return recordsByLine(text, path, job);
    }
    if (!records.met()) {
        return refuse(ErrorCode::Syntax, "there is no list of records in it", path);
    }
    return found;
}

}  // namespace

Result<Import> readJsonRecords(const std::string& path, const ReaderOptions& options,
                               const Job& job) {
    const auto file = MappedFile::open(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    auto found = recordsIn(file->bytes(), path, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    if (file->wasCutShort()) {
        return tl::make_unexpected(cutShort(path));
    }
    if (found->rows == 0 || found->cells.empty()) {
        return refuse(ErrorCode::Syntax, "there is no record in it", path);
    }
    if (auto room = roomForCells(found->rows, found->cells.size(), file->bytes().size(), path);
        !room) {
        return tl::make_unexpected(room.error());
    }
    Import import;
    import.used = options;
    const std::vector<std::string> names = repairedNames(found->names, 0, import);
    import.problemCount += found->problemCount;
    import.problems.insert(import.problems.end(), found->problems.begin(), found->problems.end());
    for (std::size_t j = 0; j < names.size(); ++j) {
        found->cells[j].addMissing(found->rows - found->cells[j].size());
        found->cells[j].finish(names[j], options, import);
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
    }
    return import;
}

}  // namespace rapporto
