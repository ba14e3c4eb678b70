#include "core/model/level_likelihood.h"

#include "core/base/parallel.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kInfinite = std::numeric_limits<double>::infinity();

/// ℓ of a row by its index, with three derivatives.
struct RowValue {
    double value = 0.0;
    double first = 0.0;
    double weight = 0.0;  ///< −ℓ''.
    double third = 0.0;   ///< Its derivative.
};

RowValue rowValue(bool logit, double y, double index) {
    if (logit) {
        const double e = std::exp(-std::abs(index));
        const double p = index > 0.0 ? 1.0 / (1.0 + e) : e / (1.0 + e);
        const double w = e / ((1.0 + e) * (1.0 + e));
        return {y * index - std::max(index, 0.0) - std::log1p(e), y - p, w, w * (1.0 - 2.0 * p)};
    }
    const double mean = std::exp(index);
    return {y * index - mean - std::lgamma(y + 1.0), y - mean, mean, mean};
}

/// A group in its tree; groups within it come before it.
struct Node {
    std::size_t level = 0;
    std::size_t parent = 0;  ///< Place in the tree; of the root its own.
    std::int32_t group = 0;
    Index first = 0;  ///< Rows, of innermost groups.
    Index count = 0;
};

/// An outermost group with all groups in it.
struct Tree {
    std::vector<Node> nodes;
    Index first = 0;
    Index count = 0;
};

}  // namespace

struct LevelLikelihood::Parts {
    Data data;                 ///< Rows by trees.
    std::vector<Index> order;  ///< Place of each of these rows before.
    std::vector<Tree> trees;
    std::vector<Index> widths;  ///< q of each level.
    std::vector<Index> places;  ///< Where each begins in a chain: innermost first.
    Index chain = 0;            ///< Width of a whole chain.
    Index parameters = 0;
    std::vector<Index> entries;  ///< Where each factor’s entries begin among the parameters.
    HermiteRule rule;

    /// Width of a node’s own part with those of the groups it lies in.
    [[nodiscard]] Index width(std::size_t level) const { return chain - places[level]; }
};

namespace {

/// The joint mode of a tree’s effects, and what moves with the parameters there.
template <class P>
class TreeWork {
  public:
    TreeWork(const P& parts, const Tree& tree, const VectorXd& coefficients,
             const std::vector<MatrixXd>& factors)
        : p_(parts), tree_(tree) {
        const Index n = tree.count;
        base_ = p_.data.X.middleRows(tree.first, n) * coefficients;
        if (p_.data.offset.size() > 0) {
            base_ += p_.data.offset.segment(tree.first, n);
        }
        Z_.resize(n, p_.chain);
        for (std::size_t l = 0; l < factors.size(); ++l) {
            Z_.middleCols(p_.places[l], p_.widths[l]) =
                p_.data.groupings[l].columns.middleRows(tree.first, n) * factors[l];
        }
        for (const Node& node : tree.nodes) {
            u_.push_back(VectorXd::Zero(p_.widths[node.level]));
        }
        rows_.resize(static_cast<std::size_t>(n));
        index_.resize(n);
    }

    /// Newton’s steps to the mode. False: it is no number.
    bool settle() {
        constexpr int kMostSteps = 100;
        double value = look();
        for (int step = 0; step < kMostSteps; ++step) {
            if (!std::isfinite(value)) {
                return false;
            }
            eliminate();
            const auto own = gradients();
            const auto move = solved(own);
            double gain = 0.0;
            for (std::size_t v = 0; v < own.size(); ++v) {
                gain += own[v].cwiseProduct(move[v].topRows(own[v].rows())).sum();
            }
            const auto before = u_;
            double part = 1.0;
            double next = value;
            for (; part > 1e-10; part *= 0.5) {
                for (std::size_t v = 0; v < u_.size(); ++v) {
                    u_[v] = before[v] + part * move[v].col(0).head(u_[v].size());
                }
                next = look();
                if (std::isfinite(next) && next >= value - 1e-12 * (1.0 + std::abs(value))) {
                    break;
                }
            }
            value = next;
            if (gain < 1e-13) {
                break;  // The step just taken has left its square.
            }
        }
        eliminate();
        value_ = value;
        return std::isfinite(value);
    }

