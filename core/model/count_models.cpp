#include "core/base/format.h"
#include "core/model/count_terms.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/numerics/kernels.h"
#include "core/numerics/sweep_effects.h"

#include <boost/math/special_functions/gamma.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

VectorXd logFactorials(const VectorXd& y) {
    // Most counts are small and whole.
    constexpr std::size_t kSmall = 256;
    static const std::vector<double> kTable = [] {
        std::vector<double> out;
        for (std::size_t count = 0; count < kSmall; ++count) {
            out.push_back(boost::math::lgamma(static_cast<double>(count) + 1.0));
        }
        return out;
    }();
    return y.unaryExpr([](double v) {
        return v >= 0.0 && v < static_cast<double>(kSmall) && v == std::floor(v)
                   ? kTable[static_cast<std::size_t>(v)]
                   : boost::math::lgamma(v + 1.0);
    });
}

/// A count by one index.
class CountModel final : public RowModel {
  public:
    CountModel(const VectorXd& y, CountLaw law) : y_(y), factorials_(logFactorials(y)), law_(law) {}

    [[nodiscard]] int extras() const override { return law_ == CountLaw::Poisson ? 0 : 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const bool plain = law_ == CountLaw::Poisson;
        const CountTerms t = countTerms(law_, y_(i), factorials_(i), at[0], plain ? 0.0 : at[1]);
        g[0] = t.g[0];
        if (H != nullptr) {
            H[0] = t.h[0];
        }
        if (!plain) {
            g[1] = t.g[1];
            if (H != nullptr) {
                H[1] = H[2] = t.h[1];
                H[3] = t.h[2];
            }
        }
        return t.value;
    }

    double block(Index from, Index rows, const MatrixXd& eta, const double* shared,
                 const double* weights, RowTerms* terms) const override {
        if (law_ == CountLaw::Quadratic) {
            return quadraticBlock(from, rows, eta, shared[0], weights, terms);
        }
        if (law_ != CountLaw::Poisson) {
            return RowModel::block(from, rows, eta, shared, weights, terms);
        }
        std::array<double, kernels::kBlock> mean = {};
        kernels::expInto(mean.data(), eta.data(), rows);
        if (weights == nullptr && terms != nullptr) {
            return kernels::poissonInto(terms->first.data(), terms->second.data(), &y_(from),
                                        eta.data(), mean.data(), &factorials_(from), rows);
        }
        double sum = 0.0;
        for (Index i = 0; i < rows; ++i) {
            const double w = weights != nullptr ? weights[i] : 1.0;
            const double mu = mean[static_cast<std::size_t>(i)];
            const double y = y_(from + i);
            sum += w * (y * eta(i, 0) - mu - factorials_(from + i));
            if (terms != nullptr) {
                terms->first(i, 0) = w * (y - mu);
                terms->second(i, 0) = w * mu;
            }
        }
        return sum;
    }

  private:
    /// The sums over the counts below y hang on y and α alone: a list of them serves the block.
    double quadraticBlock(Index from, Index rows, const MatrixXd& eta, double tau,
                          const double* weights, RowTerms* terms) const {
        std::array<double, kernels::kBlock> mean = {};
        kernels::expInto(mean.data(), eta.data(), rows);
        const double alpha = std::exp(tau);
        const RisingProducts products(y_.segment(from, rows), alpha);
        double sum = 0.0;
        for (Index i = 0; i < rows; ++i) {
            const double w = weights != nullptr ? weights[i] : 1.0;
            const double y = y_(from + i);
            const CountTerms t = quadraticTerms(products(y), y, factorials_(from + i), eta(i, 0),
                                                mean[static_cast<std::size_t>(i)], alpha);
            sum += w * t.value;
            if (terms != nullptr) {
                terms->first(i, 0) = w * t.g[0];
                terms->first(i, 1) = w * t.g[1];
                terms->second(i, 0) = -w * t.h[0];
                terms->second(i, 1) = -w * t.h[1];
                terms->among(0, 0) -= w * t.h[2];
            }
        }
        return sum;
    }

    const VectorXd& y_;
    VectorXd factorials_;
    CountLaw law_;
};

/// ln(1 − f(0)) and its derivatives: what a law without its zeros is divided by.
void withoutZeros(const CountTerms& zero, CountTerms& t) {
    // f₀/(1 − f₀), also where f₀ is near one.
    const double odds = 1.0 / std::expm1(-zero.value);
    t.value -= std::log(-std::expm1(zero.value));
    t.g[0] += odds * zero.g[0];
    t.g[1] += odds * zero.g[1];
    const double square = odds + odds * odds;
    t.h[0] += odds * zero.h[0] + square * zero.g[0] * zero.g[0];
    t.h[1] += odds * zero.h[1] + square * zero.g[0] * zero.g[1];
    t.h[2] += odds * zero.h[2] + square * zero.g[1] * zero.g[1];
}

