#include "core/impute/ways.h"

#include "core/model/likelihood.h"
#include "core/numerics/distributions.h"
#include "core/numerics/kernels.h"
#include "core/numerics/square_sums.h"

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
    const MatrixXd& all;
    MatrixXd some;  ///< The kept ones, where these are not all.
    MatrixXd L;     ///< L L' = X'X, lower.

    [[nodiscard]] const MatrixXd& X() const { return some.size() > 0 ? some : all; }
};

/// Σ w x x' over the rows, the upper triangle; weights may be null.
MatrixXd crossOf(const MatrixXd& X, const double* weights) {
    constexpr Index kBlock = 192;  // Rows that stay in the cache.
    SquareSums sums(X.cols());
    for (Index from = 0; from < X.rows(); from += kBlock) {
        sums.add(X.data() + from, X.rows(), std::min(kBlock, X.rows() - from),
                 weights == nullptr ? nullptr : weights + from);
    }
    MatrixXd out = MatrixXd::Zero(X.cols(), X.cols());
    sums.moveTo(out);
    return out;
}

Columns independent(const MatrixXd& X) {
    constexpr double kSaid = 1e-9;  // What is left of a column that others say, of its square.
    Columns out{{}, X, {}, {}};
    const Index p = X.cols();
    const MatrixXd G = crossOf(X, nullptr);
    MatrixXd L = MatrixXd::Zero(p, p);
    Index k = 0;
    for (Index j = 0; j < p; ++j) {
        for (Index a = 0; a < k; ++a) {
            const Index c = out.kept[static_cast<std::size_t>(a)];
            L(k, a) = (G(std::min(j, c), std::max(j, c)) - L.row(k).head(a).dot(L.row(a).head(a))) /
                      L(a, a);
        }
        const double left = G(j, j) - L.row(k).head(k).squaredNorm();
        if (left > kSaid * G(j, j) && G(j, j) > 0.0) {
            L(k, k) = std::sqrt(left);
            out.kept.push_back(j);
            ++k;
        }
    }
    out.L = L.topLeftCorner(k, k);
    if (k < p) {
        out.some = X(Eigen::all, out.kept);
    }
    return out;
}

VectorXd solved(const MatrixXd& L, const VectorXd& right) {
    const VectorXd half = L.triangularView<Eigen::Lower>().solve(right);
    return L.transpose().triangularView<Eigen::Upper>().solve(half);
}

VectorXd normals(Index many, RandomStream& random) {
    VectorXd z(many);
    for (double& one : z) {
        one = normalDraw(random);
    }
    return z;
}

/// Coefficients about `middle`, drawn with this spread of the errors.
VectorXd drawnAbout(const VectorXd& middle, const MatrixXd& L, double sigma, RandomStream& random) {
    const VectorXd z = normals(middle.size(), random);
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
        const VectorXd middle = solved(columns.L, columns.X().transpose() * free);
        b = drawnAbout(middle, columns.L, sigma, random);
        const VectorXd left = y - columns.X() * b;
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
    const VectorXd b = solved(columns.L, columns.X().transpose() * rows.y);
    Foretold out;
    out.seen = columns.X() * b;
    out.sigma = std::sqrt((rows.y - out.seen).squaredNorm() / chiSquareDraw(left, random));
    VectorXd drawn;
    const bool grouped = groups != nullptr && out.sigma > 0.0;
    if (grouped) {
        if (groups->variance < 0.0) {
            groups->variance = 0.5 * out.sigma * out.sigma;
        }
        drawShifts(columns, rows.y, *groups, out.sigma, drawn, random);
        const VectorXd free = rows.y - shiftsOf(groups->seen, groups->shift);
        out.seen = columns.X() * solved(columns.L, columns.X().transpose() * free) +
                   shiftsOf(groups->seen, groups->shift);
    } else {
        drawn = drawnAbout(b, columns.L, out.sigma, random);
    }
    out.notSeen = columns.some.size() > 0 ? VectorXd(rows.notSeen(Eigen::all, columns.kept) * drawn)
                                          : VectorXd(rows.notSeen * drawn);
    if (grouped) {
        out.notSeen += shiftsOf(groups->notSeen, groups->shift);
    }
    return out;
}

