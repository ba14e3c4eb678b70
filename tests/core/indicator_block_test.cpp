// Groupings of many levels as terms: what is solved by means within groups says what the same
// columns say when they are solved as any others. Twice an indicator is none: the second route.
#include "core/numerics/indicator_block.h"

#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/sparse_factor.h"
#include "core/study/results.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <random>

using namespace rapporto;
using namespace rapporto::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr Index kRows = 900;
constexpr Index kGroups = 130;  // With a base without a column.

/// A constant, two numbers far from zero, an indicator that halves the rows, and those of groups.
struct Rows {
    MatrixXd X = MatrixXd::Zero(kRows, kGroups + 3);
    VectorXd y{kRows};
    VectorXd weights;
    std::vector<std::int32_t> group;
};

Rows rowsOf(unsigned seed, bool weighted) {
    std::mt19937_64 random(seed);
    std::normal_distribution<double> normal;
    Rows out;
    out.weights.resize(weighted ? kRows : 0);
    for (Index i = 0; i < kRows; ++i) {
        const auto g = static_cast<std::int32_t>(i < kGroups ? i : random() % kGroups);
        out.group.push_back(g);
        out.X(i, 0) = 1.0;
        out.X(i, 1) = 1000.0 + normal(random);
        out.X(i, 2) = 0.01 * g + normal(random);
        out.X(i, 3) = random() % 2 == 0 ? 1.0 : 0.0;
        if (g > 0) {
            out.X(i, 3 + g) = 1.0;
        }
        out.y(i) = 5.0 + 0.5 * out.X(i, 1) - out.X(i, 2) + 0.1 * g + normal(random);
        if (weighted) {
            out.weights(i) = 0.5 + static_cast<double>(random() % 4);
        }
    }
    return out;
}

/// The same columns, those of groups twice.
MatrixXd doubled(const MatrixXd& X) {
    MatrixXd out = X;
    out.rightCols(kGroups - 1) *= 2.0;
    return out;
}

/// What a matrix over the columns is when those of groups are halved again.
MatrixXd halved(MatrixXd V, double by) {
    V.rightCols(kGroups - 1) *= by;
    V.bottomRows(kGroups - 1) *= by;
    return V;
}

void agree(const char* what, const MatrixXd& found, const MatrixXd& expected, double tolerance) {
    QCOMPARE(found.rows(), expected.rows());
    QCOMPARE(found.cols(), expected.cols());
    const double most = (found - expected).cwiseAbs().maxCoeff();
    const double size = expected.cwiseAbs().maxCoeff();
    QVERIFY2(most <= tolerance * size, told(what, most, tolerance * size).constData());
}

}  // namespace

class IndicatorBlockTest : public QObject {
    Q_OBJECT

  private slots:

    void groupsAreFoundAmongTheColumns() {
        const Rows rows = rowsOf(1, false);
        const auto block = indicatorBlock(rows.X);
        QVERIFY(block.has_value());
        // The indicator that halves the rows crosses the groups: it is none of them.
        QCOMPARE(block->others, (std::vector<Index>{0, 1, 2, 3}));
        QCOMPARE(static_cast<Index>(block->columns.size()), kGroups - 1);
        for (Index i = 0; i < kRows; ++i) {
            QCOMPARE(block->of[static_cast<std::size_t>(i)],
                     rows.group[static_cast<std::size_t>(i)] - 1);
        }
        QVERIFY(!indicatorBlock(doubled(rows.X)));
        QVERIFY(!indicatorBlock(MatrixXd(rows.X.leftCols(90))));
    }

    void theSolutionIsThatOfAnyColumns_data() {
        QTest::addColumn<bool>("weighted");
        QTest::newRow("plain") << false;
        QTest::newRow("weighted") << true;
    }

