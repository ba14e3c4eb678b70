#pragma once

#include "app/plots/plot_view.h"
#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "core/study/shape_trials.h"

class QComboBox;
class QLabel;
class QTextBrowser;

namespace rapporto::app {

/// A plot whose upright lines can be taken and moved.
class BendPlot : public PlotView {
    Q_OBJECT

  public:
    using PlotView::PlotView;

    /// Where lines stand that can be moved; none: the plot is like any other.
    void setPlaces(std::vector<double> places) { places_ = std::move(places); }

  signals:
    void placesMoved(const std::vector<double>& places);   ///< While the mouse moves.
    void placesChosen(const std::vector<double>& places);  ///< When it lets go.

  protected:
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;

  private:
    /// Index of the line under a point, or −1.
    [[nodiscard]] int under(QPointF point) const;

    std::vector<double> places_;
    int held_ = -1;
};

/// The outcome along one variable: its curve with band and data, the fit under other shapes of the
/// variable or of the outcome, or what a term says alone. A bent line’s bends are dragged here: the
/// pieces follow the mouse, and where it lets go they are held.
class CurvePage : public QWidget {
    Q_OBJECT

  public:
    CurvePage(Session& session, QWidget* parent);

    ~CurvePage() override { job_.stop(); }

    void showAnswer(const std::shared_ptr<const Answer>& answer);

    [[nodiscard]] BendPlot* plot() const { return plot_; }

    /// The variable along which it looks.
    [[nodiscard]] const std::string& variable() const { return variable_; }

    void setVariable(const std::string& name);

    [[nodiscard]] ReadingContent reading() const;

    /// What is in front, as a figure of the report.
    [[nodiscard]] ReportItem forReport() const;

    /// Something is being worked out.
    [[nodiscard]] bool isBusy() const { return later_.isBusy() || trying_.isBusy(); }

  signals:
    void changed();

  private:
    enum Look { OwnCurve, OwnShapes, OutcomeShapes, Alone };

    /// What is worked out of an answer along one variable.
    struct Curve {
        Result<Exhibit> exhibit;
        std::optional<Refusal> none;  ///< Why there is no average effect.
        std::optional<Estimate> effect;
        std::optional<Estimate> elasticity;
        std::vector<std::string> groups;  ///< Effects in the groups of `by`, in words.
    };

    void draw();
    void drawCurve();
    void drawShapes();
    void drawAlone();
    void show(const Curve& curve);
    void showTrials(const Result<ShapeTrials>& trials);
    void listTrials();
    void take(std::size_t trial);
    void fillLooks();
    void fillGroups();
    [[nodiscard]] std::string by() const;
    [[nodiscard]] ReadingContent trialReading() const;
    [[nodiscard]] ReadingContent aloneReading() const;
    [[nodiscard]] int look() const;
    [[nodiscard]] std::optional<std::size_t> coefficient() const;
    void preview(const std::vector<double>& places);
    void bend(int bends, const QString& did, bool variant);
    void hold(const std::vector<double>& places);

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    std::string variable_;
    std::string question_;
    QComboBox* picker_;
    QComboBox* by_;
    QComboBox* looks_;
    BendPlot* plot_;
    QTextBrowser* list_;  ///< Of trials.
    Curve curve_;
    Later<Curve> later_;
    std::optional<Result<ShapeTrials>> trials_;
    std::string tried_;  ///< What the trials are of.
    int chosen_ = -1;    ///< The trial drawn out.
    Job job_;
    Later<Result<ShapeTrials>> trying_;
};

}  // namespace rapporto::app
