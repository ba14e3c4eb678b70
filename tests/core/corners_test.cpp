// Corners in which a wrong number could be printed with a straight face: each question of
// tests/data/corners against what explicit indicators, likelihoods and moments give, and parts that
// break or have no use refused by themselves.
#include "core/base/border.h"
#include "core/io/csv_guess.h"
#include "core/model/event_study.h"
#include "core/model/likelihood.h"
#include "core/model/method_uses.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/quadratic_form.h"
#include "core/report/wording.h"
#include "core/study/sources.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <stdexcept>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/corners_reference.json");
    return kReference;
}

/// The answer to one question of a folder of tests/data/corners; the first without an id.
Answer corner(const std::string& folder, const std::string& id = {}) {
    const std::string place = std::string(RAPPORTO_SOURCE_DIR) + "/tests/data/corners/" + folder;
    const auto study = readStudyFile(place + "/study.rapporto");
    if (!study) {
        throw std::runtime_error(study.error().text());
    }
    const auto sources = readSources(*study, place, false, Job());
    if (!sources) {
        throw std::runtime_error(sources.error().text());
    }
    const Frame frame = makeFrame(*study, *sources);
    const Question* question = id.empty() ? &study->questions.front() : study->find(id);
    if (question == nullptr) {
        throw std::runtime_error("no question " + id);
    }
    return answerQuestion(*study, frame, *question, Job());
}

Study studyOf(const std::string& questions) {
    const auto study = readStudyText(
        R"({"format":"rapporto-study","version":1,"source":{"kind":"table","file":"t.csv"},"questions":[)" +
        questions + "]}");
    if (!study) {
        throw std::runtime_error(study.error().text());
    }
    return *study;
}

std::string refusalOf(const std::string& question) {
    const Study study = studyOf(question);
    return study.questions.front().unbuilt ? study.questions.front().unbuilt->text()
                                           : std::string();
}

/// Twelve units at six moments that are switched on at `first` + u % 3 (never: every fourth, where
/// `never`), an effect of one from then on.
Table switched(bool never, bool gap) {
    std::vector<double> unit;
    std::vector<double> time;
    std::vector<double> on;
    std::vector<double> y;
    for (int u = 0; u < 24; ++u) {
        const int change = 3 + u % 3;
        for (int t = 0; t < 7; ++t) {
            const bool is = !(never && u % 4 == 0) && t >= change;
            if (gap && change == 4 && !(never && u % 4 == 0) && t == change - 1) {
                continue;  // This cohort has no row just before its change.
            }
            unit.push_back(u);
            time.push_back(t);
            on.push_back(is ? 1.0 : 0.0);
            y.push_back((is ? 1.0 : 0.0) + 0.3 * t + 0.1 * u + 0.05 * std::sin(7.3 * u + 1.9 * t));
        }
    }
    return tableOf({{"u", unit}, {"t", time}, {"d", on}, {"y", y}});
}

Layout panel() {
    Layout layout;
    layout.kind = Layout::Kind::Panel;
    layout.unit = "u";
    layout.time = "t";
    return layout;
}

Question eventStudy(const std::string& weighting, int before, int after) {
    Question q = explain("y", {});
    q.method = "event-study";
    q.settings.variable = "d";
    q.settings.weighting = weighting;
    q.settings.before = before;
    q.settings.after = after;
    q.allChecks = false;
    return q;
}

const EventFit::Place* placeAt(const Answer& a, int at) {
    for (const EventFit::Place& place : a.fit->event->places) {
        if (place.at == at) {
            return &place;
        }
    }
    return nullptr;
}

}  // namespace

class CornersTest : public QObject {
    Q_OBJECT

  private slots:

