#include "app/stages/data/data_page.h"

#include "app/shell/theme.h"

#include <QComboBox>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QTableView>

namespace rapporto::app {

QLabel* sentenceWord(const QString& word, QWidget* parent) {
    auto* label = new QLabel(word, parent);
    label->setFont(paperFont(18, true));
    dress(label, "color:{soft}");
    return label;
}

QLabel* softLine(const QString& words, QWidget* parent) {
    auto* label = new QLabel(words, parent);
    label->setWordWrap(true);
    label->setTextFormat(Qt::RichText);
    dress(label, "color:{soft}");
    return label;
}

void dressTable(QTableView* view) {
    view->verticalHeader()->setDefaultSectionSize(26);
    view->verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    view->horizontalHeader()->setDefaultSectionSize(104);
    view->horizontalHeader()->setHighlightSections(false);
    view->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    view->setShowGrid(true);
    view->setWordWrap(false);
    view->setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    view->setSelectionBehavior(QAbstractItemView::SelectItems);
    view->setSelectionMode(QAbstractItemView::ExtendedSelection);
    view->setTabKeyNavigation(false);
}

QPushButton* pageWord(const QString& name, QWidget* parent) {
    auto* button = new QPushButton(name, parent);
    button->setProperty("tab", true);
    button->setCheckable(true);
    button->setCursor(Qt::PointingHandCursor);
    button->setObjectName("data:page:" + name);
    return button;
}

QPushButton* actionWord(const QString& word, QWidget* parent) {
    auto* button = new QPushButton(word, parent);
    button->setCursor(Qt::PointingHandCursor);
    return button;
}

void fillVariables(QComboBox* box, const Frame& frame, const std::string& chosen,
                   const QString& none, const std::function<bool(const Variable&)>& fits) {
    const QSignalBlocker quiet(box);
    box->clear();
    if (!none.isEmpty()) {
        box->addItem(none, QString());
    }
    for (const Variable& v : frame.table().variables) {
        if (fits(v) || v.name == chosen) {
            box->addItem(text(v.name), text(v.name));
        }
    }
    const int at = box->findData(text(chosen));
    box->setCurrentIndex(at >= 0 ? at : (none.isEmpty() && !chosen.empty() ? -1 : 0));
}

}  // namespace rapporto::app
