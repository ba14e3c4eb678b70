#include "core/impute/pooling.h"

#include "core/base/format.h"
#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/feasible_ar.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/retransformed.h"
#include "core/model/robust.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using Fits = std::vector<std::shared_ptr<const Fit>>;

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

double meanOf(std::span<const double> values) {
    return std::accumulate(values.begin(), values.end(), 0.0) / static_cast<double>(values.size());
}

/// The mean of something that every set has; absent where one has none.
template <class Of>
std::optional<double> meanOver(const Fits& fits, Of of) {
    std::vector<double> values;
    for (const auto& fit : fits) {
        const std::optional<double> one = of(*fit);
        if (!one || !std::isfinite(*one)) {
            return std::nullopt;
        }
        values.push_back(*one);
    }
    return meanOf(values);
}

/// The least of what sets have; absent where one has none.
std::optional<double> leastOf(const std::vector<std::optional<double>>& all) {
    std::optional<double> least;
    for (const auto& one : all) {
        if (!one || !std::isfinite(*one)) {
            return std::nullopt;
        }
        least = least ? std::min(*least, *one) : *one;
    }
    return least;
}

void settle(Coefficient& c, const PooledNumber& number, double alpha) {
    c.estimate = number.value;
    c.se = std::sqrt(std::max(number.variance, 0.0));
    c.df = number.df;
    c.statistic.reset();
    c.p.reset();
    c.low = c.high = kNone;
    c.designEffect.reset();
    if (std::isfinite(c.se) && isError(c.se, c.estimate)) {
        c.statistic = c.estimate / c.se;
        c.p = twoSidedP(*c.statistic, c.df);
        const double reach = criticalValue(alpha, c.df) * c.se;
        c.low = c.estimate - reach;
        c.high = c.estimate + reach;
    }
}

/// The same lists of coefficients in every set as one.
std::vector<Coefficient> pooledList(const std::vector<const std::vector<Coefficient>*>& sets,
                                    double alpha, std::vector<PooledNumber>* told = nullptr) {
    std::vector<Coefficient> out = *sets.front();
    for (std::size_t k = 0; k < out.size(); ++k) {
        std::vector<double> values;
        std::vector<double> variances;
        std::vector<std::optional<double>> df;
        std::vector<double> standardised;
        for (const auto* one : sets) {
            const Coefficient& c = (*one)[k];
            values.push_back(c.estimate);
            variances.push_back(c.se * c.se);
            df.push_back(c.df);
            standardised.push_back(c.standardised.value_or(kNone));
        }
        const PooledNumber number = pooled(values, variances, leastOf(df));
        settle(out[k], number, alpha);
        if (out[k].standardised) {
            const double mean = meanOf(standardised);
            out[k].standardised = std::isfinite(mean) ? std::optional(mean) : std::nullopt;
        }
        if (told != nullptr) {
            told->push_back(number);
        }
    }
    return out;
}

bool sameNames(const std::vector<Coefficient>& a, const std::vector<Coefficient>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                      [](const Coefficient& one, const Coefficient& other) {
                          return one.term == other.term && one.equation == other.equation;
                      });
}

/// The first coefficient that one set has and another has not.
Result<void> sameCoefficients(const Fits& fits) {
    for (std::size_t s = 1; s < fits.size(); ++s) {
        const auto& first = fits.front()->coefficients;
        const auto& other = fits[s]->coefficients;
        if (sameNames(first, other)) {
            continue;
        }
        const auto missingIn = [](const auto& all, const auto& from) {
            const auto at = std::find_if(all.begin(), all.end(), [&](const Coefficient& c) {
                return std::none_of(from.begin(), from.end(), [&](const Coefficient& o) {
                    return o.term == c.term && o.equation == c.equation;
                });
            });
            return at == all.end() ? std::string() : at->term;
        };
        std::string name = missingIn(first, other);
        name = name.empty() ? missingIn(other, first) : name;
        return refuse(ErrorCode::BadSetting,
                      "the sets do not have the same terms: ‘" + name +
                          "’ stands in some of them and not in others",
                      "missing answers", "Merge rare levels, or take the term out.", {name});
    }
    return {};
}

