#include "core/numerics/nested_effects.h"

#include "core/numerics/group_columns.h"

#include <cblas.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::Map;
using Eigen::MatrixXd;
using Eigen::VectorXd;

using Block = Map<MatrixXd>;
using ConstBlock = Map<const MatrixXd>;
using Small = NestedEffects::Small;

/// Parts of a number of groups that are worked on beside each other: by the number alone, so that
/// sums have the same bits for any number of threads.
class GroupParts {
  public:
    GroupParts(std::size_t groups, bool cut)
        : groups_(groups), count_(cut ? std::clamp<std::size_t>(groups / kGroups, 1, kMost) : 1) {}

    [[nodiscard]] std::size_t count() const { return count_; }

    [[nodiscard]] RowRange operator[](std::size_t part) const {
        return {groups_ * part / count_, groups_ * (part + 1) / count_};
    }

  private:
    static constexpr std::size_t kGroups = 256;
    static constexpr std::size_t kMost = 16;
    std::size_t groups_;
    std::size_t count_;
};

std::size_t at(std::int32_t group, Index size) {
    return static_cast<std::size_t>(group) * static_cast<std::size_t>(size);
}

}  // namespace

NestedEffects::NestedEffects(const MatrixXd& Q, const VectorXd& y,
                             std::vector<RandomGrouping> levels, const VectorXd& weights)
    : groupings_(std::move(levels)), p_(Q.cols()), rows_(static_cast<double>(Q.rows())) {
    const std::size_t L = groupings_.size();
    from_.assign(L + 1, p_ + 1);
    for (std::size_t l = L; l-- > 0;) {
        from_[l] = from_[l + 1] + groupings_[l].columns.cols();
    }
    for (std::size_t l = 0; l < L; ++l) {
        std::vector<std::int32_t> parents(static_cast<std::size_t>(groupings_[l].count), 0);
        for (std::size_t i = 0; l + 1 < L && i < groupings_[l].of.size(); ++i) {
            parents[static_cast<std::size_t>(groupings_[l].of[i])] = groupings_[l + 1].of[i];
        }
        parents_.push_back(std::move(parents));
    }
    // Of the innermost groups the rows of their own columns; of the others all there is.
    const Index m = from_[0];
    const Index q = width(0);
    base_.resize(L + 1);
    base_[0].assign(at(groupings_[0].count, q * m), 0.0);
    for (std::size_t l = 1; l <= L; ++l) {
        const std::int32_t count = l < L ? groupings_[l].count : 1;
        base_[l].assign(at(count, from_[l] * from_[l]), 0.0);
    }
    const Index n = Q.rows();
    const VectorXd w = weights.size() > 0 ? weights : VectorXd(VectorXd::Ones(n));
    MatrixXd all(n, m);
    Index column = 0;
    for (const RandomGrouping& grouping : groupings_) {
        all.middleCols(column, grouping.columns.cols()) = grouping.columns;
        column += grouping.columns.cols();
    }
    all.middleCols(column, p_) = Q;
    all.col(m - 1) = y;
    const Index stride = strideOf(0);
    for (Index c = 0; c < m; ++c) {
        for (Index r = 0; r < q; ++r) {
            const double* x = all.col(c).data();
            const double* z = all.col(r).data();
            double* sums = base_[0].data() + c * stride + r;
            for (Index i = 0; i < n; ++i) {
                sums[groupings_[0].of[static_cast<std::size_t>(i)] * q] += w(i) * x[i] * z[i];
            }
        }
    }
    // The others add up their inner ones once these are taken out.
    const Index size = from_[1];
    if (L == 1) {
        Block(base_[1].data(), size, size).noalias() =
            all.rightCols(size).transpose() * (w.asDiagonal() * all.rightCols(size));
        return;
    }
    for (Index i = 0; i < n; ++i) {
        double* sums =
            base_[1].data() + at(groupings_[1].of[static_cast<std::size_t>(i)], size * size);
        for (Index c = 0; c < size; ++c) {
            const double x = w(i) * all(i, m - size + c);
            for (Index r = 0; r <= c; ++r) {
                sums[c * size + r] += x * all(i, m - size + r);
            }
        }
    }
}

