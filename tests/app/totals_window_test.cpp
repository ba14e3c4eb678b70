// Known totals in the real window: typed by keys, taken from a table, bounded, refused, kept.
#include "core/describe/survey_mean.h"
#include "tests/app/window_driver.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>
#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class TotalsWindowTest : public WindowDriver {
    Q_OBJECT

    QTableWidget* table() { return find<QTableWidget>("totals:table"); }

    QString says() { return find<QLabel>("totals:says")->text(); }

    const Survey& survey() { return session().study().survey; }

    void pick(const char* variable) {
        auto* box = find<QComboBox>("totals:variable");
        const int at = box->findData(QString(variable));
        QVERIFY2(at >= 0, variable);
        box->setCurrentIndex(at);
        emit box->activated(at);
    }

    /// Types into the column of what is known.
    void type(int row, const QString& what) {
        table()->setFocus();
        table()->setCurrentCell(row, 4);
        table()->editItem(table()->item(row, 4));
        auto* editor = table()->findChild<QLineEdit*>();
        QVERIFY(editor != nullptr);
        editor->selectAll();
        QTest::keyClick(editor, Qt::Key_Delete);
        QTest::keyClicks(editor, what);
        QTest::keyClick(editor, Qt::Key_Return);
        window_->settle();
    }

    int rowOf(const QString& level) {
        for (int row = 0; row < table()->rowCount(); ++row) {
            if (table()->item(row, 1)->text() == level) {
                return row;
            }
        }
        return -1;
    }

  private slots:

    void init() {
        open();
        window_->openPath(RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto");
        window_->settle();
        window_->showStage(0);
        click("data:page:Known totals");
        window_->settle();
    }

    void cleanup() { window_.reset(); }

    void nothingIsKnownAtFirst() {
        QCOMPARE(table()->rowCount(), 0);
        QVERIFY(says().contains("Nothing is known"));
        QVERIFY(!find<QPushButton>("totals:keep")->isEnabled());
    }

    void sharesAreTypedAndReached() {
        pick("zone");
        click("totals:shares");
        window_->settle();
        QCOMPARE(table()->rowCount(), 4);
        // What the sample shows stands first, and moves nothing.
        QVERIFY2(says().contains("1.00</b> to <b>1.00"), qPrintable(says()));
        type(rowOf("Ridge"), "19 %");
        QVERIFY2(says().contains("sum to"), qPrintable(says()));
        // An empty one takes what is left.
        type(rowOf("River flat"), "");
        QVERIFY2(says().contains("design effect"), qPrintable(says()));
        QCOMPARE(table()->item(rowOf("Ridge"), 5)->text(), QString("0.1900"));
        double sum = 0.0;
        for (const auto& [level, share] : survey().targets.front().shares) {
            sum += share;
        }
        QVERIFY(std::abs(sum - 1.0) < 1e-9);
        pick("age");
        QVERIFY(find<QPushButton>("totals:mean")->isEnabled());
        click("totals:mean");
        window_->settle();
        type(4, "49.2");
        QCOMPARE(*survey().targets.back().mean, 49.2);
        QCOMPARE(table()->item(4, 5)->text(), QString("49.2"));
        // A question with the design’s errors answers with these weights.
        Question q = *session().question();
        q.errors = ErrorSpec::bySurvey();
        q.method = "least-squares";
        q.fixedEffects.clear();
        session().putQuestion(q, "errors by the survey design");
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        const auto found = session().answer(q.id);
        QVERIFY2(!found->refusal, found->refusal ? found->refusal->text().c_str() : "");
        QVERIFY(found->fit->errorNote.find("raked to zone, age") != std::string::npos);
    }

    void aTableOfThemIsTaken() {
        auto* page = find<QTableWidget>("totals:table")->parentWidget();
        QVERIFY(QMetaObject::invokeMethod(
            page, "takeFrom", Q_ARG(QString, RAPPORTO_SOURCE_DIR "/demo/valley_totals.csv")));
        window_->settle();
        QCOMPARE(survey().targets.size(), std::size_t{2});
        QCOMPARE(table()->rowCount(), 5);
        QCOMPARE(table()->item(rowOf("River flat"), 5)->text(), QString("0.2900"));
        // A table of something else changes nothing.
        QVERIFY(QMetaObject::invokeMethod(
            page, "takeFrom", Q_ARG(QString, RAPPORTO_SOURCE_DIR "/demo/pollination.csv")));
        window_->settle();
        QVERIFY2(says().contains("does not look like known totals"), qPrintable(says()));
        QCOMPARE(survey().targets.size(), std::size_t{2});
        // Bounds: half a pair waits, both hold.
        auto* least = find<QLineEdit>("totals:least");
        auto* most = find<QLineEdit>("totals:most");
        least->setFocus();
        QTest::keyClicks(least, "0.6");
        QTest::keyClick(least, Qt::Key_Return);
        QVERIFY(!survey().bounds.has_value());
        most->setFocus();
        QTest::keyClicks(most, "1.8");
        QTest::keyClick(most, Qt::Key_Return);
        window_->settle();
        QVERIFY(survey().bounds == std::optional(std::pair{0.6, 1.8}));
        QVERIFY2(says().contains("design effect"), qPrintable(says()));
        // Out of reach: told with the nearest, what was typed stays.
        type(rowOf("Ridge"), "0.04");
        type(rowOf("River flat"), "");
        QVERIFY2(says().contains("the nearest is"), qPrintable(says()));
        QCOMPARE(survey().targets.front().shares.front().second, 0.04);
        QVERIFY(!find<QPushButton>("totals:keep")->isEnabled());
        session().undo();
        session().undo();
        window_->settle();
        QVERIFY2(says().contains("design effect"), qPrintable(says()));
        auto* method = find<QComboBox>("totals:method");
        method->setCurrentIndex(1);
        emit method->activated(1);
        window_->settle();
        QCOMPARE(survey().calibration, std::string("linear"));
        click("totals:keep");
        window_->settle();
        QVERIFY(session().frame()->column("weight_calibrated") != nullptr);
        const auto rows = surveyRows(*session().frame(), survey());
        QCOMPARE(session().frame()->column("weight_calibrated")->numbers()[0], rows->weights[0]);
        // Taking one out leaves the other.
        table()->setCurrentCell(0, 0);
        click("totals:drop");
        window_->settle();
        QCOMPARE(survey().targets.size(), std::size_t{1});
        QCOMPARE(table()->rowCount(), 1);
    }

    void whatIsNoNumberIsPutBack() {
        pick("zone");
        click("totals:shares");
        window_->settle();
        const Survey before = survey();
        type(0, "a fifth");
        QVERIFY2(says().contains("is no number"), qPrintable(says()));
        QVERIFY(survey() == before);
        QVERIFY(table()->item(0, 4)->text() != "a fifth");
        // A quantity has too many levels for shares.
        pick("revenue_fl");
        click("totals:shares");
        QVERIFY2(says().contains("bands"), qPrintable(says()));
        QVERIFY(survey() == before);
    }
};

QTEST_MAIN(TotalsWindowTest)
#include "totals_window_test.moc"
