// Items of the report that tell what was asked beside the fit: predictions, statements, effects.
#include "core/base/format.h"
#include "core/report/item_cells.h"
#include "core/report/left_out_wording.h"
#include "core/report/report_items.h"
#include "core/report/request_wording.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"
#include "core/study/model_comparison.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

std::string valuesText(const ScenarioValues& at) {
    std::string out;
    for (const auto& [name, value] : at) {
        out += (out.empty() ? "" : ", ") + name + " " + keyText(value);
    }
    return out.empty() ? "means and bases" : out;
}

void refusedPart(ReportSheet& sheet, const Answer& answer, const Refusal& refusal) {
    sheet.put(Kind::Note, questionTitle(answer) + ": " + refusal.text());
}

ReportBlock tableOf(CellRow head) {
    ReportBlock block;
    block.kind = Kind::Table;
    block.cells.push_back(std::move(head));
    block.rules = {0};
    return block;
}

void putPredictions(ReportSheet& sheet, const Answer& a) {
    const bool rows = std::any_of(a.predictions->begin(), a.predictions->end(),
                                  [](const Prediction& p) { return p.rowLow < p.rowHigh; });
    CellRow head = {"", sheet.word("prediction"), sheet.word("std. error"),
                    percentLevel(a.alpha) + " " + sheet.word("interval")};
    if (rows) {
        head.emplace_back(sheet.word("one row"));
    }
    ReportBlock block = tableOf(std::move(head));
    std::string warnings;
    for (const Prediction& p : *a.predictions) {
        CellRow row = {p.label.empty() ? valuesText(p.at) : p.label,
                       sizedCell(p.mean.value, p.mean.se), sizedCell(p.mean.se, p.mean.se),
                       endsText(sheet, p.mean.low, p.mean.high, p.mean.se)};
        if (rows) {
            row.emplace_back(endsText(sheet, p.rowLow, p.rowHigh, p.mean.se));
        }
        block.cells.push_back(std::move(row));
        if (p.original) {
            const double width = 0.25 * (p.original->high - p.original->low);
            CellRow own = {"\u2003in its own units", sizedCell(p.original->mean, width), Cell(),
                           endsText(sheet, p.original->low, p.original->high, width)};
            if (rows) {
                own.emplace_back(endsText(sheet, p.original->rowLow, p.original->rowHigh, width));
            }
            block.cells.push_back(std::move(own));
        }
        for (const std::string& warning : p.warnings) {
            warnings += " " + capitalised(warning) + (warning.ends_with('.') ? "" : ".");
        }
    }
    sheet.add(std::move(block));
    sheet.put(
        Kind::Note,
        "Errors " + a.question.errors.shown() +
            (rows ? "; of one row: where " + percentLevel(a.alpha) + " of such rows lie" : "") +
            "." + warnings,
        "note");
}

void putHypotheses(ReportSheet& sheet, const Answer& a) {
    ReportBlock block =
        tableOf({sheet.word("statement"), sheet.word("difference"), sheet.word("t or F"), "df", "p",
                 "p (Holm)", sheet.word("at") + " " + shortNumber(a.alpha, 2)});
    for (std::size_t i = 0; i < a.hypotheses.size(); ++i) {
        const auto& test = a.hypotheses[i];
        if (!test) {
            refusedPart(sheet, a, test.error());
            continue;
        }
        const std::string df =
            test->estimate
                ? (test->df2 ? shortNumber(*test->df2, 5) : "normal")
                : shortNumber(test->df1, 4) + (test->df2 ? ", " + shortNumber(*test->df2, 5) : "");
        block.cells.push_back(
            {test->text, test->estimate ? sizedCell(*test->estimate, *test->se) : Cell(),
             Cell(fixedNumber(test->statistic, 2), test->statistic), df,
             Cell(pText(test->p), test->p),
             test->adjusted ? Cell(pText(*test->adjusted), *test->adjusted) : Cell(),
             verdictOn(*test, a.alpha)});
    }
    if (block.cells.size() > 1) {
        sheet.add(std::move(block));
        sheet.put(Kind::Note,
                  "Wald tests, errors " + a.question.errors.shown() +
                      ". “Open” is no proof that a statement holds.",
                  "note");
    }
}

std::string effectName(const MarginalEffect& effect) {
    std::string name = effect.request.of + (effect.level.empty() ? "" : " = " + effect.level);
    name += effect.outcome.empty() ? "" : ", on " + effect.outcome;
    name += effect.request.elasticity ? ", elasticity" : "";
    name += effect.group.empty() ? "" : ", " + effect.request.over + " " + effect.group;
    if (effect.request.as == EffectRequest::As::At) {
        name += ", at " + valuesText(effect.request.at);
    } else if (effect.request.as == EffectRequest::As::AtMeans) {
        name += ", at means";
    }
    return name;
}

