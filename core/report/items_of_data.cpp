// Items of the report that tell the data: descriptive tables, sample, codebook, correlations.
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/describe/comparison.h"
#include "core/describe/correlation.h"
#include "core/describe/ledger.h"
#include "core/describe/summary.h"
#include "core/describe/survey_mean.h"
#include "core/report/codebook.h"
#include "core/report/report_items.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

bool lacksTable(const ItemInput& in) {
    if (in.frame == nullptr || in.frame->moments() != nullptr) {
        in.sheet.put(Kind::Note, "No rows are at hand to describe.");
        return true;
    }
    return false;
}

/// The variables that an item names, else those that its questions use, outcome first.
std::vector<std::string> variablesOf(const ItemInput& in) {
    std::vector<std::string> names = in.item.variables;
    const auto add = [&](const std::string& name) {
        if (in.frame->column(name) != nullptr &&
            std::find(names.begin(), names.end(), name) == names.end()) {
            names.push_back(name);
        }
    };
    if (names.empty()) {
        for (const Answer* a : in.answers) {
            add(a->design->outcomeLogOf.empty() ? a->design->outcome : a->design->outcomeLogOf);
            for (const DesignTerm& term : a->design->terms) {
                for (const std::string& name : term.names) {
                    add(name);
                }
            }
        }
    }
    return names;
}

std::string labelled(const Variable& variable, const std::string& name) {
    return variable.shown().empty()
               ? name
               : variable.shown() + (variable.unit.empty() ? "" : ", " + variable.unit);
}

/// Decimals that show a value of this spread to three digits.
Cell toSpread(double value, double sd) {
    if (!std::isfinite(value)) {
        return "–";
    }
    const int decimals =
        sd > 0.0 ? std::clamp(2 - static_cast<int>(std::floor(std::log10(sd))), 0, 6) : 2;
    return {fixedNumber(value, decimals, true), value};
}

/// Rows of the sample that count here, and the design where one with weights is declared.
struct Used {
    std::vector<bool> rows;
    std::optional<SurveyRows> design;

    [[nodiscard]] bool isWeighted() const { return design.has_value(); }
};

Used usedRows(const ItemInput& in) {
    Used used;
    used.rows = rowsInSample(*in.frame);
    if (in.study.survey.isWeighted()) {
        if (auto design = surveyRows(*in.frame, in.study.survey)) {
            used.design = *std::move(design);
        }
    }
    return used;
}

/// A column of numbers in these rows, weighted where the design says how.
Summary summaryOf(const Column& column, const Used& used, const std::vector<bool>& rows) {
    if (!used.isWeighted()) {
        return summarise(column.numbers(), rows);
    }
    std::vector<double> weights = used.design->weights;
    for (std::size_t i = 0; i < weights.size(); ++i) {
        weights[i] = rows[i] ? weights[i] : 0.0;
    }
    return summariseWeighted(column.numbers(), weights);
}

double codeOf(const Column& column, std::size_t row) {
    return column.isText() ? static_cast<double>(column.codes()[row]) : column.numbers()[row];
}

/// Shares of the levels of a grouping in rows.
void levelRows(ReportBlock& block, const ItemInput& in, const std::string& name, const Used& used) {
    const Column& column = *in.frame->column(name);
    const Variable& variable = *in.frame->variable(name);
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < used.rows.size(); ++i) {
        if (used.rows[i] && !column.isMissing(i)) {
            rows.push_back(i);
        }
    }
    const auto levels = levelsOf(column, variable, rows);
    std::size_t missing = 0;
    for (std::size_t i = 0; i < used.rows.size(); ++i) {
        missing += used.rows[i] && column.isMissing(i) ? 1 : 0;
    }
    CellRow head = {labelled(variable, name),
                    Cell(countText(rows.size()), static_cast<double>(rows.size())),
                    Cell(countText(missing), static_cast<double>(missing))};
    head.resize(8);
    block.cells.push_back(std::move(head));
    double whole = 0.0;
    std::vector<double> weight(levels.size(), 0.0);
    for (const std::size_t row : rows) {
        const double w = used.isWeighted() ? used.design->weights[row] : 1.0;
        const double code =
            column.isText() ? static_cast<double>(column.codes()[row]) : column.numbers()[row];
        for (std::size_t l = 0; l < levels.size(); ++l) {
            if (levels[l].code == code) {
                weight[l] += w;
            }
        }
        whole += w;
    }
    for (std::size_t l = 0; l < levels.size(); ++l) {
        const double share = whole > 0.0 ? weight[l] / whole : 0.0;
        CellRow row = {"\u2003" + levels[l].label,
                       Cell(countText(levels[l].count), static_cast<double>(levels[l].count)),
                       Cell(), Cell(fixedNumber(100.0 * share, 1) + " %", share)};
        row.resize(8);
        block.cells.push_back(std::move(row));
    }
}

