#include "core/model/multilevel.h"

#include "core/base/format.h"
#include "core/model/group_prediction.h"
#include "core/model/kenward_roger.h"
#include "core/model/level_parts.h"
#include "core/model/level_search.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

tl::unexpected<Refusal> bad(const std::string& what, const std::string& where,
                            const std::string& help) {
    return refuse(ErrorCode::BadSetting, what, where, help);
}

/// Errors of effects in the question’s columns, groups × q.
MatrixXd errorsOf(const MatrixXd& covariances, const LevelChart& chart) {
    MatrixXd out(covariances.rows(), chart.q);
    for (Index g = 0; g < out.rows(); ++g) {
        const VectorXd flat = covariances.row(g).transpose();
        const Eigen::Map<const MatrixXd> one(flat.data(), chart.q, chart.q);
        out.row(g) = (chart.there * one * chart.there.transpose())
                         .diagonal()
                         .cwiseMax(0.0)
                         .cwiseSqrt()
                         .transpose();
    }
    return out;
}

/// The rest of a search and how the coefficients hang on it.
///
/// @param turn   from the search’s orthonormal columns to the question’s.
/// @param freed  the spreads are uncertain themselves.
LevelSpreads spreadsOf(const LevelSearch& found, const MatrixXd& turn, bool freed) {
    LevelSpreads out;
    const double sigma2 = found.variance();
    const auto turned = [&](const MatrixXd& S) {
        return MatrixXd(sigma2 * turn * S * turn.transpose());
    };
    out.charts = found.charts();
    out.at = found.at();
    out.logVariance = std::log(sigma2);
    out.covariance = turned(found.look().covariance);
    if (!freed) {
        return out;
    }
    // Both by central differences.
    constexpr double kStep = 3e-4;
    const Index r = found.at().size();
    VectorXd at(r + 1);
    at << found.at(), out.logVariance;
    const auto land = found.over(
        [&found, r](const VectorXd& x) {
            return LevelPlace{found.factorsAt(x.head(r)), x(r)};
        },
        true, 1.0);
    out.parameters = 2.0 * inverseWhereCurved(curvature(land, at, kStep));
    const auto seen = [&](const VectorXd& x) {
        return found.model().look(found.factorsAt(x), found.aim(), false).covariance;
    };
    for (Index j = 0; j < r; ++j) {
        VectorXd to = found.at();
        to(j) += kStep;
        const MatrixXd up = seen(to);
        to(j) -= 2.0 * kStep;
        out.slopes.push_back(turned((up - seen(to)) / (2.0 * kStep)));
    }
    out.slopes.push_back(out.covariance);  // Of ln σ².
    return out;
}

class Multilevel {
  public:
    Multilevel(const Design& design, const EstimatorSettings& settings, double alpha,
               const Job& job)
        : design_(design),
          settings_(settings),
          alpha_(alpha),
          job_(job),
          found_(design, settings.likelihood != "full") {}

    Result<Fit> run() {
        const LinearProblem problem{design_.X, design_.y, design_.weights, design_.hasConstant};
        auto solution = solveLinear(problem, false, job_);
        if (!solution) {
            return tl::make_unexpected(solution.error());
        }
        if (solution->kept.empty()) {
            return refuse(ErrorCode::NoTerms, "there is neither a term nor a constant", "terms",
                          "Keep the constant.");
        }
        if (isRounding(problem, *solution)) {
            return refuse(ErrorCode::NoVariation,
                          "the terms tell the outcome exactly: nothing is left that groups could "
                          "share",
                          "method", "Ask by least squares.");
        }
        if (design_.y.size() <= static_cast<Index>(solution->kept.size()) + 1) {
            return refuse(ErrorCode::TooFewRows, "there are as many coefficients as rows", "sample",
                          "Take terms out or widen the sample.");
        }
        if (auto found = found_.run(*solution, job_); !found) {
            return tl::make_unexpected(found.error());
        }
        return fitOf(*std::move(solution));
    }

