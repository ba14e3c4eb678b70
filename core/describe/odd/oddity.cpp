#include "core/describe/odd/oddity.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/describe/odd/looking.h"
#include "core/describe/summary.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace odd {

std::vector<std::uint32_t> sampleRows(const Frame& frame) {
    std::vector<std::uint32_t> out;
    out.reserve(frame.rows());
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] == RowState::In) {
            out.push_back(static_cast<std::uint32_t>(i));
        }
    }
    return out;
}

}  // namespace odd

namespace {

using odd::Numbers;

/// The variables looked at, by their place in the table.
std::vector<std::size_t> columnsOf(const Frame& frame, const OddScope& scope) {
    std::vector<std::size_t> out;
    for (std::size_t j = 0; j < frame.table().columns.size(); ++j) {
        const Variable& v = frame.table().variables[j];
        const bool asked = scope.variables.empty() ||
                           std::find(scope.variables.begin(), scope.variables.end(), v.name) !=
                               scope.variables.end();
        if (asked && v.expression.empty()) {
            out.push_back(j);
        }
    }
    return out;
}

void findWeight(const Frame& frame, const std::string& weight,
                const std::vector<std::uint32_t>& sample, std::vector<Oddity>& out) {
    const Column* column = frame.column(weight);
    if (column == nullptr || column->isText()) {
        return;
    }
    Oddity found;
    found.kind = OddKind::WeightNotAbove;
    found.variables = {weight};
    for (const std::uint32_t row : sample) {
        if (column->numbers()[row] <= 0.0) {
            ++found.count;
            if (found.rows.size() < odd::kMostRows) {
                found.rows.push_back(row);
            }
        }
    }
    if (found.count == 0) {
        return;
    }
    const std::string shown = frame.variable(weight)->shown();
    found.title = plural(found.count, "weight is", "weights are") + " zero or below in " + shown;
    found.text = shown + " weighs the rows, and " + plural(found.count, "row has", "rows have") +
                 " a weight of zero or below: such a row stands for nobody and drops out.";
    out.push_back(std::move(found));
}

/// A value that is a slip by two ways is told once: by what says most about it.
void tellOnce(std::vector<Oddity>& all) {
    std::set<std::pair<std::string, std::size_t>> slipped;
    for (const Oddity& one : all) {
        if (one.kind == OddKind::SlippedDigit) {
            for (const std::size_t row : one.rows) {
                slipped.emplace(one.variables.front(), row);
            }
        }
    }
    std::erase_if(all, [&](const Oddity& one) {
        return one.kind == OddKind::LoneValue &&
               std::all_of(one.rows.begin(), one.rows.end(), [&](std::size_t row) {
                   return slipped.contains({one.variables.front(), row});
               });
    });
}

}  // namespace

std::string oddName(OddKind kind) {
    switch (kind) {
        case OddKind::NoAnswerCode:
            return "no-answer-code";
        case OddKind::AlikeLevels:
            return "alike-levels";
        case OddKind::RepeatedRows:
            return "repeated-rows";
        case OddKind::RepeatedMoments:
            return "repeated-moments";
        case OddKind::LoneValue:
            return "lone-value";
        case OddKind::SlippedDigit:
            return "slipped-digit";
        case OddKind::WrongSign:
            return "wrong-sign";
        case OddKind::LoneDate:
            return "lone-date";
        case OddKind::Heap:
            return "heap";
        case OddKind::CopiedColumn:
            return "copied-column";
        case OddKind::Constant:
            return "constant";
        case OddKind::FractionalCount:
            return "fractional-count";
        case OddKind::ChangedTrait:
            return "changed-trait";
        case OddKind::WeightNotAbove:
            return "weight-not-above";
    }
    return {};
}

std::string Oddity::id() const {
    std::string out = oddName(kind);
    for (const std::string& name : variables) {
        out += " " + name;
    }
    for (std::size_t k = 0; k < std::min<std::size_t>(values.size(), 4); ++k) {
        out += " " + keyText(values[k]);
    }
    return out;
}