/// Counts above zero alone.
class TruncatedModel final : public RowModel {
  public:
    TruncatedModel(const VectorXd& y, CountLaw law)
        : y_(y), factorials_(logFactorials(y)), law_(law) {}

    [[nodiscard]] int extras() const override { return law_ == CountLaw::Poisson ? 0 : 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const double tau = extras() > 0 ? at[1] : 0.0;
        CountTerms t = countTerms(law_, y_(i), factorials_(i), at[0], tau);
        withoutZeros(countTerms(law_, 0.0, 0.0, at[0], tau), t);
        const auto D = static_cast<std::size_t>(1 + extras());
        for (std::size_t a = 0; a < D; ++a) {
            g[a] = t.g[a];
            for (std::size_t b = 0; H != nullptr && b < D; ++b) {
                H[a * D + b] = t.h[a + b];
            }
        }
        return t.value;
    }

  private:
    const VectorXd& y_;
    VectorXd factorials_;
    CountLaw law_;
};

/// Zeros of two kinds (zero-inflated), or one hurdle before all counts.
class TwoPartModel final : public RowModel {
  public:
    TwoPartModel(const VectorXd& y, CountLaw law, bool hurdle)
        : y_(y), factorials_(logFactorials(y)), law_(law), hurdle_(hurdle) {}

    [[nodiscard]] int indices() const override { return 2; }

    [[nodiscard]] int extras() const override { return law_ == CountLaw::Poisson ? 0 : 1; }

    double row(Index i, const double* at, double* g, double* H) const override {
        const double tau = extras() > 0 ? at[2] : 0.0;
        const auto D = static_cast<std::size_t>(2 + extras());
        const double z = at[1];
        const double pi = 1.0 / (1.0 + std::exp(-z));
        const double logPi = z < 0.0 ? z - std::log1p(std::exp(z)) : -std::log1p(std::exp(-z));
        const double logRest = z < 0.0 ? -std::log1p(std::exp(z)) : -z - std::log1p(std::exp(-z));
        double value = 0.0;
        // Places of the count’s derivatives among all: η, then τ after the other index.
        static constexpr std::size_t kAt[2] = {0, 2};
        const std::size_t own = static_cast<std::size_t>(1 + extras());
        for (std::size_t a = 0; H != nullptr && a < D * D; ++a) {
            H[a] = 0.0;
        }
        const bool zero = y_(i) == 0.0;
        if (hurdle_) {
            g[1] = zero ? -pi : 1.0 - pi;
            value = zero ? logRest : logPi;
            CountTerms t;
            if (!zero) {
                t = countTerms(law_, y_(i), factorials_(i), at[0], tau);
                withoutZeros(countTerms(law_, 0.0, 0.0, at[0], tau), t);
                value += t.value;
            }
            for (std::size_t a = 0; a < own; ++a) {
                g[kAt[a]] = t.g[a];
                for (std::size_t b = 0; H != nullptr && b < own; ++b) {
                    H[kAt[a] * D + kAt[b]] = t.h[a + b];
                }
            }
            if (H != nullptr) {
                H[D + 1] = -pi * (1.0 - pi);
            }
            return value;
        }
        const CountTerms t = countTerms(law_, y_(i), factorials_(i), at[0], tau);
        if (!zero) {
            g[1] = -pi;
            for (std::size_t a = 0; a < own; ++a) {
                g[kAt[a]] = t.g[a];
                for (std::size_t b = 0; H != nullptr && b < own; ++b) {
                    H[kAt[a] * D + kAt[b]] = t.h[a + b];
                }
            }
            if (H != nullptr) {
                H[D + 1] = -pi * (1.0 - pi);
            }
            return logRest + t.value;
        }
        // P = π + (1 − π)f₀; u is the share of it that the count has.
        const double a0 = logPi;
        const double b0 = logRest + t.value;
        const double most = std::max(a0, b0);
        value = most + std::log(std::exp(a0 - most) + std::exp(b0 - most));
        const double u = std::exp(b0 - value);
        const double v = std::exp(a0 - value);
        g[1] = v * (1.0 - pi) - u * pi;
        for (std::size_t a = 0; a < own; ++a) {
            g[kAt[a]] = u * t.g[a];
        }
        if (H != nullptr) {
            for (std::size_t a = 0; a < own; ++a) {
                for (std::size_t b = 0; b < own; ++b) {
                    H[kAt[a] * D + kAt[b]] =
                        u * (t.h[a + b] + t.g[a] * t.g[b]) - u * u * t.g[a] * t.g[b];
                }
                // P'' over η and z is −π(1 − π) f₀ g.
                const double cross = -u * pi * t.g[a] - u * t.g[a] * g[1];
                H[kAt[a] * D + 1] = H[D + kAt[a]] = cross;
            }
            const double second = (v * (1.0 - pi) - u * pi) * (1.0 - 2.0 * pi);
            H[D + 1] = second - g[1] * g[1];
        }
        return value;
    }