void plainTable(const ItemInput& in, const std::vector<std::string>& names) {
    const Used used = usedRows(in);
    ReportBlock block;
    block.kind = Kind::Table;
    block.cells.push_back({"", in.sheet.word("n"), in.sheet.word("missing"), in.sheet.word("mean"),
                           in.sheet.word("sd"), in.sheet.word("least"), in.sheet.word("median"),
                           in.sheet.word("largest")});
    block.rules = {0};
    for (const std::string& name : names) {
        const Column* column = in.frame->column(name);
        const Variable* variable = in.frame->variable(name);
        if (column == nullptr || variable == nullptr) {
            continue;
        }
        if (isGrouping(variable->measure) || column->isText()) {
            levelRows(block, in, name, used);
            continue;
        }
        const Summary plain = summarise(column->numbers(), used.rows);
        const Summary s = summaryOf(*column, used, used.rows);
        block.cells.push_back({labelled(*variable, name),
                               Cell(countText(plain.n), static_cast<double>(plain.n)),
                               Cell(countText(plain.missing), static_cast<double>(plain.missing)),
                               toSpread(s.mean, s.sd), toSpread(s.sd, s.sd), toSpread(s.low, s.sd),
                               toSpread(s.median, s.sd), toSpread(s.high, s.sd)});
    }
    in.sheet.tableCaption(in.sheet.word("The variables"));
    in.sheet.add(std::move(block));
    in.sheet.put(
        Kind::Note,
        "Rows of the sample" +
            (in.study.sample.where.empty() ? std::string() : ", " + in.study.sample.where) +
            (used.isWeighted()
                 ? "; weighted by " + in.study.survey.weightShown() + ", n and missing not."
                 : "; not weighted."),
        "note");
}

/// The rows of the sample by the levels of a grouping.
struct Parted {
    std::vector<FoundLevel> levels;
    std::vector<std::int32_t> of;  ///< Of each row: its level from 0; −1: none.
};

Parted partedRows(const Column& groups, const Variable& grouping, const std::vector<bool>& use) {
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < use.size(); ++i) {
        if (use[i] && !groups.isMissing(i)) {
            rows.push_back(i);
        }
    }
    Parted out;
    out.levels = levelsOf(groups, grouping, rows);
    out.of.assign(use.size(), -1);
    for (const std::size_t i : rows) {
        const double code = codeOf(groups, i);
        for (std::size_t l = 0; l < out.levels.size(); ++l) {
            if (out.levels[l].code == code) {
                out.of[i] = static_cast<std::int32_t>(l);
            }
        }
    }
    return out;
}

