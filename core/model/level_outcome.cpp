// Random effects of groups of a yes–no outcome or a count.
#include "core/base/format.h"
#include "core/model/group_prediction.h"
#include "core/model/level_likelihood.h"
#include "core/model/level_parts.h"
#include "core/model/level_search.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// The likelihood over coefficients and spreads, where it is highest, and its profile.
class OutcomeSearch final : public LevelLand {
  public:
    OutcomeSearch(const Design& design, bool logit, int points)
        : design_(design), logit_(logit), points_(points) {}

    /// @param plain  the fit without random effects.
    Result<void> run(const Fit& plain, const Job& job) {
        if (auto made = makeModel(plain); !made) {
            return made;
        }
        VectorXd from(columns_.cols() + parameters_);
        from.head(columns_.cols()) = start_;
        for (std::size_t l = 0; l < charts_.size(); ++l) {
            from.segment(columns_.cols() + first_[l], charts_[l].parameters()) = charts_[l].start();
        }
        const SmoothFunction land = [this](const VectorXd& x) { return joint(x); };
        constexpr double kGain = 1e-7;
        Descent best = descend(land, from, {}, kGain, job);
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                          "Change anything to start it again.");
        }
        if (!std::isfinite(best.value) || !best.settled) {
            return refuse(ErrorCode::NotConverged,
                          "the spread of the groups’ effects finds no rest", "levels",
                          "Take slopes out, or let constant and slopes go apart (covariance "
                          "diagonal).");
        }
        best = polished(land, best);
        const VectorXd cleared = withoutNothing(best);
        if (cleared != best.at && land(cleared).value <= best.value + 1e-7) {
            const SlopedValue there = land(cleared);
            best = polished(land, {cleared, there.value, there.slope, {}, true});
        }
        at_ = best.at;
        value_ = best.value;
        slope_ = best.slope;
        // Second derivatives of the exact slope: coefficients and spreads together.
        constexpr double kStep = 1e-4;
        const MatrixXd curved = curvature(land, at_, kStep);
        inverse_ = 2.0 * inverseWhereCurved(curved);
        warm_ = at_.head(columns_.cols());
        curvedOfCoefficients_ =
            inverseWhereCurved(curved.topLeftCorner(columns_.cols(), columns_.cols()));
        return {};
    }

    [[nodiscard]] const std::vector<LevelChart>& charts() const override { return charts_; }

    [[nodiscard]] VectorXd own(std::size_t level) const override {
        return at_.segment(columns_.cols() + first_[level], charts_[level].parameters());
    }

    [[nodiscard]] MatrixXd covariance(std::size_t level) const override {
        return charts_[level].covariance(factorsOf(at_)[level]);
    }

    [[nodiscard]] double variance() const override { return 1.0; }

    [[nodiscard]] double value() const override { return value_; }

    [[nodiscard]] std::int32_t groups(std::size_t level) const override {
        return design_.levels[level].count;
    }

    [[nodiscard]] SmoothFunction free(LevelPlacing placing, double step) const override {
        return [this, placing = std::move(placing), step](const VectorXd& x) {
            const LevelPlace place = placing(x);
            const auto atBest = best(place.factors);
            SlopedValue out{atBest.deviance, VectorXd::Zero(x.size())};
            if (!std::isfinite(atBest.deviance)) {
                return out;
            }
            for (Index j = 1; j < x.size(); ++j) {  // The first, ln σ², moves nothing here.
                VectorXd to = x;
                to(j) += step;
                const LevelPlace up = placing(to);
                to(j) = x(j) - step;
                const LevelPlace down = placing(to);
                double moved = 0.0;
                for (std::size_t l = 0; l < up.factors.size(); ++l) {
                    // A factor stands over σ, which `placing` takes from its first number.
                    moved += atBest.slopes[l].cwiseProduct(scaled(up, l) - scaled(down, l)).sum();
                }
                out.slope(j) = moved / (2.0 * step);
            }
            return out;
        };
    }

    // What was found.
    [[nodiscard]] VectorXd coefficients() const { return turn_ * at_.head(columns_.cols()); }

    /// Of the coefficients, the spreads not taken as known.
    [[nodiscard]] MatrixXd covarianceOfCoefficients() const {
        const Index k = columns_.cols();
        return turn_ * inverse_.topLeftCorner(k, k) * turn_.transpose();
    }

    [[nodiscard]] LevelLikelihood::Modes modes() const {
        return model_->modes(at_.head(columns_.cols()), factorsOf(at_));
    }

    [[nodiscard]] std::vector<MatrixXd> factors() const { return factorsOf(at_); }

    /// Taken as known: the errors of what hangs on them are the coefficients’ by the curvature.
    [[nodiscard]] LevelSpreads spreads() const {
        LevelSpreads out;
        out.charts = charts_;
        out.at = at_.tail(parameters_);
        return out;
    }

    [[nodiscard]] Index parameters() const { return parameters_; }

    [[nodiscard]] double decrement() const { return slope_.dot(inverse_ * slope_) / 4.0; }

    [[nodiscard]] int points() const { return model_->data().points; }

  private:
    [[nodiscard]] static MatrixXd scaled(const LevelPlace& place, std::size_t level) {
        return std::exp(0.5 * place.logVariance) * place.factors[level];
    }

    Result<void> makeModel(const Fit& plain) {
        LevelLikelihood::Data data;
        const auto kept = plain.solution.kept;
        columns_ = design_.X(Eigen::all, kept);
        // Columns of about one size that go apart: steps of all coefficients are alike.
        turn_ = plain.solution.factor * std::sqrt(static_cast<double>(design_.y.size()));
        columns_ = columns_ * turn_;
        start_ = turn_.fullPivLu().solve(plain.solution.coefficients);
        data.X = columns_;
        data.y = design_.y;
        data.offset = design_.offset;
        data.logit = logit_;
        Index from = 0;
        double places = 1.0;
        for (const DesignLevel& level : design_.levels) {
            LevelChart chart;
            auto grouping = levelGrouping(level, chart);
            if (!grouping) {
                return tl::make_unexpected(grouping.error());
            }
            places *= std::pow(static_cast<double>(points_), static_cast<double>(chart.q));
            data.groupings.push_back(*std::move(grouping));
            first_.push_back(from);
            from += chart.parameters();
            charts_.push_back(std::move(chart));
        }
        parameters_ = from;
        data.points = design_.levels.size() == 1 ? points_ : 1;
        constexpr double kMostPlaces = 20000.0;
        if (design_.levels.size() == 1 && places > kMostPlaces) {
            return refuse(ErrorCode::TooLarge,
                          plural(static_cast<std::size_t>(places), "place", "places") +
                              " of quadrature a group are too many",
                          "points", "Ask for fewer points, or take slopes out.");
        }
        if (!logit_ || design_.levels.front().count < design_.y.size()) {
            model_ = std::make_unique<const LevelLikelihood>(std::move(data));
            return {};
        }
        return refuse(ErrorCode::BadSetting,
                      "every row is a group of ‘" + design_.levels.front().name +
                          "’ by itself: its effect cannot be told from the row’s own",
                      "levels", "Take the grouping out.");
    }

    [[nodiscard]] std::vector<MatrixXd> factorsOf(const VectorXd& at) const {
        std::vector<MatrixXd> out;
        for (std::size_t l = 0; l < charts_.size(); ++l) {
            out.push_back(charts_[l].factor(
                at.segment(columns_.cols() + first_[l], charts_[l].parameters())));
        }
        return out;
    }

    /// −2 ln L over coefficients and parameters of the spreads, which make factors linearly.
    [[nodiscard]] SlopedValue joint(const VectorXd& x) const {
        const Index k = columns_.cols();
        const auto seen = model_->look(x.head(k), factorsOf(x), true);
        SlopedValue out{seen.deviance, VectorXd(x.size())};
        out.slope.head(k) = seen.slope;
        for (std::size_t l = 0; l < charts_.size(); ++l) {
            for (Index j = 0; j < charts_[l].parameters(); ++j) {
                const VectorXd one = VectorXd::Unit(charts_[l].parameters(), j);
                out.slope(k + first_[l] + j) =
                    seen.slopes[l].cwiseProduct(charts_[l].factor(one)).sum();
            }
        }
        return out;
    }

    /// The best coefficients at these factors.
    [[nodiscard]] LevelLikelihood::Look best(const std::vector<MatrixXd>& factors) const {
        const SmoothFunction land = [&](const VectorXd& b) {
            const auto seen = model_->look(b, factors, true);
            return SlopedValue{seen.deviance, seen.slope};
        };
        constexpr double kGain = 1e-11;
        const Descent rest = descend(land, warm_, curvedOfCoefficients_, kGain, Job());
        return model_->look(rest.at, factors, true);
    }

    /// Spreads that are nothing to speak of are none: the likelihood is even in each.
    [[nodiscard]] VectorXd withoutNothing(const Descent& rest) const {
        constexpr double kNothing = 1e-3;
        VectorXd out = rest.at;
        const auto factors = factorsOf(rest.at);
        for (std::size_t l = 0; l < charts_.size(); ++l) {
            const LevelChart& chart = charts_[l];
            const MatrixXd factor =
                chart.full ? factors[l]
                           : MatrixXd((chart.there * factors[l]).diagonal().asDiagonal());
            Index at = columns_.cols() + first_[l];
            for (Index c = 0; c < chart.q; ++c) {
                for (Index r = c; r < (chart.full ? chart.q : c + 1); ++r, ++at) {
                    const double spread =
                        factor.row(r).norm() * (chart.full ? 1.0 : chart.scales(r));
                    out(at) = spread < kNothing ? 0.0 : out(at);
                }
            }
        }
        return out;
    }

    const Design& design_;
    bool logit_;
    int points_;
    MatrixXd columns_;
    MatrixXd turn_;
    VectorXd start_;
    std::vector<LevelChart> charts_;
    std::vector<Index> first_;
    Index parameters_ = 0;
    std::unique_ptr<const LevelLikelihood> model_;
    VectorXd at_;
    VectorXd slope_;
    double value_ = 0.0;
    MatrixXd inverse_;
    VectorXd warm_;
    MatrixXd curvedOfCoefficients_;
};

