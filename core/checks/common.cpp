#include "core/checks/common.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/numerics/gram_schmidt.h"
#include "core/numerics/indicator_block.h"
#include "core/numerics/linear_solution.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

std::string verdictMark(Verdict verdict) {
    switch (verdict) {
        case Verdict::Fine:
            return "●";
        case Verdict::Noted:
            return "◇";
        case Verdict::AllowedFor:
            return "◉";
        case Verdict::Weigh:
            return "◆";
        case Verdict::Fails:
            return "■";
        case Verdict::NotApplicable:
            return "○";
    }
    return "○";
}

std::string verdictName(Verdict verdict) {
    switch (verdict) {
        case Verdict::Fine:
            return "fine";
        case Verdict::Noted:
            return "noted";
        case Verdict::AllowedFor:
            return "allowed-for";
        case Verdict::Weigh:
            return "weigh";
        case Verdict::Fails:
            return "fails";
        case Verdict::NotApplicable:
            return "not-applicable";
    }
    return "not-applicable";
}

const Design& rawOf(const CheckInput& in) {
    const Design* design = &in.design;
    while (design->before != nullptr) {
        design = design->before.get();
    }
    return *design;
}

CheckResult notApplicable(std::string reason) {
    CheckResult result;
    result.verdict = Verdict::NotApplicable;
    result.reading = std::move(reason);
    result.headline = "not applicable";
    return result;
}

Verdict judge(double p, double alpha, double size, double negligible, double large) {
    if (p >= alpha || size < negligible) {
        return Verdict::Fine;
    }
    return size >= large ? Verdict::Fails : Verdict::Weigh;
}

MatrixXd withColumns(const CheckInput& in, const MatrixXd& added) {
    const auto& kept = in.fit.solution.kept;
    MatrixXd X(in.design.X.rows(), static_cast<Index>(kept.size()) + added.cols());
    for (std::size_t j = 0; j < kept.size(); ++j) {
        X.col(static_cast<Index>(j)) = in.design.X.col(kept[j]);
    }
    X.rightCols(added.cols()) = added;
    return X;
}

VectorXd scaledResiduals(const CheckInput& in) {
    if (in.design.weights.size() == 0) {
        return in.fit.residuals;
    }
    return in.fit.residuals.cwiseProduct(in.design.weights.cwiseSqrt());
}

VectorXd studentisedResiduals(const CheckInput& in) {
    return studentisedResiduals(in.design, in.fit);
}

VectorXd cooksDistances(const CheckInput& in) { return cooksDistances(in.design, in.fit); }

Exhibit residualExhibit(const CheckInput& in) {
    Exhibit exhibit;
    exhibit.subtitle = "residual of " + in.design.outcome +
                       " against its fitted value · n = " + countText(in.design.rows.size());
    exhibit.xTitle = "fitted " + in.design.outcome;
    exhibit.yTitle = "residual";
    exhibit.x.assign(in.fit.fitted.data(), in.fit.fitted.data() + in.fit.fitted.size());
    exhibit.y.assign(in.fit.residuals.data(), in.fit.residuals.data() + in.fit.residuals.size());
    exhibit.rows = in.design.rows;
    exhibit.zeroLine = true;
    return exhibit;
}

std::string orderProblem(const CheckInput& in) {
    if (in.design.layout == Layout::Kind::CrossSection) {
        return "Rows of a cross-section have no order, so there is nothing for an error to carry "
               "over to. "
               "Say in Data that a row is a moment if it is one.";
    }
    if (in.design.layout == Layout::Kind::Panel) {
        return "Rows of a panel follow each other within units only. Where the check ‘echo "
               "within units’ shows that errors carry over, cluster by the unit.";
    }
    return in.design.time.empty() ? "The time variable of the series is not a number or a date."
                                  : "";
}

