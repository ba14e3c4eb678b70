#include "app/stages/model/path_view.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/base/markup.h"
#include "core/expression/expression.h"
#include "core/report/wording.h"

#include <QDragEnterEvent>
#include <QKeyEvent>
#include <QMimeData>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QStandardItemModel>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

QPointF pointOf(PicturePoint point) { return {point.x, point.y}; }

QRectF rectOf(const PathBox& box) {
    return {box.middle.x - 0.5 * box.width, box.middle.y - 0.5 * box.height, box.width, box.height};
}

}  // namespace

PathView::PathView(QWidget* parent) : QWidget(parent) {
    setObjectName("paths");
    setAccessibleName(tr("Paths"));
    tellParts();
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAcceptDrops(true);
    setMinimumHeight(220);
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Expanding);
    setToolTip(
        tr("Drag a node onto another to draw a path, elsewhere to move it · P draws one by "
           "keys · Delete takes one out · M mutes"));
}

const Trace* PathView::trace() const {
    return answer_ && answer_->trace ? answer_->trace.get() : nullptr;
}

std::string PathView::nameOf(int node) const {
    const Trace* t = trace();
    return t == nullptr || node < 0 ? std::string() : t->nodes[static_cast<std::size_t>(node)].name;
}

void PathView::showAnswer(std::shared_ptr<const Answer> answer,
                          std::map<std::string, NodePlace> places, bool fresh) {
    const std::string node = nameOf(node_);
    std::string from;
    std::string to;
    if (const Trace* t = trace(); t != nullptr && arrow_ >= 0) {
        from = nameOf(t->arrows[static_cast<std::size_t>(arrow_)].from);
        to = nameOf(t->arrows[static_cast<std::size_t>(arrow_)].to);
    }
    const bool same = answer == answer_;
    answer_ = std::move(answer);
    places_ = std::move(places);
    fresh_ = fresh;
    if (!same) {
        // What was chosen stays chosen where it is still there.
        node_ = arrow_ = -1;
        lit_.clear();
        hovered_.clear();
        drawingFrom_.reset();
        if (const Trace* t = trace()) {
            for (std::size_t v = 0; v < t->nodes.size(); ++v) {
                node_ = t->nodes[v].name == node ? static_cast<int>(v) : node_;
            }
            for (std::size_t a = 0; a < t->arrows.size(); ++a) {
                arrow_ = nameOf(t->arrows[a].from) == from && nameOf(t->arrows[a].to) == to
                             ? static_cast<int>(a)
                             : arrow_;
            }
            setAccessibleDescription(numbered(withoutMarks(answerReading(*answer_))));
        }
    }
    layOut();
}

void PathView::layOut() {
    if (const Trace* t = trace()) {
        layout_ = layoutPaths(*t, places_, width(), height());
    }
    update();
}

void PathView::resizeEvent(QResizeEvent* /*event*/) { layOut(); }

void PathView::light(std::set<int> arrows) {
    lit_ = std::move(arrows);
    update();
}

void PathView::choose(int node, int arrow) {
    node_ = node;
    arrow_ = arrow;
    lit_ = node < 0 && arrow < 0 ? std::set<int>() : waysOf(node, arrow);
    update();
    tellChosen(*this);
    emit chosen();
}

std::vector<ToldPart> PathView::toldParts() {
    std::vector<ToldPart> out;
    const Trace* t = trace();
    if (t == nullptr) {
        return out;
    }
    for (const PathBox& box : layout_.boxes) {
        out.push_back({text(box.below.empty() ? box.name : box.name + ", " + box.below),
                       QRectF(box.middle.x - 0.5 * box.width, box.middle.y - 0.5 * box.height,
                              box.width, box.height)
                           .toRect(),
                       QAccessible::ListItem, box.node == node_,
                       [this, node = box.node] { choose(node, -1); }});
    }
    constexpr int kHalf = 12;
    for (const PathCurve& curve : layout_.curves) {
        const auto name = [&](int box) {
            return text(layout_.boxes[static_cast<std::size_t>(box)].name);
        };
        ToldPart part;
        part.name = (curve.arrow < 0 ? tr("%1 and %2: %3") : tr("from %1 to %2: %3"))
                        .arg(name(curve.from), name(curve.to), numbered(curve.text));
        part.place = QRect(QPointF(curve.textAt.x, curve.textAt.y).toPoint() - QPoint(kHalf, kHalf),
                           QSize(2 * kHalf, 2 * kHalf));
        if (curve.arrow >= 0) {
            part.chosen = curve.arrow == arrow_;
            part.press = [this, arrow = curve.arrow] { choose(-1, arrow); };
        }
        out.push_back(std::move(part));
    }
    return out;
}

