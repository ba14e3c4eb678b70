#include "app/shell/finder.h"

#include "app/shell/theme.h"

#include <QCursor>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPainter>
#include <QRegularExpression>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

enum Role { kEntry = Qt::UserRole, kGoesOn, kBars, kAside, kTick };

/// Name, detail, a tiny histogram and what is worth knowing at the right.
class FinderDelegate : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;

    void paint(QPainter* painter, const QStyleOptionViewItem& option,
               const QModelIndex& index) const override {
        const QRect r = option.rect;
        painter->save();
        if (option.state.testFlag(QStyle::State_Selected)) {
            painter->fillRect(r, colour::kAccentWash);
            painter->fillRect(QRect(r.left(), r.top(), 3, r.height()), colour::kAccent);
        }
        int left = r.left() + 8;
        const QVariant tick = index.data(kTick);
        if (tick.isValid()) {
            const QRectF box(left, r.center().y() - 5.5, 11, 11);
            painter->setRenderHint(QPainter::Antialiasing);
            painter->setPen(QPen(tick.toBool() ? colour::kAccent : colour::kSoft, 1.2));
            painter->setBrush(tick.toBool() ? QBrush(colour::kAccent) : QBrush(Qt::NoBrush));
            painter->drawRoundedRect(box, 2, 2);
            painter->setRenderHint(QPainter::Antialiasing, false);
            left += 20;
        }
        int right = r.right() - 8;
        const QString aside = index.data(kAside).toString();
        if (!aside.isEmpty()) {
            painter->setFont(interfaceFont(11));
            painter->setPen(colour::kSoft);
            const int w = painter->fontMetrics().horizontalAdvance(aside);
            painter->drawText(QRect(right - w, r.top(), w, r.height()), Qt::AlignVCenter, aside);
            right -= w + 10;
        }
        const QVariantList bars = index.data(kBars).toList();
        if (!bars.isEmpty()) {
            constexpr int kWidth = 42;
            const double bar = static_cast<double>(kWidth) / static_cast<double>(bars.size());
            const int base = r.bottom() - 5;
            for (int k = 0; k < bars.size(); ++k) {
                const double h = 15.0 * bars[k].toDouble();
                painter->fillRect(QRectF(right - kWidth + bar * k, base - h, bar - 0.7, h),
                                  colour::kBars);
            }
            right -= kWidth + 12;
        }
        const QStringList words = index.data(Qt::DisplayRole).toString().split("   ");
        painter->setFont(interfaceFont(13));
        const QVariant ink = index.data(Qt::ForegroundRole);
        painter->setPen(ink.isValid() ? ink.value<QBrush>().color() : colour::kInk);
        const QString name =
            painter->fontMetrics().elidedText(words.first(), Qt::ElideRight, right - left);
        painter->drawText(QRect(left, r.top(), right - left, r.height()), Qt::AlignVCenter, name);
        left += painter->fontMetrics().horizontalAdvance(name) + 12;
        painter->setFont(interfaceFont(12));
        painter->setPen(colour::kSoft);
        if (words.size() > 1 && left < right) {
            painter->drawText(QRect(left, r.top(), right - left, r.height()), Qt::AlignVCenter,
                              painter->fontMetrics().elidedText(words.mid(1).join("   "),
                                                                Qt::ElideRight, right - left));
        }
        painter->restore();
    }

    QSize sizeHint(const QStyleOptionViewItem& /*option*/,
                   const QModelIndex& /*index*/) const override {
        return {100, 26};
    }
};

}  // namespace

