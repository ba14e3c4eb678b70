#include "app/shell/words.h"

#include "app/shell/theme.h"

#include <QAbstractTextDocumentLayout>
#include <QPainter>

#include <cmath>

namespace rapporto::app {

void Words::fitTo(int width) {
    ensurePolished();  // The font is the style sheet's.
    if (width == width_ && text() == text_ && font() == font_) {
        return;
    }
    width_ = width;
    text_ = text();
    font_ = font();
    document_.setUndoRedoEnabled(false);
    document_.setDocumentMargin(0);
    document_.setDefaultFont(font_);
    document_.setTextWidth(width);
    document_.setHtml(text_);
    setFixedHeight(static_cast<int>(std::ceil(document_.size().height())));
}

void Words::paintEvent(QPaintEvent* event) {
    if (selecting_ || text() != text_ || width() != width_) {
        QLabel::paintEvent(event);
        return;
    }
    QPainter painter(this);
    QAbstractTextDocumentLayout::PaintContext context;
    context.palette.setColor(QPalette::Text, colour::kInk);
    context.clip = event->rect();
    painter.setClipRect(event->rect());
    document_.documentLayout()->draw(&painter, context);
}

void Words::mousePressEvent(QMouseEvent* event) {
    selecting_ = true;
    QLabel::mousePressEvent(event);
}

}  // namespace rapporto::app
