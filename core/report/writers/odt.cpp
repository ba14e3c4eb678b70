// A report as an OpenDocument text (ISO/IEC 26300): real headings and tables in named styles,
// equations as MathML objects, figures as SVG.
#include "core/base/markup.h"
#include "core/report/writers/archive.h"
#include "core/report/writers/math_markup.h"
#include "core/report/writers/writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

const std::string kHead = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n";

const std::string kNames =
    "xmlns:office=\"urn:oasis:names:tc:opendocument:xmlns:office:1.0\" "
    "xmlns:style=\"urn:oasis:names:tc:opendocument:xmlns:style:1.0\" "
    "xmlns:text=\"urn:oasis:names:tc:opendocument:xmlns:text:1.0\" "
    "xmlns:table=\"urn:oasis:names:tc:opendocument:xmlns:table:1.0\" "
    "xmlns:draw=\"urn:oasis:names:tc:opendocument:xmlns:drawing:1.0\" "
    "xmlns:fo=\"urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0\" "
    "xmlns:svg=\"urn:oasis:names:tc:opendocument:xmlns:svg-compatible:1.0\" "
    "xmlns:xlink=\"http://www.w3.org/1999/xlink\" "
    "xmlns:dc=\"http://purl.org/dc/elements/1.1/\" office:version=\"1.2\"";

// Points between the margins of 25 mm of an A4 page, upright and turned.
constexpr double kUprightRoom = 453.5;
constexpr double kTurnedRoom = 700.1;

std::string paragraphStyle(const char* name, const char* parent, const char* paragraph,
                           const char* letters, const char* more = "") {
    return fmt::format(
        "<style:style style:name=\"{}\" style:family=\"paragraph\"{}{}><style:paragraph-properties "
        "{}/><style:text-properties {}/></style:style>",
        name, *parent == 0 ? "" : fmt::format(" style:parent-style-name=\"{}\"", parent), more,
        paragraph, letters);
}

std::string pageLayout(const char* name, bool turned) {
    return fmt::format(
        "<style:page-layout style:name=\"{}\"><style:page-layout-properties "
        "fo:page-width=\"{}mm\" fo:page-height=\"{}mm\" style:print-orientation=\"{}\" "
        "fo:margin-top=\"25mm\" fo:margin-bottom=\"25mm\" fo:margin-left=\"25mm\" "
        "fo:margin-right=\"25mm\"/></style:page-layout>",
        name, turned ? 297 : 210, turned ? 210 : 297, turned ? "landscape" : "portrait");
}

std::string styles() {
    return kHead + "<office:document-styles " + kNames +
           "><office:font-face-decls><style:font-face style:name=\"Times New Roman\" "
           "svg:font-family=\"&apos;Times New Roman&apos;\" "
           "style:font-family-generic=\"roman\"/></office:font-face-decls><office:styles>" +
           paragraphStyle("Standard", "", "fo:margin-bottom=\"6pt\" fo:line-height=\"120%\"",
                          "style:font-name=\"Times New Roman\" fo:font-size=\"11pt\"",
                          " style:class=\"text\"") +
           paragraphStyle("Title", "Standard", "fo:margin-bottom=\"3pt\"",
                          "fo:font-size=\"18pt\"") +
           paragraphStyle("Subtitle", "Standard", "fo:margin-bottom=\"3pt\"",
                          "fo:font-style=\"italic\" fo:color=\"#6B6F7B\"") +
           paragraphStyle("Heading_20_1", "Standard",
                          "fo:margin-top=\"18pt\" fo:margin-bottom=\"4pt\" "
                          "fo:keep-with-next=\"always\"",
                          "fo:font-size=\"13pt\" fo:font-style=\"italic\"",
                          " style:display-name=\"Heading 1\" style:default-outline-level=\"1\"") +
           paragraphStyle("Caption", "Standard",
                          "fo:margin-top=\"12pt\" fo:margin-bottom=\"3pt\" "
                          "fo:keep-with-next=\"always\"",
                          "fo:color=\"#232733\"") +
           paragraphStyle("Note", "Standard", "fo:margin-top=\"3pt\"",
                          "fo:font-size=\"9.5pt\" fo:color=\"#6B6F7B\"") +
           paragraphStyle("Reference", "Standard",
                          "fo:margin-left=\"7.5mm\" fo:text-indent=\"-7.5mm\" "
                          "fo:margin-bottom=\"3pt\"",
                          "fo:color=\"#232733\"") +
           paragraphStyle("Table_20_Text", "Standard", "fo:margin-bottom=\"0pt\"",
                          "fo:font-size=\"9.5pt\"", " style:display-name=\"Table Text\"") +
           paragraphStyle("Table_20_Number", "Table_20_Text", "fo:text-align=\"end\"",
                          "fo:font-size=\"9.5pt\"", " style:display-name=\"Table Number\"") +
           paragraphStyle("Table_20_Head", "Table_20_Text", "fo:text-align=\"center\"",
                          "fo:font-size=\"9.5pt\"", " style:display-name=\"Table Head\"") +
           "<style:style style:name=\"Strong\" style:family=\"text\"><style:text-properties "
           "fo:font-weight=\"bold\"/></style:style></office:styles><office:automatic-styles>" +
           pageLayout("PageUpright", false) + pageLayout("PageTurned", true) +
           "</office:automatic-styles><office:master-styles><style:master-page "
           "style:name=\"Standard\" style:page-layout-name=\"PageUpright\"/><style:master-page "
           "style:name=\"Turned\" style:page-layout-name=\"PageTurned\"/></office:master-styles>"
           "</office:document-styles>";
}

