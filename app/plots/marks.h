#pragma once

#include <QColor>
#include <QImage>
#include <QPointF>
#include <QSizeF>
#include <QString>

#include <functional>
#include <string>
#include <vector>

class QPainter;
class QRectF;

namespace rapporto::app {

/// From here points melt into shading.
inline constexpr std::size_t kDensePoints = 20000;

/// The data colours in their fixed order.
[[nodiscard]] QColor seriesColour(int series);

/// Ground of a tile from −1 (clay) through paper to 1 (ink-blue).
[[nodiscard]] QColor shadeColour(double shade);

/// A data point; the shape repeats the colour’s distinction.
void drawMark(QPainter& painter, QPointF at, int series, double size, int alpha);

struct LineLabel {
    QPointF at;
    QString name;
    QColor colour;
    bool atRight = false;  ///< Beside the place, not above it.
};

/// Names at the ends of lines, moved apart where they would overlap.
void drawLabels(QPainter& painter, const QRectF& area, std::vector<LineLabel> labels);

/// Names with their marks, for series without a line.
void drawLegend(QPainter& painter, const QRectF& area, const std::vector<std::string>& names);

/// Counts in squares of `kCell` pixels.
class CellCounts {
  public:
    explicit CellCounts(QSizeF size)
        : width_(static_cast<int>(size.width() / kCell) + 1),
          height_(static_cast<int>(size.height() / kCell) + 1),
          counts_(static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_), 0) {}

    void add(QPointF at) {
        const int x = static_cast<int>(at.x() * (1.0 / kCell));
        const int y = static_cast<int>(at.y() * (1.0 / kCell));
        if (at.x() >= 0.0 && at.y() >= 0.0 && x < width_ && y < height_) {
            ++counts_[static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) +
                      static_cast<std::size_t>(x)];
        }
    }

    /// Shaded in ink-blue by log count, or plain ochre.
    [[nodiscard]] QImage image(bool lit) const;

  private:
    static constexpr int kCell = 3;
    int width_;
    int height_;
    std::vector<int> counts_;
};

/// Many points as small squares, shaded by the logarithm of their number, or lit where there is
/// one. `at` places a point in the area; left of it is none.
template <class At>
[[nodiscard]] QImage meltedPoints(QSizeF size, std::size_t n, bool lit, const At& at) {
    CellCounts cells(size);
    for (std::size_t i = 0; i < n; ++i) {
        cells.add(at(i));
    }
    return cells.image(lit);
}

}  // namespace rapporto::app
