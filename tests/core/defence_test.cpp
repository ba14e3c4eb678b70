// What defends an effect, and forecasts: against every arrangement refitted, every extreme filling,
// printed errors and the recursion itself (tests/reference/make_defence_reference.py); properties,
// refusals, words, the study file.
#include "core/defend/defence.h"

#include "core/base/parallel.h"
#include "core/defend/ways_to_defend.h"
#include "core/model/forecast.h"
#include "core/report/defence_picture.h"
#include "core/report/defence_wording.h"
#include "core/report/report.h"
#include "core/report/wording.h"
#include "core/study/ways_to_ask.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <random>

using namespace rapporto;
using namespace rapporto::test;
using nlohmann::json;

namespace {

const json& reference() {
    static const json kReference = readJson("tests/reference/defence_reference.json");
    return kReference;
}

Question bare(const std::string& outcome, const std::vector<std::string>& terms) {
    Question q = explain(outcome, terms);
    q.allChecks = false;
    return q;
}

Answer answerIn(const Table& table, const Question& q, const Layout& layout) {
    Study study;
    study.layout = layout;
    study.questions = {q};
    return answerQuestion(study, Frame::make(table, {}, {}, {}, layout), q, Making(Job()));
}

const ByLot& lots(const Answer& a) { return **a.defence->byLot; }

const WorstCases& worst(const Answer& a) { return **a.defence->worstCases; }

void groupsAre(Table& table, const std::vector<std::string>& names) {
    for (Variable& variable : table.variables) {
        if (std::find(names.begin(), names.end(), variable.name) != names.end()) {
            variable.measure = Measure::Groups;
        }
    }
}

/// A yes–no cause over rows in villages, beside a quantity.
Table villages(std::size_t rows, unsigned seed, double effect) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    std::vector<double> y(rows), d(rows), z(rows), v(rows), w(rows);
    for (std::size_t i = 0; i < rows; ++i) {
        v[i] = static_cast<double>(i % 20);
        d[i] = normal(random) > 0.3 ? 1.0 : 0.0;
        z[i] = normal(random);
        w[i] = 1.0 + static_cast<double>(i % 3);
        y[i] = 1.0 + effect * d[i] + 0.5 * z[i] + normal(random);
    }
    Table table = tableOf({{"y", y}, {"d", d}, {"z", z}, {"v", v}, {"w", w}});
    groupsAre(table, {"v"});
    return table;
}

/// A series with an outcome that remembers.
Table series(std::size_t rows = 60) {
    std::mt19937 random(4);
    std::normal_distribution<double> normal;
    std::vector<double> y(rows), x(rows), m(rows);
    for (std::size_t t = 0; t < rows; ++t) {
        m[t] = static_cast<double>(t + 1);
        x[t] = 10.0 + normal(random);
        y[t] = std::exp(0.2 + 0.05 * x[t] + 0.01 * m[t] + 0.1 * normal(random));
    }
    return tableOf({{"y", y}, {"x", x}, {"m", m}});
}

Layout inTime() { return {Layout::Kind::Series, "", "m", ""}; }

const Forecast& foretold(const Answer& a) { return **a.forecast; }

std::string whyNot(const Answer& a) {
    if (a.refusal) {
        return a.refusal->text();
    }
    if (a.forecast && !*a.forecast) {
        return a.forecast->error().text();
    }
    if (a.defence && a.defence->byLot && !*a.defence->byLot) {
        return a.defence->byLot->error().text();
    }
    if (a.defence && a.defence->worstCases && !*a.defence->worstCases) {
        return a.defence->worstCases->error().text();
    }
    if (a.defence && !a.defence->planned.empty() && !a.defence->planned.front()) {
        return a.defence->planned.front().error().text();
    }
    return "nothing refused";
}

#define SAYS(answer, words) \
    QVERIFY2(whyNot(answer).find(words) != std::string::npos, whyNot(answer).c_str())

}  // namespace

class DefenceTest : public QObject {
    Q_OBJECT

  private slots:

    /// Every arrangement refitted.
    void lotsAreThoseOfEveryArrangement_data() {
        QTest::addColumn<int>("place");
        for (std::size_t k = 0; k < reference().at("lots").size(); ++k) {
            QTest::newRow(reference().at("lots")[k].at("name").get<std::string>().c_str())
                << static_cast<int>(k);
        }
    }

    void lotsAreThoseOfEveryArrangement() {
        QFETCH(int, place);
        const json& expected = reference().at("lots")[static_cast<std::size_t>(place)];
        const json& request = expected.at("request");
        Table table = tableFrom(expected.at("data"));
        groupsAre(table, {"s", "v", "f", "t", "g"});
        const std::string of = request.at("of");
        Question q = bare("y", {of});
        if (expected.at("data").contains("z")) {
            q.terms.push_back(Term::expression("z"));
        }
        q.byLot = LotRequest{of};
        q.byLot->by = request.value("by", "");
        q.byLot->within = request.value("within", std::vector<std::string>());
        q.fixedEffects = request.value("fixed", std::vector<std::string>());
        if (expected.at("data").contains("w")) {
            q.weightKind = WeightKind::Precision;
            q.weight = "w";
        }
        const Answer a = answer(table, q);
        QVERIFY2(a.defence && *a.defence->byLot, whyNot(a).c_str());
        const ByLot& found = lots(a);
        QVERIFY(found.exact);
        QCOMPARE(found.draws, expected.at("lots").get<int>());
        AGREE("p", found.p, expected.at("p").get<double>(), 1e-12);
        QCOMPARE(found.joint, !expected.contains("estimate"));
        if (!found.joint) {
            AGREE("estimate", found.estimate, expected.at("estimate").get<double>(), 1e-9);
            AGREE("estimate", found.estimate, coefficient(a, of)->estimate, 1e-9);
            AGREE("low", *found.low, expected.at("low").get<double>(), 1e-8);
            AGREE("high", *found.high, expected.at("high").get<double>(), 1e-8);
        }
        QCOMPARE(found.lots.size(), static_cast<std::size_t>(found.draws));
    }

