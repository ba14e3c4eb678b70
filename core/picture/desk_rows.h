#pragma once

#include "core/data/frame.h"
#include "core/data/survey.h"
#include "core/picture/picture.h"

namespace rapporto {

/// A variable as a picture needs it: groups as places 1, 2, … in the order of their levels.
struct DeskVariable {
    std::string name;
    std::string title;  ///< Label and unit.
    bool groups = false;
    bool date = false;
    std::vector<double> cells;        ///< Of every row; NaN: missing or not in the sample.
    std::vector<std::string> levels;  ///< Of groups.
};

/// True for texts, groups and yes–no: what is counted, not averaged.
[[nodiscard]] bool isGroupsOnDesk(const Frame& frame, const std::string& name);

/// Label and unit.
[[nodiscard]] std::string titleOnDesk(const Variable& variable);

/// The names of levels that occur, as a picture tells them: 0 and 1 of a yes–no say “no” and “yes”.
[[nodiscard]] std::vector<std::string> levelsOnDesk(const std::vector<FoundLevel>& levels,
                                                    const Variable& variable, bool text);

/// The numbers of a variable that has some, yes–no as 0 and 1; NaN: missing or not in the sample.
[[nodiscard]] std::vector<double> numbersOnDesk(const Frame& frame, const std::string& name);

[[nodiscard]] DeskVariable deskVariable(const Frame& frame, const std::string& name);

/// The weights of the rows, or nothing when none are asked for or declared. A row without a weight
/// gets zero.
[[nodiscard]] std::vector<double> deskWeights(const PictureInput& input);

/// “ · weighted by w”, or nothing.
[[nodiscard]] std::string weightsNote(const PictureInput& input);

/// A shift for a place that is not random: neighbours in `turn` spread evenly over −½ to ½.
[[nodiscard]] float evenShift(std::size_t turn);

/// A variable of few whole values, whose points would hide each other.
[[nodiscard]] bool isDiscrete(const std::vector<double>& values);

}  // namespace rapporto