std::vector<Index> rowsInTime(const CheckInput& in) {
    std::vector<Index> order(in.design.time.size());
    std::iota(order.begin(), order.end(), Index{0});
    std::stable_sort(order.begin(), order.end(), [&](Index a, Index b) {
        return in.design.time[static_cast<std::size_t>(a)] <
               in.design.time[static_cast<std::size_t>(b)];
    });
    return order;
}

std::string namesOf(const CheckInput& in, const std::vector<std::size_t>& rows) {
    std::string names;
    for (std::size_t i = 0; i < std::min<std::size_t>(rows.size(), 3); ++i) {
        names += (i > 0 ? ", " : "") + rowName(in.frame, rows[i]);
    }
    return names + (rows.size() > 3 ? " …" : "");
}

std::vector<std::size_t> rowsAbove(const CheckInput& in, const VectorXd& values, double bound) {
    std::vector<std::pair<double, std::size_t>> found;
    for (Index i = 0; i < values.size(); ++i) {
        if (values(i) > bound) {
            found.emplace_back(-values(i), in.design.rows[static_cast<std::size_t>(i)]);
        }
    }
    std::sort(found.begin(), found.end());
    std::vector<std::size_t> rows;
    for (const auto& [value, row] : found) {
        rows.push_back(row);
    }
    return rows;
}

bool fitVaries(const CheckInput& in) {
    const VectorXd& fitted = in.fit.fitted;
    if (fitted.size() == 0) {
        return false;
    }
    const double units = 64.0 * std::numeric_limits<double>::epsilon();
    return fitted.maxCoeff() - fitted.minCoeff() >
           units * std::max(fitted.cwiseAbs().maxCoeff(), in.design.y.cwiseAbs().maxCoeff());
}

std::shared_ptr<const Regressors> regressors(const CheckInput& in) {
    return onceFor<Regressors>(in, [&in] {
        std::vector<Index> columns;
        for (const Index c : in.fit.solution.kept) {
            if (in.design.columns[static_cast<std::size_t>(c)].term >= 0) {
                columns.push_back(c);
            }
        }
        return Regressors{in.design.X(Eigen::all, columns)};
    });
}

tl::expected<CheckGroups, std::string> groupsFor(const CheckInput& in,
                                                 const std::string& variable) {
    const Column* column = in.frame.column(variable);
    if (column == nullptr) {
        return tl::make_unexpected("There is no variable ‘" + variable + "’.");
    }
    CheckGroups out;
    std::map<double, int> place;
    for (const FoundLevel& level :
         levelsOf(*column, *in.frame.variable(variable), in.design.rows)) {
        place.emplace(level.code, static_cast<int>(place.size()));
        out.labels.push_back(level.label);
    }
    if (out.labels.size() < 2) {
        return tl::make_unexpected("‘" + variable + "’ has a single level in these rows.");
    }
    for (const std::size_t row : in.design.rows) {
        out.of.push_back(
            column->isMissing(row)
                ? -1
                : place.at(column->isText() ? column->codes()[row] : column->numbers()[row]));
    }
    return out;
}

std::string firstGrouping(const CheckInput& in) {
    for (const DesignTerm& term : in.design.terms) {
        if ((term.groups || term.yesNo) && !term.isProduct && term.names.size() == 1) {
            return *term.names.begin();
        }
    }
    return {};
}

namespace {

/// Nothing where double arithmetic does not tell for sure: the length of what is left would lose
/// digits, or a column may be a combination of others or not.
std::optional<Remainder> plainRemainder(const LinearProblem& problem) {
    constexpr double kMostWork = 3e6;  // n·k² up to which columns are orthogonalised one by one.
    constexpr double kTolerance = 1e-11;  // Of a column's length, as in solveLinear().
    constexpr double kSurely = 100.0;     // Times as far from it is far enough.
    constexpr double kMostLost = 1e-11;   // Estimated error of the squares.
    const auto k = static_cast<double>(problem.X.cols());
    if (static_cast<double>(problem.X.rows()) * k * k > kMostWork) {
        return std::nullopt;
    }
    VectorXd centre = VectorXd::Zero(problem.X.cols());
    for (Index j = 1; problem.hasConstant && j < centre.size(); ++j) {
        centre(j) = problem.X.col(j).mean();
    }
    const Orthogonalised found =
        gramSchmidt(problem.X, problem.y, problem.weights.cwiseSqrt(), centre, kTolerance, false);
    const double lost = std::numeric_limits<double>::epsilon() * found.condition *
                        found.outcomeLength / std::sqrt(found.residualSquares);
    if (found.lostShare * kSurely > kTolerance || found.leastShare < kTolerance * kSurely ||
        !(lost <= kMostLost)) {
        return std::nullopt;
    }
    return Remainder{found.residualSquares, static_cast<double>(found.kept.size())};
}

}  // namespace

