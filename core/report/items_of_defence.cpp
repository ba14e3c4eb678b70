// Items of the report that defend one effect, and that look ahead.
#include "core/base/format.h"
#include "core/defend/defence.h"
#include "core/report/defence_wording.h"
#include "core/report/item_cells.h"
#include "core/report/report_items.h"
#include "core/report/wording.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

void say(ReportSheet& sheet, const std::vector<std::string>& sentences) {
    for (const std::string& one : sentences) {
        sheet.put(Kind::Paragraph, one.starts_with("~") ? one.substr(1) : one);
    }
}

void putEnds(ReportSheet& sheet, const WorstCases& found, double alpha) {
    ReportBlock block;
    block.kind = Kind::Table;
    block.rules = {0};
    block.cells.push_back({"", sheet.word("lower end"), sheet.word("std. error"),
                           sheet.word("upper end"), sheet.word("std. error"),
                           percentLevel(alpha) + " " + sheet.word("interval")});
    const auto row = [&](const std::string& name, const WorstCaseEnd& lower,
                         const WorstCaseEnd& upper, double low, double high) {
        block.cells.push_back({name, sizedCell(lower.estimate, lower.se),
                               sizedCell(lower.se, lower.se), sizedCell(upper.estimate, upper.se),
                               sizedCell(upper.se, upper.se),
                               endsText(sheet, low, high, std::max(lower.se, upper.se))});
    };
    row("whatever was not seen", found.lower, found.upper, found.low, found.high);
    if (found.always) {
        row("of those seen either way", found.always->lower, found.always->upper, found.always->low,
            found.always->high);
    }
    sheet.add(std::move(block));
    sheet.put(Kind::Note,
              "Horowitz & Manski (2000); Lee (2009); intervals by Imbens & Manski "
              "(2004).",
              "note");
}

}  // namespace

void addDefence(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        const std::vector<std::string> said = defenceReading(*a);
        if (said.empty()) {
            in.sheet.put(Kind::Note, questionTitle(*a) +
                                         ": no effect is defended. Choose one under Model and ask "
                                         "it there.");
            continue;
        }
        if (a->defence->worstCases && *a->defence->worstCases) {
            const WorstCases& found = **a->defence->worstCases;
            in.sheet.tableCaption("How far the effect of " + found.of + " could move in " +
                                  questionTitle(*a));
            putEnds(in.sheet, found, a->alpha);
        }
        say(in.sheet, said);
    }
}

void addForecast(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        if (!a->forecast || !*a->forecast) {
            in.sheet.put(Kind::Note,
                         questionTitle(*a) + ": " +
                             (a->forecast ? a->forecast->error().text()
                                          : "no moment to come is asked for. Ask under Model, "
                                            "Predict."));
            continue;
        }
        in.sheet.tableCaption("Moments to come by " + questionTitle(*a));
        ReportBlock block;
        block.kind = Kind::Table;
        block.rules = {0};
        block.cells.push_back({"", in.sheet.word("prediction"),
                               percentLevel(a->alpha) + " " + in.sheet.word("interval"),
                               in.sheet.word("one row")});
        for (const ForecastPoint& point : (*a->forecast)->points) {
            if (point.original) {
                const Retransformed& r = *point.original;
                const double size = (r.rowHigh - r.rowLow) / 4.0;
                block.cells.push_back({point.moment, sizedCell(r.mean, size),
                                       endsText(in.sheet, r.low, r.high, size),
                                       endsText(in.sheet, r.rowLow, r.rowHigh, size)});
                continue;
            }
            const double size = std::max(point.mean.se, 1e-300);
            block.cells.push_back({point.moment, sizedCell(point.mean.value, size),
                                   endsText(in.sheet, point.mean.low, point.mean.high, size),
                                   endsText(in.sheet, point.rowLow, point.rowHigh, size)});
        }
        in.sheet.add(std::move(block));
        say(in.sheet, forecastReading(*a));
    }
}

}  // namespace rapporto