FitStatistics pooledStatistics(const Fits& fits) {
    FitStatistics out;
    out.uncentred = fits.front()->statistics.uncentred;
    const auto mean = [&](auto member) {
        return meanOver(
            fits, [&](const Fit& fit) -> std::optional<double> { return fit.statistics.*member; });
    };
    out.rSquared = mean(&FitStatistics::rSquared);
    out.adjustedRSquared = mean(&FitStatistics::adjustedRSquared);
    out.within = mean(&FitStatistics::within);
    out.between = mean(&FitStatistics::between);
    out.overall = mean(&FitStatistics::overall);
    out.sigma = mean(&FitStatistics::sigma).value_or(kNone);
    out.rss = mean(&FitStatistics::rss).value_or(kNone);
    out.tss = mean(&FitStatistics::tss).value_or(kNone);
    return out;
}

/// A part that a method adds to its fit, as every set has it; empty where one has none.
template <class Part>
std::vector<const Part*> partsOf(const Fits& fits, std::shared_ptr<const Part> Fit::*member) {
    std::vector<const Part*> out;
    for (const auto& fit : fits) {
        if ((*fit).*member == nullptr) {
            return {};
        }
        out.push_back(((*fit).*member).get());
    }
    return out;
}

template <class Part, class Of>
double meanOf(const std::vector<const Part*>& parts, Of of) {
    double sum = 0.0;
    for (const Part* part : parts) {
        sum += of(*part);
    }
    return sum / static_cast<double>(parts.size());
}

template <class Part, class Of>
std::optional<double> meanIfAll(const std::vector<const Part*>& parts, Of of) {
    const bool all = std::all_of(parts.begin(), parts.end(),
                                 [&](const Part* part) { return of(*part).has_value(); });
    return all ? std::optional(meanOf(parts, [&](const Part& part) { return *of(part); }))
               : std::nullopt;
}

void poolLikelihood(Fit& out, const Fits& fits) {
    const auto parts = partsOf(fits, &Fit::likelihood);
    if (parts.empty()) {
        return;
    }
    auto one = std::make_shared<LikelihoodFit>(*parts.front());
    one->logLikelihood = meanOf(parts, [](const auto& p) { return p.logLikelihood; });
    one->nullLogLikelihood = meanOf(parts, [](const auto& p) { return p.nullLogLikelihood; });
    one->deviance = meanOf(parts, [](const auto& p) { return p.deviance; });
    one->pearson = meanOf(parts, [](const auto& p) { return p.pearson; });
    one->apartLogLikelihood = meanIfAll(parts, [](const auto& p) { return p.apartLogLikelihood; });
    if (one->dispersion) {
        std::vector<double> values;
        std::vector<double> variances;
        for (const LikelihoodFit* part : parts) {
            values.push_back(part->dispersion.value_or(kNone));
            const double se = part->dispersionSe.value_or(kNone);
            variances.push_back(se * se);
        }
        const PooledNumber number = pooled(values, variances, std::nullopt);
        one->dispersion = number.value;
        one->dispersionSe = std::isfinite(number.variance)
                                ? std::optional(std::sqrt(number.variance))
                                : std::nullopt;
    }
    out.likelihood = std::move(one);
}

