// Quantiles and fits that hold odd rows down, against linear programmes and estimating equations.
#include "core/model/robust.h"

#include "core/model/quantile.h"
#include "core/numerics/quantile_solution.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <algorithm>
#include <cmath>
#include <cstdint>

using namespace rapporto;
using namespace rapporto::test;

namespace {

const nlohmann::json& reference() {
    static const nlohmann::json kReference = readJson("tests/reference/robust_reference.json");
    return kReference;
}

Table quantileTable(const std::string& kind) {
    return test::tableFrom(reference()["quantile"][kind]["data"]);
}

#undef AGREE  // Of small numbers here: relative to a hundredth.
#define AGREE(what, found, expected, tolerance) AGREE_FROM(1e-2, what, found, expected, tolerance)

Question asked(const std::string& method, const std::string& errors, bool weighted) {
    Question q = explain("y", {"x", "z"});
    q.method = method;
    q.allChecks = false;
    q.errors.kind = errors == "HC1" ? "robust" : errors;
    if (errors == "clustered") {
        q.errors.by = {"c"};
    }
    if (weighted) {
        q.weightKind = WeightKind::Sampling;
        q.weight = "w";
    }
    return q;
}

/// The numbers of make_robust_reference.py’s larger problems.
class Numbers {
  public:
    explicit Numbers(std::uint64_t seed) : state_(seed) {}

    double next() {
        state_ = state_ * 6364136223846793005U + 1442695040888963407U;
        return static_cast<double>(state_ >> 11U) / 9007199254740992.0;
    }

    double four() {
        double sum = 0.0;
        for (int i = 0; i < 4; ++i) {
            sum += next();
        }
        return sum - 2.0;
    }

  private:
    std::uint64_t state_;
};

double oneDecimal(double v) { return std::nearbyint(v * 10.0) / 10.0; }

}  // namespace

class RobustTest : public QObject {
    Q_OBJECT

  private slots:

