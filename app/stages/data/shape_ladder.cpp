#include "app/stages/data/shape_ladder.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

#include <cmath>

namespace rapporto::app {

LadderView::LadderView(QWidget* parent) : QWidget(parent) {
    setFixedHeight(112);
    setAccessibleName(tr("Shape ladder"));
    setCursor(Qt::PointingHandCursor);
    setFocusPolicy(Qt::StrongFocus);
    setObjectName("data:ladder");
    tellParts();
}

void LadderView::showLadder(ShapeLadder ladder) {
    ladder_ = std::move(ladder);
    current_ = ladder_.best;
    update();
}

QRect LadderView::rungRect(std::size_t rung) const {
    const double w = width() / std::max(static_cast<double>(ladder_.rungs.size()), 1.0);
    return QRectF(w * static_cast<double>(rung) + 3, 2, w - 6, height() - 4).toRect();
}

std::vector<ToldPart> LadderView::toldParts() {
    std::vector<ToldPart> out;
    for (std::size_t r = 0; r < ladder_.rungs.size(); ++r) {
        const LadderRung& rung = ladder_.rungs[r];
        const int place = static_cast<int>(r);
        ToldPart part{
            text(rung.label) + ": " +
                (rung.defined ? tr("skewness %1").arg(numbered(fixedNumber(rung.skewness, 1)))
                              : tr("not for all")),
            rungRect(r), QAccessible::ListItem, place == current_, [this, place] { take(place); }};
        if (place == ladder_.best) {
            part.name += tr(", the straightest");
        }
        out.push_back(std::move(part));
    }
    return out;
}

void LadderView::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    if (ladder_.rungs.empty()) {
        painter.setPen(colour::kSoft);
        painter.drawText(rect(), Qt::AlignLeft | Qt::AlignTop, numbered(ladder_.why));
        return;
    }
    for (std::size_t r = 0; r < ladder_.rungs.size(); ++r) {
        const LadderRung& rung = ladder_.rungs[r];
        const QRectF box = rungRect(r);
        const bool best = static_cast<int>(r) == ladder_.best;
        painter.fillRect(box, best ? colour::kAccentWash : colour::kPanel);
        if (best || (hasFocus() && static_cast<int>(r) == current_)) {
            painter.setPen(QPen(best ? colour::kAccent : colour::kSoft, 1));
            painter.drawRect(box);
        }
        const double bar =
            (box.width() - 16) / std::max<double>(static_cast<double>(rung.bars.size()), 1.0);
        for (std::size_t b = 0; b < rung.bars.size(); ++b) {
            const double h = rung.bars[b] * 52.0;
            painter.fillRect(QRectF(box.left() + 8 + bar * static_cast<double>(b),
                                    box.top() + 62 - h, bar - 1, h),
                             best ? colour::kAccent : colour::kBars);
        }
        painter.setPen(colour::kInk);
        painter.setFont(paperFont(15));
        painter.drawText(QRectF(box.left(), box.top() + 66, box.width(), 20), Qt::AlignCenter,
                         text(rung.label));
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(11));
        painter.drawText(
            QRectF(box.left(), box.top() + 86, box.width(), 16), Qt::AlignCenter,
            rung.defined ? numbered(fixedNumber(rung.skewness, 1)) : tr("not for all"));
    }
}

void LadderView::mousePressEvent(QMouseEvent* event) {
    for (std::size_t r = 0; r < ladder_.rungs.size(); ++r) {
        if (rungRect(r).contains(event->pos())) {
            take(static_cast<int>(r));
        }
    }
}

void LadderView::keyPressEvent(QKeyEvent* event) {
    const int last = static_cast<int>(ladder_.rungs.size()) - 1;
    if (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right) {
        current_ =
            std::clamp(current_ + (event->key() == Qt::Key_Right ? 1 : -1), 0, std::max(last, 0));
        update();
        tellChosen(*this);
    } else if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Space) {
        take(current_);
    } else {
        QWidget::keyPressEvent(event);
    }
}

void LadderView::take(int rung) {
    if (rung >= 0 && rung < static_cast<int>(ladder_.rungs.size()) &&
        ladder_.rungs[static_cast<std::size_t>(rung)].power != 1.0) {
        const LadderRung& chosen = ladder_.rungs[static_cast<std::size_t>(rung)];
        current_ = rung;
        emit rungChosen(text(chosen.name), text(chosen.expression));
    }
}

}  // namespace rapporto::app
