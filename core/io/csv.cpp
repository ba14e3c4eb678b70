#include "core/io/csv.h"

#include "core/base/format.h"
#include "core/io/csv_guess.h"

#include <fast_float/fast_float.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <deque>
#include <fstream>
#include <limits>
#include <set>

namespace rapporto {
namespace {

constexpr double kMissing = std::numeric_limits<double>::quiet_NaN();

/// A file in memory, read by the system as it is touched.
class MappedFile {
  public:
    [[nodiscard]] static Result<MappedFile> open(const std::string& path) {
        MappedFile file;
        const int handle = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);

        struct stat info {};

        if (handle < 0 || fstat(handle, &info) != 0 || !S_ISREG(info.st_mode)) {
            if (handle >= 0) {
                ::close(handle);
            }
            return refuse(ErrorCode::File, "the file cannot be opened", path,
                          "Check that it is there and may be read.");
        }
        file.size_ = static_cast<std::size_t>(info.st_size);
        if (file.size_ > 0) {
            void* at = mmap(nullptr, file.size_, PROT_READ, MAP_PRIVATE, handle, 0);
            file.data_ = at == MAP_FAILED ? nullptr : static_cast<const char*>(at);
        }
        ::close(handle);
        if (file.size_ > 0 && file.data_ == nullptr) {
            return refuse(ErrorCode::File, "the file cannot be read into memory", path);
        }
        return file;
    }

    MappedFile(MappedFile&& other) noexcept
        : data_(std::exchange(other.data_, nullptr)), size_(std::exchange(other.size_, 0)) {}

    MappedFile(const MappedFile&) = delete;
    MappedFile& operator=(const MappedFile&) = delete;
    MappedFile& operator=(MappedFile&&) = delete;

    ~MappedFile() {
        if (data_ != nullptr) {
            munmap(const_cast<char*>(data_), size_);
        }
    }

    [[nodiscard]] std::string_view bytes() const { return {data_, data_ == nullptr ? 0 : size_}; }

  private:
    MappedFile() = default;

    const char* data_ = nullptr;
    std::size_t size_ = 0;
};

/// Collects one column: numbers until a cell is none, or texts by dictionary.
class Builder {
  public:
    explicit Builder(bool text) : text_(text) {}

    [[nodiscard]] bool isText() const { return text_; }

    [[nodiscard]] bool failed() const { return failed_; }

    void reserve(std::size_t rows) { text_ ? codes_.reserve(rows) : numbers_.reserve(rows); }

    void addNumber(double x) { numbers_.push_back(x); }

    void addMissing() {
        if (text_) {
            codes_.push_back(-1);
        } else {
            numbers_.push_back(kMissing);
        }
    }

    /// In a number column: this cell is none, so the column must be read again as text.
    void fail() {
        failed_ = true;
        numbers_.push_back(kMissing);
    }

    void addText(std::string_view cell) {
        if (cell.empty()) {
            codes_.push_back(-1);
            return;
        }
        if (last_ >= 0 && texts_[static_cast<std::size_t>(last_)] == cell) {
            codes_.push_back(last_);
            return;
        }
        const auto found = index_.find(cell);
        if (found != index_.end()) {
            last_ = found->second;
        } else {
            last_ = static_cast<std::int32_t>(texts_.size());
            texts_.emplace_back(cell);
            index_.emplace(texts_.back(), last_);
        }
        codes_.push_back(last_);
    }

    [[nodiscard]] Column finish(std::string name) {
        if (!text_) {
            return Column::ofNumbers(std::move(name), std::move(numbers_));
        }
        std::vector<std::string> texts(std::make_move_iterator(texts_.begin()),
                                       std::make_move_iterator(texts_.end()));
        return Column::ofTexts(std::move(name), std::move(codes_), std::move(texts));
    }

  private:
    bool text_;
    bool failed_ = false;
    std::vector<double> numbers_;
    std::vector<std::int32_t> codes_;
    std::deque<std::string> texts_;  // A deque: the index views its strings.
    std::unordered_map<std::string_view, std::int32_t> index_;
    std::int32_t last_ = -1;
};

/// One pass over the records. Cells of columns without a builder are skipped.
class Pass {
  public:
    Pass(std::string_view text, const ReaderOptions& options, const Job& job)
        : at_(text.data()),
          begin_(text.data()),
          end_(text.data() + text.size()),
          delimiter_(*options.delimiter),
          decimal_(*options.decimal),
          quote_(options.quote),
          thousands_(options.thousands),
          job_(job),
          numberOptions_(fast_float::chars_format::general, *options.decimal) {}

