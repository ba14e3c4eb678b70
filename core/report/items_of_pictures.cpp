// Items of the report that are pictures: of Explore, of a check, of an effect's shape.
#include "core/base/format.h"
#include "core/checks/event_picture.h"
#include "core/model/event_study.h"
#include "core/model/quantile.h"
#include "core/picture/figure.h"
#include "core/report/effect_picture.h"
#include "core/report/report_items.h"

#include <algorithm>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

constexpr double kWidth = 440.0;  // Points: the width of a page's column.

/// The picture that an item holds, or that of its variables.
PictureSpec specOf(const ReportItem& item) {
    PictureSpec spec = item.picture ? *item.picture : PictureSpec{};
    if (!item.picture) {
        spec.of = item.variables;
    }
    return spec;
}

void putExhibit(ReportSheet& sheet, const Exhibit& exhibit, const std::string& caption) {
    sheet.figureCaption(caption);
    sheet.addFigure(exhibitDrawing(exhibit, kWidth, 0.58 * kWidth),
                    exhibit.subtitle.empty() ? caption : caption + ": " + exhibit.subtitle);
    if (!exhibit.subtitle.empty()) {
        sheet.put(Kind::Note,
                  capitalised(exhibit.subtitle) + (exhibit.subtitle.ends_with('.') ? "" : "."),
                  "note");
    }
}

/// The table that some pictures are.
void putTable(ReportSheet& sheet, const PictureTable& table) {
    sheet.tableCaption(table.title);
    ReportBlock block;
    block.kind = Kind::Table;
    for (const auto& row : table.cells) {
        block.cells.emplace_back(row.begin(), row.end());
    }
    block.rules = {0};
    sheet.add(std::move(block));
    if (!table.note.empty()) {
        sheet.put(Kind::Note, table.note, "note");
    }
}

/// What can be shown of a question by name: its checks’ pictures and the shape of an effect.
void putFigure(const ItemInput& in, const Answer& answer) {
    const std::string& shows = in.item.shows;
    if (shows == "shape" || shows.empty()) {
        std::string variable = in.item.variables.empty() ? "" : in.item.variables.front();
        if (variable.empty() && answer.scenarios && !answer.scenarios->variables().empty()) {
            variable = answer.scenarios->variables().front().name;
        }
        const auto exhibit = shapeExhibit(answer, variable, in.item.by);
        if (!exhibit) {
            in.sheet.put(Kind::Note, questionTitle(answer) + ": " + exhibit.error().text());
            return;
        }
        putExhibit(in.sheet, *exhibit,
                   exhibit->title.empty() ? "The effect of " + variable : exhibit->title);
        return;
    }
    if (shows == "quantiles" && answer.fit->quantile) {
        const auto& list = answer.fit->coefficients;
        const std::string wanted = in.item.variables.empty() ? "" : in.item.variables.front();
        const auto found = std::find_if(list.begin(), list.end(), [&](const Coefficient& c) {
            return c.designTerm >= 0 && (wanted.empty() || c.term == wanted);
        });
        if (found != list.end()) {
            const Exhibit exhibit =
                processExhibit(answer, static_cast<std::size_t>(found - list.begin()));
            putExhibit(in.sheet, exhibit, exhibit.title);
            return;
        }
    }
    if (shows == "event" && answer.fit->event) {
        const Exhibit exhibit = eventExhibit(*answer.fit->event, answer.alpha,
                                             answer.design->outcome, answer.design->outcomeUnit);
        putExhibit(in.sheet, exhibit,
                   exhibit.title.empty() ? "Before and after the change" : exhibit.title);
        return;
    }
    for (const CheckResult& check : answer.checks) {
        if (check.id == shows && check.verdict != Verdict::NotApplicable) {
            putExhibit(in.sheet, check.exhibit,
                       (check.exhibit.title.empty() ? checkName(check) : check.exhibit.title) +
                           ", " + questionTitle(answer));
            return;
        }
    }
    in.sheet.put(Kind::Note, questionTitle(answer) + " has no picture ‘" + shows +
                                 "’: name a check that was made, ‘shape’, or, where the method "
                                 "has it, ‘quantiles’ or ‘event’.");
}

}  // namespace

void addPicture(const ItemInput& in) {
    if (in.frame == nullptr) {
        in.sheet.put(Kind::Note, "No table is at hand to draw from.");
        return;
    }
    const DrawnPicture drawn =
        drawPicture(*in.frame, specOf(in.item), in.study.survey, in.study.alpha);
    if (!drawn.nothing.empty()) {
        in.sheet.put(Kind::Note, drawn.nothing);
        return;
    }
    if (drawn.table) {
        putTable(in.sheet, *drawn.table);
        return;
    }
    if (drawn.exhibits.empty()) {
        return;
    }
    const Exhibit& first = drawn.exhibits.front();
    std::string caption = drawn.spec.title.empty() ? first.title : drawn.spec.title;
    if (caption.empty()) {
        caption = joinedNames(drawn.spec.of);
    }
    in.sheet.figureCaption(caption);
    in.sheet.addFigure(pictureDrawing(drawn, kWidth), caption);
    const std::string& note = drawn.exhibits.size() == 1
                                  ? first.subtitle
                                  : (drawn.words.empty() ? first.subtitle : drawn.words.front());
    if (!note.empty() && !note.starts_with("~")) {
        in.sheet.put(Kind::Note, note, "note");
    }
}

void addFigure(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        putFigure(in, *a);
    }
}

}  // namespace rapporto
