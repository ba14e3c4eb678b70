// Choosing terms with a penalty on the size of their coefficients.
#include "core/model/term_choice.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kPenalties = 100;
constexpr int kParts = 10;

/// Coefficients on the columns in `active` that solve the penalised equations with these signs;
/// false when a sign turns or a column left out would want in.
bool finishExactly(const MatrixXd& G, const VectorXd& c, const VectorXd& penalty, VectorXd& b) {
    std::vector<Index> active;
    for (Index j = 0; j < b.size(); ++j) {
        if (b(j) != 0.0 || penalty(j) == 0.0) {
            active.push_back(j);
        }
    }
    VectorXd next = VectorXd::Zero(b.size());
    if (!active.empty()) {
        VectorXd right = c(active);
        for (std::size_t a = 0; a < active.size(); ++a) {
            const double value = b(active[a]);
            right(static_cast<Index>(a)) -=
                penalty(active[a]) * (value > 0.0 ? 1.0 : (value < 0.0 ? -1.0 : 0.0));
        }
        const Eigen::LDLT<MatrixXd> ldlt(MatrixXd(G(active, active)));
        if (ldlt.info() != Eigen::Success || ldlt.vectorD().minCoeff() <= 1e-13) {
            return false;
        }
        next(active) = VectorXd(ldlt.solve(right));
    }
    for (const Index j : active) {
        if (penalty(j) > 0.0 && next(j) * b(j) <= 0.0) {
            return false;
        }
    }
    const VectorXd gradient = c - G * next;
    for (Index j = 0; j < b.size(); ++j) {
        if (next(j) == 0.0 && std::abs(gradient(j)) > penalty(j) * (1.0 + 1e-10) + 1e-14) {
            return false;
        }
    }
    b = next;
    return true;
}

/// Minimises ½ b'Gb − c'b + Σ penalty |b| from `b` on. Columns with nothing in them stay zero.
void descend(const MatrixXd& G, const VectorXd& c, const VectorXd& penalty, VectorXd& b) {
    VectorXd gradient = c - G * b;
    for (int turn = 0; turn < 20000; ++turn) {
        double most = 0.0;
        for (Index j = 0; j < b.size(); ++j) {
            if (G(j, j) <= 0.0) {
                continue;
            }
            const double pull = gradient(j) + G(j, j) * b(j);
            const double size = std::abs(pull) - penalty(j);
            const double next = size > 0.0 ? std::copysign(size, pull) / G(j, j) : 0.0;
            const double step = next - b(j);
            if (step != 0.0) {
                gradient -= step * G.col(j);
                b(j) = next;
                most = std::max(most, std::abs(step) * std::sqrt(G(j, j)));
            }
        }
        if ((turn < 5 || turn % 10 == 0) && finishExactly(G, c, penalty, b)) {
            return;
        }
        if (most < 1e-13) {
            return;
        }
        if (turn % 10 == 0) {
            gradient = c - G * b;
        }
    }
}

/// Sums over some rows: of weights, of [Z y], and of their products.
struct Sums {
    double weight = 0.0;
    VectorXd first;
    MatrixXd second;

    explicit Sums(Index k) : first(VectorXd::Zero(k)), second(MatrixXd::Zero(k, k)) {}

    Sums& operator+=(const Sums& o) {
        weight += o.weight;
        first += o.first;
        second += o.second;
        return *this;
    }

    Sums& operator-=(const Sums& o) {
        weight -= o.weight;
        first -= o.first;
        second -= o.second;
        return *this;
    }

    /// Mean products about the means (about zero without a constant), the outcome last.
    [[nodiscard]] MatrixXd covariance(bool centred) const {
        MatrixXd out = second / weight;
        if (centred) {
            out -= first * first.transpose() / (weight * weight);
        }
        return out;
    }
};

