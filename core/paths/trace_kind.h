#pragma once

#include "core/paths/trace.h"
#include "core/study/question_kind.h"

namespace rapporto {

/// Questions that trace how causes reach their outcomes through what stands between.
[[nodiscard]] QuestionKind traceKind();

// Words; of answers that were not refused.

/// “Trace how training reaches income through pruning · intervals bias-corrected, 5 000 draws …”.
[[nodiscard]] std::string traceSentence(const Question& question);

/// Which ways carry the effects, how much of them, with intervals.
[[nodiscard]] std::string traceReading(const Answer& answer);

/// What one effect says, in one to four paragraphs.
[[nodiscard]] std::vector<std::string> tracedEffectReading(const Answer& answer,
                                                           std::size_t effect);

/// What one arrow says, and which ways use it.
[[nodiscard]] std::vector<std::string> arrowReading(const Answer& answer, std::size_t arrow);

/// How the errors of the two equations would have to go together for a way to vanish.
[[nodiscard]] std::string sensitivityReading(const TraceSensitivity& sensitivity);

/// What differs between two traces, and how the effects that both have moved.
[[nodiscard]] std::vector<std::string> traceDifference(const Answer& from, const Answer& to);

[[nodiscard]] std::string traceMethods(const Answer& answer);

/// The blocks of a report item.
void traceReport(ReportSheet& sheet, const Answer& answer, const std::string& item);

/// The parts of an entry of the results file.
void traceResults(nlohmann::ordered_json& one, const Answer& answer);

/// How the nodes of a trace are shared out in its sentence.
struct TraceRoles {
    std::vector<std::string> causes;    ///< Whose effects are asked for.
    std::vector<std::string> outcomes;  ///< What explains nothing further.
    std::vector<std::string> between;   ///< Explained, and explaining; muted ones too.
    std::vector<std::string> beside;    ///< Further terms of some equation, as shown.
};

[[nodiscard]] TraceRoles traceRoles(const TraceSpec& spec);

/// “income when irrigated is 1”: the moderators of an effect; empty without any.
[[nodiscard]] std::string settingText(const ModeratorSetting& at);

/// “through pruning, quality”, “direct”, “total”, … of an effect.
[[nodiscard]] std::string effectName(const TraceEffect& effect);

}  // namespace rapporto
