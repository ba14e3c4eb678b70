#include "app/plots/marks.h"

#include "app/shell/theme.h"

#include <QPainter>
#include <QPolygonF>

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto::app {

QColor seriesColour(int series) {
    const std::array kColours = {colour::kBlue, colour::kOchre, colour::kPlum,
                                 colour::kMoss, colour::kClay,  colour::kSlate};
    return kColours[static_cast<std::size_t>(std::max(series, 0)) % kColours.size()];
}

QColor shadeColour(double shade) {
    const QColor& end = shade < 0.0 ? colour::kClay : colour::kBlue;
    const double part = std::min(std::abs(shade), 1.0);
    const auto mix = [&](int from, int to) {
        return static_cast<int>(std::lround(from + (to - from) * part));
    };
    return {mix(colour::kPanel.red(), end.red()), mix(colour::kPanel.green(), end.green()),
            mix(colour::kPanel.blue(), end.blue())};
}

void drawMark(QPainter& painter, QPointF at, int series, double size, int alpha) {
    QColor c = seriesColour(series);
    c.setAlpha(alpha);
    painter.setPen(Qt::NoPen);
    painter.setBrush(c);
    switch (series % 6) {
        case 0:
            painter.drawEllipse(at, size, size);
            break;
        case 1:
            painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size));
            break;
        case 2:
            painter.drawPolygon(QPolygonF{at + QPointF(0, -1.4 * size),
                                          at + QPointF(1.3 * size, size),
                                          at + QPointF(-1.3 * size, size)});
            break;
        case 3:
            painter.drawPolygon(QPolygonF{at + QPointF(0, -1.5 * size), at + QPointF(1.5 * size, 0),
                                          at + QPointF(0, 1.5 * size),
                                          at + QPointF(-1.5 * size, 0)});
            break;
        case 4:
            painter.drawPolygon(QPolygonF{at + QPointF(0, 1.4 * size),
                                          at + QPointF(1.3 * size, -size),
                                          at + QPointF(-1.3 * size, -size)});
            break;
        default:
            painter.setBrush(Qt::NoBrush);
            painter.setPen(QPen(c, 1.2));
            painter.drawEllipse(at, size, size);
    }
}

void drawLabels(QPainter& painter, const QRectF& area, std::vector<LineLabel> labels) {
    painter.setFont(interfaceFont(11));
    std::sort(labels.begin(), labels.end(),
              [](const LineLabel& a, const LineLabel& b) { return a.at.y() < b.at.y(); });
    double below = area.top() - 14.0;
    for (const LineLabel& label : labels) {
        const double top = std::max(label.at.y() - 18.0, below);
        // A short line ends far left: its name goes to the right of the end then.
        const bool left = label.at.x() - area.left() > 90.0 && !label.atRight;
        const QRectF box(left ? label.at.x() - 160.0 : label.at.x() + 6.0, top, 156, 14);
        // On the ground of the paper, or points would be read into it.
        const double width = painter.fontMetrics().horizontalAdvance(label.name) + 4.0;
        QColor ground = colour::kGround;
        ground.setAlpha(190);
        painter.fillRect(
            QRectF(left ? box.right() - width + 2.0 : box.left() - 2.0, top, width, 14), ground);
        painter.setPen(label.colour);
        painter.drawText(box, (left ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter,
                         label.name);
        below = top + 13.0;
    }
}

void drawLegend(QPainter& painter, const QRectF& area, const std::vector<std::string>& names) {
    painter.setFont(interfaceFont(11));
    double y = area.top() + 10.0;
    for (std::size_t k = 0; k < names.size(); ++k) {
        const QString name = text(names[k]);
        const double width = painter.fontMetrics().horizontalAdvance(name);
        drawMark(painter, QPointF(area.right() - width - 14.0, y), static_cast<int>(k), 3.0, 220);
        painter.setPen(colour::kInk);
        painter.drawText(QRectF(area.right() - width - 6.0, y - 8.0, width + 4.0, 16.0),
                         Qt::AlignLeft | Qt::AlignVCenter, name);
        y += 15.0;
    }
}

QImage CellCounts::image(bool lit) const {
    QImage small(width_, height_, QImage::Format_ARGB32_Premultiplied);
    small.fill(Qt::transparent);
    const int most = std::max(1, *std::max_element(counts_.begin(), counts_.end()));
    for (int y = 0; y < height_; ++y) {
        auto* line = reinterpret_cast<QRgb*>(small.scanLine(y));
        for (int x = 0; x < width_; ++x) {
            const int c = counts_[static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) +
                                  static_cast<std::size_t>(x)];
            if (c > 0) {
                QColor shade = lit ? colour::kOchre : colour::kBlue;
                shade.setAlpha(lit ? 255
                                   : 30 + static_cast<int>(200 * std::log1p(c) / std::log1p(most)));
                line[x] = qPremultiply(shade.rgba());
            }
        }
    }
    return small.scaled(width_ * kCell, height_ * kCell);
}

}  // namespace rapporto::app
