#include "app/stages/model/fit_strip.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"
#include "core/report/wording.h"

#include <QFontMetrics>
#include <QPainter>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

constexpr int kTop = 6;    ///< The rule and what is between it and the names.
constexpr int kName = 16;  ///< Heights of a line's two rows.
constexpr int kValue = 20;
constexpr int kLeft = 3;
constexpr int kGap = 26;
constexpr int kLeastGap = 14;

}  // namespace

FitStrip::FitStrip(QWidget* parent) : QWidget(parent) {
    tellParts();
    setAccessibleName(tr("Figures of the whole fit"));
    setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    place();
}

void FitStrip::showAnswer(const Answer& answer) {
    cells_ = cellsOf(answer);
    place();
    update();
}

std::vector<ToldPart> FitStrip::toldParts() {
    std::vector<ToldPart> out;
    for (const Cell& cell : cells_) {
        out.push_back({cell.name + ": " + cell.value, cell.place, QAccessible::StaticText});
    }
    return out;
}

void FitStrip::place() {
    const QFontMetrics names(interfaceFont(12));
    const QFontMetrics values(interfaceFont(15));
    int natural = kLeft;
    for (Cell& cell : cells_) {
        const int wide =
            std::max(names.horizontalAdvance(cell.name), values.horizontalAdvance(cell.value));
        cell.place = QRect(0, 0, wide + 1, kName + kValue);
        natural += cell.place.width();
    }
    const auto gaps = std::max(1, static_cast<int>(cells_.size()) - 1);
    const int gap = std::clamp((width() - natural) / gaps, kLeastGap, kGap);
    int x = kLeft;
    int y = kTop;
    for (Cell& cell : cells_) {
        if (x > kLeft && x + cell.place.width() > width()) {
            x = kLeft;
            y += kName + kValue;
        }
        cell.place.moveTo(x, y);
        x += cell.place.width() + gap;
    }
    setFixedHeight(y + kName + kValue);
}

void FitStrip::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    place();
}

void FitStrip::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.fillRect(0, 0, width(), 2, colour::kSoft);
    for (const Cell& cell : cells_) {
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kSoft);
        painter.drawText(cell.place.adjusted(0, 0, 0, -kValue), Qt::AlignLeft | Qt::AlignVCenter,
                         cell.name);
        painter.setFont(interfaceFont(15));
        painter.setPen(colour::kInk);
        painter.drawText(cell.place.adjusted(0, kName, 0, 0), Qt::AlignLeft | Qt::AlignVCenter,
                         cell.value);
    }
}

std::vector<FitStrip::Cell> FitStrip::cellsOf(const Answer& answer) {
    const FitStatistics& s = answer.fit->statistics;
    std::vector<Cell> cells = {{tr("rows"), numbered(countText(answer.rows.used))}};
    const auto add = [&cells](const QString& name, const QString& value) {
        cells.push_back({name, value});
    };
    if (std::isfinite(s.sigma)) {
        add(answer.fit->robust ? tr("scale") : QString("σ"), numbered(shortNumber(s.sigma, 3)));
    }
    if (answer.fit->likelihood) {
        const LikelihoodFit& told = *answer.fit->likelihood;
        add(tr("log-likelihood"), numbered(fixedNumber(told.logLikelihood, 1)));
        if (const auto share = told.pseudoRSquared()) {
            add(tr("McFadden"), numbered(fixedNumber(*share, 3, true)));
        }
        if (told.dispersion) {
            add("α", numbered(shortNumber(*told.dispersion, 3)));
        }
    }
    if (answer.fit->levels) {
        const LevelsFit& told = *answer.fit->levels;
        if (std::isfinite(told.shareBetween())) {
            add(tr("between groups"), numbered(fixedNumber(100.0 * told.shareBetween(), 1)) + " %");
        }
        if (!answer.fit->likelihood) {
            add(told.restricted ? tr("restricted ln L") : tr("ln L"),
                numbered(fixedNumber(-0.5 * told.deviance, 1)));
        }
    }
    if (answer.fit->quantile) {
        for (const QuantileFit::Point& point : answer.fit->quantile->points) {
            add(tr("goodness at %1").arg(numbered(shortNumber(point.at, 3))),
                numbered(fixedNumber(point.goodness, 3, true)));
        }
    }
    if (s.rSquared) {
        cells.insert(cells.begin() + 1,
                     {s.uncentred && !s.overall ? tr("R² about zero") : QString("R²"),
                      numbered(fixedNumber(*s.rSquared, 3, true))});
    }
    if (s.adjustedRSquared && !s.overall) {
        cells.insert(cells.begin() + 2,
                     {tr("adjusted"), numbered(fixedNumber(*s.adjustedRSquared, 3, true))});
    }
    for (const auto& [name, value] :
         {std::pair(tr("within"), s.within), std::pair(tr("between"), s.between),
          std::pair(tr("overall"), s.overall)}) {
        if (value && value != s.rSquared) {
            add(name, numbered(fixedNumber(*value, 3, true)));
        }
    }
    if (s.f && !std::isfinite(s.f->df2)) {
        add(QString("χ²(%1)").arg(numbered(shortNumber(s.f->df1))),
            numbered(shortNumber(s.f->value * s.f->df1, 3)));
        add("p", numbered(pText(s.f->p)));
    } else if (s.f) {
        add(QString("F(%1, %2)")
                .arg(numbered(shortNumber(s.f->df1)), numbered(shortNumber(s.f->df2))),
            numbered(shortNumber(s.f->value, 3)));
        add("p", numbered(pText(s.f->p)));
    }
    if (s.aic) {
        add("AIC", numbered(fixedNumber(*s.aic, 1)));
        add("BIC", numbered(fixedNumber(*s.bic, 1)));
    }
    if (!answer.design->clusterCounts.empty()) {
        add(tr("clusters"), QString::number(answer.design->clusterCounts.front()));
    }
    return cells;
}

}  // namespace rapporto::app
