#include "app/shell/reading_column.h"

#include "app/shell/theme.h"
#include "app/shell/words.h"

#include <QComboBox>
#include <QGridLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTimer>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

/// From here on words stand beside what can be done: lines of either are long enough to read.
constexpr int kRoomForTwo = 560;
constexpr int kBetween = 26;
constexpr int kMargins = 38;  ///< Left and right of all.
constexpr int kCardLeft = 12;
constexpr int kCardRight = 8;
constexpr int kCardAbove = 14;  ///< Above and below the words of a card.

QString spaced(const QString& rich) {
    return "<div style=\"line-height:122%\">" + themed(rich) + "</div>";
}

Words* paragraph(const QString& rich, QWidget* parent) {
    auto* label = new Words(spaced(rich), parent);
    label->setWordWrap(true);
    label->setTextFormat(Qt::RichText);
    // A rule between paragraphs has no words to select or to read aloud.
    label->setTextInteractionFlags(rich == "<hr>" ? Qt::NoTextInteraction
                                                  : Qt::TextSelectableByMouse);
    return label;
}

QString cardWords(const ActionCard& card) {
    return "<b style=\"color:{accent}\">" + card.label.toHtmlEscaped() + "</b>" +
           (card.why.isEmpty() ? "" : " — " + card.why.toHtmlEscaped());
}

QLabel* heading(const QString& title, int pixels, QWidget* parent) {
    auto* label = new QLabel(title, parent);
    label->setFont(paperFont(pixels, true));
    label->setWordWrap(true);
    return label;
}

}  // namespace

