// What looks odd about a table: each kind alone, and how often it is right on tables of our own.
#include "core/describe/odd/spelling.h"
#include "core/study/sources.h"
#include "tests/core/fixtures.h"
#include "tests/core/odd_tables.h"

#include <QTest>

#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

std::vector<Oddity> oddIn(const Frame& frame, const OddScope& scope = {}) {
    return oddities(frame, scope, Job());
}

const Oddity* find(const std::vector<Oddity>& all, OddKind kind, const std::string& variable = "") {
    for (const Oddity& one : all) {
        if (one.kind == kind && (variable.empty() || one.variables.front() == variable)) {
            return &one;
        }
    }
    return nullptr;
}

/// A table whose cells can be changed one by one.
class Edited {
  public:
    explicit Edited(const TableMaker& m) : table_(m.table()), layout_(m.layout) {}

    std::vector<double> cells(const std::string& name) const {
        const auto numbers = column(name).numbers();
        return {numbers.begin(), numbers.end()};
    }

    void set(const std::string& name, std::vector<double> cells) {
        put(name, Column::ofNumbers(name, std::move(cells)));
    }

    void setCell(const std::string& name, std::size_t row, double value) {
        auto all = cells(name);
        all[row] = value;
        set(name, std::move(all));
    }

    void setText(const std::string& name, std::size_t row, const std::string& text) {
        const Column& old = column(name);
        auto texts = old.texts();
        std::vector<std::int32_t> codes(old.codes().begin(), old.codes().end());
        auto at = std::find(texts.begin(), texts.end(), text);
        if (at == texts.end()) {
            texts.push_back(text);
            at = texts.end() - 1;
        }
        codes[row] = static_cast<std::int32_t>(at - texts.begin());
        put(name, Column::ofTexts(name, std::move(codes), std::move(texts)));
    }

    void add(const std::string& name, std::vector<double> cells) {
        table_.columns.push_back(Column::ofNumbers(name, std::move(cells)));
        Variable variable;
        variable.name = name;
        table_.variables.push_back(variable);
    }

    /// One row more, which says what `row` says.
    void repeat(std::size_t row) {
        for (Column& one : table_.columns) {
            if (one.isText()) {
                std::vector<std::int32_t> codes(one.codes().begin(), one.codes().end());
                codes.push_back(codes[row]);
                one = Column::ofTexts(one.name(), std::move(codes), one.texts());
            } else {
                std::vector<double> cells(one.numbers().begin(), one.numbers().end());
                cells.push_back(cells[row]);
                one = Column::ofNumbers(one.name(), std::move(cells));
            }
        }
    }

    std::string textAt(const std::string& name, std::size_t row) const {
        return column(name).texts()[static_cast<std::size_t>(column(name).codes()[row])];
    }

    std::size_t rows() const { return table_.rows(); }

    Table table() const { return table_; }

    Frame frame(const Sample& sample = {}, const std::vector<VariableEntry>& entries = {}) const {
        return Frame::make(table_, entries, {}, sample, layout_);
    }

  private:
    const Column& column(const std::string& name) const {
        return table_.columns[static_cast<std::size_t>(table_.find(name))];
    }

    void put(const std::string& name, Column column) {
        table_.columns[static_cast<std::size_t>(table_.find(name))] = std::move(column);
    }

    Table table_;
    Layout layout_;
};

/// A slip, where it was planted and what should be found.
struct Planted {
    Edited table;
    OddKind kind;
    std::string variable;
    std::string words;
};

