// An effect defended and moments foretold, in the real window: by mouse and keyboard on the demo.
#include "app/plots/plot_view.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/model/model_stage.h"
#include "core/defend/defence.h"
#include "core/model/forecast.h"
#include "tests/app/window_driver.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class DefendWindowTest : public WindowDriver {
    Q_OBJECT

    /// Presses what the reading of Model offers by this name.
    bool press(const QString& label) {
        for (const ActionCard& card : window_->findChild<ModelStage*>()->reading().actions) {
            if (card.label == label) {
                card.act();
                window_->settle();
                return true;
            }
        }
        return false;
    }

    void openStudy(const char* name) {
        open();
        window_->openPath(QString(RAPPORTO_SOURCE_DIR "/demo/") + name);
        window_->settle();
        window_->showStage(2);
        window_->settle();
        QTRY_VERIFY(session().isComplete());
    }

    void typeInto(const QString& name, const QString& typed) {
        auto* field = find<QLineEdit>(name);
        field->setFocus();
        field->selectAll();
        QTest::keyClicks(field, typed);
        QTest::keyClick(field, Qt::Key_Return);
        window_->settle();
    }

    void choose(const QString& name, const QString& entry) {
        auto* box = find<QComboBox>(name);
        const int at = box->findText(entry);
        QVERIFY2(at >= 0, qPrintable(entry));
        box->setCurrentIndex(at);
        emit box->activated(at);
        window_->settle();
        QTRY_VERIFY(session().isComplete());
    }

  private slots:

    void cleanup() { window_.reset(); }

    /// Membership by lot: among rows of a village, then among all; a size typed; into the report.
    void membershipIsDrawnByLot() {
        openDemo();
        QVERIFY(press("Draw it by lot"));
        QTRY_VERIFY(session().isComplete());
        QVERIFY(answer().defence && *answer().defence->byLot);
        const double within = (*answer().defence->byLot)->p;
        QVERIFY(within < 0.05);
        QVERIFY2(readingText().contains("drawn by lot among"), qPrintable(readingText()));
        QVERIFY(!press("Draw it by lot"));  // It is answered here now.
        click("tab:Defend");
        QVERIFY(find<PlotView>("defendPicture")->isVisible());
        QVERIFY(readingText().contains("did nothing to anybody"));
        choose("defend:within", "all rows");
        QVERIFY(session().question()->byLot->within.empty());
        QVERIFY(*answer().defence->byLot);
        // Half of a village’s rows cannot draw a lot as one.
        choose("defend:by", "groups of village");
        QVERIFY(!*answer().defence->byLot);
        QVERIFY(!find<PlotView>("defendPicture")->isVisible());
        QVERIFY(find<QLabel>("defendWords")->text().contains("differs within groups of"));
        choose("defend:by", "rows");
        QVERIFY(find<PlotView>("defendPicture")->isVisible());
        // A size that matters, typed; what is none says so.
        click("tab:Effects");
        QVERIFY(press("How many rows would do"));
        click("tab:Defend");
        typeInto("defend:effect:0", "0,05");
        QCOMPARE(session().question()->planned.front().effect, 0.05);
        const double rows = answer().defence->planned.front()->rows;
        typeInto("defend:power:0", ".9");
        QVERIFY(answer().defence->planned.front()->rows > rows);
        typeInto("defend:effect:0", "nothing");
        QVERIFY(find<QLabel>("defend:problem")->text().contains("no size of an effect"));
        QCOMPARE(session().question()->planned.front().effect, 0.05);
        // Checks speak of it, and the page goes into the report.
        QTest::keyClick(window_.get(), Qt::Key_Return, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().report.back().item, std::string("defence"));
        window_->showStage(3);
        window_->settle();
        openCheck("by-lot");
        QVERIFY(reads("Drawn by lot among"));
        window_->showStage(5);
        window_->settle();
    }

    void whatWasNotSeenIsBounded() {
        openDemo();
        Question q = *session().question();
        // Storage is rated by those who store: many rows have every term and no rating.
        q.outcome = "household_income";
        q.terms = {Term::expression("member"), Term::expression("age")};
        q.fixedEffects.clear();
        q.errors = {};
        q.where.clear();
        session().putQuestion(q, "another outcome");
        window_->settle();
        QVERIFY(press("Worst cases"));
        QTRY_VERIFY(session().isComplete());
        QVERIFY2(readingText().contains("have no outcome"), qPrintable(readingText()));
        QVERIFY(readingText().contains("The outcome is seen in"));
        window_->showStage(3);
        window_->settle();
        openCheck("not-seen");
        QVERIFY(reads("Whatever the"));
    }

    /// A placebo stands beside the question, and can be undone.
    void aPlaceboIsAskedInOneAction() {
        openStudy("valley_yearly.rapporto");
        const auto questions = session().study().questions.size();
        QVERIFY(press("Placebo: the outcome before"));
        QCOMPARE(session().study().questions.size(), questions + 1);
        QCOMPARE(session().question()->outcome, std::string("lag(ln(exports_kt))"));
        QCOMPARE(session().question()->variantOf, std::string("q1"));
        QVERIFY(answer().fit != nullptr);
        session().undo();
        window_->settle();
        QCOMPARE(session().study().questions.size(), questions);
    }

    /// Moments to come: asked, more of them, with other ways to go on, refused in words, reported.
    void momentsToComeAreForetold() {
        openStudy("valley_yearly.rapporto");
        click("tab:Predict");
        click("predict:ahead");
        QVERIFY(find<QPushButton>("forecast:begin")->isVisible());
        click("forecast:begin");
        QTRY_VERIFY(session().isComplete());
        QVERIFY(answer().forecast && *answer().forecast);
        QCOMPARE((*answer().forecast)->points.size(), std::size_t{12});
        QCOMPARE((*answer().forecast)->points.front().moment, std::string("2024"));
        QVERIFY(find<PlotView>("forecastPicture")->isVisible());
        QVERIFY2(readingText().contains("Foretold for 2024"), qPrintable(readingText()));
        typeInto("forecast:moments", "5");
        QCOMPARE((*answer().forecast)->points.size(), std::size_t{5});
        typeInto("forecast:moments", "many");
        QVERIFY(find<QLabel>("forecast:message")->text().contains("no number of moments"));
        QCOMPARE(session().question()->forecast->moments, 5);
        const double before = (*answer().forecast)->points.back().mean.value;
        choose("forecast:way:rain_mm", "at its mean");
        QVERIFY((*answer().forecast)->points.back().mean.value != before);
        choose("forecast:way:rain_mm", "as a year before");
        QVERIFY(find<QLabel>("forecast:message")->text().contains("no season"));
        find<QComboBox>("forecast:way:rain_mm")->setCurrentIndex(3);
        emit find<QComboBox>("forecast:way:rain_mm")->activated(3);
        typeInto("forecast:values:rain_mm", "700; 650");
        QVERIFY(*answer().forecast);
        QCOMPARE(session().question()->forecast->terms.at("rain_mm").values.size(), std::size_t{2});
        QTest::keyClick(window_.get(), Qt::Key_Return, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().report.back().item, std::string("forecast"));
        click("forecast:out");
        QVERIFY(!session().question()->forecast);
        QVERIFY(find<QPushButton>("forecast:begin")->isVisible());
        // Another question without moments has no such page.
        openDemo();
        click("tab:Predict");
        QVERIFY(!find<QPushButton>("predict:ahead")->isVisible());
    }

    void theSeasonBecomesGroupsInOneAction() {
        openStudy("market_monthly.rapporto");
        auto* slot = find<QPushButton>("slot:proposed");
        QTest::mouseClick(slot, Qt::LeftButton);
        take("month of the year");
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->terms.back().parts.front(), std::string("season"));
        QVERIFY(session().frame()->variable("season")->measure == Measure::Groups);
        QVERIFY(answer().fit != nullptr);
        QVERIFY(answer().fit->coefficients.size() > 14);
    }
};

QTEST_MAIN(DefendWindowTest)
#include "defend_window_test.moc"
