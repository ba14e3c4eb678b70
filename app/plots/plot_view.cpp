#include "app/plots/plot_view.h"

#include "app/plots/marks.h"
#include "app/plots/plot_access.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/picture/axis.h"

#include <QAccessible>
#include <QApplication>
#include <QClipboard>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QMenu>
#include <QMouseEvent>
#include <QPageSize>
#include <QPainter>
#include <QPainterPath>
#include <QPdfWriter>
#include <QPushButton>
#include <QSvgGenerator>
#include <QToolTip>

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto::app {
namespace {

/// Widths that journals print figures in, in millimetres.
struct PrintSize {
    const char* name;
    double millimetres;
};

constexpr std::array kPrintSizes = {PrintSize{QT_TR_NOOP("one column, 85 mm"), 85.0},
                                    PrintSize{QT_TR_NOOP("one and a half, 120 mm"), 120.0},
                                    PrintSize{QT_TR_NOOP("two columns, 175 mm"), 175.0}};

}  // namespace

PlotView::PlotView(QWidget* parent) : QWidget(parent), exhibit_(std::make_shared<const Exhibit>()) {
    makeCorner();
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(60, 50);
    setContextMenuPolicy(Qt::DefaultContextMenu);
    tellPictures();
}

void PlotView::showExhibit(Exhibit exhibit) {
    showExhibit(std::make_shared<const Exhibit>(std::move(exhibit)));
}

void PlotView::showExhibit(std::shared_ptr<const Exhibit> exhibit) {
    empty_ = false;
    stale_ = false;
    exhibit_ = std::move(exhibit);
    reach_ = reachOf(*exhibit_);
    before_.clear();
    setAccessibleName(numbered(exhibit_->title));
    setAccessibleDescription(numbered(exhibit_->subtitle));
    changed();
}

void PlotView::showNothing(const QString& why) {
    empty_ = true;
    stale_ = false;
    why_ = why;
    exhibit_ = std::make_shared<const Exhibit>();
    setAccessibleName(why);
    changed();
}

void PlotView::showSelection(const RowSet& rows) {
    selection_ = rows;
    update();
}

void PlotView::showHeld(std::shared_ptr<const HeldRows> held) {
    if (held_ != held) {
        held_ = std::move(held);
        update();
    }
}

void PlotView::setStale(bool stale) {
    if (stale_ != stale) {
        stale_ = stale;
        update();
    }
}

void PlotView::showBefore(std::vector<Exhibit::Line> lines) {
    before_ = std::move(lines);
    changed();
}

const MarkTable& PlotView::marks() const {
    if (!marks_) {
        MarkTable::RowNamer namer;
        if (namer_) {
            namer = [own = namer_](std::size_t row) { return utf8(own(row)); };
        }
        marks_ = std::make_unique<const MarkTable>(exhibit_, std::move(namer));
    }
    return *marks_;
}

QString PlotView::description() const {
    if (empty_) {
        return {};
    }
    const Exhibit& e = *exhibit_;
    QStringList out;
    if (!accessibleDescription().isEmpty()) {
        out << accessibleDescription();
    }
    if (!e.xTitle.empty() && !e.yTitle.empty()) {
        out << tr("across: %1; up: %2").arg(numbered(e.xTitle), numbered(e.yTitle));
    }
    out << numbered(plural(marks().rows(), "mark", "marks"));
    if (standing_) {
        out << numbered(marks().sentence(order_[*standing_]));
    }
    return out.join("; ");
}

void PlotView::changed() {
    marks_.reset();
    order_.clear();
    standing_.reset();
    baseFresh_ = false;
    update();
}

void PlotView::setLasso(bool lasso) {
    lasso_ = lasso;
    lassoWord_->setText(lasso_ ? tr("box") : tr("lasso"));
}

std::vector<Tick> PlotView::uprightTicks(const Plane& f) const {
    const Exhibit& e = *exhibit_;
    return e.yTicks.empty() && !(e.tiles && e.yTitle.empty())
               ? ticksOn(e.yScale, f.y0, f.y1, static_cast<int>(f.area.height() / 52))
               : e.yTicks;
}

PlotView::Plane PlotView::planeOf(const QRectF& whole) const {
    const Exhibit& e = *exhibit_;
    Plane f;
    f.x0 = reach_.x0;
    f.x1 = reach_.x1;
    f.y0 = reach_.y0;
    f.y1 = reach_.y1;
    if (e.compact) {
        f.area = whole.adjusted(3, 3, -3, -3);
        return f;
    }
    const bool bare = e.title.empty() && e.subtitle.empty();
    f.area = whole.adjusted(24,
                            bare               ? 8
                            : e.yTitle.empty() ? 44
                                               : 58,
                            -14, e.xTitle.empty() ? -22 : -38);
    // As much room at the left as the longest number needs.
    const QFontMetricsF metrics(interfaceFont(11));
    double left = 24.0;
    for (const Tick& tick : uprightTicks(f)) {
        left = std::max(left, metrics.horizontalAdvance(numbered(tick.text)) + 10.0);
    }
    f.area.setLeft(whole.left() + std::min(left, 0.3 * whole.width()));
    return f;
}

QPointF PlotView::valueAt(QPointF pixel) const {
    // The axes are straight: two places tell where a pixel is.
    const QPointF zero = pixelOf(0.0, 0.0);
    const QPointF one = pixelOf(1.0, 1.0);
    return {(pixel.x() - zero.x()) / (one.x() - zero.x()),
            (pixel.y() - zero.y()) / (one.y() - zero.y())};
}

QPointF PlotView::pixelOf(double x, double y) const {
    const Plane f = planeOf(rect());
    return {f.px(x), f.py(y)};
}

QPointF PlotView::pointAt(const Plane& f, std::size_t i) const {
    const Exhibit& e = *exhibit_;
    return {f.px(e.x[i] + (e.dx.empty() ? 0.0 : static_cast<double>(e.dx[i]))),
            f.py(e.y[i] + (e.dy.empty() ? 0.0 : static_cast<double>(e.dy[i])))};
}

void PlotView::drawHead(QPainter& painter, const QRectF& whole) const {
    const Exhibit& e = *exhibit_;
    const double left = 4.0;
    const auto line = [&](const std::string& words, double top, const QFont& font,
                          const QColor& colour) {
        painter.setFont(font);
        painter.setPen(colour);
        const double width = whole.width() - left;
        painter.drawText(QRectF(whole.left() + left, whole.top() + top, width, 18),
                         Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(numbered(words), Qt::ElideRight,
                                                          static_cast<int>(width)));
    };
    line(e.title, 1, interfaceFont(13, true), colour::kInk);
    line(e.subtitle, 19, interfaceFont(12), colour::kSoft);
    line(e.yTitle, 37, interfaceFont(11), colour::kSoft);
    painter.setFont(interfaceFont(12));
    painter.setPen(colour::kSoft);
    painter.drawText(QRectF(whole.left(), whole.bottom() - 18, whole.width(), 16), Qt::AlignCenter,
                     painter.fontMetrics().elidedText(numbered(e.xTitle), Qt::ElideRight,
                                                      static_cast<int>(whole.width())));
}

void PlotView::drawAxes(QPainter& painter, const Plane& f) const {
    const Exhibit& e = *exhibit_;
    painter.setFont(interfaceFont(11));
    for (const Tick& tick : uprightTicks(f)) {
        const double y = f.py(tick.at);
        const bool zero = e.zeroLine && tick.at == 0.0;
        if (!e.tiles) {
            painter.setPen(QPen(zero ? colour::kSoft : colour::kGrid, zero ? 1.4 : 1.0));
            painter.drawLine(QPointF(f.area.left(), y), QPointF(f.area.right(), y));
        }
        painter.setPen(colour::kSoft);
        const double room = f.area.left() - 7.0;
        painter.drawText(QRectF(f.area.left() - 7.0 - room, y - 8, room, 16),
                         Qt::AlignRight | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(numbered(tick.text), Qt::ElideRight,
                                                          static_cast<int>(room)));
    }
    painter.setPen(colour::kSoft);
    std::vector<Tick> xs = e.xTicks;
    for (std::size_t k = 0; k < e.xNames.size(); ++k) {
        xs.push_back({static_cast<double>(k) + 1.0, e.xNames[k]});
    }
    const bool named = !xs.empty();
    if (!named) {
        const int room = e.xScale == AxisScale::Date ? 68 : 72;
        xs = ticksOn(e.xScale, f.x0, f.x1, static_cast<int>(f.area.width() / room));
    }
    // A name may take the room between its neighbours.
    for (std::size_t k = 0; k < xs.size(); ++k) {
        const double at = f.px(xs[k].at);
        double room = 80.0;
        if (named) {
            const double before = k > 0 ? at - f.px(xs[k - 1].at) : 2.0 * (at - f.area.left());
            const double after =
                k + 1 < xs.size() ? f.px(xs[k + 1].at) - at : 2.0 * (f.area.right() - at);
            room = std::min(before, after) - 4.0;
        }
        if (room < 8.0) {
            continue;
        }
        painter.drawText(QRectF(at - room / 2.0, f.area.bottom() + 4, room, 14), Qt::AlignCenter,
                         painter.fontMetrics().elidedText(numbered(xs[k].text), Qt::ElideRight,
                                                          static_cast<int>(room)));
    }
    if (e.fromZero) {
        painter.setPen(QPen(colour::kInk, 1.2));
        painter.drawLine(QPointF(f.area.left(), f.py(0.0)), QPointF(f.area.right(), f.py(0.0)));
    }
}

void PlotView::drawBands(QPainter& painter, const Plane& f) const {
    painter.setPen(Qt::NoPen);
    for (const auto& band : exhibit_->bands) {
        if (band.x.size() < 2) {
            continue;
        }
        QPolygonF ground;
        for (std::size_t i = 0; i < band.x.size(); ++i) {
            ground << QPointF(f.px(band.x[i]), f.py(band.high[i]));
        }
        for (std::size_t i = band.x.size(); i-- > 0;) {
            ground << QPointF(f.px(band.x[i]), f.py(band.low[i]));
        }
        QColor wash = band.series < 0 ? colour::kAccent : seriesColour(band.series);
        wash.setAlpha(band.name == "a row" ? 18 : 34);
        painter.setBrush(wash);
        painter.drawPolygon(ground);
    }
}

void PlotView::drawBars(QPainter& painter, const Plane& f) const {
    const Exhibit& e = *exhibit_;
    painter.setFont(interfaceFont(e.compact ? 12 : 11));
    for (const auto& bar : e.bars) {
        QRectF box(QPointF(f.px(bar.x0), f.py(bar.y1)), QPointF(f.px(bar.x1), f.py(bar.y0)));
        if (!e.tiles && box.width() > 3.0) {
            box.adjust(0, 0, -1, 0);
        }
        const QColor ground = bar.shade ? shadeColour(*bar.shade) : colour::kBars;
        painter.fillRect(box, ground);
        if (!bar.label.empty() && box.height() > 13.0) {
            painter.setPen(bar.shade && std::abs(*bar.shade) > 0.6 ? colour::kGround
                                                                   : colour::kInk);
            const QString words = numbered(bar.label);
            const QString number = words.section(' ', -2);
            const auto fits = [&](const QString& one) {
                return painter.fontMetrics().horizontalAdvance(one) < box.width() - 4.0;
            };
            if (fits(words) || fits(number)) {
                painter.drawText(box, Qt::AlignCenter, fits(words) ? words : number);
            }
        }
    }
}

void PlotView::drawPoints(QPainter& painter, const Plane& f) const {
    const Exhibit& e = *exhibit_;
    const std::size_t n = std::min(e.x.size(), e.y.size());
    if (n > kDensePoints) {
        painter.drawImage(f.area.topLeft(),
                          meltedPoints(f.area.size(), n, false, [&](std::size_t i) {
                              const QPointF at = pointAt(f, i);
                              return QPointF(at.x() - f.area.left(), at.y() - f.area.top());
                          }));
    } else {
        const double size = e.compact || n > 3000 ? 1.7 : 2.4;
        const int alpha = n > 3000 ? 60 : e.compact ? 80 : 105;
        for (std::size_t i = 0; i < n; ++i) {
            const int series = e.series.empty() ? 0 : e.series[i];
            drawMark(painter, pointAt(f, i), series, size, alpha);
        }
    }
}

void PlotView::drawBoxes(QPainter& painter, const Plane& f) const {
    const Exhibit& e = *exhibit_;
    for (const auto& box : e.boxes) {
        const double left = f.px(box.at - 0.2);
        const double right = f.px(box.at + 0.2);
        const double middle = f.px(box.at);
        painter.setPen(QPen(colour::kInk, 1.1));
        painter.drawLine(QPointF(middle, f.py(box.low)), QPointF(middle, f.py(box.lowerQuartile)));
        painter.drawLine(QPointF(middle, f.py(box.upperQuartile)), QPointF(middle, f.py(box.high)));
        QColor ground = colour::kGround;
        ground.setAlpha(e.pointsHidden ? 255 : 150);
        painter.setBrush(ground);
        painter.drawRect(QRectF(QPointF(left, f.py(box.upperQuartile)),
                                QPointF(right, f.py(box.lowerQuartile))));
        painter.setPen(QPen(colour::kInk, 2.4));
        painter.drawLine(QPointF(left, f.py(box.median)), QPointF(right, f.py(box.median)));
    }
    for (const auto& one : e.intervals) {
        const double x = f.px(one.at);
        const QColor c = one.series < 0 ? colour::kAccent : seriesColour(one.series);
        painter.setPen(QPen(c, 2.2, Qt::SolidLine, Qt::RoundCap));
        painter.drawLine(QPointF(x, f.py(one.low)), QPointF(x, f.py(one.high)));
        painter.setBrush(c);
        painter.setPen(QPen(colour::kGround, 1.2));
        painter.drawEllipse(QPointF(x, f.py(one.estimate)), 4.4, 4.4);
    }
}

void PlotView::drawLines(QPainter& painter, const Plane& f) const {
    painter.save();
    painter.setClipRect(f.area.adjusted(-1, -1, 1, 1));
    std::vector<LineLabel> labels;
    const auto stroke = [&](const Exhibit::Line& line, const QPen& pen) {
        QPainterPath path;
        path.moveTo(f.px(line.x.front()), f.py(line.y.front()));
        for (std::size_t i = 1; i < line.x.size(); ++i) {
            path.lineTo(f.px(line.x[i]), f.py(line.y[i]));
        }
        painter.setPen(pen);
        painter.setBrush(Qt::NoBrush);
        painter.drawPath(path);
    };
    for (const auto& line : before_) {
        if (!line.x.empty()) {
            QColor faint = colour::kSoft;
            faint.setAlpha(110);
            stroke(line, QPen(faint, 1.6, Qt::DotLine));
        }
    }
    for (const auto& line : exhibit_->lines) {
        if (line.x.empty()) {
            continue;
        }
        QColor c = line.series >= 0 ? seriesColour(line.series)
                   : line.dashed    ? colour::kInk
                                    : colour::kAccent;
        if (line.faint) {
            c = colour::kBlue;
            c.setAlpha(70);
        }
        stroke(line, QPen(c,
                          line.faint    ? 1.0
                          : line.dashed ? 1.2
                                        : 2.0,
                          line.dashed ? Qt::DashLine : Qt::SolidLine));
        if (line.x.size() == 1) {
            painter.drawPoint(QPointF(f.px(line.x[0]), f.py(line.y[0])));
        }
        if (!line.name.empty() && !exhibit_->compact) {
            // At the end of the line that can be seen; of a density on its slope.
            std::size_t end = line.x.size() - 1;
            const double peak = *std::max_element(line.y.begin(), line.y.end());
            while (exhibit_->fromZero && end > 0 && line.y[end] < 0.45 * peak) {
                --end;
            }
            while (end > 0 &&
                   (f.py(line.y[end]) < f.area.top() + 4 || f.py(line.y[end]) > f.area.bottom() ||
                    f.px(line.x[end]) > f.area.right() - 4)) {
                --end;
            }
            labels.push_back({QPointF(f.px(line.x[end]), f.py(line.y[end])), numbered(line.name),
                              line.series >= 0 ? c : colour::kInk, exhibit_->fromZero});
        }
    }
    painter.restore();
    drawLabels(painter, f.area, std::move(labels));
}

void PlotView::drawLyingBars(QPainter& painter, const QRectF& whole) const {
    const Exhibit& e = *exhibit_;
    const double left = whole.left() + 130;
    const double right = whole.right() - 50;
    double most = 1.0;
    for (const double v : e.x) {
        most = std::max(most, v);
    }
    for (const auto& line : e.lines) {
        most = std::max(most, line.x.front() * 1.05);
    }
    const double height = std::min(
        30.0, (whole.height() - 80) / std::max<double>(static_cast<double>(e.x.size()), 1.0));
    painter.setFont(interfaceFont(12));
    for (std::size_t i = 0; i < e.x.size(); ++i) {
        const double y = whole.top() + 56 + height * static_cast<double>(i);
        painter.setPen(colour::kInk);
        painter.drawText(
            QRectF(whole.left() + 4, y, 120, height - 4), Qt::AlignLeft | Qt::AlignVCenter,
            painter.fontMetrics().elidedText(numbered(e.barNames[i]), Qt::ElideRight, 120));
        const double end = left + e.x[i] / most * (right - left);
        painter.fillRect(QRectF(left, y + 3, end - left, height - 10), colour::kBars);
        painter.drawText(QRectF(end + 6, y, 60, height - 4), Qt::AlignLeft | Qt::AlignVCenter,
                         numbered(shortNumber(e.x[i], 3)));
    }
    painter.setFont(interfaceFont(11));
    for (const auto& line : e.lines) {
        const double x = left + line.x.front() / most * (right - left);
        painter.setPen(QPen(colour::kSoft, 1, Qt::DashLine));
        painter.drawLine(QPointF(x, whole.top() + 52),
                         QPointF(x, whole.top() + 56 + height * static_cast<double>(e.x.size())));
        painter.drawText(QRectF(x - 30, whole.top() + 38, 60, 14), Qt::AlignCenter,
                         text(line.name));
    }
}

void PlotView::drawBase(QPainter& painter, const QRectF& whole) const {
    painter.setRenderHint(QPainter::Antialiasing);
    if (empty_) {
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(13));
        painter.drawText(whole.adjusted(20, 20, -20, -20), Qt::AlignCenter | Qt::TextWordWrap,
                         why_);
        return;
    }
    const Exhibit& e = *exhibit_;
    if (!e.barNames.empty()) {
        drawHead(painter, whole);
        drawLyingBars(painter, whole);
        return;
    }
    const Plane f = planeOf(whole);
    if (e.compact) {
        painter.setPen(QPen(colour::kHairline, 1));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(whole.adjusted(0.5, 0.5, -0.5, -0.5));
    } else {
        drawHead(painter, whole);
        drawAxes(painter, f);
    }
    painter.save();
    painter.setClipRect(f.area.adjusted(-6, -6, 6, 6));
    drawBands(painter, f);
    drawBars(painter, f);
    if (!e.pointsHidden) {
        drawPoints(painter, f);
    }
    drawBoxes(painter, f);
    painter.restore();
    drawLines(painter, f);
    if (e.compact && !e.bars.empty() && !e.tiles) {
        painter.setFont(interfaceFont(12, true));
        painter.setPen(colour::kInk);
        painter.drawText(whole.adjusted(6, 3, -4, 0), Qt::AlignLeft | Qt::AlignTop,
                         painter.fontMetrics().elidedText(numbered(e.title), Qt::ElideRight,
                                                          static_cast<int>(whole.width() - 10)));
    }
    const bool labelled = std::any_of(e.lines.begin(), e.lines.end(), [](const auto& line) {
        return line.series >= 0 && !line.name.empty();
    });
    if (!labelled && !e.seriesNames.empty()) {
        drawLegend(painter, f.area, e.seriesNames);
    }
}

