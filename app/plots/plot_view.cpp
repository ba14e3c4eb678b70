#include "app/plots/plot_view.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QApplication>
#include <QClipboard>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QMenu>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QPushButton>
#include <QSvgGenerator>
#include <QToolTip>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

constexpr std::size_t kDense = 20000;  // From here points melt into shading.

void widen(double v, double& low, double& high) {
    if (std::isfinite(v)) {
        low = std::min(low, v);
        high = std::max(high, v);
    }
}

QString tickText(double v, double step) {
    const int decimals = step >= 1.0 ? 0 : static_cast<int>(std::ceil(-std::log10(step) - 1e-9));
    return text(std::abs(v) >= 1e6 ? shortNumber(v, 3) : fixedNumber(v, decimals));
}

}  // namespace

PlotView::PlotView(QWidget* parent) : QWidget(parent) {
    makeCorner();
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(180, 120);
    setContextMenuPolicy(Qt::DefaultContextMenu);
}

void PlotView::showExhibit(const Exhibit& exhibit) {
    kind_ = Kind::Exhibit;
    exhibit_ = exhibit;
    setAccessibleName(text(exhibit.title));
    setAccessibleDescription(text(exhibit.subtitle));
    update();
}

void PlotView::showHistogram(const HistogramPicture& picture) {
    kind_ = Kind::Histogram;
    histogram_ = picture;
    setAccessibleName(picture.title);
    setAccessibleDescription(picture.subtitle);
    update();
}

void PlotView::showNothing(const QString& why) {
    kind_ = Kind::Nothing;
    why_ = why;
    setAccessibleName(why);
    update();
}

void PlotView::showSelection(const std::set<std::size_t>& rows) {
    selection_ = rows;
    update();
}

PlotView::Frame2D PlotView::frameOf(const QRectF& whole) const {
    Frame2D f;
    f.area = whole.adjusted(46, 44, -14, -38);
    double x0 = INFINITY;
    double x1 = -INFINITY;
    double y0 = INFINITY;
    double y1 = -INFINITY;
    for (std::size_t i = 0; i < exhibit_.x.size() && i < exhibit_.y.size(); ++i) {
        widen(exhibit_.x[i], x0, x1);
        widen(exhibit_.y[i], y0, y1);
    }
    for (const auto& line : exhibit_.lines) {
        for (const double v : line.x) {
            widen(v, x0, x1);
        }
        if (exhibit_.x.empty() || line.name != "95 % band, each point") {
            for (const double v : line.y) {
                widen(v, y0, y1);
            }
        }
    }
    if (!exhibit_.xNames.empty()) {
        x0 = 0.5;
        x1 = static_cast<double>(exhibit_.xNames.size()) + 0.5;
    }
    if (!(x1 > x0)) {
        x0 = std::isfinite(x0) ? x0 - 1.0 : 0.0;
        x1 = x0 + 2.0;
    }
    if (!(y1 > y0)) {
        y0 = std::isfinite(y0) ? y0 - 1.0 : 0.0;
        y1 = y0 + 2.0;
    }
    const double dx = (x1 - x0) * 0.03;
    const double dy = (y1 - y0) * 0.05;
    f.x0 = x0 - dx;
    f.x1 = x1 + dx;
    f.y0 = y0 - dy;
    f.y1 = y1 + dy;
    return f;
}

QPointF PlotView::pixelOf(double x, double y) const {
    const Frame2D f = frameOf(rect());
    return {f.px(x), f.py(y)};
}

