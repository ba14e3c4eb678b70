#include "core/base/parallel.h"
#include "core/numerics/gram_schmidt.h"
#include "core/numerics/random.h"
#include "core/numerics/square_sums.h"
#include "core/report/wording.h"
#include "tests/core/fixtures.h"

#include <QDir>
#include <QTest>

#include <algorithm>

using namespace rapporto;
using namespace rapporto::test;

class LeastSquaresTest : public QObject {
    Q_OBJECT

    nlohmann::json reference_ = readJson("tests/reference/reference.json");

    static double digits(double x, double reference) {
        const double error =
            reference == 0.0 ? std::abs(x) : std::abs(x - reference) / std::abs(reference);
        return error == 0.0 ? 16.0 : -std::log10(error);
    }

    static Answer fitted(const Table& table, const Question& q,
                         const std::vector<VariableEntry>& entries = {}) {
        Answer a = answer(table, q, {}, entries);
        if (a.refusal) {
            qFatal("%s", a.refusal->text().c_str());
        }
        return a;
    }

    void compareErrors(const Question& q, const char* key, double tolerance) {
        const Answer a = fitted(referenceTable(reference_), q, referenceEntries());
        const auto& expected = reference_.at(key);
        for (std::size_t j = 0; j < a.fit->coefficients.size(); ++j) {
            QVERIFY2(near(a.fit->coefficients[j].se, number(expected[j]), tolerance),
                     qPrintable(QString("%1 %2: %3 not %4")
                                    .arg(key)
                                    .arg(j)
                                    .arg(a.fit->coefficients[j].se, 0, 'g', 17)
                                    .arg(number(expected[j]), 0, 'g', 17)));
        }
    }

  private slots:

    void certifiedDataSetsToNineDigits_data() {
        QTest::addColumn<QString>("file");
        for (const QString& name :
             QDir(RAPPORTO_SOURCE_DIR "/tests/reference/certified").entryList({"*.json"})) {
            if (readJson("tests/reference/certified/" + name.toStdString()).at("kind") ==
                "linear") {
                QTest::newRow(qPrintable(name)) << name;
            }
        }
    }

    void certifiedDataSetsToNineDigits() {
        QFETCH(QString, file);
        const auto d = readJson("tests/reference/certified/" + file.toStdString());
        Question q = explain(d["model"]["outcome"], {});
        for (const auto& term : d["model"]["terms"]) {
            q.terms.push_back(Term::expression(
                term.is_string() ? term.get<std::string>()
                : term == 1      ? "x"
                                 : "power(x, " + std::to_string(term.get<int>()) + ")"));
        }
        q.intercept = d["model"]["intercept"];
        const Answer a = fitted(tableOf({{"x", d["columns"]["x"].get<std::vector<double>>()},
                                         {"y", d["columns"]["y"].get<std::vector<double>>()}}),
                                q);
        QCOMPARE(a.fit->coefficients.size(), d["coefficients"].size());
        for (std::size_t j = 0; j < a.fit->coefficients.size(); ++j) {
            const double estimate =
                digits(a.fit->coefficients[j].estimate, number(d["coefficients"][j]["estimate"]));
            const double se = digits(a.fit->coefficients[j].se, number(d["coefficients"][j]["se"]));
            QVERIFY2(estimate >= 9.0 && se >= 9.0,
                     qPrintable(QString("%1: %2 and %3 digits").arg(j).arg(estimate).arg(se)));
        }
        QVERIFY(digits(a.fit->statistics.sigma, number(d["residual_sd"])) >= 9.0);
        QVERIFY(digits(*a.fit->statistics.rSquared, number(d["r_squared"])) >= 9.0);
    }

