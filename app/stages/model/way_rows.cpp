#include "app/stages/model/way_rows.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/paths/trace.h"
#include "core/paths/trace_kind.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

constexpr double kHeight = 32.0;
constexpr double kHead = 26.0;
constexpr double kNames = 190.0;
constexpr double kDigits = 268.0;

/// In each pair the total stands first, then the ways, then what takes none.
int orderOf(const TraceEffect& effect) {
    return effect.kind == "total" ? 0
           : effect.kind == "indirect" || effect.kind == "natural-indirect"
               ? (effect.through.empty() ? 2 : 1)
           : effect.kind == "indirect-difference" ? 4
                                                  : 3;
}

}  // namespace

WayRows::WayRows(QWidget* parent) : QWidget(parent) {
    setObjectName("wayRows");
    setAccessibleName(tr("Effects by the way they take"));
    tellParts();
    setFocusPolicy(Qt::StrongFocus);
}

void WayRows::showAnswer(std::shared_ptr<const Answer> answer, bool fresh) {
    answer_ = std::move(answer);
    fresh_ = fresh;
    layOut();
}

void WayRows::showSelected(int effect) {
    selected_ = effect;
    update();
    tellChosen(*this);
}

void WayRows::layOut() {
    rows_.clear();
    if (!answer_ || !answer_->trace) {
        return;
    }
    const Trace& trace = *answer_->trace;
    std::vector<std::size_t> left(trace.effects.size());
    for (std::size_t k = 0; k < left.size(); ++k) {
        left[k] = k;
    }
    while (!left.empty()) {
        const TraceEffect& first = trace.effects[left.front()];
        std::vector<std::size_t> own;
        std::vector<std::size_t> rest;
        int ways = 0;
        for (const std::size_t k : left) {
            const TraceEffect& one = trace.effects[k];
            const bool same = one.from == first.from && one.to == first.to && one.at == first.at;
            (same ? own : rest).push_back(k);
            ways += same && !one.through.empty() && one.kind == "indirect" ? 1 : 0;
        }
        left = rest;
        // One way alone is its own sum.
        std::erase_if(own, [&](std::size_t k) {
            const TraceEffect& one = trace.effects[k];
            return one.through.empty() && ways == 1 &&
                   (one.kind == "indirect" || one.kind == "indirect-difference");
        });
        std::stable_sort(own.begin(), own.end(), [&](std::size_t a, std::size_t b) {
            return orderOf(trace.effects[a]) < orderOf(trace.effects[b]);
        });
        double low = 0.0;
        double high = 0.0;
        for (const std::size_t k : own) {
            const TraceEffect& one = trace.effects[k];
            for (const double end : {one.low, one.high, one.estimate}) {
                low = std::isfinite(end) ? std::min(low, end) : low;
                high = std::isfinite(end) ? std::max(high, end) : high;
            }
        }
        const double margin = 0.08 * (high - low);
        Row head;
        head.name = text(first.from + " → " + first.to);
        if (!first.at.empty()) {
            head.name += tr(", %1").arg(text(settingText(first.at)));
        }
        if (first.change) {
            head.name += tr(", from %1 to %2")
                             .arg(numbered(shortNumber(first.change->first, 3)),
                                  numbered(shortNumber(first.change->second, 3)));
        }
        rows_.push_back(head);
        for (const std::size_t k : own) {
            rows_.push_back({static_cast<int>(k), text(effectName(trace.effects[k])), low - margin,
                             high + margin});
        }
    }
    setMinimumHeight(sizeHint().height());
    updateGeometry();
    update();
}

QSize WayRows::sizeHint() const {
    double height = 6.0;
    for (const Row& row : rows_) {
        height += row.effect < 0 ? kHead : kHeight;
    }
    return {640, static_cast<int>(height)};
}

double WayRows::rowTop(int effect) const {
    double top = 0.0;
    for (const Row& row : rows_) {
        if (row.effect == effect) {
            return top;
        }
        top += row.effect < 0 ? kHead : kHeight;
    }
    return -1.0;
}

QStringList WayRows::cells(int effect) const {
    const Trace& trace = *answer_->trace;
    const TraceEffect& e = trace.effects[static_cast<std::size_t>(effect)];
    const int decimals = decimalsFor(e.se);
    const auto digits = [&](double v) {
        return std::isfinite(v) ? numbered(fixedNumber(v, decimals, true)) : QString("–");
    };
    return {text(effectName(e)), digits(e.estimate),
            tr("%1 to %2").arg(digits(e.low), digits(e.high)),
            e.p ? numbered(pText(*e.p)) : QString("–")};
}

