#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/penalised_profile.h"
#include "core/numerics/distributions.h"
#include "core/numerics/kernels.h"
#include "core/numerics/normal_below.h"

#include <boost/math/special_functions/erf.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

enum class Link : std::uint8_t { Logit, Probit, Cloglog };

/// y in {0, 1} (or a share between) by one index.
class YesNoModel final : public RowModel {
  public:
    YesNoModel(const VectorXd& y, Link link) : y_(y), link_(link) {}

    double row(Index i, const double* at, double* g, double* H) const override {
        const double y = y_(i);
        const double eta = at[0];
        if (link_ == Link::Logit) {
            const double p = 1.0 / (1.0 + std::exp(-eta));
            const double small = std::log1p(std::exp(-std::abs(eta)));
            g[0] = y - p;
            if (H != nullptr) {
                // p(1 − p) from the smaller of both.
                const double e = std::exp(-std::abs(eta));
                H[0] = -e / ((1.0 + e) * (1.0 + e));
            }
            return (eta < 0.0 ? y * eta : (y - 1.0) * eta) - small;
        }
        if (link_ == Link::Probit) {
            const double side = y > 0.5 ? 1.0 : -1.0;
            const NormalBelow t = normalBelow(side * eta);
            g[0] = side * t.ratio;
            if (H != nullptr) {
                H[0] = -t.ratio * (t.ratio + side * eta);
            }
            return t.value;
        }
        // P(1) = 1 − exp(−e^η).
        const double mu = std::exp(eta);
        if (y > 0.5) {
            const double odds = 1.0 / std::expm1(mu);  // e^−μ/(1 − e^−μ)
            g[0] = mu > 0.0 ? mu * odds : 1.0;
            if (H != nullptr) {
                H[0] = mu > 1e-300 ? g[0] * (1.0 - mu - g[0]) : 0.0;
            }
            return std::log(-std::expm1(-mu));
        }
        g[0] = -mu;
        if (H != nullptr) {
            H[0] = -mu;
        }
        return -mu;
    }

    double block(Index from, Index rows, const MatrixXd& eta, const double* shared,
                 const double* weights, RowTerms* terms) const override {
        if (link_ != Link::Logit) {
            return RowModel::block(from, rows, eta, shared, weights, terms);
        }
        std::array<double, kernels::kBlock> away = {};
        for (Index i = 0; i < rows; ++i) {
            away[static_cast<std::size_t>(i)] = -std::abs(eta(i, 0));
        }
        std::array<double, kernels::kBlock> small = {};
        kernels::expInto(small.data(), away.data(), rows);
        double sum = 0.0;
        double product = 1.0;  // Of 1 + e^−|η|, each at most 2: one logarithm for all of them.
        for (Index i = 0; i < rows; ++i) {
            const double w = weights != nullptr ? weights[i] : 1.0;
            const double e = small[static_cast<std::size_t>(i)];
            const double at = eta(i, 0);
            const double y = y_(from + i);
            const double inverse = 1.0 / (1.0 + e);
            const double p = at < 0.0 ? e * inverse : inverse;
            sum += w * (at < 0.0 ? y * at : (y - 1.0) * at);
            if (weights == nullptr) {
                product *= 1.0 + e;
            } else {
                sum -= w * std::log1p(e);
            }
            if (terms != nullptr) {
                terms->first(i, 0) = w * (y - p);
                terms->second(i, 0) = w * e * inverse * inverse;
            }
        }
        return sum - std::log(product);
    }

  private:
    const VectorXd& y_;
    Link link_;
};

VectorXd probabilities(const VectorXd& index, Link link) {
    return index.unaryExpr([link](double eta) {
        return link == Link::Logit    ? 1.0 / (1.0 + std::exp(-eta))
               : link == Link::Probit ? 0.5 * boost::math::erfc(-eta / std::numbers::sqrt2)
                                      : -std::expm1(-std::exp(eta));
    });
}

double constantFor(double share, Link link) {
    return link == Link::Logit    ? std::log(share / (1.0 - share))
           : link == Link::Probit ? normalQuantile(share)
                                  : std::log(-std::log1p(-share));
}

