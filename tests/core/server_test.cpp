// Tables of a database server: fetched as they are, and left there with questions answered by sums
// that come out as if the rows were at hand. A server of the test's own is started for it.
#include "core/io/server_connection.h"
#include "core/io/table_file.h"
#include "core/left/left_rows.h"
#include "core/model/likelihood.h"
#include "core/study/sources.h"
#include "tests/core/left_questions.h"

#include <fmt/format.h>

#include <QTest>

#include <thread>

using namespace rapporto;
using namespace rapporto::test;
using namespace rapporto::tests;

class ServerTest : public QObject {
    Q_OBJECT

  private slots:

    void initTestCase() {
        server_ = std::make_unique<tests::TestServer>();
        if (!server_->why().isEmpty()) {
            QSKIP(qPrintable(server_->why()));
        }
        QVERIFY(server_->sql(surveySql(600)));
    }

    void cleanupTestCase() { server_.reset(); }

    void fetchesTypesLabelsAndOrder();
    void tellsAChangedTableByItsChecksum();
    void refusesWhatItCannotRead_data();
    void refusesWhatItCannotRead();
    void changesNothingInTheDatabase();
    void keepsWhoConnectsOutOfTheStudy();
    void answersLeftAsFetched_data();
    void answersLeftAsFetched();
    void predictsAndTestsLeftAsFetched();
    void checksLeftAsFetched_data();
    void checksLeftAsFetched();
    void correlatesLeftAsFetched_data();
    void correlatesLeftAsFetched();
    void refusesCorrelationsThatNeedRows_data();
    void refusesCorrelationsThatNeedRows();
    void refusesMoreSumsThanADatabaseIsAskedFor();
    void agreesWithTheEngineOnExpressions_data();
    void agreesWithTheEngineOnExpressions();
    void saysWhatNeedsRows_data();
    void saysWhatNeedsRows();
    void drawsASampleThatIsDrawnAgainAlike();
    void asksEveryServerForItsOwnSums();
    void stopsWhileTheEngineWorks();
    void saysThatTheServerWentAway();
    void standInRowsHaveTheMomentsAskedFor();

  private:
    std::unique_ptr<tests::TestServer> server_;
};

void ServerTest::fetchesTypesLabelsAndOrder() {
    QVERIFY(
        server_->sql("create table odd_types (id integer primary key, code bigint, big bigint, "
                     "truth boolean, day date, at timestamp, price numeric(8, 3), kind soil, "
                     "note text, none float8);\n"
                     "comment on column odd_types.price is 'Price asked';\n"
                     "insert into odd_types values "
                     "(3, 5, 9007199254740993, true, '2024-02-29', '2024-02-29 00:00', 1.125, "
                     "'clay', ' spaced ', 'NaN'), "
                     "(1, 7, 9007199254740995, null, 'infinity', '2024-03-01 00:00', null, "
                     "'sand', 'a;b\"c', 2.5), "
                     "(2, null, null, false, '1969-12-31', null, -0.5, null, null, null);"));
    ReaderOptions options;
    options.type = "postgresql";
    options.service = "warehouse";
    options.table = "public.odd_types";
    const auto read = readTableFile({}, options, Job());
    QVERIFY2(read.has_value(), read ? "" : read.error().text().c_str());
    const Table& t = read->table;
    QCOMPARE(t.rows(), std::size_t{3});
    const auto column = [&](const char* name) -> const Column& {
        return t.columns[static_cast<std::size_t>(t.find(name))];
    };
    const auto variable = [&](const char* name) -> const Variable& {
        return t.variables[static_cast<std::size_t>(t.find(name))];
    };
    // In the order of the key.
    QCOMPARE(column("id").numbers()[0], 1.0);
    QCOMPARE(column("id").numbers()[2], 3.0);
    QCOMPARE(column("code").numbers()[0], 7.0);
    QVERIFY(column("code").isMissing(1));
    // A whole number beyond the digits of a double is a name.
    QVERIFY(column("big").isText());
    QCOMPARE(column("big").texts()[static_cast<std::size_t>(column("big").codes()[2])],
             std::string("9007199254740993"));
    QCOMPARE(variable("truth").measure, Measure::YesNo);
    QVERIFY(column("truth").isMissing(0));
    QCOMPARE(variable("day").measure, Measure::Date);
    QCOMPARE(dateText(column("day").numbers()[2]), std::string("2024-02-29"));
    QCOMPARE(column("day").numbers()[1], -1.0);
    QVERIFY(column("day").isMissing(0));
    QCOMPARE(dateText(column("at").numbers()[0]), std::string("2024-03-01"));
    QCOMPARE(column("price").numbers()[2], 1.125);
    QCOMPARE(variable("price").label, std::string("Price asked"));
    QCOMPARE(variable("kind").levels.size(), std::size_t{3});
    QCOMPARE(keyText(variable("kind").levels[0].value), std::string("sand"));
    QVERIFY(column("none").isMissing(2));
    QCOMPARE(column("none").numbers()[0], 2.5);
    QCOMPARE(read->problemCount, std::size_t{1});
    QVERIFY(std::find(read->parts.begin(), read->parts.end(), "public.growers") !=
            read->parts.end());
}

