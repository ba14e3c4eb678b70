// Two equations joined by a correlation and outcomes between two ends, against likelihoods and
// stacked moments written out from definitions; columns that fits leave behind.
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/response.h"
#include "core/numerics/distributions.h"
#include "core/numerics/kernels.h"
#include "core/numerics/normal_below.h"
#include "core/numerics/sweep_effects.h"
#include "core/report/classification.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"
#include "core/study/kept.h"
#include "core/study/results.h"
#include "core/study/sources.h"
#include "tests/core/fixtures.h"

#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/joined_reference.json");
    return kReference;
}

Question questionOf(const std::string& method, bool weighted, const std::string& errors) {
    Question q = explain("y", {"x"});
    q.method = method;
    q.allChecks = false;
    if (hasTrait(method, trait::kUnseen)) {
        q.settings.zeroTerms = {"z", "v"};
    } else if (method == "interval") {
        q.outcome = "lo";
        q.settings.variable = "hi";
    } else {
        q.outcome = method == "poisson-control" ? "k" : "o";
        q.endogenous = {Term::expression("m")};
        q.instruments = {Term::expression("z"), Term::expression("v")};
    }
    if (errors != "classical") {
        q.errors =
            errors == "HC1" ? ErrorSpec{"robust", "HC1", {}} : ErrorSpec{"clustered", "HC1", {"c"}};
    }
    if (weighted) {
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
    }
    return q;
}

/// The reference holds ln σ and the inverse tanh of ρ where a fit shows σ and ρ.
double shown(const Coefficient& c, double value) {
    return c.term == "sigma" ? std::exp(value) : c.term == "rho" ? std::tanh(value) : value;
}

Table selectionTable(std::size_t n, double missing) {
    std::vector<double> y;
    std::vector<double> x;
    std::vector<double> z;
    for (std::size_t i = 0; i < n; ++i) {
        const double t = static_cast<double>(i);
        x.push_back(std::sin(t * 1.7));
        z.push_back(std::cos(t * 0.9));
        const bool lacks = std::fmod(t * 0.37, 1.0) < missing;
        y.push_back(lacks ? std::nan("") : x.back() + std::sin(t * 12.3));
    }
    return tableOf({{"y", y}, {"x", x}, {"z", z}});
}

}  // namespace

class JoinedTest : public QObject {
    Q_OBJECT

  private slots:

