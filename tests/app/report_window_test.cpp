// The report in the real window: put together, set, written in, frozen, taken away.
#include "app/stages/compare/compare_stage.h"
#include "app/stages/explore/explore_stage.h"
#include "app/stages/report/page_view.h"
#include "app/stages/report/report_stage.h"
#include "core/base/format.h"
#include "tests/app/window_driver.h"

#include <pugixml.hpp>
#include <zip.h>

#include <QListWidget>
#include <QPlainTextEdit>
#include <QScrollBar>
#include <QTemporaryDir>
#include <QTest>

#include <fstream>

using namespace rapporto;
using namespace rapporto::app;

namespace {

/// The text of a part of a document that is an archive.
std::string partOf(const QString& path, const char* name) {
    zip_t* archive = zip_open(path.toUtf8().constData(), ZIP_RDONLY, nullptr);
    if (archive == nullptr) {
        return {};
    }
    zip_stat_t stat;
    std::string text;
    if (zip_stat(archive, name, 0, &stat) == 0) {
        text.resize(stat.size);
        zip_file_t* file = zip_fopen(archive, name, 0);
        zip_fread(file, text.data(), text.size());
        zip_fclose(file);
    }
    zip_discard(archive);
    return text;
}

std::size_t occurrences(const std::string& text, const std::string& part) {
    std::size_t n = 0;
    for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) {
        ++n;
    }
    return n;
}

}  // namespace

class ReportWindowTest : public test::WindowDriver {
    Q_OBJECT

    QTemporaryDir place_;

    ReportStage* report() { return window_->findChild<ReportStage*>(); }

    PageView* page() { return find<PageView>("reportPage"); }

    void toReport() {
        window_->showStage(5);
        window_->settle();
    }

    void send() {
        QTest::keyClick(window_.get(), Qt::Key_Return, Qt::ControlModifier);
        window_->settle();
    }

    /// Takes the first entry of the report’s own finder that fits.
    void pick(const QString& words) {
        auto* finder = report()->findChild<Finder*>();
        QVERIFY(finder != nullptr && finder->isVisible());
        auto* line = finder->findChild<QLineEdit*>();
        QTest::keyClicks(line, words);
        QTest::keyClick(line, Qt::Key_Return);
        window_->activateWindow();  // The popup had the focus.
        window_->settle();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    }

    /// Chooses the value of a line of the reading column’s sheet.
    void setField(const QString& name, const QString& value) {
        window_->settle();
        for (const SheetField& field : report()->reading().fields) {
            if (field.name == name) {
                field.set(value);
                window_->settle();
                return;
            }
        }
        QFAIL(qPrintable(name + " is not among the settings"));
    }

    /// The number of rows that a block of the page has; −1: there is no such kind of block.
    int blocksOf(ReportBlock::Kind kind) {
        int n = 0;
        for (const ReportBlock& block : page()->pages().blocks) {
            n += block.kind == kind ? 1 : 0;
        }
        return n;
    }

  private slots:

    void init() { openDemo(); }

    void cleanup() { window_.reset(); }