    void unitsExchangeTheirCourses() {
        const json& expected = reference().at("courses");
        Table table = tableFrom(expected.at("data"));
        groupsAre(table, {"u"});
        Question q = bare("y", {"d"});
        q.fixedEffects = {"u", "t"};
        q.byLot = LotRequest{"d", {}, "u"};
        const Answer a = answerIn(table, q, {Layout::Kind::Panel, "u", "t", ""});
        QVERIFY2(a.defence && *a.defence->byLot, whyNot(a).c_str());
        QVERIFY(lots(a).exact && lots(a).paths);
        QCOMPARE(lots(a).draws, expected.at("lots").get<int>());
        AGREE("p", lots(a).p, expected.at("p").get<double>(), 1e-12);
        AGREE("estimate", lots(a).estimate, expected.at("estimate").get<double>(), 1e-7);
        QVERIFY(lotsReading(lots(a), *q.byLot, 0.05)[0].find("whole course") != std::string::npos);
    }

    /// Drawn ones come near to all of them, hang on the seed alone, and not on threads or on the
    /// order in which rows stand.
    void drawnLotsAreTheSameAnywhere() {
        const Table table = villages(200, 3, 0.3);
        Question q = bare("y", {"d", "z"});
        q.byLot = LotRequest{"d", {"v"}, "", 4999, 17};
        const ByLot many = lots(answer(table, q));
        QVERIFY(!many.exact);
        QCOMPARE(many.draws, 4999);
        setThreads(1);
        const ByLot alone = lots(answer(table, q));
        setThreads(0);
        QCOMPARE(many.p, alone.p);
        QVERIFY(many.lots == alone.lots);
        QCOMPARE(*many.low, *alone.low);
        q.byLot->seed = 18;
        const ByLot other = lots(answer(table, q));
        QVERIFY(other.lots != many.lots);
        QVERIFY(std::abs(other.p - many.p) < 5.0 * std::sqrt(many.p / 4999.0) + 1e-3);
        // In other units, and with another sign.
        Question scaled = q;
        scaled.outcome = "-1000 * y";
        const ByLot turned = lots(answer(table, scaled));
        AGREE("p", turned.p, other.p, 1e-12);
        AGREE("low", *turned.low, -1000.0 * *other.high, 1e-9);
        AGREE("high", *turned.high, -1000.0 * *other.low, 1e-9);
        // The interval and p tell the same.
        QCOMPARE(*other.low > 0.0 || *other.high < 0.0, other.p <= 0.05);
    }

    /// What is held fixed is a term in another place: the same lots tell the same.
    void holdingFixedIsATermToLots() {
        const Table table = villages(120, 8, 0.4);
        Question held = bare("y", {"d", "z"});
        held.fixedEffects = {"v"};
        held.byLot = LotRequest{"d", {}, "", 999, 5};
        Question terms = bare("y", {"d", "z", "v"});
        terms.byLot = held.byLot;
        for (const bool weighted : {false, true}) {
            for (Question* q : {&held, &terms}) {
                q->weightKind = weighted ? WeightKind::Sampling : WeightKind::None;
                q->weight = weighted ? "w" : "";
            }
            const ByLot one = lots(answer(table, held));
            const ByLot other = lots(answer(table, terms));
            AGREE("p", one.p, other.p, 1e-12);
            AGREE("t", one.statistic, other.statistic, 1e-8);
            AGREE("low", *one.low, *other.low, 1e-7);
            for (std::size_t k = 0; k < one.lots.size(); k += 97) {
                AGREE("lot", one.lots[k], other.lots[k], 1e-7);
            }
        }
    }

    void lotsAreRefusedInWords_data() {
        QTest::addColumn<QString>("of");
        QTest::addColumn<QString>("by");
        QTest::addColumn<QString>("within");
        QTest::addColumn<QString>("further");
        QTest::addColumn<QString>("says");
        QTest::newRow("no term") << "q"
                                 << ""
                                 << ""
                                 << ""
                                 << "is no term of this question";
        QTest::newRow("a product") << "d × z"
                                   << ""
                                   << ""
                                   << "d*z"
                                   << "no single cause is drawn";
        QTest::newRow("beside its product") << "d"
                                            << ""
                                            << ""
                                            << "d*z"
                                            << "moves with";
        QTest::newRow("a square beside") << "z"
                                         << ""
                                         << ""
                                         << "power(z, 2)"
                                         << "moves with";
        QTest::newRow("differs within") << "d"
                                        << "v"
                                        << ""
                                        << ""
                                        << "differs within groups of ‘v’";
        QTest::newRow("no such grouping") << "d"
                                          << "nowhere"
                                          << ""
                                          << ""
                                          << "nowhere";
        QTest::newRow("nothing to draw") << "d"
                                         << ""
                                         << "d"
                                         << ""
                                         << "nothing is drawn";
    }

    void lotsAreRefusedInWords() {
        QFETCH(QString, of);
        QFETCH(QString, by);
        QFETCH(QString, within);
        QFETCH(QString, further);
        QFETCH(QString, says);
        Question q = bare("y", {"d", "z"});
        if (further == "d*z") {
            q.terms.push_back({Term::Kind::Product, {"d", "z"}, false});
        } else if (!further.isEmpty()) {
            q.terms.push_back(Term::expression(further.toStdString()));
        }
        q.byLot = LotRequest{of.toStdString()};
        q.byLot->by = by.toStdString();
        if (!within.isEmpty()) {
            q.byLot->within = {within.toStdString()};
        }
        const Answer a = answer(villages(60, 2, 0.0), q);
        QVERIFY(a.fit && a.defence->byLot && !*a.defence->byLot);
        SAYS(a, says.toStdString());
    }

