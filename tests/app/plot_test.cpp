// What the plot base paints, pixel by pixel, and what the mouse selects on it.
#include "app/plots/marks.h"
#include "app/plots/plot_view.h"
#include "app/shell/theme.h"

#include <QAccessible>
#include <QApplication>
#include <QClipboard>
#include <QImage>
#include <QSignalSpy>
#include <QTemporaryDir>
#include <QTest>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;

namespace {

/// How many pixels of a picture have a colour, give or take smoothing.
int pixelsOf(const QImage& image, const QColor& colour, const QRect& within) {
    int count = 0;
    for (int y = within.top(); y <= within.bottom(); ++y) {
        for (int x = within.left(); x <= within.right(); ++x) {
            const QColor c = image.pixelColor(x, y);
            count += std::abs(c.red() - colour.red()) < 12 &&
                             std::abs(c.green() - colour.green()) < 12 &&
                             std::abs(c.blue() - colour.blue()) < 12
                         ? 1
                         : 0;
        }
    }
    return count;
}

Exhibit points() {
    Exhibit e;
    e.title = "Points";
    e.yTitle = "y";
    e.xTitle = "x";
    for (int i = 0; i < 10; ++i) {
        e.x.push_back(i);
        e.y.push_back(i * i);
        e.rows.push_back(static_cast<std::size_t>(100 + i));
    }
    return e;
}

}  // namespace

class PlotTest : public QObject {
    Q_OBJECT

    std::unique_ptr<PlotView> plot_;

    [[nodiscard]] QImage painted() const { return plot_->grab().toImage(); }

    /// A square of pixels around a place of the data.
    [[nodiscard]] QRect around(double x, double y, int reach = 3) const {
        const QPoint at = plot_->pixelOf(x, y).toPoint();
        return {at - QPoint(reach, reach), at + QPoint(reach, reach)};
    }

    void drag(const std::vector<QPoint>& path, Qt::KeyboardModifiers keys = {}) {
        QTest::mousePress(plot_.get(), Qt::LeftButton, keys, path.front());
        for (std::size_t i = 1; i < path.size(); ++i) {
            QTest::mouseMove(plot_.get(), path[i]);
        }
        QTest::mouseRelease(plot_.get(), Qt::LeftButton, keys, path.back());
    }

    static RowSet rowsOf(const QSignalSpy& spy) { return spy.back().front().value<RowSet>(); }

  private slots:

    void initTestCase() {
        applyTheme(*qApp);
        qRegisterMetaType<RowSet>("rapporto::RowSet");
    }

    void init() {
        plot_ = std::make_unique<PlotView>();
        plot_->resize(480, 360);
        plot_->show();
    }

    void linesEndWhereTheyShould() {
        Exhibit e = points();
        e.pointsHidden = true;
        e.lines.push_back({"", {0, 9}, {0, 81}});
        plot_->showExhibit(e);
        const QImage image = painted();
        for (const double x : {0.1, 4.5, 8.9}) {
            QVERIFY(pixelsOf(image, colour::kAccent, around(x, 9.0 * x)) > 4);
        }
        QCOMPARE(pixelsOf(image, colour::kAccent, around(4.5, 70)), 0);
        // Faint lines of the rows before.
        plot_->showBefore({{"line", {0, 9}, {81, 81}}});
        QVERIFY(painted() != image);
    }

    void theLastPictureFadesUntilTheNextOneIsThere() {
        plot_->showExhibit(points());
        const QImage fresh = painted();
        plot_->setStale(true);
        QVERIFY(plot_->isStale());
        const QPoint point = plot_->pixelOf(5, 25).toPoint();
        QVERIFY(painted().pixelColor(point).lightness() > fresh.pixelColor(point).lightness());
        plot_->showExhibit(points());
        QVERIFY(!plot_->isStale());
        QCOMPARE(painted(), fresh);
    }

    void barsAreAsTallAsTheirNumbers() {
        Exhibit e;
        e.fromZero = true;
        e.bars = {{0, 1, 0, 4}, {1, 2, 0, 8}, {2, 3, 0, 0}};
        e.bars[1].rows = {0, 1, 2, 3, 4, 5, 6, 7};
        plot_->showExhibit(e);
        QImage image = painted();
        const auto filled = [&](double x, double y, const QColor& c) {
            return pixelsOf(image, c, around(x, y, 1)) == 9;
        };
        QVERIFY(filled(0.5, 3.8, colour::kBars) && !filled(0.5, 4.3, colour::kBars));
        QVERIFY(filled(1.5, 7.8, colour::kBars) && !filled(2.5, 0.3, colour::kBars));
        // A quarter of the rows lit: a quarter of the bar.
        plot_->showSelection({2, 5});
        image = painted();
        QVERIFY(filled(1.5, 1.8, colour::kOchre) && !filled(1.5, 2.3, colour::kOchre));
        QVERIFY(filled(1.5, 2.3, colour::kBars));
    }

