// Files that are made to end, hang or mislead whoever reads them: each is refused in words,
// quickly, or read for what it is.
#include "core/base/disk.h"
#include "core/base/json_shape.h"
#include "core/base/room.h"
#include "core/io/mapped_file.h"
#include "core/io/table_file.h"
#include "core/study/sources.h"
#include "tests/core/fixtures.h"

#include <sqlite3.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zip.h>

#include <QFile>
#include <QTemporaryDir>
#include <QTest>

#include <atomic>
#include <chrono>
#include <fstream>
#include <string>
#include <thread>

using namespace rapporto;

namespace {

std::string repeated(const std::string& one, std::size_t count) {
    std::string out;
    out.reserve(one.size() * count);
    for (std::size_t i = 0; i < count; ++i) {
        out += one;
    }
    return out;
}

/// This process has the file of that name in its memory.
bool isMapped(const std::string& path) {
    std::ifstream maps("/proc/self/maps");
    for (std::string line; std::getline(maps, line);) {
        if (line.ends_with(path)) {
            return true;
        }
    }
    return false;
}

}  // namespace

class HostileTest : public QObject {
    Q_OBJECT

    QTemporaryDir place_;

    std::string written(const char* name, const std::string& text) const {
        const std::string path = place_.filePath(name).toStdString();
        return replaceFile(path, text) ? path : std::string();
    }

    using Parts = std::vector<std::pair<std::string, std::string>>;

    std::string zipped(const char* name, const Parts& parts) const {
        const std::string path = place_.filePath(name).toStdString();
        QFile::remove(place_.filePath(name));
        zip_t* archive = zip_open(path.c_str(), ZIP_CREATE, nullptr);
        for (const auto& [part, text] : parts) {
            zip_file_add(archive, part.c_str(),
                         zip_source_buffer(archive, text.data(), text.size(), 0), 0);
        }
        zip_close(archive);
        return path;
    }

    std::string ods(const std::string& rows) const {
        return zipped("t.ods",
                      {{"content.xml",
                        "<?xml version=\"1.0\"?><office:document-content "
                        "xmlns:office=\"o\" xmlns:table=\"t\" xmlns:text=\"x\"><office:body>"
                        "<office:spreadsheet><table:table table:name=\"one\">" +
                            rows +
                            "</table:table></office:spreadsheet></office:body>"
                            "</office:document-content>"}});
    }

    std::string xlsx(const std::string& data, const std::string& before = {},
                     const Parts& more = {}) const {
        Parts parts = {
            {"_rels/.rels",
             "<Relationships><Relationship Id=\"r1\" Type=\"x/officeDocument\" "
             "Target=\"xl/workbook.xml\"/></Relationships>"},
            {"xl/workbook.xml",
             "<workbook xmlns:r=\"r\"><sheets><sheet name=\"one\" sheetId=\"1\" "
             "r:id=\"rId1\"/></sheets></workbook>"},
            {"xl/_rels/workbook.xml.rels",
             "<Relationships><Relationship Id=\"rId1\" Type=\"x/worksheet\" "
             "Target=\"worksheets/sheet1.xml\"/><Relationship Id=\"rId2\" Type=\"x/sharedStrings\" "
             "Target=\"/xl/sharedStrings.xml\"/><Relationship Id=\"rId3\" Type=\"x/styles\" "
             "Target=\"styles.xml\"/></Relationships>"},
            {"xl/worksheets/sheet1.xml",
             "<worksheet>" + before + "<sheetData>" + data + "</sheetData></worksheet>"}};
        parts.insert(parts.end(), more.begin(), more.end());
        return zipped("t.xlsx", parts);
    }

    static std::string cell(const std::string& text) {
        return "<table:table-cell office:value-type=\"string\"><text:p>" + text +
               "</text:p></table:table-cell>";
    }

