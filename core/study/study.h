#pragma once

#include "core/base/compiled_once.h"
#include "core/base/disk.h"
#include "core/data/frame.h"
#include "core/data/imputation_spec.h"
#include "core/data/moments.h"
#include "core/data/shape.h"
#include "core/data/survey.h"
#include "core/io/csv.h"
#include "core/model/question.h"
#include "core/picture/picture.h"
#include "core/study/report_item.h"

#include <nlohmann/json_fwd.hpp>

#include <memory>
#include <set>
#include <string>
#include <variant>
#include <vector>

namespace rapporto {

/// A column of the source as it was when the study was made.
struct SeenColumn {
    std::string name;
    bool text = false;
    std::string checksum;  ///< Of its cells.

    friend bool operator==(const SeenColumn&, const SeenColumn&) = default;
};

/// Where the rows come from.
struct Source {
    RAPPORTO_COMPILED_ONCE(Source);

    std::string kind = "table";  ///< Or "summary".
    std::string file;            ///< Relative to the study file.
    ReaderOptions reader;
    std::string sha256;                    ///< Empty: not recorded.
    std::size_t seenRows = 0;              ///< Zero: not recorded.
    std::vector<SeenColumn> seen;          ///< Empty: not recorded.
    std::optional<SummaryMatrix> moments;  ///< Of a summary that stands in the study itself.

    friend bool operator==(const Source&, const Source&) = default;
};

/// Rows of another file under those of the source.
struct AppendStep {
    Source other;
    std::string mark;  ///< Name of a variable that tells the two apart; empty: none.

    friend bool operator==(const AppendStep&, const AppendStep&) = default;
};

/// Columns of another file, looked up by keys.
struct JoinStep {
    Source other;
    std::vector<KeyPair> by;
    std::vector<std::string> take;  ///< Empty: all.

    friend bool operator==(const JoinStep&, const JoinStep&) = default;
};

/// One row a group.
struct CollapseStep {
    std::vector<std::string> by;
    std::vector<Derived> columns;

    friend bool operator==(const CollapseStep&, const CollapseStep&) = default;
};

/// Wide to long.
struct LongStep {
    std::string moment;
    std::vector<LongVariable> variables;

    friend bool operator==(const LongStep&, const LongStep&) = default;
};

/// Long to wide.
struct WideStep {
    std::string unit;
    std::string moment;
    std::vector<std::string> variables;

    friend bool operator==(const WideStep&, const WideStep&) = default;
};

/// What is done to the table of the source before anything else looks at it, in order.
using ShapeStep = std::variant<AppendStep, JoinStep, CollapseStep, LongStep, WideStep>;

/// The other file that a step needs, or null.
[[nodiscard]] const Source* otherSource(const ShapeStep& step);
[[nodiscard]] Source* otherSource(ShapeStep& step);

/// In words, for lists and the trail: “join villages.csv by village”.
[[nodiscard]] std::string shapeText(const ShapeStep& step);

/// A column that a fit left behind: kept as it was, whatever becomes of the question.
struct KeptColumn {
    std::string name;
    std::string label;
    std::string unit;
    std::string what;                                   ///< fitted, left, effect or weight.
    std::string question;                               ///< Id of the question it is of.
    std::string grouping;                               ///< Of an effect: what was held fixed.
    std::shared_ptr<const std::vector<double>> values;  ///< One a row of the table; NaN: missing.

    friend bool operator==(const KeptColumn& a, const KeptColumn& b) {
        return a.name == b.name && a.label == b.label && a.unit == b.unit && a.what == b.what &&
               a.question == b.question && a.grouping == b.grouping && a.values == b.values;
    }
};

struct TrailStep {
    std::string at;  ///< ISO 8601, local.
    std::string did;

    friend bool operator==(const TrailStep&, const TrailStep&) = default;
};

/// The document: an immutable value; every change makes another one. See docs/study-format.md.
struct Study {
    RAPPORTO_COMPILED_ONCE(Study);

    std::string title = "Untitled study";
    double alpha = 0.05;
    std::uint64_t seed = 1;
    Source source;
    std::vector<ShapeStep> shape;
    std::vector<VariableEntry> variables;
    Layout layout;
    Survey survey;
    ImputationSpec imputation;
    std::vector<TermSet> sets;
    std::vector<Derived> derived;
    std::vector<KeptColumn> kept;
    Sample sample;
    std::vector<Question> questions;
    Desk desk;  ///< What stands in Explore; changed without a step of the trail.
    std::vector<ReportItem> report;
    ReportStyle reportStyle;
    std::vector<TrailStep> trail;
    std::vector<std::string> unknownKeys;               ///< Kept on saving; named in a note.
    std::shared_ptr<const nlohmann::ordered_json> raw;  ///< As read.