  private:
    const VectorXd& y_;
    VectorXd factorials_;
    CountLaw law_;
    bool hurdle_;
};

Result<void> checkCounts(const Design& design, bool whole, bool zeros) {
    const auto named = [&](const std::string& what, const std::string& help) {
        return refuse(ErrorCode::BadSetting, "the outcome ‘" + design.outcome + "’ " + what,
                      "outcome", help, {design.outcome});
    };
    for (Index i = 0; i < design.y.size(); ++i) {
        const double y = design.y(i);
        if (y >= 0.0 && (!whole || y == std::floor(y)) && (zeros || y != 0.0)) {
            continue;
        }
        const std::string row =
            " in row " + std::to_string(design.rows[static_cast<std::size_t>(i)] + 1);
        if (y < 0.0) {
            return named("is " + shortNumber(y) + row + ": a count is zero or more",
                         "Choose another estimator, or set the row aside.");
        }
        if (whole && y != std::floor(y)) {
            return named("is " + shortNumber(y, 6) + row + ": a count is whole",
                         "Poisson with robust errors also takes amounts that are not whole.");
        }
        if (!zeros && y == 0.0) {
            return named("is zero" + row + ": this law has no zeros",
                         "Choose a hurdle, or a rule that leaves zeros out.");
        }
    }
    if (design.offset.size() > 0 && !design.offset.allFinite()) {
        return refuse(ErrorCode::BadSetting, "the exposure is zero or less in some rows",
                      "exposure", "An exposure is above zero: leave those rows out by a rule.");
    }
    return {};
}

IndexPart mainPart(const Design& design, const std::vector<Index>& kept) {
    return {MatrixXd(design.X(Eigen::all, kept)), design.offset, design.hasConstant};
}

/// The constant that gives the mean of the outcome; zeros where there is none.
VectorXd countStart(const Design& design, const IndexPart& part) {
    VectorXd start = VectorXd::Zero(part.X.cols());
    const VectorXd w = rowWeights(design);
    if (part.hasConstant) {
        const double exposed =
            part.offset.size() > 0 ? w.dot(part.offset.array().exp().matrix()) : w.sum();
        start(0) = std::log(std::max(w.dot(design.y), 1e-8) / exposed);
        return start;
    }
    // Without a constant: least squares of ln(y + ½).
    const VectorXd z = (design.y.array() + 0.5).log();
    const VectorXd own = part.offset.size() > 0 ? VectorXd(z - part.offset) : z;
    const auto line = solveLinear({part.X, own, design.weights, false}, false, Job());
    if (line && line->kept.size() == static_cast<std::size_t>(part.X.cols())) {
        start = line->coefficients;
    }
    return start;
}

double varianceOf(CountLaw law, double mean, double alpha) {
    return law == CountLaw::Poisson     ? mean
           : law == CountLaw::Quadratic ? mean * (1.0 + alpha * mean)
                                        : mean * (1.0 + alpha);
}

/// Twice what a mean for every row would gain, at the dispersion found.
double devianceOf(CountLaw law, const VectorXd& y, const VectorXd& mean, double alpha,
                  const VectorXd& weights) {
    double sum = 0.0;
    for (Index i = 0; i < y.size(); ++i) {
        const double w = weights.size() > 0 ? weights(i) : 1.0;
        const double factorial = boost::math::lgamma(y(i) + 1.0);
        const double tau = alpha > 0.0 ? std::log(alpha) : 0.0;
        const CountLaw used = alpha > 0.0 ? law : CountLaw::Poisson;
        const double best =
            y(i) > 0.0 ? countTerms(used, y(i), factorial, std::log(y(i)), tau).value : 0.0;
        sum += 2.0 * w * (best - countTerms(used, y(i), factorial, std::log(mean(i)), tau).value);
    }
    return sum;
}

std::optional<double> nullLikelihood(const Design& design, const RowModel& model, Index zeroParts,
                                     const VectorXd& start, const Job& job) {
    if (!design.hasConstant) {
        return std::nullopt;
    }
    std::vector<IndexPart> parts = {{MatrixXd::Ones(design.y.size(), 1), design.offset, true}};
    for (Index m = 0; m < zeroParts; ++m) {
        parts.push_back({MatrixXd::Ones(design.y.size(), 1), VectorXd(), true});
    }
    const auto found = maximise(parts, model, start, design.weights, job, false);
    return found ? std::optional(found->logLikelihood) : std::nullopt;
}

/// Rows that the terms tell to be zero for certain, where the fit ran off.
std::optional<Separation> zerosForCertain(const Design& design, const MatrixXd& X, const Job& job) {
    if (!(design.y.array() == 0.0).any()) {
        return std::nullopt;
    }
    const VectorXd signs = design.y.unaryExpr([](double y) { return y == 0.0 ? -1.0 : 0.0; });
    return findSeparation(X, signs, job);
}