Result<void> checkYesNo(const Design& design, bool shares) {
    for (Index i = 0; i < design.y.size(); ++i) {
        const double y = design.y(i);
        if (shares ? (y < 0.0 || y > 1.0) : (y != 0.0 && y != 1.0)) {
            return refuse(ErrorCode::BadSetting,
                          "the outcome ‘" + design.outcome + "’ is " + shortNumber(y, 6) +
                              " in row " +
                              std::to_string(design.rows[static_cast<std::size_t>(i)] + 1),
                          "outcome",
                          shares ? "A share lies between 0 and 1."
                                 : "A yes–no outcome is 0 or 1: state a condition, as in " +
                                       design.outcome + " > 0.",
                          {design.outcome});
        }
    }
    return {};
}

Refusal separated(const Design& design, const std::vector<Index>& kept,
                  const Separation& separation) {
    std::vector<std::string> names;
    for (const Index j : separation.columns) {
        names.push_back(
            design.columns[static_cast<std::size_t>(kept[static_cast<std::size_t>(j)])].name);
    }
    std::erase(names, "(constant)");
    const std::string who = names.empty() ? "the constant" : joinedNames(names);
    const bool all = separation.rows.size() == static_cast<std::size_t>(design.y.size());
    return {ErrorCode::RankDeficient,
            (names.size() > 1 ? "a combination of " + who + " tells" : who + " tells") + " ‘" +
                design.outcome + "’ for certain in " +
                (all ? std::string("every row") : plural(separation.rows.size(), "row", "rows")) +
                ": its effect has no finite estimate",
            "method", "Ask by the penalised logit (Firth), merge levels, or take the term out.",
            names};
}

/// Firth’s penalised logit: ℓ + ½ ln|X'WX|, by scoring.
Result<Maximum> penalised(const IndexPart& part, const Design& design, const Job& job) {
    const Index k = part.X.cols();
    const VectorXd prior = rowWeights(design);
    VectorXd b = VectorXd::Zero(k);
    Maximum out;
    const auto penalisedValue = [&](const VectorXd& at, VectorXd* p, MatrixXd* inverse) {
        VectorXd eta = part.X * at;
        if (part.offset.size() > 0) {
            eta += part.offset;
        }
        const VectorXd mean = probabilities(eta, Link::Logit);
        const VectorXd W =
            (prior.array() * mean.array() * (1.0 - mean.array())).max(1e-300).matrix();
        const MatrixXd I = part.X.transpose() * W.asDiagonal() * part.X;
        const VectorXd unit = I.diagonal().cwiseSqrt().cwiseInverse();
        const Eigen::LLT<MatrixXd> llt(unit.asDiagonal() * I * unit.asDiagonal());
        double value = -std::numeric_limits<double>::infinity();
        if (llt.info() == Eigen::Success) {
            value =
                MatrixXd(llt.matrixL()).diagonal().array().log().sum() - unit.array().log().sum();
            const YesNoModel model(design.y, Link::Logit);
            for (Index i = 0; i < eta.size(); ++i) {
                double g = 0.0;
                value += prior(i) * model.row(i, &eta(i), &g, nullptr);
            }
            if (inverse != nullptr) {
                const MatrixXd full = llt.solve(MatrixXd::Identity(k, k));
                *inverse = unit.asDiagonal() * full * unit.asDiagonal();
            }
        }
        if (p != nullptr) {
            *p = mean;
        }
        return value;
    };
    VectorXd p;
    MatrixXd inverse;
    double value = penalisedValue(b, &p, &inverse);
    if (!std::isfinite(value)) {
        return refuse(ErrorCode::NotConverged,
                      "the penalised search has no place to start from: by the offset or exposure "
                      "alone each answer is as good as certain",
                      "method", "Give the exposure another unit, or take it out.");
    }
    bool done = false;
    VectorXd modified;
    for (; out.iterations < 500 && !done; ++out.iterations) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped");
        }
        const VectorXd W = prior.array() * p.array() * (1.0 - p.array());
        VectorXd h(p.size());
        const MatrixXd XI = part.X * inverse;
        for (Index i = 0; i < h.size(); ++i) {
            h(i) = W(i) * XI.row(i).dot(part.X.row(i));
        }
        modified = (design.y - p).array() + (h.array() / prior.array()) * (0.5 - p.array());
        const VectorXd score = part.X.transpose() * prior.cwiseProduct(modified);
        const VectorXd step = inverse * score;
        out.gradient = score.dot(step);
        done = out.gradient < 1e-22 * std::max(1.0, std::abs(value));
        double length = 1.0;
        for (int half = 0; half < 40; ++half, length *= 0.5) {
            VectorXd next;
            MatrixXd nextInverse;
            const double found = penalisedValue(b + length * step, &next, &nextInverse);
            if (std::isfinite(found) && found >= value - 1e-12 * std::abs(value)) {
                b += length * step;
                value = found;
                p = next;
                inverse = nextInverse;
                break;
            }
        }
    }
    if (!done && out.gradient > 1e-12) {
        return refuse(ErrorCode::NotConverged, "the penalised search did not settle", "method",
                      "Take a term out.");
    }
    out.theta = b;
    out.index = part.X * b;
    if (part.offset.size() > 0) {
        out.index.col(0) += part.offset;
    }
    const Eigen::LLT<MatrixXd> llt(inverse);
    out.factor = llt.matrixL();
    out.scores = modified.asDiagonal() * part.X;
    const YesNoModel model(design.y, Link::Logit);
    for (Index i = 0; i < design.y.size(); ++i) {
        double g = 0.0;
        out.logLikelihood += prior(i) * model.row(i, &out.index(i, 0), &g, nullptr);
    }
    return out;
}