    void othersThanLinearEquationsDrawNone() {
        const Table table = villages(80, 5, 0.0);
        Question q = bare("d", {"z"});
        q.method = "logit";
        q.byLot = LotRequest{"z"};
        SAYS(answer(table, q), "one linear equation of rows as they are");
        q.outcome = "y";
        q.method = "quantile";
        q.settings.at = {0.5};
        SAYS(answer(table, q), "one linear equation of rows as they are");
        q.method = "least-squares";
        q.settings = {};
        q.weightKind = WeightKind::Frequency;
        q.weight = "w";
        SAYS(answer(table, q), "without frequency weights");
    }

    /// Every combination of extremes refitted.
    void worstCasesAreTheExtremesOfAllFillings() {
        const json& expected = reference().at("worst");
        Question q = bare("y", {"d", "z"});
        q.worstCases = WorstCaseRequest{"d"};
        const Answer a = answer(tableFrom(expected.at("data")), q);
        QVERIFY2(a.defence && *a.defence->worstCases, whyNot(a).c_str());
        const WorstCases& found = worst(a);
        QCOMPARE(found.rows, std::size_t{60});
        QCOMPARE(found.unseen, std::size_t{6});
        AGREE("lower", found.lower.estimate, expected.at("lower")[0].get<double>(), 1e-9);
        AGREE("se", found.lower.se, expected.at("lower")[1].get<double>(), 1e-9);
        AGREE("upper", found.upper.estimate, expected.at("upper")[0].get<double>(), 1e-9);
        AGREE("se", found.upper.se, expected.at("upper")[1].get<double>(), 1e-9);
        AGREE("low", found.low, expected.at("low").get<double>(), 1e-8);
        AGREE("high", found.high, expected.at("high").get<double>(), 1e-8);
        QVERIFY(found.asSeen);
        // Wider ends, wider bounds; narrower ones than what was seen are refused.
        q.worstCases->low = found.from - 1.0;
        q.worstCases->high = found.to + 1.0;
        const WorstCases wider = worst(answer(tableFrom(expected.at("data")), q));
        QVERIFY(wider.lower.estimate < found.lower.estimate && !wider.asSeen);
        QVERIFY(wider.upper.estimate > found.upper.estimate);
        q.worstCases->high = found.to - 1.0;
        SAYS(answer(tableFrom(expected.at("data")), q), "beyond the ends that are named");
    }

    void thoseSeenEitherWayAreTrimmed() {
        const json& expected = reference().at("either_way");
        Question q = bare("y", {"d"});
        q.worstCases = WorstCaseRequest{"d"};
        const Answer a = answer(tableFrom(expected.at("data")), q);
        QVERIFY2(a.defence && *a.defence->worstCases, whyNot(a).c_str());
        const AlwaysSeen& found = *worst(a).always;
        AGREE("trimmed", found.trimmed, expected.at("trimmed").get<double>(), 1e-12);
        AGREE("with", found.seenWith, expected.at("seen_with").get<double>(), 1e-12);
        AGREE("without", found.seenWithout, expected.at("seen_without").get<double>(), 1e-12);
        AGREE("lower", found.lower.estimate, expected.at("lower")[0].get<double>(), 1e-10);
        AGREE("lower se", found.lower.se, expected.at("lower")[1].get<double>(), 1e-10);
        AGREE("upper", found.upper.estimate, expected.at("upper")[0].get<double>(), 1e-10);
        AGREE("upper se", found.upper.se, expected.at("upper")[1].get<double>(), 1e-10);
        // Of a quantity there is no such side: it is said, in words and in results.
        Question dose = q;
        dose.terms = {Term::expression("d + 0.5")};
        dose.worstCases->of = "d + 0.5";
        const Answer none = answer(tableFrom(expected.at("data")), dose);
        QVERIFY(!worst(none).always);
        QVERIFY(worstCasesReading(worst(none), 0.05)[1].find("no yes or no") != std::string::npos);
        const auto results = resultsJson(Study{}, {none})["answers"][0]["worst_cases"];
        QVERIFY(results["always_seen"].is_null() && results.contains("message"));
        // The other way round: who has the cause and who has not change their places.
        Question turned = q;
        turned.terms = {Term::expression("1 - d")};
        turned.worstCases->of = "1 - d";
        const AlwaysSeen back = *worst(answer(tableFrom(expected.at("data")), turned)).always;
        AGREE("lower", back.lower.estimate, -found.upper.estimate, 1e-10);
        AGREE("upper se", back.upper.se, found.lower.se, 1e-10);
        const auto said = worstCasesReading(worst(a), 0.05);
        QCOMPARE(said.size(), std::size_t{2});
        QVERIFY(said[1].find("seen either way") != std::string::npos);
    }

    void withNothingUnseenThereIsNoWorstCase() {
        Question q = bare("y", {"d", "z"});
        q.worstCases = WorstCaseRequest{"d"};
        SAYS(answer(villages(50, 1, 0.1), q), "nothing is unseen");
        q.worstCases->of = "nobody";
        Table table = villages(50, 1, 0.1);
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        y[3] = std::nan("");
        table.columns[0] = Column::ofNumbers("y", y);
        SAYS(answer(table, q), "is no effect of this question");
    }

    /// Between two ends that are one the interval is the usual one; far apart it is one-sided.
    void anIntervalBetweenEndsLiesBetweenTwoLaws() {
        const auto [low, high] = intervalBetween({1.0, 0.5}, {1.0, 0.5}, 0.05, std::nullopt);
        AGREE("low", low, 1.0 - 1.959963984540054 * 0.5, 1e-9);
        AGREE("high", high, 1.0 + 1.959963984540054 * 0.5, 1e-9);
        const auto far = intervalBetween({-50.0, 0.5}, {50.0, 0.5}, 0.05, std::nullopt);
        AGREE("far", far.first, -50.0 - 1.6448536269514722 * 0.5, 1e-9);
    }