    void bandsBoxesAndIntervalsLieInTheirPlace() {
        Exhibit e;
        e.x = {1, 2};
        e.y = {0, 10};
        e.pointsHidden = true;
        e.xNames = {"a", "b"};
        e.boxes = {{1, 1, 3, 5, 7, 9}};
        e.bands = {{"", {1.6, 2.4}, {2, 2}, {4, 4}}};
        plot_->showExhibit(e);
        QImage image = painted();
        // The median is a thick line of ink across the box; the box’s ends are lines, too.
        QVERIFY(pixelsOf(image, colour::kInk, around(1.05, 5, 4)) >= 9);
        const auto darkest = [&](double x, double y) {
            int least = 255;
            for (int d = -3; d <= 3; ++d) {
                least = std::min(
                    least,
                    image.pixelColor(plot_->pixelOf(x, y).toPoint() + QPoint(0, d)).lightness());
            }
            return least;
        };
        QVERIFY(darkest(1.1, 7) < 170 && darkest(1.1, 3) < 170);
        QVERIFY(darkest(1.1, 8) > 200 && darkest(1.1, 1.5) > 200);
        int whisker = 255;
        for (int d = -2; d <= 2; ++d) {
            whisker = std::min(
                whisker,
                image.pixelColor(plot_->pixelOf(1, 8).toPoint() + QPoint(d, 0)).lightness());
        }
        QVERIFY(whisker < 190);
        QVERIFY(image.pixelColor(plot_->pixelOf(2, 3).toPoint()) !=
                image.pixelColor(plot_->pixelOf(2, 5).toPoint()));
        e.intervals = {{2, 6, 7, 9}};
        plot_->showExhibit(e);
        image = painted();
        QVERIFY(pixelsOf(image, colour::kAccent, around(2, 6.5, 2)) > 4);
        QCOMPARE(pixelsOf(image, colour::kAccent, around(2, 9.4, 2)), 0);
    }

    void tilesAreShadedBySign() {
        Exhibit e;
        e.tiles = true;
        e.bars = {{0, 1, 0, 1}, {1, 2, 0, 1}, {2, 3, 0, 1}};
        e.bars[0].shade = 1.0;
        e.bars[1].shade = -1.0;
        e.bars[2].shade = 0.0;
        plot_->showExhibit(e);
        const QImage image = painted();
        QCOMPARE(image.pixelColor(plot_->pixelOf(0.5, 0.5).toPoint()), shadeColour(1.0));
        QCOMPARE(image.pixelColor(plot_->pixelOf(1.5, 0.5).toPoint()), shadeColour(-1.0));
        QCOMPARE(image.pixelColor(plot_->pixelOf(2.5, 0.5).toPoint()), shadeColour(0.0));
        QSignalSpy opened(plot_.get(), &PlotView::opened);
        e.bars[0].of = {"hives", "age"};
        plot_->showExhibit(e);
        QTest::mouseClick(plot_.get(), Qt::LeftButton, {}, plot_->pixelOf(0.5, 0.5).toPoint());
        QCOMPARE(opened.size(), 1);
        QCOMPARE(opened[0][0].toStringList(), (QStringList{"hives", "age"}));
    }

    void seriesDifferInShapeAndColour() {
        Exhibit e;
        for (int i = 0; i < 6; ++i) {
            e.x.push_back(i);
            e.y.push_back(0);
            e.rows.push_back(static_cast<std::size_t>(i));
            e.series.push_back(static_cast<std::uint8_t>(i));
        }
        plot_->showExhibit(e);
        const QImage image = painted();
        std::set<QRgb> colours;
        for (int i = 0; i < 5; ++i) {
            colours.insert(image.pixelColor(plot_->pixelOf(i, 0).toPoint()).rgb());
        }
        QCOMPARE(colours.size(), std::size_t{5});
    }

