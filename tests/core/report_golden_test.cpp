// What reports say and how they are built, to the letter: the demo’s and a hard one, by every
// writer. RAPPORTO_WRITE_GOLDEN=1 writes them anew: then read the difference before it is
// committed.
#include "core/base/markup.h"
#include "core/report/press/press.h"
#include "core/report/writers/writer.h"
#include "core/study/sources.h"
#include "tests/core/hard_study.h"

#include <fmt/format.h>

#include <QFile>
#include <QRegularExpression>
#include <QTest>

#include <functional>

using namespace rapporto;
using namespace rapporto::test;

namespace {

/// The demo’s report.
const ReportPages& demoPages() {
    static const ReportPages kPages = [] {
        const std::string folder = RAPPORTO_SOURCE_DIR "/demo";
        const auto study = readStudyFile(folder + "/calvessa.rapporto").value();
        const auto sources = readSources(study, folder, false, Job()).value();
        const Frame frame = makeFrame(study, sources);
        std::vector<Answer> all;
        all.reserve(study.questions.size());
        AnswersById byId;
        for (const Question& q : study.questions) {
            all.push_back(answerQuestion(study, frame, q, Job()));
            byId[q.id] = &all.back();
        }
        return reportPages(study, byId, &frame);
    }();
    return kPages;
}

const ReportPages& hardPages() {
    static const ReportPages kPages = hard().pages();
    return kPages;
}

using Outline = std::string (*)(const WrittenReport& written, const ReportPages& pages);

std::string itself(const WrittenReport& written, const ReportPages& /*pages*/) {
    return written.bytes;
}

/// Without the faces and the drawings, whose points are looked at elsewhere; an element a line.
std::string ofHtml(const WrittenReport& written, const ReportPages& /*pages*/) {
    QString page = QString::fromStdString(written.bytes);
    page.replace(QRegularExpression("base64,[A-Za-z0-9+/=]+"), "base64,…");
    page.replace(
        QRegularExpression("<svg.*?</svg>", QRegularExpression::DotMatchesEverythingOption),
        "<svg/>");
    return page.toStdString();
}

/// Paragraphs with their style, rows of tables cell by cell, what else there is by its name.
/// @param style  attribute or child that says it.
struct Names {
    const char* paragraph;
    const char* heading;
    const char* table;
    const char* row;
    const char* cell;
    std::function<std::string(const pugi::xml_node&)> style;
};

void outline(const pugi::xml_node& node, const Names& names, std::string& out) {
    for (const pugi::xml_node child : node.children()) {
        const std::string name = child.name();
        if (name == names.row) {
            std::string row = "|";
            for (const pugi::xml_node cell : child.children()) {
                row += cell.name() == std::string(names.cell) ? " " + textOf(cell) + " |" : "";
            }
            out += row + "\n";
        } else if (name == names.paragraph || name == names.heading) {
            out += "[" + names.style(child) + "] " + textOf(child) + "\n";
        } else if (child.type() == pugi::node_element) {
            if (name == names.table) {
                out += "<" + name + ">\n";
            }
            outline(child, names, out);
        }
    }
}

std::string ofXml(const std::string& text, const Names& names) {
    pugi::xml_document document;
    std::string out;
    if (!document.load_string(text.c_str(), pugi::parse_default | pugi::parse_ws_pcdata)) {
        return "no markup";
    }
    outline(document, names, out);
    return out;
}

std::string ofDocx(const WrittenReport& written, const ReportPages& /*pages*/) {
    const auto files = unpacked(written.bytes);
    std::string out;
    for (const auto& [name, bytes] : files) {
        out += name + "\n";
    }
    return out + ofXml(files.at("word/document.xml"),
                       {"w:p", "w:p", "w:tbl", "w:tr", "w:tc", [](const pugi::xml_node& node) {
                            return std::string(
                                node.child("w:pPr").child("w:pStyle").attribute("w:val").value());
                        }});
}

std::string ofOdt(const WrittenReport& written, const ReportPages& /*pages*/) {
    const auto files = unpacked(written.bytes);
    std::string out;
    for (const auto& [name, bytes] : files) {
        out += name + "\n";
    }
    return out + ofXml(files.at("content.xml"),
                       {"text:p", "text:h", "table:table", "table:table-row", "table:table-cell",
                        [](const pugi::xml_node& node) {
                            return std::string(node.attribute("text:style-name").value());
                        }});
}

/// Texts as they are, numbers to ten digits.
std::string ofXlsx(const WrittenReport& written, const ReportPages& /*pages*/) {
    const auto files = unpacked(written.bytes);
    std::vector<std::string> texts;
    if (files.contains("xl/sharedStrings.xml")) {
        pugi::xml_document shared;
        shared.load_string(files.at("xl/sharedStrings.xml").c_str(),
                           pugi::parse_default | pugi::parse_ws_pcdata);
        for (const pugi::xml_node one : shared.child("sst").children("si")) {
            texts.push_back(textOf(one));
        }
    }
    std::string out;
    for (int k = 1; files.contains(fmt::format("xl/worksheets/sheet{}.xml", k)); ++k) {
        pugi::xml_document sheet;
        sheet.load_string(files.at(fmt::format("xl/worksheets/sheet{}.xml", k)).c_str(),
                          pugi::parse_default | pugi::parse_ws_pcdata);
        out += fmt::format("<sheet {}>\n", k);
        for (const pugi::xml_node row : sheet.child("worksheet").child("sheetData").children()) {
            out += "|";
            for (const pugi::xml_node cell : row.children("c")) {
                const std::string kind = cell.attribute("t").value();
                const pugi::xml_node value = cell.child("v");
                out += " " +
                       (kind == "s"           ? texts.at(value.text().as_uint())
                        : kind == "inlineStr" ? textOf(cell)
                        : value               ? fmt::format("{:.10g}", value.text().as_double())
                                              : std::string()) +
                       " |";
            }
            out += "\n";
        }
    }
    return out;
}

/// Which blocks stand on which page: the letters’ own measures are looked at elsewhere.
std::string ofPdf(const WrittenReport& /*written*/, const ReportPages& pages) {
    const auto press = Press::make(pages);
    std::string out;
    for (std::size_t page = 0; page < (*press)->pages(); ++page) {
        const Press::Sheet sheet = (*press)->sheet(page);
        out += fmt::format("<page {}, {}>\n", page + 1,
                           sheet.width > sheet.height ? "on its side" : "upright");
        std::size_t last = pages.blocks.size();
        for (const Press::Place& place : (*press)->places()) {
            if (place.page == page && place.block != last && place.block < pages.blocks.size()) {
                last = place.block;
                const ReportBlock& block = pages.blocks[last];
                out += fmt::format("{} {} {}\n", last, static_cast<int>(block.kind),
                                   withoutMarks(block.text).substr(0, 60));
            }
        }
    }
    return out;
}

struct Kind {
    const char* ending;
    const char* file;  ///< Ending of what is kept.
    Outline outline;
};

constexpr Kind kKinds[] = {
    {".md", "md", &itself},         {".tex", "tex", &itself},       {".csv", "csv", &itself},
    {".html", "html.txt", &ofHtml}, {".docx", "docx.txt", &ofDocx}, {".odt", "odt.txt", &ofOdt},
    {".xlsx", "xlsx.txt", &ofXlsx}, {".pdf", "pdf.txt", &ofPdf},
};

}  // namespace

