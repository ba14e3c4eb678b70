#pragma once

#include "core/report/blocks.h"
#include "core/study/answer.h"

#include <map>
#include <string>
#include <vector>

namespace rapporto {

/// A column of a table of results, or of one of its panels.
struct ResultsColumn {
    const Answer* answer = nullptr;  ///< Null: the column is empty in this panel.
    std::string head;
    std::size_t place = 0;  ///< Which of the own heads of its item it takes.
};

struct ResultsPanel {
    std::string title;  ///< Empty: the table has no panels.
    std::vector<ResultsColumn> columns;
};

/// Effects of several answers side by side in the form of a journal: an estimate with its error (or
/// interval, t, p) beneath, levels of a grouping under it with its base named, terms folded into
/// “yes”, what is held fixed, and statistics in the foot. Numbers keep all their digits in
/// `Cell::value`.
[[nodiscard]] ReportBlock resultsTable(const Study& study, const std::vector<ResultsPanel>& panels,
                                       const TableLook& look, const std::string& language = "en");

/// One panel with the questions' titles as heads, in the default look.
[[nodiscard]] ReportBlock resultsTable(const Study& study,
                                       const std::vector<const Answer*>& answers);

/// What stands below such a table: what the small numbers and stars are, and by which errors,
/// clusters, weights and rows each column was made; columns that agree are told together.
[[nodiscard]] std::string resultsNote(const std::vector<ResultsPanel>& panels,
                                      const TableLook& look, double alpha,
                                      const std::string& language = "en");

/// The labels of variables by name, as the study has them.
[[nodiscard]] std::map<std::string, std::string> labelsOf(const Study& study);

/// An expression for readers: “ln Revenue”, “Hives per hectare²”.
[[nodiscard]] std::string shownExpression(const std::string& text,
                                          const std::map<std::string, std::string>& labels);

/// The statistics that a foot can hold: id and words.
struct FootStatistic {
    const char* id;
    const char* words;
    Cell (*of)(const Answer& answer);
};

[[nodiscard]] const std::vector<FootStatistic>& footStatistics();

}  // namespace rapporto
