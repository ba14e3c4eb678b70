#pragma once

#include "core/describe/odd/oddity.h"
#include "core/study/study.h"

#include <string>
#include <vector>

namespace rapporto {

/// A step of the study that mends something odd.
struct OddMend {
    std::string label;  ///< “Make −99 missing”.
    std::string why;
    std::string did;  ///< For the trail.
    Change change;
};

/// What can be done about one oddity, the likeliest first; empty where only a person knows.
///
/// @param all  the other oddities of the table: a code that stands in several variables can be made
///             missing in all of them.
[[nodiscard]] std::vector<OddMend> mendsOf(const Study& study, const Frame& frame,
                                           const Oddity& odd, const std::vector<Oddity>& all);

/// The reason why it stands, where somebody gave one; else null.
[[nodiscard]] const std::string* reasonItStands(const Sample& sample, const Oddity& odd);

}  // namespace rapporto
