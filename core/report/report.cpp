#include "core/report/report.h"

#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/quantile.h"
#include "core/report/assumptions.h"
#include "core/report/lens.h"
#include "core/report/wording.h"
#include "core/study/question_kind.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

class ReportBuilder {
  public:
    ReportBuilder(const Study& study, const AnswersById& answers)
        : study_(study), answers_(answers) {}

    std::vector<ReportBlock> build() {
        const auto items = reportItems(study_);
        for (std::size_t i = 0; i < items.size(); ++i) {
            auto& blocks = sheet_.blocks();
            const std::size_t from = blocks.size();
            add(items[i]);
            for (std::size_t b = from; b < blocks.size(); ++b) {
                blocks[b].item = static_cast<int>(i);
            }
        }
        return std::move(sheet_.blocks());
    }

  private:
    void put(Kind kind, std::string text) { sheet_.put(kind, std::move(text)); }

    /// The answers an item speaks of; refused ones leave a note instead.
    std::vector<const Answer*> answersOf(const ReportItem& item) {
        std::vector<std::string> ids = item.questions;
        if (ids.empty() && study_.lead() != nullptr) {
            ids.push_back(study_.lead()->id);
        }
        std::vector<const Answer*> found;
        for (const auto& id : ids) {
            const auto at = answers_.find(id);
            if (at == answers_.end()) {
                put(Kind::Note, "Question " + id + " is not computed yet.");
            } else if (at->second->refusal) {
                put(Kind::Note, questionTitle(*at->second) + ": " + at->second->refusal->text());
            } else if (const QuestionKind* kind = findKind(at->second->question.kind);
                       kind != nullptr && kind->report != nullptr) {
                kind->report(sheet_, *at->second, item.item);
            } else {
                found.push_back(at->second);
            }
        }
        return found;
    }

    void add(const ReportItem& item) {
        if (item.item == "trail") {
            addTrail();
            return;
        }
        if (item.item == "assumptions") {
            addAssumptions(item);
            return;
        }
        const auto found = answersOf(item);
        if (found.empty()) {
            return;
        }
        if (item.item == "reading") {
            addReading(found);
        } else if (item.item == "table") {
            addTable(found);
        } else if (item.item == "equation") {
            for (const Answer* a : found) {
                put(Kind::Equation, equationText(*a));
            }
        } else if (item.item == "lenses") {
            addLenses(found);
        } else if (item.item == "checks") {
            for (const Answer* a : found) {
                addChecks(*a);
            }
        } else if (item.item == "methods") {
            put(Kind::Heading, "Methods");
            for (const Answer* a : found) {
                put(Kind::Paragraph, (found.size() > 1 ? "**" + questionTitle(*a) + ".** " : "") +
                                         methodsReading(*a));
            }
        } else {
            put(Kind::Note, "An item of kind ‘" + item.item + "’ is not known to this version.");
        }
    }

    void addReading(const std::vector<const Answer*>& found) {
        for (const Answer* a : found) {
            std::string text = found.size() > 1 ? "**" + questionTitle(*a) + ".** " : "";
            for (std::size_t c = 0; c < a->fit->coefficients.size(); ++c) {
                if (a->fit->coefficients[c].designTerm >= 0) {
                    // Cautions about the data stand before the effect here, too.
                    for (const std::string& words : effectReading(*a, c)) {
                        const bool caution = words.starts_with("~");
                        text += (caution ? words.substr(1) : words) + " ";
                        if (!caution) {
                            break;
                        }
                    }
                    break;
                }
            }
            put(Kind::Paragraph, text + answerReading(*a));
        }
    }

