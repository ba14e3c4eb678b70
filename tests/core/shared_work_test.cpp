// What checks of one answer share: made once, by whichever asks first, and the same as when made
// alone.
#include "core/checks/shared_work.h"

#include "core/base/parallel.h"
#include "core/checks/common.h"
#include "core/describe/normality_tests.h"
#include "core/numerics/ordering.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <numeric>
#include <stdexcept>

using namespace rapporto;
using namespace rapporto::test;

namespace {

struct Sum {
    double value = 0.0;
};

struct Other {
    double value = 0.0;
};

/// Uneven, with equal values and a group, of `n` rows.
Table uneven(std::size_t n) {
    std::vector<std::vector<double>> cells(3, std::vector<double>(n));
    for (std::size_t i = 0; i < n; ++i) {
        const auto at = static_cast<double>(i);
        cells[0][i] = std::sin(at * 12.9898);
        cells[1][i] = static_cast<double>(i % 11);
        cells[2][i] = 1.0 + cells[0][i] + (1.0 + cells[1][i]) * std::sin(at * 78.233);
    }
    return tableOf({{"a", cells[0]}, {"b", cells[1]}, {"y", cells[2]}});
}

bool alike(const Exhibit& a, const Exhibit& b) {
    return a.title == b.title && a.x == b.x && a.y == b.y && a.rows == b.rows &&
           a.lines.size() == b.lines.size() && a.bands.size() == b.bands.size() &&
           std::equal(a.lines.begin(), a.lines.end(), b.lines.begin(),
                      [](const auto& x, const auto& y) { return x.x == y.x && x.y == y.y; }) &&
           std::equal(a.bands.begin(), a.bands.end(), b.bands.begin(),
                      [](const auto& x, const auto& y) { return x.x == y.x && x.low == y.low; });
}

}  // namespace

class SharedWorkTest : public QObject {
    Q_OBJECT

  private slots:

    void oneOfManyThreadsMakesIt() {
        SharedWork shared;
        std::atomic<int> made{0};
        std::atomic<int> wrong{0};
        const int fit = 0;
        inParallel(64, [&](std::size_t) {
            const auto sum = shared.get<Sum>(&fit, [&] {
                ++made;
                // Work that is itself spread over the pool, as a large sum is.
                std::atomic<int> parts{0};
                inParallel(32, [&](std::size_t) { ++parts; });
                return Sum{static_cast<double>(parts.load())};
            });
            wrong += sum->value == 32.0 ? 0 : 1;
        });
        QCOMPARE(made.load(), 1);
        QCOMPARE(wrong.load(), 0);
    }

    void anotherKindOrAnotherFitIsAnother() {
        SharedWork shared;
        const int fits[2] = {0, 0};
        const auto first = shared.get<Sum>(&fits[0], [] { return Sum{1.0}; });
        QCOMPARE(shared.get<Sum>(&fits[1], [] { return Sum{2.0}; })->value, 2.0);
        QCOMPARE(shared.get<Other>(&fits[0], [] { return Other{3.0}; })->value, 3.0);
        QCOMPARE(shared.get<Sum>(&fits[0], [] { return Sum{4.0}; }), first);
    }

    void onlyTheFitInHandIsShared() {
        SharedWork shared;
        const int fits[2] = {0, 0};
        QVERIFY(SharedWork::of(&fits[0]) == nullptr);
        {
            const SharedWork::Here here(shared, &fits[0]);
            QCOMPARE(SharedWork::of(&fits[0]), &shared);
            QVERIFY(SharedWork::of(&fits[1]) == nullptr);
            SharedWork other;
            {
                const SharedWork::Here inner(other, &fits[1]);
                QCOMPARE(SharedWork::of(&fits[1]), &other);
                QVERIFY(SharedWork::of(&fits[0]) == nullptr);
            }
            QCOMPARE(SharedWork::of(&fits[0]), &shared);
        }
        QVERIFY(SharedWork::of(&fits[0]) == nullptr);
    }

    void whatFailedIsMadeAnew() {
        SharedWork shared;
        const int fit = 0;
        const auto fails = [&] {
            return shared.get<Sum>(&fit, []() -> Sum { throw std::runtime_error("stopped"); });
        };
        QVERIFY_EXCEPTION_THROWN(static_cast<void>(fails()), std::runtime_error);
        QCOMPARE(shared.get<Sum>(&fit, [] { return Sum{5.0}; })->value, 5.0);
    }

    /// One of them may be made of another.
    void oneAsksForAnother() {
        SharedWork shared;
        const int fit = 0;
        const auto both = shared.get<Sum>(&fit, [&] {
            return Sum{1.0 + shared.get<Other>(&fit, [] { return Other{2.0}; })->value};
        });
        QCOMPARE(both->value, 3.0);
    }

    void checksSayTheSameAloneAndTogether_data() {
        QTest::addColumn<bool>("weighted");
        QTest::newRow("plain") << false;
        // Checks of rows and checks of the weighted fit look at two fits.
        QTest::newRow("sampling weights") << true;
    }