    void sizesAreWhereThePowerIsReached() {
        for (const json& one : reference().at("sizes")) {
            Design design;
            Fit fit;
            Coefficient c;
            c.term = "d";
            c.designTerm = 0;
            c.estimate = 0.05;
            c.se = one.at("se").get<double>();
            c.df = one.at("df").get<double>();
            fit.coefficients = {c};
            fit.n = one.at("n").get<double>();
            const auto found = plannedSize(
                design, fit, {"d", one.at("effect").get<double>(), one.at("power").get<double>()},
                0.05);
            QVERIFY(found.has_value());
            QCOMPARE(found->rows, one.at("rows").get<double>());
            AGREE("here", found->here, one.at("here").get<double>(), 1e-9);
            QVERIFY(!found->clusters);
        }
        // As many rows as there are find what smallestSeen() says.
        Question q = bare("y", {"d", "z"});
        q.errors.kind = "clustered";
        q.errors.by = {"v"};
        const Answer plain = answer(villages(200, 9, 0.2), q);
        const double seen =
            (criticalOf(plain, 0.05) + criticalOf(plain, 0.4)) * coefficient(plain, "d")->se;
        q.planned = {{"d", seen}, {"nobody", 1.0}};
        const Answer a = answer(villages(200, 9, 0.2), q);
        QCOMPARE(a.defence->planned[0]->rows, 200.0);
        QCOMPARE(*a.defence->planned[0]->clusters, 20.0);
        AGREE("here", a.defence->planned[0]->here, 0.8, 1e-9);
        QVERIFY(!a.defence->planned[1]);
        QVERIFY(plannedReading(*a.defence->planned[0]).find("four samples of five") !=
                std::string::npos);
    }

    void forecastsAreTheRecursion() {
        const json& expected = reference().at("forecast");
        Question q = bare("y", {"x", "lag(y)"});
        q.forecast = ForecastRequest{static_cast<int>(expected.at("values").size()), {}};
        GoesOn& goes = q.forecast->terms["x"];
        goes.way = "values";
        for (const json& x : expected.at("to_come")) {
            goes.values.emplace_back(x.get<double>());
        }
        const Answer a = answerIn(tableFrom(expected.at("data")), q, inTime());
        QVERIFY2(a.forecast && *a.forecast, whyNot(a).c_str());
        const Forecast& found = foretold(a);
        QVERIFY(found.onItsPast);
        for (std::size_t h = 0; h < found.points.size(); ++h) {
            const ForecastPoint& point = found.points[h];
            AGREE("value", point.mean.value, expected.at("values")[h].get<double>(), 1e-9);
            AGREE("se", point.mean.se, expected.at("se")[h].get<double>(), 1e-7);
            AGREE("row low", point.rowLow, expected.at("row_low")[h].get<double>(), 1e-7);
            AGREE("row high", point.rowHigh, expected.at("row_high")[h].get<double>(), 1e-7);
            QCOMPARE(point.time, 81.0 + static_cast<double>(h));
        }
    }

    /// Without its past a forecast is a prediction at the values to come.
    void withoutAPastAForecastIsAPrediction() {
        Question q = bare("ln(y)", {"x", "trend()"});
        q.forecast = ForecastRequest{3, {{"x", {"values", {Key(11.0), Key(9.0)}}}}};
        q.predict = {{{{"x", 11.0}, {"trend()", 60.0}}, ""},
                     {{{"x", 9.0}, {"trend()", 61.0}}, ""},
                     {{{"x", 9.0}, {"trend()", 62.0}}, ""}};
        const Answer a = answerIn(series(), q, inTime());
        QVERIFY2(a.forecast && *a.forecast, whyNot(a).c_str());
        for (std::size_t h = 0; h < 3; ++h) {
            const ForecastPoint& point = foretold(a).points[h];
            const Prediction& other = (*a.predictions)[h];
            AGREE("value", point.mean.value, other.mean.value, 1e-10);
            AGREE("se", point.mean.se, other.mean.se, 1e-9);
            AGREE("row", point.rowHigh, other.rowHigh, 1e-9);
            AGREE("back", point.original->mean, other.original->mean, 1e-9);
            AGREE("back row", point.original->rowLow, other.original->rowLow, 1e-9);
        }
        QVERIFY(!foretold(a).onItsPast);
    }

    /// An echo fades: what is left at the last moment times ρ to the h.
    void anEchoFadesIntoTheForecast() {
        Question q = bare("y", {"x"});
        q.method = "feasible-ar";
        q.forecast = ForecastRequest{8, {}};
        const Answer a = answerIn(series(), q, inTime());
        QVERIFY2(a.forecast && *a.forecast, whyNot(a).c_str());
        const Table table = series();
        const double rho = foretold(a).echo;
        QVERIFY(rho > 0.05);
        const double x = table.columns[1].numbers()[59];
        const double b0 = a.fit->coefficients[0].estimate;
        const double b1 = a.fit->coefficients[1].estimate;
        const double left = table.columns[0].numbers()[59] - b0 - b1 * x;
        for (std::size_t h = 0; h < 8; ++h) {
            AGREE("value", foretold(a).points[h].mean.value,
                  b0 + b1 * x + left * std::pow(rho, static_cast<double>(h + 1)), 1e-9);
        }
        // Scatter grows from that of a shock to that of a row.
        const auto width = [&](std::size_t h) {
            return foretold(a).points[h].rowHigh - foretold(a).points[h].rowLow;
        };
        QVERIFY(width(7) > width(0));
    }