class Lasso {
  public:
    Lasso(const Design& design, const std::vector<bool>& held) : design_(design) {
        for (std::size_t c = 0; c < design.columns.size(); ++c) {
            const int term = design.columns[c].term;
            if (term < 0) {
                continue;
            }
            columns_.push_back(static_cast<Index>(c));
            free_.push_back(!held[static_cast<std::size_t>(term)]);
        }
        const auto p = static_cast<Index>(columns_.size());
        const double n = static_cast<double>(design.y.size());
        M_.resize(design.y.size(), p + 1);
        M_.leftCols(p) = design.X(Eigen::all, columns_);
        M_.col(p) = design.y;
        w_ = design.weights.size() > 0 ? design.weights : VectorXd::Ones(static_cast<Index>(n));
        scale_.resize(p + 1);
        const double total = w_.sum();
        for (Index j = 0; j <= p; ++j) {
            if (design.hasConstant) {
                M_.col(j).array() -= M_.col(j).dot(w_) / total;
            }
            scale_(j) = std::sqrt(M_.col(j).cwiseAbs2().dot(w_) / total);
            if (scale_(j) > 0.0) {
                M_.col(j) /= scale_(j);
            }
        }
    }

    [[nodiscard]] bool hasFree() const {
        return std::any_of(free_.begin(), free_.end(), [](bool f) { return f; });
    }

    Result<LassoPath> path(std::uint64_t seed, const Job& job) {
        LassoPath out;
        const auto p = static_cast<Index>(columns_.size());
        const std::vector<Sums> parts = sumsOfParts(seed, out);
        Sums all(p + 1);
        for (const Sums& one : parts) {
            all += one;
        }
        const MatrixXd C = all.covariance(design_.hasConstant);
        const double first = largestPenalty(C);
        for (int l = 0; l < kPenalties; ++l) {
            out.lambda.push_back(first * std::pow(1e-3, static_cast<double>(l) / (kPenalties - 1)));
        }
        const MatrixXd whole = along(C, out.lambda);
        std::vector<Index> penalised;
        for (Index j = 0; j < p; ++j) {
            if (free_[static_cast<std::size_t>(j)]) {
                penalised.push_back(j);
                out.columns.push_back(columns_[static_cast<std::size_t>(j)]);
            }
        }
        out.coefficients = whole(penalised, Eigen::all);
        for (std::size_t j = 0; j < penalised.size(); ++j) {
            const double unit = scale_(penalised[j]);
            out.coefficients.row(static_cast<Index>(j)) *= unit > 0.0 ? scale_(p) / unit : 0.0;
        }
        for (double& lambda : out.lambda) {
            lambda *= scale_(p);
        }
        MatrixXd errors(static_cast<Index>(parts.size()), kPenalties);
        std::vector<double> shares;
        for (std::size_t part = 0; part < parts.size(); ++part) {
            if (job.stopped()) {
                return refuse(ErrorCode::Stopped, "the search was stopped");
            }
            Sums train = all;
            train -= parts[part];
            std::vector<double> lambda;
            for (const double l : out.lambda) {
                lambda.push_back(l / scale_(p));
            }
            const MatrixXd b = along(train.covariance(design_.hasConstant), lambda);
            for (Index l = 0; l < kPenalties; ++l) {
                errors(static_cast<Index>(part), l) = errorOf(parts[part], train, b.col(l));
            }
            shares.push_back(parts[part].weight / all.weight);
            job.report(static_cast<double>(part + 1) / static_cast<double>(parts.size()));
        }
        summarise(errors * scale_(p) * scale_(p), shares, out);
        return out;
    }