void poolInstruments(Fit& out, const Fits& fits, double alpha) {
    const auto parts = partsOf(fits, &Fit::instrumented);
    if (parts.empty()) {
        return;
    }
    auto one = std::make_shared<InstrumentedFit>(*parts.front());
    one->kappa = meanOf(parts, [](const auto& p) { return p.kappa; });
    one->j.reset();
    const auto list = [&](auto of) {
        std::vector<const std::vector<Coefficient>*> lists;
        for (const InstrumentedFit* part : parts) {
            lists.push_back(&of(*part));
        }
        const bool same = std::all_of(lists.begin(), lists.end(), [&](const auto* other) {
            return sameNames(*lists.front(), *other);
        });
        return same ? pooledList(lists, alpha) : std::vector<Coefficient>();
    };
    one->leastSquares = list([](const InstrumentedFit& p) -> auto& { return p.leastSquares; });
    one->reducedForm.coefficients =
        list([](const InstrumentedFit& p) -> auto& { return p.reducedForm.coefficients; });
    one->reducedForm.f.reset();
    one->reducedForm.classicalF.reset();
    for (std::size_t s = 0; s < one->firstStages.size(); ++s) {
        FirstStage& stage = one->firstStages[s];
        stage.coefficients =
            list([&](const InstrumentedFit& p) -> auto& { return p.firstStages[s].coefficients; });
        stage.partialRSquared =
            meanOf(parts, [&](const auto& p) { return p.firstStages[s].partialRSquared; });
        stage.rSquared = meanOf(parts, [&](const auto& p) { return p.firstStages[s].rSquared; });
        // The weakest of the sets: a set with weak instruments makes the answer weak.
        const auto weakest = [&](std::optional<FTest> FirstStage::*member) {
            std::optional<FTest> least = stage.*member;
            for (const InstrumentedFit* part : parts) {
                const auto& f = part->firstStages[s].*member;
                least = !f || (least && least->value <= f->value) ? least : f;
            }
            return least;
        };
        stage.f = weakest(&FirstStage::f);
        stage.classicalF = weakest(&FirstStage::classicalF);
    }
    out.instrumented = std::move(one);
}

void poolEvent(Fit& out, const Fits& fits, double alpha) {
    const auto parts = partsOf(fits, &Fit::event);
    if (parts.empty()) {
        return;
    }
    auto one = std::make_shared<EventFit>(*parts.front());
    const auto pool = [&](auto value, auto error) {
        std::vector<double> values;
        std::vector<double> variances;
        for (const EventFit* part : parts) {
            values.push_back(value(*part));
            variances.push_back(error(*part) * error(*part));
        }
        return pooled(values, variances, one->df);
    };
    for (std::size_t p = 0; p < one->places.size(); ++p) {
        EventFit::Place& place = one->places[p];
        if (place.reference) {
            continue;
        }
        const PooledNumber number = pool([&](const auto& e) { return e.places[p].estimate; },
                                         [&](const auto& e) { return e.places[p].se; });
        const Estimate told = estimateOf(number.value, number.variance, number.df, alpha);
        place.estimate = told.value;
        place.se = told.se;
        place.low = told.low;
        place.high = told.high;
    }
    if (one->after) {
        const PooledNumber number = pool([](const auto& e) { return e.after.value_or(kNone); },
                                         [](const auto& e) { return e.afterSe; });
        one->after = number.value;
        one->afterSe = std::sqrt(number.variance);
    }
    one->groupTimes.clear();
    one->before.reset();
    one->together = meanOf(parts, [](const auto& e) { return e.together; });
    out.event = std::move(one);
}

