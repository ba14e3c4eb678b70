// A picture as a table of its marks: what a reader who does not see it is told.
#include "core/picture/mark_table.h"

#include <QTest>

#include <cmath>

using namespace rapporto;

namespace {

MarkTable tableOf(Exhibit e) { return MarkTable(std::make_shared<const Exhibit>(std::move(e))); }

std::string line(const MarkTable& table, std::size_t row) {
    std::string out;
    for (std::size_t c = 0; c < table.columns(); ++c) {
        out += (c > 0 ? "|" : "") + table.cell(row, c);
    }
    return out;
}

}  // namespace

class MarkTableTest : public QObject {
    Q_OBJECT

  private slots:

    void pointsAreNamedByTheirRows() {
        Exhibit e;
        e.xTitle = "hives";
        e.yTitle = "revenue, fl";
        e.x = {4.0, 5.5};
        e.y = {1200.0, 900.0};
        e.rows = {11, 3};
        e.series = {0, 1};
        e.seriesNames = {"Ridge", "Plain"};
        const MarkTable plain = tableOf(e);
        QCOMPARE(plain.rows(), std::size_t{2});
        QCOMPARE(plain.head(2), std::string("hives"));
        QCOMPARE(line(plain, 0), std::string("point|row 12, Ridge|4|1\u202f200"));
        QCOMPARE(plain.sourceRows(1), std::vector<std::size_t>{3});
        const MarkTable named(std::make_shared<const Exhibit>(e),
                              [](std::size_t row) { return "grower " + std::to_string(row); });
        QCOMPARE(named.cell(1, 1), std::string("grower 3, Plain"));
        QCOMPARE(named.sentence(1),
                 std::string("point, grower 3, Plain: hives 5.5, revenue, fl 900"));
    }

    void coordinatesAreTheValuesTheyStandFor() {
        Exhibit e;
        e.xScale = AxisScale::Log;
        e.yScale = AxisScale::Date;
        e.x = {3.0};
        e.y = {19846.0};
        e.rows = {0};
        const MarkTable table = tableOf(e);
        QCOMPARE(table.cell(0, 2), std::string("1\u202f000"));
        QVERIFY2(table.cell(0, 3).find("2024") != std::string::npos, table.cell(0, 3).c_str());
        QCOMPARE(table.head(2), std::string("across"));
    }

    void groupsAndTicksAreTold() {
        Exhibit e;
        e.xNames = {"Ridge", "Plain"};
        e.yTitle = "income";
        e.boxes = {{2.0, 1.0, 2.0, 3.0, 4.0, 5.0}};
        e.intervals = {{1.0, -1.0, 0.5, 2.0, -1}};
        const MarkTable table = tableOf(e);
        QCOMPARE(line(table, 0), std::string("box||Plain|3|2|4"));
        QCOMPARE(line(table, 1), std::string("interval||Ridge|0.5|−1|2"));
        QCOMPARE(table.head(4), std::string("from"));
        QVERIFY(table.sourceRows(0).empty());
    }

    void barsTellTheirEnds() {
        Exhibit e;
        e.xTitle = "age";
        e.yTitle = "rows";
        Exhibit::Bar bar;
        bar.x0 = 20.0;
        bar.x1 = 30.0;
        bar.y1 = 7.0;
        bar.says = "20 to 30: 7 rows";
        bar.rows = {1, 2, 5};
        e.bars = {bar};
        const MarkTable table = tableOf(e);
        QCOMPARE(line(table, 0), std::string("bar|20 to 30: 7 rows|20 to 30|7|0|7"));
        QCOMPARE(table.sourceRows(0), (std::vector<std::size_t>{1, 2, 5}));
        Exhibit lying;
        lying.x = {4.0, 1.5};
        lying.barNames = {"hives", "age"};
        lying.xTitle = "inflation";
        const MarkTable down = tableOf(lying);
        QCOMPARE(down.columns(), std::size_t{3});
        QCOMPARE(line(down, 1), std::string("bar|age|1.5"));
    }

    void linesAndBandsArePlaceByPlace() {
        Exhibit e;
        e.x = {1.0};
        e.y = {1.0};
        e.lines = {{"fit", {0.0, 1.0, 2.0}, {1.0, 2.0, 3.0}}};
        e.bands = {{"95 %", {0.0, 2.0}, {0.5, 2.5}, {1.5, 3.5}}};
        const MarkTable table = tableOf(e);
        QCOMPARE(table.rows(), std::size_t{6});
        QCOMPARE(line(table, 2), std::string("line|fit|1|2||"));
        QCOMPARE(line(table, 5), std::string("band|95 %|2||2.5|3.5"));
        QCOMPARE(table.mark(5).y, 3.0);
    }

    void textEndsWhereItIsToldTo() {
        Exhibit e;
        e.xTitle = "a\tb";
        for (int i = 0; i < 10; ++i) {
            e.x.push_back(i);
            e.y.push_back(i);
        }
        const std::string text = tableOf(e).text(3);
        QCOMPARE(std::count(text.begin(), text.end(), '\n'), 5);
        QVERIFY(text.starts_with("mark\tname\ta b\tup\npoint\t\t0\t0\n"));
        QVERIFY(text.ends_with("… and 7 marks more\n"));
    }

    void aMillionMarksCostNothingUntilAsked() {
        Exhibit e;
        e.x.assign(1000000, 1.0);
        e.y.assign(1000000, 2.0);
        const MarkTable table = tableOf(std::move(e));
        QCOMPARE(table.rows(), std::size_t{1000000});
        QCOMPARE(line(table, 999999), std::string("point||1|2"));
    }

    void nothingHasNoMarks() {
        QCOMPARE(tableOf({}).rows(), std::size_t{0});
        QCOMPARE(MarkTable().rows(), std::size_t{0});
    }
};

QTEST_GUILESS_MAIN(MarkTableTest)
#include "mark_table_test.moc"
