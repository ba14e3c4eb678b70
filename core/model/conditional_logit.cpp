// Yes–no outcomes within groups: the logit given how many rows of a group say yes.
#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// ln of the sum over all ways to say yes so often of exp(Σ xb over them), with the mean of Σx over
/// the ways and its covariance.
struct Ways {
    double log = 0.0;
    VectorXd mean;
    MatrixXd covariance;
};

/// Row by row: either it is among those that say yes, or it is not.
Ways waysOf(const MatrixXd& X, const VectorXd& eta, Index yes) {
    const Index rows = X.rows();
    const Index k = X.cols();
    constexpr double kNone = -1e300;
    std::vector<double> log(static_cast<std::size_t>(yes) + 1, kNone);
    std::vector<VectorXd> mean(log.size(), VectorXd::Zero(k));
    std::vector<MatrixXd> square(log.size(), MatrixXd::Zero(k, k));
    log[0] = 0.0;
    for (Index t = 0; t < rows; ++t) {
        const VectorXd x = X.row(t).transpose();
        // From many to few, so that the row before is still there.
        for (Index s = std::min(yes, t + 1); s >= 1; --s) {
            const auto at = static_cast<std::size_t>(s);
            const double with = log[at - 1] + eta(t);
            const double most = std::max(with, log[at]);
            const double sum = most + std::log(std::exp(with - most) + std::exp(log[at] - most));
            const double p = std::exp(with - sum);
            const MatrixXd joined = square[at - 1] + mean[at - 1] * x.transpose() +
                                    x * mean[at - 1].transpose() + x * x.transpose();
            square[at] = (1.0 - p) * square[at] + p * joined;
            mean[at] = (1.0 - p) * mean[at] + p * (mean[at - 1] + x);
            log[at] = sum;
        }
    }
    const VectorXd& m = mean.back();
    return {log.back(), m, square.back() - m * m.transpose()};
}

/// The same sum without its derivatives.
double logWays(const VectorXd& eta, Index yes, Index without) {
    if (yes < 0) {
        return -1e300;
    }
    std::vector<double> log(static_cast<std::size_t>(yes) + 1, -1e300);
    log[0] = 0.0;
    Index seen = 0;
    for (Index t = 0; t < eta.size(); ++t) {
        if (t == without) {
            continue;
        }
        ++seen;
        for (Index s = std::min(yes, seen); s >= 1; --s) {
            const auto at = static_cast<std::size_t>(s);
            const double with = log[at - 1] + eta(t);
            const double most = std::max(with, log[at]);
            log[at] = most + std::log(std::exp(with - most) + std::exp(log[at] - most));
        }
    }
    return log.back();
}

/// A group with its rows about their mean: the mean says nothing of who says yes within it.
struct Group {
    std::vector<Index> rows;
    MatrixXd X;
    Index yes = 0;
    double weight = 1.0;
};

class ConditionalFitter {
  public:
    ConditionalFitter(const Design& design, std::vector<Group> groups, std::vector<Index> kept)
        : design_(design), groups_(std::move(groups)), kept_(std::move(kept)) {}

