// A table whose columns are called as spreadsheets call them, by mouse and keyboard: its names are
// typed and shown as they are.
#include "app/shell/theme.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QFile>
#include <QTemporaryDir>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

namespace {

/// 60 rows of 12 firms; −9 for no answer among the grades, “n/k” among the pays.
QByteArray payTable() {
    QByteArray out = "Pay (gross);Trained?;Staff (heads);Firm, no.;Grade (1-5)\n";
    for (int i = 0; i < 60; ++i) {
        const QByteArray pay =
            i % 19 == 7 ? "n/k"
                        : QByteArray::number(10 + (i * 7) % 23) + "," + QByteArray::number(i % 10);
        out += pay + ";" + (i % 3 == 0 ? "ja" : "nein") + ";" +
               QByteArray::number(2 + (i * 5) % 17) + ";F" + QByteArray::number(i % 12) + ";" +
               (i % 20 == 3 ? QByteArray("-9") : QByteArray::number(1 + (i * 3) % 5)) + "\n";
    }
    return out;
}

}  // namespace

class NamesWindowTest : public WindowDriver {
    Q_OBJECT

    QTemporaryDir place_;

    void begin() {
        QFile file(place_.filePath("pay.csv"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(payTable());
        file.close();
        window_->openPath(file.fileName());
        window_->settle();
    }

    void ask() {
        begin();
        QTest::mouseClick(card("Read “n/k” as missing"), Qt::LeftButton);
        window_->settle();
        click("import:use");
        window_->showStage(2);
        window_->settle();
        click("slot:outcome");
        take("Pay (gross)");
        take("Trained?");
        take("Staff (heads)");
        closeFinder();
    }

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

    void whatIsOpenStandsAboveTheSheet() {
        begin();
        auto* answerIt = card("Read “n/k” as missing");
        QVERIFY(answerIt != nullptr);
        QVERIFY(card("Make codes") != nullptr);
        const int place = answerIt->mapTo(window_.get(), QPoint(0, 0)).y();
        int sheet = 0;
        for (auto* label : window_->findChildren<QLabel*>()) {
            if (label->isVisible() && label->text() == "Staff (heads)" &&
                window_->findChild<ReadingColumn*>()->isAncestorOf(label)) {
                sheet = label->mapTo(window_.get(), QPoint(0, 0)).y();
            }
        }
        QVERIFY(sheet > 0);
        QVERIFY2(place < sheet, qPrintable(QString("%1 and %2").arg(place).arg(sheet)));
    }

    void namesAreTypedAndReadAsTheyAre() {
        ask();
        QVERIFY(answer().fit != nullptr);
        QCOMPARE(answer().question.outcome, std::string("\"Pay (gross)\""));
        QCOMPARE(answer().fit->coefficients[1].term, std::string("Trained?"));
        QVERIFY(reads("Trained?"));
        QVERIFY2(!reads("\"Pay"), qPrintable(readingText()));
        QVERIFY2(!reads("\"Staff"), qPrintable(readingText()));
    }

    // Clusters were refused where the name of their variable had a space.
    void clustersGoByAnyName() {
        ask();
        click("slot:errors");
        take("clustered by Firm, no.");
        window_->settle();
        QVERIFY2(answer().fit != nullptr,
                 answer().refusal ? answer().refusal->text().c_str() : "no answer");
        QCOMPARE(answer().question.errors.kind, std::string("clustered"));
        QCOMPARE(answer().design->clusterCounts.front(), 12);
        QVERIFY2(!reads("\"Firm"), qPrintable(readingText()));
        for (const CheckResult& check : answer().checks) {
            QVERIFY2(check.reading.find("There is no variable") == std::string::npos,
                     check.reading.c_str());
        }
    }

    void anyNameIsHeldFixed() {
        ask();
        click("slot:fixed");
        take("Firm, no.");
        window_->settle();
        QVERIFY2(answer().fit != nullptr,
                 answer().refusal ? answer().refusal->text().c_str() : "no answer");
        QCOMPARE(answer().question.fixedEffects.front(), std::string("\"Firm, no.\""));
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    NamesWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "names_window_test.moc"