    void oneWayAnalysisAgreesWithTheCertified() {
        const auto d = readJson("tests/reference/certified/SiRstv.json");
        VariableEntry groups;
        groups.name = "treatment";
        groups.measure = Measure::Groups;
        const Answer a =
            fitted(tableOf({{"treatment", d["columns"]["treatment"].get<std::vector<double>>()},
                            {"y", d["columns"]["y"].get<std::vector<double>>()}}),
                   explain("y", {"treatment"}), {groups});
        QVERIFY(near(a.fit->varianceSplit[0].ss, number(d["between_ss"]), 1e-11));
        QVERIFY(near(a.fit->varianceSplit[1].ss, number(d["within_ss"]), 1e-11));
        QVERIFY(near(*a.fit->varianceSplit[0].f, number(d["f"]), 1e-11));
    }

    void estimatesAndErrorsAgreeWithFiftyDigits() {
        Question q = explain("y", {"a", "b", "g"});
        const Answer a = fitted(referenceTable(reference_), q, referenceEntries());
        for (std::size_t j = 0; j < a.fit->coefficients.size(); ++j) {
            QVERIFY(near(a.fit->coefficients[j].estimate, number(reference_["beta"][j]), 1e-12));
        }
        compareErrors(q, "classical", 1e-12);
        q.errors.kind = "robust";
        for (const char* type : {"HC0", "HC1", "HC2", "HC3", "HC4"}) {
            q.errors.type = type;
            compareErrors(q, type, 1e-11);
        }
        q.errors = {"clustered", "HC1", {"c1"}};
        compareErrors(q, "clustered", 1e-11);
        QCOMPARE(*fitted(referenceTable(reference_), q, referenceEntries()).fit->coefficients[0].df,
                 9.0);
        q.errors.by = {"c1", "c2"};
        compareErrors(q, "two_way", 1e-11);
        QCOMPARE(*fitted(referenceTable(reference_), q, referenceEntries()).fit->coefficients[0].df,
                 7.0);
    }

    void weightsAgreeWithFiftyDigits() {
        Question q = explain("y", {"a", "b", "g"});
        q.weight = "w";
        q.weightKind = WeightKind::Precision;
        compareErrors(q, "precision_classical", 1e-12);
        q.errors = {"robust", "HC1", {}};
        compareErrors(q, "precision_HC1", 1e-11);
        q.weightKind = WeightKind::Sampling;  // The sandwich does not see the weights' scale.
        compareErrors(q, "precision_HC1", 1e-11);
        q.weightKind = WeightKind::Frequency;
        q.errors = {};
        compareErrors(q, "frequency_classical", 1e-12);
        q.errors = {"robust", "HC3", {}};
        compareErrors(q, "frequency_HC3", 1e-11);
    }

    void frequencyWeightsEqualRepeatedRows() {
        const Table once =
            tableOf({{"y", {1, 3, 2, 6, 4}}, {"x", {1, 2, 3, 4, 5}}, {"w", {2, 1, 3, 1, 2}}});
        const Table repeated =
            tableOf({{"y", {1, 1, 3, 2, 2, 2, 6, 4, 4}}, {"x", {1, 1, 2, 3, 3, 3, 4, 5, 5}}});
        Question weighted = explain("y", {"x"});
        weighted.weightKind = WeightKind::Frequency;
        weighted.weight = "w";
        for (const char* type : {"HC0", "HC2", "HC3", "HC4"}) {
            weighted.errors = {"robust", type, {}};
            Question plain = explain("y", {"x"});
            plain.errors = weighted.errors;
            const Answer a = fitted(once, weighted);
            const Answer b = fitted(repeated, plain);
            QVERIFY(near(a.fit->coefficients[1].estimate, b.fit->coefficients[1].estimate, 1e-13));
            QVERIFY(near(a.fit->coefficients[1].se, b.fit->coefficients[1].se, 1e-12));
            QVERIFY(
                near(*a.fit->statistics.logLikelihood, *b.fit->statistics.logLikelihood, 1e-12));
        }
    }

