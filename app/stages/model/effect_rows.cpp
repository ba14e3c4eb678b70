#include "app/stages/model/effect_rows.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/likelihood.h"
#include "core/model/term_test.h"
#include "core/picture/axis.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

#include <cmath>

namespace rapporto::app {
namespace {

constexpr double kHead = 26.0;
constexpr double kRow = 39.0;
constexpr double kHeading = 30.0;
constexpr double kNames = 190.0;
constexpr double kNumbers = 250.0;

}  // namespace

EffectRows::EffectRows(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Effects"));
    tellParts();
}

void EffectRows::showAnswer(std::shared_ptr<const Answer> answer, bool fresh, EffectScale scale) {
    answer_ = std::move(answer);
    fresh_ = fresh;
    scale_ = scale;
    layoutRows();
    updateGeometry();
    setMinimumHeight(sizeHint().height());
    update();
}

void EffectRows::showSelected(int coefficient) {
    selected_ = coefficient;
    update();
    tellChosen(*this);
}

void EffectRows::layoutRows() {
    rows_.clear();
    if (!answer_ || !answer_->fit) {
        return;
    }
    const Fit& fit = *answer_->fit;
    int constant = -1;
    int last = -1;
    std::string equation = "main";
    const auto close = [&] {
        if (constant >= 0) {
            rows_.push_back({constant, tr("constant"), {}, false, -1});
        }
        constant = -1;
        last = -1;
    };
    for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
        const Coefficient& one = fit.coefficients[c];
        if (one.equation != equation) {
            close();
            equation = one.equation;
            rows_.push_back({-1, equationName(equation), {}, false, -2});
        }
        if (one.designTerm < 0 && one.term != "(constant)") {
            // A cut, a dispersion, a term of the part for zeros.
            rows_.push_back({static_cast<int>(c), termText(one.term), {}, false, -1});
            continue;
        }
        if (one.designTerm < 0) {
            constant = static_cast<int>(c);
            continue;
        }
        const DesignTerm& term = answer_->design->terms[static_cast<std::size_t>(one.designTerm)];
        if (term.groups && one.designTerm != last) {
            QString detail = term.label == term.name
                                 ? tr("base: %1").arg(text(term.base))
                                 : tr("%1 (base: %2)").arg(text(term.label), text(term.base));
            if (isFolded(term.name)) {
                detail += tr(" · %1 levels").arg(term.columns.size() + 1);
            }
            if (const auto together = testTerm(fit, one.designTerm)) {
                detail += tr(" · together %1").arg(numbered(pClause(together->p)));
            }
            rows_.push_back({-1, termText(term.name), detail, false, one.designTerm});
        }
        last = one.designTerm;
        if (term.groups && isFolded(term.name)) {
            continue;
        }
        const QString detail =
            term.label == shownNames(one.term)
                ? QString()
                : text(term.label) + (term.yesNo          ? tr(": yes")
                                      : term.unit.empty() ? QString()
                                                          : ", " + text(term.unit));
        rows_.push_back({static_cast<int>(c), term.groups ? text(one.label) : termText(one.term),
                         term.groups ? QString() : detail, term.groups, -1});
    }
    close();
}

QString EffectRows::equationName(const std::string& equation) const {
    if (equation == "zero") {
        const LikelihoodFit* told = answer_->fit->likelihood.get();
        return told != nullptr && told->family->zeros == Family::Zeros::Hurdle
                   ? tr("whether there is any")
                   : tr("whether there can be any: log odds of none");
    }
    if (equation == "cut") {
        return tr("cuts between the levels");
    }
    if (equation == "dispersion") {
        return tr("spread beyond the mean");
    }
    if (equation == "spread") {
        return tr("spread");
    }
    if (equation == "seen") {
        return tr("whether it is seen: probit");
    }
    if (equation == "first") {
        return tr("the term that is moved, by its instruments");
    }
    if (equation == "correlation") {
        return tr("how the two equations’ errors go together");
    }
    return text(equation);
}

bool EffectRows::isFolded(const std::string& term) const {
    const auto chosen = folded_.find(term);
    if (chosen != folded_.end()) {
        return chosen->second;
    }
    constexpr std::size_t kMany = 12;
    for (const DesignTerm& one : answer_->design->terms) {
        if (one.name == term) {
            return one.columns.size() > kMany;
        }
    }
    return false;
}

void EffectRows::toggle(int term) {
    const std::string& name = answer_->design->terms[static_cast<std::size_t>(term)].name;
    folded_[name] = !isFolded(name);
    layoutRows();
    setMinimumHeight(sizeHint().height());
    updateGeometry();
    update();
}

double EffectRows::headingTop(const std::string& term) const {
    double top = kHead;
    for (const Row& row : rows_) {
        if (row.term >= 0 &&
            answer_->design->terms[static_cast<std::size_t>(row.term)].name == term) {
            return top;
        }
        top += row.coefficient < 0 ? kHeading : kRow;
    }
    return -1.0;
}

