#include "app/stages/compare/sweep_view.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/picture/axis.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

#include <cmath>

namespace rapporto::app {
namespace {

constexpr double kNames = 190.0;
constexpr double kMoves = 116.0;  ///< What a choice does, at the right.
constexpr double kRow = 19.0;

}  // namespace

SweepView::SweepView(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Sweep"));
    tellParts();
    setMinimumHeight(300);
}

void SweepView::showSweep(std::shared_ptr<const Sweep> sweep, double alpha) {
    sweep_ = std::move(sweep);
    alpha_ = alpha;
    why_.clear();
    // The middle one first.
    chosen_ = static_cast<int>(sweep_->results.size() / 2);
    setMinimumHeight(260 + static_cast<int>(kRow * static_cast<double>(sweep_->choices.size())));
    setAccessibleDescription(tr("%1 specifications, median %2")
                                 .arg(sweep_->results.size())
                                 .arg(numbered(shortNumber(sweep_->median))));
    update();
}

void SweepView::showNothing(const QString& why) {
    sweep_.reset();
    chosen_ = -1;
    why_ = why;
    update();
}

std::vector<ToldPart> SweepView::toldParts() {
    std::vector<ToldPart> out;
    for (std::size_t i = 0; sweep_ && i < sweep_->results.size(); ++i) {
        const SweepResult& r = sweep_->results[i];
        const QRectF area = curve();
        const double half = 0.5 * area.width() / static_cast<double>(sweep_->results.size());
        out.push_back(
            {tr("%1 of %2: %3, from %4 to %5, %6")
                 .arg(numbered(countText(i + 1)), numbered(countText(sweep_->results.size())),
                      numbered(shortNumber(r.estimate)), numbered(shortNumber(r.low)),
                      numbered(shortNumber(r.high)), numbered(pClause(r.p))),
             QRectF(xOf(i) - half, area.top(), 2.0 * half, area.height()).toRect(),
             QAccessible::ListItem, static_cast<int>(i) == chosen_,
             [this, i] { choose(static_cast<int>(i)); }});
    }
    return out;
}

QRectF SweepView::curve() const {
    const double below = sweep_ ? kRow * static_cast<double>(sweep_->choices.size()) + 44.0 : 0.0;
    return {kNames, 34.0, width() - kNames - kMoves, std::max(height() - 34.0 - below, 120.0)};
}

double SweepView::xOf(std::size_t result) const {
    const QRectF area = curve();
    const auto n = static_cast<double>(sweep_->results.size());
    return area.left() + (static_cast<double>(result) + 0.5) / n * area.width();
}

void SweepView::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    if (!sweep_) {
        painter.setFont(interfaceFont(14));
        painter.setPen(colour::kInk);
        painter.drawText(rect().adjusted(30, 30, -30, -30), Qt::AlignCenter | Qt::TextWordWrap,
                         why_);
        return;
    }
    const auto& results = sweep_->results;
    double low = 0.0;
    double high = 0.0;
    for (const SweepResult& r : results) {
        low = std::min(low, r.low);
        high = std::max(high, r.high);
    }
    const double margin = high > low ? 0.05 * (high - low) : 1.0;
    low -= margin;
    high += margin;
    const QRectF area = curve();
    const auto at = [&](double v) {
        return area.bottom() - (v - low) / (high - low) * area.height();
    };
    painter.setFont(interfaceFont(13, true));
    painter.setPen(colour::kInk);
    painter.drawText(QRectF(4, 4, width() - 8, 20), Qt::AlignLeft | Qt::AlignVCenter,
                     tr("%1 over %2 specifications, sorted")
                         .arg(termText(sweep_->spec.of))
                         .arg(numbered(countText(results.size()))));
    // Places along the upright axis.
    painter.setFont(interfaceFont(11));
    for (const Tick& tick : ticksOn(AxisScale::Number, low, high, 5)) {
        painter.setPen(
            QPen(tick.at == 0.0 ? colour::kSoft : colour::kHairline, tick.at == 0.0 ? 1.5 : 1.0));
        painter.drawLine(QPointF(area.left(), at(tick.at)), QPointF(area.right(), at(tick.at)));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(area.left() - 84, at(tick.at) - 8, 78, 16),
                         Qt::AlignRight | Qt::AlignVCenter, numbered(tick.text));
    }
    const double room = area.width() / static_cast<double>(results.size());
    for (std::size_t i = 0; i < results.size(); ++i) {
        const SweepResult& r = results[i];
        const bool clear = r.p < alpha_;
        const double x = xOf(i);
        QColor faint = clear ? colour::kBlue : colour::kSoft;
        faint.setAlphaF(room > 3.0 ? 0.5F : 0.22F);
        painter.setPen(QPen(faint, std::clamp(room * 0.5, 0.6, 2.0)));
        painter.drawLine(QPointF(x, at(r.low)), QPointF(x, at(r.high)));
    }
    painter.setPen(Qt::NoPen);
    for (std::size_t i = 0; i < results.size(); ++i) {
        painter.setBrush(results[i].p < alpha_ ? colour::kBlue : colour::kSoft);
        painter.drawEllipse(QPointF(xOf(i), at(results[i].estimate)), 1.8, 1.8);
    }
    // The choices: a mark where it was made; at the right what it does.
    double top = area.bottom() + 26.0;
    painter.setFont(interfaceFont(11));
    painter.setPen(colour::kSoft);
    painter.drawText(QRectF(4, top - 18, kNames - 12, 16), Qt::AlignLeft, tr("choice"));
    painter.drawText(QRectF(area.right() + 8, top - 18, kMoves - 8, 16), Qt::AlignRight,
                     tr("moves it by"));
    for (const Sweep::Choice& choice : sweep_->choices) {
        painter.setPen(QPen(colour::kHairline, 1));
        painter.drawLine(QPointF(0, top), QPointF(width(), top));
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kInk);
        painter.drawText(QRectF(4, top, kNames - 12, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(termText(choice.name), Qt::ElideRight,
                                                          static_cast<int>(kNames) - 14));
        painter.setPen(QPen(colour::kBlue, std::clamp(room * 0.7, 0.8, 3.0)));
        for (std::size_t i = 0; i < results.size(); ++i) {
            if (sweep_->made(results[i], choice)) {
                painter.drawLine(QPointF(xOf(i), top + 4), QPointF(xOf(i), top + kRow - 4));
            }
        }
        painter.setPen(colour::kInk);
        const int decimals = decimalsFor(results[results.size() / 2].se);
        painter.drawText(QRectF(area.right() + 8, top, kMoves - 8, kRow),
                         Qt::AlignRight | Qt::AlignVCenter,
                         numbered(fixedNumber(choice.moves, decimals, true)));
        top += kRow;
    }
    if (chosen_ >= 0 && chosen_ < static_cast<int>(results.size())) {
        const double x = xOf(static_cast<std::size_t>(chosen_));
        painter.setPen(QPen(colour::kOchre, 1.5));
        painter.drawLine(QPointF(x, area.top()), QPointF(x, top));
        painter.setBrush(colour::kOchre);
        painter.drawEllipse(QPointF(x, at(results[static_cast<std::size_t>(chosen_)].estimate)), 4,
                            4);
    }
}

void SweepView::choose(int result) {
    if (sweep_ && result >= 0 && result < static_cast<int>(sweep_->results.size())) {
        chosen_ = result;
        update();
        tellChosen(*this);
        emit specificationChosen(result);
    }
}

void SweepView::mousePressEvent(QMouseEvent* event) {
    if (!sweep_) {
        return;
    }
    const QRectF area = curve();
    const double share = (event->position().x() - area.left()) / area.width();
    if (share >= 0.0 && share <= 1.0) {
        choose(std::min(static_cast<int>(share * static_cast<double>(sweep_->results.size())),
                        static_cast<int>(sweep_->results.size()) - 1));
    }
}

void SweepView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Right) {
        choose(chosen_ + 1);
    } else if (event->key() == Qt::Key_Left) {
        choose(chosen_ - 1);
    } else {
        QWidget::keyPressEvent(event);
    }
}

}  // namespace rapporto::app
