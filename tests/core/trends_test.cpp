// Series that trend: unit roots, levels, trends that are shared, errors that carry over; against
// tests/reference/make_trends_reference.py and published values.
#include "core/checks/check.h"
#include "core/describe/unit_root.h"
#include "core/io/csv.h"
#include "core/model/feasible_ar.h"
#include "core/numerics/distributions.h"
#include "core/study/results.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <cmath>
#include <numeric>
#include <random>
#include <set>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kJson = readJson("tests/reference/trends_reference.json");
    return kJson;
}

std::vector<double> numbers(const nlohmann::json& json) { return json.get<std::vector<double>>(); }

std::vector<double> valuesOf(const std::string& series) {
    return numbers(reference().at("series").at(series).at("values"));
}

SeriesRuns whole(const std::vector<double>& values) { return {values}; }

Deterministic kindOf(const std::string& with) {
    return with == "none"    ? Deterministic::None
           : with == "trend" ? Deterministic::Trend
                             : Deterministic::Constant;
}

Layout monthly() { return {Layout::Kind::Series, "", "t", ""}; }

std::vector<double> counting(std::size_t n, double from = 0.0) {
    std::vector<double> t(n);
    std::iota(t.begin(), t.end(), from);
    return t;
}

Table seriesTable(std::vector<std::pair<std::string, std::vector<double>>> columns) {
    columns.emplace_back("t", counting(columns.front().second.size()));
    return tableOf(columns);
}

CheckRequest request(const std::string& id, std::optional<int> lags = {}) {
    CheckRequest out;
    out.id = id;
    out.lags = lags;
    return out;
}

Question echoed(const std::string& firstRow = "kept") {
    Question q = explain("y", {"x", "z"});
    q.method = "feasible-ar";
    q.settings.firstRow = firstRow;
    return q;
}

Table echoTable() {
    const auto& echo = reference().at("echo");
    return seriesTable(
        {{"y", numbers(echo.at("y"))}, {"x", numbers(echo.at("x"))}, {"z", numbers(echo.at("z"))}});
}

void compareFit(const Answer& a, const nlohmann::json& expected) {
    QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
    QVERIFY(near(a.fit->echo->rho, expected.at("rho"), 1e-8));
    QVERIFY(near(a.fit->statistics.sigma, expected.at("sigma"), 1e-8));
    QCOMPARE(a.design->rows.size(), expected.at("rows").get<std::size_t>());
    for (std::size_t k = 0; k < 3; ++k) {
        QVERIFY(near(a.fit->coefficients[k].estimate, expected.at("b")[k], 1e-8));
        QVERIFY(near(a.fit->coefficients[k].se, expected.at("se")[k], 1e-8));
    }
}

}  // namespace

class TrendsTest : public QObject {
    Q_OBJECT

  private slots:

    void unitRootsAreThoseOfTheRegression() {
        int asked = 0;
        for (const auto& [name, series] : reference().at("series").items()) {
            const auto runs = whole(numbers(series.at("values")));
            for (const auto& one : series.at("roots")) {
                LagRule rule;
                rule.by = !one.contains("by")     ? LagRule::By::Fixed
                          : one.at("by") == "bic" ? LagRule::By::Bic
                                                  : LagRule::By::Aic;
                rule.lags = one.at("lags");
                const auto found = unitRootTest(runs, kindOf(one.at("with")), rule);
                QVERIFY2(found, name.c_str());
                QCOMPARE(found->lags, one.at("lags").get<int>());
                QVERIFY2(near(found->t, one.at("t"), 1e-9), told(name, found->t, one.at("t")));
                QCOMPARE(found->rows, std::size_t{59} - static_cast<std::size_t>(found->lags));
                ++asked;
            }
        }
        QCOMPARE(asked, 75);
    }

    void levelsAreThoseOfTheSums() {
        for (const auto& [name, series] : reference().at("series").items()) {
            for (const auto& one : series.at("levels")) {
                const auto found =
                    levelTest(whole(numbers(series.at("values"))), kindOf(one.at("with")), {});
                QVERIFY(found);
                QCOMPARE(found->lags, one.at("lags").get<int>());
                QVERIFY2(near(found->statistic, one.at("eta"), 1e-10),
                         told(name, found->statistic, one.at("eta")));
                QVERIFY(found->p >= 0.01 && found->p <= 0.10);
            }
        }
    }