/// Fifteen slips, each in two tables.
Planted plantedTable(unsigned k) {
    const unsigned seed = 7000 + k;
    const std::size_t rows = k < 15 ? 150 : 900;
    Edited people(survey(rows, seed));
    Edited years(panel(rows / 8, seed));
    const std::size_t at = 17 + 3 * k;
    switch (k % 15) {
        case 0: {
            for (std::size_t i = 3; i < rows; i += 14) {
                people.setCell("revenue", i, -99.0);
            }
            return {people, OddKind::NoAnswerCode, "revenue", "−99 in an amount"};
        }
        case 1: {
            for (std::size_t i = 5; i < rows; i += 30) {
                people.setCell("rating", i, 9.0);
            }
            return {people, OddKind::NoAnswerCode, "rating", "9 after a scale of 1 to 5"};
        }
        case 2: {
            for (std::size_t i = 2; i < rows; i += 25) {
                people.setCell("age", i, 999.0);
            }
            return {people, OddKind::NoAnswerCode, "age", "999 among ages"};
        }
        case 3:
            people.setText("zone", at, " Ridge");
            people.setText("zone", at + 1, " Ridge");
            return {people, OddKind::AlikeLevels, "zone", "“ Ridge” beside “Ridge”"};
        case 4:
            people.setText("zone", at, "upper  Terrace");
            return {people, OddKind::AlikeLevels, "zone",
                    "“upper  Terrace” beside “Upper terrace”"};
        case 5:
            people.setText("zone", at, "Rigde");
            return {people, OddKind::AlikeLevels, "zone", "“Rigde” beside “Ridge”"};
        case 6:
            people.repeat(at);
            return {people, OddKind::RepeatedRows, "", "a row entered twice"};
        case 7:
            people.setCell("orchard_ha", at, 41000.0);
            return {people, OddKind::LoneValue, "orchard_ha", "an area in square metres"};
        case 8:
            people.setCell("revenue", at, people.cells("revenue")[at] * 100.0);
            return {people, OddKind::SlippedDigit, "revenue", "an amount × 100 for its area"};
        case 9:
            years.setCell("yield_kg", at, years.cells("yield_kg")[at] / 10.0);
            return {years, OddKind::SlippedDigit, "yield_kg", "a yield ÷ 10 of its grower’s"};
        case 10:
            people.setCell("age", at, -people.cells("age")[at]);
            return {people, OddKind::WrongSign, "age", "an age below zero"};
        case 11:
            people.setCell("asked_on", at, people.cells("asked_on")[at] - 36525.0);
            return {people, OddKind::LoneDate, "asked_on", "a date a century early"};
        case 12: {
            auto cells = people.cells("revenue");
            for (double& cell : cells) {
                cell *= 0.453;
            }
            people.add("revenue_lb", cells);
            return {people, OddKind::CopiedColumn, "revenue_lb", "an amount in another unit"};
        }
        case 13:
            years.setText("zone", 4 + 8 * k / 15,
                          years.textAt("zone", 4 + 8 * k / 15) == "Ridge" ? "Valley" : "Ridge");
            return {years, OddKind::ChangedTrait, "zone", "another zone for one year"};
        default: {
            for (std::size_t i = 1; i < rows; i += 9) {
                people.setCell("profit", i, 1000.0);
            }
            return {people, OddKind::Heap, "profit", "a default in every ninth row"};
        }
    }
}

}  // namespace

class OdditiesTest : public QObject {
    Q_OBJECT

  private slots:
    void findsFewOnCleanTablesAndMostOfWhatIsPlanted();
    void namesCodesForNoAnswer_data();
    void namesCodesForNoAnswer();
    void leavesDeclaredCodesAlone();
    void tellsSpellingsFromNames_data();
    void tellsSpellingsFromNames();
    void countsLettersThatSlipped();
    void makesLettersPlain();
    void readsOneLevelAsAnother();
    void grantsThatPeopleAnswerAlike();
    void seesMomentsTwice();
    void seesFractionsAndWeights();
    void seesColumnsThatNeverVary();
    void looksAtTheSampleAlone();
    void looksAtWhatIsAskedAlone();
    void doesNotHangOnTheOrderOfRowsOrTheUnit();
    void drawsEachKind();
    void hasNothingToSayOfSmallAndEmptyTables();
};