/// Means and spreads of one variable in each group, their difference where there are two, and p of
/// equal means: by the design where one is declared, else Welch’s.
CellRow groupedRow(const Column& column, const Parted& parted, const Used& used, double alpha) {
    CellRow row;
    const std::size_t count = parted.levels.size();
    std::vector<std::vector<double>> values(count);
    std::vector<std::string> labels;
    std::vector<double> means;
    double sd = 0.0;
    for (std::size_t l = 0; l < count; ++l) {
        std::vector<bool> mine(parted.of.size());
        for (std::size_t i = 0; i < mine.size(); ++i) {
            mine[i] = parted.of[i] == static_cast<std::int32_t>(l);
            if (mine[i] && !column.isMissing(i)) {
                values[l].push_back(column.numbers()[i]);
            }
        }
        const Summary s = summaryOf(column, used, mine);
        sd = std::max(sd, s.sd);
        row.push_back(toSpread(s.mean, s.sd));
        row.push_back(toSpread(s.sd, s.sd));
        labels.push_back(parted.levels[l].label);
        means.push_back(s.mean);
    }
    std::optional<double> p;
    if (used.isWeighted()) {
        const auto contrast = contrastUnder(*used.design, column.numbers(), parted.of,
                                            static_cast<std::int32_t>(count));
        p = contrast ? std::optional(contrast->p) : std::nullopt;
    } else if (const auto compared = compareGroups(labels, values, alpha)) {
        p = compared->means.p;
    }
    if (count == 2) {
        row.push_back(toSpread(means[1] - means[0], sd));
    }
    row.push_back(p ? Cell(pText(*p), *p) : Cell("–"));
    return row;
}

void groupedTable(const ItemInput& in, const std::vector<std::string>& names) {
    const Used used = usedRows(in);
    const Column* groups = in.frame->column(in.item.by);
    const Variable* grouping = in.frame->variable(in.item.by);
    if (groups == nullptr || grouping == nullptr) {
        in.sheet.put(Kind::Note, "There is no variable ‘" + in.item.by + "’ to group by.");
        return;
    }
    const Parted parted = partedRows(*groups, *grouping, used.rows);
    const std::size_t count = parted.levels.size();
    if (count < 2 || count > 12) {
        in.sheet.put(Kind::Note, "‘" + in.item.by + "’ has " + plural(count, "group", "groups") +
                                     "; a table by groups takes two to twelve.");
        return;
    }
    ReportBlock block;
    block.kind = Kind::Table;
    block.heads = 2;
    block.rules = {1};
    CellRow over = {""};
    CellRow head = {""};
    for (const FoundLevel& level : parted.levels) {
        const bool plain = grouping->measure == Measure::YesNo && grouping->levels.empty();
        const std::string name =
            plain ? in.sheet.word(level.code == 0.0 ? "no" : "yes") : level.label;
        over.push_back(Cell::over(2, name + " (n = " + countText(level.count) + ")"));
        head.emplace_back(in.sheet.word("mean"));
        head.emplace_back(in.sheet.word("sd"));
    }
    if (count == 2) {
        over.emplace_back("");
        head.emplace_back(in.sheet.word("difference"));
    }
    over.emplace_back("");
    head.emplace_back("p");
    block.cells = {std::move(over), std::move(head)};
    for (const std::string& name : names) {
        const Column* column = in.frame->column(name);
        const Variable* variable = in.frame->variable(name);
        if (column == nullptr || variable == nullptr || name == in.item.by || column->isText() ||
            (isGrouping(variable->measure) && variable->measure != Measure::YesNo)) {
            continue;
        }
        CellRow row = groupedRow(*column, parted, used, in.study.alpha);
        row.insert(row.begin(), Cell(labelled(*variable, name)));
        block.cells.push_back(std::move(row));
    }
    in.sheet.tableCaption(in.sheet.word("The variables by") + " " +
                          labelled(*grouping, in.item.by));
    in.sheet.add(std::move(block));
    in.sheet.put(
        Kind::Note,
        std::string(count == 2 ? "Differences are the second group less the first; " : "") +
            (used.isWeighted()
                 ? "weighted by " + in.study.survey.weightShown() +
                       "; p of equal means by the survey design, linearised (Binder 1983)."
                 : std::string("p of equal means by Welch’s ") + (count == 2 ? "t." : "F.")),
        "note");
}

/// One box of the way from the source to the rows used.
struct Stop {
    std::string words;
    std::string lost;  ///< On the way to the next one; empty: nothing.
};