    void reproducesAnExactRationalLine() {
        // By hand: b = (23/10, 17/20), RSS = 27/200, s² = 27/400, Var(b₁) = 27/2000.
        const Answer a = fitted(tableOf({{"x", {0, 1, 2, 3}}, {"y", {2.5, 2.9, 3.9, 5.0}}}),
                                explain("y", {"x"}));
        QVERIFY(near(a.fit->coefficients[0].estimate, 2.3, 1e-14));
        QVERIFY(near(a.fit->coefficients[1].estimate, 0.85, 1e-14));
        QVERIFY(near(a.fit->statistics.rss, 0.135, 1e-13));
        QVERIFY(near(a.fit->covariance(1, 1), 0.0135, 1e-13));
        QVERIFY(near(a.fit->covariance(0, 0), 0.04725, 1e-13));
    }

    void changeOfUnitRescalesBitForBit() {
        const auto slope = [](double unit) {
            std::vector<double> x;
            std::vector<double> y;
            for (int i = 0; i < 30; ++i) {
                x.push_back(unit * ((i * 7) % 11));
                y.push_back((i * 5) % 13 + 0.3 * i);
            }
            return fitted(tableOf({{"x", x}, {"y", y}}), explain("y", {"x"})).fit->coefficients[1];
        };
        const Coefficient one = slope(1.0);
        const Coefficient scaled = slope(std::ldexp(1.0, 200));
        QCOMPARE(scaled.estimate, std::ldexp(one.estimate, -200));
        QCOMPARE(scaled.se, std::ldexp(one.se, -200));
    }

    void orderOfRowsDoesNotMatter() {
        const Table table = referenceTable(reference_);
        Table reversed;
        for (std::size_t j = 0; j < table.columns.size(); ++j) {
            std::vector<double> cells(table.columns[j].numbers().begin(),
                                      table.columns[j].numbers().end());
            std::reverse(cells.begin(), cells.end());
            reversed.columns.push_back(Column::ofNumbers(table.columns[j].name(), cells));
        }
        reversed.variables = table.variables;
        Question q = explain("y", {"a", "b", "g"});
        q.errors = {"clustered", "HC1", {"c1"}};
        const Answer a = fitted(table, q, referenceEntries());
        const Answer b = fitted(reversed, q, referenceEntries());
        for (std::size_t j = 0; j < a.fit->coefficients.size(); ++j) {
            QVERIFY(near(a.fit->coefficients[j].estimate, b.fit->coefficients[j].estimate, 1e-12));
            QVERIFY(near(a.fit->coefficients[j].se, b.fit->coefficients[j].se, 1e-12));
        }
    }

    void threadsDoNotChangeABit() {
        Eigen::MatrixXd X(200000, 6);
        Eigen::VectorXd y(X.rows());
        std::vector<std::int32_t> groups;
        for (Eigen::Index i = 0; i < X.rows(); ++i) {
            X(i, 0) = 1.0;
            for (Eigen::Index j = 1; j < 6; ++j) {
                X(i, j) = std::sin(0.7 * static_cast<double>(i) * static_cast<double>(j) + 0.1);
            }
            y(i) = 0.5 * X(i, 1) - X(i, 2) + std::cos(1.3 * static_cast<double>(i));
            groups.push_back(static_cast<std::int32_t>(i % 977));
        }
        const Eigen::VectorXd none;
        const LinearProblem problem{X, y, none, true};
        std::vector<LinearSolution> solutions;
        std::vector<Eigen::MatrixXd> scores;
        for (const std::size_t threads : {1U, 2U}) {
            setThreads(threads);
            solutions.push_back(*solveLinear(problem, true, Job()));
            scores.push_back(
                groupedScores(problem, solutions.back(), solutions.back().residuals, groups, 977));
        }
        setThreads(0);
        QVERIFY(solutions[0].coefficients == solutions[1].coefficients);
        QVERIFY(solutions[0].meat == solutions[1].meat);
        QVERIFY(solutions[0].residuals == solutions[1].residuals);
        QVERIFY(scores[0] == scores[1]);
        // The large path agrees with the orthogonal one on the same rows.
        const Eigen::MatrixXd X2 = X.topRows(20000);
        const Eigen::VectorXd y2 = y.head(20000);
        const LinearProblem small{X2, y2, none, true};
        const LinearSolution s = *solveLinear(small, true, Job());
        const Eigen::VectorXd direct = X2.householderQr().solve(y2);
        QVERIFY((s.coefficients - direct).norm() <= 1e-13 * direct.norm());
    }

