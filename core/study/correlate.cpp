#include "core/study/correlate.h"

#include "core/left/left_correlate.h"
#include "core/report/correlate_wording.h"
#include "core/study/question_codec.h"
#include "core/study/results.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// A variable or expression as numbers; groups without an order have none.
Result<RelatedColumn> relatedColumn(const Frame& frame, const std::string& text) {
    const auto parsed = Expression::parse(text);
    const auto value = frame.evaluateText(text);
    if (!value) {
        return tl::make_unexpected(value.error());
    }
    const Variable* v = parsed && parsed->isName() ? frame.variable(parsed->root().text) : nullptr;
    RelatedColumn out{v != nullptr ? v->name : parsed->canonical(), {}};
    const Measure measure = v != nullptr             ? v->measure
                            : value->column.isText() ? Measure::Groups
                                                     : value->measure.value_or(Measure::Quantity);
    if (measure == Measure::OrderedGroups && v != nullptr) {
        const auto levels = levelsOf(value->column, *v);
        out.cells.assign(value->column.size(), std::nan(""));
        for (std::size_t k = 0; k < levels.size(); ++k) {
            for (std::size_t i = 0; i < out.cells.size(); ++i) {
                const double code = value->column.isText()
                                        ? static_cast<double>(value->column.codes()[i])
                                        : value->column.numbers()[i];
                out.cells[i] = code == levels[k].code ? static_cast<double>(k + 1) : out.cells[i];
            }
        }
        return out;
    }
    if (value->column.isText() || measure == Measure::Groups || measure == Measure::Text) {
        return refuse(ErrorCode::WrongType,
                      "‘" + out.name + "’ has no order: a correlation would say nothing", "",
                      "Correlate numbers, yes–no or ordered groups; or explain a number with it.",
                      {out.name});
    }
    out.cells.assign(value->column.numbers().begin(), value->column.numbers().end());
    return out;
}

/// The rows that count, and where the others went.
Result<std::vector<bool>> rowsFor(const Frame& frame, const Question& question, RowCounts& counts) {
    counts.source = frame.rows();
    counts.setAside = frame.count(RowState::SetAside);
    counts.byRule = frame.count(RowState::ByRule);
    std::vector<bool> use(frame.rows());
    for (std::size_t i = 0; i < use.size(); ++i) {
        use[i] = frame.states()[i] == RowState::In;
    }
    if (!question.where.empty()) {
        const auto rule = frame.evaluateText(question.where);
        if (!rule) {
            return tl::make_unexpected(rule.error());
        }
        if (rule->column.isText()) {
            return refuse(ErrorCode::WrongType, "the rule is a text, not a condition",
                          question.where, "Write a comparison.");
        }
        for (std::size_t i = 0; i < use.size(); ++i) {
            const double holds = rule->column.numbers()[i];
            if (use[i] && (std::isnan(holds) || holds == 0.0)) {
                use[i] = false;
                ++counts.byRule;
            }
        }
    }
    for (const std::size_t row : question.without) {
        if (row >= 1 && row <= use.size() && use[row - 1]) {
            use[row - 1] = false;
            ++counts.setAside;
        }
    }
    counts.inSample = static_cast<std::size_t>(std::count(use.begin(), use.end(), true));
    return use;
}

/// Rows with everything listwise; pairwise, with what is held and two of the variables.
void countUsed(const std::vector<RelatedColumn>& columns, const std::vector<RelatedColumn>& holding,
               const std::vector<bool>& use, bool listwise, RowCounts& counts) {
    const std::size_t enough = listwise ? columns.size() : 2;
    std::vector<std::size_t> lacks(columns.size() + holding.size(), 0);
    std::vector<std::size_t> alone = lacks;  // Pairwise no variable by itself takes a row away.
    for (std::size_t i = 0; i < use.size(); ++i) {
        if (!use[i]) {
            continue;
        }
        std::size_t there = 0;
        bool held = true;
        std::vector<std::size_t> missing;
        for (std::size_t j = 0; j < columns.size(); ++j) {
            if (std::isnan(columns[j].cells[i])) {
                missing.push_back(j);
            } else {
                ++there;
            }
        }
        for (std::size_t j = 0; j < holding.size(); ++j) {
            if (std::isnan(holding[j].cells[i])) {
                missing.push_back(columns.size() + j);
                held = false;
            }
        }
        for (const std::size_t j : missing) {
            ++lacks[j];
        }
        if (listwise && missing.size() == 1) {
            ++alone[missing.front()];
        }
        counts.used += held && there >= enough ? 1U : 0U;
    }
    counts.missing = counts.inSample - counts.used;
    for (std::size_t j = 0; j < lacks.size(); ++j) {
        if (lacks[j] > 0) {
            counts.missingBy.push_back(
                {j < columns.size() ? columns[j].name : holding[j - columns.size()].name, lacks[j],
                 alone[j]});
        }
    }
    std::stable_sort(
        counts.missingBy.begin(), counts.missingBy.end(),
        [](const RowCounts::Lack& a, const RowCounts::Lack& b) { return a.rows > b.rows; });
}

