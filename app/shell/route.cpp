#include "app/shell/route.h"

#include "app/shell/theme.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace rapporto::app {

QStringList stageNames() {
    return {Route::tr("Data"),   Route::tr("Explore"), Route::tr("Model"),
            Route::tr("Checks"), Route::tr("Compare"), Route::tr("Report")};
}

Route::Route(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::TabFocus);
    tellParts();
    setMouseTracking(true);
    setFixedHeight(66);
    setMinimumWidth(520);
    setAccessibleName(tr("Route: the six stages"));
    setAccessibleDescription(tr("Left and right arrow keys change the stage"));
}

void Route::showStage(int stage) {
    stage_ = stage;
    update();
    tellChosen(*this);
}

void Route::showStates(const QStringList& states) {
    states_ = states;
    update();
}

std::vector<ToldPart> Route::toldParts() {
    std::vector<ToldPart> out;
    const QStringList names = stageNames();
    for (int s = 0; s < names.size(); ++s) {
        const QString state = s < states_.size() && !states_[s].isEmpty() ? ", " + states_[s] : "";
        const double w = width() / 6.0;
        out.push_back({names[s] + state, QRectF(centre(s) - w / 2, 0, w, height()).toRect(),
                       QAccessible::PageTab, s == stage_, [this, s] { emit stageRequested(s); }});
    }
    return out;
}

double Route::centre(int stage) const { return width() * (stage + 0.5) / 6.0; }

int Route::stageAt(double x) const { return std::clamp(static_cast<int>(x / width() * 6.0), 0, 5); }

void Route::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(QPen(colour::kHairline, 2));
    painter.drawLine(QPointF(centre(0), 19), QPointF(centre(5), 19));
    const QStringList names = stageNames();
    for (int s = 0; s < 6; ++s) {
        const bool here = s == stage_;
        painter.setPen(QPen(here            ? colour::kAccent
                            : s == hovered_ ? colour::kInk
                                            : colour::kSoft,
                            1.4));
        painter.setBrush(here ? colour::kAccent : colour::kGround);
        const double r = here ? 6.5 : 4.0;
        painter.drawEllipse(QPointF(centre(s), 19), r, r);
        if (here && hasFocus()) {
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(QPointF(centre(s), 19), 10, 10);
        }
        painter.setFont(interfaceFont(14, here));
        painter.setPen(here ? colour::kAccent : colour::kInk);
        const double w = width() / 6.0;
        painter.drawText(QRectF(centre(s) - w / 2, 27, w, 18), Qt::AlignCenter, names[s]);
        painter.setFont(interfaceFont(11));
        painter.setPen(colour::kSoft);
        if (s < states_.size()) {
            painter.drawText(QRectF(centre(s) - w / 2, 45, w, 14), Qt::AlignCenter,
                             painter.fontMetrics().elidedText(states_[s], Qt::ElideRight,
                                                              static_cast<int>(w) - 6));
        }
    }
}

void Route::mousePressEvent(QMouseEvent* event) {
    emit stageRequested(stageAt(event->position().x()));
}

void Route::mouseMoveEvent(QMouseEvent* event) {
    hovered_ = stageAt(event->position().x());
    setCursor(Qt::PointingHandCursor);
    update();
}

void Route::leaveEvent(QEvent* /*event*/) {
    hovered_ = -1;
    update();
}

void Route::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Left || event->key() == Qt::Key_Right) {
        emit stageRequested(std::clamp(stage_ + (event->key() == Qt::Key_Left ? -1 : 1), 0, 5));
        return;
    }
    QWidget::keyPressEvent(event);
}

}  // namespace rapporto::app