    void largePathSurvivesFarMeansAndFallsBackOnCollinearity() {
        const Eigen::Index n = 100000;
        Eigen::MatrixXd X(n, 6);
        Eigen::VectorXd y(n);
        for (Eigen::Index i = 0; i < n; ++i) {
            const double u = std::sin(static_cast<double>(i));
            X.row(i) << 1.0, 100.0 + u, std::cos(2.0 * static_cast<double>(i)),
                2015.0 + static_cast<double>(i % 9), u * 3.0 + 2.0,
                std::sin(5.0 * static_cast<double>(i));
            y(i) = 3.0 + 2.0 * u + 0.5 * X(i, 2);
        }
        const Eigen::VectorXd none;
        const LinearSolution s = *solveLinear({X, y, none, true}, false, Job());
        QCOMPARE(s.redundant.size(), std::size_t{1});
        QCOMPARE(s.redundant[0].column, Eigen::Index{4});
        QVERIFY(near(s.coefficients(1), 2.0, 1e-8));
        QVERIFY(near(s.coefficients(2), 0.5, 1e-9));
    }

    void namesTheRedundantTermAndWhy() {
        const Answer a = fitted(tableOf({{"y", {1, 3, 2, 5, 4, 6}},
                                         {"u", {1, 0, 1, 0, 1, 0}},
                                         {"v", {0, 1, 0, 1, 0, 1}},
                                         {"x", {1, 2, 4, 3, 6, 5}},
                                         {"s", {2, 2, 5, 3, 7, 5}}}),
                                explain("y", {"u", "v", "x", "s"}));
        QCOMPARE(a.fit->dropped.size(), std::size_t{2});
        QCOMPARE(a.fit->dropped[0].name, std::string("v"));
        QCOMPARE(a.fit->dropped[0].reason, std::string("is 1 − u"));
        QCOMPARE(a.fit->dropped[1].name, std::string("s"));
        QCOMPARE(a.fit->dropped[1].reason, std::string("is u + x"));
        QVERIFY(answerReading(a).find("v was left out: it is 1 − u.") != std::string::npos);
    }

    void groupsTakeTheirDeclaredBaseAndLabels() {
        Table t = tableOf({{"y", {1, 2, 4, 3, 5, 9}}, {"zone", {1, 1, 2, 2, 3, 3}}});
        VariableEntry zone;
        zone.name = "zone";
        zone.measure = Measure::Groups;
        zone.levels = std::vector<Level>{
            {Key(1.0), "Ridge"}, {Key(2.0), "River flat"}, {Key(3.0), "Terrace"}};
        zone.base = Key(2.0);
        const Answer a = fitted(t, explain("y", {"zone"}), {zone});
        QCOMPARE(a.fit->coefficients[1].term, std::string("zone=Ridge"));
        QVERIFY(near(a.fit->coefficients[1].estimate, -2.0, 1e-13));
        QCOMPARE(a.fit->coefficients[2].term, std::string("zone=Terrace"));
        QVERIFY(near(a.fit->coefficients[2].estimate, 3.5, 1e-13));
    }

