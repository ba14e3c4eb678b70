// What random effects leave of the rows: checks of shape, spread and law within groups, against
// closed forms, planted faults, and how often they speak where nothing is wrong.
#include "core/model/multilevel.h"
#include "core/numerics/distributions.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <random>

using namespace rapporto;
using namespace rapporto::test;
using Eigen::Index;
using Eigen::VectorXd;

namespace {

/// How rows come about: what bends, what scatters, what leans.
struct Made {
    double square = 0.0;       ///< Of x.
    double spreadWithX = 0.0;  ///< ln of a row’s spread for one of x.
    double spreadOfGroups = 0.0;
    bool leans = false;
    std::string outcome = "normal";
};

Table grouped(const Made& made, int groups, int size, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    std::uniform_real_distribution<double> uniform;
    std::map<std::string, std::vector<double>> c;
    for (int g = 0; g < groups; ++g) {
        const double level = normal(random);
        const double wide = std::exp(made.spreadOfGroups * normal(random));
        for (int i = 0; i < size; ++i) {
            const double x = normal(random);
            const double e = made.leans ? -std::log(uniform(random)) - 1.0 : normal(random);
            const double index = 1.0 + 0.7 * x + made.square * x * x + level;
            double y = index + wide * std::exp(made.spreadWithX * x) * e;
            if (made.outcome == "poisson") {
                y = std::poisson_distribution<int>(std::exp(0.5 * index))(random);
            }
            c["g"].push_back(g);
            c["x"].push_back(x);
            c["y"].push_back(y);
        }
    }
    return tableOf({{"y", c["y"]}, {"x", c["x"]}, {"g", c["g"]}});
}

Question asked(const std::string& id, const std::string& outcome = "normal") {
    Question q = explain("y", {"x"});
    q.method = "multilevel";
    q.settings.levels = {{"g"}};
    q.settings.outcomeLaw = outcome;
    q.allChecks = false;
    CheckRequest request;
    request.id = id;
    q.checks = {request};
    return q;
}

CheckResult checked(const Table& table, const Question& q) {
    const Answer a = answer(table, q);
    if (a.refusal) {
        qWarning("%s", a.refusal->text().c_str());
        return {};
    }
    return check(a, q.checks.front().id);
}

CheckResult checked(const Table& table, const std::string& id,
                    const std::string& outcome = "normal") {
    return checked(table, asked(id, outcome));
}

}  // namespace

class GroupsRowsTest : public QObject {
    Q_OBJECT

  private slots:

    void theyAreQuietWhereNothingIsWrong_data() {
        QTest::addColumn<QString>("id");
        for (const char* id : {"rows-shape", "rows-spread", "groups-spread", "rows-normal"}) {
            QTest::newRow(id) << id;
        }
    }

    void theyAreQuietWhereNothingIsWrong() {
        QFETCH(QString, id);
        constexpr int kDraws = 240;
        int spoken = 0;
        double sum = 0.0;
        for (int d = 0; d < kDraws; ++d) {
            const CheckResult r =
                checked(grouped({}, 25, 8, 900U + static_cast<unsigned>(d)), id.toStdString());
            QVERIFY2(r.p.has_value(), r.reading.c_str());
            spoken += *r.p < 0.05 ? 1 : 0;
            sum += *r.p;
        }
        // At .05: 12 of 240, four standard deviations of it either way.
        QVERIFY2(spoken <= 26, QByteArray::number(spoken));
        QVERIFY2(sum / kDraws > 0.4 && sum / kDraws < 0.6, QByteArray::number(sum / kDraws));
    }

    void aBendIsFoundAndMended() {
        Question q = asked("rows-shape");
        const Table table = grouped({0.3}, 25, 8, 3);
        const CheckResult r = checked(table, q);
        QCOMPARE(r.verdict, Verdict::Fails);
        QCOMPARE(r.df.front(), 2.0);
        QVERIFY(!r.exhibit.x.empty());
        QVERIFY(!r.remedies.empty());
        const CheckResult mended = checked(table, r.remedies.front().variant);
        QVERIFY2(mended.verdict == Verdict::Fine, mended.reading.c_str());
    }

    /// With one term the squares and cubes of what it gives are those of the term.
    void theShapesTestIsThatOfTermsAdded() {
        const Table table = grouped({0.05}, 25, 8, 4);
        const CheckResult r = checked(table, "rows-shape");
        Question q = asked("rows-shape");
        q.terms.push_back(Term::expression("power(x, 2)"));
        q.terms.push_back(Term::expression("power(x, 3)"));
        q.checks.clear();
        q.hypotheses = {"power(x, 2) = 0 and power(x, 3) = 0"};
        const Answer a = answer(table, q);
        QVERIFY(a.hypotheses[0].has_value());
        AGREE("F", *r.statistic, a.hypotheses[0]->statistic, 1e-6);
        // The law of both together hangs on the axes that are chosen for them.
        AGREE("p", *r.p, a.hypotheses[0]->p, 1e-3);
    }

    void aCountBendsOnItsIndex() {
        Made made{0.4};
        made.outcome = "poisson";
        const CheckResult r = checked(grouped(made, 25, 10, 8), "rows-shape", "poisson");
        QCOMPARE(r.verdict, Verdict::Fails);
        QCOMPARE(r.distribution, std::string("chi2"));
        for (const char* id : {"rows-spread", "groups-spread", "rows-normal"}) {
            QCOMPARE(checked(grouped(made, 25, 10, 8), id, "poisson").verdict,
                     Verdict::NotApplicable);
        }
    }

