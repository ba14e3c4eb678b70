#include "core/describe/normality.h"
#include "core/describe/smooth.h"
#include "core/numerics/distributions.h"
#include "core/numerics/quadratic_form.h"
#include "tests/core/fixtures.h"

#include <QTest>

using namespace rapporto;
using namespace rapporto::test;

class ChecksTest : public QObject {
    Q_OBJECT

    nlohmann::json reference_ = readJson("tests/reference/reference.json");

    Answer answered(std::vector<CheckRequest> checks = {}) const {
        Question q = explain("y", {"a", "b", "g"});
        q.allChecks = checks.empty();
        q.checks = std::move(checks);
        Layout series;
        series.kind = Layout::Kind::Series;
        series.time = "moment";
        return answer(referenceTable(reference_), q, series, referenceEntries());
    }

    static const CheckResult& find(const Answer& a, const std::string& id) {
        for (const CheckResult& c : a.checks) {
            if (c.id == id) {
                return c;
            }
        }
        qFatal("no check %s", id.c_str());
    }

    void compare(const CheckResult& c, const char* key, double tolerance = 1e-10) const {
        const auto& expected = reference_["checks"][key];
        QVERIFY2(near(*c.statistic, number(expected[0]), tolerance),
                 qPrintable(QString("%1: %2").arg(key).arg(*c.statistic, 0, 'g', 17)));
        if (expected.size() > 1) {
            QVERIFY2(near(*c.p, number(expected[1]), tolerance),
                     qPrintable(QString("%1: p %2").arg(key).arg(*c.p, 0, 'g', 17)));
        }
    }

    static double detail(const CheckResult& c, const std::string& name) {
        for (const auto& [key, value] : c.details) {
            if (key == name) {
                return value;
            }
        }
        return std::nan("");
    }

  private slots:

    void agreeWithHighPrecision() {
        const Answer a = answered();
        compare(find(a, "breusch-pagan"), "breusch-pagan");
        compare(find(a, "reset"), "reset", 1e-9);
        compare(find(a, "jarque-bera"), "jarque-bera");
        compare(find(a, "shapiro-wilk"), "shapiro-wilk", 1e-9);
        compare(find(a, "cooks-distance"), "cooks-distance");
        compare(find(a, "outliers"), "outliers");
        compare(find(a, "leverage"), "leverage");
        compare(find(a, "durbin-watson"), "durbin-watson", 1e-8);
        QVERIFY(near(detail(find(a, "breusch-pagan"), "original statistic"),
                     number(reference_["checks"]["breusch-pagan original"][0]), 1e-10));
        QVERIFY(
            near(detail(find(a, "vif"), "vif a"), number(reference_["checks"]["vif a"][0]), 1e-10));
        QVERIFY(near(detail(find(a, "vif"), "gvif g"), number(reference_["checks"]["gvif g"][0]),
                     1e-10));
    }

    void optionsAreHeeded() {
        CheckRequest white{"white", {}, false, {}};
        CheckRequest godfrey{"breusch-godfrey", 2, {}, {}};
        const Answer a = answered({white, godfrey});
        QCOMPARE(a.checks.size(), std::size_t{2});
        compare(a.checks[0], "white without products");
        compare(a.checks[1], "breusch-godfrey 2");
        QCOMPARE(detail(a.checks[1], "lags"), 2.0);
    }

    void orderMeansNothingInACrossSection() {
        const Answer a = answer(referenceTable(reference_), explain("y", {"a"}));
        for (const char* id : {"durbin-watson", "breusch-godfrey"}) {
            QCOMPARE(find(a, id).verdict, Verdict::NotApplicable);
            QVERIFY(!find(a, id).p);
            QVERIFY(find(a, id).reading.find("no order") != std::string::npos);
        }
    }

    void everyCheckSpeaks() {
        const Answer a = answered();
        QCOMPARE(a.checks.size(), checksOfOneEquation());
        for (const CheckResult& c : a.checks) {
            QVERIFY2(c.reading.size() > 20, c.id.c_str());
            QVERIFY2(!c.headline.empty(), c.id.c_str());
            QVERIFY2(c.verdict == Verdict::NotApplicable || !c.exhibit.title.empty(), c.id.c_str());
        }
    }

    void aSignificantNormalityTestIsBadNews() {
        std::vector<double> y;
        std::vector<double> x;
        for (int i = 0; i < 300; ++i) {
            const double p = (i + 0.5) / 300.0;
            x.push_back((i * 37) % 101);
            y.push_back(std::exp(1.5 * normalQuantile(p)));
        }
        const Answer a = answer(tableOf({{"y", y}, {"x", x}}), explain("y", {"x"}));
        const CheckResult& jb = find(a, "jarque-bera");
        QCOMPARE(jb.verdict, Verdict::Fails);
        QVERIFY(jb.reading.find("not normal") != std::string::npos);
        QVERIFY(!jb.remedies.empty());
        QCOMPARE(jb.remedies.front().variant.outcome, std::string("ln(y)"));
        QCOMPARE(jb.remedies.front().variant.variantOf, std::string("q1"));
    }

    void unevenSpreadIsFoundAndOffersRobustErrors() {
        std::vector<double> y;
        std::vector<double> x;
        for (int i = 0; i < 400; ++i) {
            const double v = 1.0 + (i % 40) / 4.0;
            x.push_back(v);
            y.push_back(50.0 + 2.0 * v + v * normalQuantile(((i * 151) % 400 + 0.5) / 400.0));
        }
        const Answer a = answer(tableOf({{"y", y}, {"x", x}}), explain("y", {"x"}));
        const CheckResult& bp = find(a, "breusch-pagan");
        QCOMPARE(bp.verdict, Verdict::Fails);
        QVERIFY(*bp.p < 1e-6);
        QCOMPARE(bp.remedies.front().variant.errors.kind, std::string("robust"));
        QVERIFY(bp.reading.find("not even") != std::string::npos);
    }

