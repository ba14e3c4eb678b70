// Every kind of table file: what is written reads back the same, and what is odd is said.
#include "core/io/table_file.h"

#include "core/study/sources.h"
#include "tests/core/fixtures.h"

#include <sqlite3.h>

#include <QFile>
#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;

namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

/// A table with every measure, missing codes, labels, Unicode, quotes and line ends.
Table everything() {
    Table table;
    const auto numbers = [&](const std::string& name, std::vector<double> cells, Measure measure) {
        table.columns.push_back(Column::ofNumbers(name, std::move(cells)));
        Variable v;
        v.name = name;
        v.measure = measure;
        table.variables.push_back(v);
        return &table.variables.back();
    };
    const auto texts = [&](const std::string& name, std::vector<std::int32_t> codes,
                           std::vector<std::string> words, Measure measure) {
        table.columns.push_back(Column::ofTexts(name, std::move(codes), std::move(words)));
        Variable v;
        v.name = name;
        v.measure = measure;
        table.variables.push_back(v);
        return &table.variables.back();
    };
    numbers("yield, kg/ha", {1.5, -2.25, kNone, 1e-7, 12345678.125, 0.1}, Measure::Quantity)->unit =
        "kg/ha";
    numbers("visits", {0, 3, 7, kNone, 2, 1}, Measure::Count)->label = "Visits by the advisor";
    Variable* age = numbers("age", {44, -9, 61, 38, -8, 50}, Measure::Quantity);
    age->missing = {Key(-9.0), Key(-8.0)};
    age->note = "asked in spring; “exact” years";
    numbers("member", {0, 1, 1, kNone, 0, 1}, Measure::YesNo);
    Variable* zone = numbers("zone", {1, 2, 2, 1, 3, kNone}, Measure::Groups);
    zone->levels = {{Key(2.0), "River = flat | low"}, {Key(1.0), "Ridge"}, {Key(3.0), ""}};
    zone->base = {Key(1.0)};
    Variable* rating =
        texts("rating", {0, 1, 2, -1, 1, 0}, {"poor", "fair", "good"}, Measure::OrderedGroups);
    rating->levels = {{Key(std::string("poor")), ""},
                      {Key(std::string("fair")), "Fair enough"},
                      {Key(std::string("good")), ""}};
    numbers("surveyed", {19000, 19031, kNone, -400, 0, 20000}, Measure::Date);
    texts("remark", {0, 1, 2, 3, -1, 4},
          {"said \"no\", twice", "two\nlines", "Ünïcödé → 字", "0123", "n/a"}, Measure::Text);
    return table;
}

void compareTables(const Table& expected, const Table& found, bool withCodebook) {
    QCOMPARE(found.columns.size(), expected.columns.size());
    for (std::size_t j = 0; j < expected.columns.size(); ++j) {
        const Column& a = expected.columns[j];
        const Column& b = found.columns[j];
        const char* name = a.name().c_str();
        QCOMPARE(QString::fromStdString(b.name()), QString::fromStdString(a.name()));
        QVERIFY2(a.isText() == b.isText(), name);
        QCOMPARE(b.size(), a.size());
        for (std::size_t i = 0; i < a.size(); ++i) {
            QVERIFY2(a.isMissing(i) == b.isMissing(i), name);
            if (!a.isMissing(i) && a.isText()) {
                QCOMPARE(b.texts()[static_cast<std::size_t>(b.codes()[i])],
                         a.texts()[static_cast<std::size_t>(a.codes()[i])]);
            } else if (!a.isMissing(i)) {
                QCOMPARE(b.numbers()[i], a.numbers()[i]);
            }
        }
        if (withCodebook) {
            const Variable& v = expected.variables[j];
            const Variable& w = found.variables[j];
            QCOMPARE(measureName(w.measure), measureName(v.measure));
            QCOMPARE(w.label, v.label);
            QCOMPARE(w.unit, v.unit);
            QCOMPARE(w.note, v.note);
            QVERIFY2(w.missing == v.missing, name);
            QVERIFY2(w.levels == v.levels, name);
            QVERIFY2(w.base == v.base, name);
        }
    }
}

}  // namespace

class TableFileTest : public QObject {
    Q_OBJECT

    QTemporaryDir place_;

    std::string at(const QString& name) const { return place_.filePath(name).toStdString(); }

    std::string written(const QString& name, const QByteArray& bytes) const {
        QFile file(place_.filePath(name));
        if (!file.open(QIODevice::WriteOnly) || file.write(bytes) != bytes.size()) {
            qFatal("cannot write %s", qPrintable(name));
        }
        return at(name);
    }

