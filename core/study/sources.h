#pragma once

#include "core/study/study.h"

#include <map>
#include <memory>

namespace rapporto {

/// What a study is made from, as read from its files.
struct Sources {
    std::shared_ptr<const Table> table;                          ///< Null for a summary.
    std::shared_ptr<const SummaryMatrix> moments;                ///< Of a summary; else null.
    std::map<std::string, std::shared_ptr<const Table>> others;  ///< By `sourceText`.
    std::shared_ptr<const LeftTable> left;  ///< Where the rows stay with an engine; else null.
    std::string sha256;  ///< Of the content of a table that a server sent; else empty.
};

/// Reads the source of a study that lies in `directory`, and the files its shape needs.
///
/// @return the tables, or File, Syntax, Stopped from reading; Changed when a recorded checksum
///         differs and `acceptChanged` is false.
[[nodiscard]] Result<Sources> readSources(const Study& study, const std::string& directory,
                                          bool acceptChanged, const Job& job);

/// The files that the study names and that lie, or whose tables lie, links followed, outside
/// `directory`, where the study does; each once, as it names them. A study from
/// a stranger could have any file of its reader's read: who opens it is to know.
[[nodiscard]] std::vector<std::string> filesOutside(const Study& study,
                                                    const std::string& directory);

/// Refuses a place to write to that is the study itself or what it is made from.
///
/// @param studyPath  empty: the study has no file.
[[nodiscard]] Result<void> mayWriteTo(const std::string& path, const Study& study,
                                      const std::string& studyPath);

/// A source by name: its file, or “public.growers of the database ‘warehouse’”.
[[nodiscard]] std::string sourceShown(const Source& source);

/// What the study reads from database servers, each once, by name. Whoever opens a stranger’s study
/// is to know: it asks there with the rights of the one who opens it.
[[nodiscard]] std::vector<std::string> databasesOf(const Study& study);

/// Where a source lies.
[[nodiscard]] std::string pathOf(const Source& source, const std::string& directory);

/// What the steps of the shape made, and what happened at each.
struct Shaping {
    std::shared_ptr<const Table> table;               ///< As far as the steps went.
    std::vector<std::vector<std::string>> facts;      ///< One list a step that was done.
    std::vector<std::shared_ptr<const Table>> after;  ///< The table after each step.
    std::optional<Refusal> refusal;                   ///< Of the step after those.
};

/// Takes the steps in order; stops at the first that cannot be taken.
[[nodiscard]] Shaping shapeTable(const Study& study, const Sources& sources);

/// One step taken from `table`, with the words of its refusal set in front.
[[nodiscard]] Result<Shaped> takeStep(const ShapeStep& step, const Study& study,
                                      const Sources& sources, const Table& table);

/// The frame of a study: shaped, described, derived, sampled. A shape that could not be had is
/// kept as the frame's refusal.
[[nodiscard]] Frame makeFrame(const Study& study, const Sources& sources);

/// The same from a shaping at hand.
[[nodiscard]] Frame makeFrame(const Study& study, const Sources& sources, const Shaping& shaping);

/// Notes rows, columns and their checksums, to tell later what changed.
void noteSeen(const Table& table, Source& source);

/// How a column of the source differs from what the study was made with.
struct ColumnChange {
    enum class Kind : std::uint8_t { Gone, New, OtherKind, OtherCells };
    std::string name;
    Kind kind = Kind::New;
    std::vector<std::string> uses;  ///< Where the study names it.
};

struct SourceChanges {
    bool noted = false;  ///< The study had noted its columns; else only names it uses are known.
    std::size_t rowsBefore = 0;
    std::size_t rowsNow = 0;
    std::vector<ColumnChange> columns;  ///< What is used and gone first.
    std::size_t same = 0;               ///< Columns without a difference.
};

/// One file of a study as it is now beside what the study knew of it.
struct FileReview {
    std::string file;      ///< As the study names it.
    bool found = true;     ///< It could be read.
    bool changed = false;  ///< Its checksum differs from the recorded one, or it is another file.
    SourceChanges changes;
};

/// Everything needed to decide whether files that differ shall be used.
struct SourceReview {
    Study proposed;   ///< With the new checksums and columns noted.
    Sources sources;  ///< Complete when `refusal` is empty.
    std::vector<FileReview> files;
    std::optional<Refusal> refusal;  ///< Why the files cannot be used as they are.
};

/// Reads every file of `proposed` and compares each with what `study`, from which it came by
/// naming other files, noted of it.
[[nodiscard]] SourceReview reviewSources(const Study& study, const Study& proposed,
                                         const std::string& directory, const Job& job);

/// Compares a table with what `source` noted of it, and with the names that the study uses.
[[nodiscard]] SourceChanges changesOf(const Study& study, const Source& source, const Table& now);

}  // namespace rapporto
