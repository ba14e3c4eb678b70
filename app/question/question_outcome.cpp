// Ways to estimate by the kind of the outcome, and what belongs to some of them alone: exposure,
// and what tells zeros or missing outcomes apart.
#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/flow_layout.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/model/outcome_models.h"
#include "core/report/wording.h"

#include <QPushButton>

#include <algorithm>
#include <cmath>

namespace rapporto::app {

namespace {

/// Quantities that are nowhere below the outcome and begin like it (wage_from, wage_to): they may
/// be its upper ends.
std::vector<std::string> upperEnds(const Question& q, const Frame* frame) {
    std::vector<std::string> out;
    const Column* low = frame != nullptr ? frame->column(q.outcome) : nullptr;
    if (low == nullptr || low->isText()) {
        return out;
    }
    const auto lower = low->numbers();
    for (const Variable& v : frame->table().variables) {
        const Column* high = frame->column(v.name);
        if (v.name == q.outcome || high->isText() || v.measure != Measure::Quantity) {
            continue;
        }
        const auto upper = high->numbers();
        std::size_t both = 0;
        std::size_t wider = 0;
        bool crossed = false;
        for (std::size_t i = 0; i < lower.size() && !crossed; ++i) {
            if (!std::isnan(lower[i]) && !std::isnan(upper[i])) {
                ++both;
                wider += upper[i] > lower[i] ? 1 : 0;
                crossed = upper[i] < lower[i];
            }
        }
        const auto alike =
            std::mismatch(v.name.begin(), v.name.end(), q.outcome.begin(), q.outcome.end()).first -
            v.name.begin();
        if (!crossed && both > 1 && wider > 0 && alike >= 3) {
            out.push_back(quotedName(v.name));
        }
    }
    return out;
}

}  // namespace

std::vector<FinderEntry> QuestionLine::outcomeMethods(
    const std::function<void(const std::string&, const EstimatorSettings&)>& put) const {
    std::vector<FinderEntry> entries;
    const auto add = [&](const QString& name, const QString& why, const std::string& method,
                         const EstimatorSettings& settings = {}) {
        entries.push_back({name, why, [put, method, settings] { put(method, settings); }});
    };
    const Question& q = *session_.question();
    const auto frame = session_.frame();
    const Variable* outcome = frame ? frame->variable(q.outcome) : nullptr;
    const Measure measure = outcome != nullptr ? outcome->measure : Measure::Quantity;
    const auto answer = session_.answer();
    const bool truth = answer && answer->design && answer->design->outcomeYesNo;
    if (measure == Measure::YesNo || truth || q.method == "logit" || q.method == "probit" ||
        q.method == "cloglog") {
        EstimatorSettings firth;
        firth.penalised = true;
        add(tr("logit"), tr("log odds of yes; effects as odds ratios"), "logit");
        add(tr("probit"), tr("a normal index behind the yes"), "probit");
        add(tr("complementary log-log"), tr("yes as the first of many chances"), "cloglog");
        if (q.fixedEffects.size() == 1 || session_.study().layout.kind == Layout::Kind::Panel) {
            add(tr("conditional logit"), tr("within units: who of a unit's rows says yes"),
                "conditional-logit");
        }
        add(tr("penalised logit (Firth)"), tr("finite where a term tells the answer"), "logit",
            firth);
    }
    if (measure == Measure::Count || isLikelihoodMethod(q.method)) {
        EstimatorSettings linear;
        linear.form = 1;
        EstimatorSettings spread;
        spread.count = "negative-binomial";
        add(tr("a Poisson count"), tr("the mean grows by a factor; robust errors for amounts"),
            "poisson");
        add(tr("a negative binomial count"), tr("spread beyond the mean"), "negative-binomial");
        add(tr("a negative binomial count (linear)"), tr("spread in proportion to the mean"),
            "negative-binomial", linear);
        add(tr("a count with two kinds of zeros"), tr("some rows never have any"), "zero-inflated");
        add(tr("a count with two kinds of zeros, negative binomial"), tr("with spread beyond"),
            "zero-inflated", spread);
        add(tr("a count behind a hurdle"), tr("whether any, and how many, apart"), "hurdle");
        add(tr("a count behind a hurdle, negative binomial"), tr("with spread beyond"), "hurdle",
            spread);
        add(tr("a count without zeros"), tr("none are in the rows"), "truncated");
    }
    if (measure == Measure::OrderedGroups) {
        add(tr("ordered logit"), tr("one effect on the odds of every higher level"),
            "ordered-logit");
        add(tr("ordered probit"), tr("a normal index behind the levels"), "ordered-probit");
    }
    if (measure == Measure::Groups || measure == Measure::OrderedGroups ||
        measure == Measure::Text) {
        add(tr("logit of several groups"), tr("each level against the first"), "multinomial-logit");
    }
    if (measure == Measure::Quantity || measure == Measure::Count) {
        EstimatorSettings several;
        several.at = {0.1, 0.25, 0.5, 0.75, 0.9};
        add(tr("the median"), tr("half above, half below; far rows weigh no more"), "quantile");
        add(tr("quantiles .1 to .9"), tr("the effect along the whole distribution"), "quantile",
            several);
        add(tr("Huber’s curve"), tr("rows far off count for less"), "huber");
        add(tr("the bisquare"), tr("rows very far off count for nothing"), "bisquare");
        add(tr("an MM-estimate"), tr("as sure as least squares, half of the rows may be odd"),
            "mm");
        const Column* column = frame ? frame->column(q.outcome) : nullptr;
        if ((column != nullptr && column->countMissing() > 0) || isSelection(q.method)) {
            EstimatorSettings seen;
            seen.zeroTerms =
                isSelection(q.method) ? q.settings.zeroTerms : std::vector<std::string>{};
            add(tr("an outcome that some rows lack"),
                tr("who is seen in an equation of its own, by likelihood"), "heckman", seen);
            add(tr("an outcome that some rows lack, in two steps"),
                tr("the same with less asked of the normal law"), "heckman-two-step", seen);
        }
        for (const std::string& upper : upperEnds(q, frame.get())) {
            EstimatorSettings ends;
            ends.variable = upper;
            add(tr("between it and %1").arg(text(upper)), tr("the outcome is a lower end"),
                "interval", ends);
        }
        if (answer && answer->design && answer->design->y.size() > 0) {
            const double least = answer->design->y.minCoeff();
            if ((answer->design->y.array() == least).count() > answer->design->y.size() / 50 &&
                answer->design->levelNames.empty()) {
                EstimatorSettings cut;
                cut.low = least;
                add(tr("tobit from %1").arg(text(shortNumber(least))),
                    tr("what lies below is seen as that"), "tobit", cut);
            }
            if (least >= 0.0 && answer->design->y.maxCoeff() <= 1.0 && !truth) {
                add(tr("logit of shares"), tr("an outcome between 0 and 1"), "fractional-logit");
            }
        }
    }
    return entries;
}

void QuestionLine::pickExposure(QWidget* by) {
    const auto put = [this](const QString& expression) {
        Question next = *session_.question();
        next.exposure = utf8(expression);
        session_.putQuestion(
            next, expression.isEmpty() ? tr("no exposure") : tr("per %1").arg(expression));
    };
    std::vector<FinderEntry> entries;
    if (!session_.question()->exposure.empty()) {
        entries.push_back({tr("none"), tr("every row counts alike"), [put] { put({}); }});
    }
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            if (!frame->column(v.name)->isText()) {
                const QString name = text(quotedName(v.name));
                entries.push_back({name, measureTag(v.measure) + "  " + text(v.label),
                                   [put, name] { put(name); }});
            }
        }
    }
    openFinder(by, tr("exposure: a number above zero"), std::move(entries), put);
}