    void productsMultiplyColumns() {
        Question q = explain("y", {"a", "b"});
        q.terms.push_back({Term::Kind::Product, {"a", "b"}, false});
        const Answer a = fitted(referenceTable(reference_), q);
        QCOMPARE(a.fit->coefficients[3].term, std::string("a × b"));
        const Answer same = fitted(referenceTable(reference_), explain("y", {"a", "b", "a * b"}));
        QCOMPARE(a.fit->coefficients[3].estimate, same.fit->coefficients[3].estimate);
        Question lone = explain("y", {"a"});
        lone.terms.push_back({Term::Kind::Product, {"a", "b"}, false});
        QVERIFY(answerReading(fitted(referenceTable(reference_), lone)).find("stands without b") !=
                std::string::npos);
    }

    void mutedTermsStayOut() {
        Question q = explain("y", {"a", "b"});
        q.terms[1].muted = true;
        QCOMPARE(fitted(referenceTable(reference_), q).fit->coefficients.size(), std::size_t{2});
    }

    void uncentredWithoutConstantAndSaysSo() {
        Question q = explain("y", {"x"});
        q.intercept = false;
        const Answer a = fitted(tableOf({{"x", {1, 2, 3}}, {"y", {2, 4.5, 5.5}}}), q);
        QVERIFY(a.fit->statistics.uncentred);
        QVERIFY(near(a.fit->statistics.tss, 4 + 20.25 + 30.25, 1e-14));
        QVERIFY(answerReading(a).find("about zero") != std::string::npos);
    }

    void countsEveryLossOfRows() {
        Table t = tableOf({{"y", {1, 2, std::nan(""), 4, 5, 6, 8}}, {"x", {1, 2, 3, 4, 6, 5, 7}}});
        Study study;
        Question q = explain("y", {"x"});
        q.where = "x < 7";
        q.without = {2};
        study.sample.setAside = {{1, "odd"}};
        const Frame frame = Frame::make(t, {}, {}, study.sample, {});
        const Answer a = answerQuestion(study, frame, q, Job());
        QCOMPARE(a.rows.source, std::size_t{7});
        QCOMPARE(a.rows.setAside, std::size_t{2});
        QCOMPARE(a.rows.byRule, std::size_t{1});
        QCOMPARE(a.rows.missing, std::size_t{1});
        QCOMPARE(a.rows.used, std::size_t{3});
        QCOMPARE(a.rows.inSample, std::size_t{4});
    }

    void refusesInWords_data() {
        QTest::addColumn<QString>("outcome");
        QTest::addColumn<QStringList>("terms");
        QTest::addColumn<int>("code");
        QTest::newRow("no outcome")
            << "" << QStringList{"x"} << static_cast<int>(ErrorCode::NoTerms);
        QTest::newRow("constant outcome")
            << "one" << QStringList{"x"} << static_cast<int>(ErrorCode::NoVariation);
        QTest::newRow("more terms than rows")
            << "y" << QStringList{"x", "power(x, 2)", "power(x, 3)"}
            << static_cast<int>(ErrorCode::TooFewRows);
        QTest::newRow("unknown name")
            << "y" << QStringList{"z"} << static_cast<int>(ErrorCode::UnknownName);
        QTest::newRow("all missing")
            << "y" << QStringList{"none"} << static_cast<int>(ErrorCode::TooFewRows);
        QTest::newRow("one level") << "y" << QStringList{"case when one = 1 then 'a' end"}
                                   << static_cast<int>(ErrorCode::NoVariation);
    }

    void refusesInWords() {
        QFETCH(QString, outcome);
        QFETCH(QStringList, terms);
        QFETCH(int, code);
        Question q = explain(outcome.toStdString(), {});
        for (const QString& t : terms) {
            q.terms.push_back(Term::expression(t.toStdString()));
        }
        const double none = std::nan("");
        const Answer a = answer(tableOf({{"y", {1, 3, 2, 5}},
                                         {"x", {1, 2, 3, 4}},
                                         {"one", {1, 1, 1, 1}},
                                         {"none", {none, none, none, none}}}),
                                q);
        QVERIFY(a.refusal.has_value());
        QCOMPARE(static_cast<int>(a.refusal->code), code);
        QVERIFY(!a.refusal->what.empty());
    }

