#include "core/io/csv.h"

#include "tests/core/fixtures.h"

#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;

class CsvTest : public QObject {
    Q_OBJECT

    static Import read(const std::string& text, const ReaderOptions& options = {}) {
        auto import = readCsvText(text, options, Job());
        if (!import) {
            qFatal("%s", import.error().text().c_str());
        }
        return *std::move(import);
    }

  private slots:

    void readsQuotedDelimitersQuotesAndLineEnds() {
        const Import i =
            read("name,note\nA,\"one, two\"\nB,\"say \"\"yes\"\"\"\nC,\"two\nlines\"\nD,\"x\"\n");
        QCOMPARE(i.table.rows(), std::size_t{4});
        const Column& note = i.table.columns[1];
        QCOMPARE(note.texts()[static_cast<std::size_t>(note.codes()[0])], std::string("one, two"));
        QCOMPARE(note.texts()[static_cast<std::size_t>(note.codes()[1])],
                 std::string("say \"yes\""));
        QCOMPARE(note.texts()[static_cast<std::size_t>(note.codes()[2])],
                 std::string("two\nlines"));
    }

    void guessesDelimiterAndDecimalMark_data() {
        QTest::addColumn<QByteArray>("text");
        QTest::addColumn<char>("delimiter");
        QTest::addColumn<char>("decimal");
        QTest::addColumn<double>("first");
        QTest::newRow("comma") << QByteArray("x,y\n1.5,2\n2.5,3\n") << ',' << '.' << 1.5;
        QTest::newRow("semicolon, decimal comma")
            << QByteArray("x;y\n1,5;2\n2,5;3\n") << ';' << ',' << 1.5;
        QTest::newRow("tab") << QByteArray("x\ty\n1.5\t2\n2.5\t3\n") << '\t' << '.' << 1.5;
        QTest::newRow("tab, decimal comma")
            << QByteArray("x\ty\n1,5\t2\n2,5\t3\n") << '\t' << ',' << 1.5;
        QTest::newRow("bar") << QByteArray("x|y\n1.5|2\n2.5|3\n") << '|' << '.' << 1.5;
        QTest::newRow("crlf") << QByteArray("x,y\r\n1.5,2\r\n2.5,3\r\n") << ',' << '.' << 1.5;
        QTest::newRow("old line ends") << QByteArray("x,y\r1.5,2\r2.5,3\r") << ',' << '.' << 1.5;
    }

    void guessesDelimiterAndDecimalMark() {
        QFETCH(QByteArray, text);
        QFETCH(char, delimiter);
        QFETCH(char, decimal);
        QFETCH(double, first);
        const Import i = read(text.toStdString());
        QCOMPARE(*i.used.delimiter, delimiter);
        QCOMPARE(*i.used.decimal, decimal);
        QCOMPARE(i.table.rows(), std::size_t{2});
        QCOMPARE(i.table.columns.size(), std::size_t{2});
        QCOMPARE(i.table.columns[0].numbers()[0], first);
    }

    void readsNumbersInTheirDress_data() {
        QTest::addColumn<QStringList>("cells");
        QTest::addColumn<QList<double>>("values");
        const auto row = [](const char* name, QStringList cells, QList<double> values) {
            QTest::newRow(name) << std::move(cells) << std::move(values);
        };
        row("points between thousands", {"1.234,5", "2.027,6", "812,4", "12.345.678,0"},
            {1234.5, 2027.6, 812.4, 12345678.0});
        row("commas between thousands, quoted", {"\"1,234.5\"", "\"2,027.6\"", "812.4"},
            {1234.5, 2027.6, 812.4});
        row("spaces between thousands", {"1 234,5", "2 027,6", "812,4"}, {1234.5, 2027.6, 812.4});
        row("apostrophes", {"1'234.5", "2'027.6", "812.4"}, {1234.5, 2027.6, 812.4});
        row("currency", {"€ 12", "€ 340", "€ 7"}, {12.0, 340.0, 7.0});
        row("per cent", {"12 %", "34 %", "7 %"}, {12.0, 34.0, 7.0});
        row("a unit behind", {"12 kg", "34 kg", "7 kg"}, {12.0, 34.0, 7.0});
        row("negatives in parentheses", {"(340)", "12", "(7)"}, {-340.0, 12.0, -7.0});
        row("a negative with marks in parentheses", {"\"(1,234.5)\"", "\"5,678.0\"", "9"},
            {-1234.5, 5678.0, 9.0});
        row("powers of ten with a decimal comma", {"1,5E3", "2,5E-1", "4,0E0"},
            {1500.0, 0.25, 4.0});
    }

