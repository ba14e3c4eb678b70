// Every remedy of every check, pressed in the real window.
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "app/stages/checks/check_list.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/paths/trace.h"
#include "core/study/study.h"

#include <QApplication>
#include <QFile>
#include <QPushButton>
#include <QTemporaryDir>
#include <QTest>

#include <cmath>
#include <set>

using namespace rapporto;
using namespace rapporto::app;

namespace {

/// Normal numbers, the same on every run.
class Normal {
  public:
    explicit Normal(std::uint64_t seed) : random_(seed, 0) {}

    double operator()() { return normalQuantile(random_.uniform() + 0x1.0p-54); }

  private:
    RandomStream random_;
};

/// Rows of villages with everything amiss: bends, a product, a spread by level and by group,
/// resemblance within villages, two terms that say the same, a row far out.
QByteArray untidyRows() {
    QByteArray text = "y,x,twin,z,g,village\n";
    Normal normal(3);
    std::vector<double> village;
    for (int v = 0; v < 24; ++v) {
        village.push_back(normal());
    }
    for (int i = 0; i < 240; ++i) {
        const int v = i / 10;
        const double x = 1.0 + 8.0 * ((i * 37) % 240) / 240.0;
        const double z = 2.0 + std::abs(normal());
        const int g = i % 3;
        double y =
            std::exp(1.0 + 0.05 * x * x + 0.12 * x * z * (g == 2 ? 1.5 : 1.0) +
                     0.5 * village[static_cast<std::size_t>(v)] + (0.2 + 0.3 * g) * normal());
        double far = 0.0;
        if (i == 17) {
            far = 30.0;
            y *= 40.0;
        }
        text += QString("%1,%2,%3,%4,%5,v%6\n")
                    .arg(y, 0, 'g', 8)
                    .arg(x + far, 0, 'g', 8)
                    .arg(x + far + 0.02 * normal(), 0, 'g', 8)
                    .arg(z, 0, 'g', 8)
                    .arg(QString("abc").mid(g, 1))
                    .arg(v)
                    .toUtf8();
    }
    return text;
}

/// Moments with everything amiss: errors that carry over, restless stretches, a break.
QByteArray untidyMoments() {
    QByteArray text = "moment,y,x\n";
    Normal normal(8);
    double e = 0.0;
    double before = 0.0;
    for (int t = 1; t <= 160; ++t) {
        const double x = 5.0 + 2.0 * std::sin(t / 9.0) + 0.3 * normal();
        const double sd = std::sqrt(0.05 + 0.85 * before * before);
        const double shock = sd * normal() * (t > 100 ? 3.0 : 1.0);
        before = shock / (t > 100 ? 3.0 : 1.0);
        e = 0.75 * e + shock;
        const double y = 20.0 + (t <= 80 ? 1.0 : 1.9) * x + (t > 80 ? 3.0 : 0.0) + e;
        text += QString("%1,%2,%3\n").arg(t).arg(y, 0, 'g', 8).arg(x, 0, 'g', 8).toUtf8();
    }
    return text;
}

/// Rows where p is moved by what moves y: z1 moves it from outside, z2 acts on y itself, v and w
/// hardly move anything.
QByteArray untidyCauses() {
    QByteArray text = "y,p,x,z1,z2,z3,v,w\n";
    Normal normal(5);
    for (int i = 0; i < 400; ++i) {
        const double x = normal();
        const double z1 = normal();
        const double z2 = normal();
        const double z3 = normal();
        const double u = normal();
        const double p = 0.5 * x + 0.8 * z1 + 0.5 * z2 + 0.4 * z3 + u + 0.5 * normal();
        const double y = 1.0 + 0.5 * p + 0.3 * x + 0.9 * u + 0.8 * z2 + 0.5 * normal();
        text += QString("%1,%2,%3,%4,%5,%6,%7,%8\n")
                    .arg(y, 0, 'g', 8)
                    .arg(p, 0, 'g', 8)
                    .arg(x, 0, 'g', 8)
                    .arg(z1, 0, 'g', 8)
                    .arg(z2, 0, 'g', 8)
                    .arg(z3, 0, 'g', 8)
                    .arg(normal(), 0, 'g', 8)
                    .arg(normal(), 0, 'g', 8)
                    .toUtf8();
    }
    return text;
}

/// Units whose levels go with x, errors that carry over, moments that all share.
QByteArray untidyPanel() {
    QByteArray text = "unit,moment,y,x\n";
    Normal normal(6);
    std::vector<double> shared;
    for (int t = 0; t < 10; ++t) {
        shared.push_back(normal());
    }
    for (int u = 0; u < 40; ++u) {
        const double level = normal();
        double e = normal();
        for (int t = 0; t < 10; ++t) {
            const double x = 0.8 * level + normal();
            e = 0.7 * e + 0.7 * normal();
            text += QString("u%1,%2,%3,%4\n")
                        .arg(u)
                        .arg(t + 1)
                        .arg(1.0 + 0.5 * x + level + 1.2 * shared[static_cast<std::size_t>(t)] +
                                 0.5 * e,
                             0, 'g', 8)
                        .arg(x, 0, 'g', 8)
                        .toUtf8();
        }
    }
    return text;
}

/// Counts with more spread and zeros than Poisson has, a yes that bends with x, levels whose cuts
/// do not run alike, and weights that go with the effect.
QByteArray untidyOutcomes() {
    QByteArray text = "count,yes,level,y,x,z,w,sure,even\n";
    Normal normal(7);
    for (int i = 0; i < 400; ++i) {
        const double x = normal();
        const double z = normal();
        const double w = 0.6 + 0.5 * (i % 5);
        const double mean = std::exp(1.0 + 0.4 * x + 0.6 * normal());
        const int count = i % 3 == 0 ? 0 : static_cast<int>(mean);
        const int yes = x * x - 0.8 + 0.9 * normal() > 0.0 ? 1 : 0;
        const double latent = 0.9 * x + normal();
        int level = latent < -0.6 ? 1 : latent < 0.5 ? 2 : 3;
        if (level == 3 && z > 0.7) {
            level = 4;
        }
        // A Poisson count: how many waiting times go into one.
        int even = -1;
        for (double passed = 0.0; passed < std::exp(0.6 + 0.3 * x); ++even) {
            const double a = normal();
            const double b = normal();
            passed += 0.5 * (a * a + b * b);
        }
        text += QString("%1,%2,%3,%4,%5,%6,%7,%8,%9\n")
                    .arg(count)
                    .arg(yes)
                    .arg(level)
                    .arg(1.0 + (0.4 + 0.8 * w) * x + 0.5 * z + 0.6 * normal(), 0, 'g', 8)
                    .arg(x, 0, 'g', 8)
                    .arg(z, 0, 'g', 8)
                    .arg(w)
                    .arg(x + 0.05 * z > 0.5 ? 1 : 0)
                    .arg(even)
                    .toUtf8();
    }
    return text;
}

/// Units that change at different moments with an effect that grows, moved already before; an
/// outcome that carries over with errors that do, too.
QByteArray untidyChanges() {
    QByteArray text = "unit,moment,y,x,on,slow\n";
    Normal normal(8);
    for (int u = 0; u < 60; ++u) {
        const double level = normal();
        const int start = u % 4 == 0 ? 99 : 4 + 2 * (u % 3);
        double before = normal();
        double slow = level;
        for (int t = 1; t <= 10; ++t) {
            const double x = normal();
            const double now = normal();
            const double e = now + 0.9 * before;
            before = now;
            const bool on = t >= start;
            slow = 0.6 * slow + 0.5 * x + level + e;
            const double y = level + 0.2 * t + 0.5 * x + (on ? 1.0 + 0.5 * (t - start) : 0.0) +
                             (start < 99 ? 0.25 * t : 0.0) + 0.6 * normal();
            text += QString("u%1,%2,%3,%4,%5,%6\n")
                        .arg(u)
                        .arg(t)
                        .arg(y, 0, 'g', 8)
                        .arg(x, 0, 'g', 8)
                        .arg(on ? 1 : 0)
                        .arg(slow, 0, 'g', 8)
                        .toUtf8();
        }
    }
    return text;
}

/// Walks that have nothing to do with each other: one series of each, or units of both.
QByteArray walks(int units, int moments) {
    QByteArray text = "unit,moment,y,x\n";
    Normal normal(14);
    for (int u = 0; u < units; ++u) {
        double y = 0.0;
        double x = 0.0;
        for (int t = 1; t <= moments; ++t) {
            y += 0.5 + normal();
            x += 0.4 + normal();
            text += QString("u%1,%2,%3,%4\n")
                        .arg(u)
                        .arg(t)
                        .arg(y, 0, 'g', 8)
                        .arg(x, 0, 'g', 8)
                        .toUtf8();
        }
    }
    return text;
}

/// Units over time with a slip of every kind that a question can carry.
QByteArray oddCells() {
    QByteArray text = "unit,moment,y,days,zone,soil,price,copy\n";
    Normal normal(11);
    for (int u = 0; u < 60; ++u) {
        const double level = normal();
        for (int t = 1; t <= 4; ++t) {
            const double days = 20.0 + std::round(6.0 * normal());
            const bool silent = (u * 4 + t) % 23 == 0;
            const double price = (u + t) % 9 == 0 ? 500.0 : 480.0 + 25.0 * normal();
            const double y = level + 0.05 * days + 0.01 * price + normal();
            const QByteArray line = QString("u%1,%2,%3,%4,%5,%6,%7,%8\n")
                                        .arg(u)
                                        .arg(t)
                                        .arg(y, 0, 'g', 8)
                                        .arg(silent ? -99.0 : days)
                                        .arg(u == 7       ? "valley"
                                             : u % 2 == 0 ? "Slope"
                                                          : "Valley",
                                             (u == 20 && t == 2) != (u % 3 == 0) ? "clay" : "loam")
                                        .arg(price, 0, 'g', 8)
                                        .arg(2.0 * price, 0, 'g', 8)
                                        .toUtf8();
            text += line;
            text += u == 33 && t == 3 ? line : QByteArray();
        }
    }
    return text;
}

}  // namespace