void PlotView::drawLit(QPainter& painter, const QRectF& whole) const {
    const Exhibit& e = *exhibit_;
    if (standing_ && hasFocus() && e.barNames.empty()) {
        const Plane f = planeOf(whole);
        const Mark mark = marks().mark(order_[*standing_]);
        painter.setPen(QPen(colour::kInk, 1.5));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(QRectF(f.px(mark.x) - 6.0, f.py(mark.y) - 6.0, 12.0, 12.0));
    }
    if (empty_ || !e.barNames.empty() || (selection_.empty() && e.marked.empty() && !held_)) {
        return;
    }
    painter.setRenderHint(QPainter::Antialiasing);
    const Plane f = planeOf(whole);
    for (const auto& bar : e.bars) {
        if (bar.rows.empty() || selection_.empty()) {
            continue;
        }
        const auto lit = std::count_if(bar.rows.begin(), bar.rows.end(), [this](std::uint32_t row) {
            return selection_.contains(row);
        });
        if (lit == 0) {
            continue;
        }
        const double share = static_cast<double>(lit) / static_cast<double>(bar.rows.size());
        const double floor = f.py(bar.y0);
        // A single selected row among thousands must still be seen.
        const double top = std::min(floor - share * (floor - f.py(bar.y1)), floor - 3.0);
        const double right = f.px(bar.x1) - (e.tiles ? 0.0 : 1.0);
        // Beside its number on a tile, over the whole width of a bar.
        const double left = e.tiles ? std::max(f.px(bar.x0), right - 6.0) : f.px(bar.x0);
        painter.fillRect(QRectF(QPointF(left, top), QPointF(right, floor)), colour::kOchre);
    }
    for (const auto& line : e.lines) {
        if (!selection_.empty() &&
            std::any_of(line.rows.begin(), line.rows.end(),
                        [this](std::uint32_t row) { return selection_.contains(row); })) {
            painter.setPen(QPen(colour::kOchre, 1.8));
            painter.setBrush(Qt::NoBrush);
            for (std::size_t i = 1; i < line.x.size(); ++i) {
                painter.drawLine(QPointF(f.px(line.x[i - 1]), f.py(line.y[i - 1])),
                                 QPointF(f.px(line.x[i]), f.py(line.y[i])));
            }
        }
    }
    const std::size_t n = std::min({e.x.size(), e.y.size(), e.rows.size()});
    if (!selection_.empty() && n > kDensePoints) {
        painter.drawImage(
            f.area.topLeft(), meltedPoints(f.area.size(), n, true, [&](std::size_t i) {
                const QPointF at = selection_.contains(e.rows[i]) ? pointAt(f, i) - f.area.topLeft()
                                                                  : QPointF(-1.0, -1.0);
                return at;
            }));
    } else if (!selection_.empty()) {
        painter.setPen(QPen(colour::kInk, 0.8));
        painter.setBrush(colour::kOchre);
        const double size = e.compact ? 2.8 : 4.0;
        for (std::size_t i = 0; i < n; ++i) {
            if (selection_.contains(e.rows[i])) {
                painter.drawEllipse(pointAt(f, i), size, size);
            }
        }
    }
    if (held_ && n <= kDensePoints) {
        painter.setPen(QPen(colour::kPlum, 1.2));
        painter.setBrush(Qt::NoBrush);
        for (std::size_t i = 0; i < n; ++i) {
            if (const auto at = held_->find(e.rows[i]); at != held_->end()) {
                const double half = (e.compact ? 2.5 : 4.0) + 4.0 * (0.5 - at->second);
                const QPointF point = pointAt(f, i);
                painter.drawRect(QRectF(point - QPointF(half, half), point + QPointF(half, half)));
            }
        }
    }
    if (!e.marked.empty()) {
        RowSet marked;
        for (const std::size_t row : e.marked) {
            marked.insert(row);
        }
        painter.setPen(QPen(colour::kClay, 1.5));
        painter.setBrush(Qt::NoBrush);
        for (std::size_t i = 0; i < n; ++i) {
            if (marked.contains(e.rows[i])) {
                painter.drawEllipse(pointAt(f, i), 5, 5);
            }
        }
    }
}

