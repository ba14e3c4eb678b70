// Several quantities at once.
#include "core/base/format.h"
#include "core/describe/correlation.h"
#include "core/describe/smooth.h"
#include "core/describe/summary.h"
#include "core/picture/counted.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Points that a small picture can show.
constexpr std::size_t kMostPoints = 20000;

Exhibit smallHistogram(const DeskVariable& v) {
    Exhibit e;
    e.compact = true;
    e.fromZero = true;
    e.title = v.name;
    const Histogram bins = histogram(v.cells);
    for (std::size_t b = 0; b < bins.counts.size(); ++b) {
        Exhibit::Bar bar;
        bar.x0 = bins.from + bins.width * static_cast<double>(b);
        bar.x1 = bar.x0 + bins.width;
        bar.y1 = static_cast<double>(bins.counts[b]);
        e.bars.push_back(bar);
    }
    for (std::size_t i = 0; i < v.cells.size() && !e.bars.empty(); ++i) {
        if (!std::isnan(v.cells[i])) {
            const double place = std::max((v.cells[i] - bins.from) / bins.width, 0.0);
            e.bars[std::min(static_cast<std::size_t>(place), e.bars.size() - 1)].rows.push_back(
                static_cast<std::uint32_t>(i));
        }
    }
    return e;
}

Exhibit smallScatter(const DeskVariable& x, const DeskVariable& y) {
    Exhibit e;
    e.compact = true;
    e.xTitle = x.name;
    e.yTitle = y.name;
    std::size_t both = 0;
    for (std::size_t i = 0; i < x.cells.size(); ++i) {
        both += std::isnan(x.cells[i]) || std::isnan(y.cells[i]) ? 0 : 1;
    }
    const std::size_t every = std::max<std::size_t>(1, (both + kMostPoints - 1) / kMostPoints);
    std::size_t seen = 0;
    for (std::size_t i = 0; i < x.cells.size(); ++i) {
        if (!std::isnan(x.cells[i]) && !std::isnan(y.cells[i]) && seen++ % every == 0) {
            e.x.push_back(x.cells[i]);
            e.y.push_back(y.cells[i]);
            e.rows.push_back(i);
        }
    }
    e.lines.push_back(localLine(e.x, e.y, 0.6, ""));
    if (e.lines.back().x.empty()) {
        e.lines.clear();
    }
    return e;
}

Exhibit smallNumber(double r, double n, const std::string& a, const std::string& b) {
    Exhibit e;
    e.compact = true;
    e.tiles = true;
    Exhibit::Bar bar{0.0, 1.0, 0.0, 1.0};
    bar.shade = std::isnan(r) ? 0.0 : r;
    bar.label = std::isnan(r) ? "—" : fixedNumber(r, 2, true);
    bar.says = a + " and " + b + ": r = " + bar.label + ", " +
               plural(static_cast<std::size_t>(n), "row", "rows");
    bar.of = {a, b};
    e.bars.push_back(std::move(bar));
    return e;
}

Result<CorrelationTable> tableOf(const PictureInput& input) {
    std::vector<RelatedColumn> columns;
    for (const std::string& name : input.spec.of) {
        const DeskVariable v = deskVariable(input.frame, name);
        columns.push_back({name, v.cells});
    }
    CorrelationSettings settings;
    settings.alpha = input.alpha;
    return correlate(columns, {}, rowsInSample(input.frame), settings, Job());
}

void addStrongest(DrawnPicture& out, const CorrelationTable& table, bool pairwise, bool points) {
    Eigen::Index a = -1;
    Eigen::Index b = -1;
    for (Eigen::Index i = 0; i < table.r.rows(); ++i) {
        for (Eigen::Index j = 0; j < i; ++j) {
            if (!std::isnan(table.r(i, j)) &&
                (a < 0 || std::abs(table.r(i, j)) > std::abs(table.r(a, b)))) {
                a = i;
                b = j;
            }
        }
    }
    if (a < 0) {
        return;
    }
    out.words.push_back(
        "The strongest pair is **" + table.variables[static_cast<std::size_t>(b)] + "** and **" +
        table.variables[static_cast<std::size_t>(a)] +
        "** (r = " + fixedNumber(table.r(a, b), 2, true) + ", " + pClause(table.adjusted(a, b)) +
        " by Holm over all pairs, n = " + countText(static_cast<std::size_t>(table.n(a, b))) +
        ")." + (pairwise ? " Rows differ from pair to pair where values are missing." : ""));
    out.words.emplace_back(points ? "~A correlation speaks of straight lines: click a tile for its "
                                    "points."
                                  : "~A correlation speaks of straight lines alone.");
}

}  // namespace