    void aBendIsFoundByTermAndOffersTheSquare() {
        std::vector<double> y;
        std::vector<double> x;
        for (int i = 0; i < 200; ++i) {
            const double v = (i % 50) / 5.0;
            x.push_back(v);
            y.push_back(3.0 + v * v / 4.0 + 0.5 * normalQuantile(((i * 77) % 200 + 0.5) / 200.0));
        }
        const Answer a = answer(tableOf({{"y", y}, {"x", x}}), explain("y", {"x"}));
        QCOMPARE(find(a, "reset").verdict, Verdict::Fails);
        const CheckResult& bend = find(a, "component-residual");
        QCOMPARE(bend.verdict, Verdict::Fails);
        QCOMPARE(bend.remedies.front().variant.terms.back().parts.front(),
                 std::string("power(x, 2)"));
        // |t| of the added square is that of a fit that has it.
        const Answer with =
            answer(tableOf({{"y", y}, {"x", x}}), explain("y", {"x", "power(x, 2)"}));
        QVERIFY(near(*bend.statistic, std::abs(*with.fit->coefficients[2].statistic), 1e-9));
    }

    void anOutlierIsNamedAndCanBeLeftOut() {
        std::vector<double> y;
        std::vector<double> x;
        for (int i = 0; i < 60; ++i) {
            x.push_back(i);
            y.push_back(2.0 * i + normalQuantile(((i * 23) % 60 + 0.5) / 60.0));
        }
        y[41] += 30.0;
        const Answer a = answer(tableOf({{"y", y}, {"x", x}}), explain("y", {"x"}));
        const CheckResult& outliers = find(a, "outliers");
        QVERIFY(outliers.verdict == Verdict::Fails || outliers.verdict == Verdict::Weigh);
        QVERIFY(outliers.reading.find("row 42") != std::string::npos);
        QCOMPARE(outliers.remedies.front().variant.without, std::vector<std::size_t>{42});
    }

    void overlapNamesTheTerm() {
        std::vector<double> y;
        std::vector<double> x;
        std::vector<double> z;
        for (int i = 0; i < 80; ++i) {
            x.push_back((i * 13) % 37);
            z.push_back(x.back() + 0.01 * ((i * 7) % 11));
            y.push_back(x.back() + (i * 5) % 17);
        }
        const Answer a = answer(tableOf({{"y", y}, {"x", x}, {"z", z}}), explain("y", {"x", "z"}));
        QCOMPARE(find(a, "vif").verdict, Verdict::Fails);
        QCOMPARE(find(a, "vif").remedies.size(), std::size_t{1});
    }

    void checksDoNotDependOnUnits() {
        Table scaled = referenceTable(reference_);
        std::vector<double> cells(scaled.columns[0].numbers().begin(),
                                  scaled.columns[0].numbers().end());
        for (double& c : cells) {
            c *= 1e6;
        }
        scaled.columns[0] = Column::ofNumbers("a", cells);
        const Answer a = answer(referenceTable(reference_), explain("y", {"a", "b"}));
        const Answer b = answer(scaled, explain("y", {"a", "b"}));
        for (std::size_t c = 0; c < a.checks.size(); ++c) {
            if (a.checks[c].statistic) {
                QVERIFY2(near(*b.checks[c].statistic, *a.checks[c].statistic, 1e-8),
                         a.checks[c].id.c_str());
            }
        }
    }

    void tailsKeepRelativeAccuracy() {
        QVERIFY(near(normalTail(30.0), 4.906713927148187e-198, 1e-12));
        QVERIFY(near(twoSidedP(0.0, 5.0), 1.0, 1e-15));
        QVERIFY(near(chiSquareTail(1000.0, 2.0), std::exp(-500.0), 1e-12));
        QVERIFY(near(fTail(4.0, 1.0, 10.0), twoSidedP(2.0, 10.0), 1e-13));
        QVERIFY(near(twoSidedP(criticalValue(0.05, 47.0), 47.0), 0.05, 1e-13));
    }

    void quadraticFormsHaveTheirClosedForm() {
        // z₁² − z₂² is symmetric; z₁² + z₂² − c(z₃² + z₄²) < 0 has probability c/(1 + c).
        QVERIFY(near(probabilityBelowZero(Eigen::Vector4d(1, 1, -1, -1)), 0.5, 1e-9));
        for (const double c : {0.25, 2.0, 7.0}) {
            QVERIFY(near(probabilityBelowZero(Eigen::Vector4d(1, 1, -c, -c)), c / (1.0 + c), 1e-7));
        }
    }

    void smoothReproducesAStraightLine() {
        std::vector<double> x;
        std::vector<double> y;
        for (int i = 0; i < 100; ++i) {
            x.push_back((i * 37) % 100);
            y.push_back(3.0 - 0.5 * x.back());
        }
        const auto line = localLine(x, y, 0.4, "smooth");
        QVERIFY(line.x.size() > 20);
        for (std::size_t i = 0; i < line.x.size(); ++i) {
            QVERIFY(near(line.y[i], 3.0 - 0.5 * line.x[i], 1e-10));
        }
    }
};

QTEST_APPLESS_MAIN(ChecksTest)
#include "checks_test.moc"
