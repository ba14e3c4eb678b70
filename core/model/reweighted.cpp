#include "core/model/reweighted.h"

#include "core/base/border.h"
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/describe/survey_mean.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

const Design& beforeSweeping(const Design& design) {
    return design.swept && design.before ? *design.before : design;
}

/// All columns of estimates by `factorsOf(r)`, in parallel; false when it was stopped.
template <class FactorsOf>
bool estimateAll(const Reweighted& estimates, int count, const FactorsOf& factorsOf, MatrixXd& out,
                 const Job& job) {
    std::atomic<int> done{0};
    inParallel(static_cast<std::size_t>(count), [&](std::size_t k) {
        if (!job.stopped()) {
            const int r = static_cast<int>(k);
            // A draw that breaks something is a draw without a solution.
            const auto one = guarded("a draw", [&]() -> Result<VectorXd> {
                return estimates.under(factorsOf(r), job.quiet());
            });
            if (one) {
                out.col(r) = *one;
            } else {
                out.col(r).setConstant(std::numeric_limits<double>::quiet_NaN());
            }
            job.report(static_cast<double>(++done) / count);
        }
    });
    return !job.stopped();
}

tl::unexpected<Refusal> stopped() {
    return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                  "Change anything to start it again.");
}

VectorXd estimatesOf(const Fit& fit) {
    VectorXd b(static_cast<Index>(fit.coefficients.size()));
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        b(static_cast<Index>(j)) = fit.coefficients[j].estimate;
    }
    return b;
}

}  // namespace

Reweighted::Reweighted(const Estimator& estimator, const Design& design,
                       const EstimatorSettings& settings, const Fit& fit)
    : estimator_(estimator),
      swept_(design.swept),
      plain_(beforeSweeping(design)),
      settings_(settings),
      fit_(fit) {}

VectorXd Reweighted::under(const VectorXd& factors, const Job& job) const {
    VectorXd out = VectorXd::Constant(static_cast<Index>(fit_.coefficients.size()),
                                      std::numeric_limits<double>::quiet_NaN());
    std::vector<Index> rows;
    for (Index i = 0; i < factors.size(); ++i) {
        if (factors(i) > 0.0) {
            rows.push_back(i);
        }
    }
    if (rows.empty()) {
        return out;
    }
    Design design = withRows(plain_, rows);
    VectorXd weights = factors(rows);
    if (design.weights.size() > 0) {
        weights.array() *= design.weights.array();
    }
    design.weights = weights / weights.mean();
    design.weightKind = WeightKind::Sampling;
    design.survey = nullptr;
    if (swept_) {
        auto swept = sweptDesign(std::move(design), job);
        if (!swept) {
            return out;
        }
        design = *std::move(swept);
    }
    const auto fit = estimator_.estimate(design, settings_, ErrorSpec{}, 0.05, job);
    if (!fit) {
        return out;
    }
    std::size_t next = 0;
    for (std::size_t j = 0; j < fit_.coefficients.size(); ++j) {
        const Coefficient& own = fit_.coefficients[j];
        for (std::size_t tried = 0; tried < fit->coefficients.size(); ++tried) {
            const Coefficient& one = fit->coefficients[next % fit->coefficients.size()];
            ++next;
            if (one.term == own.term && one.equation == own.equation) {
                out(static_cast<Index>(j)) = one.estimate;
                break;
            }
        }
    }
    return out;
}

