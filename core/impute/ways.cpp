#include "core/impute/ways.h"

#include "core/model/likelihood.h"
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

/// From above 0 to under 1.
double inside(RandomStream& random) { return random.uniform() + 0x1.0p-54; }

/// The factor of X'X on columns that the ones before them do not say.
struct Columns {
    std::vector<Index> kept;
    MatrixXd X;  ///< The kept ones.
    MatrixXd L;  ///< L L' = X'X, lower.
};

Columns independent(const MatrixXd& X) {
    constexpr double kSaid = 1e-9;  // What is left of a column that others say, of its square.
    Columns out;
    const Index p = X.cols();
    const MatrixXd G = X.transpose() * X;
    MatrixXd L = MatrixXd::Zero(p, p);
    Index k = 0;
    for (Index j = 0; j < p; ++j) {
        for (Index a = 0; a < k; ++a) {
            const Index c = out.kept[static_cast<std::size_t>(a)];
            L(k, a) = (G(j, c) - L.row(k).head(a).dot(L.row(a).head(a))) / L(a, a);
        }
        const double left = G(j, j) - L.row(k).head(k).squaredNorm();
        if (left > kSaid * G(j, j) && G(j, j) > 0.0) {
            L(k, k) = std::sqrt(left);
            out.kept.push_back(j);
            ++k;
        }
    }
    out.L = L.topLeftCorner(k, k);
    out.X = k == p ? X : MatrixXd(X(Eigen::all, out.kept));
    return out;
}

VectorXd solved(const MatrixXd& L, const VectorXd& right) {
    const VectorXd half = L.triangularView<Eigen::Lower>().solve(right);
    return L.transpose().triangularView<Eigen::Upper>().solve(half);
}

/// Coefficients about `middle`, drawn with this spread of the errors.
VectorXd drawnAbout(const VectorXd& middle, const MatrixXd& L, double sigma, RandomStream& random) {
    VectorXd z(middle.size());
    for (double& one : z) {
        one = normalDraw(random);
    }
    return middle + sigma * L.transpose().triangularView<Eigen::Upper>().solve(z);
}

/// What a regression foretells, by estimated and by drawn coefficients.
struct Foretold {
    VectorXd seen;     ///< By the estimated ones.
    VectorXd notSeen;  ///< By the drawn ones.
    double sigma = 0.0;
};

VectorXd shiftsOf(const std::vector<std::int32_t>& groups, const VectorXd& shift) {
    VectorXd out(static_cast<Index>(groups.size()));
    for (std::size_t i = 0; i < groups.size(); ++i) {
        out(static_cast<Index>(i)) = shift(groups[i]);
    }
    return out;
}

/// A few rounds of drawing coefficients, the groups' shifts and both variances in turn.
void drawShifts(const Columns& columns, const VectorXd& y, GroupsOfRows& groups, double& sigma,
                VectorXd& b, RandomStream& random) {
    constexpr int kRounds = 3;
    const Index count = groups.shift.size();
    VectorXd rows = VectorXd::Zero(count);
    for (const std::int32_t g : groups.seen) {
        rows(g) += 1.0;
    }
    for (int round = 0; round < kRounds; ++round) {
        const VectorXd free = y - shiftsOf(groups.seen, groups.shift);
        const VectorXd middle = solved(columns.L, columns.X.transpose() * free);
        b = drawnAbout(middle, columns.L, sigma, random);
        const VectorXd left = y - columns.X * b;
        VectorXd sums = VectorXd::Zero(count);
        for (std::size_t i = 0; i < groups.seen.size(); ++i) {
            sums(groups.seen[i]) += left(static_cast<Index>(i));
        }
        for (Index g = 0; g < count; ++g) {
            const double precision = rows(g) / (sigma * sigma) + 1.0 / groups.variance;
            groups.shift(g) =
                sums(g) / (sigma * sigma) / precision + normalDraw(random) / std::sqrt(precision);
        }
        const double spread = (left - shiftsOf(groups.seen, groups.shift)).squaredNorm();
        sigma = std::sqrt(spread / chiSquareDraw(static_cast<double>(y.size()), random));
        // As if one more group had told of its share of the spread: shifts cannot all die out.
        const double least = 1e-6 * sigma * sigma;
        groups.variance = std::max(
            groups.shift.squaredNorm() / chiSquareDraw(static_cast<double>(count), random), least);
    }
}