    void aPaperFromWhatIsInFront() {
        // A table, a picture of Explore, a check’s picture, a table of the variables.
        session().edit(SetReport{{ReportItem("table", {"q2"})}}, "begin");
        window_->showStage(1);
        window_->settle();
        window_->findChild<ExploreStage*>()->putOnDesk("hives");
        window_->settle();
        send();
        openCheck("white");
        send();
        toReport();
        QCOMPARE(report()->reading().title, QString("figure of a question"));
        report()->offerItems();
        pick("descriptive");
        const auto& items = session().study().report;
        QCOMPARE(items.size(), std::size_t{4});
        QVERIFY(items[1].item == "picture" &&
                items[1].picture->of == window_->findChild<ExploreStage*>()->desk());
        QVERIFY(items[2].item == "figure" && items[2].shows == "white");
        QVERIFY(items[3].item == "descriptives");
        // Words, typed, with a number from the list.
        report()->offerItems();
        pick("your own words");
        auto* words = find<QPlainTextEdit>("reportText");
        QVERIFY(words->isVisible() && words->hasFocus());
        QTest::keyClicks(words, "Members earn ");
        click("reportField");
        pick("effect of member in q2");
        QTest::keyClicks(words, " more");
        QTRY_VERIFY(session().study().report[4].text.ends_with(" more"));
        window_->settle();
        const auto shown = [this] {
            const Coefficient& c = session().answer("q2")->fit->coefficients[1];
            return "Members earn " + fixedNumber(c.estimate, decimalsFor(c.se), true) + " more";
        };
        const std::string before = shown();
        QVERIFY2(page()->words().contains(QString::fromStdString(before)),
                 qPrintable(page()->words().right(300)));
        // One table is frozen, the other follows.
        report()->chooseItem(0);
        setField("numbers", "frozen");
        QVERIFY(session().study().report[0].frozen.has_value());
        const std::string frozen = page()->pages().blocks[1].cells[1][1].text;
        // The question changes, and with it the sentence; the frozen table does not.
        session().setQuestion("q2");
        Question q = *session().question();
        std::erase_if(q.terms, [](const Term& t) { return t.shown() == "irrigated"; });
        session().putQuestion(q, "take irrigated out");
        window_->settle();
        QTRY_VERIFY(session().isComplete());
        toReport();
        const std::string after = shown();
        QVERIFY(after != before);
        QTRY_VERIFY(page()->words().contains(QString::fromStdString(after)));
        QCOMPARE(page()->pages().blocks[1].cells[1][1].text, frozen);
        QVERIFY(page()->words().contains("the answer has moved on"));
        // As a document: two tables, two figures, the sentence.
        const QString path = place_.filePath("paper.docx");
        QCOMPARE(report()->exportTo(path), QString());
        const std::string document = partOf(path, "word/document.xml");
        pugi::xml_document parsed;
        QVERIFY(parsed.load_string(document.c_str()));
        QCOMPARE(occurrences(document, "<w:tbl>"), std::size_t{2});
        QCOMPARE(occurrences(document, "<pic:pic>"), std::size_t{2});
        QVERIFY(document.find(after) != std::string::npos);
    }

    void nothingIsCutOffAtAnyWidth_data() {
        QTest::addColumn<QSize>("size");
        QTest::newRow("small") << QSize(1024, 680);
        QTest::newRow("usual") << QSize(1280, 800);
        QTest::newRow("large") << QSize(1920, 1080);
    }

    void nothingIsCutOffAtAnyWidth() {
        QFETCH(QSize, size);
        window_->resize(size);
        toReport();
        QCOMPARE(page()->horizontalScrollBar()->maximum(), 0);
        QVERIFY(page()->pages().blocks.size() > 8);
        for (std::size_t b = 0; b < page()->pages().blocks.size(); ++b) {
            const QRectF box = page()->boxOf(b);
            QVERIFY2(box.left() >= 0.0 && box.right() <= page()->viewport()->width(),
                     qPrintable(QString("block %1 at %2").arg(b).arg(box.right())));
        }
    }

    void wordsAreChangedWhereTheyStand() {
        toReport();
        std::size_t caption = 0;
        while (page()->pages().blocks[caption].part != "caption") {
            ++caption;
        }
        const QPoint at = page()->boxOf(caption).center().toPoint();
        QTest::mouseDClick(page()->viewport(), Qt::LeftButton, {}, at);
        auto* editor = find<QPlainTextEdit>("pageEdit");
        QVERIFY(editor->isVisible());
        // What is numbered by itself is not up for change.
        QVERIFY(!editor->toPlainText().contains("Table 1"));
        QTest::keyClicks(editor, "What membership goes with");
        QTest::keyClick(editor, Qt::Key_Return);
        window_->settle();
        QVERIFY(page()->words().contains("Table 1. What membership goes with"));
        const int item = page()->pages().blocks[caption].item;
        QCOMPARE(session().study().report[static_cast<std::size_t>(item)].caption,
                 std::string("What membership goes with"));
        session().undo();
        window_->settle();
        QVERIFY(!page()->words().contains("What membership goes with"));
        // Escape leaves it as it was.
        QTest::mouseDClick(page()->viewport(), Qt::LeftButton, {}, at);
        editor = find<QPlainTextEdit>("pageEdit");
        QTest::keyClicks(editor, "nonsense");
        QTest::keyClick(editor, Qt::Key_Escape);
        window_->settle();
        QVERIFY(!page()->words().contains("nonsense"));
    }

    /// The first block of the page that holds heads to be written, and where one of them stands.
    std::size_t tableOfResults() {
        const auto& blocks = page()->pages().blocks;
        for (std::size_t b = 0; b < blocks.size(); ++b) {
            if (!page()->boxOf(b, "head:0").isEmpty()) {
                return b;
            }
        }
        return blocks.size();
    }

