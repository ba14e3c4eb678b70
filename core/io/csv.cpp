#include "core/io/csv.h"

#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/memory_on_disk.h"
#include "core/base/parallel.h"
#include "core/base/room.h"
#include "core/io/column_collector.h"
#include "core/io/column_store.h"
#include "core/io/csv_guess.h"
#include "core/io/mapped_file.h"
#include "core/io/records.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstring>
#include <numeric>

namespace rapporto {

RAPPORTO_COMPILED_HERE(ReaderOptions);
RAPPORTO_COMPILED_HERE(Import);

namespace {

/// Called with a part of the text that will not be looked at again soon.
using Passed = std::function<void(std::string_view)>;

/// A piece of the text that one thread reads. Where pieces lie depends on the text alone.
struct Piece {
    std::size_t begin = 0;  ///< Of its first record.
    std::size_t end = 0;    ///< Of the next piece.
    std::size_t line = 1;   ///< At `begin`.
    std::size_t most = 0;   ///< Records it can hold at most.
    std::size_t row = 0;    ///< Of its first record, were every piece full.
};

constexpr std::size_t kLeastPiece = std::size_t{2} << 20U;
constexpr std::size_t kMostPieces = 64;

/// Sums in single bytes, which the compiler adds up sixteen or more at a time.
std::size_t countByte(std::string_view part, char wanted) {
    std::size_t total = 0;
    for (std::size_t at = 0; at < part.size(); at += 255) {
        const std::size_t end = std::min(part.size(), at + 255);
        std::uint8_t found = 0;
        for (std::size_t i = at; i < end; ++i) {
            found = static_cast<std::uint8_t>(found + (part[i] == wanted ? 1 : 0));
        }
        total += found;
    }
    return total;
}

std::size_t recordsAtMost(std::string_view part) {
    return countByte(part, '\n') + countByte(part, '\r') + 1;
}

/// Cuts at line ends that an even number of quotation marks precedes. That is right unless a
/// quotation mark stands inside a cell that does not begin with one; who reads the pieces finds
/// that out, as one piece then does not end where the next begins.
std::vector<Piece> cutPieces(std::string_view text, std::size_t from, std::size_t line, char quote,
                             const Passed& passed) {
    const std::size_t size = text.size() - from;
    const std::string_view start = text.substr(from, kLeastPiece);
    const bool bareReturns = start.find('\n') == std::string_view::npos;
    const std::size_t count =
        bareReturns ? 1 : std::clamp<std::size_t>(size / kLeastPiece, 1, kMostPieces);
    std::vector<std::size_t> quotes(count);
    std::vector<std::size_t> lines(count);
    const auto cut = [&](std::size_t k) { return from + size * k / count; };
    inParallel(count, [&](std::size_t k) {
        const std::string_view part = text.substr(cut(k), cut(k + 1) - cut(k));
        quotes[k] = countByte(part, quote);
        lines[k] = countByte(part, '\n');
        passed(part);
    });
    std::vector<Piece> pieces;
    bool odd = false;
    for (std::size_t k = 0; k < count; ++k) {
        Piece piece{cut(k), text.size(), line, 0, 0};
        for (bool inside = odd; k > 0 && piece.begin < text.size(); ++piece.begin) {
            inside = inside != (text[piece.begin] == quote);
            if (text[piece.begin] == '\n') {
                ++piece.line;
                if (!inside) {
                    ++piece.begin;
                    break;
                }
            }
        }
        // A record longer than a piece swallows those that it covers.
        if (pieces.empty() || piece.begin > pieces.back().begin) {
            if (!pieces.empty()) {
                pieces.back().end = piece.begin;
            }
            pieces.push_back(piece);
        }
        odd = odd != (quotes[k] % 2 == 1);
        line += lines[k];
    }
    for (std::size_t k = 0; k < pieces.size(); ++k) {
        Piece& piece = pieces[k];
        const std::string_view part = text.substr(piece.begin, piece.end - piece.begin);
        piece.most =
            k + 1 < pieces.size() ? pieces[k + 1].line - piece.line : line - piece.line + 1;
        if (pieces.size() == 1) {
            piece.most = recordsAtMost(part);
        }
        piece.row = k == 0 ? 0 : pieces[k - 1].row + pieces[k - 1].most;
    }
    return pieces;
}

/// The cells of all columns as they fill.
class Cells {
  public:
    /// @param folder  that they lie in when they are large beside memory; else empty.
    Cells(const std::vector<bool>& isText, std::size_t most, std::string folder)
        : folder_(std::move(folder)), texts_(isText.size()) {
        for (const bool text : isText) {
            numbers_.push_back(text ? nullptr : room<double>(most));
            codes_.push_back(text ? room<std::int32_t>(most) : nullptr);
        }
    }

