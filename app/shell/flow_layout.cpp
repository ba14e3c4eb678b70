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
    int y = rect.y();
    for (qsizetype first = 0; first < items_.size();) {
        // One line: as many as fit, centred on its middle.
        int x = rect.x();
        int line = 0;
        qsizetype last = first;
        while (last < items_.size() &&
               (last == first || x + items_[last]->sizeHint().width() <= rect.right())) {
            x += items_[last]->sizeHint().width() + gap_;
            line = std::max(line, items_[last]->sizeHint().height());
            ++last;
        }
        x = rect.x();
        for (qsizetype i = first; i < last; ++i) {
            const QSize size = items_[i]->sizeHint();
            if (apply) {
                items_[i]->setGeometry(QRect(QPoint(x, y + (line - size.height()) / 2), size));
            }
            x += size.width() + gap_;
        }
        first = last;
        y += line + (first < items_.size() ? 6 : 0);
    }
    return y - rect.y();
}

}  // namespace rapporto::app
