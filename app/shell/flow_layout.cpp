#include "app/shell/flow_layout.h"

#include <QWidget>

namespace rapporto::app {

FlowLayout::~FlowLayout() { qDeleteAll(items_); }

void FlowLayout::setGeometry(const QRect& rect) {
    QLayout::setGeometry(rect);
    place(rect, true);
}

QSize FlowLayout::minimumSize() const {
    QSize size;
    for (const QLayoutItem* item : items_) {
        size = size.expandedTo(item->minimumSize());
    }
    return size;
}

int FlowLayout::place(const QRect& rect, bool apply) const {
    int x = rect.x();
    int y = rect.y();
    int line = 0;
    for (QLayoutItem* item : items_) {
        const QSize size = item->sizeHint();
        if (x > rect.x() && x + size.width() > rect.right()) {
            x = rect.x();
            y += line + 6;
            line = 0;
        }
        if (apply) {
            item->setGeometry(QRect(QPoint(x, y), size));
        }
        x += size.width() + gap_;
        line = std::max(line, size.height());
    }
    return y + line - rect.y();
}

}  // namespace rapporto::app
