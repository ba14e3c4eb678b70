#include "app/stages/report/page_view.h"

#include "app/shell/theme.h"
#include "core/base/markup.h"

#include <QApplication>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPlainTextEdit>
#include <QScrollBar>
#include <QWheelEvent>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

constexpr double kBetween = 18.0;  // Pixels around and between pages.
constexpr double kLargest = 4.0;
constexpr double kSmallest = 0.4;

/// The cell of a block that has this part, or null.
const Cell* cellOf(const ReportBlock& block, const std::string& part) {
    for (const CellRow& row : block.cells) {
        for (const Cell& cell : row) {
            if (cell.part == part) {
                return &cell;
            }
        }
    }
    return nullptr;
}

/// Which head a part is, from 0; −1: it is none.
int headOf(const std::string& part) {
    return part.starts_with("head:") ? std::stoi(part.substr(5)) : -1;
}

/// What of a block a person can write: all after “**Table 2.** ” of a caption, after “(2) ” of a
/// head.
QString editable(const ReportBlock& block, const std::string& part) {
    if (!part.empty()) {
        const Cell* cell = cellOf(block, part);
        const std::string words = cell == nullptr ? std::string() : cell->text;
        const std::size_t number = words.starts_with('(') ? words.find(')') : std::string::npos;
        return text(number == std::string::npos ? words : words.substr(number + 1)).trimmed();
    }
    const std::size_t number = block.text.find(".** ");
    return text(block.part == "caption" && number != std::string::npos
                    ? block.text.substr(number + 4)
                    : block.text);
}

}  // namespace

PageView::PageView(QWidget* parent) : QAbstractScrollArea(parent) {
    setFrameShape(QFrame::NoFrame);
    setFocusPolicy(Qt::StrongFocus);
    tellParts();
    viewport()->setCursor(Qt::ArrowCursor);
    viewport()->setMouseTracking(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAsNeeded);
}

void PageView::showPages(std::shared_ptr<const Press> press, ReportPages pages) {
    endEdit(true);
    press_ = std::move(press);
    pages_ = std::move(pages);
    nothing_.clear();
    painted_.assign(press_->pages(), {});
    found_ = -1;
    stale_ = false;
    setAccessibleDescription(words());
    layOut();
}

void PageView::showNothing(const QString& why) {
    endEdit(true);
    press_.reset();
    pages_ = {};
    painted_.clear();
    nothing_ = why;
    stale_ = false;
    setAccessibleDescription(why);
    layOut();
}

void PageView::setStale(bool stale) {
    if (stale_ != stale) {
        stale_ = stale;
        viewport()->update();
    }
}

void PageView::choose(int item) {
    if (item_ == item) {
        return;
    }
    item_ = item;
    viewport()->update();
    for (std::size_t b = 0; b < pages_.blocks.size(); ++b) {
        if (pages_.blocks[b].item == item) {
            const QRectF box = boxOf(b);
            if (!box.isEmpty() && !viewport()->rect().toRectF().intersects(box)) {
                verticalScrollBar()->setValue(
                    static_cast<int>(verticalScrollBar()->value() + box.top() - 40.0));
            }
            break;
        }
    }
}

void PageView::setZoom(double zoom) {
    zoom_ = zoom <= 0.0 ? 0.0 : std::clamp(zoom, kSmallest, kLargest);
    layOut();
}

double PageView::scale() const {
    if (zoom_ > 0.0 || press_ == nullptr) {
        return zoom_ > 0.0 ? zoom_ : 1.0;
    }
    double widest = 1.0;
    for (std::size_t page = 0; page < press_->pages(); ++page) {
        widest = std::max(widest, press_->sheet(page).width);
    }
    // A page on its side is fitted as well: nothing is to be scrolled to sideways.
    return std::clamp((viewport()->width() - 2.0 * kBetween) / widest, kSmallest, 1.6);
}