/// Firth’s logit on columns that were made orthonormal, so that neither unit nor place of a term
/// costs a digit; the penalty differs by a constant alone. The result is of the columns as they
/// are.
Result<Maximum> penalisedOf(const IndexPart& part, const Design& design, const Job& job) {
    const VectorXd none;
    const auto turned = solveLinear({part.X, design.y, none, design.hasConstant}, false, job);
    if (!turned) {
        return tl::make_unexpected(turned.error());
    }
    if (static_cast<Index>(turned->kept.size()) < part.X.cols()) {
        return refuse(ErrorCode::RankDeficient, "a term says what others say in these rows",
                      "terms",
                      "Take it out.");  // Of rows drawn anew, that draw gives nothing.
    }
    const IndexPart own{orthonormalColumns(part.X, *turned), part.offset, false};
    auto found = penalised(own, design, job);
    if (!found) {
        return found;
    }
    found->theta = (turned->factor * found->theta).eval();
    found->factor = (turned->factor * found->factor).eval();
    // Scores are a factor of each row times its columns.
    const VectorXd size = own.X.rowwise().squaredNorm();
    VectorXd by(size.size());
    for (Index i = 0; i < by.size(); ++i) {
        by(i) = size(i) > 0.0 ? found->scores.row(i).dot(own.X.row(i)) / size(i) : 0.0;
    }
    found->scores = by.asDiagonal() * part.X;
    return found;
}

/// Ends of the penalised profile likelihood of every coefficient: where twice its fall from the top
/// is what chance lets it be. Searched on orthonormal columns, b = F c, so that what is held is a
/// linear condition on c. Source: Heinze & Schemper (2002), Statistics in Medicine 21.
class PenalisedProfile {
  public:
    PenalisedProfile(const Design& design, const Fit& fit, const LinearSolution& turned,
                     double alpha)
        : F_(turned.factor),
          Q_(orthonormalColumns(MatrixXd(design.X(Eigen::all, fit.solution.kept)), turned)),
          offset_(design.offset),
          y_(design.y),
          w_(rowWeights(design)),
          b_(fit.solution.coefficients),
          se_(fit.likelihood->inverse.diagonal().cwiseSqrt()),
          fall_(0.5 * std::pow(criticalValue(alpha, std::nullopt), 2)) {
        top_ = F_.fullPivLu().solve(b_);
        const auto at = best(MatrixXd(F_.cols(), 0), VectorXd(), top_);
        best_ = at.value_or(0.0);
    }