void PlotView::draw(QPainter& painter, const QRectF& whole) const {
    drawBase(painter, whole);
    drawLit(painter, whole);
}

void PlotView::paintEvent(QPaintEvent* /*event*/) {
    const double scale = devicePixelRatioF();
    if (!baseFresh_ || base_.size() != size() * scale) {
        base_ = QPixmap(size() * scale);
        base_.setDevicePixelRatio(scale);
        base_.fill(Qt::transparent);
        QPainter onto(&base_);
        drawBase(onto, rect());
        baseFresh_ = true;
    }
    QPainter painter(this);
    painter.setOpacity(stale_ ? 0.45 : 1.0);
    painter.drawPixmap(0, 0, base_);
    drawLit(painter, rect());
    if (dragging_) {
        QColor wash = colour::kOchre;
        wash.setAlpha(36);
        painter.setRenderHint(QPainter::Antialiasing);
        if (lasso_) {
            painter.setPen(QPen(colour::kOchre, 1.2));
            painter.setBrush(wash);
            painter.drawPolygon(path_);
        } else {
            painter.fillRect(QRectF(dragFrom_, dragTo_).normalized(), wash);
        }
    }
    if (hasFocus() && !empty_) {
        painter.setRenderHint(QPainter::Antialiasing, false);
        painter.setPen(QPen(colour::kAccent, 1, Qt::DotLine));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(rect().adjusted(0, 0, -1, -1));
    }
}