    void perfectFitHasNoTests() {
        const Answer a =
            fitted(tableOf({{"y", {1, 2, 3, 4}}, {"x", {1, 2, 3, 4}}}), explain("y", {"x"}));
        QVERIFY(near(a.fit->coefficients[1].estimate, 1.0, 1e-15));
        QVERIFY(near(*a.fit->statistics.rSquared, 1.0, 1e-15));
    }

    void readsLogsAsPercent() {
        std::vector<double> y;
        std::vector<double> m;
        for (int i = 0; i < 40; ++i) {
            m.push_back(i % 2);
            y.push_back(std::exp(1.0 + 0.2 * (i % 2) + 0.1 * ((i * 7) % 5 - 2)));
        }
        Table t = tableOf({{"income", y}, {"member", m}});
        t.variables[1].measure = Measure::YesNo;
        const Answer a = fitted(t, explain("ln(income)", {"member"}));
        const double exact = 100.0 * std::expm1(a.fit->coefficients[1].estimate);
        const std::string reading = effectReading(a, 1).front();
        QVERIFY2(reading.find(QString::number(exact, 'f', 1).toStdString() + " % higher") !=
                     std::string::npos,
                 reading.c_str());
    }

    void manyRowsNearlyDependentGoThroughTriangles() {
        // Over the size of small problems, with two columns a ten-millionth apart.
        constexpr Eigen::Index n = 20000;
        constexpr Eigen::Index k = 14;
        RandomStream random(4, 0);
        Eigen::MatrixXd X(n, k);
        Eigen::VectorXd y(n);
        Eigen::VectorXd w(n);
        for (Eigen::Index i = 0; i < n; ++i) {
            X(i, 0) = 1.0;
            for (Eigen::Index j = 1; j < k; ++j) {
                X(i, j) = 5.0 + random.uniform();
            }
            X(i, 5) = X(i, 4) + 1e-7 * random.uniform();
            X(i, 9) = X(i, 2) + 2.0 * X(i, 3);
            y(i) = X.row(i).sum() + random.uniform();
            w(i) = 0.5 + random.uniform();
        }
        for (const bool weighted : {false, true}) {
            const Eigen::VectorXd weights = weighted ? w : Eigen::VectorXd();
            setThreads(2);
            const auto large = *solveLinear({X, y, weights, true}, false, Job());
            setThreads(1);
            const auto again = *solveLinear({X, y, weights, true}, false, Job());
            setThreads(0);
            QVERIFY(large.coefficients == again.coefficients);
            QVERIFY(large.residuals == again.residuals);
            QCOMPARE(large.redundant.size(), std::size_t{1});
            QCOMPARE(large.redundant[0].column, Eigen::Index{9});
            QCOMPARE(large.redundant[0].of, (std::vector<Eigen::Index>{2, 3}));
            QVERIFY(near(large.redundant[0].by[1], 2.0, 1e-8));
            const Eigen::VectorXd centre = Eigen::VectorXd::Constant(k, 5.5);
            Eigen::VectorXd zeroed = centre;
            zeroed(0) = 0.0;
            const auto exact = gramSchmidt(X, y, weights.cwiseSqrt(), zeroed, 1e-13, true);
            QCOMPARE(exact.kept, large.kept);
            for (Eigen::Index j = 1; j < large.coefficients.size(); ++j) {
                const double se = large.factor.row(j).norm();
                QVERIFY2(std::abs(large.coefficients(j) - exact.solution(j)) < 1e-7 * se,
                         qPrintable(QString("%1: %2 %3 %4")
                                        .arg(j)
                                        .arg(large.coefficients(j), 0, 'g', 17)
                                        .arg(exact.solution(j), 0, 'g', 17)
                                        .arg(se)));
            }
            QVERIFY(near(large.residualSquares, exact.residualSquares, 1e-12));
        }
    }

