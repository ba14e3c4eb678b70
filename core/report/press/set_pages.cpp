// The flow of a report over its pages: words in lines, figures, what keeps together.
#include "core/report/press/piece.h"

#include <pango/pangocairo.h>

#include <algorithm>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

const std::string kInk = "#232733";
const std::string kSoft = "#6B6F7B";

double lineTop(const LayoutPtr& layout, int line) {
    PangoLayoutIter* at = pango_layout_get_iter(layout.get());
    for (int i = 0; i < line && pango_layout_iter_next_line(at); ++i) {
    }
    PangoRectangle logical;
    pango_layout_iter_get_line_extents(at, nullptr, &logical);
    pango_layout_iter_free(at);
    return static_cast<double>(logical.y) / PANGO_SCALE;
}

/// How a kind of block is set.
struct Dress {
    Face face;
    double before = 0.0;
    double after = 6.0;
    double indent = 0.0;  ///< Of all lines.
    bool keepsNext = false;
    const char* tag = "P";
};

Dress dressOf(Kind kind) {
    Dress dress;
    dress.face.colour = kInk;
    switch (kind) {
        case Kind::Heading:
            dress.face.size = 13.0;
            dress.face.italic = true;
            dress.before = 16.0;
            dress.after = 4.0;
            dress.keepsNext = true;
            dress.tag = "H2";
            break;
        case Kind::Caption:
            dress.face.size = 10.5;
            dress.before = 12.0;
            dress.after = 5.0;
            dress.keepsNext = true;
            dress.tag = "Caption";
            break;
        case Kind::Note:
            dress.face.size = 9.2;
            dress.face.colour = kSoft;
            dress.before = 3.0;
            dress.after = 9.0;
            dress.tag = "Note";
            break;
        case Kind::Bullet:
            dress.indent = 14.0;
            dress.after = 3.0;
            dress.tag = "LI";
            break;
        case Kind::Reference:
            dress.face.size = 10.0;
            dress.indent = 18.0;
            dress.after = 3.0;
            dress.tag = "BibEntry";
            break;
        default:
            break;
    }
    return dress;
}

class Setter {
  public:
    Setter(const Type& type, const ReportPages& report)
        : type_(type), report_(report), column_(out_) {}

    SetPages run() {
        head();
        const auto& blocks = report_.blocks;
        for (std::size_t i = 0; i < blocks.size(); ++i) {
            switch (blocks[i].kind) {
                case Kind::Table:
                    setTable(column_, type_, blocks[i], i, [this] { setCaption(); });
                    break;
                case Kind::Figure:
                    figure(i);
                    break;
                case Kind::Equation:
                    setEquation(column_, type_, blocks[i], i);
                    break;
                case Kind::Caption:
                    // Goes with what follows, onto whatever page that takes.
                    caption_ = static_cast<int>(i);
                    if (i + 1 == blocks.size() ||
                        (blocks[i + 1].kind != Kind::Table && blocks[i + 1].kind != Kind::Figure)) {
                        setCaption();
                    }
                    break;
                default:
                    upright(blocks[i]);
                    words(i);
            }
        }
        return std::move(out_);
    }

  private:
    void head() {
        Face title;
        title.size = 20.0;
        title.leading = 1.2;
        lines(type_.set(report_.title, title, column_.width()), kInk, kNoBlock, "H1", 0.0);
        if (!report_.subtitle.empty()) {
            Face face;
            face.size = 12.0;
            face.italic = true;
            column_.skip(2.0);
            lines(type_.set(report_.subtitle, face, column_.width()), kSoft, kNoBlock, "P", 0.0);
        }
        if (!report_.byline.empty()) {
            column_.skip(4.0);
            lines(type_.set(report_.byline, Face{}, column_.width()), kInk, kNoBlock, "P", 0.0);
        }
        column_.go(10.0);
    }

    /// After a table on its side the text goes on upright; its note stays with it.
    void upright(const ReportBlock& block) {
        if (column_.turned() && block.kind != Kind::Note) {
            column_.begin(false);
        }
    }

    void words(std::size_t i) {
        const ReportBlock& block = report_.blocks[i];
        const Dress dress = dressOf(block.kind);
        column_.skip(dress.before);
        const LayoutPtr layout = type_.set(block.text, dress.face, column_.width() - dress.indent);
        double indent = dress.indent;
        if (block.kind == Kind::Reference) {
            // The first line hangs out to the left.
            pango_layout_set_width(layout.get(), static_cast<int>(column_.width() * PANGO_SCALE));
            pango_layout_set_indent(layout.get(), static_cast<int>(-dress.indent * PANGO_SCALE));
            indent = 0.0;
        }
        if (dress.keepsNext) {
            column_.need(heightOf(layout) + 46.0);
        }
        if (block.kind == Kind::Bullet) {
            column_.need(dress.face.size * 2.6);
            const LayoutPtr point = type_.set("•", dress.face);
            Piece mark = linesPiece(point, 0, 1, kInk);
            mark.block = i;
            mark.tag = "Lbl";
            column_.putHere(std::move(mark), 4.0);
        }
        lines(layout, dress.face.colour, i, dress.tag, indent);
        column_.go(dress.after);
    }

