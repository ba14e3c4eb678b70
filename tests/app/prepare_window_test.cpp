// Variables and rows prepared in the real window: codes, levels, rules, recoding, shapes.
#include "app/shell/expression_edit.h"
#include "app/shell/reading_column.h"
#include "app/shell/theme.h"
#include "app/stages/data/coverage_view.h"
#include "app/stages/data/data_stage.h"
#include "app/stages/data/shape_ladder.h"
#include "app/stages/data/variables_page.h"
#include "tests/app/growers_driver.h"

#include <QApplication>
#include <QFile>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QTableWidget>
#include <QTest>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class PrepareWindowTest : public GrowersDriver {
    Q_OBJECT

    /// Fourteen answers of which twelve use −9, one item worded in reverse.
    static QByteArray answers() {
        QByteArray text = "person";
        for (int k = 1; k <= 14; ++k) {
            text += ",item_" + QByteArray::number(k);
        }
        text += "\n";
        for (int i = 0; i < 60; ++i) {
            text += "Tolve " + QByteArray::number(i + 1);
            for (int k = 1; k <= 14; ++k) {
                const int level = 1 + (i * 5 + (i * k) % 3) % 7;
                const int value = k == 2 ? 8 - level : level;
                text += "," + QByteArray::number(k <= 12 && (i + k) % 19 == 0 ? -9 : value);
            }
            text += "\n";
        }
        return text;
    }

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

    void setsACodeMissingInTwelveVariablesAtOnce() {
        takeIn("answers.csv", answers());
        click("data:page:Codebook");
        auto* page = window_->findChild<VariablesPage*>();
        std::vector<std::string> names;
        for (int k = 1; k <= 12; ++k) {
            names.push_back("item_" + std::to_string(k));
        }
        page->select(names);
        QCOMPARE(page->selected().size(), std::size_t{12});
        auto* missing = find<QLineEdit>("variables:missing");
        missing->clear();
        QTest::keyClicks(missing, "-9");
        QTest::keyClick(missing, Qt::Key_Return);
        window_->settle();
        for (const std::string& name : names) {
            QVERIFY(session().frame()->column(name)->countMissing() > 0);
        }
        QCOMPARE(session().frame()->column("item_13")->countMissing(), std::size_t{0});
        session().undo();  // One step, not twelve.
        window_->settle();
        QCOMPARE(session().frame()->column("item_12")->countMissing(), std::size_t{0});
    }

    void aRangeOfCodesIsMissingToo() {
        takeIn("answers.csv", answers());
        click("data:page:Codebook");
        window_->findChild<VariablesPage*>()->select({"item_1"});
        auto* missing = find<QLineEdit>("variables:missing");
        missing->clear();
        QTest::keyClicks(missing, "-99 to -1, 7");
        QTest::keyClick(missing, Qt::Key_Return);
        window_->settle();
        const Column& column = *session().frame()->column("item_1");
        for (const double x : column.numbers()) {
            QVERIFY(std::isnan(x) || (x >= 1.0 && x < 7.0));
        }
        QVERIFY(session().saveStudy(place_.filePath("answers.rapporto")));
        const auto study = readStudyFile(place_.filePath("answers.rapporto").toStdString());
        QCOMPARE(study->variables.front().missingRanges->front().low, -99.0);
    }

    void reversesAnItemAndBuildsAScale() {
        takeIn("answers.csv", answers());
        click("data:page:Codebook");
        auto* page = window_->findChild<VariablesPage*>();
        page->select({"item_1"});
        auto* missing = find<QLineEdit>("variables:missing");
        page->select({"item_1", "item_2", "item_3"});
        missing->setText("-9");
        QTest::keyClick(missing, Qt::Key_Return);
        window_->settle();
        QVERIFY(window_->findChild<ReadingColumn*>()->findChildren<QLabel*>().size() > 0);
        QVERIFY(reads("item_2</b> runs against the rest"));
        // Turn the second round: its proposal, then Enter.
        click("data:page:Rows");
        session().setVariable("item_2");
        window_->settle();
        click("offer:scale turned round");
        auto* expression = find<QLineEdit>("data:derivedExpression");
        QCOMPARE(expression->text(), QString("reverse(item_2, 1, 7)"));
        QTest::keyClick(expression, Qt::Key_Return);
        window_->settle();
        click("data:page:Codebook");
        page->select({"item_1", "item_2_r", "item_3"});
        window_->settle();
        QVERIFY(!reads("runs against the rest"));
        click("card:Add the mean as a scale");
        QCOMPARE(find<QLineEdit>("data:derivedExpression")->text(),
                 QString("(item_1 + item_3 + item_2_r) / 3"));
        QTest::keyClick(find<QLineEdit>("data:derivedExpression"), Qt::Key_Return);
        window_->settle();
        QVERIFY(session().frame()->column("scale") != nullptr);
    }

    void labelsOrdersAndMergesLevels() {
        takeIn("soils.csv", "soil,y\n1,2\n2,3\n1,4\n3,5\n2,6\n1,7\n");
        click("data:page:Codebook");
        auto* page = window_->findChild<VariablesPage*>();
        page->select({"soil"});
        pick("variables:measure", "groups");
        window_->settle();  // Levels are counted beside the window's turn.
        page->select({"soil"});
        auto* levels = find<QTableWidget>("levels");
        QCOMPARE(levels->rowCount(), 3);
        levels->item(0, 1)->setText("sand");
        window_->settle();
        const Frame& frame = *session().frame();
        QCOMPARE(frame.variable("soil")->levels.front().label, std::string("sand"));
        levels->setCurrentCell(0, 0);
        click("levels:down");
        QCOMPARE(
            levelsOf(*session().frame()->column("soil"), *session().frame()->variable("soil"))[1]
                .label,
            std::string("sand"));
        for (int r = 0; r < 3; ++r) {
            levels->item(r, 3)->setText(levels->item(r, 0)->text() == "3" ? "heavy" : "light");
        }
        click("levels:merge");
        QCOMPARE(find<QLineEdit>("data:derivedExpression")->text(),
                 QString("case when soil in (2, 1) then 'light' when soil = 3 then 'heavy' end"));
    }

    void declaresAPanelAndSeesItsGaps() {
        takeIn("panel.csv",
               "firm,year,y,x\nA,2015,1,2\nA,2016,2,1\nA,2018,4,3\nB,2017,3,2\nC,2015,5,4\n"
               "C,2016,6,7\nC,2017,5,6\nC,2018,8,9\n");
        click("data:page:What a row is");
        pick("layout:kind", "a unit at a moment");
        QCOMPARE(session().study().layout.time, std::string("year"));
        pick("layout:unit", "firm");
        QVERIFY(find<QLabel>("layout:facts")->text().contains("1 gap"));
        QVERIFY(find<QLabel>("layout:facts")->text().contains("3 units"));
        auto* rows = find<QListWidget>("layout:rows");
        QCOMPARE(rows->item(0)->text(), QString("3 · A · 2018 · after a gap"));
        rows->setCurrentRow(0);
        QCOMPARE(session().selectedRows(), RowSet{2});
        const Coverage& coverage = window_->findChild<CoverageView*>()->coverage();
        QCOMPARE(coverage.columns, std::size_t{4});
        QCOMPARE(coverage.units.front(), std::string("B"));  // The thinnest first.
        // A lag as a term of a model.
        QTest::keyClick(window_.get(), Qt::Key_3, Qt::ControlModifier);
        window_->settle();
        click("slot:outcome");
        take("y");
        click("slot:add");
        take("lag(x)");
        closeFinder();
        QCOMPARE(answer().rows.used, std::size_t{4});
        QCOMPARE(answer().rows.missingBy.front().rows, std::size_t{4});
        QCOMPARE(answer().fit->coefficients[1].term, std::string("lag(x)"));
    }

    void takesARungOfTheLadder() {
        takeInGrowers();
        session().setVariable("revenue");
        window_->settle();
        auto* ladder = find<LadderView>("data:ladder");
        QCOMPARE(ladder->ladder().rungs.size(), std::size_t{8});
        QTest::mouseClick(ladder, Qt::LeftButton, {}, ladder->rungRect(3).center());
        QCOMPARE(find<QLineEdit>("data:derivedExpression")->text(), QString("ln(revenue)"));
        QTest::keyClick(find<QLineEdit>("data:derivedExpression"), Qt::Key_Return);
        window_->settle();
        QVERIFY(session().frame()->column("ln_revenue") != nullptr);
        // Taking it out says what would miss it.
        askForRevenue();
        window_->showStage(0);
        session().edit(PutDerived{{"twice", "ln_revenue * 2", ""}}, "derive twice");
        session().setVariable("ln_revenue");
        window_->settle();
        QVERIFY(reads("missed by the derived variable twice"));
    }

    void rulesWorkInOrderAndRowsComeBack() {
        takeInGrowers();
        click("data:page:Sample");
        auto* condition = find<QLineEdit>("sample:condition");
        QTest::keyClicks(condition, "hives > 5 or hives < 2");
        QTest::keyClick(condition, Qt::Key_Return);
        window_->settle();
        QTest::keyClicks(condition, "revenue > 400");
        QTest::keyClick(condition, Qt::Key_Return);
        window_->settle();
        QCOMPARE(text(session().study().sample.where),
                 QString("(hives > 5 or hives < 2) and revenue > 400"));
        auto* steps = find<QTableWidget>("sample:steps");
        QCOMPARE(steps->rowCount(), 2);
        const Frame& frame = *session().frame();
        QCOMPARE(steps->item(1, 3)->text().remove(QChar(0x202F)).toULongLong(),
                 static_cast<qulonglong>(frame.count(RowState::In)));
        steps->setCurrentCell(0, 0);
        click("sample:drop");
        QCOMPARE(session().study().sample.where, std::string("revenue > 400"));
        QTest::keyClicks(find<QLineEdit>("sample:asideRule"), "revenue > 3000");
        QTest::keyClicks(find<QLineEdit>("sample:asideReason"), "too good");
        click("sample:setAside");
        const std::size_t many = session().frame()->count(RowState::SetAside);
        QVERIFY(many > 1);
        auto* aside = find<QTableWidget>("sample:aside");
        QCOMPARE(aside->rowCount(), static_cast<int>(many));
        QCOMPARE(aside->item(0, 2)->text(), QString("too good"));
        aside->selectRow(0);
        click("sample:back");
        QCOMPARE(session().frame()->count(RowState::SetAside), many - 1);
    }

    void completesNamesAndFunctions() {
        takeInGrowers();
        auto* field = static_cast<ExpressionEdit*>(find<QLineEdit>("data:derivedExpression"));
        QTest::keyClicks(field, "ln(rev");
        QVERIFY(field->offered().contains("revenue"));
        QVERIFY(field->offered().contains("reverse"));
        QTest::keyClick(field, Qt::Key_Tab);
        QCOMPARE(field->text(), QString("ln(revenue"));
    }

    void columnsAreLookedUpAndGroupsCollapsed() {
        takeInGrowers();
        QByteArray villages = "village;altitude\n";
        for (int v = 0; v < 29; ++v) {  // One village is not in the second table.
            villages += QString("village %1;%2\n").arg(v).arg(300 + 10 * v).toUtf8();
        }
        write(place_.filePath("villages.csv"), villages);
        click("data:page:Shape");
        choose("shape:kind", 2);
        type("shape:joinFile", place_.filePath("villages.csv"));
        window_->settle();
        QCOMPARE(find<QLineEdit>("shape:keys")->text(), QString("village"));
        const QString says = find<QLabel>("shape:says")->text();
        QVERIFY2(says.contains("290 rows found their match") &&
                     says.contains("10 rows did not (village 29)"),
                 qPrintable(says));
        click("shape:add");
        window_->settle();
        QVERIFY(session().frame()->column("altitude") != nullptr);
        QCOMPARE(session().frame()->column("altitude")->countMissing(), std::size_t{10});
        choose("shape:kind", 3);
        type("shape:groups", "village");
        auto* columns = find<QPlainTextEdit>("shape:columns");
        QVERIFY(columns->toPlainText().contains("revenue = avg(revenue)"));
        columns->setPlainText("revenue = avg(revenue)\nhives = hives");
        window_->settle();
        QVERIFY2(find<QLabel>("shape:says")->text().contains("varies within village"),
                 qPrintable(find<QLabel>("shape:says")->text()));
        QVERIFY(!find<QPushButton>("shape:add")->isEnabled());
        columns->setPlainText("revenue = avg(revenue)\nn = count(hives)\naltitude = max(altitude)");
        window_->settle();
        click("shape:add");
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{30});
        QCOMPARE(find<QListWidget>("shape:steps")->count(), 3);
        // Undo and redo go through it, and the study keeps it.
        QVERIFY(session().saveStudy(place_.filePath("shaped.rapporto")));
        session().undo();
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{300});
        // Both files change: the steps are taken anew.
        write(place_.filePath("villages.csv"), villages + "village 29;990\n");
        window_->openPath(place_.filePath("shaped.rapporto"));
        letThemGo();
        QVERIFY(find<QLabel>("review:words")->text().contains("villages.csv"));
        click("review:use");
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{30});
        QCOMPARE(session().frame()->column("altitude")->countMissing(), std::size_t{0});
        click("data:page:Shape");
        click("shape:drop");
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{300});
    }

    void valuesAreRecodedByATable() {
        takeInGrowers();
        session().setVariable("hives");
        window_->settle();
        click("offer:recode");
        auto* table = find<QTableWidget>("recode:table");
        QVERIFY(table->isVisible());
        for (int row = 0; row < table->rowCount(); ++row) {
            table->item(row, 0)->setText("");
            table->item(row, 1)->setText("");
        }
        table->item(0, 0)->setText("< 5");
        table->item(0, 1)->setText("few");
        table->item(1, 0)->setText("else");
        table->item(1, 1)->setText("many");
        window_->settle();
        const auto few = table->item(0, 2)->text().toInt();
        QCOMPARE(few + table->item(1, 2)->text().toInt(), 300);
        find<QLineEdit>("data:derivedName")->setText("hive_class");
        click("data:addDerived");
        window_->settle();
        const Column* made = session().frame()->column("hive_class");
        QVERIFY(made != nullptr && made->isText());
        QCOMPARE(std::count(made->codes().begin(), made->codes().end(), made->codes()[0]),
                 std::ptrdiff_t{made->texts()[static_cast<std::size_t>(made->codes()[0])] == "few"
                                    ? few
                                    : 300 - few});
    }

    void aSetIsMadeChangedAndRenamedWhereItIsUsed() {
        takeInGrowers();
        click("data:page:Codebook");
        auto* page = window_->findChild<VariablesPage*>();
        page->select({"hives", "village"});
        window_->settle();
        click("card:Keep them as a set");
        window_->settle();
        Question question;
        question.id = "q1";
        question.outcome = "revenue";
        question.terms = {Term::expression("hives")};
        question.terms[0].kind = Term::Kind::Set;
        question.terms[0].parts = {"set_1"};
        QVERIFY(session().putQuestion(question, "ask"));
        window_->settle();
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{31});
        page->select({"village"});
        click("sets:drop");
        window_->settle();
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{2});
        type("sets:name", "bees");
        window_->settle();
        QCOMPARE(session().study().sets[0].name, std::string("bees"));
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{2});
        page->select({"village"});
        click("sets:add");
        window_->settle();
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{31});
    }

    void aPartIsDrawnByChanceTheSameForTheSameSeed() {
        takeInGrowers();
        click("data:page:Sample");
        choose("sample:part", 1);
        find<QLineEdit>("sample:amount")->setText("120");
        find<QLineEdit>("sample:seed")->setText("7");
        click("sample:draw");
        window_->settle();
        QCOMPARE(session().frame()->count(RowState::In), std::size_t{120});
        const auto states = session().frame()->states();
        session().undo();
        click("sample:draw");
        window_->settle();
        QVERIFY(session().frame()->states() == states);
        session().undo();
        window_->settle();
        find<QLineEdit>("sample:seed")->setText("x");
        click("sample:draw");
        QVERIFY(find<QLabel>("sample:says")->text().contains("whole number"));
        find<QLineEdit>("sample:seed")->setText("8");
        choose("sample:part", 2);
        find<QLineEdit>("sample:amount")->setText("3");
        click("sample:draw");
        window_->settle();
        const Column* part = session().frame()->column("part_8");
        QVERIFY(part != nullptr);
        QCOMPARE(levelsOf(*part, *session().frame()->variable("part_8")).size(), std::size_t{3});
        // Whole clusters.
        Survey survey;
        survey.cluster = "village";
        session().edit(SetSurvey{survey}, "clusters");
        choose("sample:part", 3);
        find<QLineEdit>("sample:amount")->setText("40");
        click("sample:draw");
        window_->settle();
        const auto frame = session().frame();
        std::map<std::int32_t, std::set<RowState>> seen;
        for (std::size_t i = 0; i < frame->rows(); ++i) {
            seen[frame->column("village")->codes()[i]].insert(frame->states()[i]);
        }
        std::size_t in = 0;
        for (const auto& [village, found] : seen) {
            QCOMPARE(found.size(), std::size_t{1});
            in += found.contains(RowState::In) ? 1U : 0U;
        }
        QVERIFY(in >= 4 && in <= 20);
    }

    void aCodebookIsPrinted() {
        takeInGrowers();
        auto* stage = window_->findChild<DataStage*>();
        for (const char* name : {"book.html", "book.pdf", "book.docx"}) {
            stage->writeCodebook(place_.filePath(name));
            QTRY_VERIFY(QFile::exists(place_.filePath(name)));
            QTRY_VERIFY(QFile(place_.filePath(name)).size() > 3000);
        }
        QFile html(place_.filePath("book.html"));
        QVERIFY(html.open(QIODevice::ReadOnly));
        const QByteArray page = html.readAll();
        QCOMPARE(page.count("<svg"), 3);
        QVERIFY(page.contains("revenue") && page.contains("village 12") &&
                page.contains("and 10 more"));
        QFile pdf(place_.filePath("book.pdf"));
        QVERIFY(pdf.open(QIODevice::ReadOnly));
        QVERIFY(pdf.read(5) == "%PDF-");
    }

    void derivesWithALivePreview() {
        takeInGrowers();
        auto* name = find<QLineEdit>("data:derivedName");
        auto* expression = find<QLineEdit>("data:derivedExpression");
        QTest::keyClicks(name, "ln_rev");
        QTest::keyClicks(expression, "ln(revenu)");
        QVERIFY(find<QLabel>("data:derivedPreview")->text().contains("Did you mean"));
        QTest::keyClick(expression, Qt::Key_Backspace);
        QTest::keyClicks(expression, "e)");
        QVERIFY(find<QLabel>("data:derivedPreview")->text().contains("300 values"));
        QTest::keyClick(expression, Qt::Key_Return);
        window_->settle();
        QVERIFY(session().frame()->column("ln_rev") != nullptr);
        auto* rule = find<QLineEdit>("data:rule");
        QTest::keyClicks(rule, "hives > 5");
        QTest::keyClick(rule, Qt::Key_Return);
        window_->settle();
        QVERIFY(session().frame()->count(RowState::ByRule) > 100);
        QTest::keyClick(window_.get(), Qt::Key_1, Qt::ControlModifier);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    PrepareWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "prepare_window_test.moc"
