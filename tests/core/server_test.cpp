// Tables of a database server: fetched as they are, and left there with questions answered by sums
// that come out as if the rows were at hand. A server of the test's own is started for it.
#include "core/io/server_connection.h"
#include "core/io/table_file.h"
#include "core/left/left_rows.h"
#include "core/model/likelihood.h"
#include "core/study/sources.h"
#include "tests/core/server_survey.h"

#include <fmt/format.h>

#include <QTest>

#include <thread>

using namespace rapporto;
using namespace rapporto::test;
using namespace rapporto::tests;

namespace {

void compareCorrelations(const Answer& a, const Answer& b) {
    QVERIFY(a.correlations && b.correlations);
    QVERIFY(a.asked && !a.asked->empty());
    for (Eigen::Index i = 0; i < a.correlations->r.rows(); ++i) {
        for (Eigen::Index j = 0; j < a.correlations->r.cols(); ++j) {
            const auto both = [&](const char* what, Eigen::MatrixXd CorrelationTable::*of,
                                  double tolerance) {
                const Eigen::MatrixXd& x = (*a.correlations).*of;
                QCOMPARE(x.size(), ((*b.correlations).*of).size());
                if (x.size() > 0) {
                    same(fmt::format("{} {} {}", what, i, j), x(i, j),
                         ((*b.correlations).*of)(i, j), tolerance);
                }
            };
            both("r", &CorrelationTable::r, 1e-8);
            both("plain", &CorrelationTable::plain, 1e-8);
            both("semi-partial", &CorrelationTable::semiPartial, 1e-8);
            both("p", &CorrelationTable::p, 1e-7);
            both("adjusted", &CorrelationTable::adjusted, 1e-7);
            both("n", &CorrelationTable::n, 0.0);
            both("low", &CorrelationTable::low, 1e-7);
            both("high", &CorrelationTable::high, 1e-7);
        }
    }
    QCOMPARE(a.rows.used, b.rows.used);
    QCOMPARE(a.rows.inSample, b.rows.inSample);
    QCOMPARE(a.rows.missing, b.rows.missing);
    QCOMPARE(a.rows.missingBy.size(), b.rows.missingBy.size());
    for (std::size_t i = 0; i < a.rows.missingBy.size(); ++i) {
        QCOMPARE(a.rows.missingBy[i].name, b.rows.missingBy[i].name);
        QCOMPARE(a.rows.missingBy[i].rows, b.rows.missingBy[i].rows);
        QCOMPARE(a.rows.missingBy[i].alone, b.rows.missingBy[i].alone);
    }
}

void compareFits(const Answer& left, const Answer& fetched) {
    const std::string id = left.question.id;
    QCOMPARE(left.rows.used, fetched.rows.used);
    QCOMPARE(left.rows.inSample, fetched.rows.inSample);
    QCOMPARE(left.rows.missing, fetched.rows.missing);
    QCOMPARE(left.rows.dropped, fetched.rows.dropped);
    QCOMPARE(left.rows.missingBy.size(), fetched.rows.missingBy.size());
    QCOMPARE(left.fit->coefficients.size(), fetched.fit->coefficients.size());
    for (std::size_t i = 0; i < left.fit->coefficients.size(); ++i) {
        const Coefficient& a = left.fit->coefficients[i];
        const Coefficient& b = fetched.fit->coefficients[i];
        QCOMPARE(a.term, b.term);
        QCOMPARE(a.label, b.label);
        const std::string what = id + " " + a.term;
        // A coefficient near zero hangs on its error.
        const double size = std::max(std::abs(b.estimate), b.se);
        QVERIFY2(std::abs(a.estimate - b.estimate) <= 1e-9 * size,
                 told(what, a.estimate, b.estimate));
        same(what + " se", a.se, b.se);
        same(what + " df", a.df, b.df);
        same(what + " p", a.p, b.p, 1e-7);
        same(what + " low", a.low, b.low, 1e-7);
        same(what + " standardised", a.standardised, b.standardised, 1e-8);
    }
    const FitStatistics& s = left.fit->statistics;
    const FitStatistics& t = fetched.fit->statistics;
    same(id + " R²", s.rSquared, t.rSquared);
    same(id + " adjusted R²", s.adjustedRSquared, t.adjustedRSquared);
    same(id + " sigma", s.sigma, t.sigma);
    same(id + " ln L", s.logLikelihood, t.logLikelihood);
    same(id + " AIC", s.aic, t.aic);
    same(id + " within", s.within, t.within);
    QCOMPARE(s.f.has_value(), t.f.has_value());
    if (s.f) {
        same(id + " F", s.f->value, t.f->value, 1e-8);
        same(id + " F df", s.f->df2, t.f->df2);
    }
    QCOMPARE(left.fit->likelihood != nullptr, fetched.fit->likelihood != nullptr);
    if (left.fit->likelihood) {
        const LikelihoodFit& x = *left.fit->likelihood;
        const LikelihoodFit& y = *fetched.fit->likelihood;
        same(id + " null ln L", x.nullLogLikelihood, y.nullLogLikelihood);
        same(id + " deviance", x.deviance, y.deviance);
        same(id + " Pearson", x.pearson, y.pearson);
    }
    QCOMPARE(left.fit->errorNote, fetched.fit->errorNote);
    QCOMPARE(left.fit->dropped.size(), fetched.fit->dropped.size());
}

}  // namespace

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
    // A file's rows cannot be left anywhere.
    auto wrong = studyOf("left");
    wrong["source"] = {{"kind", "table"}, {"file", "growers.csv"}, {"rows", "left"}};
    QVERIFY(!readStudyText(wrong.dump()).has_value());
}