class RemediesTest : public QObject {
    Q_OBJECT

    std::unique_ptr<MainWindow> window_;
    QTemporaryDir place_;
    std::set<std::string> tried_;  ///< Ids of checks whose remedies were pressed.
    std::set<std::string> kinds_;  ///< The first two words of each remedy.

    void write(const char* name, const QByteArray& text) {
        QFile file(place_.filePath(name));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text);
    }

    void settle() { window_->settle(); }

    void ask(const QString& study) {
        write("study.rapporto", study.toUtf8());
        window_->openPath(place_.filePath("study.rapporto"));
        settle();
        QVERIFY(window_->session().answer() != nullptr);
        const auto refusal = window_->session().answer()->refusal;
        QVERIFY2(!refusal, refusal ? refusal->text().c_str() : "");
        window_->showStage(3);
        settle();
    }

    /// Presses each remedy of each check, looks at the variant, and takes it back.
    void pressAll() {
        const std::string original = window_->session().question()->id;
        const auto checks = window_->session().answer()->checks;
        auto* list = window_->findChild<CheckList*>();
        for (const CheckResult& check : checks) {
            const bool doubtful =
                check.verdict == Verdict::Fails || check.verdict == Verdict::Weigh;
            QVERIFY2(!doubtful || !check.remedies.empty() || check.id == "leverage",
                     (check.id + " fails without a next step").c_str());
            for (const Remedy& remedy : check.remedies) {
                if (list->rowOf(checkKey(check)).isEmpty()) {
                    const QRect asked = list->questionOf(checkKey(check));
                    QTest::mouseClick(list, Qt::LeftButton, {}, asked.center());
                }
                QTest::mouseClick(list, Qt::LeftButton, {}, list->rowOf(checkKey(check)).center());
                settle();
                auto* card = window_->findChild<QPushButton*>("card:" + text(remedy.label));
                QVERIFY2(card != nullptr, (check.id + ": " + remedy.label).c_str());
                QTest::mouseClick(card, Qt::LeftButton);
                settle();
                const Question* variant = window_->session().question();
                QVERIFY2(variant->id != original, remedy.label.c_str());
                QCOMPARE(variant->variantOf, original);
                const auto answer = window_->session().answer();
                QVERIFY2(answer && !answer->refusal,
                         (check.id + ", " + remedy.label + ": " +
                          (answer && answer->refusal ? answer->refusal->text() : "no answer"))
                             .c_str());
                QVERIFY2(!answer->question.sameAs(*window_->session().study().find(original)),
                         remedy.label.c_str());
                QVERIFY(answer->trace ? !answer->trace->effects.empty()
                                      : !answer->fit->coefficients.empty());
                // The original keeps its answer, and undo takes the variant back.
                const auto kept = window_->session().answer(original);
                QVERIFY(kept->fit != nullptr || kept->trace != nullptr);
                QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
                settle();
                QCOMPARE(window_->session().study().questions.size(), std::size_t{1});
                tried_.insert(check.id);
                const QStringList words = text(remedy.label).split(' ');
                kinds_.insert(utf8(words.mid(0, 2).join(' ')));
            }
        }
    }

    [[nodiscard]] static QString rowsStudy(const QString& question) {
        return QString(R"({"format":"rapporto-study","version":1,"title":"rows",
            "source":{"kind":"table","file":"rows.csv"},"questions":[%1]})")
            .arg(question);
    }

    [[nodiscard]] static QString seriesStudy(const QString& question) {
        return QString(R"({"format":"rapporto-study","version":1,"title":"moments",
            "source":{"kind":"table","file":"moments.csv"},
            "layout":{"kind":"series","time":"moment"},"questions":[%1]})")
            .arg(question);
    }

  private slots:

    void initTestCase() {
        QVERIFY(place_.isValid());
        write("rows.csv", untidyRows());
        write("moments.csv", untidyMoments());
        write("causes.csv", untidyCauses());
        write("panel.csv", untidyPanel());
        write("outcomes.csv", untidyOutcomes());
        write("changes.csv", untidyChanges());
        write("odd.csv", oddCells());
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    }

    void cleanupTestCase() { window_.reset(); }

    void ofRows() {
        ask(rowsStudy(R"q({"id":"q1","outcome":"y","terms":["x","z","g"]})q"));
        pressAll();
    }

    void ofLoggedRows() {
        ask(rowsStudy(R"q({"id":"q1","outcome":"ln(y)","terms":["x","z","g"],"without":[18]})q"));
        pressAll();
    }

    void ofTermsThatSayTheSame() {
        ask(rowsStudy(R"q({"id":"q1","outcome":"ln(y)","terms":["x","twin","z"]})q"));
        pressAll();
    }

    void ofParts() {
        ask(rowsStudy(R"q({"id":"q1","outcome":"ln(y)","terms":["x","z"],"without":[18],
            "checks":[{"id":"chow","by":"g"},{"id":"intraclass","by":"village"}]})q"));
        pressAll();
    }

    void ofMoments() {
        ask(seriesStudy(R"q({"id":"q1","outcome":"y","terms":["x"]})q"));
        pressAll();
    }

    void ofAKnownMoment() {
        ask(seriesStudy(R"q({"id":"q1","outcome":"y","terms":["x"],
            "checks":[{"id":"chow","at":"81"}]})q"));
        pressAll();
        QVERIFY(tried_.contains("chow"));
    }

    void ofCauses() {
        const QString study = R"({"format":"rapporto-study","version":1,"title":"causes",
            "source":{"kind":"table","file":"causes.csv"},"questions":[%1]})";
        const QString asked = R"q({"id":"q1","outcome":"y","terms":["x"],"endogenous":["p"],
            "instruments":[%1],"estimator":{"method":"%2"},
            "checks":["endogeneity","over-identification","difference-j","weak-instruments",
                      "under-identification","anderson-rubin"]})q";
        ask(study.arg(asked.arg(R"("z1","z3")", "least-squares")));
        pressAll();
        QVERIFY(tried_.contains("endogeneity"));
        ask(study.arg(asked.arg(R"("z1","z2","z3")", "two-stage")));
        pressAll();
        QVERIFY(tried_.contains("over-identification") && tried_.contains("difference-j"));
        ask(study.arg(asked.arg(R"("v + w")", "two-stage")));
        pressAll();
        QVERIFY(tried_.contains("weak-instruments") && tried_.contains("under-identification"));
    }

    void ofAPanel() {
        ask(R"({"format":"rapporto-study","version":1,"title":"panel",
            "source":{"kind":"table","file":"panel.csv"},
            "layout":{"kind":"panel","unit":"unit","time":"moment"},
            "questions":[{"id":"q1","outcome":"y","terms":["x"]}]})");
        pressAll();
        QVERIFY(tried_.contains("hausman") && tried_.contains("panel-serial"));
    }

    void ofCounts() {
        const QString study = R"({"format":"rapporto-study","version":1,"title":"counts",
            "source":{"kind":"table","file":"outcomes.csv"},"questions":[%1]})";
        const QString asked = R"q({"id":"q1","outcome":"count","terms":["x","z"],
            "estimator":%1})q";
        ask(study.arg(asked.arg(R"({"method":"poisson"})")));
        pressAll();
        QVERIFY(tried_.contains("overdispersion") && tried_.contains("pearson-dispersion") &&
                tried_.contains("zero-excess") && tried_.contains("rootogram"));
        ask(study.arg(asked.arg(R"({"method":"negative-binomial"})")));
        pressAll();
        // A part for zeros that a plain count does not want.
        ask(study.arg(R"q({"id":"q1","outcome":"even","terms":["x"],
            "estimator":{"method":"hurdle"}})q"));
        pressAll();
        QVERIFY(tried_.contains("vuong"));
    }

    void ofYesAndNo() {
        const QString study = R"({"format":"rapporto-study","version":1,"title":"yes",
            "source":{"kind":"table","file":"outcomes.csv"},"questions":[%1]})";
        ask(study.arg(R"q({"id":"q1","outcome":"yes","terms":["x"],
            "estimator":{"method":"logit"}})q"));
        pressAll();
        QVERIFY(tried_.contains("hosmer-lemeshow") && tried_.contains("roc"));
        ask(study.arg(R"q({"id":"q1","outcome":"sure","terms":["x","w"],
            "checks":["separation"],"estimator":{"method":"probit"}})q"));
        pressAll();
        ask(study.arg(R"q({"id":"q1","outcome":"level","terms":["x","z"],
            "estimator":{"method":"ordered-logit"}})q"));
        pressAll();
        QVERIFY(tried_.contains("parallel-lines"));
    }

    void ofOddRows() {
        ask(rowsStudy(R"q({"id":"q1","outcome":"y","terms":["x","z"],
            "estimator":{"method":"mm"}})q"));
        pressAll();
        QVERIFY(tried_.contains("held-down"));
    }

    void ofWeights() {
        ask(R"q({"format":"rapporto-study","version":1,"title":"weights",
            "source":{"kind":"table","file":"outcomes.csv"},"questions":[
            {"id":"q1","outcome":"y","terms":["x","z"],
             "weights":{"kind":"sampling","variable":"w"},"checks":["weights-matter"]}]})q");
        pressAll();
        QVERIFY(tried_.contains("weights-matter"));
    }

    void ofChanges() {
        const QString study = R"({"format":"rapporto-study","version":1,"title":"changes",
            "source":{"kind":"table","file":"changes.csv"},
            "layout":{"kind":"panel","unit":"unit","time":"moment"},"questions":[%1]})";
        ask(study.arg(R"q({"id":"q1","outcome":"y","terms":["on","x"],
            "fixed_effects":["unit","moment"],"checks":["pre-trend","who-is-compared"]})q"));
        pressAll();
        QVERIFY(tried_.contains("pre-trend") && tried_.contains("who-is-compared"));
        ask(study.arg(R"q({"id":"q1","outcome":"slow","terms":["lag(slow)","x"],
            "estimator":{"method":"within"},"checks":["lagged-outcome"]})q"));
        pressAll();
        QVERIFY(tried_.contains("lagged-outcome"));
        ask(study.arg(R"q({"id":"q1","outcome":"slow","terms":["lag(slow)","x"],
            "estimator":{"method":"system-gmm","steps":"two"},"errors":{"kind":"robust"},
            "checks":["differences-serial","over-identification"]})q"));
        pressAll();
        QVERIFY(tried_.contains("differences-serial"));
    }

    void ofSeriesThatTrend() {
        write("walks.csv", walks(1, 120));
        write("units.csv", walks(12, 40));
        const QString study = R"({"format":"rapporto-study","version":1,"title":"walks",
            "source":{"kind":"table","file":"%1.csv"},"layout":%2,"questions":[%3]})";
        ask(study.arg("walks", R"({"kind":"series","time":"moment"})", R"q({"id":"q1",
            "outcome":"y","terms":["x"],
            "checks":["shared-trend","unit-root","level-stationary"]})q"));
        pressAll();
        QVERIFY(tried_.contains("shared-trend") && tried_.contains("unit-root"));
        ask(study.arg("units", R"({"kind":"panel","unit":"unit","time":"moment"})",
                      R"q({"id":"q1","outcome":"y","terms":["x"],
            "checks":["panel-unit-root"]})q"));
        pressAll();
        QVERIFY(tried_.contains("panel-unit-root"));
    }

    void ofGroups() {
        // Few groups whose levels lean far to one side and go with x, and names that say nothing.
        QByteArray text = "group,name,y,x\n";
        Normal normal(12);
        for (int g = 0; g < 28; ++g) {
            const double level = std::exp(1.5 * normal());
            for (int i = 0; i < 12; ++i) {
                const double x = 0.8 * level + normal();
                text += QString("g%1,n%2,%3,%4\n")
                            .arg(g)
                            .arg(i % 9)
                            .arg(0.5 * x + level + 0.8 * normal(), 0, 'g', 8)
                            .arg(x, 0, 'g', 8)
                            .toUtf8();
            }
        }
        write("groups.csv", text);
        const QString study = R"({"format":"rapporto-study","version":1,"title":"groups",
            "source":{"kind":"table","file":"groups.csv"},"questions":[{"id":"q1","outcome":"y",
            "terms":["x"],"estimator":{"method":"multilevel","levels":[{"by":"%1"}]},
            "checks":["random-part","within-between","few-groups","groups-normal"]}]})";
        ask(study.arg("group"));
        pressAll();
        for (const char* id : {"random-part", "within-between", "few-groups", "groups-normal"}) {
            QVERIFY2(tried_.contains(id), id);
        }
        ask(study.arg("name"));
        pressAll();
        // Amounts that are logarithms at heart: their rows bend, scatter with the terms and with
        // their group, and lean.
        QByteArray amounts = "group,y,x\n";
        for (int g = 0; g < 16; ++g) {
            const double level = 0.9 * normal();
            for (int i = 0; i < 11; ++i) {
                const double x = normal();
                amounts += QString("g%1,%2,%3\n")
                               .arg(g)
                               .arg(std::exp(1.0 + 0.6 * x + level + 0.6 * normal()), 0, 'g', 8)
                               .arg(x, 0, 'g', 8)
                               .toUtf8();
            }
        }
        write("amounts.csv", amounts);
        ask(R"({"format":"rapporto-study","version":1,"title":"amounts",
            "source":{"kind":"table","file":"amounts.csv"},"questions":[{"id":"q1","outcome":"y",
            "terms":["x"],"estimator":{"method":"multilevel","levels":[{"by":"group"}]},
            "checks":["rows-shape","groups-spread","rows-normal"]}]})");
        pressAll();
        // Rows that fan out along a term.
        QByteArray fans = "group,y,x\n";
        for (int g = 0; g < 40; ++g) {
            const double level = normal();
            for (int i = 0; i < 10; ++i) {
                const double x = normal();
                fans += QString("g%1,%2,%3\n")
                            .arg(g)
                            .arg(30.0 + x + level + std::exp(0.5 * x) * normal(), 0, 'g', 8)
                            .arg(x, 0, 'g', 8)
                            .toUtf8();
            }
        }
        write("fans.csv", fans);
        ask(R"({"format":"rapporto-study","version":1,"title":"fans",
            "source":{"kind":"table","file":"fans.csv"},"questions":[{"id":"q1","outcome":"y",
            "terms":["x"],"estimator":{"method":"multilevel","levels":[{"by":"group"}]},
            "checks":["rows-spread"]}]})");
        pressAll();
        for (const char* id : {"rows-shape", "rows-spread", "groups-spread", "rows-normal"}) {
            QVERIFY2(tried_.contains(id), id);
        }
    }

    /// An effect that somebody has to defend, and cannot: two villages of six have the cause, a
    /// term goes with it as strongly as it does, and who is seen hangs on it.
    void ofAnEffectDefended() {
        const auto noise = [](int k) {
            const double x = std::sin(k * 12.9898) * 43758.5453;
            return x - std::floor(x) - 0.5;
        };
        QByteArray text = "y,member,z,village,office\n";
        for (int i = 0; i < 120; ++i) {
            const int village = i % 6;
            const int member = village < 2 ? 1 : 0;
            const double z = 0.9 * member + 2.0 * noise(i + 1);
            const double y =
                0.4 * member + 0.6 * z + 2.5 * noise(i + 500) + 0.1 * noise(village + 900);
            const bool gone = noise(i + 2000) > (member == 1 ? 0.45 : -0.1);
            text += (gone ? QByteArray() : QByteArray::number(y, 'f', 4)) + "," +
                    QByteArray::number(member) + "," + QByteArray::number(z, 'f', 4) + ",V" +
                    QByteArray::number(village) + ",O" + QByteArray::number(i % 7) + "\n";
        }
        write("defend.csv", text);
        ask(R"({"format":"rapporto-study","version":1,"title":"defend",
            "source":{"kind":"table","file":"defend.csv"},
            "variables":[{"name":"member","measure":"yes-no"}],"questions":[{"id":"q1",
            "outcome":"y","terms":["member","z"],
            "errors":{"kind":"clustered","by":["village"]},
            "left_out":{"of":"member","benchmarks":["z"],"multiples":[1]},
            "by_lot":{"of":"member","by":"village"},"worst_cases":{"of":"member"},
            "checks":["left-out","by-lot","not-seen"]}]})");
        for (const CheckResult& check : window_->session().answer()->checks) {
            QVERIFY2(isDoubt(check.verdict), check.id.c_str());
        }
        pressAll();
        for (const char* kind : {"Hold office", "Drop z", "Weigh the", "Intervals by"}) {
            QVERIFY2(kinds_.contains(kind), kind);
        }
    }

    void ofTraces() {
        const QString head = R"q({"format":"rapporto-study","version":1,"title":"ways",
            "source":{"kind":"table","file":"causes.csv"},"questions":[
            {"id":"q1","kind":"trace","paths":[{"to":"p","from":["z1"]},
             {"to":"y","from":["p","x"]}],)q";
        ask(head + R"q("draws":60,"checks":["draws","paths-left-out"]}]})q");
        pressAll();
        QVERIFY(tried_.contains("draws") && tried_.contains("paths-left-out"));
        // The checks of its equations have a next step, too, within the trace or beside it.
        ask(head + R"q("interval":"delta"}]})q");
        pressAll();
        ask(rowsStudy(R"q({"id":"q1","kind":"trace","paths":[{"to":"z","from":["x"]},
            {"to":"y","from":["z","x","g"]}],"interval":"delta","effects":[{"from":"x","to":"y"}]})q"));
        pressAll();
    }

    void ofDataThatAreNotWhatTheySeem() {
        ask(R"q({"format":"rapporto-study","version":1,"title":"odd",
            "source":{"kind":"table","file":"odd.csv"},
            "layout":{"kind":"panel","unit":"unit","time":"moment"},"questions":[
            {"id":"q1","outcome":"y","terms":["days","zone","soil","price","copy"],
             "checks":["answer-codes","spellings","repeats","twins","heaps","traits"]}]})q");
        for (const CheckResult& check : window_->session().answer()->checks) {
            QVERIFY2(isDoubt(check.verdict), check.id.c_str());
        }
        pressAll();
    }

    /// Last: what was pressed above is every remedy that there is.
    void everyCheckWithANextStepWasTried() {
        std::set<std::string> missing;
        for (const Check& check : allChecks()) {
            if (!tried_.contains(check.id)) {
                missing.insert(check.id);
            }
        }
        std::string said;
        for (const std::string& one : missing) {
            said += one + " ";
        }
        QVERIFY2(missing.empty(), said.c_str());
        for (const char* kind : {"Robust errors",
                                 "Log the",
                                 "Add the",
                                 "See it",
                                 "Cluster by",
                                 "Allow for",
                                 "Intervals by",
                                 "Drop x",
                                 "Add x",
                                 "Let the",
                                 "Fit the",
                                 "Ask by",
                                 "Take z2",
                                 "Limited information",
                                 "Fuller’s estimator",
                                 "Compare each",
                                 "Take the",
                                 "Hold the",
                                 "Errors shared",
                                 "Let zeros",
                                 "Put a",
                                 "Do without",
                                 "Give every",
                                 "Set the",
                                 "See each",
                                 "Weigh cohorts",
                                 "Hold each",
                                 "Instruments by",
                                 "Give each",
                                 "Add a",
                                 "Ask in",
                                 "Error-correction form"}) {
            QVERIFY2(kinds_.contains(kind) ||
                         (std::string(kind) == "Drop x" && kinds_.contains("Drop twin")),
                     kind);
        }
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    RemediesTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "remedies_test.moc"