    /// The end of coefficient j on a side (−1, +1); absent where the search leads nowhere.
    [[nodiscard]] std::optional<double> end(Index j, double side) const {
        // Outwards until the fall is passed, then halved and interpolated.
        VectorXd c = top_;
        double inner = b_(j);
        double innerFall = 0.0;
        double outer = inner;
        double outerFall = 0.0;
        double width = 2.0 * se_(j);
        for (int grow = 0; grow < 60 && outerFall < fall_; ++grow, width *= 1.5) {
            inner = outer;
            innerFall = outerFall;
            outer = inner + side * width;
            const auto fall = fallAt({j}, outer, c);
            if (!fall) {
                return std::nullopt;
            }
            outerFall = *fall;
        }
        if (outerFall < fall_) {
            return std::nullopt;
        }
        for (int closer = 0; closer < 200 && std::abs(outer - inner) > 1e-10 * se_(j); ++closer) {
            double at = inner + (outer - inner) * (fall_ - innerFall) / (outerFall - innerFall);
            if (closer % 3 == 2) {
                at = 0.5 * (inner + outer);
            }
            const auto fall = fallAt({j}, at, c);
            if (!fall) {
                return std::nullopt;
            }
            (*fall < fall_ ? inner : outer) = at;
            (*fall < fall_ ? innerFall : outerFall) = *fall;
        }
        return 0.5 * (inner + outer);
    }

    /// Twice the fall to all of these at zero.
    [[nodiscard]] std::optional<double> ratioOfNone(const std::vector<Index>& which) const {
        VectorXd c = top_;
        const auto fall = fallAt(which, 0.0, c);
        return fall ? std::optional(std::max(2.0 * *fall, 0.0)) : std::nullopt;
    }

  private:
    struct State {
        double value = 0.0;
        VectorXd score;
        MatrixXd information;
    };

    /// ℓ + ½ ln |I| over all columns, its slope, and the information.
    [[nodiscard]] std::optional<State> stateAt(const VectorXd& c) const {
        VectorXd eta = Q_ * c;
        if (offset_.size() > 0) {
            eta += offset_;
        }
        const VectorXd p = probabilities(eta, Link::Logit);
        const VectorXd W = w_.array() * p.array() * (1.0 - p.array());
        State out;
        out.information = Q_.transpose() * W.asDiagonal() * Q_;
        const Eigen::LLT<MatrixXd> llt(out.information);
        if (llt.info() != Eigen::Success) {
            return std::nullopt;
        }
        const YesNoModel model(y_, Link::Logit);
        double g = 0.0;
        for (Index i = 0; i < eta.size(); ++i) {
            out.value += w_(i) * model.row(i, &eta(i), &g, nullptr);
        }
        out.value += MatrixXd(llt.matrixL()).diagonal().array().log().sum();
        const MatrixXd QI = llt.solve(Q_.transpose()).transpose();
        const VectorXd h = W.array() * QI.cwiseProduct(Q_).rowwise().sum().array();
        out.score = Q_.transpose() *
                    (w_.array() * (y_ - p).array() + h.array() * (0.5 - p.array())).matrix();
        return std::isfinite(out.value) ? std::optional(std::move(out)) : std::nullopt;
    }

    /// The largest value where A'c = held; c is where it is found.
    [[nodiscard]] std::optional<double> best(const MatrixXd& A, const VectorXd& held,
                                             VectorXd& c) const {
        if (A.cols() > 0) {
            c += A * (A.transpose() * A).ldlt().solve(VectorXd(held - A.transpose() * c));
        }
        auto at = stateAt(c);
        for (int step = 0; at && step < 200; ++step) {
            const Eigen::LDLT<MatrixXd> information(at->information);
            VectorXd move = information.solve(at->score);
            if (A.cols() > 0) {
                const MatrixXd IA = information.solve(A);
                const MatrixXd inner = A.transpose() * IA;
                move -= IA * inner.ldlt().solve(VectorXd(A.transpose() * move));
            }
            const double gain = at->score.dot(move);
            if (gain < 1e-20 * std::max(1.0, std::abs(at->value))) {
                break;
            }
            double length = 1.0;
            std::optional<State> next;
            for (int half = 0; half < 40; ++half, length *= 0.5) {
                next = stateAt(c + length * move);
                if (next && next->value >= at->value - 1e-13 * std::abs(at->value)) {
                    break;
                }
            }
            if (!next) {
                return std::nullopt;
            }
            c += length * move;
            const bool still = std::abs(next->value - at->value) <= 1e-14 * std::abs(at->value);
            at = std::move(next);
            if (still && gain < 1e-14) {
                break;
            }
        }
        return at ? std::optional(at->value) : std::nullopt;
    }

