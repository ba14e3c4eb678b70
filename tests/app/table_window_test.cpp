// A table comes into the real window: pasted, opened, mended, changed on disk.
#include "app/shell/theme.h"
#include "app/stages/data/data_stage.h"
#include "tests/app/growers_driver.h"

#include <sqlite3.h>

#include <QApplication>
#include <QClipboard>
#include <QFile>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QTableView>
#include <QTableWidget>
#include <QTest>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class TableWindowTest : public GrowersDriver {
    Q_OBJECT

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

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
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    TableWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "table_window_test.moc"
