#include "app/stages/data/preview_view.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QPainter>

#include <algorithm>

namespace rapporto::app {

PreviewView::PreviewView(QWidget* parent) : QWidget(parent) {
    setFixedHeight(196);
    setAccessibleName(tr("Preview of the derived variable"));
    setObjectName("data:preview");
}

void PreviewView::showPreview(const DerivedPreview& preview) {
    preview_ = preview;
    QString spoken;
    for (const auto& row : preview.first) {
        spoken += text(row.value) + "; ";
    }
    setAccessibleDescription(spoken);
    update();
}

void PreviewView::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    if (preview_.refusal || preview_.rows == 0) {
        return;
    }
    const double rowsLeft = width() * 0.56;
    const QRectF left(0, 0, rowsLeft * 0.5 - 16, height());
    const QRectF right(rowsLeft * 0.5, 0, rowsLeft * 0.5 - 16, height());
    if (!preview_.before.counts.empty()) {
        drawHistogram(painter, left, preview_.before, text(preview_.sourceName), colour::kBars);
    }
    preview_.isText || preview_.levels.size() == 2
        ? drawLevels(painter, right)
        : drawHistogram(painter, right, preview_.after, tr("as derived"), colour::kAccent);
    drawRows(painter, QRectF(rowsLeft, 0, width() - rowsLeft, height()));
}

void PreviewView::drawHistogram(QPainter& painter, const QRectF& area, const Histogram& bins,
                                const QString& title, const QColor& colour) const {
    painter.setPen(colour::kSoft);
    painter.setFont(interfaceFont(11));
    painter.drawText(
        QRectF(area.left(), 0, area.width(), 18), Qt::AlignLeft | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(title, Qt::ElideRight, static_cast<int>(area.width())));
    if (bins.counts.empty()) {
        return;
    }
    const double most =
        static_cast<double>(*std::max_element(bins.counts.begin(), bins.counts.end()));
    const double base = area.bottom() - 22;
    const double bar = area.width() / static_cast<double>(bins.counts.size());
    for (std::size_t b = 0; b < bins.counts.size() && most > 0.0; ++b) {
        const double h = (base - 24) * static_cast<double>(bins.counts[b]) / most;
        painter.fillRect(
            QRectF(area.left() + bar * static_cast<double>(b), base - h, std::max(bar - 1, 1.0), h),
            colour);
    }
    painter.setPen(colour::kHairline);
    painter.drawLine(QPointF(area.left(), base), QPointF(area.right(), base));
    painter.setPen(colour::kSoft);
    const QRectF axis(area.left(), base + 2, area.width(), 16);
    painter.drawText(axis, Qt::AlignLeft, numbered(shortNumber(bins.from, 4)));
    painter.drawText(
        axis, Qt::AlignRight,
        numbered(shortNumber(bins.from + bins.width * static_cast<double>(bins.counts.size()), 4)));
}

void PreviewView::drawLevels(QPainter& painter, const QRectF& area) const {
    painter.setFont(interfaceFont(11));
    const std::size_t shown = std::min<std::size_t>(preview_.levels.size(), 9);
    const std::size_t most =
        preview_.levelCounts.empty()
            ? 1
            : std::max<std::size_t>(
                  *std::max_element(preview_.levelCounts.begin(), preview_.levelCounts.end()), 1);
    for (std::size_t k = 0; k < shown; ++k) {
        const double y = 4 + 20.0 * static_cast<double>(k);
        painter.setPen(colour::kInk);
        const QRectF name(area.left(), y, area.width() * 0.42, 18);
        painter.drawText(name, Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(text(preview_.levels[k]), Qt::ElideRight,
                                                          static_cast<int>(name.width())));
        const double w = area.width() * 0.36 * static_cast<double>(preview_.levelCounts[k]) /
                         static_cast<double>(most);
        painter.fillRect(QRectF(name.right() + 4, y + 4, std::max(w, 1.0), 10), colour::kAccent);
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(area.right() - 60, y, 60, 18), Qt::AlignRight | Qt::AlignVCenter,
                         numbered(countText(preview_.levelCounts[k])));
    }
    if (preview_.levels.size() > shown) {
        painter.drawText(QRectF(area.left(), area.bottom() - 16, area.width(), 16), Qt::AlignLeft,
                         tr("and %1 more").arg(preview_.levels.size() - shown));
    }
}

void PreviewView::drawRows(QPainter& painter, const QRectF& area) const {
    painter.setFont(interfaceFont(11));
    const std::size_t from = std::min<std::size_t>(preview_.fromNames.size(), 2);
    const double column = (area.width() - 50) / static_cast<double>(from + 1);
    const auto cell = [&](std::size_t c, double y, const QString& value, const QColor& colour) {
        painter.setPen(colour);
        const QRectF at(area.left() + 50 + column * static_cast<double>(c), y, column - 8, 16);
        painter.drawText(
            at, Qt::AlignRight | Qt::AlignVCenter,
            painter.fontMetrics().elidedText(value, Qt::ElideRight, static_cast<int>(at.width())));
    };
    cell(from, 0, tr("as derived"), colour::kPlum);
    for (std::size_t c = 0; c < from; ++c) {
        cell(c, 0, text(preview_.fromNames[c]), colour::kSoft);
    }
    painter.setPen(colour::kInk);
    painter.drawLine(QPointF(area.left(), 17), QPointF(area.right(), 17));
    for (std::size_t k = 0; k < preview_.first.size(); ++k) {
        const DerivedPreview::Row& row = preview_.first[k];
        const double y = 20 + 17.0 * static_cast<double>(k);
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(area.left(), y, 44, 16), Qt::AlignRight | Qt::AlignVCenter,
                         numbered(countText(row.row + 1)));
        for (std::size_t c = 0; c < from; ++c) {
            cell(c, y, row.from[c].empty() ? "–" : text(row.from[c]), colour::kInk);
        }
        cell(from, y, row.value.empty() ? tr("missing") : text(row.value),
             row.value.empty() ? colour::kOchreText : colour::kPlum);
    }
}

}  // namespace rapporto::app