void PlotView::drawAxes(QPainter& painter, const Frame2D& f, bool vertical) const {
    painter.setFont(interfaceFont(11));
    const auto xs = ticksBetween(f.x0, f.x1, static_cast<int>(f.area.width() / 80));
    const auto ys = vertical ? ticksBetween(f.y0, f.y1, static_cast<int>(f.area.height() / 48))
                             : std::vector<double>();
    for (const double t : ys) {
        painter.setPen(
            QPen(exhibit_.zeroLine && t == 0.0 ? colour::kSoft : QColor(0xE7, 0xE1, 0xD4),
                 t == 0.0 && exhibit_.zeroLine ? 1.4 : 1.0));
        painter.drawLine(QPointF(f.area.left(), f.py(t)), QPointF(f.area.right(), f.py(t)));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(f.area.left() - 60, f.py(t) - 8, 53, 16),
                         Qt::AlignRight | Qt::AlignVCenter,
                         tickText(t, ys.size() > 1 ? ys[1] - ys[0] : 1.0));
    }
    painter.setPen(colour::kSoft);
    if (!exhibit_.xNames.empty()) {
        const double each = f.px(2.0) - f.px(1.0);
        for (std::size_t k = 0; k < exhibit_.xNames.size(); ++k) {
            const double at = f.px(static_cast<double>(k) + 1.0);
            painter.drawText(
                QRectF(at - each / 2.0 + 2.0, f.area.bottom() + 3, each - 4.0, 14), Qt::AlignCenter,
                painter.fontMetrics().elidedText(text(exhibit_.xNames[k]), Qt::ElideRight,
                                                 static_cast<int>(each) - 4));
        }
        return;
    }
    for (const double t : xs) {
        painter.drawText(QRectF(f.px(t) - 40, f.area.bottom() + 3, 80, 14), Qt::AlignCenter,
                         tickText(t, xs.size() > 1 ? xs[1] - xs[0] : 1.0));
    }
}

void PlotView::drawPoints(QPainter& painter, const Frame2D& f) const {
    const std::size_t n = std::min(exhibit_.x.size(), exhibit_.y.size());
    QColor dot = colour::kBlue;
    if (n > kDense) {
        // Counts by small squares, shaded by their logarithm.
        constexpr int kCell = 3;
        const int w = static_cast<int>(f.area.width() / kCell) + 1;
        const int h = static_cast<int>(f.area.height() / kCell) + 1;
        std::vector<int> counts(static_cast<std::size_t>(w * h), 0);
        int most = 1;
        for (std::size_t i = 0; i < n; ++i) {
            const int cx = static_cast<int>((f.px(exhibit_.x[i]) - f.area.left()) / kCell);
            const int cy = static_cast<int>((f.py(exhibit_.y[i]) - f.area.top()) / kCell);
            if (cx >= 0 && cy >= 0 && cx < w && cy < h) {
                most = std::max(most, ++counts[static_cast<std::size_t>(cy * w + cx)]);
            }
        }
        for (int cy = 0; cy < h; ++cy) {
            for (int cx = 0; cx < w; ++cx) {
                if (const int c = counts[static_cast<std::size_t>(cy * w + cx)]; c > 0) {
                    dot.setAlpha(30 + static_cast<int>(200 * std::log1p(c) / std::log1p(most)));
                    painter.fillRect(
                        QRectF(f.area.left() + cx * kCell, f.area.top() + cy * kCell, kCell, kCell),
                        dot);
                }
            }
        }
    } else {
        dot.setAlpha(n > 3000 ? 60 : 105);
        painter.setPen(Qt::NoPen);
        painter.setBrush(dot);
        const double r = n > 3000 ? 1.8 : 2.4;
        for (std::size_t i = 0; i < n; ++i) {
            painter.drawEllipse(QPointF(f.px(exhibit_.x[i]), f.py(exhibit_.y[i])), r, r);
        }
    }
    const std::set<std::size_t> marked(exhibit_.marked.begin(), exhibit_.marked.end());
    if (selection_.empty() && marked.empty()) {
        return;
    }
    for (std::size_t i = 0; i < n && i < exhibit_.rows.size(); ++i) {
        const QPointF at(f.px(exhibit_.x[i]), f.py(exhibit_.y[i]));
        if (selection_.contains(exhibit_.rows[i])) {
            painter.setPen(Qt::NoPen);
            painter.setBrush(colour::kOchre);
            painter.drawEllipse(at, 4, 4);
        }
        if (marked.contains(exhibit_.rows[i])) {
            painter.setPen(QPen(colour::kClay, 1.5));
            painter.setBrush(Qt::NoBrush);
            painter.drawEllipse(at, 5, 5);
        }
    }
}