ReadingColumn::ReadingColumn(QWidget* parent) : QScrollArea(parent) {
    setWidgetResizable(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setAccessibleName(tr("Reading"));
    setFocusPolicy(Qt::NoFocus);
}

void ReadingColumn::show(const ReadingContent& content) {
    QString signature = (isDark() ? "dark" : "") + content.title + content.paragraphs.join('\n') +
                        content.actionsTitle;
    for (const SheetField& f : content.fields) {
        signature += "\n" + f.name + f.value + f.choices.join(',');
    }
    for (const ActionCard& a : content.actions) {
        signature += "\n" + a.label + a.why;
    }
    content_ = content;
    if (signature == signature_ && widget() != nullptr) {
        return;  // The cards act through content_, which is new already.
    }
    signature_ = signature;
    if (takeWords(content)) {
        return;
    }
    paragraphs_.clear();
    auto* page = new QWidget;
    page->setObjectName("readingPage");
    auto* columns = new QHBoxLayout(page);
    columns->setContentsMargins(20, 18, 18, 18);
    columns->setSpacing(kBetween);
    auto* layout = addColumn(columns);
    if (!content.title.isEmpty()) {
        layout->addWidget(heading(content.title, 19, page));
    }
    for (const QString& one : content.paragraphs) {
        paragraphs_.push_back(paragraph(one, page));
        layout->addWidget(paragraphs_.back());
    }
    if (inTwo_ && !(content.fields.empty() && content.actions.empty())) {
        layout->addStretch(1);
        layout = addColumn(columns);
    }
    if (content.actionsFirst) {
        addActions(layout);
    }
    if (!content.fields.empty()) {
        auto* grid = new QGridLayout;
        grid->setContentsMargins(0, 4, 0, 4);
        grid->setVerticalSpacing(5);
        grid->setColumnStretch(1, 1);
        for (std::size_t f = 0; f < content.fields.size(); ++f) {
            addField(content.fields[f], grid, static_cast<int>(f));
        }
        layout->addLayout(grid);
    }
    if (!content.actionsFirst) {
        addActions(layout);
    }
    layout->addStretch(1);
    columns_ = columns->count();
    fitWords(*page);
    setWidget(page);
    fitWords(*page);  // Taken in, it was dressed anew.
    shape_ = shapeOf(content);
}

void ReadingColumn::addActions(QVBoxLayout* layout) {
    if (content_.actions.empty()) {
        return;
    }
    if (!layout->isEmpty()) {
        layout->addSpacing(6);
    }
    if (!content_.actionsTitle.isEmpty()) {
        layout->addWidget(heading(content_.actionsTitle, 17, nullptr));
    }
    for (std::size_t a = 0; a < content_.actions.size(); ++a) {
        auto* button = new QPushButton;
        button->setProperty("card", true);
        button->setAccessibleName(content_.actions[a].label);
        button->setAccessibleDescription(content_.actions[a].why);
        auto* inner = new QVBoxLayout(button);
        inner->setContentsMargins(kCardLeft, 7, kCardRight, 7);
        auto* words = paragraph(cardWords(content_.actions[a]), button);
        words->setTextInteractionFlags(Qt::NoTextInteraction);
        words->setAttribute(Qt::WA_TransparentForMouseEvents);
        inner->addWidget(words);
        button->setObjectName("card:" + content_.actions[a].label);
        button->setSizePolicy(QSizePolicy::Preferred, QSizePolicy::MinimumExpanding);
        button->setCursor(Qt::PointingHandCursor);
        connect(button, &QPushButton::clicked, this, [this, a] {
            if (a < content_.actions.size()) {
                const auto act = content_.actions[a].act;
                act();
            }
        });
        layout->addWidget(button);
    }
}

QVBoxLayout* ReadingColumn::addColumn(QHBoxLayout* columns) {
    auto* column = new QVBoxLayout;
    column->setSpacing(9);
    columns->addLayout(column, 1);
    return column;
}

/// Gives all words of the page the height that they take in the room there is.
void ReadingColumn::fitWords(QWidget& page) {
    const int room =
        std::max(40, (viewport()->width() - kMargins - (columns_ - 1) * kBetween) / columns_);
    for (Words* words : page.findChildren<Words*>()) {
        const bool inCard = words->parentWidget() != &page;
        words->parentWidget()->ensurePolished();  // Its font is handed down.
        words->fitTo(inCard ? room - kCardLeft - kCardRight : room);
        if (inCard) {
            words->parentWidget()->setMinimumHeight(words->minimumHeight() + kCardAbove);
        }
    }
}

void ReadingColumn::resizeEvent(QResizeEvent* event) {
    QScrollArea::resizeEvent(event);
    if (widget() != nullptr) {
        fitWords(*widget());
    }
    const bool inTwo = width() >= kRoomForTwo;
    if (inTwo != inTwo_) {
        inTwo_ = inTwo;
        if (widget() != nullptr) {
            // Not from within the layout that is at work on the page.
            QTimer::singleShot(0, this, [this] {
                signature_.clear();
                shape_.clear();
                show(ReadingContent(content_));
            });
        }
    }
}

QString ReadingColumn::shapeOf(const ReadingContent& content) {
    QString shape = QString::number(content.paragraphs.size()) + content.title +
                    content.actionsTitle + (isDark() ? "dark" : "");
    for (const ActionCard& a : content.actions) {
        shape += "\n" + a.label + a.why;
    }
    return content.fields.empty() ? shape : QString();
}

bool ReadingColumn::takeWords(const ReadingContent& content) {
    const QString shape = shapeOf(content);
    if (shape.isEmpty() || shape != shape_ || widget() == nullptr) {
        return false;
    }
    for (std::size_t k = 0; k < paragraphs_.size(); ++k) {
        paragraphs_[k]->setText(spaced(content.paragraphs[static_cast<qsizetype>(k)]));
    }
    fitWords(*widget());
    return true;
}

void ReadingColumn::addField(const SheetField& field, QGridLayout* grid, int row) {
    auto* name = new QLabel(field.name);
    dress(name, "color:{soft}");
    grid->addWidget(name, row, 0, Qt::AlignTop);
    if (field.set) {
        name->setContentsMargins(0, 5, 0, 0);  // On the line of what is typed.
    } else {
        auto* value = new QLabel(field.value);
        value->setWordWrap(true);
        grid->addWidget(value, row, 1);
        return;
    }
    if (!field.choices.isEmpty()) {
        auto* combo = new QComboBox;
        combo->addItems(field.choices);
        combo->setCurrentText(field.value);
        combo->setAccessibleName(field.name);
        combo->setObjectName("field:" + field.name);
        connect(combo, &QComboBox::textActivated, this, field.set);
        grid->addWidget(combo, row, 1);
        return;
    }
    auto* edit = new QLineEdit(field.value);
    edit->setAccessibleName(field.name);
    edit->setPlaceholderText(field.placeholder);
    edit->setObjectName("field:" + field.name);
    connect(edit, &QLineEdit::editingFinished, this, [edit, field] {
        if (edit->text() != field.value) {
            field.set(edit->text());
        }
    });
    grid->addWidget(edit, row, 1);
}

}  // namespace rapporto::app
