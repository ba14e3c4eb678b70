// Rows in time: moments, gaps, repeats, lags. Expected values are worked out by hand.
#include "core/data/frame.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <chrono>
#include <numeric>

using namespace rapporto;
using rapporto::test::tableOf;

namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

double days(int y, unsigned m, unsigned d) {
    using namespace std::chrono;
    return static_cast<double>(sys_days{year{y} / month{m} / day{d}}.time_since_epoch().count());
}

Layout panel() { return {Layout::Kind::Panel, "unit", "year", {}}; }

Layout series() { return {Layout::Kind::Series, {}, "time", {}}; }

/// Unit 1: 2015, 2016, 2018 (a gap); unit 2: 2017 alone; unit 3: 2015 to 2017; one row without a
/// year. Shuffled, as files are.
Table unbalanced() {
    return tableOf({{"unit", {3, 1, 1, 2, 3, 1, 3, 2}},
                    {"year", {2017, 2018, 2015, 2017, 2015, 2016, 2016, kNone}},
                    {"x", {30, 9, 1, 5, 10, 4, kNone, 7}}});
}

std::string cells(const Frame& frame, const std::string& expression) {
    const auto value = frame.evaluateText(expression);
    if (!value) {
        return "refused: " + value.error().text();
    }
    std::string out;
    for (std::size_t i = 0; i < value->column.size(); ++i) {
        out += i > 0 ? " " : "";
        out += value->column.isMissing(i) ? "_"
               : value->column.isText()
                   ? value->column.texts()[static_cast<std::size_t>(value->column.codes()[i])]
                   : QString::number(value->column.numbers()[i], 'g', 10).toStdString();
    }
    return out;
}

Table seriesOf(const std::vector<double>& times, bool dates) {
    Table table = tableOf({{"time", times}});
    table.variables[0].measure = dates ? Measure::Date : Measure::Quantity;
    std::vector<double> x(times.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
        x[i] = static_cast<double>(i + 1);
    }
    table.columns.push_back(Column::ofNumbers("x", x));
    Variable variable;
    variable.name = "x";
    table.variables.push_back(variable);
    return table;
}

}  // namespace

class LayoutTest : public QObject {
    Q_OBJECT

  private slots:

    void lagsStayWithinUnitsAndMoments_data() {
        QTest::addColumn<QString>("expression");
        QTest::addColumn<QString>("expected");
        const auto row = [](const char* expression, const char* expected) {
            QTest::newRow(expression) << expression << expected;
        };
        // Rows:            3/17 1/18 1/15 2/17 3/15 1/16 3/16 2/?
        row("lag(x)", "_ _ _ _ _ 1 10 _");
        row("lag(x, 2)", "10 4 _ _ _ _ _ _");
        row("lag(x, 3)", "_ 1 _ _ _ _ _ _");
        row("lag(x, 0)", "30 9 1 5 10 4 _ _");
        row("lead(x)", "_ _ 4 _ _ _ 30 _");
        row("lag(x, -1)", "_ _ 4 _ _ _ 30 _");
        row("change(x)", "_ _ _ _ _ 3 _ _");
        row("growth(x)", "_ _ _ _ _ 1.386294361 _ _");
        row("lag(lag(x))", "10 _ _ _ _ _ _ _");
        row("x - lag(x) > 2", "_ _ _ _ _ 1 _ _");
        row("lag(ln(x))", "_ _ _ _ _ 0 2.302585093 _");
        row("trend()", "2 3 0 2 0 1 1 _");
        row("power(trend(), 2)", "4 9 0 4 0 1 1 _");
    }

    void lagsStayWithinUnitsAndMoments() {
        QFETCH(QString, expression);
        QFETCH(QString, expected);
        const Frame frame = Frame::make(unbalanced(), {}, {}, {}, panel());
        QCOMPARE(QString::fromStdString(cells(frame, expression.toStdString())), expected);
    }

    void aTrendTakesNothingAndNeedsTime() {
        const Frame frame = Frame::make(unbalanced(), {}, {}, {}, panel());
        QVERIFY(cells(frame, "trend(x)").find("takes nothing") != std::string::npos);
        const Frame flat = Frame::make(unbalanced(), {}, {}, {}, {});
        QVERIFY(cells(flat, "trend()").starts_with("refused"));
        // A variable of that name stays one.
        const Frame named =
            Frame::make(tableOf({{"trend", {5, 6}}, {"extract", {7, 8}}}), {}, {}, {}, {});
        QCOMPARE(cells(named, "trend + extract"), std::string("12 14"));
    }