Design without(const Design& design, const std::vector<Index>& rows) {
    std::vector<Index> left;
    std::size_t next = 0;
    for (Index i = 0; i < design.y.size(); ++i) {
        if (next < rows.size() && rows[next] == i) {
            ++next;
        } else {
            left.push_back(i);
        }
    }
    return withRows(design, left);
}

Result<Fit> fitOneIndex(const Design& design, CountLaw law, const Family& family,
                        const ErrorSpec& errors, double alpha, const Job& job, int depth = 0) {
    const auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const IndexPart part = mainPart(design, columns->kept);
    const CountModel poisson(design.y, CountLaw::Poisson);
    const bool scores = errors.kind != "classical";
    auto found = maximise(part, poisson, countStart(design, part), design.weights, job, scores);
    // Means that vanish: some combination of the terms tells zeros for certain.
    const bool ran = !found ? found.error().code != ErrorCode::Stopped
                            : (found->index.col(0).minCoeff() < -18.0);
    if (ran && depth < 20) {
        if (const auto separation = zerosForCertain(design, part.X, job)) {
            const Design left = without(design, separation->rows);
            if (left.y.size() == 0) {
                return refuse(ErrorCode::TooFewRows, "the terms tell every zero for certain",
                              "sample", "Take terms out.");
            }
            auto fit = fitOneIndex(left, law, family, errors, alpha, job, depth + 1);
            if (fit) {
                auto told = std::make_shared<LikelihoodFit>(*fit->likelihood);
                told->separated += separation->rows.size();
                fit->likelihood = std::move(told);
                if (!fit->linearised) {
                    fit->linearised = std::make_shared<const Design>(left);
                }
                std::string names;
                for (const Index j : separation->columns) {
                    names += (names.empty() ? "" : ", ") +
                             design
                                 .columns[static_cast<std::size_t>(
                                     columns->kept[static_cast<std::size_t>(j)])]
                                 .name;
                }
                fit->notes.push_back(plural(separation->rows.size(), "row is", "rows are") +
                                     " told to be zero for certain by " + names +
                                     ": no finite effect fits them, and they leave.");
            }
            return fit;
        }
    }
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto told = std::make_shared<LikelihoodFit>(family);
    told->linearSpread = law == CountLaw::Linear;
    std::vector<ExtraName> further;
    const VectorXd w = rowWeights(design);
    std::vector<std::string> notes;
    CountLaw used = law;
    if (law != CountLaw::Poisson) {
        // The slope of ℓ in α at zero, at Poisson’s means: not above zero, and zero is the best.
        const VectorXd mean = found->index.col(0).array().exp();
        const auto y = design.y.array();
        const Eigen::ArrayXd excess = (y - mean.array()).square() - y;
        const double slope = law == CountLaw::Quadratic ? (w.array() * excess).sum()
                                                        : (w.array() * excess / mean.array()).sum();
        told->dispersion = 0.0;
        if (slope <= 0.0) {
            told->atBoundary = true;
            used = CountLaw::Poisson;
            notes.emplace_back(
                "The outcome spreads no more than a Poisson count does: the dispersion is at its "
                "boundary of zero, and the estimates are Poisson’s.");
        } else {
            const CountModel model(design.y, law);
            const double size = law == CountLaw::Quadratic
                                    ? (w.array() * mean.array().square()).sum()
                                    : (w.array() * mean.array()).sum();
            // What a dispersion is measured by: at 1/μ (one, of the linear form) it doubles the
            // variance.
            const double unit =
                law == CountLaw::Quadratic ? w.sum() / std::max(w.dot(mean), 1e-300) : 1.0;
            VectorXd start(found->theta.size() + 1);
            start << found->theta,
                std::log(std::clamp(slope / size, std::min(1e-3 * unit, 1e-6), 50.0));
            auto own = maximise(part, model, start, design.weights, job, scores);
            constexpr double kNextToNone = 0.05;
            if (!own && own.error().code != ErrorCode::Stopped &&
                slope / size < kNextToNone * unit) {
                told->atBoundary = true;
                used = CountLaw::Poisson;
                notes.emplace_back(
                    "The outcome spreads hardly more than a Poisson count does, too little for a "
                    "dispersion to be told: the estimates are Poisson’s.");
            } else if (!own) {
                return tl::make_unexpected(own.error());
            } else {
                found = std::move(own);
                told->dispersion = std::exp(found->theta(found->theta.size() - 1));
                told->dispersionSe =
                    *told->dispersion * found->factor.row(found->theta.size() - 1).norm();
                further.push_back({"dispersion", "alpha"});
            }
        }
    }
    const CountModel model(design.y, used);
    const VectorXd mean = found->index.col(0).array().exp();
    VectorXd start = VectorXd::Zero(1 + model.extras());
    start(0) = std::log(
        std::max(w.dot(design.y), 1e-8) /
        (design.offset.size() > 0 ? w.dot(design.offset.array().exp().matrix()) : w.sum()));
    if (model.extras() > 0) {
        start(1) = found->theta(found->theta.size() - 1);
    }
    told->nullLogLikelihood =
        nullLikelihood(design, model, 0, start, job).value_or(LikelihoodFit::kNone);
    told->deviance =
        devianceOf(used, design.y, mean, told->dispersion.value_or(0.0), design.weights);
    told->pearson = 0.0;
    for (Index i = 0; i < mean.size(); ++i) {
        const double d = design.y(i) - mean(i);
        told->pearson += w(i) * d * d / varianceOf(used, mean(i), told->dispersion.value_or(0.0));
    }
    LikelihoodInput input{
        design, *std::move(found), columns->kept, columns->dropped, std::move(further), {},
        {},     std::move(told),   mean};
    input.leverage = rowLeverages(part.X, input.maximum.factor.topRows(part.X.cols()),
                                  curvatures(model, input.maximum, part.X.cols()), design.weights);
    const auto k = static_cast<Index>(columns->kept.size());
    input.shown = [k](Index j, double value) {
        return j < k ? std::pair(value, 1.0) : std::pair(std::exp(value), std::exp(value));
    };
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit) {
        fit->notes.insert(fit->notes.end(), notes.begin(), notes.end());
    }
    return fit;
}