void poolLevels(Fit& out, const Fits& fits) {
    const auto parts = partsOf(fits, &Fit::levels);
    if (parts.empty()) {
        return;
    }
    auto one = std::make_shared<LevelsFit>(*parts.front());
    for (std::size_t l = 0; l < one->levels.size(); ++l) {
        LevelsFit::Level& level = one->levels[l];
        for (std::size_t v = 0; v < level.variances.size(); ++v) {
            const auto of = [&](const LevelsFit& p) { return p.levels[l].variances[v]; };
            LevelsFit::Variance& variance = level.variances[v];
            variance.variance = meanOf(parts, [&](const auto& p) { return of(p).variance; });
            variance.low.reset();
            variance.high.reset();
            variance.atBoundary = std::all_of(parts.begin(), parts.end(),
                                              [&](const auto* p) { return of(*p).atBoundary; });
        }
        for (std::size_t r = 0; r < level.correlations.size(); ++r) {
            LevelsFit::Correlation& correlation = level.correlations[r];
            correlation.value =
                meanIfAll(parts, [&](const auto& p) { return p.levels[l].correlations[r].value; });
            correlation.low.reset();
            correlation.high.reset();
        }
        level.share = meanOf(parts, [&](const auto& p) { return p.levels[l].share; });
        for (const LevelsFit* part : parts) {
            const auto& other = part->levels[l].effects;
            if (other.rows() != level.effects.rows()) {
                continue;
            }
            level.effects +=
                part == parts.front() ? MatrixXd::Zero(other.rows(), other.cols()) : other;
        }
        level.effects /= static_cast<double>(parts.size());
    }
    one->deviance = meanOf(parts, [](const auto& p) { return p.deviance; });
    one->devianceWithout = meanOf(parts, [](const auto& p) { return p.devianceWithout; });
    one->rowVariance = meanOf(parts, [](const auto& p) { return p.rowVariance; });
    out.levels = std::move(one);
}

void poolQuantiles(Fit& out, const Fits& fits) {
    const auto parts = partsOf(fits, &Fit::quantile);
    if (parts.empty()) {
        return;
    }
    auto one = std::make_shared<QuantileFit>(*parts.front());
    for (std::size_t q = 0; q < one->points.size(); ++q) {
        QuantileFit::Point& point = one->points[q];
        point.objective = meanOf(parts, [&](const auto& p) { return p.points[q].objective; });
        point.goodness = meanOf(parts, [&](const auto& p) { return p.points[q].goodness; });
        point.bandwidth = meanOf(parts, [&](const auto& p) { return p.points[q].bandwidth; });
        point.sparsity = meanOf(parts, [&](const auto& p) { return p.points[q].sparsity; });
    }
    one->equal.reset();
    out.quantile = std::move(one);
}

void poolBends(Fit& out, const Fits& fits, double alpha) {
    if (!out.bent) {
        return;
    }
    const auto same = [&](const auto& fit) {
        return fit->bent && fit->bent->bends.size() == out.bent->bends.size();
    };
    if (!std::all_of(fits.begin(), fits.end(), same)) {
        return;
    }
    BentLine& bent = *out.bent;
    bent.choices.clear();
    for (std::size_t b = 0; b < bent.bends.size(); ++b) {
        std::vector<double> at;
        std::vector<double> variances;
        double before = 0.0;
        double after = 0.0;
        for (const auto& fit : fits) {
            const Bend& one = fit->bent->bends[b];
            at.push_back(one.at);
            variances.push_back(one.se * one.se);
            before += one.slopeBefore / static_cast<double>(fits.size());
            after += one.slopeAfter / static_cast<double>(fits.size());
        }
        Bend& bend = bent.bends[b];
        bend.slopeBefore = before;
        bend.slopeAfter = after;
        if (bent.fixed) {
            continue;
        }
        const PooledNumber number = pooled(at, variances, out.coefficients.front().df);
        const Estimate told = estimateOf(number.value, number.variance, number.df, alpha);
        bend.at = told.value;
        bend.se = told.se;
        bend.low = told.low;
        bend.high = told.high;
        bend.profile = false;
    }
}