Result<Covariance> replicateCovariance(const Reweighted& estimates, const Fit& fit,
                                       const SurveyRows& survey, const Job& job) {
    const auto R = static_cast<int>(survey.replicates.size());
    const Design& plain = estimates.plain();
    MatrixXd draws(static_cast<Index>(fit.coefficients.size()), R);
    const auto factorsOf = [&](int r) {
        VectorXd factors(static_cast<Index>(plain.rows.size()));
        const auto& weights = survey.replicates[static_cast<std::size_t>(r)];
        for (std::size_t i = 0; i < plain.rows.size(); ++i) {
            const double own =
                plain.weights.size() > 0 ? plain.weights(static_cast<Index>(i)) : 1.0;
            const double w = weights[plain.rows[i]];
            factors(static_cast<Index>(i)) = own > 0.0 && w > 0.0 ? w / own : 0.0;
        }
        return factors;
    };
    if (!estimateAll(estimates, R, factorsOf, draws, job)) {
        return stopped();
    }
    for (int r = 0; r < R; ++r) {
        if (!draws.col(r).allFinite()) {
            return refuse(ErrorCode::TooFewRows,
                          "with the replicate weights ‘" +
                              survey.replicateNames[static_cast<std::size_t>(r)] +
                              "’ some term has no estimate",
                          "errors", "Merge levels, or take the term out.",
                          {survey.replicateNames[static_cast<std::size_t>(r)]});
        }
    }
    const MatrixXd off = draws.colwise() - estimatesOf(fit);
    Covariance out;
    out.matrix = survey.replicateScale * (off * off.transpose());
    out.df = R - 1.0;
    out.note = plural(static_cast<std::size_t>(R), "replicate weight", "replicate weights");
    return out;
}

Result<Covariance> redrawnCovariance(const Reweighted& estimates, const Fit& fit,
                                     const ErrorSpec& spec, double alpha, const Job& job) {
    const Design& plain = estimates.plain();
    const bool clusters = spec.scheme == "clusters";
    if (spec.scheme != "rows" && !clusters) {
        return refuse(ErrorCode::BadSetting,
                      "wild draws turn the signs of residuals: they are made for least squares",
                      "errors", "Draw rows or clusters.");
    }
    if (spec.interval == "bca") {
        return refuse(ErrorCode::BadSetting, "BCa intervals are made for least squares", "errors",
                      "Choose bias-corrected ones.");
    }
    if (plain.weightKind == WeightKind::Frequency) {
        return refuse(ErrorCode::BadSetting, "a row that stands for several cannot be drawn",
                      "errors", "Take the frequency weights out.");
    }
    if (clusters && (plain.clusterCounts.size() != 1 || plain.clusterCounts[0] < 2)) {
        return refuse(ErrorCode::BadSetting, "a bootstrap of clusters needs two clusters or more",
                      "errors", "Name a variable to cluster by.");
    }
    // Everything is estimated anew, effects that reach across clusters too; the rows of a group
    // alone must stay together.
    if (!clusters && !plain.effects.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "rows that share what is held fixed cannot be drawn apart", "errors",
                      "Draw clusters that hold whole groups, or use clustered errors.");
    }
    const std::uint64_t seed = spec.seed.value_or(1);
    const auto n = static_cast<std::uint64_t>(plain.rows.size());
    MatrixXd draws(static_cast<Index>(fit.coefficients.size()), spec.draws);
    const auto factorsOf = [&](int r) {
        RandomStream random(seed, static_cast<std::uint64_t>(r));
        VectorXd factors = VectorXd::Zero(static_cast<Index>(n));
        if (clusters) {
            const auto G = static_cast<std::uint64_t>(plain.clusterCounts[0]);
            std::vector<double> drawn(G, 0.0);
            for (std::uint64_t g = 0; g < G; ++g) {
                drawn[random.below(G)] += 1.0;
            }
            for (std::size_t i = 0; i < plain.rows.size(); ++i) {
                factors(static_cast<Index>(i)) =
                    drawn[static_cast<std::size_t>(plain.clusters[0][i])];
            }
        } else {
            for (std::uint64_t i = 0; i < n; ++i) {
                factors(static_cast<Index>(random.below(n))) += 1.0;
            }
        }
        return factors;
    };
    if (!estimateAll(estimates, spec.draws, factorsOf, draws, job)) {
        return stopped();
    }
    std::vector<Index> good;
    for (Index d = 0; d < draws.cols(); ++d) {
        if (draws.col(d).allFinite()) {
            good.push_back(d);
        }
    }
    const auto failed = spec.draws - static_cast<int>(good.size());
    if (good.size() < 20 || failed * 2 > spec.draws) {
        return refuse(
            ErrorCode::TooFewRows,
            std::to_string(failed) + " of " + std::to_string(spec.draws) + " draws had no solution",
            "errors", "Some term varies in too few rows: merge levels, or use robust errors.");
    }
    const MatrixXd sample = draws(Eigen::all, good);
    const VectorXd centre = sample.rowwise().mean();
    const MatrixXd centred = sample.colwise() - centre;
    Covariance out;
    out.matrix = centred * centred.transpose() / (static_cast<double>(good.size()) - 1.0);
    out.df = std::numeric_limits<double>::infinity();
    Resampling r = intervalsOf(estimatesOf(fit), sample, spec, alpha);
    r.asked = spec.draws;
    r.failed = failed;
    out.note = countText(static_cast<std::size_t>(r.asked)) + " draws" +
               (clusters ? " of " + std::to_string(plain.clusterCounts[0]) + " clusters" : "") +
               (failed > 0 ? ", " + std::to_string(failed) + " without a solution" : "");
    out.resampling = std::move(r);
    return out;
}