void ServerTest::tellsAChangedTableByItsChecksum() {
    QVERIFY(
        server_->sql("create table moving (id integer primary key, x float8); "
                     "insert into moving values (1, 1.5), (2, 2.5);"));
    auto json = studyOf("fetched");
    json["source"]["reader"]["table"] = "moving";
    json.erase("variables");
    json.erase("derived");
    json.erase("sample");
    const auto first = opened(json);
    QVERIFY(first.has_value());
    QCOMPARE(first->sources.sha256.size(), std::size_t{64});
    json["source"]["sha256"] = first->sources.sha256;
    QVERIFY(opened(json).has_value());
    // Rows in another place are the same table; another digit is not.
    QVERIFY(server_->sql("update moving set x = 1.5 where id = 1;"));
    QVERIFY(opened(json).has_value());
    QVERIFY(server_->sql("update moving set x = 1.5000000000000002 where id = 1;"));
    const auto changed = opened(json);
    QVERIFY(!changed.has_value());
    QCOMPARE(changed.error().code, ErrorCode::Changed);
}

void ServerTest::refusesWhatItCannotRead_data() {
    QTest::addColumn<QString>("key");
    QTest::addColumn<QString>("value");
    QTest::addColumn<QString>("words");
    QTest::newRow("no table") << "table"
                              << "farmers"
                              << "there is no table ‘farmers’";
    QTest::newRow("no service") << "service"
                                << "nowhere"
                                << "cannot be reached";
    QTest::newRow("two statements") << "query"
                                    << "select 1 as a; select 2 as b"
                                    << "more than one statement";
    QTest::newRow("a write") << "query"
                             << "delete from growers returning id"
                             << "";
    QTest::newRow("brackets") << "query"
                              << "select 1 as a) as asked; drop table growers; --"
                              << "";
    QTest::newRow("open value") << "query"
                                << "select * from growers where id = $1"
                                << "leaves values open";
    QTest::newRow("no such column") << "query"
                                    << "select hens from growers"
                                    << "hens";
    QTest::newRow("named twice") << "query"
                                 << "select id, age as id from growers"
                                 << "two columns are named ‘id’";
    QTest::newRow("no rows") << "query"
                             << "select * from growers where id < 0"
                             << "there is no row";
    QTest::newRow("a function that writes") << "query"
                                            << "select nextval('counter') as n"
                                            << "would change the database";
}

void ServerTest::refusesWhatItCannotRead() {
    QFETCH(QString, key);
    QFETCH(QString, value);
    QFETCH(QString, words);
    QVERIFY(server_->sql("create sequence if not exists counter;"));
    for (const std::string rows : {"fetched", "left"}) {
        auto json = studyOf(rows);
        json["source"]["reader"][key.toStdString()] = value.toStdString();
        const auto read = opened(json);
        QVERIFY(!read.has_value());
        QVERIFY2(QString::fromStdString(read.error().text()).contains(words),
                 read.error().text().c_str());
    }
}