/// Numbers of a method’s own that are plain means over the sets.
void poolPlainParts(Fit& out, const Fits& fits) {
    if (const auto parts = partsOf(fits, &Fit::panel); !parts.empty()) {
        auto one = std::make_shared<PanelFit>(*parts.front());
        one->sigmaUnit = meanIfAll(parts, [](const auto& p) { return p.sigmaUnit; });
        one->sigmaRest = meanIfAll(parts, [](const auto& p) { return p.sigmaRest; });
        one->thetaLow = meanOf(parts, [](const auto& p) { return p.thetaLow; });
        one->thetaHigh = meanOf(parts, [](const auto& p) { return p.thetaHigh; });
        for (std::size_t s = 0; s < one->shares.size(); ++s) {
            one->shares[s].within = meanOf(parts, [&](const auto& p) {
                return s < p.shares.size() ? p.shares[s].within : kNone;
            });
        }
        out.panel = std::move(one);
    }
    if (const auto parts = partsOf(fits, &Fit::robust); !parts.empty()) {
        auto one = std::make_shared<RobustFit>(*parts.front());
        one->scale = meanOf(parts, [](const auto& p) { return p.scale; });
        one->tuning = meanOf(parts, [](const auto& p) { return p.tuning; });
        out.robust = std::move(one);
    }
    if (const auto parts = partsOf(fits, &Fit::echo); !parts.empty()) {
        auto one = std::make_shared<EchoFit>(*parts.front());
        one->rho = meanOf(parts, [](const auto& p) { return p.rho; });
        out.echo = std::move(one);
    }
}

/// Mean and spread over the sets of what all of them have.
MatrixXd meanCovariance(const Fits& fits) {
    MatrixXd sum = fits.front()->covariance;
    for (std::size_t s = 1; s < fits.size(); ++s) {
        sum += fits[s]->covariance;
    }
    return sum / static_cast<double>(fits.size());
}

MatrixXd spreadOfEstimates(const Fits& fits) {
    const auto k = static_cast<Index>(fits.front()->coefficients.size());
    MatrixXd b(k, static_cast<Index>(fits.size()));
    for (std::size_t s = 0; s < fits.size(); ++s) {
        for (Index j = 0; j < k; ++j) {
            b(j, static_cast<Index>(s)) =
                fits[s]->coefficients[static_cast<std::size_t>(j)].estimate;
        }
    }
    const VectorXd mean = b.rowwise().mean();
    b.colwise() -= mean;
    return b * b.transpose() / static_cast<double>(fits.size() - 1);
}

tl::unexpected<Refusal> notAlike(const std::string& what) {
    return refuse(ErrorCode::BadSetting, "the sets do not tell of the same " + what,
                  "missing answers", "Merge rare levels of what is filled in.");
}

/// A row’s own variance as an interval about its mean has it; absent where it is not about it.
std::optional<double> rowVariance(const Prediction& p, double alpha) {
    const double low = p.mean.value - p.rowLow;
    const double high = p.rowHigh - p.mean.value;
    if (!(low > 0.0) || !(std::abs(high - low) <= 1e-9 * (high + low))) {
        return std::nullopt;
    }
    const double root = 0.5 * (high + low) / criticalValue(alpha, p.mean.df);
    return root * root - p.mean.se * p.mean.se;
}

Prediction pooledPrediction(const std::vector<const Prediction*>& sets, double alpha) {
    Prediction out = *sets.front();
    const auto pool = [&](auto of) {
        std::vector<Estimate> all;
        for (const Prediction* one : sets) {
            all.push_back(of(*one));
        }
        return pooledEstimate(all, alpha);
    };
    out.mean = pool([](const Prediction& p) { return p.mean; });
    double variance = 0.0;
    bool about = true;
    double low = 0.0;
    double high = 0.0;
    double factor = 0.0;
    const auto m = static_cast<double>(sets.size());
    for (const Prediction* one : sets) {
        const auto own = rowVariance(*one, alpha);
        about = about && own;
        variance += own.value_or(0.0) / m;
        low += one->rowLow / m;
        high += one->rowHigh / m;
        factor += one->original ? one->original->factor / m : 0.0;
        for (const std::string& warning : one->warnings) {
            if (std::find(out.warnings.begin(), out.warnings.end(), warning) ==
                out.warnings.end()) {
                out.warnings.push_back(warning);
            }
        }
    }
    const double reach =
        criticalValue(alpha, out.mean.df) * std::sqrt(out.mean.se * out.mean.se + variance);
    out.rowLow = about ? out.mean.value - reach : low;
    out.rowHigh = about ? out.mean.value + reach : high;
    if (out.original) {
        out.original = carriedBack(out, factor);
    }
    if (out.difference) {
        out.difference =
            pool([](const Prediction& p) { return p.difference.value_or(Estimate{}); });
    }
    // Where a set finds no spread among the groups, the middle one’s mean is that of all.
    if (std::any_of(sets.begin(), sets.end(), [](const Prediction* p) { return p->overGroups; })) {
        out.overGroups = pool([](const Prediction& p) { return p.overGroups.value_or(p.mean); });
    }
    for (std::size_t k = 0; k < out.groups.size(); ++k) {
        out.groups[k].adds = 0.0;
        for (const Prediction* one : sets) {
            out.groups[k].adds += one->groups[k].adds / m;
        }
    }
    for (std::size_t k = 0; k < out.shares.size(); ++k) {
        out.shares[k].second = pool([&](const Prediction& p) { return p.shares[k].second; });
    }
    return out;
}

}  // namespace