/// Runs of blanks would melt into one.
std::string inText(const std::string& text) {
    return replacedAll(escapedText(text), "  ", " <text:s/>");
}

std::string runsOf(const std::string& marked) {
    std::string out;
    for (const TextRun& run : textRuns(marked)) {
        out += run.bold
                   ? "<text:span text:style-name=\"Strong\">" + inText(run.text) + "</text:span>"
                   : inText(run.text);
    }
    return out;
}

std::string paragraph(const std::string& style, const std::string& inner) {
    return "<text:p text:style-name=\"" + style + "\">" + inner + "</text:p>";
}

std::string mathOf(const MathRow& row) {
    return kHead + "<math xmlns=\"http://www.w3.org/1998/Math/MathML\">" + mathMarkup(row) +
           "</math>";
}

class Document {
  public:
    Result<WrittenReport> write(const ReportPages& pages) {
        body_ += paragraph("Title", runsOf(pages.title));
        if (!pages.subtitle.empty()) {
            body_ += paragraph("Subtitle", runsOf(pages.subtitle));
        }
        if (!pages.byline.empty()) {
            body_ += paragraph("Standard", runsOf(pages.byline));
        }
        for (const ReportBlock& block : pages.blocks) {
            add(block);
        }
        return packed(pages);
    }

  private:
    void add(const ReportBlock& b) {
        switch (b.kind) {
            case Kind::Heading:
                body_ += "<text:h text:style-name=\"" + placed("Heading_20_1") +
                         "\" text:outline-level=\"1\">" + runsOf(b.text) + "</text:h>";
                break;
            case Kind::Paragraph:
                body_ += paragraph(placed("Standard"), runsOf(b.text));
                break;
            case Kind::Bullet:
                body_ += "<text:list><text:list-item>" +
                         paragraph(placed("Standard"), runsOf(b.text)) +
                         "</text:list-item></text:list>";
                break;
            case Kind::Caption:
                // Held back: a table that lies on its side takes its caption along.
                caption_ = b.text;
                break;
            case Kind::Note:
                body_ += paragraph(placed("Note"), runsOf(b.text));
                break;
            case Kind::Reference:
                body_ += paragraph(placed("Reference"), runsOf(b.text));
                break;
            case Kind::Equation:
                for (const MathRow& line : brokenEquation(b.equation, kUprightRoom, 12.0)) {
                    equation(line);
                }
                break;
            case Kind::Table:
                table(b);
                break;
            case Kind::Figure:
                figure(b);
                break;
        }
    }

    /// The style for the next paragraph: where the kind of page changes, one of its own that says
    /// so.
    std::string placed(const std::string& style, bool turned = false) {
        if (turned == turned_) {
            return style;
        }
        turned_ = turned;
        const std::string name = fmt::format("P{}", ++own_);
        automatic_ += fmt::format(
            "<style:style style:name=\"{}\" style:family=\"paragraph\" "
            "style:parent-style-name=\"{}\" style:master-page-name=\"{}\"><style:paragraph-"
            "properties style:page-number=\"auto\"/></style:style>",
            name, style, turned ? "Turned" : "Standard");
        return name;
    }

