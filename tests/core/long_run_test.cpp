// What a step that stays comes to: the same in two forms of one model, by numbers, by simulation.
#include "core/model/long_run.h"

#include "core/numerics/distributions.h"
#include "core/report/wording.h"
#include "core/study/results.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <cmath>
#include <functional>
#include <random>

using namespace rapporto;
using namespace rapporto::test;

namespace {

Layout series() { return {Layout::Kind::Series, "", "t", ""}; }

/// y follows itself by .5, x at once by 1 and a moment later by .5: 3 in the long run; z by −.4.
Table table(std::size_t n, double follows = 0.5) {
    std::mt19937 random(21);
    std::normal_distribution<double> normal;
    std::vector<double> y(n);
    std::vector<double> x(n);
    std::vector<double> z(n);
    std::vector<double> t(n);
    double before = 0.0;
    double xBefore = 0.0;
    for (std::size_t i = 0; i < n; ++i) {
        t[i] = static_cast<double>(i);
        x[i] = 0.6 * xBefore + normal(random);
        z[i] = normal(random);
        y[i] = 1.0 + follows * before + x[i] + 0.5 * xBefore - 0.4 * z[i] + 0.5 * normal(random);
        before = y[i];
        xBefore = x[i];
    }
    return tableOf({{"y", y}, {"x", x}, {"z", z}, {"t", t}});
}

std::vector<LongRunEffect> found(const Answer& a) {
    return longRunEffects(*a.design, *a.fit, a.alpha);
}

Question levels() { return explain("y", {"lag(y)", "x", "lag(x)", "z"}); }

}  // namespace

class LongRunTest : public QObject {
    Q_OBJECT

  private slots:

    void twoFormsOfOneModelAgree() {
        const Table rows = table(200);
        for (const char* kind : {"classical", "robust", "autocorrelation"}) {
            Question direct = levels();
            direct.errors.kind = kind;
            Question corrected =
                explain("change(y)", {"lag(y)", "change(x)", "lag(x)", "change(z)", "lag(z)"});
            corrected.errors.kind = kind;
            // The same space of columns: z with its own lag in both.
            direct.terms.push_back(Term::expression("lag(z)"));
            const auto a = found(answer(rows, direct, series()));
            const auto b = found(answer(rows, corrected, series()));
            QCOMPARE(a.size(), std::size_t{2});
            QCOMPARE(b.size(), std::size_t{2});
            for (const std::size_t k : {0U, 1U}) {
                QCOMPARE(a[k].of, b[k].of);
                QVERIFY(near(b[k].estimate, a[k].estimate, 1e-9));
                QVERIFY2(near(b[k].se, a[k].se, 1e-9), kind);
                QVERIFY(near(*b[k].p, *a[k].p, 1e-7));
                QVERIFY(near(b[k].low, a[k].low, 1e-8));
            }
        }
    }

    void theErrorIsThatOfTheDeltaMethod() {
        const Answer a = answer(table(120), levels(), series());
        const auto far = found(a);
        QCOMPARE(far.size(), std::size_t{2});
        QCOMPARE(far[0].of, std::string("x"));
        // By numeric slopes of the ratio in each coefficient.
        Eigen::VectorXd b(5);
        for (Eigen::Index k = 0; k < 5; ++k) {
            b(k) = a.fit->coefficients[static_cast<std::size_t>(k)].estimate;
        }
        const auto ratio = [](const Eigen::VectorXd& at) {
            return (at(2) + at(3)) / (1.0 - at(1));
        };
        Eigen::VectorXd slope(5);
        for (Eigen::Index k = 0; k < 5; ++k) {
            Eigen::VectorXd up = b;
            Eigen::VectorXd down = b;
            up(k) += 1e-6;
            down(k) -= 1e-6;
            slope(k) = (ratio(up) - ratio(down)) / 2e-6;
        }
        QVERIFY(near(far[0].estimate, ratio(b), 1e-12));
        QVERIFY(near(far[0].se, std::sqrt(slope.dot(a.fit->covariance * slope)), 1e-7));
        QVERIFY(near(far[0].high - far[0].estimate,
                     criticalValue(0.05, a.fit->coefficients[1].df) * far[0].se, 1e-12));
        QVERIFY(near(*far[0].p, twoSidedP(far[0].estimate / far[0].se, far[0].df), 1e-12));
    }