    void anExceptionIsThatPartsRefusal() {
        const auto broken = guarded(
            "the check ‘x’", []() -> Result<int> { throw std::logic_error("rows() == cols()"); });
        QVERIFY(!broken && broken.error().code == ErrorCode::Fault);
        QVERIFY(broken.error().text().find("the check ‘x’") != std::string::npos);
        QVERIFY(broken.error().text().find("rows() == cols()") != std::string::npos);
        const auto full = guarded("a draw", []() -> Result<int> { throw std::bad_alloc(); });
        QVERIFY(!full && full.error().code == ErrorCode::TooFewRows);
        QCOMPARE(*guarded("a sum", []() -> Result<int> { return 2; }), 2);
        // The matrix library’s own assumptions are exceptions, too.
        const auto shapes = guarded("a sum", []() -> Result<double> {
            const Eigen::VectorXd a = Eigen::VectorXd::Ones(2);
            const Eigen::VectorXd b = Eigen::VectorXd::Ones(3);
            return (a + b).sum();
        });
        QVERIFY(!shapes && shapes.error().code == ErrorCode::Fault);
    }

    void lawsDoNotExistOutsideTheirDomain() {
        QVERIFY(std::isnan(fTail(1.0, 2.0, 0.0)));
        QVERIFY(std::isnan(fTail(1.0, 2.0, -3.0)));
        QVERIFY(std::isnan(fTail(std::nan(""), 2.0, 3.0)));
        QVERIFY(std::isnan(tTail(1.0, 0.0)));
        QVERIFY(std::isnan(chiSquareTail(1.0, 0.0)));
        QVERIFY(std::isnan(criticalValue(0.05, 0.0)));
        QVERIFY(std::isnan(normalTail(std::nan(""))));
        QVERIFY(std::isinf(normalQuantile(0.0)) && normalQuantile(0.0) < 0.0);
        QVERIFY(std::isinf(normalQuantile(1.0)));
        QVERIFY(std::isnan(chiSquareDensity(-1.0, 2.0)));
        AGREE("F of a chi-square", fTail(2.0, 3.0, std::numeric_limits<double>::infinity()),
              chiSquareTail(6.0, 3.0), 1e-15);
    }

    /// By inversion to forty digits: a constant and a line over thirty moments.
    void chancesFarDownAreNotAFloor() {
        Eigen::MatrixXd X(30, 2);
        for (int i = 0; i < 30; ++i) {
            X.row(i) << 1.0, i;
        }
        AGREE_FROM(0.0, "d .3", durbinWatsonTail(X, 0.3), 2.1380008e-11, 0.16);
        AGREE_FROM(0.0, "d .2", durbinWatsonTail(X, 0.2), 2.3310145e-14, 0.16);
        AGREE_FROM(0.0, "d .1", durbinWatsonTail(X, 0.1), 2.1261537e-20, 0.16);
        // Where both are good they agree.
        AGREE_FROM(0.0, "d .6", durbinWatsonTail(X, 0.6), durbinWatsonProbability(X, 0.6), 0.05);
    }

    void aDegenerateCheckTakesNothingElseAway() {
        const Answer a = corner("crash-glejser");
        QVERIFY(!a.refusal && a.fit);
        QVERIFY(check(a, "glejser").verdict == Verdict::NotApplicable);
        QVERIFY(a.faults.empty());
    }

    void drawsThatMissALevelAreCounted() {
        const Answer a = corner("crash-ordered-probit-draws");
        QVERIFY(!a.refusal);
        QCOMPARE(a.fit->resampling->asked, 199);
        QVERIFY(a.fit->resampling->failed > 0 && a.fit->resampling->failed < 100);
    }

    void anEndogenousTermThatDoesNotVaryIsRefused() {
        const Answer a = corner("crash-under-identification2");
        QVERIFY(a.refusal && a.refusal->code == ErrorCode::NoVariation);
    }

    void allEquationsOfSeveralGroupsAreTestedTogether() {
        const Answer a = corner("multinomial-together");
        const auto& expected = reference()["several groups"];
        AGREE("chi2 of all", a.fit->statistics.f->value * a.fit->statistics.f->df1,
              number(expected["all"]["chi2"]), 1e-8);
        QCOMPARE(a.fit->statistics.f->df1, 4.0);
        AGREE("p of all", a.fit->statistics.f->p, number(expected["all"]["p"]), 1e-7);
        const HypothesisTest& x = *a.hypotheses.front();
        QCOMPARE(x.df1, 2.0);
        AGREE("p of x", x.p, number(expected["x"]["p"]), 1e-7);
        QCOMPARE(x.equations.size(), std::size_t{2});
        QCOMPARE(verdictOn(x, 0.05), std::string("against"));
        QVERIFY(answerReading(a).find("in all equations together") != std::string::npos);
    }