    void equation(const MathRow& row) {
        const std::string name = fmt::format("Equation{}", ++equations_);
        files_.push_back({name + "/content.xml", mathOf(row)});
        manifest_ += fmt::format(
            "<manifest:file-entry manifest:full-path=\"{0}/\" "
            "manifest:media-type=\"application/vnd.oasis.opendocument.formula\"/>"
            "<manifest:file-entry manifest:full-path=\"{0}/content.xml\" "
            "manifest:media-type=\"text/xml\"/>",
            name);
        body_ += paragraph(placed("Standard"),
                           fmt::format("<draw:frame draw:name=\"{0}\" "
                                       "text:anchor-type=\"as-char\"><draw:object "
                                       "xlink:href=\"./{0}\" xlink:type=\"simple\" "
                                       "xlink:show=\"embed\" xlink:actuate=\"onLoad\"/>"
                                       "</draw:frame>",
                                       name));
    }

    void table(const ReportBlock& b) {
        const auto natural = b.columnWidths(9.5);
        const double pad = 7.0;
        double sum = 0.0;
        for (const double one : natural) {
            sum += one + pad;
        }
        const bool words = b.holdsSentences();
        const auto shared = sharedWidths(natural, kUprightRoom, pad);
        const bool turned = !words && sum > kUprightRoom;
        const double room = turned ? kTurnedRoom : kUprightRoom;
        const double shrink = words ? 1.0 : std::min(1.0, room / sum);
        body_ += paragraph(placed("Caption", turned), runsOf(std::exchange(caption_, {})));
        const int number = ++tables_;
        const std::string name = fmt::format("Table{}", number);
        automatic_ += fmt::format(
            "<style:style style:name=\"{}\" style:family=\"table\"><style:table-properties "
            "style:width=\"{:.1f}pt\" table:align=\"left\" fo:border-top=\"none\"/></style:style>",
            name, words ? room : std::max(std::min(sum, room), 0.75 * kUprightRoom));
        body_ += "<table:table table:name=\"" + name + "\" table:style-name=\"" + name + "\">";
        for (std::size_t c = 0; c < natural.size(); ++c) {
            const double spare = c == 0 && !words ? std::max(0.0, 0.75 * kUprightRoom - sum) : 0.0;
            const double width = words ? shared[c] + pad : (natural[c] + pad) * shrink + spare;
            automatic_ += fmt::format(
                "<style:style style:name=\"{}C{}\" style:family=\"table-column\"><style:table-"
                "column-properties style:column-width=\"{:.1f}pt\"/></style:style>",
                name, c + 1, width);
            body_ += fmt::format("<table:table-column table:style-name=\"{}C{}\"/>", name, c + 1);
        }
        const std::string letters = lettersOf(shrink);
        for (std::size_t r = 0; r < b.cells.size(); ++r) {
            body_ += r == 0 ? "<table:table-header-rows>" : "";
            row(b, r, letters);
            body_ += r + 1 == b.heads ? "</table:table-header-rows>" : "";
        }
        body_ += (b.cells.size() < b.heads ? "</table:table-header-rows>" : "") +
                 std::string("</table:table>");
    }

    /// The suffix of cell paragraphs in smaller letters, where a table is shrunk to the page.
    std::string lettersOf(double shrink) {
        const double size = std::max(5.0, std::floor(19.0 * shrink) / 2.0);
        if (size >= 9.5) {
            return {};
        }
        const std::string suffix = fmt::format("S{:.0f}", size * 10.0);
        if (shrunk_.insert({suffix, true}).second) {
            for (const char* style : {"Table_20_Text", "Table_20_Number", "Table_20_Head"}) {
                automatic_ += fmt::format(
                    "<style:style style:name=\"{0}{1}\" style:family=\"paragraph\" "
                    "style:parent-style-name=\"{0}\"><style:text-properties "
                    "fo:font-size=\"{2:.1f}pt\"/></style:style>",
                    style, suffix, size);
            }
        }
        return suffix;
    }

    void row(const ReportBlock& b, std::size_t r, const std::string& letters) {
        const bool rule = b.hasRule(r);
        const bool last = r + 1 == b.cells.size();
        body_ += "<table:table-row>";
        std::size_t at = 0;
        for (const Cell& cell : b.cells[r]) {
            const bool over = r < b.heads && cell.span > 1 && !cell.text.empty();
            const std::string border = cellStyle(r == 0, rule || over, last);
            const char* style = at == 0 || b.holdsSentences() ? "Table_20_Text"
                                : cell.span > 1               ? "Table_20_Head"
                                                              : "Table_20_Number";
            body_ += "<table:table-cell table:style-name=\"" + border +
                     "\" office:value-type=\"string\"" +
                     (cell.span > 1 ? fmt::format(" table:number-columns-spanned=\"{}\"", cell.span)
                                    : "") +
                     ">" + paragraph(style + letters, runsOf(cell.text)) + "</table:table-cell>";
            for (int more = 1; more < cell.span; ++more) {
                body_ += "<table:covered-table-cell/>";
            }
            at += static_cast<std::size_t>(cell.span);
        }
        body_ += "</table:table-row>";
    }