/// A variable says nothing of itself.
Result<void> namedOnce(const Question& question) {
    for (std::size_t a = 0; a < question.variables.size(); ++a) {
        const auto twice = std::find(question.variables.begin(),
                                     question.variables.begin() + static_cast<std::ptrdiff_t>(a),
                                     question.variables[a]);
        const bool held = std::find(question.holding.begin(), question.holding.end(),
                                    question.variables[a]) != question.holding.end();
        if (held || twice != question.variables.begin() + static_cast<std::ptrdiff_t>(a)) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + question.variables[a] + "’ is named twice" +
                              (held ? ", once among what is held" : ""),
                          "", "Take one of them out.", {question.variables[a]});
        }
    }
    return {};
}

Result<CorrelationTable> correlated(const Frame& frame, const Question& question,
                                    const CorrelationSettings& settings, RowCounts& counts,
                                    const Job& job) {
    if (frame.moments() != nullptr) {
        if (!question.where.empty() || !question.without.empty()) {
            return refuse(ErrorCode::BadSetting, "a rule needs rows, and the source is a summary",
                          "", "Take it out.");
        }
        counts.source = counts.inSample = counts.used =
            static_cast<std::size_t>(frame.moments()->n);
        return correlateSummary(*frame.moments(), question.variables, question.holding, settings);
    }
    if (frame.ruleRefusal()) {
        return tl::make_unexpected(*frame.ruleRefusal());
    }
    auto use = rowsFor(frame, question, counts);
    if (!use) {
        return tl::make_unexpected(use.error());
    }
    std::vector<RelatedColumn> columns;
    std::vector<RelatedColumn> holding;
    for (const auto& [list, into] :
         {std::pair{&question.variables, &columns}, std::pair{&question.holding, &holding}}) {
        for (const std::string& text : *list) {
            auto column = relatedColumn(frame, text);
            if (!column) {
                return tl::make_unexpected(column.error());
            }
            into->push_back(*std::move(column));
        }
    }
    if (columns.size() >= 2) {
        countUsed(columns, holding, *use, question.listwise, counts);
    }
    return correlate(columns, holding, *use, settings, job);
}

void readCorrelate(JsonReader& in, Question& q) {
    q.variables = in.texts("variables");
    q.holding = in.texts("holding");
    q.coefficient = in.text("coefficient", "pearson");
    q.sides = in.text("sides", "two");
    const std::string missing = in.text("missing", "pairwise");
    q.listwise = missing == "listwise";
    if (q.coefficient != "pearson" && q.coefficient != "spearman" && q.coefficient != "kendall") {
        in.fault("there is no coefficient ‘" + q.coefficient + "’",
                 "Coefficients are pearson, spearman and kendall.");
    }
    if (q.sides != "two" && q.sides != "greater" && q.sides != "less") {
        in.fault("‘sides’ is \"two\", \"greater\" or \"less\"");
    }
    if (missing != "pairwise" && missing != "listwise") {
        in.fault("‘missing’ is \"pairwise\" or \"listwise\"");
    }
}

void writeCorrelate(JsonWriter& out, const Question& q) {
    using Json = nlohmann::ordered_json;
    out.put("variables", q.variables, Json::array());
    out.put("holding", q.holding, Json::array());
    out.put("coefficient", q.coefficient, "pearson");
    out.put("sides", q.sides, "two");
    out.put("missing", q.listwise ? "listwise" : "pairwise", "pairwise");
    writeRows(out, q);
    writeChecks(out, q);
}

Result<void> answerCorrelate(Answer& answer, const Study& study, const Frame& frame,
                             const Making& making) {
    const Question& question = answer.question;
    CorrelationSettings settings;
    settings.kind = question.coefficient == "spearman"  ? CorrelationKind::Spearman
                    : question.coefficient == "kendall" ? CorrelationKind::Kendall
                                                        : CorrelationKind::Pearson;
    settings.sides = question.sides == "greater" ? Sides::Greater
                     : question.sides == "less"  ? Sides::Less
                                                 : Sides::Two;
    settings.listwise = question.listwise;
    settings.alpha = study.alpha;
    answer.rows = RowCounts{};
    if (auto once = namedOnce(question); !once) {
        return once;
    }
    auto table = frame.left() != nullptr
                     ? correlateLeft(answer, study, frame, settings, making.job)
                     : correlated(frame, question, settings, answer.rows, making.job);
    if (!table) {
        return tl::make_unexpected(table.error());
    }
    answer.correlations = std::make_shared<const CorrelationTable>(*std::move(table));
    return {};
}

}  // namespace

QuestionKind correlateKind() {
    return {"correlate",
            "correlate variables",
            {"variables", "holding", "coefficient", "sides", "missing"},
            readCorrelate,
            writeCorrelate,
            answerCorrelate,
            correlateResults,
            correlateSentence,
            correlateReading,
            nullptr,
            correlateReport};
}

}  // namespace rapporto