void PageView::layOut() {
    endEdit(true);
    drag_.reset();
    tops_.clear();
    height_ = kBetween;
    width_ = 0.0;
    if (press_ != nullptr) {
        for (std::size_t page = 0; page < press_->pages(); ++page) {
            const Press::Sheet sheet = press_->sheet(page);
            tops_.push_back(height_);
            height_ += sheet.height * scale() + kBetween;
            width_ = std::max(width_, sheet.width * scale() + 2.0 * kBetween);
        }
    }
    verticalScrollBar()->setRange(0, std::max(0, static_cast<int>(height_) - viewport()->height()));
    verticalScrollBar()->setPageStep(viewport()->height());
    verticalScrollBar()->setSingleStep(40);
    horizontalScrollBar()->setRange(0, std::max(0, static_cast<int>(width_) - viewport()->width()));
    horizontalScrollBar()->setPageStep(viewport()->width());
    viewport()->update();
}

QRectF PageView::pageBox(std::size_t page) const {
    const Press::Sheet sheet = press_->sheet(page);
    const double wide = sheet.width * scale();
    const double left =
        std::max(kBetween, 0.5 * (viewport()->width() - wide)) - horizontalScrollBar()->value();
    return {left, tops_[page] - verticalScrollBar()->value(), wide, sheet.height * scale()};
}

QRectF PageView::boxOf(std::size_t block) const {
    QRectF out;
    if (press_ == nullptr) {
        return out;
    }
    for (const Press::Place& place : press_->places()) {
        if (place.block == block) {
            out |= boxOf(place);
        }
    }
    return out;
}

QRectF PageView::boxOf(const Press::Place& place) const {
    const QRectF page = pageBox(place.page);
    return {page.left() + place.x * scale(), page.top() + place.y * scale(), place.width * scale(),
            std::max(place.height, 2.0) * scale()};
}

QRectF PageView::boxOf(std::size_t block, const std::string& part) const {
    for (const Press::Place& place :
         press_ == nullptr ? std::vector<Press::Place>() : press_->places()) {
        if (place.block == block && place.part == part) {
            return boxOf(place);
        }
    }
    return {};
}

std::string PageView::partAt(QPointF at) const {
    if (press_ != nullptr) {
        for (const Press::Place& place : press_->places()) {
            if (!place.part.empty() && boxOf(place).adjusted(-2, -3, 2, 3).contains(at)) {
                return place.part;
            }
        }
    }
    return {};
}

int PageView::headAt(QPointF at) const {
    int nearest = -1;
    double least = 0.0;
    for (const Press::Place& place : press_->places()) {
        if (static_cast<int>(place.block) == drag_->block && headOf(place.part) >= 0) {
            const double away = std::abs(boxOf(place).center().x() - at.x());
            if (nearest < 0 || away < least) {
                nearest = headOf(place.part);
                least = away;
            }
        }
    }
    return nearest;
}

int PageView::lastItem() const { return pages_.blocks.empty() ? -1 : pages_.blocks.back().item; }

int PageView::gapAt(QPointF at) const {
    // Before the first item whose middle lies below the mouse.
    for (int item = 0; item <= lastItem(); ++item) {
        QRectF all;
        for (std::size_t b = 0; b < pages_.blocks.size(); ++b) {
            if (pages_.blocks[b].item == item) {
                all |= boxOf(b);
            }
        }
        if (!all.isEmpty() && at.y() < all.center().y()) {
            return item;
        }
    }
    return lastItem() + 1;
}

void PageView::paintDrag(QPainter& painter) const {
    painter.setPen(QPen(colour::kAccent, 2.0));
    if (!drag_->part.empty()) {
        const auto block = static_cast<std::size_t>(drag_->block);
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(boxOf(block, drag_->part).adjusted(-3, -2, 3, 2));
        const int to = headAt(drag_->at);
        const QRectF head = boxOf(block, "head:" + std::to_string(to));
        const double x = to > headOf(drag_->part) ? head.right() + 4.0 : head.left() - 4.0;
        painter.drawLine(QPointF(x, head.top() - 2.0), QPointF(x, boxOf(block).bottom()));
        return;
    }
    const int before = gapAt(drag_->at);
    QRectF all;
    for (std::size_t b = 0; b < pages_.blocks.size(); ++b) {
        const int item = pages_.blocks[b].item;
        if (item == before || (before > lastItem() && item == lastItem())) {
            all |= boxOf(b);
        }
    }
    const double y = before > lastItem() ? all.bottom() + 5.0 : all.top() - 5.0;
    painter.drawLine(QPointF(all.left() - 6.0, y), QPointF(all.right() + 6.0, y));
}