    void addTable(const std::vector<const Answer*>& found) {
        std::string outcome = found.front()->design->outcome;
        for (const Answer* a : found) {
            outcome = a->design->outcome == outcome ? outcome : "";
        }
        put(Kind::Caption,
            fmt::format("**Table {}.** {}", sheet_.nextTable(),
                        outcome.empty() ? study_.title : "What goes with " + outcome));
        sheet_.add(comparisonTable(study_, found));
        std::string note = "Standard errors in parentheses";
        for (const Answer* a : found) {
            note +=
                (a == found.front() ? ": " : "; ") +
                (found.size() > 1 ? "(" +
                                        std::to_string(std::find(found.begin(), found.end(), a) -
                                                       found.begin() + 1) +
                                        ") "
                                  : std::string()) +
                a->question.errors.shown() +
                (a->fit->errorNote.empty() ? "" : ", " + a->fit->errorNote);
        }
        put(Kind::Note, note + ".");
    }

    void addLenses(const std::vector<const Answer*>& found) {
        std::vector<std::string> names;
        std::vector<const Coefficient*> effects;
        const Answer& first = *found.front();
        if (found.size() == 1) {
            // Terms in other units than the widest vanish on one axis: the standardised order
            // helps.
            for (const Coefficient& c : first.fit->coefficients) {
                if (c.designTerm >= 0) {
                    names.push_back(c.term);
                    effects.push_back(&c);
                }
            }
        } else {
            const auto own = comparedEffects(*first.fit);
            for (const Answer* a : found) {
                const Coefficient* c =
                    own.empty() ? nullptr : effectIn(comparedEffects(*a->fit), own.front().row);
                if (c != nullptr && a->design->outcome == first.design->outcome &&
                    effectsIn(*a->fit) == effectsIn(*first.fit)) {
                    names.push_back(questionTitle(*a));
                    effects.push_back(c);
                }
            }
        }
        if (effects.empty()) {
            return;
        }
        put(Kind::Caption,
            fmt::format("**Figure {}.** {}", sheet_.nextFigure(),
                        found.size() == 1
                            ? "The effects in " + questionTitle(first)
                            : "The effect of " + effects.front()->term + " by specification"));
        ReportBlock figure;
        figure.kind = Kind::Figure;
        figure.svg = lensFigure(names, effects, 560.0);
        figure.text = "Effects with their intervals";
        sheet_.add(std::move(figure));
        put(Kind::Note, "A lens is as tall at any value as that value’s p; bars end at " +
                            shortNumber(100.0 * (1.0 - study_.alpha), 3) + " %.");
    }

    void addChecks(const Answer& a) {
        put(Kind::Heading, "What was checked in " + questionTitle(a));
        for (const CheckResult& c : a.checks) {
            if (c.verdict == Verdict::NotApplicable) {
                continue;
            }
            const Check* check = findCheck(c.id);
            put(Kind::Paragraph, verdictMark(c.verdict) + " **" +
                                     (check == nullptr ? c.id : check->name) + "**, " +
                                     verdictName(c.verdict) + ". " + c.reading);
        }
    }

    /// The ledger: of the questions named, or of all.
    void addAssumptions(const ReportItem& item) {
        std::vector<const Answer*> all;
        for (const auto& [id, answer] : answers_) {
            all.push_back(answer);
        }
        auto rows = assumptionLedger(study_, all);
        std::erase_if(rows, [&](const AssumptionRow& row) {
            return row.state == AssumptionRow::State::Unasked ||
                   (!item.questions.empty() &&
                    std::find(item.questions.begin(), item.questions.end(), row.question) ==
                        item.questions.end());
        });
        if (rows.empty()) {
            return;
        }
        put(Kind::Caption, "Assumptions, their evidence and what was done");
        ReportBlock block;
        block.kind = Kind::Table;
        block.cells.push_back({"question", "assumption", "evidence", "what was done"});
        for (const AssumptionRow& row : rows) {
            const bool fine = row.state == AssumptionRow::State::Fine;
            block.cells.push_back({row.title, row.group, fine ? "nothing against it" : row.evidence,
                                   row.state != AssumptionRow::State::Open ? row.done
                                   : row.done.empty()                      ? "open"
                                                      : row.done + "; the rest open"});
        }
        block.rules = {0};
        sheet_.add(std::move(block));
        if (const std::size_t open = openDoubts(rows); open > 0) {
            put(Kind::Note, plural(open, "doubt is", "doubts are") +
                                " open: nobody has said why it does not matter, and no variant is "
                                "free of it.");
        }
    }