void putEffects(ReportSheet& sheet, const Answer& a) {
    ReportBlock block = tableOf({"", sheet.word("effect"), sheet.word("std. error"),
                                 percentLevel(a.alpha) + " " + sheet.word("interval"), "p"});
    bool contrasts = false;
    for (const auto& part : a.effects) {
        if (!part) {
            refusedPart(sheet, a, part.error());
            continue;
        }
        for (const MarginalEffect& effect : *part) {
            const Estimate& e = effect.effect;
            block.cells.push_back({effectName(effect), sizedCell(e.value, e.se),
                                   sizedCell(e.se, e.se), endsText(sheet, e.low, e.high, e.se),
                                   e.p ? Cell(pText(*e.p), *e.p) : Cell()});
            if (effect.contrast) {
                const Estimate& d = *effect.contrast;
                contrasts = true;
                block.cells.push_back({"\u2003" + sheet.word("less that of the first group"),
                                       sizedCell(d.value, d.se), sizedCell(d.se, d.se),
                                       endsText(sheet, d.low, d.high, d.se),
                                       d.p ? Cell(pText(*d.p), *d.p) : Cell()});
            }
        }
    }
    if (block.cells.size() > 1) {
        sheet.add(std::move(block));
        sheet.put(Kind::Note,
                  "Through every term that holds the variable; errors " +
                      a.question.errors.shown() + ", by the delta method" +
                      (contrasts ? "; differences with the covariance of both" : "") + ".",
                  "note");
    }
}

void putTurningPoints(ReportSheet& sheet, const Answer& a) {
    ReportBlock block = tableOf({"", sheet.word("turns at"), sheet.word("std. error"),
                                 percentLevel(a.alpha) + " " + sheet.word("set"),
                                 sheet.word("kind"), sheet.word("rows below")});
    for (const TurningPoint& point : a.turningPoints) {
        std::string set = sheet.word("the whole line");
        if (point.low && point.high) {
            set = (point.outside ? sheet.word("all but") + " " : std::string()) +
                  endsText(sheet, *point.low, *point.high, point.se);
        } else if (point.low || point.high) {
            set = point.low ? sheet.word("above") + " " + sizedCell(*point.low, point.se).text
                            : sheet.word("below") + " " + sizedCell(*point.high, point.se).text;
        }
        block.cells.push_back(
            {point.of, sizedCell(point.at, point.se), sizedCell(point.se, point.se), set,
             sheet.word(point.peak ? "peak" : "trough"),
             Cell(fixedNumber(100.0 * point.below, 0) + " %", 100.0 * point.below)});
    }
    sheet.add(std::move(block));
    sheet.put(Kind::Note, "Sets by Fieller (1954), standard errors by the delta method.", "note");
}

/// What a number says, as a point; cautions are part of it.
void sayPlainly(ReportSheet& sheet, const std::vector<std::string>& words) {
    std::string text;
    for (const std::string& one : words) {
        text += (text.empty() ? "" : " ") + (one.starts_with("~") ? one.substr(1) : one);
    }
    if (!text.empty()) {
        sheet.put(Kind::Bullet, text);
    }
}

}  // namespace

void addPredictions(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        if (!a->predictions) {
            refusedPart(in.sheet, *a, a->predictions.error());
        } else if (a->predictions->empty()) {
            in.sheet.put(Kind::Note, questionTitle(*a) +
                                         ": nothing is predicted yet. Ask under Model, Predict.");
        } else {
            in.sheet.tableCaption("Predictions of " +
                                  shownExpression(a->design->outcome, labelsOf(in.study)) + " by " +
                                  questionTitle(*a));
            putPredictions(in.sheet, *a);
            for (std::size_t i = 0; i < a->predictions->size(); ++i) {
                sayPlainly(in.sheet, predictionReading(*a, i));
            }
        }
    }
}

void addHypotheses(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        if (a->hypotheses.empty()) {
            in.sheet.put(Kind::Note, questionTitle(*a) + ": no statement is tested yet.");
        } else {
            in.sheet.tableCaption("Statements tested in " + questionTitle(*a));
            putHypotheses(in.sheet, *a);
            for (std::size_t i = 0; i < a->hypotheses.size(); ++i) {
                if (a->hypotheses[i]) {
                    sayPlainly(in.sheet, {hypothesisReading(*a, i)});
                }
            }
        }
    }
}