    static std::string refusal(const Result<Import>& import) {
        return import ? "not refused" : import.error().text();
    }

  private slots:

    void roundTrips_data() {
        QTest::addColumn<QString>("file");
        QTest::newRow("data package") << "all.datapackage.json";
        QTest::newRow("spreadsheet") << "all.xlsx";
        QTest::newRow("database") << "all.sqlite";
        QTest::newRow("codebook in XML") << "all.xml";
    }

    void aCodebookOfAnotherHandIsRead() {
        written("wave.csv", "zone,hours,said\n1,-9,0123\n2,4,0001\n9,-95,\n");
        const std::string path = written("study.xml",
                                         R"(<?xml version="1.0"?>
<ddi:codeBook xmlns:ddi="ddi:codebook:2_5" version="2.5">
 <ddi:fileDscr><ddi:fileTxt><ddi:fileName>wave.csv</ddi:fileName></ddi:fileTxt></ddi:fileDscr>
 <ddi:dataDscr>
  <ddi:var name="zone" nature="ordinal"><ddi:labl>Zone of the
    valley</ddi:labl><ddi:qstn><ddi:qstnLit>Where is the orchard?</ddi:qstnLit></ddi:qstn>
   <ddi:catgry><ddi:catValu>1</ddi:catValu><ddi:labl>Ridge</ddi:labl></ddi:catgry>
   <ddi:catgry><ddi:catValu>2</ddi:catValu><ddi:labl>River &amp; flat</ddi:labl></ddi:catgry>
   <ddi:catgry missing="Y"><ddi:catValu>9</ddi:catValu><ddi:labl>no answer</ddi:labl></ddi:catgry>
  </ddi:var>
  <ddi:var name="hours" intrvl="contin"><ddi:invalrng><ddi:item VALUE="-9"/><ddi:range min="-99"
   max="-90"/></ddi:invalrng></ddi:var>
  <ddi:var name="said"><ddi:varFormat type="character"/></ddi:var>
  <ddi:var name="gone"/>
 </ddi:dataDscr>
</ddi:codeBook>)");
        const auto import = readTableFile(path, {}, Job());
        QVERIFY2(import.has_value(), refusal(import).c_str());
        const Variable& zone = import->table.variables[0];
        QCOMPARE(zone.label, std::string("Zone of the valley"));
        QCOMPARE(zone.note, std::string("Where is the orchard?"));
        QVERIFY(zone.measure == Measure::OrderedGroups);
        QCOMPARE(zone.levels[1].label, std::string("River & flat"));
        QVERIFY(zone.missing == std::vector<Key>{Key(9.0)});
        const Variable& hours = import->table.variables[1];
        QVERIFY(hours.missing == std::vector<Key>{Key(-9.0)});
        QVERIFY((hours.missingRanges == std::vector<KeyRange>{{-99.0, -90.0}}));
        QVERIFY(import->table.columns[2].isText());
        QCOMPARE(import->problemCount, std::size_t{1});
        // The checksum of a source of two files hangs on both.
        const auto before = sha256OfTable(path, {});
        written("wave.csv", "zone,hours,said\n1,-9,0123\n2,5,0001\n9,-95,\n");
        QVERIFY(*sha256OfTable(path, {}) != *before);
        const std::string lone = written("alone.xml", "<codeBook/>");
        QVERIFY(refusal(readTableFile(lone, {}, Job())).find("not beside it") != std::string::npos);
        const std::string torn = written("torn.xml", "<codeBook>\n<var></codeBook>");
        QVERIFY(refusal(readTableFile(torn, {}, Job())).find("line 2") != std::string::npos);
        const std::string other = written("other.xml", "<html/>");
        QVERIFY(refusal(readTableFile(other, {}, Job())).find("no codebook") != std::string::npos);
    }

    void roundTrips() {
        QFETCH(QString, file);
        const Table table = everything();
        const auto done = writeTableFile(table, at(file));
        QVERIFY2(done.has_value(), done ? "" : done.error().text().c_str());
        const auto back = readTableFile(at(file), {}, Job());
        QVERIFY2(back.has_value(), refusal(back).c_str());
        compareTables(table, back->table, true);
        // Written twice, the second replaces the first.
        QVERIFY(writeTableFile(back->table, at(file)).has_value());
        compareTables(table, readTableFile(at(file), {}, Job())->table, true);
    }

