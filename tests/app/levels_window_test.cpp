// Random effects of groups in the real window: asked by keys, read, looked at, doubted, kept.
#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/model/groups_page.h"
#include "app/stages/model/predict_page.h"
#include "core/model/multilevel.h"
#include "tests/app/window_driver.h"

#include <QTest>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class LevelsWindowTest : public WindowDriver {
    Q_OBJECT

    void byMethod(const char* words) {
        click("slot:method");
        take(words);
        QTRY_VERIFY(session().isComplete());
    }

  private slots:

    void init() {
        openDemo();
        Question q = *session().question();
        q.id.clear();
        q.title = "villages";
        q.method = "least-squares";
        q.settings = {};
        q.endogenous.clear();
        q.instruments.clear();
        q.fixedEffects = {"village"};
        q.errors = ErrorSpec::clusteredBy("village");
        q.terms = {Term::expression("member"), Term::expression("hives"),
                   Term::expression("irrigated")};
        session().putQuestion(q, "ask anew");
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
    }

    void cleanup() { window_.reset(); }

    void villagesAreAskedReadAndDoubted() {
        byMethod("random effects of village");
        const Question& q = *session().question();
        QCOMPARE(q.method, std::string("multilevel"));
        // What is random is not held fixed, and its errors are its own.
        QVERIFY(q.fixedEffects.empty());
        QCOMPARE(q.errors.kind, std::string("classical"));
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QVERIFY(find<QPushButton>("slot:method")->text().contains("random effects of village"));
        QVERIFY2(reads("between the 48 groups of village"), qPrintable(readingText()));
        byMethod("a slope in hives");
        QCOMPARE(session().question()->settings.levels[0].slopes.size(), std::size_t{1});
        QVERIFY(reads("The effect of hives"));
        // The page of the groups: levels, then the slope’s.
        click("tab:Groups");
        auto* picture = find<PlotView>("groups:picture");
        QCOMPARE(picture->exhibit().bars.size(), std::size_t{48});
        QVERIFY(find<QLabel>("groups:spreads")->text().contains("levels of village"));
        choose("groups:what", 1);
        QVERIFY(QString::fromStdString(picture->exhibit().title).contains("hives"));
        byMethod("and random effects of zone");
        QCOMPARE(session().question()->settings.levels.size(), std::size_t{2});
        QCOMPARE(answer().fit->levels->levels[1].by, std::string("zone"));
        openCheck("few-groups");
        QVERIFY(reads("4 groups of zone"));
        const auto offers = window_->findChild<ChecksStage*>()->reading().actions;
        QVERIFY(std::any_of(offers.begin(), offers.end(), [](const ActionCard& card) {
            return card.label == "Put zone among the terms";
        }));
        openCheck("within-between");
        QVERIFY(!readingText().isEmpty());
    }

    void aKnownVillageIsForetold() {
        byMethod("random effects of village");
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        click("tab:Predict");
        auto* page = window_->findChild<PredictPage*>();
        auto* village = find<QComboBox>("predict:0:village");
        QCOMPARE(village->count(), 49);
        QCOMPARE(village->itemText(0), QString("a new one"));
        QVERIFY(page->predictions().front().groups.empty());
        const double fresh = page->predictions().front().rowHigh;
        choose("predict:0:village", 3);
        QTRY_COMPARE(page->predictions().front().groups.size(), std::size_t{1});
        const KnownGroup& known = page->predictions().front().groups.front();
        QCOMPARE(QString::fromStdString(known.group), village->itemText(3));
        QVERIFY(page->predictions().front().rowHigh != fresh);
        QTRY_VERIFY2(reads("adds"), qPrintable(readingText()));
        QCOMPARE(session().question()->predict.front().at.at("village"),
                 Key(utf8(village->itemText(3))));
        choose("predict:0:village", 0);
        QTRY_VERIFY(page->predictions().front().groups.empty());
        QVERIFY(!session().question()->predict.front().at.contains("village"));
    }

    void lawsAreChosenFromTheSameWord() {
        byMethod("random effects of village");
        const double before = *answer().fit->coefficients[1].df;
        byMethod("errors adjusted for few groups");
        QCOMPARE(session().question()->settings.lawOfEffects, std::string("kenward-roger"));
        QVERIFY(*answer().fit->coefficients[1].df != before);
        byMethod("spreads by the full likelihood");
        QVERIFY(!answer().fit->levels->restricted);
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        byMethod("read by the normal law");
        QVERIFY(!answer().fit->coefficients[1].df.has_value());
    }

    void otherViewsOpenBesideIt() {
        byMethod("random effects of village");
        openCheck("random-part");
        const auto actions = window_->findChild<ChecksStage*>()->reading().actions;
        const auto fixed = std::find_if(actions.begin(), actions.end(), [](const ActionCard& card) {
            return card.label == "Hold village fixed";
        });
        QVERIFY(fixed != actions.end());
        fixed->act();
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->fixedEffects.size(), std::size_t{1});
        QCOMPARE(session().question()->errors.kind, std::string("clustered"));
        QVERIFY(!answer().refusal);
        window_->showStage(4);
        window_->settle();
    }
};

QTEST_MAIN(LevelsWindowTest)
#include "levels_window_test.moc"