    Result<Maximum> run(const Job& job) {
        const auto k = static_cast<Index>(kept_.size());
        VectorXd b = VectorXd::Zero(k);
        Maximum out;
        double value = evaluate(b);
        for (out.iterations = 0; out.iterations < 100; ++out.iterations) {
            if (job.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            const VectorXd unit = information_.diagonal().cwiseMax(1e-300).cwiseSqrt();
            const VectorXd inverse = unit.cwiseInverse();
            const Eigen::LLT<MatrixXd> llt(inverse.asDiagonal() * information_ *
                                           inverse.asDiagonal());
            const double least =
                llt.info() == Eigen::Success ? MatrixXd(llt.matrixL()).diagonal().minCoeff() : 0.0;
            if (least < 1e-7 || !b.allFinite()) {
                return refuse(ErrorCode::RankDeficient,
                              "within groups some term tells the answer for certain: its effect "
                              "has no finite estimate",
                              "method",
                              "Take the term out, or use least squares with effects held "
                              "fixed.");
            }
            const VectorXd step = inverse.cwiseProduct(llt.solve(inverse.cwiseProduct(gradient_)));
            out.gradient = gradient_.dot(step);
            const bool done = out.gradient < 1e-20 * std::max(1.0, std::abs(value));
            const VectorXd from = b;
            double length = 1.0;
            for (int half = 0; half < 40; ++half, length *= 0.5) {
                b = from + length * step;
                const double found = evaluate(b);
                if (std::isfinite(found) && found >= value - 1e-12 * std::abs(value)) {
                    value = found;
                    break;
                }
            }
            if (done) {
                break;
            }
        }
        out.theta = b;
        out.logLikelihood = value;
        const Eigen::LLT<MatrixXd> llt(information_.inverse());
        out.factor = llt.matrixL();
        out.scores = scores_;
        out.index = design_.X(Eigen::all, kept_) * b;
        return out;
    }

    /// P(yes) of each row given how many of its group say so.
    [[nodiscard]] VectorXd shares(const VectorXd& b) const {
        VectorXd out(design_.y.size());
        for (const Group& group : groups_) {
            const VectorXd eta = group.X * b;
            const double all = logWays(eta, group.yes, -1);
            for (std::size_t t = 0; t < group.rows.size(); ++t) {
                const auto at = static_cast<Index>(t);
                out(group.rows[t]) = std::exp(eta(at) + logWays(eta, group.yes - 1, at) - all);
            }
        }
        return out;
    }

    [[nodiscard]] double nullValue() {
        return evaluate(VectorXd::Zero(static_cast<Index>(kept_.size())));
    }

  private:
    double evaluate(const VectorXd& b) {
        const Index k = b.size();
        gradient_ = VectorXd::Zero(k);
        information_ = MatrixXd::Zero(k, k);
        scores_ = MatrixXd::Zero(design_.y.size(), k);
        double value = 0.0;
        for (const Group& group : groups_) {
            const VectorXd eta = group.X * b;
            const Ways ways = waysOf(group.X, eta, group.yes);
            double own = -ways.log;
            VectorXd score = -ways.mean;
            for (std::size_t t = 0; t < group.rows.size(); ++t) {
                if (design_.y(group.rows[t]) == 1.0) {
                    own += eta(static_cast<Index>(t));
                    score += group.X.row(static_cast<Index>(t)).transpose();
                }
            }
            value += group.weight * own;
            gradient_ += group.weight * score;
            information_ += group.weight * ways.covariance;
            // A group answers as one: its score stands in its first row.
            scores_.row(group.rows.front()) = score.transpose();
        }
        return value;
    }

    const Design& design_;
    std::vector<Group> groups_;
    std::vector<Index> kept_;
    VectorXd gradient_;
    MatrixXd information_;
    MatrixXd scores_;
};

}  // namespace

