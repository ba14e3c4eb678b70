#include "app/stages/data/coverage_view.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QPainter>

#include <algorithm>
#include <cmath>

namespace rapporto::app {

CoverageView::CoverageView(QWidget* parent) : QWidget(parent) {
    setMinimumHeight(120);
    setAccessibleName(tr("Which unit has which moment"));
    setObjectName("layout:coverage");
}

void CoverageView::showCoverage(const Coverage& coverage) {
    coverage_ = coverage;
    update();
}

void CoverageView::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setFont(interfaceFont(11));
    painter.setPen(colour::kSoft);
    if (coverage_.columns == 0 || coverage_.units.empty()) {
        return;
    }
    const bool named = !coverage_.units.front().empty();
    const double left = named ? 96.0 : 0.0;
    const double top = 20.0;
    const double bottom = 20.0;
    const double cellWidth =
        std::min((width() - left) / static_cast<double>(coverage_.columns), 40.0);
    const double cellHeight = std::clamp(
        (height() - top - bottom) / static_cast<double>(coverage_.units.size()), 2.0, 22.0);
    const auto fitting = static_cast<std::size_t>((height() - top - bottom) / cellHeight);
    const std::size_t shown = std::min(coverage_.units.size(), fitting);
    painter.drawText(QRectF(left, 0, 160, 18), Qt::AlignLeft | Qt::AlignVCenter,
                     text(coverage_.moments[0]));
    const double right = left + cellWidth * static_cast<double>(coverage_.columns);
    painter.drawText(
        QRectF(std::max(right - 160, left + 60), 0, std::min(160.0, right - left - 60), 18),
        Qt::AlignRight | Qt::AlignVCenter, text(coverage_.moments[1]));
    const auto step = static_cast<std::size_t>(std::ceil(14.0 / cellHeight));
    for (std::size_t u = 0; u < shown; ++u) {
        const double y = top + cellHeight * static_cast<double>(u);
        if (named && u % step == 0) {
            painter.setPen(colour::kSoft);
            painter.drawText(
                QRectF(0, y, left - 8, std::max(cellHeight, 14.0)), Qt::AlignRight | Qt::AlignTop,
                painter.fontMetrics().elidedText(text(coverage_.units[u]), Qt::ElideRight, 88));
        }
        for (std::size_t c = 0; c < coverage_.columns; ++c) {
            const std::uint8_t cell = coverage_.cells[u * coverage_.columns + c];
            const QRectF at(left + cellWidth * static_cast<double>(c), y,
                            std::max(cellWidth - 1, 1.0), std::max(cellHeight - 1, 1.0));
            painter.fillRect(at, cell == 0   ? colour::kPanel
                                 : cell == 1 ? colour::kBlue
                                             : colour::kOchre);
        }
    }
    painter.setPen(colour::kSoft);
    painter.drawText(
        QRectF(left, height() - 18, width() - left, 18), Qt::AlignLeft | Qt::AlignVCenter,
        shown < coverage_.unitsInAll
            ? tr("%1 of %2 units, those with the fewest rows first")
                  .arg(numbered(countText(shown)), numbered(countText(coverage_.unitsInAll)))
            : tr("filled: there is a row; pale: there is none"));
}

}  // namespace rapporto::app
