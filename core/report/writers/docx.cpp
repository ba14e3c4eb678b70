// A report as a word processor's document of Office Open XML (ISO/IEC 29500): real headings and
// tables in named styles, equations as OMML, figures as SVG with a picture of dots behind.
#include "core/base/markup.h"
#include "core/report/press/press.h"
#include "core/report/writers/archive.h"
#include "core/report/writers/writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

const std::string kHead = "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n";

const std::string kNames =
    "xmlns:w=\"http://schemas.openxmlformats.org/wordprocessingml/2006/main\" "
    "xmlns:r=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships\" "
    "xmlns:m=\"http://schemas.openxmlformats.org/officeDocument/2006/math\" "
    "xmlns:wp=\"http://schemas.openxmlformats.org/drawingml/2006/wordprocessingDrawing\" "
    "xmlns:a=\"http://schemas.openxmlformats.org/drawingml/2006/main\" "
    "xmlns:pic=\"http://schemas.openxmlformats.org/drawingml/2006/picture\"";

// A4 in twentieths of a point, margins of 25 mm.
constexpr int kPageWidth = 11906;
constexpr int kPageHeight = 16838;
constexpr int kMargin = 1417;
constexpr int kUprightRoom = kPageWidth - 2 * kMargin;
constexpr int kTurnedRoom = kPageHeight - 2 * kMargin;

std::string styleOf(const char* id, const char* name, const char* paragraph, const char* letters,
                    const char* after = "") {
    return fmt::format(
        "<w:style w:type=\"paragraph\" w:styleId=\"{}\"><w:name w:val=\"{}\"/>"
        "<w:basedOn w:val=\"Normal\"/>{}<w:qFormat/><w:pPr>{}</w:pPr><w:rPr>{}</w:rPr></w:style>",
        id, name, after, paragraph, letters);
}

std::string styles() {
    const char* next = "<w:next w:val=\"Normal\"/>";
    return kHead + "<w:styles " + kNames + ">" +
           "<w:docDefaults><w:rPrDefault><w:rPr><w:rFonts w:ascii=\"Times New Roman\" "
           "w:hAnsi=\"Times New Roman\" w:cs=\"Times New Roman\"/><w:sz w:val=\"22\"/></w:rPr>"
           "</w:rPrDefault><w:pPrDefault><w:pPr><w:spacing w:after=\"120\" w:line=\"276\" "
           "w:lineRule=\"auto\"/></w:pPr></w:pPrDefault></w:docDefaults>"
           "<w:style w:type=\"paragraph\" w:default=\"1\" w:styleId=\"Normal\"><w:name "
           "w:val=\"Normal\"/><w:qFormat/></w:style>" +
           styleOf("Title", "Title", "<w:spacing w:after=\"60\"/>", "<w:sz w:val=\"36\"/>", next) +
           styleOf("Subtitle", "Subtitle", "", "<w:i/><w:color w:val=\"6B6F7B\"/>", next) +
           styleOf("Heading1", "heading 1",
                   "<w:keepNext/><w:spacing w:before=\"360\" w:after=\"80\"/><w:outlineLvl "
                   "w:val=\"0\"/>",
                   "<w:i/><w:sz w:val=\"26\"/>", next) +
           styleOf("Caption", "caption",
                   "<w:keepNext/><w:spacing w:before=\"240\" w:after=\"60\"/>", "", next) +
           styleOf("TableText", "Table Text", "<w:spacing w:after=\"0\" w:line=\"240\"/>",
                   "<w:sz w:val=\"19\"/>") +
           styleOf("Note", "Note", "<w:spacing w:before=\"60\"/>",
                   "<w:color w:val=\"6B6F7B\"/><w:sz w:val=\"19\"/>") +
           styleOf("Bibliography", "Bibliography",
                   "<w:spacing w:after=\"60\"/><w:ind w:left=\"425\" w:hanging=\"425\"/>", "") +
           styleOf("ListBullet", "List Bullet",
                   "<w:numPr><w:ilvl w:val=\"0\"/><w:numId w:val=\"1\"/></w:numPr>"
                   "<w:spacing w:after=\"60\"/>",
                   "") +
           "<w:style w:type=\"table\" w:styleId=\"ReportTable\"><w:name w:val=\"Report Table\"/>"
           "<w:tblPr><w:tblBorders><w:top w:val=\"single\" w:sz=\"12\" w:color=\"232733\"/>"
           "<w:bottom w:val=\"single\" w:sz=\"12\" w:color=\"232733\"/></w:tblBorders>"
           "<w:tblCellMar><w:left w:w=\"60\" w:type=\"dxa\"/><w:right w:w=\"60\" "
           "w:type=\"dxa\"/></w:tblCellMar></w:tblPr></w:style></w:styles>";
}