  private:
    std::vector<Sums> sumsOfParts(std::uint64_t seed, LassoPath& out) const {
        out.partsOfClusters = design_.clusters.size() == 1;
        const auto units = out.partsOfClusters ? static_cast<std::size_t>(design_.clusterCounts[0])
                                               : static_cast<std::size_t>(M_.rows());
        out.parts = static_cast<int>(std::min<std::size_t>(kParts, units));
        std::vector<std::pair<std::uint64_t, std::size_t>> order;
        RandomStream random(seed, 0);
        for (std::size_t u = 0; u < units; ++u) {
            order.emplace_back(random.next(), u);
        }
        std::sort(order.begin(), order.end());
        std::vector<std::size_t> part(units);
        for (std::size_t i = 0; i < units; ++i) {
            part[order[i].second] = i % static_cast<std::size_t>(out.parts);
        }
        // By parts, so that each is one stretch of rows and one product.
        std::vector<std::vector<Index>> rows(static_cast<std::size_t>(out.parts));
        for (Index i = 0; i < M_.rows(); ++i) {
            const auto unit =
                out.partsOfClusters
                    ? static_cast<std::size_t>(design_.clusters[0][static_cast<std::size_t>(i)])
                    : static_cast<std::size_t>(i);
            rows[part[unit]].push_back(i);
        }
        std::vector<Sums> sums;
        for (const auto& list : rows) {
            const MatrixXd Z = M_(list, Eigen::all);
            const VectorXd w = w_(list);
            Sums one(M_.cols());
            one.weight = w.sum();
            one.first = Z.transpose() * w;
            one.second = Z.transpose() * w.asDiagonal() * Z;
            sums.push_back(std::move(one));
        }
        return sums;
    }

    [[nodiscard]] VectorXd penalties(double lambda) const {
        VectorXd out(static_cast<Index>(free_.size()));
        for (std::size_t j = 0; j < free_.size(); ++j) {
            out(static_cast<Index>(j)) = free_[j] ? lambda : 0.0;
        }
        return out;
    }

    /// Where every free coefficient is zero, the held ones fitted.
    [[nodiscard]] double largestPenalty(const MatrixXd& C) const {
        const auto p = static_cast<Index>(free_.size());
        VectorXd b = VectorXd::Zero(p);
        descend(C.topLeftCorner(p, p), C.col(p).head(p), penalties(1e300), b);
        const VectorXd gradient = C.col(p).head(p) - C.topLeftCorner(p, p) * b;
        double most = 0.0;
        for (Index j = 0; j < p; ++j) {
            most =
                free_[static_cast<std::size_t>(j)] ? std::max(most, std::abs(gradient(j))) : most;
        }
        return most;
    }

    [[nodiscard]] MatrixXd along(const MatrixXd& C, const std::vector<double>& lambda) const {
        const auto p = static_cast<Index>(free_.size());
        const MatrixXd G = C.topLeftCorner(p, p);
        const VectorXd c = C.col(p).head(p);
        MatrixXd out(p, static_cast<Index>(lambda.size()));
        VectorXd b = VectorXd::Zero(p);
        for (std::size_t l = 0; l < lambda.size(); ++l) {
            descend(G, c, penalties(lambda[l]), b);
            out.col(static_cast<Index>(l)) = b;
        }
        return out;
    }

    /// Mean square in the part of what the rest foretells: from sums alone.
    [[nodiscard]] double errorOf(const Sums& part, const Sums& train, const VectorXd& b) const {
        const Index p = b.size();
        VectorXd v(p + 1);
        v << -b, 1.0;
        const double constant = design_.hasConstant ? v.dot(train.first) / train.weight : 0.0;
        const double squares = v.dot(part.second * v) - 2.0 * constant * v.dot(part.first) +
                               constant * constant * part.weight;
        return std::max(squares, 0.0) / part.weight;
    }

    static void summarise(const MatrixXd& errors, const std::vector<double>& shares,
                          LassoPath& out) {
        const Eigen::Map<const VectorXd> w(shares.data(), static_cast<Index>(shares.size()));
        const double parts = static_cast<double>(shares.size());
        for (Index l = 0; l < errors.cols(); ++l) {
            const double mean = w.dot(errors.col(l));
            const double variance =
                w.dot((errors.col(l).array() - mean).square().matrix()) / (parts - 1.0);
            out.error.push_back(mean);
            out.errorSe.push_back(std::sqrt(variance));
        }
        out.best = static_cast<std::size_t>(std::min_element(out.error.begin(), out.error.end()) -
                                            out.error.begin());
        const double bound = out.error[out.best] + out.errorSe[out.best];
        out.oneSe = out.best;
        while (out.oneSe > 0 && out.error[out.oneSe - 1] <= bound) {
            --out.oneSe;
        }
    }

