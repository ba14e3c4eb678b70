#include "core/report/report_items.h"

#include <algorithm>
#include <array>

namespace rapporto {

std::span<const ReportItemKind> allReportItems() {
    using namespace item_reads;
    static const std::array kItems = {
        ReportItemKind{"text", "text", "your own words, with numbers that follow", kText, &addText},
        ReportItemKind{"reading", "reading", "what the answers say, in sentences", kQuestions,
                       &addReading},
        ReportItemKind{"table", "table of results", "effects side by side, errors beneath",
                       kQuestions | kLook, &addResultsTable},
        ReportItemKind{"equation", "equation", "the fitted equation, typeset", kQuestions,
                       &addEquation},
        ReportItemKind{"lenses", "figure of effects", "effects with their intervals as lenses",
                       kQuestions, &addLenses},
        ReportItemKind{"descriptives", "descriptive table", "n, mean, spread and ends of variables",
                       kQuestions | kVariables | kBy, &addDescriptives},
        ReportItemKind{"sample", "sample", "from the source to the rows used",
                       kQuestions | kEveryKind, &addSample},
        ReportItemKind{"codebook", "codebook", "what the variables used are",
                       kQuestions | kVariables, &addCodebook},
        ReportItemKind{"correlations", "correlations", "of variables, with p", kVariables,
                       &addCorrelations},
        ReportItemKind{"picture", "picture", "a picture of Explore", kPicture | kVariables,
                       &addPicture},
        ReportItemKind{"figure", "figure of a question",
                       "a check’s picture, the shape of an effect, residuals",
                       kQuestions | kShows | kVariables, &addFigure},
        ReportItemKind{"predictions", "predictions", "at the values asked for", kQuestions,
                       &addPredictions},
        ReportItemKind{"hypotheses", "statements tested", "with their p and what stands",
                       kQuestions, &addHypotheses},
        ReportItemKind{"comparison", "models compared",
                       "what differs between them, and which one the data ask for", kQuestions,
                       &addComparison},
        ReportItemKind{"effects", "effects asked for", "average, at values, over groups",
                       kQuestions, &addEffects},
        ReportItemKind{"turning-points", "turning points", "where an effect changes its sign",
                       kQuestions, &addTurningPoints},
        ReportItemKind{"left-out", "what may be left out",
                       "how strong a cause left out would have to be", kQuestions, &addLeftOut},
        ReportItemKind{"defence", "an effect defended",
                       "by lot, in the worst cases, with how many rows", kQuestions, &addDefence},
        ReportItemKind{"forecast", "moments to come", "what is foretold, with both intervals",
                       kQuestions, &addForecast},
        ReportItemKind{"checks", "checks", "what was looked at and what stands", kQuestions,
                       &addChecks},
        ReportItemKind{"assumptions", "assumptions", "their evidence and what was done", kQuestions,
                       &addAssumptions},
        ReportItemKind{"methods", "methods", "how it was computed", kQuestions, &addMethods},
        ReportItemKind{"references", "references", "the sources of exactly what was used",
                       kQuestions | kEveryKind, &addReferences},
        ReportItemKind{"trail", "trail", "what was done, in order", 0, &addTrail},
    };
    return kItems;
}

const ReportItemKind* findReportItem(const std::string& id) {
    const auto all = allReportItems();
    const auto found = std::find_if(all.begin(), all.end(),
                                    [&](const ReportItemKind& kind) { return id == kind.id; });
    return found == all.end() ? nullptr : &*found;
}

}  // namespace rapporto