    void addTrail() {
        put(Kind::Heading, "What was done");
        for (const TrailStep& step : study_.trail) {
            put(Kind::Paragraph, step.at + " · " + step.did);
        }
    }

    const Study& study_;
    const AnswersById& answers_;
    ReportSheet sheet_;
};

}  // namespace

std::string questionTitle(const Answer& answer) {
    return answer.question.title.empty() ? answer.question.id : answer.question.title;
}

std::string escapedText(const std::string& text) {
    std::string out;
    for (const char c : text) {
        switch (c) {
            case '&':
                out += "&amp;";
                break;
            case '<':
                out += "&lt;";
                break;
            case '>':
                out += "&gt;";
                break;
            case '"':
                out += "&quot;";
                break;
            default:
                out += c;
        }
    }
    return out;
}

std::vector<ReportItem> reportItems(const Study& study) {
    if (!study.report.empty()) {
        return study.report;
    }
    const Question* lead = study.lead();
    if (lead == nullptr) {
        return {};
    }
    std::vector<std::string> all;
    for (const Question* q : study.family(lead->id)) {
        all.push_back(q->id);
    }
    std::vector<ReportItem> items = {{"reading", {lead->id}}, {"table", all}};
    items.push_back({"lenses", {lead->id}});
    items.push_back({"equation", {lead->id}});
    items.push_back({"checks", {lead->id}});
    items.push_back({"assumptions", {lead->id}});
    items.push_back({"methods", {lead->id}});
    return items;
}

std::vector<ReportBlock> buildReport(const Study& study, const AnswersById& answers) {
    return ReportBuilder(study, answers).build();
}

ReportBlock comparisonTable(const Study& study, const std::vector<const Answer*>& answers) {
    (void)study;
    ReportBlock block;
    block.kind = Kind::Table;
    std::vector<std::string> head = {""};
    for (std::size_t a = 0; a < answers.size(); ++a) {
        head.push_back((answers.size() > 1 ? "(" + std::to_string(a + 1) + ") " : "") +
                       questionTitle(*answers[a]));
    }
    block.cells.push_back(head);
    block.rules.push_back(0);
    std::vector<std::vector<ComparedEffect>> fits;
    for (const Answer* a : answers) {
        fits.push_back(comparedEffects(*a));
    }
    const auto put = [&](const std::string& name, const auto& inColumn) {
        std::vector<std::string> estimates = {name};
        std::vector<std::string> errors = {""};
        bool any = false;
        for (std::size_t a = 0; a < answers.size(); ++a) {
            const Coefficient* c = inColumn(a);
            any = any || c != nullptr;
            estimates.push_back(c != nullptr ? fixedNumber(c->estimate, decimalsFor(c->se), true)
                                             : "");
            errors.push_back(c != nullptr ? "(" + fixedNumber(c->se, decimalsFor(c->se), true) + ")"
                                          : "");
        }
        if (any) {
            block.cells.push_back(estimates);
            block.cells.push_back(errors);
        }
    };
    for (const ComparedRow& row : comparedRows(fits)) {
        put(row.text(), [&](std::size_t a) { return effectIn(fits[a], row); });
    }
    put("Constant", [&](std::size_t a) -> const Coefficient* {
        if (!answers[a]->fit) {
            return nullptr;
        }
        const auto& list = answers[a]->fit->coefficients;
        const bool alone = std::all_of(list.begin(), list.end(), [&](const Coefficient& c) {
            return c.equation == list.front().equation;
        });
        const auto c = std::find_if(list.begin(), list.end(), [&](const Coefficient& x) {
            return x.term == "(constant)" && (alone || x.equation == "main");
        });
        return c == list.end() ? nullptr : &*c;
    });
    block.rules.push_back(block.cells.size() - 1);
    const auto row = [&](const std::string& name, auto value) {
        std::vector<std::string> cells = {name};
        for (const Answer* a : answers) {
            cells.push_back(a->fit ? value(*a) : std::string());
        }
        block.cells.push_back(cells);
    };
    row("Outcome", [](const Answer& a) { return a.design->outcome; });
    std::set<std::string> scales;
    for (const Answer* a : answers) {
        a->fit ? static_cast<void>(scales.insert(effectsIn(*a->fit))) : void();
    }
    if (scales.size() > 1) {
        row("Effects in", [](const Answer& a) { return effectsIn(*a.fit); });
    }
    row("Rows", [](const Answer& a) { return countText(a.rows.used); });
    row("R²", [](const Answer& a) {
        const auto& r = a.fit->statistics.rSquared;
        return r ? fixedNumber(*r, 3, true) : std::string();
    });
    row("σ", [](const Answer& a) {
        const double sigma = a.fit->statistics.sigma;
        return std::isfinite(sigma) ? shortNumber(sigma, 3) : std::string("–");
    });
    return block;
}