    std::vector<Problem> problems;
    std::size_t problemCount = 0;

    void skipLines(std::size_t lines) {
        for (std::size_t i = 0; i < lines && at_ < end_; ++i) {
            skipRecordEnd(findLineEnd(at_));
        }
    }

    /// The cells of the next record as texts; empty at the end. Skips blank lines.
    std::vector<std::string> headerRecord() {
        std::vector<std::string> cells;
        skipBlankLines();
        while (at_ < end_) {
            cells.emplace_back(nextCell());
            if (at_ < end_ && *at_ == delimiter_) {
                ++at_;
                if (at_ == end_) {
                    cells.emplace_back();
                }
                continue;
            }
            skipRecordEnd(at_);
            break;
        }
        return cells;
    }

    [[nodiscard]] Result<std::size_t> run(std::vector<Builder*>& columns) {
        std::size_t rows = 0;
        while (true) {
            columns.size() > 1 ? skipBlankLines() : void();
            if (at_ >= end_) {
                break;
            }
            const std::size_t startLine = line_;
            std::size_t column = 0;
            while (true) {
                if (column < columns.size()) {
                    readCell(columns[column]);
                } else {
                    (void)nextCell();
                }
                ++column;
                if (at_ < end_ && *at_ == delimiter_) {
                    ++at_;
                    continue;
                }
                break;
            }
            if (unclosed_) {
                return refuse(ErrorCode::Syntax, "a quotation mark opens and never closes",
                              fmt::format("line {}", startLine),
                              "Close it, or choose another quotation mark.");
            }
            skipRecordEnd(at_);
            if (column != columns.size()) {
                raggedRow(columns, column, startLine);
            }
            ++rows;
            if ((rows & 4095U) == 0) {
                job_.report(static_cast<double>(at_ - begin_) / static_cast<double>(end_ - begin_));
                if (job_.stopped()) {
                    return refuse(ErrorCode::Stopped, "reading was stopped");
                }
            }
        }
        return rows;
    }

  private:
    void raggedRow(std::vector<Builder*>& columns, std::size_t found, std::size_t line) {
        for (std::size_t j = found; j < columns.size(); ++j) {
            if (columns[j] != nullptr) {
                columns[j]->addMissing();
            }
        }
        report(line, found < columns.size()
                         ? fmt::format("{} of {} cells: the rest is missing", found, columns.size())
                         : fmt::format("{} cells where {} are expected: the last {} left out",
                                       found, columns.size(), found - columns.size()));
    }

    void report(std::size_t line, std::string what) {
        ++problemCount;
        if (problems.size() < kMaxProblems) {
            problems.push_back({line, std::move(what)});
        }
    }

    [[nodiscard]] bool atCellEnd(const char* p) const {
        return p == end_ || *p == delimiter_ || *p == '\n' || *p == '\r';
    }

    void readCell(Builder* column) {
        if (column == nullptr) {
            (void)nextCell();
            return;
        }
        if (column->isText()) {
            column->addText(nextCell());
            return;
        }
        const char* p = at_;
        if (atCellEnd(p)) {
            column->addMissing();
            return;
        }
        // The usual case: a bare number that ends where the cell ends.
        const char first = *p == '-' && p + 1 < end_ ? p[1] : *p;
        if (!thousands_ && ((first >= '0' && first <= '9') || first == decimal_)) {
            double value = 0.0;
            const auto [stop, error] =
                fast_float::from_chars_advanced(p, end_, value, numberOptions_);
            if (error == std::errc() && atCellEnd(stop) && std::isfinite(value)) {
                at_ = stop;
                column->addNumber(value);
                return;
            }
        }
        std::string_view cell = nextCell();
        const auto from = cell.find_first_not_of(" \t");
        cell = from == std::string_view::npos
                   ? std::string_view()
                   : cell.substr(from, cell.find_last_not_of(" \t") - from + 1);
        if (cell.empty()) {
            column->addMissing();
        } else if (const auto value = parseNumber(cell, decimal_, thousands_)) {
            column->addNumber(*value);
        } else {
            column->fail();
        }
    }

    /// The next cell's content; leaves `at_` on the delimiter, the line end or the end.
    std::string_view nextCell() {
        if (at_ < end_ && *at_ == quote_) {
            return quotedCell();
        }
        const char* p = at_;
        while (!atCellEnd(p)) {
            ++p;
        }
        const std::string_view cell(at_, static_cast<std::size_t>(p - at_));
        at_ = p;
        return cell;
    }

