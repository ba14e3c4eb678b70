#include "core/describe/calibration_facts.h"

#include "core/base/format.h"
#include "core/base/typed_text.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// A column of this name, whatever the height of its letters; −1: none.
int columnNamed(const Table& table, std::string_view name) {
    const auto same = [](char a, char b) {
        return std::tolower(static_cast<unsigned char>(a)) == static_cast<unsigned char>(b);
    };
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
        const std::string& own = table.columns[c].name();
        if (std::equal(own.begin(), own.end(), name.begin(), name.end(), same)) {
            return static_cast<int>(c);
        }
    }
    return -1;
}

}  // namespace

std::string calibrationWords(const SurveyRows& rows) {
    if (rows.known == nullptr) {
        return {};
    }
    std::vector<std::string> names;
    for (const auto& part : rows.known->parts()) {
        names.push_back(part.variable);
    }
    return (rows.calibration == "raking" ? "raked to " : "calibrated to ") + joinedNames(names);
}

CalibrationFacts calibrationFacts(const SurveyRows& rows) {
    CalibrationFacts out;
    if (rows.known == nullptr) {
        return out;
    }
    const KnownColumns& known = *rows.known;
    VectorXd drawn = VectorXd::Zero(known.count());
    VectorXd reached = VectorXd::Zero(known.count());
    std::array<double, 2> squares = {0.0, 0.0};
    for (std::size_t i = 0; i < rows.weights.size(); ++i) {
        const double before = rows.drawnWeights[i];
        const double after = rows.weights[i];
        if (before == 0.0) {
            continue;
        }
        known.of(i, [&](Index column, double x) {
            drawn(column) += before * x;
            reached(column) += after * x;
        });
        squares[0] += before * before;
        squares[1] += after * after;
        out.ratios.push_back(after / before);
    }
    out.rows = out.ratios.size();
    if (out.rows == 0) {
        return out;
    }
    const auto n = static_cast<double>(out.rows);
    out.effectBefore = n * squares[0] / (drawn(0) * drawn(0));
    out.effectAfter = n * squares[1] / (reached(0) * reached(0));
    out.effectiveRows = n / out.effectAfter;
    const auto [low, high] = std::minmax_element(out.ratios.begin(), out.ratios.end());
    out.lowest = *low;
    out.highest = *high;
    if (rows.bounds) {
        constexpr double kAt = 1e-9;
        out.atBounds = static_cast<std::size_t>(
            std::count_if(out.ratios.begin(), out.ratios.end(), [&](double ratio) {
                return ratio < rows.bounds->first + kAt || ratio > rows.bounds->second - kAt;
            }));
    }
    const auto before = known.totalsAt(drawn / drawn(0));
    const auto after = known.totalsAt(reached / reached(0));
    std::size_t at = 0;
    for (const auto& part : known.parts()) {
        std::vector<std::size_t> count(std::max<std::size_t>(part.levels.size(), 1), 0);
        for (std::size_t i = 0; i < rows.weights.size(); ++i) {
            if (rows.drawnWeights[i] > 0.0) {
                ++count[part.levels.empty() ? 0 : static_cast<std::size_t>(part.cells[i])];
            }
        }
        for (const std::size_t many : count) {
            out.totals.push_back({before[at].variable, before[at].level, many, before[at].reached,
                                  before[at].known, after[at].reached});
            ++at;
        }
    }
    return out;
}

Result<KnownTotal> drawnTotal(const Frame& frame, Survey survey, const std::string& variable,
                              bool mean) {
    constexpr std::size_t kMostLevels = 60;
    constexpr double kMillion = 1e6;
    const auto bad = [&](ErrorCode code, const std::string& what, const std::string& help) {
        return refuse(code, what, "targets", help, {variable});
    };
    const Column* column = frame.column(variable);
    if (column == nullptr) {
        return bad(ErrorCode::UnknownName, "there is no variable ‘" + variable + "’",
                   "Choose another.");
    }
    if (mean && column->isText()) {
        return bad(ErrorCode::WrongType, "‘" + variable + "’ holds text, which has no mean",
                   "Give the shares of its levels.");
    }
    survey.targets.clear();
    const auto rows = surveyRows(frame, survey);
    if (!rows) {
        return tl::make_unexpected(rows.error());
    }
    KnownTotal out;
    out.variable = variable;
    const auto none = [&] {
        return bad(ErrorCode::BadSetting,
                   "‘" + variable + "’ has no value in any row with a weight", "Choose another.");
    };
    if (mean) {
        const auto found = meanUnder(*rows, column->numbers());
        if (!found) {
            return none();
        }
        out.mean = numberIn(shortNumber(found->mean, 6)).value_or(found->mean);
        return out;
    }
    const auto levels = levelsOf(*column, *frame.variable(variable));
    if (levels.size() > kMostLevels) {
        return bad(ErrorCode::BadSetting,
                   "‘" + variable + "’ has " + countText(levels.size()) + " levels",
                   "Cut it into bands first, or give its mean.");
    }
    std::map<double, double> weights;
    double total = 0.0;
    for (std::size_t i = 0; i < rows->weights.size(); ++i) {
        if (!column->isMissing(i)) {
            weights[column->isText() ? column->codes()[i] : column->numbers()[i]] +=
                rows->weights[i];
            total += rows->weights[i];
        }
    }
    if (!(total > 0.0)) {
        return none();
    }
    double rest = 1.0;
    for (const FoundLevel& level : levels) {
        const double share = std::round(kMillion * weights[level.code] / total) / kMillion;
        out.shares.emplace_back(level.label, share);
        rest -= share;
    }
    const auto largest =
        std::max_element(out.shares.begin(), out.shares.end(),
                         [](const auto& a, const auto& b) { return a.second < b.second; });
    largest->second = std::round(kMillion * (largest->second + rest)) / kMillion;
    return out;
}