void PlotView::resizeEvent(QResizeEvent* event) {
    baseFresh_ = false;
    QWidget::resizeEvent(event);
}

int PlotView::nearest(QPointF at) const {
    const Exhibit& e = *exhibit_;
    if (empty_ || !e.barNames.empty()) {
        return -1;
    }
    const Plane f = planeOf(rect());
    int best = -1;
    double least = 81.0;  // within nine pixels
    for (std::size_t i = 0; i < e.x.size() && i < e.y.size(); ++i) {
        const QPointF d = pointAt(f, i) - at;
        if (const double far = QPointF::dotProduct(d, d); far < least) {
            least = far;
            best = static_cast<int>(i);
        }
    }
    return best;
}

int PlotView::barAt(QPointF at) const {
    const Exhibit& e = *exhibit_;
    if (empty_ || !e.barNames.empty()) {
        return -1;
    }
    const Plane f = planeOf(rect());
    for (std::size_t i = 0; i < e.bars.size(); ++i) {
        const auto& bar = e.bars[i];
        // A bin with one row is as good to hit as a tall one: anywhere above the axis.
        const bool column = e.fromZero && !e.tiles;
        const double top = column ? f.area.top() : f.py(bar.y1);
        if (at.x() >= f.px(bar.x0) && at.x() < f.px(bar.x1) && at.y() >= top &&
            at.y() <= f.py(bar.y0)) {
            return static_cast<int>(i);
        }
    }
    return -1;
}

