// Edits, undo, stops and reads at random from several threads: whatever happens on the way, what
// stands in the end is what a workbench that was opened with it would say.
#include "core/base/parallel.h"
#include "core/numerics/random.h"
#include "core/study/journal.h"
#include "core/study/workbench.h"
#include "tests/core/fixtures.h"

#include <QTemporaryDir>
#include <QTest>

#include <atomic>
#include <thread>

using namespace rapporto;

class StoryTest : public QObject {
    Q_OBJECT

    static Study study() {
        Study out;
        out.title = "growers";
        for (int q = 1; q <= 3; ++q) {
            Question question;
            question.id = "q" + std::to_string(q);
            question.outcome = "y";
            question.terms.resize(1);
            question.terms[0].parts = {q == 1 ? "x" : "z"};
            question.checks.clear();
            out.questions.push_back(question);
        }
        return out;
    }

    static Sources sources() {
        std::vector<double> x;
        std::vector<double> z;
        std::vector<double> y;
        for (int i = 0; i < 400; ++i) {
            x.push_back(std::sin(i * 1.7));
            z.push_back(std::cos(i * 0.9));
            y.push_back(2.0 * x.back() - z.back() + std::sin(i * 12.9898) * 0.5);
        }
        Sources out;
        out.table = std::make_shared<const Table>(test::tableOf({{"y", y}, {"x", x}, {"z", z}}));
        return out;
    }

    /// One step of the story.
    static void takeStep(Workbench& bench, RandomStream& random, int step) {
        const auto which = random.below(10);
        const std::string words = "step " + std::to_string(step);
        if (which < 3) {
            Study now = bench.study();
            Question question = now.questions[random.below(now.questions.size())];
            question.terms.resize(1 + random.below(2));
            question.terms.back().parts = {random.below(2) == 0 ? "z" : "x * x"};
            question.errors.kind = random.below(4) == 0 ? "bootstrap" : "classical";
            question.errors.draws = 40;
            (void)bench.apply({PutQuestion{question}, words});
        } else if (which == 3) {
            (void)bench.apply({PutDerived{{"d", "x + " + std::to_string(step), ""}}, words});
        } else if (which == 4) {
            (void)bench.apply({SetRule{random.below(2) == 0 ? "x > -0.5" : ""}, words});
        } else if (which == 5) {
            bench.undo();
        } else if (which == 6) {
            bench.redo();
        } else if (which == 7) {
            bench.stop();
        } else if (which == 8) {
            bench.restate([](Study& one) { one.desk.pictures.resize(1); });
        } else {
            bench.setFocus("q2");
        }
    }

  private slots:

    void endsWhereItWouldHaveBegun() {
        setThreads(2);
        for (std::uint64_t seed = 1; seed <= 3; ++seed) {
            const QTemporaryDir place;
            Journal journal(place.path().toStdString());
            std::atomic<int> told{0};
            Workbench bench([&told] { ++told; }, 2);
            bench.open(study(), sources());
            journal.begin({}, bench.study());
            std::atomic<bool> over{false};
            std::thread reader([&] {
                while (!over) {
                    (void)bench.progress();
                    (void)bench.answer("q1");
                    (void)bench.isFresh("q3");
                    (void)bench.frame();
                    (void)bench.undoLabel();
                    std::this_thread::sleep_for(std::chrono::milliseconds(1));
                }
            });
            RandomStream random(seed, 0);
            for (int step = 0; step < 150; ++step) {
                takeStep(bench, random, step);
                journal.note(bench.study(), "step");
                if (random.below(5) == 0) {
                    std::this_thread::sleep_for(std::chrono::milliseconds(random.below(8)));
                }
            }
            over = true;
            reader.join();
            // A last step takes a stop back.
            QVERIFY(bench.apply({SetTitle{"the end"}, "end"}).has_value());
            journal.note(bench.study(), "end");
            bench.wait();
            QVERIFY(told > 0);

            Workbench other([] {}, 1);
            other.open(bench.study(), sources());
            other.wait();
            for (const Question& question : bench.study().questions) {
                const auto mine = bench.answer(question.id);
                const auto fresh = other.answer(question.id);
                QVERIFY(mine && fresh && bench.isFresh(question.id));
                QCOMPARE(mine->refusal.has_value(), fresh->refusal.has_value());
                if (!mine->fit) {
                    continue;
                }
                for (std::size_t j = 0; j < mine->fit->coefficients.size(); ++j) {
                    QVERIFY(mine->fit->coefficients[j].estimate ==
                            fresh->fit->coefficients[j].estimate);
                    QVERIFY(mine->fit->coefficients[j].se == fresh->fit->coefficients[j].se);
                }
            }
            journal.flush();
            QVERIFY(!journal.trouble());
        }
    }

    void stopsAnythingSoon() {
        Workbench bench([] {}, 2);
        Study asked = study();
        for (Question& question : asked.questions) {
            question.errors.kind = "bootstrap";
            question.errors.draws = 10000000;
        }
        bench.open(asked, sources());
        std::this_thread::sleep_for(std::chrono::milliseconds(100));
        bench.stop();
        const auto from = std::chrono::steady_clock::now();
        while (!bench.isIdle()) {
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
        }
        const std::chrono::duration<double> passed = std::chrono::steady_clock::now() - from;
        // Loose, for machines that do other things meanwhile; it drew for minutes.
        QVERIFY2(passed.count() < 5.0, qPrintable(QString::number(passed.count())));
    }
};

QTEST_GUILESS_MAIN(StoryTest)
#include "story_test.moc"