void ServerTest::answersLeftAsFetched_data() {
    QTest::addColumn<QString>("question");
    const auto ask = [](const char* name, const char* question) {
        QTest::newRow(name) << QString(question);
    };
    ask("classical", R"j({"terms": ["member", "hives", "zone", "age"]})j");
    ask("robust HC0",
        R"j({"terms": ["member", "hives"], "errors": {"kind": "robust", "type": "HC0"}})j");
    ask("robust HC1", R"j({"terms": ["member", "hives", "zone"], "errors": {"kind": "robust"}})j");
    ask("clustered",
        R"j({"terms": ["member", "hives"], "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("clustered two ways",
        R"j({"terms": ["member", "hives"], "errors": {"kind": "clustered", "by": ["village", "soil"]}})j");
    ask("sampling weights",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "robust"}})j");
    ask("precision weights",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "precision", "variable": "weight"}})j");
    ask("frequency weights, robust",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "frequency", "variable": "copies"},
            "errors": {"kind": "robust"}})j");
    ask("weights and clusters",
        R"j({"terms": ["member", "hives"], "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("products and squares",
        R"j({"terms": ["hives", "power(hives, 2)", "zone", {"product": ["zone", "hives"]}, "irrigated",
            {"product": ["irrigated", "zone"]}], "errors": {"kind": "robust"}})j");
    ask("groups by an expression", R"j({"terms": ["band", "old", "soil", "village"]})j");
    ask("a rule of its own", R"j({"terms": ["member"], "where": "zone <> 'Ridge' and age > 30"})j");
    ask("far from zero", R"j({"terms": ["far", "hives"], "errors": {"kind": "robust"}})j");
    ask("no constant", R"j({"terms": ["hives", "age"], "intercept": false,
            "errors": {"kind": "robust"}})j");
    ask("no constant, clustered", R"j({"terms": ["hives", "age"], "intercept": false,
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("told by others", R"j({"terms": ["hives", "2 * hives + 1", "member"]})j");
    ask("a mean", R"j({"terms": []})j");
    ask("held fixed", R"j({"terms": ["member", "hives"], "fixed_effects": ["village"]})j");
    ask("held fixed, clustered by it",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["village"],
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("held fixed, clustered across",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["village"],
            "errors": {"kind": "clustered", "by": ["soil"]}})j");
    ask("held fixed, weighted, robust",
        R"j({"terms": ["member", "hives"], "fixed_effects": ["village"],
            "weights": {"kind": "sampling", "variable": "weight"}, "errors": {"kind": "robust"}})j");
    ask("two stages",
        R"j({"estimator": {"method": "two-stage"}, "endogenous": ["member"], "instruments": ["distance"],
            "terms": ["hives", "zone"]})j");
    ask("two stages, robust",
        R"j({"estimator": {"method": "two-stage"}, "endogenous": ["member"],
            "instruments": ["distance", "trained"], "terms": ["hives", "zone"],
            "errors": {"kind": "robust"}})j");
    ask("two stages, clustered, weighted",
        R"j({"estimator": {"method": "two-stage"}, "endogenous": ["member"],
            "instruments": ["distance", "trained"], "terms": ["hives"],
            "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("logit", R"j({"outcome": "member", "estimator": {"method": "logit"},
            "terms": ["hives", "zone", "distance", "far"]})j");
    ask("logit, robust", R"j({"outcome": "member", "estimator": {"method": "logit"},
            "terms": ["hives", "distance"], "errors": {"kind": "robust"}})j");
    ask("logit, clustered, weighted", R"j({"outcome": "member", "estimator": {"method": "logit"},
            "terms": ["hives", "distance"], "weights": {"kind": "sampling", "variable": "weight"},
            "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("probit", R"j({"outcome": "member", "estimator": {"method": "probit"},
            "terms": ["hives", "zone", "distance", "far"]})j");
    ask("probit, robust, no constant", R"j({"outcome": "member", "estimator": {"method": "probit"},
            "terms": ["hives", "distance"], "intercept": false, "errors": {"kind": "robust"}})j");
    ask("Poisson", R"j({"outcome": "copies", "estimator": {"method": "poisson"},
            "terms": ["hives", "zone", "distance"]})j");
    ask("Poisson, clustered", R"j({"outcome": "age", "estimator": {"method": "poisson"},
            "terms": ["hives", "distance", "2 * hives"], "errors": {"kind": "clustered", "by": ["village"]}})j");
    ask("Poisson, frequency weights", R"j({"outcome": "age", "estimator": {"method": "poisson"},
            "terms": ["hives"], "weights": {"kind": "frequency", "variable": "copies"},
            "errors": {"kind": "robust"}})j");
    ask("dates and conditions",
        R"j({"terms": ["seen", "case when seen >= '2024-03' and zone in ('Ridge', 'Lower') then 1 else 0 end"]})j");
}

