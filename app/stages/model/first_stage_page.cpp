#include "app/stages/model/first_stage_page.h"

#include "app/shell/theme.h"
#include "core/report/cause_reading.h"

#include <QButtonGroup>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>

namespace rapporto::app {

FirstStagePage::FirstStagePage(QWidget* parent)
    : QWidget(parent),
      which_(new QButtonGroup(this)),
      tabs_(new QHBoxLayout),
      strength_(new QLabel(this)),
      scroll_(new QScrollArea(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    tabs_->setSpacing(14);
    layout->addLayout(tabs_);
    strength_->setWordWrap(true);
    strength_->setTextFormat(Qt::RichText);
    strength_->setObjectName("firstStageStrength");
    layout->addWidget(strength_);
    scroll_->setWidgetResizable(true);
    scroll_->setFocusPolicy(Qt::NoFocus);
    layout->addWidget(scroll_, 1);
    connect(which_, &QButtonGroup::idClicked, this, &FirstStagePage::showStage);
}

void FirstStagePage::showAnswer(std::shared_ptr<const Answer> answer, bool fresh) {
    answer_ = std::move(answer);
    fresh_ = fresh;
    if (rows_ == nullptr) {
        rows_ = new EffectRows;
        scroll_->setWidget(rows_);
        connect(rows_, &EffectRows::coefficientChosen, rows_, &EffectRows::showSelected);
    }
    QStringList names;
    for (const FirstStage& stage : answer_->fit->instrumented->firstStages) {
        names << tr("what moves %1").arg(text(stage.endogenous));
    }
    names << tr("the outcome on the instruments");
    if (names.join('|') != shown_) {
        shown_ = names.join('|');
        for (QAbstractButton* button : which_->buttons()) {
            which_->removeButton(button);
            button->deleteLater();
        }
        while (QLayoutItem* item = tabs_->takeAt(0)) {
            delete item;
        }
        for (int i = 0; i < names.size(); ++i) {
            auto* button = new QPushButton(names[i], this);
            button->setProperty("tab", true);
            button->setCheckable(true);
            button->setObjectName(QString("stage:%1").arg(i));
            which_->addButton(button, i);
            tabs_->addWidget(button);
        }
        tabs_->addStretch(1);
        which_->button(0)->setChecked(true);
    }
    showStage();
}

ReportItem FirstStagePage::forReport() const {
    ReportItem figure("figure", {answer_->question.id});
    const auto& stages = answer_->fit->instrumented->firstStages;
    const auto at = static_cast<std::size_t>(std::max(which_->checkedId(), 0));
    figure.shows = at < stages.size() ? "first-stage" : "reduced-form";
    if (at < stages.size()) {
        figure.variables = {stages[at].endogenous};
    }
    return figure;
}

void FirstStagePage::showStage() {
    if (!answer_ || !answer_->fit || !answer_->fit->instrumented) {
        return;
    }
    const InstrumentedFit& told = *answer_->fit->instrumented;
    const auto at = static_cast<std::size_t>(std::max(which_->checkedId(), 0));
    const bool reduced = at >= told.firstStages.size();
    const FirstStage& stage = reduced ? told.reducedForm : told.firstStages[at];
    QString words;
    for (const std::string& paragraph : stageReading(*answer_, stage, reduced)) {
        words += "<p style=\"margin:2px 0\">" + richText(paragraph) + "</p>";
    }
    strength_->setText(words);
    rows_->showAnswer(stageAnswer(*answer_, stage), fresh_, EffectScale::Raw);
    rows_->showSelected(-1);
}

}  // namespace rapporto::app
