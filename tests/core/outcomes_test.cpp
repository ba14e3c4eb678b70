// Counts, yes–no, ordered and grouped outcomes against likelihoods written out from definitions.
#include "core/base/parallel.h"
#include "core/checks/outcome_residuals.h"
#include "core/checks/residual_pictures.h"
#include "core/checks/row_sheet.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/response.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/report/report.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/outcomes_reference.json");
    return kReference;
}

const nlohmann::json& places() {
    static const nlohmann::json kReference = readJson("tests/reference/places_reference.json");
    return kReference;
}

std::vector<VariableEntry> grouped(const std::string& name, Measure measure = Measure::Groups) {
    VariableEntry g;
    g.name = name;
    g.measure = measure;
    return {g};
}

#undef AGREE  // Of small numbers here: relative to a hundredth.
#define AGREE(what, found, expected, tolerance) AGREE_FROM(1e-2, what, found, expected, tolerance)

ErrorSpec errorsBy(const std::string& kind) {
    if (kind == "clustered") {
        return {"clustered", "HC1", {"c"}};
    }
    return kind == "classical" ? ErrorSpec{} : ErrorSpec{"robust", kind, {}};
}

void setMethod(Question& q, const QString& name) {
    const QStringList parts = name.split(' ');
    q.method = parts[0].toStdString();
    if (parts[0] == "nb2" || parts[0] == "nb1") {
        q.method = "negative-binomial";
        q.settings.form = parts[0] == "nb1" ? 1 : 2;
    }
    if (q.method == "zero-inflated" || q.method == "hurdle" || q.method == "truncated") {
        q.settings.count = parts[1] == "nb2" ? "negative-binomial" : "poisson";
        if (q.method != "truncated") {
            q.settings.zeroTerms = {"z"};
        } else {
            q.where = "y > 0";
        }
    }
    if (parts[0] == "firth") {
        q.method = "logit";
        q.settings.penalised = true;
    }
    if (q.method == "tobit") {
        q.settings.low = 0.0;
    }
    if (parts.contains("weighted")) {
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
    }
    q.allChecks = false;
}

/// The coefficients in the order of the reference: its constant first where ours may be last.
void compare(const Answer& a, const nlohmann::json& expected, const std::string& errors,
             std::size_t logged) {
    QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
    const auto& b = expected["b"];
    QCOMPARE(a.fit->coefficients.size(), b.size());
    for (std::size_t j = 0; j < b.size(); ++j) {
        const Coefficient& c = a.fit->coefficients[j];
        const double value = b[j].get<double>();
        AGREE(c.term, c.estimate, j == logged ? std::exp(value) : value, 1e-7);
        AGREE(c.term + " " + errors, c.se, expected[errors][j].get<double>(), 1e-6);
        QVERIFY(!c.df);
    }
}

}  // namespace

class OutcomesTest : public QObject {
    Q_OBJECT

  private:
    static Answer countAnswer(const std::string& kind, const QString& name,
                              const std::string& errors) {
        Question q = explain("y", {"x", "g"});
        if (kind != "fails") {
            q.exposure = "e";
        }
        q.errors = errorsBy(errors);
        setMethod(q, name);
        return answer(tableFrom(reference()["counts"][kind]["data"]), q, {}, grouped("g"));
    }

  private slots:

    void lawsFarOut() {
        for (const auto& one : reference()["laws"]) {
            const auto law = one["law"] == "quadratic" ? CountLaw::Quadratic : CountLaw::Linear;
            const double y = one["y"].get<double>();
            const CountTerms t = countTerms(law, y, std::lgamma(y + 1.0), one["eta"].get<double>(),
                                            one["tau"].get<double>());
            const std::string name = one["law"].get<std::string>() + " y " + std::to_string(y) +
                                     " tau " + std::to_string(one["tau"].get<double>());
            // ln y! itself carries 16 digits of its size.
            const double size =
                std::max({1.0, std::abs(one["value"].get<double>()), 4e-6 * std::lgamma(y + 1.0)});
            QVERIFY2(std::abs(t.value - one["value"].get<double>()) <= 1e-9 * size,
                     told(name, t.value, one["value"].get<double>()).constData());
            // Derivatives against the size of what they are differences of.
            const double scale = 1.0 + std::abs(y);
            AGREE(name + " g0", t.g[0] / scale, one["g"][0].get<double>() / scale, 1e-8);
            AGREE(name + " g1", t.g[1] / scale, one["g"][1].get<double>() / scale, 1e-7);
            AGREE(name + " h0", t.h[0] / scale, one["h"][0].get<double>() / scale, 1e-8);
            AGREE(name + " h1", t.h[1] / scale, one["h"][1].get<double>() / scale, 1e-7);
            AGREE(name + " h2", t.h[2] / scale, one["h"][2].get<double>() / scale, 1e-7);
        }
    }

