#pragma once

#include "core/report/report.h"
#include "core/study/answer.h"
#include "core/study/json_reader.h"
#include "core/study/json_writer.h"

#include <string>
#include <vector>

namespace rapporto {

/// A kind of question as a value: everything that asks what kind a question is reads it here.
struct QuestionKind {
    const char* id;    ///< As the study file has it.
    const char* does;  ///< “explain an outcome”: what questions of it do, for refusals.
    std::vector<const char*>
        keys;  ///< Its keys in the study file beside those that all kinds have.

    // The study file.
    void (*read)(JsonReader&, Question&);
    void (*write)(JsonWriter&, const Question&);

    /// Fills the answer, showing it on the way as soon as all but its checks is there.
    Result<void> (*answer)(Answer&, const Study&, const Frame&, const Making&);

    /// Adds its part to an entry of the results file.
    void (*results)(nlohmann::ordered_json&, const Answer&);

    // Words; of answers that were not refused.
    std::string (*sentence)(const Question&);
    std::string (*reading)(const Answer&);
    std::string (*methods)(const Answer&);

    /// The blocks of a report item for one answer, where they are not those of least squares and
    /// its kin, which set several answers side by side. Null: they are.
    void (*report)(ReportSheet&, const Answer&, const std::string& item);
};

/// All kinds; defined in kind_table.cpp, the only place to add one.
[[nodiscard]] const std::vector<QuestionKind>& questionKinds();

/// The kind of that id, or null.
[[nodiscard]] const QuestionKind* findKind(const std::string& id);

/// “explain, correlate, trace”.
[[nodiscard]] std::string kindNames();

}  // namespace rapporto