void ServerTest::answersLeftAsFetched() {
    QFETCH(QString, question);
    auto json = nlohmann::json::parse(question.toStdString());
    json["id"] = "q1";
    json["outcome"] = json.value("outcome", "ln_income");
    json["checks"] = "none";
    const auto fetched = openedWith("fetched", {json});
    const auto left = openedWith("left", {json});
    QVERIFY2(fetched.has_value(), fetched ? "" : fetched.error().text().c_str());
    QVERIFY2(left.has_value(), left ? "" : left.error().text().c_str());
    QVERIFY(left->frame.left() != nullptr);
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    const Answer b =
        answerQuestion(fetched->study, fetched->frame, fetched->study.questions[0], Job());
    QVERIFY2(!b.refusal, b.refusal ? b.refusal->text().c_str() : "");
    QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
    compareFits(a, b);
    QVERIFY(a.asked && !a.asked->empty());
    QVERIFY(a.fromMoments);
    const auto results = nlohmann::json::parse(resultsJson(left->study, {a}).dump());
    QCOMPARE(results["answers"][0]["statements"].size(), a.asked->size());
}

void ServerTest::predictsAndTestsLeftAsFetched() {
    const auto question = nlohmann::json::parse(
        R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "hives", "power(hives, 2)", "zone"],
            "errors": {"kind": "robust"}, "checks": "none",
            "predict": [{"at": {"member": 1, "hives": 3, "zone": "Ridge"}}, {"at": {"member": 0}}],
            "hypotheses": ["member = 0.1", "hives = 0 and member = 0"]})j");
    const auto fetched = openedWith("fetched", {question});
    const auto left = openedWith("left", {question});
    QVERIFY(fetched && left);
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    const Answer b =
        answerQuestion(fetched->study, fetched->frame, fetched->study.questions[0], Job());
    QVERIFY(a.predictions && b.predictions);
    QCOMPARE(a.predictions->size(), std::size_t{2});
    for (std::size_t i = 0; i < 2; ++i) {
        const Prediction& x = (*a.predictions)[i];
        const Prediction& y = (*b.predictions)[i];
        same("mean", x.mean.value, y.mean.value);
        same("se", x.mean.se, y.mean.se);
        same("row", x.rowHigh, y.rowHigh);
        QVERIFY(x.original && y.original);
        same("carried back", x.original->mean, y.original->mean);
    }
    QCOMPARE(a.hypotheses.size(), std::size_t{2});
    for (std::size_t i = 0; i < 2; ++i) {
        QVERIFY(a.hypotheses[i] && b.hypotheses[i]);
        same("p", a.hypotheses[i]->p, b.hypotheses[i]->p, 1e-7);
    }
    QCOMPARE(a.turningPoints.size(), b.turningPoints.size());
}