namespace {

/// Whom the item sets against whom: the first that it names against the others; one alone against
/// what it is a variant of, or its variants against it.
std::vector<std::pair<const Answer*, const Answer*>> pairsOf(const ItemInput& in) {
    std::vector<std::pair<const Answer*, const Answer*>> out;
    for (std::size_t k = 1; k < in.answers.size(); ++k) {
        out.emplace_back(in.answers.front(), in.answers[k]);
    }
    if (in.answers.size() != 1) {
        return out;
    }
    const Answer* alone = in.answers.front();
    const auto parent = in.all.find(alone->question.variantOf);
    if (parent != in.all.end() && parent->second != nullptr && parent->second->fit) {
        return {{parent->second, alone}};
    }
    for (const Question& q : in.study.questions) {
        const auto variant = in.all.find(q.id);
        if (q.variantOf == alone->question.id && variant != in.all.end() &&
            variant->second != nullptr && variant->second->fit) {
            out.emplace_back(alone, variant->second);
        }
    }
    return out;
}

/// The rows of the tests between two models; none where there is no such test.
std::vector<CellRow> testRows(const Answer& from, const Answer& to, const Job& job) {
    using TestKind = ModelComparison::Kind;
    const auto test = comparedModels(from, to, job);
    if (!test) {
        return {};
    }
    const std::string title = questionTitle(to);
    const auto row = [&](const std::string& name, double value, const std::string& df, double p) {
        return CellRow{title, name, Cell(fixedNumber(value, 2), value), df, Cell(pText(p), p)};
    };
    if (test->kind == TestKind::NonNested) {
        const std::string own = questionTitle(from);
        return {row("J, against " + own, test->first.t, "", test->first.p),
                row("J, against " + title, test->second.t, "", test->second.p),
                row("Cox, against " + own, test->first.n, "", test->first.pCox),
                row("Cox, against " + title, test->second.n, "", test->second.pCox)};
    }
    const std::string df = shortNumber(test->df1, 5);
    std::vector<CellRow> out;
    if (test->kind == TestKind::Nested) {
        out.push_back(row("F", test->statistic, df + ", " + shortNumber(test->df2.value_or(0.0), 5),
                          test->p));
    } else {
        out.push_back(row("likelihood ratio", test->statistic, df, test->p));
        if (test->score) {
            out.push_back(row("scores", *test->score, df, *test->scoreP));
        }
    }
    return out;
}

}  // namespace

void addComparison(const ItemInput& in) {
    const auto pairs = pairsOf(in);
    if (pairs.empty()) {
        in.sheet.put(Kind::Note,
                     "There is nothing to compare with: name two questions, or open a "
                     "variant of one.");
        return;
    }
    ReportBlock block = tableOf({"", in.sheet.word("test"), "", "df", "p"});
    for (const auto& [from, to] : pairs) {
        for (CellRow& row : testRows(*from, *to, in.job)) {
            block.cells.push_back(std::move(row));
        }
    }
    if (block.cells.size() > 1) {
        in.sheet.tableCaption("Models set against " + questionTitle(*pairs.front().first));
        in.sheet.add(std::move(block));
    }
    for (const auto& [from, to] : pairs) {
        std::vector<std::string> words = differenceReading(*from, *to);
        if (!words.empty()) {
            words.front() = "**" + questionTitle(*to) + "** against " + questionTitle(*from) +
                            ": " + words.front();
        }
        sayPlainly(in.sheet, words);
    }
}

void addEffects(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        if (a->effects.empty()) {
            in.sheet.put(Kind::Note, questionTitle(*a) + ": no effect is asked for yet.");
        } else {
            in.sheet.tableCaption("Effects on " +
                                  shownExpression(a->design->outcome, labelsOf(in.study)) + " in " +
                                  questionTitle(*a));
            putEffects(in.sheet, *a);
        }
    }
}

void addTurningPoints(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        if (a->turningPoints.empty()) {
            in.sheet.put(Kind::Note, questionTitle(*a) +
                                         ": no variable stands in it by itself and its square.");
        } else {
            in.sheet.tableCaption("Where effects turn in " + questionTitle(*a));
            putTurningPoints(in.sheet, *a);
            for (const TurningPoint& point : a->turningPoints) {
                sayPlainly(in.sheet, {turningReading(*a, point)});
            }
        }
    }
}

void addLeftOut(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        if (!a->leftOut) {
            in.sheet.put(Kind::Note, questionTitle(*a) +
                                         ": what may be left out is not asked. Choose an effect "
                                         "under Model and ask it there.");
            continue;
        }
        if (!*a->leftOut) {
            refusedPart(in.sheet, *a, a->leftOut->error());
            continue;
        }
        const LeftOut& found = **a->leftOut;
        if (!found.bounds.empty()) {
            in.sheet.tableCaption("What a cause left out would do to the effect of " + found.of +
                                  " in " + questionTitle(*a));
            ReportBlock block =
                tableOf({in.sheet.word("as strong as"), in.sheet.word("times"),
                         in.sheet.word("share of") + " " + found.of,
                         in.sheet.word("share of the outcome"), in.sheet.word("effect"),
                         percentLevel(a->alpha) + " " + in.sheet.word("interval")});
            for (const LeftOutBound& b : found.bounds) {
                block.cells.push_back(
                    {b.benchmark, Cell(shortNumber(b.multiple, 3), b.multiple),
                     Cell(fixedNumber(b.withTerm, 3, true), b.withTerm),
                     b.withOutcome > 0.0 ? Cell(fixedNumber(b.withOutcome, 3, true), b.withOutcome)
                                         : Cell("–"),
                     b.estimate ? sizedCell(*b.estimate, found.se) : Cell("–"),
                     b.low ? Cell(endsText(in.sheet, *b.low, *b.high, found.se)) : Cell(b.why)});
            }
            in.sheet.add(std::move(block));
            in.sheet.put(Kind::Note,
                         "Shares of what the other terms leave; Cinelli & Hazlett (2020).", "note");
        }
        for (const std::string& words : leftOutReading(*a)) {
            in.sheet.put(Kind::Paragraph, words.starts_with("~") ? words.substr(1) : words);
        }
    }
}

}  // namespace rapporto