Coefficient EffectRows::scaled(const Coefficient& c) const {
    Coefficient out = c;
    double factor = 1.0;
    if (scale_ == EffectScale::Standardised && c.standardised && c.estimate != 0.0) {
        factor = *c.standardised / c.estimate;
    }
    out.estimate *= factor;
    out.se *= std::abs(factor);
    out.low *= factor;
    out.high *= factor;
    if (scale_ == EffectScale::Ratio && hasRatio(c)) {
        out.se = std::exp(c.estimate) * c.se;
        out.estimate = std::exp(c.estimate);
        out.low = std::exp(c.low);
        out.high = std::exp(c.high);
    }
    if (scale_ == EffectScale::Percent) {
        // Exact, not 100·b: the interval's ends go through the same curve.
        out.se = 100.0 * std::exp(c.estimate) * c.se;
        out.estimate = 100.0 * std::expm1(c.estimate);
        out.low = 100.0 * std::expm1(c.low);
        out.high = 100.0 * std::expm1(c.high);
    }
    return out;
}

/// Terms of the index; not cuts and spreads.
bool EffectRows::hasRatio(const Coefficient& c) {
    return c.designTerm >= 0 ||
           (c.term != "(constant)" && (c.equation == "zero" || c.equation.starts_with("to ")));
}

QStringList EffectRows::cells(int coefficient) const {
    if (!answer_ || !answer_->fit || coefficient < 0) {
        return {};
    }
    const Coefficient& raw = answer_->fit->coefficients[static_cast<std::size_t>(coefficient)];
    const bool none = (scale_ == EffectScale::Standardised && !raw.standardised) ||
                      (scale_ == EffectScale::Outcome && raw.designTerm < 0);
    if (none) {
        return {text(raw.term), "–", "–", "–", "–"};
    }
    const Coefficient c = scaled(raw);
    const int decimals = decimalsFor(c.se);
    return {text(c.term), numbered(fixedNumber(c.estimate, decimals, true)),
            numbered(fixedNumber(c.se, decimals, true)),
            c.statistic ? numbered(fixedNumber(*c.statistic, 2)) : QString("–"),
            c.p ? numbered(pText(*c.p)) : QString("–")};
}

QSize EffectRows::sizeHint() const {
    double height = kHead + 8;
    for (const Row& row : rows_) {
        height += row.coefficient < 0 ? kHeading : kRow;
    }
    return {640, static_cast<int>(height)};
}

std::vector<ToldPart> EffectRows::toldParts() {
    std::vector<ToldPart> out;
    double top = kHead;
    for (const Row& row : rows_) {
        const double height = row.coefficient < 0 ? kHeading : kRow;
        ToldPart part;
        part.place = QRectF(0, top, width(), height).toRect();
        part.name = row.detail.isEmpty() ? row.name : row.name + ", " + row.detail;
        top += height;
        if (row.coefficient < 0) {
            part.role = QAccessible::Heading;
            if (row.term >= 0) {
                part.press = [this, term = row.term] { toggle(term); };
            }
        } else {
            const QStringList own = cells(row.coefficient);
            const Coefficient& raw =
                answer_->fit->coefficients[static_cast<std::size_t>(row.coefficient)];
            const Coefficient c = scaled(raw);
            const int decimals = decimalsFor(c.se);
            part.name += tr(": %1, std. error %2, p %3").arg(own[1], own[2], own[4]);
            if (own[1] != "–") {
                part.name += tr(", from %1 to %2")
                                 .arg(numbered(fixedNumber(c.low, decimals, true)),
                                      numbered(fixedNumber(c.high, decimals, true)));
            }
            part.chosen = row.coefficient == selected_;
            part.press = [this, coefficient = row.coefficient] {
                emit coefficientChosen(coefficient);
            };
        }
        out.push_back(std::move(part));
    }
    return out;
}

double EffectRows::rowTop(int coefficient) const {
    double top = kHead;
    for (const Row& row : rows_) {
        if (row.coefficient == coefficient) {
            return top;
        }
        top += row.coefficient < 0 ? kHeading : kRow;
    }
    return -1.0;
}

