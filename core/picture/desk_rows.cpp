#include "core/picture/desk_rows.h"

#include "core/describe/survey_mean.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <set>

namespace rapporto {

bool isGroupsOnDesk(const Frame& frame, const std::string& name) {
    const Column* column = frame.column(name);
    const Variable* variable = frame.variable(name);
    return column != nullptr && (column->isText() || isGrouping(variable->measure) ||
                                 variable->measure == Measure::YesNo);
}

std::string titleOnDesk(const Variable& variable) {
    return variable.shown() + (variable.unit.empty() ? "" : ", " + variable.unit);
}

std::vector<std::string> levelsOnDesk(const std::vector<FoundLevel>& levels,
                                      const Variable& variable, bool text) {
    std::vector<std::string> out;
    for (const FoundLevel& level : levels) {
        out.push_back(level.label);
        if (variable.measure == Measure::YesNo && !text) {
            // Bare 0 and 1 say nothing beside a share.
            out.back() = level.label == "0" ? "no" : level.label == "1" ? "yes" : level.label;
        }
    }
    return out;
}

std::vector<double> numbersOnDesk(const Frame& frame, const std::string& name) {
    const auto numbers = frame.column(name)->numbers();
    std::vector<double> out(numbers.begin(), numbers.end());
    for (std::size_t i = 0; i < out.size(); ++i) {
        out[i] = frame.states()[i] == RowState::In ? out[i] : std::nan("");
    }
    return out;
}

DeskVariable deskVariable(const Frame& frame, const std::string& name) {
    const Column& column = *frame.column(name);
    const Variable& variable = *frame.variable(name);
    DeskVariable out;
    out.name = name;
    out.title = titleOnDesk(variable);
    out.groups = isGroupsOnDesk(frame, name);
    out.date = variable.measure == Measure::Date && !column.isText();
    out.cells.assign(frame.rows(), std::nan(""));
    std::map<double, double> place;
    if (out.groups) {
        const auto found = levelsOf(column, variable);
        out.levels = levelsOnDesk(found, variable, column.isText());
        for (std::size_t k = 0; k < found.size(); ++k) {
            place.emplace(found[k].code, static_cast<double>(k) + 1.0);
        }
    }
    for (std::size_t i = 0; i < out.cells.size(); ++i) {
        if (frame.states()[i] != RowState::In || column.isMissing(i)) {
            continue;
        }
        const double cell = column.isText() ? column.codes()[i] : column.numbers()[i];
        out.cells[i] = out.groups ? place.at(cell) : cell;
    }
    return out;
}

std::vector<double> deskWeights(const PictureInput& input) {
    if (input.spec.weighted && !input.survey.targets.empty()) {
        auto rows = surveyRows(input.frame, input.survey);
        return rows ? std::move(rows->weights) : std::vector<double>{};
    }
    const Column* weight = !input.spec.weighted || input.survey.weight.empty()
                               ? nullptr
                               : input.frame.column(input.survey.weight);
    if (weight == nullptr || weight->isText()) {
        return {};
    }
    std::vector<double> out(weight->numbers().begin(), weight->numbers().end());
    for (double& w : out) {
        w = w > 0.0 ? w : 0.0;
    }
    return out;
}

std::string weightsNote(const PictureInput& input) {
    return deskWeights(input).empty() ? "" : " · weighted by " + input.survey.weightShown();
}

float evenShift(std::size_t turn) {
    // The golden ratio puts each next point into the widest gap that is left.
    const double at = static_cast<double>(turn) * std::numbers::phi;
    return static_cast<float>(at - std::floor(at) - 0.5);
}

bool isDiscrete(const std::vector<double>& values) {
    constexpr std::size_t kFew = 25;
    std::set<double> distinct;
    for (const double v : values) {
        if (v != std::floor(v)) {
            return false;
        }
        distinct.insert(v);
        if (distinct.size() > kFew) {
            return false;
        }
    }
    return !distinct.empty();
}

}  // namespace rapporto