    void aStudyReadsThem() {
        QVERIFY(writeTableFile(everything(), at("study.sqlite")).has_value());
        const auto study = readStudyText(
            R"({"format":"rapporto-study","version":1,"title":"t","source":{"kind":"table","file":"study.sqlite","reader":{"type":"sqlite","query":"select visits, member from data where visits > 0"}},"questions":[]})");
        QVERIFY(study.has_value());
        const auto sources = readSources(*study, place_.path().toStdString(), false, Job());
        QVERIFY2(sources.has_value(), sources ? "" : sources.error().text().c_str());
        QCOMPARE(sources->table->rows(), std::size_t{4});
        const auto again = readStudyText(studyText(*study));
        QCOMPARE(again->source.reader.query, study->source.reader.query);
    }

    void aReaderWithoutATypeGoesByTheEnding() {
        QVERIFY(writeTableFile(everything(), at("plain.xlsx")).has_value());
        for (const char* reader : {"", R"(,"reader":{"sheet":"data"})"}) {
            const auto study = readStudyText(
                std::string(
                    R"({"format":"rapporto-study","version":1,"title":"t","source":{"kind":"table","file":"plain.xlsx")") +
                reader + R"(},"questions":[]})");
            QVERIFY(study.has_value());
            const auto sources = readSources(*study, place_.path().toStdString(), false, Job());
            QVERIFY2(sources.has_value(), sources ? "" : sources.error().text().c_str());
            QCOMPARE(sources->table->rows(), std::size_t{6});
            QVERIFY(studyText(*study).find("\"type\": \"xlsx\"") != std::string::npos);
        }
    }

    void databasesAreOnlyRead() {
        QVERIFY(writeTableFile(everything(), at("kept.sqlite")).has_value());
        ReaderOptions options;
        options.query = "delete from data";
        QVERIFY(refusal(readTableFile(at("kept.sqlite"), options, Job())).find("would change") !=
                std::string::npos);
        options.query = "select nothing from data";
        QVERIFY(refusal(readTableFile(at("kept.sqlite"), options, Job())).find("nothing") !=
                std::string::npos);
        options.query.clear();
        options.table = "dat";
        QVERIFY(refusal(readTableFile(at("kept.sqlite"), options, Job()))
                    .find("The tables are: data") != std::string::npos);
        QCOMPARE(readTableFile(at("kept.sqlite"), {}, Job())->table.rows(), std::size_t{6});
    }

    void databasesOfOthers() {
        sqlite3* db = nullptr;
        sqlite3_open(at("other.db").c_str(), &db);
        sqlite3_exec(
            db,
            "create table a (k integer, v text, b blob, k2 real); insert into a values "
            "(1, 'x', x'00ff', 2.5), (2, null, null, null); create view w as select k from a",
            nullptr, nullptr, nullptr);
        sqlite3_close(db);
        const auto import = readTableFile(at("other.db"), {}, Job());
        QVERIFY2(import.has_value(), refusal(import).c_str());
        QVERIFY((import->parts == std::vector<std::string>{"a", "w"}));
        QCOMPARE(import->problemCount, std::size_t{1});
        QCOMPARE(import->table.columns[1].countMissing(), std::size_t{1});
        QVERIFY(
            !readTableFile(written("no.db", "this is no database, it is a text file"), {}, Job()));
    }

    void readsRecords() {
        const auto import = readTableFile(
            written(
                "r.json",
                R"([{"a":1,"b":"x","t":true},{"a":2.5,"c":null,"b":"y","t":false},{"b":"z","d":[1,2]}])"),
            {}, Job());
        QVERIFY2(import.has_value(), refusal(import).c_str());
        QCOMPARE(import->table.rows(), std::size_t{3});
        QCOMPARE(import->table.columns[0].numbers()[1], 2.5);
        QVERIFY(import->table.columns[0].isMissing(2));
        QCOMPARE(import->table.variables[2].measure, Measure::YesNo);
        QCOMPARE(import->problemCount, std::size_t{1});
        const auto lines = readTableFile(written("l.json", "{\"a\":1}\n\n{\"a\":2}\n"), {}, Job());
        QCOMPARE(lines->table.rows(), std::size_t{2});
        QVERIFY(refusal(readTableFile(written("bad.json", "{\"a\":1}\nnope\n"), {}, Job()))
                    .find("line 2") != std::string::npos);
        QVERIFY(refusal(readTableFile(written("empty.json", "[]"), {}, Job())).find("no record") !=
                std::string::npos);
    }

