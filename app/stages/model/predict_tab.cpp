#include "app/stages/model/predict_tab.h"

#include "app/shell/theme.h"
#include "core/model/forecast.h"

#include <QButtonGroup>
#include <QHBoxLayout>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace rapporto::app {

PredictTab::PredictTab(Session& session, QWidget* parent)
    : QWidget(parent),
      choice_(new QWidget(this)),
      buttons_(new QButtonGroup(this)),
      pages_(new QStackedWidget(this)),
      predict_(new PredictPage(session, this)),
      forecast_(new ForecastPage(session, this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    auto* line = new QHBoxLayout(choice_);
    line->setContentsMargins(0, 4, 0, 0);
    line->setSpacing(12);
    int id = 0;
    for (const auto& [name, says] : {std::pair{"predict:values", tr("at chosen values")},
                                     std::pair{"predict:ahead", tr("at moments to come")}}) {
        auto* button = new QPushButton(says, choice_);
        button->setObjectName(name);
        button->setProperty("tab", true);
        button->setCheckable(true);
        button->setCursor(Qt::PointingHandCursor);
        buttons_->addButton(button, id++);
        line->addWidget(button);
    }
    buttons_->button(0)->setChecked(true);
    line->addStretch(1);
    layout->addWidget(choice_);
    pages_->addWidget(predict_);
    pages_->addWidget(forecast_);
    layout->addWidget(pages_, 1);
    connect(buttons_, &QButtonGroup::idClicked, this, [this](int page) {
        pages_->setCurrentIndex(page);
        emit changed();
    });
    connect(predict_, &PredictPage::changed, this, &PredictTab::changed);
}

bool PredictTab::isAhead() const { return pages_->currentIndex() == 1; }

void PredictTab::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    answer_ = answer;
    const bool series = canForecast(*answer->design, *answer->fit);
    // What was asked stays in sight where it is refused.
    choice_->setVisible(series || answer->question.forecast);
    if (choice_->isHidden()) {
        buttons_->button(0)->setChecked(true);
        pages_->setCurrentIndex(0);
    }
    predict_->showAnswer(answer);
    forecast_->showAnswer(answer, fresh);
}

std::vector<QString> PredictTab::reading() const {
    return isAhead() ? forecast_->reading() : predict_->reading();
}

QString PredictTab::title() const { return isAhead() ? tr("moments to come") : tr("what if"); }

std::vector<ReportItem> PredictTab::forReport() const {
    if (isAhead()) {
        return forecast_->forReport();
    }
    if (answer_ && answer_->predictions && !answer_->predictions->empty()) {
        return {{"predictions", {answer_->question.id}}};
    }
    return {};
}

}  // namespace rapporto::app