    void residualsOfSharedTrendsAreAskedAsTheyAre() {
        for (const auto& one : reference().at("pairs")) {
            Question q = explain(one.at("outcome"), {one.at("term").get<std::string>()});
            if (one.at("trend")) {
                q.terms.push_back(Term::expression("trend()"));
            }
            q.allChecks = false;
            q.checks = {request("shared-trend", one.at("lags").get<int>()), request("unit-root")};
            std::vector<std::pair<std::string, std::vector<double>>> columns;
            for (const char* name : {"walk", "other", "tied"}) {
                columns.emplace_back(name, valuesOf(name));
            }
            const Answer a = answer(seriesTable(columns), q, monthly());
            QVERIFY(!a.refusal);
            const CheckResult& shared = check(a, "shared-trend");
            QVERIFY2(shared.verdict != Verdict::NotApplicable, shared.reading.c_str());
            QVERIFY(near(*shared.statistic, one.at("t"), 1e-9));
            QCOMPARE(detail(shared, "trending"), 2.0);
            const bool tied = one.at("outcome") == "tied";
            if (tied) {
                QVERIFY(shared.verdict == Verdict::Fine && *shared.p < 0.01);
                // The doubt about the outcome alone is answered.
                QVERIFY(check(a, "unit-root").verdict == Verdict::Noted);
            }
            QVERIFY(
                near(*shared.p,
                     *unitRootP(*shared.statistic, 2,
                                one.at("trend") ? Deterministic::Trend : Deterministic::Constant,
                                59U - one.at("lags").get<unsigned>()),
                     1e-12));
        }
    }

    void unrelatedWalksFailAndAreWarnedOf() {
        // A pair whose regression explains much and whose residuals do not come back.
        std::mt19937 random(3);
        std::normal_distribution<double> normal;
        std::vector<double> y = {0.0};
        std::vector<double> x = {0.0};
        for (int i = 1; i < 120; ++i) {
            y.push_back(y.back() + 0.5 + normal(random));
            x.push_back(x.back() + 0.4 + normal(random));
        }
        Question q = explain("y", {"x"});
        q.allChecks = true;
        const Answer a = answer(seriesTable({{"y", y}, {"x", x}}), q, monthly());
        QVERIFY(*a.fit->statistics.rSquared > 0.7);
        const CheckResult& shared = check(a, "shared-trend");
        QVERIFY2(shared.verdict == Verdict::Fails, shared.reading.c_str());
        std::vector<std::string> titles;
        for (const Remedy& remedy : shared.remedies) {
            titles.push_back(remedy.variant.title);
            Study study;
            study.questions = {remedy.variant};
            const Frame frame =
                Frame::make(seriesTable({{"y", y}, {"x", x}}), {}, {}, {}, monthly());
            const Answer tried = answerQuestion(study, frame, remedy.variant, Job());
            QVERIFY2(!tried.refusal, remedy.variant.title.c_str());
        }
        QCOMPARE(titles, (std::vector<std::string>{"in changes", "in error-correction form",
                                                   "with the outcome a moment before",
                                                   "with a trend", "with the echo taken out"}));
        // In changes nothing is left of it.
        Question changes = shared.remedies.front().variant;
        changes.id = "q2";
        changes.allChecks = true;
        const Answer other = answer(seriesTable({{"y", y}, {"x", x}}), changes, monthly());
        QCOMPARE(changes.outcome, std::string("change(y)"));
        QVERIFY(*other.fit->statistics.rSquared < 0.1);
        QVERIFY(check(other, "unit-root").verdict == Verdict::Fine);
        QVERIFY(check(other, "shared-trend").verdict == Verdict::NotApplicable);
    }

