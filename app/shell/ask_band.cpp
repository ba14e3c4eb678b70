#include "app/shell/ask_band.h"

#include "app/shell/theme.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include <utility>

namespace rapporto::app {
namespace {

constexpr int kMostDetails = 12;  // More would push the work out of the window.

}  // namespace

AskBand::AskBand(QWidget* parent)
    : QFrame(parent),
      words_(new QLabel(this)),
      details_(new QLabel(this)),
      buttons_(new QHBoxLayout) {
    setObjectName("askBand");
    dress(this,
          "#askBand{background:{band};border:none;border-bottom:1px solid {hairline};"
          "border-left:4px solid {ochre}}");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(18, 9, 16, 9);
    layout->setSpacing(5);
    words_->setObjectName("askBand:words");
    words_->setWordWrap(true);
    words_->setFont(interfaceFont(14));
    details_->setObjectName("askBand:details");
    details_->setWordWrap(true);
    details_->setTextFormat(Qt::PlainText);
    dress(details_, "color:{soft}");
    buttons_->setSpacing(18);
    layout->addWidget(words_);
    layout->addWidget(details_);
    layout->addLayout(buttons_);
    hide();
}

void AskBand::ask(const QString& words, const QStringList& details, std::vector<Choice> choices,
                  std::size_t focus) {
    while (QLayoutItem* item = buttons_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    choices_ = std::move(choices);
    words_->setText(words);
    QStringList shown = details.mid(0, kMostDetails);
    if (details.size() > kMostDetails) {
        shown << tr("and %1 more").arg(details.size() - kMostDetails);
    }
    details_->setText(shown.join('\n'));
    details_->hide();
    if (!details.isEmpty()) {
        auto* look = new QPushButton(tr("look at them"), this);
        look->setObjectName("ask:look");
        connect(look, &QPushButton::clicked, this, [this, look] {
            details_->setVisible(!details_->isVisible());
            look->setText(details_->isVisible() ? tr("fold away") : tr("look at them"));
        });
        buttons_->addWidget(look);
    }
    for (const Choice& choice : choices_) {
        auto* button = new QPushButton(choice.label, this);
        button->setObjectName("ask:" + choice.name);
        // The act may ask the next question, which deletes this button: it runs after the click.
        connect(
            button, &QPushButton::clicked, this,
            [this, act = choice.act] {
                answer();
                act();
            },
            Qt::QueuedConnection);
        buttons_->addWidget(button);
    }
    buttons_->addStretch(1);
    show();
    if (focus < choices_.size()) {
        findChild<QPushButton*>("ask:" + choices_[focus].name)->setFocus();
    }
}

void AskBand::answer() {
    hide();
    words_->clear();
}

QString AskBand::words() const { return isHidden() ? QString() : words_->text(); }

void AskBand::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape && !choices_.empty()) {
        const auto act = choices_.back().act;
        answer();
        act();
        return;
    }
    QFrame::keyPressEvent(event);
}

}  // namespace rapporto::app