    /// What reading says: its refusal, or “read R x C”.
    static QString said(const std::string& path, const ReaderOptions& options = {}) {
        const auto import = readTableFile(path, options, Job());
        return import ? QString("read %1 x %2")
                            .arg(import->table.rows())
                            .arg(import->table.columns.size())
                      : QString::fromStdString(import.error().text());
    }

    static std::string study(const std::string& more) {
        return R"({"format":"rapporto-study","version":1,"source":{"kind":"table","file":"t.csv"})" +
               more + "}";
    }

    static QString saidOfStudy(const std::string& text) {
        const auto read = readStudyText(text);
        return read ? QString("read") : QString::fromStdString(read.error().text());
    }

  private slots:

    // ---- what is no file

    void opensNoPipeAndNoDevice() {
        const std::string pipe = place_.filePath("p.csv").toStdString();
        QVERIFY(mkfifo(pipe.c_str(), 0600) == 0);
        for (const char* type : {"csv", "xlsx", "ods", "sqlite", "json", "ddi", "data-package"}) {
            ReaderOptions options;
            options.type = type;
            QVERIFY2(said(pipe, options).contains("a pipe"), type);
            QVERIFY2(said("/dev/zero", options).contains("a device"), type);
            QVERIFY2(said(place_.path().toStdString(), options).contains("a folder"), type);
        }
        const std::string package =
            written("a.datapackage.json",
                    R"({"resources":[{"name":"x","path":"p.csv","schema":{"fields":[]}}]})");
        QVERIFY(said(package).contains("a pipe"));
        QVERIFY(!readStudyFile("/dev/random"));
        QVERIFY(readStudyFile(written("empty.rapporto", "")).error().text().find("is empty") !=
                std::string::npos);
    }

    void survivesAFileThatIsCutShort() {
        const std::string path = written("cut.csv", "a,b\n" + repeated("1,2\n", 3000000));
        auto file = MappedFile::open(path);
        QVERIFY(file.has_value());
        QVERIFY(!file->wasCutShort());
        QVERIFY(truncate(path.c_str(), 10) == 0);
        // Touching what is gone ended the process.
        QCOMPARE(file->bytes()[file->bytes().size() - 1], '\0');
        QVERIFY(file->wasCutShort());
        QVERIFY(QString::fromStdString(cutShort(path).text()).contains("cut short"));
        // And while it is read by others: whatever is said, it is said.
        for (int wait : {0, 2, 5, 9}) {
            (void)written("cut.csv", "a,b\n" + repeated("1,2\n", 3000000));
            // Not before it is mapped: cut earlier it would be a whole table of two rows.
            std::atomic<bool> read = false;
            std::thread other([&] {
                while (!read && !isMapped(path)) {
                    std::this_thread::yield();
                }
                std::this_thread::sleep_for(std::chrono::milliseconds(wait));
                (void)!truncate(path.c_str(), 10);
            });
            const auto import = readTableFile(path, {}, Job());
            read = true;
            other.join();
            QVERIFY(import ? import->table.rows() == 3000000
                           : QString::fromStdString(import.error().text()).contains("cut short"));
        }
    }

    // ---- delimited text

    void refusesMarksThatCannotBeToldApart() {
        const std::string path = written("n.csv", "a;b\n1.234;2\n3.500;4\n");
        ReaderOptions options;
        options.decimal = '.';
        options.thousands = '.';
        QVERIFY(said(path, options).contains("the same mark"));
        options = {};
        options.delimiter = '.';
        options.decimal = '.';
        QVERIFY(said(path, options).contains("the same mark"));
        options = {};
        options.delimiter = '"';
        QVERIFY(said(path, options).contains("the same mark"));
        // Cells in quotation marks may hold the delimiter as their decimal mark.
        options = {};
        options.delimiter = ',';
        options.decimal = ',';
        QCOMPARE(said(written("q.csv", "a,b\n\"1,5\",2\n\"2,5\",3\n"), options),
                 QString("read 2 x 2"));
        QVERIFY(said(written("q.csv", "a,b\n1.5,2\n2.5,3\n"), options).contains("the same mark"));
        // What is guessed keeps out of the way of what is said.
        options = {};
        options.thousands = '.';
        const auto import = readTableFile(path, options, Job());
        QVERIFY(import && *import->used.decimal == ',');
        QCOMPARE(import->table.columns[0].numbers()[0], 1234.0);
    }

