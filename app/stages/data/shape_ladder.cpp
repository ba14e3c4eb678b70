#include "app/stages/data/shape_ladder.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/summary.h"

#include <QMouseEvent>
#include <QPainter>

#include <cmath>

namespace rapporto::app {

ShapeLadder::ShapeLadder(QWidget* parent) : QWidget(parent) {
    setFixedHeight(112);
    setAccessibleName(tr("Shape ladder"));
    setCursor(Qt::PointingHandCursor);
}

void ShapeLadder::showVariable(const std::shared_ptr<const Frame>& frame, const std::string& name) {
    rungs_.clear();
    best_ = -1;
    why_.clear();
    const Column* column = frame ? frame->column(name) : nullptr;
    const Variable* variable = frame ? frame->variable(name) : nullptr;
    if (column == nullptr || column->isText() || isGrouping(variable->measure) ||
        variable->measure == Measure::YesNo || variable->measure == Measure::Date) {
        why_ = tr("The ladder is for quantities and counts.");
        update();
        return;
    }
    const QString n = text(quotedName(name));
    const std::vector<std::array<QString, 3>> all = {{"−1/x²", "neg_inv_sq_", "-1 / power(%1, 2)"},
                                                     {"−1/x", "neg_inv_", "-1 / %1"},
                                                     {"−1/√x", "neg_inv_root_", "-1 / sqrt(%1)"},
                                                     {"ln x", "ln_", "ln(%1)"},
                                                     {"√x", "root_", "sqrt(%1)"},
                                                     {"x", "", "%1"},
                                                     {"x²", "sq_", "power(%1, 2)"},
                                                     {"x³", "cube_", "power(%1, 3)"}};
    // A picture of 20,000 rows is the picture of all.
    const std::size_t stride = column->size() / 20000 + 1;
    double least = INFINITY;
    for (std::size_t r = 0; r < all.size(); ++r) {
        Rung rung;
        rung.label = all[r][0];
        rung.name = all[r][1] + text(name);
        rung.expression = all[r][2].arg(n);
        std::vector<double> cells;
        std::size_t lost = 0;
        static const double powers[] = {-2, -1, -0.5, 0, 0.5, 1, 2, 3};
        for (std::size_t i = 0; i < column->size(); i += stride) {
            const double x = column->numbers()[i];
            if (std::isnan(x) || frame->states()[i] != RowState::In) {
                continue;
            }
            const double p = powers[r];
            const double v = p == 0 ? std::log(x) : (p < 0 ? -1.0 : 1.0) * std::pow(x, p);
            if (std::isfinite(v)) {
                cells.push_back(v);
            } else {
                ++lost;
            }
        }
        rung.defined = lost == 0 && cells.size() > 2;
        if (rung.defined) {
            rung.skewness = summarise(cells).skewness;
            const Histogram h = histogram(cells, 14);
            const double most =
                static_cast<double>(*std::max_element(h.counts.begin(), h.counts.end()));
            for (const std::size_t c : h.counts) {
                rung.bars.push_back(static_cast<double>(c) / most);
            }
            // The lightest touch that straightens: a rung farther from x must be clearly better.
            const double cost = std::abs(rung.skewness) + 0.15 * std::abs(powers[r] - 1.0);
            if (cost < least) {
                least = cost;
                best_ = static_cast<int>(r);
            }
        }
        rungs_.push_back(std::move(rung));
    }
    update();
}

void ShapeLadder::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    if (rungs_.empty()) {
        painter.setPen(colour::kSoft);
        painter.drawText(rect(), Qt::AlignLeft | Qt::AlignTop, why_);
        return;
    }
    const double w = width() / static_cast<double>(rungs_.size());
    for (std::size_t r = 0; r < rungs_.size(); ++r) {
        const Rung& rung = rungs_[r];
        const QRectF box(w * static_cast<double>(r) + 3, 2, w - 6, height() - 4);
        const bool best = static_cast<int>(r) == best_;
        painter.fillRect(box, best ? colour::kAccentWash : colour::kPanel);
        if (best) {
            painter.setPen(QPen(colour::kAccent, 1));
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
                         rung.label);
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(11));
        painter.drawText(QRectF(box.left(), box.top() + 86, box.width(), 16), Qt::AlignCenter,
                         rung.defined ? text(fixedNumber(rung.skewness, 1)) : tr("not for all"));
    }
}

void ShapeLadder::mousePressEvent(QMouseEvent* event) {
    const auto r = static_cast<std::size_t>(event->position().x() / width() *
                                            static_cast<double>(rungs_.size()));
    if (r < rungs_.size() && !rungs_[r].name.isEmpty() && rungs_[r].label != "x") {
        emit rungChosen(rungs_[r].name, rungs_[r].expression);
    }
}

}  // namespace rapporto::app