void PlotView::drawLines(QPainter& painter, const Frame2D& f) const {
    painter.save();
    painter.setClipRect(f.area.adjusted(-1, -1, 1, 1));
    int shade = 0;
    std::vector<std::pair<QPointF, QString>> labels;
    for (const auto& line : exhibit_.lines) {
        if (line.x.empty()) {
            continue;
        }
        const QColor colours[] = {colour::kAccent, colour::kInk, colour::kOchre};
        const QColor c = line.dashed ? colour::kInk
                         : line.name == "local spread" || (line.name.empty() && !line.dashed)
                             ? colour::kOchre
                             : colours[shade];
        painter.setPen(
            QPen(c, line.dashed ? 1.1 : 2.0, line.dashed ? Qt::DashLine : Qt::SolidLine));
        painter.setBrush(Qt::NoBrush);
        QPainterPath path;
        path.moveTo(f.px(line.x.front()), f.py(line.y.front()));
        for (std::size_t i = 1; i < line.x.size(); ++i) {
            path.lineTo(f.px(line.x[i]), f.py(line.y[i]));
        }
        painter.drawPath(path);
        if (!line.name.empty()) {
            // At the end of the line that can be seen.
            std::size_t end = line.x.size() - 1;
            while (end > 0 && (f.py(line.y[end]) < f.area.top() + 4 ||
                               f.px(line.x[end]) > f.area.right() - 4)) {
                --end;
            }
            labels.emplace_back(QPointF(f.px(line.x[end]), f.py(line.y[end])), text(line.name));
        }
    }
    painter.restore();
    painter.setFont(interfaceFont(11));
    painter.setPen(colour::kInk);
    for (const auto& [at, name] : labels) {
        painter.drawText(QRectF(at.x() - 160, at.y() - 18, 156, 14),
                         Qt::AlignRight | Qt::AlignVCenter, name);
    }
}

void PlotView::drawBars(QPainter& painter, const QRectF& whole) const {
    const double left = whole.left() + 130;
    const double right = whole.right() - 50;
    double most = 1.0;
    for (const double v : exhibit_.x) {
        most = std::max(most, v);
    }
    for (const auto& line : exhibit_.lines) {
        most = std::max(most, line.x.front() * 1.05);
    }
    const double height =
        std::min(30.0, (whole.height() - 80) /
                           std::max<double>(static_cast<double>(exhibit_.x.size()), 1.0));
    painter.setFont(interfaceFont(12));
    for (std::size_t i = 0; i < exhibit_.x.size(); ++i) {
        const double y = whole.top() + 56 + height * static_cast<double>(i);
        painter.setPen(colour::kInk);
        painter.drawText(
            QRectF(whole.left() + 4, y, 120, height - 4), Qt::AlignLeft | Qt::AlignVCenter,
            painter.fontMetrics().elidedText(text(exhibit_.barNames[i]), Qt::ElideRight, 120));
        const double end = left + exhibit_.x[i] / most * (right - left);
        painter.fillRect(QRectF(left, y + 3, end - left, height - 10), colour::kBars);
        painter.drawText(QRectF(end + 6, y, 60, height - 4), Qt::AlignLeft | Qt::AlignVCenter,
                         text(shortNumber(exhibit_.x[i], 3)));
    }
    painter.setFont(interfaceFont(11));
    for (const auto& line : exhibit_.lines) {
        const double x = left + line.x.front() / most * (right - left);
        painter.setPen(QPen(colour::kSoft, 1, Qt::DashLine));
        painter.drawLine(
            QPointF(x, whole.top() + 52),
            QPointF(x, whole.top() + 56 + height * static_cast<double>(exhibit_.x.size())));
        painter.drawText(QRectF(x - 30, whole.top() + 38, 60, 14), Qt::AlignCenter,
                         text(line.name));
    }
}