    void namesColumnsInOnePass() {
        const std::string header = "a" + repeated(",a", 99999);
        const std::string row = "1" + repeated(",1", 99999);
        const auto import =
            readTableFile(written("same.csv", header + "\n" + row + "\n"), {}, Job());
        QVERIFY(import.has_value());
        QCOMPARE(import->table.columns.back().name(), std::string("a_100000"));
        QCOMPARE(import->problemCount, std::size_t{99999});
        QCOMPARE(import->problems.size(), kMaxProblems);
    }

    void refusesATableThatIsEmptyThroughout() {
        std::string header = "c0";
        for (int j = 1; j < 100000; ++j) {
            header += ",c" + std::to_string(j);
        }
        const std::string path = written("wide.csv", header + "\n" + repeated("1\n", 100000));
        QVERIFY2(said(path).contains("empty almost throughout"), qPrintable(said(path)));
    }

    void skipsNoFurtherThanTheEnd() {
        ReaderOptions options;
        options.skip = 1000000000000000;
        QVERIFY(said(written("s.csv", "a\n1\n"), options).contains("no row"));
        QVERIFY(said(ods("<table:table-row>" + cell("a") + "</table:table-row>"), options)
                    .contains("no cell left"));
    }

    void saysWhichRepairsMeetNothing() {
        ReaderOptions options;
        options.repairs = {{2, "5"}, {40, "7"}};
        const auto import = readTableFile(written("r.csv", "a\n1\n2\n"), options, Job());
        QVERIFY(import.has_value());
        QCOMPARE(import->table.columns[0].numbers()[0], 5.0);
        QCOMPARE(import->problemCount, std::size_t{1});
        QCOMPARE(import->problems[0].line, std::size_t{40});
    }

    // ---- JSON

    void takesRecordsWithoutHoldingThem() {
        std::string many = "[";
        for (int i = 0; i < 20000; ++i) {
            many += (i > 0 ? ",{\"k" : "{\"k") + std::to_string(i) + "\":1}";
        }
        QVERIFY2(said(written("n2.json", many + "]")).contains("empty almost throughout"),
                 qPrintable(said(written("n2.json", many + "]"))));
        std::string keys = "[{";
        for (int i = 0; i < 60000; ++i) {
            keys += (i > 0 ? ",\"k" : "\"k") + std::to_string(i) + "\":1";
        }
        QCOMPARE(said(written("keys.json", keys + "}]")), QString("read 1 x 60000"));
    }

    void boundsHowDeepValuesLie() {
        const std::string deep = repeated("[", 58000) + repeated("]", 58000);
        QVERIFY(said(written("deep.json", "[{\"a\":" + deep + "}]")).contains("nested more than"));
        QVERIFY(saidOfStudy(study(",\"later\":" + deep)).contains("nested more than"));
        QVERIFY(said(written("p.datapackage.json", "{\"resources\":" + deep + "}"))
                    .contains("nested more than"));
        QVERIFY(plainEnough("{\"a\":\"[[[[\\\"{{{\"}").has_value());
        std::string members = "{\"m0\":0";
        for (int i = 1; i < 100000; ++i) {
            members += ",\"m" + std::to_string(i) + "\":0";
        }
        QVERIFY(saidOfStudy(study(",\"later\":" + members + "}")).contains("members"));
    }