void ServerTest::changesNothingInTheDatabase() {
    auto json = studyOf("fetched");
    const auto read = opened(json);
    QVERIFY(read.has_value());
    QCOMPARE(read->frame.rows(), std::size_t{600});
}

void ServerTest::keepsWhoConnectsOutOfTheStudy() {
    const auto read = openedWith("left", {});
    QVERIFY(read.has_value());
    const std::string written = studyText(read->study);
    QVERIFY(written.find(server_->socket().toStdString()) == std::string::npos);
    QVERIFY(written.find("demo") == std::string::npos);
    const auto json = nlohmann::json::parse(written);
    QVERIFY(json["source"]["rows"] == "left");
    QVERIFY(json["source"]["reader"]["service"] == "warehouse");
    QVERIFY(!json["source"].contains("file"));
    // A summary has no rows that could be left anywhere.
    auto wrong = studyOf("left");
    wrong["source"] = {{"kind", "summary"}, {"file", "growers.csv"}, {"rows", "left"}};
    QVERIFY(!readStudyText(wrong.dump()).has_value());
}

void ServerTest::answersLeftAsFetched_data() { addFitsBySums(); }

void ServerTest::answersLeftAsFetched() { fitBothWays(&openedWith); }

void ServerTest::predictsAndTestsLeftAsFetched() { predictBothWays(&openedWith); }

void ServerTest::checksLeftAsFetched_data() { addChecksBySums(); }

void ServerTest::checksLeftAsFetched() { checkBothWays(&openedWith); }

void ServerTest::correlatesLeftAsFetched_data() { addCorrelationsBySums(); }

void ServerTest::correlatesLeftAsFetched() { correlateBothWays(&openedWith); }

void ServerTest::refusesCorrelationsThatNeedRows_data() {
    QTest::addColumn<QString>("question");
    QTest::addColumn<QString>("says");
    QTest::newRow("ranks") << R"j({"variables": ["hives", "age"], "coefficient": "spearman"})j"
                           << "ranks";
    QTest::newRow("rows by number") << R"j({"variables": ["hives", "age"], "without": [3]})j"
                                    << "by number";
    QTest::newRow("twice") << R"j({"variables": ["hives", "age", "hives"]})j"
                           << "named twice";
    QTest::newRow("held as well") << R"j({"variables": ["hives", "age"], "holding": ["age"]})j"
                                  << "among what is held";
    QTest::newRow("a grouping") << R"j({"variables": ["hives", "zone"]})j"
                                << "zone";
    QTest::newRow("no row") << R"j({"variables": ["hives", "age"], "where": "age > 1000"})j"
                            << "three rows";
}

void ServerTest::refusesCorrelationsThatNeedRows() {
    QFETCH(QString, question);
    QFETCH(QString, says);
    auto json = nlohmann::json::parse(question.toStdString());
    json["id"] = "q1";
    json["kind"] = "correlate";
    const auto left = openedWith("left", {json});
    QVERIFY(left.has_value());
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    QVERIFY(a.refusal.has_value());
    QVERIFY2(a.refusal->text().find(says.toStdString()) != std::string::npos,
             a.refusal->text().c_str());
}

void ServerTest::refusesMoreSumsThanADatabaseIsAskedFor() {
    nlohmann::json question = {{"id", "q1"}, {"kind", "correlate"}};
    for (int k = 0; k < 105; ++k) {
        question["variables"].push_back("hives + " + std::to_string(k));
    }
    const auto left = openedWith("left", {question});
    QVERIFY(left.has_value());
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    QVERIFY(a.refusal.has_value());
    QCOMPARE(a.refusal->code, ErrorCode::TooLarge);
    QVERIFY(a.asked && a.asked->size() < 10);
}

void ServerTest::agreesWithTheEngineOnExpressions_data() { addExpressionsOfSql(); }