    void theSolutionIsThatOfAnyColumns() {
        QFETCH(bool, weighted);
        const Rows rows = rowsOf(2, weighted);
        const MatrixXd other = doubled(rows.X);
        const LinearProblem grouped{rows.X, rows.y, rows.weights, true};
        const LinearProblem plain{other, rows.y, rows.weights, true};
        const WantedSums wanted{true, rows.group, kGroups};
        const auto a = solveLinear(grouped, wanted, Job());
        const auto b = solveLinear(plain, wanted, Job());
        QVERIFY(a && b);
        QCOMPARE(a->kept, b->kept);
        VectorXd twice = b->coefficients;
        twice.tail(kGroups - 1) *= 2.0;
        agree("coefficients", a->coefficients, twice, 1e-11);
        agree("residuals", a->residuals, b->residuals, 1e-10);
        AGREE("squares", a->residualSquares, b->residualSquares, 1e-12);
        const MatrixXd inverse = a->factor * a->factor.transpose();
        agree("inverse", inverse, halved(b->factor * b->factor.transpose(), 2.0), 1e-9);
        agree("leverages", leverages(grouped, *a), leverages(plain, *b), 1e-10);
        // Centred alike: a product with the centred factor is the same thing in both.
        const auto around = [](const LinearSolution& s) -> MatrixXd {
            const MatrixXd core = s.centredFactor.transpose() * s.meat * s.centredFactor;
            return s.factor * core * s.factor.transpose();
        };
        agree("meat", around(*a), halved(around(*b), 2.0), 1e-9);
        const auto scored = [](const LinearSolution& s) -> MatrixXd {
            return s.scores * s.centredFactor * s.factor.transpose();
        };
        MatrixXd expected = scored(*b);
        expected.rightCols(kGroups - 1) *= 2.0;
        agree("scores", scored(*a), expected, 1e-9);
    }

    void groupsAreMeansOfWhatTheOthersLeave() {
        const Rows rows = rowsOf(3, false);
        const auto s = solveLinear({rows.X, rows.y, rows.weights, true}, false, Job());
        QVERIFY(s.has_value());
        VectorXd sums = VectorXd::Zero(kGroups);
        VectorXd counts = VectorXd::Zero(kGroups);
        for (Index i = 0; i < kRows; ++i) {
            const auto g = static_cast<Index>(rows.group[static_cast<std::size_t>(i)]);
            sums(g) += rows.y(i) - rows.X.row(i).segment(1, 3).dot(s->coefficients.segment(1, 3));
            counts(g) += 1.0;
        }
        const VectorXd means = sums.cwiseQuotient(counts);
        AGREE("base", s->coefficients(0), means(0), 1e-9);
        for (Index g = 1; g < kGroups; ++g) {
            AGREE("group", s->coefficients(3 + g), means(g) - means(0), 1e-8);
        }
    }

    /// What groups tell wholly comes first and stays; the group that is told by it goes.
    void aColumnThatGroupsTellIsKeptAsBefore() {
        Rows rows = rowsOf(4, false);
        for (Index i = 0; i < kRows; ++i) {
            rows.X(i, 2) = 0.01 * rows.group[static_cast<std::size_t>(i)];
        }
        const MatrixXd other = doubled(rows.X);
        const auto a = solveLinear({rows.X, rows.y, rows.weights, true}, false, Job());
        const auto b = solveLinear({other, rows.y, rows.weights, true}, false, Job());
        QVERIFY(a && b);
        QCOMPARE(a->kept, b->kept);
        QCOMPARE(a->redundant.size(), std::size_t{1});
        QCOMPARE(a->redundant.front().column, kGroups + 2);
        AGREE("squares", a->residualSquares, b->residualSquares, 1e-10);
    }

    void aCombinationOfManyColumnsIsToldInOneLine() {
        std::vector<DesignColumn> columns(301);
        RedundantColumn told;
        told.column = 300;
        for (Index j = 0; j < 300; ++j) {
            columns[static_cast<std::size_t>(j)].name = "village=" + std::to_string(j);
            told.of.push_back(j);
            told.by.push_back(j == 0 ? 1.0 : -0.5);
        }
        QCOMPARE(QString::fromStdString(combinationText(columns, told)),
                 QString("is village=0 − 0.5 village=1 − 0.5 village=2 − 0.5 village=3, with 296 "
                         "columns more"));
        told.of.resize(8);
        told.by.resize(8);
        QVERIFY(combinationText(columns, told).ends_with("− 0.5 village=7"));
    }