constexpr const char* kNumbering =
    "<w:abstractNum w:abstractNumId=\"0\"><w:lvl w:ilvl=\"0\"><w:start w:val=\"1\"/><w:numFmt "
    "w:val=\"bullet\"/><w:lvlText w:val=\"•\"/><w:lvlJc w:val=\"left\"/><w:pPr><w:ind "
    "w:left=\"425\" w:hanging=\"283\"/></w:pPr></w:lvl></w:abstractNum><w:num "
    "w:numId=\"1\"><w:abstractNumId w:val=\"0\"/></w:num></w:numbering>";

std::string runsOf(const std::string& marked, const std::string& letters = {}) {
    std::string out;
    for (const TextRun& run : textRuns(marked)) {
        const std::string dress = (run.bold ? "<w:b/>" : "") + letters;
        out += "<w:r>" + (dress.empty() ? "" : "<w:rPr>" + dress + "</w:rPr>") +
               "<w:t xml:space=\"preserve\">" + escapedText(run.text) + "</w:t></w:r>";
    }
    return out;
}

std::string paragraph(const char* style, const std::string& inner, const std::string& more = {}) {
    return std::string("<w:p><w:pPr><w:pStyle w:val=\"") + style + "\"/>" + more + "</w:pPr>" +
           inner + "</w:p>";
}

/// Ends a section of pages that stand upright or lie.
std::string sectionOf(bool turned) {
    return fmt::format(
        "<w:sectPr><w:pgSz w:w=\"{}\" w:h=\"{}\"{}/><w:pgMar w:top=\"{}\" w:right=\"{}\" "
        "w:bottom=\"{}\" w:left=\"{}\" w:header=\"708\" w:footer=\"708\" w:gutter=\"0\"/>"
        "</w:sectPr>",
        turned ? kPageHeight : kPageWidth, turned ? kPageWidth : kPageHeight,
        turned ? " w:orient=\"landscape\"" : "", kMargin, kMargin, kMargin, kMargin);
}