    void keepsValuesOfRecordsAsTheyAre() {
        const std::string text =
            "{\"about\":[1,2],\"rows\":[{\"a\":1,\"b\":[1,{\"c\":\"x,\\\"y\"},[]],"
            "\"d\":12345678901234567890},{\"d\":\"z\",\"a\":true},7,{\"a\":null,\"a\":3}],"
            "\"more\":[{\"a\":9}]}";
        const auto import = readTableFile(written("v.json", text), {}, Job());
        QVERIFY2(import.has_value(), import ? "" : import.error().text().c_str());
        QCOMPARE(import->table.rows(), std::size_t{4});
        QCOMPARE(import->table.columns.size(), std::size_t{3});
        QCOMPARE(import->table.columns[1].texts()[0], std::string("[1,{\"c\":\"x,\\\"y\"},[]]"));
        QCOMPARE(import->table.columns[2].texts()[0], std::string("12345678901234567890"));
        QVERIFY(import->table.columns[0].isMissing(2));
    }

    // ---- spreadsheets

    void readsCellsWrittenInPlace() {
        const auto import = readTableFile(
            xlsx("<row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>zone</t></is></c>"
                 "<c r=\"B1\" t=\"inlineStr\"><is><r><t>hi</t></r><r><t>ves</t></r></is></c>"
                 "<c t=\"inlineStr\"><is><t>when</t></is></c></row>"
                 "<row><c t=\"s\"><v>0</v></c><c><v>3</v></c><c s=\"1\"><v>45292</v></c></row>"
                 "<row r=\"4\"><c r=\"A4\" t=\"str\"><f>A2</f><v>Mill_x005F_</v></c>"
                 "<c r=\"B4\" t=\"e\"><v>#N/A</v></c><c r=\"C4\" s=\"1\"><v>45293.5</v></c></row>",
                 "",
                 {{"xl/sharedStrings.xml", "<sst><si><t>Ridge</t></si></sst>"},
                  {"xl/styles.xml",
                   "<styleSheet><numFmts><numFmt numFmtId=\"170\" "
                   "formatCode=\"d mmm yyyy\"/></numFmts><cellXfs><xf numFmtId=\"0\"/><xf "
                   "numFmtId=\"170\"/></cellXfs></styleSheet>"}}),
            {}, Job());
        QVERIFY2(import.has_value(), import ? "" : import.error().text().c_str());
        const Table& table = import->table;
        QCOMPARE(table.columns.size(), std::size_t{3});
        QCOMPARE(table.rows(), std::size_t{3});  // The row between is blank.
        QCOMPARE(table.columns[0].name(), std::string("zone"));
        QCOMPARE(table.columns[0].texts()[0], std::string("Ridge"));
        QCOMPARE(table.columns[0].texts()[1], std::string("Mill_"));
        QCOMPARE(table.columns[1].name(), std::string("hives"));
        QCOMPARE(table.columns[1].numbers()[0], 3.0);
        QVERIFY(table.columns[1].isMissing(2));
        QCOMPARE(import->problemCount, std::size_t{1});
        QCOMPARE(table.variables[2].measure, Measure::Date);
        QCOMPARE(table.columns[2].numbers()[0], 19723.0);  // 2024-01-01
    }