/// Pairs of what is foretold and what was seen, in the order of the former. Numbers that scatter
/// are put into as many drawers as there are first, and are all but sorted then.
std::vector<std::pair<double, double>> byForetold(const VectorXd& foretold, const VectorXd& y) {
    constexpr std::uint32_t kCrowded = 48;  // Some lie so far out that others share a drawer.
    const auto n = static_cast<std::size_t>(y.size());
    const double low = n > 0 ? foretold.minCoeff() : 0.0;
    const double wide = n > 0 ? foretold.maxCoeff() - low : 0.0;
    const double scale = wide > 0.0 ? static_cast<double>(n - 1) / wide : 0.0;
    const auto drawerOf = [&](Index i) {
        return std::min(n - 1, static_cast<std::size_t>((foretold(i) - low) * scale));
    };
    std::vector<std::uint32_t> next(n + 1, 0);
    std::uint32_t most = 0;
    for (Index i = 0; std::isfinite(scale) && i < y.size(); ++i) {
        most = std::max(most, ++next[drawerOf(i) + 1]);
    }
    std::vector<std::pair<double, double>> out(n);
    const auto before = [](const auto& a, const auto& b) { return a.first < b.first; };
    if (most == 0 || most > kCrowded) {
        for (Index i = 0; i < y.size(); ++i) {
            out[static_cast<std::size_t>(i)] = {foretold(i), y(i)};
        }
        std::stable_sort(out.begin(), out.end(), before);
        return out;
    }
    std::partial_sum(next.begin(), next.end(), next.begin());
    for (Index i = 0; i < y.size(); ++i) {
        out[next[drawerOf(i)]++] = {foretold(i), y(i)};
    }
    for (std::size_t k = 1; k < n; ++k) {
        const auto one = out[k];
        std::size_t at = k;
        for (; at > 0 && one.first < out[at - 1].first; --at) {
            out[at] = out[at - 1];
        }
        out[at] = one;
    }
    return out;
}

/// One of the nearest rows seen. Rows that are foretold alike are near alike: among them any.
class Donors {
  public:
    Donors(const VectorXd& foretold, const VectorXd& y, int count)
        : count_(std::min<std::size_t>(static_cast<std::size_t>(count),
                                       static_cast<std::size_t>(y.size()))) {
        const auto order = byForetold(foretold, y);
        at_.reserve(order.size());
        y_.reserve(order.size());
        for (const auto& [at, value] : order) {
            at_.push_back(at);
            y_.push_back(value);
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

/// The rows seen, behind them rows that stand for a little of everything: each column low and high
/// in turn with each level.
void fillRows(const SeenAndNot& rows, int levels, LevelState& state) {
    const Index n = rows.y.size();
    const Index p = rows.seen.cols();
    const Index more = 2 * (p - 1) * levels;
    if (state.X.rows() == n + more && state.X.cols() == p) {
        state.X.topRows(n) = rows.seen;
        return;
    }
    state.X.resize(n + more, p);
    state.X.topRows(n) = rows.seen;
    state.X.bottomRows(more).setZero();
    state.X.col(0).setOnes();
    state.y.resize(n + more);
    state.y.head(n) = rows.y;
    state.weights = VectorXd::Ones(n + more);
    Index at = n;
    for (Index j = 1; j < p; ++j) {
        for (const double side : {-1.0, 1.0}) {
            for (int level = 0; level < levels; ++level) {
                state.X(at, j) = side;
                state.y(at) = level;
                state.weights(at) = static_cast<double>(p) / static_cast<double>(more);
                ++at;
            }
        }
    }
}

/// Where the likelihood of a logit of plain groups (two: of the second) is largest, and L with
/// L L' = −its curvature there. A Newton of its own: thousands of these begin near their end and
/// need no more digits than a draw about it has.
struct Peak {
    VectorXd theta;  ///< Of level 1, 2, … in turn.
    MatrixXd L;
};

double logLikelihood(const LevelState& all, const MatrixXd& shares) {
    VectorXd own(all.y.size());
    for (Index i = 0; i < own.size(); ++i) {
        own(i) = shares(i, static_cast<Index>(all.y(i)));
    }
    return all.weights.dot(own.array().log().matrix());
}

/// Probability of each level, the first one’s index being zero.
MatrixXd sharesOf(const MatrixXd& X, const VectorXd& theta, int levels) {
    const Index p = X.cols();
    MatrixXd out(X.rows(), levels);
    out.col(0).setZero();
    out.rightCols(levels - 1) = X * Eigen::Map<const MatrixXd>(theta.data(), p, levels - 1);
    const VectorXd most = out.rowwise().maxCoeff();
    const MatrixXd below = out.colwise() - most;
    kernels::expInto(out.data(), below.data(), below.size());
    const VectorXd sum = out.rowwise().sum();
    return out.array().colwise() / sum.array();
}

Result<Peak> peakOf(LevelState& all, int levels, const Job& job) {
    constexpr int kMostSteps = 60;
    constexpr double kGain = 1e-9;  // Of ℓ: far under the spread of the draw.
    const Index p = all.X.cols();
    Peak out{all.start, {}};
    MatrixXd shares = sharesOf(all.X, out.theta, levels);
    double value = logLikelihood(all, shares);
    for (int step = 0; step < kMostSteps; ++step) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "");
        }
        const Index many = p * (levels - 1);
        VectorXd slope(many);
        MatrixXd curve(many, many);
        for (int a = 1; a < levels; ++a) {
            const auto sa = shares.col(a).array();
            const VectorXd left = all.weights.array() * ((all.y.array() == a).cast<double>() - sa);
            slope.segment((a - 1) * p, p) = all.X.transpose() * left;
            for (int b = 1; b <= a; ++b) {
                const VectorXd w =
                    all.weights.array() * sa * ((a == b ? 1.0 : 0.0) - shares.col(b).array());
                curve.block((a - 1) * p, (b - 1) * p, p, p) =
                    MatrixXd(crossOf(all.X, w.data()).selfadjointView<Eigen::Upper>());
            }
        }
        const Eigen::LLT<MatrixXd> parts(curve);  // Reads the lower half.
        if (parts.info() != Eigen::Success) {
            break;
        }
        const VectorXd move = parts.solve(slope);
        if (slope.dot(move) < kGain) {
            out.theta += move;
            out.L = parts.matrixL();
            return out;
        }
        double part = 1.0;
        VectorXd to;
        for (; part > 1e-6; part *= 0.5) {
            to = out.theta + part * move;
            const MatrixXd there = sharesOf(all.X, to, levels);
            const double next = logLikelihood(all, there);
            if (std::isfinite(next) && next >= value - 1e-9 * std::abs(value)) {
                shares = there;
                value = next;
                break;
            }
        }
        out.theta = to;
    }
    return refuse(ErrorCode::NotConverged, "the search for its chances did not settle");
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
    return sharesOf(X, theta, levels);
}