    /// Changes add up to the level, and the same model in levels tells the same.
    void changesLeadToTheLevelTheyAddUpTo() {
        Question levels = bare("y", {"x", "lag(y)"});
        Question changes = bare("change(y)", {"x", "lag(y)"});
        levels.forecast = changes.forecast = ForecastRequest{6, {}};
        const Answer one = answerIn(series(), levels, inTime());
        const Answer other = answerIn(series(), changes, inTime());
        QVERIFY2(one.forecast && *one.forecast, whyNot(one).c_str());
        QVERIFY2(other.forecast && *other.forecast, whyNot(other).c_str());
        QCOMPARE(foretold(other).levelOf, std::string("y"));
        for (std::size_t h = 0; h < 6; ++h) {
            const ForecastPoint& level = foretold(one).points[h];
            const ForecastPoint& sum = foretold(other).points[h];
            AGREE("level", sum.level->value, level.mean.value, 1e-9);
            AGREE("se", sum.level->se, level.mean.se, 1e-6);
            AGREE("row", sum.levelRowHigh, level.rowHigh, 1e-7);
        }
    }

    /// Rows that the table has of moments to come say what the other variables are there, and never
    /// what the outcome is.
    void theTablesOwnMomentsAreUsedAndNobodyLooksAhead() {
        Table table = series();
        const auto with = [&](double y) {
            Table out;
            for (std::size_t c = 0; c < 3; ++c) {
                std::vector<double> cells(table.columns[c].numbers().begin(),
                                          table.columns[c].numbers().end());
                cells.push_back(c == 0 ? y : c == 1 ? 12.5 : 61.0);
                out.columns.push_back(Column::ofNumbers(table.columns[c].name(), cells));
                out.variables.push_back(table.variables[c]);
            }
            return out;
        };
        Question q = bare("y", {"x", "lag(y)"});
        q.where = "m <= 60";
        q.forecast = ForecastRequest{2, {}};
        const Answer known = answerIn(with(9.0), q, inTime());
        const Answer open = answerIn(with(std::nan("")), q, inTime());
        QVERIFY2(known.forecast && *known.forecast, whyNot(known).c_str());
        for (std::size_t h = 0; h < 2; ++h) {
            QCOMPARE(foretold(known).points[h].mean.value, foretold(open).points[h].mean.value);
        }
        Question given = q;
        given.forecast->terms["x"] = {"values", {Key(12.5)}};
        AGREE("x", foretold(answerIn(series(), given, inTime())).points[0].mean.value,
              foretold(known).points[0].mean.value, 1e-12);
        QCOMPARE(foretold(known).goesOn[0].second, std::string("as the table has it"));
    }

    void forecastsAreRefusedInWords() {
        Question q = bare("y", {"x"});
        q.forecast = ForecastRequest{};
        SAYS(answer(series(), q), "one linear equation of a series");
        q.forecast->terms["m"] = {"last", {}};
        SAYS(answerIn(series(), q, inTime()), "or the time itself");
        q.forecast->terms = {{"nobody", {}}};
        SAYS(answerIn(series(), q, inTime()), "do not hang on ‘nobody’");
        q.forecast->terms = {{"x", {"season", {}}}};
        SAYS(answerIn(series(), q, inTime()), "no season");
        q.forecast->terms = {{"x", {"values", {Key(std::string("much"))}}}};
        SAYS(answerIn(series(), q, inTime()), "cannot be ‘much’");
        q.forecast->terms.clear();
        q.terms = {Term::expression("lead(x)")};
        SAYS(answerIn(series(), q, inTime()), "has no value at a moment to come");
        for (const char* all : {"rank(x)", "lag(x - avg(x))", "lag(rank(x))"}) {
            q.terms = {Term::expression(all)};
            SAYS(answerIn(series(), q, inTime()), "looks at all rows");
        }
        // Means inside of a term are those of the rows there are, and stay.
        q.terms = {Term::expression("x - avg(x)")};
        QVERIFY(answerIn(series(), q, inTime()).forecast->has_value());
        q.outcome = "y / x";
        q.terms = {Term::expression("lag(y)")};
        SAYS(answerIn(series(), q, inTime()), "what the outcome is made of");
    }