Result<Foretold> foretold(const SeenAndNot& rows, GroupsOfRows* groups, RandomStream& random) {
    const Columns columns = independent(rows.seen);
    const auto n = static_cast<double>(rows.y.size());
    const double left = n - static_cast<double>(columns.kept.size());
    if (!(left >= 1.0)) {
        return refuse(ErrorCode::TooFewRows, "");
    }
    const VectorXd b = solved(columns.L, columns.X.transpose() * rows.y);
    Foretold out;
    out.seen = columns.X * b;
    out.sigma = std::sqrt((rows.y - out.seen).squaredNorm() / chiSquareDraw(left, random));
    VectorXd drawn;
    const bool grouped = groups != nullptr && out.sigma > 0.0;
    if (grouped) {
        if (groups->variance < 0.0) {
            groups->variance = 0.5 * out.sigma * out.sigma;
        }
        drawShifts(columns, rows.y, *groups, out.sigma, drawn, random);
        const VectorXd free = rows.y - shiftsOf(groups->seen, groups->shift);
        out.seen = columns.X * solved(columns.L, columns.X.transpose() * free) +
                   shiftsOf(groups->seen, groups->shift);
    } else {
        drawn = drawnAbout(b, columns.L, out.sigma, random);
    }
    out.notSeen = rows.notSeen(Eigen::all, columns.kept) * drawn;
    if (grouped) {
        out.notSeen += shiftsOf(groups->notSeen, groups->shift);
    }
    return out;
}

/// One of the nearest rows seen. Rows that are foretold alike are near alike: among them any.
class Donors {
  public:
    Donors(const VectorXd& foretold, const VectorXd& y, int count, RandomStream& random)
        : count_(std::min<std::size_t>(static_cast<std::size_t>(count),
                                       static_cast<std::size_t>(y.size()))) {
        std::vector<Index> order(static_cast<std::size_t>(y.size()));
        std::iota(order.begin(), order.end(), Index{0});
        for (std::size_t i = order.size(); i > 1; --i) {
            std::swap(order[i - 1], order[random.below(i)]);
        }
        std::stable_sort(order.begin(), order.end(),
                         [&](Index a, Index b) { return foretold(a) < foretold(b); });
        for (const Index i : order) {
            at_.push_back(foretold(i));
            y_.push_back(y(i));
        }
    }

    [[nodiscard]] double draw(double foretold, RandomStream& random) const {
        const auto [first, last] = std::equal_range(at_.begin(), at_.end(), foretold);
        auto low = static_cast<std::size_t>(first - at_.begin());
        auto high = static_cast<std::size_t>(last - at_.begin());
        if (high - low >= count_) {
            return y_[low + random.below(high - low)];
        }
        while (high - low < count_) {
            const bool down =
                low > 0 && (high == at_.size() || foretold - at_[low - 1] <= at_[high] - foretold);
            down ? --low : ++high;
        }
        return y_[low + random.below(high - low)];
    }

  private:
    std::size_t count_;
    std::vector<double> at_;
    std::vector<double> y_;
};

/// Rows that stand for a little of everything: each column low and high in turn with each level.
struct Augmented {
    MatrixXd X;
    VectorXd y;
    VectorXd weights;
};

Augmented augmented(const SeenAndNot& rows, int levels) {
    const Index n = rows.y.size();
    const Index p = rows.seen.cols();
    const Index more = 2 * (p - 1) * levels;
    Augmented out;
    out.X.resize(n + more, p);
    out.X.topRows(n) = rows.seen;
    out.X.bottomRows(more).setZero();
    out.X.col(0).setOnes();
    out.y.resize(n + more);
    out.y.head(n) = rows.y;
    out.weights = VectorXd::Ones(n + more);
    Index at = n;
    for (Index j = 1; j < p; ++j) {
        for (const double side : {-1.0, 1.0}) {
            for (int level = 0; level < levels; ++level) {
                out.X(at, j) = side;
                out.y(at) = level;
                out.weights(at) = static_cast<double>(p) / static_cast<double>(more);
                ++at;
            }
        }
    }
    return out;
}

