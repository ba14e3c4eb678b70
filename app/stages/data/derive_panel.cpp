#include "app/stages/data/derive_panel.h"

#include "app/shell/expression_edit.h"
#include "app/shell/flow_layout.h"
#include "app/shell/theme.h"
#include "app/stages/data/preview_view.h"
#include "app/stages/data/shape_ladder.h"
#include "core/base/format.h"

#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace rapporto::app {

DerivePanel::DerivePanel(Session& session, QWidget* parent)
    : DataPage(session, parent),
      name_(new QLineEdit(this)),
      expression_(new ExpressionEdit(this)),
      words_(new QLabel(this)),
      below_(new QStackedWidget(this)),
      picture_(new PreviewView(this)),
      ladderTitle_(new QLabel(this)),
      ladder_(new LadderView(this)),
      offers_(new QWidget(this)),
      offersLine_(new FlowLayout(10)),
      previewing_([this](const DerivedPreview& preview) { showPreview(preview); }),
      looking_([this](const ForVariable& found) { showVariable(found); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(5);
    auto* line = new QHBoxLayout;
    line->addWidget(sentenceWord(tr("Derive"), this));
    name_->setPlaceholderText(tr("new_name"));
    name_->setAccessibleName(tr("Name of the derived variable"));
    name_->setObjectName("data:derivedName");
    name_->setMaximumWidth(150);
    line->addWidget(name_);
    line->addWidget(new QLabel("=", this));
    expression_->setPlaceholderText(tr("an expression: ln(x), a / b, case when … end"));
    expression_->setAccessibleName(tr("Expression"));
    expression_->setObjectName("data:derivedExpression");
    line->addWidget(expression_, 1);
    auto* addButton = actionWord(tr("add it"), this);
    addButton->setObjectName("data:addDerived");
    line->addWidget(addButton);
    layout->addLayout(line);
    words_->setObjectName("data:derivedPreview");
    words_->setFont(interfaceFont(12));
    words_->setTextFormat(Qt::RichText);
    words_->setWordWrap(true);
    layout->addWidget(words_);
    auto* ladderPage = new QWidget(this);
    auto* ladderLayout = new QVBoxLayout(ladderPage);
    ladderLayout->setContentsMargins(0, 0, 0, 0);
    ladderLayout->setSpacing(6);
    ladderTitle_->setTextFormat(Qt::RichText);
    ladderLayout->addWidget(ladderTitle_);
    ladderLayout->addWidget(ladder_);
    offers_->setLayout(offersLine_);
    offersLine_->setContentsMargins(0, 2, 0, 0);
    ladderLayout->addWidget(offers_);
    ladderLayout->addStretch(1);
    below_->addWidget(ladderPage);
    below_->addWidget(picture_);
    below_->setSizePolicy(QSizePolicy::Preferred, QSizePolicy::Fixed);
    layout->addWidget(below_);
    connect(expression_, &QLineEdit::textChanged, this, &DerivePanel::preview);
    connect(name_, &QLineEdit::textChanged, this, &DerivePanel::preview);
    connect(expression_, &QLineEdit::returnPressed, this, &DerivePanel::add);
    connect(addButton, &QPushButton::clicked, this, &DerivePanel::add);
    connect(ladder_, &LadderView::rungChosen, this, &DerivePanel::propose);
}

void DerivePanel::propose(const QString& name, const QString& expression) {
    name_->setText(name);
    expression_->setText(expression);
    expression_->setFocus();
}

void DerivePanel::refresh() {
    const auto frame = session_.frame();
    const std::string& variable = session_.variable();
    if (!frame || (frame == shownFrame_ && variable == shownVariable_)) {
        return;
    }
    const bool freshFrame = frame != shownFrame_;
    shownFrame_ = frame;
    shownVariable_ = variable;
    expression_->setFrame(frame);
    if (freshFrame) {
        preview();
    }
    looking_.ask(
        [frame, variable] {
            return ForVariable{variable, shapeLadder(*frame, variable),
                               proposalsFor(*frame, variable)};
        },
        frame->rows() <= kRowsAtOnce);
}

void DerivePanel::showVariable(const ForVariable& found) {
    ladderTitle_->setText("<b>" + tr("Shape ladder of %1").arg(text(found.name).toHtmlEscaped()) +
                          "</b> &nbsp; <span style=\"color:#6B6F7B\">" +
                          tr("skewness under each; the lightest touch that straightens it is "
                             "marked") +
                          "</span>");
    ladderTitle_->setVisible(!found.ladder.rungs.empty());
    ladder_->setVisible(!found.ladder.rungs.empty());
    ladder_->showLadder(found.ladder);
    while (QLayoutItem* item = offersLine_->takeAt(0)) {
        item->widget()->setObjectName({});
        item->widget()->deleteLater();
        delete item;
    }
    for (const Proposal& proposal : found.proposals) {
        auto* word = actionWord(text(proposal.label), offers_);
        word->setObjectName("offer:" + text(proposal.label));
        word->setToolTip(text(proposal.expression));
        connect(word, &QPushButton::clicked, this,
                [this, proposal] { propose(text(proposal.name), text(proposal.expression)); });
        offersLine_->addWidget(word);
        word->show();
    }
    offers_->updateGeometry();
}

void DerivePanel::preview() {
    const QString expression = expression_->text().trimmed();
    if (expression.isEmpty() || !shownFrame_) {
        previewing_.cancel();
        words_->clear();
        below_->setCurrentIndex(0);
        below_->setFixedHeight(178);
        return;
    }
    previewing_.ask(
        [frame = shownFrame_, written = utf8(expression)] { return previewOf(*frame, written); },
        shownFrame_->rows() <= kRowsAtOnce);
}

void DerivePanel::showPreview(const DerivedPreview& preview) {
    last_ = preview;
    if (preview.refusal) {
        words_->setText("<span style=\"color:#966618\">" +
                        text(preview.refusal->text()).toHtmlEscaped() + "</span>");
        below_->setCurrentIndex(0);  // Not the picture of another expression.
        below_->setFixedHeight(178);
        return;
    }
    QString words = tr("%1 values · %2 missing")
                        .arg(text(countText(preview.present)), text(countText(preview.missing)));
    words += preview.freshMissing == 0
                 ? tr(", none of them new")
                 : tr(", <b>%1 of them new</b>").arg(text(countText(preview.freshMissing)));
    if (!preview.isText && preview.present > 0) {
        words += tr(" · from %1 to %2, skewness %3")
                     .arg(text(shortNumber(preview.summary.low)),
                          text(shortNumber(preview.summary.high)),
                          text(fixedNumber(preview.summary.skewness, 1)));
    }
    QString cautions;
    for (const std::string& caution : preview.cautions) {
        cautions +=
            "<br><span style=\"color:#966618\">" + text(caution).toHtmlEscaped() + "</span>";
    }
    words_->setText("<span style=\"color:#6B6F7B\">" + words + "</span>" + cautions);
    picture_->showPreview(preview);
    below_->setCurrentIndex(1);
    below_->setFixedHeight(198);
}

void DerivePanel::add() {
    const QString expression = expression_->text().trimmed();
    QString name = name_->text().trimmed();
    if (expression.isEmpty() || !shownFrame_) {
        return;
    }
    if (last_.refusal && last_.expression == utf8(expression)) {
        return;  // Why stands below the line already.
    }
    if (name.isEmpty()) {
        name = expression;
    }
    const Variable* taken = shownFrame_->variable(utf8(name));
    if (taken != nullptr && taken->expression.empty()) {
        words_->setText(
            "<span style=\"color:#966618\">" +
            tr("‘%1’ is a variable of the source: choose another name.").arg(name.toHtmlEscaped()) +
            "</span>");
        name_->setFocus();
        return;
    }
    if (session_.edit(PutDerived{{utf8(name), utf8(expression), {}}}, tr("derive %1").arg(name))) {
        name_->clear();
        expression_->clear();
        session_.setVariable(utf8(name));
    }
}

}  // namespace rapporto::app
