// An answer comes in parts: effects first, checks one by one behind them, none twice.
#include "core/describe/odd/spelling.h"
#include "core/io/dressed_numbers.h"
#include "core/study/known_checks.h"
#include "core/study/odd_mends.h"
#include "core/study/workbench.h"
#include "tests/core/fixtures.h"

#include <QTest>

#include <atomic>
#include <cmath>
#include <mutex>

using namespace rapporto;
using namespace rapporto::test;

namespace {

Table waves(std::size_t n) {
    std::vector<std::vector<double>> cells(4, std::vector<double>(n));
    for (std::size_t i = 0; i < n; ++i) {
        const auto at = static_cast<double>(i);
        cells[0][i] = std::sin(at * 12.9898);
        cells[1][i] = std::cos(at * 4.1414);
        cells[2][i] = static_cast<double>(i % 7);
        cells[3][i] = cells[0][i] + 0.3 * cells[1][i] + std::sin(at * 78.233);
    }
    return tableOf({{"a", cells[0]}, {"b", cells[1]}, {"g", cells[2]}, {"y", cells[3]}});
}

Study studyOf(const Question& q) {
    Study study;
    study.questions = {q};
    return study;
}

}  // namespace

class PartsTest : public QObject {
    Q_OBJECT

  private slots:

    void effectsComeBeforeChecks() {
        const Question q = explain("y", {"a", "b"});
        const Frame frame = frameOf(waves(3000));
        Making making{Job()};
        std::mutex mutex;
        std::vector<std::size_t> awaited;
        making.show = [&](const Answer& part) {
            const std::scoped_lock lock(mutex);
            QVERIFY(part.fit != nullptr && !part.fit->coefficients.empty());
            QCOMPARE(part.checks.size(), checksOfOneEquation());
            awaited.push_back(awaitedChecks(part));
        };
        const Answer whole = answerQuestion(studyOf(q), frame, q, making);
        QCOMPARE(awaitedChecks(whole), std::size_t{0});
        QVERIFY(!awaited.empty());
        QCOMPARE(awaited.front(), checksOfOneEquation());
        QVERIFY(std::is_sorted(awaited.rbegin(), awaited.rend()));
        // In parts or at once: the same answer.
        const Answer once = answerQuestion(studyOf(q), frame, q, Job());
        QCOMPARE(once.checks.size(), whole.checks.size());
        for (std::size_t k = 0; k < once.checks.size(); ++k) {
            QCOMPARE(whole.checks[k].id, once.checks[k].id);
            QCOMPARE(whole.checks[k].verdict, once.checks[k].verdict);
            QVERIFY(whole.checks[k].p == once.checks[k].p);
        }
    }

    void noCheckIsMadeTwice() {
        Question q = explain("y", {"a", "b"});
        const Frame frame = frameOf(waves(400));
        KnownChecks known;
        const auto madeFor = [&](const Question& asked) {
            Question without = asked;
            without.allChecks = false;
            without.checks.clear();
            const Answer fitted = answerQuestion(studyOf(without), frame, without, Job());
            std::atomic<std::size_t> made{0};
            CheckRun run{frame, asked, *fitted.design, *fitted.fit, 0.05};
            known.serve(run);
            const auto keep = run.keep;
            run.keep = [&](const CheckRequest& request, const CheckResult& result) {
                ++made;
                keep(request, result);
            };
            const auto results = runChecks(run, Job());
            return results.size() == checksOfOneEquation() ? made.load() : std::size_t{9999};
        };
        QCOMPARE(madeFor(q), checksOfOneEquation());
        // A title, a prediction, a decision: none of it touches a check.
        q.title = "called another way";
        q.predict = {{{{"a", 0.5}}, "half"}};
        q.decisions = {{"reset", "kept", "many rows"}};
        QCOMPARE(madeFor(q), std::size_t{0});
        q.terms.pop_back();
        QCOMPARE(madeFor(q), checksOfOneEquation());
    }