    void aSpreadAlongATermIsFound() {
        const CheckResult r = checked(grouped({0.0, 0.4}, 40, 10, 5), "rows-spread");
        QVERIFY2(isDoubt(r.verdict), r.reading.c_str());
        QVERIFY(detail(r, "auxiliary R²") > 0.02);
        const auto& remedies = r.remedies;
        QVERIFY(std::any_of(remedies.begin(), remedies.end(), [](const Remedy& one) {
            return one.variant.errors.kind == "clustered";
        }));
    }

    void aSpreadOfItsOwnIsFound() {
        const CheckResult r = checked(grouped({0.0, 0.0, 0.7}, 40, 12, 6), "groups-spread");
        QCOMPARE(r.verdict, Verdict::Weigh);
        QVERIFY(detail(r, "wide") > 2.0 * detail(r, "narrow"));
        QCOMPARE(r.exhibit.bars.size(), std::size_t{40});
        QCOMPARE(r.exhibit.bars.front().rows.size(), std::size_t{12});
        QVERIFY(r.exhibit.bars.front().y1 <= r.exhibit.bars.back().y1);
    }

    /// F of how far rows lie from their group’s median, worked out by hand from the residuals.
    void theSpreadsTestIsItsFormula() {
        const Table table = grouped({}, 6, 7, 7);
        Question q = asked("groups-spread");
        const Answer a = answer(table, q);
        const Coefficient& slope = *coefficient(a, "x");
        std::vector<std::vector<double>> deviations(6);
        for (std::size_t g = 0; g < 6; ++g) {
            std::vector<double> e;
            for (std::size_t i = 7 * g; i < 7 * (g + 1); ++i) {
                e.push_back(table.columns[0].numbers()[i] -
                            slope.estimate * table.columns[1].numbers()[i]);
            }
            std::sort(e.begin(), e.end());
            for (const double x : e) {
                // The spread of all rows is one number here: every group has seven.
                deviations[g].push_back(std::abs(x - e[3]) * std::sqrt(7.0 / 6.0));
            }
        }
        double whole = 0.0;
        for (const auto& d : deviations) {
            for (const double x : d) {
                whole += x / 42.0;
            }
        }
        double between = 0.0;
        double within = 0.0;
        for (const auto& d : deviations) {
            double own = 0.0;
            for (const double x : d) {
                own += x / 7.0;
            }
            between += 7.0 * (own - whole) * (own - whole);
            for (const double x : d) {
                within += (x - own) * (x - own);
            }
        }
        const double f = (between / 5.0) / (within / 36.0);
        const CheckResult r = check(a, "groups-spread");
        AGREE("F", *r.statistic, f, 1e-9);
        AGREE("p", *r.p, fTail(f, 5.0, 36.0), 1e-9);
    }

    void smallGroupsAreLeftOutOfIt() {
        const CheckResult r = checked(grouped({}, 30, 4, 9), "groups-spread");
        QCOMPARE(r.verdict, Verdict::NotApplicable);
        QVERIFY(r.reading.find("five rows") != std::string::npos);
    }

    void leaningRowsAreFound() {
        Made made;
        made.leans = true;
        const CheckResult few = checked(grouped(made, 12, 10, 10), "rows-normal");
        QVERIFY(isDoubt(few.verdict));
        QVERIFY(detail(few, "skewness") > 0.5);
        const CheckResult many = checked(grouped(made, 100, 20, 11), "rows-normal");
        QCOMPARE(many.verdict, Verdict::Noted);
        QVERIFY(many.reading.find("single rows") != std::string::npos);
    }

    void unitsDoNotMatter() {
        const Table table = grouped({0.1, 0.2, 0.3}, 20, 9, 12);
        std::vector<double> y(table.columns[0].numbers().begin(), table.columns[0].numbers().end());
        std::vector<double> x(table.columns[1].numbers().begin(), table.columns[1].numbers().end());
        for (std::size_t i = 0; i < y.size(); ++i) {
            y[i] = 250.0 * y[i] - 40.0;
            x[i] = 0.01 * x[i] + 3.0;
        }
        const Table scaled = tableOf(
            {{"y", y},
             {"x", x},
             {"g", {table.columns[2].numbers().begin(), table.columns[2].numbers().end()}}});
        for (const char* id : {"rows-shape", "rows-spread", "groups-spread", "rows-normal"}) {
            const CheckResult one = checked(table, id);
            const CheckResult other = checked(scaled, id);
            AGREE(id, *other.statistic, *one.statistic, 1e-5);
            QCOMPARE(other.verdict, one.verdict);
        }
    }

    void rowsWithoutCompanyAreLeftOut() {
        // Half of the groups hold one row: nothing of it is left within its group.
        Table table = grouped({}, 30, 6, 13);
        std::vector<double> g(table.columns[2].numbers().begin(), table.columns[2].numbers().end());
        for (std::size_t i = 0; i < 60; ++i) {
            g[i] = 1000.0 + static_cast<double>(i);
        }
        table.columns[2] = Column::ofNumbers("g", g);
        for (const char* id : {"rows-spread", "groups-spread"}) {
            const CheckResult r = checked(table, id);
            QVERIFY2(r.p.has_value() && std::isfinite(*r.p), r.reading.c_str());
        }
        QCOMPARE(detail(checked(table, "groups-spread"), "groups"), 20.0);
    }
};

QTEST_GUILESS_MAIN(GroupsRowsTest)
#include "groups_rows_test.moc"