    /// What a piece has written is looked at later.
    void putAsidePiece(std::size_t row, std::size_t count) const {
        for (std::size_t j = 0; !folder_.empty() && j < numbers_.size(); ++j) {
            if (numbers_[j]) {
                putAside(numbers_[j].get() + row, count * sizeof(double));
            }
            if (codes_[j]) {
                putAside(codes_[j].get() + row, count * sizeof(std::int32_t));
            }
        }
    }

    /// Where a piece writes; columns that are not wanted go nowhere.
    [[nodiscard]] std::vector<CellSink> sinks(std::size_t row) const {
        std::vector<CellSink> sinks(numbers_.size());
        for (std::size_t j = 0; j < sinks.size(); ++j) {
            sinks[j].numbers = numbers_[j] ? numbers_[j].get() + row : nullptr;
            sinks[j].codes = codes_[j] ? codes_[j].get() + row : nullptr;
        }
        return sinks;
    }

    void drop(std::size_t j) {
        numbers_[j].reset();
        codes_[j].reset();
    }

    void makeText(std::size_t j, std::size_t most) {
        drop(j);
        codes_[j] = room<std::int32_t>(most);
    }

    /// Closes the gaps between pieces and makes the texts of the pieces one list, in their order.
    void join(std::size_t j, const std::vector<Piece>& pieces,
              const std::vector<std::size_t>& counts, std::vector<std::vector<CellSink>>& sinks) {
        std::size_t row = 0;
        TextIndex all;
        std::vector<std::int32_t> renumbered;
        for (std::size_t k = 0; k < pieces.size(); ++k) {
            if (numbers_[j] && row != pieces[k].row) {
                double* from = numbers_[j].get() + pieces[k].row;
                std::copy(from, from + counts[k], numbers_[j].get() + row);
            }
            if (codes_[j]) {
                const std::vector<std::string> texts = sinks[k][j].index.take();
                renumbered.assign(texts.size(), 0);
                std::transform(texts.begin(), texts.end(), renumbered.begin(),
                               [&](const std::string& text) { return all.add(text); });
                const std::int32_t* from = codes_[j].get() + pieces[k].row;
                std::transform(from, from + counts[k], codes_[j].get() + row, [&](std::int32_t c) {
                    return c < 0 ? c : renumbered[static_cast<std::size_t>(c)];
                });
            }
            row += counts[k];
        }
        texts_[j] = all.take();
    }

    [[nodiscard]] Column column(std::size_t j, std::string name, std::size_t rows) {
        return codes_[j] ? Column::ofTexts(std::move(name), std::move(codes_[j]), rows,
                                           std::move(texts_[j]))
                         : Column::ofNumbers(std::move(name), std::move(numbers_[j]), rows);
    }

    [[nodiscard]] bool isWanted(std::size_t j) const { return numbers_[j] || codes_[j]; }