/// What a grouping tells, the rows’ shift filled in.
LevelsFit::Level levelOf(const DesignLevel& level, const LevelChart& chart, const MatrixXd& factor,
                         const LevelLikelihood::Modes& modes, std::size_t l, VectorXd& shift) {
    LevelsFit::Level out = levelWithSpreads(level, chart, chart.covariance(factor));
    const MatrixXd own = chart.there * factor;
    out.effects = modes.values[l] * own.transpose();
    out.errors.resize(out.effects.rows(), chart.q);
    for (Index g = 0; g < out.errors.rows(); ++g) {
        const VectorXd flat = modes.covariances[l].row(g).transpose();
        const Eigen::Map<const MatrixXd> one(flat.data(), chart.q, chart.q);
        out.errors.row(g) =
            (own * one * own.transpose()).diagonal().cwiseMax(0.0).cwiseSqrt().transpose();
    }
    addShift(level, out.effects, shift);
    const double spread = out.covariance(0, 0);
    const auto [few, many] = std::minmax_element(out.sizes.begin(), out.sizes.end());
    const auto keeps = [&](std::size_t g) {
        const double told = modes.weights[l](static_cast<Index>(g)) * spread;
        return told / (told + 1.0);
    };
    out.smallest = keeps(static_cast<std::size_t>(few - out.sizes.begin()));
    out.largest = keeps(static_cast<std::size_t>(many - out.sizes.begin()));
    return out;
}

}  // namespace