    /// Laplace’s approximation; adds its slope where `slope` is not null.
    double laplace(VectorXd* slope) {
        if (slope != nullptr) {
            const auto moves = movesOf();
            const auto covariances = chainCovariances();
            VectorXd e(p_.parameters);
            for (std::size_t v = 0; v < tree_.nodes.size() && tree_.nodes[v].level == 0; ++v) {
                for (Index i = firstOf(v); i < firstOf(v) + tree_.nodes[v].count; ++i) {
                    const RowValue& row = rows_[static_cast<std::size_t>(i)];
                    explicitly(v, i, e);
                    const VectorXd spread = covariances[v] * Z_.row(i).transpose();
                    const double leverage = Z_.row(i).dot(spread);
                    *slope += (row.first - 0.5 * row.third * leverage) * e;
                    *slope -=
                        0.5 * row.third * leverage * (moves[v].transpose() * Z_.row(i).transpose());
                    forEntries([&](std::size_t l, Index a, Index b, Index at) {
                        (*slope)(at) -= row.weight * column(l, i, a) * spread(p_.places[l] + b);
                    });
                }
            }
        }
        return value_ - 0.5 * logDet_;
    }

    /// Quadrature about the mode, of one grouping.
    double quadrature(VectorXd* slope) {
        const Index q = p_.chain;
        const Index n = tree_.count;
        const auto points = static_cast<Index>(p_.rule.at.size());
        Index many = 1;
        for (Index d = 0; d < q; ++d) {
            many *= points;
        }
        const MatrixXd L = factorOf(0);
        const MatrixXd R = L.transpose().template triangularView<Eigen::Upper>().solve(
            MatrixXd::Identity(q, q));  // R R' = H⁻¹.
        MatrixXd x(q, many);
        VectorXd log(many);
        MatrixXd first(slope == nullptr ? 0 : n, slope == nullptr ? 0 : many);
        MatrixXd at(q, many);
        for (Index k = 0; k < many; ++k) {
            double weight = 0.0;
            for (Index d = 0, rest = k; d < q; ++d, rest /= points) {
                x(d, k) = p_.rule.at(rest % points);
                weight += std::log(p_.rule.weights(rest % points)) + x(d, k) * x(d, k);
            }
            at.col(k) = u_[0] + std::numbers::sqrt2 * R * x.col(k);
            const VectorXd index = base_ + Z_ * at.col(k);
            double sum = weight - 0.5 * at.col(k).squaredNorm();
            for (Index i = 0; i < n; ++i) {
                const RowValue row = rowValue(p_.data.logit, yOf(i), index(i));
                sum += row.value;
                if (slope != nullptr) {
                    first(i, k) = row.first;
                }
            }
            log(k) = sum;
        }
        const double most = log.maxCoeff();
        const VectorXd share = (log.array() - most).exp();
        const double all = share.sum();
        const auto half = static_cast<double>(q) / 2.0;
        const double value = most + std::log(all) - 0.5 * logDet_ + half * std::log(2.0) -
                             half * std::log(2.0 * std::numbers::pi);
        if (slope != nullptr && std::isfinite(value)) {
            slopeOfQuadrature(R, x, at, share / all, first, *slope);
        }
        return value;
    }

    // What stands at the mode.
    [[nodiscard]] const VectorXd& effectsOf(std::size_t node) const { return u_[node]; }

    [[nodiscard]] const VectorXd& index() const { return index_; }

    [[nodiscard]] const std::vector<RowValue>& rows() const { return rows_; }

    /// The covariance of each node’s own effects.
    [[nodiscard]] std::vector<MatrixXd> ownCovariances() const {
        auto out = chainCovariances();
        for (std::size_t v = 0; v < out.size(); ++v) {
            const Index q = p_.widths[tree_.nodes[v].level];
            out[v] = MatrixXd(out[v].topLeftCorner(q, q));
        }
        return out;
    }

  private:
    [[nodiscard]] double yOf(Index i) const { return p_.data.y(tree_.first + i); }

    [[nodiscard]] Index firstOf(std::size_t v) const { return tree_.nodes[v].first - tree_.first; }

    [[nodiscard]] double column(std::size_t level, Index i, Index a) const {
        return p_.data.groupings[level].columns(tree_.first + i, a);
    }