QPointF PathView::placeOf(const std::string& node) const {
    for (const PathBox& box : layout_.boxes) {
        if (nameOf(box.node) == node) {
            return pointOf(box.middle);
        }
    }
    return {-1.0, -1.0};
}

QPointF PathView::numberOf(const std::string& from, const std::string& to) const {
    const Trace* t = trace();
    for (const PathCurve& curve : layout_.curves) {
        if (t != nullptr && curve.arrow >= 0) {
            const TraceArrow& arrow = t->arrows[static_cast<std::size_t>(curve.arrow)];
            if (nameOf(arrow.from) == from && nameOf(arrow.to) == to) {
                return pointOf(curve.textAt);
            }
        }
    }
    return {-1.0, -1.0};
}

std::set<int> PathView::waysOf(int node, int arrow) const {
    const Trace& t = *trace();
    const auto count = t.nodes.size();
    // Everything above the beginning and below the end.
    std::vector<bool> above(count, false);
    std::vector<bool> below(count, false);
    if (arrow >= 0) {
        above[static_cast<std::size_t>(t.arrows[static_cast<std::size_t>(arrow)].from)] = true;
        below[static_cast<std::size_t>(t.arrows[static_cast<std::size_t>(arrow)].to)] = true;
    } else {
        above[static_cast<std::size_t>(node)] = below[static_cast<std::size_t>(node)] = true;
    }
    for (std::size_t round = 0; round < count; ++round) {
        for (const TraceArrow& one : t.arrows) {
            const auto from = static_cast<std::size_t>(one.from);
            const auto to = static_cast<std::size_t>(one.to);
            above[from] = above[from] || above[to];
            below[to] = below[to] || below[from];
        }
    }
    std::set<int> out;
    for (std::size_t a = 0; a < t.arrows.size(); ++a) {
        const bool before = above[static_cast<std::size_t>(t.arrows[a].to)];
        const bool after = below[static_cast<std::size_t>(t.arrows[a].from)];
        if (before || after || static_cast<int>(a) == arrow) {
            out.insert(static_cast<int>(a));
        }
    }
    return out;
}

int PathView::boxAt(QPointF point) const {
    for (std::size_t b = 0; b < layout_.boxes.size(); ++b) {
        if (layout_.boxes[b].holds({point.x(), point.y()})) {
            return static_cast<int>(b);
        }
    }
    return -1;
}

int PathView::arrowAt(QPointF point) const {
    double nearest = 9.0;
    int found = -1;
    for (const PathCurve& curve : layout_.curves) {
        if (curve.arrow < 0) {
            continue;
        }
        const bool onText = std::abs(point.x() - curve.textAt.x) < 34.0 &&
                            std::abs(point.y() - curve.textAt.y) < 10.0;
        for (double share = 0.0; share <= 1.0; share += 0.02) {
            const PicturePoint at = curve.at(share);
            const double off = onText ? 0.0 : std::hypot(point.x() - at.x, point.y() - at.y);
            if (off < nearest) {
                nearest = off;
                found = curve.arrow;
            }
        }
    }
    return found;
}

void PathView::drawCurve(QPainter& painter, const PathCurve& curve, bool lit, bool dim) const {
    const bool together = curve.arrow < 0;
    QColor ink = together       ? colour::kSoft
                 : lit          ? colour::kAccent
                 : curve.broken ? colour::kMuted
                                : colour::kAccentSoft;
    ink.setAlphaF(dim ? 0.28F : 1.0F);
    QPainterPath path(pointOf(curve.start));
    path.quadTo(pointOf(curve.control), pointOf(curve.end));
    QPen pen(ink, curve.width, Qt::SolidLine, Qt::FlatCap);
    if (curve.broken) {
        pen.setDashPattern({7.0 / curve.width, 5.0 / curve.width});
    }
    painter.setPen(pen);
    painter.setBrush(Qt::NoBrush);
    painter.drawPath(path);
    if (together) {
        return;
    }
    const QPointF end = pointOf(curve.end);
    const QPointF along = end - pointOf(curve.control);
    const double length = std::max(std::hypot(along.x(), along.y()), 1.0);
    const QPointF unit = along / length;
    const QPointF side(-unit.y(), unit.x());
    const double size = 8.0 + curve.width;
    const double wide = 3.5 + 0.6 * curve.width;
    painter.setPen(Qt::NoPen);
    painter.setBrush(lit ? colour::kAccent : ink);
    painter.drawPolygon(
        QPolygonF({end, end - size * unit + wide * side, end - size * unit - wide * side}));
}