namespace {

/// What the terms add up to: the outcome itself, or a curve of its mean.
std::string leftSide(const Answer& answer, const std::string& equation) {
    const std::string& y = answer.design->outcome;
    if (answer.fit->quantile) {
        return equation + " of " + y;
    }
    if (!answer.fit->likelihood) {
        return y;
    }
    const LikelihoodFit& told = *answer.fit->likelihood;
    const auto& levels = answer.design->levelNames;
    if (equation == "zero") {
        return told.family == "hurdle" ? "ln odds of any " + y : "ln odds of none ever";
    }
    if (equation == "spread" || equation == "correlation" || equation == "dispersion") {
        return equation;
    }
    if (equation == "seen") {
        return "Φ⁻¹ of P(" + y + " is seen)";
    }
    if (equation == "first") {
        return "the term that is moved";
    }
    if (equation.starts_with("to ")) {
        return "ln odds of " + equation.substr(3) + " against " + levels.front();
    }
    return told.outcome == "count"               ? "ln mean of " + y
           : told.family == "probit"             ? "Φ⁻¹ of P(" + y + ")"
           : told.family == "cloglog"            ? "ln −ln of 1 − P(" + y + ")"
           : told.outcome == "ordered"           ? "cut less index of " + y
           : told.family == "probit-instruments" ? "Φ⁻¹ of P(" + y + ")"
           : told.family == "heckman"            ? y + ", seen or not"
           : told.family == "interval"           ? y + " between its ends"
           : told.family == "tobit"              ? y + " before it is cut off"
                                                 : "ln odds of " + y;
}

}  // namespace

std::string equationText(const Answer& answer) {
    if (!answer.fit) {
        return {};
    }
    // Fits by likelihood and quantiles leave no e, and may have several equations.
    const bool several = answer.fit->likelihood || answer.fit->quantile;
    std::string text;
    std::string equation;
    bool first = true;
    for (const Coefficient& c : answer.fit->coefficients) {
        if (text.empty() || c.equation != equation) {
            if (c.equation == "dispersion" || c.equation == "spread") {
                text += "; " + c.term + " = ";
            } else if (c.equation == "cut") {
                text += equation == "cut" ? "" : "; cuts";
            } else {
                text += (text.empty() ? "" : "; ") + leftSide(answer, c.equation) + " =";
            }
            equation = c.equation;
            first = true;
        }
        const int decimals = decimalsFor(c.se);
        const std::string size = fixedNumber(std::abs(c.estimate), decimals, true);
        const bool list = c.equation == "cut";
        text += list    ? (c.estimate < 0.0 ? " −" : " ")
                : first ? (c.estimate < 0.0 ? " −" : " ")
                        : (c.estimate < 0.0 ? " − " : " + ");
        const bool named =
            c.designTerm >= 0 ||
            ((c.equation == "zero" || c.equation == "seen" || c.equation == "first") &&
             c.term != "(constant)") ||
            (c.equation.starts_with("to ") && c.term != "(constant)");
        text += size + " (" + fixedNumber(c.se, decimals, true) + ")" + (named ? " " + c.term : "");
        first = false;
    }
    return several ? text : text + " + e";
}