    [[nodiscard]] bool isRoot(std::size_t v) const { return tree_.nodes[v].parent == v; }

    template <class F>
    void forEntries(F visit) const {
        for (std::size_t l = 0; l < p_.widths.size(); ++l) {
            const Index q = p_.widths[l];
            for (Index b = 0; b < q; ++b) {
                for (Index a = 0; a < q; ++a) {
                    visit(l, a, b, p_.entries[l] + b * q + a);
                }
            }
        }
    }

    /// The place in the tree of the group of that level that a node lies in.
    [[nodiscard]] std::size_t ancestor(std::size_t v, std::size_t level) const {
        while (tree_.nodes[v].level < level) {
            v = tree_.nodes[v].parent;
        }
        return v;
    }

    [[nodiscard]] VectorXd chainOf(std::size_t v) const {
        VectorXd out(p_.width(tree_.nodes[v].level));
        Index at = 0;
        for (std::size_t a = v;; a = tree_.nodes[a].parent) {
            out.segment(at, u_[a].size()) = u_[a];
            at += u_[a].size();
            if (isRoot(a)) {
                return out;
            }
        }
    }

    /// Rows at the present effects; Σ ℓ − ½u'u.
    double look() {
        double sum = 0.0;
        for (const VectorXd& u : u_) {
            sum -= 0.5 * u.squaredNorm();
        }
        for (std::size_t v = 0; v < tree_.nodes.size() && tree_.nodes[v].level == 0; ++v) {
            const VectorXd chain = chainOf(v);
            const Index from = firstOf(v);
            index_.segment(from, tree_.nodes[v].count) =
                base_.segment(from, tree_.nodes[v].count) +
                Z_.middleRows(from, tree_.nodes[v].count) * chain;
            for (Index i = from; i < from + tree_.nodes[v].count; ++i) {
                rows_[static_cast<std::size_t>(i)] = rowValue(p_.data.logit, yOf(i), index_(i));
                sum += rows_[static_cast<std::size_t>(i)].value;
            }
        }
        return sum;
    }

    /// Groups leave from the innermost on: factors of their own parts, and what ties them to the
    /// ones they lie in.
    void eliminate() {
        const std::size_t count = tree_.nodes.size();
        std::vector<MatrixXd> A(count);
        // Made in place: a factor that holds nothing yet cannot be copied.
        own_.clear();
        own_.resize(count);
        ties_.assign(count, {});
        logDet_ = 0.0;
        for (std::size_t v = 0; v < count; ++v) {
            const Node& node = tree_.nodes[v];
            const Index wide = p_.width(node.level);
            if (A[v].size() == 0) {
                A[v] = MatrixXd::Zero(wide, wide);
            }
            if (node.level == 0) {
                VectorXd weights(node.count);
                for (Index i = 0; i < node.count; ++i) {
                    weights(i) = rows_[static_cast<std::size_t>(firstOf(v) + i)].weight;
                }
                const MatrixXd Z = Z_.middleRows(firstOf(v), node.count);
                A[v] += Z.transpose() * weights.asDiagonal() * Z;
            }
            const Index q = p_.widths[node.level];
            MatrixXd mine = A[v].topLeftCorner(q, q);
            mine.diagonal().array() += 1.0;
            own_[v].compute(mine);
            logDet_ += 2.0 * own_[v].matrixLLT().diagonal().array().log().sum();
            const MatrixXd tied = A[v].topRightCorner(q, wide - q);
            ties_[v] =
                isRoot(v) ? tied : MatrixXd(own_[v].solve(tied));  // Nothing is around a root.
            if (!isRoot(v)) {
                MatrixXd& above = A[node.parent];
                if (above.size() == 0) {
                    above = MatrixXd::Zero(wide - q, wide - q);
                }
                above += A[v].bottomRightCorner(wide - q, wide - q) - tied.transpose() * ties_[v];
            }
        }
    }

    [[nodiscard]] MatrixXd factorOf(std::size_t v) const { return own_[v].matrixL(); }