std::vector<ToldPart> WayRows::toldParts() {
    std::vector<ToldPart> out;
    double top = 0.0;
    for (const Row& row : rows_) {
        const double height = row.effect < 0 ? kHead : kHeight;
        ToldPart part;
        part.place = QRectF(0, top, width(), height).toRect();
        part.name = row.name;
        top += height;
        if (row.effect < 0) {
            part.role = QAccessible::Heading;
        } else {
            const QStringList own = cells(row.effect);
            part.name += tr(": %1, from %2, p %3").arg(own[1], own[2], own[3]);
            part.chosen = row.effect == selected_;
            part.press = [this, effect = row.effect] { emit effectChosen(effect); };
        }
        out.push_back(std::move(part));
    }
    return out;
}

void WayRows::drawRow(QPainter& painter, const Row& row, double top) const {
    const Coefficient& effect = answer_->trace->effectRows[static_cast<std::size_t>(row.effect)];
    const QStringList own = cells(row.effect);
    const QRectF area(0, top, width(), kHeight);
    if (row.effect == selected_) {
        painter.fillRect(area, colour::kAccentWash);
    }
    painter.setPen(QPen(colour::kHairline, 1));
    painter.drawLine(area.bottomLeft(), area.bottomRight());
    painter.setPen(colour::kInk);
    painter.setFont(interfaceFont(13, true));
    painter.drawText(
        QRectF(2, top, kNames - 8, kHeight), Qt::AlignLeft | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(row.name, Qt::ElideRight, static_cast<int>(kNames) - 10));
    const QRectF axis(kNames, top + 3, std::max(width() - kNames - kDigits, 60.0), kHeight - 6);
    const double span = std::max(row.high - row.low, 1e-300);
    const auto at = [&](double v) {
        return axis.left() + (std::clamp(v, row.low, row.high) - row.low) / span * axis.width();
    };
    painter.setPen(QPen(colour::kSoft, 1));
    painter.drawLine(QPointF(at(0.0), top), QPointF(at(0.0), top + kHeight));
    drawLens(painter, axis, effect, at, colour::kAccent);
    painter.setPen(colour::kInk);
    painter.setFont(interfaceFont(13, true));
    const double right = width() - kDigits;
    painter.drawText(QRectF(right, top, 74, kHeight), Qt::AlignRight | Qt::AlignVCenter, own[1]);
    painter.setFont(interfaceFont(13));
    painter.drawText(QRectF(right + 80, top, 122, kHeight), Qt::AlignRight | Qt::AlignVCenter,
                     own[2]);
    painter.drawText(QRectF(right + 206, top, 60, kHeight), Qt::AlignRight | Qt::AlignVCenter,
                     own[3]);
}

void WayRows::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setOpacity(fresh_ ? 1.0 : 0.45);
    double top = 0.0;
    bool first = true;
    for (const Row& row : rows_) {
        if (row.effect >= 0) {
            drawRow(painter, row, top);
            top += kHeight;
            continue;
        }
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(12));
        painter.drawText(QRectF(2, top, width() - kDigits, kHead), Qt::AlignLeft | Qt::AlignVCenter,
                         row.name);
        if (first) {
            const double right = width() - kDigits;
            painter.drawText(QRectF(right, top, 74, kHead), Qt::AlignRight | Qt::AlignVCenter,
                             tr("effect"));
            const QString level = numbered(shortNumber(100.0 * (1.0 - answer_->alpha), 3));
            painter.drawText(QRectF(right + 80, top, 122, kHead), Qt::AlignRight | Qt::AlignVCenter,
                             tr("%1 % interval").arg(level));
            painter.drawText(QRectF(right + 206, top, 60, kHead), Qt::AlignRight | Qt::AlignVCenter,
                             "p");
            first = false;
        }
        painter.setPen(QPen(colour::kSoft, 1));
        painter.drawLine(QPointF(0, top + kHead), QPointF(width(), top + kHead));
        top += kHead;
    }
    if (hasFocus()) {
        painter.setPen(QPen(colour::kAccent, 1, Qt::DotLine));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(rect().adjusted(0, 0, -1, -1));
    }
}

void WayRows::mousePressEvent(QMouseEvent* event) {
    double top = 0.0;
    for (const Row& row : rows_) {
        const double height = row.effect < 0 ? kHead : kHeight;
        if (row.effect >= 0 && event->position().y() >= top &&
            event->position().y() < top + height) {
            emit effectChosen(row.effect);
        }
        top += height;
    }
}

void WayRows::keyPressEvent(QKeyEvent* event) {
    std::vector<int> order;
    for (const Row& row : rows_) {
        if (row.effect >= 0) {
            order.push_back(row.effect);
        }
    }
    const auto here = std::find(order.begin(), order.end(), selected_);
    const bool down = event->key() == Qt::Key_Down;
    if (order.empty() || (!down && event->key() != Qt::Key_Up)) {
        QWidget::keyPressEvent(event);
        return;
    }
    if (here == order.end()) {
        emit effectChosen(order.front());
    } else if (down && here + 1 != order.end()) {
        emit effectChosen(*(here + 1));
    } else if (!down && here != order.begin()) {
        emit effectChosen(*(here - 1));
    }
}

}  // namespace rapporto::app