const double* NestedEffects::sumsOf(const Eliminated& found, std::size_t level,
                                    std::int32_t group) const {
    return level == 0 ? base_[0].data() + at(group, width(0))
                      : found.sums[level].data() + at(group, from_[level] * from_[level]);
}

Index NestedEffects::strideOf(std::size_t level) const {
    return level == 0 ? width(0) * static_cast<Index>(groups(0)) : from_[level];
}

double NestedEffects::eliminateGroups(std::size_t l, RowRange range, const Small& factor,
                                      Eliminated& out, double* shared) const {
    const Index q = width(l);
    const Index size = from_[l];
    const Index rest = size - q;
    const Index stride = strideOf(l);
    double logDet = 0.0;
    if (l == 0 && shared != nullptr) {
        const auto first = static_cast<Index>(range.begin);
        const auto count = static_cast<Index>(range.end - range.begin);
        const double* base = base_[0].data() + first * q;
        MatrixXd halves(q * count, rest);
        std::vector<double> own(static_cast<std::size_t>(count * q * q));
        groups::withWidth(q, [&](auto known) {
            logDet = groups::keysOf<known()>({base, stride, q, count}, factor,
                                             out.keys[0].data() + first * q * q, own.data());
            for (Index c = 0; c < rest; ++c) {
                groups::turnEach<known()>(own.data(), base + (q + c) * stride, q, count,
                                          halves.col(c).data());
            }
        });
        cblas_dsyrk(CblasColMajor, CblasUpper, CblasTrans, static_cast<int>(rest),
                    static_cast<int>(halves.rows()), -1.0, halves.data(),
                    static_cast<int>(halves.rows()), 1.0, shared, static_cast<int>(rest));
        return logDet;
    }
    Small own(q, q);
    Small turned;
    Small half;
    std::vector<double> product(static_cast<std::size_t>(q));
    // Of one outer group: half-roots of what is taken out, one below the other.
    MatrixXd halves(shared != nullptr ? q * static_cast<Index>(range.end - range.begin) : 0, rest);
    for (std::size_t at_ = range.begin; at_ < range.end; ++at_) {
        const auto g = static_cast<std::int32_t>(at_);
        const double* S = sumsOf(out, l, g);
        // Only the upper triangle of a level beyond the first is kept.
        for (Index c = 0; c < q; ++c) {
            for (Index r = 0; r <= c; ++r) {
                own(r, c) = own(c, r) = S[c * stride + r];
            }
        }
        turned = factor.transpose().lazyProduct(own).lazyProduct(factor);
        turned.diagonal().array() += 1.0;
        const Eigen::LLT<Small> triangle(turned);
        for (Index k = 0; k < q; ++k) {
            logDet += 2.0 * std::log(triangle.matrixLLT()(k, k));
        }
        Block key(out.keys[l].data() + at(g, q * q), q, q);
        half = factor.transpose();
        triangle.matrixL().solveInPlace(half);
        key = half.transpose().lazyProduct(half);
        if (shared != nullptr) {
            const Eigen::Map<const MatrixXd, 0, Eigen::OuterStride<>> across(
                S + q * stride, q, rest, Eigen::OuterStride<>(stride));
            halves.middleRows(static_cast<Index>(at_ - range.begin) * q, q) =
                half.lazyProduct(across);
            for (Index c = 0; c < rest; ++c) {
                for (Index r = 0; r <= c; ++r) {
                    shared[c * rest + r] += S[(q + c) * stride + q + r];
                }
            }
            continue;
        }
        double* into = out.sums[l + 1].data() + at(parents_[l][at_], rest * rest);
        for (Index c = 0; c < rest; ++c) {
            const double* column = S + (q + c) * stride;
            for (Index k = 0; k < q; ++k) {
                double sum = 0.0;
                for (Index r = 0; r < q; ++r) {
                    sum += key(k, r) * column[r];
                }
                product[static_cast<std::size_t>(k)] = sum;
            }
            for (Index r = 0; r <= c; ++r) {
                const double* other = S + (q + r) * stride;
                // What the innermost groups sum to is in their outer ones from the start.
                double sum = l == 0 ? 0.0 : column[q + r];
                for (Index k = 0; k < q; ++k) {
                    sum -= other[k] * product[static_cast<std::size_t>(k)];
                }
                into[c * rest + r] += sum;
            }
        }
    }
    if (shared != nullptr) {
        Block(shared, rest, rest)
            .selfadjointView<Eigen::Upper>()
            .rankUpdate(halves.transpose(), -1.0);
    }
    return logDet;
}