    /// By months: dates go on in calendar months, seasons come back, the proposal makes them
    /// groups.
    void monthsGoOnByTheCalendar() {
        std::vector<double> y, x, day;
        std::mt19937 random(6);
        std::normal_distribution<double> normal;
        // The last day of each month from January 2019.
        const int lengths[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
        double date = 17896.0;
        for (int k = 0; k < 48; ++k) {
            const bool leap = k / 12 == 1 && k % 12 == 1;
            date += lengths[k % 12] + (leap ? 1 : 0);
            day.push_back(date);
            x.push_back(k % 12 == 5 ? 10.0 : normal(random));
            y.push_back(1.0 + 0.3 * x.back() + (k % 12 < 3 ? 2.0 : 0.0) + 0.1 * normal(random));
        }
        Table table = tableOf({{"y", y}, {"x", x}, {"day", day}});
        table.variables[2].measure = Measure::Date;
        Study study;
        study.layout = {Layout::Kind::Series, "", "day", ""};
        Question q = bare("y", {"x"});
        const Frame frame = Frame::make(table, {}, {}, {}, study.layout);
        const auto ways = waysToAsk(study, frame, q);
        const auto season = std::find_if(
            ways.begin(), ways.end(), [](const WayToAsk& way) { return way.groups.has_value(); });
        QVERIFY(season != ways.end());
        QCOMPARE(season->groups->expression, std::string("extract(month from day)"));
        VariableEntry groups;
        groups.name = season->groups->name;
        groups.measure = Measure::Groups;
        Question asked = season->question;
        asked.allChecks = false;
        asked.forecast = ForecastRequest{14, {{"x", {"season", {}}}}};
        const Frame there = Frame::make(table, {groups}, {*season->groups}, {}, study.layout);
        const Answer a = answerQuestion(study, there, asked, Making(Job()));
        QVERIFY2(a.forecast && *a.forecast, whyNot(a).c_str());
        const auto& points = foretold(a).points;
        QCOMPARE(points[0].moment, std::string("2023-01"));
        QCOMPARE(points[1].moment, std::string("2023-02"));
        QCOMPARE(points[13].moment, std::string("2024-02"));
        // Their last days: the 28th, and the 29th of a leap year.
        QCOMPARE(points[1].time, 19416.0);
        QCOMPARE(points[13].time, 19782.0);
        // Winter is two above; in June x comes back as it was.
        QVERIFY(points[0].mean.value > 2.5 && points[4].mean.value < 2.0);
        QVERIFY(points[5].mean.value > 3.5);
        study.derived = {*season->groups};
        QVERIFY(waysToAsk(study, there, asked).empty() ||
                !waysToAsk(study, there, asked).back().groups);
        const Exhibit drawn = forecastExhibit(a);
        QCOMPARE(drawn.bands.size(), std::size_t{2});
        QCOMPARE(drawn.xScale, AxisScale::Date);
        QCOMPARE(drawn.bands[0].x.size(), std::size_t{14});
    }

    /// All of it survives saving; the results file has it.
    void theStudyKeepsWhatIsAsked() {
        Study study;
        Question q = bare("y", {"d", "z"});
        q.byLot = LotRequest{"d", {"v"}, "", 499, 3};
        q.worstCases = WorstCaseRequest{"d", -1.0, 5.5};
        q.planned = {{"d", 0.25, 0.9}};
        q.forecast = ForecastRequest{
            4, {{"x", {"values", {Key(1.5), Key(std::string("Ridge"))}}}, {"z", {"season", {}}}}};
        study.questions = {q};
        const auto again = readStudyText(studyText(study));
        QVERIFY(again.has_value());
        const Question& back = again->questions[0];
        QVERIFY(back.byLot == q.byLot && back.worstCases == q.worstCases);
        QVERIFY(back.planned == q.planned && back.forecast == q.forecast);
        QVERIFY(back.unknownKeys.empty());
        for (const char* bad :
             {R"("by_lot": {"of": ""})", R"("by_lot": {"of": "d", "draws": 3})",
              R"("worst_cases": {"of": "d", "low": 2, "high": 1})",
              R"("planned": [{"of": "d", "effect": 0}])",
              R"("planned": [{"of": "d", "effect": 1, "power": 1}])",
              R"("forecast": {"moments": 0})", R"("forecast": {"terms": {"x": "up"}})"}) {
            const std::string text =
                R"({"format": "rapporto-study", "version": 1, "questions": [{"id": "q1", "kind": "explain", "outcome": "y", "terms": ["d"], )" +
                std::string(bad) + "}]}";
            const auto read = readStudyText(text);
            QVERIFY2(!read || read->questions[0].unbuilt.has_value(), bad);
        }
        Question shown = q;
        shown.forecast.reset();
        const Answer a = answer(villages(60, 2, 0.5), shown);
        Study named;
        named.questions = {shown};
        const auto results = resultsJson(named, {a});
        const auto& one = results.at("answers")[0];
        QCOMPARE(one.at("by_lot").at("draws").get<int>(), 499);
        QVERIFY(one.at("by_lot").at("p").is_number());
        QVERIFY(one.at("planned")[0].at("rows").is_number());
        QVERIFY(one.at("worst_cases").contains("message"));
    }

    /// A variable that gets another name keeps its place in what is asked.
    void whatIsAskedFollowsARename() {
        Study study;
        study.source.file = "a.csv";
        study.derived = {{"d", "z > 0", ""}, {"v v", "z > 1", ""}};
        Question q = bare("y", {"d", "z"});
        q.byLot = LotRequest{"d", {"\"v v\""}, "\"v v\"", 499, 3};
        q.worstCases = WorstCaseRequest{"d"};
        q.planned = {{"d", 0.25, 0.9}};
        q.forecast = ForecastRequest{4, {{"d", {"mean", {}}}}};
        study.questions = {q};
        const auto cause = apply(study, {RenameDerived{"d", "cause"}, "rename"});
        QVERIFY2(cause, cause ? "" : cause.error().text().c_str());
        const auto both = apply(*cause, {RenameDerived{"v v", "villages"}, "rename"});
        QVERIFY2(both, both ? "" : both.error().text().c_str());
        const Question& now = both->questions[0];
        QCOMPARE(now.byLot->of, std::string("cause"));
        QCOMPARE(now.byLot->by, std::string("villages"));
        QCOMPARE(now.byLot->within, std::vector<std::string>{"villages"});
        QCOMPARE(now.worstCases->of, std::string("cause"));
        QCOMPARE(now.planned[0].of, std::string("cause"));
        QVERIFY(now.forecast->terms.contains("cause") && !now.forecast->terms.contains("d"));
    }

    /// Checks speak of the effect that is named, and are quiet without one.
    void checksSpeakOfTheEffectThatIsNamed() {
        Table table = villages(200, 12, 0.6);
        Question q = explain("y", {"d", "z"});
        const Answer quiet = answer(table, q);
        for (const char* id : {"left-out", "by-lot", "not-seen"}) {
            QCOMPARE(check(quiet, id).verdict, Verdict::NotApplicable);
        }
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        for (std::size_t i = 0; i < 200; i += 9) {
            y[i] = std::nan("");
        }
        table.columns[0] = Column::ofNumbers("y", y);
        q.leftOut = LeftOutRequest{"d", {Term::expression("z")}, {1.0}};
        q.byLot = LotRequest{"d", {}, "", 999, 1};
        q.worstCases = WorstCaseRequest{"d"};
        const Answer a = answer(table, q);
        QCOMPARE(check(a, "by-lot").verdict, Verdict::Fine);
        QCOMPARE(*check(a, "by-lot").p, lots(a).p);
        QCOMPARE(*check(a, "left-out").statistic, *(*a.leftOut)->robustnessAlpha);
        QVERIFY(check(a, "left-out").verdict != Verdict::NotApplicable);
        QVERIFY(check(a, "not-seen").verdict != Verdict::NotApplicable);
        QCOMPARE(detail(check(a, "not-seen"), "lower"), worst(a).lower.estimate);
        QVERIFY(!check(a, "by-lot").exhibit.bars.empty());
        // The reading of the effect tells all of it, that of another none.
        const auto said = [&](const std::string& term) {
            std::string all;
            const auto at = coefficient(a, term) - a.fit->coefficients.data();
            for (const std::string& one : effectReading(a, static_cast<std::size_t>(at))) {
                all += one + "\n";
            }
            return all;
        };
        QVERIFY(said("d").find("drawn by lot") != std::string::npos);
        QVERIFY(said("d").find("have no outcome") != std::string::npos);
        QVERIFY(said("z").find("drawn by lot") == std::string::npos);
        QVERIFY(explainMethods(a).find("Young 2019") != std::string::npos);
    }

    /// Rows in another order are the same rows: all lots, the ends of worst cases, sizes.
    void theOrderOfRowsDoesNotMatter() {
        Table table = villages(12, 31, 0.8);
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        y[4] = std::nan("");
        table.columns[0] = Column::ofNumbers("y", y);
        Table turned = table;
        for (Column& column : turned.columns) {
            std::vector<double> cells(column.numbers().begin(), column.numbers().end());
            std::reverse(cells.begin(), cells.end());
            column = Column::ofNumbers(column.name(), std::move(cells));
        }
        Question q = bare("y", {"d", "z"});
        q.byLot = LotRequest{"d"};
        q.worstCases = WorstCaseRequest{"d"};
        q.planned = {{"d", 0.4}};
        const Answer one = answer(table, q);
        const Answer other = answer(turned, q);
        QVERIFY2(*one.defence->byLot, whyNot(one).c_str());
        QVERIFY(lots(one).exact);
        QCOMPARE(lots(one).draws, lots(other).draws);
        AGREE("p", lots(one).p, lots(other).p, 1e-12);
        AGREE("t", lots(one).statistic, lots(other).statistic, 1e-9);
        QCOMPARE(lots(one).low.has_value(), lots(other).low.has_value());
        AGREE("high", *lots(one).high, *lots(other).high, 1e-8);
        AGREE("lower", worst(one).lower.estimate, worst(other).lower.estimate, 1e-9);
        AGREE("upper", worst(one).upper.se, worst(other).upper.se, 1e-9);
        QCOMPARE(one.defence->planned[0]->rows, other.defence->planned[0]->rows);
        // In other units effects follow, and nothing else.
        Question scaled = q;
        scaled.outcome = "y * 1024";
        scaled.planned[0].effect *= 1024.0;
        const Answer large = answer(table, scaled);
        AGREE("p", lots(large).p, lots(one).p, 1e-12);
        AGREE("high", *lots(large).high, 1024.0 * *lots(one).high, 1e-9);
        AGREE("lower", worst(large).lower.estimate, 1024.0 * worst(one).lower.estimate, 1e-9);
        QCOMPARE(large.defence->planned[0]->rows, one.defence->planned[0]->rows);
    }

    /// Errors of any kind go with worst cases, and what is held fixed: each end is the fit that it
    /// says it is.
    void worstCasesUseTheErrorsOfTheQuestion() {
        Table table = villages(160, 14, 0.5);
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        for (std::size_t i = 3; i < y.size(); i += 20) {
            y[i] = std::nan("");
        }
        table.columns[0] = Column::ofNumbers("y", y);
        for (const char* kind : {"classical", "robust", "clustered"}) {
            for (const bool held : {false, true}) {
                Question q = bare("y", {"d", "z"});
                q.errors.kind = kind;
                if (q.errors.kind == "clustered") {
                    q.errors.by = {"v"};
                }
                if (held) {
                    q.fixedEffects = {"v"};
                }
                q.worstCases = WorstCaseRequest{"d", -4.0, 6.0};
                const Answer a = answer(table, q);
                QVERIFY2(*a.defence->worstCases, whyNot(a).c_str());
                QCOMPARE(worst(a).unseen, std::size_t{8});
                QVERIFY(worst(a).lower.estimate < coefficient(a, "d")->estimate);
                QVERIFY(worst(a).upper.estimate > coefficient(a, "d")->estimate);
                // No filling of a few at random reaches further.
                std::mt19937 random(8);
                for (int trial = 0; trial < 12; ++trial) {
                    Table filled = table;
                    std::vector<double> cells = y;
                    for (double& x : cells) {
                        x = std::isnan(x) ? (random() % 2 == 0 ? -4.0 : 6.0) : x;
                    }
                    filled.columns[0] = Column::ofNumbers("y", cells);
                    Question plain = q;
                    plain.worstCases.reset();
                    const double b = coefficient(answer(filled, plain), "d")->estimate;
                    QVERIFY(b >= worst(a).lower.estimate - 1e-9);
                    QVERIFY(b <= worst(a).upper.estimate + 1e-9);
                }
            }
        }
    }

    /// The report has a table of ends, one of moments, the sentences, and says what is not asked.
    void theReportTellsItInTables() {
        Table table = villages(80, 14, 0.5);
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        y[3] = y[9] = std::nan("");
        table.columns[0] = Column::ofNumbers("y", y);
        Question q = bare("y", {"d", "z"});
        q.byLot = LotRequest{"d", {}, "", 499, 2};
        q.worstCases = WorstCaseRequest{"d"};
        q.planned = {{"d", 0.3}};
        const Answer a = answer(table, q);
        Study study;
        study.questions = {q};
        study.report = {ReportItem("defence", {"q1"}), ReportItem("forecast", {"q1"})};
        const auto blocks = buildReport(study, {{"q1", &a}});
        std::size_t tables = 0;
        std::string all;
        for (const ReportBlock& block : blocks) {
            tables += block.kind == ReportBlock::Kind::Table ? 1U : 0U;
            all += block.text + "\n";
            if (block.kind == ReportBlock::Kind::Table) {
                QCOMPARE(block.cells.size(), std::size_t{3});
                QCOMPARE(*block.cells[1][1].value, worst(a).lower.estimate);
                QCOMPARE(*block.cells[2][3].value, worst(a).always->upper.estimate);
            }
        }
        QCOMPARE(tables, std::size_t{1});
        for (const char* words : {"drawn by lot among", "have no outcome", "takes about",
                                  "Imbens & Manski (2004)", "no moment to come is asked for"}) {
            QVERIFY2(all.find(words) != std::string::npos, words);
        }
        Question ahead = bare("y", {"x"});
        ahead.forecast = ForecastRequest{5, {}};
        const Answer foreseen = answerIn(series(), ahead, inTime());
        study.questions = {ahead};
        study.report = {ReportItem("forecast", {"q1"})};
        std::size_t moments = 0;
        for (const ReportBlock& block : buildReport(study, {{"q1", &foreseen}})) {
            moments += block.kind == ReportBlock::Kind::Table ? block.cells.size() - 1 : 0U;
        }
        QCOMPARE(moments, std::size_t{5});
        const auto results = resultsJson(study, {foreseen});
        const auto& points = results.at("answers")[0].at("forecast").at("points");
        QCOMPARE(points.size(), std::size_t{5});
        QCOMPARE(points[0].at("moment").get<std::string>(), std::string("61"));
        QCOMPARE(points[4].at("row_low").get<double>(), foretold(foreseen).points[4].rowLow);
        QVERIFY(explainMethods(foreseen).find("Lütkepohl 2005") != std::string::npos);
    }

    /// Every panel of the reading column has its words: what is still to come, and what went wrong.
    void whatIsStillToComeIsSaid() {
        Question q = bare("y", {"d", "z"});
        q.byLot = LotRequest{"d", {}, "", 199, 1};
        Answer a = answer(villages(60, 3, 0.2), q);
        Defence open;
        a.defence = std::make_shared<const Defence>(open);
        const auto said = defenceReading(a, "d");
        QCOMPARE(said.size(), std::size_t{1});
        QVERIFY(said[0].starts_with("~") && said[0].find("being worked out") != std::string::npos);
        QVERIFY(lotsToDraw(a) == nullptr);
        a.defence = nullptr;
        QVERIFY(defenceReading(a, "d").empty() && forecastReading(a).empty());
        QVERIFY(forecastExhibit(a).lines.empty());
    }

    /// What can be asked is offered, once, and answers.
    void whatCanBeAskedIsOffered() {
        Table table = villages(100, 21, 0.1);
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        y[5] = y[50] = std::nan("");
        table.columns[0] = Column::ofNumbers("y", y);
        Study study;
        Question q = bare("y", {"d", "z"});
        q.errors.kind = "clustered";
        q.errors.by = {"v"};
        const Answer a = answer(table, q);
        const auto ways = waysToDefend(study, a, 1);
        std::vector<std::string> labels;
        for (const WayToDefend& way : ways) {
            labels.push_back(way.label);
            const Answer next = answer(table, way.question);
            QVERIFY2(whyNot(next) == "nothing refused", whyNot(next).c_str());
            for (const WayToDefend& left : waysToDefend(study, next, 1)) {
                QVERIFY(left.label != way.label);
            }
        }
        QCOMPARE(labels, (std::vector<std::string>{"What may be left out", "Draw it by lot",
                                                   "Worst cases", "How many rows would do"}));
        // It differs within villages: lots are drawn within them.
        QCOMPARE(ways[1].question.byLot->within, std::vector<std::string>{"v"});
        QVERIFY(waysToDefend(study, a, 0).empty());
        // Where there are moments, placebos.
        const Answer moments = answerIn(series(), bare("y", {"x"}), inTime());
        std::size_t placebos = 0;
        for (const WayToDefend& way : waysToDefend(study, moments, 1)) {
            placebos += way.variant ? 1 : 0;
            if (way.variant) {
                const Answer asked = answerIn(series(), way.question, inTime());
                QVERIFY2(asked.fit != nullptr, whyNot(asked).c_str());
                QCOMPARE(asked.rows.used, std::size_t{59});
            }
        }
        QCOMPARE(placebos, std::size_t{2});
    }

  private:
    static double criticalOf(const Answer& a, double alpha) {
        const Coefficient& c = *coefficient(a, "d");
        return (c.high - c.estimate) / c.se *
               (alpha == a.alpha ? 1.0 : quotient(*c.df, alpha, a.alpha));
    }

    /// t at one level over t at another, by bisection on the program’s own p: no table is copied.
    static double quotient(double df, double alpha, double other) {
        const auto at = [&](double level) {
            double low = 0.0;
            double high = 50.0;
            for (int k = 0; k < 200; ++k) {
                const double middle = 0.5 * (low + high);
                (twoSidedPOf(middle, df) > level ? low : high) = middle;
            }
            return low;
        };
        return at(alpha) / at(other);
    }

    /// By Simpson’s rule on the density of t.
    static double twoSidedPOf(double t, double df) {
        const double scale =
            std::exp(std::lgamma(0.5 * (df + 1.0)) - std::lgamma(0.5 * df)) / std::sqrt(df * M_PI);
        constexpr int kSteps = 4000;
        double sum = 0.0;
        for (int k = 0; k <= kSteps; ++k) {
            const double x = t * k / kSteps;
            const double weight = k == 0 || k == kSteps ? 1.0 : k % 2 == 1 ? 4.0 : 2.0;
            sum += weight * std::pow(1.0 + x * x / df, -0.5 * (df + 1.0));
        }
        return 1.0 - 2.0 * scale * sum * t / kSteps / 3.0;
    }
};

QTEST_APPLESS_MAIN(DefenceTest)

#include "defence_test.moc"