PooledNumber pooled(std::span<const double> values, std::span<const double> variances,
                    std::optional<double> complete) {
    PooledNumber out;
    const auto m = static_cast<double>(values.size());
    out.value = meanOf(values);
    out.within = meanOf(variances);
    double squares = 0.0;
    for (const double value : values) {
        squares += (value - out.value) * (value - out.value);
    }
    // Sets that agree to the last digits differ by rounding alone.
    const double rounding = 1e-26 * (out.value * out.value + out.within);
    out.between = squares / (m - 1.0) <= rounding ? 0.0 : squares / (m - 1.0);
    const double more = (1.0 + 1.0 / m) * out.between;
    out.variance = out.within + more;
    out.df = complete;
    double increase = 0.0;
    if (more > 0.0) {
        const double share = more / out.variance;
        const double old = (m - 1.0) / (share * share);
        if (complete && out.within > 0.0) {
            const double seen = (*complete + 1.0) / (*complete + 3.0) * *complete * (1.0 - share);
            out.df = old * seen / (old + seen);
        } else {
            out.df = old;
        }
        increase = more / out.within;
    }
    const double shift = out.df ? 2.0 / (*out.df + 3.0) : 0.0;
    out.fractionMissing = std::isfinite(increase) ? (increase + shift) / (increase + 1.0) : 1.0;
    return out;
}

Estimate pooledEstimate(std::span<const Estimate> all, double alpha) {
    std::vector<double> values;
    std::vector<double> variances;
    std::vector<std::optional<double>> df;
    for (const Estimate& one : all) {
        values.push_back(one.value);
        variances.push_back(one.se * one.se);
        df.push_back(one.df);
    }
    const PooledNumber number = pooled(values, variances, leastOf(df));
    return estimateOf(number.value, number.variance, number.df, alpha);
}

