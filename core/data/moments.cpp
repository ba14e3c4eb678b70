#include "core/data/moments.h"

#include "core/base/format.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

tl::unexpected<Refusal> bad(const std::string& what, const std::string& help,
                            std::vector<std::string> subjects = {}) {
    return refuse(ErrorCode::BadSetting, what, "the summary", help, std::move(subjects));
}

/// The full matrix from rows of which the lower triangle is enough; NaN: not given.
Result<MatrixXd> completed(const std::vector<std::vector<double>>& rows,
                           const std::vector<std::string>& names, const char* statistic) {
    const auto p = static_cast<Index>(names.size());
    if (static_cast<Index>(rows.size()) != p) {
        return refuse(ErrorCode::ShapeMismatch,
                      fmt::format("there are {} rows of {} for {} variables", rows.size(),
                                  statistic, names.size()),
                      "the summary", "Give each variable a row.");
    }
    MatrixXd out = MatrixXd::Constant(p, p, std::nan(""));
    for (Index i = 0; i < p; ++i) {
        const auto& row = rows[static_cast<std::size_t>(i)];
        if (row.size() > names.size()) {
            return refuse(ErrorCode::ShapeMismatch,
                          fmt::format("the {} of ‘{}’ have {} numbers for {} variables", statistic,
                                      names[static_cast<std::size_t>(i)], row.size(), names.size()),
                          "the summary");
        }
        for (std::size_t j = 0; j < row.size(); ++j) {
            out(i, static_cast<Index>(j)) = row[j];
        }
    }
    for (Index i = 0; i < p; ++i) {
        for (Index j = 0; j < i; ++j) {
            double& lower = out(i, j);
            double& upper = out(j, i);
            const std::string& a = names[static_cast<std::size_t>(i)];
            const std::string& b = names[static_cast<std::size_t>(j)];
            if (std::isnan(lower) && std::isnan(upper)) {
                return bad(fmt::format("the {} of ‘{}’ with ‘{}’ is not given", statistic, a, b),
                           "Fill the lower triangle.", {a, b});
            }
            lower = std::isnan(lower) ? upper : lower;
            upper = std::isnan(upper) ? lower : upper;
            // Printed matrices are rounded alike; a difference is a slip.
            if (std::abs(lower - upper) > 1e-9 * std::max({1.0, std::abs(lower)})) {
                return bad(fmt::format("the {} of ‘{}’ with ‘{}’ is {} below the diagonal and {} "
                                       "above it",
                                       statistic, a, b, exactNumber(lower), exactNumber(upper)),
                           "Only one can be right.", {a, b});
            }
        }
    }
    return out;
}

}  // namespace