    void drag(QPointF from, QPointF to, bool letGo = true) {
        QWidget* paper = page()->viewport();
        QTest::mousePress(paper, Qt::LeftButton, {}, from.toPoint());
        QTest::mouseMove(paper, ((from + to) / 2.0).toPoint());
        QTest::mouseMove(paper, to.toPoint());
        if (letGo) {
            QTest::mouseRelease(paper, Qt::LeftButton, {}, to.toPoint());
            window_->settle();
        }
    }

    void headsAreWrittenAndMovedWhereTheyStand() {
        session().edit(SetReport{{ReportItem("table", {"q1", "q2", "q3"}), ReportItem("text")}},
                       "begin");
        toReport();
        const std::size_t table = tableOfResults();
        QVERIFY(table < page()->pages().blocks.size());
        QTest::mouseDClick(page()->viewport(), Qt::LeftButton, {},
                           page()->boxOf(table, "head:1").center().toPoint());
        auto* editor = find<QPlainTextEdit>("pageEdit");
        QVERIFY(editor->isVisible());
        QVERIFY2(!editor->toPlainText().startsWith('('), qPrintable(editor->toPlainText()));
        QTest::keyClicks(editor, "all of it");
        QTest::keyClick(editor, Qt::Key_Return);
        window_->settle();
        QCOMPARE(session().study().report[0].table.heads,
                 (std::vector<std::string>{"", "all of it"}));
        QVERIFY(page()->words().contains("(2) all of it"));
        // Its column is dragged to the front, its head goes with it.
        drag(page()->boxOf(table, "head:1").center(),
             page()->boxOf(table, "head:0").center() - QPointF(6, 0));
        const ReportItem moved = session().study().report[0];
        QCOMPARE(moved.questions, (std::vector<std::string>{"q2", "q1", "q3"}));
        QCOMPARE(moved.table.heads, (std::vector<std::string>{"all of it", "", ""}));
        QVERIFY(page()->words().contains("(1) all of it"));
        session().undo();
        window_->settle();
        QCOMPARE(session().study().report[0].questions,
                 (std::vector<std::string>{"q1", "q2", "q3"}));
        // Esc lets go of what is dragged.
        page()->setFocus();
        drag(page()->boxOf(table, "head:2").center(), page()->boxOf(table, "head:0").center(),
             false);
        QTest::keyClick(page(), Qt::Key_Escape);
        QTest::mouseRelease(page()->viewport(), Qt::LeftButton);
        window_->settle();
        QCOMPARE(session().study().report[0].questions,
                 (std::vector<std::string>{"q1", "q2", "q3"}));
    }

    void anItemIsDraggedToItsPlace() {
        ReportItem words("text");
        words.text = "Words that come last";
        session().edit(SetReport{{ReportItem("equation", {"q2"}), words}}, "begin");
        toReport();
        const auto& blocks = page()->pages().blocks;
        const auto at = [&](int item) {
            std::size_t b = 0;
            while (blocks[b].item != item) {
                ++b;
            }
            return page()->boxOf(b);
        };
        drag(at(1).center(), QPointF(at(0).center().x(), at(0).top() + 1.0));
        QCOMPARE(session().study().report[0].item, std::string("text"));
        QCOMPARE(report()->chosenItem(), 0);
        drag(at(0).center(), QPointF(at(1).center().x(), page()->viewport()->height() - 4.0));
        QCOMPARE(session().study().report[1].item, std::string("text"));
        // A click alone moves nothing.
        QTest::mouseClick(page()->viewport(), Qt::LeftButton, {}, at(1).center().toPoint());
        window_->settle();
        QCOMPARE(session().study().report[1].item, std::string("text"));
    }

    void whatIsInFrontOfModelAndCompareIsSent() {
        session().edit(SetReport{{ReportItem("text")}}, "begin");
        session().setQuestion("q2");
        window_->showStage(2);
        window_->settle();
        click("tab:Terms");
        window_->settle();
        send();
        QCOMPARE(session().study().report.back().shows, std::string("subsets"));
        window_->showStage(4);
        window_->settle();
        click("compare:Sweep");
        window_->settle();
        auto* stage = window_->findChild<CompareStage*>();
        QTRY_VERIFY_WITH_TIMEOUT(!stage->isSweeping(), 60000);
        window_->settle();
        send();
        const ReportItem sent = session().study().report.back();
        QCOMPARE(sent.shows, std::string("sweep"));
        QVERIFY(sent.sweep && !sent.sweep->of.empty() && sent.sweep->vary);
        toReport();
        QTRY_VERIFY(page()->words().contains("specifications, sorted"));
        QVERIFY(page()->words().contains("With and without"));
    }

