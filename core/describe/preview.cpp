#include "core/describe/preview.h"

#include "core/base/format.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

bool takesLogOf(const Node& node, const std::string& name) {
    const bool log = node.kind == Node::Kind::Call &&
                     (node.text == "ln" || node.text == "log10" || node.text == "growth");
    return (log && node.children.size() == 1 && node.children[0]->kind == Node::Kind::Name &&
            node.children[0]->text == name) ||
           std::any_of(node.children.begin(), node.children.end(),
                       [&](const auto& child) { return takesLogOf(*child, name); });
}

bool isLogged(const Frame& frame, const std::string& name) {
    const Variable* variable = frame.variable(name);
    if (variable == nullptr || variable->expression.empty()) {
        return false;
    }
    const auto parsed = Expression::parse(variable->expression);
    return parsed && parsed->root().kind == Node::Kind::Call &&
           (parsed->root().text == "ln" || parsed->root().text == "log10");
}

std::string shownCell(const Evaluated& value, std::size_t row) {
    Variable plain;
    plain.measure = value.measure.value_or(Measure::Quantity);
    plain.levels = value.levels;
    const bool number = !value.column.isText() && !value.column.isMissing(row) &&
                        plain.measure == Measure::Quantity;
    return number ? shortNumber(value.column.numbers()[row], 5)
                  : cellText(value.column, plain, row);
}

void addCautions(const Frame& frame, const Expression& expression, DerivedPreview& out) {
    for (const std::string& name : expression.names()) {
        if (takesLogOf(expression.root(), name) && isLogged(frame, name)) {
            out.cautions.push_back("‘" + name +
                                   "’ is a logarithm already: this takes a second one.");
        }
    }
    for (const Loss& loss : out.losses) {
        std::string choices;
        if (loss.cause.find("zero or less") != std::string::npos) {
            choices =
                " They drop out of every question that uses it. If zeros carry meaning, "
                "model the zero by itself or take a root instead of a logarithm.";
        }
        out.cautions.push_back(plural(loss.rows, "row has", "rows have") +
                               " no value: " + loss.cause + "." + choices);
    }
    for (std::size_t k = 0; k < out.levelCounts.size() && out.levels.size() <= 12; ++k) {
        if (out.levelCounts[k] * 200 < out.present && out.levels.size() > 1) {
            out.cautions.push_back("‘" + out.levels[k] + "’ holds only " +
                                   plural(out.levelCounts[k], "row", "rows") +
                                   ": an effect of it would rest on them.");
        }
    }
}

void addRows(const Frame& frame, const Evaluated& value, DerivedPreview& out) {
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < frame.rows() && rows.size() < 10; ++i) {
        rows.push_back(i);
    }
    // A lost row tells more than a tenth good one.
    for (std::size_t i = rows.size(); i < frame.rows() && !rows.empty(); ++i) {
        const bool lost =
            value.column.isMissing(i) &&
            std::none_of(out.fromNames.begin(), out.fromNames.end(),
                         [&](const auto& n) { return frame.column(n)->isMissing(i); });
        if (lost) {
            rows.back() = i;
            break;
        }
    }
    for (const std::size_t row : rows) {
        DerivedPreview::Row one{row, {}, shownCell(value, row)};
        for (const std::string& name : out.fromNames) {
            one.from.push_back(cellText(*frame.column(name), *frame.variable(name), row));
        }
        out.first.push_back(std::move(one));
    }
}

void addLevels(const Evaluated& value, DerivedPreview& out) {
    Variable plain;
    plain.levels = value.levels;
    if (!value.column.isText() && !value.isTruth) {
        return;
    }
    for (const FoundLevel& level : levelsOf(value.column, plain)) {
        const std::string truth = level.code == 1.0 ? "true" : "false";
        out.levels.push_back(value.isTruth ? truth : level.label);
        out.levelCounts.push_back(level.count);
    }
}

}  // namespace

