#include "app/shell/side_drawer.h"

#include "app/shell/theme.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QPainter>
#include <QPushButton>
#include <QSplitter>

#include <algorithm>
#include <iterator>

namespace rapporto::app {
namespace {

constexpr int kRoomForAll = 1180;

/// How much of a window the roster and the reading take, by its width. The widest have a reading of
/// two columns; in others its room would be taken from the pictures.
struct Shares {
    int from;
    int roster;
    int reading;
};

constexpr Shares kShares[] = {{0, 235, 300}, {1600, 270, 430}, {2200, 290, 640}};
constexpr int kDrawerWidth = 340;

/// A word on its side, at the edge of the work.
class Handle : public QPushButton {
  public:
    using QPushButton::QPushButton;

    void paintEvent(QPaintEvent* /*event*/) override {
        QPainter painter(this);
        painter.fillRect(rect(), underMouse() || hasFocus() ? colour::kAccentWash : colour::kPanel);
        painter.fillRect(QRect(0, 0, 1, height()), colour::kHairline);
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kAccent);
        painter.translate(width(), 0);
        painter.rotate(90);
        painter.drawText(QRect(0, 0, height(), width()), Qt::AlignCenter, text());
    }
};

}  // namespace

SideDrawer::SideDrawer(QSplitter* splitter, QWidget* side, QWidget* parent)
    : QWidget(parent), splitter_(splitter), side_(side), handle_(new Handle(tr("reading"), this)) {
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    layout->addWidget(splitter, 1);
    layout->addWidget(handle_);
    auto* handle = static_cast<QPushButton*>(handle_);
    handle->setObjectName("drawer:handle");
    handle->setAccessibleName(tr("Reading column"));
    handle->setToolTip(tr("The reading column, over the work (Ctrl+I)"));
    handle->setFixedWidth(24);
    handle->setSizePolicy(QSizePolicy::Fixed, QSizePolicy::Expanding);
    handle->setCursor(Qt::PointingHandCursor);
    handle->hide();
    connect(handle, &QPushButton::clicked, this, [this] { setOpen(!isOpen()); });
    side_->installEventFilter(this);
}

void SideDrawer::fit(int windowWidth) {
    const bool drawer = windowWidth < kRoomForAll;
    if (drawer != drawer_) {
        drawer_ = drawer;
        handle_->setVisible(drawer);
        if (drawer) {
            side_->setParent(this);
            side_->setAutoFillBackground(true);
            side_->hide();
            splitter_->setSizes({222, std::max(200, windowWidth - 222 - handle_->width())});
        } else {
            splitter_->addWidget(side_);
            splitter_->setStretchFactor(2, 0);
            side_->setAutoFillBackground(false);
            side_->show();
            kind_ = -1;
        }
    }
    int kind = 0;
    while (kind + 1 < static_cast<int>(std::size(kShares)) &&
           windowWidth >= kShares[kind + 1].from) {
        ++kind;
    }
    if (!drawer && kind != kind_) {
        // Large windows use their room; what somebody has pulled to a width of their own stays
        // until the window changes from one kind to the other.
        kind_ = kind;
        const auto& [from, roster, reading] = kShares[kind];
        splitter_->setSizes({roster, std::max(200, windowWidth - roster - reading), reading});
    }
    place();
}

bool SideDrawer::isOpen() const { return !side_->isHidden(); }

void SideDrawer::setOpen(bool open) {
    if (!drawer_) {
        return;
    }
    side_->setVisible(open);
    place();
    if (open) {
        side_->raise();
    }
}

void SideDrawer::place() {
    if (drawer_) {
        const int width = std::min(kDrawerWidth, this->width() - handle_->width());
        side_->setGeometry(this->width() - handle_->width() - width, 0, width, height());
    }
}

void SideDrawer::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    place();
}

bool SideDrawer::eventFilter(QObject* watched, QEvent* event) {
    if (drawer_ && watched == side_ && event->type() == QEvent::KeyPress &&
        static_cast<QKeyEvent*>(event)->key() == Qt::Key_Escape) {
        setOpen(false);
        return true;
    }
    return QWidget::eventFilter(watched, event);
}

}  // namespace rapporto::app