/// Rows of groups whose outcome is zero throughout say nothing of the effects of terms.
std::vector<Index> allZeroRows(const Design& design) {
    std::vector<bool> out(static_cast<std::size_t>(design.y.size()), false);
    for (bool again = true; again;) {
        again = false;
        for (const SweptGrouping& effects : design.effects) {
            std::vector<double> sums(static_cast<std::size_t>(effects.count), 0.0);
            for (std::size_t i = 0; i < effects.of.size(); ++i) {
                if (!out[i]) {
                    sums[static_cast<std::size_t>(effects.of[i])] +=
                        design.y(static_cast<Index>(i));
                }
            }
            for (std::size_t i = 0; i < effects.of.size(); ++i) {
                if (!out[i] && sums[static_cast<std::size_t>(effects.of[i])] == 0.0) {
                    out[i] = true;
                    again = true;
                }
            }
        }
    }
    std::vector<Index> rows;
    for (std::size_t i = 0; i < out.size(); ++i) {
        if (out[i]) {
            rows.push_back(static_cast<Index>(i));
        }
    }
    return rows;
}

/// Poisson with effects: weighted least squares of the working outcome, effects swept out under the
/// weights of the step.
Result<Fit> fitPoissonWithEffects(const Design& asked, const ErrorSpec& errors, double alpha,
                                  const Job& job) {
    const auto zeros = allZeroRows(asked);
    const Design design = zeros.empty() ? asked : without(asked, zeros);
    if (design.y.size() == 0) {
        return refuse(ErrorCode::NoVariation, "the outcome is zero in every row", "outcome",
                      "There is nothing to explain.");
    }
    for (const SweptGrouping& effects : design.effects) {
        if (effects.slopes.cols() > 0) {
            return refuse(ErrorCode::NotBuilt, "slopes of their own are not built for Poisson yet",
                          "held fixed", "Leave the slopes out.");
        }
    }
    const Index n = design.y.size();
    const Index first = design.hasConstant ? 1 : 0;
    const Index k = design.X.cols() - first;
    const VectorXd w = rowWeights(design);
    std::vector<EffectGroups> groupings;
    for (const SweptGrouping& effects : design.effects) {
        groupings.push_back({effects.of.all(), effects.count});
    }
    const VectorXd offset = design.offset.size() > 0 ? design.offset : VectorXd(VectorXd::Zero(n));
    const double average = w.dot(design.y) / w.sum();
    VectorXd mean = 0.5 * (design.y.array() + average);
    VectorXd eta = mean.array().log();
    Design swept = design;
    LinearSolution solution;
    double deviance = std::numeric_limits<double>::infinity();
    int step = 0;
    int still = 0;
    bool done = false;
    SweptReport report;
    for (; step < 200 && !done; ++step) {
        const VectorXd working = w.cwiseProduct(mean);
        MatrixXd columns(n, 1 + k);
        columns.col(0) = (eta - offset).array() + (design.y - mean).array() / mean.array();
        columns.rightCols(k) = design.X.rightCols(k);
        const VectorXd lengths = columns.colwise().norm();
        auto one = sweepEffects(columns, groupings, working, job);
        if (!one) {
            return tl::make_unexpected(one.error());
        }
        report = *one;
        if (!report.converged) {
            return refuse(ErrorCode::NotConverged, "sweeping out what is held fixed did not settle",
                          "held fixed", "Hold something coarser fixed.");
        }
        for (Index j = 0; j < k; ++j) {
            if (columns.col(1 + j).norm() <= 1e-9 * lengths(1 + j)) {
                columns.col(1 + j).setZero();
            }
        }
        swept.X.rightCols(k) = columns.rightCols(k);
        swept.y = columns.col(0);
        const MatrixXd X = columns.rightCols(k);
        auto line = solveLinear({X, swept.y, working, false}, false, job);
        if (!line) {
            return tl::make_unexpected(line.error());
        }
        solution = *std::move(line);
        eta =
            (eta.array() + (design.y - mean).array() / mean.array()).matrix() - solution.residuals;
        eta = eta.cwiseMax(-600.0).cwiseMin(600.0);
        mean = eta.array().exp();
        double now = 0.0;
        for (Index i = 0; i < n; ++i) {
            const double y = design.y(i);
            now += 2.0 * w(i) * ((y > 0.0 ? y * std::log(y / mean(i)) : 0.0) - (y - mean(i)));
        }
        // Of large counts that are told nearly exactly the deviance is a difference of numbers many
        // times its size: twice in a row under their rounding, a step has nothing left to gain.
        const double rounding =
            8.0 * std::numeric_limits<double>::epsilon() * w.dot(design.y.cwiseAbs());
        const double change = std::abs(now - deviance);
        still = change <= rounding ? still + 1 : 0;
        done = step > 2 && (change <= 1e-14 * std::max(1.0, std::abs(now)) || still > 1);
        deviance = now;
    }
    if (!done) {
        return refuse(ErrorCode::NotConverged,
                      "the search did not settle in " +
                          plural(static_cast<std::size_t>(step), "step", "steps"),
                      "method", "Hold something coarser fixed, or take terms out.");
    }
    // A score is a swept column times (y − μ): least squares’ formulas with these.
    Maximum maximum;
    const auto kept = static_cast<Index>(solution.kept.size());
    if (kept == 0) {
        return refuse(ErrorCode::NoTerms, "no term is left beside what is held fixed", "terms",
                      "Add a term that varies within the groups, or hold less fixed.");
    }
    maximum.theta = solution.coefficients;
    maximum.factor = solution.factor;
    for (Index j = 0; j < kept; ++j) {
        // Standard errors of a hundred thousand for a usual step of the column on a log scale.
        const double usual =
            swept.X.rightCols(k).col(solution.kept[static_cast<std::size_t>(j)]).norm() /
            std::sqrt(static_cast<double>(n));
        if (solution.factor.row(j).norm() * usual > 1e5) {
            return refuse(ErrorCode::RankDeficient,
                          "the likelihood is flat: other values of the coefficients do as well "
                          "beside what is held fixed",
                          "method", "Take a term out, merge rare levels, or hold less fixed.");
        }
    }
    const MatrixXd X = swept.X.rightCols(k)(Eigen::all, solution.kept);
    const VectorXd e = design.y - mean;
    maximum.scores = e.asDiagonal() * X;
    maximum.index = eta;
    maximum.iterations = step;
    auto told = std::make_shared<LikelihoodFit>(families::kPoisson);
    told->deviance = deviance;
    told->separated = zeros.size();
    told->pearson = (w.array() * e.array().square() / mean.array()).sum();
    for (Index i = 0; i < n; ++i) {
        maximum.logLikelihood +=
            w(i) * countTerms(CountLaw::Poisson, design.y(i),
                              boost::math::lgamma(design.y(i) + 1.0), eta(i), 0.0)
                       .value;
    }
    VectorXd h = (X * solution.factor).rowwise().squaredNorm();
    h = h.cwiseProduct(w).cwiseProduct(mean);
    if (errors.kind == "robust" && errors.type != "HC0" && errors.type != "HC1") {
        // Of the effects, too, under the weights of the last step.
        Design working = design;
        working.hasConstant = false;
        working.weights = w.cwiseProduct(mean);
        const auto own = heldLeverage(working, job);
        if (!own) {
            return tl::make_unexpected(own.error());
        }
        h += *own;
    }
    Design shown = design;
    LikelihoodInput input{shown, std::move(maximum), {}, {}, {}, h, {}, std::move(told), mean};
    for (Index j = 0; j < kept; ++j) {
        input.kept.push_back(solution.kept[static_cast<std::size_t>(j)] + first);
    }
    for (const RedundantColumn& r : solution.redundant) {
        const bool held =
            X.rows() > 0 && swept.X.col(r.column + first).cwiseAbs().maxCoeff() == 0.0;
        input.dropped.push_back(
            {design.columns[static_cast<std::size_t>(r.column + first)].name,
             held ? heldReason(design) : std::string("says what other terms say")});
    }
    input.effectsRank = report.rank;
    shown.effectsRank = report.rank;
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit) {
        if (!zeros.empty()) {
            fit->notes.push_back(plural(zeros.size(), "row lies", "rows lie") +
                                 " in groups whose outcome is zero throughout: they say nothing "
                                 "of the terms, and leave.");
        }
        fit->linearised = std::make_shared<const Design>(std::move(shown));
    }
    return fit;
}