void PathView::drawBox(QPainter& painter, const PathBox& box, bool lit, bool dim) const {
    QRectF area = rectOf(box);
    const bool moving = dragged_ >= 0 && &layout_.boxes[static_cast<std::size_t>(dragged_)] == &box;
    if (moving && moved_) {
        area.translate(dragAt_ - pressedAt_);
    }
    const bool own = box.node == node_;
    painter.setOpacity(dim ? 0.45 : 1.0);
    painter.setBrush(own ? colour::kAccentWash : colour::kPanel);
    painter.setPen(QPen(own || lit ? colour::kAccent
                        : box.last ? colour::kPlum
                                   : colour::kSlate,
                        own ? 2.0 : 1.3));
    painter.drawRoundedRect(area, 0.5 * area.height(), 0.5 * area.height());
    if (drawingFrom_ && box.node == target_) {
        painter.setPen(QPen(colour::kOchre, 2.0, Qt::DashLine));
        painter.setBrush(Qt::NoBrush);
        painter.drawRoundedRect(area.adjusted(-4, -4, 4, 4), 0.5 * area.height() + 4,
                                0.5 * area.height() + 4);
    }
    painter.setPen(colour::kInk);
    painter.setFont(interfaceFont(13));
    const bool two = !box.below.empty();
    painter.drawText(
        two ? area.adjusted(6, 5, -6, -area.height() * 0.44) : area.adjusted(6, 0, -6, 0),
        Qt::AlignCenter,
        painter.fontMetrics().elidedText(text(box.name), Qt::ElideRight,
                                         static_cast<int>(area.width()) - 12));
    if (two) {
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(11));
        painter.drawText(area.adjusted(6, area.height() * 0.5, -6, -5), Qt::AlignCenter,
                         painter.fontMetrics().elidedText(text(box.below), Qt::ElideRight,
                                                          static_cast<int>(area.width()) - 14));
    }
    painter.setOpacity(1.0);
}

void PathView::paintEvent(QPaintEvent* /*event*/) {
    if (trace() == nullptr) {
        return;
    }
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    if (!fresh_) {
        painter.setOpacity(0.45);
    }
    const std::set<int>& lit = hovered_.empty() ? lit_ : hovered_;
    std::set<int> nodes;
    for (const int arrow : lit) {
        nodes.insert(trace()->arrows[static_cast<std::size_t>(arrow)].from);
        nodes.insert(trace()->arrows[static_cast<std::size_t>(arrow)].to);
    }
    for (const bool front : {false, true}) {
        for (const PathCurve& curve : layout_.curves) {
            const bool on = lit.contains(curve.arrow);
            if (on == front) {
                drawCurve(painter, curve, on, !lit.empty() && !on);
            }
        }
    }
    for (const PathCurve& curve : layout_.curves) {
        const bool dim = !lit.empty() && !lit.contains(curve.arrow);
        const bool own = curve.arrow >= 0 && curve.arrow == arrow_;
        painter.setFont(interfaceFont(curve.arrow < 0 ? 11 : 12, own));
        const QString number = numbered(curve.text);
        const double half = 0.5 * painter.fontMetrics().horizontalAdvance(number) + 4.0;
        const QRectF area(curve.textAt.x - half, curve.textAt.y - 9.0, 2.0 * half, 18.0);
        QColor ground = own ? colour::kAccentWash : colour::kGround;
        ground.setAlphaF(0.92F);
        painter.fillRect(area, ground);
        QColor ink = curve.arrow < 0 ? colour::kSoft : colour::kInk;
        ink.setAlphaF(dim ? 0.35F : 1.0F);
        painter.setPen(ink);
        painter.drawText(area, Qt::AlignCenter, number);
    }
    for (const PathBox& box : layout_.boxes) {
        drawBox(painter, box, nodes.contains(box.node), !lit.empty() && !nodes.contains(box.node));
    }
    if (dragged_ >= 0 && moved_) {
        const int over = boxAt(dragAt_);
        if (over >= 0 && over != dragged_) {
            painter.setPen(QPen(colour::kOchre, 2.0, Qt::DashLine));
            painter.drawLine(pointOf(layout_.boxes[static_cast<std::size_t>(dragged_)].middle),
                             pointOf(layout_.boxes[static_cast<std::size_t>(over)].middle));
        }
    }
    if (hasFocus() && node_ < 0 && arrow_ < 0) {
        painter.setPen(QPen(colour::kAccent, 1.0, Qt::DotLine));
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(rect().adjusted(1, 1, -2, -2));
    }
    if (drawingFrom_) {
        painter.setPen(colour::kOchreText);
        painter.setFont(interfaceFont(12));
        painter.drawText(QRectF(8, height() - 22, width() - 16, 18), Qt::AlignLeft,
                         tr("a path from %1 to … Tab chooses, Return draws it, Esc leaves it")
                             .arg(text(nameOf(*drawingFrom_))));
    }
}

