#include "core/base/parallel.h"
#include "core/describe/correlation_pairs.h"
#include "core/describe/pairwise_moments.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

const double kNone = std::nan("");

/// Correlations of the columns of x, each centred and scaled first.
MatrixXd productMoments(MatrixXd x) {
    for (Index j = 0; j < x.cols(); ++j) {
        x.col(j).array() -= x.col(j).mean();
        x.col(j).array() -= x.col(j).mean();  // What rounding left of a large mean.
        const double largest = x.col(j).cwiseAbs().maxCoeff();
        const double norm = largest > 0.0 ? largest * (x.col(j) / largest).norm() : 0.0;
        x.col(j) = norm > 0.0 ? VectorXd(x.col(j) / norm) : VectorXd::Constant(x.rows(), kNone);
    }
    MatrixXd r = x.transpose() * x;
    return r.cwiseMax(-1.0).cwiseMin(1.0);
}

/// A column that is constant but for rounding has no correlation.
bool varies(const std::vector<double>& x) {
    const auto [low, high] = std::minmax_element(x.begin(), x.end());
    return !x.empty() && *low != *high;
}

/// Partial and semi-partial correlation of the first two when the others are held.
struct Held {
    double partial = kNone;
    double semi = kNone;        ///< First, with what is left of the second.
    double semiTurned = kNone;  ///< Second, with what is left of the first.
};

Held heldOut(const MatrixXd& r) {
    Held out;
    const Index h = r.rows() - 2;
    const Eigen::LDLT<MatrixXd> solver(r.bottomRightCorner(h, h));
    // Held variables that say the same leave no unique rest.
    if (!r.allFinite() || solver.info() != Eigen::Success || solver.vectorD().minCoeff() < 1e-12) {
        return out;
    }
    const MatrixXd fitted = solver.solve(r.bottomLeftCorner(h, 2));
    const MatrixXd left = r.topLeftCorner(2, 2) - r.topRightCorner(2, h) * fitted;
    const double a = left(0, 0);
    const double b = left(1, 1);
    if (a < 1e-12 || b < 1e-12) {
        return out;  // What is held determines one of them.
    }
    const auto bounded = [](double x) { return std::clamp(x, -1.0, 1.0); };
    out.partial = bounded(left(0, 1) / std::sqrt(a * b));
    out.semi = bounded(left(0, 1) / std::sqrt(b));
    out.semiTurned = bounded(left(0, 1) / std::sqrt(a));
    return out;
}

struct Cell {
    double r = kNone;
    double p = kNone;
    double n = 0.0;
    double low = kNone;
    double high = kNone;
    double statistic = kNone;
    double plain = kNone;
    double semi = kNone;
    double semiTurned = kNone;
};

double tail(double statistic, std::optional<double> df, Sides sides) {
    const auto upper = [&](double x) { return df ? tTail(x, *df) : normalTail(x); };
    return sides == Sides::Greater ? upper(statistic)
           : sides == Sides::Less  ? upper(-statistic)
                                   : twoSidedP(statistic, df);
}

/// Fisher's z with the standard error `se`, back on the scale of r.
void interval(double se, const CorrelationSettings& settings, Cell& cell) {
    const double r = cell.r;
    if (!(std::abs(r) < 1.0) || !std::isfinite(se)) {
        cell.low = cell.high = std::abs(r) == 1.0 ? r : kNone;
        return;
    }
    const double z = std::atanh(r);
    const double each = settings.sides == Sides::Two ? settings.alpha / 2.0 : settings.alpha;
    const double reach = normalQuantile(1.0 - each) * se;
    cell.low = settings.sides == Sides::Less ? -1.0 : std::tanh(z - reach);
    cell.high = settings.sides == Sides::Greater ? 1.0 : std::tanh(z + reach);
}

/// p and interval of a product-moment correlation of n rows with h held.
void inferMoment(double h, const CorrelationSettings& settings, Cell& cell) {
    const double df = cell.n - 2.0 - h;
    if (!std::isfinite(cell.r) || df < 1.0) {
        return;
    }
    const double left = (1.0 - cell.r) * (1.0 + cell.r);
    cell.statistic = left > 0.0 ? cell.r * std::sqrt(df / left) : std::copysign(HUGE_VAL, cell.r);
    cell.p = left > 0.0 ? tail(cell.statistic, df, settings.sides)
             : settings.sides == Sides::Two
                 ? 0.0
                 : ((cell.r > 0.0) == (settings.sides == Sides::Greater) ? 0.0 : 1.0);
    const double rows = cell.n - 3.0 - h;
    const double widen =
        settings.kind == CorrelationKind::Spearman ? 1.0 + cell.r * cell.r / 2.0 : 1.0;
    interval(rows > 0.0 ? std::sqrt(widen / rows) : kNone, settings, cell);
}