void EffectRows::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    if (!answer_ || !answer_->fit) {
        return;
    }
    painter.setOpacity(fresh_ ? 1.0 : 0.45);
    // The axis covers all slopes, but one very wide interval does not squeeze the others.
    // Ratios stand where their logarithms do, so that half and twice are as far from one.
    const bool ratio = scale_ == EffectScale::Ratio;
    std::vector<double> reach;
    for (const Coefficient& c : answer_->fit->coefficients) {
        if (c.designTerm >= 0) {
            const Coefficient s = ratio ? c : scaled(c);
            reach.push_back(std::max(std::abs(s.low), std::abs(s.high)));
        }
    }
    std::sort(reach.begin(), reach.end());
    double limit = reach.empty() ? 1.0 : reach.back();
    if (reach.size() > 3) {
        limit = std::min(limit, 3.0 * reach[reach.size() - 2]);
    }
    // Every estimate itself stands on the axis.
    for (const Coefficient& c : answer_->fit->coefficients) {
        if (c.designTerm >= 0) {
            limit = std::max(limit, 1.1 * std::abs((ratio ? c : scaled(c)).estimate));
        }
    }
    limit = limit > 0.0 ? limit * 1.08 : 1.0;
    const QRectF axis(kNames, kHead, width() - kNames - kNumbers, height() - kHead);
    const auto at = [&](double v) { return axis.center().x() + v / limit * axis.width() / 2.0; };

    painter.setFont(interfaceFont(11));
    painter.setPen(colour::kSoft);
    painter.drawText(QRectF(0, 0, 100, kHead - 4), Qt::AlignLeft | Qt::AlignVCenter, tr("term"));
    std::vector<double> ticks = roundPlaces(-limit, limit, 4);
    if (ratio) {
        ticks.clear();
        double last = -1e9;
        for (const double place : {0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 0.667, 0.8, 0.9, 1.0, 1.1, 1.25,
                                   1.5, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0}) {
            const double x = at(std::log(place));
            const bool room =
                place == 1.0 || (x - last > 46.0 && (place > 1.0 || at(0.0) - x > 46.0));
            if (std::abs(std::log(place)) < limit && room) {
                ticks.push_back(std::log(place));
                last = x;
            }
        }
    }
    for (const double t : ticks) {
        const QString label = ratio ? "×" + numbered(shortNumber(std::exp(t), 3))
                                    : (t > 0 ? "+" : "") + numbered(shortNumber(t, 3)) +
                                          (scale_ == EffectScale::Percent && t != 0.0 ? " %" : "");
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(at(t) - 40, 0, 80, kHead - 4), Qt::AlignCenter, label);
        painter.setPen(QPen(t == 0.0 ? colour::kSoft : colour::kHairline, t == 0.0 ? 1.4 : 1.0));
        painter.drawLine(QPointF(at(t), kHead), QPointF(at(t), sizeHint().height() - 8));
    }
    const bool normal =
        !answer_->fit->coefficients.empty() && !answer_->fit->coefficients.front().df;
    const QStringList heads = {tr("estimate"), tr("std. error"), normal ? "z" : "t", "p"};
    const double columns[] = {width() - 184.0, width() - 116.0, width() - 60.0, width() - 6.0};
    painter.setPen(colour::kSoft);
    for (int h = 0; h < 4; ++h) {
        painter.drawText(QRectF(columns[h] - 80, 0, 80, kHead - 4),
                         Qt::AlignRight | Qt::AlignVCenter, heads[h]);
    }
    double top = kHead;
    for (const Row& row : rows_) {
        drawRow(painter, row, top, at, axis);
        top += row.coefficient < 0 ? kHeading : kRow;
    }
}