void PlotView::drawHistogram(QPainter& painter, const QRectF& whole) const {
    const HistogramPicture& h = histogram_;
    if (h.bins.counts.empty()) {
        return;
    }
    const double count = static_cast<double>(h.bins.counts.size());
    Frame2D f;
    f.area = whole.adjusted(14, 46, -14, h.names.empty() ? -36 : -40);
    f.x0 = h.bins.from;
    f.x1 = h.bins.from + h.bins.width * count;
    f.y0 = 0.0;
    const double peak = h.sd > 0.0 ? h.n * h.bins.width / (h.sd * 2.50662827463) : 0.0;
    f.y1 =
        std::max(static_cast<double>(*std::max_element(h.bins.counts.begin(), h.bins.counts.end())),
                 peak) *
        1.04;
    for (const double y : h.curveY) {
        f.y1 = std::max(f.y1, y * h.n * h.bins.width * 1.04);
    }
    for (std::size_t b = 0; b < h.bins.counts.size(); ++b) {
        const double left = f.px(f.x0 + h.bins.width * static_cast<double>(b));
        const double right = f.px(f.x0 + h.bins.width * static_cast<double>(b + 1));
        const double gap = h.names.empty() ? 1.0 : (right - left) * 0.25;
        painter.fillRect(QRectF(QPointF(left, f.py(static_cast<double>(h.bins.counts[b]))),
                                QPointF(right - gap, f.area.bottom())),
                         colour::kBars);
        if (b < h.selected.counts.size() && h.selected.counts[b] > 0) {
            // A single selected row among thousands must still be seen.
            const double top =
                std::min(f.py(static_cast<double>(h.selected.counts[b])), f.area.bottom() - 3.0);
            painter.fillRect(QRectF(QPointF(left, top), QPointF(right - gap, f.area.bottom())),
                             colour::kOchre);
        }
        if (!h.names.empty() && b < h.names.size()) {
            painter.setFont(interfaceFont(11));
            painter.setPen(colour::kSoft);
            painter.drawText(
                QRectF(left, f.area.bottom() + 3, right - gap - left, 14), Qt::AlignCenter,
                painter.fontMetrics().elidedText(text(h.names[b]), Qt::ElideRight,
                                                 static_cast<int>(right - gap - left)));
        }
    }
    if (!h.curveX.empty()) {
        QPainterPath path;
        for (std::size_t i = 0; i < h.curveX.size(); ++i) {
            const QPointF at(f.px(h.curveX[i]), f.py(h.curveY[i] * h.n * h.bins.width));
            i == 0 ? path.moveTo(at) : path.lineTo(at);
        }
        painter.save();
        painter.setClipRect(f.area);
        painter.setPen(QPen(colour::kAccent, 2));
        painter.setBrush(Qt::NoBrush);
        painter.drawPath(path);
        painter.restore();
    }
    if (h.sd > 0.0) {
        QPainterPath path;
        for (int i = 0; i <= 100; ++i) {
            const double x = f.x0 + (f.x1 - f.x0) * i / 100.0;
            const double z = (x - h.mean) / h.sd;
            const QPointF at(f.px(x), f.py(peak * std::exp(-0.5 * z * z)));
            i == 0 ? path.moveTo(at) : path.lineTo(at);
        }
        painter.setPen(QPen(colour::kInk, 1.3));
        painter.setBrush(Qt::NoBrush);
        painter.drawPath(path);
    }
    painter.setPen(QPen(colour::kInk, 1.2));
    painter.drawLine(f.area.bottomLeft(), f.area.bottomRight());
    if (h.names.empty()) {
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(11));
        const auto xs = ticksBetween(f.x0, f.x1, static_cast<int>(f.area.width() / 80));
        for (const double t : xs) {
            painter.drawText(QRectF(f.px(t) - 40, f.area.bottom() + 3, 80, 14), Qt::AlignCenter,
                             tickText(t, xs.size() > 1 ? xs[1] - xs[0] : 1.0));
        }
    }
}

