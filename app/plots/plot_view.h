#pragma once

#include "core/checks/check.h"
#include "core/describe/summary.h"

#include <QWidget>

#include <functional>
#include <set>

namespace rapporto::app {

/// A histogram with what lies over it.
struct HistogramPicture {
    Histogram bins;
    Histogram selected;  ///< The same bins of the selected rows; counts may be empty.
    double mean = 0.0;
    double sd = 0.0;  ///< Of the normal curve; 0 draws none.
    double n = 0.0;
    QString title;
    QString subtitle;
    QString xTitle;
    std::vector<double> curveX;      ///< A density to draw over the bars; empty: none.
    std::vector<double> curveY;      ///< In shares for each step of x.
    std::vector<std::string> names;  ///< Of levels, for groups: bars instead of bins.
};

/// The one plot base: points, lines, bars and histograms with axes, a selection that is shared and
/// a hover that names the row. Drag selects a box, a click the nearest point, Escape nothing.
class PlotView : public QWidget {
    Q_OBJECT

  public:
    explicit PlotView(QWidget* parent = nullptr);

    void showExhibit(const Exhibit& exhibit);
    void showHistogram(const HistogramPicture& picture);
    void showNothing(const QString& why);
    void showSelection(const std::set<std::size_t>& rows);

    /// Names a source row for the hover.
    void setRowNamer(std::function<QString(std::size_t)> namer) { namer_ = std::move(namer); }

    /// Draws into any device: the screen, a picture, a page.
    void draw(QPainter& painter, const QRectF& area) const;

    /// Where a data point lies in the widget; for tests and linking.
    [[nodiscard]] QPointF pixelOf(double x, double y) const;

    [[nodiscard]] const Exhibit& exhibit() const { return exhibit_; }

  signals:
    void rowsSelected(const std::set<std::size_t>& rows);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void enterEvent(QEnterEvent* event) override;
    void leaveEvent(QEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

  private:
    struct Frame2D {
        QRectF area;
        double x0 = 0.0, x1 = 1.0, y0 = 0.0, y1 = 1.0;

        [[nodiscard]] double px(double x) const {
            return area.left() + (x - x0) / (x1 - x0) * area.width();
        }

        [[nodiscard]] double py(double y) const {
            return area.bottom() - (y - y0) / (y1 - y0) * area.height();
        }
    };

    [[nodiscard]] Frame2D frameOf(const QRectF& area) const;
    void drawAxes(QPainter& painter, const Frame2D& f, bool vertical) const;
    void drawPoints(QPainter& painter, const Frame2D& f) const;
    void drawLines(QPainter& painter, const Frame2D& f) const;
    void drawBars(QPainter& painter, const QRectF& area) const;
    void drawHistogram(QPainter& painter, const QRectF& area) const;
    [[nodiscard]] int nearest(QPointF at) const;
    void selectBox();
    void copy();
    void save();
    void makeCorner();

    enum class Kind { Nothing, Exhibit, Histogram };

    Kind kind_ = Kind::Nothing;
    Exhibit exhibit_;
    HistogramPicture histogram_;
    QString why_;
    std::set<std::size_t> selection_;
    std::function<QString(std::size_t)> namer_;
    QPointF dragFrom_;
    QPointF dragTo_;
    bool dragging_ = false;
    QWidget* corner_ = nullptr;  ///< Copy and save, while the mouse is over the picture.
};

}  // namespace rapporto::app