    const Design& design_;
    std::vector<Index> columns_;
    std::vector<bool> free_;
    MatrixXd M_;  ///< Columns and outcome, centred and scaled.
    VectorXd w_;
    VectorXd scale_;
};

/// The lasso with loadings from its own residuals; which of the columns it keeps.
class LoadedLasso {
  public:
    /// @param X  controls, centred, times root weights.
    LoadedLasso(MatrixXd X, const std::vector<std::int32_t>* clusters, std::int32_t count)
        : X_(std::move(X)), clusters_(clusters), count_(count) {
        const double n = static_cast<double>(X_.rows());
        G_ = X_.transpose() * X_ / n;
        const double gamma = 0.1 / std::log(n);
        multiplier_ = 1.1 / std::sqrt(n) *
                      normalQuantile(1.0 - gamma / (2.0 * static_cast<double>(X_.cols())));
    }

    [[nodiscard]] std::vector<Index> chosen(const VectorXd& target) const {
        const double n = static_cast<double>(X_.rows());
        const double unit = std::sqrt(target.squaredNorm() / n);
        const VectorXd v = unit > 0.0 ? VectorXd(target / unit) : target;
        const VectorXd c = X_.transpose() * v / n;
        VectorXd e = v;
        VectorXd loadings = loadingsOf(e);
        std::vector<Index> kept;
        for (int turn = 0; turn < 15; ++turn) {
            VectorXd b = VectorXd::Zero(X_.cols());
            descend(G_, c, multiplier_ * loadings, b);
            kept.clear();
            for (Index j = 0; j < b.size(); ++j) {
                if (b(j) != 0.0) {
                    kept.push_back(j);
                }
            }
            e = v;
            if (!kept.empty()) {
                const MatrixXd Z = X_(Eigen::all, kept);
                e -= Z * Z.colPivHouseholderQr().solve(v);
            }
            const VectorXd next = loadingsOf(e);
            const double change = (next - loadings).cwiseAbs().maxCoeff();
            const double size = loadings.maxCoeff();
            loadings = next;
            if (change <= 1e-8 * size) {
                break;
            }
        }
        return kept;
    }

  private:
    [[nodiscard]] VectorXd loadingsOf(const VectorXd& e) const {
        const double n = static_cast<double>(X_.rows());
        if (clusters_ == nullptr) {
            return (X_.cwiseAbs2().transpose() * e.cwiseAbs2() / n).cwiseSqrt();
        }
        MatrixXd sums = MatrixXd::Zero(count_, X_.cols());
        for (Index i = 0; i < X_.rows(); ++i) {
            sums.row((*clusters_)[static_cast<std::size_t>(i)]) += e(i) * X_.row(i);
        }
        return (sums.cwiseAbs2().colwise().sum().transpose() / n).cwiseSqrt();
    }

    MatrixXd X_;
    const std::vector<std::int32_t>* clusters_;
    std::int32_t count_;
    MatrixXd G_;
    double multiplier_ = 0.0;
};

}  // namespace

std::vector<std::size_t> LassoPath::termsAt(const Design& design, const std::vector<bool>& held,
                                            std::size_t at) const {
    std::vector<bool> in = held;
    for (std::size_t j = 0; j < columns.size(); ++j) {
        if (coefficients(static_cast<Index>(j), static_cast<Index>(at)) != 0.0) {
            in[static_cast<std::size_t>(
                design.columns[static_cast<std::size_t>(columns[j])].term)] = true;
        }
    }
    std::vector<std::size_t> out;
    for (std::size_t t = 0; t < in.size(); ++t) {
        if (in[t]) {
            out.push_back(t);
        }
    }
    return out;
}

