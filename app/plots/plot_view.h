#pragma once

#include "app/plots/held_rows.h"
#include "core/checks/check.h"
#include "core/data/row_set.h"
#include "core/describe/exhibit.h"
#include "core/picture/figure.h"
#include "core/picture/mark_table.h"

#include <QPixmap>
#include <QPolygonF>
#include <QWidget>

#include <functional>
#include <memory>

class QLineEdit;
class QPushButton;

namespace rapporto::app {

/// The one plot base: points, lines, bands, bars, boxes and intervals with axes, a selection that
/// is shared and a hover that names the row. Drag takes a box or a lasso, a click the nearest point
/// or bar, with Shift in addition; Escape nothing.
class PlotView : public QWidget {
    Q_OBJECT

  public:
    explicit PlotView(QWidget* parent = nullptr);

    void showExhibit(Exhibit exhibit);
    void showExhibit(std::shared_ptr<const Exhibit> exhibit);
    void showNothing(const QString& why);
    void showSelection(const RowSet& rows);

    /// Rows that a robust fit holds down, as open squares: the smaller the weight, the wider. Null:
    /// none.
    void showHeld(std::shared_ptr<const HeldRows> held);

    /// What stands here is of before a change, and the new is being made: dimmed.
    void setStale(bool stale);

    [[nodiscard]] bool isStale() const { return stale_; }

    /// Lines that stood here before a change, left faint.
    void showBefore(std::vector<Exhibit::Line> lines);

    [[nodiscard]] const std::vector<Exhibit::Line>& before() const { return before_; }

    /// Names a source row for the hover.
    void setRowNamer(std::function<QString(std::size_t)> namer) {
        namer_ = std::move(namer);
        marks_.reset();
    }

    /// A click on the title lets it be changed.
    void setTitleEditable(bool editable) { titleEditable_ = editable; }

    /// Draws into any device: the screen, a picture, a page.
    void draw(QPainter& painter, const QRectF& area) const;

    /// Where a data point lies in the widget; for tests and linking.
    [[nodiscard]] QPointF pixelOf(double x, double y) const;

    /// The data point under a pixel.
    [[nodiscard]] QPointF valueAt(QPointF pixel) const;

    [[nodiscard]] const Exhibit& exhibit() const { return *exhibit_; }

    /// The picture as a table of its marks.
    [[nodiscard]] const MarkTable& marks() const;

    [[nodiscard]] const RowSet& selection() const { return selection_; }

    /// What it shows for those who read it: the subtitle, its axes, how many marks, and the mark
    /// that the keys stand on.
    [[nodiscard]] QString description() const;

    [[nodiscard]] bool isEmpty() const { return empty_; }

    void setLasso(bool lasso);

    /// Writes the figure as .svg, .pdf or .png, `millimetres` wide, its height in proportion;
    /// pixels at 600 dots an inch. False: the file cannot be written.
    bool saveAs(const QString& path, double millimetres);

  signals:
    void rowsSelected(const rapporto::RowSet& rows);
    void rowsBrushed(const rapporto::RowSet& rows);  ///< While the mouse moves.
    void titleEdited(const QString& title);
    void opened(const QStringList& variables);  ///< A tile that stands for other variables.
    void pressed();

  protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void enterEvent(QEnterEvent* event) override;
    void leaveEvent(QEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

  private:
    struct Plane {
        QRectF area;
        double x0 = 0.0, x1 = 1.0, y0 = 0.0, y1 = 1.0;

        [[nodiscard]] double px(double x) const {
            return area.left() + (x - x0) / (x1 - x0) * area.width();
        }

        [[nodiscard]] double py(double y) const {
            return area.bottom() - (y - y0) / (y1 - y0) * area.height();
        }
    };

    [[nodiscard]] Plane planeOf(const QRectF& whole) const;
    [[nodiscard]] std::vector<Tick> uprightTicks(const Plane& plane) const;
    void drawBase(QPainter& painter, const QRectF& whole) const;
    void drawLit(QPainter& painter, const QRectF& whole) const;
    void drawHead(QPainter& painter, const QRectF& whole) const;
    void drawAxes(QPainter& painter, const Plane& plane) const;
    void drawBands(QPainter& painter, const Plane& plane) const;
    void drawBars(QPainter& painter, const Plane& plane) const;
    void drawPoints(QPainter& painter, const Plane& plane) const;
    void drawBoxes(QPainter& painter, const Plane& plane) const;
    void drawLines(QPainter& painter, const Plane& plane) const;
    void drawLyingBars(QPainter& painter, const QRectF& whole) const;
    [[nodiscard]] QPointF pointAt(const Plane& plane, std::size_t i) const;
    [[nodiscard]] int nearest(QPointF at) const;
    [[nodiscard]] int barAt(QPointF at) const;
    [[nodiscard]] RowSet rowsWithin() const;
    [[nodiscard]] QString wordsAt(QPointF at) const;
    void editTitle();
    void stepTo(std::ptrdiff_t step);
    void selectMark();
    void copy();
    void copyNumbers();
    void save(double millimetres);
    void offerSizes();
    void makeCorner();
    void changed();

    std::shared_ptr<const Exhibit> exhibit_;
    Reach reach_;  ///< Looked for once, not at every move of the mouse.
    bool empty_ = true;
    bool stale_ = false;
    QString why_;
    RowSet selection_;
    std::shared_ptr<const HeldRows> held_;
    std::vector<Exhibit::Line> before_;
    std::function<QString(std::size_t)> namer_;
    /// Made when it is asked for; null: of another picture.
    mutable std::unique_ptr<const MarkTable> marks_;
    std::vector<std::uint32_t> order_;     ///< Marks from left to right, once the keys walk.
    std::optional<std::size_t> standing_;  ///< Where the keys stand in that order.
    bool titleEditable_ = false;
    QPixmap base_;  ///< All but what is lit, as it stood at the last painting.
    bool baseFresh_ = false;
    QPointF dragFrom_;
    QPointF dragTo_;
    QPolygonF path_;  ///< Of a lasso.
    bool dragging_ = false;
    bool lasso_ = false;
    QWidget* corner_ = nullptr;  ///< Lasso, copy and save, while the mouse is over the picture.
    QPushButton* lassoWord_ = nullptr;
    QLineEdit* titleEdit_ = nullptr;
};

}  // namespace rapporto::app
