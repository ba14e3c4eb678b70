#pragma once

#include "app/plots/plot_view.h"
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/kind_pages.h"
#include "app/stages/model/path_view.h"
#include "app/stages/model/way_rows.h"

class QButtonGroup;
class QLabel;
class QScrollArea;
class QStackedWidget;
class QTextBrowser;
class QVBoxLayout;

namespace rapporto::app {

/// A trace: its picture with the effects below, its equations, its fit, and how strongly errors
/// would have to go together for a way to vanish.
class TracePages : public KindPages {
    Q_OBJECT

  public:
    TracePages(Session& session, QWidget* parent);

    void showAnswer(std::shared_ptr<const Answer> answer, bool fresh) override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state(const Answer& answer) const override;
    [[nodiscard]] std::vector<ActionCard> whenRefused(const Answer& answer) const override;
    [[nodiscard]] QString whenEmpty() const override;

  private:
    enum Page { kWays, kEquations, kFit, kSensitivity };

    /// Puts the question with a changed trace.
    void change(const std::function<void(TraceSpec&)>& how, const QString& did);
    void chooseEffect(int effect);
    void showPage();
    void showWays();
    void showEquations();
    void showFit();
    void showSensitivity();
    void addArrowActions(ReadingContent& content, const TraceArrow& arrow) const;
    void addNodeActions(ReadingContent& content, const TraceNode& node) const;

    QButtonGroup* tabs_;
    QStackedWidget* pages_;
    QLabel* title_;
    QLabel* note_;
    PathView* picture_;
    WayRows* rows_;
    QScrollArea* equations_;
    std::vector<EffectRows*> equationRows_;
    QTextBrowser* fit_;
    PlotView* sensitivity_;
    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
    int effect_ = -1;
};

}  // namespace rapporto::app
