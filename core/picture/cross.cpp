#include "core/base/format.h"
#include "core/describe/comparison.h"
#include "core/picture/counted.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

DrawnPicture crossPicture(const CountedCross& counted) {
    DrawnPicture out;
    const CrossTable& table = counted.table;
    const auto r = static_cast<Eigen::Index>(table.rows.size());
    const auto c = static_cast<Eigen::Index>(table.columns.size());
    const double total = counted.masses.sum();
    if (!(total > 0.0)) {
        out.nothing = "No row with both has a weight.";
        return out;
    }
    Exhibit e;
    e.tiles = true;
    e.title = counted.shown;
    e.subtitle = "n = " + countText(static_cast<std::size_t>(table.counts.sum())) +
                 " · width: share of rows · shade: more, fewer than if unrelated" + counted.note;
    e.xTitle = counted.columns.title;
    e.yTitle = counted.rows.title + ", %";
    double left = 0.0;
    PictureTable words;
    words.title = e.title;
    words.note = "Per cent of each column; rows in brackets.";
    words.cells.push_back({counted.rows.title});
    for (const std::string& name : table.rows) {
        words.cells.push_back({name});
    }
    for (Eigen::Index j = 0; j < c; ++j) {
        const std::string& columnName = table.columns[static_cast<std::size_t>(j)];
        const double column = counted.masses.col(j).sum();
        const double width = 100.0 * column / total;
        const double gap = 0.4;
        e.xTicks.push_back({left + width / 2.0, columnName});
        words.cells[0].push_back(columnName);
        double below = 0.0;
        for (Eigen::Index i = 0; i < r; ++i) {
            const std::string& rowName = table.rows[static_cast<std::size_t>(i)];
            const auto count = static_cast<std::size_t>(table.counts(i, j));
            const double share = column > 0.0 ? 100.0 * counted.masses(i, j) / column : 0.0;
            Exhibit::Bar bar;
            bar.x0 = left + gap;
            bar.x1 = left + width - gap;
            bar.y0 = below;
            bar.y1 = below + share;
            bar.shade = std::clamp(table.residuals(i, j) / 6.0, -1.0, 1.0);
            bar.label = rowName + " " + fixedNumber(share, 0) + " %";
            bar.says = rowName + " within " + columnName + ": " + fixedNumber(share, 1) + " %, " +
                       plural(count, "row", "rows") + " where " +
                       shortNumber(table.expected(i, j), 3) + " were to be expected";
            words.cells[static_cast<std::size_t>(i) + 1].push_back(fixedNumber(share, 1) + " (" +
                                                                   countText(count) + ")");
            e.bars.push_back(std::move(bar));
            below += share;
        }
        left += width;
    }
    out.words.push_back(
        crossReading(table, counted.rows.name, counted.columns.name, counted.alpha));
    out.numbers = {
        {"χ²(" + shortNumber(table.df) + ")", shortNumber(table.chi2, 4) + ", " + pClause(table.p)},
        {"Cramér’s V", fixedNumber(table.cramersV, 3, true)}};
    out.exhibits.push_back(std::move(e));
    out.table = std::move(words);
    return out;
}

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
    std::vector<std::vector<std::uint32_t>> cells(r * table->columns.size());
    Eigen::MatrixXd masses = Eigen::MatrixXd::Zero(table->counts.rows(), table->counts.cols());
    for (std::size_t k = 0; k < rows.cells.size(); ++k) {
        if (std::isnan(rows.cells[k]) || std::isnan(columns.cells[k])) {
            continue;
        }
        const std::size_t i =
            indexOf(table->rows, rows.levels[static_cast<std::size_t>(rows.cells[k]) - 1]);
        const std::size_t j =
            indexOf(table->columns, columns.levels[static_cast<std::size_t>(columns.cells[k]) - 1]);
        cells[j * r + i].push_back(static_cast<std::uint32_t>(k));
        masses(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)) +=
            weights.empty() ? 1.0 : weights[k];
    }
    out = crossPicture(
        {rows, columns,
         frame.variable(rows.name)->shown() + " within " + frame.variable(columns.name)->shown(),
         *table, std::move(masses), weightsNote(input), input.alpha});
    for (std::size_t b = 0; b < cells.size() && !out.exhibits.empty(); ++b) {
        out.exhibits.front().bars[b].rows = std::move(cells[b]);
    }
    if (!weights.empty() && !out.exhibits.empty()) {
        out.words.emplace_back(
            "~The shares are weighted by the survey; χ² and the shade count every row alike.");
    }
    return out;
}

}  // namespace rapporto
