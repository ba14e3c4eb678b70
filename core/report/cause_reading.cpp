// Words about instruments and panels.
#include "core/report/cause_reading.h"

#include "core/base/format.h"
#include "core/model/panel.h"

#include <cmath>

namespace rapporto {

std::vector<std::string> stageReading(const Answer& answer, const FirstStage& stage, bool reduced) {
    std::vector<std::string> out;
    if (!stage.f) {
        return {"The errors leave no joint test of the instruments."};
    }
    const FTest& f = *stage.f;
    out.push_back(
        (reduced ? "Together the instruments tell " + answer.design->outcome + " apart with **F("
                 : "Together the instruments move " + stage.endogenous + " with **F(") +
        shortNumber(f.df1) + ", " + (std::isfinite(f.df2) ? shortNumber(f.df2) : "∞") +
        ") = " + shortNumber(f.value, 3) + "** (" + pClause(f.p) + ", errors " +
        answer.question.errors.shown() + "); they account for **" +
        fixedNumber(100.0 * stage.partialRSquared, 1) +
        " %** of what the other terms leave of it.");
    if (reduced) {
        out.emplace_back(
            "Where the instruments say nothing about the outcome, they say nothing about an effect "
            "either, however strong they are.");
    }
    return out;
}

std::shared_ptr<const Answer> stageAnswer(const Answer& answer, const FirstStage& stage) {
    auto design = std::make_shared<Design>(sameRows(*answer.design));
    design->outcome = stage.endogenous;
    design->terms = answer.design->terms;
    design->terms.insert(design->terms.end(), answer.design->instrumentTerms.begin(),
                         answer.design->instrumentTerms.end());
    const auto own = static_cast<int>(answer.design->terms.size());
    std::vector<Eigen::Index> order;
    for (const bool excluded : {true, false}) {
        for (std::size_t j = 0; j < stage.coefficients.size(); ++j) {
            if ((stage.coefficients[j].designTerm >= own) == excluded) {
                order.push_back(static_cast<Eigen::Index>(j));
            }
        }
    }
    auto fit = std::make_shared<Fit>();
    for (const Eigen::Index j : order) {
        fit->coefficients.push_back(stage.coefficients[static_cast<std::size_t>(j)]);
    }
    fit->covariance = stage.covariance(order, order);
    auto out = std::make_shared<Answer>();
    out->question = answer.question;
    out->alpha = answer.alpha;
    out->rows = answer.rows;
    out->design = std::move(design);
    out->fit = std::move(fit);
    return out;
}

std::string methodReading(const Answer& answer) {
    const Fit& fit = *answer.fit;
    std::string text;
    if (fit.instrumented) {
        const InstrumentedFit& told = *fit.instrumented;
        for (const FirstStage& stage : told.firstStages) {
            if (stage.f) {
                text += " The instruments move " + stage.endogenous + " with F(" +
                        shortNumber(stage.f->df1) + ", " + shortNumber(stage.f->df2) +
                        ") = " + shortNumber(stage.f->value, 3) + ", " +
                        fixedNumber(100.0 * stage.partialRSquared, 1) +
                        " % of what the other terms leave of it.";
            }
        }
        for (const DroppedTerm& d : told.idle) {
            text += " The instrument " + d.name + " was left out: it " + d.reason + ".";
        }
    }
    if (fit.panel) {
        const PanelFit& panel = *fit.panel;
        text += " There are " + plural(static_cast<std::size_t>(panel.units), "unit", "units") +
                " with " + fixedNumber(panel.meanRows, 1) + " rows on average" +
                (panel.pairs > 0 ? "; " + plural(panel.pairs, "change", "changes") +
                                       " from one moment to the next"
                                 : std::string()) +
                ".";
        if (panel.sigmaUnit && *panel.sigmaUnit + *panel.sigmaRest > 0.0) {
            const double between = *panel.sigmaUnit * *panel.sigmaUnit;
            const double share = between / (between + *panel.sigmaRest * *panel.sigmaRest);
            text += " Of what the terms leave, " + fixedNumber(100.0 * share, 0) +
                    " % of the variance is between units.";
        }
    }
    for (const std::string& note : fit.notes) {
        text += fit.panel || fit.instrumented ? " " + note : std::string();
    }
    return text;
}

}  // namespace rapporto