    std::string cellStyle(bool first, bool rule, bool last) {
        const std::string name = std::string("Cell") + (first ? "Top" : "") +
                                 (last   ? "End"
                                  : rule ? "Rule"
                                         : "");
        if (cells_.insert({name, true}).second) {
            automatic_ += fmt::format(
                "<style:style style:name=\"{}\" style:family=\"table-cell\"><style:table-cell-"
                "properties fo:padding=\"1pt\" fo:border-top=\"{}\" fo:border-bottom=\"{}\" "
                "fo:border-left=\"none\" fo:border-right=\"none\"/></style:style>",
                name, first ? "1.2pt solid #232733" : "none",
                last   ? "1.2pt solid #232733"
                : rule ? "0.6pt solid #6B6F7B"
                       : "none");
        }
        return name;
    }

    void figure(const ReportBlock& b) {
        const std::string name = fmt::format("Pictures/figure{}.svg", ++figures_);
        files_.push_back({name, svgOf(b.figure, "STIX Two Text, STIX, serif")});
        manifest_ += "<manifest:file-entry manifest:full-path=\"" + name +
                     "\" manifest:media-type=\"image/svg+xml\"/>";
        if (!caption_.empty()) {
            body_ += paragraph(placed("Caption"), runsOf(std::exchange(caption_, {})));
        }
        const double wide = std::min(b.figure.width, kUprightRoom);
        body_ += paragraph(
            placed("Standard"),
            fmt::format("<draw:frame draw:name=\"Figure {}\" text:anchor-type=\"as-char\" "
                        "svg:width=\"{:.1f}pt\" svg:height=\"{:.1f}pt\"><draw:image "
                        "xlink:href=\"{}\" xlink:type=\"simple\" xlink:show=\"embed\" "
                        "xlink:actuate=\"onLoad\"/><svg:desc>{}</svg:desc></draw:frame>",
                        figures_, wide, wide * b.figure.height / b.figure.width, name,
                        escapedText(b.text)));
    }

    Result<WrittenReport> packed(const ReportPages& pages) {
        std::vector<ReportFile> files;
        const auto put = [&files](const char* name, std::string bytes) {
            ReportFile file;
            file.name = name;
            file.bytes = std::move(bytes);
            files.push_back(std::move(file));
        };
        put("mimetype", "application/vnd.oasis.opendocument.text");
        put("META-INF/manifest.xml",
            kHead +
                "<manifest:manifest "
                "xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\" "
                "manifest:version=\"1.2\"><manifest:file-entry manifest:full-path=\"/\" "
                "manifest:version=\"1.2\" "
                "manifest:media-type=\"application/vnd.oasis.opendocument.text\"/>"
                "<manifest:file-entry manifest:full-path=\"content.xml\" "
                "manifest:media-type=\"text/xml\"/><manifest:file-entry "
                "manifest:full-path=\"styles.xml\" manifest:media-type=\"text/xml\"/>"
                "<manifest:file-entry manifest:full-path=\"meta.xml\" "
                "manifest:media-type=\"text/xml\"/>" +
                manifest_ + "</manifest:manifest>");
        put("content.xml", kHead + "<office:document-content " + kNames +
                               "><office:automatic-styles>" + automatic_ +
                               "</office:automatic-styles><office:body><office:text>" + body_ +
                               "</office:text></office:body></office:document-content>");
        put("styles.xml", styles());
        put("meta.xml", kHead + "<office:document-meta " + kNames + "><office:meta><dc:title>" +
                            escapedText(pages.title) + "</dc:title><dc:language>" +
                            escapedText(pages.language) +
                            "</dc:language></office:meta></office:document-meta>");
        files.insert(files.end(), files_.begin(), files_.end());
        auto archive = packedArchive(files);
        if (!archive) {
            return tl::make_unexpected(archive.error());
        }
        return WrittenReport{*std::move(archive), {}};
    }

    std::string body_;
    std::string automatic_;
    std::string manifest_;
    std::string caption_;
    std::vector<ReportFile> files_;
    std::map<std::string, bool> cells_;
    std::map<std::string, bool> shrunk_;
    bool turned_ = false;
    int own_ = 0;
    int equations_ = 0;
    int tables_ = 0;
    int figures_ = 0;
};

}  // namespace

Result<WrittenReport> writeOdt(const ReportPages& pages, const std::string& /*stem*/) {
    return Document().write(pages);
}

}  // namespace rapporto