    void partsOfADate_data() {
        QTest::addColumn<QString>("expression");
        QTest::addColumn<QString>("expected");
        const auto row = [](const char* expression, const char* expected) {
            QTest::newRow(expression) << expression << expected;
        };
        // 2015-12-31 (a Thursday), 2016-01-01 (of week 53), 2018-12-31 (of week 1), 1969-03-01.
        row("extract(year from time)", "2015 2016 2018 1969 _");
        row("extract(quarter from time)", "4 1 4 1 _");
        row("EXTRACT(Month FROM time)", "12 1 12 3 _");
        row("extract(week from time)", "53 53 1 9 _");
        row("extract(day from time)", "31 1 31 1 _");
        row("extract(month from time) = 12", "1 0 1 0 _");
    }

    void partsOfADate() {
        QFETCH(QString, expression);
        QFETCH(QString, expected);
        const Frame frame = test::frameOf(seriesOf(
            {days(2015, 12, 31), days(2016, 1, 1), days(2018, 12, 31), days(1969, 3, 1), kNone},
            true));
        QCOMPARE(QString::fromStdString(cells(frame, expression.toStdString())), expected);
    }

    void partsOfWhatIsNoDateAreRefused() {
        const Frame dates = test::frameOf(seriesOf({days(2015, 12, 31)}, true));
        QVERIFY(cells(dates, "extract(century from time)").find("no part of a date") !=
                std::string::npos);
        QVERIFY(cells(dates, "extract(year from x)").find("name of a date") != std::string::npos);
        QVERIFY(cells(dates, "extract(year from x + 1)").starts_with("refused"));
        QVERIFY(cells(dates, "extract(year from)").starts_with("refused"));
        QVERIFY(cells(dates, "extract(year of time)").starts_with("refused"));
        // Beyond the calendar there is no part to tell.
        QCOMPARE(cells(test::frameOf(seriesOf({1e12, -1e12, 9e6}, true)), "extract(day from time)"),
                 std::string("_ _ 2"));
    }

    void saysWhyALagIsMissing() {
        const Frame frame = Frame::make(unbalanced(), {}, {}, {}, panel());
        const auto losses = frame.evaluateText("lag(x)")->losses;
        const std::vector<Loss> expected = {{"before the first moment", 3},
                                            {"across a gap in time", 1},
                                            {"without a time or unit", 1}};
        QVERIFY(losses == expected);
    }

    void factsNameGapsSinglesAndRepeats() {
        Table table = unbalanced();
        const auto order = orderRows(table, panel());
        QVERIFY(order.has_value());
        const LayoutFacts facts = layoutFacts(*order);
        QCOMPARE(facts.units, std::size_t{3});
        QCOMPARE(facts.moments, std::size_t{4});
        QCOMPARE(facts.rows, std::size_t{7});
        QCOMPARE(facts.unplaced, std::size_t{1});
        QVERIFY(facts.afterGap == std::vector<std::uint32_t>{1});
        QVERIFY(facts.singles == std::vector<std::uint32_t>{3});
        QVERIFY(facts.repeated.empty());
        QVERIFY(!facts.balanced);

        const Table twice = tableOf({{"unit", {1, 1, 1}}, {"year", {1, 2, 2}}, {"x", {1, 2, 3}}});
        const Frame frame = Frame::make(twice, {}, {}, {}, panel());
        QVERIFY(layoutFacts(*frame.timeOrder()).repeated == std::vector<std::uint32_t>{2});
        const std::string refused = cells(frame, "lag(x)");
        QVERIFY2(refused.find("repeats a moment") != std::string::npos, refused.c_str());
        QVERIFY(refused.find("row 3") != std::string::npos);
    }

    void findsTheFrequency_data() {
        QTest::addColumn<QList<double>>("times");
        QTest::addColumn<bool>("dates");
        QTest::addColumn<QString>("step");
        QTest::addColumn<QString>("lagged");
        const auto row = [](const char* name, QList<double> times, bool dates, const char* step,
                            const char* lagged) {
            QTest::newRow(name) << times << dates << step << lagged;
        };
        row("years as numbers", {2001, 2002, 2004}, false, "1", "_ 1 _");
        row("every second year", {2001, 2003, 2005, 2009}, false, "2", "_ 1 2 _");
        row("quarters as parts", {2001, 2001.25, 2001.75}, false, "0.25", "_ 1 _");
        row("months as parts", {2001, 2001.083, 2001.167}, false, "0.0833333", "_ 1 2");
        row("years", {days(2001, 1, 1), days(2002, 1, 1), days(2003, 1, 1)}, true, "year", "_ 1 2");
        row("half-years", {days(2001, 1, 1), days(2001, 7, 1), days(2002, 7, 1)}, true, "half",
            "_ 1 _");
        row("quarters", {days(2001, 1, 1), days(2001, 4, 1), days(2001, 10, 1)}, true, "quarter",
            "_ 1 _");
        row("months", {days(2001, 1, 15), days(2001, 2, 15), days(2001, 3, 15)}, true, "month",
            "_ 1 2");
        row("ends of months", {days(2001, 1, 31), days(2001, 2, 28), days(2001, 3, 31)}, true,
            "month", "_ 1 2");
        row("weeks", {days(2001, 1, 1), days(2001, 1, 8), days(2001, 1, 22)}, true, "week",
            "_ 1 _");
        row("days", {days(2001, 1, 1), days(2001, 1, 2), days(2001, 1, 4)}, true, "day", "_ 1 _");
        row("before 1970", {days(1968, 11, 1), days(1968, 12, 1), days(1969, 1, 1)}, true, "month",
            "_ 1 2");
        row("no step at all", {0.12345, 0.5, 7.00001}, false, "row", "_ 1 2");
    }