    void panelsAreTheMeanOfTheirUnits() {
        const auto& panel = reference().at("panel");
        for (const char* with : {"constant", "trend"}) {
            std::vector<SeriesRuns> units;
            double mean = 0.0;
            double variance = 0.0;
            double fisher = 0.0;
            for (const auto& unit : panel.at("units")) {
                units.push_back(whole(numbers(unit)));
            }
            LagRule one;
            one.by = LagRule::By::Fixed;
            one.lags = 1;
            const auto found = panelUnitRootTest(units, kindOf(with), one);
            QVERIFY(found);
            const auto ts = numbers(panel.at("ts").at(with));
            QCOMPARE(found->ts.size(), ts.size());
            for (std::size_t u = 0; u < ts.size(); ++u) {
                QVERIFY(near(found->ts[u], ts[u], 1e-9));
                const auto expected = unitRootAverage(kindOf(with), 1, 28);
                mean += expected->mean / 8.0;
                variance += expected->variance / 8.0;
                fisher -= 2.0 * std::log(*unitRootP(ts[u], 1, kindOf(with), 28));
            }
            const double meanT = std::accumulate(ts.begin(), ts.end(), 0.0) / 8.0;
            QVERIFY(near(found->w, std::sqrt(8.0) * (meanT - mean) / std::sqrt(variance), 1e-9));
            QVERIFY(near(found->fisher, fisher, 1e-9));
            QVERIFY(near(found->fisherP, chiSquareTail(fisher, 16.0), 1e-12));
            QVERIFY(near(found->p, normalTail(-found->w), 1e-12));
        }
        // A unit too short is counted and left out.
        const auto few = panelUnitRootTest({whole({1, 2, 3}), whole(valuesOf("walk"))},
                                           Deterministic::Constant, {});
        QVERIFY(!few && few.error().code == ErrorCode::TooFewRows);
    }

    void aPanelOfWalksIsRarelyRejected_data() {
        QTest::addColumn<int>("units");
        QTest::addColumn<int>("rows");
        QTest::addColumn<QString>("lags");
        QTest::addColumn<double>("least");
        QTest::addColumn<double>("most");
        // With lags that are given the law is that of the source; where they are chosen series by
        // series the mean t lies lower, and short panels reject too often: docs/methods.md.
        QTest::newRow("given, short") << 20 << 25 << "1" << 0.03 << 0.07;
        QTest::newRow("given, long") << 20 << 100 << "1" << 0.03 << 0.07;
        QTest::newRow("aic, short") << 20 << 25 << "aic" << 0.03 << 0.20;
        QTest::newRow("aic, long") << 20 << 100 << "aic" << 0.03 << 0.12;
        QTest::newRow("bic, long") << 20 << 100 << "bic" << 0.03 << 0.09;
    }

    void aPanelOfWalksIsRarelyRejected() {
        QFETCH(int, units);
        QFETCH(int, rows);
        QFETCH(QString, lags);
        QFETCH(double, least);
        QFETCH(double, most);
        std::mt19937 random(77);
        std::normal_distribution<double> normal;
        LagRule rule;
        rule.by = lags == "aic"   ? LagRule::By::Aic
                  : lags == "bic" ? LagRule::By::Bic
                                  : LagRule::By::Fixed;
        rule.lags = lags.toInt();
        constexpr int kPanels = 1000;
        int rejected = 0;
        for (int panel = 0; panel < kPanels; ++panel) {
            std::vector<SeriesRuns> all;
            for (int u = 0; u < units; ++u) {
                std::vector<double> walk(static_cast<std::size_t>(rows), 0.0);
                for (std::size_t t = 1; t < walk.size(); ++t) {
                    walk[t] = walk[t - 1] + normal(random);
                }
                all.push_back(whole(walk));
            }
            rejected += panelUnitRootTest(all, Deterministic::Constant, rule)->p < 0.05 ? 1 : 0;
        }
        const double share = static_cast<double>(rejected) / kPanels;
        QVERIFY2(share > least && share < most, qPrintable(QString::number(share)));
        if (qEnvironmentVariableIsSet("RAPPORTO_SAY_SIZES")) {
            qInfo("%d units, %d rows, lags %s: %.3f", units, rows, qPrintable(lags), share);
        }
    }