double NestedEffects::eliminate(const std::vector<MatrixXd>& factors, Eliminated& out) const {
    const std::size_t L = levels();
    out.sums.assign(base_.begin(), base_.end());
    out.sums[0].clear();
    out.keys.assign(L, {});
    double logDet = 0.0;
    for (std::size_t l = 0; l < L; ++l) {
        const auto count = static_cast<std::size_t>(groups(l));
        const Index rest = from_[l + 1];
        const Small factor = factors[l];
        out.keys[l].resize(at(groups(l), width(l) * width(l)));
        // Many groups of one outer one are cut into parts, summed in their order.
        const GroupParts parts(count, l + 1 == L);
        if (l + 1 < L) {
            logDet += eliminateGroups(l, parts[0], factor, out, nullptr);
            continue;
        }
        std::vector<std::vector<double>> sums(
            parts.count(), std::vector<double>(static_cast<std::size_t>(rest * rest), 0.0));
        std::vector<double> logs(parts.count(), 0.0);
        inParallel(parts.count(), [&](std::size_t part) {
            logs[part] = eliminateGroups(l, parts[part], factor, out, sums[part].data());
        });
        for (std::size_t part = 0; part < parts.count(); ++part) {
            logDet += logs[part];
            for (std::size_t k = 0; k < sums[part].size(); ++k) {
                out.sums[l + 1][k] += sums[part][k];
            }
        }
    }
    return logDet;
}

double NestedEffects::variance(const Look& at, const Aim& aim) const {
    return aim.variance > 0.0 ? aim.variance : at.squares / freedom(aim.restricted);
}

double NestedEffects::value(const Look& at, const Aim& aim) const {
    const double s = variance(at, aim);
    return at.logDet + (aim.restricted ? at.logPrecision : 0.0) +
           freedom(aim.restricted) * std::log(s) + at.squares / s;
}

MatrixXd NestedEffects::crossProducts(const std::vector<MatrixXd>& factors) const {
    Eliminated found;
    (void)eliminate(factors, found);
    return ConstBlock(found.sums.back().data(), p_ + 1, p_ + 1).selfadjointView<Eigen::Upper>();
}

NestedEffects::Look NestedEffects::look(const std::vector<MatrixXd>& factors, const Aim& aim,
                                        bool slopes) const {
    Eliminated found;
    Look out;
    out.logDet = eliminate(factors, found);
    const Index size = p_ + 1;
    const MatrixXd top =
        ConstBlock(found.sums.back().data(), size, size).selfadjointView<Eigen::Upper>();
    const Eigen::LLT<MatrixXd> triangle(top.topLeftCorner(p_, p_));
    if (p_ > 0 && triangle.info() != Eigen::Success) {
        out.squares = std::numeric_limits<double>::quiet_NaN();
        return out;
    }
    out.gamma = triangle.solve(top.col(p_).head(p_));
    out.covariance = triangle.solve(MatrixXd::Identity(p_, p_));
    for (Index k = 0; k < p_; ++k) {
        out.logPrecision += 2.0 * std::log(triangle.matrixLLT()(k, k));
    }
    out.squares = top(p_, p_) - top.col(p_).head(p_).dot(out.gamma);
    if (!slopes) {
        return out;
    }
    const double s = variance(out, aim);
    out.slopeOfVariance = aim.variance > 0.0 ? freedom(aim.restricted) - out.squares / s : 0.0;
    MatrixXd along = MatrixXd::Zero(size, size);
    along.topLeftCorner(p_, p_) = out.gamma * out.gamma.transpose() / s;
    if (aim.restricted) {
        along.topLeftCorner(p_, p_) += out.covariance;
    }
    along.col(p_).head(p_) = -out.gamma / s;
    along.row(p_).head(p_) = along.col(p_).head(p_).transpose();
    along(p_, p_) = 1.0 / s;
    addSlopes(factors, found, std::move(along), out);
    return out;
}

