#include "app/shell/finder.h"

#include "app/shell/theme.h"

#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QRegularExpression>
#include <QVBoxLayout>

namespace rapporto::app {

Finder::Finder(QWidget* parent)
    : QFrame(parent, Qt::Popup),
      field_(new QLineEdit(this)),
      list_(new QListWidget(this)),
      hint_(new QLabel(this)) {
    setObjectName("finder");
    setStyleSheet(
        "#finder{background:white;border:1px solid #14606B} QListWidget{background:white;border:0} "
        "QListWidget::item{padding:4px 6px} "
        "QListWidget::item:selected{background:#E6EEEE;color:#232733}");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(8, 8, 8, 6);
    layout->setSpacing(4);
    layout->addWidget(field_);
    layout->addWidget(list_);
    layout->addWidget(hint_);
    hint_->setWordWrap(true);
    hint_->setFont(interfaceFont(11));
    hint_->setStyleSheet("color:#6B6F7B");
    field_->setAccessibleName(tr("Find"));
    list_->setAccessibleName(tr("Found"));
    list_->setFocusPolicy(Qt::NoFocus);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    field_->installEventFilter(this);
    connect(field_, &QLineEdit::textChanged, this, &Finder::narrow);
    connect(list_, &QListWidget::itemClicked, this, &Finder::choose);
}

void Finder::open(QPoint at, int width, const QString& prompt, std::vector<FinderEntry> entries,
                  std::function<QString(const QString&)> typed,
                  std::function<void(const QString&)> useTyped, const QString& start) {
    entries_ = std::move(entries);
    typed_ = std::move(typed);
    useTyped_ = std::move(useTyped);
    field_->setPlaceholderText(prompt);
    field_->setText(start);
    field_->selectAll();
    narrow();
    resize(width, sizeHint().height());
    move(at);
    show();
    field_->setFocus(Qt::PopupFocusReason);
}

void Finder::narrow() {
    list_->clear();
    const QString sought = field_->text().trimmed();
    bool exact = false;
    for (std::size_t e = 0; e < entries_.size(); ++e) {
        const FinderEntry& entry = entries_[e];
        const bool fits = sought.isEmpty() || entry.label.contains(sought, Qt::CaseInsensitive) ||
                          entry.detail.contains(sought, Qt::CaseInsensitive);
        if (fits) {
            auto* item = new QListWidgetItem(
                entry.detail.isEmpty() ? entry.label : entry.label + "   " + entry.detail, list_);
            item->setData(Qt::UserRole, static_cast<int>(e));
            exact = exact || entry.label == sought;
        }
    }
    hint_->setText(tr("Enter takes it · Esc leaves"));
    if (typed_ && !sought.isEmpty() && !exact) {
        const QString why = typed_(sought);
        if (why.isEmpty()) {
            auto* item = new QListWidgetItem(tr("use  %1").arg(sought));
            item->setData(Qt::UserRole, -1);
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
    list_->setCurrentRow(0);
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
            item->setData(Qt::UserRole, -2);
            item->setData(Qt::UserRole + 1, sought.left(match.capturedStart()) + entry.label);
        }
    }
}

void Finder::choose() {
    const QListWidgetItem* item = list_->currentItem();
    if (item == nullptr) {
        return;
    }
    const int index = item->data(Qt::UserRole).toInt();
    const QString typed = field_->text().trimmed();
    if (index == -2) {
        field_->setText(item->data(Qt::UserRole + 1).toString());
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
                choose();
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
