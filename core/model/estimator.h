#pragma once

#include "core/base/job.h"
#include "core/base/result.h"
#include "core/model/family.h"
#include "core/model/offer.h"
#include "core/model/question.h"

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

struct Design;
struct Fit;
struct SettingsSpec;

/// What a method can be told beside its terms, as bits. What it does not take is refused in words.
namespace takes {
inline constexpr unsigned kInstruments = 1;  ///< Endogenous terms, with what moves them.
inline constexpr unsigned kOwnSlopes = 2;    ///< Slopes of units, swept out.
inline constexpr unsigned kPrecision = 4;    ///< Weights that tell a row’s precision to a scale.
inline constexpr unsigned kLeverageTypes = 8;  ///< Robust types HC2 to HC4, by a row’s leverage.
/// Its rows have their places in time: none can be drawn or weighed anew.
inline constexpr unsigned kRowsInOrder = 16;
/// Its rows hang together by groups: none can be drawn or weighed anew.
inline constexpr unsigned kGroupsWhole = 32;
inline constexpr unsigned kExposure = 64;  ///< An offset and an exposure in its index.
inline constexpr unsigned kLinear = kOwnSlopes | kPrecision | kLeverageTypes;
}  // namespace takes

/// What a method is, as bits: for who builds a design, draws rows or words a question, and would
/// otherwise have to know its name.
namespace trait {
inline constexpr unsigned kUnits = 1;      ///< Compares a unit with itself: rows are of a panel.
inline constexpr unsigned kMoments = 2;    ///< Needs a time that is a number or a date.
inline constexpr unsigned kOwnPast = 4;    ///< Its instruments are earlier moments of its terms.
inline constexpr unsigned kHoldsUnit = 8;  ///< Holds the unit fixed, asked for or not …
inline constexpr unsigned kHoldsUnitElse = 16;  ///< … where nothing else is held fixed.
inline constexpr unsigned kHeldInside = 32;     ///< Takes out what is held fixed by itself.
inline constexpr unsigned kChange = 64;         ///< Before and after `variable` is switched on.
inline constexpr unsigned kUnseen = 128;        ///< Keeps rows without outcome.
/// Least squares of columns: draws weigh rows without estimating anew.
inline constexpr unsigned kByLeast = 256;
inline constexpr unsigned kOwnColumns = 512;  ///< … of the design’s own: specifications are swept.
inline constexpr unsigned kNoLine = 1024;     ///< No line whose shape could be tried otherwise.
inline constexpr unsigned kEquation = 4096;       ///< Can stand for an equation of a trace.
inline constexpr unsigned kByInstruments = 2048;  ///< Asks for terms that something else moves.
}  // namespace trait

/// What a method of a panel compares.
enum class OfUnits : std::uint8_t {
    Nothing,
    Within,    ///< A unit with itself.
    AtRandom,  ///< Both, units’ levels as chance.
    Means,     ///< Units with each other.
    Changes,   ///< A moment with the one before.
};

/// An outcome that an estimator is made for, and why one would take it instead of least squares.
struct SuitedOutcome {
    Measure measure;
    const char* label;  ///< “by logit”.
    const char* why;    ///< Goes on behind the outcome’s name: “ is yes or no: …”.
};

/// How an estimator answers: a design in, a fit out. Registered in estimator_table.cpp.
struct Estimator {
    const char* method = nullptr;  ///< As the study file has it.
    const char* shown = nullptr;   ///< “least squares”.
    Result<Fit> (*estimate)(const Design&, const EstimatorSettings&, const ErrorSpec&, double alpha,
                            const Job&) = nullptr;
    unsigned takes = 0;   ///< Bits of `takes`.
    unsigned traits = 0;  ///< Bits of `trait`.
    OfUnits ofUnits = OfUnits::Nothing;
    const Family* family = nullptr;               ///< Of a likelihood; null: none of these.
    const SettingsSpec& (*settings)() = nullptr;  ///< Keys of `estimator` beside `method`.
    std::optional<SuitedOutcome> suits = {};      ///< Of the plainest method for a kind of outcome.
    /// What it is called with a question’s settings; null: as shown.
    std::string (*named)(const Question&) = nullptr;
    /// What it offers itself for; null: it is offered in another place.
    OfferedMethods (*offers)(const OfferedTo&) = nullptr;

    [[nodiscard]] bool has(unsigned bits) const { return (traits & bits) == bits; }

    [[nodiscard]] bool canTake(unsigned bits) const { return (takes & bits) == bits; }
};

[[nodiscard]] const std::vector<Estimator>& allEstimators();

/// The estimator of that name, or null.
[[nodiscard]] const Estimator* findEstimator(const std::string& method);

/// True where there is such a method and it has all these bits of `trait`.
[[nodiscard]] bool hasTrait(const std::string& method, unsigned bits);

/// True where there is such a method and it takes all these bits of `takes`.
[[nodiscard]] bool canTake(const std::string& method, unsigned bits);

/// What the method of that name compares in a panel.
[[nodiscard]] OfUnits ofUnits(const std::string& method);

/// The family of a method by likelihood; null of others.
[[nodiscard]] const Family* familyOf(const std::string& method);

/// A method with a question’s settings: “a line with 2 bends in age”, “quantiles 0.1, 0.9”.
[[nodiscard]] std::string methodText(const Question& question);

}  // namespace rapporto