    /// Of each node’s own effects.
    [[nodiscard]] std::vector<MatrixXd> gradients() const {
        std::vector<MatrixXd> out;
        for (const VectorXd& u : u_) {
            out.emplace_back(-u);
        }
        for (std::size_t v = 0; v < tree_.nodes.size() && tree_.nodes[v].level == 0; ++v) {
            VectorXd sum = VectorXd::Zero(p_.chain);
            for (Index i = firstOf(v); i < firstOf(v) + tree_.nodes[v].count; ++i) {
                sum += rows_[static_cast<std::size_t>(i)].first * Z_.row(i).transpose();
            }
            spread(v, sum, out);
        }
        return out;
    }

    /// Adds the parts of a chain to the nodes they are of.
    void spread(std::size_t v, const MatrixXd& chain, std::vector<MatrixXd>& into) const {
        Index at = 0;
        for (std::size_t a = v;; a = tree_.nodes[a].parent) {
            const Index q = u_[a].size();
            into[a] += chain.middleRows(at, q);
            at += q;
            if (isRoot(a)) {
                return;
            }
        }
    }

    /// H⁻¹ times right sides, each node’s own rows given; each node’s chain comes back.
    [[nodiscard]] std::vector<MatrixXd> solved(std::vector<MatrixXd> right) const {
        const Index columns = right.front().cols();
        std::vector<MatrixXd> half(right.size());
        for (std::size_t v = 0; v < right.size(); ++v) {
            half[v] = own_[v].solve(right[v]);
            if (isRoot(v)) {
                continue;
            }
            // (what ties)'·own⁻¹·right, over the chain above.
            const MatrixXd up = ties_[v].transpose() * right[v];
            Index at = 0;
            for (std::size_t a = tree_.nodes[v].parent;; a = tree_.nodes[a].parent) {
                const Index q = u_[a].size();
                right[a] -= up.middleRows(at, q);
                at += q;
                if (isRoot(a)) {
                    break;
                }
            }
        }
        for (std::size_t v = right.size(); v-- > 0;) {
            MatrixXd chain(p_.width(tree_.nodes[v].level), columns);
            const Index q = u_[v].size();
            chain.topRows(q) = half[v];
            if (!isRoot(v)) {
                const MatrixXd& above = half[tree_.nodes[v].parent];
                chain.bottomRows(chain.rows() - q) = above;
                chain.topRows(q) -= ties_[v] * above;
            }
            half[v] = std::move(chain);
        }
        return half;
    }

    /// H⁻¹ over each node’s chain.
    [[nodiscard]] std::vector<MatrixXd> chainCovariances() const {
        std::vector<MatrixXd> out(tree_.nodes.size());
        for (std::size_t v = out.size(); v-- > 0;) {
            const Index q = u_[v].size();
            const Index wide = p_.width(tree_.nodes[v].level);
            out[v] = MatrixXd::Zero(wide, wide);
            out[v].topLeftCorner(q, q) = own_[v].solve(MatrixXd::Identity(q, q));
            if (!isRoot(v)) {
                const MatrixXd& above = out[tree_.nodes[v].parent];
                const MatrixXd tie = ties_[v] * above;
                out[v].topLeftCorner(q, q) += tie * ties_[v].transpose();
                out[v].topRightCorner(q, wide - q) = -tie;
                out[v].bottomLeftCorner(wide - q, q) = -tie.transpose();
                out[v].bottomRightCorner(wide - q, wide - q) = above;
            }
        }
        return out;
    }

    /// ∂η of a row by all parameters, the effects standing still.
    void explicitly(std::size_t v, Index i, VectorXd& e) const {
        const Index k = p_.data.X.cols();
        e.head(k) = p_.data.X.row(tree_.first + i).transpose();
        forEntries([&](std::size_t l, Index a, Index b, Index at) {
            e(at) = column(l, i, a) * u_[ancestor(v, l)](b);
        });
    }

    /// How the modes move with every parameter: each node’s chain × parameters.
    [[nodiscard]] std::vector<MatrixXd> movesOf() const {
        std::vector<MatrixXd> right;
        for (const VectorXd& u : u_) {
            right.push_back(MatrixXd::Zero(u.size(), p_.parameters));
        }
        VectorXd e(p_.parameters);
        for (std::size_t v = 0; v < tree_.nodes.size() && tree_.nodes[v].level == 0; ++v) {
            MatrixXd sum = MatrixXd::Zero(p_.chain, p_.parameters);
            for (Index i = firstOf(v); i < firstOf(v) + tree_.nodes[v].count; ++i) {
                const RowValue& row = rows_[static_cast<std::size_t>(i)];
                explicitly(v, i, e);
                sum -= (row.weight * Z_.row(i).transpose()) * e.transpose();
                forEntries([&](std::size_t l, Index a, Index b, Index at) {
                    sum(p_.places[l] + b, at) += row.first * column(l, i, a);
                });
            }
            spread(v, sum, right);
        }
        return solved(std::move(right));
    }