MatrixXd NestedEffects::slopeOfGroups(std::size_t l, RowRange range, const Small& factor,
                                      const Eliminated& found, const std::vector<MatrixXd>& above,
                                      std::vector<MatrixXd>& own) const {
    const Index q = width(l);
    const Index size = from_[l];
    const Index rest = size - q;
    const Index stride = strideOf(l);
    if (l == 0 && above.size() == 1) {
        const auto first = static_cast<Index>(range.begin);
        const auto count = static_cast<Index>(range.end - range.begin);
        const double* base = base_[0].data() + first * q;
        const Eigen::Map<const MatrixXd, 0, Eigen::OuterStride<>> across(
            base + q * stride, q * count, rest, Eigen::OuterStride<>(stride));
        MatrixXd through(across.rows(), rest);
        cblas_dgemm(CblasColMajor, CblasNoTrans, CblasNoTrans, static_cast<int>(across.rows()),
                    static_cast<int>(rest), static_cast<int>(rest), 1.0, across.data(),
                    static_cast<int>(stride), above.front().data(), static_cast<int>(rest), 0.0,
                    through.data(), static_cast<int>(across.rows()));
        std::vector<double> N(static_cast<std::size_t>(count * q * q), 0.0);
        MatrixXd slope;
        groups::withWidth(q, [&](auto known) {
            for (Index c = 0; c < rest; ++c) {
                groups::addProducts<known()>(through.col(c).data(), across.col(c).data(), q, count,
                                             N.data());
            }
            slope = groups::slopeOf<known()>({base, stride, q, count}, factor,
                                             found.keys[0].data() + first * q * q, N.data());
        });
        return 2.0 * slope;
    }
    Small inner(q, q);
    MatrixXd across(q, rest);
    MatrixXd through(q, rest);
    Small slope = Small::Zero(q, q);
    for (std::size_t at_ = range.begin; at_ < range.end; ++at_) {
        const auto g = static_cast<std::int32_t>(at_);
        const double* S = sumsOf(found, l, g);
        for (Index c = 0; c < q; ++c) {
            for (Index r = 0; r <= c; ++r) {
                inner(r, c) = inner(c, r) = S[c * stride + r];
            }
        }
        for (Index c = 0; c < rest; ++c) {
            for (Index r = 0; r < q; ++r) {
                across(r, c) = S[(q + c) * stride + r];
            }
        }
        const MatrixXd& up = above[static_cast<std::size_t>(parents_[l][at_])];
        through.noalias() = across.lazyProduct(up);
        const Small N = through.lazyProduct(across.transpose());
        const ConstBlock key(found.keys[l].data() + at(g, q * q), q, q);
        // Λ(I + Λ'SΛ)⁻¹ = Λ − K S Λ.
        const Small product = inner.lazyProduct(factor);
        const Small pulled = factor - key.lazyProduct(product);
        const Small turned = N.lazyProduct(pulled);
        const Small keyed = key.lazyProduct(turned);
        slope += inner.lazyProduct(pulled) - turned + inner.lazyProduct(keyed);
        if (l > 0) {
            MatrixXd& whole = own[at_];
            whole.resize(size, size);
            whole.topLeftCorner(q, q) = MatrixXd(key) + key * N * key;
            whole.topRightCorner(q, rest) = -key * through;
            whole.bottomLeftCorner(rest, q) = whole.topRightCorner(q, rest).transpose();
            whole.bottomRightCorner(rest, rest) = up;
        }
    }
    return 2.0 * slope;
}