    void boxesAndLassosSelect() {
        plot_->showExhibit(points());
        QSignalSpy spy(plot_.get(), &PlotView::rowsSelected);
        const auto at = [&](double x, double y) { return plot_->pixelOf(x, y).toPoint(); };
        drag({at(1.5, 1), at(3, 10), at(4.5, 20)});
        QCOMPARE(rowsOf(spy), (RowSet{102, 103, 104}));
        // With Shift in addition, by a click.
        plot_->showSelection({102, 103, 104});
        QTest::mouseClick(plot_.get(), Qt::LeftButton, Qt::ShiftModifier, at(9, 81));
        QCOMPARE(rowsOf(spy), (RowSet{102, 103, 104, 109}));
        QTest::mouseClick(plot_.get(), Qt::LeftButton, {}, at(8, 64) + QPoint(2, 2));
        QCOMPARE(rowsOf(spy), (RowSet{108}));
        // A path around 5 that leaves 4 and 6 out though a box would not.
        plot_->setLasso(true);
        QSignalSpy brushed(plot_.get(), &PlotView::rowsBrushed);
        drag({at(4.5, 16), at(4.6, 40), at(5.7, 40), at(5.4, 16)});
        QCOMPARE(rowsOf(spy), (RowSet{105}));
        QVERIFY(!brushed.empty());
        QTest::keyClick(plot_.get(), Qt::Key_Escape);
        QVERIFY(rowsOf(spy).empty());
    }

    void manyPointsMeltAndLightUp() {
        Exhibit e;
        for (std::size_t i = 0; i < 50000; ++i) {
            const double t = static_cast<double>(i) / 50000.0;
            e.x.push_back(t);
            e.y.push_back(std::sin(20.0 * t));
            e.rows.push_back(i);
        }
        plot_->showExhibit(e);
        const QImage plain = painted();
        const QRect where = around(e.x[25000], e.y[25000]);
        QCOMPARE(pixelsOf(plain, colour::kOchre, where), 0);
        RowSet lit;
        for (std::size_t i = 24990; i < 25010; ++i) {
            lit.insert(i);
        }
        plot_->showSelection(lit);
        QVERIFY(pixelsOf(painted(), colour::kOchre, where) > 4);
        QCOMPARE(pixelsOf(painted(), colour::kOchre, around(e.x[100], e.y[100])), 0);
    }

    void figuresAreWrittenAtPrintSize() {
        QTemporaryDir place;
        plot_->showExhibit(points());
        for (const char* name : {"a.svg", "a.pdf", "a.png"}) {
            const QString path = place.filePath(name);
            QVERIFY2(plot_->saveAs(path, 85.0), name);
            QVERIFY2(QFile(path).size() > 500, name);
        }
        const QImage png(place.filePath("a.png"));
        QCOMPARE(png.width(), qRound(85.0 / 25.4 * 600.0));
        QVERIFY(std::abs(png.dotsPerMeterX() - 23622) <= 1);
        QVERIFY(std::abs(png.height() * 480.0 / (png.width() * 360.0) - 1.0) < 0.01);
        QVERIFY(!plot_->saveAs(place.filePath("nowhere/a.png"), 85.0));
        QVERIFY(!plot_->saveAs(place.filePath("nowhere/a.svg"), 85.0));
    }