    void aPanelIsAskedByItsUnits() {
        std::vector<double> unit;
        std::vector<double> time;
        std::vector<double> y;
        int u = 0;
        for (const auto& one : reference().at("panel").at("units")) {
            const auto values = numbers(one);
            for (std::size_t k = 0; k < values.size(); ++k) {
                unit.push_back(u);
                time.push_back(static_cast<double>(k));
                y.push_back(values[k]);
            }
            ++u;
        }
        Question q = explain("y", {"t"});
        q.allChecks = false;
        q.checks = {request("panel-unit-root", 1), request("unit-root")};
        const Answer a = answer(tableOf({{"y", y}, {"u", unit}, {"t", time}}), q,
                                {Layout::Kind::Panel, "u", "t", ""});
        const CheckResult& panel = check(a, "panel-unit-root");
        QVERIFY2(panel.verdict != Verdict::NotApplicable, panel.reading.c_str());
        QCOMPARE(detail(panel, "units"), 8.0);
        const auto ts = numbers(reference().at("panel").at("ts").at("constant"));
        QVERIFY(
            near(detail(panel, "mean t"), std::accumulate(ts.begin(), ts.end(), 0.0) / 8.0, 1e-9));
        QVERIFY(check(a, "unit-root").verdict == Verdict::NotApplicable);
        // Chosen lags make p too small in short series, and that is said where it matters.
        q.checks = {request("panel-unit-root")};
        const Answer chosen = answer(tableOf({{"y", y}, {"u", unit}, {"t", time}}), q,
                                     {Layout::Kind::Panel, "u", "t", ""});
        const CheckResult& own = check(chosen, "panel-unit-root");
        QCOMPARE(own.reading.find("chosen unit by unit") != std::string::npos,
                 own.verdict == Verdict::Fine);
    }

    void lawsAgreeWithThosePublished_data() {
        QTest::addColumn<int>("columns");
        QTest::addColumn<QString>("with");
        QTest::addColumn<double>("p");
        QTest::addColumn<double>("b0");
        QTest::addColumn<double>("b1");
        QTest::addColumn<double>("b2");
        QTest::addColumn<double>("b3");
        // MacKinnon (2010), Critical values for cointegration tests, Queen’s Economics Department
        // Working Paper 1227, tables 1 to 3: quantiles b0 + b1/T + b2/T² + b3/T³.
        QTest::newRow("none 5") << 1 << "none" << 0.05 << -1.94100 << -0.2686 << -3.365 << 31.223;
        QTest::newRow("none 10") << 1 << "none" << 0.10 << -1.61682 << 0.2656 << -2.714 << 25.364;
        QTest::newRow("constant 1")
            << 1 << "constant" << 0.01 << -3.43035 << -6.5393 << -16.786 << -79.433;
        QTest::newRow("constant 5")
            << 1 << "constant" << 0.05 << -2.86154 << -2.8903 << -4.234 << -40.040;
        QTest::newRow("constant 10")
            << 1 << "constant" << 0.10 << -2.56677 << -1.5384 << -2.809 << 0.0;
        QTest::newRow("trend 1") << 1 << "trend" << 0.01 << -3.95877 << -9.0531 << -28.428
                                 << -134.155;
        QTest::newRow("trend 5") << 1 << "trend" << 0.05 << -3.41049 << -4.3904 << -9.036
                                 << -45.374;
        QTest::newRow("two 5") << 2 << "constant" << 0.05 << -3.33613 << -6.1101 << -6.823 << 0.0;
        QTest::newRow("two 10") << 2 << "constant" << 0.10 << -3.04445 << -4.2412 << -2.720 << 0.0;
    }

    void lawsAgreeWithThosePublished() {
        QFETCH(int, columns);
        QFETCH(QString, with);
        QFETCH(double, p);
        QFETCH(double, b0);
        QFETCH(double, b1);
        QFETCH(double, b2);
        QFETCH(double, b3);
        for (const double rows : {25.0, 50.0, 100.0, 250.0, 500.0}) {
            const double q = b0 + b1 / rows + b2 / rows / rows + b3 / rows / rows / rows;
            const auto own =
                unitRootP(q, columns, kindOf(with.toStdString()), static_cast<std::size_t>(rows));
            QVERIFY2(own && std::abs(*own - p) < 0.003,
                     qPrintable(QString("%1 rows: %2").arg(rows).arg(own.value_or(-1.0))));
        }
    }