  private:
    Result<Fit> fitOf(LinearSolution solution) {
        LevelsFit out;
        if (auto filled = fillLevels(out); !filled) {
            return tl::make_unexpected(filled.error());
        }
        const MatrixXd turn = solution.factor;
        solution.coefficients += turn * found_.look().gamma;
        solution.residuals -=
            design_.X(Eigen::all, solution.kept) * (turn * found_.look().gamma) + out.shift;
        solution.residualSquares = design_.weights.size() > 0
                                       ? solution.residuals.cwiseAbs2().dot(design_.weights)
                                       : solution.residuals.squaredNorm();
        const std::vector<Index> kept = solution.kept;
        auto law = lawOf(turn, kept, out);
        if (!law) {
            return tl::make_unexpected(law.error());
        }
        GivenSolution given{design_.X, std::move(solution)};
        given.covariance = Covariance{law->covariance, law->joint, groupsNote()};
        given.df = law->joint;
        auto fit = fitGiven(design_, std::move(given), ErrorSpec{}, alpha_, job_);
        if (!fit) {
            return fit;
        }
        for (std::size_t k = 0; k < fit->coefficients.size() && law->df.size() > 0; ++k) {
            setLaw(fit->coefficients[k], law->df(static_cast<Index>(k)));
        }
        if (fit->statistics.f && std::isfinite(law->joint)) {
            FTest& f = *fit->statistics.f;
            f.value *= law->scale;
            f.p = fTail(f.value, f.df1, f.df2);
        }
        fillStatistics(fit->statistics, out, *fit);
        fit->levels = std::make_shared<const LevelsFit>(std::move(out));
        return fit;
    }

    void fillStatistics(FitStatistics& s, const LevelsFit& levels, const Fit& fit) const {
        s.sigma = std::sqrt(found_.variance());
        s.logLikelihood = -0.5 * levels.deviance;
        const auto counted =
            static_cast<double>(levels.parameters) + static_cast<double>(fit.coefficients.size());
        s.aic = levels.deviance + 2.0 * counted;
        s.bic = levels.deviance + std::log(fit.n) * counted;
    }

    void setLaw(Coefficient& c, double df) const {
        c.df = df;
        if (c.statistic) {
            c.p = twoSidedP(*c.statistic, c.df);
            const double reach = criticalValue(alpha_, c.df) * c.se;
            c.low = c.estimate - reach;
            c.high = c.estimate + reach;
        }
    }

    [[nodiscard]] std::string groupsNote() const {
        std::string note;
        for (const DesignLevel& level : design_.levels) {
            note += (note.empty() ? "" : ", ") +
                    plural(static_cast<std::size_t>(level.count), "group", "groups") + " of " +
                    level.name;
        }
        return note;
    }

    /// What the coefficients are judged by.
    struct Law {
        MatrixXd covariance;
        VectorXd df;         ///< Of each; empty: the normal law.
        double joint = 0.0;  ///< Of all terms together; infinite: the normal law.
        double scale = 1.0;  ///< Of their F.
    };

    /// @param told  takes what the law hangs on.
    Result<Law> lawOf(const MatrixXd& turn, const std::vector<Index>& kept, LevelsFit& told) const {
        Law out;
        const Index k = turn.rows();
        const Index first = design_.hasConstant && !kept.empty() && kept.front() == 0 ? 1 : 0;
        const auto spreads = std::make_shared<const LevelSpreads>(
            spreadsOf(found_, turn, settings_.lawOfEffects != "normal"));
        told.spreads = spreads;
        out.covariance = spreads->covariance;
        out.joint = std::numeric_limits<double>::infinity();
        if (settings_.lawOfEffects == "normal") {
            return out;
        }
        told.lawOf = [spreads](const MatrixXd& contrasts) {
            return satterthwaite(*spreads, contrasts);
        };
        if (settings_.lawOfEffects == "kenward-roger") {
            auto adjusted = adjustedBy(kept);
            if (!adjusted) {
                return tl::make_unexpected(adjusted.error());
            }
            out.covariance = adjusted->covariance();
            const auto shared = std::make_shared<const KenwardRoger>(*std::move(adjusted));
            told.lawOf = [shared](const MatrixXd& contrasts) {
                const KenwardRoger::Law law = shared->law(contrasts);
                return ContrastLaw{law.df, law.scale};
            };
        }
        const MatrixXd each = MatrixXd::Identity(k, k);
        out.df.resize(k);
        for (Index j = 0; j < k; ++j) {
            out.df(j) = told.lawOf(each.col(j)).df;
        }
        const ContrastLaw all = told.lawOf(k > first ? each.rightCols(k - first) : each);
        out.joint = all.df;
        out.scale = all.scale;
        return out;
    }

    Result<KenwardRoger> adjustedBy(const std::vector<Index>& kept) const {
        VectorXd root = VectorXd::Ones(design_.y.size());
        if (design_.weights.size() > 0) {
            root = design_.weights.cwiseSqrt();
        }
        std::vector<KenwardRoger::Level> levels;
        for (std::size_t l = 0; l < design_.levels.size(); ++l) {
            const DesignLevel& level = design_.levels[l];
            KenwardRoger::Level one{level.of, level.count,
                                    MatrixXd(design_.y.size(), level.slopes.cols() + 1),
                                    found_.covariance(l), found_.charts()[l].full};
            one.columns.col(0) = root;
            one.columns.rightCols(level.slopes.cols()) = root.asDiagonal() * level.slopes;
            levels.push_back(std::move(one));
        }
        return KenwardRoger::make(root.asDiagonal() * MatrixXd(design_.X(Eigen::all, kept)), levels,
                                  found_.variance());
    }