    /// Lines over as many pages as they take, two at least on each.
    void lines(const LayoutPtr& layout, const std::string& colour, std::size_t block,
               const char* tag, double indent) {
        const int count = pango_layout_get_line_count(layout.get());
        int from = 0;
        while (from < count) {
            int to = linesWithin(layout, from, column_.room());
            const bool lonely = to < count && (to - from < 2 || count - to < 2);
            if (lonely && to - from > 2) {
                --to;
            } else if (to < count && to - from < 2 && !column_.isTop()) {
                column_.begin(column_.turned());
                continue;
            }
            Piece piece = linesPiece(layout, from, to, colour);
            if (piece.height > column_.room() && !column_.isTop()) {
                column_.begin(column_.turned());
                continue;
            }
            piece.block = block;
            piece.tag = tag;
            column_.put(std::move(piece), indent);
            from = to;
        }
    }

    void setCaption() {
        if (caption_ < 0) {
            return;
        }
        const auto i = static_cast<std::size_t>(std::exchange(caption_, -1));
        words(i);
    }

    void figure(std::size_t i) {
        const ReportBlock& block = report_.blocks[i];
        if (block.figure.width <= 0.0) {
            return;
        }
        if (column_.turned()) {
            column_.begin(false);
        }
        // Its caption takes some 40 points above it.
        const double scale = std::min({1.0, column_.width() / block.figure.width,
                                       (column_.whole() - 60.0) / block.figure.height});
        column_.need(block.figure.height * scale + 46.0);
        setCaption();
        Piece piece;
        piece.block = i;
        piece.tag = "Figure";
        piece.width = block.figure.width * scale;
        piece.height = block.figure.height * scale;
        piece.paint = [&type = type_, drawing = block.figure, scale](cairo_t* cr) {
            cairo_scale(cr, scale, scale);
            paintDrawing(cr, type, drawing);
        };
        column_.put(std::move(piece));
        column_.go(6.0);
    }

    static constexpr std::size_t kNoBlock = static_cast<std::size_t>(-1);

    const Type& type_;
    const ReportPages& report_;
    SetPages out_;
    Column column_;
    int caption_ = -1;
};

}  // namespace

void Column::begin(bool turned) {
    if (!out_->pages.empty() && isTop()) {
        out_->pages.back().turned = turned;
    } else {
        out_->pages.push_back({turned});
    }
    y_ = kMargin;
}

void Column::put(Piece piece, double x) {
    const double height = piece.height;
    putHere(std::move(piece), x);
    go(height);
}

void Column::putHere(Piece piece, double x, double below) {
    piece.page = out_->pages.size() - 1;
    piece.x = kMargin + x;
    piece.y = y_ + below;
    out_->pieces.push_back(std::move(piece));
}

Piece linesPiece(const LayoutPtr& layout, int from, int to, const std::string& colour) {
    const int count = pango_layout_get_line_count(layout.get());
    const double top = lineTop(layout, from);
    Piece piece;
    piece.width = widthOf(layout);
    piece.height = (to >= count ? heightOf(layout) : lineTop(layout, to)) - top;
    piece.paint = [layout, from, to, colour, top](cairo_t* cr) {
        useColour(cr, colour);
        PangoLayoutIter* at = pango_layout_get_iter(layout.get());
        int line = 0;
        do {
            if (line >= from && line < to) {
                PangoRectangle logical;
                pango_layout_iter_get_line_extents(at, nullptr, &logical);
                cairo_move_to(
                    cr, static_cast<double>(logical.x) / PANGO_SCALE,
                    static_cast<double>(pango_layout_iter_get_baseline(at)) / PANGO_SCALE - top);
                PangoLayoutLine* set = pango_layout_iter_get_line_readonly(at);
                if (cairo_surface_get_type(cairo_get_target(cr)) == CAIRO_SURFACE_TYPE_IMAGE) {
                    // On dots letters would be moved to whole ones, and words would fall apart.
                    pango_cairo_layout_line_path(cr, set);
                    cairo_fill(cr);
                } else {
                    pango_cairo_show_layout_line(cr, set);
                }
            }
            ++line;
        } while (line < to && pango_layout_iter_next_line(at));
        pango_layout_iter_free(at);
    };
    return piece;
}

int linesWithin(const LayoutPtr& layout, int from, double height) {
    const int count = pango_layout_get_line_count(layout.get());
    const double top = lineTop(layout, from);
    int to = count;
    while (to > from + 1 && (to == count ? heightOf(layout) : lineTop(layout, to)) - top > height) {
        --to;
    }
    return to;
}

SetPages setPages(const Type& type, const ReportPages& report) {
    return Setter(type, report).run();
}

}  // namespace rapporto
