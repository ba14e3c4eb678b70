#include "core/base/format.h"
#include "core/describe/comparison.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

DrawnPicture drawCross(const PictureInput& input) {
    constexpr std::size_t kMost = 30;
    DrawnPicture out;
    const Frame& frame = input.frame;
    const DeskVariable rows = deskVariable(frame, input.spec.of[0]);
    const DeskVariable columns = deskVariable(frame, input.spec.of[1]);
    if (rows.levels.size() > kMost || columns.levels.size() > kMost) {
        out.nothing = "One of the two has more than 30 levels. Merge levels first.";
        return out;
    }
    Eigen::MatrixXd counts =
        Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(rows.levels.size()),
                              static_cast<Eigen::Index>(columns.levels.size()));
    for (std::size_t i = 0; i < rows.cells.size(); ++i) {
        if (!std::isnan(rows.cells[i]) && !std::isnan(columns.cells[i])) {
            counts(static_cast<Eigen::Index>(rows.cells[i]) - 1,
                   static_cast<Eigen::Index>(columns.cells[i]) - 1) += 1.0;
        }
    }
    const auto table = crossTable(rows.levels, columns.levels, counts);
    if (!table) {
        out.nothing = table.error().text();
        return out;
    }
    const std::vector<double> weights = deskWeights(input);
    // Places of the levels among those that occur.
    const auto indexOf = [](const std::vector<std::string>& kept, const std::string& label) {
        return static_cast<std::size_t>(std::find(kept.begin(), kept.end(), label) - kept.begin());
    };
    const std::size_t r = table->rows.size();
    const std::size_t c = table->columns.size();
    std::vector<std::vector<std::uint32_t>> cells(r * c);
    std::vector<double> masses(r * c, 0.0);
    double total = 0.0;
    std::size_t n = 0;
    for (std::size_t i = 0; i < rows.cells.size(); ++i) {
        if (std::isnan(rows.cells[i]) || std::isnan(columns.cells[i])) {
            continue;
        }
        const std::size_t cell =
            indexOf(table->rows, rows.levels[static_cast<std::size_t>(rows.cells[i]) - 1]) * c +
            indexOf(table->columns, columns.levels[static_cast<std::size_t>(columns.cells[i]) - 1]);
        cells[cell].push_back(static_cast<std::uint32_t>(i));
        masses[cell] += weights.empty() ? 1.0 : weights[i];
        total += weights.empty() ? 1.0 : weights[i];
        ++n;
    }
    if (!(total > 0.0)) {
        out.nothing = "No row with both has a weight.";
        return out;
    }
    Exhibit e;
    e.tiles = true;
    e.title =
        frame.variable(rows.name)->shown() + " within " + frame.variable(columns.name)->shown();
    e.subtitle = "n = " + countText(n) +
                 " · width: share of rows · shade: more, fewer than if unrelated" +
                 weightsNote(input);
    e.xTitle = columns.title;
    e.yTitle = rows.title + ", %";
    double left = 0.0;
    PictureTable words;
    words.title = e.title;
    words.note = "Per cent of each column; rows in brackets.";
    words.cells.push_back({rows.title});
    for (const std::string& name : table->rows) {
        words.cells.push_back({name});
    }
    for (std::size_t j = 0; j < c; ++j) {
        double column = 0.0;
        for (std::size_t i = 0; i < r; ++i) {
            column += masses[i * c + j];
        }
        const double width = 100.0 * column / total;
        const double gap = 0.4;
        e.xTicks.push_back({left + width / 2.0, table->columns[j]});
        words.cells[0].push_back(table->columns[j]);
        double below = 0.0;
        for (std::size_t i = 0; i < r; ++i) {
            const std::size_t cell = i * c + j;
            const double share = column > 0.0 ? 100.0 * masses[cell] / column : 0.0;
            Exhibit::Bar bar;
            bar.x0 = left + gap;
            bar.x1 = left + width - gap;
            bar.y0 = below;
            bar.y1 = below + share;
            const double residual =
                table->residuals(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j));
            bar.shade = std::clamp(residual / 6.0, -1.0, 1.0);
            bar.label = table->rows[i] + " " + fixedNumber(share, 0) + " %";
            bar.says =
                table->rows[i] + " within " + table->columns[j] + ": " + fixedNumber(share, 1) +
                " %, " + plural(cells[cell].size(), "row", "rows") + " where " +
                shortNumber(
                    table->expected(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)),
                    3) +
                " were to be expected";
            words.cells[i + 1].push_back(fixedNumber(share, 1) + " (" +
                                         countText(cells[cell].size()) + ")");
            bar.rows = std::move(cells[cell]);
            e.bars.push_back(std::move(bar));
            below += share;
        }
        left += width;
    }
    out.words.push_back(crossReading(*table, rows.name, columns.name, input.alpha));
    out.numbers = {{"χ²(" + shortNumber(table->df) + ")",
                    shortNumber(table->chi2, 4) + ", " + pClause(table->p)},
                   {"Cramér’s V", fixedNumber(table->cramersV, 3, true)}};
    if (!weights.empty()) {
        out.words.emplace_back(
            "~The shares are weighted by the survey; χ² and the shade count every row alike.");
    }
    out.exhibits.push_back(std::move(e));
    out.table = std::move(words);
    return out;
}

}  // namespace rapporto