    void slopeOfQuadrature(const MatrixXd& R, const MatrixXd& x, const MatrixXd& at,
                           const VectorXd& share, const MatrixXd& first, VectorXd& slope) const {
        const Index q = p_.chain;
        const Index n = tree_.count;
        const MatrixXd moves = movesOf()[0];
        const VectorXd mean = first * share;  // Of each row’s ℓ'.
        const MatrixXd byEffect = first * share.asDiagonal() * at.transpose();  // n × q.
        const MatrixXd pull = Z_.transpose() * first - at;                      // q × places.
        const VectorXd pulled = pull * share;
        const MatrixXd turned = std::numbers::sqrt2 * pull * share.asDiagonal() * x.transpose();
        // What each parameter does to the curvature.
        std::vector<MatrixXd> curves(static_cast<std::size_t>(p_.parameters), MatrixXd::Zero(q, q));
        VectorXd e(p_.parameters);
        for (Index i = 0; i < n; ++i) {
            const RowValue& row = rows_[static_cast<std::size_t>(i)];
            explicitly(0, i, e);
            e += moves.transpose() * Z_.row(i).transpose();
            const MatrixXd square = Z_.row(i).transpose() * Z_.row(i);
            for (Index j = 0; j < p_.parameters; ++j) {
                curves[static_cast<std::size_t>(j)] += row.third * e(j) * square;
            }
            forEntries([&](std::size_t /*l*/, Index a, Index b, Index entry) {
                const VectorXd part = row.weight * column(0, i, a) * Z_.row(i).transpose();
                MatrixXd& curve = curves[static_cast<std::size_t>(entry)];
                curve.row(b) += part.transpose();
                curve.col(b) += part;
            });
        }
        slope.head(p_.data.X.cols()) += p_.data.X.middleRows(tree_.first, n).transpose() * mean;
        forEntries([&](std::size_t /*l*/, Index a, Index b, Index entry) {
            slope(entry) +=
                p_.data.groupings[0].columns.col(a).segment(tree_.first, n).dot(byEffect.col(b));
        });
        for (Index j = 0; j < p_.parameters; ++j) {
            const MatrixXd inner = R.transpose() * curves[static_cast<std::size_t>(j)] * R;
            MatrixXd half = inner.template triangularView<Eigen::StrictlyLower>();
            half.diagonal() = 0.5 * inner.diagonal();
            const MatrixXd moved = -R * half.transpose();
            slope(j) +=
                pulled.dot(moves.col(j)) + moved.cwiseProduct(turned).sum() - 0.5 * inner.trace();
        }
    }