/// The rows of several columns where all are there.
std::vector<std::vector<double>> complete(const std::vector<const std::vector<double>*>& columns,
                                          const std::vector<bool>& use) {
    std::vector<std::vector<double>> out(columns.size());
    const std::size_t rows = columns.front()->size();
    for (std::size_t i = 0; i < rows; ++i) {
        const bool all = (use.empty() || use[i]) &&
                         std::none_of(columns.begin(), columns.end(),
                                      [i](const auto* c) { return std::isnan((*c)[i]); });
        if (all) {
            for (std::size_t j = 0; j < columns.size(); ++j) {
                out[j].push_back((*columns[j])[i]);
            }
        }
    }
    return out;
}

MatrixXd asMatrix(const std::vector<std::vector<double>>& columns) {
    MatrixXd out(static_cast<Index>(columns.front().size()), static_cast<Index>(columns.size()));
    for (std::size_t j = 0; j < columns.size(); ++j) {
        out.col(static_cast<Index>(j)) =
            Eigen::Map<const VectorXd>(columns[j].data(), static_cast<Index>(columns[j].size()));
    }
    return out;
}

/// One cell from the complete rows of a pair and what is held, the pair first.
Cell cellOf(std::vector<std::vector<double>> rows, const CorrelationSettings& settings) {
    Cell cell;
    cell.n = static_cast<double>(rows.front().size());
    const auto held = static_cast<double>(rows.size() - 2);
    if (rows.front().size() < 2 || !varies(rows[0]) || !varies(rows[1])) {
        return cell;
    }
    if (settings.kind == CorrelationKind::Kendall) {
        const Index p = static_cast<Index>(rows.size());
        MatrixXd tau = MatrixXd::Identity(p, p);
        Tau first;
        for (Index a = 0; a < p; ++a) {
            for (Index b = 0; b < a; ++b) {
                const Tau one =
                    kendall(rows[static_cast<std::size_t>(a)], rows[static_cast<std::size_t>(b)]);
                tau(a, b) = tau(b, a) = one.tau;
                first = a == 1 && b == 0 ? one : first;
            }
        }
        cell.plain = first.tau;
        if (held > 0.0) {
            const Held out = heldOut(tau);
            cell.r = out.partial;
            cell.semi = out.semi;
            cell.semiTurned = out.semiTurned;
            return cell;
        }
        cell.r = first.tau;
        cell.statistic = first.z;
        cell.p = std::isnan(first.z) ? kNone : tail(first.z, std::nullopt, settings.sides);
        interval(cell.n > 4.0 ? std::sqrt(0.437 / (cell.n - 4.0)) : kNone, settings, cell);
        return cell;
    }
    if (settings.kind == CorrelationKind::Spearman) {
        for (auto& column : rows) {
            column = midRanks(column);
        }
    }
    const MatrixXd r = productMoments(asMatrix(rows));
    cell.plain = r(0, 1);
    cell.r = r(0, 1);
    if (held > 0.0) {
        const Held out = heldOut(r);
        cell.r = out.partial;
        cell.semi = out.semi;
        cell.semiTurned = out.semiTurned;
    }
    inferMoment(held, settings, cell);
    return cell;
}

CorrelationTable emptyTable(std::vector<std::string> variables, std::vector<std::string> holding,
                            const CorrelationSettings& settings) {
    CorrelationTable out;
    const auto p = static_cast<Index>(variables.size());
    out.variables = std::move(variables);
    out.holding = std::move(holding);
    out.settings = settings;
    out.r = MatrixXd::Identity(p, p);
    for (MatrixXd* one : {&out.p, &out.adjusted, &out.n, &out.low, &out.high, &out.statistic}) {
        *one = MatrixXd::Constant(p, p, kNone);
    }
    if (!out.holding.empty()) {
        out.plain = MatrixXd::Identity(p, p);
        out.semiPartial = MatrixXd::Constant(p, p, kNone);
    }
    return out;
}

