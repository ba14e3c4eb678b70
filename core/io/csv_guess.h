#pragma once

#include "core/io/csv.h"

namespace rapporto {

/// Text as UTF-8: views `bytes` where they are UTF-8 already, otherwise fills `storage`.
struct Decoded {
    std::string_view text;
    std::string encoding;
};

[[nodiscard]] Result<Decoded> decodeText(std::string_view bytes,
                                         const std::optional<std::string>& encoding,
                                         std::string& storage);

/// Settles every open option by the first records of `text`.
[[nodiscard]] ReaderOptions guessOptions(std::string_view text, ReaderOptions options);

/// Settles measures: turns texts that are dates, yes–no words or numbers with stray codes into
/// what they are, and writes the evidence. `dayFirst` stays open per column.
struct Settled {
    Column column;
    Variable variable;
    ColumnEvidence evidence;
};

[[nodiscard]] Settled settleColumn(const Column& raw, const ReaderOptions& options);

/// The same for texts that are meant as texts, whatever they look like.
[[nodiscard]] Settled settleTexts(const Column& raw, const ReaderOptions& options);

/// One number under the options, or nothing; no surrounding spaces.
/// A whole number that a double does not hold: rounded to one it would be another, as identifiers
/// of seventeen digits are. `cell` without spaces around it.
[[nodiscard]] bool isBeyondNumbers(std::string_view cell);

[[nodiscard]] std::optional<double> parseNumber(std::string_view cell, char decimal,
                                                std::optional<char> thousands);

/// Cuts the first records of `text` into cells; for guessing and previews.
[[nodiscard]] std::vector<std::vector<std::string>> firstRecords(std::string_view text,
                                                                 char delimiter, char quote,
                                                                 std::size_t most);

}  // namespace rapporto