  private:
    /// On the disk where cells are large beside memory, and there is room.
    template <class Cell>
    [[nodiscard]] std::shared_ptr<Cell[]> room(std::size_t most) {
        if (!folder_.empty()) {
            if (auto bytes = memoryOnDisk(most * sizeof(Cell), folder_)) {
                return {bytes, reinterpret_cast<Cell*>(bytes.get())};
            }
            folder_.clear();  // Nothing is put aside from now on: what is in memory would be lost.
        }
        return std::make_shared_for_overwrite<Cell[]>(most);
    }

    std::string folder_;
    std::vector<std::shared_ptr<double[]>> numbers_;
    std::vector<std::shared_ptr<std::int32_t[]>> codes_;
    std::vector<std::vector<std::string>> texts_;
};

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

/// Ends where the next piece begins, blank lines apart.
bool endsAt(const RecordReader& reader, const Piece& piece, std::string_view text) {
    if (reader.position() < piece.end) {
        return false;
    }
    const std::string_view beyond = text.substr(piece.end, reader.position() - piece.end);
    return beyond.find_first_not_of("\r\n") == std::string_view::npos;
}

/// The records of a text in pieces read by all threads.
class PieceReader {
  public:
    PieceReader(std::string_view text, const ReaderOptions& options, std::size_t from,
                std::size_t line, Passed passed, Job job)
        : text_(text),
          options_(options),
          passed_(std::move(passed)),
          job_(std::move(job)),
          pieces_(cutPieces(text, from, line, options.quote, passed_)) {}

    std::vector<Problem> problems;
    std::size_t problemCount = 0;

    [[nodiscard]] std::size_t most() const { return pieces_.back().row + pieces_.back().most; }

    [[nodiscard]] std::size_t rows() const {
        return std::accumulate(counts_.begin(), counts_.end(), std::size_t{0});
    }

    /// Reads every wanted column of `cells` and joins them; `failed` gets the number columns with a
    /// cell that is none.
    [[nodiscard]] Result<void> read(Cells& cells, std::vector<bool>& failed) {
        if (auto done = pass(cells); !done) {
            return done;
        }
        for (std::size_t j = 0; j < failed.size(); ++j) {
            for (const auto& sinks : sinks_) {
                failed[j] = failed[j] || sinks[j].failed;
            }
            if (failed[j]) {
                cells.drop(j);
            }
        }
        inParallel(failed.size(), [&](std::size_t j) {
            if (cells.isWanted(j)) {
                cells.join(j, pieces_, counts_, sinks_);
            }
        });
        cells.putAsidePiece(0, rows());
        return {};
    }

    /// Makes one piece of all, where a stray quotation mark misled the cutting.
    ///
    /// @return false when it was one already.
    bool uncut() {
        const bool many = pieces_.size() > 1;
        pieces_ = {{pieces_.front().begin, text_.size(), pieces_.front().line, 0, 0}};
        pieces_[0].most = recordsAtMost(text_.substr(pieces_[0].begin));
        return many;
    }

  private:
    Result<void> pass(const Cells& cells) {
        const std::size_t count = pieces_.size();
        counts_.assign(count, 0);
        sinks_.assign(count, {});
        std::vector<std::optional<Refusal>> refusals(count);
        std::vector<RecordReader> readers;
        for (const Piece& piece : pieces_) {
            readers.emplace_back(text_, options_, piece.begin, piece.line);
        }
        std::atomic<std::size_t> bytes{0};
        inParallel(count, [&](std::size_t k) {
            const Piece& piece = pieces_[k];
            sinks_[k] = cells.sinks(piece.row);
            const auto read = readers[k].read(sinks_[k], piece.end, piece.most, job_);
            if (read) {
                counts_[k] = *read;
            } else {
                refusals[k] = read.error();
            }
            passed_(text_.substr(piece.begin, piece.end - piece.begin));
            cells.putAsidePiece(piece.row, counts_[k]);
            bytes += piece.end - piece.begin;
            job_.report(static_cast<double>(bytes) / static_cast<double>(text_.size()));
        });
        problems.clear();
        problemCount = 0;
        for (std::size_t k = 0; k < count; ++k) {
            if (refusals[k]) {
                return tl::make_unexpected(*refusals[k]);
            }
            if (!endsAt(readers[k], pieces_[k], text_)) {
                return refuse(ErrorCode::Syntax, "the pieces do not meet");
            }
            problemCount += readers[k].problemCount;
            problems.insert(problems.end(), readers[k].problems.begin(), readers[k].problems.end());
        }
        problems.resize(std::min(problems.size(), kMaxProblems));
        return {};
    }

