// Counts, quantiles, odd rows and changes over time, in the real window on the demo.
#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/model/effect_rows.h"
#include "core/model/event_study.h"
#include "core/model/likelihood.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QComboBox>
#include <QFileInfo>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSlider>
#include <QTest>

#include <algorithm>
#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class OutcomesWindowTest : public WindowDriver {
    Q_OBJECT

    /// Opens the ways of estimating and takes the first that has these words.
    void by(const QString& words) {
        click("slot:method");
        take(words);
    }

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

    void init() { openDemo(); }

    void cleanup() { window_.reset(); }

    void visitsSpreadMoreThanTheirMean() {
        ask("advisor_visits", {"member"});
        by("a Poisson count");
        QCOMPARE(session().question()->method, std::string("poisson"));
        QVERIFY(answer().fit->likelihood != nullptr);
        // The check objects, and its remedy lets the spread exceed the mean.
        openCheck("overdispersion");
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

    void whatIsLeftOfCountsAndWhatDoesNotApply() {
        ask("advisor_visits", {"member", "hives"});
        by("a Poisson count");
        window_->showStage(3);
        window_->settle();
        // What applies to least squares alone is folded away, and there at a click or a key.
        auto* list = window_->findChild<CheckList*>();
        QVERIFY(!list->questionOf("overdispersion").isEmpty());
        QVERIFY(list->questionOf("breusch-pagan").isEmpty());
        QTest::mouseClick(list, Qt::LeftButton, {}, list->foldPlace().center());
        QVERIFY(!list->questionOf("breusch-pagan").isEmpty());
        QTest::mouseClick(list, Qt::LeftButton, {}, list->foldPlace().center());
        QVERIFY(list->questionOf("breusch-pagan").isEmpty());
        // A question unfolds to its checks by a click and by keys.
        QVERIFY(!list->rowOf("overdispersion").isEmpty());
        QTest::keyClick(list, Qt::Key_Left);
        QVERIFY(list->rowOf("overdispersion").isEmpty());
        QTest::keyClick(list, Qt::Key_Right);
        QVERIFY(!list->rowOf("overdispersion").isEmpty());
        // A check that says nothing here is not what stands open.
        QVERIFY(std::any_of(answer().checks.begin(), answer().checks.end(), [](const auto& c) {
            return c.id == "overdispersion" && c.verdict == Verdict::Fails;
        }));
        click("checks:overview");
        const auto shown = [&](const char* title) -> PlotView* {
            for (auto* plot : window_->findChildren<PlotView*>()) {
                if (plot->isVisible() && plot->exhibit().title == title) {
                    return plot;
                }
            }
            return nullptr;
        };
        auto* normal = shown("Against the normal law");
        QVERIFY(normal != nullptr && shown("Along the fit") != nullptr &&
                shown("Along hives") != nullptr);
        // A Poisson count leaves its band, a negative binomial lies in it.
        const auto outside = [](const Exhibit& e) {
            std::size_t count = 0;
            const auto& band = e.bands.front();
            for (std::size_t i = 0; i < e.x.size(); ++i) {
                const auto at = std::lower_bound(band.x.begin(), band.x.end(), e.x[i]);
                if (at == band.x.end()) {
                    continue;
                }
                const auto b = static_cast<std::size_t>(at - band.x.begin());
                count += e.y[i] < band.low[b == 0 ? 0 : b - 1] || e.y[i] > band.high[b] ? 1 : 0;
            }
            return static_cast<double>(count) / static_cast<double>(e.x.size());
        };
        QVERIFY(outside(normal->exhibit()) > 0.2);
        by("a negative binomial");
        QVERIFY(outside(shown("Against the normal law")->exhibit()) < 0.05);
        // Groups without an order leave none, and that is said once.
        Question q = *session().question();
        q.outcome = "zone";
        q.method = "multinomial-logit";
        q.terms = {Term::expression("age")};
        session().putQuestion(q, "asked");
        window_->settle();
        QVERIFY(answer().fit != nullptr);
        QVERIFY(shown("Against the normal law") == nullptr);
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
        openCheck("held-down");
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

    /// Revenue is known of members alone: who is seen gets an equation of its own, by chips.
    void revenueThatSomeLack() {
        session().edit(
            PutDerived{{"members_revenue", "case when member = 1 then ln(revenue_fl) end",
                        "Log revenue of members"}},
            "derive");
        window_->settle();
        ask("members_revenue", {"hives", "schooling_years"});
        by("an outcome that some rows lack");
        QCOMPARE(session().question()->method, std::string("heckman"));
        click("slot:zero");
        auto* finder = window_->findChild<Finder*>();
        auto* line = finder->findChild<QLineEdit*>();
        QTest::keyClicks(line, "road_km");
        QTest::keyClick(line, Qt::Key_Return);
        window_->activateWindow();
        window_->settle();
        QCOMPARE(session().question()->settings.zeroTerms, std::vector<std::string>{"road_km"});
        QVERIFY2(answer().fit != nullptr, answer().refusal ? answer().refusal->text().c_str() : "");
        QVERIFY(answer().fit->likelihood->unseen > 300);
        QVERIFY(answer().design->rows.size() < answer().rows.used);
        QCOMPARE(answer().fit->coefficients.back().term, std::string("rho"));
        // Enter on the chip changes it, and does not add to it.
        click("zero:0");
        QTest::keyClicks(line, "market_km");
        QTest::keyClick(line, Qt::Key_Return);
        window_->activateWindow();
        window_->settle();
        QCOMPARE(session().question()->settings.zeroTerms, std::vector<std::string>{"market_km"});
        // Delete takes the chip out of the sentence again.
        auto* chip = find<QPushButton>("zero:0");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_Delete);
        window_->settle();
        QVERIFY(session().question()->settings.zeroTerms.empty());
    }

    /// The cut of a classification is dragged; its words and the curve follow.
    void aCutIsMoved() {
        ask("member", {"schooling_years", "road_km"});
        by("logit");
        openCheck("roc");
        auto* cut = find<QSlider>("checks:cut");
        auto* words = find<QLabel>("checks:cutWords");
        QVERIFY(cut->isVisible() && words->isVisible());
        const QString before = words->text();
        cut->setFocus();
        for (int i = 0; i < 12; ++i) {
            QTest::keyClick(cut, Qt::Key_Left);
        }
        QVERIFY(cut->value() < 50);
        QVERIFY(words->text() != before);
        QVERIFY(words->text().contains(QString::number(cut->value())));
        openCheck("hosmer-lemeshow");
        QVERIFY(!cut->isVisible());
    }

    /// Effects in the groups of a variable on the page Shape; the curve comes once for each.
    void effectsByZone() {
        ask("member", {"schooling_years", "zone"});
        by("logit");
        click("tab:Shape");
        auto* groups = find<QComboBox>("curve:by");
        groups->setCurrentIndex(groups->findData(QString("zone")));
        emit groups->activated(groups->currentIndex());
        window_->settle();
        QString said;
        for (const QLabel* label : window_->findChildren<QLabel*>()) {
            said += label->text();
        }
        QVERIFY2(said.contains("points") &&
                     (said.contains("more than in") || said.contains("less than in")),
                 qPrintable(said));
    }

    /// What is left stays as a variable when the question moves on.
    void whatIsLeftIsKept() {
        ask("ln(revenue_fl)", {"hives"});
        window_->showStage(3);
        window_->settle();
        click("checks:rows");
        click("card:Keep what is left as a variable");
        const auto& kept = session().study().kept;
        QCOMPARE(kept.size(), std::size_t{1});
        const std::string name = kept[0].name;
        QVERIFY(session().frame()->column(name) != nullptr);
        const double first = answer().fit->residuals(0);
        const std::size_t row = answer().design->rows[0];
        ask("ln(revenue_fl)", {"schooling_years"});
        QVERIFY(answer().fit->residuals(0) != first);
        QCOMPARE(session().frame()->column(name)->numbers()[row], first);
        // It is a variable like others: as a term, and undone as a step.
        ask("hives", {name});
        QVERIFY(std::abs(answer().fit->coefficients[1].estimate) < 1e-9);
        session().undo();
        session().undo();
        session().undo();
        window_->settle();
        QVERIFY(session().study().kept.empty());
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