    void counts_data() { cases("counts"); }

    void counts() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& expected =
            reference()["counts"][kind.toStdString()]["cases"][name.toStdString()];
        const bool spread = name.contains("nb");
        const std::size_t last = expected["b"].size() - 1;
        for (const std::string errors : {"classical", "HC1", "clustered"}) {
            const Answer a = countAnswer(kind.toStdString(), name, errors);
            compare(a, expected, errors, spread ? last : last + 1);
            if (QTest::currentTestFailed()) {
                return;
            }
            if (!name.contains("weighted")) {
                AGREE("ll", *a.fit->statistics.logLikelihood, expected["ll"].get<double>(), 1e-10);
                const double p = static_cast<double>(expected["b"].size());
                AGREE("aic", *a.fit->statistics.aic, -2.0 * expected["ll"].get<double>() + 2.0 * p,
                      1e-10);
            }
            if (expected.contains("alpha")) {
                AGREE("alpha", *a.fit->likelihood->dispersion, expected["alpha"].get<double>(),
                      1e-7);
            }
        }
        if (expected.contains("HC3")) {
            const Answer a = countAnswer(kind.toStdString(), name, "HC3");
            for (std::size_t j = 0; j <= last; ++j) {
                AGREE("HC3", a.fit->coefficients[j].se, expected["HC3"][j].get<double>(), 1e-6);
            }
            AGREE("pearson", a.fit->likelihood->pearson, expected["pearson"].get<double>(), 1e-8);
            AGREE("deviance", a.fit->likelihood->deviance, expected["deviance"].get<double>(),
                  1e-8);
            AGREE("null", a.fit->likelihood->nullLogLikelihood, expected["null"].get<double>(),
                  1e-9);
        }
    }

    void countsWithEffectsHeldFixed() {
        const auto& expected = reference()["counts"]["fixed"];
        for (const std::string errors : {"classical", "clustered"}) {
            Question q = explain("y", {"x", "z"});
            q.method = "poisson";
            q.fixedEffects = {"c", "g"};
            q.errors = errorsBy(errors);
            q.allChecks = false;
            const Answer a = answer(tableFrom(expected["data"]), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            QCOMPARE(a.rows.used, expected["n"].get<std::size_t>());
            for (std::size_t j = 0; j < 2; ++j) {
                AGREE("b", a.fit->coefficients[j].estimate, expected["b"][j].get<double>(), 1e-8);
                AGREE(errors, a.fit->coefficients[j].se, expected[errors][j].get<double>(), 1e-7);
            }
            // A mean hangs on each group’s own level: neither effects on it nor predictions.
            q.effects = {{"x"}};
            q.predict = {PredictRequest{{{"x", 1.0}}, ""}};
            const Answer asked = answer(tableFrom(expected["data"]), q);
            QVERIFY(!asked.effects[0] && !asked.predictions);
        }
    }

    void effectsOfCounts() {
        const auto& expected = reference()["counts"]["clean"]["effects"];
        Question q = explain("y", {"x", "g"});
        q.exposure = "e";
        q.method = "poisson";
        q.effects = {{"x"}, {"g"}, {"x", EffectRequest::As::Average, {}, true}};
        q.predict = {PredictRequest{{{"x", 1.5}, {"g", 2.0}}, ""}};
        const Answer a =
            answer(tableFrom(reference()["counts"]["clean"]["data"]), q, {}, grouped("g"));
        QVERIFY2(a.effects[0].has_value(), a.effects[0] ? "" : a.effects[0].error().text().c_str());
        QVERIFY2(a.effects[1].has_value(), a.effects[1] ? "" : a.effects[1].error().text().c_str());
        QVERIFY2(a.effects[2].has_value(), a.effects[2] ? "" : a.effects[2].error().text().c_str());
        QVERIFY2(a.predictions.has_value(),
                 a.predictions ? "" : a.predictions.error().text().c_str());
        const auto agree = [&](const Estimate& e, const nlohmann::json& one) {
            AGREE("effect", e.value, one[0].get<double>(), 1e-6);
            AGREE("se", e.se, one[1].get<double>(), 1e-5);
        };
        agree((*a.effects[0])[0].effect, expected["x"]);
        agree((*a.effects[1])[0].effect, expected["g=2"]);
        agree((*a.effects[1])[1].effect, expected["g=3"]);
        agree((*a.effects[2])[0].effect, expected["elasticity"]);
        agree((*a.predictions)[0].mean, expected["at"]);
        const Prediction& p = (*a.predictions)[0];
        QVERIFY(p.mean.low > 0.0 && p.mean.low < p.mean.value && p.mean.value < p.mean.high);
        QVERIFY(p.rowLow < p.mean.value && p.rowHigh > p.mean.value);
        QVERIFY(!p.warnings.empty());
        // What the rows of the window show of each column is the same.
        const auto columns = columnEffects(*a.design, *a.fit, 0.05);
        AGREE("column x", columns[0].estimate, expected["x"][0].get<double>(), 1e-6);
        AGREE("column g", columns[1].estimate, expected["g=2"][0].get<double>(), 1e-6);
    }

    void yesNo_data() { cases("yes-no"); }

    void yesNo() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& one = reference()["yes-no"][kind.toStdString()];
        const auto& expected = one["cases"][name.toStdString()];
        const std::string outcome = name.startsWith("ordered")       ? "o"
                                    : name.startsWith("multinomial") ? "m"
                                    : name.startsWith("fractional")  ? "s"
                                    : name.startsWith("tobit")       ? "t"
                                                                     : "y";
        for (const std::string errors : {"classical", "HC1", "clustered"}) {
            if (!expected.contains(errors)) {
                continue;
            }
            Question q = explain(outcome, {"x", "g"});
            q.errors = errorsBy(errors);
            setMethod(q, name);
            if (expected.contains("x")) {
                q.effects = {{"x"}};
            }
            const Answer a =
                answer(tableFrom(one["data"]), q, {}, grouped(outcome == "m" ? "m" : "o"));
            const std::size_t last = expected["b"].size() - 1;
            compare(a, expected, errors, name.startsWith("tobit") ? last : last + 1);
            if (QTest::currentTestFailed()) {
                return;
            }
            for (std::size_t j = 0; expected.contains("profile") && j < 3; ++j) {
                const Coefficient& c = a.fit->coefficients[j];
                AGREE("low", c.low, expected["profile"][j][0].get<double>(), 1e-6);
                AGREE("high", c.high, expected["profile"][j][1].get<double>(), 1e-6);
                AGREE("p", *c.p, expected["p"][j].get<double>(), 1e-5);
            }
            if (errors != "classical" || !expected.contains("x")) {
                continue;
            }
            const auto& effects = *a.effects[0];
            const bool several = expected["x"][0].is_array();
            QCOMPARE(effects.size(), several ? expected["x"].size() : 1U);
            double sum = 0.0;
            for (std::size_t o = 0; o < effects.size(); ++o) {
                const auto& e = several ? expected["x"][o] : expected["x"];
                AGREE("effect", effects[o].effect.value, e[0].get<double>(), 1e-5);
                AGREE("effect se", effects[o].effect.se, e[1].get<double>(), 1e-4);
                sum += effects[o].effect.value;
            }
            QVERIFY(!several || std::abs(sum) < 1e-12);
        }
    }

    void withinGroups_data() {
        QTest::addColumn<QString>("name");
        for (const auto& [name, one] : reference()["conditional"].items()) {
            QTest::newRow(name.c_str()) << QString::fromStdString(name);
        }
    }

    void withinGroups() {
        QFETCH(QString, name);
        const auto& expected = reference()["conditional"][name.toStdString()];
        for (const std::string errors : {"classical", "HC1", "clustered"}) {
            Question q = explain("y", {"x", "z", "v"});
            q.method = "conditional-logit";
            q.fixedEffects = {"u"};
            q.errors = errorsBy(errors);
            if (errors == "clustered") {
                q.errors.by = {"v"};
            }
            if (name.contains("weighted")) {
                q.weightKind = WeightKind::Sampling;
                q.weight = "w";
            }
            q.allChecks = false;
            const Answer a = answer(tableFrom(expected["data"]), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            QCOMPARE(a.rows.used, expected["n"].get<std::size_t>());
            QCOMPARE(a.fit->coefficients.size(), std::size_t{2});
            // v does not vary within a group: it leaves, by name.
            QCOMPARE(a.fit->dropped.front().name, std::string("v"));
            for (std::size_t j = 0; j < 2; ++j) {
                AGREE("b", a.fit->coefficients[j].estimate, expected["b"][j].get<double>(), 1e-8);
                AGREE(errors, a.fit->coefficients[j].se, expected[errors][j].get<double>(), 1e-6);
            }
            AGREE("ll", a.fit->likelihood->logLikelihood, expected["ll"].get<double>(), 1e-9);
            // As many yes in each group as there are.
            QVERIFY(std::abs(a.fit->residuals.sum()) < 1e-8);
        }
    }

    void oneScaleIsTheOther() {
        // Scaling and shifting a term changes nothing but its own coefficient.
        Question q = explain("y", {"x", "g"});
        q.method = "negative-binomial";
        q.allChecks = false;
        const auto& data = reference()["counts"]["fails"]["data"];
        const Answer a = answer(tableFrom(data), q, {}, grouped("g"));
        q.terms[0] = Term::expression("1000 * x + 5e6");
        const Answer b = answer(tableFrom(data), q, {}, grouped("g"));
        AGREE("slope", b.fit->coefficients[1].estimate * 1000.0, a.fit->coefficients[1].estimate,
              1e-8);
        AGREE("ll", *b.fit->statistics.logLikelihood, *a.fit->statistics.logLikelihood, 1e-12);
        AGREE("alpha", b.fit->coefficients.back().estimate, a.fit->coefficients.back().estimate,
              1e-7);
    }

    void awkwardCounts() {
        const auto asked = [](const std::vector<double>& y, const std::string& method) {
            std::vector<double> x;
            for (std::size_t i = 0; i < y.size(); ++i) {
                x.push_back(std::sin(static_cast<double>(i)));
            }
            Question q = explain("y", {"x"});
            q.method = method;
            return answer(tableOf({{"y", y}, {"x", x}}), q);
        };
        // All zeros: nothing to explain.
        QVERIFY(asked(std::vector<double>(20, 0.0), "poisson").refusal->code ==
                ErrorCode::NoVariation);
        // One count among zeros: an answer or a refusal, never a wrong number.
        std::vector<double> one(20, 0.0);
        one[3] = 4.0;
        for (const char* method : {"poisson", "negative-binomial", "hurdle"}) {
            const Answer a = asked(one, method);
            QVERIFY(a.refusal || std::isfinite(a.fit->coefficients[1].estimate));
        }
        // Huge counts.
        std::vector<double> huge;
        for (int i = 0; i < 30; ++i) {
            huge.push_back(std::round(1e9 * (1.0 + 0.3 * std::sin(i) + 0.1 * std::cos(3.0 * i))));
        }
        for (const char* method : {"poisson", "negative-binomial"}) {
            const Answer a = asked(huge, method);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            QVERIFY(std::abs(a.fit->coefficients[0].estimate - std::log(1e9)) < 0.2);
        }
        // Less spread than Poisson: the dispersion is at its boundary, said so.
        std::vector<double> even;
        for (int i = 0; i < 40; ++i) {
            even.push_back(5.0 + (i % 2));
        }
        const Answer bounded = asked(even, "negative-binomial");
        QVERIFY(bounded.fit->likelihood->atBoundary);
        QCOMPARE(*bounded.fit->likelihood->dispersion, 0.0);
        QVERIFY(bounded.fit->notes.front().find("boundary") != std::string::npos);
        AGREE("poisson’s", bounded.fit->coefficients[1].estimate,
              asked(even, "poisson").fit->coefficients[1].estimate, 1e-12);
        // Fewer rows than coefficients, a negative and a broken count, zeros where none may be.
        QVERIFY(asked({1.0, 4.0}, "poisson").refusal);
        QVERIFY(asked({1.0, -4.0, 2.0, 3.0}, "poisson").refusal->text().find("row 2") !=
                std::string::npos);
        QVERIFY(
            asked({1.0, 2.5, 2.0, 3.0, 1.0}, "negative-binomial").refusal->text().find("whole") !=
            std::string::npos);
        QVERIFY(asked({1.0, 0.0, 2.0, 3.0, 1.0}, "truncated").refusal->text().find("no zeros") !=
                std::string::npos);
        QVERIFY(asked({1.0, 5.0, 2.0, 3.0, 1.0}, "hurdle").refusal);
    }

    void exposuresThatCannotBe() {
        Question q = explain("y", {"x"});
        q.method = "poisson";
        q.exposure = "e";
        const Table table = tableOf(
            {{"y", {1, 2, 3, 4, 5, 2}}, {"x", {1, 3, 2, 5, 4, 1}}, {"e", {1, 1, 0, 2, 1, 1}}});
        QVERIFY(answer(table, q).refusal->text().find("row 3") != std::string::npos);
        q.exposure = "nowhere";
        QVERIFY(answer(table, q).refusal->code == ErrorCode::UnknownName);
        q.exposure = "";
        q.offset = "ln(e)";  // Missing in row 3: that row leaves, and is counted.
        const Answer a = answer(table, q);
        QCOMPARE(a.rows.missing, 1U);
        for (const char* method : {"least-squares", "ordered-logit", "tobit"}) {
            q.method = method;
            QVERIFY(answer(table, q).refusal->text().find("Poisson") != std::string::npos);
        }
    }

    void zerosToldForCertain() {
        // Where d is 1 the outcome is zero throughout: those rows leave, the rest is as without.
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> d;
        for (int i = 0; i < 60; ++i) {
            const bool on = i % 6 == 0;
            d.push_back(on ? 1.0 : 0.0);
            x.push_back(std::sin(1.7 * i));
            y.push_back(on ? 0.0 : std::floor(2.0 + 2.0 * std::sin(0.9 * i)));
        }
        Question q = explain("y", {"x", "d"});
        q.method = "poisson";
        q.allChecks = false;
        const Table table = tableOf({{"y", y}, {"x", x}, {"d", d}});
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.fit->likelihood->separated, 10U);
        QCOMPARE(a.rows.used, 50U);
        QCOMPARE(a.rows.dropped, 10U);
        QVERIFY(a.fit->notes.back().find("by d") != std::string::npos ||
                a.fit->notes.front().find("by d") != std::string::npos);
        q.terms.pop_back();
        q.where = "d = 0";
        const Answer without = answer(table, q);
        AGREE("x", a.fit->coefficients[1].estimate, without.fit->coefficients[1].estimate, 1e-10);
    }

    void perfectPredictionIsNamed() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> sure;
        for (int i = 0; i < 40; ++i) {
            x.push_back(std::sin(2.3 * i));
            sure.push_back(i < 6 ? 1.0 : 0.0);
            y.push_back(i < 6 || std::cos(1.1 * i) > 0.2 ? 1.0 : 0.0);
        }
        const Table table = tableOf({{"y", y}, {"x", x}, {"sure", sure}});
        for (const char* method : {"logit", "probit", "cloglog"}) {
            Question q = explain("y", {"x", "sure"});
            q.method = method;
            const Answer a = answer(table, q);
            QVERIFY(a.refusal.has_value());
            QVERIFY2(
                a.refusal->text().find("sure tells ‘y’ for certain in 6 rows") != std::string::npos,
                a.refusal->text().c_str());
            QVERIFY(a.refusal->text().find("Firth") != std::string::npos);
        }
        Question firth = explain("y", {"x", "sure"});
        firth.method = "logit";
        firth.settings.penalised = true;
        firth.allChecks = false;
        const Answer a = answer(table, firth);
        QVERIFY(!a.refusal && a.fit->coefficients[2].estimate > 1.0 &&
                a.fit->coefficients[2].estimate < 10.0);
        // Everything told for certain.
        Question all = explain("y", {"y2"});
        all.method = "logit";
        QVERIFY(answer(tableOf({{"y", y}, {"y2", y}}), all).refusal->text().find("every row") !=
                std::string::npos);
        // A share is no yes–no outcome.
        Question share = explain("x", {"sure"});
        share.method = "logit";
        QVERIFY(answer(table, share).refusal->text().find("0 or 1") != std::string::npos);
    }

    void levelsThatAreEmpty() {
        const auto& data = reference()["yes-no"]["clean"]["data"];
        Question q = explain("o", {"x"});
        q.method = "ordered-logit";
        q.allChecks = false;
        const Answer all = answer(tableFrom(data), q, {}, grouped("o", Measure::OrderedGroups));
        QCOMPARE(all.design->levelNames.size(), 4U);
        q.where = "o <> 2";
        const Answer less = answer(tableFrom(data), q, {}, grouped("o", Measure::OrderedGroups));
        QCOMPARE(less.design->levelNames.size(), 3U);
        QCOMPARE(less.fit->coefficients.back().term, std::string("cut 2"));
        q.where = "o < 3";
        QVERIFY(
            answer(tableFrom(data), q, {}, grouped("o")).refusal->text().find("logit or probit") !=
            std::string::npos);
    }

    void predictionsOfLevelsAddUp() {
        const auto& data = reference()["yes-no"]["clean"]["data"];
        for (const char* method : {"ordered-probit", "multinomial-logit"}) {
            Question q = explain("o", {"x", "g"});
            q.method = method;
            q.allChecks = false;
            q.predict = {PredictRequest{{{"x", 0.3}}, ""}, PredictRequest{{{"x", 1.3}}, ""}};
            const Answer a = answer(tableFrom(data), q, {}, grouped("o"));
            QVERIFY2(a.predictions.has_value(), method);
            for (const Prediction& p : *a.predictions) {
                double sum = 0.0;
                for (const auto& [level, share] : p.shares) {
                    QVERIFY(share.value > 0.0 && share.low >= 0.0 && share.high <= 1.0);
                    sum += share.value;
                }
                AGREE("sum", sum, 1.0, 1e-12);
                QCOMPARE(p.shares.size(), 4U);
            }
            // Higher x, higher levels.
            QVERIFY((*a.predictions)[1].shares.back().second.value >
                    (*a.predictions)[0].shares.back().second.value);
        }
    }

    void likelihoodsAreDrawnAnew() {
        Question q = explain("y", {"x", "g"});
        q.method = "poisson";
        q.allChecks = false;
        const auto& data = reference()["counts"]["fails"]["data"];
        q.errors = {"robust", "HC1", {}};
        const Answer robust = answer(tableFrom(data), q, {}, grouped("g"));
        q.errors = {"bootstrap", "HC1", {}};
        q.errors.draws = 300;
        q.errors.seed = 5;
        q.errors.interval = "bias-corrected";
        const Answer drawn = answer(tableFrom(data), q, {}, grouped("g"));
        QVERIFY2(!drawn.refusal, drawn.refusal ? drawn.refusal->text().c_str() : "");
        for (std::size_t j = 0; j < 4; ++j) {
            const double ratio = drawn.fit->coefficients[j].se / robust.fit->coefficients[j].se;
            QVERIFY2(ratio > 0.7 && ratio < 1.4, told("ratio", ratio, 1.0).constData());
        }
        QCOMPARE(drawn.fit->resampling->asked, 300);
    }

    /// Side by side: a row for each equation, and no size of one scale against another’s.
    void sideBySide() {
        const Table table = tableFrom(reference()["yes-no"]["clean"]["data"]);
        Question line = explain("y", {"x", "g"});
        line.allChecks = false;
        Question odds = line;
        odds.method = "logit";
        Question half = line;
        half.outcome = "t";
        half.method = "quantile";
        Question several = half;
        several.settings.at = {0.25, 0.75};
        const Answer a = answer(table, line);
        const Answer b = answer(table, odds);
        const Answer c = answer(table, half);
        const Answer d = answer(table, several);
        QCOMPARE(effectsIn(*a.fit), std::string("the outcome"));
        QCOMPARE(effectsIn(*b.fit), std::string("log odds"));
        const auto words = [](const Answer& from, const Answer& to) {
            std::string all;
            for (const std::string& one : differenceReading(from, to)) {
                all += one + "\n";
            }
            return all;
        };
        QVERIFY(words(a, b).find("cannot be set against each other") != std::string::npos);
        QVERIFY(words(a, b).find("Most changed") == std::string::npos);
        QVERIFY(words(a, a).find("Most changed") != std::string::npos);
        QVERIFY(words(c, d).find("No effect stands in both") != std::string::npos);
        Question any = explain("y", {"x", "g"});
        setMethod(any, "hurdle poisson");
        const Answer f =
            answer(tableFrom(reference()["counts"]["clean"]["data"]), any, {}, grouped("g"));
        const auto parts = comparedEffects(*f.fit);
        QVERIFY(std::any_of(parts.begin(), parts.end(), [](const ComparedEffect& one) {
            return one.row.text() == "z · any at all, log odds";
        }));
        // One point stands with other methods’ terms, several have rows of their own.
        QCOMPARE(effectIn(comparedEffects(*c.fit), {"x", ""}), coefficient(c, "x"));
        const auto rows = comparedRows({comparedEffects(*a.fit), comparedEffects(*d.fit)});
        QCOMPARE(rows.size(), std::size_t{6});
        QCOMPARE(rows[1].text(), std::string("x · quantile 0.25"));
        QCOMPARE(rows[2].text(), std::string("x · quantile 0.75"));
        QCOMPARE(rows[3].text(), std::string("g"));
        Question groups = explain("m", {"x"});
        groups.method = "multinomial-logit";
        groups.allChecks = false;
        const Answer e = answer(table, groups, {}, grouped("m"));
        QCOMPARE(comparedRows({comparedEffects(*e.fit)}).size(), e.design->levelNames.size() - 1);
        const ReportBlock beside = resultsTable(Study{}, {&a, &b});
        QVERIFY(std::any_of(beside.cells.begin(), beside.cells.end(), [](const auto& cells) {
            return cells.front().text == "Effects in" && cells.back().text == "log odds";
        }));
    }

    void placesInTheLaw_data() {
        QTest::addColumn<QString>("of");
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [of, kinds] : places().items()) {
            for (const auto& [kind, names] : kinds.items()) {
                for (const auto& [name, values] : names.items()) {
                    QTest::addRow("%s, %s", kind.c_str(), name.c_str())
                        << QString::fromStdString(of) << QString::fromStdString(kind)
                        << QString::fromStdString(name);
                }
            }
        }
    }

    /// A quantile residual lies on the step of the law that its outcome stands on; the z of the
    /// squared index.
    void placesInTheLaw() {
        QFETCH(const QString, of);
        QFETCH(const QString, kind);
        QFETCH(const QString, name);
        const auto& expected = places()[of.toStdString()][kind.toStdString()][name.toStdString()];
        const Answer a = placed(of, kind, name);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const auto z = quantileResiduals(*a.design, *a.fit, a.question.settings);
        QVERIFY(z.has_value());
        QCOMPARE(static_cast<std::size_t>(z->size()), expected["below"].size());
        double mean = 0.0;
        double steps = 0.0;
        for (Eigen::Index i = 0; i < z->size(); ++i) {
            const auto row = static_cast<std::size_t>(i);
            const double below = expected["below"][row].get<double>();
            const double upTo = expected["upto"][row].get<double>();
            const double place = normalTail(-(*z)(i));
            QVERIFY2(place >= below - 1e-6 && place <= upTo + 1e-6,
                     told("place", place, below).constData());
            // Where the outcome is known exactly, so is its place.
            if (upTo == below) {
                AGREE("exact", place, below, 1e-6);
            } else if (upTo - below > 0.01) {
                mean += (place - below) / (upTo - below);
                steps += 1.0;
            }
        }
        // Draws within the steps are uniform: within five standard errors here.
        QVERIFY2(steps < 10.0 || std::abs(mean / steps - 0.5) < 5.0 * std::sqrt(1.0 / 12.0 / steps),
                 told("mean of draws", mean / steps, 0.5).constData());
        const auto again = quantileResiduals(*a.design, *a.fit, a.question.settings);
        QVERIFY(*z == *again);
        if (expected.contains("square")) {
            const CheckResult& c = check(a, "link");
            QVERIFY2(c.statistic.has_value(), c.reading.c_str());
            AGREE("squared index", *c.statistic, expected["square"].get<double>(), 2e-6);
        }
    }

    /// Under its own law the residuals are standard normal: their squares and their fourth powers.
    void placesAreNormalWhereTheLawHolds() {
        constexpr Eigen::Index n = 4000;
        Design design;
        Fit fit;
        auto told = std::make_shared<LikelihoodFit>(families::kNegativeBinomial);
        told->dispersion = 0.5;
        told->index.resize(n, 1);
        design.y.resize(n);
        RandomStream random(12, 0);
        for (Eigen::Index i = 0; i < n; ++i) {
            const double mean = 0.5 + 8.0 * random.uniform();
            told->index(i, 0) = std::log(mean);
            // The law turned around, one count after the other.
            double left = random.uniform();
            double y = 0.0;
            for (; y < 500.0; y += 1.0) {
                left -= countProbability(CountLaw::Quadratic, y, mean, 0.5);
                if (left < 0.0) {
                    break;
                }
            }
            design.y(i) = y;
            design.rows.push_back(static_cast<std::size_t>(i));
        }
        fit.likelihood = told;
        EstimatorSettings settings;
        const auto moments = [&](double power) {
            const auto z = quantileResiduals(design, fit, settings);
            return z->array().pow(power).mean();
        };
        const double root = std::sqrt(static_cast<double>(n));
        QVERIFY(std::abs(moments(1.0)) < 4.0 / root);
        QVERIFY(std::abs(moments(2.0) - 1.0) < 4.0 * std::sqrt(2.0) / root);
        QVERIFY(std::abs(moments(4.0) - 3.0) < 4.0 * std::sqrt(96.0) / root);
        // Told a law without that spread they are not.
        auto plain = std::make_shared<LikelihoodFit>(*told);
        plain->family = &families::kPoisson;
        fit.likelihood = plain;
        QVERIFY(moments(2.0) > 1.5);
        // No order, no place; nor for shares of a count.
        plain = std::make_shared<LikelihoodFit>(*told);
        plain->family = &families::kMultinomialLogit;
        fit.likelihood = plain;
        QVERIFY(!quantileResiduals(design, fit, settings));
        fit.likelihood = told;
        design.y(7) = 2.5;
        QVERIFY(!quantileResiduals(design, fit, settings));
        QVERIFY(residualPictures(design, fit, settings, 0.05).empty());
    }

    /// Many rows are looked at by blocks, and the columns are scaled by some of them: a column that
    /// grows with the rows, one that is on in a few rows only, counts past the list of products.
    void countsOfManyRows_data() {
        QTest::addColumn<bool>("spread");
        QTest::addColumn<bool>("weighted");
        QTest::newRow("poisson") << false << false;
        QTest::newRow("poisson, weighted") << false << true;
        QTest::newRow("negative binomial") << true << false;
        QTest::newRow("negative binomial, weighted") << true << true;
    }

    void countsOfManyRows() {
        QFETCH(const bool, spread);
        QFETCH(const bool, weighted);
        constexpr Eigen::Index n = 140'000;
        Design design;
        design.hasConstant = true;
        design.X = Eigen::MatrixXd::Ones(n, 4);
        design.y.resize(n);
        design.weights.resize(weighted ? n : 0);
        design.weightKind = weighted ? WeightKind::Frequency : WeightKind::None;
        design.columns = {{"(constant)", "", -1, false},
                          {"late", "", 0, false},
                          {"rare", "", 1, false},
                          {"x", "", 2, false}};
        design.terms.resize(3);
        design.counts.used = n;
        RandomStream random(44, 0);
        for (Eigen::Index i = 0; i < n; ++i) {
            design.rows.push_back(static_cast<std::size_t>(i));
            design.X(i, 1) = 1900.0 + static_cast<double>(i) / 1000.0;
            design.X(i, 2) = i % 4000 == 3999 ? 1.0 : 0.0;
            design.X(i, 3) = random.uniform();
            const double mean = std::exp(0.2 + 0.5 * design.X(i, 3) + 0.7 * design.X(i, 2)) * -2.0 *
                                std::log(random.uniform() + 1e-300);
            design.y(i) = std::floor(mean * 2.0 * random.uniform() + 0.5);
            if (i % 10007 == 0) {
                design.y(i) = 150.0 + static_cast<double>(i / 1000);
            }
            if (weighted) {
                design.weights(i) = 1.0 + static_cast<double>(random.below(3));
            }
        }
        const auto run = [&](const Design& of) {
            const auto fit = spread ? fitNegativeBinomial(of, {}, {}, 0.05, Job())
                                    : fitPoisson(of, {}, {}, 0.05, Job());
            return fit ? *fit : Fit{};
        };
        const Fit fit = run(design);
        QCOMPARE(fit.coefficients.size(), std::size_t(spread ? 5 : 4));
        // The equations of the maximum, written out in the columns less their means.
        const double alpha = spread ? *fit.likelihood->dispersion : 0.0;
        const CountLaw law = spread ? CountLaw::Quadratic : CountLaw::Poisson;
        Eigen::VectorXd b(4);
        for (Eigen::Index j = 0; j < 4; ++j) {
            b(j) = fit.coefficients[static_cast<std::size_t>(j)].estimate;
        }
        const Eigen::VectorXd index = design.X * b;
        Eigen::VectorXd score = Eigen::VectorXd::Zero(5);
        Eigen::VectorXd size = Eigen::VectorXd::Zero(5);
        double logLikelihood = 0.0;
        const Eigen::RowVectorXd means = design.X.colwise().mean();
        for (Eigen::Index i = 0; i < n; ++i) {
            const double w = weighted ? design.weights(i) : 1.0;
            const CountTerms t = countTerms(law, design.y(i), std::lgamma(design.y(i) + 1.0),
                                            index(i), spread ? std::log(alpha) : 0.0);
            logLikelihood += w * t.value;
            Eigen::VectorXd x(5);
            x.head(4) = design.X.row(i) - means;
            x(0) = 1.0;
            x.head(4) *= w * t.g[0];
            x(4) = w * t.g[1];
            score += x;
            size += x.cwiseAbs();
        }
        for (Eigen::Index j = 0; j < (spread ? 5 : 4); ++j) {
            QVERIFY2(std::abs(score(j)) <= 1e-9 * size(j),
                     told("score", score(j), size(j)).constData());
        }
        AGREE("log-likelihood", fit.likelihood->logLikelihood, logLikelihood, 1e-11);
        // The same bits on any number of threads, the same digits in any order of the rows.
        setThreads(1);
        const Fit alone = run(design);
        setThreads(0);
        Design turned = design;
        turned.X = design.X.colwise().reverse().eval();
        turned.y = design.y.reverse().eval();
        turned.weights = design.weights.reverse().eval();
        const Fit backwards = run(turned);
        for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
            QCOMPARE(alone.coefficients[j].estimate, fit.coefficients[j].estimate);
            QCOMPARE(alone.coefficients[j].se, fit.coefficients[j].se);
            const double apart =
                std::abs(backwards.coefficients[j].estimate - fit.coefficients[j].estimate);
            QVERIFY2(
                apart <= 1e-8 * fit.coefficients[j].se,
                told("turned", backwards.coefficients[j].estimate, fit.coefficients[j].estimate)
                    .constData());
            AGREE("error", backwards.coefficients[j].se, fit.coefficients[j].se, 1e-8);
        }
    }

  private:
    static Answer placed(const QString& of, const QString& kind, const QString& name) {
        const bool count = of == "counts";
        const bool ordered = name.startsWith("ordered");
        Question q = count ? explain("y", {"x", "g"})
                           : explain(ordered           ? "o"
                                     : name == "tobit" ? "t"
                                                       : "y",
                                     {"x", "g"});
        if (count && kind != "fails") {
            q.exposure = "e";
        }
        setMethod(q, name);
        q.checks = {CheckRequest{"link"}};
        const auto& data = reference()[of.toStdString()][kind.toStdString()]["data"];
        return answer(tableFrom(data), q, {},
                      count     ? grouped("g")
                      : ordered ? grouped("o", Measure::OrderedGroups)
                                : std::vector<VariableEntry>{});
    }

    void cases(const char* of) {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference()[of].items()) {
            if (!one.contains("cases")) {
                continue;
            }
            for (const auto& [name, values] : one["cases"].items()) {
                QTest::addRow("%s %s", kind.c_str(), name.c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }
};

QTEST_APPLESS_MAIN(OutcomesTest)
#include "outcomes_test.moc"
