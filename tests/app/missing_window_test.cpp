// What is missing in the real window: looked at, filled in, asked with, weighted, refused, undone.
#include "app/plots/plot_view.h"
#include "core/impute/pooling.h"
#include "core/impute/sets.h"
#include "tests/app/window_driver.h"

#include <QLineEdit>
#include <QMenu>
#include <QSpinBox>
#include <QTableWidget>
#include <QTest>
#include <QTimer>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class MissingWindowTest : public WindowDriver {
    Q_OBJECT

    QTableWidget* table() { return find<QTableWidget>("missing:table"); }

    QString says() { return find<QLabel>("missing:says")->text(); }

    const ImputationSpec& spec() { return session().study().imputation; }

    const Exhibit& picture() { return find<PlotView>("missing:picture")->exhibit(); }

    int rowOf(const QString& variable) {
        for (int row = 0; row < table()->rowCount(); ++row) {
            if (table()->item(row, 0)->text() == variable) {
                return row;
            }
        }
        return -1;
    }

    void toPage() {
        window_->showStage(0);
        click("data:page:What is missing");
        window_->settle();
    }

    /// Clicks where the way stands and takes the entry of the menu that begins so.
    void chooseWay(const QString& variable, const QString& words) {
        const int row = rowOf(variable);
        QVERIFY2(row >= 0, qPrintable(variable));
        bool found = false;
        QTimer::singleShot(50, this, [&] {
            for (QWidget* widget : QApplication::topLevelWidgets()) {
                auto* menu = qobject_cast<QMenu*>(widget);
                if (menu == nullptr || !menu->isVisible()) {
                    continue;
                }
                for (QAction* action : menu->actions()) {
                    if (action->text().startsWith(words)) {
                        found = true;
                        menu->setActiveAction(action);
                        QTest::keyClick(menu, Qt::Key_Return);
                        return;
                    }
                }
                menu->close();
            }
        });
        table()->scrollToItem(table()->item(row, 3));
        QTest::mouseClick(table()->viewport(), Qt::LeftButton, {},
                          table()->visualItemRect(table()->item(row, 3)).center());
        QTRY_VERIFY2(found, qPrintable(words));
        window_->settle();
    }

    void tick(const QString& variable, bool on) {
        table()->item(rowOf(variable), 4)->setCheckState(on ? Qt::Checked : Qt::Unchecked);
        window_->settle();
    }

  private slots:

    void init() {
        openDemo();
        Question q = *session().question();
        q.id.clear();
        q.title = "income";
        q.method = "least-squares";
        q.settings = {};
        q.outcome = "household_income";
        q.terms = {Term::expression("age"), Term::expression("schooling_years"),
                   Term::expression("member")};
        q.endogenous.clear();
        q.instruments.clear();
        q.fixedEffects.clear();
        q.errors = {};
        session().putQuestion(q, "ask of incomes");
        window_->settle();
        QTRY_VERIFY(session().isComplete());
    }

    void cleanup() { window_.reset(); }

    void whatIsMissingIsSeen() {
        toPage();
        QVERIFY2(says().contains("lack nothing"), qPrintable(says()));
        QCOMPARE(table()->item(0, 0)->text(), QString("revenue_fl"));  // Most gaps first.
        QVERIFY(picture().title == "What is missing together");
        QVERIFY(!picture().bars.empty());
        QVERIFY2(reads("loses"), qPrintable(readingText()));
        QVERIFY(reads("cannot be tested"));
        table()->setCurrentCell(rowOf("household_income"), 0);
        window_->settle();
        QVERIFY2(reads("household_income"), qPrintable(readingText()));
        QVERIFY(!find<QPushButton>("missing:ask")->isEnabled());
        // How often is asked once there is something to fill in: nothing is said that is not saved.
        QVERIFY(!find<QSpinBox>("missing:sets")->isEnabled());
        QVERIFY(!(table()->item(rowOf("member"), 4)->flags() & Qt::ItemIsUserCheckable));
    }

    void filledInFromProposalToAnswer() {
        toPage();
        click("missing:propose");
        QVERIFY(spec().isDeclared());
        QVERIFY(std::find(spec().variables.begin(), spec().variables.end(), "household_income") !=
                spec().variables.end());
        QTRY_VERIFY2(says().contains("were filled in"), qPrintable(says()));
        // Fewer rounds and sets by the counters.
        find<QSpinBox>("missing:sets")->setValue(6);
        find<QSpinBox>("missing:rounds")->setValue(5);
        window_->settle();
        QCOMPARE(spec().sets, 6);
        QCOMPARE(spec().rounds, 5);
        QTRY_VERIFY2(says().contains("filled in 6 times"), qPrintable(says()));
        chooseWay("household_income", "a linear regression");
        QCOMPARE(spec().by.at("household_income"), std::string("normal"));
        table()->setCurrentCell(rowOf("household_income"), 0);
        window_->settle();
        QTRY_VERIFY2(says().contains("were filled in"), qPrintable(says()));
        click("missing:picture:1");
        QVERIFY2(picture().title.starts_with("Paths"), picture().title.c_str());
        QCOMPARE(picture().lines.size(), std::size_t{7});
        click("missing:picture:2");
        QVERIFY(picture().title.starts_with("Filled in beside seen"));
        // What if those who did not answer differ: the first effect, asked again.
        click("missing:picture:3");
        QTRY_VERIFY2(picture().title.starts_with("If those who did not answer"),
                     picture().title.c_str());
        QCOMPARE(picture().lines.front().x.size(), std::size_t{9});
        QVERIFY2(reads("those who did not answer"), qPrintable(readingText()));
        // Ask with it: a variant, pooled, said in the sentence.
        const std::size_t used = answer().rows.used;
        click("missing:ask");
        window_->showStage(2);
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->missing, std::string("imputed"));
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QVERIFY(answer().rows.used > used);
        QCOMPARE(answer().fit->pooled->sets, std::size_t{6});
        QVERIFY(find<QPushButton>("slot:missing")->text().contains("filled in"));
        QVERIFY2(reads("Pooled over"), qPrintable(readingText()));
        // Back to the rows by the sentence.
        click("slot:missing");
        take("rows that lack nothing");
        QTRY_VERIFY(session().isComplete());
        QVERIFY(answer().fit->pooled == nullptr);
        QCOMPARE(answer().rows.used, used);
    }

    void declaredByHandAndTakenBack() {
        toPage();
        chooseWay("household_income", "the answer of a row");
        QCOMPARE(spec().variables.size(), std::size_t{1});
        tick("member", true);
        tick("village", true);
        QCOMPARE(spec().with.size(), std::size_t{2});
        tick("village", false);
        QCOMPARE(spec().with.size(), std::size_t{1});
        auto* further = find<QLineEdit>("missing:further");
        further->setFocus();
        QTest::keyClicks(further, "power(hired_days, 2), sqrt(orchard_ha)");
        QTest::keyClick(further, Qt::Key_Return);
        window_->settle();
        QCOMPARE(spec().with.size(), std::size_t{3});
        QTRY_VERIFY2(says().contains("were filled in"), qPrintable(says()));
        // A name that is none is refused in words, and nothing is lost.
        QTest::keyClicks(further, ", nothing_such");
        QTest::keyClick(further, Qt::Key_Return);
        window_->settle();
        QTRY_VERIFY2(says().contains("of what foretells"), qPrintable(says()));
        session().undo();
        window_->settle();
        QTRY_VERIFY2(says().contains("were filled in"), qPrintable(says()));
        chooseWay("household_income", "left as it is");
        QVERIFY(spec() == ImputationSpec{});
        QVERIFY(says().contains("lack nothing"));
    }

    void completeRowsAreWeighted() {
        QVERIFY2(find<QPushButton>("slot:missing")->text().contains("lack an answer"),
                 qPrintable(find<QPushButton>("slot:missing")->text()));
        click("slot:missing");
        take("complete rows weighted");
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->missing, std::string("weighted"));
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QVERIFY2(reads("complete rows stand for all"), qPrintable(readingText()));
        QCOMPARE(answer().question.errors.shown(), std::string("robust (HC1)"));
        // One more that foretells, typed; then both out again.
        click("slot:missing");
        take("orchard_ha");
        QTRY_VERIFY(session().isComplete());
        const std::size_t many = session().question()->completeBy.size();
        QVERIFY(many >= 2);
        click("slot:missing");
        take("no longer by orchard_ha");
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(session().question()->completeBy.size(), many - 1);
        session().undo();
        session().undo();
        session().undo();
        window_->settle();
        QCOMPARE(session().question()->missing, std::string("rows"));
    }

    void theSentenceLeadsToThePage() {
        click("slot:missing");
        take("fill missing answers in");
        QVERIFY(find<QPushButton>("data:page:What is missing")->isChecked());
        QVERIFY(table()->isVisible());
    }

    void compareSetsThemSideBySide() {
        toPage();
        chooseWay("household_income", "the answer of a row");
        tick("member", true);
        QTRY_VERIFY2(says().contains("were filled in"), qPrintable(says()));
        click("missing:ask");
        QTRY_VERIFY(session().isComplete());
        window_->showStage(4);
        window_->settle();
        QTRY_VERIFY2(reads("missing answers filled in"), qPrintable(readingText()));
    }
};

QTEST_MAIN(MissingWindowTest)
#include "missing_window_test.moc"