Result<SummaryMatrix> makeMoments(const MomentEntries& entries) {
    SummaryMatrix m;
    m.n = entries.n;
    m.names = entries.names;
    const auto p = static_cast<Index>(m.names.size());
    if (p == 0) {
        return bad("the summary names no variables", "Name them in its first line.");
    }
    for (std::size_t i = 0; i < m.names.size(); ++i) {
        if (m.names[i].empty()) {
            return bad(fmt::format("variable {} of the summary has no name", i + 1),
                       "Give each its own.");
        }
        if (std::find(m.names.begin(), m.names.begin() + static_cast<std::ptrdiff_t>(i),
                      m.names[i]) != m.names.begin() + static_cast<std::ptrdiff_t>(i)) {
            return bad("two variables of the summary have the name ‘" + m.names[i] + "’",
                       "Give each its own.", {m.names[i]});
        }
    }
    if (!(m.n >= 2.0) || m.n != std::floor(m.n)) {
        return bad("the number of rows behind the summary is not said",
                   "Add a row ‘n’ with a whole number of 2 or more.");
    }
    m.hasMeans = !entries.mean.empty();
    m.mean = VectorXd::Zero(p);
    m.sd = VectorXd::Ones(p);
    const auto take = [&](const std::vector<double>& from, VectorXd& into,
                          const char* what) -> Result<void> {
        if (static_cast<Index>(from.size()) != p) {
            return refuse(
                ErrorCode::ShapeMismatch,
                fmt::format("there are {} {} for {} variables", from.size(), what, m.names.size()),
                "the summary");
        }
        for (Index i = 0; i < p; ++i) {
            into(i) = from[static_cast<std::size_t>(i)];
            if (!std::isfinite(into(i))) {
                return bad(fmt::format("the {} of ‘{}’ is not given", what,
                                       m.names[static_cast<std::size_t>(i)]),
                           "Fill it in, or leave the whole row out.");
            }
        }
        return {};
    };
    if (m.hasMeans) {
        if (auto done = take(entries.mean, m.mean, "mean"); !done) {
            return tl::make_unexpected(done.error());
        }
    }
    if (!entries.covariance.empty()) {
        auto covariance = completed(entries.covariance, m.names, "covariance");
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        for (Index i = 0; i < p; ++i) {
            const std::string& name = m.names[static_cast<std::size_t>(i)];
            if (!((*covariance)(i, i) > 0.0)) {
                return bad("the variance of ‘" + name + "’ is not a number above zero",
                           "It stands on the diagonal of the covariances.", {name});
            }
            m.sd(i) = std::sqrt((*covariance)(i, i));
        }
        m.hasScale = true;
        m.correlation =
            m.sd.cwiseInverse().asDiagonal() * *covariance * m.sd.cwiseInverse().asDiagonal();
    } else {
        if (entries.correlation.empty() && p > 1) {
            return bad("the summary has neither correlations nor covariances",
                       "Add a row for each variable.");
        }
        if (!entries.sd.empty()) {
            if (auto done = take(entries.sd, m.sd, "sd"); !done) {
                return tl::make_unexpected(done.error());
            }
            m.hasScale = true;
        }
        auto correlation = entries.correlation.empty()
                               ? Result<MatrixXd>(MatrixXd::Ones(1, 1))
                               : completed(entries.correlation, m.names, "correlation");
        if (!correlation) {
            return tl::make_unexpected(correlation.error());
        }
        m.correlation = *correlation;
    }
    for (Index i = 0; i < p; ++i) {
        const std::string& name = m.names[static_cast<std::size_t>(i)];
        if (!(m.sd(i) > 0.0)) {
            return bad("the standard deviation of ‘" + name + "’ is not above zero",
                       "A variable that does not vary explains nothing: leave it out.", {name});
        }
        if (!std::isnan(m.correlation(i, i)) && std::abs(m.correlation(i, i) - 1.0) > 1e-9) {
            return bad("the correlation of ‘" + name + "’ with itself is not 1",
                       "Are these covariances? Then call the rows ‘covariance’.", {name});
        }
        m.correlation(i, i) = 1.0;
        for (Index j = 0; j < i; ++j) {
            if (!(std::abs(m.correlation(i, j)) <= 1.0)) {
                return bad(fmt::format("the correlation of ‘{}’ with ‘{}’ is {}", name,
                                       m.names[static_cast<std::size_t>(j)],
                                       exactNumber(m.correlation(i, j))),
                           "It lies between −1 and 1.",
                           {name, m.names[static_cast<std::size_t>(j)]});
            }
        }
    }
    // Rounding to two digits can push the smallest eigenvalue of a fair matrix just below zero.
    const Eigen::SelfAdjointEigenSolver<MatrixXd> eigen(m.correlation);
    if (eigen.eigenvalues()(0) < -1e-10) {
        Index largest = 0;
        eigen.eigenvectors().col(0).cwiseAbs().maxCoeff(&largest);
        std::vector<std::string> involved;
        for (Index i = 0; i < p; ++i) {
            if (std::abs(eigen.eigenvectors()(i, 0)) > 0.3) {
                involved.push_back(m.names[static_cast<std::size_t>(i)]);
            }
        }
        return bad(fmt::format("no data can have these correlations together (smallest eigenvalue "
                               "{})",
                               shortNumber(eigen.eigenvalues()(0), 3)),
                   "Look for a slip among " + joinedNames(involved) +
                       "; rounding or pairwise counts can do it too.",
                   involved);
    }
    return m;
}