DrawnPicture drawScatterMatrix(const PictureInput& input) {
    DrawnPicture out;
    const auto table = tableOf(input);
    if (!table) {
        out.nothing = table.error().text();
        return out;
    }
    std::vector<DeskVariable> variables;
    for (const std::string& name : input.spec.of) {
        variables.push_back(deskVariable(input.frame, name));
    }
    const std::size_t k = variables.size();
    out.columns = k;
    for (std::size_t row = 0; row < k; ++row) {
        for (std::size_t column = 0; column < k; ++column) {
            if (row == column) {
                out.exhibits.push_back(smallHistogram(variables[row]));
            } else if (column < row) {
                out.exhibits.push_back(smallScatter(variables[column], variables[row]));
                out.exhibits.back().title =
                    variables[row].name + " against " + variables[column].name;
            } else {
                const auto i = static_cast<Eigen::Index>(row);
                const auto j = static_cast<Eigen::Index>(column);
                out.exhibits.push_back(smallNumber(table->r(i, j), table->n(i, j),
                                                   variables[row].name, variables[column].name));
            }
        }
    }
    if (input.frame.rows() > kMostPoints) {
        out.words.emplace_back(
            "~Each small picture draws an even selection of 20,000 rows; r counts all.");
    }
    addStrongest(out, *table, true, true);
    return out;
}

DrawnPicture mosaicPicture(const CorrelationTable& table, bool pairwise, bool points) {
    DrawnPicture out;
    const auto order = orderBySimilarity(table.r);
    const std::size_t k = order.size();
    Exhibit e;
    e.tiles = true;
    e.title = "Correlations of " + countText(k) + " variables";
    e.subtitle = std::string("Pearson, ") +
                 (pairwise ? "pairwise rows" : "as the summary has them") +
                 " · alike variables stand together";
    for (std::size_t row = 0; row < k; ++row) {
        const double top = static_cast<double>(k - row);
        // The first has no row, the last no column: a pair stands once.
        if (row > 0) {
            e.yTicks.push_back({top - 0.5, table.variables[order[row]]});
        }
        if (row + 1 < k) {
            e.xTicks.push_back({static_cast<double>(row) + 0.5, table.variables[order[row]]});
        }
        for (std::size_t column = 0; column < row; ++column) {
            const auto i = static_cast<Eigen::Index>(order[row]);
            const auto j = static_cast<Eigen::Index>(order[column]);
            const double r = table.r(i, j);
            const auto left = static_cast<double>(column);
            Exhibit::Bar bar{left + 0.02, left + 0.98, top - 0.98, top - 0.02};
            bar.shade = std::isnan(r) ? 0.0 : r;
            bar.label = std::isnan(r) ? "—" : fixedNumber(r, 2, true);
            bar.of = {table.variables[order[row]], table.variables[order[column]]};
            bar.says = bar.of[0] + " and " + bar.of[1] + ": r = " + bar.label + ", " +
                       (std::isnan(table.p(i, j)) ? std::string("no p") : pClause(table.p(i, j))) +
                       ", " + plural(static_cast<std::size_t>(table.n(i, j)), "row", "rows");
            e.bars.push_back(std::move(bar));
        }
    }
    out.exhibits.push_back(std::move(e));
    addStrongest(out, table, pairwise, points);
    return out;
}

DrawnPicture drawMosaic(const PictureInput& input) {
    const auto table = tableOf(input);
    if (!table) {
        DrawnPicture out;
        out.nothing = table.error().text();
        return out;
    }
    return mosaicPicture(*table, true, true);
}

}  // namespace rapporto