    void sumsByGroupComeWithTheSolution() {
        constexpr Eigen::Index n = 30000;
        constexpr Eigen::Index k = 12;
        RandomStream random(9, 0);
        Eigen::MatrixXd X(n, k);
        Eigen::VectorXd y(n);
        Eigen::VectorXd w(n);
        std::vector<std::int32_t> groups;
        for (Eigen::Index i = 0; i < n; ++i) {
            X(i, 0) = 1.0;
            for (Eigen::Index j = 1; j < k; ++j) {
                X(i, j) = 100.0 * random.uniform();
            }
            y(i) = X.row(i).sum() + random.uniform();
            w(i) = 0.5 + random.uniform();
            groups.push_back(static_cast<std::int32_t>(random.below(300)));
        }
        for (const Eigen::VectorXd& weights : {Eigen::VectorXd(), w}) {
            const LinearProblem problem{X, y, weights, true};
            const auto s =
                *solveLinear(problem, WantedSums{.groups = groups, .groupCount = 300}, Job());
            Eigen::VectorXd factor = s.residuals;
            if (weights.size() > 0) {
                factor.array() *= weights.array();
            }
            const Eigen::MatrixXd apart = groupedScores(problem, s, factor, groups, 300);
            QCOMPARE(s.scores.rows(), apart.rows());
            QVERIFY((s.scores - apart).norm() <= 1e-9 * apart.norm());
        }
    }

    void squareSumsAreThoseOfTheMatrix_data() {
        QTest::addColumn<int>("lanes");
        QTest::addColumn<int>("columns");
        for (const int lanes : {2, 4, 8}) {
            for (const int columns : {0, 1, 2, 3, 5, 8, 13, 20, 21, 48, 64, 70}) {
                QTest::addRow("%d lanes, %d columns", lanes, columns) << lanes << columns;
            }
        }
    }

    void squareSumsAreThoseOfTheMatrix() {
        QFETCH(const int, lanes);
        QFETCH(const int, columns);
        RandomStream random(31, static_cast<std::uint64_t>(columns));
        SquareSums sums(columns, lanes);
        // Weights may be negative: those of a Hessian are.
        for (const bool weighted : {false, true}) {
            Eigen::MatrixXd expected = Eigen::MatrixXd::Zero(columns, columns);
            Eigen::MatrixXd absolute = expected;
            // Blocks that are and are not whole numbers of lanes, in a room that is larger.
            for (const Eigen::Index rows : {192, 7, 1, 64, 191}) {
                Eigen::MatrixXd block = Eigen::MatrixXd::Constant(200, columns, 1e300);
                Eigen::VectorXd w(rows);
                for (Eigen::Index i = 0; i < rows; ++i) {
                    w(i) = weighted ? random.uniform() - 0.3 : 1.0;
                    for (Eigen::Index j = 0; j < columns; ++j) {
                        block(i, j) = random.uniform() - 0.5;
                    }
                }
                sums.add(block.data(), block.rows(), rows, weighted ? w.data() : nullptr);
                const auto part = block.topRows(rows);
                expected += part.transpose() * w.asDiagonal() * part;
                absolute +=
                    part.cwiseAbs().transpose() * w.cwiseAbs().asDiagonal() * part.cwiseAbs();
            }
            // Added to what is there, and begun anew for the next round.
            Eigen::MatrixXd found = Eigen::MatrixXd::Constant(columns, columns, 2.0);
            sums.moveTo(found);
            for (Eigen::Index i = 0; i < columns; ++i) {
                for (Eigen::Index j = i; j < columns; ++j) {
                    QVERIFY(std::abs(found(i, j) - 2.0 - expected(i, j)) <=
                            1e-14 * (2.0 + absolute(i, j)));
                }
                for (Eigen::Index j = 0; j < i; ++j) {
                    QCOMPARE(found(i, j), 2.0);
                }
            }
        }
    }

