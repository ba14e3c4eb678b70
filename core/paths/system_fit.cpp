#include "core/numerics/distributions.h"
#include "core/paths/system.h"

#include <boost/math/distributions/non_central_chi_squared.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

/// Only plain variables, each a node of its own, in unweighted linear equations.
bool isPlain(const PathSystem& system, bool fromMoments) {
    const bool plainColumns =
        std::all_of(system.columns.begin(), system.columns.end(),
                    [](const ColumnFactors& c) { return c.factors.size() <= 1; });
    const bool levels = std::any_of(system.levelOf.begin(), system.levelOf.end(),
                                    [](const std::string& name) { return !name.empty(); });
    return system.isLinear() && plainColumns && !levels &&
           (fromMoments || system.weights.size() == 0);
}

/// Covariances of all nodes with n − 1 in the divisor, causes first.
MatrixXd covariances(const PathSystem& system, const std::vector<std::size_t>& order) {
    const auto p = static_cast<Index>(order.size());
    MatrixXd S(p, p);
    for (Index a = 0; a < p; ++a) {
        const auto i = order[static_cast<std::size_t>(a)];
        const VectorXd x = system.values[i].array() - system.nodes[i].mean;
        for (Index b = 0; b <= a; ++b) {
            const auto j = order[static_cast<std::size_t>(b)];
            const VectorXd y = system.values[j].array() - system.nodes[j].mean;
            const VectorXd product = x.cwiseProduct(y);
            const double sum =
                system.weights.size() > 0 ? product.dot(system.weights) : product.sum();
            S(a, b) = S(b, a) = sum / (system.n - 1.0);
        }
    }
    return S;
}

double logDeterminant(const MatrixXd& S) {
    const VectorXd scale = S.diagonal().cwiseSqrt();
    const MatrixXd R = scale.cwiseInverse().asDiagonal() * S * scale.cwiseInverse().asDiagonal();
    const Eigen::LLT<MatrixXd> llt(R);
    if (llt.info() != Eigen::Success) {
        return kNone;
    }
    const VectorXd pivots = llt.matrixLLT().diagonal();
    return 2.0 * pivots.array().log().sum() + 2.0 * scale.array().log().sum();
}

/// The λ for which a non-central χ²(df, λ) lies at most at `value` with this probability; 0 where
/// even the central one does so less often.
double noncentrality(double value, double df, double probability) {
    namespace law = boost::math;
    const auto below = [&](double lambda) {
        return law::cdf(law::non_central_chi_squared(df, lambda), value);
    };
    if (below(0.0) < probability) {
        return 0.0;
    }
    double high = std::max(value, 1.0);
    while (below(high) > probability) {
        high *= 2.0;
    }
    double low = 0.0;
    for (int i = 0; i < 200 && high - low > 1e-13 * high; ++i) {
        const double middle = 0.5 * (low + high);
        (below(middle) > probability ? low : high) = middle;
    }
    return 0.5 * (low + high);
}

}  // namespace

std::optional<SystemFit> systemFit(const PathSystem& system, const SummaryMatrix* moments) {
    if (!isPlain(system, moments != nullptr)) {
        return std::nullopt;
    }
    // Causes first, then what is explained, each after what explains it.
    std::vector<std::size_t> order;
    for (std::size_t v = 0; v < system.nodes.size(); ++v) {
        if (system.nodes[v].equation < 0) {
            order.push_back(v);
        }
    }
    const auto q = static_cast<Index>(order.size());
    for (const std::size_t e : system.order) {
        order.push_back(static_cast<std::size_t>(system.node(system.equations[e].to)));
    }
    const auto p = static_cast<Index>(order.size());
    const MatrixXd S = covariances(system, order);
    // What the paths imply, row by row: Σ of an outcome with all before it is B times theirs.
    MatrixXd implied = MatrixXd::Zero(p, p);
    implied.topLeftCorner(q, q) = S.topLeftCorner(q, q);
    double paths = 0.0;
    for (Index a = q; a < p; ++a) {
        const auto e =
            static_cast<std::size_t>(system.nodes[order[static_cast<std::size_t>(a)]].equation);
        VectorXd b = VectorXd::Zero(a);
        for (Index j = system.first[e]; j < system.first[e + 1]; ++j) {
            const auto& factors = system.columns[static_cast<std::size_t>(j)].factors;
            if (!factors.empty()) {
                const auto at =
                    std::find(order.begin(), order.end(), static_cast<std::size_t>(factors[0])) -
                    order.begin();
                b(at) = system.theta(j);
                paths += 1.0;
            }
        }
        const VectorXd across = implied.topLeftCorner(a, a) * b;
        const VectorXd left = system.equations[e].fit->residuals;
        const VectorXd squares = left.cwiseAbs2();
        const double rss = system.weights.size() > 0 ? squares.dot(system.weights) : squares.sum();
        implied.block(a, 0, 1, a) = across.transpose();
        implied.block(0, a, a, 1) = across;
        implied(a, a) = b.dot(across) + rss / (system.n - 1.0);
    }
    const auto count = static_cast<double>(p);
    const auto causes = static_cast<double>(q);
    const auto explained = count - causes;
    SystemFit fit;
    fit.df = 0.5 * count * (count + 1.0) - (paths + explained + 0.5 * causes * (causes + 1.0));
    if (fit.df < 0.5) {
        fit = SystemFit{kNone, 0.0, kNone, kNone, kNone, kNone, kNone, kNone, kNone};
        return fit;
    }
    const double n1 = system.n - 1.0;
    const double own = logDeterminant(S);
    fit.chi2 = std::max(n1 * (logDeterminant(implied) - own), 0.0);
    fit.p = chiSquareTail(fit.chi2, fit.df);
    // The baseline: nothing that is explained goes with anything.
    const double alone = (q > 0 ? logDeterminant(S.topLeftCorner(q, q)) : 0.0) +
                         S.diagonal().tail(p - q).array().log().sum();
    const double base = std::max(n1 * (alone - own), 0.0);
    const double baseDf = causes * explained + 0.5 * explained * (explained - 1.0);
    const double excess = std::max(fit.chi2 - fit.df, 0.0);
    const double most = std::max({base - baseDf, fit.chi2 - fit.df, 0.0});
    fit.cfi = most > 0.0 ? 1.0 - excess / most : 1.0;
    fit.tli = (base / baseDf - fit.chi2 / fit.df) / (base / baseDf - 1.0);
    fit.rmsea = std::sqrt(excess / (fit.df * n1));
    fit.rmseaLow = std::sqrt(noncentrality(fit.chi2, fit.df, 0.95) / (fit.df * n1));
    fit.rmseaHigh = std::sqrt(noncentrality(fit.chi2, fit.df, 0.05) / (fit.df * n1));
    double squares = 0.0;
    for (Index a = 0; a < p; ++a) {
        for (Index b = 0; b <= a; ++b) {
            const double seen = S(a, b) / std::sqrt(S(a, a) * S(b, b));
            const double told = implied(a, b) / std::sqrt(implied(a, a) * implied(b, b));
            squares += (seen - told) * (seen - told);
        }
    }
    fit.srmr = std::sqrt(squares / (0.5 * count * (count + 1.0)));
    return fit;
}