int PageView::blockAt(QPointF at) const {
    for (std::size_t b = 0; b < pages_.blocks.size(); ++b) {
        if (boxOf(b).adjusted(-8, -2, 8, 2).contains(at)) {
            return static_cast<int>(b);
        }
    }
    return -1;
}

QString PageView::words() const {
    QStringList out = {text(pages_.title)};
    for (const ReportBlock& block : pages_.blocks) {
        if (!block.text.empty()) {
            out << text(withoutMarks(block.text));
        }
        for (const CellRow& row : block.cells) {
            QStringList cells;
            for (const Cell& cell : row) {
                cells << text(withoutMarks(cell.text));
            }
            out << cells.join('\t');
        }
    }
    return out.join('\n');
}

std::vector<ToldPart> PageView::toldParts() {
    using Kind = ReportBlock::Kind;
    std::vector<ToldPart> out;
    for (std::size_t b = 0; press_ && b < pages_.blocks.size(); ++b) {
        const ReportBlock& block = pages_.blocks[b];
        ToldPart part;
        part.place = boxOf(b).toRect();
        part.role = block.kind == Kind::Heading  ? QAccessible::Heading
                    : block.kind == Kind::Figure ? QAccessible::Graphic
                                                 : QAccessible::Paragraph;
        part.name = text(withoutMarks(block.text));
        part.chosen = block.item >= 0 && block.item == item_;
        part.press = [this, item = block.item] { emit chosen(item); };
        if (!part.name.isEmpty()) {
            out.push_back(part);
        }
        for (const CellRow& row : block.cells) {
            QStringList cells;
            for (const Cell& cell : row) {
                cells << text(withoutMarks(cell.text));
            }
            part.role = QAccessible::Row;
            part.name = cells.join("; ");
            out.push_back(part);
        }
    }
    return out;
}

bool PageView::find(const QString& sought) {
    const int count = static_cast<int>(pages_.blocks.size());
    for (int step = 1; step <= count && !sought.isEmpty(); ++step) {
        const int b = (found_ + step) % count;
        const ReportBlock& block = pages_.blocks[static_cast<std::size_t>(b)];
        QString all = text(withoutMarks(block.text));
        for (const CellRow& row : block.cells) {
            for (const Cell& cell : row) {
                all += '\t' + text(cell.text);
            }
        }
        if (all.contains(sought, Qt::CaseInsensitive)) {
            found_ = b;
            const QRectF box = boxOf(static_cast<std::size_t>(b));
            verticalScrollBar()->setValue(
                static_cast<int>(verticalScrollBar()->value() + box.top() - 60.0));
            choose(block.item);
            emit chosen(block.item);
            viewport()->update();
            return true;
        }
    }
    return false;
}

const QImage& PageView::imageOf(std::size_t page) {
    const double dots = scale() * devicePixelRatioF();
    Painted& painted = painted_[page];
    if (painted.scale != dots) {
        const Press::Sheet sheet = press_->sheet(page);
        painted.image = QImage(static_cast<int>(std::ceil(sheet.width * dots)),
                               static_cast<int>(std::ceil(sheet.height * dots)),
                               QImage::Format_ARGB32_Premultiplied);
        press_->paint(page, dots, painted.image.bits(), painted.image.width(),
                      painted.image.height(), static_cast<int>(painted.image.bytesPerLine()));
        painted.image.setDevicePixelRatio(devicePixelRatioF());
        painted.scale = dots;
    }
    return painted.image;
}