void PathView::mousePressEvent(QMouseEvent* event) {
    if (trace() == nullptr || event->button() != Qt::LeftButton) {
        return;
    }
    setFocus();
    dragged_ = boxAt(event->position());
    pressedAt_ = dragAt_ = event->position();
    moved_ = false;
    if (dragged_ >= 0) {
        choose(layout_.boxes[static_cast<std::size_t>(dragged_)].node, -1);
    } else {
        choose(-1, arrowAt(event->position()));
    }
}

void PathView::mouseMoveEvent(QMouseEvent* event) {
    if (trace() == nullptr) {
        return;
    }
    if (dragged_ >= 0 && event->buttons().testFlag(Qt::LeftButton)) {
        dragAt_ = event->position();
        const QPointF off = dragAt_ - pressedAt_;
        moved_ = moved_ || std::hypot(off.x(), off.y()) > 5.0;
        update();
        return;
    }
    const int box = boxAt(event->position());
    const int arrow = box >= 0 ? -1 : arrowAt(event->position());
    setCursor(box >= 0 || arrow >= 0 ? Qt::PointingHandCursor : Qt::ArrowCursor);
    const auto now = box >= 0     ? waysOf(layout_.boxes[static_cast<std::size_t>(box)].node, -1)
                     : arrow >= 0 ? waysOf(-1, arrow)
                                  : std::set<int>();
    if (now != hovered_) {
        hovered_ = now;
        update();
    }
}

void PathView::mouseReleaseEvent(QMouseEvent* event) {
    const int from = dragged_;
    const bool moved = moved_;
    dragged_ = -1;
    moved_ = false;
    update();
    if (from < 0 || !moved || trace() == nullptr) {
        return;
    }
    const PathBox& box = layout_.boxes[static_cast<std::size_t>(from)];
    const int over = boxAt(event->position());
    if (over >= 0 && over != from) {
        emit pathDrawn(nameOf(box.node),
                       nameOf(layout_.boxes[static_cast<std::size_t>(over)].node));
        return;
    }
    const QPointF at = pointOf(box.middle) + (event->position() - pressedAt_);
    if (over < 0 || over == from) {
        emit nodeMoved(nameOf(box.node), {std::clamp(at.x() / width(), 0.0, 1.0),
                                          std::clamp(at.y() / height(), 0.0, 1.0)});
    }
}

void PathView::leaveEvent(QEvent* /*event*/) {
    hovered_.clear();
    update();
}

void PathView::step(int by) {
    const auto nodes = static_cast<int>(layout_.boxes.size());
    std::vector<int> arrows;
    for (const PathCurve& curve : layout_.curves) {
        if (curve.arrow >= 0) {
            arrows.push_back(curve.arrow);
        }
    }
    int at = -1;
    for (int b = 0; b < nodes; ++b) {
        at = layout_.boxes[static_cast<std::size_t>(b)].node == node_ ? b : at;
    }
    for (std::size_t a = 0; a < arrows.size(); ++a) {
        at = arrows[a] == arrow_ ? nodes + static_cast<int>(a) : at;
    }
    const int all = nodes + static_cast<int>(arrows.size());
    const int next = at < 0 ? (by > 0 ? 0 : all - 1) : at + by;
    if (next < nodes) {
        choose(layout_.boxes[static_cast<std::size_t>(next)].node, -1);
    } else {
        choose(-1, arrows[static_cast<std::size_t>(next - nodes)]);
    }
}