    void whatIsKnownIsNotShownAsAwaited() {
        Question q = explain("y", {"a", "b"});
        const Frame frame = frameOf(waves(400));
        KnownChecks known;
        const auto shown = [&](const Question& asked) {
            Making making{Job()};
            making.known = &known;
            std::size_t times = 0;
            making.show = [&](const Answer&) { ++times; };
            const Answer a = answerQuestion(studyOf(asked), frame, asked, making);
            return a.checks.size() == checksOfOneEquation() ? times : std::size_t{9999};
        };
        QVERIFY(shown(q) >= 1);
        q.title = "called another way";
        QCOMPARE(shown(q), std::size_t{0});
    }

    /// What a person said of the data is not read from before.
    void whatStandsIsAskedAnew() {
        Table table = waves(200);
        std::vector<double> days;
        for (std::size_t i = 0; i < 200; ++i) {
            days.push_back(i % 20 == 0 ? -99.0 : static_cast<double>(5 + i % 30));
        }
        table.columns[0] = Column::ofNumbers("a", days);
        const Question q = explain("y", {"a"});
        KnownChecks known;
        const auto verdict = [&](const Frame& frame) {
            Making making{Job()};
            making.known = &known;
            return check(answerQuestion(studyOf(q), frame, q, making), "answer-codes").verdict;
        };
        const Frame before = frameOf(table);
        QCOMPARE(verdict(before), Verdict::Fails);
        Sample sample;
        for (const Oddity& one : oddities(before, {}, Job())) {
            sample.accepted.push_back({one.id(), "debts are counted so"});
        }
        QCOMPARE(verdict(Frame::make(table, {}, {}, sample, {})), Verdict::Fine);
        QCOMPARE(verdict(before), Verdict::Fails);
    }

    void whatTheQuestionsSayIsAResult() {
        const Question q = explain("y", {"a", "b", "g"});
        const Answer a = answer(waves(400), q);
        const auto one = resultsJson(studyOf(q), {a})["answers"][0];
        const auto groups = verdictsByGroup(a.checks, a.alpha);
        QCOMPARE(one["asked_of_it"].size(), groups.size());
        for (std::size_t k = 0; k < groups.size(); ++k) {
            const auto& asked = one["asked_of_it"][k];
            QCOMPARE(asked["asks"].get<std::string>(), groups[k].group);
            QCOMPARE(asked["verdict"].get<std::string>(), verdictName(groups[k].worst));
            QCOMPARE(asked["checks"].size(), groups[k].ids.size());
            QCOMPARE(asked["power"].size(), groups[k].power.size());
        }
    }

    void mendsSayDatesAndAreNotHalf() {
        Table table = waves(60);
        std::vector<double> days;
        for (std::size_t i = 0; i < 60; ++i) {
            days.push_back(18000.0 + static_cast<double>(i) - (i == 30 ? 36524.0 : 0.0));
        }
        table.columns[2] = Column::ofNumbers("g", days);
        table.variables[2].measure = Measure::Date;
        const Frame frame = frameOf(table);
        const Study study = studyOf(explain("y", {"a"}));
        Oddity odd;
        for (const Oddity& one : oddities(frame, {}, Job())) {
            odd = one.kind == OddKind::LoneDate ? one : odd;
        }
        QCOMPARE(odd.rows, std::vector<std::size_t>{30});
        const auto mends = mendsOf(study, frame, odd, {odd});
        QCOMPARE(mends.size(), std::size_t{2});
        QCOMPARE(mends[0].label, std::string("Set 1 row aside"));
        QCOMPARE(mends[1].label, "Make " + dateText(days[30]) + " missing");
        // Rows too many to be listed are not set aside by halves; a table that is gone has no
        // mends.
        odd.count = 20000;
        const auto many = mendsOf(study, frame, odd, {odd});
        QVERIFY(std::none_of(many.begin(), many.end(), [](const OddMend& mend) {
            return std::holds_alternative<SetRowsAside>(mend.change);
        }));
        odd.variables = {"elsewhere"};
        QVERIFY(mendsOf(study, frame, odd, {odd}).empty());
    }

