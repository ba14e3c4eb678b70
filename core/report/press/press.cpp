#include "core/report/press/press.h"

#include "core/base/markup.h"
#include "core/report/press/piece.h"
#include "core/report/press/told_pdf.h"
#include "core/report/writers/writer.h"

#include <cairo-pdf.h>
#include <pango/pangocairo.h>

#include <cmath>
#include <string_view>

namespace rapporto {

struct Press::Parts {
    std::shared_ptr<const Type> type;
    SetPages set;
    std::vector<Place> places;
    std::string title;
    PdfTold told;
};

namespace {

cairo_status_t takeBytes(void* into, const unsigned char* bytes, unsigned length) {
    static_cast<std::string*>(into)->append(reinterpret_cast<const char*>(bytes), length);
    return CAIRO_STATUS_SUCCESS;
}

struct Surface {
    explicit Surface(cairo_surface_t* of) : surface(of), cr(cairo_create(of)) {}

    ~Surface() {
        cairo_destroy(cr);
        cairo_surface_destroy(surface);
    }

    Surface(const Surface&) = delete;
    Surface& operator=(const Surface&) = delete;

    cairo_surface_t* surface;
    cairo_t* cr;
};

tl::unexpected<Refusal> cannotPrint(cairo_status_t status) {
    return refuse(ErrorCode::File,
                  std::string("the page cannot be made: ") + cairo_status_to_string(status),
                  "report", "Save the report as HTML or LaTeX.");
}

/// What stands open in the document’s structure while a page is painted: a table, its row.
class Tags {
  public:
    explicit Tags(cairo_t* cr) : cr_(cr) {}

    ~Tags() { leaveTable(); }

    Tags(const Tags&) = delete;
    Tags& operator=(const Tags&) = delete;

    void enter(const Piece& piece) {
        if (piece.row < 0) {
            leaveTable();
            return;
        }
        if (table_ && block_ != piece.block) {
            leaveTable();
        }
        if (!table_) {
            cairo_tag_begin(cr_, "Table", nullptr);
            table_ = true;
            block_ = piece.block;
        }
        if (row_ != piece.row) {
            leaveRow();
            cairo_tag_begin(cr_, "TR", nullptr);
            row_ = piece.row;
        }
    }

  private:
    void leaveRow() {
        if (row_ >= 0) {
            cairo_tag_end(cr_, "TR");
            row_ = -1;
        }
    }

    void leaveTable() {
        leaveRow();
        if (table_) {
            cairo_tag_end(cr_, "Table");
            table_ = false;
        }
    }

