// Series that merely trend, in the real window: from a share of .97 to a model in changes.
#include "app/stages/checks/checks_stage.h"
#include "app/stages/model/model_stage.h"
#include "core/model/feasible_ar.h"
#include "tests/app/window_driver.h"

#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class TrendsWindowTest : public WindowDriver {
    Q_OBJECT

    /// What the reading of Checks offers by this name.
    std::optional<ActionCard> offered(const QString& label) {
        for (const ActionCard& card : window_->findChild<ChecksStage*>()->reading().actions) {
            if (card.label == label) {
                return card;
            }
        }
        return std::nullopt;
    }

    double durbinWatson() {
        for (const CheckResult& check : answer().checks) {
            if (check.id == "durbin-watson" && check.statistic) {
                return *check.statistic;
            }
        }
        return std::nan("");
    }

  private slots:

    void init() {
        open();
        window_->openPath(RAPPORTO_SOURCE_DIR "/demo/valley_yearly.rapporto");
        window_->settle();
        window_->showStage(2);
        window_->settle();
    }

    void cleanup() { window_.reset(); }

    void aShareOfNearlyAllIsDoubted() {
        QTRY_VERIFY(session().isComplete());
        QVERIFY(*answer().fit->statistics.rSquared > 0.96);
        QVERIFY(answer().fit->statistics.f->p < 1e-10);
        // The doubt stands above the effect, before any number of it.
        const QString said = readingText();
        const auto doubt = said.indexOf("These series may only trend together");
        QVERIFY2(doubt >= 0, qPrintable(said));
        openCheck("shared-trend");
        QVERIFY(reads("neither R² nor t can be believed"));
        const auto changes = offered("Ask in changes");
        QVERIFY(changes.has_value());
        changes->act();
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->outcome, std::string("change(ln(exports_kt))"));
        QVERIFY(*answer().fit->statistics.rSquared < 0.2);
        window_->showStage(2);
        QVERIFY(!reads("These series may only trend together"));
        // Both stand side by side, and nothing was changed in the first.
        window_->showStage(4);
        window_->settle();
        QVERIFY(session().study().find("q1")->outcome == "ln(exports_kt)");
    }

    void aDoubtThatIsDecidedIsNotRepeated() {
        QTRY_VERIFY(session().isComplete());
        Question q = *session().question();
        q.decisions = {{"shared-trend", "accepted", "only the forecast is asked for"}};
        session().putQuestion(q, "accept it");
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        QVERIFY(!reads("These series may only trend together"));
    }

    void anEchoIsTakenOutFromTheChecks() {
        QTRY_VERIFY(session().isComplete());
        const double before = durbinWatson();
        openCheck("durbin-watson");
        const auto echo = offered("Take the echo out");
        QVERIFY(echo.has_value());
        echo->act();
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->method, std::string("feasible-ar"));
        QVERIFY(answer().fit->echo->rho > 0.3);
        window_->showStage(2);
        QVERIFY(reads("carries over to the next moment"));
        QVERIFY(find<QPushButton>("slot:method")->text().contains("echo taken out"));
        // What is left of the rows less their past is nearer to unrelated.
        QVERIFY(std::abs(durbinWatson() - 2.0) < std::abs(before - 2.0));
    }
};

QTEST_MAIN(TrendsWindowTest)
#include "trends_window_test.moc"