    void quantiles_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference()["quantile"].items()) {
            for (const auto& [name, values] : one["points"].items()) {
                QTest::addRow("%s %s", kind.c_str(), name.c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void quantiles() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& expected =
            reference()["quantile"][kind.toStdString()]["points"][name.toStdString()];
        for (const std::string errors : {"classical", "kernel", "clustered"}) {
            Question q = asked("quantile", errors, name.contains("weighted"));
            q.settings.at = {name.split(' ').front().toDouble()};
            const Answer a = answer(quantileTable(kind.toStdString()), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            const QuantileFit::Point& point = a.fit->quantile->points.front();
            AGREE("objective", point.objective, expected["objective"].get<double>(), 1e-10);
            if (point.manifold) {
                continue;  // Several lines are best: coefficients and errors are one of many.
            }
            AGREE("goodness", point.goodness, expected["goodness"].get<double>(), 1e-8);
            for (std::size_t j = 0; j < 3; ++j) {
                AGREE("b", a.fit->coefficients[j].estimate, expected["b"][j].get<double>(), 1e-8);
                AGREE(errors, a.fit->coefficients[j].se, expected[errors][j].get<double>(), 1e-6);
            }
            QVERIFY(!a.fit->coefficients[0].df);
            QCOMPARE(a.fit->coefficients[0].equation,
                     std::string("quantile ") + name.split(' ').front().toStdString());
        }
    }

    void largerProgrammes() {
        for (const auto& one : reference()["many"]) {
            const auto n = one["n"].get<Eigen::Index>();
            const auto k = one["k"].get<Eigen::Index>();
            const bool ties = one["ties"].get<bool>();
            Numbers numbers(one["seed"].get<std::uint64_t>());
            Eigen::MatrixXd X = Eigen::MatrixXd::Ones(n, k);
            for (Eigen::Index i = 0; i < n; ++i) {
                for (Eigen::Index j = 1; j < k; ++j) {
                    const double v = numbers.four();
                    X(i, j) = ties ? oneDecimal(v) : v;
                }
            }
            Eigen::VectorXd y(n);
            Eigen::VectorXd w;
            if (ties) {
                w.resize(n);
            }
            for (Eigen::Index i = 0; i < n; ++i) {
                y(i) = X.row(i).sum() + numbers.four() * (1.0 + std::abs(X(i, 1)));
                if (ties) {
                    y(i) = oneDecimal(y(i));
                    w(i) = 0.5 + numbers.next();
                }
            }
            const auto found = solveQuantile(X, y, w, one["tau"].get<double>(), Job());
            QVERIFY(found.has_value());
            AGREE("objective", found->objective, one["objective"].get<double>(), 1e-10);
            // A vertex: as many rows on the plane as there are columns.
            QCOMPARE(found->basis.size(), static_cast<std::size_t>(k));
            for (const Eigen::Index row : found->basis) {
                QCOMPARE(found->residuals(row), 0.0);
            }
            if (!found->manifold) {
                for (Eigen::Index j = 0; j < k; ++j) {
                    AGREE("b", found->coefficients(j),
                          one["b"][static_cast<std::size_t>(j)].get<double>(), 1e-7);
                }
            }
        }
    }

    void foretellingChangesNothing() {
        // Beyond 20,000 rows most rows are taken together: the vertex is still that of all.
        constexpr Eigen::Index kRows = 30000;
        Numbers numbers(11);
        Eigen::MatrixXd X = Eigen::MatrixXd::Ones(kRows, 3);
        Eigen::VectorXd y(kRows);
        for (Eigen::Index i = 0; i < kRows; ++i) {
            X(i, 1) = numbers.four();
            X(i, 2) = numbers.four();
            y(i) = X.row(i).sum() + numbers.four() * (1.0 + std::abs(X(i, 1)));
        }
        for (const double tau : {0.03, 0.5, 0.75}) {
            const auto found = solveQuantile(X, y, {}, tau, Job());
            QVERIFY(found.has_value());
            // Multipliers within their bounds say that no other line is better.
            Eigen::VectorXd psi(kRows);
            std::vector<bool> basis(kRows, false);
            for (const Eigen::Index row : found->basis) {
                basis[static_cast<std::size_t>(row)] = true;
            }
            for (Eigen::Index i = 0; i < kRows; ++i) {
                psi(i) = basis[static_cast<std::size_t>(i)] ? 0.0
                         : found->residuals(i) < 0.0        ? tau - 1.0
                                                            : tau;
            }
            const Eigen::MatrixXd own = X(found->basis, Eigen::all);
            const Eigen::VectorXd multipliers =
                -own.transpose().fullPivLu().solve(X.transpose() * psi);
            for (Eigen::Index j = 0; j < 3; ++j) {
                QVERIFY(multipliers(j) <= tau + 1e-8 && multipliers(j) >= tau - 1.0 - 1e-8);
            }
        }
    }

    void severalPointsTogether() {
        Question q = asked("quantile", "kernel", false);
        q.settings.at = {0.1, 0.5, 0.8};
        q.predict = {PredictRequest{{{"x", 1.0}}, ""}};
        const Answer a = answer(quantileTable("clean"), q);
        QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
        QCOMPARE(a.fit->coefficients.size(), 9U);
        for (std::size_t t = 0; t < 3; ++t) {
            Question alone = asked("quantile", "kernel", false);
            alone.settings.at = {q.settings.at[t]};
            const Answer b = answer(quantileTable("clean"), alone);
            for (std::size_t j = 0; j < 3; ++j) {
                AGREE("b", a.fit->coefficients[3 * t + j].estimate, b.fit->coefficients[j].estimate,
                      1e-12);
                AGREE("se", a.fit->coefficients[3 * t + j].se, b.fit->coefficients[j].se, 1e-10);
            }
        }
        QVERIFY(a.fit->quantile->equal.has_value());
        QCOMPARE(a.fit->quantile->equal->df1, 4.0);
        const QuantileFit::Process& process = a.fit->quantile->process;
        QCOMPARE(process.at.size(), 19U);
        QVERIFY(process.low(9, 1) < process.b(9, 1) && process.b(9, 1) < process.high(9, 1));
        // Predictions at every point, in order.
        QVERIFY(a.predictions.has_value());
        const auto& shares = a.predictions->front().shares;
        QCOMPARE(shares.size(), 3U);
        QVERIFY(shares[0].second.value < shares[1].second.value &&
                shares[1].second.value < shares[2].second.value);
        q.settings.at = {1.5};
        QVERIFY(answer(quantileTable("clean"), q).refusal);
        // With effects held fixed the place of a quantile is told by the spread (joined_test).
        q.settings.at = {0.5};
        q.fixedEffects = {"c"};
        const Answer held = answer(quantileTable("clean"), q);
        QVERIFY2(!held.refusal, held.refusal ? held.refusal->text().c_str() : "");
        QVERIFY(std::any_of(held.fit->notes.begin(), held.fit->notes.end(),
                            [](const std::string& note) {
                                return note.find("one for the spread") != std::string::npos;
                            }));
    }

    void heldDown_data() {
        QTest::addColumn<QString>("kind");
        QTest::addColumn<QString>("name");
        for (const auto& [kind, one] : reference()["robust"].items()) {
            for (const auto& [name, values] : one["cases"].items()) {
                QTest::addRow("%s %s", kind.c_str(), name.c_str())
                    << QString::fromStdString(kind) << QString::fromStdString(name);
            }
        }
    }

    void heldDown() {
        QFETCH(QString, kind);
        QFETCH(QString, name);
        const auto& expected =
            reference()["robust"][kind.toStdString()]["cases"][name.toStdString()];
        for (const std::string errors : {"classical", "HC1"}) {
            const Question q =
                asked(name.split(' ').front().toStdString(), errors, name.contains("weighted"));
            const Answer a = answer(quantileTable(kind.toStdString()), q);
            QVERIFY2(!a.refusal, a.refusal ? a.refusal->text().c_str() : "");
            AGREE("scale", a.fit->robust->scale, expected["scale"].get<double>(), 1e-8);
            for (std::size_t j = 0; j < 3; ++j) {
                AGREE("b", a.fit->coefficients[j].estimate, expected["b"][j].get<double>(), 1e-8);
                AGREE(errors, a.fit->coefficients[j].se, expected[errors][j].get<double>(), 1e-6);
            }
            for (std::size_t i = 0; i < expected["weights"].size(); ++i) {
                QVERIFY(std::abs(a.fit->robust->weights(static_cast<Eigen::Index>(i)) -
                                 expected["weights"][i].get<double>()) < 1e-7);
            }
        }
    }

    void oddRowsDoNotCarryThemAway() {
        // One row in eight is far off: least squares leans, the bisquare stays at .8 and −.5.
        const Answer least =
            answer(quantileTable("odd"), asked("least-squares", "classical", false));
        const Answer mm = answer(quantileTable("odd"), asked("mm", "classical", false));
        QVERIFY(std::abs(mm.fit->coefficients[1].estimate - 0.8) <
                std::abs(least.fit->coefficients[1].estimate - 0.8));
        QVERIFY(std::abs(mm.fit->coefficients[1].estimate - 0.8) <
                4.0 * mm.fit->coefficients[1].se);
        QVERIFY(mm.fit->robust->out >= 15U);
        AGREE("constant", bisquareConstant(0.95), 4.685064948543, 1e-10);
        AGREE("constant .85", bisquareConstant(0.85), 3.443689, 1e-5);
        // Most rows on one plane: said in words.
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 30; ++i) {
            x.push_back(i);
            y.push_back(i % 7 == 0 ? 5.0 * i : 2.0 * i + 1.0);
        }
        Question q = explain("y", {"x"});
        q.method = "mm";
        QVERIFY(answer(tableOf({{"x", x}, {"y", y}}), q).refusal->text().find("one plane") !=
                std::string::npos);
    }

    void unitsChangeNothing() {
        for (const char* method : {"quantile", "huber", "mm"}) {
            const Answer a = answer(quantileTable("odd"), asked(method, "classical", false));
            Question q = asked(method, "classical", false);
            q.outcome = "1000 * y - 7";
            q.terms[0] = Term::expression("x / 64");
            const Answer b = answer(quantileTable("odd"), q);
            AGREE(method, b.fit->coefficients[1].estimate,
                  64000.0 * a.fit->coefficients[1].estimate, 1e-8);
            AGREE(std::string(method) + " se", b.fit->coefficients[1].se,
                  64000.0 * a.fit->coefficients[1].se, 1e-6);
        }
    }
};

QTEST_APPLESS_MAIN(RobustTest)
#include "robust_test.moc"