    [[nodiscard]] const Question* find(const std::string& id) const;

    /// The question reported first: the one marked, else the first; null when there is none.
    [[nodiscard]] const Question* lead() const;

    /// `id` and all questions that are variants of it or of its original, original first.
    [[nodiscard]] std::vector<const Question*> family(const std::string& id) const;
};

/// Reads a study.
/// @return the study, or Syntax (not JSON; `where` has the line), BadSetting (another format or a
///         later version, a value of the wrong kind outside a question), File.
[[nodiscard]] Result<Study> readStudyText(const std::string& text);
[[nodiscard]] Result<Study> readStudyFile(const std::string& path);

/// The study as it is saved.
[[nodiscard]] nlohmann::ordered_json studyJson(const Study& study);

/// The study as text: keys in the order of the format, two-space indent, one list entry a line.
[[nodiscard]] std::string studyText(const Study& study);

/// As replaceFile() does: at every moment the old study or the new one stands whole.
[[nodiscard]] Result<Written> writeStudyFile(const Study& study, const std::string& path,
                                             Disk& disk = systemDisk());

/// A file with how it is read as JSON text on one line: a key for what was read from it.
[[nodiscard]] std::string sourceText(const Source& source);

/// One question as JSON text on one line, as it would be saved: a key for caches.
[[nodiscard]] std::string questionText(const Question& question);

/// JSON with short entries on one line each.
[[nodiscard]] std::string prettyJson(const nlohmann::ordered_json& json);

// Edits: each a value; applying one makes another study.
struct PutQuestion {
    Question question;
};  ///< New (empty id gets one) or replaced.

struct PutQuestions {
    std::vector<Question> questions;
};  ///< The same for several in one step.

struct RemoveQuestion {
    std::string id;
};  ///< And its variants become originals.

struct MakeLead {
    std::string id;
};

struct PutDerived {
    Derived derived;
};  ///< New or replaced by name.

struct RemoveDerived {
    std::string name;
};

struct PutKept {
    KeptColumn column;
};  ///< New or replaced by name.

struct RemoveKept {
    std::string name;
};

struct PutVariable {
    VariableEntry entry;
};  ///< Merged over what was said before.

struct PutVariables {
    std::vector<VariableEntry> entries;
};  ///< The same for several in one step.

struct RenameDerived {
    std::string from;
    std::string to;
};  ///< Wherever it is used, too.

struct PutSet {
    TermSet set;
};  ///< New or replaced by name; without members: removed.

struct RenameSet {
    std::string from;
    std::string to;
};  ///< In every question that holds it, too.

struct SetSurvey {
    Survey survey;
};

struct SetImputation {
    ImputationSpec imputation;
};  ///< Without variables: none.

struct SetRule {
    std::string where;
};

struct SetRowsAside {
    std::vector<std::size_t> rows;
    std::string reason;
};  ///< From 1.

struct TakeRowsBack {
    std::vector<std::size_t> rows;
};  ///< From 1.

struct SetLayout {
    Layout layout;
};

struct SetTitle {
    std::string title;
};

struct SetAlpha {
    double alpha;
};

/// Lets something odd about the data stand; an empty reason takes that back.
struct AcceptOddity {
    std::string odd;  ///< Id.
    std::string reason;
};

struct SetReport {
    std::vector<ReportItem> items;
};

struct SetReportStyle {
    ReportStyle style;
};

struct SetSource {
    Source source;
};

/// All steps anew. Refused while rows are set aside by number and the rows would be numbered anew.
struct SetShape {
    std::vector<ShapeStep> steps;
};

using Change =
    std::variant<PutQuestion, PutQuestions, RemoveQuestion, MakeLead, PutDerived, RemoveDerived,
                 PutKept, RemoveKept, PutVariable, PutVariables, RenameDerived, PutSet, RenameSet,
                 SetSurvey, SetImputation, SetRule, SetRowsAside, TakeRowsBack, SetLayout, SetTitle,
                 SetAlpha, AcceptOddity, SetReport, SetReportStyle, SetSource, SetShape>;

struct Edit {
    Change change;
    std::string did;  ///< In words, for the trail and undo: “add zone”.
};

/// @return the changed study with the step on its trail, or BadSetting, UnknownName, Syntax.
[[nodiscard]] Result<Study> apply(const Study& study, const Edit& edit);

/// What names the variable: derived variables, rules, sets and questions, in words. Empty when it
/// can go without harm.
[[nodiscard]] std::vector<std::string> usesOf(const Study& study, const std::string& variable);

/// Every name that the study uses and does not derive itself.
[[nodiscard]] std::set<std::string> namesUsed(const Study& study);

/// An id that no question of the study has: q1, q2, …
[[nodiscard]] std::string freshQuestionId(const Study& study);

}  // namespace rapporto