    void theOrderOfTheRowsDecidesNothing() {
        const Rows rows = rowsOf(5, true);
        Eigen::PermutationMatrix<Eigen::Dynamic> turn(kRows);
        turn.setIdentity();
        std::mt19937_64 random(7);
        std::shuffle(turn.indices().begin(), turn.indices().end(), random);
        const MatrixXd X = turn * rows.X;
        const VectorXd y = turn * rows.y;
        const VectorXd w = turn * rows.weights;
        const auto a = solveLinear({rows.X, rows.y, rows.weights, true}, false, Job());
        const auto b = solveLinear({X, y, w, true}, false, Job());
        QVERIFY(a && b);
        agree("coefficients", a->coefficients, b->coefficients, 1e-12);
        agree("residuals", turn * a->residuals, b->residuals, 1e-11);
    }

    /// Of some of the rows groups are empty, or the base is; the rank says so.
    void aRemainderCountsTheColumnsThatSayMore() {
        const Rows rows = rowsOf(6, false);
        const VectorXd none;
        for (const bool base : {true, false}) {
            std::vector<Index> some;
            for (Index i = 0; i < kRows; ++i) {
                const auto g = rows.group[static_cast<std::size_t>(i)];
                if ((g > 0 || base) && g % 9 != 4) {
                    some.push_back(i);
                }
            }
            const MatrixXd X = rows.X(some, Eigen::all);
            const MatrixXd other = doubled(rows.X)(some, Eigen::all);
            const VectorXd y = rows.y(some);
            const auto a = remainderOf({X, y, none, true}, Job());
            const auto b = solveLinear({other, y, none, true}, false, Job());
            QVERIFY(a && b);
            QCOMPARE(a->columns, static_cast<double>(b->kept.size()));
            AGREE("squares", a->squares, b->residualSquares, 1e-10);
        }
    }

    /// Whether double arithmetic is enough or not, the length is that of the solution’s residuals.
    void aRemainderIsThatOfTheSolution_data() {
        QTest::addColumn<double>("beside");  // How far the third column lies from the second.
        QTest::addColumn<double>("noise");
        QTest::addColumn<bool>("weighted");
        QTest::addColumn<bool>("constant");
        QTest::newRow("plain") << 1.0 << 1.0 << false << true;
        QTest::newRow("weighted") << 1.0 << 1.0 << true << true;
        QTest::newRow("without a constant") << 1.0 << 1.0 << false << false;
        QTest::newRow("one column twice") << 0.0 << 1.0 << false << true;
        QTest::newRow("nearly twice") << 1e-8 << 1.0 << false << true;
        QTest::newRow("twice but for the last digits") << 1e-12 << 1.0 << false << true;
        QTest::newRow("nearly exact") << 1.0 << 1e-8 << false << true;
    }

    void aRemainderIsThatOfTheSolution() {
        QFETCH(double, beside);
        QFETCH(double, noise);
        QFETCH(bool, weighted);
        QFETCH(bool, constant);
        std::mt19937_64 random(12);
        std::normal_distribution<double> normal;
        constexpr Index n = 700;  // Beyond what is solved in wide arithmetic at any rate.
        MatrixXd X(n, 8);
        VectorXd y(n);
        VectorXd w(weighted ? n : 0);
        for (Index i = 0; i < n; ++i) {
            for (Index j = 0; j < X.cols(); ++j) {
                X(i, j) = 30.0 + normal(random);
            }
            X(i, 0) = constant ? 1.0 : X(i, 0);
            X(i, 2) = X(i, 1) + beside * normal(random);
            y(i) = 2.0 + X(i, 3) - 0.5 * X(i, 4) + noise * normal(random);
            if (weighted) {
                w(i) = 0.5 + static_cast<double>(i % 3);
            }
        }
        const auto a = remainderOf({X, y, w, constant}, Job());
        const auto b = solveLinear({X, y, w, constant}, false, Job());
        QVERIFY(a && b);
        QCOMPARE(a->columns, static_cast<double>(b->kept.size()));
        QVERIFY(near(a->squares, b->residualSquares, 1e-10));
    }