    const P& p_;
    const Tree& tree_;
    VectorXd base_;
    MatrixXd Z_;  ///< Rows × chain: columns times factors.
    std::vector<VectorXd> u_;
    std::vector<RowValue> rows_;
    VectorXd index_;
    std::vector<Eigen::LLT<MatrixXd>> own_;
    std::vector<MatrixXd> ties_;  ///< own⁻¹ × what ties a node to its chain above.
    double logDet_ = 0.0;
    double value_ = 0.0;
};

/// Rows in the order of trees, groups within groups.
std::vector<Index> orderedRows(const std::vector<RandomGrouping>& groupings, Index n) {
    std::vector<Index> order(static_cast<std::size_t>(n));
    std::iota(order.begin(), order.end(), Index{0});
    std::stable_sort(order.begin(), order.end(), [&](Index a, Index b) {
        for (std::size_t l = groupings.size(); l-- > 0;) {
            const auto ga = groupings[l].of[static_cast<std::size_t>(a)];
            const auto gb = groupings[l].of[static_cast<std::size_t>(b)];
            if (ga != gb) {
                return ga < gb;
            }
        }
        return false;
    });
    return order;
}

/// Trees over rows in that order.
std::vector<Tree> treesOf(const std::vector<RandomGrouping>& groupings,
                          const std::vector<Index>& order) {
    const std::size_t levels = groupings.size();
    const auto groupOf = [&](std::size_t level, std::size_t row) {
        return groupings[level].of[static_cast<std::size_t>(order[row])];
    };
    std::vector<Tree> trees;
    for (std::size_t from = 0; from < order.size();) {
        std::size_t to = from;
        while (to < order.size() && groupOf(levels - 1, to) == groupOf(levels - 1, from)) {
            ++to;
        }
        Tree tree;
        tree.first = static_cast<Index>(from);
        tree.count = static_cast<Index>(to - from);
        // Level by level; a parent is found by where its rows lie.
        std::vector<std::vector<std::pair<std::size_t, std::size_t>>> spans(levels);
        std::vector<std::size_t> begins(levels);
        for (std::size_t l = 0; l < levels; ++l) {
            begins[l] = tree.nodes.size();
            for (std::size_t a = from; a < to;) {
                std::size_t b = a;
                while (b < to && groupOf(l, b) == groupOf(l, a)) {
                    ++b;
                }
                Node node;
                node.level = l;
                node.group = groupOf(l, a);
                node.first = static_cast<Index>(a);
                node.count = static_cast<Index>(b - a);
                tree.nodes.push_back(node);
                spans[l].emplace_back(a, b);
                a = b;
            }
        }
        for (std::size_t l = 0; l < levels; ++l) {
            std::size_t above = 0;
            for (std::size_t s = 0; s < spans[l].size(); ++s) {
                Node& node = tree.nodes[begins[l] + s];
                if (l + 1 == levels) {
                    node.parent = begins[l] + s;
                    continue;
                }
                while (spans[l + 1][above].second <= spans[l][s].first) {
                    ++above;
                }
                node.parent = begins[l + 1] + above;
            }
        }
        trees.push_back(std::move(tree));
        from = to;
    }
    return trees;
}

/// Trees side by side, in chunks whose sums come in one order.
void overTrees(std::size_t trees, const std::function<void(std::size_t, RowRange)>& work,
               std::size_t chunks) {
    inParallel(chunks, [&](std::size_t c) {
        work(c, {c * trees / chunks, (c + 1) * trees / chunks});
    });
}

}  // namespace

LevelLikelihood::LevelLikelihood(Data data) {
    auto parts = std::make_unique<Parts>();
    parts->order = orderedRows(data.groupings, data.y.size());
    parts->trees = treesOf(data.groupings, parts->order);
    const auto sorted = [&](const auto& from) {
        auto out = from;
        for (std::size_t i = 0; i < parts->order.size(); ++i) {
            out.row(static_cast<Index>(i)) = from.row(parts->order[i]);
        }
        return out;
    };
    data.X = sorted(data.X);
    data.y = sorted(data.y);
    if (data.offset.size() > 0) {
        data.offset = sorted(data.offset);
    }
    parts->parameters = data.X.cols();
    for (RandomGrouping& grouping : data.groupings) {
        grouping.columns = sorted(grouping.columns);
        const Index q = grouping.columns.cols();
        parts->widths.push_back(q);
        parts->places.push_back(parts->chain);
        parts->chain += q;
        parts->entries.push_back(parts->parameters);
        parts->parameters += q * q;
    }
    parts->rule = hermiteRule(data.groupings.size() == 1 ? data.points : 1);
    parts->data = std::move(data);
    parts_ = std::move(parts);
}

LevelLikelihood::~LevelLikelihood() = default;

const LevelLikelihood::Data& LevelLikelihood::data() const { return parts_->data; }