RowSet PlotView::rowsWithin() const {
    const Exhibit& e = *exhibit_;
    RowSet rows;
    const Plane f = planeOf(rect());
    const QRectF box = QRectF(dragFrom_, dragTo_).normalized();
    QImage mask;
    if (lasso_) {
        // One look a point, however long the path.
        mask = QImage(size(), QImage::Format_Grayscale8);
        mask.fill(0);
        QPainter painter(&mask);
        painter.setPen(Qt::NoPen);
        painter.setBrush(colour::kField);
        painter.drawPolygon(path_);
    }
    const auto within = [&](QPointF at) {
        return lasso_ ? mask.rect().contains(at.toPoint()) &&
                            mask.constScanLine(at.toPoint().y())[at.toPoint().x()] > 127
                      : box.contains(at);
    };
    const std::size_t n = std::min({e.rows.size(), e.x.size(), e.y.size()});
    if (!lasso_ && e.dx.empty() && e.dy.empty()) {
        // A million points are compared where they are, not on the screen.
        const double perX = (f.x1 - f.x0) / f.area.width();
        const double perY = (f.y1 - f.y0) / f.area.height();
        const double x0 = f.x0 + (box.left() - f.area.left()) * perX;
        const double x1 = f.x0 + (box.right() - f.area.left()) * perX;
        const double y0 = f.y0 + (f.area.bottom() - box.bottom()) * perY;
        const double y1 = f.y0 + (f.area.bottom() - box.top()) * perY;
        for (std::size_t i = 0; i < n; ++i) {
            const double x = e.x[i];
            const double y = e.y[i];
            if ((x >= x0) & (x <= x1) & (y >= y0) & (y <= y1)) {
                rows.insert(e.rows[i]);
            }
        }
    } else {
        for (std::size_t i = 0; i < n; ++i) {
            if (within(pointAt(f, i))) {
                rows.insert(e.rows[i]);
            }
        }
    }
    const QRectF around = lasso_ ? path_.boundingRect() : box;
    for (const auto& bar : e.bars) {
        const QRectF there(QPointF(f.px(bar.x0), f.py(bar.y1)),
                           QPointF(f.px(bar.x1), f.py(bar.y0)));
        if (!bar.rows.empty() && (lasso_ ? within(there.center()) : around.intersects(there))) {
            for (const std::uint32_t row : bar.rows) {
                rows.insert(row);
            }
        }
    }
    return rows;
}