bool PathView::focusNextPrevChild(bool next) {
    if (trace() == nullptr || layout_.boxes.empty()) {
        return QWidget::focusNextPrevChild(next);
    }
    const auto nodes = static_cast<int>(layout_.boxes.size());
    if (drawingFrom_) {
        int at = 0;
        for (int b = 0; b < nodes; ++b) {
            at = layout_.boxes[static_cast<std::size_t>(b)].node == target_ ? b : at;
        }
        do {
            at = (at + (next ? 1 : nodes - 1)) % nodes;
            target_ = layout_.boxes[static_cast<std::size_t>(at)].node;
        } while (target_ == *drawingFrom_ && nodes > 1);
        update();
        return true;
    }
    // Past the last and before the first the window goes on.
    const bool none = node_ < 0 && arrow_ < 0;
    int arrows = 0;
    int lastArrow = -1;
    for (const PathCurve& curve : layout_.curves) {
        arrows += curve.arrow >= 0 ? 1 : 0;
        lastArrow = curve.arrow >= 0 ? curve.arrow : lastArrow;
    }
    const bool first = node_ >= 0 && node_ == layout_.boxes.front().node;
    const bool last =
        arrows > 0 ? arrow_ >= 0 && arrow_ == lastArrow : node_ == layout_.boxes.back().node;
    if (!none && ((next && last) || (!next && first))) {
        choose(-1, -1);
        return QWidget::focusNextPrevChild(next);
    }
    step(next ? 1 : -1);
    return true;
}

void PathView::takeOut() {
    const Trace& t = *trace();
    if (arrow_ >= 0) {
        const TraceArrow& arrow = t.arrows[static_cast<std::size_t>(arrow_)];
        emit pathRemoved(nameOf(arrow.from), nameOf(arrow.to));
    } else if (node_ >= 0) {
        emit nodeRemoved(nameOf(node_));
    }
}

bool PathView::event(QEvent* event) {
    if (event->type() == QEvent::ShortcutOverride && trace() != nullptr) {
        // On what is chosen here these keys mean it, not the window’s shortcuts.
        const auto* key = static_cast<QKeyEvent*>(event);
        const bool chosen = node_ >= 0 || arrow_ >= 0;
        const bool own = key->key() == Qt::Key_Delete || key->key() == Qt::Key_Backspace ||
                         key->key() == Qt::Key_P || key->key() == Qt::Key_M ||
                         key->key() == Qt::Key_Escape;
        if (chosen && own && key->modifiers() == Qt::NoModifier) {
            event->accept();
            return true;
        }
    }
    return QWidget::event(event);
}

void PathView::keyPressEvent(QKeyEvent* event) {
    if (trace() == nullptr) {
        QWidget::keyPressEvent(event);
        return;
    }
    switch (event->key()) {
        case Qt::Key_P:
            if (node_ >= 0 && layout_.boxes.size() > 1) {
                drawingFrom_ = node_;
                target_ = node_;
                focusNextPrevChild(true);
            }
            return;
        case Qt::Key_Return:
        case Qt::Key_Enter:
            if (drawingFrom_ && target_ >= 0) {
                const std::string from = nameOf(*drawingFrom_);
                const std::string to = nameOf(target_);
                drawingFrom_.reset();
                emit pathDrawn(from, to);
                return;
            }
            break;
        case Qt::Key_Escape:
            if (drawingFrom_) {
                drawingFrom_.reset();
                update();
                return;
            }
            if (node_ >= 0 || arrow_ >= 0) {
                choose(-1, -1);
                return;
            }
            break;
        case Qt::Key_Delete:
        case Qt::Key_Backspace:
            takeOut();
            return;
        case Qt::Key_M:
            if (node_ >= 0) {
                emit nodeMuted(nameOf(node_));
                return;
            }
            break;
        default:
            break;
    }
    QWidget::keyPressEvent(event);
}

void PathView::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat("application/x-qabstractitemmodeldatalist")) {
        event->acceptProposedAction();
    }
}

void PathView::dropEvent(QDropEvent* event) {
    QStandardItemModel dropped;
    dropped.dropMimeData(event->mimeData(), Qt::CopyAction, 0, 0, {});
    for (int row = 0; row < dropped.rowCount(); ++row) {
        emit variableDropped(quotedName(utf8(dropped.item(row)->text())));
    }
    event->acceptProposedAction();
}

}  // namespace rapporto::app
