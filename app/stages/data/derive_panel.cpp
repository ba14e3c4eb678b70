#include "app/stages/data/derive_panel.h"

#include "app/shell/expression_edit.h"
#include "app/shell/flow_layout.h"
#include "app/shell/theme.h"
#include "app/stages/data/preview_view.h"
#include "app/stages/data/shape_ladder.h"
#include "core/base/format.h"

#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QTableWidget>
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
      recoding_(new QTableWidget(0, 3, this)),
      recodingSays_(softLine({}, this)),
      offers_(new QWidget(this)),
      offersLine_(new FlowLayout(10)),
      previewing_([this](const DerivedPreview& preview) { showPreview(preview); }),
      looking_([this](const ForVariable& found) { showVariable(found); }),
      recodingLater_([this](const Result<Recoding>& found) { showRecoding(found); }) {
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
    auto* recodePage = new QWidget(this);
    auto* recodeLayout = new QHBoxLayout(recodePage);
    recodeLayout->setContentsMargins(0, 0, 0, 0);
    recoding_->setHorizontalHeaderLabels({tr("from"), tr("becomes"), tr("rows")});
    recoding_->setObjectName("recode:table");
    recoding_->setAccessibleName(tr("Old and new values"));
    dressTable(recoding_);
    recoding_->verticalHeader()->hide();
    recoding_->setColumnWidth(0, 150);
    recoding_->setColumnWidth(1, 150);
    recoding_->setColumnWidth(2, 70);
    recoding_->setTabKeyNavigation(true);
    recoding_->setMaximumWidth(400);
    recodeLayout->addWidget(recoding_, 3);
    auto* recodeSide = new QVBoxLayout;
    recodingSays_->setObjectName("recode:says");
    recodeSide->addWidget(recodingSays_);
    auto* close = actionWord(tr("close the table"), this);
    close->setObjectName("recode:close");
    recodeSide->addWidget(close, 0, Qt::AlignLeft);
    recodeSide->addStretch(1);
    recodeLayout->addLayout(recodeSide, 2);
    below_->addWidget(recodePage);
    connect(recoding_, &QTableWidget::cellChanged, this, [this](int /*row*/, int column) {
        if (!fillingRecoding_ && column < 2) {
            recode();
        }
    });
    connect(close, &QPushButton::clicked, this, [this] {
        recoded_.clear();
        preview();
    });
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
    if (variable != shownVariable_) {
        recoded_.clear();  // The table was of the other one.
    }
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
    ladderTitle_->setText(
        themed("<b>" + tr("Shape ladder of %1").arg(text(found.name).toHtmlEscaped()) +
               "</b> &nbsp; <span style=\"color:{soft}\">" +
               tr("skewness under each; the lightest touch that straightens it is "
                  "marked") +
               "</span>"));
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
    if (shownFrame_->column(found.name) != nullptr) {
        auto* word = actionWord(tr("recode by a table…"), offers_);
        word->setObjectName("offer:recode");
        connect(word, &QPushButton::clicked, this, &DerivePanel::startRecoding);
        offersLine_->addWidget(word);
        word->show();
    }
    offers_->updateGeometry();
}

void DerivePanel::startRecoding() {
    recoded_ = shownVariable_;
    fillingRecoding_ = true;
    const auto lines = recodeProposal(*shownFrame_, recoded_);
    constexpr std::size_t kSpare = 6;
    recoding_->setRowCount(static_cast<int>(lines.size() + kSpare));
    for (std::size_t k = 0; k < lines.size() + kSpare; ++k) {
        const RecodeLine line = k < lines.size() ? lines[k] : RecodeLine{};
        const int row = static_cast<int>(k);
        recoding_->setItem(row, 0, new QTableWidgetItem(text(line.from)));
        recoding_->setItem(row, 1, new QTableWidgetItem(text(line.becomes)));
        auto* count = new QTableWidgetItem;
        count->setFlags(Qt::ItemIsEnabled);
        count->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        recoding_->setItem(row, 2, count);
    }
    fillingRecoding_ = false;
    name_->setText(text(recoded_) + tr("_new"));
    expression_->clear();
    below_->setCurrentIndex(2);
    below_->setFixedHeight(198);
    recode();
    recoding_->setFocus();
    recoding_->setCurrentCell(0, 1);
}