void put(CorrelationTable& table, Index a, Index b, const Cell& cell) {
    const auto both = [&](MatrixXd& into, double value) { into(a, b) = into(b, a) = value; };
    both(table.r, cell.r);
    both(table.p, cell.p);
    both(table.n, cell.n);
    both(table.low, cell.low);
    both(table.high, cell.high);
    both(table.statistic, cell.statistic);
    if (!table.holding.empty()) {
        both(table.plain, cell.plain);
        table.semiPartial(a, b) = cell.semi;
        table.semiPartial(b, a) = cell.semiTurned;
    }
}

void adjust(CorrelationTable& table) {
    std::vector<double> all;
    for (Index a = 0; a < table.r.rows(); ++a) {
        for (Index b = 0; b < a; ++b) {
            all.push_back(table.p(a, b));
        }
    }
    const std::vector<double> adjusted = holm(all);
    std::size_t at = 0;
    for (Index a = 0; a < table.r.rows(); ++a) {
        for (Index b = 0; b < a; ++b) {
            table.adjusted(a, b) = table.adjusted(b, a) = adjusted[at++];
        }
    }
}

std::vector<std::string> namesOf(const std::vector<RelatedColumn>& columns) {
    std::vector<std::string> names;
    for (const RelatedColumn& column : columns) {
        names.push_back(column.name);
    }
    return names;
}

/// Counts the exchanges that sort `y`: discordant pairs, by merging (Knight 1966).
double exchanges(std::vector<double>& y) {
    std::vector<double> other(y.size());
    double swaps = 0.0;
    for (std::size_t width = 1; width < y.size(); width *= 2) {
        for (std::size_t from = 0; from < y.size(); from += 2 * width) {
            const std::size_t middle = std::min(from + width, y.size());
            const std::size_t to = std::min(from + 2 * width, y.size());
            std::size_t i = from;
            std::size_t j = middle;
            for (std::size_t k = from; k < to; ++k) {
                if (i < middle && (j >= to || y[i] <= y[j])) {
                    other[k] = y[i++];
                } else {
                    other[k] = y[j++];
                    swaps += static_cast<double>(middle - i);
                }
            }
        }
        y.swap(other);
    }
    return swaps;
}

/// Sums over groups of ties in sorted values, that the tie-corrected variance needs.
struct Ties {
    double pairs = 0.0;     ///< Σ t(t − 1)/2
    double second = 0.0;    ///< Σ t(t − 1)(t − 2)
    double weighted = 0.0;  ///< Σ t(t − 1)(2t + 5)

    void add(double t) {
        pairs += t * (t - 1.0) / 2.0;
        second += t * (t - 1.0) * (t - 2.0);
        weighted += t * (t - 1.0) * (2.0 * t + 5.0);
    }
};

template <class Same>
Ties tiesIn(std::size_t n, Same same) {
    Ties out;
    std::size_t run = 1;
    for (std::size_t i = 1; i <= n; ++i) {
        if (i < n && same(i - 1, i)) {
            ++run;
        } else {
            out.add(static_cast<double>(run));
            run = 1;
        }
    }
    return out;
}

}  // namespace

std::vector<double> midRanks(const std::vector<double>& x) {
    std::vector<std::size_t> order(x.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return x[a] < x[b]; });
    std::vector<double> ranks(x.size());
    for (std::size_t i = 0; i < order.size();) {
        std::size_t j = i;
        while (j < order.size() && x[order[j]] == x[order[i]]) {
            ++j;
        }
        for (std::size_t k = i; k < j; ++k) {
            ranks[order[k]] = 0.5 * static_cast<double>(i + j + 1);
        }
        i = j;
    }
    return ranks;
}

Tau kendall(const std::vector<double>& x, const std::vector<double>& y) {
    const std::size_t n = x.size();
    std::vector<std::size_t> order(n);
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return x[a] != x[b] ? x[a] < x[b] : y[a] < y[b];
    });
    std::vector<double> sorted(n);
    std::transform(order.begin(), order.end(), sorted.begin(), [&](std::size_t i) { return y[i]; });
    const Ties tiesX =
        tiesIn(n, [&](std::size_t a, std::size_t b) { return x[order[a]] == x[order[b]]; });
    const Ties tiesBoth = tiesIn(n, [&](std::size_t a, std::size_t b) {
        return x[order[a]] == x[order[b]] && y[order[a]] == y[order[b]];
    });
    const double discordant = exchanges(sorted);
    const Ties tiesY =
        tiesIn(n, [&](std::size_t a, std::size_t b) { return sorted[a] == sorted[b]; });
    const auto rows = static_cast<double>(n);
    const double pairs = rows * (rows - 1.0) / 2.0;
    const double s = pairs - tiesX.pairs - tiesY.pairs + tiesBoth.pairs - 2.0 * discordant;
    Tau out{kNone, kNone};
    const double scale = std::sqrt(pairs - tiesX.pairs) * std::sqrt(pairs - tiesY.pairs);
    if (!(scale > 0.0)) {
        return out;
    }
    out.tau = std::clamp(s / scale, -1.0, 1.0);
    double variance =
        (rows * (rows - 1.0) * (2.0 * rows + 5.0) - tiesX.weighted - tiesY.weighted) / 18.0 +
        4.0 * tiesX.pairs * tiesY.pairs / (2.0 * rows * (rows - 1.0));
    if (n > 2) {
        variance += tiesX.second * tiesY.second / (9.0 * rows * (rows - 1.0) * (rows - 2.0));
    }
    out.z = variance > 0.0 ? s / std::sqrt(variance) : kNone;
    return out;
}