void PageView::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(viewport());
    painter.fillRect(viewport()->rect(), colour::kGround);
    if (press_ == nullptr) {
        painter.setPen(colour::kSoft);
        painter.setFont(interfaceFont(13));
        painter.drawText(viewport()->rect().adjusted(40, 40, -40, -40),
                         Qt::AlignTop | Qt::AlignLeft | Qt::TextWordWrap, nothing_);
        return;
    }
    for (std::size_t page = 0; page < press_->pages(); ++page) {
        const QRectF box = pageBox(page);
        if (!box.intersects(viewport()->rect().toRectF())) {
            painted_[page] = {};  // Far pages are painted again when they come.
            continue;
        }
        painter.drawImage(box.topLeft(), imageOf(page));
        painter.setPen(colour::kHairline);
        painter.setBrush(Qt::NoBrush);
        painter.drawRect(box.adjusted(-0.5, -0.5, 0.5, 0.5));
    }
    for (std::size_t b = 0; b < pages_.blocks.size(); ++b) {
        if (item_ >= 0 && pages_.blocks[b].item == item_) {
            for (const Press::Place& place : press_->places()) {
                if (place.block == b) {
                    const QRectF page = pageBox(place.page);
                    painter.fillRect(
                        QRectF(page.left() + 40.0 * scale(), page.top() + place.y * scale(), 2.0,
                               place.height * scale()),
                        colour::kAccent);
                }
            }
        }
    }
    if (drag_ && drag_->begun) {
        paintDrag(painter);
    }
    if (stale_) {
        QColor veil = colour::kGround;
        veil.setAlpha(150);
        painter.fillRect(viewport()->rect(), veil);
        painter.setPen(colour::kAccent);
        painter.setFont(interfaceFont(13));
        painter.drawText(viewport()->rect().adjusted(0, 8, -12, 0), Qt::AlignTop | Qt::AlignRight,
                         tr("being made anew…"));
    }
}

void PageView::resizeEvent(QResizeEvent* event) {
    QAbstractScrollArea::resizeEvent(event);
    layOut();
}

void PageView::mousePressEvent(QMouseEvent* event) {
    const int block = blockAt(event->position());
    const int item = block < 0 ? -1 : pages_.blocks[static_cast<std::size_t>(block)].item;
    found_ = block;
    choose(item);
    emit chosen(item);
    drag_.reset();
    if (event->button() == Qt::LeftButton && item >= 0) {
        drag_ = Drag{event->position(), event->position(), block, partAt(event->position()), false};
    }
}

void PageView::mouseMoveEvent(QMouseEvent* event) {
    if (!drag_) {
        viewport()->setCursor(partAt(event->position()).empty() ? Qt::ArrowCursor
                                                                : Qt::IBeamCursor);
        return;
    }
    drag_->at = event->position();
    drag_->begun = drag_->begun ||
                   (drag_->at - drag_->from).manhattanLength() >= QApplication::startDragDistance();
    if (drag_->begun) {
        viewport()->setCursor(Qt::ClosedHandCursor);
        viewport()->update();
    }
}

void PageView::mouseReleaseEvent(QMouseEvent* event) {
    if (!drag_) {
        return;
    }
    drag_->at = event->position();
    const bool begun = drag_->begun && press_ != nullptr;
    const int item = pages_.blocks[static_cast<std::size_t>(drag_->block)].item;
    const int head = begun && !drag_->part.empty() ? headAt(drag_->at) : -1;
    const int gap = begun && drag_->part.empty() ? gapAt(drag_->at) : -1;
    const int from = headOf(drag_->part);
    drag_.reset();
    viewport()->setCursor(Qt::ArrowCursor);
    viewport()->update();
    if (head >= 0 && head != from) {
        emit columnMoved(item, from, head);
    } else if (gap >= 0) {
        const int to = gap > item ? gap - 1 : gap;
        if (to != item) {
            emit itemMoved(item, to);
        }
    }
}

void PageView::mouseDoubleClickEvent(QMouseEvent* event) {
    drag_.reset();
    if (const int block = blockAt(event->position()); block >= 0) {
        edit(static_cast<std::size_t>(block), partAt(event->position()));
    }
}