void PlotView::mousePressEvent(QMouseEvent* event) {
    emit pressed();
    if (event->button() == Qt::LeftButton && !empty_) {
        dragFrom_ = dragTo_ = event->position();
        path_ = QPolygonF{dragFrom_};
        dragging_ = true;
    }
}

QString PlotView::wordsAt(QPointF at) const {
    const Exhibit& e = *exhibit_;
    if (const int i = nearest(at); i >= 0 && static_cast<std::size_t>(i) < e.rows.size()) {
        const auto k = static_cast<std::size_t>(i);
        const QString name = namer_ ? namer_(e.rows[k]) : tr("row %1").arg(e.rows[k] + 1);
        const auto place = static_cast<std::size_t>(std::max(e.x[k] - 1.0, 0.0));
        const QString x =
            numbered(place < e.xNames.size() ? e.xNames[place] : valueOn(e.xScale, e.x[k]));
        return QString("<b>%1</b><br>%2 %3<br>%4 %5")
            .arg(name.toHtmlEscaped(), text(e.xTitle).toHtmlEscaped(), x.toHtmlEscaped(),
                 text(e.yTitle).toHtmlEscaped(), numbered(valueOn(e.yScale, e.y[k])));
    }
    const int bar = barAt(at);
    return bar < 0 ? QString()
                   : numbered(e.bars[static_cast<std::size_t>(bar)].says).toHtmlEscaped();
}

