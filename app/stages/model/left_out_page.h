#pragma once

#include "app/plots/plot_view.h"
#include "app/shell/stage.h"
#include "core/report/left_out_picture.h"

class QLabel;

namespace rapporto::app {

/// A plot on which a strength is chosen: a press or a drag puts it under the mouse, arrow keys move
/// it by a fiftieth of the axes.
class StrengthPlot : public PlotView {
    Q_OBJECT

  public:
    using PlotView::PlotView;

    /// Where the axes end.
    void setMost(const Strength& most) { most_ = most; }

    void setChosen(const Strength& chosen) { chosen_ = chosen; }

  signals:
    void moved(double withTerm, double withOutcome);

  protected:
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    void put(double withTerm, double withOutcome);
    void putAt(QPointF point);

    Strength most_{0.5, 0.5};
    Strength chosen_;
    bool held_ = false;
};

/// How strong a cause left out would have to be: lines of equal estimate over its strength on both
/// sides, the benchmarks among them, and in words what a chosen one would do.
class LeftOutPage : public QWidget {
    Q_OBJECT

  public:
    explicit LeftOutPage(QWidget* parent);

    /// An answer that was asked what may be left out, of one linear equation.
    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

    [[nodiscard]] StrengthPlot* plot() const { return plot_; }

    [[nodiscard]] const Strength& chosen() const { return chosen_; }

    /// What is in front, as a figure of the report.
    [[nodiscard]] ReportItem forReport() const;

  private:
    void choose(const Strength& chosen);

    std::shared_ptr<const Answer> answer_;
    std::string of_;  ///< Whose strength is chosen; another effect begins anew.
    Strength chosen_;
    StrengthPlot* plot_;
    QLabel* words_;
    PlotView* stability_;  ///< Below, small: how stable the effect is.
};

}  // namespace rapporto::app
