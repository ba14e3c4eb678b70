#include "app/shell/help_panel.h"

#include "app/shell/theme.h"

#include <QFile>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QScrollBar>
#include <QTextBlock>
#include <QTextBrowser>
#include <QTextList>
#include <QVBoxLayout>

namespace rapporto::app {
namespace {

constexpr std::size_t kMostMatches = 40;
constexpr int kMatchesShown = 7;  // Rows before the list scrolls.

/// Room between paragraphs, which Markdown leaves to the page.
void space(QTextDocument* page) {
    constexpr int kBetween = 8;
    constexpr int kInList = 4;
    constexpr int kIndent = 14;
    page->setIndentWidth(kIndent);
    QTextCursor cursor(page);
    for (QTextBlock block = page->begin(); block.isValid(); block = block.next()) {
        QTextBlockFormat format = block.blockFormat();
        format.setBottomMargin(block.textList() != nullptr ? kInList : kBetween);
        cursor.setPosition(block.position());
        cursor.setBlockFormat(format);
    }
}

std::string shipped(const QString& name) {
    QFile file(":/help/" + name);
    if (!file.open(QIODevice::ReadOnly)) {
        return {};
    }
    return file.readAll().toStdString();
}

}  // namespace

const Help& HelpPanel::help() {
    static const Help kHelp({shipped("guide.md"), shipped("methods.md"), shipped("readings.md"),
                             shipped("data-doubts.md")});
    return kHelp;
}

HelpPanel::HelpPanel(QWidget* parent) : QWidget(parent) {
    setObjectName("helpPanel");
    setAttribute(Qt::WA_StyledBackground);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 18, 12, 12);
    layout->setSpacing(8);
    search_ = new QLineEdit;
    search_->setObjectName("help:search");
    search_->setAccessibleName(tr("Search in help"));
    search_->setPlaceholderText(tr("a check, a method, a word of the guide"));
    search_->setClearButtonEnabled(true);
    layout->addWidget(search_);
    matches_ = new QListWidget;
    matches_->setObjectName("help:matches");
    matches_->setAccessibleName(tr("What was found in help"));
    matches_->hide();
    layout->addWidget(matches_);
    chapter_ = new QLabel;
    chapter_->setObjectName("help:chapter");
    dress(chapter_, "color:{soft}");
    layout->addWidget(chapter_);
    title_ = new QLabel;
    title_->setObjectName("help:title");
    title_->setFont(paperFont(19, true));
    title_->setWordWrap(true);
    layout->addWidget(title_);
    text_ = new QTextBrowser;
    text_->setObjectName("help:text");
    text_->setAccessibleName(tr("Help"));
    text_->setFrameShape(QFrame::NoFrame);
    text_->setOpenLinks(false);  // Nothing is fetched, and nothing leaves the window.
    text_->setFont(interfaceFont());
    dress(text_, "QTextBrowser{background:transparent;color:{ink}}");
    text_->document()->setDocumentMargin(0);
    layout->addWidget(text_, 1);
    auto* back = new QPushButton(tr("back to the reading"));
    back->setObjectName("help:close");
    connect(back, &QPushButton::clicked, this, &HelpPanel::closed);
    layout->addWidget(back, 0, Qt::AlignLeft);
    connect(search_, &QLineEdit::textEdited, this, &HelpPanel::showMatches);
    connect(search_, &QLineEdit::returnPressed, this, [this] {
        if (matches_->count() > 0) {
            matches_->setCurrentRow(0);
            emit matches_->itemActivated(matches_->item(0));
        }
    });
    const auto take = [this](const QListWidgetItem* item) {
        if (const QString id = item->data(Qt::UserRole).toString(); !id.isEmpty()) {
            showTopic(utf8(id));
        }
    };
    connect(matches_, &QListWidget::itemActivated, this, take);
    connect(matches_, &QListWidget::itemClicked, this, take);
}

void HelpPanel::showTopic(const std::string& id) {
    const HelpTopic* topic = help().topic(id);
    if (topic == nullptr) {
        topic = &help().topics().front();
    }
    showText(text(topic->title), text(topic->markdown));
    chapter_->setText(text(topic->chapter));
    chapter_->show();
    topic_ = topic->id;
}

void HelpPanel::showText(const QString& title, const QString& markdown) {
    topic_.clear();
    chapter_->hide();
    title_->setText(title);
    text_->setMarkdown(markdown);
    space(text_->document());
    text_->verticalScrollBar()->setValue(0);
}

void HelpPanel::seek() {
    search_->setFocus();
    search_->selectAll();
}

void HelpPanel::showMatches() {
    matches_->clear();
    const auto found = help().matching(utf8(search_->text()));
    const auto shown = std::min<std::size_t>(found.size(), kMostMatches);
    for (std::size_t k = 0; k < shown; ++k) {
        auto* item = new QListWidgetItem(text(found[k]->title) + " · " + text(found[k]->chapter));
        item->setData(Qt::UserRole, text(found[k]->id));
        matches_->addItem(item);
    }
    const bool sought = !search_->text().trimmed().isEmpty();
    if (found.size() > shown || (sought && found.empty())) {
        auto* rest = new QListWidgetItem(found.empty()
                                             ? tr("Help does not know these words together.")
                                             : tr("%1 more: add a word").arg(found.size() - shown));
        rest->setFlags(Qt::NoItemFlags);
        matches_->addItem(rest);
    }
    matches_->setVisible(sought);
    const int rows = std::min(matches_->count(), kMatchesShown);
    matches_->setFixedHeight(rows * std::max(matches_->sizeHintForRow(0), 1) + 4);
}

void HelpPanel::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) {
        if (!search_->text().isEmpty()) {
            search_->clear();
            showMatches();
        } else {
            emit closed();
        }
        return;
    }
    QWidget::keyPressEvent(event);
}

}  // namespace rapporto::app