    void boundsWhatASheetAnnounces() {
        QVERIFY(said(xlsx("<row r=\"1\"><c r=\"A1\"><v>1</v></c></row><row r=\"1048576\">"
                          "<c r=\"XFD1048576\"><v>1</v></c></row>"))
                    .contains("empty almost throughout"));
        QCOMPARE(said(xlsx("<row r=\"1\"><c r=\"A1\"><v>1</v></c></row><row r=\"2\">"
                           "<c r=\"A2\"><v>2</v></c></row>",
                           "<cols><col min=\"1\" max=\"2147483647\" width=\"9\"/></cols>")),
                 QString("read 2 x 1"));
        QVERIFY(said(xlsx("<row r=\"1\"><c r=\"ZZZZ1\"><v>1</v></c></row>")).contains("no place"));
        QVERIFY(said(xlsx("<row r=\"1\"><c r=\"A1\"><v>1")).contains("cannot be read"));
        QVERIFY(said(zipped("t.xlsx", {{"x", "y"}})).contains("no part"));
        QVERIFY(said(written("no.xlsx", "not an archive")).contains("no archive"));
        const std::string head = "<table:table-row>" + cell("a") + "</table:table-row>";
        QVERIFY(
            said(ods(head + "<table:table-row table:number-rows-repeated=\"1048576\">"
                            "<table:table-cell table:number-columns-repeated=\"16384\" "
                            "office:value-type=\"float\" office:value=\"1\"/></table:table-row>"))
                .contains("empty almost throughout"));
        QCOMPARE(
            said(ods(head + "<table:table-row table:number-rows-repeated=\"-5\">"
                            "<table:table-cell table:number-columns-repeated=\"-5\" "
                            "office:value-type=\"float\" office:value=\"1\"/></table:table-row>")),
            QString("read 1 x 1"));
        QCOMPARE(
            said(ods(head + "<table:table-row table:number-rows-repeated=\"3\">"
                            "<table:table-cell office:value-type=\"float\" office:value=\"1\"/>"
                            "</table:table-row><table:table-row "
                            "table:number-rows-repeated=\"1048570\"/>")),
            QString("read 3 x 1"));
        QVERIFY(said(ods("<table:table-row>" + cell("a<text:s text:c=\"4294967295\"/>") +
                         "</table:table-row>"))
                    .contains("spaces"));
    }

    void boundsHowDeepASheetLies() {
        QVERIFY(said(ods(repeated("<table:table-row-group>", 200000) +
                         repeated("</table:table-row-group>", 200000)))
                    .contains("nested too deep"));
        QVERIFY(said(ods("<table:table-row>" +
                         cell(repeated("<text:span>", 200000) + repeated("</text:span>", 200000)) +
                         "</table:table-row>"))
                    .contains("nested too deep"));
    }

    void unpacksNoBomb() {
        const std::string path =
            ods("<table:table-row>" + cell(std::string(std::size_t{300} << 20U, ' ')) +
                "</table:table-row>");
        QVERIFY2(said(path).contains("times what it holds"), qPrintable(said(path)));
    }

    // ---- databases

    void endsQueriesWithoutEnd() {
        const std::string path = place_.filePath("d.sqlite").toStdString();
        sqlite3* db = nullptr;
        sqlite3_open(path.c_str(), &db);
        sqlite3_exec(db,
                     "create table t (a); insert into t values (1), (2); create view v as with "
                     "recursive f(n) as (select 1 union all select n + 1 from f) select n from f "
                     "where n < 0",
                     nullptr, nullptr, nullptr);
        sqlite3_close(db);
        ReaderOptions options;
        options.patience = 0.2;
        options.query =
            "with recursive f(n) as (select 1 union all select n + 1 from f) select n from f where "
            "n < 0";
        QVERIFY(said(path, options).contains("had not answered"));
        options.query.clear();
        options.table = "v";
        QVERIFY(said(path, options).contains("had not answered"));
        options.patience = 0;
        Job job;
        std::thread other([job] {
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
            job.stop();
        });
        const auto stopped = readTableFile(path, options, job);
        other.join();
        QCOMPARE(stopped.error().code, ErrorCode::Stopped);
        options = {};
        options.query = "select a from t; drop table t";
        QVERIFY(said(path, options).contains("more than one statement"));
        options.query = "select a from t;  ";
        QCOMPARE(said(path, options), QString("read 2 x 1"));
        options.query = "select a from t where a > ?";
        QVERIFY(said(path, options).contains("leaves values open"));
        options.query = "  -- nothing";
        QVERIFY(said(path, options).contains("says nothing"));
    }

    // ---- studies