    /// How far the best with these coefficients held there lies below the top.
    [[nodiscard]] std::optional<double> fallAt(const std::vector<Index>& which, double held,
                                               VectorXd& c) const {
        // Conditions of length one, whatever the units.
        MatrixXd A(F_.cols(), static_cast<Index>(which.size()));
        VectorXd values(A.cols());
        for (std::size_t q = 0; q < which.size(); ++q) {
            const auto at = static_cast<Index>(q);
            const double length = F_.row(which[q]).norm();
            A.col(at) = F_.row(which[q]).transpose() / length;
            values(at) = held / length;
        }
        const auto value = best(A, values, c);
        return value ? std::optional(best_ - *value) : std::nullopt;
    }

    MatrixXd F_;
    MatrixXd Q_;
    const VectorXd& offset_;
    const VectorXd& y_;
    VectorXd w_;
    VectorXd b_;
    VectorXd top_;
    VectorXd se_;
    double fall_;
    double best_ = 0.0;
};

Link linkOf(const Family& family) {
    return family.curve == Family::Curve::Probit    ? Link::Probit
           : family.curve == Family::Curve::Cloglog ? Link::Cloglog
                                                    : Link::Logit;
}

Result<Fit> fitYesNo(const Design& design, const Family& family, bool firth,
                     const ErrorSpec& errors, double alpha, const Job& job) {
    const Link link = linkOf(family);
    if (!design.effects.empty()) {
        return refuse(ErrorCode::NotBuilt,
                      "effects held fixed are not swept out of a yes–no outcome: with few rows a "
                      "group they would bias all others",
                      "held fixed",
                      "Ask by conditional logit for units, by least squares, or put a grouping "
                      "with many rows a level among the terms.");
    }
    if (design.offset.size() > 0 && !design.offset.allFinite()) {
        return refuse(ErrorCode::BadSetting, "the exposure is zero or less in some rows",
                      "exposure", "An exposure is above zero.");
    }
    const auto columns = independentColumns(design.X, design.columns, design.hasConstant, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    const IndexPart part{MatrixXd(design.X(Eigen::all, columns->kept)), design.offset,
                         design.hasConstant};
    const YesNoModel model(design.y, link);
    const VectorXd w = rowWeights(design);
    const double share = w.dot(design.y) / w.sum();
    VectorXd start = VectorXd::Zero(part.X.cols());
    if (design.hasConstant && design.offset.size() == 0) {
        start(0) = constantFor(std::clamp(share, 1e-8, 1.0 - 1e-8), link);
    }
    auto found =
        firth ? penalisedOf(part, design, job)
              : maximise(part, model, start, design.weights, job, errors.kind != "classical");
    if (!firth) {
        const bool ran = !found ? found.error().code != ErrorCode::Stopped
                                : found->index.col(0).cwiseAbs().maxCoeff() >
                                      (link == Link::Probit ? 6.0 : 15.0);
        if (ran) {
            const VectorXd signs = design.y.unaryExpr([](double y) {
                return y == 1.0 ? 1.0 : y == 0.0 ? -1.0 : 0.0;
            });
            if (const auto separation = findSeparation(part.X, signs, job)) {
                return tl::make_unexpected(separated(design, columns->kept, *separation));
            }
        }
    }
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto told = std::make_shared<LikelihoodFit>(family);
    const VectorXd p = probabilities(found->index.col(0), link);
    if (design.hasConstant) {
        VectorXd constant(1);
        constant(0) = constantFor(std::clamp(share, 1e-8, 1.0 - 1e-8), link);
        const auto none = maximise({{MatrixXd::Ones(design.y.size(), 1), design.offset, true}},
                                   model, constant, design.weights, job, false);
        told->nullLogLikelihood = none ? none->logLikelihood : LikelihoodFit::kNone;
    }
    told->deviance = -2.0 * found->logLikelihood;
    told->pearson = 0.0;
    for (Index i = 0; i < p.size(); ++i) {
        const double d = design.y(i) - p(i);
        told->pearson += w(i) * d * d / std::max(p(i) * (1.0 - p(i)), 1e-300);
    }
    const VectorXd h = rowLeverages(part.X, found->factor, curvatures(model, *found, part.X.cols()),
                                    design.weights);
    LikelihoodInput input{
        design, *std::move(found), columns->kept, columns->dropped, {}, h, {}, std::move(told), p};
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit && firth) {
        fit->notes.emplace_back("Firth’s penalty keeps every estimate finite.");
    }
    if (fit && family.outcome == Family::Outcome::Share && errors.kind == "classical") {
        fit->notes.emplace_back(
            "A share is not a yes–no draw: classical errors are not its own. Use robust ones.");
    }
    return fit;
}

}  // namespace