Finder::Finder(QWidget* parent)
    : QFrame(parent, Qt::Popup),
      field_(new QLineEdit(this)),
      list_(new QListWidget(this)),
      hint_(new QLabel(this)) {
    setObjectName("finder");
    dress(this,
          "#finder{background:{field};border:1px solid {accent}} "
          "QListWidget{background:{field};border:0} "
          "QListWidget::item{padding:4px 6px} "
          "QListWidget::item:selected{background:{wash};color:{ink}}");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(8, 8, 8, 6);
    layout->setSpacing(4);
    layout->addWidget(field_);
    layout->addWidget(list_);
    layout->addWidget(hint_);
    hint_->setWordWrap(true);
    hint_->setFont(interfaceFont(11));
    dress(hint_, "color:{soft}");
    field_->setAccessibleName(tr("Find"));
    list_->setAccessibleName(tr("Found"));
    list_->setFocusPolicy(Qt::NoFocus);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    field_->installEventFilter(this);
    connect(field_, &QLineEdit::textChanged, this, &Finder::narrow);
    list_->setItemDelegate(new FinderDelegate(list_));
    list_->setUniformItemSizes(true);
    connect(list_, &QListWidget::clicked, this, &Finder::pressed);
}

void Finder::open(QPoint at, int width, const QString& prompt, std::vector<FinderEntry> entries,
                  std::function<QString(const QString&)> typed,
                  std::function<void(const QString&)> useTyped, const QString& start) {
    holds_ = {};
    entries_ = std::move(entries);
    typed_ = std::move(typed);
    useTyped_ = std::move(useTyped);
    takeAll_ = nullptr;
    ticked_.clear();
    field_->setPlaceholderText(prompt);
    field_->setText(start);
    field_->selectAll();
    narrow();
    resize(width, sizeHint().height());
    move(at);
    show();
    field_->setFocus(Qt::PopupFocusReason);
}

void Finder::takeSeveral(std::function<void(const QStringList&)> takeAll) {
    takeAll_ = std::move(takeAll);
    narrow();
}

void Finder::type(const QString& typed) {
    field_->setText(typed);
    field_->setCursorPosition(static_cast<int>(typed.size()));
}

void Finder::tick(int row) {
    QListWidgetItem* item = list_->item(row);
    const int entry = item == nullptr ? -1 : item->data(kEntry).toInt();
    if (entry < 0 || entries_[static_cast<std::size_t>(entry)].takes.isEmpty()) {
        return;
    }
    const auto at = std::find(ticked_.begin(), ticked_.end(), entry);
    at == ticked_.end() ? ticked_.push_back(entry) : void(ticked_.erase(at));
    item->setData(kTick, std::find(ticked_.begin(), ticked_.end(), entry) != ticked_.end());
    field_->selectAll();  // The next letters seek another.
    hint_->setText(ticked_.empty() ? tr("Enter takes it · Ctrl+Enter ticks it · Enter on nothing "
                                        "ends")
                                   : tr("Enter takes the %1 ticked").arg(ticked_.size()));
}

/// On the box at its left a click ticks, elsewhere it takes.
void Finder::pressed(const QModelIndex& index) {
    const int x = list_->viewport()->mapFromGlobal(QCursor::pos()).x();
    if (takeAll_ && x >= 0 && x < 28 && index.data(kTick).isValid()) {
        tick(index.row());
        return;
    }
    if (!ticked_.empty() && index.data(kTick).isValid()) {
        tick(index.row());  // Among several that are being ticked a click ticks, too.
        return;
    }
    list_->setCurrentRow(index.row());
    choose();
}