    void checksSayTheSameAloneAndTogether() {
        QFETCH(bool, weighted);
        Question q = explain("y", {"a", "b"});
        if (weighted) {
            q.weight = "b + 1";
            q.weightKind = WeightKind::Sampling;
        }
        const Frame frame = frameOf(uneven(600));
        const Answer together = answerQuestion(Study{}, frame, q, Job());
        QVERIFY(!together.refusal);
        std::size_t looked = 0;
        for (const CheckResult& one : together.checks) {
            Question asked = q;
            asked.allChecks = false;
            asked.checks = {CheckRequest{one.id}};
            const Answer alone = answerQuestion(Study{}, frame, asked, Job());
            QCOMPARE(alone.checks.size(), std::size_t{1});
            const CheckResult& other = alone.checks.front();
            QCOMPARE(other.verdict, one.verdict);
            QVERIFY2(other.statistic == one.statistic && other.p == one.p, one.id.c_str());
            QCOMPARE(other.details, one.details);
            QCOMPARE(other.reading, one.reading);
            QVERIFY2(alike(other.exhibit, one.exhibit), one.id.c_str());
            looked += one.verdict == Verdict::NotApplicable ? 0U : 1U;
        }
        QVERIFY(looked > 20);
    }

    void valuesKeepTheirPlaces() {
        Eigen::VectorXd values(1000);
        for (Eigen::Index i = 0; i < values.size(); ++i) {
            values(i) = std::sin(static_cast<double>(i) * 3.7) * (i % 5 == 0 ? -1e300 : 1.0);
        }
        const std::vector<Placed> sorted = ordered(values);
        QCOMPARE(sorted.size(), std::size_t{1000});
        std::vector<bool> seen(1000);
        for (std::size_t k = 0; k < sorted.size(); ++k) {
            QVERIFY(k == 0 || sorted[k - 1].value <= sorted[k].value);
            QCOMPARE(sorted[k].value, values(sorted[k].at));
            seen[static_cast<std::size_t>(sorted[k].at)] = true;
        }
        QVERIFY(std::all_of(seen.begin(), seen.end(), [](bool one) { return one; }));
        QVERIFY(ordered(Eigen::VectorXd()).empty());
    }

    void manyValuesAreSortedAsFewAre() {
        for (const std::size_t n :
             {std::size_t{0}, std::size_t{1}, std::size_t{7}, std::size_t{50'000}}) {
            std::vector<double> values(n);
            for (std::size_t i = 0; i < n; ++i) {
                const double at = std::sin(static_cast<double>(i) * 12.9898);
                values[i] = i % 3 == 0 ? std::floor(20.0 * at) : at * std::pow(10.0, i % 300);
            }
            if (n > 7) {
                values[10] = INFINITY;
                values[20] = -INFINITY;
                values[30] = 5e-324;
                values[40] = -0.0;
            }
            std::vector<double> plainly = values;
            std::sort(plainly.begin(), plainly.end());
            sortValues(values);
            QVERIFY(values == plainly);
        }
    }

    void deviatesHaveMeanNoughtAndSpreadOne() {
        const Deviates of({4.0, 1.0, 7.0, 2.0, 11.0});
        QVERIFY(std::is_sorted(of.z.begin(), of.z.end()));
        const double sum = std::accumulate(of.z.begin(), of.z.end(), 0.0);
        const double squares = std::inner_product(of.z.begin(), of.z.end(), of.z.begin(), 0.0);
        QVERIFY(std::abs(sum) < 1e-14);
        AGREE("Σz² over n − 1", squares / 4.0, 1.0, 1e-14);
        AGREE("the largest", of.z.back(), 6.0 / std::sqrt(66.0 / 4.0), 1e-14);
    }

    /// Of a row left out, the change that DFBETAS tells is the change that a fit without it shows.
    void dfbetasAreFitsWithoutARow_data() { checksSayTheSameAloneAndTogether_data(); }

    void dfbetasAreFitsWithoutARow() {
        QFETCH(bool, weighted);
        const Table table = uneven(60);
        Question q = explain("y", {"a", "b"});
        if (weighted) {
            q.weight = "b + 1";
            q.weightKind = WeightKind::Precision;
        }
        q.allChecks = false;
        q.checks = {CheckRequest{"dfbetas"}};
        const Answer whole = answerQuestion(Study{}, frameOf(table), q, Job());
        const CheckResult& found = check(whole, "dfbetas");
        double most = 0.0;
        for (const char* term : {"a", "b"}) {
            double largest = 0.0;
            for (std::size_t left = 0; left < 60; ++left) {
                Sample sample;
                sample.setAside.push_back({left + 1, ""});
                const Answer without =
                    answerQuestion(Study{}, Frame::make(table, {}, {}, sample, {}), q, Job());
                const Coefficient* b = coefficient(without, term);
                const Coefficient* all = coefficient(whole, term);
                // s without the row times the root of the whole table's diagonal.
                const double spread =
                    all->se * without.fit->statistics.sigma / whole.fit->statistics.sigma;
                largest = std::max(largest, std::abs(all->estimate - b->estimate) / spread);
            }
            AGREE(term, detail(found, std::string("largest ") + term), largest, 1e-9);
            most = std::max(most, largest);
        }
        QVERIFY(most > 0.1);
    }
};

QTEST_APPLESS_MAIN(SharedWorkTest)
#include "shared_work_test.moc"