Result<LassoPath> lassoPath(const Design& design, const std::vector<bool>& held, std::uint64_t seed,
                            const Job& job) {
    if (design.y.size() < 20) {
        return refuse(ErrorCode::TooFewRows, "fewer than 20 rows cannot be parted", "",
                      "Compare all subsets instead.");
    }
    if (design.clusters.size() == 1 && design.clusterCounts[0] < 4) {
        return refuse(ErrorCode::TooFewRows, "fewer than four clusters cannot be parted", "",
                      "Compare all subsets instead.");
    }
    Lasso lasso(design, held);
    if (!lasso.hasFree()) {
        return refuse(ErrorCode::BadSetting, "there is no term to choose", "",
                      "Let go of a term that is held.");
    }
    return lasso.path(seed, job);
}

Result<DoubleSelection> doubleSelection(const Design& design, std::size_t of, const Job& job) {
    const auto parts = termParts(design);
    std::vector<bool> focal(design.terms.size(), false);
    focal[of] = true;
    for (std::size_t t = 0; t < parts.size(); ++t) {
        focal[t] = focal[t] || std::find(parts[t].begin(), parts[t].end(), of) != parts[t].end();
    }
    std::vector<Index> controls;
    std::vector<Index> targets;
    for (std::size_t c = 0; c < design.columns.size(); ++c) {
        const int term = design.columns[c].term;
        if (term >= 0) {
            (focal[static_cast<std::size_t>(term)] ? targets : controls)
                .push_back(static_cast<Index>(c));
        }
    }
    if (controls.empty()) {
        return refuse(ErrorCode::BadSetting, "there is no control to choose", "",
                      "Add what may move both the term and the outcome.");
    }
    if (design.y.size() < 20) {
        return refuse(ErrorCode::TooFewRows, "fewer than 20 rows are too few for a penalty", "",
                      "Keep all controls.");
    }
    const VectorXd w = design.weights.size() > 0 ? design.weights : VectorXd::Ones(design.y.size());
    const auto prepared = [&](const VectorXd& x) -> VectorXd {
        VectorXd out = x;
        if (design.hasConstant) {
            out.array() -= x.dot(w) / w.sum();
        }
        return out.cwiseProduct(w.cwiseSqrt());
    };
    MatrixXd X(design.y.size(), static_cast<Index>(controls.size()));
    for (std::size_t j = 0; j < controls.size(); ++j) {
        VectorXd x = prepared(design.X.col(controls[j]));
        // The loadings take any scale up; this one keeps the numbers near one.
        const double size = std::sqrt(x.squaredNorm() / static_cast<double>(x.size()));
        X.col(static_cast<Index>(j)) = size > 0.0 ? VectorXd(x / size) : x;
    }
    const bool clustered = design.clusters.size() == 1;
    const LoadedLasso lasso(std::move(X), clustered ? &design.clusters[0] : nullptr,
                            clustered ? design.clusterCounts[0] : 0);
    DoubleSelection out;
    out.of = of;
    const auto terms = [&](const std::vector<Index>& kept, std::vector<std::size_t>& into) {
        for (const Index j : kept) {
            into.push_back(static_cast<std::size_t>(
                design.columns[static_cast<std::size_t>(controls[static_cast<std::size_t>(j)])]
                    .term));
        }
        std::sort(into.begin(), into.end());
        into.erase(std::unique(into.begin(), into.end()), into.end());
    };
    terms(lasso.chosen(prepared(design.y)), out.forOutcome);
    for (const Index target : targets) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the search was stopped");
        }
        terms(lasso.chosen(prepared(design.X.col(target))), out.forTerm);
    }
    std::vector<bool> in = focal;
    for (const auto& list : {out.forOutcome, out.forTerm}) {
        for (const std::size_t t : list) {
            in[t] = true;
            for (const std::size_t part : parts[t]) {
                in[part] = true;
            }
        }
    }
    for (std::size_t t = 0; t < in.size(); ++t) {
        if (in[t]) {
            out.together.push_back(t);
        }
    }
    return out;
}

}  // namespace rapporto