namespace {

/// Partial F (t² of a single column) of columns added to a linear equation; nothing where they do
/// not vary beside it.
std::optional<AbsentPath> added(const PathSystem& system, const TraceEquation& equation,
                                const std::vector<int>& nodes, const Job& job) {
    const Design& design = *equation.design;
    const auto m = static_cast<Index>(nodes.size());
    MatrixXd X(design.X.rows(), design.X.cols() + m);
    X.leftCols(design.X.cols()) = design.X;
    for (Index j = 0; j < m; ++j) {
        X.col(design.X.cols() + j) =
            system.values[static_cast<std::size_t>(nodes[static_cast<std::size_t>(j)])];
    }
    const auto solution =
        solveLinear({X, design.y, design.weights, design.hasConstant}, false, job.quiet());
    if (!solution) {
        return std::nullopt;
    }
    const auto more = static_cast<double>(solution->kept.size()) -
                      static_cast<double>(equation.fit->solution.kept.size());
    const double left = equation.fit->n - static_cast<double>(solution->kept.size());
    if (more < 1.0 || left < 1.0 || !(solution->residualSquares > 0.0)) {
        return std::nullopt;
    }
    AbsentPath path;
    path.to = equation.to;
    path.df = more;
    const double gained = equation.fit->statistics.rss - solution->residualSquares;
    path.statistic = std::max(gained, 0.0) / more / (solution->residualSquares / left);
    path.p = fTail(path.statistic, more, left);
    return path;
}

}  // namespace

std::vector<AbsentPath> absentPaths(const PathSystem& system, const Job& job) {
    std::vector<AbsentPath> out;
    const auto count = system.nodes.size();
    // Each is a fit of its own; past some seconds of them none is tried.
    constexpr double kMostWork = 2e10;
    double work = 0.0;
    for (const TraceEquation& equation : system.equations) {
        work += static_cast<double>(equation.design->X.rows()) *
                std::pow(static_cast<double>(equation.design->X.cols()) + 1.0, 2.0) *
                static_cast<double>(count);
    }
    if (work > kMostWork) {
        return out;
    }
    for (const std::size_t e : system.order) {
        const TraceEquation& equation = system.equations[e];
        if (!equation.isLinear()) {
            continue;
        }
        const int to = system.node(equation.to);
        const auto there = system.parents(to);
        // What the outcome reaches cannot explain it.
        std::vector<bool> below(count, false);
        below[static_cast<std::size_t>(to)] = true;
        for (const std::size_t other : system.order) {
            const auto node = static_cast<std::size_t>(system.node(system.equations[other].to));
            for (const int parent : system.parents(static_cast<int>(node))) {
                below[node] = below[node] || below[static_cast<std::size_t>(parent)];
            }
        }
        std::vector<bool> tried(count, false);
        for (std::size_t v = 0; v < count && !job.stopped(); ++v) {
            const bool listed =
                std::find(there.begin(), there.end(), static_cast<int>(v)) != there.end();
            if (below[v] || listed || tried[v]) {
                continue;
            }
            // Levels of a grouping are added together.
            std::vector<int> nodes;
            for (std::size_t w = v; w < count; ++w) {
                if (w == v ||
                    (system.siblings[v] >= 0 && system.siblings[w] == system.siblings[v])) {
                    nodes.push_back(static_cast<int>(w));
                    tried[w] = true;
                }
            }
            if (auto path = added(system, equation, nodes, job)) {
                path->from = system.levelOf[v].empty() ? system.nodes[v].name : system.levelOf[v];
                out.push_back(*std::move(path));
            }
        }
    }
    std::stable_sort(out.begin(), out.end(),
                     [](const AbsentPath& a, const AbsentPath& b) { return a.p < b.p; });
    return out;
}

}  // namespace rapporto
