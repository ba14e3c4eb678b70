#include "core/report/writers/math_markup.h"

#include "core/base/markup.h"

namespace rapporto {

std::string mathMarkup(const MathRow& row) {
    std::string out = "<mrow>";
    for (const MathPiece& piece : row) {
        const std::string tag = piece.kind == MathPiece::Kind::Name     ? "mtext"
                                : piece.kind == MathPiece::Kind::Number ? "mn"
                                                                        : "mo";
        const std::string inner = "<" + tag + ">" + escapedText(piece.text) + "</" + tag + ">";
        out += piece.beneath.empty() ? inner
                                     : "<munder>" + inner + "<mtext>" + escapedText(piece.beneath) +
                                           "</mtext></munder>";
    }
    return out + "</mrow>";
}

}  // namespace rapporto