void OdditiesTest::findsFewOnCleanTablesAndMostOfWhatIsPlanted() {
    QString table;
    int falseAlarms = 0;
    for (unsigned k = 0; k < 30; ++k) {
        const auto odd = oddIn(frameOf(cleanTable(k)));
        falseAlarms += odd.empty() ? 0 : 1;
        for (const Oddity& one : odd) {
            table += QString("clean %1: %2 – %3\n")
                         .arg(k)
                         .arg(QString::fromStdString(one.id()), QString::fromStdString(one.text));
        }
    }
    int found = 0;
    int beside = 0;
    for (unsigned k = 0; k < 30; ++k) {
        const Planted planted = plantedTable(k);
        const auto odd = oddIn(planted.table.frame());
        const bool seen = find(odd, planted.kind, planted.variable) != nullptr;
        found += seen ? 1 : 0;
        beside += odd.size() > (seen ? 1U : 0U) ? 1 : 0;
        table += QString("planted %1: %2: %3, %4 beside\n")
                     .arg(k)
                     .arg(QString::fromStdString(planted.words), seen ? "found" : "MISSED")
                     .arg(odd.size() - (seen ? 1U : 0U));
        for (const Oddity& one : odd) {
            if (&one != find(odd, planted.kind, planted.variable)) {
                table += "    " + QString::fromStdString(one.id() + " – " + one.text) + "\n";
            }
        }
    }
    table += QString(
                 "false alarms on %1 of 30 clean tables; %2 of 30 slips found; something else "
                 "told in %3\n")
                 .arg(falseAlarms)
                 .arg(found)
                 .arg(beside);
    if (qEnvironmentVariableIsSet("RAPPORTO_TELL")) {
        fprintf(stderr, "%s", qPrintable(table));
    }
    QVERIFY2(falseAlarms <= 3, qPrintable(table));
    QVERIFY2(found >= 27, qPrintable(table));
    QVERIFY2(beside <= 3, qPrintable(table));
}

void OdditiesTest::namesCodesForNoAnswer_data() {
    QTest::addColumn<QVector<double>>("cells");
    QTest::addColumn<QVector<double>>("codes");
    const auto with = [](double from, double to, double step, const QVector<double>& more) {
        QVector<double> cells;
        for (double x = from; x <= to; x += step) {
            cells << x << x;
        }
        return cells + more;
    };
    using Codes = QVector<double>;
    QTest::newRow("−9 among days") << with(0, 20, 1, {-9, -9}) << Codes{-9};
    QTest::newRow("−99 once among amounts") << with(10, 500, 7.5, {-99}) << Codes{-99};
    QTest::newRow("−8 and −9") << with(0, 12, 1, {-9, -8, -9}) << Codes{-9, -8};
    QTest::newRow("−999 under warmth") << with(-20, 30, 1, {-999, -999}) << Codes{-999};
    QTest::newRow("99 and 98 over ages") << with(18, 70, 2, {99, 98, 99, 98}) << Codes{99, 98};
    QTest::newRow("9999 once over hundreds") << with(100, 900, 20, {9999}) << Codes{9999};
    QTest::newRow("9 after 1 to 5") << with(1, 5, 0.2, {}) << Codes{};
    QTest::newRow("8, 9 after 1 to 4")
        << with(1, 4, 1, with(1, 4, 1, with(1, 4, 1, {8, 9, 9}))) << Codes{8, 9};
    QTest::newRow("9 as the tail of a count")
        << QVector<double>{0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 1, 2, 2, 2, 3, 3, 4, 5, 9} << Codes{};
    QTest::newRow("99 within its range") << with(60, 140, 1, {99, 99, 99}) << Codes{};
    QTest::newRow("−1 among losses") << with(-20, 20, 1, {-1, -1}) << Codes{};
    QTest::newRow("−9 as one of the cold") << with(-12, 20, 1, {-9}) << Codes{};
    QTest::newRow("99 just over percents") << with(50, 97, 1, {99, 99}) << Codes{};
}