std::unique_ptr<RowModel> probitModel(const VectorXd& y) {
    return std::make_unique<YesNoModel>(y, Link::Probit);
}

std::unique_ptr<RowModel> plainModel(const Family* family, const VectorXd& y) {
    if (family == nullptr) {
        return nullptr;
    }
    if (family->isPoisson()) {
        return poissonModel(y);
    }
    return family->row == Family::Row::YesNo ? std::make_unique<YesNoModel>(y, linkOf(*family))
                                             : nullptr;
}

Result<Fit> fitLogit(const Design& design, const EstimatorSettings& settings,
                     const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkYesNo(design, false); !done) {
        return tl::make_unexpected(done.error());
    }
    return fitYesNo(design, families::kLogit, settings.penalised, errors, alpha, job);
}

Result<Fit> fitProbit(const Design& design, const EstimatorSettings& /*settings*/,
                      const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkYesNo(design, false); !done) {
        return tl::make_unexpected(done.error());
    }
    return fitYesNo(design, families::kProbit, false, errors, alpha, job);
}

Result<Fit> fitCloglog(const Design& design, const EstimatorSettings& /*settings*/,
                       const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkYesNo(design, false); !done) {
        return tl::make_unexpected(done.error());
    }
    return fitYesNo(design, families::kCloglog, false, errors, alpha, job);
}

Result<Fit> fitFractionalLogit(const Design& design, const EstimatorSettings& /*settings*/,
                               const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto done = checkYesNo(design, true); !done) {
        return tl::make_unexpected(done.error());
    }
    return fitYesNo(design, families::kFractionalLogit, false, errors, alpha, job);
}

void profileIntervals(Fit& fit, const Design& design, const EstimatorSettings& settings,
                      const ErrorSpec& errors, double alpha) {
    if (!fit.likelihood || fit.likelihood->family != &families::kLogit || !settings.penalised) {
        return;
    }
    const auto k = fit.solution.kept.size();
    constexpr std::size_t kMost = 20'000'000;  // Rows times squared columns, for every end.
    if (errors.kind != "classical" ||
        static_cast<std::size_t>(design.y.size()) * k * k * k > kMost) {
        fit.notes.emplace_back("With few rows its intervals by the curvature are rough.");
        return;
    }
    const VectorXd none;
    const MatrixXd X = design.X(Eigen::all, fit.solution.kept);
    const auto turned = solveLinear({X, design.y, none, design.hasConstant}, false, Job());
    if (!turned || turned->kept.size() != k) {
        fit.notes.emplace_back("With few rows its intervals by the curvature are rough.");
        return;
    }
    const PenalisedProfile profile(design, fit, *turned, alpha);
    std::vector<std::string> lost;
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        Coefficient& c = fit.coefficients[j];
        const auto at = static_cast<Index>(j);
        const auto low = profile.end(at, -1.0);
        const auto high = profile.end(at, 1.0);
        const auto ratio = profile.ratioOfNone({at});
        // An end that the search does not find does not exist: no other kind stands in for it.
        c.low = low.value_or(LikelihoodFit::kNone);
        c.high = high.value_or(LikelihoodFit::kNone);
        c.p = ratio ? std::optional(chiSquareTail(*ratio, 1.0)) : std::nullopt;
        if (!low || !high || !ratio) {
            lost.push_back(c.term);
        }
    }
    const auto slopes = jointEffects(design, fit.coefficients);
    if (const auto ratio = slopes.empty() ? std::nullopt : profile.ratioOfNone(slopes)) {
        const auto q = static_cast<double>(slopes.size());
        fit.statistics.f =
            FTest{*ratio / q, q, std::numeric_limits<double>::infinity(), chiSquareTail(*ratio, q)};
        auto told = std::make_shared<LikelihoodFit>(*fit.likelihood);
        told->penalisedRatio = true;
        fit.likelihood = std::move(told);
    }
    fit.notes.emplace_back(
        "Intervals and p are those of its profile, not the estimate and two errors; z is the "
        "estimate over its error.");
    if (!lost.empty()) {
        fit.notes.push_back("The profile of " + joinedNames(lost) +
                            " was lost on the way: that end is not told.");
    }
}

}  // namespace rapporto