void ServerTest::agreesWithTheEngineOnExpressions() { evaluateBothWays(&openedWith); }

void ServerTest::saysWhatNeedsRows_data() {
    QTest::addColumn<QString>("question");
    QTest::addColumn<QString>("words");
    QTest::newRow("medians") << R"j({"estimator": {"method": "quantile"}, "terms": ["hives"]})j"
                             << "‘quantile’ needs rows";
    QTest::newRow("leverage")
        << R"j({"terms": ["hives"], "errors": {"kind": "robust", "type": "HC3"}})j"
        << "HC3";
    QTest::newRow("draws") << R"j({"terms": ["hives"], "errors": {"kind": "bootstrap"}})j"
                           << "needs rows";
    QTest::newRow("other rows") << R"j({"terms": ["avg(hives) over (partition by zone)"]})j"
                                << "looks at the whole column";
    QTest::newRow("averaged effects") << R"j({"terms": ["hives"], "effects": [{"of": "hives"}]})j"
                                      << "effects averaged";
    QTest::newRow("no such set") << R"j({"terms": [{"set": "nobody"}]})j"
                                 << "there is no set ‘nobody’";
    QTest::newRow("two held fixed")
        << R"j({"terms": ["hives"], "fixed_effects": ["village", "soil"]})j"
        << "more than one";
}

void ServerTest::saysWhatNeedsRows() {
    QFETCH(QString, question);
    QFETCH(QString, words);
    auto json = nlohmann::json::parse(question.toStdString());
    json["id"] = "q1";
    json["outcome"] = "ln_income";
    const auto left = openedWith("left", {json});
    QVERIFY2(left.has_value(), left ? "" : left.error().text().c_str());
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    QVERIFY(a.refusal.has_value());
    QVERIFY2(QString::fromStdString(a.refusal->text()).contains(words), a.refusal->text().c_str());
    QVERIFY(a.fit == nullptr);
}

void ServerTest::drawsASampleThatIsDrawnAgainAlike() {
    const auto left =
        openedWith("left", {nlohmann::json::parse(
                               R"j({"id": "q1", "outcome": "ln_income", "terms": ["hives"],
                        "estimator": {"method": "quantile"}})j")});
    QVERIFY(left.has_value());
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    const std::string help = a.refusal->help;
    const auto from = help.find("“") + std::string("“").size();
    std::string query = help.substr(from, help.find("”") - from);
    query.replace(query.find("100000"), 6, "50");
    auto json = studyOf("fetched");
    json["source"]["reader"].erase("table");
    json["source"]["reader"]["query"] = query;
    const auto one = opened(json);
    const auto two = opened(json);
    QVERIFY2(one.has_value(), one ? "" : one.error().text().c_str());
    QCOMPARE(one->frame.rows(), std::size_t{50});
    QCOMPARE(one->sources.sha256, two->sources.sha256);
}

void ServerTest::asksEveryServerForItsOwnSums() {
    const auto far = growersSpread(*server_);
    QCOMPARE(far.size(), std::size_t{3});
    const std::vector<nlohmann::json> questions = {
        nlohmann::json::parse(
            R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "zone", "hives"],
            "errors": {"kind": "robust"}, "checks": ["breusch-pagan"]})j"),
        nlohmann::json::parse(R"j({"id": "q2", "outcome": "ln_income", "terms": ["member", "hives"],
            "errors": {"kind": "clustered", "by": ["village"]}, "checks": "none"})j"),
        nlohmann::json::parse(R"j({"id": "q3", "outcome": "member", "terms": ["distance", "hives"],
            "estimator": {"method": "logit"}, "checks": "none"})j"),
        nlohmann::json::parse(R"j({"id": "q4", "kind": "correlate",
            "variables": ["ln_income", "hives", "age"], "holding": ["distance"]})j")};
    auto json = studyOf("left");
    json["questions"] = questions;
    const auto whole = opened(json);
    json["source"]["reader"]["table"] = "growers_spread";
    const auto spread = opened(json);
    QVERIFY2(spread.has_value(), spread ? "" : spread.error().text().c_str());
    const auto plain = ServerConnection::open("warehouse", 0.0, Job());
    QVERIFY(plain.has_value());
    for (std::size_t q = 0; q < questions.size(); ++q) {
        const Answer a =
            answerQuestion(spread->study, spread->frame, spread->study.questions[q], Job());
        const Answer b =
            answerQuestion(whole->study, whole->frame, whole->study.questions[q], Job());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        if (a.correlations) {
            compareCorrelations(a, b);
        } else {
            compareFits(a, b);
        }
        int made = 0;
        for (const std::string& statement : *a.asked) {
            if (statement.find("limit 200") != std::string::npos) {
                continue;  // Some rows as they are, to see what the terms become.
            }
            const auto plan = plain->ask("explain (verbose, costs off) " + statement, {}, Job());
            QVERIFY2(plan.has_value(), plan ? "" : plan.error().text().c_str());
            std::string text;
            for (const auto& row : plan->rows) {
                text += row.front().value_or("") + "\n";
            }
            // The sums are made at the leaves: what is scanned there is an aggregate.
            QVERIFY2(text.find("Relations: Aggregate on") != std::string::npos,
                     (statement + "\n" + text).c_str());
            ++made;
        }
        QVERIFY(made >= 3);
    }
}