std::optional<FTest> pooledF(const VectorXd& d, const MatrixXd& within, const MatrixXd& between,
                             std::size_t sets, std::optional<double> complete) {
    const auto q = static_cast<double>(d.size());
    const auto m = static_cast<double>(sets);
    const auto plain = waldF(d, within);
    const VectorXd scale = within.diagonal().cwiseSqrt().cwiseInverse();
    if (!plain || !scale.allFinite()) {
        return std::nullopt;
    }
    const MatrixXd even = scale.asDiagonal() * within * scale.asDiagonal();
    const MatrixXd spread = scale.asDiagonal() * between * scale.asDiagonal();
    const double r = (1.0 + 1.0 / m) * even.ldlt().solve(spread).trace() / q;
    FTest out;
    out.value = *plain / (1.0 + r);
    out.df1 = q;
    const double t = q * (m - 1.0);
    if (!(r > 0.0)) {
        out.df2 = complete.value_or(std::numeric_limits<double>::infinity());
    } else if (!(t > 4.0)) {
        out.df2 = t * (1.0 + 1.0 / q) * (1.0 + 1.0 / r) * (1.0 + 1.0 / r) / 2.0;
    } else {
        const double a = r * t / (t - 2.0);
        const double c0 = 1.0 / (t - 4.0);
        double z = c0 * a * a / ((1.0 + a) * (1.0 + a));
        if (complete) {
            const double star = (*complete + 1.0) / (*complete + 3.0) * *complete;
            const double c1 = star - 2.0 * (1.0 + a);
            const double c2 = star - 4.0 * (1.0 + a);
            const double b = 1.0 + a;
            z = c2 > 0.0 ? 1.0 / c2 + c0 * (a * a * c1 / (b * b * c2)) +
                               c0 * (8.0 * a * a * c1 / (b * c2 * c2) + 4.0 * a * a / (b * c2)) +
                               c0 * (4.0 * a * a / (c2 * c1) + 16.0 * a * a * c1 / (c2 * c2 * c2)) +
                               c0 * (8.0 * a * a / (c2 * c2))
                         : std::numeric_limits<double>::infinity();
        }
        out.df2 = 4.0 + 1.0 / z;
    }
    out.p = fTail(out.value, q, std::isfinite(out.df2) ? std::optional(out.df2) : std::nullopt);
    return out;
}

Result<Fit> pooledFit(const Design& design, const Fits& fits, double alpha) {
    if (auto done = sameCoefficients(fits); !done) {
        return tl::make_unexpected(done.error());
    }
    auto told = std::make_shared<PooledFit>();
    told->sets = fits.size();
    told->within = meanCovariance(fits);
    told->between = spreadOfEstimates(fits);
    Fit out = *fits.front();
    std::vector<const std::vector<Coefficient>*> lists;
    std::vector<std::optional<double>> df;
    for (const auto& fit : fits) {
        lists.push_back(&fit->coefficients);
        for (const Coefficient& c : fit->coefficients) {
            df.push_back(c.df);
        }
        out.n = std::min(out.n, fit->n);
        out.dfResidual = std::min(out.dfResidual, fit->dfResidual);
        out.exact = out.exact && fit->exact;
        out.levelHasNoError = out.levelHasNoError || fit->levelHasNoError;
        for (const std::string& note : fit->notes) {
            if (std::find(out.notes.begin(), out.notes.end(), note) == out.notes.end()) {
                out.notes.push_back(note);
            }
        }
    }
    told->complete = leastOf(df);
    out.coefficients = pooledList(lists, alpha, &told->terms);
    const auto m = static_cast<double>(fits.size());
    out.covariance = told->within + (1.0 + 1.0 / m) * told->between;
    const auto k = static_cast<Index>(out.coefficients.size());
    if (out.solution.coefficients.size() == k) {
        for (Index j = 0; j < k; ++j) {
            out.solution.coefficients(j) = out.coefficients[static_cast<std::size_t>(j)].estimate;
        }
    }
    out.resampling.reset();
    out.varianceSplit.clear();
    out.statistics = pooledStatistics(fits);
    const std::vector<Index> slopes = jointEffects(design, out.coefficients);
    if (!slopes.empty()) {
        VectorXd b(static_cast<Index>(slopes.size()));
        for (std::size_t j = 0; j < slopes.size(); ++j) {
            b(static_cast<Index>(j)) =
                out.coefficients[static_cast<std::size_t>(slopes[j])].estimate;
        }
        out.statistics.f = pooledF(b, told->within(slopes, slopes), told->between(slopes, slopes),
                                   fits.size(), told->complete);
    }
    poolLikelihood(out, fits);
    poolInstruments(out, fits, alpha);
    poolEvent(out, fits, alpha);
    poolLevels(out, fits);
    poolQuantiles(out, fits);
    poolBends(out, fits, alpha);
    poolPlainParts(out, fits);
    out.pooled = std::move(told);
    return out;
}

