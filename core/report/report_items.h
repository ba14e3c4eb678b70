#pragma once

#include "core/report/report.h"

#include <span>

namespace rapporto {

/// What an item is made from, and where its blocks go.
struct ItemInput {
    const Study& study;
    const ReportItem& item;
    const std::vector<const Answer*>&
        answers;  ///< Of its questions, in order; refused ones are out.
    const AnswersById& all;
    const Frame* frame;  ///< Null where no table is at hand.
    ReportSheet& sheet;
    const Job& job;  ///< Looked at by what fits anew.
};

/// A kind of item; its line stands in report_items.cpp.
struct ReportItemKind {
    const char* id;     ///< As the study file has it.
    const char* words;  ///< “table of results”.
    const char* about;  ///< What it shows, in half a sentence.
    unsigned reads;     ///< Members of the item that it looks at; see below.
    void (*add)(const ItemInput& in);
};

/// Members of an item, as bits.
namespace item_reads {
inline constexpr unsigned kQuestions = 1;
inline constexpr unsigned kVariables = 2;
inline constexpr unsigned kBy = 4;
inline constexpr unsigned kLook = 8;
inline constexpr unsigned kText = 16;
inline constexpr unsigned kPicture = 32;
inline constexpr unsigned kShows = 64;
/// Questions of every kind, told alike; else a kind with blocks of its own writes them.
inline constexpr unsigned kEveryKind = 128;
}  // namespace item_reads

[[nodiscard]] std::span<const ReportItemKind> allReportItems();
[[nodiscard]] const ReportItemKind* findReportItem(const std::string& id);

// The kinds, each in the file of its subject.
void addReading(const ItemInput& in);
void addResultsTable(const ItemInput& in);
void addEquation(const ItemInput& in);
void addLenses(const ItemInput& in);
void addChecks(const ItemInput& in);
void addAssumptions(const ItemInput& in);
void addMethods(const ItemInput& in);
void addReferences(const ItemInput& in);
void addTrail(const ItemInput& in);
void addText(const ItemInput& in);
void addDescriptives(const ItemInput& in);
void addSample(const ItemInput& in);
void addCodebook(const ItemInput& in);
void addCorrelations(const ItemInput& in);
void addPredictions(const ItemInput& in);
void addHypotheses(const ItemInput& in);
void addComparison(const ItemInput& in);
void addEffects(const ItemInput& in);
void addTurningPoints(const ItemInput& in);
void addLeftOut(const ItemInput& in);
void addDefence(const ItemInput& in);
void addForecast(const ItemInput& in);
void addPicture(const ItemInput& in);
void addFigure(const ItemInput& in);

/// Equations of a fitted answer, one a block.
void putEquation(ReportSheet& sheet, const Answer& answer);

/// What was checked in an answer, a point for each question of the list.
void putChecks(ReportSheet& sheet, const Answer& answer);

/// “**Title.** ” where an item speaks of several answers.
[[nodiscard]] std::string titleBefore(const ItemInput& in, const Answer& answer);

}  // namespace rapporto