std::vector<double> holm(const std::vector<double>& p) {
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < p.size(); ++i) {
        if (!std::isnan(p[i])) {
            order.push_back(i);
        }
    }
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return p[a] < p[b]; });
    std::vector<double> out(p.size(), kNone);
    double largest = 0.0;
    for (std::size_t k = 0; k < order.size(); ++k) {
        largest = std::max(largest, static_cast<double>(order.size() - k) * p[order[k]]);
        out[order[k]] = std::min(largest, 1.0);
    }
    return out;
}

Result<CorrelationTable> correlate(const std::vector<RelatedColumn>& columns,
                                   const std::vector<RelatedColumn>& holding,
                                   const std::vector<bool>& use,
                                   const CorrelationSettings& settings, const Job& job) {
    if (columns.size() < 2) {
        return refuse(ErrorCode::NoTerms, "a relation needs two variables or more", "",
                      "Add a variable.");
    }
    const std::size_t rows = columns.front().cells.size();
    for (const auto* list : {&columns, &holding}) {
        for (const RelatedColumn& column : *list) {
            if (column.cells.size() != rows) {
                return refuse(ErrorCode::ShapeMismatch, "the columns differ in length", "", "",
                              {column.name});
            }
        }
    }
    CorrelationTable out = emptyTable(namesOf(columns), namesOf(holding), settings);
    const auto p = static_cast<Index>(columns.size());
    std::vector<const std::vector<double>*> held;
    for (const RelatedColumn& column : holding) {
        held.push_back(&column.cells);
    }
    std::vector<bool> rowsUsed = use;
    if (settings.listwise) {
        rowsUsed.assign(rows, true);
        for (std::size_t i = 0; i < rows; ++i) {
            rowsUsed[i] = (use.empty() || use[i]);
            for (const auto* list : {&columns, &holding}) {
                for (const RelatedColumn& column : *list) {
                    rowsUsed[i] = rowsUsed[i] && !std::isnan(column.cells[i]);
                }
            }
        }
    }
    std::vector<std::pair<Index, Index>> pairs;
    for (Index a = 0; a < p; ++a) {
        for (Index b = 0; b < a; ++b) {
            pairs.emplace_back(a, b);
        }
    }
    std::vector<Cell> cells(pairs.size());
    // All pairs of product moments at once, unless rows or ranks must be gathered for each.
    std::optional<PairwiseMoments> moments;
    if (settings.kind == CorrelationKind::Pearson && held.empty()) {
        std::vector<const std::vector<double>*> all;
        for (const RelatedColumn& column : columns) {
            all.push_back(&column.cells);
        }
        moments = pairwiseMoments(all, rowsUsed, job);
        out.n.diagonal() = moments->n.diagonal();
    }
    for (Index a = 0; a < p && !moments; ++a) {
        const auto& column = columns[static_cast<std::size_t>(a)].cells;
        double count = 0.0;
        for (std::size_t i = 0; i < rows; ++i) {
            count += (rowsUsed.empty() || rowsUsed[i]) && !std::isnan(column[i]) ? 1.0 : 0.0;
        }
        out.n(a, a) = count;
    }
    inParallel(pairs.size(), [&](std::size_t k) {
        if (job.stopped()) {
            return;
        }
        if (moments && !moments->again(pairs[k].first, pairs[k].second)) {
            cells[k].n = moments->n(pairs[k].first, pairs[k].second);
            cells[k].r = cells[k].plain = moments->r(pairs[k].first, pairs[k].second);
            inferMoment(0.0, settings, cells[k]);
            return;
        }
        std::vector<const std::vector<double>*> wanted = {
            &columns[static_cast<std::size_t>(pairs[k].first)].cells,
            &columns[static_cast<std::size_t>(pairs[k].second)].cells};
        wanted.insert(wanted.end(), held.begin(), held.end());
        cells[k] = cellOf(complete(wanted, rowsUsed), settings);
    });
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                      "Change anything to start it again.");
    }
    for (std::size_t k = 0; k < pairs.size(); ++k) {
        put(out, pairs[k].first, pairs[k].second, cells[k]);
    }
    adjust(out);
    return out;
}

