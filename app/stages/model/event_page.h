#pragma once

#include "app/plots/plot_view.h"
#include "core/study/answer.h"

class QLabel;

namespace rapporto::app {

/// Effects before and after a change: the picture and the cohorts behind it.
class EventPage : public QWidget {
    Q_OBJECT

  public:
    explicit EventPage(QWidget* parent = nullptr);

    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

  private:
    PlotView* picture_;
    QLabel* cohorts_;
};

}  // namespace rapporto::app