void Finder::narrow() {
    list_->clear();
    const QString sought = field_->text().trimmed();
    bool exact = false;
    for (std::size_t e = 0; e < entries_.size(); ++e) {
        const FinderEntry& entry = entries_[e];
        const bool fits = sought.isEmpty() ? !entry.onlySought
                                           : entry.label.contains(sought, Qt::CaseInsensitive) ||
                                                 entry.detail.contains(sought, Qt::CaseInsensitive);
        if (fits) {
            auto* item = new QListWidgetItem(
                entry.detail.isEmpty() ? entry.label : entry.label + "   " + entry.detail, list_);
            item->setData(kEntry, static_cast<int>(e));
            QVariantList bars;
            for (const double bar : entry.bars) {
                bars << bar;
            }
            item->setData(kBars, bars);
            item->setData(kAside, entry.aside);
            if (takeAll_ && !entry.takes.isEmpty()) {
                item->setData(kTick, std::find(ticked_.begin(), ticked_.end(),
                                               static_cast<int>(e)) != ticked_.end());
            }
            exact = exact || entry.label == sought;
        }
    }
    hint_->setText(!takeAll_         ? tr("Enter takes it · Esc leaves")
                   : ticked_.empty() ? tr("Enter takes it · Ctrl+Enter ticks it · Enter on nothing "
                                          "ends")
                                     : tr("Enter takes the %1 ticked").arg(ticked_.size()));
    if (typed_ && !sought.isEmpty() && !exact) {
        const QString why = typed_(sought);
        if (why.isEmpty()) {
            auto* item = new QListWidgetItem(tr("use  %1").arg(sought));
            item->setData(kEntry, -1);
            item->setForeground(colour::kAccent);
            // What was typed in full comes first when it is more than the start of a name.
            list_->insertItem(
                list_->count() > 0 && !sought.contains(QRegularExpression("[^A-Za-z0-9_]"))
                    ? list_->count()
                    : 0,
                item);
        } else if (list_->count() == 0) {
            hint_->setText(why);
        }
    }
    if (typed_ && list_->count() == 0) {
        completeLastWord(sought);
    }
    // Where several are taken in a row, nothing is chosen before something is typed.
    list_->setCurrentRow(takeAll_ && sought.isEmpty() ? -1 : 0);
    // As tall as what was found.
    const int wanted = std::clamp(list_->count() * 26 + 8, 34, 300);
    list_->setFixedHeight(wanted);
    adjustSize();
    resize(std::max(width(), 380), sizeHint().height());
}

void Finder::completeLastWord(const QString& sought) {
    // In the midst of an expression: entries that go on from its last word complete it.
    static const QRegularExpression lastWord("[^\\W\\d]\\w*$",
                                             QRegularExpression::UseUnicodePropertiesOption);
    const auto match = lastWord.match(sought);
    if (!match.hasMatch()) {
        return;
    }
    for (const FinderEntry& entry : entries_) {
        const QString bare = entry.label.startsWith('"') ? entry.label.mid(1) : entry.label;
        if (bare.startsWith(match.captured(), Qt::CaseInsensitive)) {
            auto* item = new QListWidgetItem(tr("go on with  %1").arg(entry.label), list_);
            item->setData(kEntry, -2);
            item->setData(kGoesOn, sought.left(match.capturedStart()) + entry.label);
        }
    }
}

void Finder::choose() {
    if (holds_ && !holds_()) {
        close();
        return;
    }
    if (!ticked_.empty()) {
        QStringList all;
        for (const int entry : ticked_) {
            all << entries_[static_cast<std::size_t>(entry)].takes;
        }
        close();
        const auto takeAll = takeAll_;
        takeAll(all);
        return;
    }
    const QListWidgetItem* item = list_->currentItem();
    if (item == nullptr) {
        if (takeAll_ && field_->text().trimmed().isEmpty()) {
            close();
        }
        return;
    }
    const int index = item->data(kEntry).toInt();
    const QString typed = field_->text().trimmed();
    if (index == -2) {
        field_->setText(item->data(kGoesOn).toString());
        return;
    }
    close();
    // Copies: the action may open this finder again.
    if (index < 0) {
        const auto use = useTyped_;
        use(typed);
    } else {
        const auto act = entries_[static_cast<std::size_t>(index)].act;
        act();
    }
}

bool Finder::eventFilter(QObject* watched, QEvent* event) {
    if (watched == field_ && event->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const int row = list_->currentRow();
        switch (key->key()) {
            case Qt::Key_Down:
                list_->setCurrentRow(std::min(row + 1, list_->count() - 1));
                return true;
            case Qt::Key_Up:
                list_->setCurrentRow(std::max(row - 1, 0));
                return true;
            case Qt::Key_Return:
            case Qt::Key_Enter:
                if (takeAll_ && key->modifiers().testFlag(Qt::ControlModifier)) {
                    tick(row);
                } else {
                    choose();
                }
                return true;
            case Qt::Key_Escape:
                close();
                return true;
            default:
                break;
        }
    }
    return QFrame::eventFilter(watched, event);
}

}  // namespace rapporto::app