Result<CorrelationTable> correlateSummary(const SummaryMatrix& summary,
                                          const std::vector<std::string>& variables,
                                          const std::vector<std::string>& holding,
                                          const CorrelationSettings& settings) {
    if (settings.kind != CorrelationKind::Pearson) {
        return refuse(ErrorCode::BadSetting, "ranks need rows, and the source is a summary", "",
                      "Use the Pearson coefficient.");
    }
    if (variables.size() < 2) {
        return refuse(ErrorCode::NoTerms, "a relation needs two variables or more", "",
                      "Add a variable.");
    }
    std::vector<Index> places;
    for (const auto* list : {&variables, &holding}) {
        for (const std::string& name : *list) {
            const auto at = std::find(summary.names.begin(), summary.names.end(), name);
            if (at == summary.names.end()) {
                const auto near = nearestName(name, summary.names);
                return refuse(ErrorCode::UnknownName, "the summary has no variable ‘" + name + "’",
                              "", near ? "Did you mean ‘" + *near + "’?" : "", {name});
            }
            places.push_back(static_cast<Index>(at - summary.names.begin()));
        }
    }
    std::vector<RelatedPair> pairs;
    for (std::size_t a = 0; a < variables.size(); ++a) {
        for (std::size_t b = 0; b < a; ++b) {
            std::vector<Index> chosen = {places[a], places[b]};
            chosen.insert(chosen.end(), places.begin() + static_cast<Index>(variables.size()),
                          places.end());
            pairs.push_back({summary.n, summary.correlation(chosen, chosen)});
        }
    }
    const auto p = static_cast<Index>(variables.size());
    return correlatePairs(variables, holding, VectorXd::Constant(p, summary.n), pairs, settings);
}

Result<CorrelationTable> correlatePairs(const std::vector<std::string>& variables,
                                        const std::vector<std::string>& holding,
                                        const VectorXd& own, const std::vector<RelatedPair>& pairs,
                                        const CorrelationSettings& settings) {
    if (variables.size() < 2) {
        return refuse(ErrorCode::NoTerms, "a relation needs two variables or more", "",
                      "Add a variable.");
    }
    CorrelationTable out = emptyTable(variables, holding, settings);
    out.n.diagonal() = own;
    auto pair = pairs.begin();
    for (Index a = 0; a < own.size(); ++a) {
        for (Index b = 0; b < a; ++b, ++pair) {
            Cell cell;
            cell.n = pair->n;
            cell.plain = cell.r = pair->r(0, 1);
            if (!holding.empty()) {
                const Held left = heldOut(pair->r);
                cell.r = left.partial;
                cell.semi = left.semi;
                cell.semiTurned = left.semiTurned;
            }
            inferMoment(static_cast<double>(holding.size()), settings, cell);
            put(out, a, b, cell);
        }
    }
    adjust(out);
    return out;
}

std::vector<std::size_t> orderBySimilarity(const MatrixXd& r) {
    const auto p = static_cast<std::size_t>(r.rows());
    std::vector<std::size_t> order(p);
    std::iota(order.begin(), order.end(), std::size_t{0});
    if (p < 3) {
        return order;
    }
    const MatrixXd strength =
        r.unaryExpr([](double x) { return std::isnan(x) ? 0.0 : std::abs(x); });
    // Start at the variable that is related to the others most, then always the nearest one left.
    VectorXd total = strength.rowwise().sum();
    std::vector<std::size_t> chain;
    std::vector<bool> taken(p, false);
    Index start = 0;
    total.maxCoeff(&start);
    auto at = static_cast<std::size_t>(start);
    for (std::size_t k = 0; k < p; ++k) {
        chain.push_back(at);
        taken[at] = true;
        double best = -1.0;
        std::size_t next = at;
        for (std::size_t j = 0; j < p; ++j) {
            const double s = strength(static_cast<Index>(at), static_cast<Index>(j));
            if (!taken[j] && s > best) {
                best = s;
                next = j;
            }
        }
        at = next;
    }
    return chain;
}

}  // namespace rapporto