    void anItemIsSetInTheReadingColumn() {
        toReport();
        int table = 0;
        while (reportItems(session().study())[static_cast<std::size_t>(table)].item != "table") {
            ++table;
        }
        report()->chooseItem(table);
        QCOMPARE(report()->reading().title, QString("table of results"));
        QVERIFY(!page()->words().contains("p < .05"));
        setField("stars", ".05 .01 .001");
        QVERIFY(page()->words().contains("* p < .05"));
        setField("beneath", "intervals");
        QVERIFY(page()->words().contains("intervals in brackets"));
        setField("fold", "Controls: age, slope_pct; x");
        QVERIFY(page()->words().contains("Controls\tyes"));
        QVERIFY(!page()->words().contains("Slope, %"));
        setField("fold", "");
        QVERIFY(page()->words().contains("Slope, %"));
        // Nothing chosen: the whole report.
        report()->chooseItem(-1);
        setField("decimal mark", "1,5");
        setField("words of tables", "German");
        QVERIFY(page()->words().contains("Tabelle 1."));
        QVERIFY(page()->words().contains("0,"));
    }

    void thePageIsSearchedAndZoomed() {
        toReport();
        QVERIFY(page()->find("Constant"));
        QVERIFY(report()->chosenItem() >= 0);
        QVERIFY(!page()->find("no such words anywhere"));
        const double fitting = page()->scale();
        page()->setFocus();
        QTest::keyClick(page(), Qt::Key_Plus);
        QVERIFY(page()->scale() > fitting);
        QTest::keyClick(page(), Qt::Key_0);
        QCOMPARE(page()->scale(), fitting);
        // Arrow keys go from item to item.
        report()->chooseItem(0);
        QTest::keyClick(page(), Qt::Key_Down);
        QCOMPARE(report()->chosenItem(), 1);
    }

    void typedWordsStayWithTheirItem() {
        ReportItem first("text");
        first.text = "first";
        ReportItem second("text");
        second.text = "second";
        session().edit(SetReport{{first, second}}, "begin");
        toReport();
        report()->chooseItem(0);
        auto* words = find<QPlainTextEdit>("reportText");
        QCOMPARE(words->toPlainText(), QString("first"));
        words->setFocus();
        words->moveCursor(QTextCursor::End);
        QTest::keyClicks(words, " words");
        // Before the pause after which they are taken, it is moved.
        for (QPushButton* button : report()->findChildren<QPushButton*>()) {
            if (button->text() == "move down") {
                QTest::mouseClick(button, Qt::LeftButton);
            }
        }
        window_->settle();
        QCOMPARE(session().study().report[1].text, std::string("first words"));
        QCOMPARE(session().study().report[0].text, std::string("second"));
        // Nor are they lost when one goes elsewhere at once.
        report()->chooseItem(1);
        QTest::keyClicks(words, "!");
        window_->showStage(2);
        window_->settle();
        QVERIFY(session().study().report[1].text.find('!') != std::string::npos);
    }

    void anOldPageSaysThatItIsOld() {
        toReport();
        QVERIFY(!page()->isStale());
        const QImage fresh = page()->grab().toImage();
        page()->setStale(true);
        QVERIFY(page()->grab().toImage() != fresh);
        // The next pages are not.
        ReportStyle style;
        style.title = "Another title";
        session().edit(SetReportStyle{style}, "title");
        window_->settle();
        QTRY_VERIFY(!page()->isStale());
        QVERIFY(page()->words().startsWith("Another title"));
        // What is saved is what stands there.
        QCOMPARE(report()->pages().title, std::string("Another title"));
    }

    void anEmptyStudySaysWhatToDo() {
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        window_->showStage(5);
        window_->settle();
        QVERIFY(page()->accessibleDescription().contains("State a question first"));
        QVERIFY(report()->exportTo(place_.filePath("e.html")).isEmpty());
        QVERIFY(report()->replicateTo(place_.filePath("e"), true).contains("no table"));
        QVERIFY(!QFile::exists(place_.filePath("e")));
    }

    void aReplicationFolderIsWritten() {
        toReport();
        const QString folder = place_.filePath("again");
        QCOMPARE(report()->replicateTo(folder, true), QString());
        QVERIFY(QFile::exists(folder + "/data/growers.csv"));
        QVERIFY(report()->replicateTo(folder, true).contains("not empty"));
    }
};

QTEST_MAIN(ReportWindowTest)
#include "report_window_test.moc"
