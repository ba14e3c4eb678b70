// Words about instruments and panels.
#include "core/report/cause_reading.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/feasible_ar.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"
#include "core/numerics/distributions.h"

#include <cmath>

namespace rapporto {

std::vector<std::string> stageReading(const Answer& answer, const FirstStage& stage, bool reduced) {
    std::vector<std::string> out;
    if (!stage.f) {
        return {"The errors leave no joint test of the instruments."};
    }
    const FTest& f = *stage.f;
    out.push_back((reduced ? "Together the instruments tell " + shownNames(answer.design->outcome) +
                                 " apart with **F("
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

std::string outcomeReading(const Answer& answer) {
    const Fit& fit = *answer.fit;
    const std::string rows = plural(answer.rows.used, "row", "rows");
    const std::string& outcome = answer.design->outcome;
    std::string text;
    if (fit.likelihood) {
        const LikelihoodFit& told = *fit.likelihood;
        const bool bare = std::none_of(fit.coefficients.begin(), fit.coefficients.end(),
                                       [](const Coefficient& c) { return c.designTerm >= 0; });
        if (std::isnan(told.nullLogLikelihood) || bare) {
            text = "In " + rows + " the log-likelihood of " + outcome + " is " +
                   fixedNumber(told.logLikelihood, 1) + ".";
        } else if (const auto share = told.pseudoRSquared()) {
            text = "In " + rows + " the terms raise the log-likelihood of " + outcome + " from " +
                   fixedNumber(told.nullLogLikelihood, 1) + " to " +
                   fixedNumber(told.logLikelihood, 1) + ", " + fixedNumber(100.0 * *share, 1) +
                   " % of it (McFadden); this is no share of variation.";
        } else {
            // A density’s level hangs on the unit; what it is raised by does not.
            text = "In " + rows + " the terms raise the log-likelihood of " + outcome + " by " +
                   fixedNumber(told.logLikelihood - told.nullLogLikelihood, 1) + ".";
        }
        if (told.dispersion && !told.atBoundary) {
            text += " The variance is the mean and " + shortNumber(*told.dispersion, 3) +
                    (told.linearSpread ? " times it more." : " times its square more.");
        }
        text += " The search settled in " +
                plural(static_cast<std::size_t>(told.iterations), "step", "steps") + ".";
    } else if (fit.quantile) {
        const QuantileFit& told = *fit.quantile;
        text = "In " + rows + " ";
        for (std::size_t q = 0; q < told.points.size(); ++q) {
            const QuantileFit::Point& point = told.points[q];
            text += (q > 0 ? ", " : "") +
                    std::string(
                        "the terms lower the weighted deviations "
                        "about the quantile ") +
                    shortNumber(point.at, 3) + " of " + outcome + " by **" +
                    fixedNumber(100.0 * point.goodness, 1) + " %**";
            if (q > 0) {
                text = "In " + rows +
                       " the terms lower the weighted deviations about the "
                       "quantiles of " +
                       outcome + " by ";
                for (std::size_t p = 0; p <= q; ++p) {
                    text += (p > 0 ? ", " : "") + fixedNumber(100.0 * told.points[p].goodness, 1) +
                            " % at " + shortNumber(told.points[p].at, 3);
                }
            }
        }
        text += ".";
        if (told.equal) {
            text += told.equal->p < answer.alpha
                        ? " Effects differ along the distribution (" + pClause(told.equal->p) + ")."
                        : " There is no sign that effects differ along the distribution (" +
                              pClause(told.equal->p) + ").";
        }
    } else if (fit.robust) {
        text = "In " + rows + " what is left of " + outcome + " has a spread of " +
               shortNumber(fit.robust->scale, 3) +
               " (median deviation, in the measure of a standard deviation); odd rows count for "
               "less.";
    } else if (fit.dynamic) {
        text = "In " + plural(fit.dynamic->changes, "change", "changes") + " of " +
               plural(static_cast<std::size_t>(fit.dynamic->units), "unit", "units") +
               " earlier moments serve as instruments.";
    }
    if (fit.levels && fit.levels->family != nullptr) {
        const double rise = 0.5 * (fit.levels->devianceWithout - fit.levels->deviance);
        text = "In " + rows + " the log-likelihood of " + outcome + " is **" +
               fixedNumber(-0.5 * fit.levels->deviance, 1) + "**, " +
               fixedNumber(std::max(rise, 0.0), 1) + " more than without the groups’ effects.";
    } else if (fit.levels) {
        text = "In " + rows + " what the terms and the groups leave of " + outcome +
               " has a standard deviation of " + shortNumber(fit.statistics.sigma, 3) + ".";
    }
    if (fit.event && !fit.statistics.rSquared) {
        text = "In " + rows + " what the terms, the places and what is held fixed leave of " +
               outcome + " has a standard deviation of " + shortNumber(fit.statistics.sigma, 3) +
               ".";
    }
    for (const std::string& note : fit.notes) {
        text += text.empty() || fit.panel ? "" : " " + note;
    }
    return text;
}

std::string eventReading(const EventFit& event, double alpha) {
    std::string text = " " + plural(event.cohorts.size(), "cohort", "cohorts") +
                       " of units change " + event.variable + ", " + countText(event.never) +
                       " never do.";
    if (event.after) {
        const double half = criticalValue(alpha, event.df) * event.afterSe;
        const int decimals = decimalsFor(event.afterSe);
        text += " On average over the moments from the change on the effect is **" +
                fixedNumber(*event.after, decimals) + "** (" +
                fixedNumber(*event.after - half, decimals) + " to " +
                fixedNumber(*event.after + half, decimals) + ").";
    }
    if (event.before) {
        text += event.before->p < alpha ? " Units that change moved differently before (" +
                                              pClause(event.before->p) + "): see Checks."
                                        : " Before the change there is no sign of a difference (" +
                                              pClause(event.before->p) + ").";
    }
    return text;
}

std::string levelsReading(const LevelsFit& fit, double alpha) {
    const auto spread = [&](const LevelsFit::Variance& v) {
        return "**" + shortNumber(std::sqrt(v.variance), 3) + "**" +
               (v.low && v.high
                    ? " (" + percentLevel(alpha) + " " + shortNumber(std::sqrt(*v.low), 3) +
                          " to " + shortNumber(std::sqrt(*v.high), 3) + ")"
                    : "");
    };
    std::string text;
    for (const LevelsFit::Level& level : fit.levels) {
        const std::string of = plural(level.labels.size(), "group", "groups") + " of " + level.by;
        const LevelsFit::Variance& constant = level.variances.front();
        if (constant.atBoundary && level.variances.size() == 1) {
            text += " Between the " + of +
                    " there is nothing left: their variance is at zero, its boundary.";
            continue;
        }
        const std::string scale = fit.family == nullptr ? ""
                                  : fit.ofYesNo()       ? ", of log odds"
                                                        : ", of the logarithm";
        text +=
            std::isfinite(level.share)
                ? " Of what the terms leave" + scale + ", " + fixedNumber(100.0 * level.share, 0) +
                      " % of the variance lies between the " + of +
                      (level.variances.size() > 1 ? ", at the means of what slopes are in" : "") +
                      "; their effects scatter with a standard deviation of "
                : " The effects of the " + of + scale + ", scatter with a standard deviation of ";
        text +=
            spread(constant) + (level.variances.size() > 1 ? " where these are zero" : "") + ".";
        for (std::size_t c = 1; c < level.variances.size(); ++c) {
            const LevelsFit::Variance& v = level.variances[c];
            text += v.atBoundary
                        ? " The effect of " + v.term +
                              " does not differ among them beyond chance: its variance is at zero."
                        : " The effect of " + v.term +
                              " differs among them with a standard deviation of " + spread(v) + ".";
        }
        for (const LevelsFit::Correlation& r : level.correlations) {
            if (r.atBoundary) {
                text += " " +
                        capitalised(level.variances[r.first].term == "(constant)"
                                        ? "the level"
                                        : level.variances[r.first].term) +
                        " and the effect of " + level.variances[r.second].term +
                        " go together entirely: the rows cannot tell them apart.";
            }
        }
        const auto [few, many] = std::minmax_element(level.sizes.begin(), level.sizes.end());
        const auto kept = [](double share) {
            return " keeps " + fixedNumber(100.0 * share, 0) + " %";
        };
        text += *few == *many ? " Each group, of " + plural(*few, "row", "rows") + "," +
                                    kept(level.smallest) + " of its own departure."
                              : " A group of " + plural(*few, "row", "rows") +
                                    kept(level.smallest) + " of its own departure, one of " +
                                    countText(*many) + kept(level.largest) + ".";
    }
    return text;
}

/// What effects are effects of where the mean is no straight line of the index.
std::string withinGroupsReading(const LevelsFit& fit) {
    return fit.family == nullptr
               ? std::string()
               : " Effects are those within a group: over all groups together they are smaller, "
                 "the "
                 "more so the further groups scatter. The likelihood is by " +
                     std::string(fit.points > 1
                                     ? "adaptive quadrature at " + std::to_string(fit.points) +
                                           " places in each direction (Pinheiro & Bates 1995)."
                                     : "Laplace’s approximation, which takes few rows a group for "
                                       "more than they tell.");
}

std::string methodReading(const Answer& answer) {
    const Fit& fit = *answer.fit;
    std::string text;
    if (fit.instrumented) {
        const InstrumentedFit& told = *fit.instrumented;
        for (const FirstStage& stage : told.firstStages) {
            if (stage.f) {
                const bool moved = stage.f->p < answer.alpha;
                text += std::string(moved ? " The instruments move " + stage.endogenous + ": F("
                                          : " There is no sign that the instruments move " +
                                                stage.endogenous + " at all: F(") +
                        shortNumber(stage.f->df1) + ", " + shortNumber(stage.f->df2) +
                        ") = " + shortNumber(stage.f->value, 3) + ", " + pClause(stage.f->p) +
                        "; they account for " + fixedNumber(100.0 * stage.partialRSquared, 1) +
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
    if (fit.echo) {
        const EchoFit& echo = *fit.echo;
        text += " An error carries over to the next moment by ρ = " + fixedNumber(echo.rho, 3) +
                "; rows are less ρ times the row before, and " +
                plural(echo.starts, "row", "rows") + " without one " +
                (echo.firstKept ? (echo.starts == 1 ? "counts" : "count") +
                                      std::string(" as √(1 − ρ²) (Prais & Winsten 1954).")
                                : (echo.starts == 1 ? "is" : "are") +
                                      std::string(" left out (Cochrane & Orcutt 1949)."));
    }
    if (fit.levels) {
        text += levelsReading(*fit.levels, answer.alpha) + withinGroupsReading(*fit.levels);
    }
    if (fit.event) {
        text += eventReading(*fit.event, answer.alpha);
    }
    for (const std::string& note : fit.notes) {
        text += fit.panel || fit.instrumented ? " " + note : std::string();
    }
    return text;
}

}  // namespace rapporto
