#include "core/model/feasible_ar.h"

#include "core/base/format.h"
#include "core/model/panel.h"
#include "core/model/rows_left.h"

#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kMostRounds = 1000;
constexpr double kStill = 1e-10;

tl::unexpected<Refusal> refused(const std::string& what, const std::string& help) {
    return refuse(ErrorCode::BadSetting, what, "method", help);
}

/// The row of the moment before, of each row; −1: there is none.
Result<std::vector<Index>> rowsBefore(const Design& design) {
    const bool panel = !design.units.empty();
    if (!panel && design.moments.empty()) {
        return refused("rows have no order, so no error carries over to the next",
                       "Say in Data which variable is the time, in whole steps.");
    }
    const std::vector<std::int64_t>& moments = panel ? design.unitMoments : design.moments;
    std::map<std::pair<std::int32_t, std::int64_t>, Index> at;
    for (std::size_t i = 0; i < moments.size(); ++i) {
        if (!at.emplace(std::pair(panel ? design.units[i] : 0, moments[i]), static_cast<Index>(i))
                 .second) {
            return refused("two rows stand at one moment", "Take one of them out.");
        }
    }
    std::vector<Index> before(moments.size(), -1);
    for (const auto& [key, row] : at) {
        const auto found = at.find({key.first, key.second - 1});
        if (found != at.end()) {
            before[static_cast<std::size_t>(row)] = found->second;
        }
    }
    return before;
}

/// Rows less ρ times the row before, first rows as √(1 − ρ²) of themselves.
struct Quasi {
    MatrixXd X;
    VectorXd y;
};

Quasi lessItsPast(const Design& design, const std::vector<Index>& before,
                  const std::vector<Index>& rows, double rho) {
    Quasi out{design.X(rows, Eigen::all), design.y(rows)};
    const double start = std::sqrt(1.0 - rho * rho);
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const Index last = before[static_cast<std::size_t>(rows[i])];
        const auto at = static_cast<Index>(i);
        if (last < 0) {
            out.X.row(at) *= start;
            out.y(at) *= start;
        } else {
            out.X.row(at) -= rho * design.X.row(last);
            out.y(at) -= rho * design.y(last);
        }
    }
    return out;
}

/// The share of an error that the next one takes over; nothing where none carries over.
double carriedOver(const VectorXd& e, const std::vector<Index>& before) {
    double products = 0.0;
    double squares = 0.0;
    for (std::size_t i = 0; i < before.size(); ++i) {
        if (before[i] >= 0) {
            products += e(static_cast<Index>(i)) * e(before[i]);
            squares += e(before[i]) * e(before[i]);
        }
    }
    return squares > 0.0 ? products / squares : 0.0;
}

/// The newest share, or, once a hundred were plain steps, every third time where a geometric row
/// through the last three ends (Aitken 1926); the path begins anew there.
double foretold(std::vector<double>& path) {
    constexpr std::size_t kPlain = 100;
    const std::size_t n = path.size();
    if (n < kPlain + 3 || (n - kPlain) % 3 != 0) {
        return path.back();
    }
    const double first = path[n - 3];
    const double step = path[n - 2] - first;
    const double bend = path[n - 1] - 2.0 * path[n - 2] + first;
    const double end = first - step * step / bend;
    // Not farther than a slow creep would lead: no leap to another rest.
    const bool near = std::isfinite(end) && std::abs(end) < 1.0 &&
                      std::abs(end - path.back()) < 1000.0 * std::abs(step);
    return near ? end : path.back();
}

/// 1 − Σe²/Σ(what the constant alone leaves)², both of the rows less their past.
std::optional<double> shareExplained(const Design& made, bool hasConstant, double rss) {
    double whole = made.y.squaredNorm();
    if (hasConstant) {
        const VectorXd one = made.X.col(0);
        whole -= std::pow(one.dot(made.y), 2) / one.squaredNorm();
    }
    return whole > 0.0 ? std::optional(1.0 - rss / whole) : std::nullopt;
}

}  // namespace

Result<Fit> fitFeasibleAr(const Design& design, const EstimatorSettings& settings,
                          const ErrorSpec& errors, double alpha, const Job& job) {
    if (errors.areDrawn()) {
        return refused("draws take rows out of their order in time",
                       "Use classical or robust errors, or ask by least squares with errors that "
                       "allow for autocorrelation.");
    }
    if (errors.followTheDesign()) {
        return refused("a survey’s design says nothing of what carries over in time",
                       "Use classical, robust or clustered errors.");
    }
    if (design.weights.size() > 0) {
        return refused("it is not built for weights", "Take the weights out.");
    }
    if (!design.effects.empty()) {
        return refused("what is held fixed has levels of its own, which ρ does not know",
                       "Put the grouping among the terms, or take out what is held fixed.");
    }
    const auto before = rowsBefore(design);
    if (!before) {
        return tl::make_unexpected(before.error());
    }
    EchoFit echo;
    echo.firstKept = settings.firstRow == "kept";
    std::vector<Index> rows;
    for (std::size_t i = 0; i < before->size(); ++i) {
        echo.starts += (*before)[i] < 0 ? 1U : 0U;
        if (echo.firstKept || (*before)[i] >= 0) {
            rows.push_back(static_cast<Index>(i));
        }
    }
    if (echo.starts == before->size()) {
        return refuse(ErrorCode::TooFewRows, "no two rows are neighbours in time", "method",
                      "Ask by least squares.");
    }
    auto solution = solveLinear({design.X, design.y, {}, design.hasConstant}, false, job);
    Quasi quasi;
    // The last shares, newest last: what they turn to is foretold where they creep.
    std::vector<double> path;
    bool stands = false;
    while (solution && !stands && echo.rounds < kMostRounds) {
        const VectorXd e = design.y - design.X(Eigen::all, solution->kept) * solution->coefficients;
        const double next = carriedOver(e, *before);
        if (!(std::abs(next) < 1.0)) {
            return refuse(ErrorCode::NotConverged,
                          "ρ goes to one: what the terms leave wanders and does not come back",
                          "method", "Ask in changes: change(…) of the outcome and of the terms.");
        }
        stands = echo.rounds > 0 && std::abs(next - echo.rho) < kStill;
        path.push_back(next);
        echo.rho = stands ? next : foretold(path);
        ++echo.rounds;
        quasi = lessItsPast(design, *before, rows, echo.rho);
        // The constant became 1 − ρ: a column like others.
        solution = solveLinear({quasi.X, quasi.y, {}, false}, false, job);
    }
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    if (!stands) {
        return refuse(ErrorCode::NotConverged,
                      "ρ does not stand still after " + countText(kMostRounds) + " rounds",
                      "method", "Ask by least squares with errors that allow for autocorrelation.");
    }
    Design made = withRows(design, rows);
    made.X = std::move(quasi.X);
    made.y = std::move(quasi.y);
    made.hasConstant = false;
    made.before = std::make_shared<const Design>(design);
    auto fit = fitGiven(made, {made.X, *std::move(solution)}, errors, alpha, job);
    if (fit) {
        fit->statistics.rSquared = shareExplained(made, design.hasConstant, fit->statistics.rss);
        fit->ofShares = true;
        standardiseByRows(*fit, design);
        fit->echo = std::make_shared<const EchoFit>(echo);
        fit->linearised = std::make_shared<const Design>(std::move(made));
    }
    return fit;
}

}  // namespace rapporto