Result<Remainder> remainderOf(const LinearProblem& problem, const Job& job) {
    if (const auto within = withinGroups(problem)) {
        auto left = remainderOf({within->X, within->y, problem.weights, false}, job);
        if (left) {
            left->columns += within->groups;
        }
        return left;
    }
    if (const auto plain = plainRemainder(problem)) {
        return *plain;
    }
    const auto solution = solveLinear(problem, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    return Remainder{solution->residualSquares, static_cast<double>(solution->kept.size())};
}

std::optional<PartFit> fitPart(const CheckInput& in, const std::vector<Index>& rows) {
    const auto& kept = in.fit.solution.kept;
    if (rows.size() <= kept.size()) {
        return std::nullopt;
    }
    const MatrixXd X = in.design.X(rows, kept);
    const VectorXd y = in.design.y(rows);
    const VectorXd w =
        in.design.weights.size() > 0 ? VectorXd(in.design.weights(rows)) : VectorXd();
    const auto left = remainderOf({X, y, w, in.design.hasConstant}, in.job);
    if (!left) {
        return std::nullopt;
    }
    return PartFit{left->squares, static_cast<double>(X.rows()), left->columns};
}

Result<Auxiliary> auxiliary(const MatrixXd& Z, const VectorXd& y, const Job& job) {
    const VectorXd ones = VectorXd::Ones(Z.rows());
    ColumnsView X(Z.rows());
    X.add(ones.data());
    for (Index j = 0; j < Z.cols(); ++j) {
        X.add(Z.col(j).data());
    }
    const VectorXd none;
    const auto left = remainderOf({X, y, none, true}, job);
    if (!left) {
        return tl::make_unexpected(left.error());
    }
    Auxiliary out;
    const double total = (y.array() - y.mean()).square().sum();
    out.rss = left->squares;
    out.explained = std::max(total - out.rss, 0.0);
    out.rSquared = total > 0.0 ? out.explained / total : 0.0;
    out.columns = left->columns - 1.0;
    const double units = 16.0 * std::numeric_limits<double>::epsilon();
    out.varies = total > std::pow(units * y.norm(), 2);
    return out;
}

namespace {

using Products = std::vector<std::pair<Index, Index>>;

/// [1, Z, products, y] of some rows, Z centred and scaled.
MatrixXd auxiliaryBlock(const MatrixXd& Z, const Products& products, const VectorXd& y,
                        const VectorXd& centre, const VectorXd& scale, Index from, Index rows) {
    const Index m = Z.cols();
    MatrixXd block(rows, m + static_cast<Index>(products.size()) + 2);
    block.col(0).setOnes();
    for (Index j = 0; j < m; ++j) {
        block.col(j + 1) = (Z.col(j).segment(from, rows).array() - centre(j)) * scale(j);
    }
    Index c = m + 1;
    for (const auto& [i, j] : products) {
        block.col(c++) = block.col(i + 1).cwiseProduct(block.col(j + 1));
    }
    block.col(c) = y.segment(from, rows);
    return block;
}

/// Cross products of all auxiliary columns, summed over chunks in their order.
MatrixXd auxiliaryProducts(const MatrixXd& Z, const Products& products, const VectorXd& y,
                           const Job& job) {
    constexpr Index kBlock = 512;
    const VectorXd centre = Z.colwise().mean();
    VectorXd scale(Z.cols());
    for (Index j = 0; j < Z.cols(); ++j) {
        const double size = std::sqrt((Z.col(j).array() - centre(j)).square().mean());
        scale(j) = size > 0.0 ? 1.0 / size : 1.0;
    }
    const RowChunks chunks(static_cast<std::size_t>(Z.rows()));
    std::vector<MatrixXd> sums(chunks.count());
    chunks.forEach([&](std::size_t k) {
        const auto end = static_cast<Index>(chunks[k].end);
        for (Index at = static_cast<Index>(chunks[k].begin); at < end && !job.stopped();
             at += kBlock) {
            const MatrixXd block =
                auxiliaryBlock(Z, products, y, centre, scale, at, std::min(kBlock, end - at));
            if (sums[k].size() == 0) {
                sums[k] = MatrixXd::Zero(block.cols(), block.cols());
            }
            sums[k].selfadjointView<Eigen::Lower>().rankUpdate(block.transpose());
        }
    });
    for (std::size_t k = 1; k < sums.size() && !job.stopped(); ++k) {
        sums[0] += sums[k];
    }
    return sums[0];
}

/// Sweeps the columns out of the last one. Nothing when a pivot is too small to be sure of: what is
/// left of a column is known to about 1e-15 of it before.
std::optional<Auxiliary> sweep(MatrixXd G, double leastShare) {
    const Index last = G.cols() - 1;
    Auxiliary out;
    VectorXd full;
    for (Index j = 0; j < last; ++j) {
        if (j == 1) {
            full = G.diagonal();  // Centred: the constant is gone.
        }
        const double share = j == 0 ? 1.0 : (full(j) > 0.0 ? G(j, j) / full(j) : 0.0);
        if (share < 1e-12) {
            continue;  // A combination of those before it.
        }
        if (share < leastShare) {
            return std::nullopt;
        }
        out.columns += j > 0 ? 1.0 : 0.0;
        const VectorXd below = G.col(j).segment(j + 1, last - j);
        G.bottomRightCorner(last - j, last - j).noalias() -= below * below.transpose() / G(j, j);
    }
    out.rss = std::max(G(last, last), 0.0);
    out.explained = std::max(full(last) - out.rss, 0.0);
    out.rSquared = full(last) > 0.0 ? out.explained / full(last) : 0.0;
    return out;
}

}  // namespace

Result<Auxiliary> auxiliary(const MatrixXd& Z, const Products& products, const VectorXd& y,
                            const Job& job) {
    const Index columns = Z.cols() + static_cast<Index>(products.size());
    // Indicators make many of the products combinations of others: wide arithmetic would be called
    // for by those alone. Where a column is nearly one, it is.
    const bool large = Z.rows() * columns > Index{20'000'000};
    const bool groups = indicatorBlock(Z).has_value();  // Are taken out by their means.
    const MatrixXd sums = groups ? MatrixXd() : auxiliaryProducts(Z, products, y, job);
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "stopped");
    }
    if (auto out = groups ? std::nullopt : sweep(sums, large ? 1e-7 : 1e-5)) {
        const double units = 16.0 * std::numeric_limits<double>::epsilon();
        const double total = (y.array() - y.mean()).square().sum();
        out->varies = total > std::pow(units * y.norm(), 2);
        return *out;
    }
    MatrixXd W(Z.rows(), columns);
    const Eigen::RowVectorXd centre = Z.colwise().mean();
    W.leftCols(Z.cols()) = Z;
    Index c = Z.cols();
    for (const auto& [i, j] : products) {
        W.col(c++) = (Z.col(i).array() - centre(i)) * (Z.col(j).array() - centre(j));
    }
    if (!groups) {
        W.leftCols(Z.cols()).rowwise() -= centre;
    }
    return auxiliary(W, y, job);
}

}  // namespace rapporto