void PlotView::mouseMoveEvent(QMouseEvent* event) {
    if (dragging_) {
        dragTo_ = event->position();
        if (lasso_) {
            path_ << dragTo_;
        }
        if ((dragTo_ - dragFrom_).manhattanLength() > 6 || path_.size() > 4) {
            RowSet rows = rowsWithin();
            if (event->modifiers().testFlag(Qt::ShiftModifier)) {
                for (const std::size_t row : selection_) {
                    rows.insert(row);
                }
            }
            emit rowsBrushed(rows);
        }
        update();
        return;
    }
    const QString words = wordsAt(event->position());
    words.isEmpty() ? QToolTip::hideText()
                    : QToolTip::showText(event->globalPosition().toPoint(), words, this);
}

void PlotView::mouseReleaseEvent(QMouseEvent* event) {
    if (!dragging_) {
        return;
    }
    dragging_ = false;
    dragTo_ = event->position();
    RowSet rows;
    if (event->modifiers().testFlag(Qt::ShiftModifier)) {
        rows = selection_;
    }
    const bool dragged = lasso_ ? path_.boundingRect().width() + path_.boundingRect().height() > 6
                                : (dragTo_ - dragFrom_).manhattanLength() > 6;
    if (dragged) {
        for (const std::size_t row : rowsWithin()) {
            rows.insert(row);
        }
    } else {
        const Exhibit& e = *exhibit_;
        const int i = nearest(event->position());
        const int bar = i >= 0 ? -1 : barAt(event->position());
        if (i >= 0 && static_cast<std::size_t>(i) < e.rows.size()) {
            rows.insert(e.rows[static_cast<std::size_t>(i)]);
        } else if (bar >= 0) {
            const Exhibit::Bar& one = e.bars[static_cast<std::size_t>(bar)];
            if (!one.of.empty()) {
                QStringList names;
                for (const std::string& name : one.of) {
                    names << text(name);
                }
                emit opened(names);
                update();
                return;
            }
            for (const std::uint32_t row : one.rows) {
                rows.insert(row);
            }
        }
    }
    emit rowsSelected(rows);
    update();
}

void PlotView::mouseDoubleClickEvent(QMouseEvent* event) {
    if (titleEditable_ && !empty_ && event->position().y() < 20) {
        editTitle();
        return;
    }
    if (exhibit_->compact && !exhibit_->x.empty()) {
        emit opened({text(exhibit_->yTitle), text(exhibit_->xTitle)});
        return;
    }
    QWidget::mouseDoubleClickEvent(event);
}

void PlotView::editTitle() {
    if (titleEdit_ == nullptr) {
        titleEdit_ = new QLineEdit(this);
        titleEdit_->setObjectName("plot:title");
        titleEdit_->setAccessibleName(tr("Title of the picture"));
        connect(titleEdit_, &QLineEdit::editingFinished, this, [this] {
            if (titleEdit_->isVisible()) {
                titleEdit_->hide();
                emit titleEdited(titleEdit_->text());
            }
        });
    }
    titleEdit_->setText(text(exhibit_->title));
    titleEdit_->setGeometry(0, 0, width() - 4, 24);
    titleEdit_->show();
    titleEdit_->setFocus();
    titleEdit_->selectAll();
}

void PlotView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) {
        emit rowsSelected({});
        return;
    }
    if (event->key() == Qt::Key_F2 && titleEditable_ && !empty_) {
        editTitle();
        return;
    }
    const int key = event->key();
    if (!empty_ && (key == Qt::Key_Right || key == Qt::Key_Left)) {
        stepTo(key == Qt::Key_Right ? 1 : -1);
        return;
    }
    if (standing_ && (key == Qt::Key_Return || key == Qt::Key_Enter || key == Qt::Key_Space)) {
        selectMark();
        return;
    }
    if (event->matches(QKeySequence::Copy) && !empty_) {
        copyNumbers();
        return;
    }
    QWidget::keyPressEvent(event);
}

void PlotView::stepTo(std::ptrdiff_t step) {
    const MarkTable& table = marks();
    if (order_.empty()) {
        std::vector<double> x(table.rows());
        for (std::size_t row = 0; row < x.size(); ++row) {
            const Mark mark = table.mark(row);
            x[row] = mark.x;
            // A gap in a line is no place to stand.
            if (std::isfinite(mark.x) && std::isfinite(mark.y)) {
                order_.push_back(static_cast<std::uint32_t>(row));
            }
        }
        std::stable_sort(order_.begin(), order_.end(),
                         [&](std::uint32_t a, std::uint32_t b) { return x[a] < x[b]; });
    }
    if (order_.empty()) {
        return;
    }
    const auto last = static_cast<std::ptrdiff_t>(order_.size()) - 1;
    const std::ptrdiff_t from =
        standing_ ? static_cast<std::ptrdiff_t>(*standing_) : (step > 0 ? -1 : last + 1);
    standing_ = static_cast<std::size_t>(std::clamp<std::ptrdiff_t>(from + step, 0, last));
    const std::size_t row = order_[*standing_];
    const Mark mark = table.mark(row);
    QToolTip::showText(mapToGlobal(pixelOf(mark.x, mark.y).toPoint()),
                       numbered(table.sentence(row)).toHtmlEscaped(), this);
    QAccessibleEvent said(this, QAccessible::DescriptionChanged);
    QAccessible::updateAccessibility(&said);
    update();
}