Result<Fit> fitTwoParts(const Design& design, const Family& family,
                        const EstimatorSettings& settings, const ErrorSpec& errors, double alpha,
                        const Job& job) {
    const CountLaw law = countLawOf(family, settings);
    const bool hurdle = family.zeros == Family::Zeros::Hurdle;
    if (!(design.y.array() == 0.0).any()) {
        return refuse(ErrorCode::NoVariation,
                      "the outcome ‘" + design.outcome + "’ is zero in no row", "outcome",
                      "There is no zero to tell apart: use a plain or a truncated count.");
    }
    const bool own = design.zeroX.cols() > 0;
    const MatrixXd& zeroX = own ? design.zeroX : design.X;
    const auto& zeroColumns = own ? design.zeroColumns : design.columns;
    const bool zeroConstant = own || design.hasConstant;
    const auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    const auto zero = independentColumns(zeroX, zeroColumns, zeroConstant, job);
    if (!columns || !zero) {
        return tl::make_unexpected((columns ? zero : columns).error());
    }
    const IndexPart part = mainPart(design, columns->kept);
    const IndexPart second{MatrixXd(zeroX(Eigen::all, zero->kept)), VectorXd(), zeroConstant};
    const VectorXd w = rowWeights(design);
    const CountModel poisson(design.y, CountLaw::Poisson);
    const auto plain =
        maximise(part, poisson, countStart(design, part), design.weights, job, false);
    if (!plain) {
        return tl::make_unexpected(plain.error());
    }
    const TwoPartModel model(design.y, law, hurdle);
    const Index k = part.X.cols();
    const Index q = second.X.cols();
    VectorXd start = VectorXd::Zero(k + q + model.extras());
    start.head(k) = plain->theta;
    const double zeros = (w.array() * (design.y.array() == 0.0).cast<double>()).sum() / w.sum();
    const double expected =
        (w.array() * (-plain->index.col(0).array().exp()).exp()).sum() / w.sum();
    const double share = hurdle ? 1.0 - zeros : std::clamp(zeros - expected, 0.05, 0.9);
    if (zeroConstant) {
        start(k) = std::log(share / (1.0 - share));
    }
    if (model.extras() > 0) {
        start(k + q) = std::log(0.5);
    }
    auto found =
        maximise({part, second}, model, start, design.weights, job, errors.kind != "classical");
    if (!found) {
        Refusal refusal = found.error();
        if (refusal.code != ErrorCode::Stopped) {
            refusal.help = hurdle ? "Some term may tell who crosses for certain: take terms out of "
                                    "the part for zeros."
                                  : "There may be no excess of zeros: compare with a plain count, "
                                    "or take terms out of the part for zeros.";
        }
        return tl::make_unexpected(refusal);
    }
    auto told = std::make_shared<LikelihoodFit>(family);
    told->linearSpread = law == CountLaw::Linear;
    VectorXd nullStart(2 + model.extras());
    nullStart.setZero();
    nullStart(0) = start(0);
    nullStart(1) = zeroConstant ? start(k) : 0.0;
    const double average = w.dot(design.y) / w.sum() / std::max(1.0 - zeros, 1e-3);
    nullStart(0) = std::log(average);
    told->nullLogLikelihood =
        nullLikelihood(design, model, 1, nullStart, job).value_or(LikelihoodFit::kNone);
    if (model.extras() > 0) {
        told->dispersion = std::exp(found->theta(k + q));
        told->dispersionSe = *told->dispersion * found->factor.row(k + q).norm();
        told->extras = found->theta.tail(1);
    }
    VectorXd fitted(design.y.size());
    for (Index i = 0; i < fitted.size(); ++i) {
        const double mean = std::exp(found->index(i, 0));
        const double pi = 1.0 / (1.0 + std::exp(-found->index(i, 1)));
        if (hurdle) {
            const double none = countProbability(law, 0.0, mean, told->dispersion.value_or(0.0));
            fitted(i) = pi * mean / (1.0 - none);
        } else {
            fitted(i) = (1.0 - pi) * mean;
        }
    }
    std::vector<ExtraName> further;
    for (const Index column : zero->kept) {
        further.push_back({"zero", zeroColumns[static_cast<std::size_t>(column)].name});
    }
    if (model.extras() > 0) {
        further.push_back({"dispersion", "alpha"});
    }
    auto dropped = columns->dropped;
    dropped.insert(dropped.end(), zero->dropped.begin(), zero->dropped.end());
    LikelihoodInput input{
        design, *std::move(found), columns->kept, std::move(dropped), std::move(further), {},
        {},     std::move(told),   fitted};
    input.shown = [last = k + q](Index j, double value) {
        return j < last ? std::pair(value, 1.0) : std::pair(std::exp(value), std::exp(value));
    };
    return fitOfLikelihood(std::move(input), errors, alpha, job);
}

