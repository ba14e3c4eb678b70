// A file of many rows in the real window: left on the disk, looked at, asked, refused, read after
// all.
#include "tests/app/growers_driver.h"

#include <QPlainTextEdit>
#include <QSignalSpy>
#include <QTableWidget>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class DiskWindowTest : public GrowersDriver {
    Q_OBJECT

    static constexpr int kRows = 1'000'000;

    /// The least rows that are offered to be left.
    static QByteArray manyRows() {
        QByteArray text = "yield,hives,zone\n";
        text.reserve(14 * kRows);
        for (int i = 0; i < kRows; ++i) {
            const int hives = i % 101 * 37 % 101;
            text += QByteArray::number(4000 + 6 * hives + i % 997 * 7919 % 997) + ',' +
                    QByteArray::number(hives) + (i % 3 == 0 ? ",Ridge\n" : ",Lower\n");
        }
        return text;
    }

    [[nodiscard]] QString problems() { return find<QLabel>("importProblems")->text(); }

    void lookAt(const QString& name) {
        open();
        window_->openPath(place_.filePath(name));
        QTRY_VERIFY_WITH_TIMEOUT(session().pending() && session().pending()->import, 60000);
        window_->settle();
    }

  private slots:

    void initTestCase() {
        write(place_.filePath("many.csv"), manyRows());
        write(place_.filePath("few.csv"), growers());
    }

    void cleanup() { window_.reset(); }

    void aSmallFileIsRead() {
        lookAt("few.csv");
        QVERIFY(!find<QComboBox>("import:rows")->isVisible());
    }

    void leftOnTheDiskAndAsked() {
        lookAt("many.csv");
        QVERIFY(find<QComboBox>("import:rows")->isVisible());
        choose("import:rows", 1);
        QTRY_VERIFY2(problems().contains("Rows stay on the disk"), qPrintable(problems()));
        click("import:use");
        QTRY_VERIFY_WITH_TIMEOUT(session().frame() != nullptr && session().isLeft(), 60000);
        window_->settle();
        QVERIFY(session().study().source.reader.left);
        QVERIFY(window_->findChild<QPushButton*>("data:page:In the database") != nullptr);
        auto* table = find<QTableWidget>("left:table");
        QVERIFY(table->isVisible());
        QCOMPARE(table->rowCount(), 3);
        QTRY_COMPARE(table->item(1, 3)->text(), QString("50"));  // The mean of hives, worked out.
        QVERIFY2(reads("sums over columns on the disk"), qPrintable(readingText()));
        Question q;
        q.title = "yield";
        q.outcome = "yield";
        q.terms = {Term::expression("hives"), Term::expression("zone")};
        q.errors.kind = "robust";
        session().putQuestion(q, "ask of yields");
        window_->showStage(2);
        QTRY_VERIFY(session().isComplete());
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QCOMPARE(answer().rows.used, static_cast<std::size_t>(kRows));
        QVERIFY(std::abs(answer().fit->coefficients[1].estimate - 6.0) < 0.1);
        for (int stage = 1; stage < 6; ++stage) {  // Nothing stumbles over rows that are not there.
            window_->showStage(stage);
            window_->settle();
        }
        window_->showStage(0);
        window_->settle();
        QVERIFY(find<QPlainTextEdit>("left:statements")->toPlainText().contains("the_table"));
    }

    /// What needs rows offers to have them read, beside.
    void readsThemAfterAll() {
        lookAt("many.csv");
        choose("import:rows", 1);
        QTRY_VERIFY2(problems().contains("Rows stay on the disk"), qPrintable(problems()));
        click("import:use");
        QTRY_VERIFY_WITH_TIMEOUT(session().frame() != nullptr && session().isLeft(), 60000);
        Question q;
        q.outcome = "yield";
        q.method = "quantile";
        q.terms = {Term::expression("hives")};
        session().putQuestion(q, "ask for the median");
        window_->showStage(2);
        QTRY_VERIFY(session().isComplete());
        QVERIFY(answer().refusal.has_value());
        window_->settle();
        QVERIFY2(reads("stay on the disk"), qPrintable(readingText()));
        QSignalSpy asked(&session(), &Session::besideAsked);
        click("card:Have the rows read");
        QCOMPARE(asked.count(), 1);
        QVERIFY(!asked.first().first().value<rapporto::Study>().source.reader.left);
    }
};

QTEST_MAIN(DiskWindowTest)
#include "disk_window_test.moc"
