#pragma once

#include "app/plots/plot_view.h"
#include "core/report/report_items.h"
#include "core/study/answer.h"

class QComboBox;
class QLabel;

namespace rapporto::app {

/// Random effects of groups: each group’s departure with its interval, drawn to the mean, and how
/// far groups scatter.
class GroupsPage : public QWidget {
    Q_OBJECT

  public:
    explicit GroupsPage(QWidget* parent = nullptr);

    /// An answer with random effects.
    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

    [[nodiscard]] PlotView* picture() const { return picture_; }

    /// What is in front, as a figure of the report.
    [[nodiscard]] ReportItem forReport() const;

  private:
    void draw();

    QComboBox* what_;
    PlotView* picture_;
    QLabel* spreads_;
    std::shared_ptr<const Answer> answer_;
};

}  // namespace rapporto::app