    void refusesWhatWouldTakeTheDay() {
        const std::string asks = repeated("\"white\",", 100000) + "\"white\"";
        const auto question = [](const std::string& more) {
            return study(
                R"(,"questions":[{"id":"q1","kind":"explain","outcome":"y","terms":["x"],)" + more +
                "}]");
        };
        const auto of = [&](const std::string& more) {
            const auto read = readStudyText(question(more));
            return read && read->questions[0].unbuilt
                       ? QString::fromStdString(read->questions[0].unbuilt->text())
                       : QString();
        };
        QVERIFY(of("\"checks\":[" + asks + "]").contains("500 at most"));
        QVERIFY(of(R"("checks":[{"id":"breusch-godfrey","lags":1000000000000}])")
                    .contains("from 1 to"));
        QVERIFY(of(R"("checks":[{"id":"breusch-godfrey","lags":-3}])").contains("from 1 to"));
        QVERIFY(of("\"more_terms\":1").isEmpty());
        QVERIFY(saidOfStudy(study(",\"sets\":[{\"name\":\"s\",\"members\":[" +
                                  repeated("\"x\",", 100000) + "\"x\"]}]"))
                    .contains("at most"));
        for (const char* bent : {"-1", "0.5", "1e300"}) {
            QVERIFY2(saidOfStudy(study(std::string(",\"seed\":") + bent)).contains("whole number"),
                     bent);
        }
        QVERIFY(saidOfStudy(R"({"format":"rapporto-study","version":1,"source":{"kind":"table",
                "file":"t.csv","reader":{"skip":1.7}}})")
                    .contains("whole number"));
    }

    void endsChainsOfDefinitions() {
        Table table = test::tableOf({{"x", {1, 2, 3}}});
        std::vector<Derived> chain;
        for (int i = 20000; i > 0; --i) {
            chain.push_back({"d" + std::to_string(i),
                             i == 1 ? "x + 1" : "d" + std::to_string(i - 1) + " + 1", ""});
        }
        const Frame frame = Frame::make(table, {}, chain, {}, {});
        QVERIFY(frame.column("d1") != nullptr);
        QVERIFY(frame.column("d20000") == nullptr);
        QVERIFY(frame.column("d500") != nullptr);
    }

    void answersTheFirstOfTwoQuestionsOfOneName() {
        const auto read = readStudyText(
            study(R"(,"questions":[{"id":"q1","kind":"explain","outcome":"y","terms":["x"]},
                     {"id":"q1","kind":"explain","outcome":"y","terms":["z"]}])"));
        QVERIFY(read.has_value());
        QVERIFY(!read->questions[0].unbuilt);
        QVERIFY(read->questions[1].unbuilt.has_value());
        QVERIFY(read->questions[1].unbuilt->text().find("another question ‘q1’") !=
                std::string::npos);
    }

    void refusesColumnsThatWouldNotFit() {
        std::vector<double> y;
        std::vector<double> a;
        std::vector<double> b;
        for (int i = 0; i < 20000; ++i) {
            y.push_back(i % 7);
            a.push_back(i % 1500);
            b.push_back(i % 1499);
        }
        Table table = test::tableOf({{"y", y}, {"a", a}, {"b", b}});
        table.variables[1].measure = Measure::Groups;
        table.variables[2].measure = Measure::Groups;
        Study asked;
        Question question;
        question.id = "q1";
        question.outcome = "y";
        question.terms.resize(1);
        question.terms[0].kind = Term::Kind::Product;
        question.terms[0].parts = {"a", "b"};
        asked.questions = {question};
        const Frame frame = Frame::make(table, {}, {}, {}, {});
        const Answer answer = answerQuestion(asked, frame, question, Job());
        QVERIFY(answer.refusal.has_value());
        QVERIFY2(answer.refusal->text().find("of memory") != std::string::npos,
                 answer.refusal->text().c_str());
    }

    void knowsItsRoom() {
        QVERIFY(memoryLeft() > std::size_t{1} << 26U);
        QVERIFY(roomFor(1e6, "a little").has_value());
        const auto none = roomFor(1e18, "a lot", "here");
        QVERIFY(!none && none.error().text().find("a lot needs") != std::string::npos);
        QVERIFY(roomForCells(1000000, 20, 1, "").has_value());
        QVERIFY(!roomForCells(1000000, 1000, 1000, ""));
    }
};

QTEST_GUILESS_MAIN(HostileTest)
#include "hostile_test.moc"
