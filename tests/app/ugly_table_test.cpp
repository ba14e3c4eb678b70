// A newcomer with an ugly table: each trap of it is named before it does harm, and mended where it
// is named.
#include "app/shell/theme.h"
#include "app/stages/data/data_stage.h"
#include "app/stages/report/report_stage.h"
#include "core/report/assumptions.h"
#include "core/study/odd_mends.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QFile>
#include <QLabel>
#include <QListWidget>
#include <QTemporaryDir>
#include <QTextBrowser>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

namespace {

/// 90 growers in three years; `;` between cells, decimal commas, points between thousands, −99 for
/// no answer, a zone with a space before it, one row twice, two slips of the pen.
QByteArray uglyTable() {
    QByteArray out = "grower;year;zone;orchard_ha;hives;hired_days;revenue_fl\n";
    const auto number = [](double value, int decimals) {
        QString s = QString::number(value, 'f', decimals).replace('.', ',');
        qsizetype at = s.indexOf(',') < 0 ? s.size() : s.indexOf(',');
        for (at -= 3; at > 0; at -= 3) {
            s.insert(at, '.');
        }
        return s;
    };
    QByteArray twice;
    for (int g = 0; g < 90; ++g) {
        const double size = std::round(std::exp(1.2 + 0.6 * std::sin(g * 2.39)) * 10.0) / 10.0;
        for (int t = 0; t < 3; ++t) {
            const double noise = std::sin(g * 12.9898 + t * 78.233) * 0.8;
            const int hives = (g * 7 + t * 3) % 9;
            const int days = 5 + (g * 11 + t * 5) % 40;
            double ha = size + 0.1 * ((g + t) % 3);
            double revenue =
                std::exp(6.6 + 0.7 * std::log(ha) + 0.05 * hives + 0.004 * days + noise);
            ha = g == 17 && t == 1 ? ha * 100.0 : ha;                  // The point forgotten.
            revenue = g == 61 && t == 2 ? revenue * 1000.0 : revenue;  // In thousandths.
            const bool silent = (g * 3 + t) % 41 == 0;
            const QString zone = g % 3 == 0 ? "Valley" : g % 3 == 1 ? "Slope" : "Terrace";
            const QString line = QString("T%1;%2;%3;%4;%5;%6;%7\n")
                                     .arg(g + 1, 3, 10, QChar('0'))
                                     .arg(2020 + t)
                                     .arg((g == 9    ? "valley"
                                           : g == 11 ? " " + zone
                                                     : zone),
                                          number(ha, 1))
                                     .arg(hives)
                                     .arg(silent ? -99 : days)
                                     .arg(number(revenue, 1));
            out += line.toUtf8();
            if (g == 40 && t == 0) {
                twice = line.toUtf8();
            }
            if (g == 44 && t == 0) {
                out += twice;
            }
        }
    }
    return out;
}

}  // namespace

class UglyTableTest : public WindowDriver {
    Q_OBJECT

    QTemporaryDir place_;