/// Where a search of ordered levels begins: no effects, cuts by the shares.
VectorXd cutsOf(const VectorXd& y, Index effects, int levels) {
    VectorXd out = VectorXd::Zero(effects + levels - 1);
    double upTo = 0.0;
    for (int level = 0; level + 1 < levels; ++level) {
        upTo += static_cast<double>((y.array() == level).count()) + 0.5;
        const double share =
            upTo / (static_cast<double>(y.size()) + 0.5 * static_cast<double>(levels));
        out(effects + level) = std::log(share / (1.0 - share));
    }
    return out;
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
        const Donors near(told->seen, rows.y, donors);
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

Result<VectorXd> drawLevels(const SeenAndNot& rows, int levels, bool ordered, LevelState& all,
                            RandomStream& random, const Job& job) {
    constexpr int kTries = 50;
    fillRows(rows, levels, all);
    const Index p = all.X.cols();
    const bool cuts = ordered && levels > 2;
    if (all.start.size() == 0) {
        all.start = cuts ? cutsOf(rows.y, p - 1, levels) : VectorXd::Zero(p * (levels - 1));
    }
    VectorXd theta;
    if (cuts) {
        const auto model = orderedModel(all.y, levels);
        auto found = maximise(IndexPart{MatrixXd(all.X.rightCols(p - 1)), VectorXd(), false},
                              *model, all.start, all.weights, job, false);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        all.start = found->theta;
        for (int tried = 0; tried < kTries; ++tried) {
            theta = found->theta + found->factor * normals(found->factor.cols(), random);
            if (inOrder(theta, p - 1)) {
                break;
            }
            theta = found->theta;  // Cuts that never come in order stay where they are likeliest.
        }
    } else {
        const auto found = peakOf(all, levels, job);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        all.start = found->theta;
        theta = drawnAbout(found->theta, found->L, 1.0, random);
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
