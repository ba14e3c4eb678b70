#include "core/impute/patterns.h"

#include "core/base/format.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

constexpr std::size_t kMostShown = 14;  // Patterns and variables of a picture.

std::vector<std::size_t> sampleRows(const Frame& frame) {
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] == RowState::In) {
            rows.push_back(i);
        }
    }
    return rows;
}

/// Numbers of two sets of rows.
struct Sides {
    std::vector<double> seen;
    std::vector<double> lacking;
};

struct Moments {
    double n = 0.0;
    double mean = 0.0;
    double variance = 0.0;
};

Moments momentsOf(const std::vector<double>& cells) {
    Moments out;
    for (const double x : cells) {
        out.n += 1.0;
        out.mean += x;
    }
    out.mean /= std::max(out.n, 1.0);
    for (const double x : cells) {
        out.variance += (x - out.mean) * (x - out.mean);
    }
    out.variance /= std::max(out.n - 1.0, 1.0);
    return out;
}

std::optional<MissingContrast> contrastOf(const Sides& sides) {
    const Moments a = momentsOf(sides.seen);
    const Moments b = momentsOf(sides.lacking);
    const double spread = std::sqrt(0.5 * (a.variance + b.variance));
    if (a.n < 2.0 || b.n < 2.0 || !(spread > 0.0)) {
        return std::nullopt;
    }
    MissingContrast out;
    out.seen = a.mean;
    out.lacking = b.mean;
    out.apart = (b.mean - a.mean) / spread;
    const double va = a.variance / a.n;
    const double vb = b.variance / b.n;
    const double df = (va + vb) * (va + vb) / (va * va / (a.n - 1.0) + vb * vb / (b.n - 1.0));
    out.p = twoSidedP((b.mean - a.mean) / std::sqrt(va + vb), df);
    return out;
}

}  // namespace

MissingPatterns missingPatterns(const Frame& frame, const std::vector<std::string>& names) {
    MissingPatterns out;
    const std::vector<std::size_t> rows = sampleRows(frame);
    out.rows = rows.size();
    std::vector<const Column*> columns;
    const Table& table = frame.table();
    std::vector<std::pair<std::size_t, std::size_t>> lacking;  // Column and count.
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
        const Variable& variable = table.variables[c];
        const bool wanted =
            names.empty() ? variable.expression.empty()
                          : std::find(names.begin(), names.end(), variable.name) != names.end();
        if (!wanted) {
            continue;
        }
        const auto count =
            static_cast<std::size_t>(std::count_if(rows.begin(), rows.end(), [&](std::size_t row) {
                return table.columns[c].isMissing(row);
            }));
        if (count > 0) {
            lacking.emplace_back(c, count);
        }
    }
    std::stable_sort(lacking.begin(), lacking.end(),
                     [](const auto& a, const auto& b) { return a.second > b.second; });
    for (const auto& [c, count] : lacking) {
        const Variable& variable = table.variables[c];
        out.variables.push_back(
            {variable.name, variable.shown(), count, !variable.expression.empty()});
        columns.push_back(&table.columns[c]);
    }
    std::map<std::vector<bool>, std::vector<std::uint32_t>> found;
    std::vector<bool> lacks(columns.size());
    for (const std::size_t row : rows) {
        for (std::size_t c = 0; c < columns.size(); ++c) {
            lacks[c] = columns[c]->isMissing(row);
        }
        found[lacks].push_back(static_cast<std::uint32_t>(row));
    }
    for (auto& [pattern, of] : found) {
        if (std::none_of(pattern.begin(), pattern.end(), [](bool one) { return one; })) {
            out.complete = of.size();
        }
        out.patterns.push_back({pattern, std::move(of)});
    }
    std::stable_sort(out.patterns.begin(), out.patterns.end(),
                     [](const auto& a, const auto& b) { return a.rows.size() > b.rows.size(); });
    return out;
}

Exhibit patternsPicture(const MissingPatterns& patterns) {
    Exhibit out;
    const std::size_t variables = std::min(patterns.variables.size(), kMostShown);
    const std::size_t shown = std::min(patterns.patterns.size(), kMostShown);
    out.title = "What is missing together";
    out.subtitle =
        countText(patterns.complete) + " of " + plural(patterns.rows, "row", "rows") +
        " lack nothing; a filled tile is a gap" +
        (shown < patterns.patterns.size()
             ? "; " + plural(patterns.patterns.size() - shown, "rarer pattern", "rarer patterns") +
                   " not shown"
             : "");
    out.tiles = true;
    for (std::size_t v = 0; v < variables; ++v) {
        out.xNames.push_back(patterns.variables[v].label);
    }
    for (std::size_t p = 0; p < shown; ++p) {
        const MissingPatterns::Pattern& pattern = patterns.patterns[p];
        const double y = -static_cast<double>(p);
        out.yTicks.push_back({y, countText(pattern.rows.size())});
        for (std::size_t v = 0; v < variables; ++v) {
            Exhibit::Bar tile;
            const double x = static_cast<double>(v) + 1.0;
            tile.x0 = x - 0.46;
            tile.x1 = x + 0.46;
            tile.y0 = y - 0.42;
            tile.y1 = y + 0.42;
            if (!pattern.missing[v]) {
                tile.shade = 0.0;
            }
            tile.rows = pattern.rows;
            tile.says = plural(pattern.rows.size(), "row", "rows") +
                        (pattern.missing[v] ? " lack " : " have ") + patterns.variables[v].label;
            out.bars.push_back(std::move(tile));
        }
    }
    out.yTitle = "rows";
    return out;
}

std::vector<MissingContrast> missingContrasts(const Frame& frame, const std::string& name) {
    std::vector<MissingContrast> out;
    const Column* of = frame.column(name);
    if (of == nullptr) {
        return out;
    }
    const std::vector<std::size_t> rows = sampleRows(frame);
    const Table& table = frame.table();
    constexpr std::size_t kMostLevels = 30;
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
        const Variable& variable = table.variables[c];
        const Column& column = table.columns[c];
        if (variable.name == name || !variable.expression.empty()) {
            continue;
        }
        const bool groups = column.isText() || isGrouping(variable.measure);
        const auto levels = groups ? levelsOf(column, variable, rows) : std::vector<FoundLevel>();
        if (groups && (levels.size() < 2 || levels.size() > kMostLevels)) {
            continue;
        }
        std::optional<MissingContrast> furthest;
        for (std::size_t l = 0; l < std::max<std::size_t>(levels.size(), 1); ++l) {
            Sides sides;
            for (const std::size_t row : rows) {
                if (column.isMissing(row)) {
                    continue;
                }
                const double cell = column.isText() ? column.codes()[row] : column.numbers()[row];
                (of->isMissing(row) ? sides.lacking : sides.seen)
                    .push_back(!groups                  ? cell
                               : cell == levels[l].code ? 1.0
                                                        : 0.0);
            }
            auto found = contrastOf(sides);
            if (found && (!furthest || std::abs(found->apart) > std::abs(furthest->apart))) {
                found->level = groups ? levels[l].label : std::string();
                furthest = std::move(found);
            }
        }
        if (furthest) {
            furthest->name = variable.name;
            furthest->label = variable.shown();
            out.push_back(*std::move(furthest));
        }
    }
    std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) {
        return std::abs(a.apart) > std::abs(b.apart);
    });
    return out;
}

}  // namespace rapporto