    void agrees_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference().items()) {
            for (const auto& [name, expected] : one["cases"].items()) {
                QTest::newRow((kind + " " + name).c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void agrees() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& one = reference()[kind.toStdString()];
        const auto& expected = one["cases"][name.toStdString()];
        const Table table = tableFrom(one["data"]);
        const bool weighted = name.endsWith(" weighted");
        const std::string method = name.split(' ').front().toStdString();
        for (const std::string errors : {"classical", "HC1", "clustered"}) {
            if (!expected.contains(errors)) {
                continue;
            }
            const Answer a = answer(table, questionOf(method, weighted, errors));
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const auto& b = expected["b"];
            QCOMPARE(a.fit->coefficients.size(), b.size());
            for (std::size_t j = 0; j < b.size(); ++j) {
                const Coefficient& c = a.fit->coefficients[j];
                AGREE_FROM(1e-2, c.equation + " " + c.term, c.estimate,
                           shown(c, b[j].get<double>()), 1e-7);
                AGREE_FROM(1e-2, c.equation + " " + c.term + " " + errors, c.se,
                           expected[errors][j].get<double>(), 1e-6);
            }
            if (expected.contains("ll") && !weighted) {
                AGREE("ll", *a.fit->statistics.logLikelihood, expected["ll"].get<double>(), 1e-9);
            }
            if (expected.contains("apart")) {
                AGREE("apart", *a.fit->likelihood->apartLogLikelihood,
                      expected["apart"].get<double>(), 1e-9);
                // As a test it belongs to the likelihood’s own errors, and stands in the results.
                const auto test = apartTest(*a.fit, *a.design, a.question.errors);
                QCOMPARE(test.has_value(), errors == "classical" && !weighted);
                const auto told = resultsJson(Study{}, {a}).at("answers")[0].at("fit");
                QCOMPARE(told.contains("apart_test"), test.has_value());
                if (test) {
                    AGREE("ratio", told.at("apart_test").at("statistic").get<double>(),
                          2.0 * (expected["ll"].get<double>() - expected["apart"].get<double>()),
                          1e-6);
                    AGREE("p", test->p, chiSquareTail(test->statistic, 1.0), 1e-12);
                }
            }
        }
    }

    /// Classical errors of a count in two steps are those of both stages together.
    void aControlHasNoClassicalErrors() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        const Answer plain = answer(table, questionOf("poisson-control", false, "classical"));
        const Answer robust = answer(table, questionOf("poisson-control", false, "HC1"));
        QVERIFY(!plain.refusal && !robust.refusal);
        QCOMPARE(plain.fit->coefficients[1].se, robust.fit->coefficients[1].se);
        QVERIFY(plain.fit->errorNote.find("both stages") != std::string::npos);
        QCOMPARE(QString::fromStdString(plain.fit->coefficients.back().term), QString("left of m"));
        QVERIFY(!plain.fit->statistics.aic);
    }

    /// Derivatives of every row against differences of the likelihood: through the score at the
    /// end.
    void scoresVanish() {
        for (const char* method : {"heckman", "probit-instruments", "interval"}) {
            const Answer a = answer(tableFrom(reference()["fails"]["data"]),
                                    questionOf(method, false, "classical"));
            QVERIFY2(!a.refusal, method);
            QVERIFY2(a.fit->likelihood->gradient < 1e-12, method);
        }
    }

    void rowsWithoutOutcomeAreKept() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        const Answer a = answer(table, questionOf("heckman", false, "classical"));
        std::size_t seen = 0;
        for (const auto& y : reference()["clean"]["data"]["y"]) {
            seen += y.is_null() ? 0 : 1;
        }
        QCOMPARE(a.rows.used, table.rows());
        QCOMPARE(a.design->rows.size(), seen);
        QCOMPARE(static_cast<std::size_t>(a.fit->residuals.size()), seen);
        QCOMPARE(a.fit->likelihood->unseen, table.rows() - seen);
        // The interval of a correlation is that of its inverse tanh, of a spread that of its
        // logarithm.
        const Coefficient& rho = a.fit->coefficients.back();
        const double by = 1.959963984540054 * rho.se / (1.0 - rho.estimate * rho.estimate);
        AGREE("low", rho.low, std::tanh(std::atanh(rho.estimate) - by), 1e-9);
        AGREE("high", rho.high, std::tanh(std::atanh(rho.estimate) + by), 1e-9);
        for (std::size_t i = 0; i < seen; ++i) {
            const auto row = static_cast<Eigen::Index>(i);
            AGREE("residual", a.fit->residuals(row) + a.fit->fitted(row),
                  table.columns[static_cast<std::size_t>(table.find("y"))]
                      .numbers()[a.design->rows[i]],
                  1e-12);
        }
        // The second step's own uneven spread is no finding of least squares' checks.
        Question steps = questionOf("heckman-two-step", false, "classical");
        steps.allChecks = true;
        for (const CheckResult& one : answer(table, steps).checks) {
            const bool ofData = findCheck(one.id)->of == fits::kAll;
            QVERIFY2(ofData || one.verdict == Verdict::NotApplicable, one.id.c_str());
        }
        // Without terms of its own what is seen hangs on the terms of the outcome, in all rows.
        Question same = questionOf("heckman", false, "classical");
        same.settings.zeroTerms.clear();
        const Answer b = answer(table, same);
        QVERIFY(b.rows.used < table.rows());
        const auto& notes = b.refusal ? std::vector<std::string>{b.refusal->text()} : b.fit->notes;
        QVERIFY(std::any_of(notes.begin(), notes.end(), [](const std::string& note) {
            return note.find("curve alone") != std::string::npos ||
                   note.find("runs to one") != std::string::npos;
        }));
    }

    void refusesInWords() {
        Question q = questionOf("heckman", false, "classical");
        q.settings.zeroTerms = {"z"};
        const auto told = [&](double missing, std::size_t n) {
            const Answer a = answer(selectionTable(n, missing), q);
            return a.refusal ? QString::fromStdString(a.refusal->text()) : QString();
        };
        QVERIFY(told(0.0, 60).contains("nothing is left out"));
        QVERIFY2(told(1.1, 60).contains("y"), told(1.1, 60).toUtf8());
        QVERIFY2(told(0.97, 60).contains("too few"), told(0.97, 60).toUtf8());
        // A term that tells who is seen.
        Table table = selectionTable(80, 0.5);
        std::vector<double> tells;
        for (const double y : table.columns[0].numbers()) {
            tells.push_back(std::isnan(y) ? 0.0 : 1.0);
        }
        table.columns.push_back(Column::ofNumbers("tells", tells));
        Variable variable;
        variable.name = "tells";
        table.variables.push_back(variable);
        q.settings.zeroTerms = {"tells"};
        const Answer certain = answer(table, q);
        QVERIFY(certain.refusal);
        QVERIFY(certain.refusal->text().find("‘tells’ tells for certain") != std::string::npos);
        // Ends that are crossed, and no upper ends at all.
        Question ends = questionOf("interval", false, "classical");
        ends.settings.variable.clear();
        QVERIFY(answer(tableFrom(reference()["clean"]["data"]), ends)
                    .refusal->text()
                    .find("no variable holds the upper ends") != std::string::npos);
        ends.outcome = "hi";
        ends.settings.variable = "lo";
        QVERIFY(answer(tableFrom(reference()["clean"]["data"]), ends)
                    .refusal->text()
                    .find("is above the upper end") != std::string::npos);
        // Two columns that are moved.
        Question two = questionOf("probit-instruments", false, "classical");
        two.terms.clear();
        two.endogenous.push_back(Term::expression("x"));
        QVERIFY(answer(tableFrom(reference()["clean"]["data"]), two)
                    .refusal->text()
                    .find("takes one column") != std::string::npos);
    }

    /// With both ends equal everywhere an interval is the normal likelihood of least squares.
    void nestedOnes() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        Question exact = explain("z", {"v"});
        exact.method = "interval";
        exact.settings.variable = "z";
        exact.allChecks = false;
        Question least = explain("z", {"v"});
        least.allChecks = false;
        const Answer a = answer(table, exact);
        const Answer b = answer(table, least);
        AGREE("slope", a.fit->coefficients[1].estimate, b.fit->coefficients[1].estimate, 1e-9);
        AGREE("ll", *a.fit->statistics.logLikelihood, *b.fit->statistics.logLikelihood, 1e-9);
        // Open below at zero it is a tobit from there.
        std::vector<double> low;
        std::vector<double> high;
        std::vector<double> cut;
        for (const double z : table.columns[static_cast<std::size_t>(table.find("z"))].numbers()) {
            cut.push_back(std::max(z, 0.0));
            low.push_back(z > 0.0 ? z : std::nan(""));
            high.push_back(std::max(z, 0.0));
        }
        Table ends = table;
        for (const auto& [name, cells] :
             {std::pair("low", low), std::pair("high", high), std::pair("cut", cut)}) {
            ends.columns.push_back(Column::ofNumbers(name, cells));
            Variable variable;
            variable.name = name;
            ends.variables.push_back(variable);
        }
        Question open = exact;
        open.outcome = "low";
        open.settings.variable = "high";
        Question tobit = least;
        tobit.outcome = "cut";
        tobit.method = "tobit";
        tobit.settings.low = 0.0;
        const Answer c = answer(ends, open);
        const Answer d = answer(ends, tobit);
        QVERIFY2(!c.refusal && !d.refusal, c.refusal ? c.refusal->text().c_str() : "");
        for (std::size_t j = 0; j < 3; ++j) {
            AGREE("tobit", c.fit->coefficients[j].estimate, d.fit->coefficients[j].estimate, 1e-9);
            AGREE("tobit se", c.fit->coefficients[j].se, d.fit->coefficients[j].se, 1e-9);
        }
    }

    /// ln Φ and the ratio against a continued fraction (Laplace) from both sides of the change.
    void tailsHaveTheirDigits() {
        for (const double x : {-1000.0, -60.0, -30.001, -29.999, -12.0, -8.0}) {
            double fraction = 0.0;
            for (int k = 400; k > 0; --k) {
                fraction = k / (-x + fraction);
            }
            // Φ(x) = φ(x)/(−x + 1/(−x + 2/(−x + …))).
            const double ratio = -x + fraction;
            const NormalBelow tail = normalBelow(x);
            AGREE("ratio", tail.ratio, ratio, 1e-12);
            AGREE("ln", tail.value,
                  -0.5 * x * x - 0.5 * std::log(2.0 * std::acos(-1.0)) - std::log(ratio), 1e-13);
        }
        QVERIFY(normalBelow(9.0).value < 0.0 && normalBelow(9.0).value > -1e-18);
    }

    /// Against extended precision, in units of the last place.
    void exponentialsHaveTheirDigits() {
        std::vector<double> x;
        for (int i = -70000; i <= 70000; ++i) {
            x.push_back(0.01 * i + 1e-4 * std::sin(i));
        }
        std::vector<double> y(x.size());
        kernels::expInto(y.data(), x.data(), static_cast<Eigen::Index>(x.size()));
        double worst = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i) {
            const long double exact = std::exp(static_cast<long double>(x[i]));
            if (std::abs(x[i]) < 700.0) {
                worst = std::max(worst, std::abs(static_cast<double>((y[i] - exact) / exact)));
            }
        }
        QVERIFY2(worst < 1.2 * 2.220446049250313e-16, QByteArray::number(worst / 2.2e-16));
        const double ends[] = {800.0, -800.0, std::nan("")};
        double out[3];
        kernels::expInto(out, ends, 3);
        QVERIFY(std::isinf(out[0]) && out[1] == 0.0 && std::isnan(out[2]));
    }

    /// Errors that do not take the likelihood at its word test the correlation by z.
    void aCorrelationIsTestedByTheErrorsAskedFor() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        for (const auto& [errors, words] :
             {std::pair("classical", "likelihood ratio"), std::pair("clustered", "z test")}) {
            const Answer a = answer(table, questionOf("heckman", false, errors));
            QVERIFY(std::any_of(a.fit->notes.begin(), a.fit->notes.end(),
                                [words = words](const std::string& note) {
                                    return note.find(words) != std::string::npos;
                                }));
        }
    }

    /// Their first stage is that of two-stage least squares, and is asked the same.
    void firstStagesAreChecked() {
        for (const char* method : {"probit-instruments", "poisson-control"}) {
            for (const char* errors : {"HC1", "clustered"}) {
                Question q = questionOf(method, false, errors);
                q.checks = {CheckRequest{"weak-instruments"}, CheckRequest{"under-identification"}};
                Question line = q;
                line.method = "two-stage";
                const Table table = tableFrom(reference()["clean"]["data"]);
                const Answer own = answer(table, q);
                const Answer two = answer(table, line);
                for (const char* id : {"weak-instruments", "under-identification"}) {
                    QVERIFY2(check(own, id).statistic.has_value(), check(own, id).reading.c_str());
                    AGREE(id, *check(own, id).statistic, *check(two, id).statistic, 1e-10);
                    QCOMPARE(check(own, id).details, check(two, id).details);
                }
                // A weak one is said to be, with a way out.
                q.instruments = {Term::expression("abs(w - 1)")};
                const Answer weak = answer(table, q);
                QVERIFY(check(weak, "weak-instruments").verdict != Verdict::Fine);
                QCOMPARE(check(weak, "weak-instruments").remedies.front().variant.method,
                         std::string("two-stage"));
            }
        }
    }

    void effectsOnTheOutcome() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        Question q = questionOf("probit-instruments", false, "classical");
        q.effects = {{"m"}};
        const Answer a = answer(table, q);
        QVERIFY2(!a.refusal && a.effects.size() == 1 && a.effects[0],
                 a.refusal ? a.refusal->text().c_str() : "");
        // The slope of Φ(xb) by hand.
        double sum = 0.0;
        for (Eigen::Index i = 0; i < a.design->X.rows(); ++i) {
            double index = 0.0;
            for (std::size_t j = 0; j < 3; ++j) {
                index +=
                    a.fit->coefficients[j].estimate * a.design->X(i, a.fit->coefficients[j].column);
            }
            sum += std::exp(-0.5 * index * index) / std::sqrt(2.0 * std::acos(-1.0));
        }
        const double slope = coefficient(a, "m")->estimate;
        AGREE("effect", (*a.effects[0])[0].effect.value,
              slope * sum / static_cast<double>(a.design->X.rows()), 1e-10);
        QVERIFY((*a.effects[0])[0].effect.se > 0.0);
        // Of a selection and of ends the effect is the coefficient.
        for (const char* method : {"heckman", "heckman-two-step", "interval"}) {
            Question line = questionOf(method, false, "classical");
            line.effects = {{"x"}};
            const Answer b = answer(table, line);
            QVERIFY2(!b.refusal && b.effects.size() == 1 && b.effects[0], method);
            AGREE(method, (*b.effects[0])[0].effect.value, coefficient(b, "x")->estimate, 1e-12);
            AGREE(method, (*b.effects[0])[0].effect.se, coefficient(b, "x")->se, 1e-9);
        }
        // Of a count in two steps: slope times mean, the control among the terms.
        Question count = questionOf("poisson-control", false, "HC1");
        count.effects = {{"m"}};
        const Answer c = answer(table, count);
        QVERIFY2(!c.refusal && c.effects[0], c.refusal ? c.refusal->text().c_str() : "");
        AGREE("count", (*c.effects[0])[0].effect.value,
              coefficient(c, "m")->estimate * c.fit->fitted.mean(), 1e-10);
    }

    /// By hand from the smaller fit: the added column’s slope of ℓ over its spread given the
    /// others.
    void scoresOfWhatIsAdded() {
        const Table table = tableFrom(reference()["fails"]["data"]);
        for (const char* method : {"probit", "logit", "cloglog", "poisson"}) {
            Question small = explain(std::string(method) == "poisson" ? "k" : "o", {"m"});
            small.method = method;
            small.allChecks = false;
            Question large = small;
            large.terms.push_back(Term::expression("z"));
            const Answer a = answer(table, small);
            const Answer b = answer(table, large);
            const auto model = plainModel(familyOf(method), b.design->y);
            QVERIFY(model != nullptr);
            const auto found = scoreStatistic(*model, b.design->X, a.fit->likelihood->index, {});
            QVERIFY(found.has_value());
            const Eigen::Index n = b.design->X.rows();
            Eigen::VectorXd score = Eigen::VectorXd::Zero(3);
            Eigen::MatrixXd information = Eigen::MatrixXd::Zero(3, 3);
            for (Eigen::Index i = 0; i < n; ++i) {
                double g = 0.0;
                double H = 0.0;
                model->row(i, &a.fit->likelihood->index(i, 0), &g, &H);
                score += g * b.design->X.row(i).transpose();
                information -= H * b.design->X.row(i).transpose() * b.design->X.row(i);
            }
            QVERIFY(std::abs(score(0)) < 1e-8 && std::abs(score(1)) < 1e-8);
            const Eigen::MatrixXd inverse = information.inverse();
            AGREE(method, *found, score(2) * score(2) * inverse(2, 2), 1e-9);
            // It lies near the likelihood ratio, and both are told in Compare.
            const double lr =
                2.0 * (b.fit->likelihood->logLikelihood - a.fit->likelihood->logLikelihood);
            QVERIFY2(std::abs(*found - lr) < 0.35 * lr, method);
        }
        QVERIFY(plainModel(&families::kNegativeBinomial, Eigen::VectorXd()) == nullptr);
    }

    /// Twenty rows that lean on each other: least squares leans with them, the half does not.
    void trimmedSquaresFindWhatLeansTogether() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 120; ++i) {
            const bool odd = i % 6 == 0;
            x.push_back(odd ? 6.0 + 0.1 * std::sin(i) : 2.0 * std::sin(1.7 * i));
            y.push_back(odd ? -8.0 + 0.2 * std::cos(i) : x.back() + 0.5 * std::cos(2.9 * i));
        }
        Question q = explain("y", {"x"});
        q.allChecks = false;
        q.checks = {CheckRequest{"least-trimmed"}};
        const Answer a = answer(tableOf({{"x", x}, {"y", y}}), q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QVERIFY(coefficient(a, "x")->estimate < 0.0);
        const CheckResult& found = check(a, "least-trimmed");
        QCOMPARE(found.verdict, Verdict::Fails);
        QCOMPARE(*found.statistic, 20.0);
        QCOMPARE(found.exhibit.marked.size(), std::size_t{20});
        for (const std::size_t row : found.exhibit.marked) {
            QCOMPARE(row % 6, std::size_t{0});
        }
        QCOMPARE(detail(found, "rows of the half"), 61.0);
        QVERIFY(found.reading.find("would be **1.0") != std::string::npos ||
                found.reading.find("would be **.9") != std::string::npos ||
                found.reading.find("would be **0.9") != std::string::npos);
        // The same whatever the order of the rows and their units.
        std::vector<double> x2(x.rbegin(), x.rend());
        std::vector<double> y2(y.rbegin(), y.rend());
        for (double& v : x2) {
            v = 1000.0 * v + 5.0;
        }
        const Answer b = answer(tableOf({{"x", x2}, {"y", y2}}), q);
        QCOMPARE(*check(b, "least-trimmed").statistic, 20.0);
        AGREE("spread", detail(check(b, "least-trimmed"), "spread of the half"),
              detail(found, "spread of the half"), 1e-8);
        // Clean rows speak with one voice.
        for (int i = 0; i < 120; ++i) {
            y[static_cast<std::size_t>(i)] =
                x[static_cast<std::size_t>(i)] + 0.5 * std::cos(2.9 * i) + 0.3 * std::sin(7.7 * i);
        }
        const Answer c = answer(tableOf({{"x", x}, {"y", y}}), q);
        QCOMPARE(check(c, "least-trimmed").verdict, Verdict::Fine);
        q.weightKind = WeightKind::Precision;
        q.weight = "x * x + 1";
        QCOMPARE(check(answer(tableOf({{"x", x}, {"y", y}}), q), "least-trimmed").verdict,
                 Verdict::NotApplicable);
    }

    void aCutTellsRowsApart() {
        const Table table = tableFrom(reference()["clean"]["data"]);
        Question q = explain("o", {"m"});
        q.method = "logit";
        q.allChecks = false;
        const Answer a = answer(table, q);
        double before = 1e9;
        for (const double cut : {0.01, 0.3, 0.5, 0.7, 0.99}) {
            const auto told = classify(a, cut);
            QVERIFY(told.has_value());
            QCOMPARE(told->all(), static_cast<double>(a.design->y.size()));
            QCOMPARE(told->yesFound + told->yesMissed, a.design->y.sum());
            QVERIFY(told->yesFound + told->noTaken <= before);
            before = told->yesFound + told->noTaken;
        }
        double right = 0.0;
        for (Eigen::Index i = 0; i < a.design->y.size(); ++i) {
            right += (a.fit->fitted(i) >= 0.3) == (a.design->y(i) > 0.5) ? 1.0 : 0.0;
        }
        const auto told = classify(a, 0.3);
        QCOMPARE(told->right(), right / told->all());
        QVERIFY(classificationReading(a, *told).find("0.30") != std::string::npos ||
                classificationReading(a, *told).find(".30") != std::string::npos);
        Question line = explain("y", {"x"});
        line.allChecks = false;
        QVERIFY(!classify(answer(table, line), 0.5));
    }

    void studiesKeepTheirSettings() {
        for (const char* method :
             {"heckman", "heckman-two-step", "interval", "probit-instruments", "poisson-control"}) {
            Study study;
            study.questions = {questionOf(method, false, "classical")};
            const auto read = readStudyText(studyText(study));
            QVERIFY2(read, read ? "" : read.error().text().c_str());
            QCOMPARE(read->questions[0].settings, study.questions[0].settings);
            QCOMPARE(read->questions[0].method, study.questions[0].method);
            QVERIFY(findEstimator(method) != nullptr);
        }
    }

    void quantilesWithEffects_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference().items()) {
            for (const auto& [name, expected] : one["spread"]["cases"].items()) {
                QTest::newRow((kind + " " + name).c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void quantilesWithEffects() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& set = reference()[kind.toStdString()]["spread"];
        const auto& expected = set["cases"][name.toStdString()];
        Question q = explain("y", {"x", "z"});
        q.method = "quantile";
        q.settings.at = {0.25, 0.5, 0.8};
        q.allChecks = false;
        q.fixedEffects = {"u"};
        if (name == "u t") {
            q.fixedEffects.emplace_back("t");
        }
        if (name.endsWith("weighted")) {
            q.weightKind = WeightKind::Sampling;
            q.weight = "w";
        }
        for (const std::string errors : {"HC1", "clustered"}) {
            // Effects held fixed are within clusters by the unit: they cost no degree there.
            if (errors == "clustered" && name != "u") {
                continue;
            }
            q.errors = errors == "HC1" ? ErrorSpec{} : ErrorSpec{"clustered", "HC1", {"u"}};
            const Answer a = answer(tableFrom(set["data"]), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const std::size_t k = a.fit->solution.kept.size();
            for (std::size_t t = 0; t < 3; ++t) {
                for (std::size_t j = 0; j < 2; ++j) {
                    const Coefficient& c = a.fit->coefficients[t * k + (k - 2) + j];
                    AGREE_FROM(1e-2, c.equation + " " + c.term, c.estimate,
                               expected["b"][t][j].get<double>(), 1e-8);
                    AGREE_FROM(1e-2, c.equation + " " + c.term + " " + errors, c.se,
                               expected[errors][t][j].get<double>(), 1e-6);
                }
            }
            QCOMPARE(a.fit->quantile->crossing, expected["flat"].get<std::size_t>());
            QCOMPARE(a.fit->quantile->process.at.size(), std::size_t{19});
            QVERIFY(a.fit->quantile->equal.has_value());
            QCOMPARE(a.fit->quantile->equal->df1, 2.0);
        }
    }

    /// Over groups of rows: the slope of an interaction at the group’s own mean, and what differs.
    void effectsOverGroups() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> g;
        std::vector<double> o;
        std::vector<double> n;
        for (int i = 0; i < 210; ++i) {
            g.push_back(i % 3);
            x.push_back(std::sin(1.9 * i) + 0.3 * g.back());
            y.push_back(2.0 + x.back() * (1.0 + 0.5 * x.back()) + std::cos(3.7 * i));
            o.push_back(std::sin(2.3 * i) + x.back() > 0.4 ? 1.0 : 0.0);
            n.push_back(1 + (std::sin(5.1 * i) + 0.8 * x.back() > 0.5 ? 1 : 0) +
                        (i % 5 == 0 ? 1 : 0));
        }
        const Table table = tableOf({{"y", y}, {"x", x}, {"g", g}, {"o", o}, {"n", n}});
        VariableEntry groups;
        groups.name = "g";
        groups.measure = Measure::Groups;
        Question q = explain("y", {"x", "power(x, 2)"});
        q.allChecks = false;
        q.effects = {{"x", EffectRequest::As::Average, {}, false, "g"}};
        const Answer a = answer(table, q, {}, {groups});
        QVERIFY2(!a.refusal && a.effects[0], a.refusal ? a.refusal->text().c_str() : "");
        const auto& effects = *a.effects[0];
        QCOMPARE(effects.size(), std::size_t{3});
        const double b1 = a.fit->coefficients[1].estimate;
        const double b2 = a.fit->coefficients[2].estimate;
        const double v22 = a.fit->covariance(2, 2);
        std::vector<double> mean(3, 0.0);
        for (std::size_t i = 0; i < x.size(); ++i) {
            mean[static_cast<std::size_t>(g[i])] += x[i] / 70.0;
        }
        for (std::size_t e = 0; e < 3; ++e) {
            AGREE("effect", effects[e].effect.value, b1 + 2.0 * b2 * mean[e], 1e-10);
            QCOMPARE(effects[e].contrast.has_value(), e > 0);
            if (e > 0) {
                AGREE("contrast", effects[e].contrast->value, 2.0 * b2 * (mean[e] - mean[0]), 1e-9);
                AGREE("contrast se", effects[e].contrast->se,
                      2.0 * std::abs(mean[e] - mean[0]) * std::sqrt(v22), 1e-9);
            }
        }
        QCOMPARE(groupReading(a, effects).size(), std::size_t{3});
        // On the outcome’s scale: the mean slope of a logit in the group’s rows.
        Question logit = explain("o", {"x"});
        logit.method = "logit";
        logit.allChecks = false;
        logit.effects = q.effects;
        const Answer b = answer(table, logit, {}, {groups});
        QVERIFY2(!b.refusal && b.effects[0], b.refusal ? b.refusal->text().c_str() : "");
        double slope = 0.0;
        for (std::size_t i = 0; i < x.size(); ++i) {
            const double p = b.fit->fitted(static_cast<Eigen::Index>(i));
            slope += g[i] == 1.0 ? p * (1.0 - p) / 70.0 : 0.0;
        }
        AGREE("logit", (*b.effects[0])[1].effect.value, slope * b.fit->coefficients[1].estimate,
              1e-9);
        // Without a term that lets it differ a linear effect is the same, and is said to be.
        Question line = explain("y", {"x"});
        line.allChecks = false;
        line.effects = q.effects;
        const Answer c = answer(table, line, {}, {groups});
        const auto said = groupReading(c, *c.effects[0]);
        QCOMPARE(said.size(), std::size_t{1});
        QVERIFY(said[0].find("same in every group") != std::string::npos);
        // What cannot be: a group with one value, and groups at given values.
        q.effects[0].over = "y * 0";
        QVERIFY(!answer(table, q, {}, {groups}).effects[0]);
        q.effects[0].over = "g";
        q.effects[0].as = EffectRequest::As::AtMeans;
        QVERIFY(!answer(table, q, {}, {groups}).effects[0]);
        // Whose probability moves: of each level of an ordered outcome, and they sum to nothing.
        Question ordered = explain("n", {"x", "g"});
        ordered.method = "ordered-logit";
        ordered.allChecks = false;
        VariableEntry levels = groups;
        levels.name = "n";
        levels.measure = Measure::OrderedGroups;
        const Answer d = answer(table, ordered, {}, {groups, levels});
        QVERIFY2(!d.refusal, d.refusal ? d.refusal->text().c_str() : "");
        const auto names = outcomesOf(*d.design, *d.fit);
        QCOMPARE(names.size(), std::size_t{3});
        double sum = 0.0;
        double moved = 0.0;
        for (std::size_t level = 0; level < names.size(); ++level) {
            const auto own = columnEffects(*d.design, *d.fit, 0.05, level);
            QCOMPARE(own.size(), std::size_t{3});
            sum += own[0].estimate;
            moved += std::abs(own[0].estimate);
        }
        QVERIFY(std::abs(sum) < 1e-10 && moved > 1e-3);
    }

    /// Effects of one grouping are the groups’ means of what the terms leave; of two, those that
    /// regressing on indicators gives.
    void effectsHeldFixedAreThoseOfIndicators() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> g;
        std::vector<double> t;
        std::vector<double> w;
        for (int i = 0; i < 240; ++i) {
            g.push_back(i % 7);
            t.push_back((i / 7) % 5);
            x.push_back(std::sin(1.3 * i) + 0.2 * g.back());
            y.push_back(std::floor(8.0 + x.back() + std::cos(3.1 * i) + g.back() - 0.5 * t.back()));
            w.push_back(1.0 + i % 3);
        }
        const Table table = tableOf({{"y", y}, {"x", x}, {"g", g}, {"t", t}, {"w", w}});
        VariableEntry groups;
        groups.name = "g";
        groups.measure = Measure::Groups;
        VariableEntry moments = groups;
        moments.name = "t";
        for (const char* method : {"least-squares", "poisson"}) {
            Question held = explain("y", {"x"});
            held.method = method;
            held.fixedEffects = {"g", "t"};
            held.weightKind = WeightKind::Frequency;
            held.weight = "w";
            held.allChecks = false;
            Question shown = held;
            shown.fixedEffects.clear();
            shown.terms.push_back(Term::expression("g"));
            shown.terms.push_back(Term::expression("t"));
            const Answer a = answer(table, held, {}, {groups, moments});
            const Answer b = answer(table, shown, {}, {groups, moments});
            QVERIFY2(!a.refusal && !b.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const auto effects = effectsHeldFixed(*a.fit, *a.design, Job());
            QVERIFY2(effects, effects ? "" : effects.error().text().c_str());
            QCOMPARE(effects->size(), std::size_t{2});
            for (const auto& [d, name, of] : {std::tuple(0, "g", &g), std::tuple(1, "t", &t)}) {
                const auto& rows = (*effects)[static_cast<std::size_t>(d)];
                const auto first = std::find(of->begin(), of->end(), 0.0) - of->begin();
                for (std::size_t i = 0; i < of->size(); ++i) {
                    const double level = (*of)[i];
                    const std::string term = std::string(name) + "=" + std::to_string(int(level));
                    const double expected = level == 0.0 ? 0.0 : coefficient(b, term)->estimate;
                    QVERIFY2(std::abs(rows(static_cast<Eigen::Index>(i)) - rows(first) - expected) <
                                 1e-8,
                             term.c_str());
                }
            }
            const auto kept =
                keptColumn(a, {"effect", "g", "effects of g"}, table.rows(), {}, Job());
            QVERIFY(kept);
            QCOMPARE(QString::fromStdString(kept->name), QString("effect_g_q1"));
            QCOMPARE((*kept->values)[0], (*effects)[0](0));
        }
        Question none = explain("y", {"x"});
        none.allChecks = false;
        const Answer plain = answer(table, none);
        QVERIFY(!effectsHeldFixed(*plain.fit, *plain.design, Job()));
    }

    void keptColumnsStayWithTheStudy() {
        std::vector<double> y = {1.0, 2.5, 2.0, std::nan(""), 4.75, 6.0, 5.5, 8.0};
        std::vector<double> x = {0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0};
        const Table table = tableOf({{"y", y}, {"x", x}});
        Study study;
        study.questions = {explain("y", {"x"})};
        Sources sources;
        sources.table = std::make_shared<const Table>(table);
        const Frame before = makeFrame(study, sources);
        const Answer a = answerQuestion(study, before, study.questions[0], Job());
        const auto all = keepables(a);
        QCOMPARE(all.size(), std::size_t{2});
        const auto left = keptColumn(a, all[1], 8, {"left_q1"}, Job());
        QVERIFY(left);
        QCOMPARE(QString::fromStdString(left->name), QString("left_q1_2"));
        const auto changed = apply(study, {PutKept{*left}, "keep"});
        QVERIFY(changed);
        const auto read = readStudyText(studyText(*changed));
        QVERIFY2(read, read ? "" : read.error().text().c_str());
        const Frame after = makeFrame(*read, sources);
        const Column* column = after.column("left_q1_2");
        QVERIFY(column != nullptr);
        for (std::size_t i = 0; i < 8; ++i) {
            const double value = column->numbers()[i];
            QVERIFY(i == 3 ? std::isnan(value) : value == (*left->values)[i]);
        }
        // The question moves on; what was kept does not.
        Question other = study.questions[0];
        other.terms.clear();
        QVERIFY(apply(*read, {PutQuestion{other}, "without x"}));
        QCOMPARE((*read->kept[0].values)[0], (*left->values)[0]);
        // Another table: the column is there, empty, and says why.
        sources.table = std::make_shared<const Table>(tableOf({{"y", {1.0}}, {"x", {2.0}}}));
        const Frame shorter = makeFrame(*read, sources);
        QVERIFY(std::isnan(shorter.column("left_q1_2")->numbers()[0]));
        QVERIFY(shorter.variable("left_q1_2")->note.find("8 rows") != std::string::npos);
        QVERIFY(apply(*read, {RemoveKept{"left_q1_2"}, "take out"})->kept.empty());
        QVERIFY(!readStudyText(R"({"format":"rapporto-study","version":1,
            "kept":[{"name":"a","values":"1 2 x"}]})"));
    }
};

QTEST_GUILESS_MAIN(JoinedTest)
#include "joined_test.moc"
