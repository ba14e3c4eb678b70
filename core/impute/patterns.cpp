#include "core/impute/patterns.h"

#include "core/base/format.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <array>
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

/// Sums of numbers, one by one.
struct Moments {
    double n = 0.0;
    double mean = 0.0;
    double squares = 0.0;  ///< About the mean.

    void add(double x) {
        n += 1.0;
        const double apart = x - mean;
        mean += apart / n;
        squares += apart * (x - mean);
    }

    /// Of a share of n rows.
    static Moments ofShare(double rows, double all) {
        const double share = all > 0.0 ? rows / all : 0.0;
        return {all, share, all * share * (1.0 - share)};
    }

    [[nodiscard]] double variance() const { return squares / std::max(n - 1.0, 1.0); }
};

std::optional<MissingContrast> contrastOf(const Moments& seen, const Moments& lacking) {
    const double spread = std::sqrt(0.5 * (seen.variance() + lacking.variance()));
    if (seen.n < 2.0 || lacking.n < 2.0 || !(spread > 0.0)) {
        return std::nullopt;
    }
    MissingContrast out;
    out.seen = seen.mean;
    out.lacking = lacking.mean;
    out.apart = (lacking.mean - seen.mean) / spread;
    const double a = seen.variance() / seen.n;
    const double b = lacking.variance() / lacking.n;
    const double df = (a + b) * (a + b) / (a * a / (seen.n - 1.0) + b * b / (lacking.n - 1.0));
    out.p = twoSidedP((lacking.mean - seen.mean) / std::sqrt(a + b), df);
    return out;
}

/// Of quantities one contrast, of groups one a level; rows are passed over once.
std::vector<MissingContrast> contrastsOf(const Column& column, const Column& of,
                                         const std::vector<FoundLevel>& levels,
                                         const std::vector<std::size_t>& rows) {
    Moments sides[2];
    std::map<double, std::array<double, 2>> counts;
    for (const std::size_t row : rows) {
        if (column.isMissing(row)) {
            continue;
        }
        const double cell = column.isText() ? column.codes()[row] : column.numbers()[row];
        const std::size_t side = of.isMissing(row) ? 1 : 0;
        sides[side].add(levels.empty() ? cell : 0.0);
        if (!levels.empty()) {
            counts[cell][side] += 1.0;
        }
    }
    std::vector<MissingContrast> out;
    if (levels.empty()) {
        if (auto found = contrastOf(sides[0], sides[1])) {
            out.push_back(*std::move(found));
        }
        return out;
    }
    for (const FoundLevel& level : levels) {
        auto found = contrastOf(Moments::ofShare(counts[level.code][0], sides[0].n),
                                Moments::ofShare(counts[level.code][1], sides[1].n));
        if (found) {
            found->level = level.label;
            out.push_back(*std::move(found));
        }
    }
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
    double looks = 0.0;
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
        const auto found = contrastsOf(column, *of, levels, rows);
        looks += static_cast<double>(found.size());
        const auto furthest = std::max_element(
            found.begin(), found.end(),
            [](const auto& a, const auto& b) { return std::abs(a.apart) < std::abs(b.apart); });
        if (furthest != found.end()) {
            out.push_back(*furthest);
            out.back().name = variable.name;
            out.back().label = variable.shown();
        }
    }
    for (MissingContrast& one : out) {
        one.adjusted = std::min(1.0, one.p * looks);
    }
    std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) {
        return std::abs(a.apart) > std::abs(b.apart);
    });
    return out;
}

}  // namespace rapporto