LevelLikelihood::Look LevelLikelihood::look(const VectorXd& coefficients,
                                            const std::vector<MatrixXd>& factors,
                                            bool wantSlopes) const {
    constexpr std::size_t kMostChunks = 64;
    const std::size_t chunks = std::min(parts_->trees.size(), kMostChunks);
    std::vector<double> values(chunks, 0.0);
    std::vector<VectorXd> slopes(chunks, VectorXd::Zero(parts_->parameters));
    overTrees(
        parts_->trees.size(),
        [&](std::size_t c, RowRange range) {
            for (std::size_t t = range.begin; t < range.end && std::isfinite(values[c]); ++t) {
                TreeWork work(*parts_, parts_->trees[t], coefficients, factors);
                VectorXd* slope = wantSlopes ? &slopes[c] : nullptr;
                values[c] += !work.settle()               ? -kInfinite
                             : parts_->rule.at.size() > 1 ? work.quadrature(slope)
                                                          : work.laplace(slope);
            }
        },
        chunks);
    Look out;
    VectorXd slope = VectorXd::Zero(parts_->parameters);
    for (std::size_t c = 0; c < chunks; ++c) {
        out.deviance -= 2.0 * values[c];
        slope -= 2.0 * slopes[c];
    }
    if (!std::isfinite(out.deviance)) {
        out.deviance = kInfinite;
        slope.setZero();
    }
    out.slope = slope.head(parts_->data.X.cols());
    for (std::size_t l = 0; l < parts_->widths.size(); ++l) {
        const Index q = parts_->widths[l];
        out.slopes.push_back(Eigen::Map<const MatrixXd>(slope.data() + parts_->entries[l], q, q));
    }
    return out;
}

LevelLikelihood::Modes LevelLikelihood::modes(const VectorXd& coefficients,
                                              const std::vector<MatrixXd>& factors) const {
    Modes out;
    out.index.resize(parts_->data.y.size());
    for (std::size_t l = 0; l < parts_->widths.size(); ++l) {
        const Index groups = parts_->data.groupings[l].count;
        const Index q = parts_->widths[l];
        out.values.push_back(MatrixXd::Zero(groups, q));
        out.covariances.push_back(MatrixXd::Zero(groups, q * q));
        out.weights.push_back(VectorXd::Zero(groups));
    }
    for (const Tree& tree : parts_->trees) {
        TreeWork work(*parts_, tree, coefficients, factors);
        if (!work.settle()) {
            continue;
        }
        const auto covariances = work.ownCovariances();
        for (std::size_t v = 0; v < tree.nodes.size(); ++v) {
            const Node& node = tree.nodes[v];
            out.values[node.level].row(node.group) = work.effectsOf(v).transpose();
            out.covariances[node.level].row(node.group) =
                Eigen::Map<const Eigen::RowVectorXd>(covariances[v].data(), covariances[v].size());
            for (Index i = node.first; i < node.first + node.count; ++i) {
                out.weights[node.level](node.group) +=
                    work.rows()[static_cast<std::size_t>(i - tree.first)].weight;
            }
        }
        for (Index i = 0; i < tree.count; ++i) {
            out.index(parts_->order[static_cast<std::size_t>(tree.first + i)]) = work.index()(i);
        }
    }
    return out;
}

HermiteRule hermiteRule(int points) {
    HermiteRule out;
    MatrixXd J = MatrixXd::Zero(points, points);
    for (Index i = 1; i < points; ++i) {
        J(i, i - 1) = J(i - 1, i) = std::sqrt(static_cast<double>(i) / 2.0);
    }
    const Eigen::SelfAdjointEigenSolver<MatrixXd> parts(J, Eigen::EigenvaluesOnly);
    out.at = parts.eigenvalues();
    out.weights.resize(points);
    for (Index i = 0; i < points; ++i) {
        // By the recurrence of the orthonormal polynomials: far weights keep their digits.
        double last = 0.0;
        for (int step = 0; step < 3; ++step) {
            double before = 0.0;
            double now = std::pow(std::numbers::pi, -0.25);
            for (int d = 0; d < points; ++d) {
                const double next = out.at(i) * std::sqrt(2.0 / (d + 1.0)) * now -
                                    std::sqrt(d / (d + 1.0)) * before;
                before = now;
                now = next;
            }
            last = before;
            out.at(i) -= now / (std::sqrt(2.0 * points) * before);
        }
        out.weights(i) = 1.0 / (points * last * last);
    }
    // Places come in pairs about zero: their rounding is taken out.
    for (Index i = 0; i < points; ++i) {
        const Index other = points - 1 - i;
        if (i <= other) {
            const double at = 0.5 * (out.at(other) - out.at(i));
            const double weight = 0.5 * (out.weights(other) + out.weights(i));
            out.at(i) = -at;
            out.at(other) = at;
            out.weights(i) = out.weights(other) = weight;
        }
    }
    return out;
}

}  // namespace rapporto