DerivedPreview previewOf(const Frame& frame, const std::string& expression) {
    DerivedPreview out;
    out.expression = expression;
    out.rows = frame.rows();
    const auto value = frame.evaluateText(expression);
    if (!value) {
        out.refusal = value.error();
        return out;
    }
    const auto parsed = Expression::parse(expression);
    for (const std::string& name : parsed->names()) {
        out.fromNames.push_back(name);
    }
    out.missing = value->column.countMissing();
    out.present = out.rows - out.missing;
    out.losses = value->losses;
    out.isText = value->column.isText();
    std::vector<const Column*> from;
    for (const std::string& name : out.fromNames) {
        from.push_back(frame.column(name));
        if (out.sourceName.empty() && !from.back()->isText()) {
            out.sourceName = name;
            out.before = histogram(from.back()->numbers(), 24);
        }
    }
    for (std::size_t i = 0; i < out.rows; ++i) {
        out.freshMissing += value->column.isMissing(i) &&
                                    std::none_of(from.begin(), from.end(),
                                                 [i](const Column* c) { return c->isMissing(i); })
                                ? 1U
                                : 0U;
    }
    if (!out.isText && out.present > 0) {
        out.summary = summarise(value->column.numbers());
        out.after = histogram(value->column.numbers(), 24);
    }
    addLevels(*value, out);
    addCautions(frame, *parsed, out);
    addRows(frame, *value, out);
    return out;
}

std::vector<Proposal> proposalsFor(const Frame& frame, const std::string& name) {
    std::vector<Proposal> out;
    const Variable* variable = frame.variable(name);
    const Column* column = frame.column(name);
    if (variable == nullptr || column == nullptr) {
        return out;
    }
    const std::string x = quotedName(name);
    const bool groups = column->isText() || isGrouping(variable->measure);
    const bool quantity =
        !groups && (variable->measure == Measure::Quantity || variable->measure == Measure::Count);
    if (quantity) {
        out = {{"ln x", "ln_" + name, "ln(" + x + ")"},
               {"√x", "root_" + name, "sqrt(" + x + ")"},
               {"x²", "sq_" + name, "power(" + x + ", 2)"},
               {"1/x", "inv_" + name, "1 / " + x},
               {"standardised", "z_" + name, "standardise(" + x + ")"},
               {"centred", "c_" + name, "centre(" + x + ")"},
               {"tails drawn in", "w_" + name, "winsorise(" + x + ", 0.01, 0.99)"}};
        const Summary s = summarise(column->numbers());
        if (s.n > 0 && s.low < s.high) {
            out.push_back(
                {"bands at the quartiles", name + "_band",
                 "bands(" + x + ", " + exactNumber(s.lowerQuartile) +
                     (s.median > s.lowerQuartile ? ", " + exactNumber(s.median) : "") +
                     (s.upperQuartile > s.median ? ", " + exactNumber(s.upperQuartile) : "") +
                     ")"});
            const bool scale = s.low >= 0.0 && s.high <= 10.0 && s.low == std::floor(s.low) &&
                               s.high == std::floor(s.high);
            if (scale) {
                out.push_back({"scale turned round", name + "_r",
                               "reverse(" + x + ", " + exactNumber(s.low) + ", " +
                                   exactNumber(s.high) + ")"});
            }
        }
    }
    if (groups && variable->measure != Measure::Text) {
        for (const FoundLevel& level : levelsOf(*column, *variable)) {
            if (out.size() >= 12) {
                break;
            }
            std::string quoted;
            for (const char c : level.label) {
                quoted += c == '\'' ? "''" : std::string(1, c);
            }
            std::string plain = name + "_" + level.label;
            std::replace_if(
                plain.begin(), plain.end(),
                [](unsigned char c) { return c < 0x80 && std::isalnum(c) == 0; }, '_');
            out.push_back({"is " + level.label, plain, "indicator(" + x + ", '" + quoted + "')"});
        }
    }
    if (quantity && frame.layout().kind != Layout::Kind::CrossSection) {
        out.push_back({"one moment earlier", "lag_" + name, "lag(" + x + ")"});
        out.push_back({"change", "d_" + name, "change(" + x + ")"});
        out.push_back({"growth", "g_" + name, "growth(" + x + ")"});
    }
    return out;
}

}  // namespace rapporto