Drawing wayDrawing(const std::vector<Stop>& stops) {
    constexpr double kWide = 210.0;
    constexpr double kHigh = 26.0;
    constexpr double kStep = 50.0;
    Drawing out;
    out.width = 450.0;
    out.height = kStep * static_cast<double>(stops.size() - 1) + kHigh + 4.0;
    for (std::size_t i = 0; i < stops.size(); ++i) {
        const double top = 2.0 + kStep * static_cast<double>(i);
        out.box({1.0, top}, kWide, kHigh, {.stroke = "#708090", .width = 0.9, .fill = "#F1EDE4"},
                5.0);
        out.words({1.0 + 0.5 * kWide, top + 17.0}, stops[i].words, 10.5, "#232733",
                  Drawing::Anchor::Middle);
        if (i + 1 < stops.size()) {
            const double x = 1.0 + 0.5 * kWide;
            const double end = top + kStep;
            out.line({x, top + kHigh}, {x, end - 5.0}, {.stroke = "#6B6F7B", .width = 0.9});
            out.path({{x, end}, {x - 3.0, end - 6.0}, {x + 3.0, end - 6.0}}, {.fill = "#6B6F7B"},
                     true);
            if (!stops[i].lost.empty()) {
                const double middle = top + kHigh + 0.5 * (kStep - kHigh);
                out.line({x, middle}, {kWide + 24.0, middle}, {.stroke = "#6B6F7B", .width = 0.9});
                out.words({kWide + 30.0, middle + 3.5}, stops[i].lost, 10.0, "#6B6F7B");
            }
        }
    }
    return out;
}

void putSample(const ItemInput& in, const Answer& a) {
    const RowCounts& rows = a.rows;
    std::vector<Stop> stops = {{plural(rows.source, "row", "rows") + " in the source", ""}};
    const auto step = [&](const std::string& lost, std::size_t left, const std::string& what) {
        stops.back().lost = lost;
        stops.push_back({plural(left, "row", "rows") + " " + what, ""});
    };
    std::string sample;
    if (rows.setAside > 0) {
        sample = countText(rows.setAside) + " set aside";
    }
    if (rows.byRule > 0) {
        sample += (sample.empty() ? "" : ", ") + countText(rows.byRule) + " removed by the rule " +
                  in.study.sample.where;
    }
    if (!sample.empty()) {
        step(sample, rows.inSample, "in the sample");
    }
    if (rows.missing > 0) {
        std::string names;
        for (const RowCounts::Lack& lack : rows.missingBy) {
            names +=
                (names.empty() ? ": " : ", ") + shownNames(lack.name) + " " + countText(lack.rows);
        }
        step(countText(rows.missing) + " lack a value" + names, rows.used + rows.dropped,
             rows.dropped > 0 ? "complete" : "used");
    }
    if (rows.dropped > 0) {
        step(countText(rows.dropped) + " dropped by the method", rows.used, "used");
    }
    if (stops.size() == 1) {
        stops.push_back({plural(rows.used, "row", "rows") + " used", ""});
    }
    std::string words = "Of " + plural(rows.source, "row", "rows") + " in the source ";
    words += countText(rows.used) + (rows.used == 1 ? " is used" : " are used");
    for (std::size_t i = 0; i + 1 < stops.size(); ++i) {
        words += stops[i].lost.empty() ? "" : (i == 0 ? ": " : "; ") + stops[i].lost;
    }
    in.sheet.put(Kind::Paragraph, titleBefore(in, a) + words + ".");
    in.sheet.figureCaption("From the source to the rows of " + questionTitle(a));
    in.sheet.addFigure(wayDrawing(stops), words + ".");
    if (!in.study.sample.setAside.empty()) {
        std::map<std::string, std::size_t> reasons;
        for (const SetAside& one : in.study.sample.setAside) {
            ++reasons[one.reason.empty() ? "no reason given" : one.reason];
        }
        std::string why;
        for (const auto& [reason, count] : reasons) {
            why += (why.empty() ? "" : "; ") + countText(count) + ": " + reason;
        }
        in.sheet.put(Kind::Note, "Rows set aside: " + why + ".", "note");
    }
}

}  // namespace