void PlotView::selectMark() {
    RowSet rows;
    for (const std::size_t row : marks().sourceRows(order_[*standing_])) {
        rows.insert(row);
    }
    emit rowsSelected(rows);
}

void PlotView::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    menu.addAction(lasso_ ? tr("Select by box") : tr("Select by lasso"), this,
                   [this] { setLasso(!lasso_); });
    if (titleEditable_) {
        menu.addAction(tr("Change the title"), this, &PlotView::editTitle);
    }
    menu.addAction(tr("Copy as picture"), this, &PlotView::copy);
    menu.addAction(tr("Copy its numbers"), this, &PlotView::copyNumbers);
    for (const PrintSize& size : kPrintSizes) {
        menu.addAction(tr("Save, %1…").arg(tr(size.name)), this,
                       [this, width = size.millimetres] { save(width); });
    }
    menu.exec(event->globalPos());
}

void PlotView::copy() {
    const OnPaper paper;
    QPixmap picture(size() * 2);
    picture.setDevicePixelRatio(2);
    picture.fill(Qt::white);
    QPainter painter(&picture);
    draw(painter, rect());
    painter.end();
    QApplication::clipboard()->setPixmap(picture);
}

void PlotView::copyNumbers() {
    constexpr std::size_t kMost = 100000;  // More no sheet takes at one go.
    QApplication::clipboard()->setText(text(marks().text(kMost)));
}

void PlotView::makeCorner() {
    corner_ = new QWidget(this);
    auto* line = new QHBoxLayout(corner_);
    line->setContentsMargins(4, 1, 4, 1);
    line->setSpacing(8);
    const auto word = [&](const QString& name, const char* id, auto act) {
        auto* button = new QPushButton(name, corner_);
        button->setObjectName(id);
        button->setFont(interfaceFont(11));
        button->setCursor(Qt::PointingHandCursor);
        button->setFocusPolicy(Qt::NoFocus);
        connect(button, &QPushButton::clicked, this, act);
        line->addWidget(button);
        return button;
    };
    lassoWord_ = word(tr("lasso"), "plot:lasso", [this] { setLasso(!lasso_); });
    word(tr("copy"), "plot:copy", &PlotView::copy);
    word(tr("save…"), "plot:save", &PlotView::offerSizes);
    corner_->hide();
}

void PlotView::enterEvent(QEnterEvent* event) {
    if (!exhibit_->compact) {
        corner_->adjustSize();
        corner_->move(width() - corner_->width(), 0);
        corner_->show();
    }
    QWidget::enterEvent(event);
}

void PlotView::leaveEvent(QEvent* event) {
    corner_->hide();
    QWidget::leaveEvent(event);
}

void PlotView::offerSizes() {
    QMenu menu(this);
    for (const PrintSize& size : kPrintSizes) {
        menu.addAction(tr(size.name), this, [this, width = size.millimetres] { save(width); });
    }
    menu.exec(QCursor::pos());
}

void PlotView::save(double millimetres) {
    const QString path = QFileDialog::getSaveFileName(this, tr("Save the figure"), "figure.svg",
                                                      tr("Figures (*.svg *.pdf *.png)"));
    if (!path.isEmpty() && !saveAs(path, millimetres)) {
        QToolTip::showText(QCursor::pos(), tr("The figure could not be written there."), this);
    }
}

bool PlotView::saveAs(const QString& path, double millimetres) {
    const OnPaper paper;
    // Drawn as if the page were `points` wide, so that 12-pixel type prints at 7 to 8 points.
    constexpr double kPixelsAMillimetre = 4.4;
    const double width = millimetres * kPixelsAMillimetre;
    const double height = width * std::max(this->height(), 1) / std::max(this->width(), 1);
    const QRectF page(0.0, 0.0, width, height);
    if (path.endsWith(".png", Qt::CaseInsensitive)) {
        constexpr double kDots = 600.0 / 25.4;  // A millimetre.
        const double scale = kDots / kPixelsAMillimetre;
        QImage picture(qRound(width * scale), qRound(height * scale), QImage::Format_RGB32);
        picture.setDotsPerMeterX(qRound(kDots * 1000.0));
        picture.setDotsPerMeterY(qRound(kDots * 1000.0));
        picture.fill(Qt::white);
        QPainter painter(&picture);
        painter.scale(scale, scale);
        draw(painter, page);
        painter.end();
        return picture.save(path);
    }
    if (path.endsWith(".pdf", Qt::CaseInsensitive)) {
        QPdfWriter writer(path);
        writer.setPageSize(
            QPageSize(QSizeF(millimetres, millimetres * height / width), QPageSize::Millimeter));
        writer.setPageMargins(QMarginsF());
        writer.setCreator("Rapporto");
        QPainter painter;
        if (!painter.begin(&writer)) {
            return false;
        }
        const double scale = writer.width() / width;
        painter.scale(scale, scale);
        draw(painter, page);
        return painter.end();
    }
    QSvgGenerator generator;
    generator.setFileName(path);
    generator.setSize(page.size().toSize());
    generator.setViewBox(page);
    QPainter painter;
    if (!painter.begin(&generator)) {
        return false;
    }
    draw(painter, page);
    return painter.end();
}

}  // namespace rapporto::app
