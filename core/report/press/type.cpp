#include "core/report/press/type.h"

#include "core/base/markup.h"
#include "core/base/memory_file.h"
#include "core/report/press/fonts.h"

#include <fontconfig/fontconfig.h>
#include <pango/pangocairo.h>
#include <pango/pangofc-fontmap.h>

#include <cmath>
#include <numbers>
#include <vector>

namespace rapporto {

struct Type::Parts {
    std::vector<std::unique_ptr<MemoryFile>> files;
    FcConfig* config = nullptr;
    PangoFontMap* map = nullptr;
    PangoContext* context = nullptr;

    ~Parts() {
        if (context != nullptr) {
            g_object_unref(context);
        }
        if (map != nullptr) {
            // Faces are read from our files up to here.
            pango_fc_font_map_cache_clear(PANGO_FC_FONT_MAP(map));
            g_object_unref(map);
        }
        if (config != nullptr) {
            FcConfigDestroy(config);
        }
    }
};

namespace {

/// Lays the shipped faces out in memory and names them to the finder of fonts.
bool takeShipped(FcConfig* config, std::vector<std::unique_ptr<MemoryFile>>& files) {
    for (const ShippedFont& font : shippedFonts()) {
        files.push_back(std::make_unique<MemoryFile>(font.bytes));
        const std::string path = files.back()->path();
        if (!files.back()->isOpen() ||
            FcConfigAppFontAddFile(config, reinterpret_cast<const FcChar8*>(path.c_str())) ==
                FcFalse) {
            return false;
        }
    }
    return true;
}

/// A number and what it is of stay on one line: “p = .032”, “1.2 %”; nor is “.5” broken behind its
/// mark, which the breaker takes for the end of a sentence.
void keepTogether(PangoAttrList* attributes, const std::string& text) {
    const auto isDigit = [&](std::size_t i) {
        return i < text.size() && text[i] >= '0' && text[i] <= '9';
    };
    for (std::size_t i = 0; i < text.size(); ++i) {
        std::size_t end = i;
        if (text.compare(i, 2, "p ") == 0 && i + 3 < text.size() && text[i + 3] == ' ' &&
            (text[i + 2] == '=' || text[i + 2] == '<' || text[i + 2] == '>')) {
            end = i + 4;
        }
        while (isDigit(end) || (end < text.size() && text[end] == '.' && isDigit(end + 1))) {
            ++end;
        }
        if (text.compare(end, 2, " %") == 0 && end > i) {
            end += 2;
        }
        if (end > i + 1) {
            PangoAttribute* whole = pango_attr_allow_breaks_new(FALSE);
            whole->start_index = static_cast<guint>(i);
            whole->end_index = static_cast<guint>(end);
            pango_attr_list_insert(attributes, whole);
            i = end - 1;
        }
    }
}

std::string pangoMarkup(const std::string& marked) {
    std::string out;
    for (const TextRun& run : textRuns(marked)) {
        const std::string safe = escapedText(run.text);
        out += run.bold ? "<b>" + safe + "</b>" : safe;
    }
    return out;
}

}  // namespace

Type::Type(std::unique_ptr<Parts> parts) : parts_(std::move(parts)) {}

Type::~Type() = default;

Result<std::shared_ptr<const Type>> Type::make() {
    // Finding the machine’s fonts takes longer than setting a page; each thread has its own.
    thread_local std::shared_ptr<const Type> kept;
    if (kept != nullptr) {
        return kept;
    }
    auto parts = std::make_unique<Parts>();
    // The machine’s own fonts stand behind ours, for scripts that ours do not have.
    parts->config = FcInitLoadConfigAndFonts();
    if (parts->config == nullptr || !takeShipped(parts->config, parts->files)) {
        return refuse(ErrorCode::File, "the faces of the page cannot be loaded", "report",
                      "Save the report as HTML or LaTeX.");
    }
    parts->map = pango_cairo_font_map_new_for_font_type(CAIRO_FONT_TYPE_FT);
    pango_fc_font_map_set_config(PANGO_FC_FONT_MAP(parts->map), parts->config);
    parts->context = pango_font_map_create_context(parts->map);
    // Measured as printed, whatever it is shown on.
    pango_context_set_round_glyph_positions(parts->context, FALSE);
    cairo_font_options_t* options = cairo_font_options_create();
    cairo_font_options_set_hint_style(options, CAIRO_HINT_STYLE_NONE);
    cairo_font_options_set_hint_metrics(options, CAIRO_HINT_METRICS_OFF);
    cairo_font_options_set_antialias(options, CAIRO_ANTIALIAS_GRAY);
    pango_cairo_context_set_font_options(parts->context, options);
    cairo_font_options_destroy(options);
    kept = std::shared_ptr<const Type>(new Type(std::move(parts)));
    return kept;
}

LayoutPtr Type::set(const std::string& marked, const Face& face, std::optional<double> width,
                    PangoAlignment align) const {
    LayoutPtr layout(pango_layout_new(parts_->context),
                     [](PangoLayout* one) { g_object_unref(one); });
    PangoFontDescription* description = pango_font_description_new();
    pango_font_description_set_family(description, face.sans ? "Lato" : "STIX");
    pango_font_description_set_absolute_size(description, face.size * PANGO_SCALE);
    pango_font_description_set_style(description,
                                     face.italic ? PANGO_STYLE_ITALIC : PANGO_STYLE_NORMAL);
    pango_font_description_set_weight(description,
                                      face.bold ? PANGO_WEIGHT_BOLD : PANGO_WEIGHT_NORMAL);
    pango_layout_set_font_description(layout.get(), description);
    pango_font_description_free(description);
    const std::string markup = pangoMarkup(marked);
    pango_layout_set_markup(layout.get(), markup.c_str(), static_cast<int>(markup.size()));
    pango_layout_set_alignment(layout.get(), align);
    pango_layout_set_wrap(layout.get(), PANGO_WRAP_WORD_CHAR);
    // Lines as far apart as the size asks, whatever face a letter had to come from.
    PangoAttrList* attributes = pango_layout_get_attributes(layout.get());
    PangoAttrList* own =
        attributes != nullptr ? pango_attr_list_copy(attributes) : pango_attr_list_new();
    pango_attr_list_insert(own, pango_attr_line_height_new_absolute(
                                    static_cast<int>(face.size * face.leading * PANGO_SCALE)));
    keepTogether(own, pango_layout_get_text(layout.get()));
    pango_layout_set_attributes(layout.get(), own);
    pango_attr_list_unref(own);
    if (width) {
        pango_layout_set_width(layout.get(), static_cast<int>(*width * PANGO_SCALE));
    }
    return layout;
}

double widthOf(const LayoutPtr& layout) {
    PangoRectangle logical;
    pango_layout_get_extents(layout.get(), nullptr, &logical);
    return static_cast<double>(logical.width) / PANGO_SCALE;
}

double heightOf(const LayoutPtr& layout) {
    PangoRectangle logical;
    pango_layout_get_extents(layout.get(), nullptr, &logical);
    return static_cast<double>(logical.height) / PANGO_SCALE;
}

double baselineOf(const LayoutPtr& layout) {
    return static_cast<double>(pango_layout_get_baseline(layout.get())) / PANGO_SCALE;
}

void useColour(cairo_t* cr, const std::string& colour, double opacity) {
    const auto part = [&](std::size_t at) {
        return colour.size() == 7 ? std::stoi(colour.substr(at, 2), nullptr, 16) / 255.0 : 0.0;
    };
    cairo_set_source_rgba(cr, part(1), part(3), part(5), opacity);
}

namespace {

void inkPath(cairo_t* cr, const Drawing::Pen& pen) {
    if (!pen.fill.empty()) {
        useColour(cr, pen.fill, pen.opacity);
        cairo_fill_preserve(cr);
    }
    if (!pen.stroke.empty()) {
        const double dashes[] = {6.0, 4.0};
        cairo_set_dash(cr, dashes, pen.dashed ? 2 : 0, 0.0);
        cairo_set_line_width(cr, pen.width);
        useColour(cr, pen.stroke);
        cairo_stroke_preserve(cr);
    }
    cairo_new_path(cr);
}

void paintWords(cairo_t* cr, const Type& type, const Drawing::Shape& shape) {
    Face face;
    face.size = shape.size;
    face.bold = shape.bold;
    // A picture's words are no marked text.
    const LayoutPtr layout = type.set(replacedAll(shape.words, "**", "*\u2060*"), face);
    const double shift = shape.anchor == Drawing::Anchor::Start    ? 0.0
                         : shape.anchor == Drawing::Anchor::Middle ? -0.5 * widthOf(layout)
                                                                   : -widthOf(layout);
    cairo_save(cr);
    cairo_translate(cr, shape.points.front().x, shape.points.front().y);
    cairo_move_to(cr, shift, -baselineOf(layout));
    useColour(cr, shape.pen.fill);
    if (cairo_surface_get_type(cairo_get_target(cr)) == CAIRO_SURFACE_TYPE_IMAGE) {
        pango_cairo_layout_path(cr, layout.get());  // Letters stay where they were measured.
        cairo_fill(cr);
    } else {
        pango_cairo_show_layout(cr, layout.get());
    }
    cairo_restore(cr);
}

}  // namespace

void paintDrawing(cairo_t* cr, const Type& type, const Drawing& drawing) {
    for (const Drawing::Shape& shape : drawing.shapes) {
        switch (shape.kind) {
            case Drawing::Shape::Kind::Path: {
                const auto& p = shape.points;
                cairo_move_to(cr, p[0].x, p[0].y);
                if (shape.curved && p.size() == 3) {
                    // A curve of degree two as one of degree three.
                    cairo_curve_to(cr, p[0].x + 2.0 / 3.0 * (p[1].x - p[0].x),
                                   p[0].y + 2.0 / 3.0 * (p[1].y - p[0].y),
                                   p[2].x + 2.0 / 3.0 * (p[1].x - p[2].x),
                                   p[2].y + 2.0 / 3.0 * (p[1].y - p[2].y), p[2].x, p[2].y);
                } else {
                    for (std::size_t i = 1; i < p.size(); ++i) {
                        cairo_line_to(cr, p[i].x, p[i].y);
                    }
                }
                if (shape.closed) {
                    cairo_close_path(cr);
                }
                inkPath(cr, shape.pen);
                break;
            }
            case Drawing::Shape::Kind::Circle:
                cairo_new_path(cr);  // Else a line leads to it from the end of the last words.
                cairo_arc(cr, shape.points.front().x, shape.points.front().y, shape.size, 0.0,
                          2.0 * std::numbers::pi);
                inkPath(cr, shape.pen);
                break;
            case Drawing::Shape::Kind::Words:
                paintWords(cr, type, shape);
                break;
        }
    }
}

}  // namespace rapporto