void EffectRows::drawRow(QPainter& painter, const Row& row, double top,
                         const std::function<double(double)>& at, const QRectF& axis) const {
    const double height = row.coefficient < 0 ? kHeading : kRow;
    const bool chosen = row.coefficient >= 0 && row.coefficient == selected_;
    if (chosen) {
        QColor wash = colour::kAccent;
        wash.setAlpha(hasFocus() ? 30 : 20);
        painter.fillRect(QRectF(0, top, width(), height), wash);
        painter.fillRect(QRectF(0, top, 3, height), colour::kAccent);
    }
    painter.setPen(QPen(colour::kHairline, 1));
    painter.drawLine(QPointF(0, top + height), QPointF(width(), top + height));
    const double left = row.indented ? 26.0 : 10.0;
    painter.setPen(colour::kInk);
    painter.setFont(interfaceFont(13, true));
    if (row.term == -2) {
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(left, top, width() - left, height),
                         Qt::AlignLeft | Qt::AlignVCenter, row.name);
        return;
    }
    if (row.coefficient < 0) {
        // A wedge that points down where the levels stand below, to the side where they do not.
        const bool folded =
            isFolded(answer_->design->terms[static_cast<std::size_t>(row.term)].name);
        const QPointF tip(left - 1, top + height / 2);
        painter.setPen(Qt::NoPen);
        painter.setBrush(colour::kAccent);
        painter.drawPolygon(folded ? QPolygonF({tip + QPointF(-5, -4), tip + QPointF(-5, 4), tip})
                                   : QPolygonF({tip + QPointF(-7, -2), tip + QPointF(1, -2),
                                                tip + QPointF(-3, 3)}));
        painter.setPen(colour::kInk);
        painter.drawText(QRectF(left + 4, top, 300, height), Qt::AlignLeft | Qt::AlignVCenter,
                         row.name);
        const int used = painter.fontMetrics().horizontalAdvance(row.name);
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(left + used + 16, top, width() - left - used - 20, height),
                         Qt::AlignLeft | Qt::AlignVCenter, row.detail);
        return;
    }
    const double room = kNames - left - 6;
    const bool two = !row.detail.isEmpty();
    painter.drawText(
        QRectF(left, top + (two ? 4 : 0), room, two ? 17 : height),
        Qt::AlignLeft | Qt::AlignVCenter,
        painter.fontMetrics().elidedText(row.name, Qt::ElideRight, static_cast<int>(room)));
    if (two) {
        painter.setFont(interfaceFont(11));
        painter.setPen(colour::kSoft);
        painter.drawText(
            QRectF(left, top + 20, room, 14), Qt::AlignLeft | Qt::AlignVCenter,
            painter.fontMetrics().elidedText(row.detail, Qt::ElideRight, static_cast<int>(room)));
    }
    const Coefficient c =
        scaled(answer_->fit->coefficients[static_cast<std::size_t>(row.coefficient)]);
    const bool shown =
        c.designTerm >= 0 && !(scale_ == EffectScale::Standardised && !c.standardised);
    if (shown) {
        if (scale_ == EffectScale::Ratio) {
            drawLens(painter, QRectF(axis.left(), top + 3, axis.width(), height - 6),
                     answer_->fit->coefficients[static_cast<std::size_t>(row.coefficient)], at,
                     chosen ? colour::kAccent : colour::kBlue);
        } else if (scale_ == EffectScale::Percent) {
            // The lens keeps its p by value: its axis bends with the percentages.
            const Coefficient& raw =
                answer_->fit->coefficients[static_cast<std::size_t>(row.coefficient)];
            drawLens(
                painter, QRectF(axis.left(), top + 3, axis.width(), height - 6), raw,
                [&](double v) { return at(100.0 * std::expm1(v)); },
                chosen ? colour::kAccent : colour::kBlue);
        } else {
            drawLens(painter, QRectF(axis.left(), top + 3, axis.width(), height - 6), c, at,
                     chosen ? colour::kAccent : colour::kBlue);
        }
    }
    const QStringList texts = cells(row.coefficient);
    const double columns[] = {width() - 184.0, width() - 116.0, width() - 60.0, width() - 6.0};
    for (int k = 0; k < 4; ++k) {
        painter.setFont(interfaceFont(13, k == 0));
        painter.setPen(colour::kInk);
        painter.drawText(QRectF(columns[k] - 90, top, 90, height),
                         Qt::AlignRight | Qt::AlignVCenter, texts[k + 1]);
    }
}

void EffectRows::mousePressEvent(QMouseEvent* event) {
    double top = kHead;
    for (const Row& row : rows_) {
        const double height = row.coefficient < 0 ? kHeading : kRow;
        if (row.coefficient >= 0 && event->position().y() >= top &&
            event->position().y() < top + height) {
            emit coefficientChosen(row.coefficient);
        } else if (row.term >= 0 && event->position().y() >= top &&
                   event->position().y() < top + height) {
            toggle(row.term);
            return;
        }
        top += height;
    }
}

void EffectRows::keyPressEvent(QKeyEvent* event) {
    if ((event->key() == Qt::Key_Left || event->key() == Qt::Key_Right) && selected_ >= 0 &&
        answer_ && answer_->fit) {
        // Left folds the levels that the chosen one belongs to, right shows them again.
        const int term = answer_->fit->coefficients[static_cast<std::size_t>(selected_)].designTerm;
        const bool groups =
            term >= 0 && answer_->design->terms[static_cast<std::size_t>(term)].groups;
        if (groups && isFolded(answer_->design->terms[static_cast<std::size_t>(term)].name) ==
                          (event->key() == Qt::Key_Right)) {
            toggle(term);
        }
        return;
    }
    if (event->key() != Qt::Key_Up && event->key() != Qt::Key_Down) {
        QWidget::keyPressEvent(event);
        return;
    }
    std::vector<int> order;
    for (const Row& row : rows_) {
        if (row.coefficient >= 0) {
            order.push_back(row.coefficient);
        }
    }
    const auto here = std::find(order.begin(), order.end(), selected_);
    if (order.empty()) {
        return;
    }
    if (here == order.end()) {
        emit coefficientChosen(order.front());
    } else if (event->key() == Qt::Key_Down && here + 1 != order.end()) {
        emit coefficientChosen(*(here + 1));
    } else if (event->key() == Qt::Key_Up && here != order.begin()) {
        emit coefficientChosen(*(here - 1));
    }
}

}  // namespace rapporto::app
