// Instruments, panels and survey errors against definitions worked out with explicit matrices.
#include "core/model/instruments.h"
#include "core/model/panel.h"
#include "core/report/wording.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/causes_reference.json");
    return kReference;
}

Layout series() { return {Layout::Kind::Series, "", "t", ""}; }

ErrorSpec errorsBy(const std::string& kind) {
    ErrorSpec errors;
    errors.kind = kind.starts_with("HC") ? "robust" : kind;
    errors.type = kind.starts_with("HC") ? kind : errors.type;
    if (kind == "clustered") {
        errors.by = {"c"};
    }
    if (kind == "autocorrelation") {
        errors.lags = 3;
    }
    return errors;
}

Question asked(const nlohmann::json& one, const std::string& method, const std::string& errors) {
    Question q = explain("y", {"x"});
    for (const auto& name : one["endogenous"]) {
        q.endogenous.push_back(Term::expression(name.get<std::string>()));
    }
    for (const char* z : {"z1", "z2", "z3"}) {
        q.instruments.push_back(Term::expression(z));
    }
    q.method = method;
    q.errors = errorsBy(errors);
    if (one["weighted"].get<bool>()) {
        q.weightKind = WeightKind::Precision;
        q.weight = "w";
    }
    q.allChecks = false;
    return q;
}

}  // namespace

class CausesTest : public QObject {
    Q_OBJECT

  private slots:

    void kClassAgrees_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, set] : reference()["iv"].items()) {
            for (const auto& [name, one] : set["cases"].items()) {
                QTest::newRow((kind + " " + name).c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void kClassAgrees() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& set = reference()["iv"][kind.toStdString()];
        const auto& one = set["cases"][name.toStdString()];
        const Table table = tableFrom(set["data"]);
        for (const std::string method : {"two-stage", "liml", "fuller"}) {
            for (const std::string errors : {"classical", "HC1", "clustered", "autocorrelation"}) {
                const Answer a = answer(table, asked(one, method, errors), series());
                QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
                const std::string what = method + " " + errors;
                AGREE(what + " kappa", a.fit->instrumented->kappa,
                      one[method]["kappa"].get<double>(), 1e-9);
                const auto& b = one[method]["b"];
                QCOMPARE(a.fit->coefficients.size(), b.size());
                for (std::size_t j = 0; j < b.size(); ++j) {
                    AGREE(what + " b", a.fit->coefficients[j].estimate, b[j].get<double>(), 1e-8);
                    AGREE(what + " se", a.fit->coefficients[j].se,
                          one[method][errors][j].get<double>(), 1e-8);
                }
            }
        }
    }

    void momentsAgree_data() { kClassAgrees_data(); }

    void momentsAgree() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& set = reference()["iv"][kind.toStdString()];
        const auto& one = set["cases"][name.toStdString()];
        const Table table = tableFrom(set["data"]);
        for (const std::string steps : {"two", "iterated", "continuous"}) {
            for (const std::string errors : {"classical", "HC1", "clustered"}) {
                Question q = asked(one, "gmm", errors);
                q.settings.steps = steps;
                const Answer a = answer(table, q, series());
                const std::string key = std::string("gmm ").append(steps).append(" ") + errors;
                const auto& expected = one[key];
                if (expected.is_null()) {
                    // Neither has one smallest criterion to find: a number, or no end in words.
                    QVERIFY(a.fit != nullptr || a.refusal->code == ErrorCode::NotConverged);
                    continue;
                }
                QVERIFY2(a.fit != nullptr, (key + (a.refusal ? a.refusal->text() : "")).c_str());
                // The reference minimises with numerical slopes.
                const double tolerance = steps == "continuous" ? 1e-6 : 1e-8;
                AGREE(key + " J", *a.fit->instrumented->j, expected["j"].get<double>(), tolerance);
                for (std::size_t j = 0; j < expected["b"].size(); ++j) {
                    AGREE(key + " b", a.fit->coefficients[j].estimate,
                          expected["b"][j].get<double>(), tolerance);
                    AGREE(key + " se", a.fit->coefficients[j].se, expected["se"][j].get<double>(),
                          tolerance);
                }
            }
        }
    }

    void firstStagesAgree_data() { kClassAgrees_data(); }

    void firstStagesAgree() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& set = reference()["iv"][kind.toStdString()];
        const auto& one = set["cases"][name.toStdString()];
        const Table table = tableFrom(set["data"]);
        for (const std::string errors : {"classical", "HC1", "clustered"}) {
            const Answer a = answer(table, asked(one, "two-stage", errors), series());
            const auto& stages = a.fit->instrumented->firstStages;
            QCOMPARE(stages.size(), one["first"].size());
            for (std::size_t g = 0; g < stages.size(); ++g) {
                const auto& expected = one["first"][g];
                AGREE("partial", stages[g].partialRSquared, expected["partial"].get<double>(),
                      1e-9);
                AGREE("F " + errors, stages[g].f->value, expected[errors].get<double>(), 1e-8);
                for (std::size_t j = 0; j < expected["b"].size(); ++j) {
                    AGREE("b", stages[g].coefficients[j].estimate, expected["b"][j].get<double>(),
                          1e-8);
                }
            }
        }
    }

    void checksOfInstrumentsAgree_data() { kClassAgrees_data(); }

    void checksOfInstrumentsAgree() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& set = reference()["iv"][kind.toStdString()];
        const auto& one = set["cases"][name.toStdString()];
        const auto& expected = one["checks"];
        const Table table = tableFrom(set["data"]);
        const auto run = [&](const char* id, const std::string& errors) {
            Question q = asked(one, "two-stage", errors);
            q.checks = {CheckRequest{id}};
            const Answer a = answer(table, q, series());
            return a.checks.empty() ? CheckResult{} : a.checks.front();
        };
        const auto pair = [&](const std::string& what, double statistic, double p,
                              const nlohmann::json& by) {
            AGREE(what, statistic, by[0].get<double>(), 1e-8);
            AGREE(what + " p", p, by[1].get<double>(), 1e-8);
        };
        const std::size_t g = one["endogenous"].size();
        if (g < 3) {
            const CheckResult c = run("over-identification", "classical");
            pair("sargan", *c.statistic, *c.p, expected["sargan"]);
            pair("basmann", detail(c, "Basmann"), detail(c, "Basmann p"), expected["basmann"]);
        }
        const CheckResult plain = run("endogeneity", "classical");
        pair("wu-hausman", *plain.statistic, *plain.p, expected["wu-hausman"]);
        pair("durbin", detail(plain, "Durbin chi2"), detail(plain, "Durbin p"), expected["durbin"]);
        const CheckResult under = run("under-identification", "classical");
        pair("anderson", *under.statistic, *under.p, expected["anderson"]);
        const CheckResult weak = run("weak-instruments", "classical");
        AGREE("cragg-donald", *weak.statistic, expected["cragg-donald"].get<double>(), 1e-8);
        if (g > 1) {
            AGREE("shea", detail(weak, "Shea R² p"), expected["shea"][0].get<double>(), 1e-8);
            AGREE("shea", detail(weak, "Shea R² q"), expected["shea"][1].get<double>(), 1e-8);
        }
        const CheckResult ar = run("anderson-rubin", "classical");
        pair("anderson-rubin", *ar.statistic, *ar.p, expected["anderson-rubin"]);
        if (g == 1) {
            const auto& by = expected["anderson-rubin set"];
            if (by["a"].get<double>() > 0.0 && by["ends"].size() == 2) {
                AGREE("low", detail(ar, "low"), by["ends"][0].get<double>(), 1e-8);
                AGREE("high", detail(ar, "high"), by["ends"][1].get<double>(), 1e-8);
            } else {
                // Empty where the quadratic is nowhere under zero, else without an end.
                QCOMPARE(detail(ar, "pieces") == 0.0,
                         by["a"].get<double>() > 0.0 && by["disc"].get<double>() < 0.0);
            }
        }
        for (const std::string errors : {"HC1", "clustered"}) {
            const CheckResult e = run("endogeneity", errors);
            pair("endogeneity " + errors, *e.statistic, *e.p, expected["endogeneity " + errors]);
            const CheckResult over = run("over-identification", errors);
            pair("hansen " + errors, *over.statistic, *over.p, expected["hansen " + errors]);
            const CheckResult u = run("under-identification", errors);
            const CheckResult w = run("weak-instruments", errors);
            const auto& kp = expected["kleibergen-paap " + errors];
            pair("kleibergen-paap " + errors, *u.statistic, *u.p, kp);
            AGREE("kleibergen-paap F", detail(w, "Kleibergen–Paap F"), kp[2].get<double>(), 1e-8);
            if (g == 1) {
                const auto& effective = expected["effective " + errors];
                AGREE("effective", detail(w, "effective F"), effective[0].get<double>(), 1e-8);
                AGREE("effective df", detail(w, "effective df"), effective[1].get<double>(), 1e-8);
                AGREE("effective critical", detail(w, "effective F, critical for .10"),
                      effective[2].get<double>(), 1e-7);
            }
        }
    }

    void panelsAgree_data() {
        QTest::addColumn<QString>("kind");
        for (const char* kind : {"clean", "fails", "awkward"}) {
            QTest::newRow(kind) << kind;
        }
    }

    void panelsAgree() {
        QFETCH(QString, kind);
        const auto& set = reference()["panel"][kind.toStdString()];
        const Table table = tableFrom(set["data"]);
        const Layout layout{Layout::Kind::Panel, "u", "t", ""};
        const auto slopes = [](const Answer& a) {
            std::vector<Coefficient> out;
            for (const Coefficient& c : a.fit->coefficients) {
                if (c.term == "x" || c.term == "z") {
                    out.push_back(c);
                }
            }
            return out;
        };
        const auto by = [](const std::string& name) {
            ErrorSpec errors;
            errors.kind = name;
            if (name == "clustered") {
                errors.by = {"u"};
            }
            return errors;
        };
        // Effects held fixed, one and two ways, by either name.
        for (const std::string way : {"within", "two-way"}) {
            for (const std::string errors : {"classical", "clustered", "panel-autocorrelation"}) {
                for (const bool method : {true, false}) {
                    Question q = explain("y", {"x", "z", "s"});
                    q.method = method ? "within" : "least-squares";
                    q.fixedEffects =
                        method ? std::vector<std::string>{} : std::vector<std::string>{"u"};
                    if (way == "two-way") {
                        q.fixedEffects.push_back("t");
                    }
                    q.errors = by(errors);
                    q.allChecks = false;
                    const Answer a = answer(table, q, layout);
                    QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
                    const auto& expected = set[way];
                    const auto found = slopes(a);
                    QCOMPARE(found.size(), std::size_t{2});
                    for (std::size_t j = 0; j < 2; ++j) {
                        AGREE(way + " b", found[j].estimate, expected["b"][j].get<double>(), 1e-9);
                        AGREE(way + " " + errors, found[j].se, expected[errors][j].get<double>(),
                              1e-9);
                    }
                    QCOMPARE(a.fit->dfResidual, expected["df"].get<double>());
                    AGREE("within R²", *a.fit->statistics.within, expected["within"].get<double>(),
                          1e-9);
                    if (!method) {
                        AGREE("R²", *a.fit->statistics.rSquared, expected["r2"].get<double>(),
                              1e-9);
                    }
                    // What never changes within units leaves by name.
                    QCOMPARE(a.fit->dropped.size(), std::size_t{1});
                    QVERIFY(a.fit->dropped[0].reason.find("held fixed") != std::string::npos);
                }
            }
        }
        for (const std::string method : {"between", "random", "first-difference"}) {
            for (const std::string errors : {"classical", "clustered"}) {
                const auto& expected = set[method];
                if (!expected.contains(errors)) {
                    continue;
                }
                Question q = method == "first-difference" ? explain("y", {"x", "z"})
                                                          : explain("y", {"x", "z", "s"});
                q.method = method;
                q.errors = by(errors);
                q.allChecks = false;
                const Answer a = answer(table, q, layout);
                QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
                QCOMPARE(a.fit->coefficients.size(), expected["b"].size());
                for (std::size_t j = 0; j < expected["b"].size(); ++j) {
                    AGREE(method + " b", a.fit->coefficients[j].estimate,
                          expected["b"][j].get<double>(), 1e-9);
                    AGREE(method + " " + errors, a.fit->coefficients[j].se,
                          expected[errors][j].get<double>(), 1e-9);
                }
                QCOMPARE(a.fit->coefficients[1].df.has_value(), method != "random");
                if (method == "random") {
                    AGREE("sigma u", *a.fit->panel->sigmaUnit, expected["sigma_unit"].get<double>(),
                          1e-9);
                    AGREE("sigma e", *a.fit->panel->sigmaRest, expected["sigma_rest"].get<double>(),
                          1e-9);
                }
            }
        }
        for (const auto& [id, expected] : set["checks"].items()) {
            Question q = explain("y", {"x", "z"});
            q.allChecks = false;
            const bool own = id == "hausman, own spreads";
            q.checks = {CheckRequest{id == "mundlak" || own ? "hausman" : id}};
            const Answer a = answer(table, q, layout);
            const CheckResult& c = a.checks.front();
            QVERIFY2(c.statistic.has_value(), (id + ": " + c.reading).c_str());
            AGREE(id,
                  id == "mundlak" ? detail(c, "Mundlak chi2, clustered by unit")
                  : own           ? detail(c, "chi2, own spreads")
                                  : *c.statistic,
                  expected[0].get<double>(), 1e-8);
            AGREE(id + " p",
                  id == "mundlak" ? detail(c, "Mundlak p")
                  : own           ? detail(c, "p, own spreads")
                                  : *c.p,
                  expected[1].get<double>(), 1e-8);
        }
    }

    void differencesAreWithinUnitsOfTwoMoments() {
        std::vector<double> u;
        std::vector<double> t;
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 40; ++i) {
            u.push_back(i / 2);
            t.push_back(i % 2);
            x.push_back(std::sin(7.0 * i) + 0.1 * i);
            y.push_back(0.3 * x.back() + std::cos(3.0 * i) + (i / 2) % 5);
        }
        const Table table = tableOf({{"u", u}, {"t", t}, {"x", x}, {"y", y}});
        const Layout layout{Layout::Kind::Panel, "u", "t", ""};
        Question q = explain("y", {"x"});
        q.method = "first-difference";
        q.intercept = true;
        const Answer changes = answer(table, q, layout);
        q.method = "within";
        q.fixedEffects = {"t"};
        const Answer within = answer(table, q, layout);
        QVERIFY(changes.fit && within.fit);
        // With a trend in one and the moments held fixed in the other.
        AGREE("b", changes.fit->coefficients[1].estimate, within.fit->coefficients[1].estimate,
              1e-11);
        AGREE("se", changes.fit->coefficients[1].se, within.fit->coefficients[1].se, 1e-11);
    }

    void randomEffectsOfEqualUnitsArePooled() {
        std::vector<double> u;
        std::vector<double> t;
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 60; ++i) {
            u.push_back(i / 6);
            t.push_back(i % 6);
            x.push_back(std::sin(5.0 * i));
            // Errors that cancel within every unit: nothing is left between units.
            y.push_back(2.0 + 0.5 * x.back() + (i % 2 == 0 ? 1.0 : -1.0));
        }
        const Table table = tableOf({{"u", u}, {"t", t}, {"x", x}, {"y", y}});
        const Layout layout{Layout::Kind::Panel, "u", "t", ""};
        Question q = explain("y", {"x"});
        const Answer pooled = answer(table, q, layout);
        q.method = "random";
        const Answer random = answer(table, q, layout);
        QVERIFY(random.fit != nullptr);
        QCOMPARE(*random.fit->panel->sigmaUnit, 0.0);
        AGREE("b", random.fit->coefficients[1].estimate, pooled.fit->coefficients[1].estimate,
              1e-12);
        AGREE("se", random.fit->coefficients[1].se, pooled.fit->coefficients[1].se, 1e-12);
        QVERIFY(answerReading(random).find("negative") != std::string::npos);
    }

    void manyEffectsSettleOrSay() {
        // Three groupings, weights: as least squares on all indicators.
        std::vector<std::pair<std::string, std::vector<double>>> columns = {
            {"a", {}}, {"b", {}}, {"c", {}}, {"x", {}}, {"y", {}}, {"w", {}}};
        for (int i = 0; i < 400; ++i) {
            const double a = (i * 7) % 23;
            const double b = (i * i + i / 3) % 11;
            const double c = (i / 5) % 4;
            const double x = std::sin(3.0 * i) + 0.2 * a;
            const double values[] = {
                a, b, c, x, 0.5 * x + 0.1 * a - 0.3 * b + c + std::cos(11.0 * i), 1.0 + (i % 3)};
            for (std::size_t j = 0; j < 6; ++j) {
                columns[j].second.push_back(values[j]);
            }
        }
        Table table = tableOf(columns);
        for (std::size_t j = 0; j < 3; ++j) {
            table.variables[j].measure = Measure::Groups;
        }
        for (const bool weighted : {false, true}) {
            Question dummies = explain("y", {"x", "a", "b", "c"});
            Question swept = explain("y", {"x"});
            swept.fixedEffects = {"a", "b", "c"};
            for (Question* q : {&dummies, &swept}) {
                q->allChecks = false;
                if (weighted) {
                    q->weightKind = WeightKind::Precision;
                    q->weight = "w";
                }
            }
            const Answer d = answer(table, dummies);
            const Answer s = answer(table, swept);
            QVERIFY2(s.fit != nullptr, s.refusal ? s.refusal->text().c_str() : "");
            AGREE("b", s.fit->coefficients[1].estimate, d.fit->coefficients[1].estimate, 1e-9);
            QCOMPARE(s.fit->dfResidual, d.fit->dfResidual);
            AGREE("se", s.fit->coefficients[1].se, d.fit->coefficients[1].se, 1e-9);
            AGREE("R²", *s.fit->statistics.rSquared, *d.fit->statistics.rSquared, 1e-9);
            AGREE("AIC", *s.fit->statistics.aic, *d.fit->statistics.aic, 1e-9);
        }
    }

    void instrumentsWithEffectsAreThoseWithIndicators() {
        const auto& set = reference()["iv"]["clean"];
        Table table = tableFrom(set["data"]);
        for (Variable& variable : table.variables) {
            variable.measure = variable.name == "c" ? Measure::Groups : variable.measure;
        }
        for (const std::string method : {"two-stage", "liml", "fuller", "gmm"}) {
            for (const std::string errors : {"classical", "HC1", "HC3"}) {
                // Moments weighted by an uneven spread weigh the indicators' moments, too.
                const bool weighted = errors != "classical";
                if (weighted && method == "gmm") {
                    continue;
                }
                Question swept = asked(set["cases"]["p"], method, errors);
                swept.fixedEffects = {"c"};
                swept.checks = {CheckRequest{"endogeneity"}, CheckRequest{"over-identification"},
                                CheckRequest{"weak-instruments"}, CheckRequest{"anderson-rubin"}};
                Question wide = asked(set["cases"]["p"], method, errors);
                wide.terms.push_back(Term::expression("c"));
                wide.checks = swept.checks;
                const Answer s = answer(table, swept, series());
                const Answer w = answer(table, wide, series());
                QVERIFY2(s.fit && w.fit, s.refusal ? s.refusal->text().c_str() : "");
                QCOMPARE(s.fit->dfResidual, w.fit->dfResidual);
                for (const std::size_t j : {1U, 2U}) {
                    AGREE(method + " b", s.fit->coefficients[j].estimate,
                          w.fit->coefficients[j].estimate, 1e-8);
                    AGREE(method + " se", s.fit->coefficients[j].se, w.fit->coefficients[j].se,
                          1e-8);
                }
                AGREE("F", s.fit->instrumented->firstStages[0].f->value,
                      w.fit->instrumented->firstStages[0].f->value, 1e-8);
                for (std::size_t c = 0; c < s.checks.size(); ++c) {
                    if (weighted && s.checks[c].id == "over-identification") {
                        continue;
                    }
                    AGREE(s.checks[c].id + " " + errors, *s.checks[c].statistic,
                          *w.checks[c].statistic, 1e-8);
                }
            }
        }
    }

    void drawnRowsOfUnitsAreRefusedAndSignsAreNot() {
        const Table table = tableFrom(reference()["panel"]["clean"]["data"]);
        const Layout layout{Layout::Kind::Panel, "u", "t", ""};
        Question q = explain("y", {"x", "z"});
        q.method = "within";
        q.allChecks = false;
        q.errors.kind = "bootstrap";
        q.errors.draws = 199;
        Answer a = answer(table, q, layout);
        QVERIFY(a.refusal && a.refusal->text().find("drawn apart") != std::string::npos);
        q.errors.scheme = "clusters";
        q.errors.by = {"u"};
        a = answer(table, q, layout);
        QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
        q.fixedEffects = {"t"};
        a = answer(table, q, layout);
        QVERIFY(a.refusal.has_value());
        q.errors.scheme = "wild-clusters";
        a = answer(table, q, layout);
        QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.fit->resampling->asked, 199);
        // Predictions say whose level they are of.
        q.errors = {};
        q.predict = {PredictRequest{{{"x", 1.0}}}};
        a = answer(table, q, layout);
        QVERIFY(a.predictions && !a.predictions->front().warnings.empty());
        QVERIFY(a.predictions->front().warnings.back().find("mean effect") != std::string::npos);
    }

    void surveyErrorsAgree() {
        const auto& set = reference()["survey"];
        for (const std::string name : {"all", "part", "finite"}) {
            Study study;
            Question q = explain("y", {"x"});
            q.errors.kind = "survey";
            q.where = name == "part" ? "part = 1" : "";
            study.survey = {"w", "h", "c", name == "finite" ? "20" : ""};
            study.questions = {q};
            const Frame frame = Frame::make(tableFrom(set["data"]), {}, {}, {}, {});
            const Answer a = answerQuestion(study, frame, q, Job());
            QVERIFY2(a.fit != nullptr, a.refusal ? a.refusal->text().c_str() : "");
            for (std::size_t j = 0; j < 2; ++j) {
                AGREE(name + " b", a.fit->coefficients[j].estimate, set[name]["b"][j].get<double>(),
                      1e-10);
                AGREE(name + " se", a.fit->coefficients[j].se, set[name]["se"][j].get<double>(),
                      1e-10);
            }
            QCOMPARE(*a.fit->coefficients[0].df, set[name]["df"].get<double>());
        }
    }

    void identitiesHold() {
        const auto& set = reference()["iv"]["clean"];
        const Table table = tableFrom(set["data"]);
        nlohmann::json one = set["cases"]["p"];
        // As many instruments as endogenous columns: LIML is two-stage to the last bit.
        Question q = asked(one, "liml", "HC1");
        q.instruments.resize(1);
        const Answer liml = answer(table, q, series());
        q.method = "two-stage";
        const Answer two = answer(table, q, series());
        QVERIFY(liml.fit && two.fit);
        for (std::size_t j = 0; j < two.fit->coefficients.size(); ++j) {
            QCOMPARE(liml.fit->coefficients[j].estimate, two.fit->coefficients[j].estimate);
            QCOMPARE(liml.fit->coefficients[j].se, two.fit->coefficients[j].se);
        }
        // Under one spread the weight of the moments is that of two-stage.
        Question moments = asked(one, "gmm", "classical");
        Question plain = asked(one, "two-stage", "classical");
        const Answer m = answer(table, moments, series());
        const Answer p = answer(table, plain, series());
        for (std::size_t j = 0; j < p.fit->coefficients.size(); ++j) {
            AGREE("gmm", m.fit->coefficients[j].estimate, p.fit->coefficients[j].estimate, 1e-12);
            AGREE("gmm se", m.fit->coefficients[j].se, p.fit->coefficients[j].se, 1e-12);
        }
        // Fuller with a = 0 is LIML.
        Question fuller = asked(one, "fuller", "HC1");
        fuller.settings.a = 0.0;
        const Answer f = answer(table, fuller, series());
        const Answer l = answer(table, asked(one, "liml", "HC1"), series());
        QCOMPARE(f.fit->coefficients[1].estimate, l.fit->coefficients[1].estimate);
        // With the endogenous column among the instruments' span, two-stage is least squares.
        Question same = explain("y", {"x"});
        same.endogenous = {Term::expression("p")};
        same.instruments = {Term::expression("2 * p")};
        same.method = "two-stage";
        const Answer projected = answer(table, same, series());
        const Answer least = answer(table, explain("y", {"p", "x"}), series());
        AGREE("ols", projected.fit->coefficients[1].estimate, least.fit->coefficients[1].estimate,
              1e-12);
        AGREE("ols se", projected.fit->coefficients[1].se, least.fit->coefficients[1].se, 1e-12);
    }

    void aQuestionWithInstrumentsComesBackAsItWas() {
        const std::string text = R"q({"format":"rapporto-study","version":1,"title":"t",
            "source":{"kind":"table","file":"a.csv"},
            "questions":[{"id":"q1","kind":"explain","outcome":"y","terms":["x"],
              "fixed_effects":["c","t"],"endogenous":["p",{"product":["p","x"]}],
              "instruments":["z1","ln(z2)","z3"],
              "estimator":{"method":"gmm","steps":"iterated"},
              "errors":{"kind":"panel-autocorrelation","lags":2}}]})q";
        const auto study = readStudyText(text);
        QVERIFY2(study.has_value(), study ? "" : study.error().text().c_str());
        const Question& q = study->questions.front();
        QVERIFY(!q.unbuilt);
        QCOMPARE(q.endogenous.size(), std::size_t{2});
        QCOMPARE(q.endogenous[1].kind, Term::Kind::Product);
        QCOMPARE(q.instruments.size(), std::size_t{3});
        QCOMPARE(q.settings.steps, std::string("iterated"));
        QCOMPARE(*q.errors.lags, 2);
        const auto again = readStudyText(studyText(*study));
        QVERIFY(again.has_value());
        Question other = again->questions.front();
        other.raw = q.raw;
        QVERIFY(other.sameAs(q));
    }

    /// Weights of units: generalised least squares with the matrix written out, the parts of the
    /// spread those of rows times root weights.
    void unitsHaveWeights() {
        std::vector<double> u;
        std::vector<double> t;
        std::vector<double> x;
        std::vector<double> y;
        std::vector<double> w;
        for (int unit = 0; unit < 40; ++unit) {
            for (int moment = 0; moment < 3 + unit % 4; ++moment) {
                const double at = 10.0 * unit + moment;
                u.push_back(unit);
                t.push_back(moment);
                x.push_back(std::sin(1.7 * at) + 0.05 * unit);
                w.push_back(1.0 + unit % 5);
                y.push_back(1.0 + 0.7 * x.back() +
                            (2.0 * std::sin(5.3 * unit) + std::cos(2.9 * at)) /
                                std::sqrt(w.back()));
            }
        }
        const Table table = tableOf({{"u", u}, {"t", t}, {"x", x}, {"y", y}, {"w", w}});
        const Layout panel{Layout::Kind::Panel, "u", "t", ""};
        const auto asked = [&](const std::string& method, WeightKind kind) {
            Question q = explain("y", {"x"});
            q.method = method;
            q.weightKind = kind;
            q.weight = "w";
            q.allChecks = false;
            return answer(table, q, panel);
        };
        const Answer a = asked("random", WeightKind::Precision);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        const auto n = static_cast<Eigen::Index>(y.size());
        Eigen::MatrixXd omega = Eigen::MatrixXd::Zero(n, n);
        Eigen::MatrixXd X = Eigen::MatrixXd::Ones(n, 2);
        Eigen::VectorXd Y(n);
        const double unit = *a.fit->panel->sigmaUnit * *a.fit->panel->sigmaUnit;
        const double rest = *a.fit->panel->sigmaRest * *a.fit->panel->sigmaRest;
        QVERIFY(unit > 0.1 && rest > 0.1);
        for (Eigen::Index i = 0; i < n; ++i) {
            const auto row = static_cast<std::size_t>(i);
            X(i, 1) = x[row];
            Y(i) = y[row];
            for (Eigen::Index j = 0; j < n; ++j) {
                omega(i, j) = (u[row] == u[static_cast<std::size_t>(j)] ? unit : 0.0) / w[row];
            }
            omega(i, i) += rest / w[row];
        }
        const Eigen::MatrixXd inverse = omega.inverse();
        const Eigen::VectorXd b =
            (X.transpose() * inverse * X).ldlt().solve(X.transpose() * (inverse * Y));
        AGREE("constant", a.fit->coefficients[0].estimate, b(0), 1e-8);
        AGREE("x", a.fit->coefficients[1].estimate, b(1), 1e-8);
        // The parts of rows that are multiplied by root weights, the constant too.
        Design plain = *a.fit->linearised->before;
        Design multiplied = plain;
        const Eigen::VectorXd root = plain.weights.cwiseSqrt();
        multiplied.X = root.asDiagonal() * plain.X;
        multiplied.y = root.cwiseProduct(plain.y);
        multiplied.weights = {};
        multiplied.weightKind = WeightKind::None;
        multiplied.hasConstant = false;
        const auto parts = varianceParts(multiplied, Job());
        QVERIFY(parts);
        // There the root weight itself does not vary within a unit, so it is no column of its own.
        AGREE("unit", parts->unit, unit, 1e-8);
        AGREE("rest", parts->rest, rest, 1e-8);
        // What stays the same however weights are scaled.
        const Answer sampled = asked("random", WeightKind::Sampling);
        AGREE("scaled", sampled.fit->coefficients[1].estimate, b(1), 1e-10);
        AGREE("scaled se", sampled.fit->coefficients[1].se, a.fit->coefficients[1].se, 1e-8);
        // Means of units and first differences: weighted least squares of them.
        for (const char* method : {"between", "first-difference"}) {
            const Answer own = asked(method, WeightKind::Precision);
            QVERIFY2(!own.refusal, own.refusal ? own.refusal->text().c_str() : "");
            const Design& made = *own.fit->linearised;
            const Eigen::MatrixXd XW = made.X.transpose() * made.weights.asDiagonal();
            const Eigen::VectorXd by = (XW * made.X).ldlt().solve(XW * made.y);
            AGREE(method, own.fit->coefficients.back().estimate, by(by.size() - 1), 1e-10);
            for (std::size_t i = 0; i < made.rows.size(); ++i) {
                QCOMPARE(made.weights(static_cast<Eigen::Index>(i)), w[made.rows[i]]);
            }
        }
        // Weights that move within a unit, and weights that repeat rows.
        Table moving = table;
        w[1] += 1.0;
        moving.columns[4] = Column::ofNumbers("w", w);
        Question q = explain("y", {"x"});
        q.method = "random";
        q.weightKind = WeightKind::Precision;
        q.weight = "w";
        QVERIFY(answer(moving, q, panel).refusal->text().find("differ between rows of one unit") !=
                std::string::npos);
        QVERIFY(asked("between", WeightKind::Frequency)
                    .refusal->text()
                    .find("frequency weights repeat rows") != std::string::npos);
    }

    void refusesInWords() {
        const Table table = tableFrom(reference()["iv"]["clean"]["data"]);
        const auto why = [&](const std::function<void(Question&)>& change) {
            Question q = asked(reference()["iv"]["clean"]["cases"]["p+q"], "two-stage", "HC1");
            change(q);
            const Answer a = answer(table, q, series());
            return a.refusal ? a.refusal->text() : std::string("answered");
        };
        const auto says = [&](const std::function<void(Question&)>& change, const char* words) {
            const std::string text = why(change);
            if (text.find(words) == std::string::npos) {
                qWarning("%s", text.c_str());
                return false;
            }
            return true;
        };
        QVERIFY(
            says([](Question& q) { q.instruments.resize(1); }, "1 independent instrument for 2"));
        QVERIFY(says([](Question& q) { q.instruments.clear(); }, "0 independent instruments"));
        QVERIFY(says([](Question& q) { q.endogenous.clear(); }, "moved by instruments"));
        QVERIFY(says([](Question& q) { q.instruments[0] = Term::expression("x"); },
                     "‘x’ is an instrument and a term"));
        QVERIFY(says([](Question& q) { q.instruments[0] = Term::expression("p"); },
                     "‘p’ is an instrument and among what the instruments move"));
        QVERIFY(says([](Question& q) { q.terms.push_back(Term::expression("p")); },
                     "‘p’ is both among what the instruments move and a term"));
        QVERIFY(says([](Question& q) { q.instruments[0] = Term::expression("y"); },
                     "its own instrument"));
        QVERIFY(says([](Question& q) { q.instruments[0] = Term::expression("0 * z1 + 3"); },
                     "in every row used"));
        QVERIFY(says(
            [](Question& q) {
                q.errors = {};
                q.errors.kind = "bootstrap";
                q.errors.scheme = "wild";
            },
            "made for least squares"));
        // Two that say the same count once, by name.
        Question twice = asked(reference()["iv"]["clean"]["cases"]["p"], "two-stage", "HC1");
        twice.instruments[1] = Term::expression("2 * z1");
        const Answer a = answer(table, twice, series());
        QVERIFY(a.fit != nullptr);
        QCOMPARE(a.fit->instrumented->idle.size(), std::size_t{1});
        QCOMPARE(QString::fromStdString(a.fit->instrumented->idle[0].reason), QString("is 2 z1"));
    }
};

QTEST_APPLESS_MAIN(CausesTest)
#include "causes_test.moc"