    void aStopLeavesWhatIsThere() {
        const Question q = explain("y", {"a", "b", "g"});
        const Frame frame = frameOf(waves(20000));
        Making making{Job()};
        making.show = [&](const Answer&) { making.job.stop(); };
        const Answer stopped = answerQuestion(studyOf(q), frame, q, making);
        QVERIFY(stopped.checks.size() < checksOfOneEquation());
        for (const CheckResult& one : stopped.checks) {
            QVERIFY(!one.awaited);
        }
    }

    /// A window that never paints holds nothing up for long; one that has painted holds up nothing.
    void checksWaitForThePainterAndNoLonger() {
        std::atomic<int> calls{0};
        Workbench bench([&] { ++calls; });
        bench.waitForPainter(std::chrono::milliseconds(40));
        Question q = explain("y", {"a", "b"});
        Study study = studyOf(q);
        study.source.kind = "table";
        study.source.file = "waves.csv";
        Sources sources;
        sources.table = std::make_shared<const Table>(waves(500));
        bench.open(study, sources);
        bench.setFocus("q1");
        for (int turn = 0; turn < 400 && !bench.isComplete("q1"); ++turn) {
            QTest::qSleep(5);
            if (turn % 2 == 0) {
                bench.painted();
            }
        }
        QVERIFY(bench.isFresh("q1") && bench.isComplete("q1"));
        QCOMPARE(awaitedChecks(*bench.answer("q1")), std::size_t{0});
        QVERIFY(calls > 0);
        // While nobody looks nothing waits.
        q.title = "again";
        q.where = "a > 0";
        QVERIFY(bench.apply({PutQuestion{q}, "again"}));
        bench.wait();
        QVERIFY(bench.isComplete("q1"));
    }

    void aNumberInItsDress_data() {
        QTest::addColumn<QString>("cell");
        QTest::addColumn<char>("decimal");
        QTest::addColumn<QString>("mark");
        QTest::addColumn<bool>("isNumber");
        QTest::addColumn<double>("value");
        const auto row = [](const char* cell, char decimal, const char* mark, bool is,
                            double value) {
            QTest::newRow(cell) << QString(cell) << decimal << QString(mark) << is << value;
        };
        row("1.234,5", ',', ".", true, 1234.5);
        row("1.23,5", ',', ".", false, 0.0);  // Marks stand before three digits.
        row("(340)", '.', "", true, -340.0);
        row("-340", '.', "", true, -340.0);
        row("€ 1,250.50", '.', ",", true, 1250.5);
        row("12 %", '.', "", true, 12.0);
        row("G001", '.', "", false, 0.0);
        row("", '.', "", false, 0.0);
        row("12 34", '.', "", false, 0.0);
        row("2.5e-3", '.', "", true, 0.0025);
    }

    void aNumberInItsDress() {
        QFETCH(QString, cell);
        QFETCH(char, decimal);
        QFETCH(QString, mark);
        QFETCH(bool, isNumber);
        QFETCH(double, value);
        std::string unit;
        const auto found =
            dressedNumber(cell.toStdString(), {decimal, mark.toStdString(), ""}, unit);
        QCOMPARE(found.has_value(), isNumber);
        if (found) {
            QCOMPARE(*found, value);
        }
    }

    void slipsOfThePenAreCounted() {
        QCOMPARE(odd::plainSpelling("  Upper   TERRACE "), std::string("upper terrace"));
        QCOMPARE(odd::plainSpelling("Grün"), odd::plainSpelling("grun"));
        QCOMPARE(odd::slipsBetween("ridge", "ridge"), std::size_t{0});
        QCOMPARE(odd::slipsBetween("ridge", "rigde"), std::size_t{1});  // Swapped.
        QCOMPARE(odd::slipsBetween("ridge", "rdge"), std::size_t{1});
        QCOMPARE(odd::slipsBetween("ridge", "ridges"), std::size_t{1});
        QCOMPARE(odd::slipsBetween("ridge", "valley"), std::size_t{3});  // Counted no further.
        QCOMPARE(odd::numbersIn("plot 3, row 12"), std::string("3 12 "));
    }
};

QTEST_APPLESS_MAIN(PartsTest)
#include "parts_test.moc"
