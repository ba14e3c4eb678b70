#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr std::size_t kMostGroups = 12;
constexpr std::size_t kMostLevels = 40;

const std::vector<std::string>& head() {
    static const std::vector<std::string> kHead = {"",     "n",       "missing",  "mean",
                                                   "sd",   "lowest",  "25 %",     "median",
                                                   "75 %", "highest", "skewness", "kurtosis"};
    return kHead;
}

/// A quantity’s row of numbers.
std::vector<std::string> numbersRow(const std::string& name, const Summary& s, bool date) {
    std::vector<std::string> row{name, countText(s.n), countText(s.missing)};
    if (s.n == 0) {
        row.resize(head().size());
        return row;
    }
    const auto value = [&](double v) { return date ? dateText(v) : shortNumber(v, 4); };
    row.push_back(value(s.mean));
    row.push_back(s.n > 1 ? shortNumber(s.sd, 4) + (date ? " days" : "") : "");
    for (const double v : {s.low, s.lowerQuartile, s.median, s.upperQuartile, s.high}) {
        row.push_back(value(v));
    }
    row.push_back(fixedNumber(s.skewness, 2));
    row.push_back(fixedNumber(s.kurtosis, 2));
    return row;
}

struct Rows {
    const DeskVariable* by = nullptr;
    double level = 0.0;

    [[nodiscard]] bool has(std::size_t i) const { return by == nullptr || by->cells[i] == level; }
};

/// Summary of a variable within a group; `missing` counts rows of the group in the sample.
Summary summaryIn(const Frame& frame, const DeskVariable& v, const std::vector<double>& weights,
                  const Rows& rows) {
    std::vector<double> cells;
    std::vector<double> kept;
    for (std::size_t i = 0; i < v.cells.size(); ++i) {
        if (frame.states()[i] == RowState::In && rows.has(i)) {
            cells.push_back(v.cells[i]);
            kept.push_back(weights.empty() ? 1.0 : weights[i]);
        }
    }
    return weights.empty() ? summarise(cells) : summariseWeighted(cells, kept);
}

/// Where to look first: the most missing, the longest tail.
void addReading(DrawnPicture& out, const Frame& frame, const std::vector<DeskVariable>& variables,
                const std::vector<double>& weights) {
    const DeskVariable* gappy = nullptr;
    const DeskVariable* skewed = nullptr;
    std::size_t most = 0;
    double tail = 1.0;
    std::size_t seen = 0;
    for (const DeskVariable& v : variables) {
        const auto missing =
            frame.count(RowState::In) -
            static_cast<std::size_t>(std::count_if(v.cells.begin(), v.cells.end(),
                                                   [](double x) { return !std::isnan(x); }));
        if (missing > most) {
            most = missing;
            gappy = &v;
        }
        if (!v.groups && !v.date) {
            ++seen;
            const double skewness = summaryIn(frame, v, weights, {}).skewness;
            if (std::abs(skewness) > tail) {
                tail = std::abs(skewness);
                skewed = &v;
            }
        }
    }
    if (gappy != nullptr) {
        out.words.push_back("**" + gappy->name + "** lacks " + plural(most, "value", "values") +
                            " in " + countText(frame.count(RowState::In)) + " rows" +
                            (variables.size() > 1 ? ", the most of these." : "."));
    }
    if (skewed != nullptr) {
        out.words.push_back("**" + skewed->name + "** has a long tail (skewness " +
                            fixedNumber(tail, 1) +
                            " in size): its median and quartiles say more than mean and sd.");
    } else if (seen > 0) {
        out.words.emplace_back("No quantity here leans far to one side.");
    }
}

/// A grouping: each level with its rows and share.
void addLevels(PictureTable& table, const DeskVariable& v, const std::vector<double>& weights,
               const Rows& rows, const std::string& before) {
    std::vector<double> masses(v.levels.size(), 0.0);
    std::vector<std::size_t> counts(v.levels.size(), 0);
    double total = 0.0;
    for (std::size_t i = 0; i < v.cells.size(); ++i) {
        if (!std::isnan(v.cells[i]) && rows.has(i)) {
            const auto k = static_cast<std::size_t>(v.cells[i]) - 1;
            const double w = weights.empty() ? 1.0 : weights[i];
            masses[k] += w;
            total += w;
            ++counts[k];
        }
    }
    for (std::size_t k = 0; k < v.levels.size() && k < kMostLevels; ++k) {
        std::vector<std::string> row{
            before + v.levels[k], countText(counts[k]), "",
            total > 0.0 ? fixedNumber(100.0 * masses[k] / total, 1) + " %" : ""};
        row.resize(head().size());
        table.cells.push_back(std::move(row));
    }
    if (v.levels.size() > kMostLevels) {
        std::vector<std::string> row{before + countText(v.levels.size() - kMostLevels) +
                                     " more levels"};
        row.resize(head().size());
        table.cells.push_back(std::move(row));
    }
}

}  // namespace

DrawnPicture drawSummaryTable(const PictureInput& input) {
    DrawnPicture out;
    const Frame& frame = input.frame;
    const std::vector<double> weights = deskWeights(input);
    std::vector<DeskVariable> variables;
    for (const std::string& name : input.spec.of) {
        variables.push_back(deskVariable(frame, name));
    }
    // A last grouping cuts the others.
    std::optional<DeskVariable> by;
    if (variables.size() > 1 && variables.back().groups &&
        variables.back().levels.size() <= kMostGroups) {
        by = std::move(variables.back());
        variables.pop_back();
    }
    PictureTable table;
    table.title = by ? "Numbers by " + frame.variable(by->name)->shown() : "Numbers";
    table.note = "Rows in the sample: " + countText(frame.count(RowState::In)) +
                 ". Quartiles linear between order statistics; skewness m₃/m₂^1.5, kurtosis "
                 "m₄/m₂² − 3." +
                 (weights.empty()
                      ? ""
                      : " Weighted by " + input.survey.weightShown() + " but for n and missing.");
    table.cells.push_back(head());
    for (const DeskVariable& v : variables) {
        std::vector<Rows> parts{{}};
        std::vector<std::string> names{v.name};
        if (by) {
            std::vector<std::string> title{v.name};
            title.resize(head().size());
            table.cells.push_back(std::move(title));
            parts.clear();
            names.clear();
            for (std::size_t k = 0; k < by->levels.size(); ++k) {
                parts.push_back({&*by, static_cast<double>(k) + 1.0});
                names.push_back("   " + by->levels[k]);
            }
        }
        for (std::size_t p = 0; p < parts.size(); ++p) {
            if (v.groups) {
                addLevels(table, v, weights, parts[p], names[p] + ": ");
            } else {
                table.cells.push_back(
                    numbersRow(names[p], summaryIn(frame, v, weights, parts[p]), v.date));
            }
        }
    }
    out.table = std::move(table);
    addReading(out, frame, variables, weights);
    return out;
}

}  // namespace rapporto
