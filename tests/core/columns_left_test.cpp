// Rows that stay on the disk: questions, checks, correlations, values and pictures by sums over
// columns are those of the same rows at hand, and what needs rows says so.
#include "core/base/parallel.h"
#include "core/left/column_engine.h"
#include "core/left/column_relation.h"
#include "tests/core/left_pictures.h"

#include <QTemporaryDir>

#include <random>

using namespace rapporto;
using namespace rapporto::tests;

namespace {

constexpr int kRows = 3000;  // More than a block.

std::string& folder() {
    static std::string one;
    return one;
}

Result<Read> openedFile(const std::string& rows, const std::vector<nlohmann::json>& questions) {
    auto json = studyOf(rows);
    json["source"] = {{"kind", "table"}, {"file", "growers.csv"}, {"rows", rows}};
    json["questions"] = questions;
    auto study = readStudyText(json.dump());
    if (!study) {
        return tl::make_unexpected(study.error());
    }
    auto sources = readSources(*study, folder(), false, Job());
    if (!sources) {
        return tl::make_unexpected(sources.error());
    }
    Frame frame = makeFrame(*study, *sources);
    return Read{*std::move(study), *std::move(sources), std::move(frame)};
}

/// A table of numbers and texts whose sums are known.
std::shared_ptr<const Table> smallTable() {
    Table out = test::tableOf(
        {{"x", {1.0, 2.0, std::nan(""), 4.0, -0.0}}, {"g", {1.0, 2.0, 1.0, 2.0, std::nan("")}}});
    out.columns.push_back(
        Column::ofTexts("t", std::vector<std::int32_t>{1, 0, -1, 1, 2}, {"b", "a", "B"}));
    out.variables.emplace_back();
    out.variables.back().name = "t";
    return std::make_shared<const Table>(std::move(out));
}

std::string asText(const Result<ServerRows>& found) {
    if (!found) {
        return "refused: " + found.error().what;
    }
    std::string out;
    for (const auto& row : found->rows) {
        for (const auto& cell : row) {
            out += cell.value_or("null") + " ";
        }
        out += "| ";
    }
    return out;
}

}  // namespace

class ColumnsLeftTest : public QObject {
    Q_OBJECT

    QTemporaryDir dir_;

  private slots:

    void initTestCase() {
        QFile file(dir_.filePath("growers.csv"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(surveyCsv(kRows).toUtf8());
        folder() = dir_.path().toStdString();
    }

    void answersAsOfRowsAtHand_data() { addFitsBySums(); }

    void answersAsOfRowsAtHand() { fitBothWays(&openedFile); }

    void predictsAsOfRowsAtHand() { predictBothWays(&openedFile); }

    void checksAsOfRowsAtHand_data() { addChecksBySums(); }

    void checksAsOfRowsAtHand() { checkBothWays(&openedFile); }

    void correlatesAsOfRowsAtHand_data() { addCorrelationsBySums(); }

    void correlatesAsOfRowsAtHand() { correlateBothWays(&openedFile); }

    void valuesAreThoseOfRowsAtHand_data() { addExpressionsOfSql(); }

    void valuesAreThoseOfRowsAtHand() { evaluateBothWays(&openedFile); }

    void drawsAsOfRowsAtHand_data() { addPicturesBySums(); }

    void drawsAsOfRowsAtHand() { drawBothWays(&openedFile); }

    void answersStatements_data() {
        QTest::addColumn<QString>("sql");
        QTest::addColumn<QString>("rows");
        const auto ask = [](const char* sql, const char* rows) {
            QTest::newRow(sql) << QString(sql) << QString(rows);
        };
        ask("select count(*), count(x), sum(x), min(x), max(x), avg(x) from t0",
            "5 4 7 0 4 1.75 | ");
        ask("select stddev_samp(x) from t0 where x > 0", "1.5275252316519468 | ");
        ask("select sum(x), count(*) from t0 where x > 9", "null 0 | ");
        // What lacks it is a group of its own.
        ask("select g, count(*), sum(x) from t0 group by g", "1 2 1 | 2 2 6 | null 1 0 | ");
        ask("select t, count(*) from t0 group by t having count(*) > 1", "a 2 | ");
        ask("select min(t), max(t) from t0", "B b | ");
        ask("select count(*) from t0 where t < 'b'", "3 | ");
        ask("select x, t from t0 limit 2", "1 a | 2 b | ");
        ask("select d.* from (select x * 2 as y from t0 where x is not null) d where d.y > 3",
            "4 | 8 | ");
        ask("select a.x - m.x as y from (select x, g from t0) a join (select g, avg(x) as x from "
            "t0 "
            "where g is not null group by g) m on m.g = a.g where a.x is not null",
            "0 | -1 | 1 | ");
        ask("select x, row_number() over (partition by g) as nth from t0 where x is not null",
            "1 1 | 2 1 | 4 2 | 0 1 | ");
        ask("select case g when 1 then 'one' when 2 then 'two' else 'none' end as k from t0",
            "one | two | one | two | none | ");
        ask("select count(case when x = 1 or null then 1 end) from t0", "1 | ");
        ask("select count(case when not (x > 1 and g = 2) then 1 end) from t0", "3 | ");
        ask("select power(x, 2), coalesce(x, 9), nullif(x, 2), least(x, 2), greatest(x, g) from t0 "
            "where t is null or g = 2",
            "4 2 null 2 2 | null 9 null 2 1 | 16 4 4 2 4 | ");
    }

    void answersStatements() {
        QFETCH(QString, sql);
        QFETCH(QString, rows);
        ColumnEngine engine("t0", smallTable());
        QCOMPARE(QString::fromStdString(asText(engine.ask(sql.toStdString(), Job()))), rows);
    }

    void refusesWhatIsNotAsked_data() {
        QTest::addColumn<QString>("sql");
        for (const char* one : {"",
                                "select",
                                "select x",
                                "select x from",
                                "select x from t1",
                                "select y from t0",
                                "select x from t0 order by x",
                                "select x from t0 limit",
                                "select (x from t0",
                                "select 'x from t0",
                                "select x x2 x3 from t0",
                                "select md5(x) from t0",
                                "select count(distinct x) from t0",
                                "select sum(x), y from t0 group by y",
                                "select x from t0 group by x, g, t",
                                "select x from t0; drop table t0",
                                "select sum() from t0",
                                "select sum(x, g) from t0",
                                "select case x from t0",
                                "update t0 set x = 1",
                                "select x from (select x from t0",
                                "select sum(*) + from t0"}) {
            QTest::newRow(one) << QString(one);
        }
    }

    void refusesWhatIsNotAsked() {
        QFETCH(QString, sql);
        ColumnEngine engine("t0", smallTable());
        const auto found = engine.ask(sql.toStdString(), Job());
        QVERIFY2(!found.has_value(), asText(found).c_str());
        QCOMPARE(found.error().code, ErrorCode::Syntax);
    }

    /// Sums are of chunks that hang on the rows alone; numbers far from zero keep their digits.
    void addsUpTheSameWithAnyThreads() {
        std::mt19937_64 random(7);
        std::normal_distribution<double> normal;
        std::vector<double> x;
        std::vector<double> g;
        long double exact = 0.0L;
        for (int i = 0; i < 700'000; ++i) {
            x.push_back(i % 1000 == 3 ? std::nan("") : 1e9 + normal(random));
            g.push_back(i % 3);
            exact += std::isnan(x.back()) ? 0.0L : static_cast<long double>(x.back());
        }
        const auto table = std::make_shared<const Table>(test::tableOf({{"x", x}, {"g", g}}));
        const auto ask = [&](std::size_t threads) {
            setThreads(threads);
            ColumnEngine engine("t0", table);
            return asText(engine.ask("select sum(x), sum(x * x), avg(x) from t0", Job())) +
                   asText(engine.ask("select g, sum(x), count(x) from t0 group by g", Job()));
        };
        const std::string one = ask(1);
        QCOMPARE(QString::fromStdString(ask(2)), QString::fromStdString(one));
        QCOMPARE(QString::fromStdString(ask(5)), QString::fromStdString(one));
        setThreads(0);
        const double sum = std::strtod(one.c_str(), nullptr);
        QVERIFY(std::abs(sum - static_cast<double>(exact)) <= 1e-15 * std::abs(sum));
    }

    void stops() {
        Job job;
        job.stop();
        ColumnEngine engine("t0", smallTable());
        for (const char* sql :
             {"select sum(x) from t0", "select g, sum(x) from t0 group by g", "select x from t0"}) {
            const auto found = engine.ask(sql, job);
            QVERIFY(!found.has_value());
            QCOMPARE(found.error().code, ErrorCode::Stopped);
        }
    }

    void saysWhatNeedsRows_data() {
        QTest::addColumn<QString>("question");
        const auto ask = [](const char* question) { QTest::newRow(question) << QString(question); };
        ask(R"j({"estimator": {"method": "quantile"}, "terms": ["hives"]})j");
        ask(R"j({"terms": ["hives"], "errors": {"kind": "robust", "type": "HC3"}})j");
        ask(R"j({"terms": ["lag(hives)"]})j");
        ask(R"j({"terms": ["standardise(hives)"]})j");
        ask(R"j({"terms": ["hives"], "fixed_effects": ["village", "soil"]})j");
    }

    void saysWhatNeedsRows() {
        QFETCH(QString, question);
        auto json = nlohmann::json::parse(question.toStdString());
        json["id"] = "q1";
        json["outcome"] = "ln_income";
        const auto left = openedFile("left", {json});
        QVERIFY(left.has_value());
        const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
        QVERIFY(a.refusal.has_value());
        const std::string words = a.refusal->text();
        QVERIFY2(words.find("stay on the disk") != std::string::npos ||
                     words.find("lag") != std::string::npos,
                 words.c_str());
        QVERIFY2(words.find("database") == std::string::npos, words.c_str());
    }

    /// A sum of hundreds of parts is one sum; a function that is written several times over does
    /// not grow without end.
    void longExpressions() {
        std::string sum = "hives";
        for (int i = 0; i < 900; ++i) {
            sum += i % 2 == 0 ? " + age" : " - age";
        }
        const auto [a, b] = askedBothWays(&openedFile, nlohmann::json{{"id", "q1"},
                                                                      {"outcome", "ln_income"},
                                                                      {"terms", {sum, "distance"}},
                                                                      {"checks", "none"}});
        QVERIFY2(!a.refusal && !b.refusal, a.refusal ? a.refusal->text().c_str() : "");
        compareFits(a, b);
        std::string nested = "hives";
        for (int i = 0; i < 30; ++i) {
            nested = "round(" + nested + " + 0.5)";
        }
        const auto left =
            openedFile("left", {{{"id", "q1"}, {"outcome", nested}, {"terms", {"age"}}}});
        QVERIFY(left.has_value());
        const Answer c = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
        QVERIFY(c.refusal.has_value());
        QCOMPARE(c.refusal->code, ErrorCode::TooLarge);
    }

    void tellsColumnsOfTextsApart() {
        Table table;
        table.columns.push_back(
            Column::ofTexts("a", std::vector<std::int32_t>{0, 1, -1}, {"x", "y"}));
        table.columns.push_back(
            Column::ofTexts("b", std::vector<std::int32_t>{1, 1, 0}, {"y", "x"}));
        table.variables.resize(2);
        ColumnEngine engine("t0", std::make_shared<const Table>(std::move(table)));
        // One text has one number, in whatever list it stands.
        QCOMPARE(asText(engine.ask("select count(*) from t0 where a = b", Job())),
                 std::string("1 | "));
        QCOMPARE(asText(engine.ask("select d.a, d.k from (select a, case when b = 'y' then 'yes' "
                                   "else b end as k from t0) d",
                                   Job())),
                 std::string("x x | y x | null yes | "));
    }

    void findsPlacesOfValues() {
        ValuePlaces places;
        const double none = std::nan("");
        std::uint32_t next = 0;
        for (const double x : {3.0, 0.5, -1.0, 0.0, none, 1e9, 5e5}) {
            QCOMPARE(places.add(x, next), next);
            ++next;
        }
        QCOMPARE(places.add(-0.0, 99), std::uint32_t{3});
        QCOMPARE(places.add(none, 99), std::uint32_t{4});
        QCOMPARE(places.find(5e5), std::uint32_t{6});
        QCOMPARE(places.find(0.5), std::uint32_t{1});
        QCOMPARE(places.find(4.0), ValuePlaces::kNone);
        QCOMPARE(places.find(-2.5), ValuePlaces::kNone);
    }

    /// The table is named, counted and described as the one at hand, and a change of the file is
    /// told.
    void isTheTableOfItsFile() {
        const auto left = openedFile("left", {});
        const auto fetched = openedFile("fetched", {});
        QVERIFY(left && fetched);
        QCOMPARE(left->frame.left()->rows(), static_cast<double>(kRows));
        QVERIFY(left->frame.left()->isOnDisk());
        for (const Column& column : fetched->frame.table().columns) {
            const Variable* a = left->frame.variable(column.name());
            const Variable* b = fetched->frame.variable(column.name());
            QVERIFY(a != nullptr);
            QCOMPARE(a->measure, b->measure);
        }
        QVERIFY(left->frame.left()->describe(Job()).has_value());
        const auto facts = left->frame.left()->facts();
        double present = 0.0;
        double sum = 0.0;
        for (const double x : fetched->frame.column("hives")->numbers()) {
            present += std::isnan(x) ? 0.0 : 1.0;
            sum += std::isnan(x) ? 0.0 : x;
        }
        QCOMPARE(facts->at("hives").present, present);
        same("mean", facts->at("hives").mean, sum / present);
        Study changed = left->study;
        changed.source.sha256 = std::string(64, '0');
        const auto refused = readSources(changed, folder(), false, Job());
        QVERIFY(!refused.has_value());
        QCOMPARE(refused.error().code, ErrorCode::Changed);
        QVERIFY(readSources(changed, folder(), true, Job()).has_value());
        const std::string written = studyText(left->study);
        QVERIFY(written.find("\"rows\": \"left\"") != std::string::npos);
        QCOMPARE(readStudyText(written)->source.reader.left, true);
    }
};

QTEST_GUILESS_MAIN(ColumnsLeftTest)
#include "columns_left_test.moc"