class ReportGoldenTest : public QObject {
    Q_OBJECT

  private slots:

    void everyWriterIsKept() {
        QCOMPARE(std::size(kKinds), allReportWriters().size());
        for (const ReportWriter& writer : allReportWriters()) {
            QVERIFY2(
                std::any_of(std::begin(kKinds), std::end(kKinds),
                            [&](const Kind& k) { return k.ending == std::string(writer.ending); }),
                writer.ending);
        }
    }

    void reportsStayAsTheyAre_data() {
        QTest::addColumn<QString>("study");
        QTest::addColumn<int>("kind");
        for (int k = 0; k < static_cast<int>(std::size(kKinds)); ++k) {
            for (const char* study : {"report", "hard"}) {
                QTest::addRow("%s%s", study, kKinds[k].ending) << study << k;
            }
        }
    }

    void reportsStayAsTheyAre() {
        QFETCH(QString, study);
        QFETCH(int, kind);
        const ReportPages& pages = study == "report" ? demoPages() : hardPages();
        const auto written = findReportWriter(kKinds[kind].ending)->write(pages, "report");
        QVERIFY(written);
        const QByteArray found = QByteArray::fromStdString(kKinds[kind].outline(*written, pages));
        QFile file(
            QString(RAPPORTO_SOURCE_DIR "/tests/golden/%1.%2").arg(study, kKinds[kind].file));
        if (qEnvironmentVariableIsSet("RAPPORTO_WRITE_GOLDEN")) {
            QVERIFY(file.open(QIODevice::WriteOnly));
            file.write(found);
            return;
        }
        QVERIFY2(file.open(QIODevice::ReadOnly), qPrintable(file.fileName()));
        const QList<QByteArray> expected = file.readAll().split('\n');
        const QList<QByteArray> got = found.split('\n');
        for (qsizetype line = 0; line < std::max(expected.size(), got.size()); ++line) {
            QCOMPARE(got.value(line), expected.value(line));
        }
    }
};

QTEST_APPLESS_MAIN(ReportGoldenTest)
#include "report_golden_test.moc"