std::string lensFigure(const std::vector<std::string>& names,
                       const std::vector<const Coefficient*>& effects, double width) {
    const double rowHeight = 30.0;
    const double left = 150.0;
    const double right = width - 90.0;
    const double height = rowHeight * static_cast<double>(effects.size()) + 26.0;
    double low = 0.0;
    double high = 0.0;
    for (const Coefficient* c : effects) {
        low = std::min(low, c->low);
        high = std::max(high, c->high);
    }
    const double margin = (high - low) * 0.06;
    low -= margin;
    high += margin;
    const auto at = [&](double v) {
        return left + (std::clamp(v, low, high) - low) / (high - low) * (right - left);
    };
    std::string svg = fmt::format(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0:.0f}\" height=\"{1:.0f}\" "
        "viewBox=\"0 0 {0:.0f} {1:.0f}\" font-family=\"STIX, serif\" font-size=\"13\">",
        width, height);
    svg += fmt::format(
        "<line x1=\"{0:.1f}\" x2=\"{0:.1f}\" y1=\"2\" y2=\"{1:.1f}\" stroke=\"#6B6F7B\"/>", at(0.0),
        height - 20.0);
    for (std::size_t i = 0; i < effects.size(); ++i) {
        const Coefficient& c = *effects[i];
        const double middle = rowHeight * (static_cast<double>(i) + 0.5) + 2.0;
        std::string upper;
        std::string lower;
        for (const LensPoint& p : lensOutline(c, 40)) {
            upper += fmt::format("{:.1f},{:.1f} ", at(p.value), middle - 11.0 * p.p);
            lower = fmt::format("{:.1f},{:.1f} ", at(p.value), middle + 11.0 * p.p) + lower;
        }
        svg += "<polygon points=\"" + upper + lower + "\" fill=\"#35527D\" fill-opacity=\".22\"/>";
        svg += fmt::format(
            "<g stroke=\"#35527D\"><line x1=\"{:.1f}\" x2=\"{:.1f}\" y1=\"{:.1f}\" y2=\"{:.1f}\" "
            "stroke-width=\"1.6\"/>",
            at(c.low), at(c.high), middle, middle);
        for (const double end : {c.low, c.high}) {
            svg += fmt::format(
                "<line x1=\"{0:.1f}\" x2=\"{0:.1f}\" y1=\"{1:.1f}\" y2=\"{2:.1f}\" "
                "stroke-width=\"1.6\"/>",
                at(end), middle - 4.0, middle + 4.0);
        }
        svg += fmt::format(
            "<line x1=\"{0:.1f}\" x2=\"{0:.1f}\" y1=\"{1:.1f}\" y2=\"{2:.1f}\" "
            "stroke-width=\"3\"/></g>",
            at(c.estimate), middle - 7.0, middle + 7.0);
        svg += fmt::format("<text x=\"0\" y=\"{:.1f}\" fill=\"#232733\">{}</text>", middle + 4.0,
                           escapedText(names[i]));
        svg += fmt::format(
            "<text x=\"{:.1f}\" y=\"{:.1f}\" text-anchor=\"end\" fill=\"#232733\">{}</text>", width,
            middle + 4.0, fixedNumber(c.estimate, decimalsFor(c.se), true));
    }
    svg += fmt::format(
        "<text x=\"{:.1f}\" y=\"{:.1f}\" text-anchor=\"middle\" fill=\"#6B6F7B\">0</text></svg>",
        at(0.0), height - 6.0);
    return svg;
}

std::string htmlText(const std::string& marked) {
    const std::string safe = escapedText(marked);
    std::string out;
    bool bold = false;
    for (std::size_t i = 0; i < safe.size(); ++i) {
        if (safe.compare(i, 2, "**") == 0) {
            out += bold ? "</b>" : "<b>";
            bold = !bold;
            ++i;
        } else {
            out += safe[i];
        }
    }
    return out;
}

}  // namespace rapporto