    void aStatementMayNameItsEquation() {
        Answer a = corner("multinomial-together");
        const auto in = [&](const std::string& text) {
            return testHypothesis(*a.design, *a.fit, text, 0.05);
        };
        const auto one = in("\"to van: x\" = 0");
        QVERIFY2(one, one ? "" : one.error().text().c_str());
        QCOMPARE(one->df1, 1.0);
        for (const Coefficient& c : a.fit->coefficients) {
            if (c.equation == "to van" && c.term == "x") {
                AGREE("its estimate", *one->estimate, c.estimate, 1e-14);
                AGREE("its p", one->p, *c.p, 1e-12);
            }
        }
        QCOMPARE(one->equations, std::vector<std::string>{"to van"});
        const auto claim = in("x > 0");
        QVERIFY(!claim && claim.error().text().find("to foot: ") != std::string::npos);
        QCOMPARE(verdictOn(*in("\"to van: x\" < 0"), 0.05), std::string("for"));
    }

    void instrumentsWithoutUseAreRefused() {
        for (const char* method : {"logit", "probit"}) {
            const Answer a = corner("instruments-ignored", method);
            QVERIFY(a.refusal && a.refusal->code == ErrorCode::NotUsed);
            QVERIFY(a.refusal->text().find("probit-instruments") != std::string::npos);
            QCOMPARE(a.rows.inSample, a.rows.source);
        }
    }

    void whatAMethodTakesIsOneTable() {
        Question q = explain("y", {"x"});
        for (const Estimator& estimator : allEstimators()) {
            q.method = estimator.method;
            q.endogenous = {Term::expression("d")};
            q.instruments = {Term::expression("z")};
            const bool takesThem = (estimator.takes & takes::kInstruments) != 0;
            QVERIFY2(notTaken(q, estimator).has_value() == !takesThem, estimator.method);
            q.endogenous.clear();
            q.instruments.clear();
            q.ownSlopes = {"t"};
            QVERIFY2(
                notTaken(q, estimator).has_value() == ((estimator.takes & takes::kOwnSlopes) == 0),
                estimator.method);
            q.ownSlopes.clear();
            q.weightKind = WeightKind::Precision;
            QVERIFY2(
                notTaken(q, estimator).has_value() == ((estimator.takes & takes::kPrecision) == 0),
                estimator.method);
            q.weightKind = WeightKind::None;
            q.errors = ErrorSpec{"robust", "HC3", {}};
            QVERIFY2(notTaken(q, estimator).has_value() ==
                         ((estimator.takes & takes::kLeverageTypes) == 0),
                     estimator.method);
            q.errors = ErrorSpec{};
            QVERIFY2(!notTaken(q, estimator), estimator.method);
        }
    }

    void leveragesUnderWhatIsHeldFixedAreExact() {
        for (const char* type : {"HC2", "HC3", "HC4"}) {
            for (const char* held : {"two", "slopes", "one"}) {
                const std::string place =
                    std::string(RAPPORTO_SOURCE_DIR) + "/tests/data/corners/hc3-two-groupings";
                Study study = *readStudyFile(place + "/study.rapporto");
                Question q = *study.find(std::string(held) == "slopes" ? "slopes" : "two");
                q.errors.type = type;
                if (std::string(held) == "one") {
                    q.fixedEffects = {"u"};
                }
                const Frame frame = makeFrame(study, *readSources(study, place, false, Job()));
                const Answer a = answerQuestion(study, frame, q, Job());
                QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
                AGREE(std::string(held) + " " + type, coefficient(a, "x")->se,
                      number(reference()["leverage types"][held][type]), 1e-9);
            }
        }
    }