    std::string_view quotedCell() {
        const char* p = ++at_;
        bool doubled = false;
        while (true) {
            p = static_cast<const char*>(
                std::memchr(p, quote_, static_cast<std::size_t>(end_ - p)));
            if (p == nullptr) {
                unclosed_ = true;
                at_ = end_;
                return {};
            }
            if (p + 1 < end_ && p[1] == quote_) {
                doubled = true;
                p += 2;
                continue;
            }
            break;
        }
        std::string_view cell(at_, static_cast<std::size_t>(p - at_));
        for (const char c : cell) {
            line_ += c == '\n' ? 1U : 0U;
        }
        at_ = p + 1;
        if (doubled || !atCellEnd(at_)) {
            scratch_.clear();
            for (std::size_t i = 0; i < cell.size(); ++i) {
                scratch_ += cell[i];
                i += cell[i] == quote_ ? 1U : 0U;
            }
            // Text after the closing quote is kept as it stands.
            while (!atCellEnd(at_)) {
                scratch_ += *at_++;
            }
            return scratch_;
        }
        return cell;
    }

    const char* findLineEnd(const char* p) const {
        while (p < end_ && *p != '\n' && *p != '\r') {
            ++p;
        }
        return p;
    }

    void skipRecordEnd(const char* p) {
        if (p < end_ && *p == '\r') {
            ++p;
            if (p < end_ && *p == '\n') {
                ++p;
            }
        } else if (p < end_) {
            ++p;
        }
        ++line_;
        at_ = p;
    }

    void skipBlankLines() {
        while (at_ < end_ && (*at_ == '\n' || *at_ == '\r')) {
            skipRecordEnd(at_);
        }
    }

    const char* at_;
    const char* begin_;
    const char* end_;
    char delimiter_;
    char decimal_;
    char quote_;
    std::optional<char> thousands_;
    Job job_;
    fast_float::parse_options numberOptions_;
    std::size_t line_ = 1;
    bool unclosed_ = false;
    std::string scratch_;
};

std::vector<std::string> repairNames(const std::vector<std::string>& found, std::size_t line,
                                     Import& import) {
    std::vector<std::string> names;
    std::set<std::string> taken;
    for (std::size_t j = 0; j < found.size(); ++j) {
        const auto from = found[j].find_first_not_of(" \t\r\n");
        std::string name =
            from == std::string::npos
                ? std::string()
                : found[j].substr(from, found[j].find_last_not_of(" \t\r\n") - from + 1);
        if (name.empty()) {
            name = fmt::format("column_{}", j + 1);
            import.problems.push_back(
                {line, "header of column " + std::to_string(j + 1) + " is empty: named " + name});
        }
        std::string unique = name;
        for (int i = 2; !taken.insert(unique).second; ++i) {
            unique = fmt::format("{}_{}", name, i);
        }
        if (unique != name) {
            import.problems.push_back({line, "header ‘" + name +
                                                 "’ is repeated: the one of column " +
                                                 std::to_string(j + 1) + " is named " + unique});
        }
        names.push_back(unique);
    }
    import.problemCount = import.problems.size();
    return names;
}

/// Columns that hold numbers in the first records start as numbers; the rest as texts.
std::vector<bool> textColumns(std::string_view text, const ReaderOptions& options,
                              std::size_t count) {
    std::vector<bool> isText(count, false);
    auto records =
        firstRecords(text.substr(0, 64U * 1024U), *options.delimiter, options.quote, 100);
    for (std::size_t r = *options.header ? 1 : 0; r + 1 < records.size(); ++r) {
        for (std::size_t j = 0; j < std::min(count, records[r].size()); ++j) {
            std::string_view cell = records[r][j];
            const auto from = cell.find_first_not_of(" \t");
            if (from != std::string_view::npos) {
                cell = cell.substr(from, cell.find_last_not_of(" \t") - from + 1);
                isText[j] = isText[j] || !parseNumber(cell, *options.decimal, options.thousands);
            }
        }
    }
    return isText;
}

}  // namespace