    void aSparseFactorIsAFactor() {
        std::mt19937_64 random(8);
        std::normal_distribution<double> normal;
        const auto filled = [&](Index rows, Index columns) {
            return MatrixXd(MatrixXd::NullaryExpr(rows, columns, [&] { return normal(random); }));
        };
        for (const Index k : {40, 260}) {
            MatrixXd F = MatrixXd(VectorXd(filled(k, 1)).asDiagonal());
            F.leftCols(3) = filled(k, 3);
            const MatrixXd M = filled(k, k);
            const MatrixXd A = filled(7, k);
            const SparseFactor factor(F);
            agree("square", factor.square(), F * F.transpose(), 1e-14);
            agree("around", factor.around(M), F * M * F.transpose(), 1e-13);
            agree("within", factor.within(M), F.transpose() * M * F, 1e-13);
            agree("after", factor.after(A), A * F, 1e-14);
            agree("turned", factor.turnedAfter(A), A * F.transpose(), 1e-14);
        }
    }

    /// A question, with its checks: a grouping among the terms against twice its indicators.
    void aQuestionSaysTheSameEitherWay() {
        const Rows rows = rowsOf(9, false);
        std::vector<std::pair<std::string, std::vector<double>>> columns = {
            {"y", {}}, {"x", {}}, {"z", {}}, {"village", {}}};
        std::vector<std::string> terms = {"x", "z"};
        for (Index i = 0; i < kRows; ++i) {
            columns[0].second.push_back(rows.y(i));
            columns[1].second.push_back(rows.X(i, 1));
            columns[2].second.push_back(rows.X(i, 2));
            columns[3].second.push_back(rows.group[static_cast<std::size_t>(i)]);
        }
        for (Index g = 1; g < kGroups; ++g) {
            const VectorXd one = 2.0 * rows.X.col(3 + g);
            columns.emplace_back("d" + std::to_string(g),
                                 std::vector<double>(one.begin(), one.end()));
            terms.push_back("d" + std::to_string(g));
        }
        Table table = tableOf(columns);
        for (Variable& v : table.variables) {
            v.measure = v.name == "village" ? Measure::Groups : v.measure;
        }
        Question q = explain("y", {"x", "z", "village"});
        q.errors.kind = "robust";
        q.errors.type = "HC3";
        q.allChecks = true;
        Question other = explain("y", terms);
        other.errors = q.errors;
        other.allChecks = true;
        const Answer a = answer(table, q);
        const Answer b = answer(table, other);
        QVERIFY(a.fit && b.fit);
        QCOMPARE(a.fit->coefficients.size(), static_cast<std::size_t>(kGroups + 2));
        for (const char* name : {"(constant)", "x", "z"}) {
            AGREE(name, coefficient(a, name)->estimate, coefficient(b, name)->estimate, 1e-9);
            AGREE(name, coefficient(a, name)->se, coefficient(b, name)->se, 1e-9);
        }
        AGREE("F", a.fit->statistics.f->value, b.fit->statistics.f->value, 1e-9);
        AGREE("d", coefficient(a, "village=17")->estimate, 2.0 * coefficient(b, "d17")->estimate,
              1e-9);
        AGREE("d", coefficient(a, "village=17")->se, 2.0 * coefficient(b, "d17")->se, 1e-9);
        for (const char* id : {"reset", "link", "rainbow", "breusch-pagan", "white", "harvey",
                               "glejser", "goldfeld-quandt", "dffits", "jarque-bera"}) {
            AGREE(id, check(a, id).statistic.value(), check(b, id).statistic.value(), 1e-8);
        }
        AGREE("overlap of x", detail(check(a, "vif"), "vif x"), detail(check(b, "vif"), "vif x"),
              1e-9);
        // A level of seven rows is moved by each of them: that is no news.
        QVERIFY(check(a, "dfbetas").reading.find("130 levels of large groupings") !=
                std::string::npos);
        QCOMPARE(detail(check(a, "dfbetas"), "levels not looked at"), 130.0);
        QVERIFY(std::isnan(detail(check(a, "dfbetas"), "largest village=17")));
        AGREE("a row and x", detail(check(a, "dfbetas"), "largest x"),
              detail(check(b, "dfbetas"), "largest x"), 1e-9);
    }

