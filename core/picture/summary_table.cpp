#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/picture/counted.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

const std::vector<std::string>& numbersHead() {
    static const std::vector<std::string> kHead = {"",     "n",       "missing",  "mean",
                                                   "sd",   "lowest",  "25 %",     "median",
                                                   "75 %", "highest", "skewness", "kurtosis"};
    return kHead;
}

std::vector<std::string> numbersRow(const std::string& name, const Summary& s, bool date) {
    std::vector<std::string> row{name, countText(s.n), countText(s.missing)};
    if (s.n == 0) {
        row.resize(numbersHead().size());
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

std::string numbersNote(std::size_t rows) {
    return "Rows in the sample: " + countText(rows) +
           ". Quartiles linear between order statistics; skewness m₃/m₂^1.5, kurtosis m₄/m₂² − 3.";
}

void addLevelRows(PictureTable& table, const std::string& before,
                  const std::vector<std::string>& levels, const std::vector<std::size_t>& counts,
                  const std::vector<double>& masses) {
    constexpr std::size_t kMostLevels = 40;
    double total = 0.0;
    for (const double mass : masses) {
        total += mass;
    }
    for (std::size_t k = 0; k < levels.size() && k < kMostLevels; ++k) {
        std::vector<std::string> row{
            before + levels[k], countText(counts[k]), "",
            total > 0.0 ? fixedNumber(100.0 * masses[k] / total, 1) + " %" : ""};
        row.resize(numbersHead().size());
        table.cells.push_back(std::move(row));
    }
    if (levels.size() > kMostLevels) {
        std::vector<std::string> row{before + countText(levels.size() - kMostLevels) +
                                     " more levels"};
        row.resize(numbersHead().size());
        table.cells.push_back(std::move(row));
    }
}

void addNumbersReading(DrawnPicture& picture, const std::vector<CountedVariable>& variables,
                       std::size_t rows) {
    const CountedVariable* gappy = nullptr;
    const CountedVariable* skewed = nullptr;
    double tail = 1.0;
    bool anyQuantity = false;
    for (const CountedVariable& v : variables) {
        if (v.missing > (gappy == nullptr ? 0 : gappy->missing)) {
            gappy = &v;
        }
        anyQuantity = anyQuantity || v.skewness;
        if (v.skewness && std::abs(*v.skewness) > tail) {
            tail = std::abs(*v.skewness);
            skewed = &v;
        }
    }
    if (gappy != nullptr) {
        picture.words.push_back(
            "**" + gappy->name + "** lacks " + plural(gappy->missing, "value", "values") + " in " +
            countText(rows) + " rows" + (variables.size() > 1 ? ", the most of these." : "."));
    }
    if (skewed != nullptr) {
        picture.words.push_back("**" + skewed->name + "** has a long tail (skewness " +
                                fixedNumber(tail, 1) +
                                " in size): its median and quartiles say more than mean and sd.");
    } else if (anyQuantity) {
        picture.words.emplace_back("No quantity here leans far to one side.");
    }
}

namespace {

constexpr std::size_t kMostGroups = 12;

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

/// A grouping: each level with its rows and share.
void addLevels(PictureTable& table, const DeskVariable& v, const std::vector<double>& weights,
               const Rows& rows, const std::string& before) {
    std::vector<double> masses(v.levels.size(), 0.0);
    std::vector<std::size_t> counts(v.levels.size(), 0);
    for (std::size_t i = 0; i < v.cells.size(); ++i) {
        if (!std::isnan(v.cells[i]) && rows.has(i)) {
            const auto k = static_cast<std::size_t>(v.cells[i]) - 1;
            masses[k] += weights.empty() ? 1.0 : weights[i];
            ++counts[k];
        }
    }
    addLevelRows(table, before, v.levels, counts, masses);
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
    table.note = numbersNote(frame.count(RowState::In)) +
                 (weights.empty()
                      ? ""
                      : " Weighted by " + input.survey.weightShown() + " but for n and missing.");
    table.cells.push_back(numbersHead());
    for (const DeskVariable& v : variables) {
        std::vector<Rows> parts{{}};
        std::vector<std::string> names{v.name};
        if (by) {
            std::vector<std::string> title{v.name};
            title.resize(numbersHead().size());
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
    std::vector<CountedVariable> counted;
    for (const DeskVariable& v : variables) {
        const Summary s = summaryIn(frame, v, weights, {});
        counted.push_back(
            {v.name, s.missing, v.groups || v.date ? std::nullopt : std::optional(s.skewness)});
    }
    addNumbersReading(out, counted, frame.count(RowState::In));
    return out;
}

}  // namespace rapporto