/// Probability of each level in the rows to be filled (rows × levels).
MatrixXd chances(const MatrixXd& X, const VectorXd& theta, int levels, bool ordered) {
    MatrixXd out(X.rows(), levels);
    const auto below = [](double x) { return 1.0 / (1.0 + std::exp(-x)); };
    if (ordered) {
        const Index p = X.cols() - 1;
        const VectorXd index = X.rightCols(p) * theta.head(p);
        VectorXd before = VectorXd::Zero(X.rows());
        for (int level = 0; level < levels; ++level) {
            for (Index i = 0; i < X.rows(); ++i) {
                const double upTo = level + 1 == levels ? 1.0 : below(theta(p + level) - index(i));
                out(i, level) = upTo - before(i);
                before(i) = upTo;
            }
        }
        return out;
    }
    const Index p = X.cols();
    out.col(0).setZero();
    for (int level = 1; level < levels; ++level) {
        out.col(level) = X * theta.segment((level - 1) * p, p);
    }
    const VectorXd most = out.rowwise().maxCoeff();
    out = (out.colwise() - most).array().exp();
    const VectorXd sum = out.rowwise().sum();
    return out.array().colwise() / sum.array();
}

bool inOrder(const VectorXd& theta, Index from) {
    for (Index j = from + 1; j < theta.size(); ++j) {
        if (!(theta(j) > theta(j - 1))) {
            return false;
        }
    }
    return true;
}

}  // namespace

double normalDraw(RandomStream& random) { return normalQuantile(inside(random)); }

double chiSquareDraw(double df, RandomStream& random) {
    return chiSquareCritical(inside(random), df);
}

Result<VectorXd> drawNumbers(const SeenAndNot& rows, int donors, GroupsOfRows* groups,
                             RandomStream& random) {
    const auto told = foretold(rows, groups, random);
    if (!told) {
        return tl::make_unexpected(told.error());
    }
    VectorXd out(told->notSeen.size());
    if (donors > 0) {
        const Donors near(told->seen, rows.y, donors, random);
        for (Index i = 0; i < out.size(); ++i) {
            out(i) = near.draw(told->notSeen(i), random);
        }
        return out;
    }
    for (Index i = 0; i < out.size(); ++i) {
        out(i) = told->notSeen(i) + told->sigma * normalDraw(random);
    }
    return out;
}

Result<VectorXd> drawLevels(const SeenAndNot& rows, int levels, bool ordered, VectorXd& start,
                            RandomStream& random, const Job& job) {
    constexpr int kTries = 50;
    const Augmented all = augmented(rows, levels);
    const Index p = all.X.cols();
    const auto model = levels == 2 ? plainModel("logit", all.y)
                       : ordered   ? orderedModel(all.y, levels)
                                   : groupsModel(all.y, levels);
    const bool cuts = ordered && levels > 2;
    std::vector<IndexPart> parts(static_cast<std::size_t>(cuts ? 1 : levels - 1));
    for (IndexPart& part : parts) {
        part = {cuts ? MatrixXd(all.X.rightCols(p - 1)) : all.X, VectorXd(), !cuts};
    }
    if (start.size() == 0) {
        start = VectorXd::Zero(cuts ? p - 1 + levels - 1 : p * (levels - 1));
        double upTo = 0.0;
        for (int level = 0; cuts && level + 1 < levels; ++level) {
            upTo += static_cast<double>((rows.y.array() == level).count()) + 0.5;
            const double share =
                upTo / (static_cast<double>(rows.y.size()) + 0.5 * static_cast<double>(levels));
            start(p - 1 + level) = std::log(share / (1.0 - share));
        }
    }
    auto found = maximise(parts, *model, start, all.weights, job, false);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    start = found->theta;
    VectorXd theta;
    for (int tried = 0; tried < kTries; ++tried) {
        VectorXd z(found->factor.cols());
        for (double& one : z) {
            one = normalDraw(random);
        }
        theta = found->theta + found->factor * z;
        if (!cuts || inOrder(theta, p - 1)) {
            break;
        }
        theta = found->theta;  // Cuts that never come in order stay where they are likeliest.
    }
    const MatrixXd share = chances(rows.notSeen, theta, levels, cuts);
    VectorXd out(share.rows());
    for (Index i = 0; i < out.size(); ++i) {
        double at = random.uniform();
        int level = 0;
        while (level + 1 < levels && at >= share(i, level)) {
            at -= share(i, level);
            ++level;
        }
        out(i) = level;
    }
    return out;
}

}  // namespace rapporto