tl::unexpected<Refusal> noEffects(const std::string& method) {
    return refuse(ErrorCode::NotBuilt, "effects held fixed are not built for " + method + " yet",
                  "held fixed",
                  "Poisson with robust or clustered errors takes them, and asks for no more than "
                  "the right mean.");
}

}  // namespace

Result<Fit> fitPoisson(const Design& design, const EstimatorSettings& /*settings*/,
                       const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkCounts(design, false, true); !done) {
        return tl::make_unexpected(done.error());
    }
    return design.effects.empty()
               ? fitOneIndex(design, CountLaw::Poisson, families::kPoisson, errors, alpha, job)
               : fitPoissonWithEffects(design, errors, alpha, job);
}

Result<Fit> fitNegativeBinomial(const Design& design, const EstimatorSettings& settings,
                                const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkCounts(design, true, true); !done) {
        return tl::make_unexpected(done.error());
    }
    if (!design.effects.empty()) {
        return noEffects("negative binomial counts");
    }
    const Family& family = families::kNegativeBinomial;
    return fitOneIndex(design, countLawOf(family, settings), family, errors, alpha, job);
}

Result<Fit> fitZeroInflated(const Design& design, const EstimatorSettings& settings,
                            const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkCounts(design, true, true); !done) {
        return tl::make_unexpected(done.error());
    }
    if (!design.effects.empty()) {
        return noEffects("counts with two kinds of zeros");
    }
    return fitTwoParts(design, families::kZeroInflated, settings, errors, alpha, job);
}