Result<SummaryMatrix> momentsOfTable(const Table& table) {
    const int statistics = table.find("statistic");
    const int variables = table.find("variable");
    if (statistics < 0 || variables < 0 || table.columns.size() < 3 ||
        !table.columns[static_cast<std::size_t>(statistics)].isText()) {
        return refuse(ErrorCode::Syntax, "this is no summary", "its header",
                      "The first line reads: statistic,variable,… and the variables’ names.");
    }
    MomentEntries entries;
    std::vector<std::size_t> places;
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        if (static_cast<int>(j) == statistics || static_cast<int>(j) == variables) {
            continue;
        }
        const Column& column = table.columns[j];
        if (column.isText() && column.countMissing() < column.size()) {
            return refuse(ErrorCode::Syntax, "the column ‘" + column.name() + "’ holds texts",
                          "the summary", "A summary holds numbers.", {column.name()});
        }
        entries.names.push_back(column.name());
        places.push_back(j);
    }
    const auto cell = [&](std::size_t k, std::size_t row) {
        const Column& column = table.columns[places[k]];
        return column.isText() ? std::nan("") : column.numbers()[row];
    };
    const std::size_t p = places.size();
    const auto put = [&](std::vector<std::vector<double>>& into, std::size_t row,
                         const std::string& variable) -> Result<void> {
        const auto at = std::find(entries.names.begin(), entries.names.end(), variable);
        if (at == entries.names.end()) {
            return refuse(ErrorCode::Syntax, "the variable ‘" + variable + "’ has no column",
                          fmt::format("row {} of the summary", row + 1));
        }
        into.resize(p, std::vector<double>(p, std::nan("")));
        for (std::size_t k = 0; k < p; ++k) {
            into[static_cast<std::size_t>(at - entries.names.begin())][k] = cell(k, row);
        }
        return {};
    };
    for (std::size_t i = 0; i < table.rows(); ++i) {
        const std::string statistic =
            cellText(table.columns[static_cast<std::size_t>(statistics)],
                     table.variables[static_cast<std::size_t>(statistics)], i);
        const std::string variable =
            cellText(table.columns[static_cast<std::size_t>(variables)],
                     table.variables[static_cast<std::size_t>(variables)], i);
        Result<void> done;
        if (statistic == "n") {
            for (std::size_t k = 0; k < p; ++k) {
                const double n = cell(k, i);
                if (!std::isnan(n) && entries.n > 0.0 && n != entries.n) {
                    return bad("the row ‘n’ has different numbers",
                               "Give the smallest; pairwise counts make intervals too narrow.");
                }
                entries.n = std::isnan(n) ? entries.n : n;
            }
        } else if (statistic == "mean" || statistic == "sd") {
            std::vector<double>& into = statistic == "mean" ? entries.mean : entries.sd;
            into.resize(p);
            for (std::size_t k = 0; k < p; ++k) {
                into[k] = cell(k, i);
            }
        } else if (statistic == "correlation") {
            done = put(entries.correlation, i, variable);
        } else if (statistic == "covariance") {
            done = put(entries.covariance, i, variable);
        } else {
            return refuse(ErrorCode::Syntax, "‘" + statistic + "’ is no statistic of a summary",
                          fmt::format("row {} of the summary", i + 1),
                          "Rows are n, mean, sd, correlation and covariance.");
        }
        if (!done) {
            return tl::make_unexpected(done.error());
        }
    }
    return makeMoments(entries);
}

Table rowsWithMoments(const SummaryMatrix& moments) {
    const auto p = static_cast<Index>(moments.names.size());
    const Index m = p + 1;
    // Orthonormal contrasts: columns of length one, at right angles to each other and to ones.
    MatrixXd contrast = MatrixXd::Zero(m, p);
    for (Index j = 0; j < p; ++j) {
        const auto k = static_cast<double>(j + 1);
        contrast.block(0, j, j + 1, 1).setConstant(-1.0 / std::sqrt(k * (k + 1.0)));
        contrast(j + 1, j) = k / std::sqrt(k * (k + 1.0));
    }
    // A root of the correlations by eigenvalues: it exists when the matrix is singular, too.
    const Eigen::SelfAdjointEigenSolver<MatrixXd> eigen(moments.correlation);
    const MatrixXd root =
        eigen.eigenvectors() * eigen.eigenvalues().cwiseMax(0.0).cwiseSqrt().asDiagonal();
    const double each = moments.n / static_cast<double>(m);
    const MatrixXd z = std::sqrt((moments.n - 1.0) / each) * contrast * root.transpose();
    Table table;
    for (Index j = 0; j < p; ++j) {
        std::vector<double> cells(static_cast<std::size_t>(m));
        for (Index i = 0; i < m; ++i) {
            cells[static_cast<std::size_t>(i)] = moments.mean(j) + moments.sd(j) * z(i, j);
        }
        const std::string& name = moments.names[static_cast<std::size_t>(j)];
        table.columns.push_back(Column::ofNumbers(name, std::move(cells)));
        Variable v;
        v.name = name;
        table.variables.push_back(v);
    }
    return table;
}

}  // namespace rapporto