void addDescriptives(const ItemInput& in) {
    if (lacksTable(in)) {
        return;
    }
    const auto names = variablesOf(in);
    if (names.empty()) {
        in.sheet.put(Kind::Note, "There is no variable to describe: name some.");
    } else if (in.item.by.empty()) {
        plainTable(in, names);
    } else {
        groupedTable(in, names);
    }
}

void addSample(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        putSample(in, *a);
    }
}

void addCodebook(const ItemInput& in) {
    if (lacksTable(in)) {
        return;
    }
    const auto names = variablesOf(in);
    ReportBlock block;
    block.kind = Kind::Table;
    block.cells.push_back(
        {in.sheet.word("variable"), in.sheet.word("what it is"), in.sheet.word("values")});
    block.rules = {0};
    for (const CodebookEntry& entry : codebookEntries(*in.frame)) {
        if (std::find(names.begin(), names.end(), entry.name) == names.end()) {
            continue;
        }
        std::string what = entry.label.empty() ? entry.measure : entry.label + "; " + entry.measure;
        what += entry.unit.empty() ? "" : ", " + entry.unit;
        what += entry.expression.empty() ? "" : "; derived: " + entry.expression;
        what += entry.note.empty() ? "" : ". " + entry.note;
        std::string values = entry.values;
        for (const auto& level : entry.levels) {
            values += (values.empty() ? "" : "; ") +
                      (level.label.empty() ? level.value : level.label) + " " +
                      countText(level.count);
        }
        values += entry.moreLevels > 0 ? "; and " + countText(entry.moreLevels) + " more" : "";
        values += entry.missing.empty() ? "" : "; " + entry.missing;
        block.cells.push_back({entry.name, what, values});
    }
    in.sheet.tableCaption(in.sheet.word("Codebook of what is used"));
    in.sheet.add(std::move(block));
}

void addCorrelations(const ItemInput& in) {
    if (lacksTable(in)) {
        return;
    }
    std::vector<RelatedColumn> columns;
    std::vector<std::string> labels;
    for (const std::string& name : in.item.variables) {
        const Column* column = in.frame->column(name);
        if (column != nullptr && !column->isText()) {
            columns.push_back({name, {column->numbers().begin(), column->numbers().end()}});
            labels.push_back(labelled(*in.frame->variable(name), name));
        }
    }
    CorrelationSettings settings;
    settings.alpha = in.study.alpha;
    const auto table = correlate(columns, {}, rowsInSample(*in.frame), settings, in.job);
    if (!table) {
        in.sheet.put(Kind::Note, "Correlations: " + table.error().text());
        return;
    }
    ReportBlock block;
    block.kind = Kind::Table;
    CellRow head = {""};
    for (std::size_t c = 0; c < labels.size(); ++c) {
        head.emplace_back("(" + std::to_string(c + 1) + ")");
    }
    block.cells.push_back(std::move(head));
    block.rules = {0};
    for (Eigen::Index i = 0; i < table->r.rows(); ++i) {
        CellRow row = {"(" + std::to_string(i + 1) + ") " + labels[static_cast<std::size_t>(i)]};
        CellRow below = {""};
        for (Eigen::Index j = 0; j < table->r.rows(); ++j) {
            const double r = table->r(i, j);
            row.push_back(j > i           ? Cell()
                          : j == i        ? Cell("1", 1.0)
                          : std::isnan(r) ? Cell("–")
                                          : Cell(fixedNumber(r, 3, true), r));
            below.push_back(j >= i || std::isnan(table->p(i, j))
                                ? Cell()
                                : Cell("(" + pText(table->p(i, j)) + ")", table->p(i, j)));
        }
        block.cells.push_back(std::move(row));
        if (i > 0) {
            block.cells.push_back(std::move(below));
        }
    }
    in.sheet.tableCaption(in.sheet.word("Correlations"));
    in.sheet.add(std::move(block));
    in.sheet.put(Kind::Note,
                 "Pearson correlations, p in parentheses, two-sided; each pair by the rows of the "
                 "sample that have both.",
                 "note");
}

}  // namespace rapporto