    void readersAreGivenATableOfMarks() {
        Exhibit e = points();
        e.subtitle = "ten rows";
        plot_->showExhibit(e);
        QAccessibleInterface* plot = QAccessible::queryAccessibleInterface(plot_.get());
        QVERIFY(plot != nullptr);
        QCOMPARE(plot->role(), QAccessible::Chart);
        QCOMPARE(plot->text(QAccessible::Name), QString("Points"));
        QCOMPARE(plot->text(QAccessible::Description),
                 QString("ten rows; across: x; up: y; 10 marks"));
        QAccessibleInterface* marks = plot->child(0);
        QVERIFY(marks != nullptr && marks->role() == QAccessible::Table);
        QCOMPARE(plot->indexOfChild(marks), 0);
        QVERIFY(marks->parent() == plot);
        QAccessibleTableInterface* table = marks->tableInterface();
        QVERIFY(table != nullptr);
        QCOMPARE(table->rowCount(), 10);
        QCOMPARE(table->columnCount(), 4);
        QCOMPARE(table->columnDescription(3), QString("y"));
        QCOMPARE(table->rowDescription(3), QString("point, row 104: x 3, y 9"));
        QAccessibleInterface* cell = table->cellAt(3, 3);
        QVERIFY(cell != nullptr && cell->parent() == marks);
        QCOMPARE(cell->text(QAccessible::Name), QString("9"));
        QCOMPARE(cell->tableCellInterface()->rowIndex(), 3);
        QVERIFY(cell->rect().contains(plot_->mapToGlobal(plot_->pixelOf(3, 9).toPoint())));
        QCOMPARE(table->cellAt(3, 3), cell);
        QCOMPARE(marks->indexOfChild(cell), 15);
        QVERIFY(table->cellAt(10, 0) == nullptr && table->cellAt(-1, 0) == nullptr);

        // A row that is selected there is selected here.
        QSignalSpy spy(plot_.get(), &PlotView::rowsSelected);
        QVERIFY(table->selectRow(3));
        QCOMPARE(rowsOf(spy), RowSet({103}));
        plot_->showSelection({103, 105});
        QCOMPARE(table->selectedRows(), (QList<int>{3, 5}));
        QVERIFY(cell->state().selected);
        QVERIFY(table->unselectRow(3));
        QCOMPARE(rowsOf(spy), RowSet({105}));

        // Another picture has other marks.
        plot_->showNothing("nothing");
        QCOMPARE(table->rowCount(), 0);
        QVERIFY(table->cellAt(0, 0) == nullptr);
        e.x.resize(2);
        e.y.resize(2);
        plot_->showExhibit(e);
        QCOMPARE(table->rowCount(), 2);
        QCOMPARE(table->cellAt(1, 3)->text(QAccessible::Name), QString("1"));
    }

    void keysWalkOverTheMarks() {
        Exhibit e = points();
        std::reverse(e.x.begin(), e.x.end());
        plot_->showExhibit(e);
        QVERIFY(QTest::qWaitForWindowActive(plot_.get()));
        plot_->setFocus();
        const QImage before = painted();
        QSignalSpy spy(plot_.get(), &PlotView::rowsSelected);
        QTest::keyClick(plot_.get(), Qt::Key_Return);
        QVERIFY(spy.empty());
        QTest::keyClick(plot_.get(), Qt::Key_Right);
        QTest::keyClick(plot_.get(), Qt::Key_Right);
        // From left to right: the last point but one stands at 1.
        QVERIFY(plot_->description().endsWith("point, row 109: x 1, y 64"));
        QVERIFY(painted() != before);
        QTest::keyClick(plot_.get(), Qt::Key_Return);
        QCOMPARE(rowsOf(spy), RowSet({108}));
        for (int i = 0; i < 5; ++i) {
            QTest::keyClick(plot_.get(), Qt::Key_Left);
        }
        QVERIFY(plot_->description().endsWith("point, row 110: x 0, y 81"));
        plot_->showExhibit(points());
        QVERIFY(plot_->description().endsWith("10 marks"));
        // A gap is passed over.
        Exhibit gap = points();
        gap.x.resize(2);
        gap.y.resize(2);
        gap.lines = {{"path", {0.5, 0.6, 0.7}, {1.0, std::nan(""), 2.0}}};
        plot_->showExhibit(gap);
        for (int i = 0; i < 9; ++i) {
            QTest::keyClick(plot_.get(), Qt::Key_Right);
            QVERIFY2(!plot_->description().contains("0.6"), qPrintable(plot_->description()));
        }
        QVERIFY(plot_->description().endsWith("point, row 102: x 1, y 1"));
    }

    void itsNumbersAreCopied() {
        plot_->showExhibit(points());
        plot_->setRowNamer([](std::size_t row) { return QString("grower %1").arg(row); });
        QTest::keyClick(plot_.get(), Qt::Key_C, Qt::ControlModifier);
        const QString text = QApplication::clipboard()->text();
        QVERIFY(text.startsWith("mark\tname\tx\ty\npoint\tgrower 100\t0\t0\n"));
        QCOMPARE(text.count('\n'), 11);
    }

    void nothingSaysWhy() {
        plot_->showNothing("No row has both.");
        QVERIFY(plot_->isEmpty());
        QCOMPARE(plot_->accessibleName(), QString("No row has both."));
        QVERIFY(pixelsOf(painted(), colour::kSoft, plot_->rect()) > 20);
        QSignalSpy spy(plot_.get(), &PlotView::rowsSelected);
        QTest::mouseClick(plot_.get(), Qt::LeftButton);
        QVERIFY(spy.empty());
    }
};

QTEST_MAIN(PlotTest)
#include "plot_test.moc"
