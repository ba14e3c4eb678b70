// Items of the report that are pictures: of Explore, of a check, of an effect's shape.
#include "core/base/format.h"
#include "core/left/left_picture.h"
#include "core/picture/figure.h"
#include "core/report/named_figures.h"
#include "core/report/report_items.h"

#include <algorithm>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

/// The picture that an item holds, or that of its variables.
PictureSpec specOf(const ReportItem& item) {
    PictureSpec spec = item.picture ? *item.picture : PictureSpec{};
    if (!item.picture) {
        spec.of = item.variables;
    }
    return spec;
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

}  // namespace

void addPicture(const ItemInput& in) {
    if (in.frame == nullptr) {
        in.sheet.put(Kind::Note, "No table is at hand to draw from.");
        return;
    }
    const auto made = pictureOf(in.study, *in.frame, specOf(in.item), in.job);
    if (!made || !made->nothing.empty()) {
        in.sheet.put(Kind::Note, made ? made->nothing : made.error().text());
        return;
    }
    const DrawnPicture& drawn = *made;
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
    in.sheet.addFigure(pictureDrawing(drawn, kFigureWidth), caption);
    const std::string& note = drawn.exhibits.size() == 1
                                  ? first.subtitle
                                  : (drawn.words.empty() ? first.subtitle : drawn.words.front());
    if (!note.empty() && !note.starts_with("~")) {
        in.sheet.put(Kind::Note, note, "note");
    }
}

void addFigure(const ItemInput& in) {
    for (const Answer* answer : in.answers) {
        const auto figure = namedFigure(in, *answer);
        if (!figure) {
            in.sheet.put(Kind::Note, figure.error().text());
            continue;
        }
        in.sheet.figureCaption(figure->caption);
        in.sheet.addFigure(figure->drawing, figure->note.empty()
                                                ? figure->caption
                                                : figure->caption + ": " + figure->note);
        if (!figure->note.empty()) {
            in.sheet.put(Kind::Note, figure->note, "note");
        }
    }
}

}  // namespace rapporto
