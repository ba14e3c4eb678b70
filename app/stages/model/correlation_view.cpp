#include "app/stages/model/correlation_view.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/wording.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto::app {
namespace {

constexpr double kNames = 132.0;  // Width of the names at the left.
constexpr double kHead = 26.0;

/// Paper to full colour by the size of r.
QColor shadeOf(double r) {
    const QColor full = r >= 0.0 ? colour::kBlue : colour::kClay;
    const double share = 0.72 * std::min(std::abs(r), 1.0);
    const auto mix = [&](int paper, int ink) {
        return static_cast<int>(std::lround(paper + share * (ink - paper)));
    };
    return {mix(colour::kGround.red(), full.red()), mix(colour::kGround.green(), full.green()),
            mix(colour::kGround.blue(), full.blue())};
}

}  // namespace

CorrelationView::CorrelationView(QWidget* parent) : QWidget(parent) {
    setObjectName("correlations");
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Correlations"));
    tellParts();
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Expanding);
}

void CorrelationView::showAnswer(std::shared_ptr<const Answer> answer, bool fresh, bool similar) {
    answer_ = std::move(answer);
    fresh_ = fresh;
    order_.clear();
    if (answer_ && answer_->correlations) {
        const auto p = static_cast<std::size_t>(answer_->correlations->r.rows());
        order_.resize(p);
        std::iota(order_.begin(), order_.end(), 0);
        if (similar) {
            const auto chain = orderBySimilarity(answer_->correlations->r);
            std::transform(chain.begin(), chain.end(), order_.begin(),
                           [](std::size_t k) { return static_cast<int>(k); });
        }
        if (chosenA_ >= static_cast<int>(p) || chosenB_ >= static_cast<int>(p)) {
            chosenA_ = chosenB_ = -1;
        }
        setAccessibleDescription(numbered(answerReading(*answer_)));
    }
    update();
}

void CorrelationView::choose(int a, int b) {
    chosenA_ = a;
    chosenB_ = b;
    update();
    tellChosen(*this);
}

std::vector<ToldPart> CorrelationView::toldParts() {
    std::vector<ToldPart> out;
    if (!answer_ || !answer_->correlations) {
        return out;
    }
    const CorrelationTable& t = *answer_->correlations;
    const int p = static_cast<int>(order_.size());
    for (int row = 0; row < p; ++row) {
        for (int column = 0; column < row; ++column) {
            const int a = order_[static_cast<std::size_t>(row)];
            const int b = order_[static_cast<std::size_t>(column)];
            ToldPart part;
            part.place = cell(row, column).toRect();
            part.name =
                tr("%1 and %2: %3")
                    .arg(text(t.variables[static_cast<std::size_t>(a)]),
                         text(t.variables[static_cast<std::size_t>(b)]),
                         std::isfinite(t.r(a, b)) ? numbered(fixedNumber(t.r(a, b), 2, true))
                                                  : QString("–"));
            if (std::isfinite(t.p(a, b))) {
                part.name += ", " + numbered(pClause(t.p(a, b)));
            }
            part.chosen = (a == chosenA_ && b == chosenB_) || (b == chosenA_ && a == chosenB_);
            part.press = [this, a, b] { emit pairChosen(a, b); };
            out.push_back(std::move(part));
        }
    }
    return out;
}

QRectF CorrelationView::cell(int row, int column) const {
    const auto p = static_cast<double>(order_.size());
    const double width = std::min((static_cast<double>(this->width()) - kNames) / p, 148.0);
    const double height = std::min((static_cast<double>(this->height()) - kHead - 4.0) / p, 76.0);
    return {kNames + width * column, kHead + height * row, width, height};
}

QRectF CorrelationView::cellOf(int a, int b) const {
    const auto place = [&](int variable) {
        return static_cast<int>(std::find(order_.begin(), order_.end(), variable) - order_.begin());
    };
    return cell(place(a), place(b));
}