    void theTruthIsFound() {
        const auto far = found(answer(table(6000), levels(), series()));
        QVERIFY(std::abs(far[0].estimate - 3.0) < 4.0 * far[0].se && far[0].se < 0.05);
        QVERIFY(std::abs(far[1].estimate + 0.8) < 4.0 * far[1].se);
        QVERIFY(!far[0].loose);
    }

    void unitsMoveItAlong() {
        Table rows = table(150);
        const auto plain = found(answer(rows, levels(), series()));
        std::vector<double> y(rows.columns[0].numbers().begin(), rows.columns[0].numbers().end());
        for (double& v : y) {
            v *= 1000.0;
        }
        const Table moved =
            tableOf({{"y", y},
                     {"x", {rows.columns[1].numbers().begin(), rows.columns[1].numbers().end()}},
                     {"z", {rows.columns[2].numbers().begin(), rows.columns[2].numbers().end()}},
                     {"t", {rows.columns[3].numbers().begin(), rows.columns[3].numbers().end()}}});
        const auto scaled = found(answer(moved, levels(), series()));
        QVERIFY(near(scaled[0].estimate, 1000.0 * plain[0].estimate, 1e-9));
        QVERIFY(near(scaled[0].se, 1000.0 * plain[0].se, 1e-9));
    }

    void whereThereIsNoLongRunThereIsNone() {
        // No past of the outcome.
        QVERIFY(found(answer(table(80), explain("y", {"x", "lag(x)"}), series())).empty());
        // A past that keeps everything, and more.
        const Answer wild = answer(table(60, 1.05), levels(), series());
        QVERIFY(wild.fit->coefficients[1].estimate > 1.0);
        QVERIFY(found(wild).empty());
        // One that hardly loses anything says that its interval is loose.
        const Answer nearly = answer(table(60, 0.995), levels(), series());
        const auto far = found(nearly);
        QVERIFY(far.empty() || far[0].loose);
        // Neither changes that stay nor groups nor products are steps of a quantity.
        Question q = explain("y", {"lag(y)", "change(x)"});
        q.terms.push_back({Term::Kind::Product, {"x", "z"}, false});
        QVERIFY(found(answer(table(80), q, series())).empty());
    }

    void whatMovesAnotherTermHasNoOneEffect() {
        // A square of x, and a product of x with z: neither x alone says what a step comes to.
        Question square = explain("y", {"lag(y)", "x", "x * x", "z"});
        auto far = found(answer(table(200), square, series()));
        QCOMPARE(far.size(), std::size_t{1});
        QCOMPARE(far[0].of, std::string("z"));
        Question product = explain("y", {"lag(y)", "x", "z"});
        product.terms.push_back({Term::Kind::Product, {"x", "z"}, false});
        QVERIFY(found(answer(table(200), product, series())).empty());
    }

    void aTermIsKnownByItsQuantity() {
        QCOMPARE(withoutLag("lag(x)"), std::string("x"));
        QCOMPARE(withoutLag("lag(ln(x), 3)"), std::string("ln(x)"));
        QCOMPARE(withoutLag("zone=Ridge"), std::string("zone=Ridge"));
        QCOMPARE(withoutLag("lag"), std::string("lag"));
        // Several lags of each belong together.
        const auto far = found(
            answer(table(200), explain("y", {"lag(y)", "lag(y, 2)", "x", "lag(x)", "lag(x, 2)"}),
                   series()));
        QCOMPARE(far.size(), std::size_t{1});
        QCOMPARE(far[0].of, std::string("x"));
    }

    void itIsSaidAndWritten() {
        const Answer a = answer(table(200), levels(), series());
        std::string said;
        for (const std::string& one : effectReading(a, 2)) {
            said += one + "\n";
        }
        QVERIFY2(said.find("a step of x that stays comes to") != std::string::npos, said.c_str());
        nlohmann::ordered_json one;
        explainResults(one, a);
        QCOMPARE(one["long_run"].size(), std::size_t{2});
        QVERIFY(near(one["long_run"][0]["estimate"].get<double>(), found(a)[0].estimate, 1e-15));
        QVERIFY(near(one["long_run"][0]["se"].get<double>(), found(a)[0].se, 1e-15));
        QCOMPARE(one["long_run"][0]["loose"].get<bool>(), found(a)[0].loose);
        nlohmann::ordered_json other;
        explainResults(other, answer(table(80), explain("y", {"x"}), series()));
        QVERIFY(!other.contains("long_run"));
    }
};

QTEST_APPLESS_MAIN(LongRunTest)
#include "long_run_test.moc"