    /// Columns of several matrices in any order are solved as their copy side by side is.
    void columnsMayLieAnywhere() {
        for (const Eigen::Index n : {Eigen::Index{40}, Eigen::Index{30000}}) {
            RandomStream random(17, 0);
            Eigen::MatrixXd A = Eigen::MatrixXd::Ones(n, 6);
            Eigen::MatrixXd B(n, 5);
            Eigen::VectorXd w(n);
            for (Eigen::Index i = 0; i < n; ++i) {
                for (Eigen::Index j = 0; j < 5; ++j) {
                    A(i, j + 1) = random.uniform();
                    B(i, j) = 50.0 + random.uniform();
                }
                w(i) = 0.5 + random.uniform();
            }
            ColumnsView view(n);
            view.add(A.col(0).data());
            for (const Eigen::Index j : {4, 2}) {
                view.add(B.col(j).data());
            }
            for (Eigen::Index j = 1; j < 6; ++j) {
                view.add(A.col(j).data());
            }
            const Eigen::MatrixXd beside = view.matrix();
            QCOMPARE(beside(n - 1, 1), B(n - 1, 4));
            QCOMPARE(view.of({2}).col(0)(3), B(3, 2));
            // The outcome is a column of a matrix, too.
            const auto one = *solveLinear({view, B.col(0), w, true}, true, Job());
            const Eigen::VectorXd y = B.col(0);
            const auto other = *solveLinear({beside, y, w, true}, true, Job());
            QVERIFY(one.coefficients == other.coefficients);
            QVERIFY(one.residuals == other.residuals);
            QVERIFY(one.meat == other.meat);
            QVERIFY(leverages({view, y, w, true}, one) == leverages({beside, y, w, true}, other));
        }
    }

    /// A cube beside its variable, both a million from zero: they nearly tell each other. Errors of
    /// every kind keep the digits that classical ones have: the order of rows is nothing to them.
    void errorsKeepTheirDigitsWhereTermsNearlyTellEachOther() {
        RandomStream random(58, 0);
        std::vector<double> y, z, cube, c;
        for (int i = 0; i < 58; ++i) {
            z.push_back(1e6 + 3.0 * random.uniform());
            cube.push_back(z.back() * z.back() * z.back());
            y.push_back(random.uniform() < 0.5 ? 0.0 : 1.0);
            c.push_back(i / 4);
        }
        const Table table = tableOf({{"y", y}, {"z", z}, {"cube", cube}, {"c", c}});
        for (auto* list : {&y, &z, &cube, &c}) {
            std::reverse(list->begin(), list->end());
        }
        const Table turned = tableOf({{"y", y}, {"z", z}, {"cube", cube}, {"c", c}});
        std::vector<ErrorSpec> kinds = {ErrorSpec{}, ErrorSpec::clusteredBy("c")};
        for (const char* type : {"HC0", "HC1", "HC2", "HC3", "HC4"}) {
            kinds.push_back({"robust", type, {}});
        }
        for (const ErrorSpec& errors : kinds) {
            Question q = explain("y", {"z", "cube"});
            q.errors = errors;
            const Answer one = answer(table, q);
            const Answer other = answer(turned, q);
            QCOMPARE(one.fit->coefficients.size(), std::size_t{3});
            for (std::size_t j = 0; j < 3; ++j) {
                const Coefficient& a = one.fit->coefficients[j];
                const Coefficient& b = other.fit->coefficients[j];
                QVERIFY2(near(a.estimate, b.estimate, 1e-9), errors.shown().c_str());
                QVERIFY2(near(a.se, b.se, 1e-7), errors.shown().c_str());
            }
            const Eigen::MatrixXd& V = one.fit->covariance;
            const Eigen::VectorXd sd = V.diagonal().cwiseSqrt();
            QVERIFY2(
                ((V - V.transpose()).array() / (sd * sd.transpose()).array()).abs().maxCoeff() <
                    1e-9,
                errors.shown().c_str());
        }
    }
};

QTEST_APPLESS_MAIN(LeastSquaresTest)
#include "least_squares_test.moc"