Result<Fit> fitConditionalLogit(const Design& asked, const EstimatorSettings& /*settings*/,
                                const ErrorSpec& errors, double alpha, const Job& job) {
    if (asked.effects.size() != 1) {
        return refuse(ErrorCode::BadSetting,
                      asked.effects.empty() ? "no grouping is held fixed to compare within"
                                            : "conditional logit compares within one grouping",
                      "held fixed", "Hold one grouping fixed, as the unit of a panel.");
    }
    for (Index i = 0; i < asked.y.size(); ++i) {
        if (asked.y(i) != 0.0 && asked.y(i) != 1.0) {
            return refuse(ErrorCode::BadSetting,
                          "the outcome ‘" + asked.outcome + "’ is " + shortNumber(asked.y(i), 6) +
                              " in row " +
                              std::to_string(asked.rows[static_cast<std::size_t>(i)] + 1),
                          "outcome", "A yes–no outcome is 0 or 1.", {asked.outcome});
        }
    }
    // Groups that all say the same tell nothing.
    const SweptGrouping& given = asked.effects.front();
    std::vector<double> yes(static_cast<std::size_t>(given.count), 0.0);
    std::vector<double> rows(yes.size(), 0.0);
    for (std::size_t i = 0; i < given.of.size(); ++i) {
        yes[static_cast<std::size_t>(given.of[i])] += asked.y(static_cast<Index>(i));
        rows[static_cast<std::size_t>(given.of[i])] += 1.0;
    }
    std::vector<Index> left;
    for (std::size_t i = 0; i < given.of.size(); ++i) {
        const auto g = static_cast<std::size_t>(given.of[i]);
        if (yes[g] > 0.0 && yes[g] < rows[g]) {
            left.push_back(static_cast<Index>(i));
        }
    }
    if (left.empty()) {
        return refuse(ErrorCode::NoVariation,
                      "in every group of ‘" + given.name + "’ all rows say the same", "held fixed",
                      "Hold something coarser fixed.", {given.name});
    }
    Design design = withRows(asked, left);
    const SweptGrouping& grouping = design.effects.front();
    std::vector<Group> groups(static_cast<std::size_t>(grouping.count));
    for (std::size_t i = 0; i < grouping.of.size(); ++i) {
        Group& group = groups[static_cast<std::size_t>(grouping.of[i])];
        const auto row = static_cast<Index>(i);
        group.rows.push_back(row);
        group.yes += design.y(row) == 1.0 ? 1 : 0;
        const double w = design.weights.size() > 0 ? design.weights(row) : 1.0;
        if (group.rows.size() > 1 && w != group.weight) {
            return refuse(ErrorCode::BadSetting, "weights differ within a group", "weights",
                          "A group answers as one: give its rows one weight, or none.");
        }
        group.weight = w;
    }
    const Index first = design.hasConstant ? 1 : 0;
    MatrixXd centred = design.X.rightCols(design.X.cols() - first);
    for (const Group& group : groups) {
        const Eigen::RowVectorXd mean = centred(group.rows, Eigen::all).colwise().mean();
        for (const Index row : group.rows) {
            centred.row(row) -= mean;
        }
    }
    std::vector<DesignColumn> names(design.columns.begin() + first, design.columns.end());
    auto columns = independentColumns(centred, names, false, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    if (columns->kept.empty()) {
        return refuse(ErrorCode::NoTerms, "no term varies within the groups", "terms",
                      "Add one that does.");
    }
    for (DroppedTerm& dropped : columns->dropped) {
        for (std::size_t j = 0; j < names.size(); ++j) {
            if (names[j].name == dropped.name &&
                centred.col(static_cast<Index>(j)).cwiseAbs().maxCoeff() <
                    1e-10 *
                        (1.0 + design.X.col(static_cast<Index>(j) + first).cwiseAbs().maxCoeff())) {
                dropped.reason = heldReason(design);
            }
        }
    }
    std::vector<Index> kept;
    for (const Index j : columns->kept) {
        kept.push_back(j + first);
    }
    for (Group& group : groups) {
        group.X = centred(group.rows, columns->kept);
    }
    ConditionalFitter fitter(design, std::move(groups), kept);
    const double none = fitter.nullValue();
    auto found = fitter.run(job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto told = std::make_shared<LikelihoodFit>(families::kConditionalLogit);
    told->nullLogLikelihood = none;
    told->deviance = -2.0 * found->logLikelihood;
    told->separated = asked.rows.size() - design.rows.size();
    const VectorXd fitted = fitter.shares(found->theta);
    LikelihoodInput input{design, *std::move(found), kept,  columns->dropped, {}, {},
                          {},     std::move(told),   fitted};
    auto fit = fitOfLikelihood(std::move(input), errors, alpha, job);
    if (fit) {
        if (asked.rows.size() > design.rows.size()) {
            fit->notes.push_back(
                plural(asked.rows.size() - design.rows.size(), "row lies", "rows lie") +
                " in groups that all say the same: they tell nothing, and leave.");
        }
        fit->linearised = std::make_shared<const Design>(std::move(design));
    }
    return fit;
}

}  // namespace rapporto
