// A table of a database server in the real window: reached, looked at, fetched, left there, asked,
// saved, refused.
#include "app/plots/plot_view.h"
#include "app/stages/explore/explore_stage.h"
#include "tests/app/window_driver.h"
#include "tests/core/test_server.h"

#include <QAction>
#include <QPlainTextEdit>
#include <QTableView>
#include <QTableWidget>
#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class ServerWindowTest : public WindowDriver {
    Q_OBJECT

    std::unique_ptr<tests::TestServer> server_;

    QString shownTitle() {
        for (const QLabel* label : window_->findChildren<QLabel*>()) {
            if (label->isVisible() && label->text().contains("its first")) {
                return label->text();
            }
        }
        return {};
    }

    QString problems() { return find<QLabel>("importProblems")->text(); }

    /// A study of the table, fetched or left.
    void takeIn(bool left) {
        open();
        click("start:server");
        QTRY_VERIFY2(shownTitle().startsWith("public."), qPrintable(shownTitle()));
        choose("import:rows", left ? 1 : 0);
        QTRY_VERIFY2(problems().contains(left ? "Rows stay there" : "All rows are fetched"),
                     qPrintable(problems()));
        click("import:use");
        QTRY_VERIFY(session().frame() != nullptr && session().hasTable());
        window_->settle();
    }

    /// What stands where a picture would be.
    QString drawnNothing() {
        const auto* view = window_->findChild<ExploreStage*>()->findChild<PlotView*>();
        return view == nullptr || !view->isEmpty() ? QString() : view->accessibleName();
    }

  private slots:

    void initTestCase() {
        server_ = std::make_unique<tests::TestServer>();
        if (!server_->why().isEmpty()) {
            QSKIP(qPrintable(server_->why()));
        }
        QVERIFY(server_->sql(
            "create table orchards (id integer primary key, zone text, hives float8, yield "
            "float8);\n"
            "comment on column orchards.yield is 'Yield of the year';\n"
            "insert into orchards select g, case when g % 3 = 0 then 'Ridge' when g % 3 = 1 then "
            "'River flat' else 'Lower' end, (g * 37 % 101) / 10.0, 4000 + 60 * (g * 37 % 101) / "
            "10.0 "
            "+ (g * 7919 % 997) from generate_series(1, 3000) g;"));
    }

    void cleanup() { window_.reset(); }

    void cleanupTestCase() { server_.reset(); }

    void fetchedAsASnapshot() {
        takeIn(false);
        QCOMPARE(session().frame()->rows(), std::size_t{3000});
        QVERIFY(session().frame()->left() == nullptr);
        QCOMPARE(session().study().source.sha256.size(), std::size_t{64});
        QVERIFY(!session().study().source.seen.empty());
        QCOMPARE(session().frame()->variable("yield")->label, std::string("Yield of the year"));
        QVERIFY(!session().isLeft());
    }

    void leftThereAndAsked() {
        takeIn(true);
        QVERIFY(session().isLeft());
        auto* table = find<QTableWidget>("left:table");
        QVERIFY(table->isVisible());
        QCOMPARE(table->rowCount(), 4);
        QCOMPARE(table->item(3, 0)->text(), QString("yield"));
        QCOMPARE(table->item(3, 1)->text(), QString("Yield of the year"));
        QCOMPARE(table->item(0, 2)->text(), QString("3\u202F000"));
        QVERIFY(!window_->findChild<QPushButton*>("data:page:Rows")->isVisible());
        QVERIFY(reads("sums that the database works out"));
        // First rows are no table to write out or to draw.
        window_->showStage(1);
        window_->settle();
        Question q;
        q.title = "yield";
        q.outcome = "yield";
        q.terms = {Term::expression("hives"), Term::expression("zone")};
        q.errors.kind = "robust";
        session().putQuestion(q, "ask of yields");
        window_->showStage(2);
        QTRY_VERIFY(session().isComplete());
        QVERIFY2(!answer().refusal, answer().refusal ? answer().refusal->text().c_str() : "");
        QCOMPARE(answer().rows.used, std::size_t{3000});
        QCOMPARE(answer().fit->coefficients.size(), std::size_t{4});
        const double left = answer().fit->coefficients[1].estimate;
        for (int stage = 2; stage < 6; ++stage) {  // Nothing stumbles over rows that are not there.
            window_->showStage(stage);
            window_->settle();
        }
        window_->showStage(0);
        window_->settle();
        QVERIFY(find<QPlainTextEdit>("left:statements")->toPlainText().contains("orchards"));
        // Saved, opened again: the same, without asking who connects.
        QTemporaryDir folder;
        const QString path = folder.filePath("left.rapporto");
        QVERIFY(session().saveStudy(path));
        window_.reset();
        open();
        session().openStudy(path);
        session().allowOutside();  // Nothing is remembered between the windows of a test.
        QTRY_VERIFY(session().frame() != nullptr && session().isLeft());
        QTRY_VERIFY(session().isComplete());
        QCOMPARE(answer().fit->coefficients[1].estimate, left);
    }

    void exploresWhatIsLeft() {
        takeIn(true);
        window_->showStage(1);
        auto* explore = window_->findChild<ExploreStage*>();
        explore->putOnDesk("yield");
        QTRY_VERIFY2(reads("median"), qPrintable(readingText()));
        QVERIFY(!reads("Select where"));
        // Only what counts and sums can tell is offered.
        QVERIFY(window_->findChild<QPushButton*>("picture:histogram") != nullptr);
        QVERIFY(window_->findChild<QPushButton*>("picture:cumulative") == nullptr);
        explore->putOnDesk("hives", true);
        QTRY_VERIFY2(reads("slope"), qPrintable(readingText()));
        QVERIFY(window_->findChild<QPushButton*>("picture:binned means")->isChecked());
        QVERIFY(window_->findChild<QPushButton*>("picture:scatter") == nullptr);
        // What was asked is shown on request.
        QVERIFY(!reads("group by"));
        click("card:What was asked");
        QTRY_VERIFY(reads("group by") && reads("orchards"));
        click("card:Hide what was asked");
        QTRY_VERIFY(!reads("group by"));
        click("picture:numbers");
        QTRY_VERIFY(window_->findChild<QTableWidget*>("pictureTable") != nullptr);
        auto* numbers = find<QTableWidget>("pictureTable");
        QTRY_COMPARE(numbers->rowCount(), 2);
        QCOMPARE(numbers->item(0, 1)->text(), QString("3\u202F000"));
        // A server that went away is said where the picture would be, and the next ask is a new
        // one.
        server_->stop("immediate");
        explore->putOnDesk("zone");
        QTRY_VERIFY2(!drawnNothing().isEmpty() && !drawnNothing().contains("being asked"),
                     qPrintable(drawnNothing()));
        QVERIFY(server_->start());
        QTRY_VERIFY(reads("Ask again"));
        click("card:Ask again");
        QTRY_VERIFY2(reads("Ridge"), qPrintable(readingText()));
    }

    void aSampleIsFetchedAtOnePress() {
        takeIn(true);
        Question q;
        q.title = "median";
        q.outcome = "yield";
        q.terms = {Term::expression("hives")};
        q.method = "quantile";
        session().putQuestion(q, "ask of the median");
        window_->showStage(2);
        QTRY_VERIFY(session().isComplete() && answer().refusal);
        QTRY_VERIFY2(reads("Fetch a sample"), qPrintable(readingText()));
        click("card:Fetch a sample");
        MainWindow* further = nullptr;
        for (QWidget* one : QApplication::topLevelWidgets()) {
            auto* window = qobject_cast<MainWindow*>(one);
            further = window != nullptr && window != window_.get() ? window : further;
        }
        QVERIFY(further != nullptr);
        Session& sample = further->session();
        QTRY_VERIFY2(sample.hasTable() && sample.isComplete(),
                     sample.sourceRefusal() ? sample.sourceRefusal()->text().c_str() : "");
        QVERIFY(!sample.isLeft());
        QCOMPARE(sample.frame()->rows(), std::size_t{3000});  // It has no more.
        QVERIFY(sample.answer() && sample.answer()->fit);
        QVERIFY(sample.study().source.reader.query.find("order by md5(") != std::string::npos);
        QVERIFY(session().isLeft());  // This one is as it was.
        delete further;
    }

    void aStrangersStudyIsAskedAboutFirst() {
        QTemporaryDir folder;
        const QString path = folder.filePath("stranger.rapporto");
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        file.write(R"j({"format": "rapporto-study", "version": 1, "source": {"kind": "table",
            "reader": {"type": "postgresql", "service": "warehouse", "table": "public.orchards"}}})j");
        file.close();
        open();
        session().openStudy(path);
        window_->settle();
        QCOMPARE(session().outside().size(), std::size_t{1});
        QVERIFY(QString::fromStdString(session().outside()[0]).contains("public.orchards"));
        QVERIFY(!session().hasTable());
        session().allowOutside();
        QTRY_VERIFY(session().frame() != nullptr && session().hasTable());
        QCOMPARE(session().frame()->rows(), std::size_t{3000});
    }

    void whatCannotBeReachedIsSaid() {
        open();
        click("start:server");
        QTRY_VERIFY2(shownTitle().startsWith("public."), qPrintable(shownTitle()));
        auto* service = find<QLineEdit>("import:service");
        service->setFocus();
        QTest::keyClicks(service, "nowhere");
        QTest::keyClick(service, Qt::Key_Return);
        QTRY_VERIFY2(problems().contains("cannot be reached"), qPrintable(problems()));
        // It can be mended where it stands.
        QVERIFY(service->isVisible());
        service->clear();
        QTest::keyClicks(service, "warehouse");
        QTest::keyClick(service, Qt::Key_Return);
        QTRY_VERIFY2(shownTitle().startsWith("public."), qPrintable(shownTitle()));
        auto* query = find<QLineEdit>("import:query");
        QTest::keyClicks(query, "select zone, yield from orchards where hives > 5");
        QTest::keyClick(query, Qt::Key_Return);
        QTRY_VERIFY2(shownTitle().startsWith("the query"), qPrintable(shownTitle()));
        click("import:use");
        QTRY_VERIFY(session().frame() != nullptr && session().hasTable());
        QCOMPARE(session().frame()->table().columns.size(), std::size_t{2});
    }
};

QTEST_MAIN(ServerWindowTest)
#include "server_window_test.moc"
