// Panels that hang on their past, changes at different moments, slopes of units, survey choices:
// against definitions worked out with explicit matrices.
#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/panel.h"
#include "core/report/wording.h"
#include "core/study/study.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/changes_reference.json");
    return kReference;
}

Layout panel() { return {Layout::Kind::Panel, "u", "t", ""}; }

ErrorSpec robust() { return {"robust", "HC1", {}}; }

ErrorSpec clusteredBy(const std::string& by) { return {"clustered", "HC1", {by}}; }

Question dynamicQuestion(const nlohmann::json& one) {
    Question q = explain("y", {"lag(y)", "x"});
    q.endogenous = {Term::expression("p")};
    q.method = one["method"].get<std::string>();
    q.settings.collapsed = one["collapsed"].get<bool>();
    q.settings.depth = one["depth"].get<int>();
    if (one["times"].get<bool>()) {
        q.fixedEffects = {"t"};
    }
    q.errors = robust();
    q.allChecks = false;
    q.checks = {CheckRequest{"over-identification"}, CheckRequest{"differences-serial"}};
    return q;
}

Question policyQuestion() {
    Question q = explain("y", {"x"});
    q.method = "event-study";
    q.settings.variable = "d";
    q.settings.before = 3;
    q.settings.after = 3;
    q.errors = clusteredBy("u");
    q.allChecks = false;
    return q;
}

Answer surveyAnswer(const nlohmann::json& one, Question q, const Survey& survey) {
    Study study;
    study.survey = survey;
    study.questions = {q};
    const Frame frame = Frame::make(tableFrom(one["data"]), {}, {}, {}, {});
    return answerQuestion(study, frame, q, Job());
}

}  // namespace

class ChangesTest : public QObject {
    Q_OBJECT

  private slots:

    void earlierMoments_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference()["dynamic"].items()) {
            for (const auto& [name, values] : one["cases"].items()) {
                QTest::addRow("%s %s", kind.c_str(), name.c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void earlierMoments() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& one = reference()["dynamic"][kind.toStdString()];
        const auto& expected = one["cases"][name.toStdString()];
        const Table table = tableFrom(one["data"]);
        const bool system = expected["method"] == "system-gmm";
        for (const std::string steps : {"one", "two"}) {
            for (const bool classical : {false, true}) {
                Question q = dynamicQuestion(expected);
                q.settings.steps = steps;
                q.errors = classical ? ErrorSpec{} : robust();
                const Answer a = answer(table, q, panel());
                QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
                const auto& values = expected[steps];
                const std::string se = classical ? "classical" : "robust";
                // The reference has the constant (of a system), the lag, p, x, the moments.
                std::size_t at = system ? 1 : 0;
                for (const char* term : {"lag(y)", "p", "x"}) {
                    const Coefficient* c = coefficient(a, term);
                    QVERIFY(c != nullptr);
                    AGREE(term, c->estimate, values["b"][at].get<double>(), 1e-8);
                    AGREE(std::string(term) + " " + se, c->se, values[se][at].get<double>(), 1e-7);
                    QVERIFY(!c->df);
                    ++at;
                }
                if (!classical) {
                    const CheckResult& serial = check(a, "differences-serial");
                    AGREE("AR(1)", detail(serial, "AR(1) z"), values["serial"][0].get<double>(),
                          1e-7);
                    AGREE("AR(2)", *serial.statistic, values["serial"][1].get<double>(), 1e-7);
                    const CheckResult& over = check(a, "over-identification");
                    if (expected["over"].get<int>() > 0) {
                        AGREE("hansen", *over.statistic, expected["hansen"].get<double>(), 1e-7);
                        AGREE("sargan", detail(over, "Sargan"), expected["sargan"].get<double>(),
                              1e-7);
                        QCOMPARE(over.df.front(), expected["over"].get<double>());
                        QCOMPARE(detail(over, "instruments"),
                                 expected["instruments"].get<double>());
                        if (system && expected["levels df"].get<int>() > 0) {
                            AGREE("levels", detail(over, "J of the levels’ instruments"),
                                  expected["levels j"].get<double>(), 1e-6);
                        }
                    }
                }
            }
        }
    }

    void earlierMomentsRefuseWhatTheyCannotDo() {
        const auto& one = reference()["dynamic"]["clean"];
        const Table table = tableFrom(one["data"]);
        Question q = dynamicQuestion(one["cases"].begin().value());
        q.terms = {Term::expression("x")};
        q.endogenous.clear();
        QVERIFY(answer(table, q, panel()).refusal->text().find("lag(y)") != std::string::npos);
        Question errors = dynamicQuestion(one["cases"].begin().value());
        errors.errors = clusteredBy("t");
        QVERIFY(answer(table, errors, panel()).refusal);
        Question plain = dynamicQuestion(one["cases"].begin().value());
        QVERIFY(answer(table, plain, Layout{}).refusal);
        // Clustering by the unit is what robust errors do here.
        Question byUnit = dynamicQuestion(one["cases"].begin().value());
        byUnit.errors = clusteredBy("u");
        const Answer a = answer(table, byUnit, panel());
        byUnit.errors = robust();
        QCOMPARE(a.fit->coefficients.front().se,
                 answer(table, byUnit, panel()).fit->coefficients.front().se);
    }

    void aLaggedOutcomeWithEffectsIsWarnedOf() {
        const auto& one = reference()["dynamic"]["clean"];
        Question q = explain("y", {"lag(y)", "x"});
        q.method = "within";
        const Answer a = answer(tableFrom(one["data"]), q, panel());
        QVERIFY(!a.design->warnings.empty() || !a.design->before->warnings.empty());
        const CheckResult& c = check(a, "lagged-outcome");
        QVERIFY(c.verdict == Verdict::Fails);
        // −(1 + ρ)/(T − 1) with the rows a unit has.
        const double T = static_cast<double>(a.rows.used) / 60.0;
        AGREE("bias", *c.statistic, -(1.0 + coefficient(a, "lag(y)")->estimate) / (T - 1.0), 1e-12);
        QCOMPARE(c.remedies.size(), 2U);
        QCOMPARE(c.remedies[0].variant.method, std::string("difference-gmm"));
        Question pooled = explain("y", {"lag(y)", "x"});
        QVERIFY(check(answer(tableFrom(one["data"]), pooled, panel()), "lagged-outcome").verdict ==
                Verdict::NotApplicable);
    }

    void earlierMomentsRecoverTheTruth() {
        // ρ = .5 and .7 of x in the clean data; within units the lag is far too low.
        const auto& one = reference()["dynamic"]["clean"];
        Question q = dynamicQuestion(one["cases"]["difference-gmm 1 0 1"]);
        const Answer a = answer(tableFrom(one["data"]), q, panel());
        QVERIFY(coefficient(a, "lag(y)")->low < 0.5 && coefficient(a, "lag(y)")->high > 0.5);
        QVERIFY(coefficient(a, "x")->low < 0.7 && coefficient(a, "x")->high > 0.7);
    }

    void beforeAndAfter_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("weighting");
        for (const auto& [kind, one] : reference()["policy"].items()) {
            for (const char* weighting : {"pooled", "cohorts"}) {
                QTest::addRow("%s %s", kind.c_str(), weighting)
                    << QString::fromStdString(kind) << QString(weighting);
            }
        }
    }

    void beforeAndAfter() {
        QFETCH(QString, kind);
        QFETCH(QString, weighting);
        const auto& one = reference()["policy"][kind.toStdString()];
        const auto& expected = one[weighting.toStdString()];
        Question q = policyQuestion();
        q.settings.weighting = weighting.toStdString();
        q.checks = {CheckRequest{"pre-trend"}};
        const Answer a = answer(tableFrom(one["data"]), q, panel());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        std::size_t at = 0;
        for (const EventFit::Place& place : a.fit->event->places) {
            if (place.reference) {
                continue;
            }
            QCOMPARE(place.at, expected["places"][at].get<int>());
            const std::string name = "place " + std::to_string(place.at);
            AGREE(name, place.estimate, expected["b"][at].get<double>(), 1e-8);
            AGREE(name + " se", place.se, expected["se"][at].get<double>(), 1e-8);
            ++at;
        }
        QCOMPARE(at, expected["places"].size());
        AGREE("before", a.fit->event->before->value, expected["before"].get<double>(), 1e-7);
        AGREE("after", *a.fit->event->after, expected["after"].get<double>(), 1e-8);
        AGREE("after se", a.fit->event->afterSe, expected["after se"].get<double>(), 1e-8);
        AGREE("pre-trend", *check(a, "pre-trend").statistic, expected["before"].get<double>(),
              1e-7);
    }

    void cohortByMoment_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference()["policy"].items()) {
            for (const auto& [name, values] : one.items()) {
                if (name.starts_with("group-time")) {
                    QTest::addRow("%s %s", kind.c_str(), name.c_str())
                        << QString::fromStdString(kind) << QString::fromStdString(name);
                }
            }
        }
    }

    void cohortByMoment() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& one = reference()["policy"][kind.toStdString()];
        const auto& expected = one[name.toStdString()];
        const QStringList parts = name.split(' ');
        Question q = policyQuestion();
        q.settings.weighting = "group-time";
        q.settings.against = parts[1].toStdString();
        if (parts[2] == "0") {
            q.terms.clear();
        }
        q.errors = clusteredBy(parts[3].toStdString());
        const Answer a = answer(tableFrom(one["data"]), q, panel());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        std::size_t at = 0;
        for (const EventFit::Place& place : a.fit->event->places) {
            if (place.reference) {
                continue;
            }
            QCOMPARE(place.at, expected["places"][at].get<int>());
            AGREE("estimate", place.estimate, expected["b"][at].get<double>(), 1e-8);
            AGREE("se", place.se, expected["se"][at].get<double>(), 1e-8);
            ++at;
        }
        QCOMPARE(at, expected["places"].size());
        QVERIFY(a.fit->event->together > 1.96);
        // No equation to predict from; units changed all along are counted as dropped.
        q.predict = {PredictRequest{{{"x", 1.0}}, ""}};
        q.effects = {{"x"}};
        const Answer asked = answer(tableFrom(one["data"]), q, panel());
        QVERIFY(!asked.predictions && (asked.effects[0] ? false : true));
        QCOMPARE(a.rows.used + a.rows.dropped, a.rows.inSample);
        QCOMPARE(a.rows.dropped > 0, kind != "clean");
    }

    void whoIsCompared_data() { kinds("policy"); }

    void whoIsCompared() {
        QFETCH(QString, kind);
        const auto& one = reference()["policy"][kind.toStdString()];
        const auto& expected = one["two-way"];
        Question q = explain("y", {"d", "x"});
        q.fixedEffects = {"u", "t"};
        q.allChecks = false;
        q.checks = {CheckRequest{"who-is-compared"}, CheckRequest{"pre-trend"}};
        const Answer a = answer(tableFrom(one["data"]), q, panel());
        const CheckResult& c = check(a, "who-is-compared");
        // The weighted sum of all comparisons is the plain effect, found by regression.
        AGREE("effect", detail(c, "effect on these units"), expected["effect"].get<double>(), 1e-9);
        QCOMPARE(detail(c, "units with every moment"), expected["units"].get<double>());
        QCOMPARE(detail(c, "rows counted negatively"), expected["negative"].get<double>());
        AGREE("negative", detail(c, "sum of negative weights"), expected["sum"].get<double>(),
              1e-8);
        double weights = 0.0;
        for (const char* name : {"never", "not yet", "already", "always"}) {
            weights += detail(c, name);
        }
        AGREE("weights", weights, 1.0, 1e-12);
        QVERIFY(c.verdict == Verdict::Fails || c.verdict == Verdict::Weigh);
        QCOMPARE(c.remedies.size(), 2U);
        // The check before the change asks the same as the event study by itself.
        Question event = policyQuestion();
        event.settings.before = 4;
        event.settings.after = 4;
        event.errors = ErrorSpec{};
        const Answer own = answer(tableFrom(one["data"]), event, panel());
        AGREE("pre-trend", *check(a, "pre-trend").statistic, own.fit->event->before->value, 1e-9);
    }

    void changesAreRefusedInWords() {
        const auto& one = reference()["policy"]["clean"];
        Table table = tableFrom(one["data"]);
        Question q = policyQuestion();
        q.settings.variable = "x";
        QVERIFY(answer(table, q, panel()).refusal->text().find("not a switch") !=
                std::string::npos);
        q = policyQuestion();
        QVERIFY(answer(table, q, Layout{}).refusal);
        // A unit that is switched off again.
        auto cells = one["data"]["d"].get<std::vector<double>>();
        for (std::size_t i = 1; i < cells.size(); ++i) {
            if (cells[i - 1] == 1.0 && cells[i] == 1.0) {
                cells[i] = 0.0;
                break;
            }
        }
        for (Column& column : table.columns) {
            if (column.name() == "d") {
                column = Column::ofNumbers("d", cells);
            }
        }
        QVERIFY(answer(table, q, panel()).refusal->text().find("switched off") !=
                std::string::npos);
        Question kinds = policyQuestion();
        kinds.settings.weighting = "group-time";
        kinds.errors = ErrorSpec{};
        QVERIFY(answer(tableFrom(one["data"]), kinds, panel()).refusal->text().find("cluster by") !=
                std::string::npos);
    }

    void ownSlopes_data() { kinds("policy"); }

    void ownSlopes() {
        QFETCH(QString, kind);
        const auto& one = reference()["policy"][kind.toStdString()];
        const auto& expected = one["own slopes"];
        Question q = explain("y", {"d", "x"});
        q.fixedEffects = {"u", "t"};
        q.ownSlopes = {"t"};
        q.allChecks = false;
        const Answer a = answer(tableFrom(one["data"]), q, panel());
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.fit->dfResidual, expected["df"].get<double>());
        std::size_t at = 0;
        for (const char* term : {"d", "x"}) {
            AGREE(term, coefficient(a, term)->estimate, expected["b"][at].get<double>(), 1e-8);
            AGREE(std::string(term) + " se", coefficient(a, term)->se,
                  expected["se"][at].get<double>(), 1e-8);
            ++at;
        }
        // The time itself is held by the slopes, and said so.
        q.terms.push_back(Term::expression("t * 2"));
        const Answer held = answer(tableFrom(one["data"]), q, panel());
        QVERIFY(coefficient(held, "t * 2") == nullptr);
        QVERIFY(held.fit->dropped.front().reason.find("own slope in t") != std::string::npos);
    }

    void surveyChoices_data() { kinds("survey"); }

    void surveyChoices() {
        QFETCH(QString, kind);
        const auto& one = reference()["survey"][kind.toStdString()];
        Question q = explain("y", {"x", "g"});
        q.errors.kind = "survey";
        q.allChecks = false;
        q.checks = {CheckRequest{"weights-matter"}};
        Survey survey;
        survey.weight = "w";
        survey.strata = "s";
        survey.cluster = "c";
        for (const char* lonely : {"centred", "skipped"}) {
            survey.lonely = lonely;
            const Answer a = surveyAnswer(one, q, survey);
            const auto& expected = one[lonely];
            for (std::size_t j = 0; j < 3; ++j) {
                const Coefficient& c = a.fit->coefficients[j];
                AGREE("b", c.estimate, one["b"][j].get<double>(), 1e-9);
                AGREE("se", c.se, expected["se"][j].get<double>(), 1e-8);
                AGREE("deff", *c.designEffect, expected["deff"][j].get<double>(), 1e-8);
                QCOMPARE(*c.df, expected["df"].get<double>());
            }
            AGREE("weights", *check(a, "weights-matter").statistic,
                  one["weights"]["f"].get<double>(), 1e-8);
            AGREE("weights p", *check(a, "weights-matter").p, one["weights"]["p"].get<double>(),
                  1e-8);
            AGREE("weights robust", detail(check(a, "weights-matter"), "robust F"),
                  one["weights"]["robust"].get<double>(), 1e-8);
        }
        survey.lonely = "refused";
        const Answer refused = surveyAnswer(one, q, survey);
        QCOMPARE(refused.refusal.has_value(), kind == "awkward");
        if (refused.refusal) {
            QVERIFY(refused.refusal->text().find("only one cluster was drawn in 3") !=
                    std::string::npos);
        }
    }

    void replicateWeights_data() { kinds("survey"); }

    void replicateWeights() {
        QFETCH(QString, kind);
        const auto& one = reference()["survey"][kind.toStdString()];
        Question q = explain("y", {"x", "g"});
        q.errors.kind = "survey";
        q.allChecks = false;
        Survey survey;
        survey.weight = "w";
        for (int r = 1; r <= one["replicates"].get<int>(); ++r) {
            survey.replicates.push_back("r" + std::to_string(r));
        }
        for (const auto& [name, fay] : {std::pair("jackknife", 0.0), std::pair("balanced", 0.3),
                                        std::pair("bootstrap", 0.0)}) {
            survey.replicateKind = name;
            survey.fay = fay;
            const Answer a = surveyAnswer(one, q, survey);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const auto& expected = one[std::string(name) + (fay > 0.0 ? " .3" : "")];
            for (std::size_t j = 0; j < 3; ++j) {
                AGREE(name, a.fit->coefficients[j].se, expected[j].get<double>(), 1e-8);
            }
            QCOMPARE(*a.fit->coefficients[1].df, one["replicates"].get<double>() - 1.0);
            QVERIFY(a.fit->errorNote.find("replicate weights") != std::string::npos);
        }
        survey.replicates = {"r1"};
        QVERIFY(surveyAnswer(one, q, survey).refusal);
    }

    void instrumentsAreDrawnAnew() {
        // Draws of an instrumental fit: spread near the robust one, same numbers twice.
        const auto& one = reference()["dynamic"]["clean"];
        Question q = explain("y", {"x"});
        q.endogenous = {Term::expression("p")};
        q.instruments = {Term::expression("lag(p)"), Term::expression("lag(x)")};
        q.method = "two-stage";
        q.allChecks = false;
        q.errors = clusteredBy("u");
        const Answer clustered = answer(tableFrom(one["data"]), q, panel());
        q.errors = {"bootstrap", "HC1", {"u"}};
        q.errors.scheme = "clusters";
        q.errors.draws = 400;
        q.errors.seed = 3;
        const Answer drawn = answer(tableFrom(one["data"]), q, panel());
        QVERIFY2(!drawn.refusal, drawn.refusal ? drawn.refusal->text().c_str() : "");
        const Answer again = answer(tableFrom(one["data"]), q, panel());
        for (std::size_t j = 0; j < drawn.fit->coefficients.size(); ++j) {
            const Coefficient& c = drawn.fit->coefficients[j];
            QCOMPARE(c.estimate, clustered.fit->coefficients[j].estimate);
            QCOMPARE(c.se, again.fit->coefficients[j].se);
            QVERIFY(c.se > 0.6 * clustered.fit->coefficients[j].se &&
                    c.se < 1.8 * clustered.fit->coefficients[j].se);
            QVERIFY(c.low < c.estimate && c.estimate < c.high);
        }
        q.errors.scheme = "wild";
        QVERIFY(answer(tableFrom(one["data"]), q, panel()).refusal);
    }

    void changesAreDrawnAnewWithTheirUnits() {
        // Units leave in a draw: those that stay keep the moment of their change.
        const auto& one = reference()["policy"]["clean"];
        Question q = policyQuestion();
        q.errors = {"bootstrap", "HC1", {"u"}};
        q.errors.scheme = "clusters";
        q.errors.draws = 200;
        q.errors.seed = 4;
        const Answer drawn = answer(tableFrom(one["data"]), q, panel());
        QVERIFY2(!drawn.refusal, drawn.refusal ? drawn.refusal->text().c_str() : "");
        q.errors = clusteredBy("u");
        const Answer clustered = answer(tableFrom(one["data"]), q, panel());
        for (std::size_t j = 1; j < drawn.fit->coefficients.size(); ++j) {
            const double ratio = drawn.fit->coefficients[j].se / clustered.fit->coefficients[j].se;
            QVERIFY2(ratio > 0.7 && ratio < 1.4, told("ratio", ratio, 1.0).constData());
        }
        // What takes no weights is refused by name, not by draws without a solution.
        q.settings.weighting = "group-time";
        q.errors = drawn.question.errors;
        const Answer refused = answer(tableFrom(one["data"]), q, panel());
        QVERIFY(refused.refusal->text().find("do not go with") != std::string::npos);
    }

    void studiesKeepTheNewKeys() {
        const std::string text = R"json({"format": "rapporto-study", "version": 1,
            "source": {"kind": "table", "file": "a.csv"},
            "survey": {"weight": "w", "lonely": "skipped", "replicates": ["r1", "r2"],
                       "replicate_kind": "balanced", "fay": 0.5},
            "questions": [
              {"id": "q1", "kind": "explain", "outcome": "y", "terms": ["lag(y)"],
               "own_slopes": ["t"],
               "estimator": {"method": "system-gmm", "steps": "one", "depth": 2, "collapsed": true}},
              {"id": "q2", "kind": "explain", "outcome": "y", "terms": ["x"],
               "estimator": {"method": "event-study", "variable": "d", "before": 2, "after": 5,
                             "weighting": "group-time", "against": "never"}},
              {"id": "q3", "kind": "explain", "outcome": "y", "terms": ["x"],
               "estimator": {"method": "event-study"}}]})json";
        const auto study = readStudyText(text);
        QVERIFY(study.has_value());
        const auto again = readStudyText(studyText(*study));
        QVERIFY(again.has_value());
        QVERIFY(again->survey == study->survey);
        QCOMPARE(again->survey.fay, 0.5);
        QCOMPARE(again->questions[0].settings.depth, 2);
        QVERIFY(again->questions[0].settings == study->questions[0].settings);
        QCOMPARE(again->questions[0].ownSlopes.front(), std::string("t"));
        QVERIFY(again->questions[1].settings == study->questions[1].settings);
        QCOMPARE(again->questions[1].settings.against, std::string("never"));
        QVERIFY(again->questions[2].unbuilt.has_value());
    }

  private:
    void kinds(const char* of) {
        QTest::addColumn<QString>("kind");
        for (const auto& [kind, one] : reference()[of].items()) {
            QTest::newRow(kind.c_str()) << QString::fromStdString(kind);
        }
    }
};

QTEST_APPLESS_MAIN(ChangesTest)
#include "changes_test.moc"