namespace {

/// Counts behind a hurdle that are all one have no rate: the smaller the likelier.
Result<void> someAboveOne(const Design& design) {
    if (design.y.maxCoeff() <= 1.0) {
        return refuse(ErrorCode::NoVariation,
                      "the outcome ‘" + design.outcome +
                          "’ is above one in no row: how many there are where there is any has no "
                          "finite estimate",
                      "outcome", "Ask by logit whether there is any.", {design.outcome});
    }
    return {};
}

}  // namespace

Result<Fit> fitHurdle(const Design& design, const EstimatorSettings& settings,
                      const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkCounts(design, true, true); !done) {
        return tl::make_unexpected(done.error());
    }
    if (!design.effects.empty()) {
        return noEffects("counts behind a hurdle");
    }
    if (auto done = someAboveOne(design); !done) {
        return tl::make_unexpected(done.error());
    }
    return fitTwoParts(design, families::kHurdle, settings, errors, alpha, job);
}

Result<Fit> fitTruncated(const Design& design, const EstimatorSettings& settings,
                         const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkCounts(design, true, false); !done) {
        return tl::make_unexpected(done.error());
    }
    if (!design.effects.empty()) {
        return noEffects("truncated counts");
    }
    if (auto done = someAboveOne(design); !done) {
        return tl::make_unexpected(done.error());
    }
    const CountLaw law = countLawOf(families::kTruncated, settings);
    const auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const IndexPart part = mainPart(design, columns->kept);
    const TruncatedModel model(design.y, law);
    VectorXd start(part.X.cols() + model.extras());
    start.setZero();
    start.head(part.X.cols()) = countStart(design, part);
    if (model.extras() > 0) {
        start(part.X.cols()) = std::log(0.5);
    }
    auto found = maximise(part, model, start, design.weights, job, errors.kind != "classical");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto told = std::make_shared<LikelihoodFit>(families::kTruncated);
    told->linearSpread = law == CountLaw::Linear;
    const Index k = part.X.cols();
    std::vector<ExtraName> further;
    VectorXd nullStart = VectorXd::Zero(1 + model.extras());
    nullStart(0) = std::log(design.y.mean());
    if (model.extras() > 0) {
        told->dispersion = std::exp(found->theta(k));
        told->dispersionSe = *told->dispersion * found->factor.row(k).norm();
        further.push_back({"dispersion", "alpha"});
        nullStart(1) = found->theta(k);
    }
    told->nullLogLikelihood =
        nullLikelihood(design, model, 0, nullStart, job).value_or(LikelihoodFit::kNone);
    VectorXd fitted(design.y.size());
    for (Index i = 0; i < fitted.size(); ++i) {
        const double mean = std::exp(found->index(i, 0));
        fitted(i) = mean / (1.0 - countProbability(law, 0.0, mean, told->dispersion.value_or(0.0)));
    }
    LikelihoodInput input{
        design, *std::move(found), columns->kept, columns->dropped, std::move(further), {},
        {},     std::move(told),   fitted};
    input.leverage = rowLeverages(part.X, input.maximum.factor.topRows(part.X.cols()),
                                  curvatures(model, input.maximum, part.X.cols()), design.weights);
    input.shown = [k](Index j, double value) {
        return j < k ? std::pair(value, 1.0) : std::pair(std::exp(value), std::exp(value));
    };
    return fitOfLikelihood(std::move(input), errors, alpha, job);
}

std::unique_ptr<RowModel> poissonModel(const VectorXd& y) {
    return std::make_unique<CountModel>(y, CountLaw::Poisson);
}

}  // namespace rapporto