Result<Fit> fitLevelOutcome(const Design& design, const EstimatorSettings& settings, double alpha,
                            const Job& job, bool ends) {
    const Family* family = familyOf(settings.outcomeLaw);
    if (family == nullptr || !(family->isPoisson() || family == &families::kLogit)) {
        return refuse(ErrorCode::NotBuilt,
                      "random effects of the law ‘" + settings.outcomeLaw + "’ are not built",
                      "outcome", "Ask on log odds, or on the log of a count.");
    }
    const bool logit = family->outcome == Family::Outcome::YesNo;
    if (design.weightKind != WeightKind::None) {
        return refuse(ErrorCode::BadSetting, "random effects of such an outcome take no weights",
                      "weights", "Take the weights out.");
    }
    Design bare = design;
    bare.levels.clear();
    auto plain = logit ? fitLogit(bare, {}, {}, alpha, job) : fitPoisson(bare, {}, {}, alpha, job);
    if (!plain) {
        return plain;
    }
    if (plain->linearised) {
        return refuse(ErrorCode::RankDeficient,
                      "a term tells ‘" + design.outcome + "’ for certain in some rows", "terms",
                      "Merge levels, or take the term out.");
    }
    OutcomeSearch found(design, logit, settings.points);
    if (auto searched = found.run(*plain, job); !searched) {
        return tl::make_unexpected(searched.error());
    }
    LevelsFit out;
    out.restricted = false;
    out.law = "normal";
    out.family = family;
    out.points = found.points();
    out.deviance = found.value();
    out.devianceWithout = -2.0 * plain->likelihood->logLikelihood;
    out.parameters = static_cast<int>(found.parameters());
    out.shift = VectorXd::Zero(design.y.size());
    out.spreads = std::make_shared<const LevelSpreads>(found.spreads());
    const auto modes = found.modes();
    const auto factors = found.factors();
    constexpr double kLogistic = std::numbers::pi * std::numbers::pi / 3.0;
    out.rowVariance = logit ? kLogistic : 0.0;
    std::vector<LevelParameter> parameters;
    std::vector<double> atMeans;
    for (std::size_t l = 0; l < design.levels.size(); ++l) {
        const LevelChart& chart = found.charts()[l];
        out.levels.push_back(levelOf(design.levels[l], chart, factors[l], modes, l, out.shift));
        const MatrixXd& covariance = out.levels.back().covariance;
        atMeans.push_back((chart.back.row(0) * covariance * chart.back.row(0).transpose())(0));
        out.rowVariance += atMeans.back();
        addParameters(out.levels[l], l, false, parameters);
    }
    for (std::size_t l = 0; l < atMeans.size(); ++l) {
        out.levels[l].share =
            logit ? atMeans[l] / out.rowVariance : std::numeric_limits<double>::quiet_NaN();
    }
    if (ends) {
        const auto told =
            profileEnds(found, parameters, static_cast<double>(design.y.size()), alpha, job);
        if (!told) {
            return tl::make_unexpected(told.error());
        }
        setEnds(out, *told, false);
    }
    LikelihoodInput in{design, {}, plain->solution.kept, plain->dropped, {}, {}, {}, nullptr,
                       {},     0.0};
    in.maximum.theta = found.coefficients();
    in.maximum.factor = Eigen::LLT<MatrixXd>(found.covarianceOfCoefficients()).matrixL();
    in.maximum.logLikelihood = -0.5 * out.deviance;
    in.maximum.gradient = found.decrement();
    in.maximum.iterations = plain->likelihood->iterations;
    // Effects, predictions and marks are those of a group at the middle.
    in.maximum.index = design.X(Eigen::all, in.kept) * in.maximum.theta;
    if (design.offset.size() > 0) {
        in.maximum.index += design.offset;
    }
    in.told = std::make_shared<LikelihoodFit>(*family);
    in.told->nullLogLikelihood = LikelihoodFit::kNone;
    in.fitted.resize(design.y.size());
    for (Index i = 0; i < design.y.size(); ++i) {
        const double index = modes.index(i);
        in.fitted(i) = logit ? 1.0 / (1.0 + std::exp(-index)) : std::exp(index);
    }
    auto fit = fitOfLikelihood(std::move(in), {}, alpha, job);
    if (!fit) {
        return fit;
    }
    const double counted =
        static_cast<double>(out.parameters) + static_cast<double>(fit->coefficients.size());
    auto told = std::make_shared<LikelihoodFit>(*fit->likelihood);
    told->parameters = counted;
    fit->likelihood = std::move(told);
    fit->statistics.aic = out.deviance + 2.0 * counted;
    fit->statistics.bic = out.deviance + std::log(fit->n) * counted;
    std::string note;
    for (const DesignLevel& level : design.levels) {
        note += (note.empty() ? "" : ", ") +
                plural(static_cast<std::size_t>(level.count), "group", "groups") + " of " +
                level.name;
    }
    fit->errorNote = note;
    fit->levels = std::make_shared<const LevelsFit>(std::move(out));
    return fit;
}

}  // namespace rapporto