void OdditiesTest::namesCodesForNoAnswer() {
    QFETCH(QVector<double>, cells);
    QFETCH(QVector<double>, codes);
    const Frame frame = Frame::make(tableOf({{"x", {cells.begin(), cells.end()}}}), {}, {}, {}, {});
    const auto odd = oddIn(frame);
    const Oddity* one = find(odd, OddKind::NoAnswerCode);
    std::set<double> told;
    for (std::size_t k = 0; one != nullptr && k < one->values.size(); ++k) {
        told.insert(std::get<double>(one->values[k]));
    }
    QCOMPARE(told, std::set<double>(codes.begin(), codes.end()));
    if (one != nullptr) {
        const auto holds = [&](double x) { return codes.contains(x); };
        QCOMPARE(one->count,
                 static_cast<std::size_t>(std::count_if(cells.begin(), cells.end(), holds)));
        QVERIFY(one->text.find("missing") != std::string::npos);
    }
}

void OdditiesTest::leavesDeclaredCodesAlone() {
    const Planted planted = plantedTable(0);
    VariableEntry entry;
    entry.name = "revenue";
    entry.missing = {Key(-99.0)};
    QVERIFY(find(oddIn(planted.table.frame()), OddKind::NoAnswerCode) != nullptr);
    QVERIFY(find(oddIn(planted.table.frame({}, {entry})), OddKind::NoAnswerCode) == nullptr);
}

void OdditiesTest::tellsSpellingsFromNames_data() {
    QTest::addColumn<QString>("often");
    QTest::addColumn<QString>("once");
    QTest::addColumn<bool>("alike");
    QTest::newRow("a space before") << "Ostrel"
                                    << " Ostrel" << true;
    QTest::newRow("a case") << "Ostrel"
                            << "OSTREL" << true;
    QTest::newRow("an accent") << "Ghisóla"
                               << "Ghisola" << true;
    QTest::newRow("a letter too few") << "Valley floor"
                                      << "Valley flor" << true;
    QTest::newRow("two letters swapped") << "Terrace"
                                         << "Terarce" << true;
    QTest::newRow("another number") << "North 1"
                                    << "North 2" << false;
    QTest::newRow("another letter that names it") << "Zone A"
                                                  << "Zone B" << false;
    QTest::newRow("its opposite") << "satisfied"
                                  << "dissatisfied" << false;
    QTest::newRow("a longer name") << "loam"
                                   << "sandy loam" << false;
    QTest::newRow("a short other name") << "clay"
                                        << "chalk" << false;
    QTest::newRow("sand and land") << "sand"
                                   << "silt" << false;
}

void OdditiesTest::tellsSpellingsFromNames() {
    QFETCH(QString, often);
    QFETCH(QString, once);
    QFETCH(bool, alike);
    TableMaker m(60, 1);
    std::vector<std::string> cells;
    for (std::size_t i = 0; i < 60; ++i) {
        cells.push_back(i == 31      ? once.toStdString()
                        : i % 2 == 0 ? often.toStdString()
                                     : std::string("Quarna"));
    }
    m.put("place", Measure::Groups, cells);
    const auto odd = oddIn(frameOf(m));
    const Oddity* one = find(odd, OddKind::AlikeLevels);
    QCOMPARE(one != nullptr, alike);
    if (alike) {
        QCOMPARE(keyText(one->values.front()), often.toStdString());
        QCOMPARE(keyText(one->values.back()), once.toStdString());
        QCOMPARE(one->rows, std::vector<std::size_t>{31});
    }
}

void OdditiesTest::countsLettersThatSlipped() {
    QCOMPARE(odd::slipsBetween("ridge", "ridge"), 0U);
    QCOMPARE(odd::slipsBetween("ridge", "rigde"), 1U);
    QCOMPARE(odd::slipsBetween("ridge", "rdge"), 1U);
    QCOMPARE(odd::slipsBetween("ridge", "bridge"), 1U);
    QCOMPARE(odd::slipsBetween("ridge", "rodgi"), 2U);
    QCOMPARE(odd::slipsBetween("größe", "grösse"), 2U);
    QCOMPARE(odd::slipsBetween("a", "abcdef"), 3U);
    QCOMPARE(odd::slipsBetween("", ""), 0U);
}