    void readsNumbersInTheirDress() {
        QFETCH(QStringList, cells);
        QFETCH(QList<double>, values);
        std::string text = "grower;amount\n";
        for (int i = 0; i < 3 * cells.size(); ++i) {
            text += "T" + std::to_string(i) + ";" + cells[i % cells.size()].toStdString() + "\n";
        }
        const Import import = read(text);
        const Column& amount = import.table.columns[1];
        QVERIFY2(!amount.isText(), import.evidence[1].reason.c_str());
        for (int i = 0; i < 3 * values.size(); ++i) {
            QCOMPARE(amount.numbers()[static_cast<std::size_t>(i)], values[i % values.size()]);
        }
        // As the file is written again: it is the file’s own cells that were read.
        const Import again = read(text, import.used);
        QVERIFY(!again.table.columns[1].isText());
    }

    void namesAreNoNumbersInADress() {
        const Import import = read("plot;x\nG001;1\nG002;2\nG003;3\nG010;4\n");
        QVERIFY(import.table.columns[0].isText());
    }

    void saysWhatKeepsAColumnFromBeingNumbers() {
        std::string text = "grower;hours\n";
        for (int i = 0; i < 40; ++i) {
            text += "T" + std::to_string(i) + ";" + (i == 7 ? "n.k." : std::to_string(i)) + "\n";
        }
        const Import import = read(text);
        QVERIFY(import.table.columns[1].isText());
        QCOMPARE(import.evidence[1].inTheWay, std::vector<std::string>{"n.k."});
        ReaderOptions options;
        options.missing = {"n.k."};
        const Import mended = read(text, options);
        QVERIFY(!mended.table.columns[1].isText());
        QVERIFY(std::isnan(mended.table.columns[1].numbers()[7]));
        QCOMPARE(mended.table.columns[1].numbers()[8], 8.0);
    }

    void spacesAroundTextsAreTakenOff() {
        const std::string text = "zone,x\nSlope,1\n\" Slope\",2\n\"Slope \",3\nRidge,4\nRidge,5\n";
        const Import import = read(text);
        QCOMPARE(import.table.columns[0].texts().size(), std::size_t{2});
        QVERIFY(import.evidence[0].reason.find("space") != std::string::npos);
        ReaderOptions options;
        options.keepSpaces = true;
        QCOMPARE(read(text, options).table.columns[0].texts().size(), std::size_t{4});
    }

    void readsEveryEncoding() {
        const std::string utf8 = "ort,x\nGr\xC3\xBCn,1\nBlau,2\n";
        const std::string latin = "ort,x\nGr\xFCn,1\nBlau,2\n";
        std::string utf16 = "\xFF\xFE";
        for (const char c : std::string("ort,x\nGr")) {
            utf16 += c;
            utf16 += '\0';
        }
        utf16 += std::string("\xFC\0", 2);
        for (const char c : std::string("n,1\nBlau,2\n")) {
            utf16 += c;
            utf16 += '\0';
        }
        for (const std::string& text : {utf8, "\xEF\xBB\xBF" + utf8, latin, utf16}) {
            const Import i = read(text);
            QCOMPARE(i.table.columns[0].name(), std::string("ort"));
            QCOMPARE(i.table.columns[0].texts()[0], std::string("Gr\xC3\xBCn"));
            QCOMPARE(i.table.columns[1].numbers()[1], 2.0);
        }
    }

    void reportsRaggedRowsByLine() {
        const Import i = read("a,b,c\n1,2,3\n4,5\n6,7,8,9\n\"q\nr\",1,2\n1\n");
        QCOMPARE(i.table.rows(), std::size_t{5});
        QCOMPARE(i.problemCount, std::size_t{3});
        QCOMPARE(i.problems[0].line, std::size_t{3});
        QCOMPARE(i.problems[1].line, std::size_t{4});
        QCOMPARE(i.problems[2].line, std::size_t{7});  // After a quoted line end.
        QVERIFY(i.table.columns[2].isMissing(1));
        QCOMPARE(i.table.columns[2].numbers()[2], 8.0);
    }

    void repairsHeadersVisibly() {
        const Import i = read("x,,x\n1,2,3\n");
        QCOMPARE(i.table.columns[1].name(), std::string("column_2"));
        QCOMPARE(i.table.columns[2].name(), std::string("x_2"));
        QCOMPARE(i.problemCount, std::size_t{2});
    }

    void tellsDataFromHeader() {
        QVERIFY(!*read("1,2\n3,4\n").used.header);
        QCOMPARE(read("1,2\n3,4\n").table.rows(), std::size_t{2});
        QVERIFY(*read("a,b\n3,4\n").used.header);
    }

