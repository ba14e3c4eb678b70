#include "core/io/records.h"

#include "core/io/csv_guess.h"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <cstring>
#include <limits>

namespace rapporto {
namespace {

constexpr double kMissing = std::numeric_limits<double>::quiet_NaN();

constexpr std::array<double, 16> kPowersOfTen = {1e0, 1e1, 1e2,  1e3,  1e4,  1e5,  1e6,  1e7,
                                                 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15};

void addMissing(CellSink& sink, std::size_t row) {
    if (sink.codes != nullptr) {
        sink.codes[row] = -1;
    } else if (sink.numbers != nullptr) {
        sink.numbers[row] = kMissing;
    }
}

}  // namespace

RecordReader::RecordReader(std::string_view text, const ReaderOptions& options, std::size_t from,
                           std::size_t line)
    : at_(text.data() + from),
      begin_(text.data()),
      end_(text.data() + text.size()),
      delimiter_(*options.delimiter),
      decimal_(*options.decimal),
      quote_(options.quote),
      thousands_(options.thousands),
      numberOptions_(fast_float::chars_format::general, *options.decimal),
      line_(line) {
    ends_[static_cast<unsigned char>(delimiter_)] = true;
    ends_[static_cast<unsigned char>('\n')] = true;
    ends_[static_cast<unsigned char>('\r')] = true;
}

void RecordReader::skipLines(std::size_t lines) {
    for (std::size_t i = 0; i < lines && at_ < end_; ++i) {
        const char* p = at_;
        while (p < end_ && *p != '\n' && *p != '\r') {
            ++p;
        }
        skipRecordEnd(p);
    }
}

std::vector<std::string> RecordReader::headerRecord() {
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

Result<std::size_t> RecordReader::read(std::vector<CellSink>& sinks, std::size_t until,
                                       std::size_t most, const Job& job) {
    const char* stop = begin_ + until;
    const std::size_t columns = sinks.size();
    std::size_t rows = 0;
    while (rows < most) {
        if (columns > 1) {
            skipBlankLines();
        }
        if (at_ >= stop) {
            break;
        }
        const std::size_t startLine = line_;
        std::size_t column = 0;
        while (true) {
            if (column < columns) {
                readCell(sinks[column], rows);
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
        if (column != columns) {
            raggedRow(sinks, rows, column, startLine);
        }
        ++rows;
        if ((rows & 4095U) == 0 && job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
    }
    return rows;
}

void RecordReader::raggedRow(std::vector<CellSink>& sinks, std::size_t row, std::size_t found,
                             std::size_t line) {
    for (std::size_t j = found; j < sinks.size(); ++j) {
        addMissing(sinks[j], row);
    }
    ++problemCount;
    if (problems.size() < kMaxProblems) {
        problems.push_back(
            {line, found < sinks.size()
                       ? fmt::format("{} of {} cells: the rest is missing", found, sinks.size())
                       : fmt::format("{} cells where {} are expected: the last {} left out", found,
                                     sinks.size(), found - sinks.size())});
    }
}

/// A number of at most 15 digits is a whole number below 2^53 over a power of ten, both exact in
/// double, so that one division rounds it right (Clinger 1990).
bool RecordReader::readBareNumber(double& value) {
    const char* p = at_;
    const bool negative = *p == '-';
    p += negative ? 1 : 0;
    const char* first = p;
    std::uint64_t digits = 0;
    while (p < end_ && static_cast<unsigned char>(*p - '0') <= 9) {
        digits = digits * 10 + static_cast<std::uint64_t>(*p++ - '0');
    }
    std::ptrdiff_t count = p - first;
    std::ptrdiff_t behind = 0;
    if (p < end_ && *p == decimal_ && decimal_ != delimiter_) {
        const char* mark = ++p;
        while (p < end_ && static_cast<unsigned char>(*p - '0') <= 9) {
            digits = digits * 10 + static_cast<std::uint64_t>(*p++ - '0');
        }
        behind = p - mark;
        count += behind;
    }
    if (count == 0 || count > 15 || !atCellEnd(p)) {
        return false;
    }
    const double whole = static_cast<double>(digits);
    const double magnitude =
        behind == 0 ? whole : whole / kPowersOfTen[static_cast<std::size_t>(behind)];
    value = negative ? -magnitude : magnitude;
    at_ = p;
    return true;
}

void RecordReader::readCell(CellSink& sink, std::size_t row) {
    if (sink.codes != nullptr) {
        const std::string_view cell = nextCell();
        sink.codes[row] = cell.empty() ? -1 : sink.index.add(cell);
        return;
    }
    if (sink.numbers == nullptr) {
        (void)nextCell();
        return;
    }
    if (atCellEnd(at_)) {
        sink.numbers[row] = kMissing;
        return;
    }
    double& out = sink.numbers[row];
    if (!thousands_ && readBareNumber(out)) {
        return;
    }
    std::string_view cell = nextCell();
    const auto from = cell.find_first_not_of(" \t");
    cell = from == std::string_view::npos
               ? std::string_view()
               : cell.substr(from, cell.find_last_not_of(" \t") - from + 1);
    out = kMissing;
    if (!cell.empty()) {
        const auto value = parseNumber(cell, decimal_, thousands_);
        // An identifier too long for a number would become another.
        sink.failed = sink.failed || !value || isBeyondNumbers(cell);
        out = value.value_or(kMissing);
    }
}

/// The next cell's content; leaves `at_` on the delimiter, the line end or the end.
std::string_view RecordReader::nextCell() {
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

std::string_view RecordReader::quotedCell() {
    const char* p = ++at_;
    bool doubled = false;
    while (true) {
        p = static_cast<const char*>(std::memchr(p, quote_, static_cast<std::size_t>(end_ - p)));
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
    const std::string_view cell(at_, static_cast<std::size_t>(p - at_));
    for (const char c : cell) {
        line_ += c == '\n' ? 1U : 0U;
    }
    at_ = p + 1;
    if (!doubled && atCellEnd(at_)) {
        return cell;
    }
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

void RecordReader::skipRecordEnd(const char* p) {
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

void RecordReader::skipBlankLines() {
    while (at_ < end_ && (*at_ == '\n' || *at_ == '\r')) {
        skipRecordEnd(at_);
    }
}

}  // namespace rapporto