void ServerTest::checksLeftAsFetched_data() {
    QTest::addColumn<QString>("asked");
    QTest::newRow("of the terms")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "hives", "age", "soil"],
                "checks": ["reset", "breusch-pagan", "white", "jarque-bera", "vif", "condition",
                           "chow", "intraclass", "cooks-distance"]})j";
    // What the rows are cut by may be missing in some: they stay in the fit.
    QTest::newRow("parts that are named")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "hives", "age"],
                "checks": [{"id": "chow", "by": "zone"}, {"id": "intraclass", "by": "zone"}]})j";
    QTest::newRow("clusters of the errors")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["member", "zone", "hives"],
                "errors": {"kind": "clustered", "by": ["village"]},
                "checks": ["chow", "intraclass"]})j";
    QTest::newRow("terms that do not vary in a part")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["zone", "hives", "irrigated"],
                "checks": [{"id": "chow", "by": "irrigated"}, {"id": "chow", "by": "zone"},
                           {"id": "intraclass", "by": "id"}]})j";
    QTest::newRow("a derived grouping")
        << R"j({"id": "q1", "outcome": "ln_income", "terms": ["hives", "age"],
                "checks": [{"id": "chow", "by": "band"}, {"id": "intraclass", "by": "old"}]})j";
}

void ServerTest::checksLeftAsFetched() {
    QFETCH(QString, asked);
    const auto question = nlohmann::json::parse(asked.toStdString());
    const auto fetched = openedWith("fetched", {question});
    const auto left = openedWith("left", {question});
    QVERIFY(fetched && left);
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    const Answer b =
        answerQuestion(fetched->study, fetched->frame, fetched->study.questions[0], Job());
    QVERIFY2(!a.refusal && !b.refusal, a.refusal ? a.refusal->text().c_str() : "");
    QCOMPARE(a.rows.used, b.rows.used);
    QCOMPARE(a.checks.size(), b.checks.size());
    for (std::size_t i = 0; i < a.checks.size(); ++i) {
        const CheckResult& x = a.checks[i];
        const CheckResult& y = b.checks[i];
        QCOMPARE(x.id, y.id);
        if (x.id == "cooks-distance") {
            QCOMPARE(x.verdict, Verdict::NotApplicable);
            QVERIFY(x.reading.find("stay with the database") != std::string::npos);
            continue;
        }
        same(x.id, x.statistic, y.statistic, 1e-8);
        same(x.id + " p", x.p, y.p, 1e-7);
        QCOMPARE(x.df.size(), y.df.size());
        for (std::size_t d = 0; d < x.df.size(); ++d) {
            same(x.id + " df", x.df[d], y.df[d]);
        }
        for (const auto& [name, value] : x.details) {
            const auto at = std::find_if(y.details.begin(), y.details.end(),
                                         [&](const auto& one) { return one.first == name; });
            QVERIFY2(at != y.details.end(), name.c_str());
            same(x.id + " " + name, value, at->second, 1e-7);
        }
        QVERIFY(!x.reading.empty());
        if (x.id == "jarque-bera" || x.id == "chow" || x.id == "intraclass") {
            QCOMPARE(x.verdict, y.verdict);
            QCOMPARE(x.reading, y.reading);
            QCOMPARE(x.remedies.size(), y.remedies.size());
        }
    }
}

void ServerTest::correlatesLeftAsFetched_data() {
    QTest::addColumn<QString>("question");
    const auto ask = [](const char* name, const char* question) {
        QTest::newRow(name) << QString(question);
    };
    ask("rows that have everything",
        R"j({"variables": ["ln_income", "hives", "far"], "holding": ["age"], "missing": "listwise"})j");
    ask("each pair by itself",
        R"j({"variables": ["ln_income", "hives", "age", "far", "trained"]})j");
    ask("each pair with what is held",
        R"j({"variables": ["ln_income", "hives", "far"], "holding": ["age", "distance"]})j");
    ask("one-sided under a rule",
        R"j({"variables": ["income", "hives", "distance"], "sides": "greater", "where": "age > 30"})j");
    // Rows of a pair may lie far from where the column lies, and a column may not vary in them.
    ask("few rows far away",
        R"j({"variables": ["hives", "case when age > 65 then 1e6 + hives else distance end",
                           "case when age > 65 then ln_income end"]})j");
    ask("one value", R"j({"variables": ["hives", "age", "0 * age + 0.1"]})j");
    ask("one value in the rows of a pair",
        R"j({"variables": ["hives", "case when age > 40 then 0.3 else hives end", "case when age > 40 then age end"]})j");
    ask("a pair without a row",
        R"j({"variables": ["hives", "case when age > 40 then age end", "case when age <= 40 then age end"]})j");
}

