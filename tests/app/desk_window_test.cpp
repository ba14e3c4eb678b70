// Pictures in the real window: the desk, correlations, residuals, what is chosen in them.
#include "app/plots/plot_view.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "app/stages/explore/explore_stage.h"
#include "app/stages/model/correlation_view.h"
#include "tests/app/growers_driver.h"

#include <QApplication>
#include <QClipboard>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSlider>
#include <QTableWidget>
#include <QTest>
#include <QTextBrowser>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class DeskWindowTest : public GrowersDriver {
    Q_OBJECT

  private slots:

    void init() { open(); }

    void cleanup() { window_.reset(); }

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
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    DeskWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "desk_window_test.moc"