    void rereadsAColumnThatTurnsOutToBeText() {
        std::string text = "x,y\n";
        for (int i = 0; i < 3000; ++i) {
            text += std::to_string(i) + "," + std::to_string(i) + "\n";
        }
        text += "seven,7\n";
        const Import i = read(text);
        QVERIFY(i.table.columns[0].isText());
        QCOMPARE(i.table.columns[0].texts()[0], std::string("0"));
        QVERIFY(!i.evidence[0].suggestion.empty());
        QVERIFY(!i.table.columns[1].isText());
        QCOMPARE(i.table.columns[1].numbers()[3000], 7.0);
    }

    void readsMissingWordsInNumbersAndSaysSo() {
        const Import i = read("x\n1\nn/a\n3\n\n5\n");
        QVERIFY(!i.table.columns[0].isText());
        QVERIFY(i.table.columns[0].isMissing(1));
        QVERIFY(i.evidence[0].reason.find("n/a") != std::string::npos);
    }

    void suspectsMinusNineAsACode() {
        std::string text = "age\n";
        for (int i = 20; i < 60; ++i) {
            text += std::to_string(i) + "\n";
        }
        const Import i = read(text + "-9\n-9\n");
        QCOMPARE(i.evidence[0].suspected.size(), std::size_t{1});
        QCOMPARE(i.evidence[0].suspected[0], Key(-9.0));
        QCOMPARE(i.table.variables[0].measure, Measure::Count);
    }

    void infersMeasures() {
        const Import i = read(
            "yn,word,when,group,amount\n0,yes,2024-01-05,a,1.5\n1,no,2024-02-05,b,2\n1,yes,2024-03-"
            "05,a,4\n");
        QCOMPARE(i.table.variables[0].measure, Measure::YesNo);
        QCOMPARE(i.table.variables[1].measure, Measure::YesNo);
        QCOMPARE(i.table.variables[2].measure, Measure::Date);
        QCOMPARE(i.table.variables[3].measure, Measure::Groups);
        QCOMPARE(i.table.variables[4].measure, Measure::Quantity);
        QCOMPARE(dateText(i.table.columns[2].numbers()[1]), std::string("2024-02-05"));
        QCOMPARE(i.table.columns[1].numbers()[0], 1.0);
    }

    void readsDatesOfEveryForm_data() {
        QTest::addColumn<QString>("text");
        QTest::addColumn<bool>("dayFirst");
        QTest::addColumn<QString>("iso");
        QTest::newRow("iso") << "2012-03-04" << true << "2012-03-04";
        QTest::newRow("month") << "2012-03" << true << "2012-03-01";
        QTest::newRow("quarter") << "2012Q3" << true << "2012-07-01";
        QTest::newRow("half") << "2012H2" << true << "2012-07-01";
        QTest::newRow("week") << "2012W05" << true << "2012-01-30";
        QTest::newRow("slashes") << "31/12/2012" << true << "2012-12-31";
        QTest::newRow("month first") << "12/31/2012" << false << "2012-12-31";
        QTest::newRow("points") << "31.12.2012" << true << "2012-12-31";
        QTest::newRow("word") << "1 Jan 2000" << true << "2000-01-01";
        QTest::newRow("word first") << "Jan 1 2000" << true << "2000-01-01";
        QTest::newRow("no such day") << "2012-02-30" << true << "";
        QTest::newRow("thirteenth month") << "31/13/2012" << true << "";
    }

    void readsDatesOfEveryForm() {
        QFETCH(QString, text);
        QFETCH(bool, dayFirst);
        QFETCH(QString, iso);
        const auto date = parseDate(text.toStdString(), dayFirst);
        QCOMPARE(date ? QString::fromStdString(dateText(*date)) : QString(), iso);
    }

    void refusesWhatCannotBeRead() {
        QCOMPARE(readCsvText("", {}, Job()).error().code, ErrorCode::Syntax);
        QCOMPARE(readCsvText("a,b\n", {}, Job()).error().code, ErrorCode::Syntax);
        const auto open = readCsvText("a,b\n1,\"two\n3,4\n", {}, Job());
        QVERIFY(!open);
        QCOMPARE(open.error().where, std::string("line 2"));
        ReaderOptions odd;
        odd.encoding = "KOI-9";
        QCOMPARE(readCsvText("a\n1\n", odd, Job()).error().code, ErrorCode::BadSetting);
        QCOMPARE(readCsvFile("/no/such/file.csv", {}, Job()).error().code, ErrorCode::File);
        QCOMPARE(readCsvFile("/tmp", {}, Job()).error().code, ErrorCode::File);
    }

    void refusesInfinityAsANumber() {
        const Import i = read("x\n1\n2\n1e999\n");
        QVERIFY(i.table.columns[0].isText());
    }

    void largeFilesAreReadInPieces_data() {
        QTest::addColumn<QString>("lineEnd");
        QTest::addColumn<bool>("quotedLines");
        QTest::addColumn<bool>("strayQuote");
        QTest::newRow("plain") << "\n" << false << false;
        QTest::newRow("CRLF") << "\r\n" << false << false;
        QTest::newRow("lines inside quotes") << "\n" << true << false;
        QTest::newRow("a stray quotation mark") << "\n" << false << true;
        QTest::newRow("both") << "\r\n" << true << true;
    }