    /// The inflation of one term is that of all others together: few columns are enough.
    void theInflationOfManyColumnsIsThatOfTheOthers() {
        std::mt19937_64 random(10);
        std::normal_distribution<double> normal;
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> zone;
        for (int i = 0; i < 200; ++i) {
            zone.push_back(i % 5);
            x.push_back(normal(random) + 0.5 * (i % 5));
            y.push_back(x.back() + normal(random));
        }
        Table table = tableOf({{"y", y}, {"x", x}, {"zone", zone}});
        table.variables[2].measure = Measure::Groups;
        const Answer a = answer(table, explain("y", {"x", "zone"}));
        // 1/(1 − R²) of x on the groups.
        double total = 0.0;
        double within = 0.0;
        const double mean = std::accumulate(x.begin(), x.end(), 0.0) / 200.0;
        for (int g = 0; g < 5; ++g) {
            double sum = 0.0;
            for (std::size_t i = static_cast<std::size_t>(g); i < 200; i += 5) {
                sum += x[i];
            }
            for (std::size_t i = static_cast<std::size_t>(g); i < 200; i += 5) {
                within += std::pow(x[i] - sum / 40.0, 2);
                total += std::pow(x[i] - mean, 2);
            }
        }
        AGREE("of the groups", detail(check(a, "vif"), "gvif zone"), total / within, 1e-11);
        AGREE("of x", detail(check(a, "vif"), "vif x"), total / within, 1e-11);
    }

    /// A column for each pair of a thousand groups by a thousand is more than any machine has.
    void columnsThatDoNotFitAreRefusedWithWhatWould() {
        std::vector<double> y;
        std::vector<double> village;
        std::vector<double> zone;
        for (int i = 0; i < 40000; ++i) {
            y.push_back(i % 7 + 0.1 * (i % 11));
            village.push_back(i % 2000);
            zone.push_back(i % 1999);
        }
        Table table = tableOf({{"y", y}, {"village", village}, {"zone", zone}});
        table.variables[1].measure = Measure::Groups;
        table.variables[2].measure = Measure::Groups;
        Question q = explain("y", {});
        q.terms.push_back({Term::Kind::Product, {"village", "zone"}, false});
        const Answer a = answer(table, q);
        QVERIFY(a.refusal.has_value());
        QCOMPARE(a.refusal->code, ErrorCode::TooLarge);
        QVERIFY(a.refusal->what.find("‘village × zone’") != std::string::npos);
        QVERIFY(a.refusal->help.find("Hold it fixed") != std::string::npos);
        for (std::size_t i = 0; i < village.size(); ++i) {
            village[i] = static_cast<double>(i % 2001);
        }
        Table more = tableOf({{"y", y}, {"village", village}});
        more.variables[1].measure = Measure::Groups;
        const Answer b = answer(more, explain("y", {"village"}));
        QVERIFY(b.refusal.has_value());
        QVERIFY(b.refusal->what.find(countText(2001) + " levels") != std::string::npos);
        QVERIFY(b.refusal->help.find("Hold it fixed") != std::string::npos);
    }

    /// A table of a million numbers and more is nobody’s to read.
    void aLargeCovarianceIsLeftOutOfTheResults() {
        std::mt19937_64 random(11);
        std::normal_distribution<double> normal;
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> village;
        for (int i = 0; i < 3300; ++i) {
            village.push_back(i % 1100);
            x.push_back(normal(random));
            y.push_back(x.back() + 0.001 * (i % 1100) + normal(random));
        }
        Table table = tableOf({{"y", y}, {"x", x}, {"village", village}});
        table.variables[2].measure = Measure::Groups;
        Question q = explain("y", {"x", "village"});
        q.allChecks = false;
        Question held = explain("y", {"x"});
        held.allChecks = false;
        held.fixedEffects = {"village"};
        const Answer a = answer(table, q);
        const Answer b = answer(table, held);
        QVERIFY(a.fit && b.fit);
        AGREE("x", coefficient(a, "x")->estimate, coefficient(b, "x")->estimate, 1e-12);
        AGREE("x", coefficient(a, "x")->se, coefficient(b, "x")->se, 1e-12);
        nlohmann::ordered_json one;
        explainResults(one, a);
        QVERIFY(one["covariance"].is_null());
        QCOMPARE(one["coefficients"].size(), std::size_t{1101});
        explainResults(one, b);
        QCOMPARE(one["covariance"].size(), std::size_t{2});
    }
};

QTEST_APPLESS_MAIN(IndicatorBlockTest)
#include "indicator_block_test.moc"