std::pair<int, int> CorrelationView::at(QPointF point) const {
    for (int row = 0; row < static_cast<int>(order_.size()); ++row) {
        for (int column = 0; column < static_cast<int>(order_.size()); ++column) {
            if (cell(row, column).contains(point)) {
                return {row, column};
            }
        }
    }
    return {-1, -1};
}

void CorrelationView::paintEvent(QPaintEvent* /*event*/) {
    if (!answer_ || !answer_->correlations) {
        return;
    }
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setOpacity(fresh_ ? 1.0 : 0.45);
    const CorrelationTable& t = *answer_->correlations;
    const int p = static_cast<int>(order_.size());
    const auto name = [&](int place) {
        return text(t.variables[static_cast<std::size_t>(order_[static_cast<std::size_t>(place)])]);
    };
    painter.setFont(interfaceFont(12));
    const QFontMetrics metrics(painter.font());
    for (int k = 0; k < p; ++k) {
        painter.setPen(colour::kInk);
        const QRectF left(0, cell(k, 0).top(), kNames - 10, cell(k, 0).height());
        painter.drawText(
            left, Qt::AlignRight | Qt::AlignVCenter,
            metrics.elidedText(name(k), Qt::ElideMiddle, static_cast<int>(kNames) - 12));
        painter.setPen(colour::kSoft);
        const QRectF head(cell(0, k).left() + 3, 0, cell(0, k).width() - 6, kHead - 4);
        painter.drawText(
            head, Qt::AlignHCenter | Qt::AlignBottom,
            metrics.elidedText(name(k), Qt::ElideMiddle, static_cast<int>(head.width())));
    }
    for (int row = 0; row < p; ++row) {
        for (int column = 0; column < p; ++column) {
            const QRectF area = cell(row, column).adjusted(1.5, 1.5, -1.5, -1.5);
            const int a = order_[static_cast<std::size_t>(row)];
            const int b = order_[static_cast<std::size_t>(column)];
            if (row == column) {
                painter.setPen(colour::kSoft);
                painter.drawText(
                    area, Qt::AlignCenter,
                    tr("n %1").arg(numbered(countText(static_cast<std::size_t>(t.n(a, a))))));
            } else if (row > column) {
                drawShade(painter, area, a, b);
            } else {
                drawDigits(painter, area, a, b);
            }
            const bool chosen =
                (a == chosenA_ && b == chosenB_) || (a == chosenB_ && b == chosenA_);
            if (chosen) {
                painter.setBrush(Qt::NoBrush);
                painter.setPen(QPen(colour::kAccent, 2));
                painter.drawRect(area);
            }
        }
    }
}

void CorrelationView::drawShade(QPainter& painter, const QRectF& area, int a, int b) const {
    const CorrelationTable& t = *answer_->correlations;
    const double r = t.r(a, b);
    if (std::isnan(r)) {
        painter.fillRect(area, QBrush(colour::kHairline, Qt::BDiagPattern));
        return;
    }
    painter.fillRect(area, shadeOf(r));
    const double low = t.low(a, b);
    const double high = t.high(a, b);
    const auto x = [&](double value) {
        return area.left() + 6.0 + (value + 1.0) / 2.0 * (area.width() - 12.0);
    };
    const bool dark = std::abs(r) > 0.55;
    const QColor ink = dark ? colour::kField : colour::kInk;
    const double middle = area.center().y();
    painter.setPen(
        QPen(dark ? QColor(colour::kField.red(), colour::kField.green(), colour::kField.blue(), 150)
                  : colour::kSoft,
             1));
    painter.drawLine(QPointF(x(0.0), middle - 9), QPointF(x(0.0), middle + 9));
    // A bar from zero to r, and the interval on its end.
    const double tall = std::min(14.0, area.height() * 0.3);
    painter.fillRect(QRectF(QPointF(std::min(x(0.0), x(r)), middle - tall / 2.0),
                            QPointF(std::max(x(0.0), x(r)), middle + tall / 2.0)),
                     r >= 0.0 ? colour::kBlue : colour::kClay);
    painter.setPen(QPen(ink, 1.6));
    if (std::isfinite(low) && std::isfinite(high)) {
        painter.drawLine(QPointF(x(low), middle), QPointF(x(high), middle));
        for (const double end : {low, high}) {
            painter.drawLine(QPointF(x(end), middle - 4), QPointF(x(end), middle + 4));
        }
    }
}