    void lawsRiseAndHaveNoHoles() {
        for (const UnitRootTables::Law& law : unitRootTables().laws) {
            for (const std::size_t rows : {20U, 33U, 87U, 1000U, 100000U}) {
                double before = 0.0;
                for (double t = -9.0; t < 6.0; t += 0.05) {
                    const auto p = unitRootP(t, law.columns, law.with, rows);
                    QVERIFY(p && *p >= before && *p <= 1.0);
                    before = *p;
                }
                QVERIFY(before > 0.99);
                QVERIFY(*unitRootP(-9.0, law.columns, law.with, rows) < 0.01);
            }
        }
        QVERIFY(!unitRootP(-2.0, 1, Deterministic::Constant, 5));
        QVERIFY(!unitRootP(-2.0, 2, Deterministic::Constant, 15));
        QVERIFY(!unitRootP(-2.0, kMostTrending + 1, Deterministic::Constant, 100));
        QVERIFY(!unitRootP(std::nan(""), 1, Deterministic::Constant, 100));
        const auto longest = unitRootAverage(Deterministic::Constant, 0, 100000);
        QVERIFY(longest && std::abs(longest->mean + 1.53) < 0.01);
        QVERIFY(!unitRootAverage(Deterministic::Constant, 9, 100));
        QVERIFY(!unitRootAverage(Deterministic::Trend, 4, 12));
    }

    void gapsCutASeriesIntoRuns() {
        const SeriesRuns runs = runsOf({5, 1, 2, std::nan(""), 4, 9}, {7, 1, 2, 3, 4, 9});
        QCOMPARE(runs.size(), std::size_t{4});
        QCOMPARE(runs[0], (std::vector<double>{1, 2}));
        QCOMPARE(runs[1], (std::vector<double>{4}));
        // Two halves are asked together, and no change reaches over the gap.
        std::vector<double> values = valuesOf("pulled");
        std::vector<std::int64_t> moments(values.size());
        for (std::size_t i = 0; i < moments.size(); ++i) {
            moments[i] = static_cast<std::int64_t>(i < 30 ? i : i + 5);
        }
        LagRule rule;
        rule.by = LagRule::By::Fixed;
        const auto cut = unitRootTest(runsOf(values, moments), Deterministic::Constant, rule);
        QVERIFY(cut);
        QCOMPARE(cut->rows, std::size_t{58});
        QVERIFY(levelTest(runsOf(values, moments), Deterministic::Constant, {}).error().code ==
                ErrorCode::BadSetting);
    }

    void whatIsNoSeriesIsRefused() {
        const auto line = unitRootTest(whole(counting(40)), Deterministic::Constant, {});
        QVERIFY(!line && line.error().code == ErrorCode::NoVariation);
        const auto one = unitRootTest(whole(std::vector<double>(40, 7.0)), Deterministic::None, {});
        QVERIFY(!one && one.error().code == ErrorCode::NoVariation);
        const auto few = unitRootTest(whole({1, 3, 2}), Deterministic::Constant, {});
        QVERIFY(!few && few.error().code == ErrorCode::TooFewRows);
        QVERIFY(!levelTest(whole(std::vector<double>(40, 7.0)), Deterministic::Constant, {}));
        QVERIFY(!levelTest(whole({1, 2, 3}), Deterministic::Constant, {}));
    }

    void numbersKeepTheirDigitsAndTheirPlace() {
        // A level far off and another unit change no t.
        const std::vector<double> plain = valuesOf("other");
        std::vector<double> moved = plain;
        for (double& v : moved) {
            v = 1e6 + 1e-3 * v;
        }
        for (const Deterministic with : {Deterministic::Constant, Deterministic::Trend}) {
            const auto a = unitRootTest(whole(plain), with, {});
            const auto b = unitRootTest(whole(moved), with, {});
            QVERIFY(near(b->t, a->t, 1e-5));  // What the cells of the moved one still hold.
            QCOMPARE(b->lags, a->lags);
        }
    }