Result<HypothesisTest> pooledHypothesis(const Design& design, const Fit& fit,
                                        const std::string& text, double alpha) {
    auto out = testHypothesis(design, fit, text, alpha);
    if (!out || fit.pooled == nullptr) {
        return out;
    }
    const PooledFit& told = *fit.pooled;
    VectorXd b(static_cast<Index>(fit.coefficients.size()));
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        b(static_cast<Index>(j)) = fit.coefficients[j].estimate;
    }
    const VectorXd d = out->R * b - out->r;
    const MatrixXd within = out->R * told.within * out->R.transpose();
    const MatrixXd between = out->R * told.between * out->R.transpose();
    if (out->R.rows() > 1) {
        const auto f = pooledF(d, within, between, told.sets, told.complete);
        if (!f) {
            return refuse(ErrorCode::BadSetting,
                          "the restrictions repeat or contradict each other, or there are more "
                          "than the errors can carry",
                          "hypothesis", "Take out the ones that follow from the others.");
        }
        out->statistic = f->value;
        out->df2 = std::isfinite(f->df2) ? std::optional(f->df2) : std::nullopt;
        out->p = f->p;
        return out;
    }
    // One restriction: its estimates in the sets have this mean and this spread.
    const auto m = static_cast<double>(told.sets);
    const double root = std::sqrt(between(0, 0) * (m - 1.0) / 2.0);
    std::vector<double> values(told.sets, d(0));
    values[0] += root;
    values[1] -= root;
    const PooledNumber number =
        pooled(values, std::vector<double>(told.sets, within(0, 0)), told.complete);
    const double se = std::sqrt(number.variance);
    out->se = se;
    out->statistic = d(0) / se;
    out->df2 = number.df;
    const double two = twoSidedP(out->statistic, out->df2);
    const bool agrees = (out->relation == ">") == (out->statistic > 0.0);
    out->p = out->relation == "=" ? two : agrees ? two / 2.0 : 1.0 - two / 2.0;
    const double reach = criticalValue(alpha, out->df2) * se;
    out->low = d(0) + out->r(0) - reach;
    out->high = d(0) + out->r(0) + reach;
    return out;
}

Result<std::vector<Prediction>> pooledPredictions(const std::vector<std::vector<Prediction>>& sets,
                                                  double alpha) {
    std::vector<Prediction> out;
    for (std::size_t k = 0; k < sets.front().size(); ++k) {
        std::vector<const Prediction*> all;
        for (const auto& set : sets) {
            const bool alike = set.size() == sets.front().size() &&
                               set[k].shares.size() == sets.front()[k].shares.size();
            if (!alike) {
                return notAlike("outcomes");
            }
            all.push_back(&set[k]);
        }
        out.push_back(pooledPrediction(all, alpha));
    }
    return out;
}

Result<std::vector<MarginalEffect>> pooledEffects(
    const std::vector<std::vector<MarginalEffect>>& sets, double alpha) {
    std::vector<MarginalEffect> out = sets.front();
    for (std::size_t k = 0; k < out.size(); ++k) {
        std::vector<Estimate> effects;
        std::vector<Estimate> contrasts;
        VectorXd gradient = VectorXd::Zero(out[k].gradient.size());
        for (const auto& set : sets) {
            const bool alike = set.size() == out.size() && set[k].level == out[k].level &&
                               set[k].outcome == out[k].outcome && set[k].group == out[k].group &&
                               set[k].contrast.has_value() == out[k].contrast.has_value() &&
                               set[k].gradient.size() == gradient.size();
            if (!alike) {
                return notAlike("effects");
            }
            effects.push_back(set[k].effect);
            gradient += set[k].gradient / static_cast<double>(sets.size());
            if (set[k].contrast) {
                contrasts.push_back(*set[k].contrast);
            }
        }
        out[k].effect = pooledEstimate(effects, alpha);
        out[k].gradient = gradient;
        if (!contrasts.empty()) {
            out[k].contrast = pooledEstimate(contrasts, alpha);
        }
    }
    return out;
}

}  // namespace rapporto