void CorrelationView::drawDigits(QPainter& painter, const QRectF& area, int a, int b) const {
    const CorrelationTable& t = *answer_->correlations;
    const double r = t.r(a, b);
    const bool tall = area.height() > 54;
    painter.setPen(colour::kInk);
    painter.setFont(interfaceFont(tall ? 15 : 12, true));
    painter.drawText(tall ? QRectF(area.left(), area.center().y() - 27, area.width(), 22) : area,
                     Qt::AlignCenter,
                     std::isnan(r) ? QString("–") : numbered(fixedNumber(r, 2, true)));
    if (!tall) {
        return;
    }
    painter.setFont(interfaceFont(11));
    painter.setPen(colour::kSoft);
    const QString p =
        std::isnan(t.p(a, b)) ? QString() : tr("p %1").arg(numbered(pText(t.p(a, b))));
    const QString n = tr("n %1").arg(numbered(countText(static_cast<std::size_t>(t.n(a, b)))));
    painter.drawText(QRectF(area.left(), area.center().y() - 5, area.width(), 15), Qt::AlignCenter,
                     p);
    painter.drawText(QRectF(area.left(), area.center().y() + 10, area.width(), 15), Qt::AlignCenter,
                     n);
    painter.setFont(interfaceFont(12));
}

void CorrelationView::mousePressEvent(QMouseEvent* event) {
    const auto [row, column] = at(event->position());
    if (row < 0 || row == column) {
        return;
    }
    choose(order_[static_cast<std::size_t>(row)], order_[static_cast<std::size_t>(column)]);
    emit pairChosen(chosenA_, chosenB_);
}

void CorrelationView::mouseDoubleClickEvent(QMouseEvent* event) {
    mousePressEvent(event);
    if (chosenA_ >= 0) {
        emit pairOpened(chosenA_, chosenB_);
    }
}

void CorrelationView::keyPressEvent(QKeyEvent* event) {
    const int p = static_cast<int>(order_.size());
    const auto place = [&](int variable) {
        return static_cast<int>(std::find(order_.begin(), order_.end(), variable) - order_.begin());
    };
    if (p < 2) {
        QWidget::keyPressEvent(event);
        return;
    }
    if (chosenA_ < 0) {
        choose(order_[1], order_[0]);
        emit pairChosen(chosenA_, chosenB_);
        return;
    }
    int row = place(chosenA_);
    int column = place(chosenB_);
    switch (event->key()) {
        case Qt::Key_Up:
            row = std::max(row - 1, 0);
            row = row == column ? row - 1 : row;
            break;
        case Qt::Key_Down:
            row = std::min(row + 1, p - 1);
            row = row == column ? row + 1 : row;
            break;
        case Qt::Key_Left:
            column = std::max(column - 1, 0);
            column = row == column ? column - 1 : column;
            break;
        case Qt::Key_Right:
            column = std::min(column + 1, p - 1);
            column = row == column ? column + 1 : column;
            break;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            emit pairOpened(chosenA_, chosenB_);
            return;
        default:
            QWidget::keyPressEvent(event);
            return;
    }
    if (row >= 0 && column >= 0 && row < p && column < p && row != column) {
        choose(order_[static_cast<std::size_t>(row)], order_[static_cast<std::size_t>(column)]);
        emit pairChosen(chosenA_, chosenB_);
    }
}

}  // namespace rapporto::app