Exhibit calibrationPicture(const SurveyRows& rows, const CalibrationFacts& facts) {
    Exhibit out;
    out.title = "What the totals do to the weights";
    out.subtitle = plural(facts.rows, "row", "rows");
    out.xTitle = "new weight over the one drawn with";
    out.yTitle = "rows";
    out.fromZero = true;
    if (facts.rows == 0) {
        return out;
    }
    constexpr std::size_t kBars = 24;
    // Weights that nothing moves stand in one bar about one.
    const double least = std::max(1e-9, 1e-9 * facts.highest);
    const double width = std::max((facts.highest - facts.lowest) / kBars, least);
    std::vector<std::size_t> counts(kBars, 0);
    for (const double ratio : facts.ratios) {
        ++counts[std::min(static_cast<std::size_t>((ratio - facts.lowest) / width), kBars - 1)];
    }
    double top = 0.0;
    for (std::size_t b = 0; b < kBars; ++b) {
        if (counts[b] == 0) {
            continue;
        }
        Exhibit::Bar bar;
        bar.x0 = facts.lowest + width * static_cast<double>(b);
        bar.x1 = bar.x0 + width;
        bar.y1 = static_cast<double>(counts[b]);
        bar.says = plural(counts[b], "row", "rows") + " at " + shortNumber(bar.x0, 3) + " to " +
                   shortNumber(bar.x1, 3) + " times";
        top = std::max(top, bar.y1);
        out.bars.push_back(std::move(bar));
    }
    out.lines.push_back({"as drawn", {1.0, 1.0}, {0.0, top}, true});
    if (rows.bounds) {
        const auto& [low, high] = *rows.bounds;
        out.lines.push_back({"bounds", {low, low}, {0.0, top}, false, true});
        out.lines.push_back({"", {high, high}, {0.0, top}, false, true});
    }
    return out;
}

Result<std::vector<KnownTotal>> knownTotalsOf(const Table& table) {
    const auto cell = [&](int column, std::size_t row) {
        return column < 0 || table.columns[static_cast<std::size_t>(column)].isMissing(row)
                   ? std::string()
                   : cellText(table.columns[static_cast<std::size_t>(column)],
                              table.variables[static_cast<std::size_t>(column)], row);
    };
    const auto amountIn = [&](int column, std::size_t row) -> std::optional<double> {
        if (column < 0 || table.columns[static_cast<std::size_t>(column)].isMissing(row)) {
            return std::nullopt;
        }
        const Column& of = table.columns[static_cast<std::size_t>(column)];
        return of.isText() ? numberIn(cell(column, row)) : std::optional(of.numbers()[row]);
    };
    const int variable = columnNamed(table, "variable");
    const int level = columnNamed(table, "level");
    const std::array<int, 3> amounts = {columnNamed(table, "share"), columnNamed(table, "count"),
                                        columnNamed(table, "mean")};
    if (variable < 0 || std::all_of(amounts.begin(), amounts.end(), [](int c) { return c < 0; })) {
        return refuse(ErrorCode::BadSetting, "the table does not look like known totals", "targets",
                      "It has columns ‘variable’, ‘level’ and ‘share’ or ‘count’, and ‘mean’ for "
                      "what has no levels.");
    }
    std::vector<KnownTotal> out;
    for (std::size_t row = 0; row < table.rows(); ++row) {
        const std::string name = cell(variable, row);
        const std::string of = cell(level, row);
        const auto mean = amountIn(amounts[2], row);
        const auto share = amountIn(amounts[0], row);
        const auto amount = mean ? mean : share ? share : amountIn(amounts[1], row);
        if (name.empty() || !amount || of.empty() != mean.has_value()) {
            return refuse(ErrorCode::BadSetting,
                          "row " + std::to_string(row + 1) + " of the known totals cannot be read",
                          "targets",
                          "A row has a variable, and either a level with its share or count, or a "
                          "mean.",
                          {name});
        }
        auto at = std::find_if(out.begin(), out.end(),
                               [&](const KnownTotal& one) { return one.variable == name; });
        if (at == out.end()) {
            at = out.insert(out.end(), {name});
        }
        if (!mean) {
            at->shares.emplace_back(of, *amount);
        } else {
            at->mean = amount;
        }
    }
    for (KnownTotal& one : out) {
        double sum = 0.0;
        for (const auto& [name, share] : one.shares) {
            sum += share;
        }
        // Counts and percentages are brought to shares; printed shares are left as they are.
        for (auto& [name, share] : one.shares) {
            share /= std::abs(sum - 1.0) > KnownColumns::kRounding && sum > 0.0 ? sum : 1.0;
        }
    }
    return out;
}

}  // namespace rapporto