void NestedEffects::addSlopes(const std::vector<MatrixXd>& factors, const Eliminated& found,
                              MatrixXd top, Look& out) const {
    const std::size_t L = levels();
    out.slopes.assign(L, {});
    // From the outermost level inward: how the value moves with the sums of each group.
    std::vector<MatrixXd> above = {std::move(top)};
    for (std::size_t l = L; l-- > 0;) {
        const auto count = static_cast<std::size_t>(groups(l));
        const Small factor = factors[l];
        std::vector<MatrixXd> own(l > 0 ? count : 0);
        const GroupParts parts(count, true);
        std::vector<MatrixXd> slopes(parts.count());
        inParallel(parts.count(), [&](std::size_t part) {
            slopes[part] = slopeOfGroups(l, parts[part], factor, found, above, own);
        });
        out.slopes[l] = std::accumulate(slopes.begin() + 1, slopes.end(), slopes.front());
        above = std::move(own);
    }
}

NestedEffects::Effects NestedEffects::effects(const std::vector<MatrixXd>& factors, const Look& now,
                                              double variance) const {
    Eliminated found;
    (void)eliminate(factors, found);
    const std::size_t L = levels();
    Effects out;
    out.values.resize(L);
    out.covariances.resize(L);

    // Of each group further out: its effects and those around it, then γ, with the covariance of
    // what is uncertain about them together.
    struct Known {
        VectorXd values;
        MatrixXd covariance;
    };

    std::vector<Known> above = {{-now.gamma, variance * now.covariance}};
    for (std::size_t l = L; l-- > 0;) {
        const Index q = width(l);
        const Index size = from_[l];
        const Index rest = size - q;
        const Index stride = strideOf(l);
        out.values[l].resize(groups(l), q);
        out.covariances[l].resize(groups(l), q * q);
        std::vector<Known> own(l > 0 ? static_cast<std::size_t>(groups(l)) : 0);
        MatrixXd across(q, rest);
        for (std::int32_t g = 0; g < groups(l); ++g) {
            const double* S = sumsOf(found, l, g);
            for (Index c = 0; c < rest; ++c) {
                for (Index r = 0; r < q; ++r) {
                    across(r, c) = S[(q + c) * stride + r];
                }
            }
            const Known& up =
                above[static_cast<std::size_t>(parents_[l][static_cast<std::size_t>(g)])];
            const ConstBlock key(found.keys[l].data() + at(g, q * q), q, q);
            // Values further out are kept with their sign turned: what is left is y plus them.
            const MatrixXd pull = key * across.leftCols(rest - 1);
            const VectorXd u = key * across.col(rest - 1) + pull * up.values;
            out.values[l].row(g) = u.transpose();
            const MatrixXd shared = pull * up.covariance;
            const MatrixXd errors = variance * key + shared * pull.transpose();
            out.covariances[l].row(g) = errors.reshaped().transpose();
            if (l > 0) {
                Known& one = own[static_cast<std::size_t>(g)];
                one.values.resize(size - 1);
                one.values << -u, up.values;
                one.covariance.resize(size - 1, size - 1);
                one.covariance.topLeftCorner(q, q) = errors;
                one.covariance.topRightCorner(q, rest - 1) = -shared;
                one.covariance.bottomLeftCorner(rest - 1, q) = -shared.transpose();
                one.covariance.bottomRightCorner(rest - 1, rest - 1) = up.covariance;
            }
        }
        above = std::move(own);
    }
    return out;
}

}  // namespace rapporto