void PageView::keyPressEvent(QKeyEvent* event) {
    switch (event->key()) {
        case Qt::Key_Escape:
            if (drag_) {
                drag_.reset();
                viewport()->update();
                return;
            }
            QAbstractScrollArea::keyPressEvent(event);
            return;
        case Qt::Key_Down:
        case Qt::Key_Up: {
            const int next =
                std::clamp(item_ + (event->key() == Qt::Key_Down ? 1 : -1), 0, lastItem());
            choose(next);
            emit chosen(next);
            return;
        }
        case Qt::Key_F2:
        case Qt::Key_Return:
            for (std::size_t b = 0; b < pages_.blocks.size(); ++b) {
                if (pages_.blocks[b].item == item_ && !pages_.blocks[b].part.empty()) {
                    edit(b);
                    return;
                }
            }
            return;
        case Qt::Key_Plus:
            setZoom(scale() * 1.15);
            return;
        case Qt::Key_Minus:
            setZoom(scale() / 1.15);
            return;
        case Qt::Key_0:
            setZoom(0.0);
            return;
        default:
            QAbstractScrollArea::keyPressEvent(event);
    }
}

void PageView::wheelEvent(QWheelEvent* event) {
    if ((event->modifiers() & Qt::ControlModifier) != 0) {
        setZoom(scale() * std::pow(1.0015, event->angleDelta().y()));
        return;
    }
    QAbstractScrollArea::wheelEvent(event);
}

void PageView::edit(std::size_t block, const std::string& part) {
    const ReportBlock& of = pages_.blocks[block];
    if (of.part == "text") {
        emit editAsked(of.item);
        return;
    }
    if (part.empty() && of.part != "caption" && of.part != "note") {
        return;
    }
    endEdit(true);
    editing_ = static_cast<int>(block);
    editingPart_ = part;
    const QRectF box = part.empty() ? boxOf(block) : boxOf(block, part);
    editor_ = new QPlainTextEdit(viewport());
    editor_->setObjectName("pageEdit");
    editor_->setAccessibleName(!part.empty()          ? tr("Head of the column")
                               : of.part == "caption" ? tr("Caption")
                                                      : tr("Note"));
    editor_->setFont(paperFont(std::max(11, static_cast<int>(10.5 * scale()))));
    editor_->setPlainText(editable(of, part));
    const double wide = std::max(box.width(), (part.empty() ? 340.0 : 120.0) * scale());
    editor_->setGeometry(
        QRectF(box.left() - 4.0, box.top() - 4.0, wide, std::max(box.height() + 16.0, 54.0))
            .toRect());
    editor_->installEventFilter(this);
    editor_->show();
    editor_->setFocus();
    editor_->selectAll();
}

bool PageView::eventFilter(QObject* watched, QEvent* event) {
    if (watched == editor_ && event->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(event);
        if (key->key() == Qt::Key_Escape) {
            endEdit(false);
            return true;
        }
        if (key->key() == Qt::Key_Return && (key->modifiers() & Qt::ShiftModifier) == 0) {
            endEdit(true);
            return true;
        }
    }
    if (watched == editor_ && event->type() == QEvent::FocusOut) {
        endEdit(true);
    }
    return QAbstractScrollArea::eventFilter(watched, event);
}

void PageView::endEdit(bool take) {
    if (editor_ == nullptr) {
        return;
    }
    QPlainTextEdit* editor = std::exchange(editor_, nullptr);
    const int block = std::exchange(editing_, -1);
    const std::string part = std::exchange(editingPart_, {});
    const QString words = editor->toPlainText().simplified();
    editor->hide();
    editor->deleteLater();
    setFocus();
    if (take && block >= 0 && block < static_cast<int>(pages_.blocks.size())) {
        const ReportBlock& of = pages_.blocks[static_cast<std::size_t>(block)];
        if (words != editable(of, part)) {
            emit edited(of.item, text(part.empty() ? of.part : part), words);
        }
    }
}

}  // namespace rapporto::app