class Document {
  public:
    Result<WrittenReport> write(const ReportPages& pages) {
        body_ += paragraph("Title", runsOf(pages.title));
        if (!pages.subtitle.empty()) {
            body_ += paragraph("Subtitle", runsOf(pages.subtitle));
        }
        if (!pages.byline.empty()) {
            body_ += paragraph("Normal", runsOf(pages.byline));
        }
        for (const ReportBlock& block : pages.blocks) {
            if (auto done = add(block); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        return packed(pages);
    }

  private:
    Result<void> add(const ReportBlock& b) {
        switch (b.kind) {
            case Kind::Heading:
                body_ += paragraph("Heading1", runsOf(b.text));
                break;
            case Kind::Paragraph:
                body_ += paragraph("Normal", runsOf(b.text));
                break;
            case Kind::Bullet:
                body_ += paragraph("ListBullet", runsOf(b.text));
                break;
            case Kind::Caption:
                // Held back: a table that lies on its side takes its caption along.
                caption_ = paragraph("Caption", runsOf(b.text));
                return {};
            case Kind::Note:
                body_ += paragraph("Note", runsOf(b.text));
                break;
            case Kind::Reference:
                body_ += paragraph("Bibliography", runsOf(b.text));
                break;
            case Kind::Equation:
                for (const MathRow& line : brokenEquation(b.equation, kUprightRoom / 20.0, 11.0)) {
                    body_ += equation(line);
                }
                break;
            case Kind::Table:
                table(b);
                break;
            case Kind::Figure:
                return figure(b);
        }
        return {};
    }

    std::string takeCaption() { return std::exchange(caption_, {}); }

    static std::string equation(const MathRow& row) {
        const auto run = [](const MathPiece& piece) {
            return std::string("<m:r>") +
                   (piece.kind == MathPiece::Kind::Name ? "<m:rPr><m:nor/></m:rPr>" : "") +
                   "<m:t xml:space=\"preserve\">" + escapedText(piece.text) + "</m:t></m:r>";
        };
        std::string math;
        for (const MathPiece& piece : row) {
            math += piece.beneath.empty()
                        ? run(piece)
                        : "<m:limLow><m:e>" + run(piece) +
                              "</m:e><m:lim><m:r><m:rPr><m:sty m:val=\"p\"/></m:rPr><m:t>" +
                              escapedText(piece.beneath) + "</m:t></m:r></m:lim></m:limLow>";
        }
        return "<w:p><m:oMathPara><m:oMathParaPr><m:jc m:val=\"left\"/></m:oMathParaPr><m:oMath>" +
               math + "</m:oMath></m:oMathPara></w:p>";
    }

    /// Widths of the columns in twentieths of a point, in `room`; how large its letters are.
    struct Measures {
        std::vector<int> widths;
        int halfPoints = 19;
        bool turned = false;
    };

    static Measures measuresOf(const ReportBlock& b) {
        Measures out;
        const auto natural = b.columnWidths(9.5);
        double sum = 0.0;
        for (const double one : natural) {
            sum += one * 20.0 + 140.0;
        }
        if (b.holdsSentences()) {
            for (const double one : sharedWidths(natural, kUprightRoom / 20.0, 7.0)) {
                out.widths.push_back(static_cast<int>((one + 7.0) * 20.0));
            }
            return out;
        }
        out.turned = sum > kUprightRoom;
        const double room = out.turned ? kTurnedRoom : kUprightRoom;
        const double shrink = std::min(1.0, room / sum);
        out.halfPoints = std::max(10, static_cast<int>(std::floor(19.0 * shrink)));
        for (std::size_t c = 0; c < natural.size(); ++c) {
            const double spare = c == 0 ? std::max(0.0, room - sum) : 0.0;
            out.widths.push_back(
                static_cast<int>((natural[c] * 20.0 + 140.0) * shrink + 0.5 * spare));
        }
        return out;
    }

    void table(const ReportBlock& b) {
        const Measures measures = measuresOf(b);
        if (measures.turned) {
            body_ += "<w:p><w:pPr>" + sectionOf(false) + "</w:pPr></w:p>";
        }
        body_ += takeCaption();
        body_ +=
            "<w:tbl><w:tblPr><w:tblStyle w:val=\"ReportTable\"/><w:tblW w:w=\"0\" "
            "w:type=\"auto\"/><w:tblLayout w:type=\"fixed\"/><w:tblLook w:firstRow=\"1\"/>"
            "</w:tblPr><w:tblGrid>";
        for (const int width : measures.widths) {
            body_ += fmt::format("<w:gridCol w:w=\"{}\"/>", width);
        }
        body_ += "</w:tblGrid>";
        for (std::size_t r = 0; r < b.cells.size(); ++r) {
            row(b, r, measures);
        }
        body_ += "</w:tbl>";
        // Two tables without a paragraph between them would become one.
        body_ += measures.turned ? "<w:p><w:pPr>" + sectionOf(true) + "</w:pPr></w:p>"
                                 : paragraph("TableText", "");
    }

    void row(const ReportBlock& b, std::size_t r, const Measures& measures) {
        const bool rule = b.hasRule(r);
        const bool head = r < b.heads;
        const std::string letters = measures.halfPoints == 19
                                        ? ""
                                        : fmt::format("<w:sz w:val=\"{}\"/>", measures.halfPoints);
        body_ += std::string("<w:tr><w:trPr><w:cantSplit/>") + (head ? "<w:tblHeader/>" : "") +
                 "</w:trPr>";
        std::size_t at = 0;
        for (const Cell& cell : b.cells[r]) {
            int width = 0;
            for (int over = 0; over < cell.span; ++over) {
                width += measures.widths[at + static_cast<std::size_t>(over)];
            }
            const bool left = at == 0 || b.holdsSentences();
            const bool under = rule || (head && cell.span > 1 && !cell.text.empty());
            body_ += fmt::format(
                "<w:tc><w:tcPr><w:tcW w:w=\"{}\" w:type=\"dxa\"/>{}{}</w:tcPr>", width,
                cell.span > 1 ? fmt::format("<w:gridSpan w:val=\"{}\"/>", cell.span) : "",
                under ? "<w:tcBorders><w:bottom w:val=\"single\" w:sz=\"6\" "
                        "w:color=\"6B6F7B\"/></w:tcBorders>"
                      : "");
            body_ += paragraph("TableText", runsOf(cell.text, letters),
                               left            ? ""
                               : cell.span > 1 ? "<w:jc w:val=\"center\"/>"
                                               : "<w:jc w:val=\"right\"/>") +
                     "</w:tc>";
            at += static_cast<std::size_t>(cell.span);
        }
        body_ += "</w:tr>";
    }

    Result<void> figure(const ReportBlock& b) {
        auto dots = drawingPng(b.figure, 300.0);
        if (!dots) {
            return tl::make_unexpected(dots.error());
        }
        const int number = ++figures_;
        media_.push_back({fmt::format("word/media/figure{}.png", number), *std::move(dots)});
        media_.push_back({fmt::format("word/media/figure{}.svg", number),
                          svgOf(b.figure, "STIX Two Text, STIX, serif")});
        links_ += fmt::format(
            "<Relationship Id=\"png{0}\" "
            "Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/image\" "
            "Target=\"media/figure{0}.png\"/><Relationship Id=\"svg{0}\" "
            "Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/image\" "
            "Target=\"media/figure{0}.svg\"/>",
            number);
        const double points = std::min(b.figure.width, kUprightRoom / 20.0);
        const auto wide = static_cast<long>(points * 12700.0);
        const auto high = static_cast<long>(points * 12700.0 * b.figure.height / b.figure.width);
        body_ += takeCaption();
        body_ += fmt::format(
            "<w:p><w:r><w:drawing><wp:inline distT=\"0\" distB=\"0\" distL=\"0\" distR=\"0\">"
            "<wp:extent cx=\"{1}\" cy=\"{2}\"/><wp:docPr id=\"{0}\" name=\"Figure {0}\" "
            "descr=\"{3}\"/><a:graphic><a:graphicData "
            "uri=\"http://schemas.openxmlformats.org/drawingml/2006/picture\"><pic:pic>"
            "<pic:nvPicPr><pic:cNvPr id=\"{0}\" name=\"Figure {0}\"/><pic:cNvPicPr/>"
            "</pic:nvPicPr><pic:blipFill><a:blip r:embed=\"png{0}\"><a:extLst><a:ext "
            "uri=\"{{96DAC541-7B7A-43D3-8B79-37D633B846F1}}\"><asvg:svgBlip "
            "xmlns:asvg=\"http://schemas.microsoft.com/office/drawing/2016/SVG/main\" "
            "r:embed=\"svg{0}\"/></a:ext></a:extLst></a:blip><a:stretch><a:fillRect/></a:stretch>"
            "</pic:blipFill><pic:spPr><a:xfrm><a:off x=\"0\" y=\"0\"/><a:ext cx=\"{1}\" "
            "cy=\"{2}\"/></a:xfrm><a:prstGeom prst=\"rect\"><a:avLst/></a:prstGeom></pic:spPr>"
            "</pic:pic></a:graphicData></a:graphic></wp:inline></w:drawing></w:r></w:p>",
            number, wide, high, escapedText(b.text));
        return {};
    }

    Result<WrittenReport> packed(const ReportPages& pages) {
        body_ += takeCaption();
        std::vector<ReportFile> files;
        const auto put = [&files](const char* name, std::string bytes) {
            ReportFile file;
            file.name = name;
            file.bytes = std::move(bytes);
            files.push_back(std::move(file));
        };
        put("[Content_Types].xml",
            kHead +
                "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\">"
                "<Default Extension=\"rels\" "
                "ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/>"
                "<Default Extension=\"xml\" ContentType=\"application/xml\"/>"
                "<Default Extension=\"png\" ContentType=\"image/png\"/>"
                "<Default Extension=\"svg\" ContentType=\"image/svg+xml\"/>"
                "<Override PartName=\"/word/document.xml\" "
                "ContentType=\"application/vnd.openxmlformats-officedocument.wordprocessingml."
                "document.main+xml\"/><Override PartName=\"/word/styles.xml\" "
                "ContentType=\"application/vnd.openxmlformats-officedocument.wordprocessingml."
                "styles+xml\"/><Override PartName=\"/word/numbering.xml\" "
                "ContentType=\"application/vnd.openxmlformats-officedocument.wordprocessingml."
                "numbering+xml\"/><Override PartName=\"/docProps/core.xml\" "
                "ContentType=\"application/vnd.openxmlformats-package.core-properties+xml\"/>"
                "</Types>");
        put("_rels/.rels",
            kHead +
                "<Relationships "
                "xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\">"
                "<Relationship Id=\"document\" "
                "Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/"
                "officeDocument\" Target=\"word/document.xml\"/><Relationship Id=\"core\" "
                "Type=\"http://schemas.openxmlformats.org/package/2006/relationships/metadata/"
                "core-properties\" Target=\"docProps/core.xml\"/></Relationships>");
        put("word/document.xml", kHead + "<w:document " + kNames + "><w:body>" + body_ +
                                     sectionOf(false) + "</w:body></w:document>");
        put("word/styles.xml", styles());
        put("word/numbering.xml", kHead + "<w:numbering " + kNames + ">" + kNumbering);
        put("word/_rels/document.xml.rels",
            kHead +
                "<Relationships "
                "xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\">"
                "<Relationship Id=\"styles\" "
                "Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/"
                "styles\" Target=\"styles.xml\"/><Relationship Id=\"numbering\" "
                "Type=\"http://schemas.openxmlformats.org/officeDocument/2006/relationships/"
                "numbering\" Target=\"numbering.xml\"/>" +
                links_ + "</Relationships>");
        put("docProps/core.xml",
            kHead +
                "<cp:coreProperties "
                "xmlns:cp=\"http://schemas.openxmlformats.org/package/2006/metadata/"
                "core-properties\" xmlns:dc=\"http://purl.org/dc/elements/1.1/\"><dc:title>" +
                escapedText(pages.title) + "</dc:title><dc:language>" +
                escapedText(pages.language) + "</dc:language></cp:coreProperties>");
        files.insert(files.end(), media_.begin(), media_.end());
        auto archive = packedArchive(files);
        if (!archive) {
            return tl::make_unexpected(archive.error());
        }
        return WrittenReport{*std::move(archive), {}};
    }

    std::string body_;
    std::string caption_;
    std::string links_;
    std::vector<ReportFile> media_;
    int figures_ = 0;
};

}  // namespace

Result<WrittenReport> writeDocx(const ReportPages& pages, const std::string& /*stem*/) {
    return Document().write(pages);
}

}  // namespace rapporto
