#include "app/shell/expression_edit.h"

#include "app/shell/theme.h"

#include <QAbstractItemView>
#include <QCompleter>
#include <QKeyEvent>
#include <QStandardItemModel>

namespace rapporto::app {
namespace {

constexpr int kInsert = Qt::UserRole + 1;  // What is put in, where it is not what is shown.

QStandardItem* offerOf(const QString& shown, const QString& inserted, const QString& why) {
    auto* item = new QStandardItem(shown);
    item->setData(inserted, kInsert);
    item->setToolTip(why);
    return item;
}

}  // namespace

ExpressionEdit::ExpressionEdit(QWidget* parent)
    : QLineEdit(parent), completer_(new QCompleter(this)) {
    completer_->setWidget(this);
    completer_->setCaseSensitivity(Qt::CaseInsensitive);
    completer_->setFilterMode(Qt::MatchStartsWith);
    completer_->setCompletionMode(QCompleter::PopupCompletion);
    connect(completer_, QOverload<const QModelIndex&>::of(&QCompleter::activated), this,
            [this](const QModelIndex& index) { take(index.data(kInsert).toString()); });
}

void ExpressionEdit::setFrame(const std::shared_ptr<const Frame>& frame) {
    if (frame == frame_ && completer_->model() != nullptr && frame) {
        return;
    }
    frame_ = frame;
    auto* model = new QStandardItemModel(completer_);
    if (frame) {
        for (const Variable& v : frame->table().variables) {
            model->appendRow(
                offerOf(app::text(v.name), app::text(quotedName(v.name)), app::text(v.shown())));
        }
    }
    for (const RowFunction& f : rowFunctions()) {
        model->appendRow(offerOf(app::text(f.name), app::text(f.name) + "(", app::text(f.summary)));
    }
    for (const ColumnFunction& f : columnFunctions()) {
        model->appendRow(offerOf(app::text(f.name), app::text(f.name) + "(", app::text(f.summary)));
    }
    completer_->setModel(model);
}

QString ExpressionEdit::word() const {
    const QString before = text().left(cursorPosition());
    int from = static_cast<int>(before.size());
    while (from > 0 && (before[from - 1].isLetterOrNumber() || before[from - 1] == '_')) {
        --from;
    }
    const QString found = before.mid(from);
    return !found.isEmpty() && !found.front().isDigit() ? found : QString();
}

QStringList ExpressionEdit::offered() const {
    QStringList out;
    completer_->setCompletionPrefix(word());
    for (int i = 0; !word().isEmpty() && i < completer_->completionCount(); ++i) {
        completer_->setCurrentRow(i);
        out << completer_->currentCompletion();
    }
    return out;
}

bool ExpressionEdit::event(QEvent* event) {
    // Tab would move the focus on before a key press is seen.
    if (event->type() == QEvent::KeyPress && completer_->popup()->isVisible() &&
        static_cast<QKeyEvent*>(event)->key() == Qt::Key_Tab) {
        keyPressEvent(static_cast<QKeyEvent*>(event));
        return true;
    }
    return QLineEdit::event(event);
}

void ExpressionEdit::keyPressEvent(QKeyEvent* event) {
    const bool open = completer_->popup()->isVisible();
    if (open && (event->key() == Qt::Key_Tab || event->key() == Qt::Key_Return ||
                 event->key() == Qt::Key_Enter)) {
        const QModelIndex chosen = completer_->popup()->currentIndex();
        if (chosen.isValid() || event->key() == Qt::Key_Tab) {
            take((chosen.isValid() ? chosen : completer_->completionModel()->index(0, 0))
                     .data(kInsert)
                     .toString());
            return;
        }
        completer_->popup()->hide();  // Enter without a choice means the line as it stands.
    }
    QLineEdit::keyPressEvent(event);
    if (!event->text().isEmpty() && event->text().front().isPrint()) {
        offer();
    } else if (event->key() == Qt::Key_Backspace) {
        offer();
    }
}

void ExpressionEdit::offer() {
    const QString prefix = word();
    completer_->setCompletionPrefix(prefix);
    const bool exact =
        completer_->completionCount() == 1 && completer_->currentCompletion() == prefix;
    if (prefix.size() < 2 || completer_->completionCount() == 0 || exact) {
        completer_->popup()->hide();
        return;
    }
    QRect at = cursorRect();
    at.setWidth(240);
    completer_->complete(at);
    completer_->popup()->setCurrentIndex({});
}

void ExpressionEdit::take(const QString& completion) {
    const QString typed = word();
    const int end = cursorPosition();
    QString all = text();
    all.replace(end - static_cast<int>(typed.size()), typed.size(), completion);
    setText(all);
    setCursorPosition(end - static_cast<int>(typed.size()) + static_cast<int>(completion.size()));
    completer_->popup()->hide();
    emit textEdited(all);
}

}  // namespace rapporto::app