void PlotView::draw(QPainter& painter, const QRectF& whole) const {
    painter.setRenderHint(QPainter::Antialiasing);
    if (kind_ == Kind::Nothing) {
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(13));
        painter.drawText(whole.adjusted(20, 20, -20, -20), Qt::AlignCenter | Qt::TextWordWrap,
                         why_);
        return;
    }
    const bool isHistogram = kind_ == Kind::Histogram;
    const QString title = isHistogram ? histogram_.title : text(exhibit_.title);
    const QString subtitle = isHistogram ? histogram_.subtitle : text(exhibit_.subtitle);
    const QString xTitle = isHistogram ? histogram_.xTitle : text(exhibit_.xTitle);
    const double left = isHistogram ? 14.0 : 4.0;
    painter.setPen(colour::kInk);
    painter.setFont(interfaceFont(13, true));
    painter.drawText(QRectF(whole.left() + left, whole.top() + 2, whole.width() - left, 18),
                     Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(title, Qt::ElideRight,
                                                      static_cast<int>(whole.width() - left)));
    painter.setPen(colour::kSoft);
    painter.setFont(interfaceFont(12));
    painter.drawText(QRectF(whole.left() + left, whole.top() + 20, whole.width() - left, 16),
                     Qt::AlignLeft | Qt::AlignVCenter,
                     painter.fontMetrics().elidedText(subtitle, Qt::ElideRight,
                                                      static_cast<int>(whole.width() - left)));
    if (isHistogram) {
        drawHistogram(painter, whole);
    } else if (!exhibit_.barNames.empty()) {
        drawBars(painter, whole);
    } else {
        const Frame2D f = frameOf(whole);
        drawAxes(painter, f, true);
        drawPoints(painter, f);
        drawLines(painter, f);
    }
    painter.setPen(colour::kSoft);
    painter.setFont(interfaceFont(12));
    painter.drawText(QRectF(whole.left(), whole.bottom() - 18, whole.width(), 16), Qt::AlignCenter,
                     xTitle);
}

void PlotView::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    draw(painter, rect());
    if (dragging_) {
        QColor wash = colour::kOchre;
        wash.setAlpha(36);
        painter.fillRect(QRectF(dragFrom_, dragTo_).normalized(), wash);
    }
    if (hasFocus() && kind_ != Kind::Nothing) {
        painter.setRenderHint(QPainter::Antialiasing, false);
        painter.setPen(QPen(colour::kAccent, 1, Qt::DotLine));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(rect().adjusted(0, 0, -1, -1));
    }
}

int PlotView::nearest(QPointF at) const {
    if (kind_ != Kind::Exhibit || !exhibit_.barNames.empty()) {
        return -1;
    }
    const Frame2D f = frameOf(rect());
    int best = -1;
    double least = 81.0;  // within nine pixels
    for (std::size_t i = 0; i < exhibit_.x.size() && i < exhibit_.y.size(); ++i) {
        const double dx = f.px(exhibit_.x[i]) - at.x();
        const double dy = f.py(exhibit_.y[i]) - at.y();
        if (dx * dx + dy * dy < least) {
            least = dx * dx + dy * dy;
            best = static_cast<int>(i);
        }
    }
    return best;
}

void PlotView::mousePressEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton && kind_ == Kind::Exhibit) {
        dragFrom_ = dragTo_ = event->position();
        dragging_ = true;
    }
}

void PlotView::mouseMoveEvent(QMouseEvent* event) {
    if (dragging_) {
        dragTo_ = event->position();
        update();
        return;
    }
    const int i = nearest(event->position());
    if (i < 0 || static_cast<std::size_t>(i) >= exhibit_.rows.size()) {
        QToolTip::hideText();
        return;
    }
    const auto at = static_cast<std::size_t>(i);
    const QString name =
        namer_ ? namer_(exhibit_.rows[at]) : tr("row %1").arg(exhibit_.rows[at] + 1);
    QToolTip::showText(
        event->globalPosition().toPoint(),
        QString("<b>%1</b><br>%2 %3<br>%4 %5")
            .arg(name.toHtmlEscaped(), text(exhibit_.xTitle).toHtmlEscaped(),
                 text(shortNumber(exhibit_.x[at], 5)), text(exhibit_.yTitle).toHtmlEscaped(),
                 text(shortNumber(exhibit_.y[at], 5))),
        this);
}