void DerivePanel::recode() {
    std::vector<RecodeLine> lines;
    for (int row = 0; row < recoding_->rowCount(); ++row) {
        lines.push_back(
            {utf8(recoding_->item(row, 0)->text()), utf8(recoding_->item(row, 1)->text())});
        // A value that is only proposed is no line yet.
        if (lines.back().becomes.find_first_not_of(' ') == std::string::npos) {
            lines.back() = {};
        }
    }
    recodingLater_.ask([frame = shownFrame_, variable = recoded_,
                        lines] { return recodingOf(*frame, variable, lines); },
                       shownFrame_->rows() <= kRowsAtOnce);
}

void DerivePanel::showRecoding(const Result<Recoding>& recoding) {
    if (recoded_.empty()) {
        return;
    }
    fillingRecoding_ = true;
    for (int row = 0; row < recoding_->rowCount(); ++row) {
        const auto at = static_cast<std::size_t>(row);
        const bool taken = recoding && !recoding_->item(row, 1)->text().trimmed().isEmpty();
        recoding_->item(row, 2)->setText(taken ? numbered(countText(recoding->rows[at]))
                                               : QString());
    }
    fillingRecoding_ = false;
    QStringList says;
    if (recoding) {
        for (const std::string& note : recoding->notes) {
            says << text(note).toHtmlEscaped();
        }
        expression_->setText(text(recoding->expression));
    } else {
        says << numbered(recoding.error().text()).toHtmlEscaped();
        expression_->clear();
    }
    says << tr(
        "from: 3 · 3 to 5 · &lt; 20 · &gt;= 60 · a, b · missing · else; becomes: a number, "
        "a word, missing, same");
    recodingSays_->setText(says.join("<br>"));
}

void DerivePanel::preview() {
    const QString expression = expression_->text().trimmed();
    if (expression.isEmpty() || !shownFrame_) {
        previewing_.cancel();
        words_->clear();
        below_->setCurrentIndex(recoded_.empty() ? 0 : 2);
        below_->setFixedHeight(recoded_.empty() ? 178 : 198);
        return;
    }
    previewing_.ask(
        [frame = shownFrame_, written = utf8(expression)] { return previewOf(*frame, written); },
        shownFrame_->rows() <= kRowsAtOnce);
}

void DerivePanel::showPreview(const DerivedPreview& preview) {
    last_ = preview;
    if (preview.refusal) {
        words_->setText(themed("<span style=\"color:{caution}\">" +
                               numbered(preview.refusal->text()).toHtmlEscaped() + "</span>"));
        // Not the picture of another expression.
        below_->setCurrentIndex(recoded_.empty() ? 0 : 2);
        below_->setFixedHeight(recoded_.empty() ? 178 : 198);
        return;
    }
    QString words =
        tr("%1 values · %2 missing")
            .arg(numbered(countText(preview.present)), numbered(countText(preview.missing)));
    words += preview.freshMissing == 0
                 ? tr(", none of them new")
                 : tr(", <b>%1 of them new</b>").arg(numbered(countText(preview.freshMissing)));
    if (!preview.isText && preview.present > 0) {
        words += tr(" · from %1 to %2, skewness %3")
                     .arg(numbered(shortNumber(preview.summary.low)),
                          numbered(shortNumber(preview.summary.high)),
                          numbered(fixedNumber(preview.summary.skewness, 1)));
    }
    QString cautions;
    for (const std::string& caution : preview.cautions) {
        cautions +=
            "<br><span style=\"color:{caution}\">" + text(caution).toHtmlEscaped() + "</span>";
    }
    words_->setText(themed("<span style=\"color:{soft}\">" + words + "</span>" + cautions));
    picture_->showPreview(preview);
    below_->setCurrentIndex(recoded_.empty() ? 1 : 2);
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
        words_->setText(themed(
            "<span style=\"color:{caution}\">" +
            tr("‘%1’ is a variable of the source: choose another name.").arg(name.toHtmlEscaped()) +
            "</span>"));
        name_->setFocus();
        return;
    }
    if (session_.edit(PutDerived{{utf8(name), utf8(expression), {}}}, tr("derive %1").arg(name))) {
        recoded_.clear();
        name_->clear();
        expression_->clear();
        session_.setVariable(utf8(name));
    }
}

}  // namespace rapporto::app