    void spreadsheetsHaveSheetsAndBlocks() {
        QVERIFY(writeTableFile(everything(), at("b.xlsx")).has_value());
        ReaderOptions options;
        options.block = "A1:B4";
        const auto import = readTableFile(at("b.xlsx"), options, Job());
        QVERIFY2(import.has_value(), refusal(import).c_str());
        QCOMPARE(import->table.columns.size(), std::size_t{2});
        QCOMPARE(import->table.rows(), std::size_t{3});
        QVERIFY(import->parts == std::vector<std::string>{"data"});
        options.block = "4B";
        QVERIFY(refusal(readTableFile(at("b.xlsx"), options, Job())).find("B3:F200") !=
                std::string::npos);
        options.block.clear();
        options.sheet = "Sheet7";
        QVERIFY(refusal(readTableFile(at("b.xlsx"), options, Job())).find("The sheets are: data") !=
                std::string::npos);
        QVERIFY(refusal(readTableFile(written("no.xlsx", "PK no archive"), {}, Job()))
                    .find("cannot be read") != std::string::npos);
        QVERIFY(refusal(readTableFile(at("gone.xlsx"), {}, Job())).find("cannot be opened") !=
                std::string::npos);
    }

    void openDocumentSheets() {
        const std::string path = RAPPORTO_SOURCE_DIR "/tests/data/sheet.ods";
        const auto import = readTableFile(path, {}, Job());
        QVERIFY2(import.has_value(), refusal(import).c_str());
        const Table& table = import->table;
        QCOMPARE(table.rows(), std::size_t{3});
        QCOMPARE(table.columns[1].numbers()[0], 0.25);  // 25 %
        QVERIFY(table.columns[1].isMissing(2));
        QCOMPARE(table.variables[2].measure, Measure::Date);
        QCOMPARE(dateText(table.columns[2].numbers()[0]), std::string("2024-04-24"));
        QCOMPARE(table.columns[2].numbers()[2], -1.0);
        QCOMPARE(table.columns[3].numbers()[1], 4.5);
        QVERIFY((import->parts == std::vector<std::string>{"visits", "other"}));
        ReaderOptions options;
        options.sheet = "other";
        QCOMPARE(readTableFile(path, options, Job())->table.rows(), std::size_t{2});
        QVERIFY(!readTableFile(written("no.ods", "no archive"), {}, Job()));
    }

    void readsThePackageOfTheDemo() {
        const auto import =
            readTableFile(RAPPORTO_SOURCE_DIR "/demo/growers.datapackage.json", {}, Job());
        QVERIFY2(import.has_value(), refusal(import).c_str());
        const Table& table = import->table;
        const auto& zone = table.variables[static_cast<std::size_t>(table.find("zone"))];
        QCOMPARE(zone.label, std::string("Farming zone"));
        const auto& school =
            table.variables[static_cast<std::size_t>(table.find("schooling_years"))];
        QVERIFY(school.missing == std::vector<Key>{Key(-9.0)});
        // No −9 stands in it, so none is declared.
        const auto& trees = table.variables[static_cast<std::size_t>(table.find("trees"))];
        QVERIFY(trees.missing.empty());
    }

    void packagesStayInTheirFolder() {
        const auto refused = refusal(readTableFile(
            written(
                "p.datapackage.json",
                R"({"resources":[{"name":"a","path":"../secret.csv","schema":{"fields":[]}}]})"),
            {}, Job()));
        QVERIFY2(refused.find("beside the package") != std::string::npos, refused.c_str());
        QVERIFY(refusal(readTableFile(written("q.datapackage.json", "{}"), {}, Job()))
                    .find("no resources") != std::string::npos);
    }

    void choosesByEndingAndType() {
        QCOMPARE(std::string(formatOf("/x/Data.XLSX", "")->type), std::string("xlsx"));
        QCOMPARE(std::string(formatOf("/x/a.datapackage.json", "")->type),
                 std::string("data-package"));
        QCOMPARE(std::string(formatOf("/x/a.json", "")->type), std::string("json"));
        QCOMPARE(std::string(formatOf("/x/a.dat", "")->type), std::string("csv"));
        QVERIFY(formatOf("/x/a.csv", "parquet") == nullptr);
        QVERIFY(!writeTableFile(everything(), at("no.ods")));
    }
};

QTEST_APPLESS_MAIN(TableFileTest)
#include "table_file_test.moc"
