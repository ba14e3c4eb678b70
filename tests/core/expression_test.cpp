#include "core/data/frame.h"
#include "tests/core/fixtures.h"

#include <QTest>
#include <QThread>

#include <functional>

using namespace rapporto;
using rapporto::test::tableOf;

class ExpressionTest : public QObject {
    Q_OBJECT

    static Table table() {
        Table t = tableOf(
            {{"x", {1, 2, std::nan(""), 4}}, {"y", {10, 0, 5, -5}}, {"zone", {1, 2, 2, 1}}});
        t.columns.push_back(Column::ofTexts("name", {0, 1, -1, 0}, {"Ridge", "River"}));
        Variable v;
        v.name = "name";
        v.measure = Measure::Groups;
        t.variables.push_back(v);
        t.variables[2].levels = {{Key(1.0), "Ridge"}, {Key(2.0), "River flat"}};
        return t;
    }

    static std::string cells(const std::string& expression) {
        const Frame frame = test::frameOf(table());
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
                       : exactText(value->column.numbers()[i]);
        }
        return out;
    }

    static std::string exactText(double x) {
        const QString s = QString::number(x, 'g', 12);
        return s.toStdString();
    }

  private slots:

    void evaluates_data() {
        QTest::addColumn<QString>("expression");
        QTest::addColumn<QString>("expected");
        const auto row = [](const char* expression, const char* expected) {
            QTest::newRow(expression) << expression << expected;
        };
        row("x + y * 2", "21 2 _ -6");
        row("(x + y) * 2", "22 4 _ -2");
        row("-x - -1", "0 -1 _ -3");
        row("x / y", "0.1 _ _ -0.8");
        row("7 / 2", "3.5 3.5 3.5 3.5");
        row("power(x, 2)", "1 4 _ 16");
        row("ln(y)", "2.30258509299 _ 1.60943791243 _");
        row("sqrt(y)", "3.16227766017 0 2.2360679775 _");
        row("round(2.5)", "3 3 3 3");
        row("round(-2.5)", "-3 -3 -3 -3");
        row("round(2.345, 1)", "2.3 2.3 2.3 2.3");
        row("mod(x, 3)", "1 2 _ 1");
        row("sign(y)", "1 0 1 -1");
        row("least(x, y)", "1 0 _ -5");
        row("greatest(x, 2)", "2 2 _ 4");
        row("coalesce(x, y)", "1 2 5 4");
        row("nullif(y, 0)", "10 _ 5 -5");
        row("abs(y) > 4", "1 0 1 1");
        row("x > 1 and y > 0", "0 0 _ 0");
        row("x > 1 or y > 0", "1 1 1 1");
        row("not (x > 1)", "1 0 _ 0");
        row("x between 2 and 4", "0 1 _ 1");
        row("x not between 2 and 4", "1 0 _ 0");
        row("x in (1, 4)", "1 0 _ 1");
        row("x not in (1, null)", "0 _ _ _");
        row("x is null", "0 0 1 0");
        row("x is not null", "1 1 0 1");
        row("name = 'Ridge'", "1 0 _ 1");
        row("name in ('River', 'Ridge')", "1 1 _ 1");
        row("zone = 'River flat'", "0 1 1 0");
        row("case when x > 1 then 'many' when x = 1 then 'one' end", "one many _ many");
        row("case when y > 0 then x else 0 end", "1 0 _ 0");
        row("case when x > 1 then y end", "_ 0 _ -5");
        row("case when x > 1 then null else y end", "10 _ 5 _");
        row("\"x\" <> 1", "0 1 _ 1");
        row("null", "_ _ _ _");
        row("1e3 + .5", "1000.5 1000.5 1000.5 1000.5");
        row("LN(exp(x))", "1 2 _ 4");
        row("avg(x)", "2.33333333333 2.33333333333 2.33333333333 2.33333333333");
        row("sum(y)", "10 10 10 10");
        row("min(y)", "-5 -5 -5 -5");
        row("max(x + 1)", "5 5 5 5");
        row("median(x)", "2 2 2 2");
        row("count(x)", "3 3 3 3");
        row("count(name)", "3 3 3 3");
        row("stddev(x)", "1.52752523165 1.52752523165 1.52752523165 1.52752523165");
        row("rank(y)", "4 2 3 1");
        row("rank(zone)", "1.5 3.5 3.5 1.5");
        row("sum(x) over (partition by zone)", "5 2 2 5");
        row("avg(y) over (partition by name)", "2.5 0 5 2.5");
        row("count(x) over (partition by name)", "2 1 0 2");
        row("avg(x) over (partition by name)", "2.5 2 _ 2.5");
        row("sum(y) over (partition by zone, name)", "5 0 5 5");
        row("sum(y) over ()", "10 10 10 10");
        row("x / sum(x)", "0.142857142857 0.285714285714 _ 0.571428571429");
        row("centre(y)", "7.5 -2.5 2.5 -7.5");
        row("standardise(zone)", "-0.866025403784 0.866025403784 0.866025403784 -0.866025403784");
        row("centre(y) over (partition by zone)", "7.5 -2.5 2.5 -7.5");
        row("reverse(x, 1, 4)", "4 3 _ 1");
        row("reverse(y, 0, 10)", "0 10 5 _");
        row("bands(y, 0, 5)", "≥ 5 [0, 5) ≥ 5 < 0");
        row("bands(x, 2.5)", "< 2.5 < 2.5 _ ≥ 2.5");
        row("winsorise(y, 0.25, 0.75)", "6.25 0 5 -1.25");
        row("indicator(name, 'River')", "0 1 _ 0");
        row("indicator(zone, 'River flat')", "0 1 1 0");
        row("indicator(zone, 1)", "1 0 0 1");
    }

    void evaluates() {
        QFETCH(QString, expression);
        QFETCH(QString, expected);
        QCOMPARE(QString::fromStdString(cells(expression.toStdString())), expected);
    }

    void refusesWithPlaceAndNearestName_data() {
        QTest::addColumn<QString>("expression");
        QTest::addColumn<QString>("says");
        const auto row = [](const char* expression, const char* says) {
            QTest::newRow(expression) << expression << says;
        };
        row("zon + 1", "Did you mean ‘zone’");
        row("x + zon", "position 5");
        row("sqr(x)", "Did you mean ‘sqrt’");
        row("x +", "position 4");
        row("(x", "‘)’ is expected");
        row("x ! 2", "position 3");
        row("'open", "never closes");
        row("name + 1", "holds text");
        row("name > 1", "cannot be compared");
        row("zone = 'Rige'", "Did you mean ‘Ridge’");
        row("x and y", "needs a condition");
        row("lag(x)", "a case on its own");
        row("min(x, y)", "least");
        row("ln(x) over (partition by zone)", "one row at a time");
        row("lag(x) over (partition by zone)", "means nothing");
        row("sum(x) over (order by zone)", "‘partition by’ is expected");
        row("sum(x) over (partition by zon)", "Did you mean ‘zone’");
        row("bands(x, 3, 2)", "must ascend");
        row("bands(x, y)", "fixed number");
        row("winsorise(x, 0.9, 0.1)", "between 0 and 1");
        row("reverse(x, 7, 1)", "come first");
        row("indicator(name, 'Rivr')", "Did you mean ‘River’");
        row("avrg(x)", "Did you mean ‘avg’");
        row("ln(x, 2)", "takes 1 value");
        row("", "empty");
        row("x y", "one too many");
        row("case when x > 1 then 2", "is expected");
    }

    void refusesWithPlaceAndNearestName() {
        QFETCH(QString, expression);
        QFETCH(QString, says);
        const QString got = QString::fromStdString(cells(expression.toStdString()));
        QVERIFY2(got.startsWith("refused: ") && got.contains(says), qPrintable(got));
    }

    void spellsCanonically() {
        const auto spell = [](const std::string& text) {
            return QString::fromStdString(Expression::parse(text)->canonical());
        };
        QCOMPARE(spell("ln( x )"), QString("ln(x)"));
        QCOMPARE(spell("power(x,2)"), QString("power(x, 2)"));
        QCOMPARE(spell("a+b*c"), QString("a + b * c"));
        QCOMPARE(spell("(a+b)*c"), QString("(a + b) * c"));
        QCOMPARE(spell("a-(b-c)"), QString("a - (b - c)"));
        QCOMPARE(spell("\"two words\"+1"), QString("\"two words\" + 1"));
        QCOMPARE(spell("not(a=1)and b in(1,2)"), QString("not a = 1 and b in (1, 2)"));
        QCOMPARE(spell("EXTRACT( month  from t )+trend( )"),
                 QString("extract(month from t) + trend()"));
        QCOMPARE(
            QString::fromStdString(renamedIn("extract(day from t) * trend()", "t", "when it was")),
            QString("extract(day from \"when it was\") * trend()"));
        // What is spelled reads back as the same.
        for (const char* text :
             {"a - (b - c)", "-(x + 1)", "case when a = 'it''s' then 1 else null end",
              "x not between 1 and 2", "sum(x + 1) over (partition by zone, \"two words\")"}) {
            QCOMPARE(spell(spell(text).toStdString()), spell(text));
        }
    }

    void renamesOnlyTheName() {
        QCOMPARE(renamedIn("ln(x) + xx", "x", "z"), std::string("ln(z) + xx"));
        QCOMPARE(renamedIn("sum(a) over (partition by x)", "x", "z"),
                 std::string("sum(a) over (partition by z)"));
    }

    void countsRowsWithoutAValue() {
        const Frame frame = test::frameOf(table());
        QCOMPARE(frame.evaluateText("ln(y)")->undefined, std::size_t{2});
        QCOMPARE(frame.evaluateText("x / y")->undefined, std::size_t{1});
        const auto both = frame.evaluateText("ln(y) + 1 / (y - 10)");
        QCOMPARE(both->losses.size(), std::size_t{2});
        QCOMPARE(both->losses[0].cause, std::string("ln of zero or less"));
        QCOMPARE(both->losses[1].rows, std::size_t{1});
    }

    void settlesTheMeasureOfWhatItMakes() {
        const Frame frame = Frame::make(table(), {},
                                        {{"aged", "bands(y, 0, 5)", ""},
                                         {"first", "indicator(name, 'Ridge')", ""},
                                         {"known", "count(x)", ""},
                                         {"logged", "ln(reverse(zone, 1, 2))", ""}},
                                        {}, {});
        QCOMPARE(frame.variable("aged")->measure, Measure::OrderedGroups);
        const auto levels = levelsOf(*frame.column("aged"), *frame.variable("aged"));
        QCOMPARE(levels.size(), std::size_t{3});
        QCOMPARE(levels.front().label, std::string("< 0"));
        QCOMPARE(levels.back().label, std::string("≥ 5"));
        QCOMPARE(frame.variable("first")->measure, Measure::YesNo);
        QCOMPARE(frame.variable("known")->measure, Measure::Count);
        QCOMPARE(frame.variable("logged")->measure, Measure::Quantity);
        QVERIFY(frame.variable("logged")->levels.empty());
    }

    void derivesInOrderAndRefusesCircles() {
        const Frame frame = Frame::make(
            table(), {},
            {{"b", "a * 2", ""}, {"a", "x + 1", ""}, {"c", "d + 1", ""}, {"d", "c + 1", ""}}, {},
            {});
        QCOMPARE(frame.column("b")->numbers()[0], 4.0);
        QCOMPARE(frame.broken().size(), std::size_t{2});
        QCOMPARE(frame.broken().at("c").code, ErrorCode::Circular);
        QVERIFY(!frame.evaluateText("c + 1"));
    }

    void marksRowsByRuleAndSetAside() {
        Sample sample;
        sample.where = "x > 1";
        sample.setAside = {{4, "odd"}};
        const Frame frame = Frame::make(table(), {}, {}, sample, {});
        QCOMPARE(frame.count(RowState::In), std::size_t{1});
        QCOMPARE(frame.count(RowState::ByRule), std::size_t{2});  // false, and unknown
        QCOMPARE(frame.count(RowState::SetAside), std::size_t{1});
    }

    void appliesMissingCodes() {
        VariableEntry entry;
        entry.name = "y";
        entry.missing = std::vector<Key>{Key(-5.0), Key(0.0)};
        const Frame frame = Frame::make(table(), {entry}, {}, {}, {});
        QCOMPARE(frame.column("y")->countMissing(), std::size_t{2});
        QVERIFY(!frame.column("y")->sharesCellsWith(table().columns[1]));
    }

    void nestingAndLengthEndInWords() {
        const auto nested = [](std::size_t levels) {
            return std::string(levels, '(') + "1" + std::string(levels, ')');
        };
        QVERIFY(Expression::parse(nested(100)).has_value());
        const auto deep = Expression::parse(nested(5000));
        QVERIFY(!deep && deep.error().text().find("nested too deeply") != std::string::npos);
        std::string minuses(5000, '-');
        minuses += '1';
        QVERIFY(!Expression::parse(minuses));
        std::string nots;
        std::string sum = "1";
        for (int k = 0; k < 3000; ++k) {
            nots += "not ";
            sum += "+1";
        }
        QVERIFY(!Expression::parse(nots + "x"));
        const auto longer = Expression::parse(sum);
        QVERIFY(!longer && longer.error().text().find("longer than") != std::string::npos);
        QVERIFY(Expression::parse(sum.substr(0, 1401)).has_value());  // Of 700 ones.
    }

    void aQuotedNameIsAVariableWhateverItSpells() {
        QVERIFY(!Expression::parse("\"ln\"(x)"));
        const auto named = Expression::parse("\"over\" + \"case\"");
        QVERIFY(named.has_value());
        QCOMPARE(Expression::parse(named->canonical())->canonical(), named->canonical());
    }

    /// The longest expression there may be is worked out on the stack of any thread, and says where
    /// a fault lies.
    void longExpressionsNeedNoStack_data() {
        QTest::addColumn<QString>("first");
        QTest::addColumn<QString>("next");
        QTest::addColumn<QString>("expected");
        QTest::addColumn<int>("times");
        QTest::newRow("a sum") << "x"
                               << " + 1"
                               << "991 992 _ 994" << 990;
        QTest::newRow("a product") << "x"
                                   << " * 1"
                                   << "1 2 _ 4" << 990;
        QTest::newRow("conditions") << "x > 1"
                                    << " or y = 0"
                                    << "0 1 _ 1" << 490;
        QTest::newRow("conditions that all hold") << "x > 0"
                                                  << " and y < 99"
                                                  << "1 1 _ 1" << 490;
        QTest::newRow("brackets") << QString(20, '(') + "x" + QString(20, ')') << " - 0"
                                  << "1 2 _ 4" << 900;
        QTest::newRow("text at the end")
            << "x"
            << " + name"
            << "position 5: ‘name’ holds text, where ‘+’ needs a number" << 1;
        QTest::newRow("a number among conditions")
            << "x > 1"
            << " and y"
            << "position 11: ‘and’ needs a condition, and this is a number" << 1;
    }

    void longExpressionsNeedNoStack() {
        QFETCH(QString, first);
        QFETCH(QString, next);
        QFETCH(QString, expected);
        QFETCH(int, times);
        std::string found;

        struct Thread : QThread {
            explicit Thread(std::function<void()> what) : work(std::move(what)) {}

            void run() override { work(); }

            std::function<void()> work;
        } thread([&] { found = cells((first + next.repeated(times)).toStdString()); });

#ifdef __SANITIZE_ADDRESS__
        constexpr unsigned kLarger = 8;  // Frames are, too.
#else
        constexpr unsigned kLarger = 1;
#endif
        thread.setStackSize(kLarger * 512 * 1024);
        thread.start();
        QVERIFY(thread.wait());
        QVERIFY2(QString::fromStdString(found).contains(expected), found.c_str());
    }

    /// Each part is asked of in turn: the first fault from the left is told.
    void chainsKeepTheirOrder() {
        QCOMPARE(cells("x - y - x"), std::string("-10 0 _ 5"));
        QCOMPARE(cells("x / y / 2 * 4"), std::string("0.2 _ _ -1.6"));
        QCOMPARE(cells("x > 1 and y > 0 or zone = 1"), std::string("1 0 _ 1"));
        QVERIFY(cells("lost + name + 1").find("‘lost’") != std::string::npos);
        QVERIFY(cells("x + name + lost").find("‘name’") != std::string::npos);
    }
};

QTEST_APPLESS_MAIN(ExpressionTest)
#include "expression_test.moc"
