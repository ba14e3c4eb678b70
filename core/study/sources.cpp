#include "core/study/sources.h"

#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/hash.h"
#include "core/io/table_file.h"
#include "core/left/left_table.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <filesystem>
#include <limits>

namespace rapporto {
namespace {

Result<Import> readOne(const Source& source, const std::string& directory, bool acceptChanged,
                       const Job& job) {
    if (isServed(source.reader)) {
        auto import = readTableFile({}, source.reader, job);
        const bool differs = import && !source.sha256.empty() && import->sha256 != source.sha256;
        if (differs && !acceptChanged) {
            return refuse(ErrorCode::Changed, "the source is not the one this study was made with",
                          sourceShown(source), "Look at what changed, then accept it.");
        }
        return import;
    }
    if (source.file.empty()) {
        return refuse(ErrorCode::File, "the study names no source file", "source",
                      "Bring data in.");
    }
    const std::string path = pathOf(source, directory);
    if (!source.sha256.empty()) {
        const auto sum = sha256OfTable(path, source.reader, job);
        if (!sum) {
            return tl::make_unexpected(sum.error());
        }
        if (*sum != source.sha256 && !acceptChanged) {
            return refuse(ErrorCode::Changed, "the source is not the one this study was made with",
                          path, "Look at what changed, then accept it.");
        }
    }
    return readTableFile(path, source.reader, job);
}

/// A table whose rows stay where they are.
Result<std::shared_ptr<const LeftTable>> leftOpened(const Source& source,
                                                    const std::string& directory,
                                                    bool acceptChanged, const Job& job) {
    if (isServed(source.reader)) {
        return LeftTable::open(source.reader, job);
    }
    auto import = readOne(source, directory, acceptChanged, job);
    if (!import) {
        return tl::make_unexpected(import.error());
    }
    return LeftTable::ofColumns(std::make_shared<const Table>(std::move(import->table)),
                                source.reader, sourceShown(source));
}

/// A checksum of the cells in their order, stable across versions and machines.
std::string checksumOf(const Column& column) {
    std::uint64_t sum = 0x9E3779B97F4A7C15U;
    const auto mix = [&sum](std::uint64_t bits) {
        sum = (std::rotl(sum, 5) ^ bits) * 0xFF51AFD7ED558CCDU;
    };
    if (column.isText()) {
        std::vector<std::uint64_t> ofText;
        for (const std::string& text : column.texts()) {
            ofText.push_back(contentHash(text));
        }
        for (const std::int32_t code : column.codes()) {
            mix(code < 0 ? 0 : ofText[static_cast<std::size_t>(code)]);
        }
    } else {
        for (const double x : column.numbers()) {
            // One bit pattern for all that is missing, and one for the two zeros.
            mix(x != x ? ~std::uint64_t{0} : std::bit_cast<std::uint64_t>(x + 0.0));
        }
    }
    return fmt::format("{:016x}", sum);
}

Result<Shaped> stepTaken(const ShapeStep& step, const Study& study, const Sources& sources,
                         const Table& table) {
    const Table* other = nullptr;
    if (const Source* source = otherSource(step)) {
        const auto at = sources.others.find(sourceText(*source));
        if (at == sources.others.end()) {
            return refuse(ErrorCode::File, "the second table has not been read", source->file,
                          "Open the study again.");
        }
        other = at->second.get();
    }
    if (const auto* append = std::get_if<AppendStep>(&step)) {
        const auto stem = [](const Source& of) {
            return isServed(of.reader) ? sourceShown(of)
                                       : std::filesystem::path(of.file).stem().string();
        };
        return appendRows(table, *other, append->mark, {stem(study.source), stem(append->other)});
    }
    if (const auto* join = std::get_if<JoinStep>(&step)) {
        return joinColumns(table, *other, join->by, join->take);
    }
    if (const auto* longer = std::get_if<LongStep>(&step)) {
        return lengthen(table, longer->moment, longer->variables);
    }
    // What looks into the cells must not take a missing code for a value.
    const Frame frame = Frame::make(table, study.variables, {}, {}, {});
    if (const auto* collapse = std::get_if<CollapseStep>(&step)) {
        return collapseRows(frame, collapse->by, collapse->columns);
    }
    const auto& wide = std::get<WideStep>(step);
    return widen(frame, wide.unit, wide.moment, wide.variables);
}

}  // namespace

std::string sourceShown(const Source& source) {
    if (!isServed(source.reader)) {
        return source.file;
    }
    const ReaderOptions& r = source.reader;
    const std::string what = !r.query.empty()   ? "a query"
                             : !r.table.empty() ? r.table
                                                : std::string("a table");
    return what + (r.service.empty() ? " of the database" : " of the database ‘" + r.service + "’");
}

std::string pathOf(const Source& source, const std::string& directory) {
    const std::filesystem::path file(source.file);
    return file.is_absolute() ? file.string() : (std::filesystem::path(directory) / file).string();
}

namespace {

/// Every source that names a file.
std::vector<const Source*> sourcesOf(const Study& study) {
    std::vector<const Source*> out;
    if (!study.source.moments && !study.source.file.empty()) {
        out.push_back(&study.source);
    }
    for (const ShapeStep& step : study.shape) {
        const Source* other = otherSource(step);
        if (other != nullptr && !other->file.empty()) {
            out.push_back(other);
        }
    }
    return out;
}

}  // namespace

std::vector<std::string> filesOutside(const Study& study, const std::string& directory) {
    namespace fs = std::filesystem;
    std::error_code none;
    const fs::path home = fs::weakly_canonical(directory, none);
    // Links are followed: where the cells come from is what counts.
    const auto isOutside = [&](const std::string& file) {
        const fs::path at = fs::weakly_canonical(file, none);
        return std::mismatch(home.begin(), home.end(), at.begin(), at.end()).first != home.end();
    };
    std::vector<std::string> out;
    for (const Source* source : sourcesOf(study)) {
        const std::string path = pathOf(*source, directory);
        bool outside = isOutside(path);
        if (!outside) {
            // A description that lies inside may name a table that a link leads out.
            const auto parts = filesOfTable(path, source->reader);
            outside = std::any_of(parts.begin(), parts.end(), isOutside);
        }
        if (outside && std::find(out.begin(), out.end(), source->file) == out.end()) {
            out.push_back(source->file);
        }
    }
    return out;
}

std::vector<std::string> databasesOf(const Study& study) {
    std::vector<std::string> out;
    const auto look = [&](const Source& source) {
        if (isServed(source.reader) &&
            std::find(out.begin(), out.end(), sourceShown(source)) == out.end()) {
            out.push_back(sourceShown(source));
        }
    };
    look(study.source);
    for (const ShapeStep& step : study.shape) {
        if (const Source* other = otherSource(step)) {
            look(*other);
        }
    }
    return out;
}

Result<void> mayWriteTo(const std::string& path, const Study& study, const std::string& studyPath) {
    std::vector<std::string> kept;
    if (!studyPath.empty()) {
        kept.push_back(studyPath);
    }
    const std::string directory =
        std::filesystem::absolute(studyPath.empty() ? "study" : studyPath).parent_path().string();
    for (const Source* source : sourcesOf(study)) {
        const auto parts = filesOfTable(pathOf(*source, directory), source->reader);
        kept.insert(kept.end(), parts.begin(), parts.end());
    }
    for (const std::string& one : kept) {
        if (sameFile(path, one)) {
            return refuse(ErrorCode::File, "nothing is written over what the study is made of",
                          path, "Choose another name.");
        }
    }
    return {};
}

Result<Sources> readSources(const Study& study, const std::string& directory, bool acceptChanged,
                            const Job& job) {
    Sources out;
    if (study.source.moments) {
        out.moments = std::make_shared<const SummaryMatrix>(*study.source.moments);
        return out;
    }
    // What is declared a text is read as its cells are written: 007 is not 7.
    Source source = study.source;
    for (const VariableEntry& entry : study.variables) {
        if (entry.measure == Measure::Text) {
            source.reader.asText.push_back(entry.name);
        }
    }
    if (source.reader.left) {
        auto left = leftOpened(source, directory, acceptChanged, job);
        if (!left) {
            return tl::make_unexpected(left.error());
        }
        out.left = *std::move(left);
        out.table = std::make_shared<const Table>(out.left->first());
        return out;
    }
    auto import = readOne(source, directory, acceptChanged, job);
    if (!import) {
        return tl::make_unexpected(import.error());
    }
    if (study.source.kind == "summary") {
        auto moments = momentsOfTable(import->table);
        if (!moments) {
            Refusal refusal = moments.error();
            refusal.where = study.source.file + ", " + refusal.where;
            return tl::make_unexpected(refusal);
        }
        out.moments = std::make_shared<const SummaryMatrix>(*std::move(moments));
        return out;
    }
    out.table = std::make_shared<const Table>(std::move(import->table));
    out.sha256 = import->sha256;
    for (const ShapeStep& step : study.shape) {
        const Source* other = otherSource(step);
        if (other == nullptr || out.others.contains(sourceText(*other))) {
            continue;
        }
        auto second = readOne(*other, directory, acceptChanged, job);
        if (!second) {
            return tl::make_unexpected(second.error());
        }
        out.others[sourceText(*other)] = std::make_shared<const Table>(std::move(second->table));
    }
    return out;
}

Result<Shaped> takeStep(const ShapeStep& step, const Study& study, const Sources& sources,
                        const Table& table) {
    auto next = stepTaken(step, study, sources, table);
    if (!next) {
        Refusal refusal = next.error();
        refusal.where = "the step “" + shapeText(step) + "”" +
                        (refusal.where.empty() ? "" : ", " + refusal.where);
        return tl::make_unexpected(refusal);
    }
    return next;
}

Shaping shapeTable(const Study& study, const Sources& sources) {
    Shaping out;
    out.table = sources.table;
    if (sources.left) {
        return out;  // Its questions say that what is left with a database is not shaped.
    }
    for (const ShapeStep& step : study.shape) {
        auto next = takeStep(step, study, sources, *out.table);
        if (!next) {
            out.refusal = next.error();
            break;
        }
        out.table = std::make_shared<const Table>(std::move(next->table));
        out.facts.push_back(std::move(next->facts));
        out.after.push_back(out.table);
    }
    return out;
}

namespace {

/// The table and, after its columns, those that fits left behind. A name the table has itself stays
/// the table’s; a column of another number of rows is missing throughout.
Table withKept(const Table& table, const Study& study) {
    Table out = table;
    for (const KeptColumn& kept : study.kept) {
        if (out.find(kept.name) >= 0) {
            continue;
        }
        Variable variable;
        variable.name = kept.name;
        variable.label = kept.label;
        variable.unit = kept.unit;
        const bool fits = kept.values->size() == table.rows();
        variable.note = fits ? std::string()
                             : "It was kept for " + plural(kept.values->size(), "row", "rows") +
                                   " and the table has others now: keep it anew from its question.";
        out.columns.push_back(
            fits ? Column::ofNumbers(
                       kept.name, std::shared_ptr<const double[]>(kept.values, kept.values->data()),
                       kept.values->size())
                 : Column::ofNumbers(
                       kept.name, std::vector<double>(table.rows(),
                                                      std::numeric_limits<double>::quiet_NaN())));
        out.variables.push_back(std::move(variable));
    }
    return out;
}

}  // namespace

Frame makeFrame(const Study& study, const Sources& sources) {
    return makeFrame(study, sources, sources.moments ? Shaping{} : shapeTable(study, sources));
}

Frame makeFrame(const Study& study, const Sources& sources, const Shaping& shaping) {
    if (study.source.moments) {  // It can be edited, and undone, in the study itself.
        return Frame::ofMoments(std::make_shared<const SummaryMatrix>(*study.source.moments),
                                study.variables);
    }
    if (sources.moments) {
        return Frame::ofMoments(sources.moments, study.variables);
    }
    if (sources.left) {
        return Frame::ofLeft(sources.left, *sources.table, sources.left->rows(), study.variables,
                             study.derived, study.layout);
    }
    const auto make = [&](const Table& table) {
        return Frame::make(table, study.variables, study.derived, study.sample, study.layout);
    };
    Frame frame = study.kept.empty() ? make(*shaping.table) : make(withKept(*shaping.table, study));
    return shaping.refusal ? frame.refusedFor(*shaping.refusal) : frame;
}

SourceReview reviewSources(const Study& study, const Study& proposed, const std::string& directory,
                           const Job& job) {
    SourceReview out;
    out.proposed = proposed;
    const auto look = [&](const Source& before, Source& now) -> std::shared_ptr<const Table> {
        FileReview review;
        review.file = sourceShown(now);
        if (now.reader.left && isServed(now.reader)) {
            // What stays with a database has no checksum: it is as it is.
            auto left = LeftTable::open(now.reader, job);
            review.found = left.has_value();
            review.changed = sourceShown(now) != sourceShown(before);
            out.refusal = left || out.refusal ? out.refusal : std::optional(left.error());
            out.sources.left = left ? *left : nullptr;
            out.files.push_back(std::move(review));
            return left ? std::make_shared<const Table>((*left)->first()) : nullptr;
        }
        auto import = readOne(now, directory, true, job);
        if (!import) {
            review.found = false;
            out.files.push_back(std::move(review));
            out.refusal = out.refusal ? out.refusal : std::optional(import.error());
            return nullptr;
        }
        const auto sum = isServed(now.reader)
                             ? Result<std::string>(import->sha256)
                             : sha256OfTable(pathOf(now, directory), now.reader, job);
        review.changed = sourceShown(now) != sourceShown(before) ||
                         (sum && !now.sha256.empty() && *sum != now.sha256);
        review.changes = changesOf(study, before, import->table);
        now.sha256 = sum.value_or(std::string());
        if (proposed.source.kind == "table") {
            noteSeen(import->table, now);
        }
        out.files.push_back(std::move(review));
        auto table = std::make_shared<const Table>(std::move(import->table));
        if (!now.reader.left) {
            return table;
        }
        auto left = LeftTable::ofColumns(table, now.reader, sourceShown(now));
        out.refusal = left || out.refusal ? out.refusal : std::optional(left.error());
        out.sources.left = left ? *left : nullptr;
        return left ? std::make_shared<const Table>((*left)->first()) : nullptr;
    };
    const auto table = look(study.source, out.proposed.source);
    if (table && proposed.source.kind == "summary") {
        auto moments = momentsOfTable(*table);
        moments
            ? void(out.sources.moments = std::make_shared<const SummaryMatrix>(*std::move(moments)))
            : void(out.refusal = moments.error());
        return out;
    }
    out.sources.table = table;
    for (std::size_t k = 0; k < out.proposed.shape.size(); ++k) {
        Source* other = otherSource(out.proposed.shape[k]);
        if (other != nullptr && k < study.shape.size() && otherSource(study.shape[k]) != nullptr) {
            const auto second = look(*otherSource(study.shape[k]), *other);
            out.sources.others[sourceText(*other)] = second;
        }
    }
    return out;
}

void noteSeen(const Table& table, Source& source) {
    source.seenRows = table.rows();
    source.seen.clear();
    for (const Column& column : table.columns) {
        source.seen.push_back({column.name(), column.isText(), checksumOf(column)});
    }
}

SourceChanges changesOf(const Study& study, const Source& source, const Table& now) {
    SourceChanges out;
    out.noted = !source.seen.empty();
    out.rowsBefore = source.seenRows;
    out.rowsNow = now.rows();
    const auto add = [&](const std::string& name, ColumnChange::Kind kind) {
        out.columns.push_back({name, kind, usesOf(study, name)});
    };
    for (const SeenColumn& before : source.seen) {
        const int at = now.find(before.name);
        if (at < 0) {
            add(before.name, ColumnChange::Kind::Gone);
            continue;
        }
        const Column& column = now.columns[static_cast<std::size_t>(at)];
        if (column.isText() != before.text) {
            add(before.name, ColumnChange::Kind::OtherKind);
        } else if (checksumOf(column) != before.checksum) {
            add(before.name, ColumnChange::Kind::OtherCells);
        } else {
            ++out.same;
        }
    }
    if (out.noted) {
        for (const Column& column : now.columns) {
            const bool known =
                std::any_of(source.seen.begin(), source.seen.end(),
                            [&](const SeenColumn& c) { return c.name == column.name(); });
            if (!known) {
                add(column.name(), ColumnChange::Kind::New);
            }
        }
    } else if (&source == &study.source && study.shape.empty()) {
        // Nothing was noted: what the study names must be there at least.
        for (const std::string& name : namesUsed(study)) {
            if (now.find(name) < 0) {
                add(name, ColumnChange::Kind::Gone);
            }
        }
    }
    std::stable_sort(out.columns.begin(), out.columns.end(),
                     [](const ColumnChange& a, const ColumnChange& b) {
                         const auto rank = [](const ColumnChange& c) {
                             return static_cast<int>(c.kind == ColumnChange::Kind::New) * 4 +
                                    static_cast<int>(c.uses.empty()) * 2 +
                                    static_cast<int>(c.kind != ColumnChange::Kind::Gone);
                         };
                         return rank(a) < rank(b);
                     });
    return out;
}

}  // namespace rapporto
