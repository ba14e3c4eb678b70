// The real window, driven by mouse and keyboard.
#include "app/plots/plot_view.h"
#include "app/shell/expression_edit.h"
#include "app/shell/reading_column.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/compare/sweep_view.h"
#include "app/stages/data/coverage_view.h"
#include "app/stages/data/data_stage.h"
#include "app/stages/data/shape_ladder.h"
#include "app/stages/data/variables_page.h"
#include "app/stages/explore/explore_stage.h"
#include "app/stages/model/correlation_view.h"
#include "app/stages/model/curve_page.h"
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/hypotheses_page.h"
#include "app/stages/model/predict_page.h"
#include "app/stages/report/report_stage.h"
#include "core/paths/trace.h"
#include "core/report/report.h"
#include "tests/app/window_driver.h"

#include <sqlite3.h>

#include <QApplication>
#include <QClipboard>
#include <QComboBox>
#include <QFile>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QSlider>
#include <QTableView>
#include <QTableWidget>
#include <QTemporaryDir>
#include <QTest>
#include <QTextBrowser>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class WindowTest : public WindowDriver {
    Q_OBJECT

    QTemporaryDir place_;

    static void write(const QString& path, const QByteArray& text) {
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(text);
    }

    static QByteArray contents(const QString& path) {
        QFile file(path);
        return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray();
    }

    /// What is not saved shall go, where the band asks about it.
    void letThemGo() {
        window_->settle();
        auto* button = window_->findChild<QPushButton*>("ask:letGo");
        if (button != nullptr && button->isVisible()) {
            QTest::mouseClick(button, Qt::LeftButton);
            QApplication::processEvents();
            window_->settle();
        }
    }

    /// Apple growers with a spread that grows: a check fails, logs mend it.
    static QByteArray growers() {
        QByteArray text = "grower;revenue;hives;village\n";
        for (int i = 0; i < 300; ++i) {
            const double hives = 1.0 + (i * 7) % 40 / 4.0;
            const double noise = 0.5 * std::sin(i * 12.9898) * std::cos(i * 4.1414) * 2.0;
            text += QString("Tolve %1;%2;%3;village %4\n")
                        .arg(i + 1)
                        .arg(QString::number(300.0 * std::exp(0.15 * hives + noise), 'f', 2)
                                 .replace('.', ','))
                        .arg(QString::number(hives).replace('.', ','))
                        .arg(i % 30)
                        .toUtf8();
        }
        return text;
    }

    void takeInGrowers() {
        write(place_.filePath("growers.csv"), growers());
        window_->openPath(place_.filePath("growers.csv"));
        window_->settle();
        click("import:use");
    }

    void askForRevenue() {
        QTest::keyClick(window_.get(), Qt::Key_3, Qt::ControlModifier);
        window_->settle();
        click("slot:outcome");
        take("revenue");
        click("slot:add");
        take("hives");
        closeFinder();  // It stands ready for a further term.
        window_->settle();
    }

    /// Types a line anew and ends it with Return.
    void type(const QString& name, const QString& words) {
        auto* field = find<QLineEdit>(name);
        QVERIFY2(field->isVisible(), qPrintable(name));
        field->setFocus();
        QTest::keyClick(field, Qt::Key_A, Qt::ControlModifier);
        QTest::keyClicks(field, words);
        QTest::keyClick(field, Qt::Key_Return);
        window_->settle();
    }

    void pick(const QString& name, const QString& value) {
        auto* box = find<QComboBox>(name);
        const int at = box->findText(value);
        QVERIFY2(at >= 0, qPrintable(name + " has no " + value));
        box->setCurrentIndex(at);
        emit box->activated(at);
        window_->settle();
    }

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

    void takeIn(const QString& file, const QByteArray& text) {
        write(place_.filePath(file), text);
        window_->openPath(place_.filePath(file));
        window_->settle();
        click("import:use");
    }

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

    void emptyStudySaysWhatToDo() {
        QVERIFY(find<QPushButton>("start:open")->isVisible());
        QVERIFY(find<QPushButton>("start:paste")->isVisible());
        QVERIFY(find<QPushButton>("start:demo")->isVisible());
        for (int s = 0; s < 6; ++s) {  // Every stage stands without data.
            window_->showStage(s);
            window_->settle();
        }
    }

    void fromAFileToAReport() {
        write(place_.filePath("growers.csv"), growers());
        window_->openPath(place_.filePath("growers.csv"));
        window_->settle();
        const auto& import = *session().pending()->import;
        QCOMPARE(*import.used.delimiter, ';');
        QCOMPARE(*import.used.decimal, ',');
        QCOMPARE(import.table.rows(), std::size_t{300});
        click("import:use");
        askForRevenue();
        QCOMPARE(answer().question.outcome, std::string("revenue"));
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{2});

        // The effect is read where it stands.
        auto* effects = window_->findChild<EffectRows*>();
        QTest::mouseClick(effects, Qt::LeftButton, {},
                          QPoint(60, static_cast<int>(effects->rowTop(1)) + 10));
        QCOMPARE(effects->selected(), 1);
        QCOMPARE(effects->cells(1)[0], QString("hives"));

        // A failing check and its remedy, beside the original.
        QTest::keyClick(window_.get(), Qt::Key_4, Qt::ControlModifier);
        window_->settle();
        openCheck("breusch-pagan");
        const CheckResult* spread = nullptr;
        for (const CheckResult& c : answer().checks) {
            spread = c.id == "breusch-pagan" ? &c : spread;
        }
        QCOMPARE(spread->verdict, Verdict::Fails);
        const Eigen::VectorXd residuals = answer().fit->residuals;
        const std::string original = answer().question.id;
        click("card:Log the outcome");
        QCOMPARE(answer().question.outcome, std::string("ln(revenue)"));
        QCOMPARE(answer().question.variantOf, original);
        // The second question leaves the first one's residuals untouched.
        QVERIFY(session().answer(original)->fit->residuals == residuals);

        // Side by side.
        QTest::keyClick(window_.get(), Qt::Key_5, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().family(original).size(), std::size_t{2});

        // Undo takes the variant away, redo brings it back.
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().study().questions.size(), std::size_t{1});
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
        window_->settle();
        QCOMPARE(session().study().questions.size(), std::size_t{2});

        // Save, open again: the same numbers.
        const double slope = session().answer(original)->fit->coefficients[1].estimate;
        QVERIFY(session().saveStudy(place_.filePath("apples.rapporto")));
        QVERIFY(session().isSaved());
        window_->openPath(place_.filePath("apples.rapporto"));
        window_->settle();
        QCOMPARE(session().study().source.file, std::string("growers.csv"));
        QCOMPARE(session().answer(original)->fit->coefficients[1].estimate, slope);

        // The report as a page and as PDF.
        window_->showStage(5);
        window_->settle();
        auto* report = window_->findChild<ReportStage*>();
        QCOMPARE(report->exportTo(place_.filePath("r.html")), QString());
        QCOMPARE(report->exportTo(place_.filePath("r.pdf")), QString());
        QVERIFY(report->exportTo("/no/such/place/r.html").size() > 0);
        QFile page(place_.filePath("r.html"));
        QVERIFY(page.open(QIODevice::ReadOnly));
        const QByteArray html = page.readAll();
        QVERIFY(html.contains("log outcome"));
        QVERIFY(QFile(place_.filePath("r.pdf")).size() > 5000);
    }

    void pastesCellsFromTheClipboard() {
        QApplication::clipboard()->setText("y\tx\n1,5\t1\n2,5\t2\n3,0\t3\n4,9\t4\n");
        QTest::keyClick(window_.get(), Qt::Key_V, Qt::ControlModifier);
        window_->settle();
        QVERIFY(session().pending().has_value());
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{4});
        click("import:use");
        QVERIFY(session().hasTable());
        // The rows go along when the study is saved.
        QVERIFY(session().saveStudy(place_.filePath("pasted.rapporto")));
        QVERIFY(QFile::exists(place_.filePath("pasted_data.csv")));
        window_->openPath(place_.filePath("pasted.rapporto"));
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{4});
        QCOMPARE(session().frame()->column("y")->numbers()[0], 1.5);
    }

    void emptyClipboardIsRefusedInWords() {
        QApplication::clipboard()->clear();
        QTest::keyClick(window_.get(), Qt::Key_V, Qt::ControlModifier);
        QVERIFY(window_->findChild<QLabel*>("refusal") != nullptr);
    }

    void importGuessesCanBeChanged() {
        write(place_.filePath("plain.csv"), "1;2\n3;4\n5;6\n");
        window_->openPath(place_.filePath("plain.csv"));
        window_->settle();
        QVERIFY(!*session().pending()->import->used.header);
        ReaderOptions options = session().pending()->import->used;
        options.header = true;
        session().changeImportOptions(options);
        window_->settle();
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{2});
        click("import:leave");
        QVERIFY(!session().pending());
    }

    void pastesABlockAndFixesItsHeader() {
        QApplication::clipboard()->setText("2019\t2020\n1\t2\n3\t4\n");
        QTest::keyClick(window_.get(), Qt::Key_V, Qt::ControlModifier);
        window_->settle();
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{3});
        pick("import:header", "names");
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{2});
        click("import:use");
        QVERIFY(session().frame()->column("2019") != nullptr);
    }

    void repairsAreListedByLine() {
        write(place_.filePath("ragged.csv"), "a,b\n1,2\n3\n4,5,6\n7,8\n");
        window_->openPath(place_.filePath("ragged.csv"));
        window_->settle();
        auto* list = find<QListWidget>("import:problems");
        QCOMPARE(list->count(), 2);
        QVERIFY(list->item(0)->text().contains("line 3"));
        list->setCurrentRow(1);
        auto* preview = window_->findChild<QTableView*>("import:preview");
        QCOMPARE(preview->selectionModel()->selectedRows().front().row(), 2);
    }

    void exportsAndTakesInAgain() {
        takeInGrowers();
        session().edit(PutDerived{{"ln_hives", "ln(hives)", ""}}, "derive");
        window_->settle();
        auto* data = window_->findChild<DataStage*>();
        for (const char* name : {"out.xlsx", "out.sqlite", "out.datapackage.json"}) {
            const QString path = place_.filePath(name);
            data->exportTo(path, true);
            window_->settle();
            window_->openPath(path);
            letThemGo();
            QVERIFY2(session().pending() && session().pending()->import, name);
            const Table& table = session().pending()->import->table;
            QCOMPARE(table.rows(), std::size_t{300});
            QVERIFY(table.find("ln_hives") >= 0);
            click("import:use");
            QVERIFY(session().frame()->column("ln_hives") != nullptr);
            // As imported: now with the derived one as a column of the source. Not over it.
            const QByteArray before = contents(path);
            data->exportTo(path, false);
            window_->settle();
            QCOMPARE(contents(path), before);
            data->exportTo(place_.filePath(QString("again_") + name), false);
            window_->settle();
            QVERIFY(!contents(place_.filePath(QString("again_") + name)).isEmpty());
        }
        data->exportTo("/no/such/place/out.xlsx", true);
        window_->settle();
        QVERIFY(window_->findChild<QLabel*>("refusal") != nullptr);
    }

    void choosesATableOfADatabase() {
        sqlite3* db = nullptr;
        sqlite3_open(place_.filePath("two.db").toUtf8().constData(), &db);
        sqlite3_exec(db,
                     "create table a (x real); insert into a values (1), (2); create table b (y "
                     "real); insert into b values (3), (4), (5)",
                     nullptr, nullptr, nullptr);
        sqlite3_close(db);
        window_->openPath(place_.filePath("two.db"));
        window_->settle();
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{2});
        pick("import:part", "b");
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{3});
        auto* query = find<QLineEdit>("import:query");
        QTest::keyClicks(query, "select y * 2 as z from b where y > 3");
        QTest::keyClick(query, Qt::Key_Return);
        window_->settle();
        QCOMPARE(session().pending()->import->table.rows(), std::size_t{2});
        click("import:use");
        QCOMPARE(session().frame()->column("z")->numbers()[1], 10.0);
    }

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

    void aMalformedFileIsRefusedWithItsLine() {
        write(place_.filePath("bad.csv"), "a,b\n1,\"open\n2,3\n");
        window_->openPath(place_.filePath("bad.csv"));
        window_->settle();
        QVERIFY(session().pending()->refusal.has_value());
        QVERIFY(find<QLabel>("importProblems")->text().contains("line 2"));
    }

    void aChangedAndAVanishedSourceAreNoticed() {
        takeInGrowers();
        QVERIFY(session().saveStudy(place_.filePath("kept.rapporto")));
        write(place_.filePath("growers.csv"), growers() + "Tolve 301;1,0;1,0;village 1\n");
        window_->openPath(place_.filePath("kept.rapporto"));
        window_->settle();
        QVERIFY(session().sourceRefusal().has_value());
        QCOMPARE(session().sourceRefusal()->code, ErrorCode::Changed);
        window_->showStage(0);
        window_->settle();
        // What differs stands there before anything is computed from it.
        auto* differs = find<QTableWidget>("review:columns");
        QCOMPARE(differs->rowCount(), 4);
        QCOMPARE(differs->item(0, 2)->text(), QString("has other values"));
        QVERIFY2(find<QLabel>("review:words")->text().contains("301 rows, where there were 300"),
                 qPrintable(find<QLabel>("review:words")->text()));
        QVERIFY(!session().hasTable());
        click("review:use");
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{301});
        QVERIFY(session().saveStudy(place_.filePath("kept.rapporto")));
        QVERIFY(QFile::rename(place_.filePath("growers.csv"), place_.filePath("moved.csv")));
        window_->openPath(place_.filePath("kept.rapporto"));
        window_->settle();
        QCOMPARE(session().sourceRefusal()->code, ErrorCode::File);
        for (int s = 0; s < 6; ++s) {
            window_->showStage(s);
            window_->settle();
        }
        window_->showStage(0);
        QVERIFY(!find<QPushButton>("review:use")->isVisible());
        const QString gone = QString::fromStdString(session().study().source.file);
        session().relink(gone.toStdString(), place_.filePath("moved.csv"));
        window_->settle();
        QVERIFY2(find<QLabel>("review:words")->text().contains("every column has the same values"),
                 qPrintable(find<QLabel>("review:words")->text()));
        click("review:use");
        window_->settle();
        QCOMPARE(session().frame()->rows(), std::size_t{301});
        QVERIFY(session().study().source.file.ends_with("moved.csv"));
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

    void aBrokenLineIsMendedWhereItStands() {
        write(place_.filePath("torn.csv"), "a,b\n1,2\n3,4,5\n5,6\n");
        window_->openPath(place_.filePath("torn.csv"));
        window_->settle();
        auto* problems = find<QListWidget>("import:problems");
        QCOMPARE(problems->count(), 1);
        problems->setCurrentRow(0);
        window_->settle();
        auto* line = find<QLineEdit>("import:line");
        QVERIFY(line->isVisible());
        QCOMPARE(line->text(), QString("3,4,5"));
        type("import:line", "3,45");
        window_->settle();
        QVERIFY(!problems->isVisible());
        click("import:use");
        QCOMPARE(session().frame()->column("b")->numbers()[1], 45.0);
        QVERIFY(session().saveStudy(place_.filePath("torn.rapporto")));
        window_->openPath(place_.filePath("torn.rapporto"));
        window_->settle();
        QCOMPARE(session().frame()->column("b")->numbers()[1], 45.0);
        // A quotation mark that never closes refuses the file; its line can be mended, too.
        write(place_.filePath("open.csv"), "a,b\n1,\"x\n2,y\n");
        window_->openPath(place_.filePath("open.csv"));
        window_->settle();
        QVERIFY(session().pending()->refusal.has_value());
        QVERIFY(line->isVisible());
        type("import:line", "1,x");
        window_->settle();
        QVERIFY(session().pending()->import != nullptr);
        click("import:use");
        QCOMPARE(session().frame()->rows(), std::size_t{2});
    }

    void aPrintedSummaryIsTypedInAndAnswers() {
        click("start:summary");
        auto* sheet = find<QTableWidget>("sheet:table");
        QVERIFY(sheet->isVisible());
        QVERIFY(!find<QPushButton>("sheet:use")->isEnabled());
        type("sheet:n", "412");
        const QStringList names = {"training", "uptake", "grade"};
        const double sd[] = {2.0, 1.5, 4.0};
        for (int i = 0; i < 3; ++i) {
            sheet->item(i, 0)->setText(names[i]);
            sheet->item(i, 1)->setText(QString::number(10 + i));
            sheet->item(i, 2)->setText(QString::number(sd[i]));
        }
        sheet->item(1, 3)->setText("0,5");
        sheet->item(2, 3)->setText("many");
        QVERIFY(find<QLabel>("sheet:says")->text().contains("“many” is no number"));
        sheet->item(2, 3)->setText(".3");
        sheet->item(2, 4)->setText("−0.2");
        QVERIFY2(find<QLabel>("sheet:says")->text().contains("Complete"),
                 qPrintable(find<QLabel>("sheet:says")->text()));
        click("sheet:use");
        window_->settle();
        QVERIFY(session().isSummary());
        QTest::keyClick(window_.get(), Qt::Key_3, Qt::ControlModifier);
        window_->settle();
        click("slot:outcome");
        take("grade");
        click("slot:add");
        take("training");
        window_->settle();
        QVERIFY(answer().fit != nullptr);
        QVERIFY(std::abs(answer().fit->coefficients[1].estimate - 0.3 * 4.0 / 2.0) < 1e-12);
        for (int s = 0; s < 6; ++s) {
            window_->showStage(s);
            window_->settle();
        }
        QVERIFY(session().saveStudy(place_.filePath("summary.rapporto")));
        window_->openPath(place_.filePath("summary.rapporto"));
        window_->settle();
        QCOMPARE(answer().rows.used, std::size_t{412});
    }

    void variablesAreCorrelatedAndAPairOpened() {
        QByteArray text = "age;hives;visits;income;zone\n";
        for (int i = 0; i < 120; ++i) {
            const double age = 20 + (i * 37) % 50;
            const double hives = age / 10.0 + 3.0 * std::sin(i * 12.9898);
            text +=
                QString("%1;%2;%3;%4;%5\n")
                    .arg(age)
                    .arg(hives, 0, 'f', 2)
                    .arg((i * 7) % 5)
                    .arg(i % 11 == 0 ? QString() : QString::number(100 + 4 * hives + age, 'f', 1))
                    .arg(i % 2 == 0 ? "Ridge" : "Flat")
                    .toUtf8();
        }
        write(place_.filePath("correlate.csv"), text);
        window_->openPath(place_.filePath("correlate.csv"));
        window_->settle();
        click("import:use");
        session().startCorrelate({});
        window_->showStage(2);
        window_->settle();
        QVERIFY(find<QLabel>("modelMessage")->text().contains("belong together"));
        click("slot:related");
        for (const char* name : {"age", "hives", "income"}) {
            take(name);
        }
        closeFinder();
        window_->settle();
        QCOMPARE(answer().correlations->variables.size(), std::size_t{3});
        QCOMPARE(answer().correlations->n(2, 0), 109.0);
        const double before = answer().correlations->r(1, 2);
        auto* view = find<CorrelationView>("correlations");
        QVERIFY(view->isVisible());
        QTest::mouseClick(view, Qt::LeftButton, {}, view->cellOf(2, 1).center().toPoint());
        QCOMPARE(view->chosen(), (std::pair{2, 1}));
        // Holding a variable changes it, and the reading says how.
        click("slot:held");
        take("age");
        closeFinder();
        window_->settle();
        QVERIFY(answer().refusal.has_value());  // Named twice: said so.
        auto* chip = find<QPushButton>("related:0");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_Delete);
        window_->settle();
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QVERIFY(answer().correlations->r(0, 1) != before);
        QCOMPARE(answer().correlations->plain(0, 1), before);
        click("slot:coefficient");
        take("Kendall");
        window_->settle();
        QCOMPARE(answer().question.coefficient, std::string("kendall"));
        click("slot:sides");
        QCOMPARE(answer().question.sides, std::string("greater"));
        click("slot:rows");
        QVERIFY(answer().question.listwise);
        for (int s = 0; s < 6; ++s) {
            window_->showStage(s);
            window_->settle();
        }
        window_->showStage(2);
        window_->settle();
        QTest::mouseDClick(view, Qt::LeftButton, {}, view->cellOf(1, 0).center().toPoint());
        window_->settle();
        QCOMPARE(window_->findChild<ExploreStage*>()->desk(),
                 (std::vector<std::string>{"income", "hives"}));
        // From a picture of two variables to their correlation.
        click("card:Correlate them");
        window_->settle();
        QCOMPARE(answer().question.variables, (std::vector<std::string>{"hives", "income"}));
    }

    void theDeskPicksThePictureAndRowsLightUpInAll() {
        takeInGrowers();
        window_->showStage(1);
        auto* explore = window_->findChild<ExploreStage*>();
        explore->putOnDesk("revenue");
        window_->settle();
        click("picture:quantiles");
        PlotView* large = nullptr;
        for (PlotView* plot : explore->findChildren<PlotView*>()) {
            large = large == nullptr || plot->width() > large->width() ? plot : large;
        }
        QVERIFY(large != nullptr);
        QCOMPARE(large->exhibit().x.size(), std::size_t{300});
        // A box around the upper end selects the largest values everywhere.
        const Exhibit& e = large->exhibit();
        const QPoint from = large->pixelOf(e.x[295] - 0.02, e.y[295] * 0.97).toPoint();
        const QPoint to = large->pixelOf(e.x[299] + 0.05, e.y[299] * 1.02).toPoint();
        QTest::mousePress(large, Qt::LeftButton, {}, from);
        QTest::mouseMove(large, (from + to) / 2);
        QTest::mouseMove(large, to);
        QTest::mouseRelease(large, Qt::LeftButton, {}, to);
        window_->settle();
        QCOMPARE(session().selectedRows().size(), std::size_t{5});
        QVERIFY(session().selectedRows().contains(e.rows[299]));
        QTest::keyClick(window_.get(), Qt::Key_Delete);
        window_->settle();
        QCOMPARE(session().frame()->count(RowState::SetAside), std::size_t{5});
        QCOMPARE(large->exhibit().x.size(), std::size_t{295});
        session().undo();
        window_->settle();
        QCOMPARE(large->exhibit().x.size(), std::size_t{300});
        // A quantity and a grouping: boxes, and what they say.
        explore->putOnDesk("village");
        window_->settle();
        QCOMPARE(large->exhibit().xNames.size(), std::size_t{30});
        bool told = false;
        for (const QString& p : explore->reading().paragraphs) {
            told = told || p.contains("Means of revenue go from");
        }
        QVERIFY(told);
        click("picture:scatter");
        QVERIFY(large->exhibit().boxes.empty());
        QCOMPARE(large->exhibit().xNames.size(), std::size_t{30});
    }

    void theDeskHoldsSeveralPicturesAndIsSaved() {
        takeInGrowers();
        window_->showStage(1);
        auto* explore = window_->findChild<ExploreStage*>();
        explore->putOnDesk("hives");
        explore->putOnDesk("revenue");
        window_->settle();
        QCOMPARE(explore->desk(), (std::vector<std::string>{"hives", "revenue"}));
        const std::string trailBefore = session().bench().undoLabel();
        click("option:bands");
        window_->settle();
        const auto tiles = [&] {
            QList<PictureTile*> out;
            for (auto* tile : explore->findChildren<PictureTile*>()) {
                if (tile->isVisible()) {
                    out << tile;
                }
            }
            return out;
        };
        auto* large = tiles().front()->findChild<PlotView*>();
        QVERIFY(!large->exhibit().bands.empty());
        click("option:square");
        click("option:robust");
        window_->settle();
        QVERIFY(large->exhibit().subtitle.find("robust smooth") != std::string::npos);
        find<QSlider>("option:span")->setValue(80);
        window_->settle();
        QVERIFY(large->exhibit().subtitle.find("(.80)") != std::string::npos);
        click("option:logX");
        window_->settle();
        QVERIFY(large->exhibit().xScale == AxisScale::Log);
        // The title is changed where it stands.
        QTest::mouseDClick(large, Qt::LeftButton, {}, QPoint(30, 8));
        auto* title = find<QLineEdit>("plot:title");
        QVERIFY(title->isVisible());
        title->setText("Hives and revenue");
        QTest::keyClick(title, Qt::Key_Return);
        window_->settle();
        QCOMPARE(large->exhibit().title, std::string("Hives and revenue"));
        // A second picture beside it; the words above speak of it now.
        click("desk:another");
        window_->settle();
        QVERIFY(explore->desk().empty());
        explore->putOnDesk("village");
        window_->settle();
        QCOMPARE(tiles().size(), 2);
        QCOMPARE(explore->state(), QString("2 pictures"));
        QTest::mouseClick(tiles().front()->findChild<PlotView*>(), Qt::LeftButton, {},
                          QPoint(30, 30));
        window_->settle();
        QCOMPARE(explore->desk(), (std::vector<std::string>{"hives", "revenue"}));
        // None of it is a step to undo; all of it is in the file.
        QCOMPARE(session().bench().undoLabel(), trailBefore);
        QVERIFY(!session().isSaved());
        const QString path = place_.filePath("desk.rapporto");
        QVERIFY(session().saveStudy(path));
        window_->openPath(path);
        window_->settle();
        window_->showStage(1);
        window_->settle();
        QCOMPARE(session().study().desk.pictures.size(), std::size_t{2});
        QCOMPARE(session().study().desk.pictures[0].title, std::string("Hives and revenue"));
        const auto closers = tiles().back()->findChildren<QPushButton*>("tile:close");
        closers.front()->click();
        window_->settle();
        QCOMPARE(explore->state(), QString("2 variables"));
    }

    void picturesKnowEachOther() {
        takeInGrowers();
        window_->showStage(1);
        auto* explore = window_->findChild<ExploreStage*>();
        Desk desk;
        desk.pictures.resize(2);
        desk.pictures[0].of = {"revenue", "hives"};
        desk.pictures[1].of = {"hives"};
        session().setDesk(desk);
        window_->settle();
        QList<PictureTile*> tiles = explore->findChildren<PictureTile*>();
        tiles.removeIf([](auto* tile) { return !tile->isVisible(); });
        QCOMPARE(tiles.size(), 2);
        auto* scatter = tiles[0]->findChild<PlotView*>();
        auto* bars = tiles[1]->findChild<PlotView*>();
        const auto ochre = [](PlotView* plot) {
            const QImage image = plot->grab().toImage();
            int count = 0;
            for (int y = 0; y < image.height(); ++y) {
                for (int x = 0; x < image.width(); ++x) {
                    count += image.pixelColor(x, y) == colour::kOchre ? 1 : 0;
                }
            }
            return count;
        };
        QCOMPARE(ochre(bars), 0);
        // While the mouse still moves, the other picture shows what is under the box.
        const Exhibit& e = scatter->exhibit();
        const QPoint corner = scatter->pixelOf(e.x[0], e.y[0]).toPoint();
        QTest::mousePress(scatter, Qt::LeftButton, {}, corner - QPoint(30, 30));
        QTest::mouseMove(scatter, corner + QPoint(5, 5));
        QTest::mouseMove(scatter, corner + QPoint(30, 30));
        QVERIFY(ochre(bars) > 0);
        QVERIFY(session().selectedRows().empty());
        QTest::mouseRelease(scatter, Qt::LeftButton, {}, corner + QPoint(30, 30));
        window_->settle();
        QVERIFY(session().selectedRows().contains(e.rows[0]));
        // A click on a bar selects its rows, a typed condition those for which it holds.
        const Exhibit::Bar tall =
            *std::max_element(bars->exhibit().bars.begin(), bars->exhibit().bars.end(),
                              [](const auto& a, const auto& b) { return a.y1 < b.y1; });
        QTest::mouseClick(bars, Qt::LeftButton, {},
                          bars->pixelOf(0.5 * (tall.x0 + tall.x1), 0.4 * tall.y1).toPoint());
        window_->settle();
        QCOMPARE(session().selectedRows().size(), tall.rows.size());
        QTest::keyClick(bars, Qt::Key_Escape);
        window_->settle();
        QVERIFY(session().selectedRows().empty());
        auto* where = find<QLineEdit>("field:Select where");
        where->setText("hives > 6");
        emit where->editingFinished();
        window_->settle();
        const auto cells = session().frame()->column("hives")->numbers();
        QCOMPARE(session().selectedRows().size(),
                 static_cast<std::size_t>(
                     std::count_if(cells.begin(), cells.end(), [](double h) { return h > 6.0; })));
    }

    void manyVariablesOpenTheirPairs() {
        takeInGrowers();
        window_->showStage(1);
        auto* explore = window_->findChild<ExploreStage*>();
        Desk desk;
        desk.pictures.resize(1);
        session().edit(PutDerived{{"ln_hives", "ln(hives)", ""}}, "derive");
        desk.pictures[0].of = {"revenue", "hives", "ln_hives"};
        session().setDesk(desk);
        window_->settle();
        QList<PlotView*> views = explore->findChildren<PlotView*>();
        views.removeIf([](auto* view) { return !view->isVisible(); });
        QCOMPARE(views.size(), 9);
        QTest::mouseClick(views[1], Qt::LeftButton, {}, views[1]->rect().center());
        window_->settle();
        QCOMPARE(session().study().desk.pictures.size(), std::size_t{2});
        QCOMPARE(explore->desk(), (std::vector<std::string>{"revenue", "hives"}));
        // The numbers as a table that a sheet can take.
        desk.pictures[0].kind = "table";
        session().setDesk(desk);
        window_->settle();
        auto* table = find<QTableWidget>("pictureTable");
        QCOMPARE(table->rowCount(), 3);
        QTest::keySequence(table, QKeySequence::Copy);
        QVERIFY(QApplication::clipboard()->text().startsWith("\tn\tmissing\tmean"));
    }

    void theCalculatorTakesTheReadingsPlace() {
        QTest::keySequence(window_.get(), QKeySequence("Ctrl+Shift+C"));
        auto* statistic = find<QLineEdit>("calc:statistic");
        QVERIFY(statistic->isVisible());
        statistic->setText("2.5");
        emit statistic->textEdited("2.5");
        QCOMPARE(find<QLineEdit>("calc:p")->text(), QString("0.0212335"));
        find<QLineEdit>("calc:p")->setText("0.05");
        emit find<QLineEdit>("calc:p")->textEdited("0.05");
        QCOMPARE(statistic->text(), QString("2.08596"));
        find<QComboBox>("calc:law")->setCurrentIndex(3);
        QVERIFY(find<QLineEdit>("calc:df2")->isVisible());
        for (const auto& [name, value] :
             {std::pair{"calc:n", "24"}, std::pair{"calc:terms", "3"},
              std::pair{"calc:model", "30"}, std::pair{"calc:total", "100"}}) {
            find<QLineEdit>(name)->setText(value);
            emit find<QLineEdit>(name)->textEdited(value);
        }
        QVERIFY(find<QLabel>("calc:split")->text().contains("F = 2.857"));
        click("calc:close");
        QVERIFY(!statistic->isVisible());
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

    void chipsAnswerToTheKeyboard() {
        takeInGrowers();
        askForRevenue();
        auto* chip = find<QPushButton>("term:0");
        chip->setFocus();
        QTest::keyClick(chip, Qt::Key_M);
        window_->settle();
        QVERIFY(session().question()->terms[0].muted);
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{1});
        QTest::keyClick(find<QPushButton>("term:0"), Qt::Key_M);
        window_->settle();
        click("term:0");
        take("its square");
        QCOMPARE(session().question()->terms.size(), std::size_t{2});
        QCOMPARE(answer().fit->coefficients[2].term, std::string("power(hives, 2)"));
        QTest::keyClick(find<QPushButton>("term:1"), Qt::Key_Delete);
        window_->settle();
        QCOMPARE(session().question()->terms.size(), std::size_t{1});
        click("slot:errors");
        take("clustered by village");
        QCOMPARE(answer().question.errors.by, std::vector<std::string>{"village"});
        click("slot:rule");
        take("hives > 2");
        QVERIFY(answer().rows.byRule > 0);
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

    void rowsSelectedInAPictureCanBeSetAside() {
        takeInGrowers();
        window_->showStage(1);
        auto* explore = window_->findChild<ExploreStage*>();
        explore->putOnDesk("revenue");
        explore->putOnDesk("hives");
        window_->settle();
        auto* plot = explore->findChildren<PlotView*>().front();
        const auto& points = plot->exhibit();
        QCOMPARE(points.x.size(), std::size_t{300});
        const QPoint at = plot->pixelOf(points.x[10], points.y[10]).toPoint();
        QTest::mousePress(plot, Qt::LeftButton, {}, at - QPoint(9, 9));
        QTest::mouseMove(plot, at);
        QTest::mouseRelease(plot, Qt::LeftButton, {}, at + QPoint(9, 9));
        window_->settle();
        const auto selected = session().selectedRows();
        QVERIFY(selected.contains(10));
        // Lit in the roster’s histograms, too.
        const auto ochreInRoster = [&] {
            const QImage image = window_->findChild<Roster*>()->grab().toImage();
            int count = 0;
            for (int y = 0; y < image.height(); ++y) {
                for (int x = 0; x < image.width(); ++x) {
                    count += image.pixelColor(x, y) == colour::kOchre ? 1 : 0;
                }
            }
            return count;
        };
        QVERIFY(ochreInRoster() > 3);
        const double slopeBefore = plot->exhibit().lines.back().y.back();
        QTest::keyClick(window_.get(), Qt::Key_Delete);
        window_->settle();
        QCOMPARE(ochreInRoster(), 0);
        // The line has moved, and stands faint where it was.
        QVERIFY(!plot->before().empty());
        QCOMPARE(plot->before().back().name, std::string("line"));
        QCOMPARE(plot->before().back().y.back(), slopeBefore);
        QVERIFY(plot->exhibit().lines.back().y.back() != slopeBefore);
        QCOMPARE(session().frame()->count(RowState::SetAside), selected.size());
        QVERIFY(session().selectedRows().empty());
        session().undo();
        window_->settle();
        QCOMPARE(session().frame()->count(RowState::SetAside), std::size_t{0});
    }

    void aPredictionMovesWithItsSlider() {
        takeInGrowers();
        askForRevenue();
        click("tab:Predict");
        auto* page = window_->findChild<PredictPage*>();
        QVERIFY(page->isVisible());
        QCOMPARE(page->predictions().size(), std::size_t{1});
        const double atMean = page->predictions()[0].mean.value;
        click("predict:more");
        QCOMPARE(page->predictions().size(), std::size_t{2});
        auto* slider = find<QSlider>("predict:slider:1:hives");
        slider->setFocus();
        QTest::keyClick(slider, Qt::Key_Home);
        for (int i = 0; i < 5; ++i) {
            QTest::keyClick(slider, Qt::Key_PageUp);
        }
        window_->settle();
        const auto& q = *session().question();
        QCOMPARE(q.predict.size(), std::size_t{2});
        const double hives = std::get<double>(q.predict[1].at.at("hives"));
        QVERIFY(hives > 1.0 && hives < 3.0);
        const auto answer = session().answer();
        QVERIFY(answer->predictions.has_value());
        QCOMPARE((*answer->predictions)[1].mean.value, page->predictions()[1].mean.value);
        QCOMPARE((*answer->predictions)[0].mean.value, atMean);
        QVERIFY((*answer->predictions)[1].difference->value < 0.0);
        // Typed, beyond the data: predicted, with its warning; nonsense stays out.
        auto* edit = find<QLineEdit>("predict:0:hives");
        edit->setFocus();
        QTest::keyClicks(edit, "40");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QCOMPARE(page->predictions()[0].warnings.size(), std::size_t{1});
        edit->setFocus();
        edit->selectAll();
        QTest::keyClicks(edit, "many");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QVERIFY(find<QLabel>("predict:message")->isVisible());
        QCOMPARE(std::get<double>(session().question()->predict[0].at.at("hives")), 40.0);
        session().undo();
        window_->settle();
        QVERIFY(session().question()->predict[0].at.empty());
        click("predict:less");
        QCOMPARE(session().question()->predict.size(), std::size_t{1});
    }

    void aHypothesisIsTypedAndTakenOut() {
        takeInGrowers();
        askForRevenue();
        click("tab:Hypotheses");
        auto* page = window_->findChild<HypothesesPage*>();
        auto* edit = find<QLineEdit>("hypothesis:edit");
        edit->setFocus();
        QTest::keyClicks(edit, "hivs > 0");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QVERIFY(find<QLabel>("hypothesis:message")->text().contains("hives"));
        QVERIFY(session().question()->hypotheses.empty());
        edit->selectAll();
        QTest::keyClicks(edit, "hives > 0");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        QCOMPARE(session().question()->hypotheses.size(), std::size_t{1});
        QVERIFY(page->shownText().contains("The claim stands"));
        QVERIFY(!find<QLabel>("hypothesis:message")->isVisible());
        auto* list = find<QTextBrowser>("hypothesis:list");
        emit list->anchorClicked(QUrl("out:0"));
        window_->settle();
        QVERIFY(session().question()->hypotheses.empty());
    }

    void aBendIsDraggedAndHeld() {
        window_->openPath(RAPPORTO_SOURCE_DIR "/demo/pollination.rapporto");
        window_->settle();
        window_->showStage(2);
        click("tab:Shape");
        auto* page = window_->findChild<CurvePage*>();
        QCOMPARE(page->variable(), std::string("hives"));
        BendPlot* plot = page->plot();
        const BentLine before = *session().answer()->fit->bent;
        const double y = plot->exhibit().y[0];
        const QPoint from = plot->pixelOf(before.bends[1].at, y).toPoint();
        const QPoint to = plot->pixelOf(11.0, y).toPoint();
        QTest::mousePress(plot, Qt::LeftButton, {}, from);
        QTest::mouseMove(plot, (from + to) / 2);
        // While it is held the pieces follow and nothing is changed yet.
        QVERIFY(plot->exhibit().title.find("more than where the bends were") != std::string::npos);
        QVERIFY(!session().question()->settings.fixed);
        QTest::mouseMove(plot, to);
        QTest::mouseRelease(plot, Qt::LeftButton, {}, to);
        window_->settle();
        const Question held = *session().question();
        QVERIFY(held.settings.fixed);
        QVERIFY(std::abs(held.settings.start[1] - 11.0) < 0.1);
        const auto answer = session().answer();
        QVERIFY(answer->fit->bent->fixed);
        QCOMPARE(answer->fit->bent->bends[1].at, held.settings.start[1]);
        click("card:Let the bends move");
        QCOMPARE(session().answer()->fit->bent->bends[1].at, before.bends[1].at);
        click("card:One bend fewer");
        QCOMPARE(session().answer()->fit->bent->bends.size(), std::size_t{1});
        session().undo();
        session().undo();
        session().undo();
        window_->settle();
        QVERIFY(!session().question()->settings.fixed);
    }

    void methodAndErrorsAreChosenInTheSentence() {
        takeInGrowers();
        askForRevenue();
        click("slot:method");
        take("2 bends in hives");
        closeFinder();
        window_->settle();
        QCOMPARE(session().question()->method, std::string("bent-line"));
        QCOMPARE(find<QPushButton>("slot:method")->text(), QString("a line with 2 bends in hives"));
        QCOMPARE(session().answer()->fit->bent->bends.size(), std::size_t{2});
        click("slot:method");
        take("least squares");
        closeFinder();
        window_->settle();
        QVERIFY(!session().answer()->fit->bent);
        click("slot:errors");
        take("wild draws by village");
        closeFinder();
        window_->settle();
        const auto answer = session().answer();
        QVERIFY2(answer->fit != nullptr, answer->refusal ? answer->refusal->text().c_str() : "");
        QCOMPARE(answer->fit->resampling->asked, 9999);
        QVERIFY(answer->fit->errorNote.find("30 clusters") != std::string::npos);
    }

    void aSweepFollowsOneEffect() {
        takeInGrowers();
        askForRevenue();
        click("slot:add");
        take("village");
        closeFinder();
        window_->settle();
        QTest::keyClick(window_.get(), Qt::Key_5, Qt::ControlModifier);
        window_->settle();
        click("compare:Sweep");
        window_->settle();
        auto* view = window_->findChild<SweepView*>();
        QVERIFY(view->isVisible() && view->shown());
        // With and without village, two kinds of errors, and rows that stand out where there are.
        const std::size_t all = view->shown()->results.size();
        QVERIFY(all == 4 || all == 8);
        QCOMPARE(view->shown()->spec.of, std::string("hives"));
        click("sweep:errors:robust");
        QCOMPARE(view->shown()->results.size(), all / 2);
        QTest::mouseClick(view, Qt::LeftButton, {},
                          QPoint(static_cast<int>(view->xOf(0)), view->height() / 2));
        QCOMPARE(view->chosen(), 0);
        QTest::keyClick(view, Qt::Key_Right);
        QCOMPARE(view->chosen(), 1);
        const double estimate = view->shown()->results[1].estimate;
        const std::size_t before = session().study().questions.size();
        click("card:Make it a variant");
        QCOMPARE(session().study().questions.size(), before + 1);
        const auto answer = session().answer();
        const auto hives =
            std::find_if(answer->fit->coefficients.begin(), answer->fit->coefficients.end(),
                         [](const auto& c) { return c.term == "hives"; });
        QVERIFY(std::abs(hives->estimate - estimate) < 1e-9 * std::abs(estimate));
        session().undo();
        window_->settle();
        // The series: one step, taken back in one.
        click("compare:Variants");
        click("card:Bring the terms in one by one");
        QCOMPARE(session().study().questions.size(), before + 1);
        QCOMPARE(session().study().questions.back().title, std::string("hives alone"));
        session().undo();
        QCOMPARE(session().study().questions.size(), before);
    }

    void residualPicturesStandTogether() {
        takeInGrowers();
        askForRevenue();
        QTest::keyClick(window_.get(), Qt::Key_4, Qt::ControlModifier);
        window_->settle();
        click("checks:overview");
        auto* first = find<PlotView>("checks:picture:0");
        auto* third = find<PlotView>("checks:picture:2");
        QVERIFY(first->isVisible() && !first->isEmpty() && !third->isEmpty());
        // A box in one of them lights the same rows everywhere.
        const QPoint from = first->pixelOf(first->exhibit().x[0], first->exhibit().y[0]).toPoint();
        QTest::mousePress(first, Qt::LeftButton, {}, from - QPoint(30, 30));
        QTest::mouseMove(first, from + QPoint(30, 30));
        QTest::mouseRelease(first, Qt::LeftButton, {}, from + QPoint(30, 30));
        window_->settle();
        QVERIFY(!session().selectedRows().empty());
        QVERIFY(session().selectedRows().contains(first->exhibit().rows[0]));
        // Further ones: the spread, the half-normal picture, the histogram, and along each term.
        click("checks:more");
        QCOMPARE(first->exhibit().title, std::string("Spread against level"));
        auto* fourth = find<PlotView>("checks:picture:3");
        QCOMPARE(fourth->exhibit().title, std::string("Residuals along hives"));
        QCOMPARE(fourth->exhibit().lines.size(), std::size_t{1});
        // The bars of the histogram hold every row, and the residuals are those of the fit.
        double rows = 0.0;
        for (const Exhibit::Bar& bar : third->exhibit().bars) {
            rows += bar.y1;
        }
        const auto fit = session().answer()->fit;
        QCOMPARE(rows, static_cast<double>(fit->residuals.size()));
        QCOMPARE(fourth->exhibit().y.front(), fit->residuals(0));
        click("checks:more");
        QCOMPARE(first->exhibit().title.find("Spread against level"), std::string::npos);
        // The ledger takes their place, and the list the ledger’s.
        click("checks:ledger");
        QVERIFY(!first->isVisible());
        click("checks:ledger");
        QVERIFY(!find<QTextBrowser>("ledger")->isVisible());
    }

    void aReasonClosesADoubt() {
        takeInGrowers();
        askForRevenue();
        QTest::keyClick(window_.get(), Qt::Key_4, Qt::ControlModifier);
        window_->settle();
        const auto answer = session().answer();
        const auto failing =
            std::find_if(answer->checks.begin(), answer->checks.end(),
                         [](const auto& c) { return c.verdict == Verdict::Fails; });
        QVERIFY(failing != answer->checks.end());
        openCheck(failing->id);
        auto* edit = find<QLineEdit>("field:kept because");
        edit->setFocus();
        QTest::keyClicks(edit, "the sample is large");
        QTest::keyClick(edit, Qt::Key_Return);
        window_->settle();
        const auto& decisions = session().question()->decisions;
        // For all checks of the same question that doubt it.
        const auto of = [](const std::string& id) { return std::string(findCheck(id)->group); };
        std::size_t doubting = 0;
        for (const auto& c : answer->checks) {
            doubting += of(c.id) == of(failing->id) &&
                                (c.verdict == Verdict::Fails || c.verdict == Verdict::Weigh)
                            ? 1U
                            : 0U;
        }
        QCOMPARE(decisions.size(), doubting);
        QCOMPARE(of(decisions[0].check), of(failing->id));
        click("checks:ledger");
        auto* ledger = find<QTextBrowser>("ledger");
        QVERIFY(ledger->isVisible());
        QVERIFY(ledger->toPlainText().contains("kept: the sample is large"));
        QVERIFY(ledger->toPlainText().contains("open"));
        session().undo();
        window_->settle();
        QVERIFY(!ledger->toPlainText().contains("kept: the sample is large"));
        click("checks:ledger");
        QVERIFY(!ledger->isVisible());
    }

    void levelsFoldUnderTheirVariable() {
        takeInGrowers();
        askForRevenue();
        click("slot:add");
        take("village");
        closeFinder();
        window_->settle();
        auto* effects = window_->findChild<EffectRows*>();
        QVERIFY(effects->isFolded("village"));  // Thirty levels are many.
        QCOMPARE(effects->rowTop(2), -1.0);
        const auto fold = [&] {
            QTest::mouseClick(effects, Qt::LeftButton, {},
                              QPoint(30, static_cast<int>(effects->headingTop("village")) + 8));
        };
        fold();
        QVERIFY(!effects->isFolded("village"));
        QVERIFY(effects->rowTop(2) > 0.0);
        QTest::mouseClick(effects, Qt::LeftButton, {},
                          QPoint(60, static_cast<int>(effects->rowTop(2)) + 10));
        QTest::keyClick(effects, Qt::Key_Left);
        QVERIFY(effects->isFolded("village"));
    }

    void picturesAreCopiedFromTheirCorner() {
        takeInGrowers();
        window_->showStage(1);
        window_->findChild<ExploreStage*>()->putOnDesk("revenue");
        window_->settle();
        QApplication::clipboard()->clear();
        auto* plot = window_->findChild<ExploreStage*>()->findChildren<PlotView*>().front();
        plot->findChild<QPushButton*>("plot:copy")->click();
        QCOMPARE(QApplication::clipboard()->pixmap().width(), plot->width() * 2);
    }

    void theReportIsReordered() {
        takeInGrowers();
        askForRevenue();
        window_->showStage(5);
        window_->settle();
        auto* items = window_->findChild<QListWidget*>("reportItems");
        const QString first = items->item(0)->text();
        QVERIFY(items->model()->moveRow({}, 0, {}, 3));  // What a drag does.
        window_->settle();
        QCOMPARE(items->item(2)->text(), first);
        QVERIFY(!session().study().report.empty());
    }

    void findsAnything() {
        takeInGrowers();
        QTest::keyClick(window_.get(), Qt::Key_K, Qt::ControlModifier);
        take("Checks");
        QCOMPARE(window_->stage(), 3);
        QTest::keyClick(window_.get(), Qt::Key_Left, Qt::AltModifier);
        QCOMPARE(window_->stage(), 0);
    }

    void windowAndRunnerShareTheirNumbers() {
        session().openDemo();
        window_->settle();
        const Study study = session().study();
        const auto sources = readSources(study, RAPPORTO_SOURCE_DIR "/demo", false, Job());
        const Frame frame = makeFrame(study, *sources);
        for (const Question& q : study.questions) {
            const Answer direct = answerQuestion(study, frame, q, Job());
            const auto shown = session().answer(q.id);
            QVERIFY(shown && (shown->fit || shown->correlations || shown->trace));
            if (direct.trace) {
                QCOMPARE(direct.trace->effects.size(), shown->trace->effects.size());
                for (std::size_t k = 0; k < direct.trace->effects.size(); ++k) {
                    QCOMPARE(shown->trace->effects[k].low, direct.trace->effects[k].low);
                }
                continue;
            }
            if (direct.correlations) {
                QVERIFY(direct.correlations->r == shown->correlations->r);
                QVERIFY(direct.correlations->low == shown->correlations->low ||
                        direct.correlations->low.hasNaN());
                continue;
            }
            for (std::size_t c = 0; c < direct.fit->coefficients.size(); ++c) {
                QCOMPARE(shown->fit->coefficients[c].estimate,
                         direct.fit->coefficients[c].estimate);
                QCOMPARE(shown->fit->coefficients[c].se, direct.fit->coefficients[c].se);
            }
        }
        for (int s = 0; s < 6; ++s) {
            window_->showStage(s);
            window_->settle();
            QVERIFY(!window_->grab().isNull());
        }
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    WindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "window_test.moc"