    void anEchoIsTakenOut() {
        compareFit(answer(echoTable(), echoed(), monthly()), reference().at("echo").at("fits")[0]);
        const Answer dropped = answer(echoTable(), echoed("dropped"), monthly());
        compareFit(dropped, reference().at("echo").at("fits")[1]);
        QCOMPARE(dropped.rows.used, std::size_t{39});
        QCOMPARE(dropped.rows.dropped, std::size_t{1});
    }

    void unitsOfAPanelShareTheirEcho() {
        Table table = echoTable();
        const auto n = static_cast<std::size_t>(table.columns.front().size());
        std::vector<double> unit(n);
        for (std::size_t i = 0; i < n; ++i) {
            unit[i] = static_cast<double>(i / 10);
        }
        const Table panel = tableOf({{"y", numbers(reference().at("echo").at("y"))},
                                     {"x", numbers(reference().at("echo").at("x"))},
                                     {"z", numbers(reference().at("echo").at("z"))},
                                     {"t", counting(n)},
                                     {"u", unit}});
        for (const int k : {0, 1}) {
            compareFit(answer(panel, echoed(k == 0 ? "kept" : "dropped"),
                              {Layout::Kind::Panel, "u", "t", ""}),
                       reference().at("echo").at("panel")[static_cast<std::size_t>(k)]);
        }
    }

    void theOrderOfRowsIsThatOfTime() {
        const Table table = echoTable();
        std::vector<std::size_t> order(40);
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::shuffle(order.begin(), order.end(), std::mt19937(5));
        std::vector<std::pair<std::string, std::vector<double>>> columns;
        for (std::size_t j = 0; j < table.columns.size(); ++j) {
            std::vector<double> values;
            for (const std::size_t i : order) {
                values.push_back(table.columns[j].numbers()[i]);
            }
            columns.emplace_back(table.variables[j].name, values);
        }
        Question q = echoed();
        q.allChecks = true;
        const Answer a = answer(table, q, monthly());
        const Answer b = answer(tableOf(columns), q, monthly());
        QVERIFY(near(b.fit->echo->rho, a.fit->echo->rho, 1e-11));
        QVERIFY(near(b.fit->coefficients[1].estimate, a.fit->coefficients[1].estimate, 1e-11));
        for (const char* id : {"unit-root", "level-stationary", "durbin-watson"}) {
            QVERIFY2(check(a, id).verdict != Verdict::NotApplicable, check(a, id).reading.c_str());
            QVERIFY2(near(*check(b, id).statistic, *check(a, id).statistic, 1e-9), id);
        }
        // What is made for other fits says so.
        QVERIFY(check(a, "vif").verdict == Verdict::NotApplicable);
    }

    void withoutAnEchoItIsLeastSquares() {
        // Two errors that cancel: ρ is zero, and the rows stay as they are.
        const Table table =
            seriesTable({{"y", {1, 2, 1, 2, 3, 3, 2, 4}}, {"x", {1, 2, 3, 4, 5, 6, 7, 8}}});
        Question q = explain("y", {"x"});
        const Answer plain = answer(table, q, monthly());
        q.method = "feasible-ar";
        const Answer a = answer(table, q, monthly());
        QVERIFY(!a.refusal);
        const double rho = a.fit->echo->rho;
        QVERIFY(std::abs(rho) < 0.9);
        QVERIFY(std::abs(a.fit->coefficients[1].estimate - plain.fit->coefficients[1].estimate) <
                std::abs(rho));
    }

    void aShareThatCreepsIsFoundAllTheSame() {
        // Without its first row the valley’s series takes thousands of plain rounds.
        const auto table = readCsvFile(RAPPORTO_SOURCE_DIR "/demo/valley_yearly.csv", {}, Job());
        QVERIFY(table);
        Question q = explain("ln(exports_kt)", {"ln(roads_km)", "rain_mm"});
        q.method = "feasible-ar";
        q.settings.firstRow = "dropped";
        const Answer a = answer(table->table, q, {Layout::Kind::Series, "", "year", ""});
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QVERIFY(a.fit->echo->rounds < 1000);
        // 20,000 rounds of numpy’s least squares come to rest there.
        QVERIFY(std::abs(a.fit->echo->rho - 0.9959127258678909) < 1e-7);
        q.errors.kind = "bootstrap";
        const Answer drawn = answer(table->table, q, {Layout::Kind::Series, "", "year", ""});
        QVERIFY(drawn.refusal && drawn.refusal->text().find("order in time") != std::string::npos);
        Study study;
        study.survey.cluster = "rain_mm";
        q.errors.kind = "survey";
        study.questions = {q};
        const Frame frame =
            Frame::make(table->table, {}, {}, {}, {Layout::Kind::Series, "", "year", ""});
        const Answer designed = answerQuestion(study, frame, q, Job());
        QVERIFY(designed.refusal && designed.refusal->text().find("survey") != std::string::npos);
    }