void OdditiesTest::makesLettersPlain() {
    QCOMPARE(odd::plainSpelling("  Große   STRASSE "), std::string("grosse strasse"));
    QCOMPARE(odd::plainSpelling("Čelárov\u00a0Żuk"), std::string("celarov zuk"));
    QCOMPARE(odd::plainSpelling("ΑΒΓ"), std::string("αβγ"));
    QCOMPARE(odd::plainSpelling("e\u0301tat"), std::string("etat"));
    QCOMPARE(odd::lengthOf("Čel"), 3U);
    QCOMPARE(odd::numbersIn("zone 12b 3"), std::string("12 3 "));
}

void OdditiesTest::readsOneLevelAsAnother() {
    const Planted planted = plantedTable(3);
    VariableEntry entry;
    entry.name = "zone";
    entry.readAs = {{Key(std::string(" Ridge")), Key(std::string("Ridge"))}};
    const Frame before = planted.table.frame();
    const Frame after = planted.table.frame({}, {entry});
    const auto count = [](const Frame& frame, const std::string& level) {
        for (const FoundLevel& one : levelsOf(*frame.column("zone"), *frame.variable("zone"))) {
            if (one.value == level) {
                return one.count;
            }
        }
        return std::size_t{0};
    };
    QCOMPARE(count(before, " Ridge"), 2U);
    QCOMPARE(count(after, " Ridge"), 0U);
    QCOMPARE(count(after, "Ridge"), count(before, "Ridge") + 2U);
    QVERIFY(find(oddIn(after), OddKind::AlikeLevels) == nullptr);
    // In the study it is a key of the variable, and stays so when it is read again.
    Study study;
    study.source.kind = "table";
    study.source.file = "growers.csv";
    study.variables = {entry};
    study.sample.accepted = {{"heap profit 1000", "the least that is paid"}};
    const auto again = readStudyText(studyText(study));
    QVERIFY(again);
    QVERIFY(again->variables == study.variables);
    QVERIFY(again->sample == study.sample);
    QVERIFY(again->unknownKeys.empty());
}

void OdditiesTest::grantsThatPeopleAnswerAlike() {
    // Few answers to choose from: many rows repeat, and none is a slip.
    const Frame frame = frameOf(answers(3000, 5));
    QVERIFY(find(oddIn(frame), OddKind::RepeatedRows) == nullptr);
    // Many to choose from: one that repeats is told, with both rows.
    Edited people(survey(300, 6));
    people.repeat(41);
    const auto odd = oddIn(people.frame());
    const Oddity* one = find(odd, OddKind::RepeatedRows);
    QVERIFY(one != nullptr);
    QCOMPARE(one->rows, std::vector<std::size_t>{300});
    QCOMPARE(one->title, std::string("row 301 repeats row 42"));
}

void OdditiesTest::seesMomentsTwice() {
    Edited years(panel(30, 7));
    years.setCell("year", 17, years.cells("year")[16]);
    const auto odd = oddIn(years.frame());
    const Oddity* one = find(odd, OddKind::RepeatedMoments);
    QVERIFY(one != nullptr);
    QCOMPARE(one->rows, std::vector<std::size_t>{17});
}

void OdditiesTest::seesFractionsAndWeights() {
    Edited people(survey(120, 8));
    people.setCell("visits", 9, 1.5);
    std::vector<double> weights(people.rows(), 1.25);
    weights[3] = 0.0;
    weights[5] = -2.0;
    for (std::size_t i = 10; i < 60; ++i) {
        weights[i] = 2.0 + 0.01 * static_cast<double>(i);
    }
    people.add("weight", weights);
    const auto odd = oddIn(people.frame(), {.weight = "weight"});
    QCOMPARE(find(odd, OddKind::FractionalCount)->rows, std::vector<std::size_t>{9});
    QCOMPARE(find(odd, OddKind::WeightNotAbove)->rows, (std::vector<std::size_t>{3, 5}));
    QVERIFY(find(oddIn(people.frame()), OddKind::WeightNotAbove) == nullptr);
}