void ServerTest::stopsWhileTheEngineWorks() {
    const auto connection = ServerConnection::open("warehouse", 0.0, Job());
    QVERIFY(connection.has_value());
    const Job job;
    std::jthread later([job] {
        std::this_thread::sleep_for(std::chrono::milliseconds(80));
        job.stop();
    });
    const auto slept = connection->ask("select pg_sleep(120)", {}, job);
    QVERIFY(!slept.has_value());
    QCOMPARE(slept.error().code, ErrorCode::Stopped);
    // Its own limit, in words.
    const auto short_ = ServerConnection::open("warehouse", 0.2, Job());
    const auto late = short_->ask("select pg_sleep(120)", {}, Job());
    QVERIFY(!late.has_value());
    QCOMPARE(late.error().code, ErrorCode::TooLarge);
}

void ServerTest::saysThatTheServerWentAway() {
    const auto connection = ServerConnection::open("warehouse", 0.0, Job());
    QVERIFY(connection.has_value());
    std::jthread killer([this] {
        std::this_thread::sleep_for(std::chrono::milliseconds(150));
        server_->stop("immediate");
    });
    const auto gone = connection->ask("select pg_sleep(120)", {}, Job());
    killer.join();
    QVERIFY(!gone.has_value());
    QCOMPARE(gone.error().code, ErrorCode::File);
    QVERIFY(!ServerConnection::open("warehouse", 0.0, Job()).has_value());
    QVERIFY(server_->start());
    QVERIFY(openedWith("left", {}).has_value());
}

void ServerTest::standInRowsHaveTheMomentsAskedFor() {
    LeftMoments moments;
    moments.weight = 50.0;
    moments.mean = Eigen::Vector3d(1e6, -2.0, 0.5);
    Eigen::Matrix3d A;
    A << 2.0, 0.0, 0.0, 1.0, 0.5, 0.0, 3.0, 1.0, 0.0;  // The third is told by the others.
    moments.spread = A * A.transpose();
    const Eigen::MatrixXd rows = standInRows(moments, 8, Eigen::VectorXd::Constant(3, 1e-11));
    QCOMPARE(rows.rows(), Eigen::Index{8});
    const Eigen::RowVectorXd mean = rows.colwise().mean();
    for (Eigen::Index j = 0; j < 3; ++j) {
        QVERIFY(near(mean(j), moments.mean(j), 1e-14));
    }
    const Eigen::MatrixXd left = rows.rowwise() - mean;
    const Eigen::MatrixXd found = left.transpose() * left / 8.0;
    QVERIFY((found - moments.spread).norm() < 1e-9 * moments.spread.norm());
}

QTEST_GUILESS_MAIN(ServerTest)
#include "server_test.moc"