Result<Import> readCsvText(std::string_view bytes, const ReaderOptions& options, const Job& job) {
    std::string storage;
    const auto decoded = decodeText(bytes, options.encoding, storage);
    if (!decoded) {
        return tl::make_unexpected(decoded.error());
    }
    Import import;
    import.used = guessOptions(decoded->text, options);
    import.used.encoding = decoded->encoding;

    Pass pass(decoded->text, import.used, job);
    pass.skipLines(options.skip);
    Pass look = pass;
    std::vector<std::string> names = look.headerRecord();
    if (names.empty()) {
        return refuse(ErrorCode::Syntax, "there is no row in it", "",
                      "A table needs at least a header and one row.");
    }
    if (*import.used.header) {
        names = repairNames(names, options.skip + 1, import);
        pass = look;
    } else {
        for (std::size_t j = 0; j < names.size(); ++j) {
            names[j] = fmt::format("column_{}", j + 1);
        }
    }

    const auto isText = textColumns(decoded->text, import.used, names.size());
    std::vector<Builder> builders;
    std::vector<Builder*> wanted;
    builders.reserve(names.size());
    for (std::size_t j = 0; j < names.size(); ++j) {
        builders.emplace_back(isText[j]);
        wanted.push_back(&builders.back());
    }
    // Columns that grow by doubling would need twice their memory for a moment.
    const std::string_view sample = decoded->text.substr(0, 256U * 1024U);
    const auto lines = static_cast<std::size_t>(std::count(sample.begin(), sample.end(), '\n'));
    const double share =
        static_cast<double>(decoded->text.size()) / static_cast<double>(sample.size());
    for (Builder& builder : builders) {
        builder.reserve(static_cast<std::size_t>(1.03 * share * static_cast<double>(lines)) + 16);
    }
    Pass second = pass;
    const auto rows = pass.run(wanted);
    if (!rows) {
        return tl::make_unexpected(rows.error());
    }
    if (*rows == 0) {
        return refuse(ErrorCode::Syntax, "there is a header and no row below it", "",
                      "Say that the first line is data if it is.");
    }
    // Columns that turned out to hold texts are read once more, those alone.
    std::vector<Builder> again(names.size(), Builder(true));
    std::vector<Builder*> rest(names.size(), nullptr);
    bool any = false;
    for (std::size_t j = 0; j < names.size(); ++j) {
        if (builders[j].failed()) {
            rest[j] = &again[j];
            any = true;
        }
    }
    if (any) {
        if (const auto reread = second.run(rest); !reread) {
            return tl::make_unexpected(reread.error());
        }
    }
    import.problemCount += pass.problemCount;
    import.problems.insert(import.problems.end(), pass.problems.begin(), pass.problems.end());
    for (std::size_t j = 0; j < names.size(); ++j) {
        Settled settled = settleColumn(
            (builders[j].failed() ? again[j] : builders[j]).finish(names[j]), import.used);
        import.table.columns.push_back(std::move(settled.column));
        import.table.variables.push_back(std::move(settled.variable));
        import.evidence.push_back(std::move(settled.evidence));
    }
    return import;
}

Result<Import> readCsvFile(const std::string& path, const ReaderOptions& options, const Job& job) {
    const auto file = MappedFile::open(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    auto import = readCsvText(file->bytes(), options, job);
    if (!import && import.error().where.empty()) {
        Refusal refusal = import.error();
        refusal.where = path;
        return tl::make_unexpected(refusal);
    }
    return import;
}

Result<void> writeCsv(const Table& table, const std::string& path) {
    std::ofstream out(path, std::ios::binary);
    const auto quoted = [](const std::string& text) {
        if (text.find_first_of(",\"\r\n") == std::string::npos) {
            return text;
        }
        std::string safe = "\"";
        for (const char c : text) {
            safe += c == '"' ? "\"\"" : std::string(1, c);
        }
        return safe + "\"";
    };
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        out << (j > 0 ? "," : "") << quoted(table.columns[j].name());
    }
    out << '\n';
    for (std::size_t i = 0; i < table.rows(); ++i) {
        for (std::size_t j = 0; j < table.columns.size(); ++j) {
            const Column& column = table.columns[j];
            out << (j > 0 ? "," : "");
            if (column.isMissing(i)) {
                continue;
            }
            if (column.isText()) {
                out << quoted(column.texts()[static_cast<std::size_t>(column.codes()[i])]);
            } else if (table.variables[j].measure == Measure::Date) {
                out << dateText(column.numbers()[i]);
            } else {
                out << exactNumber(column.numbers()[i]);
            }
        }
        out << '\n';
    }
    if (!out.flush()) {
        return refuse(ErrorCode::File, "the file cannot be written", path);
    }
    return {};
}

}  // namespace rapporto
