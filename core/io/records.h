#pragma once

#include "core/base/job.h"
#include "core/base/result.h"
#include "core/data/text_index.h"
#include "core/io/csv.h"

#include <fast_float/fast_float.h>

#include <array>
#include <cstdint>

namespace rapporto {

/// Where the cells of one column of one piece of the file go: numbers, codes of `index`, or
/// nowhere when both are null. `failed` says that a number column met a cell that is none.
struct CellSink {
    double* numbers = nullptr;
    std::int32_t* codes = nullptr;
    TextIndex index;
    bool failed = false;
};

/// Walks over the records of a delimited text from one place on. What a record is: see csv.h.
class RecordReader {
  public:
    /// @param text     the whole text; `from` counts its bytes.
    /// @param options  delimiter and decimal mark settled.
    RecordReader(std::string_view text, const ReaderOptions& options, std::size_t from,
                 std::size_t line);

    std::vector<Problem> problems;  ///< The first kMaxProblems.
    std::size_t problemCount = 0;

    [[nodiscard]] std::size_t position() const { return static_cast<std::size_t>(at_ - begin_); }

    [[nodiscard]] std::size_t line() const { return line_; }

    void skipLines(std::size_t lines);

    /// The cells of the next record as texts; empty at the end. Skips blank lines.
    [[nodiscard]] std::vector<std::string> headerRecord();

    /// Reads records that begin before `until`, at most `most` of them, into `sinks`, one a column.
    ///
    /// @return how many, or Syntax for a quotation mark that never closes, or Stopped.
    [[nodiscard]] Result<std::size_t> read(std::vector<CellSink>& sinks, std::size_t until,
                                           std::size_t most, const Job& job);

    /// At a record or at the end, blank lines passed.
    void skipBlankLines();

  private:
    void raggedRow(std::vector<CellSink>& sinks, std::size_t row, std::size_t found,
                   std::size_t line);
    void readCell(CellSink& sink, std::size_t row);
    [[nodiscard]] bool readBareNumber(double& value);
    [[nodiscard]] std::string_view nextCell();
    [[nodiscard]] std::string_view quotedCell();
    void skipRecordEnd(const char* p);

    [[nodiscard]] bool atCellEnd(const char* p) const {
        return p == end_ || ends_[static_cast<unsigned char>(*p)];
    }

    const char* at_;
    const char* begin_;
    const char* end_;
    char delimiter_;
    char decimal_;
    char quote_;
    std::optional<char> thousands_;
    fast_float::parse_options numberOptions_;
    std::array<bool, 256> ends_{};  ///< Delimiter and line ends.
    std::size_t line_;
    bool unclosed_ = false;
    std::string scratch_;
};

}  // namespace rapporto