std::vector<Index> jointEffects(const Design& design,
                                const std::vector<Coefficient>& coefficients) {
    std::vector<Index> out;
    for (std::size_t j = 0; j < coefficients.size(); ++j) {
        const Coefficient& c = coefficients[j];
        const bool several = c.equation.starts_with("to ") || c.equation.starts_with("quantile ");
        if (c.equation != "main" && !several) {
            continue;
        }
        // Further equations know their columns by name.
        const auto column =
            std::find_if(design.columns.begin(), design.columns.end(),
                         [&](const DesignColumn& one) { return one.name == c.term; });
        const int term =
            c.designTerm >= 0 || column == design.columns.end() ? c.designTerm : column->term;
        // A first stage knows its instruments as terms beyond the design’s own.
        const bool known = term >= 0 && static_cast<std::size_t>(term) < design.terms.size();
        if (term >= 0 && !(known && design.terms[static_cast<std::size_t>(term)].added)) {
            out.push_back(static_cast<Index>(j));
        }
    }
    return out;
}

void replaceCovariance(Fit& fit, const Design& design, Covariance covariance, double alpha) {
    const std::optional<double> law =
        std::isfinite(covariance.df) ? std::optional(covariance.df) : std::nullopt;
    const double critical = criticalValue(alpha, law);
    const std::vector<Index> slopes = jointEffects(design, fit.coefficients);
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        const auto at = static_cast<Index>(j);
        Coefficient& c = fit.coefficients[j];
        c.se = std::sqrt(std::max(covariance.matrix(at, at), 0.0));
        c.df = law;
        c.statistic.reset();
        c.p.reset();
        const bool real = isError(c.se, c.estimate);
        if (real) {
            c.statistic = c.estimate / c.se;
            c.p = twoSidedP(*c.statistic, law);
        }
        // Without an error there is no interval either: none is of no width.
        c.low = real ? c.estimate - critical * c.se : std::numeric_limits<double>::quiet_NaN();
        c.high = real ? c.estimate + critical * c.se : std::numeric_limits<double>::quiet_NaN();
        if (covariance.resampling) {
            c.low = covariance.resampling->low(at);
            c.high = covariance.resampling->high(at);
            c.p = covariance.resampling->p(at);
        }
        c.designEffect.reset();
        if (covariance.designEffects.size() > at) {
            c.designEffect = covariance.designEffects(at);
        }
    }
    fit.covariance = std::move(covariance.matrix);
    fit.errorNote = std::move(covariance.note);
    fit.resampling = std::move(covariance.resampling);
    fit.statistics.f.reset();
    if (!slopes.empty()) {
        const VectorXd b = estimatesOf(fit);
        if (const auto f = waldF(b(slopes), fit.covariance(slopes, slopes))) {
            const auto q = static_cast<double>(slopes.size());
            fit.statistics.f = FTest{*f, q, covariance.df, fTail(*f, q, law)};
        } else {
            fit.notes.emplace_back(
                "All terms together have no test of their own: their covariance has no inverse.");
        }
    }
}

}  // namespace rapporto