    void findsTheFrequency() {
        QFETCH(QList<double>, times);
        QFETCH(bool, dates);
        QFETCH(QString, step);
        QFETCH(QString, lagged);
        const Table table = seriesOf({times.begin(), times.end()}, dates);
        const Frame frame = Frame::make(table, {}, {}, {}, series());
        QVERIFY2(frame.timeOrder().has_value(), frame.timeOrder() ? "" : "refused");
        QCOMPARE(QString::fromStdString(frame.timeOrder()->stepText()), step);
        QCOMPARE(QString::fromStdString(cells(frame, "lag(x)")), lagged);
    }

    void aChosenFrequencyCounts() {
        const Table table = seriesOf({days(2001, 1, 5), days(2001, 1, 8), days(2001, 1, 9)}, true);
        Layout layout = series();
        QCOMPARE(cells(Frame::make(table, {}, {}, {}, layout), "lag(x)"), std::string("_ _ 2"));
        layout.frequency = "order";  // Friday to Monday is one step on a market.
        QCOMPARE(cells(Frame::make(table, {}, {}, {}, layout), "lag(x)"), std::string("_ 1 2"));
        layout.frequency = "fortnight";
        QVERIFY(cells(Frame::make(table, {}, {}, {}, layout), "lag(x)").starts_with("refused"));
    }

    void refusesWhereThereIsNoTime() {
        const std::string why = cells(Frame::make(unbalanced(), {}, {}, {}, {}), "lag(x)");
        QVERIFY2(why.find("a case on its own") != std::string::npos, why.c_str());
        Layout lost = panel();
        lost.time = "moment";
        QVERIFY(cells(Frame::make(unbalanced(), {}, {}, {}, lost), "lag(x)")
                    .find("no variable ‘moment’") != std::string::npos);
    }

    void theOrderOfRowsInTheFileMeansNothing() {
        // A panel with holes, in the order of units and shuffled: the same lags row for row.
        std::vector<double> unit;
        std::vector<double> year;
        std::vector<double> x;
        std::uint32_t state = 7;
        const auto draw = [&] { return (state = state * 1664525U + 1013904223U) >> 8U; };
        for (int u = 0; u < 40; ++u) {
            for (int t = 0; t < 12; ++t) {
                if (draw() % 4 != 0) {
                    unit.push_back(u);
                    year.push_back(2000 + t);
                    x.push_back(static_cast<double>(draw() % 1000));
                }
            }
        }
        std::vector<std::size_t> order(x.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        for (std::size_t i = order.size(); i > 1; --i) {
            std::swap(order[i - 1], order[draw() % i]);
        }
        const auto shuffled = [&](const std::vector<double>& v) {
            std::vector<double> out;
            for (const std::size_t i : order) {
                out.push_back(v[i]);
            }
            return out;
        };
        const Frame sorted =
            Frame::make(tableOf({{"unit", unit}, {"year", year}, {"x", x}}), {}, {}, {}, panel());
        const Frame mixed = Frame::make(
            tableOf({{"unit", shuffled(unit)}, {"year", shuffled(year)}, {"x", shuffled(x)}}), {},
            {}, {}, panel());
        for (const char* expression : {"lag(x)", "lead(x, 2)", "change(x)", "rank(x)",
                                       "median(x) over (partition by unit)"}) {
            const auto a = sorted.evaluateText(expression);
            const auto b = mixed.evaluateText(expression);
            QVERIFY(a && b);
            for (std::size_t i = 0; i < order.size(); ++i) {
                const double left = a->column.numbers()[order[i]];
                const double right = b->column.numbers()[i];
                QVERIFY(left == right || (std::isnan(left) && std::isnan(right)));
            }
        }
    }
};

QTEST_APPLESS_MAIN(LayoutTest)
#include "layout_test.moc"
