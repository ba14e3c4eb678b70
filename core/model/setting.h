#pragma once

#include "core/model/question.h"

#include <limits>
#include <string>
#include <variant>
#include <vector>

namespace rapporto {

/// A key of `estimator` beside `method`: where it is kept, what it may be, when it is written.
/// Reading, writing and the words of what is wrong with it all go by this line.
struct Setting {
    using Member = std::variant<
        std::monostate, std::string EstimatorSettings::*, int EstimatorSettings::*,
        bool EstimatorSettings::*, double EstimatorSettings::*,
        std::optional<double> EstimatorSettings::*, std::vector<double> EstimatorSettings::*,
        std::vector<std::string> EstimatorSettings::*, std::vector<LevelSpec> EstimatorSettings::*>;

    static constexpr double kNoEnd = std::numeric_limits<double>::infinity();

    const char* key = nullptr;
    Member member = {};                   ///< None: a number that is `least` and nothing else.
    std::vector<const char*> words = {};  ///< What a text may be; empty: anything.
    double least = -kNoEnd;               ///< Of numbers; of lists of them not itself.
    double most = kNoEnd;                 ///< The same from above.
    const char* wrong = nullptr;          ///< What is said beyond the ends; null: the plain words.
    const char* help = "";                ///< What would do, then.
    const char* needed = nullptr;         ///< What is said where there is none; null: it may lack.
    std::vector<double> instead = {};     ///< Written for an empty list.
    bool (*written)(const EstimatorSettings&) = nullptr;  ///< Null: always.
};

/// The settings of a method, in the order in which they are read and written.
struct SettingsSpec {
    std::vector<Setting> settings = {};
    /// What is wrong with them together: what is said, or null.
    const char* (*together)(const EstimatorSettings&) = nullptr;
};

/// The settings of each method that has any, for the registry’s lines.
namespace settings {
[[nodiscard]] const SettingsSpec& bentLine();
[[nodiscard]] const SettingsSpec& fuller();
[[nodiscard]] const SettingsSpec& moments();
[[nodiscard]] const SettingsSpec& earlierMoments();
[[nodiscard]] const SettingsSpec& change();
[[nodiscard]] const SettingsSpec& echo();
[[nodiscard]] const SettingsSpec& spreadCount();
[[nodiscard]] const SettingsSpec& zeroParts();
[[nodiscard]] const SettingsSpec& withoutZeros();
[[nodiscard]] const SettingsSpec& penalty();
[[nodiscard]] const SettingsSpec& cutOff();
[[nodiscard]] const SettingsSpec& upperEnd();
[[nodiscard]] const SettingsSpec& seenTerms();
[[nodiscard]] const SettingsSpec& levels();
[[nodiscard]] const SettingsSpec& quantiles();
[[nodiscard]] const SettingsSpec& huber();
[[nodiscard]] const SettingsSpec& bisquare();
[[nodiscard]] const SettingsSpec& efficiency();
}  // namespace settings

}  // namespace rapporto