void PlotView::mouseReleaseEvent(QMouseEvent* event) {
    if (!dragging_) {
        return;
    }
    dragging_ = false;
    dragTo_ = event->position();
    if ((dragTo_ - dragFrom_).manhattanLength() > 6) {
        selectBox();
    } else {
        const int i = nearest(event->position());
        std::set<std::size_t> rows =
            event->modifiers().testFlag(Qt::ShiftModifier) ? selection_ : std::set<std::size_t>();
        if (i >= 0 && static_cast<std::size_t>(i) < exhibit_.rows.size()) {
            rows.insert(exhibit_.rows[static_cast<std::size_t>(i)]);
        }
        emit rowsSelected(rows);
    }
    update();
}

void PlotView::selectBox() {
    const QRectF box = QRectF(dragFrom_, dragTo_).normalized();
    const Frame2D f = frameOf(rect());
    std::set<std::size_t> rows;
    for (std::size_t i = 0; i < exhibit_.rows.size() && i < exhibit_.x.size(); ++i) {
        if (box.contains(f.px(exhibit_.x[i]), f.py(exhibit_.y[i]))) {
            rows.insert(exhibit_.rows[i]);
        }
    }
    emit rowsSelected(rows);
}

void PlotView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) {
        emit rowsSelected({});
        return;
    }
    QWidget::keyPressEvent(event);
}

void PlotView::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    menu.addAction(tr("Copy as picture"), this, &PlotView::copy);
    menu.addAction(tr("Save as SVG or PNG…"), this, &PlotView::save);
    menu.exec(event->globalPos());
}

void PlotView::copy() {
    QPixmap picture(size() * 2);
    picture.setDevicePixelRatio(2);
    picture.fill(Qt::white);
    QPainter painter(&picture);
    draw(painter, rect());
    painter.end();
    QApplication::clipboard()->setPixmap(picture);
}

void PlotView::makeCorner() {
    corner_ = new QWidget(this);
    auto* line = new QHBoxLayout(corner_);
    line->setContentsMargins(4, 1, 4, 1);
    line->setSpacing(8);
    for (const auto& [word, name, act] : {std::tuple{tr("copy"), "plot:copy", &PlotView::copy},
                                          std::tuple{tr("save…"), "plot:save", &PlotView::save}}) {
        auto* button = new QPushButton(word, corner_);
        button->setObjectName(name);
        button->setFont(interfaceFont(11));
        button->setCursor(Qt::PointingHandCursor);
        button->setFocusPolicy(Qt::NoFocus);
        connect(button, &QPushButton::clicked, this, act);
        line->addWidget(button);
    }
    corner_->hide();
}

void PlotView::enterEvent(QEnterEvent* event) {
    corner_->adjustSize();
    corner_->move(width() - corner_->width(), 0);
    corner_->show();
    QWidget::enterEvent(event);
}

void PlotView::leaveEvent(QEvent* event) {
    corner_->hide();
    QWidget::leaveEvent(event);
}

void PlotView::save() {
    const QString path = QFileDialog::getSaveFileName(this, tr("Save the figure"), "figure.svg",
                                                      tr("Figures (*.svg *.png)"));
    if (path.endsWith(".png")) {
        QImage picture(size() * 3, QImage::Format_ARGB32);
        picture.setDevicePixelRatio(3);
        picture.fill(Qt::white);
        QPainter painter(&picture);
        draw(painter, rect());
        painter.end();
        picture.save(path);
    } else if (!path.isEmpty()) {
        QSvgGenerator generator;
        generator.setFileName(path);
        generator.setSize(size());
        generator.setViewBox(rect());
        QPainter painter(&generator);
        draw(painter, rect());
    }
}

}  // namespace rapporto::app