void OdditiesTest::seesColumnsThatNeverVary() {
    TableMaker m(20, 9);
    m.put("one", Measure::Quantity, std::vector<double>(20, 3.0));
    m.put("none", Measure::Quantity, std::vector<double>(20, std::nan("")));
    m.put("place", Measure::Groups, std::vector<std::string>(20, "Tolzo"));
    const auto odd = oddIn(frameOf(m));
    QCOMPARE(odd.size(), 3U);
    QVERIFY(find(odd, OddKind::Constant, "none")->text.find("No row") != std::string::npos);
}

void OdditiesTest::looksAtTheSampleAlone() {
    const Planted planted = plantedTable(7);
    const auto odd = oddIn(planted.table.frame());
    const Oddity* one = find(odd, OddKind::LoneValue, "orchard_ha");
    QVERIFY(one != nullptr);
    QCOMPARE(one->rows.size(), 1U);
    Sample aside;
    aside.setAside = {{one->rows.front() + 1, "in square metres"}};
    QVERIFY(find(oddIn(planted.table.frame(aside)), OddKind::LoneValue) == nullptr);
}

void OdditiesTest::looksAtWhatIsAskedAlone() {
    const Planted planted = plantedTable(0);
    QVERIFY(find(oddIn(planted.table.frame(), {.variables = {"age", "zone"}}),
                 OddKind::NoAnswerCode) == nullptr);
    const auto asked = oddIn(planted.table.frame(), {.kinds = {OddKind::NoAnswerCode}});
    QCOMPARE(asked.size(), 1U);
    QCOMPARE(asked.front().id(), std::string("no-answer-code revenue -99"));
}

void OdditiesTest::doesNotHangOnTheOrderOfRowsOrTheUnit() {
    const Planted planted = plantedTable(8);
    const auto before = oddIn(planted.table.frame());
    // Backwards, and amounts in thousands.
    Table turned = planted.table.table();
    for (Column& one : turned.columns) {
        if (one.isText()) {
            one = Column::ofTexts(one.name(), {one.codes().rbegin(), one.codes().rend()},
                                  one.texts());
            continue;
        }
        std::vector<double> cells(one.numbers().rbegin(), one.numbers().rend());
        for (double& cell : cells) {
            cell *= one.name() == "revenue" ? 0.001 : 1.0;
        }
        one = Column::ofNumbers(one.name(), std::move(cells));
    }
    const auto after = oddIn(Frame::make(turned, {}, {}, {}, {}));
    const Oddity* one = find(before, OddKind::SlippedDigit, "revenue");
    const Oddity* other = find(after, OddKind::SlippedDigit, "revenue");
    QVERIFY(one != nullptr && other != nullptr);
    QCOMPARE(other->rows.front(), planted.table.rows() - 1 - one->rows.front());
    QCOMPARE(after.size(), before.size());
}

void OdditiesTest::drawsEachKind() {
    for (unsigned k = 0; k < 15; ++k) {
        const Planted planted = plantedTable(k);
        const Frame frame = planted.table.frame();
        for (const Oddity& one : oddIn(frame)) {
            const Exhibit e = oddExhibit(frame, one);
            QVERIFY(!e.title.empty());
            QVERIFY(one.variables.empty() || !e.x.empty());
            for (const std::size_t row : e.marked) {
                QVERIFY(row < frame.rows());
            }
            QVERIFY(!one.text.empty() && one.text.back() == '.');
        }
    }
}

void OdditiesTest::hasNothingToSayOfSmallAndEmptyTables() {
    QVERIFY(oddIn(Frame::make({}, {}, {}, {}, {})).empty());
    QVERIFY(oddIn(Frame::make(tableOf({{"x", {1.0}}}), {}, {}, {}, {})).empty());
    QVERIFY(oddIn(Frame::make(tableOf({{"x", {1.0, 2.0, 4.0}}}), {}, {}, {}, {})).empty());
    Job stopped;
    stopped.stop();
    QVERIFY(oddities(plantedTable(0).table.frame(), {}, stopped).empty());
}

QTEST_APPLESS_MAIN(OdditiesTest)
#include "oddities_test.moc"