void QuestionLine::buildZeroPart(const Question& q) {
    const bool selection = isSelection(q.method);
    if (!selection && q.method != "zero-inflated" && q.method != "hurdle") {
        return;
    }
    const auto& terms = q.settings.zeroTerms;
    addWord(first_,
            selection              ? tr("seen by")
            : q.method == "hurdle" ? tr("any at all by")
                                   : tr("never any by"),
            true);
    for (std::size_t k = 0; k < terms.size(); ++k) {
        auto* one = addChip(first_, termText(terms[k]), QString("zero:%1").arg(k));
        one->setToolTip(tr("Enter changes it · Delete takes it out"));
        connect(one, &QPushButton::clicked, this, [this, one] { pickZeroTerm(one); });
    }
    auto* more =
        addSlot(first_, terms.empty() ? tr("the same terms…") : tr("another…"), "slot:zero");
    more->setToolTip(selection ? tr("What decides whether the outcome is seen")
                               : tr("What tells zeros from counts"));
    connect(more, &QPushButton::clicked, this, [this, more] { pickZeroTerm(more); });
}

void QuestionLine::pickZeroTerm(QWidget* by) {
    const Question* q = session_.question();
    const QString chip = by->objectName();
    const auto put = [this, chip](const QString& expression) {
        Question next = *session_.question();
        auto& terms = next.settings.zeroTerms;
        if (chip.startsWith("zero:")) {
            terms[static_cast<std::size_t>(chip.section(':', 1).toInt())] = utf8(expression);
        } else {
            terms.push_back(utf8(expression));
        }
        session_.putQuestion(next, isSelection(next.method) ? tr("seen by %1").arg(expression)
                                                            : tr("zeros by %1").arg(expression));
    };
    std::vector<FinderEntry> entries;
    if (chip.startsWith("zero:")) {
        entries.push_back({tr("take it out"), tr("Delete"), [this, chip] { removeListed(chip); }});
    } else if (q->settings.zeroTerms.empty()) {
        entries.push_back({tr("the terms of the outcome"), tr("to add to and take from"), [this] {
                               Question next = *session_.question();
                               for (const Term& term : next.terms) {
                                   if (term.kind == Term::Kind::Expression && !term.muted) {
                                       next.settings.zeroTerms.push_back(term.parts.front());
                                   }
                               }
                               session_.putQuestion(next, tr("by the same terms"));
                           }});
    }
    const auto& has = q->settings.zeroTerms;
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            const std::string name = quotedName(v.name);
            if (name != q->outcome && std::find(has.begin(), has.end(), name) == has.end()) {
                entries.push_back({text(name), measureTag(v.measure) + "  " + text(v.label),
                                   [put, name] { put(text(name)); }});
            }
        }
    }
    openFinder(by,
               isSelection(q->method) ? tr("what decides whether the outcome is seen")
                                      : tr("what tells zeros from counts"),
               std::move(entries), put);
}

}  // namespace rapporto::app
