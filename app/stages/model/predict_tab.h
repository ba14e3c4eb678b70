#pragma once

#include "app/stages/model/forecast_page.h"
#include "app/stages/model/predict_page.h"

class QButtonGroup;
class QStackedWidget;

namespace rapporto::app {

/// Predictions at chosen values and, of a series, at moments to come.
class PredictTab : public QWidget {
    Q_OBJECT

  public:
    PredictTab(Session& session, QWidget* parent);

    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

    [[nodiscard]] std::vector<QString> reading() const;

    /// Title of the reading.
    [[nodiscard]] QString title() const;

    /// What is in front, as items of the report.
    [[nodiscard]] std::vector<ReportItem> forReport() const;

  signals:
    void changed();

  private:
    [[nodiscard]] bool isAhead() const;

    std::shared_ptr<const Answer> answer_;
    QWidget* choice_;
    QButtonGroup* buttons_;
    QStackedWidget* pages_;
    PredictPage* predict_;
    ForecastPage* forecast_;
};

}  // namespace rapporto::app