std::vector<Oddity> oddities(const Frame& frame, const OddScope& scope, const Job& job) {
    if (frame.moments() != nullptr || frame.rows() == 0 || frame.states().size() != frame.rows()) {
        return {};
    }
    const std::vector<std::size_t> columns = columnsOf(frame, scope);
    const std::vector<std::uint32_t> sample = odd::sampleRows(frame);
    std::vector<std::vector<Oddity>> found(columns.size() + 3);
    const std::size_t whole = columns.size();
    const auto asks = [&](std::initializer_list<OddKind> kinds) {
        return scope.kinds.empty() || std::any_of(kinds.begin(), kinds.end(), [&](OddKind kind) {
                   return std::find(scope.kinds.begin(), scope.kinds.end(), kind) !=
                          scope.kinds.end();
               });
    };
    const bool numbers =
        asks({OddKind::NoAnswerCode, OddKind::LoneValue, OddKind::WrongSign, OddKind::LoneDate,
              OddKind::Heap, OddKind::Constant, OddKind::FractionalCount});
    const bool levels = asks({OddKind::AlikeLevels, OddKind::Constant});
    inParallel(found.size(), [&](std::size_t turn) {
        // What looks at the whole table takes longest: it begins first.
        const std::size_t k = found.size() - 1 - turn;
        if (job.stopped() ||
            (k < whole && !(frame.table().columns[columns[k]].isText() ? levels : numbers)) ||
            (k == whole && !asks({OddKind::SlippedDigit, OddKind::CopiedColumn})) ||
            (k == whole + 1 && !asks({OddKind::RepeatedRows})) ||
            (k == whole + 2 &&
             !asks({OddKind::RepeatedMoments, OddKind::ChangedTrait, OddKind::WeightNotAbove}))) {
            return;
        }
        if (k < whole) {
            const Column& column = frame.table().columns[columns[k]];
            const Variable& variable = frame.table().variables[columns[k]];
            column.isText()
                ? odd::findInLevels(column, variable, sample, found[k])
                : odd::findInNumbers(odd::numbersOf(column, variable, sample), found[k]);
        } else if (k == whole) {
            odd::findAcross(frame, columns, sample, job, found[k]);
        } else if (k == whole + 1) {
            odd::findInRows(frame, sample, found[k]);
        } else {
            odd::findTraits(frame, columns, found[k]);
            findWeight(frame, scope.weight, sample, found[k]);
        }
    });
    std::vector<Oddity> out;
    for (auto& own : found) {
        std::move(own.begin(), own.end(), std::back_inserter(out));
    }
    tellOnce(out);
    if (!scope.kinds.empty()) {
        std::erase_if(out, [&](const Oddity& one) { return !asks({one.kind}); });
    }
    std::stable_sort(out.begin(), out.end(),
                     [](const Oddity& a, const Oddity& b) { return a.kind < b.kind; });
    return out;
}

Exhibit oddExhibit(const Frame& frame, const Oddity& oddity) {
    Exhibit out;
    out.title = oddity.title;
    const Column* column =
        oddity.variables.empty() ? nullptr : frame.column(oddity.variables.front());
    if (column == nullptr) {
        return out;
    }
    const Variable& variable = *frame.variable(oddity.variables.front());
    out.xTitle = variable.shown() + (variable.unit.empty() ? "" : ", " + variable.unit);
    if (column->isText()) {
        const auto levels = levelsOf(*column, variable);
        for (const Key& value : oddity.values) {
            for (const FoundLevel& level : levels) {
                if (level.value == keyText(value)) {
                    out.barNames.push_back("“" + level.value + "”");
                    out.x.push_back(static_cast<double>(level.count));
                }
            }
        }
        // Where no level is odd by itself: what there is, most frequent first.
        constexpr std::size_t kMostLevels = 12;
        for (std::size_t k = 0; oddity.values.empty() && k < levels.size() && k < kMostLevels;
             ++k) {
            out.barNames.push_back(levels[k].value);
            out.x.push_back(static_cast<double>(levels[k].count));
        }
        out.xTitle = "rows";
        return out;
    }
    // Every row in its order: what is odd stands out by height, and where it was entered shows.
    constexpr std::size_t kMostPoints = 4000;
    const std::set<std::size_t> marked(oddity.rows.begin(), oddity.rows.end());
    const std::size_t step = frame.rows() / kMostPoints + 1;
    const Column* other = oddity.kind == OddKind::CopiedColumn && oddity.variables.size() > 1
                              ? frame.column(oddity.variables[1])
                              : nullptr;
    // What is off by orders of magnitude shows on a scale of them, where there is one.
    const bool magnitudes =
        oddity.kind == OddKind::SlippedDigit ||
        (oddity.kind == OddKind::LoneValue && variable.measure != Measure::Date);
    const bool logged =
        magnitudes && std::none_of(column->numbers().begin(), column->numbers().end(),
                                   [](double y) { return y <= 0.0; });
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        const double y = logged ? std::log10(column->numbers()[i]) : column->numbers()[i];
        const double x = other != nullptr ? other->numbers()[i] : static_cast<double>(i + 1);
        if ((i % step == 0 || marked.contains(i)) && !std::isnan(y) && !std::isnan(x) &&
            frame.states()[i] == RowState::In) {
            out.x.push_back(x);
            out.y.push_back(y);
            out.rows.push_back(i);
        }
    }
    out.yTitle = out.xTitle;
    out.xTitle = other != nullptr ? frame.variable(oddity.variables[1])->shown() : "row";
    out.yScale = logged                              ? AxisScale::Log
                 : variable.measure == Measure::Date ? AxisScale::Date
                                                     : AxisScale::Number;
    out.marked.assign(oddity.rows.begin(), oddity.rows.end());
    return out;
}

}  // namespace rapporto
