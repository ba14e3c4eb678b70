#pragma once

#include "core/model/question.h"

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// What is known where someone chooses how a question is estimated.
struct OfferedTo {
    const Question& question;
    Measure measure = Measure::Quantity;  ///< Of the outcome.
    bool yesNo = false;   ///< The outcome is yes or no, as it is or by the condition it states.
    bool panel = false;   ///< A row is a unit at a moment.
    bool inTime = false;  ///< … or a moment.
    bool lacksOutcome = false;                ///< Some rows have none.
    std::vector<std::string> upperEnds = {};  ///< Names of what may be the outcome’s upper ends.
    std::vector<std::string> switches = {};   ///< Terms that are yes or no.
    std::vector<std::string> amounts = {};    ///< Terms that are one quantity each.
    std::optional<double> heapedLeast =
        {};               ///< The outcome’s least value, where many rows have it.
    bool shares = false;  ///< The outcome lies between 0 and 1.

    [[nodiscard]] bool isAmount() const {
        return measure == Measure::Quantity || measure == Measure::Count;
    }

    [[nodiscard]] bool isByInstruments() const { return !question.endogenous.empty(); }
};

/// One way to estimate, with why one would take it.
struct OfferedMethod {
    /// Where it stands in the list: what the outcome asks for before what rows allow.
    enum class Place : std::uint8_t {
        Plain,
        InstrumentsOfOutcome,
        Instruments,
        YesNo,
        Count,
        Levels,
        Amount,
        Lacking,
        Ends,
        Time,
        Panel,
        Past,
        BeforeAfter,
        Bends,
    };

    Place place = Place::Plain;
    std::string why;
    EstimatorSettings settings = {};
    std::string label = {};   ///< Empty: as methodText() has it.
    std::string method = {};  ///< Filled in by who asks.
};

using OfferedMethods = std::vector<OfferedMethod>;

/// What methods offer themselves for, for the registry’s lines.
namespace offers {
[[nodiscard]] OfferedMethods leastSquares(const OfferedTo& to);
[[nodiscard]] OfferedMethods bentLine(const OfferedTo& to);
[[nodiscard]] OfferedMethods twoStage(const OfferedTo& to);
[[nodiscard]] OfferedMethods liml(const OfferedTo& to);
[[nodiscard]] OfferedMethods fuller(const OfferedTo& to);
[[nodiscard]] OfferedMethods moments(const OfferedTo& to);
[[nodiscard]] OfferedMethods within(const OfferedTo& to);
[[nodiscard]] OfferedMethods randomUnits(const OfferedTo& to);
[[nodiscard]] OfferedMethods between(const OfferedTo& to);
[[nodiscard]] OfferedMethods firstDifference(const OfferedTo& to);
[[nodiscard]] OfferedMethods echo(const OfferedTo& to);
[[nodiscard]] OfferedMethods differences(const OfferedTo& to);
[[nodiscard]] OfferedMethods differencesAndLevels(const OfferedTo& to);
[[nodiscard]] OfferedMethods change(const OfferedTo& to);
[[nodiscard]] OfferedMethods poisson(const OfferedTo& to);
[[nodiscard]] OfferedMethods spreadCount(const OfferedTo& to);
[[nodiscard]] OfferedMethods zeroInflated(const OfferedTo& to);
[[nodiscard]] OfferedMethods hurdle(const OfferedTo& to);
[[nodiscard]] OfferedMethods truncated(const OfferedTo& to);
[[nodiscard]] OfferedMethods logit(const OfferedTo& to);
[[nodiscard]] OfferedMethods probit(const OfferedTo& to);
[[nodiscard]] OfferedMethods cloglog(const OfferedTo& to);
[[nodiscard]] OfferedMethods conditionalLogit(const OfferedTo& to);
[[nodiscard]] OfferedMethods fractionalLogit(const OfferedTo& to);
[[nodiscard]] OfferedMethods orderedLogit(const OfferedTo& to);
[[nodiscard]] OfferedMethods orderedProbit(const OfferedTo& to);
[[nodiscard]] OfferedMethods multinomialLogit(const OfferedTo& to);
[[nodiscard]] OfferedMethods tobit(const OfferedTo& to);
[[nodiscard]] OfferedMethods interval(const OfferedTo& to);
[[nodiscard]] OfferedMethods heckman(const OfferedTo& to);
[[nodiscard]] OfferedMethods heckmanTwoStep(const OfferedTo& to);
[[nodiscard]] OfferedMethods poissonControl(const OfferedTo& to);
[[nodiscard]] OfferedMethods probitInstruments(const OfferedTo& to);
[[nodiscard]] OfferedMethods quantiles(const OfferedTo& to);
[[nodiscard]] OfferedMethods huber(const OfferedTo& to);
[[nodiscard]] OfferedMethods bisquare(const OfferedTo& to);
[[nodiscard]] OfferedMethods mm(const OfferedTo& to);
}  // namespace offers

}  // namespace rapporto