    std::string_view text_;
    ReaderOptions options_;
    Passed passed_;
    Job job_;
    std::vector<Piece> pieces_;
    std::vector<std::size_t> counts_;
    std::vector<std::vector<CellSink>> sinks_;
};

/// Offsets of the first character of line `line` and of the first of the next one.
std::pair<std::size_t, std::size_t> lineAt(std::string_view text, std::size_t from,
                                           std::size_t linesAhead) {
    const auto next = [&](std::size_t at) {
        const std::size_t end = text.find_first_of("\r\n", at);
        if (end == std::string_view::npos) {
            return text.size();
        }
        const bool pair = text[end] == '\r' && end + 1 < text.size() && text[end + 1] == '\n';
        return end + (pair ? 2 : 1);
    };
    for (std::size_t k = 0; k < linesAhead && from < text.size(); ++k) {
        from = next(from);
    }
    return {from, next(from)};
}

/// @param missed  gets the repairs of lines that are not there.
std::string withRepairs(std::string_view text, std::vector<LineRepair> repairs,
                        std::vector<LineRepair>& missed) {
    std::stable_sort(repairs.begin(), repairs.end(),
                     [](const LineRepair& a, const LineRepair& b) { return a.line < b.line; });
    std::string out;
    out.reserve(text.size());
    std::size_t at = 0;
    std::size_t line = 1;
    for (std::size_t k = 0; k < repairs.size(); ++k) {
        const LineRepair& repair = repairs[k];
        if (repair.line < line || (k + 1 < repairs.size() && repairs[k + 1].line == repair.line)) {
            continue;  // The last word about a line counts.
        }
        const auto [from, to] = lineAt(text, at, repair.line - line);
        if (from >= text.size()) {
            missed.assign(repairs.begin() + static_cast<std::ptrdiff_t>(k), repairs.end());
            break;
        }
        out += text.substr(at, from - at);
        out += repair.text;
        out += '\n';
        at = to;
        line = repair.line + 1;
    }
    out += text.substr(at);
    return out;
}

constexpr std::size_t kLookedInto = std::size_t{1} << 20U;

/// Marks that are to tell two things apart must differ. A delimiter may stand for another mark only
/// where cells in quotation marks bear that out.
Result<void> agreeing(const ReaderOptions& options, std::string_view text) {
    const auto same = [](std::optional<char> a, std::optional<char> b) {
        return a && b && *a == *b;
    };
    const auto inSomeCell = [&](char mark) {
        const auto records =
            firstRecords(text.substr(0, kLookedInto), *options.delimiter, options.quote, 1000);
        return std::any_of(records.begin(), records.end(), [mark](const auto& record) {
            return std::any_of(record.begin(), record.end(), [mark](const std::string& cell) {
                return cell.find(mark) != std::string::npos;
            });
        });
    };
    const char* pair = nullptr;
    if (same(options.decimal, options.thousands)) {
        pair = "‘decimal’ and ‘thousands’";
    } else if (same(options.delimiter, options.quote)) {
        pair = "‘delimiter’ and ‘quote’";
    } else if (same(options.decimal, options.quote)) {
        pair = "‘decimal’ and ‘quote’";
    } else if (same(options.thousands, options.quote)) {
        pair = "‘thousands’ and ‘quote’";
    } else if (same(options.delimiter, options.decimal) && !inSomeCell(*options.decimal)) {
        pair = "‘delimiter’ and ‘decimal’";
    } else if (same(options.delimiter, options.thousands) && !inSomeCell(*options.thousands)) {
        pair = "‘delimiter’ and ‘thousands’";
    }
    if (pair == nullptr) {
        return {};
    }
    return refuse(ErrorCode::BadSetting,
                  std::string(pair) + " are the same mark: nothing could tell them apart",
                  "source.reader", "Leave one of them out, and it is guessed.");
}

Result<Import> readDelimited(std::string_view bytes, const ReaderOptions& options,
                             const Passed& passed, const Job& job) {
    std::string storage;
    const auto decoded = decodeText(bytes, options.encoding, storage);
    if (!decoded) {
        return tl::make_unexpected(decoded.error());
    }
    passed(bytes);
    std::string mended;
    std::vector<LineRepair> missed;
    if (!options.repairs.empty()) {
        mended = withRepairs(decoded->text, options.repairs, missed);
    }
    const std::string_view text = options.repairs.empty() ? decoded->text : mended;
    if (auto sense = agreeing(options, text); !sense) {
        return tl::make_unexpected(sense.error());
    }
    Import import;
    import.used = guessOptions(text, options);
    import.used.encoding = decoded->encoding;

    RecordReader start(text, import.used, 0, 1);
    start.skipLines(options.skip);
    RecordReader look = start;
    std::vector<std::string> names = look.headerRecord();
    if (names.empty()) {
        return refuse(ErrorCode::Syntax, "there is no row in it", "",
                      "A table needs at least a header and one row.");
    }
    if (*import.used.header) {
        names = repairedNames(names, options.skip + 1, import);
        start = look;
    } else {
        for (std::size_t j = 0; j < names.size(); ++j) {
            names[j] = fmt::format("column_{}", j + 1);
        }
    }
    for (const LineRepair& one : missed) {
        ++import.problemCount;
        import.problems.push_back(
            {one.line, "a repair names this line and the text ends before it"});
    }
    const std::size_t columns = names.size();
    const Passed keepText = [](std::string_view) {};
    PieceReader reader(text, import.used, start.position(), start.line(),
                       storage.empty() && mended.empty() ? passed : keepText, job);
    auto isText = textColumns(text, import.used, columns);
    std::vector<bool> meant(columns, false);
    for (std::size_t j = 0; j < columns; ++j) {
        meant[j] = std::find(options.asText.begin(), options.asText.end(), names[j]) !=
                   options.asText.end();
        isText[j] = isText[j] || meant[j];
    }
    std::vector<bool> failed(columns, false);
    const std::string folder = column_store::folderForLarge(
        static_cast<double>(reader.most()) * static_cast<double>(columns) * sizeof(double));
    if (auto room = roomForCells(reader.most(), columns, text.size(), "", !folder.empty()); !room) {
        return tl::make_unexpected(room.error());
    }
    Cells cells(isText, reader.most(), folder);
    auto read = reader.read(cells, failed);
    if (!read && read.error().code != ErrorCode::Stopped && reader.uncut()) {
        cells = Cells(isText, reader.most(), folder);
        read = reader.read(cells, failed);
    }
    if (!read) {
        return tl::make_unexpected(read.error());
    }
    const std::size_t rows = reader.rows();
    if (rows == 0) {
        return refuse(ErrorCode::Syntax, "there is a header and no row below it", "",
                      "Say that the first line is data if it is.");
    }
    import.problemCount += reader.problemCount;
    import.problems.insert(import.problems.end(), reader.problems.begin(), reader.problems.end());
    // Columns that turned out to hold texts are read once more, those alone.
    std::vector<Column> found;
    if (std::find(failed.begin(), failed.end(), true) != failed.end()) {
        Cells again(std::vector<bool>(columns, false), 0, folder);
        for (std::size_t j = 0; j < columns; ++j) {
            failed[j] ? again.makeText(j, reader.most()) : again.drop(j);
        }
        std::vector<bool> none(columns, false);
        if (const auto reread = reader.read(again, none); !reread) {
            return tl::make_unexpected(reread.error());
        }
        for (std::size_t j = 0; j < columns; ++j) {
            found.push_back((failed[j] ? again : cells).column(j, names[j], rows));
        }
    } else {
        for (std::size_t j = 0; j < columns; ++j) {
            found.push_back(cells.column(j, names[j], rows));
        }
    }
    std::vector<Settled> settled(columns,
                                 Settled{Column::ofNumbers("", std::vector<double>()), {}, {}});
    inParallel(columns, [&](std::size_t j) {
        settled[j] =
            meant[j] ? settleTexts(found[j], import.used) : settleColumn(found[j], import.used);
        found[j] = Column::ofNumbers("", std::vector<double>());
    });
    for (Settled& one : settled) {
        import.table.columns.push_back(std::move(one.column));
        import.table.variables.push_back(std::move(one.variable));
        import.evidence.push_back(std::move(one.evidence));
    }
    return import;
}

}  // namespace

Result<Import> readCsvText(std::string_view bytes, const ReaderOptions& options, const Job& job) {
    return readDelimited(
        bytes, options, [](std::string_view) {}, job);
}

Result<Import> readCsvFile(const std::string& path, const ReaderOptions& options, const Job& job) {
    const auto file = MappedFile::open(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    auto import = readDelimited(
        file->bytes(), options, [&](std::string_view part) { file->release(part); }, job);
    if (file->wasCutShort()) {
        return tl::make_unexpected(cutShort(path));
    }
    if (!import && import.error().where.empty()) {
        Refusal refusal = import.error();
        refusal.where = path;
        return tl::make_unexpected(refusal);
    }
    return import;
}

Result<std::vector<std::string>> linesOfText(std::string_view bytes, const ReaderOptions& options,
                                             std::size_t first, std::size_t last) {
    std::string storage;
    const auto decoded = decodeText(bytes, options.encoding, storage);
    if (!decoded) {
        return tl::make_unexpected(decoded.error());
    }
    const std::string_view text = decoded->text;
    std::vector<std::string> lines;
    std::size_t at = lineAt(text, 0, first - 1).first;
    for (std::size_t line = first; line <= last && at < text.size(); ++line) {
        const std::size_t next = lineAt(text, at, 0).second;
        std::string_view one = text.substr(at, next - at);
        one = one.substr(0, one.find_last_not_of("\r\n") + 1);
        lines.emplace_back(one);
        for (const LineRepair& repair : options.repairs) {
            if (repair.line == line) {
                lines.back() = repair.text;
            }
        }
        at = next;
    }
    return lines;
}

Result<std::vector<std::string>> linesOfFile(const std::string& path, const ReaderOptions& options,
                                             std::size_t first, std::size_t last) {
    const auto file = MappedFile::open(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    return linesOfText(file->bytes(), options, first, last);
}

Result<void> writeCsv(const Table& table, const std::string& path) {
    std::string out;
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
        out += j > 0 ? "," : "";
        out += quoted(table.columns[j].name());
    }
    out += '\n';
    for (std::size_t i = 0; i < table.rows(); ++i) {
        for (std::size_t j = 0; j < table.columns.size(); ++j) {
            const Column& column = table.columns[j];
            out += j > 0 ? "," : "";
            if (column.isMissing(i)) {
                continue;
            }
            if (column.isText()) {
                out += quoted(column.texts()[static_cast<std::size_t>(column.codes()[i])]);
            } else if (table.variables[j].measure == Measure::Date) {
                out += dateText(column.numbers()[i]);
            } else {
                out += exactNumber(column.numbers()[i]);
            }
        }
        out += '\n';
    }
    if (const auto done = replaceFile(path, out); !done) {
        return tl::make_unexpected(done.error());
    }
    return {};
}

}  // namespace rapporto