    void lagsOfALevelAreThoseOfItsVariance() {
        Question q = explain("walk", {"other"});
        q.allChecks = false;
        q.checks = {request("level-stationary", 7)};
        const Table table = seriesTable({{"walk", valuesOf("walk")}, {"other", valuesOf("other")}});
        const Answer a = answer(table, q, monthly());
        QCOMPARE(detail(check(a, "level-stationary"), "lags walk"), 7.0);
        const auto expected = levelTest(whole(valuesOf("walk")), Deterministic::Constant, 7);
        QVERIFY(near(*check(a, "level-stationary").statistic, expected->statistic, 1e-12));
        // What is said of the unit root beside it does not hang on them.
        q.checks = {request("level-stationary", 1)};
        const Answer b = answer(table, q, monthly());
        QCOMPARE(check(b, "level-stationary").remedies.size(),
                 check(a, "level-stationary").remedies.size());
    }

    void everyEchoOffersTheSameWaysOut() {
        Question q = explain("line", {"t"});
        q.allChecks = true;
        const Answer a = answer(seriesTable({{"line", valuesOf("line")}}), q, monthly());
        std::set<std::string> offered;
        for (const char* id : {"durbin-watson", "breusch-godfrey", "ljung-box", "runs"}) {
            const CheckResult& r = check(a, id);
            if (isDoubt(r.verdict)) {
                QCOMPARE(r.remedies.size(), std::size_t{3});
                QCOMPARE(r.remedies[1].label, std::string("Take the echo out"));
                offered.insert(id);
            }
        }
        QVERIFY(offered.contains("durbin-watson"));
    }

    void picturesFollowTheSeries() {
        Question q = explain("walk", {"other"});
        q.checks = {request("unit-root"), request("level-stationary"), request("shared-trend")};
        q.allChecks = false;
        const auto walk = valuesOf("walk");
        const Answer a =
            answer(seriesTable({{"walk", walk}, {"other", valuesOf("other")}}), q, monthly());
        const Exhibit& levels = check(a, "unit-root").exhibit;
        QCOMPARE(levels.y, walk);
        QCOMPARE(levels.lines.front().y, walk);
        const Exhibit& changes = check(a, "level-stationary").exhibit;
        QCOMPARE(changes.y.size(), walk.size() - 1);
        for (std::size_t i = 1; i < walk.size(); ++i) {
            QCOMPARE(changes.y[i - 1], walk[i] - walk[i - 1]);
            QCOMPARE(changes.rows[i - 1], i);
        }
        const Exhibit& left = check(a, "shared-trend").exhibit;
        QCOMPARE(left.bands.size(), std::size_t{1});
        for (std::size_t i = 0; i < walk.size(); ++i) {
            QVERIFY(near(left.y[i], a.fit->residuals(static_cast<Eigen::Index>(i)), 1e-9));
        }
    }

    void rowsOfOneMomentAreNoSeries() {
        Table table = echoTable();
        std::vector<double> t = counting(40);
        t[7] = 6.0;
        const auto& echo = reference().at("echo");
        Question q = explain("y", {"x", "z"});
        q.allChecks = false;
        q.checks = {request("unit-root")};
        const Answer a = answer(tableOf({{"y", numbers(echo.at("y"))},
                                         {"x", numbers(echo.at("x"))},
                                         {"z", numbers(echo.at("z"))},
                                         {"t", t}}),
                                q, monthly());
        if (!a.refusal) {
            QVERIFY(check(a, "unit-root").verdict == Verdict::NotApplicable);
        }
        Question taken = echoed();
        const Answer e = answer(tableOf({{"y", numbers(echo.at("y"))},
                                         {"x", numbers(echo.at("x"))},
                                         {"z", numbers(echo.at("z"))},
                                         {"t", t}}),
                                taken, monthly());
        QVERIFY(e.refusal.has_value());
    }