void ServerTest::correlatesLeftAsFetched() {
    QFETCH(QString, question);
    auto json = nlohmann::json::parse(question.toStdString());
    json["id"] = "q1";
    json["kind"] = "correlate";
    const std::vector<nlohmann::json> questions = {json};
    const auto fetched = openedWith("fetched", questions);
    const auto left = openedWith("left", questions);
    QVERIFY(fetched && left);
    const Answer a = answerQuestion(left->study, left->frame, left->study.questions[0], Job());
    const Answer b =
        answerQuestion(fetched->study, fetched->frame, fetched->study.questions[0], Job());
    QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
    compareCorrelations(a, b);
}

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

void ServerTest::agreesWithTheEngineOnExpressions_data() {
    QTest::addColumn<QString>("expression");
    for (const char* one : {"ln(hives - 4)",
                            "log10(hives)",
                            "exp(hives * 200)",
                            "exp(-hives * 400)",
                            "sqrt(hives - 5)",
                            "power(hives - 5, 3)",
                            "power(hives - 5, 0.5)",
                            "power(0, -1)",
                            "abs(hives - 4)",
                            "floor(-hives)",
                            "ceiling(hives)",
                            "round(hives * 2 - 10.5)",
                            "round(age / 2.0)",
                            "round(hives, 2)",
                            "round(-0.5)",
                            "mod(age, 7)",
                            "mod(-age, 7)",
                            "sign(hives - 4)",
                            "least(hives, distance)",
                            "greatest(hives, distance, age)",
                            "coalesce(hives, -1)",
                            "nullif(member, 1)",
                            "hives / (member - 1)",
                            "-hives",
                            "case when hives > 4 then 1 when hives <= 4 then 2 end",
                            "case when hives > 4 or distance > 5 then hives end",
                            "hives is null",
                            "hives is not null and distance > 3",
                            "not (hives > 4)",
                            "hives > 4 and distance > 5",
                            "hives between 3 and distance",
                            "hives not between 3 and 4",
                            "age in (30, 31, null)",
                            "age not in (30, 31)",
                            "zone = 'Ridge'",
                            "zone <> 'O''Hara''s \\ hollow'",
                            "zone >= 'Lower'",
                            "zone in ('Ridge', 'Lower')",
                            "zone is null",
                            "old",
                            "not old",
                            "irrigated",
                            "seen > '2024-04'",
                            "seen = '2024-03-05'",
                            "soil = 'loam'",
                            "case when zone = 'Ridge' then null else age end",
                            "age * 1.5 + member"}) {
        QTest::newRow(one) << QString(one);
    }
}

void ServerTest::agreesWithTheEngineOnExpressions() {
    QFETCH(QString, expression);
    const auto fetched = openedWith("fetched", {});
    const auto left = openedWith("left", {});
    QVERIFY(fetched && left);
    const auto here = fetched->frame.evaluateText(expression.toStdString());
    QVERIFY2(here.has_value(), here ? "" : here.error().text().c_str());
    Study study = left->study;
    study.sample.where.clear();
    LeftRows rows(study, left->frame, Job());
    QVERIFY(rows.begin("").has_value());
    const auto id = rows.add("id");
    const auto place = rows.add(expression.toStdString());
    QVERIFY2(place.has_value(), place ? "" : place.error().text().c_str());
    // Sums by the place of the row tell every cell: of those that are there.
    const std::string alias = rows.part(*place).alias;
    const auto there = rows.ask("select " + rows.part(*id).alias + ", " + alias + " from " +
                                rows.used() + " order by 1");
    QVERIFY2(there.has_value(), there ? "" : there.error().text().c_str());
    std::size_t next = 0;
    for (std::size_t i = 0; i < fetched->frame.rows(); ++i) {
        const double x = here->column.numbers()[i];
        if (std::isnan(x)) {
            continue;
        }
        QVERIFY(next < there->rows.size());
        QCOMPARE(std::strtod(there->rows[next][0]->c_str(), nullptr), static_cast<double>(i + 1));
        const double y = std::strtod(there->rows[next][1]->c_str(), nullptr);
        QVERIFY2(near(y, x, 1e-14), told(expression.toStdString(), y, x));
        ++next;
    }
    QCOMPARE(next, there->rows.size());
}

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
