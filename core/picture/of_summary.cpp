// What can be seen of variables of which only moments are known.
#include "core/base/format.h"
#include "core/picture/counted.h"
#include "core/picture/kinds.h"

#include <algorithm>

namespace rapporto {

DrawnPicture mosaicOfSummary(const PictureInput& input) {
    CorrelationSettings settings;
    settings.alpha = input.alpha;
    const auto table = correlateSummary(*input.frame.moments(), input.spec.of, {}, settings);
    if (!table) {
        DrawnPicture out;
        out.nothing = table.error().text();
        return out;
    }
    return mosaicPicture(*table, false, false);
}

DrawnPicture numbersOfSummary(const PictureInput& input) {
    const SummaryMatrix& summary = *input.frame.moments();
    PictureTable table;
    table.title = "Numbers";
    table.note =
        "As the summary has them" +
        std::string(summary.hasMeans && summary.hasScale ? "." : "; what is blank it lacks.");
    table.cells.push_back({"", "n", "mean", "sd"});
    for (const std::string& name : input.spec.of) {
        const auto at = std::find(summary.names.begin(), summary.names.end(), name);
        if (at == summary.names.end()) {
            continue;
        }
        const auto place = at - summary.names.begin();
        table.cells.push_back({name, shortNumber(summary.n),
                               summary.hasMeans ? shortNumber(summary.mean(place), 4) : "",
                               summary.hasScale ? shortNumber(summary.sd(place), 4) : ""});
    }
    DrawnPicture out;
    out.table = std::move(table);
    out.words.emplace_back("~A summary tells neither shape nor tails: those need the rows.");
    return out;
}

}  // namespace rapporto