    void fewUnitsAreNamedWhereALawNeedsMany() {
        for (const int units : {5, 40}) {
            std::vector<std::vector<double>> v(4);
            for (int i = 0; i < 6 * units; ++i) {
                v[0].push_back(i / 6);
                v[1].push_back(i % 6);
                v[2].push_back(std::sin(1.3 * i));
                v[3].push_back(v[2].back() + std::cos(2.9 * i * i) + 0.3 * std::sin(7.0 * (i / 6)));
            }
            Question q = explain("y", {"x"});
            q.method = "random";
            q.allChecks = false;
            q.checks = {{"hausman"}, {"panel-serial"}};
            const Answer a = answer(tableOf({{"u", v[0]}, {"t", v[1]}, {"x", v[2]}, {"y", v[3]}}),
                                    q, Layout{Layout::Kind::Panel, "u", "t", ""});
            QCOMPARE(a.checks.size(), std::size_t{2});
            for (const CheckResult& check : a.checks) {
                QVERIFY(check.p.has_value());
                QCOMPARE(check.reading.find("only 5 units") != std::string::npos, units == 5);
            }
        }
    }

    void leveragesOfCountsUnderEffectsAreExact() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> g;
        std::vector<double> t;
        for (int i = 0; i < 120; ++i) {
            g.push_back(i % 8);
            t.push_back((i / 8) % 5);
            x.push_back(std::sin(1.3 * i) + 0.2 * g.back());
            y.push_back(std::floor(3.0 + x.back() + 2.0 * std::cos(3.1 * i) + 0.4 * g.back()));
        }
        const Table table = tableOf({{"y", y}, {"x", x}, {"g", g}, {"t", t}});
        std::vector<VariableEntry> entries(2);
        entries[0].name = "g";
        entries[1].name = "t";
        entries[0].measure = entries[1].measure = Measure::Groups;
        for (const char* type : {"HC2", "HC3"}) {
            Question held = explain("y", {"x"});
            held.method = "poisson";
            held.fixedEffects = {"g", "t"};
            held.errors = ErrorSpec{"robust", type, {}};
            held.allChecks = false;
            Question shown = held;
            shown.fixedEffects.clear();
            shown.terms.push_back(Term::expression("g"));
            shown.terms.push_back(Term::expression("t"));
            AGREE(type, coefficient(answer(table, held, {}, entries), "x")->se,
                  coefficient(answer(table, shown, {}, entries), "x")->se, 1e-7);
        }
        Question empty = explain("y", {});
        empty.method = "poisson";
        empty.fixedEffects = {"g"};
        const Answer none = answer(table, empty, {}, entries);
        QVERIFY(none.refusal && none.refusal->code == ErrorCode::NoTerms);
    }

    void leveragesThatCostTooMuchAreRefused() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> u;
        std::vector<double> v;
        for (int i = 0; i < 8000; ++i) {
            y.push_back(std::sin(i * 1.3));
            x.push_back(std::cos(i * 0.7));
            u.push_back(i % 2001);
            v.push_back((i * 7) % 1999);
        }
        Question q = explain("y", {"x"});
        q.fixedEffects = {"u", "v"};
        q.allChecks = false;
        q.errors = ErrorSpec{"robust", "HC3", {}};
        const Table table = tableOf({{"y", y}, {"x", x}, {"u", u}, {"v", v}});
        const Answer dear = answer(table, q);
        QVERIFY(dear.refusal && dear.refusal->text().find("leverage") != std::string::npos);
        q.errors.type = "HC1";
        QVERIFY(!answer(table, q).refusal);
    }

    void longIdentifiersStayApart() {
        const Answer a = corner("long-ids", "fe");
        AGREE("rss", a.fit->statistics.rss, 2.0, 1e-12);
        QCOMPARE(a.design->effects.front().count, 4);
        QVERIFY(isBeyondNumbers("1234567890123456701"));
        QVERIFY(isBeyondNumbers("-9007199254740993"));
        QVERIFY(!isBeyondNumbers("9007199254740992"));
        QVERIFY(!isBeyondNumbers("100000000000000000000"));
        QVERIFY(!isBeyondNumbers("1234567890123456.5"));
        QVERIFY(!isBeyondNumbers("123456"));
        const auto import =
            readCsvText("id,y\n12345678901234567,1\n12345678901234568,2\n", {}, Job());
        QVERIFY(import->table.columns[0].isText());
        QVERIFY(import->evidence[0].reason.find("longer than a number") != std::string::npos);
    }

    void thousandsStandInGroups() {
        const auto read = [](const std::string& text) {
            return readCsvText(text, {}, Job())->table.columns[0];
        };
        const Column marked = read("a,b\n\"1,234.50\",1\n\"12,345.00\",2\n7,3\n");
        QVERIFY(!marked.isText());
        QCOMPARE(marked.numbers()[0], 1234.5);
        QCOMPARE(marked.numbers()[1], 12345.0);
        QVERIFY(read("a,b\n\"1,2\",1\n\"12,345.00\",2\n").isText());
        QVERIFY(!parseNumber("1,23", '.', ','));
        QCOMPARE(*parseNumber("1.234.567,5", ',', '.'), 1234567.5);
    }

    void samplingWeightsLeaveChecksTheirSize() {
        const Answer weighted = corner("checks-sampling-weights", "weighted");
        const Answer plain = corner("checks-sampling-weights", "plain");
        for (const char* id : {"rainbow", "jarque-bera", "shapiro-wilk", "outliers"}) {
            AGREE(id, *check(weighted, id).p, *check(plain, id).p, 1e-9);
            QVERIFY(check(weighted, id).reading.find("counts once") != std::string::npos);
        }
    }

    void frequencyWeightsAreTheRowsTheyStandFor() {
        for (const char* id : {"ls", "median", "mm", "huber"}) {
            const Answer counted = corner("frequency", id);
            const Answer expanded = corner("frequency-expanded", id);
            for (std::size_t j = 0; j < counted.fit->coefficients.size(); ++j) {
                const Coefficient& c = counted.fit->coefficients[j];
                const Coefficient& e = expanded.fit->coefficients[j];
                AGREE(std::string(id) + " " + c.term, c.estimate, e.estimate, 1e-9);
                AGREE(std::string(id) + " se " + c.term, c.se, e.se, 1e-9);
            }
            for (std::size_t k = 0; k < counted.checks.size(); ++k) {
                QCOMPARE(counted.checks[k].verdict, expanded.checks[k].verdict);
                if (counted.checks[k].p) {
                    AGREE(counted.checks[k].id, *counted.checks[k].p, *expanded.checks[k].p, 1e-9);
                }
            }
        }
    }

    void aCohortWithoutItsBaseIsNotRead() {
        const Table gap = switched(true, true);
        const Answer a = answer(gap, eventStudy("cohorts", 6, 6), panel());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.fit->dropped.size(), std::size_t{1});
        QVERIFY(a.fit->dropped.front().name.find("cohort of 4") != std::string::npos);
        // The same without that cohort’s rows: they say nothing of the others.
        std::vector<VariableEntry> none;
        Question apart = eventStudy("cohorts", 6, 6);
        for (std::size_t i = 0; i < gap.rows(); ++i) {
            const int u = static_cast<int>(gap.columns[0].numbers()[i]);
            if (u % 3 == 1 && u % 4 != 0) {
                apart.without.push_back(i + 1);
            }
        }
        const Answer without = answer(gap, apart, panel(), none);
        for (const int at : {0, 1}) {
            AGREE("at " + std::to_string(at), placeAt(a, at)->estimate,
                  placeAt(without, at)->estimate, 1e-9);
            QVERIFY(std::abs(placeAt(a, at)->estimate - 1.0) < 0.1);
        }
        QVERIFY(placeAt(a, -1)->rows > 0);
    }

    void aLineInTimeIsNotTakenForAnEffect() {
        // Every unit changes and each distance stands alone.
        const Answer alone = answer(switched(false, false), eventStudy("pooled", 6, 6), panel());
        QVERIFY(alone.refusal && alone.refusal->code == ErrorCode::RankDeficient);
        const Answer ends = answer(switched(false, false), eventStudy("pooled", 2, 2), panel());
        QVERIFY2(!ends.refusal, ends.refusal ? ends.refusal->text().c_str() : "");
        QVERIFY(!answer(switched(true, false), eventStudy("pooled", 6, 6), panel()).refusal);
    }

    void profilesDoNotHangOnTheTermsPlace() {
        const auto& expected = reference()["penalised"];
        for (const char* id : {"raw", "centred"}) {
            const Answer a = corner("firth-year", id);
            const Coefficient& c = a.fit->coefficients[1];
            AGREE("slope", c.estimate, number(expected["slope"]), 1e-7);
            AGREE("low", c.low, number(expected["low"]), 1e-8);
            AGREE("high", c.high, number(expected["high"]), 1e-8);
            AGREE("p", *c.p, number(expected["p"]), 1e-7);
            // All terms together by the same likelihood, not by Wald beside it.
            AGREE("together", a.fit->statistics.f->p, number(expected["p"]), 1e-7);
        }
    }

    void levelsWithoutAnErrorHaveNoInterval() {
        const Answer a = corner("predict-fixed-clustered");
        const Prediction& p = a.predictions->front();
        QVERIFY(std::isnan(p.mean.se) && std::isnan(p.mean.low) && std::isnan(p.mean.high));
        QVERIFY(std::isnan(p.rowLow));
        QVERIFY(!p.warnings.empty());
        QVERIFY(std::isnan(coefficient(a, "(constant)")->se));
        QVERIFY(coefficient(a, "x")->se > 0.0);
        QVERIFY(!testHypothesis(*a.design, *a.fit, "constant = 0", 0.05));
        QVERIFY(testHypothesis(*a.design, *a.fit, "x = 0", 0.05).has_value());
    }

    void rowsOfRandomUnitsScatterByTheUnit() {
        const Answer a = corner("predict-random-row");
        const Prediction& p = a.predictions->front();
        const double unit = *a.fit->panel->sigmaUnit;
        const double rest = *a.fit->panel->sigmaRest;
        const double reach = criticalValue(0.05, p.mean.df) *
                             std::sqrt(p.mean.se * p.mean.se + unit * unit + rest * rest);
        AGREE("low", p.rowLow, p.mean.value - reach, 1e-12);
        AGREE("high", p.rowHigh, p.mean.value + reach, 1e-12);
    }

    void momentsWithinUnitsAreWeighted() {
        const auto& expected = reference()["moments within"];
        AGREE("b", coefficient(corner("gmm-within-units", "gmm"), "w")->estimate,
              number(expected["b"]), 1e-9);
        AGREE("J", *check(corner("gmm-within-units", "j"), "over-identification").statistic,
              number(expected["j"]), 1e-9);
    }

    void anExactFirstStageLeavesNothing() {
        const Answer a = corner("control-exact");
        QVERIFY(!a.refusal);
        QVERIFY(coefficient(a, "left of d") == nullptr);
        QCOMPARE(a.fit->dropped.front().name, std::string("left of d"));
    }

    void columnsFarFromZeroKeepTheirErrors() {
        const Answer far = corner("offset", "far");
        const Answer near = corner("offset", "near");
        AGREE("estimate", coefficient(far, "x")->estimate, coefficient(near, "x0")->estimate, 1e-8);
        AGREE("se", coefficient(far, "x")->se, coefficient(near, "x0")->se, 1e-8);
        QVERIFY(!corner("offset", "median").refusal);
    }

    void quantilesBeyondTheRowsAreRefused() {
        const Answer a = corner("quantile-999");
        QVERIFY(a.refusal && a.refusal->code == ErrorCode::TooFewRows);
    }

    void numbersOutOfRangeAreRefusedInWords() {
        for (const char* folder : {"scale-1e+80", "scale-1e-120"}) {
            const Answer a = corner(folder);
            QVERIFY(a.refusal && a.refusal->code == ErrorCode::NotFinite);
            QVERIFY(a.refusal->text().find("another unit") != std::string::npos);
        }
    }

    void typesWithoutALeverageAreRefused() {
        for (const char* id : {"huberHC3", "quantileHC3"}) {
            const Answer a = corner("types-ignored", id);
            QVERIFY(a.refusal && a.refusal->code == ErrorCode::NotUsed);
        }
        QVERIFY(!corner("types-ignored", "huberHC0").refusal);
    }

    void shareOfADensityIsNotTold() {
        std::vector<std::string> readings;
        for (const char* id : {"y", "milli", "kilo"}) {
            const Answer a = corner("mcfadden-units", id);
            QVERIFY(!a.fit->likelihood->pseudoRSquared());
            QVERIFY(std::isnan(a.fit->likelihood->deviance));
            readings.push_back(answerReading(a).substr(answerReading(a).find(" by ")));
        }
        QCOMPARE(readings[0].substr(0, 9), readings[1].substr(0, 9));
        QCOMPARE(readings[0].substr(0, 9), readings[2].substr(0, 9));
    }

    void lonelyStrataAreNamedInTheReading() {
        const Answer a = corner("lonely-not-named");
        QVERIFY(answerReading(a).find("has one cluster") != std::string::npos);
    }

    void momentsByTwoClusteringsSayWhatIsWrong() {
        const Answer a = corner("gmm-two-clusters");
        QVERIFY(!a.refusal || a.refusal->text().find("two clusterings") != std::string::npos);
    }

    void perfectFitsAreNotAnalysed() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 40; ++i) {
            x.push_back(0.1 * i);
            y.push_back(0.3 * x.back() + 1.7);
        }
        const Answer a = answer(tableOf({{"x", x}, {"y", y}}), explain("y", {"x"}));
        QVERIFY(a.fit->exact);
        QCOMPARE(a.fit->statistics.rss, 0.0);
        QVERIFY(!coefficient(a, "x")->p && std::isnan(coefficient(a, "x")->low));
        for (const CheckResult& c : a.checks) {
            const bool ofData = findCheck(c.id)->of == fits::kAll;
            QVERIFY2(ofData || c.verdict == Verdict::NotApplicable, c.id.c_str());
        }
        QVERIFY(answerReading(a).find("exactly") != std::string::npos);
        const Answer own = answer(tableOf({{"x", x}, {"y", y}}), explain("y", {"x", "y"}));
        QVERIFY(own.refusal && own.refusal->text().find("own terms") != std::string::npos);
    }

    void aConstantHasNoShape() {
        std::vector<double> y;
        for (int i = 0; i < 60; ++i) {
            y.push_back(std::sin(3.7 * i) + 10.0);
        }
        const Answer a = answer(tableOf({{"y", y}}), explain("y", {}));
        for (const char* id : {"reset", "link", "rainbow", "component-residual", "breusch-pagan",
                               "white", "harvey", "glejser", "goldfeld-quandt"}) {
            QVERIFY2(check(a, id).verdict == Verdict::NotApplicable, id);
        }
        QVERIFY(answerReading(a).find("but a constant") != std::string::npos);
    }

    void aVariableMayBeCalledLikeTheConstant() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 50; ++i) {
            x.push_back(std::cos(1.1 * i));
            y.push_back(2.0 + 0.1 * x.back() + std::sin(2.3 * i));
        }
        Question q = explain("y", {"\"(constant)\""});
        q.hypotheses = {"\"(constant)\" = 0", "constant = 0"};
        const Answer a = answer(tableOf({{"(constant)", x}, {"y", y}}), q);
        AGREE("the variable", *a.hypotheses[0]->estimate, a.fit->coefficients[1].estimate, 1e-14);
        AGREE("the constant", *a.hypotheses[1]->estimate, a.fit->coefficients[0].estimate, 1e-14);
    }

    void keysWithoutUseAreRefused_data() {
        QTest::addColumn<QString>("question");
        QTest::addColumn<QString>("words");
        const auto row = [](const char* name, const char* question, const char* words) {
            QTest::newRow(name) << question << words;
        };
        row("penalty of probit",
            R"({"outcome":"b","terms":["x"],"estimator":{"method":"probit","penalised":true}})",
            "penalised");
        row("form of poisson", R"({"outcome":"b","estimator":{"method":"poisson","form":1}})",
            "form");
        row("no quantile", R"({"outcome":"b","estimator":{"method":"quantile","at":[]}})", "at");
        row("type of clusters",
            R"({"outcome":"b","errors":{"kind":"clustered","by":"c","type":"HC3"}})", "type");
        row("clusters of robust", R"({"outcome":"b","errors":{"kind":"robust","by":"c"}})", "by");
        row("draws of rows by", R"({"outcome":"b","errors":{"kind":"bootstrap","by":["c"]}})",
            "by");
        row("seed of classical", R"({"outcome":"b","errors":{"kind":"classical","seed":3}})",
            "seed");
        row("kindless weights", R"({"outcome":"b","weights":{"variable":"w"}})", "kind");
        row("option of another check", R"({"outcome":"b","checks":[{"id":"reset","lags":2}]})",
            "lags");
        row("variables of explain", R"({"outcome":"b","variables":["x"]})", "variables");
        row("outcome of relate", R"({"kind":"correlate","variables":["x","y"],"outcome":"b"})",
            "outcome");
        row("foretelling without weights", R"({"outcome":"b","complete_by":["x"]})",
            "nothing is weighted by that");
    }

    void keysWithoutUseAreRefused() {
        QFETCH(QString, question);
        QFETCH(QString, words);
        const std::string told = refusalOf(question.toStdString());
        QVERIFY2(told.find(words.toStdString()) != std::string::npos,
                 told.empty() ? "answered" : told.c_str());
    }

    void unknownKeysAreNamedWhereverTheyStand() {
        const Study study = studyOf(
            R"({"outcome":"y","terms":[{"product":["a","b"],"why":1}],"estimator":{"method":"logit","penalized":true},)"
            R"("errors":{"kind":"robust","typ":"HC3"},"weights":{"kind":"sampling","variable":"w","trim":2},)"
            R"("effects":[{"of":"a","level":1}],"predict":[{"at":{},"name":"p"}],"colour":"red"})");
        const auto& keys = study.questions.front().unknownKeys;
        for (const char* key : {"colour", "terms.why", "estimator.penalized", "errors.typ",
                                "weights.trim", "effects.level", "predict.name"}) {
            QVERIFY2(std::find(keys.begin(), keys.end(), key) != keys.end(), key);
        }
        QVERIFY(!study.questions.front().unbuilt);
    }

    void errorsOfADesignNeedOne() {
        Question q = explain("y", {"x"});
        q.errors.kind = "survey";
        const Answer a = answer(tableOf({{"y", {1, 2, 3, 5, 4}}, {"x", {1, 2, 3, 4, 6}}}), q);
        QVERIFY(a.refusal && a.refusal->text().find("no design is declared") != std::string::npos);
    }

    void refusalsCountTheirRows() {
        const double none = std::nan("");
        const Table table = tableOf({{"y", {1, 2, 3, 4, 5, 6}},
                                     {"x", {1, none, 3, none, 5, none}},
                                     {"z", {none, 2, none, 4, none, 6}}});
        const Answer a = answer(table, explain("y", {"x", "z"}));
        QVERIFY(a.refusal);
        QCOMPARE(a.rows.inSample, std::size_t{6});
        QCOMPARE(a.rows.missing, std::size_t{6});
        const std::string text = a.refusal->text();
        QVERIFY(text.find("‘x’") != std::string::npos && text.find("‘z’") != std::string::npos);
    }

    // ---- a grouping named twice, and clusters where nothing is left

    void holdsAGroupingFixedOnce() {
        Study asked;
        Question question;
        question.id = "q";
        question.outcome = "y";
        question.terms.resize(1);
        question.terms[0].parts = {"x"};
        question.fixedEffects = {"g"};
        question.errors = {"robust", "HC3", {}};
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> g;
        for (int i = 0; i < 40; ++i) {
            g.push_back(i % 5);
            x.push_back(std::sin(i * 1.3));
            y.push_back(0.5 * x.back() + std::cos(i * 7.7) + i % 5);
        }
        const Frame frame =
            Frame::make(test::tableOf({{"y", y}, {"x", x}, {"g", g}}), {}, {}, {}, {});
        const Answer once = answerQuestion(asked, frame, question, Job());
        question.fixedEffects = {"g", "g"};
        const Answer twice = answerQuestion(asked, frame, question, Job());
        QVERIFY(once.fit && twice.fit);
        QVERIFY(once.fit->coefficients.back().estimate == twice.fit->coefficients.back().estimate);
        QVERIFY(once.fit->coefficients.back().se == twice.fit->coefficients.back().se);
        // Two ways of clusters and no term beside what is held fixed: an answer without errors.
        question.terms.clear();
        question.method = "quantile";
        question.settings.at = {0.5};
        question.errors = {"clustered", "", {"g", "x"}};
        const Answer empty = answerQuestion(asked, frame, question, Job());
        QVERIFY2(empty.faults.empty(), empty.faults.empty() ? "" : empty.faults.front().c_str());
    }
};

QTEST_APPLESS_MAIN(CornersTest)
#include "corners_test.moc"