    Result<void> fillLevels(LevelsFit& out) const {
        out.restricted = settings_.likelihood != "full";
        out.law = settings_.lawOfEffects;
        out.deviance = found_.value() + found_.constant();
        out.parameters = static_cast<int>(found_.at().size()) + 1;
        std::vector<MatrixXd> none = found_.factors();
        for (MatrixXd& factor : none) {
            factor.setZero();
        }
        out.devianceWithout =
            found_.model().value(found_.model().look(none, found_.aim(), false), found_.aim()) +
            found_.constant();
        const auto effects =
            found_.model().effects(found_.factors(), found_.look(), found_.variance());
        out.shift = VectorXd::Zero(design_.y.size());
        out.rowVariance = found_.variance();
        std::vector<LevelParameter> parameters;
        std::vector<double> atMeans;  // Of each level, the variance there.
        for (std::size_t l = 0; l < design_.levels.size(); ++l) {
            out.levels.push_back(levelOf(l, effects, out.shift));
            // The model’s columns stand at the means: there the constant alone is left.
            const LevelChart& chart = found_.charts()[l];
            const MatrixXd& covariance = out.levels.back().covariance;
            atMeans.push_back((chart.back.row(0) * covariance * chart.back.row(0).transpose())(0));
            out.rowVariance += atMeans.back();
            addParameters(out.levels[l], l, true, parameters);
        }
        for (std::size_t l = 0; l < atMeans.size(); ++l) {
            out.levels[l].share = atMeans[l] / out.rowVariance;
            fillKept(out.levels[l], atMeans[l]);
        }
        const auto ends =
            profileEnds(found_, parameters, static_cast<double>(design_.y.size()), alpha_, job_);
        if (!ends) {
            return tl::make_unexpected(ends.error());
        }
        setEnds(out, *ends, true);
        return {};
    }

    [[nodiscard]] LevelsFit::Level levelOf(std::size_t l, const NestedEffects::Effects& effects,
                                           VectorXd& shift) const {
        const DesignLevel& level = design_.levels[l];
        const LevelChart& chart = found_.charts()[l];
        LevelsFit::Level out = levelWithSpreads(level, chart, found_.covariance(l));
        out.effects = effects.values[l] * chart.there.transpose();
        out.errors = errorsOf(effects.covariances[l], chart);
        addShift(level, out.effects, shift);
        return out;
    }

    /// How much of its own mean a group keeps.
    void fillKept(LevelsFit::Level& level, double variance) const {
        const auto kept = [&](std::size_t n) {
            const double own = static_cast<double>(n) * variance;
            return own > 0.0 ? own / (own + found_.variance()) : 0.0;
        };
        const auto [few, many] = std::minmax_element(level.sizes.begin(), level.sizes.end());
        level.smallest = kept(*few);
        level.largest = kept(*many);
    }

    const Design& design_;
    const EstimatorSettings& settings_;
    double alpha_;
    const Job& job_;
    LevelSearch found_;
};

}  // namespace

Result<Fit> fitMultilevel(const Design& design, const EstimatorSettings& settings,
                          const ErrorSpec& errors, double alpha, const Job& job) {
    if (errors.kind != "classical") {
        return bad("errors of random effects are those of the model itself", "errors",
                   "Use classical errors; or ask by least squares with errors clustered by the "
                   "outermost grouping.");
    }
    if (design.weightKind == WeightKind::Sampling || design.weightKind == WeightKind::Frequency) {
        return bad(
            "chances of being drawn differ among groups and among the rows in them, and one "
            "weight a row does not tell which",
            "weights",
            "Take the weights out, or ask by least squares with errors by the survey "
            "design.");
    }
    if (!design.effects.empty()) {
        return bad("effects are either held fixed or taken as random, not both", "held fixed",
                   "Put the grouping among the terms, or take out what is held fixed.");
    }
    if (settings.outcomeLaw != "normal") {
        return fitLevelOutcome(design, settings, alpha, job);
    }
    if (settings.lawOfEffects == "kenward-roger" && settings.likelihood == "full") {
        return bad("the adjustment of Kenward and Roger is one of the restricted likelihood", "df",
                   "Use the restricted likelihood, or Satterthwaite’s degrees of freedom.");
    }
    return Multilevel(design, settings, alpha, job).run();
}

}  // namespace rapporto