    cairo_t* cr_;
    bool table_ = false;
    int row_ = -1;
    std::size_t block_ = 0;
};

void paintPage(cairo_t* cr, const Type& type, const SetPages& set, std::size_t page, bool tagged) {
    {
        Tags tags(cr);
        for (const Piece& piece : set.pieces) {
            if (piece.page != page) {
                continue;
            }
            const bool named = tagged && piece.tag != nullptr;
            if (named) {
                tags.enter(piece);
                cairo_tag_begin(cr, piece.tag, nullptr);
            }
            cairo_save(cr);
            cairo_translate(cr, piece.x, piece.y);
            piece.paint(cr);
            cairo_restore(cr);
            if (named) {
                cairo_tag_end(cr, piece.tag);
            }
        }
    }
    if (set.pages.size() > 1) {
        Face face;
        face.size = 9.0;
        const LayoutPtr number = type.set(std::to_string(page + 1), face);
        const bool turned = set.pages[page].turned;
        useColour(cr, "#6B6F7B");
        cairo_move_to(cr, 0.5 * ((turned ? kLongSide : kShortSide) - widthOf(number)),
                      (turned ? kShortSide : kLongSide) - 0.6 * kMargin);
        pango_cairo_show_layout(cr, number.get());
    }
}

}  // namespace

Press::Press(std::unique_ptr<Parts> parts) : parts_(std::move(parts)) {}

Press::~Press() = default;

Result<std::shared_ptr<const Press>> Press::make(const ReportPages& report) {
    auto type = Type::make();
    if (!type) {
        return tl::make_unexpected(type.error());
    }
    auto parts = std::make_unique<Parts>();
    parts->type = *std::move(type);
    parts->set = setPages(*parts->type, report);
    parts->title = report.title;
    parts->told.language = report.language;
    for (std::size_t page = 0; page < parts->set.pages.size(); ++page) {
        for (const Piece& piece : parts->set.pieces) {
            if (piece.page == page && piece.tag != nullptr &&
                std::string_view(piece.tag) == "Figure") {
                parts->told.alternatives.push_back(withoutMarks(report.blocks[piece.block].text));
            }
        }
    }
    for (const Piece& piece : parts->set.pieces) {
        parts->places.push_back(
            {piece.block, piece.page, piece.x, piece.y, piece.width, piece.height, piece.part});
    }
    return std::shared_ptr<const Press>(new Press(std::move(parts)));
}

std::size_t Press::pages() const { return parts_->set.pages.size(); }

Press::Sheet Press::sheet(std::size_t page) const {
    return parts_->set.pages[page].turned ? Sheet{kLongSide, kShortSide}
                                          : Sheet{kShortSide, kLongSide};
}

const std::vector<Press::Place>& Press::places() const { return parts_->places; }

void Press::paint(std::size_t page, double scale, unsigned char* pixels, int width, int height,
                  int bytesPerLine) const {
    const Surface surface(cairo_image_surface_create_for_data(pixels, CAIRO_FORMAT_ARGB32, width,
                                                              height, bytesPerLine));
    cairo_set_source_rgb(surface.cr, 1.0, 1.0, 1.0);
    cairo_paint(surface.cr);
    cairo_scale(surface.cr, scale, scale);
    paintPage(surface.cr, *parts_->type, parts_->set, page, false);
    cairo_surface_flush(surface.surface);
}

Result<std::string> Press::pdf() const {
    std::string bytes;
    cairo_status_t status = CAIRO_STATUS_SUCCESS;
    {
        const Surface surface(
            cairo_pdf_surface_create_for_stream(&takeBytes, &bytes, kShortSide, kLongSide));
        cairo_pdf_surface_set_metadata(surface.surface, CAIRO_PDF_METADATA_TITLE,
                                       parts_->title.c_str());
        // The same report gives the same bytes.
        cairo_pdf_surface_set_metadata(surface.surface, CAIRO_PDF_METADATA_CREATE_DATE,
                                       "1980-01-01T00:00:00Z");
        for (std::size_t page = 0; page < pages(); ++page) {
            const Sheet size = sheet(page);
            cairo_pdf_surface_set_size(surface.surface, size.width, size.height);
            paintPage(surface.cr, *parts_->type, parts_->set, page, true);
            cairo_show_page(surface.cr);
        }
        status = cairo_status(surface.cr);
        cairo_surface_finish(surface.surface);
        status = status == CAIRO_STATUS_SUCCESS ? cairo_surface_status(surface.surface) : status;
    }
    if (status != CAIRO_STATUS_SUCCESS) {
        return cannotPrint(status);
    }
    return toldPdf(std::move(bytes), parts_->told);
}

Result<std::string> drawingPdf(const Drawing& drawing, const std::string& title) {
    const auto type = Type::make();
    if (!type) {
        return tl::make_unexpected(type.error());
    }
    std::string bytes;
    cairo_status_t status = CAIRO_STATUS_SUCCESS;
    {
        const Surface surface(
            cairo_pdf_surface_create_for_stream(&takeBytes, &bytes, drawing.width, drawing.height));
        cairo_pdf_surface_set_metadata(surface.surface, CAIRO_PDF_METADATA_TITLE, title.c_str());
        cairo_pdf_surface_set_metadata(surface.surface, CAIRO_PDF_METADATA_CREATE_DATE,
                                       "1980-01-01T00:00:00Z");
        paintDrawing(surface.cr, **type, drawing);
        cairo_show_page(surface.cr);
        status = cairo_status(surface.cr);
        cairo_surface_finish(surface.surface);
    }
    if (status != CAIRO_STATUS_SUCCESS) {
        return cannotPrint(status);
    }
    return bytes;
}

Result<std::string> drawingPng(const Drawing& drawing, double dotsPerInch) {
    const auto type = Type::make();
    if (!type) {
        return tl::make_unexpected(type.error());
    }
    const double scale = dotsPerInch / 72.0;
    std::string bytes;
    const Surface surface(cairo_image_surface_create(
        CAIRO_FORMAT_ARGB32, static_cast<int>(std::ceil(drawing.width * scale)),
        static_cast<int>(std::ceil(drawing.height * scale))));
    cairo_set_source_rgb(surface.cr, 1.0, 1.0, 1.0);
    cairo_paint(surface.cr);
    cairo_scale(surface.cr, scale, scale);
    paintDrawing(surface.cr, **type, drawing);
    cairo_surface_flush(surface.surface);
    const cairo_status_t status =
        cairo_surface_write_to_png_stream(surface.surface, &takeBytes, &bytes);
    if (status != CAIRO_STATUS_SUCCESS) {
        return cannotPrint(status);
    }
    return bytes;
}

Result<WrittenReport> writePdf(const ReportPages& pages, const std::string& /*stem*/) {
    const auto press = Press::make(pages);
    if (!press) {
        return tl::make_unexpected(press.error());
    }
    auto bytes = (*press)->pdf();
    if (!bytes) {
        return tl::make_unexpected(bytes.error());
    }
    return WrittenReport{*std::move(bytes), {}};
}

}  // namespace rapporto