    void begin() {
        QFile file(place_.filePath("trade.csv"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(uglyTable());
        file.close();
        window_->openPath(file.fileName());
        window_->settle();
    }

    void takeIn() {
        begin();
        click("import:use");
    }

    void press(const QString& beginning) {
        auto* button = card(beginning);
        QVERIFY2(button != nullptr, qPrintable(beginning + " is not offered:\n" + cards()));
        QTest::mouseClick(button, Qt::LeftButton);
        window_->settle();
    }

    QString cards() {
        QString all;
        for (auto* button : window_->findChildren<QPushButton*>()) {
            if (button->objectName().startsWith("card:") && button->isVisible()) {
                all += button->objectName() + "\n";
            }
        }
        return all;
    }

    /// The report as a person would send it.
    QString report() {
        const QString path = place_.filePath("report.html");
        const QString refused = window_->findChild<ReportStage*>()->exportTo(path);
        if (!refused.isEmpty()) {
            return refused;
        }
        QFile file(path);
        return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
    }

    const Oddity* odd(OddKind kind) {
        for (const Oddity& one : session().oddities()) {
            if (one.kind == kind && reasonItStands(session().study().sample, one) == nullptr) {
                return &one;
            }
        }
        return nullptr;
    }

    /// Turns to an oddity on its page, by the mouse.
    void turnTo(OddKind kind) {
        window_->showStage(0);
        window_->settle();
        auto* stage = window_->findChild<DataStage*>();
        stage->showOddities();
        window_->settle();
        auto* list = find<QListWidget>("odd:list");
        for (std::size_t k = 0; k < session().oddities().size(); ++k) {
            if (session().oddities()[k].kind == kind) {
                const auto row = static_cast<int>(k);
                list->scrollToItem(list->item(row));
                QTest::mouseClick(list->viewport(), Qt::LeftButton, {},
                                  list->visualItemRect(list->item(row)).center());
                window_->settle();
                return;
            }
        }
        QString there;
        for (const Oddity& one : session().oddities()) {
            there += text(one.title) + "; ";
        }
        QFAIL(qPrintable("nothing of the kind is odd, only " + there));
    }

    void ask() {
        window_->showStage(2);
        window_->settle();
        click("slot:outcome");
        take("revenue_fl");
        take("orchard_ha");
        take("hired_days");
        take("zone");
        closeFinder();
    }

    std::string verdictOf(const std::string& id) {
        for (const CheckResult& c : answer().checks) {
            if (c.id == id) {
                return verdictName(c.verdict);
            }
        }
        return "none";
    }

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

    void thousandsAreReadFromTheWholeColumn() {
        begin();
        const auto& import = *session().pending()->import;
        const Column& revenue = import.table.columns.back();
        QCOMPARE(import.table.variables.back().name, std::string("revenue_fl"));
        QVERIFY(!revenue.isText());
        // “2.027,6” is two thousand, in every row that has a point.
        for (const double value : revenue.numbers()) {
            QVERIFY(value > 100.0);
        }
        QCOMPARE(find<QComboBox>("import:thousands")->currentText(), QString("1.234"));
        QVERIFY2(reads("thousand"), qPrintable(readingText()));
        click("import:use");
        QVERIFY(session().frame()->column("revenue_fl") != nullptr);
    }

    void spacesAroundTextsAreTrimmedAndSaid() {
        begin();
        QVERIFY(reads("space"));
        click("import:use");
        for (const std::string& level : session().frame()->column("zone")->texts()) {
            QVERIFY(level.front() != ' ');
        }
    }

    void codesAreAskedAboutBeforeTheyCount() {
        begin();
        press("Make codes");
        click("import:use");
        const auto missing = session().frame()->variable("hired_days")->missing;
        QCOMPARE(missing.size(), std::size_t{1});
        ask();
        QCOMPARE(verdictOf("answer-codes"), std::string("fine"));
        QVERIFY(answer().rows.used < 271);
    }

    void aCodeThatIsLeftStandsWhereItMattersAndMendsInAStep() {
        takeIn();
        ask();
        QCOMPARE(verdictOf("answer-codes"), std::string("fails"));
        // In the reading above the effect, in the list of checks, in the ledger and in the report.
        QVERIFY(reads("99"));
        openCheck("answer-codes");
        QVERIFY(reads("99"));
        click("checks:ledger");
        QVERIFY(
            find<QTextBrowser>("ledger")->toPlainText().contains("Are the data what they seem?"));
        click("checks:ledger");
        window_->showStage(5);
        window_->settle();
        QVERIFY(report().contains("99"));
        // What it does to the effect: a variant beside the question.
        openCheck("answer-codes");
        const std::size_t before = session().study().questions.size();
        press("Leave");
        QCOMPARE(session().study().questions.size(), before + 1);
        QCOMPARE(verdictOf("answer-codes"), std::string("fine"));
        // And the mend itself.
        turnTo(OddKind::NoAnswerCode);
        press("Make");
        QVERIFY(odd(OddKind::NoAnswerCode) == nullptr);
        session().undo();
        window_->settle();
        QVERIFY(odd(OddKind::NoAnswerCode) != nullptr);
    }

    void aLevelSpelledTwiceIsMerged() {
        takeIn();
        turnTo(OddKind::AlikeLevels);
        press("Read it as “Valley”");
        QVERIFY(odd(OddKind::AlikeLevels) == nullptr);
        ask();
        QCOMPARE(verdictOf("spellings"), std::string("fine"));
        for (const DesignTerm& term : answer().design->terms) {
            QVERIFY(term.name != "zone" || term.columns.size() == 2);
        }
    }

    void aRowThatStandsTwiceIsSetAside() {
        takeIn();
        turnTo(OddKind::RepeatedRows);
        press("Set 1 row aside");
        QVERIFY(odd(OddKind::RepeatedRows) == nullptr);
        ask();
        QCOMPARE(verdictOf("repeats"), std::string("fine"));
    }

    void slipsOfThePenAreFound() {
        takeIn();
        std::set<std::string> found;
        for (const Oddity& one : session().oddities()) {
            if (one.kind == OddKind::SlippedDigit || one.kind == OddKind::LoneValue) {
                found.insert(one.variables.begin(), one.variables.end());
            }
        }
        QVERIFY(found.contains("orchard_ha"));
        QVERIFY(found.contains("revenue_fl"));
        ask();
        QCOMPARE(verdictOf("far-values"), std::string("weigh"));
        openCheck("far-values");
        press("Leave 1 row out");
        QCOMPARE(answer().question.without.size(), std::size_t{1});
    }

    void whatStandsForAReasonIsQuietAndReported() {
        takeIn();
        ask();
        QCOMPARE(verdictOf("repeats"), std::string("fails"));
        turnTo(OddKind::RepeatedRows);
        auto* reason = find<QLineEdit>("odd:reason");
        QTest::keyClick(reason, Qt::Key_Return);  // Without a reason nothing is dismissed.
        QVERIFY(odd(OddKind::RepeatedRows) != nullptr);
        reason->setFocus();
        QTest::keyClicks(reason, "two deliveries of one day");
        QTest::keyClick(reason, Qt::Key_Return);
        window_->settle();
        QVERIFY(odd(OddKind::RepeatedRows) == nullptr);
        // The question that was asked before knows of it, too.
        QCOMPARE(verdictOf("repeats"), std::string("fine"));
        openCheck("repeats");
        QVERIFY(reads("two deliveries of one day"));
        session().undo();
    }

    /// What looked odd in one table is nothing to mend in the next.
    void anotherTableIsLookedOverAnew() {
        session().openDemo();
        window_->settle();
        turnTo(OddKind::NoAnswerCode);
        begin();
        auto* use = find<QPushButton>("import:use");
        QTest::mouseClick(use, Qt::LeftButton);  // The frame is new before it has been looked over.
        QApplication::processEvents();
        window_->settle();
        for (const Oddity& one : session().oddities()) {
            for (const std::string& name : one.variables) {
                QVERIFY(session().frame()->column(name) != nullptr);
            }
        }
        turnTo(OddKind::NoAnswerCode);
        QVERIFY(card("Make −99") != nullptr);
    }

    void nothingOddIsSaid() {
        QFile file(place_.filePath("plain.csv"));
        QVERIFY(file.open(QIODevice::WriteOnly));
        QByteArray text = "grower,hives\n";
        for (int i = 0; i < 60; ++i) {
            text += "T" + QByteArray::number(i) + "," + QByteArray::number(1 + i * 7 % 9) + "\n";
        }
        file.write(text);
        file.close();
        window_->openPath(file.fileName());
        window_->settle();
        click("import:use");
        window_->findChild<DataStage*>()->showOddities();
        window_->settle();
        QCOMPARE(session().openOddities(), std::size_t{0});
        QVERIFY(!session().oddTrouble());
        QVERIFY(find<QLabel>("odd:heading")->text().startsWith("Nothing looks odd"));
        QVERIFY(!find<QListWidget>("odd:list")->isVisible());
        QVERIFY(!find<QPushButton>("odd:stand")->isVisible());
    }

    /// From file to report with every trap mended where it is named.
    void theTableGoesFromFileToReport() {
        begin();
        press("Make codes");
        click("import:use");
        turnTo(OddKind::AlikeLevels);
        press("Read it");
        turnTo(OddKind::RepeatedRows);
        press("Set 1 row aside");
        for (const OddKind kind : {OddKind::SlippedDigit, OddKind::LoneValue}) {
            while (odd(kind) != nullptr) {
                const std::size_t before = session().oddities().size();
                turnTo(kind);
                press("Set");
                QVERIFY(session().oddities().size() < before);
            }
        }
        QCOMPARE(session().openOddities(), std::size_t{0});
        ask();
        for (const CheckResult& c : answer().checks) {
            if (findCheck(c.id)->isOfData()) {
                QVERIFY2(!isDoubt(c.verdict), c.reading.c_str());
            }
        }
        for (const GroupVerdict& one : openDoubts(answer())) {
            QVERIFY(one.group != "Are the data what they seem?");
        }
        window_->showStage(5);
        window_->settle();
        const QString page = report();
        QVERIFY(page.contains("revenue_fl"));
        QVERIFY(!page.contains("Mend it under Data"));
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    UglyTableTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "ugly_table_test.moc"