    /// Some ten megabytes: several pieces, read by several threads, give the rows of one.
    void largeFilesAreReadInPieces() {
        QFETCH(QString, lineEnd);
        QFETCH(bool, quotedLines);
        QFETCH(bool, strayQuote);
        const std::string end = lineEnd.toStdString();
        constexpr std::size_t kRows = 200000;
        std::string text = "k,name,x,remark" + end;
        for (std::size_t i = 0; i < kRows; ++i) {
            text += std::to_string(i) + ",Tolve " + std::to_string(i % 4000) + "," +
                    std::to_string(i % 7) + "." + std::to_string(i % 10) + ",";
            if (strayQuote && i % 50001 == 77) {
                text += "6\" nails";  // A mark inside a cell that does not begin with one.
            } else if (quotedLines && i % 3 == 0) {
                text += "\"first, line\nsecond \"\"line\"\" of it, and some more words\"";
            } else {
                text += "as the year before";
            }
            text += end;
        }
        text += "last,too" + end;
        const auto import = readCsvText(text, {}, Job());
        QVERIFY2(import.has_value(), import ? "" : import.error().text().c_str());
        const Table& table = import->table;
        QCOMPARE(table.rows(), kRows + 1);
        const Column& k = table.columns[0];
        QVERIFY(k.isText());  // The last row's word made it so: read again.
        QCOMPARE(k.texts().size(), kRows + 1);
        for (std::size_t i = 0; i < kRows; i += 997) {
            QCOMPARE(k.texts()[static_cast<std::size_t>(k.codes()[i])], std::to_string(i));
            QCOMPARE(table.columns[2].numbers()[i],
                     std::stod(std::to_string(i % 7) + "." + std::to_string(i % 10)));
        }
        // Texts are numbered in the order of the file.
        QCOMPARE(table.columns[1].texts()[0], std::string("Tolve 0"));
        QCOMPARE(table.columns[1].texts()[3999], std::string("Tolve 3999"));
        QCOMPARE(import->problemCount, std::size_t{1});
        QVERIFY(import->problems.front().what.find("2 of 4 cells") == 0);
        QCOMPARE(import->problems.front().line,
                 static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n')));
    }

    void roundTripsThroughAFile() {
        QTemporaryDir place;
        const std::string path = place.filePath("t.csv").toStdString();
        const Import first = read("name,x,day\n\"a, b\",0.1,2024-01-01\n\"c\"\"d\",,2024-01-02\n");
        QVERIFY(writeCsv(first.table, path).has_value());
        const auto second = readCsvFile(path, {}, Job());
        QVERIFY(second.has_value());
        QCOMPARE(second->table.columns[0].texts(), first.table.columns[0].texts());
        QCOMPARE(second->table.columns[1].numbers()[0], 0.1);
        QVERIFY(second->table.columns[1].isMissing(1));
        QCOMPARE(second->table.columns[2].numbers()[1], first.table.columns[2].numbers()[1]);
    }

    void handlesOneColumnOfBlanks() {
        const Import i = read("x,y\n,1\n,2\n");
        QCOMPARE(i.table.columns[0].countMissing(), std::size_t{2});
        QCOMPARE(i.evidence[0].reason, std::string("no value in any row"));
    }

    void aLineCanBeMendedWithoutTouchingTheFile() {
        const std::string text = "a,b\r\n1,\"x\r\n2,y\r\n3,z,4\r\n";
        QVERIFY(!readCsvText(text, {}, Job()));  // The quotation mark never closes.
        ReaderOptions options;
        options.repairs = {{2, "1,x"}, {4, "3,z"}, {4, "5,z"}, {90, "no such line"}};
        const auto import = readCsvText(text, options, Job());
        QVERIFY2(import.has_value(), import ? "" : import.error().text().c_str());
        QCOMPARE(import->table.rows(), std::size_t{3});
        QCOMPARE(import->table.columns[0].numbers()[2], 5.0);  // The last word about a line counts.
        QCOMPARE(import->problemCount, std::size_t{1});        // What names no line is said.
        QCOMPARE(import->problems[0].line, std::size_t{90});
        QVERIFY(import->used.repairs == options.repairs);
        const auto lines = linesOfText(text, options, 1, 3);
        QVERIFY(lines.has_value());
        QCOMPARE(*lines, (std::vector<std::string>{"a,b", "1,x", "2,y"}));
        QCOMPARE(linesOfText(text, {}, 4, 9)->size(), std::size_t{1});
    }
};

QTEST_APPLESS_MAIN(CsvTest)
#include "csv_test.moc"
