// Counts, quantiles, odd rows and changes over time, in the real window on the demo.
#include "app/plots/plot_view.h"
#include "app/shell/finder.h"
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/model/effect_rows.h"
#include "core/model/event_study.h"
#include "core/model/likelihood.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"

#include <QApplication>
#include <QFileInfo>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;

class OutcomesWindowTest : public QObject {
    Q_OBJECT

    std::unique_ptr<MainWindow> window_;

    template <class T>
    T* find(const QString& name) {
        T* found = window_->findChild<T*>(name);
        if (found == nullptr) {
            qFatal("no widget %s", qPrintable(name));
        }
        return found;
    }

    void click(const QString& name) {
        QTest::mouseClick(find<QPushButton>(name), Qt::LeftButton);
        window_->settle();
    }

    /// Opens the ways of estimating and takes the first that has these words.
    void by(const QString& words) {
        click("slot:method");
        auto* finder = window_->findChild<Finder*>();
        QVERIFY(finder != nullptr && finder->isVisible());
        auto* line = finder->findChild<QLineEdit*>();
        QTest::keyClicks(line, words);
        QTest::keyClick(line, Qt::Key_Return);
        window_->activateWindow();
        window_->settle();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    }

    Session& session() { return window_->session(); }

    [[nodiscard]] const Answer& answer() { return *session().answer(); }

    [[nodiscard]] int place(const std::string& term) {
        for (std::size_t c = 0; c < answer().fit->coefficients.size(); ++c) {
            if (answer().fit->coefficients[c].term == term) {
                return static_cast<int>(c);
            }
        }
        return -1;
    }

    void ask(const std::string& outcome, const std::vector<std::string>& terms) {
        Question q = *session().question();
        q.outcome = outcome;
        q.terms.clear();
        for (const std::string& term : terms) {
            q.terms.push_back(Term::expression(term));
        }
        q.errors = ErrorSpec{};
        session().putQuestion(q, "asked");
        window_->settle();
        QVERIFY2(answer().fit != nullptr, answer().refusal ? answer().refusal->text().c_str() : "");
    }

  private slots:

    void init() {
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
        session().openDemo();
        window_->settle();
        window_->showStage(2);
        window_->settle();
    }

    void cleanup() { window_.reset(); }

    void visitsSpreadMoreThanTheirMean() {
        ask("advisor_visits", {"member"});
        by("a Poisson count");
        QCOMPARE(session().question()->method, std::string("poisson"));
        QVERIFY(answer().fit->likelihood != nullptr);
        // The check objects, and its remedy lets the spread exceed the mean.
        window_->showStage(3);
        window_->settle();
        auto* list = window_->findChild<CheckList*>();
        QTest::mouseClick(list, Qt::LeftButton, {}, list->rowOf("overdispersion").center());
        window_->settle();
        click("card:Let the spread exceed the mean");
        QCOMPARE(session().question()->method, std::string("negative-binomial"));
        const LikelihoodFit& told = *answer().fit->likelihood;
        // The truth: .8, 1.4 more for members, a dispersion of .6.
        QVERIFY(std::abs(*told.dispersion - 0.6) < 4.0 * *told.dispersionSe);
        window_->showStage(2);
        window_->settle();
        const Coefficient& member =
            answer().fit->coefficients[static_cast<std::size_t>(place("member"))];
        QVERIFY(member.low < std::log(2.2 / 0.8) && member.high > std::log(2.2 / 0.8));
        auto* rows = window_->findChild<EffectRows*>();
        click("tab:ratio");
        QVERIFY(std::abs(rows->cells(place("member"))[1].toDouble() - std::exp(member.estimate)) <
                0.05);
        click("tab:on the outcome");
        QVERIFY(std::abs(rows->cells(place("member"))[1].toDouble() - 1.4) < 0.5);
        // The row that is chosen is the one that is read; a constant has no effect.
        QCOMPARE(rows->cells(place("(constant)"))[1], QString("–"));
        QCOMPARE(rows->cells(place("member")).front(), QString("member"));
        // Clustered errors still answer, standardised effects are not offered.
        QVERIFY(!find<QPushButton>("tab:standardised")->isVisible());
    }

    void membershipAsOdds() {
        ask("member", {"road_km", "office_km", "schooling_years"});
        by("logit");
        QCOMPARE(session().question()->method, std::string("logit"));
        click("tab:ratio");
        auto* rows = window_->findChild<EffectRows*>();
        // Further away, lower odds.
        QVERIFY(rows->cells(place("road_km"))[1].toDouble() < 1.0);
        click("tab:on the outcome");
        QVERIFY(rows->cells(place("road_km"))[1].startsWith(QChar(0x2212)));
        const CheckResult* roc = nullptr;
        for (const CheckResult& check : answer().checks) {
            roc = check.id == "roc" ? &check : roc;
        }
        QVERIFY(roc != nullptr && *roc->statistic > 0.5 && !roc->exhibit.lines.empty());
    }

    void revenueAlongItsDistribution() {
        by("quantiles .1");
        QVERIFY(answer().fit->quantile != nullptr);
        QCOMPARE(answer().fit->quantile->points.size(), std::size_t{5});
        click("tab:Along quantiles");
        auto* picture = find<PlotView>("processPicture");
        QVERIFY(picture->isVisible() && !picture->isEmpty());
        QCOMPARE(picture->exhibit().lines.front().x.size(), std::size_t{19});
        QCOMPARE(picture->exhibit().intervals.size(), std::size_t{5});
        by("least squares");
        QVERIFY(!find<QPushButton>("tab:Along quantiles")->isVisible());
    }

    void oddRowsAreHeldDownAndSetAside() {
        ask("ln_revenue", {"ln(orchard_ha)", "hives"});
        by("an MM");
        QVERIFY(answer().fit->robust != nullptr);
        const std::size_t before = answer().rows.used;
        QVERIFY(answer().fit->robust->out > 0);
        window_->showStage(3);
        window_->settle();
        auto* list = window_->findChild<CheckList*>();
        QTest::mouseClick(list, Qt::LeftButton, {}, list->rowOf("held-down").center());
        window_->settle();
        const CheckResult* held = nullptr;
        for (const CheckResult& check : answer().checks) {
            held = check.id == "held-down" ? &check : held;
        }
        QVERIFY(held != nullptr && !held->exhibit.marked.empty());
        const QString card = "card:" + text(held->remedies.front().label);
        click(card);
        QCOMPARE(session().question()->without.size(), before - answer().rows.used);
        QVERIFY(!session().question()->without.empty());
    }

    void netsBeforeAndAfter() {
        window_->openPath(QFileInfo(session().path()).absolutePath() + "/growers_panel.rapporto");
        window_->settle();
        window_->showStage(2);
        window_->settle();
        by("before and after a change of nets, by cohorts");
        QCOMPARE(session().question()->method, std::string("event-study"));
        const EventFit& event = *answer().fit->event;
        // The truth is .11 from the change on, and nothing before it.
        QVERIFY(std::abs(*event.after - 0.11) < 4.0 * event.afterSe);
        click("tab:Before and after");
        auto* picture = find<PlotView>("eventPicture");
        QVERIFY(picture->isVisible());
        QCOMPARE(picture->exhibit().intervals.size(), event.places.size() - 1);
        QCOMPARE(answer().fit->coefficients.front().designTerm < 0 ? 1 : 0, 1);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    OutcomesWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "outcomes_window_test.moc"
