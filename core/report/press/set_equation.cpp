// Equations on a page: standard errors stand beneath their numbers, long ones break at signs.
#include "core/report/press/piece.h"

#include <algorithm>

namespace rapporto {
namespace {

struct SetMath {
    LayoutPtr text;
    LayoutPtr beneath;
    double width = 0.0;
    double height = 0.0;
    bool sign = false;
};

constexpr double kIndent = 14.0;
constexpr double kGap = 3.5;

}  // namespace

void setEquation(Column& column, const Type& type, const ReportBlock& block, std::size_t index) {
    Face face;
    face.size = 11.5;
    Face small;
    small.size = 8.5;
    small.colour = "#6B6F7B";
    if (column.turned()) {
        column.begin(false);
    }
    const double room = column.width() - 2.0 * kIndent;
    std::vector<SetMath> pieces;
    for (const MathPiece& piece : block.equation) {
        SetMath one;
        Face own = face;
        own.italic = piece.kind == MathPiece::Kind::Name;
        one.text = type.set(piece.text, own);
        if (widthOf(one.text) > room) {
            one.text = type.set(piece.text, own, room);  // A name longer than the page is wide.
        }
        one.width = widthOf(one.text);
        one.height = heightOf(one.text);
        if (!piece.beneath.empty()) {
            one.beneath = type.set(piece.beneath, small);
            one.width = std::max(one.width, widthOf(one.beneath));
        }
        one.sign = piece.kind == MathPiece::Kind::Sign;
        pieces.push_back(std::move(one));
    }
    column.skip(4.0);
    for (std::size_t from = 0; from < pieces.size();) {
        // As many as go on the line; the last sign begins the next one.
        double width = 0.0;
        std::size_t to = from;
        std::size_t sign = from;
        while (to < pieces.size() && (width + pieces[to].width <= room || to == from)) {
            sign = pieces[to].sign && to > from ? to : sign;
            width += pieces[to].width + kGap;
            ++to;
        }
        if (to < pieces.size() && sign > from) {
            to = sign;
        }
        double upper = 0.0;
        for (std::size_t i = from; i < to; ++i) {
            upper = std::max(upper, pieces[i].height);
        }
        const double height = upper + small.size * small.leading + 3.0;
        column.need(height);
        double x = from == 0 ? kIndent : 2.0 * kIndent;
        for (std::size_t i = from; i < to; ++i) {
            const SetMath& one = pieces[i];
            Piece text =
                linesPiece(one.text, 0, pango_layout_get_line_count(one.text.get()), face.colour);
            text.block = index;
            text.tag = "Formula";
            column.putHere(std::move(text), x + 0.5 * (one.width - widthOf(one.text)));
            if (one.beneath) {
                Piece beneath = linesPiece(one.beneath, 0, 1, small.colour);
                beneath.block = index;
                beneath.tag = "Formula";
                column.putHere(std::move(beneath), x + 0.5 * (one.width - widthOf(one.beneath)),
                               upper - 1.5);
            }
            x += one.width + kGap;
        }
        column.go(height);
        from = to;
    }
    column.go(4.0);
}

}  // namespace rapporto