    void longSeriesAreKeptToFewLags() {
        std::mt19937 random(9);
        std::normal_distribution<double> normal;
        std::vector<double> walk(200000, 0.0);
        for (std::size_t i = 1; i < walk.size(); ++i) {
            walk[i] = walk[i - 1] + normal(random);
        }
        const auto found = unitRootTest(whole(walk), Deterministic::Constant, {});
        QVERIFY(found && found->lags <= 20 && found->p);
    }

    void whatAnEchoCannotBeTakenOutOfIsRefused() {
        const Answer rows = answer(echoTable(), echoed());
        QVERIFY(rows.refusal && rows.refusal->code == ErrorCode::BadSetting);
        Question weighted = echoed();
        weighted.weight = "w";
        weighted.weightKind = WeightKind::Sampling;
        weighted.errors = ErrorSpec{"robust", "HC1", {}};
        const auto& echo = reference().at("echo");
        const Answer withWeights = answer(seriesTable({{"y", numbers(echo.at("y"))},
                                                       {"x", numbers(echo.at("x"))},
                                                       {"z", numbers(echo.at("z"))},
                                                       {"w", counting(40, 1.0)}}),
                                          weighted, monthly());
        QVERIFY(withWeights.refusal && withWeights.refusal->code == ErrorCode::BadSetting);
        // A walk: the share goes to one.
        Question q = explain("walk", {"line"});
        q.method = "feasible-ar";
        const Answer walk = answer(
            seriesTable({{"walk", valuesOf("walk")}, {"line", valuesOf("line")}}), q, monthly());
        QVERIFY(!walk.refusal || walk.refusal->code == ErrorCode::NotConverged);
        // No two neighbours.
        Table apart = tableOf({{"y", {1, 2, 4, 3, 6}},
                               {"x", {1, 3, 2, 5, 4}},
                               {"z", {1, 0, 1, 0, 1}},
                               {"t", {1, 3, 5, 7, 9}}});
        const Answer far = answer(apart, echoed(), monthly());
        QVERIFY(far.refusal || far.fit->echo->starts < 5);
    }

    void settingsGoThroughTheStudyFile() {
        Study study;
        study.source.file = "a.csv";
        Question q = echoed("dropped");
        q.allChecks = false;
        q.checks = {request("unit-root", 0), request("shared-trend"), request("level-stationary")};
        q.checks[1].lagsBy = "bic";
        q.checks[1].with = "trend";
        study.questions = {q};
        const std::string text = studyText(study);
        const auto again = readStudyText(text);
        QVERIFY2(again, again ? "" : again.error().text().c_str());
        QVERIFY(again->questions[0].checks == q.checks);
        QCOMPARE(again->questions[0].settings.firstRow, std::string("dropped"));
        QCOMPARE(studyText(*again), text);
        for (const auto& [from, to] :
             std::vector<std::pair<std::string, std::string>>{{"\"bic\"", "\"best\""},
                                                              {"\"trend\"", "\"curve\""},
                                                              {"\"dropped\"", "\"lost\""}}) {
            std::string wrong = text;
            wrong.replace(wrong.find(from), from.size(), to);
            const auto read = readStudyText(wrong);
            const bool refused = !read || read->questions[0].unbuilt.has_value();
            QVERIFY2(refused, to.c_str());
        }
    }

    void resultsTellTheShare() {
        const Answer a = answer(echoTable(), echoed(), monthly());
        nlohmann::ordered_json one;
        explainResults(one, a);
        QVERIFY(near(one["fit"]["rho"].get<double>(), a.fit->echo->rho, 1e-15));
        QCOMPARE(one["fit"]["starts"].get<int>(), 1);
    }
};

QTEST_APPLESS_MAIN(TrendsTest)
#include "trends_test.moc"
