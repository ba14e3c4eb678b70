#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "app/stages/model/curve_page.h"
#include "app/stages/model/defend_page.h"
#include "app/stages/model/effect_rows.h"
#include "app/stages/model/event_page.h"
#include "app/stages/model/first_stage_page.h"
#include "app/stages/model/fit_strip.h"
#include "app/stages/model/groups_page.h"
#include "app/stages/model/hypotheses_page.h"
#include "app/stages/model/kind_pages.h"
#include "app/stages/model/left_out_page.h"
#include "app/stages/model/predict_tab.h"
#include "app/stages/model/terms_page.h"

class QButtonGroup;
class QComboBox;
class QLabel;
class QPushButton;
class QStackedWidget;
class QTextBrowser;

namespace rapporto::app {

/// Effects, equation, variance split, shape, predictions and hypotheses of the question in focus,
/// with the fit strip below.
class ModelStage : public Stage {
    Q_OBJECT

  public:
    ModelStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] std::string chapter() const override { return "guide:Model"; }

    [[nodiscard]] bool showsQuestion() const override { return true; }

    [[nodiscard]] std::vector<ReportItem> forReport() const override;

  signals:
    /// The pictures of two variables are asked for.
    void pairAsked(const std::string& first, const std::string& second);

  private:
    /// An answer with mean effects on the outcome in place of its coefficients.
    struct OnOutcome {
        std::shared_ptr<const Answer> of;
        int level = 0;
        std::shared_ptr<const Answer> shown;
    };

    void showPage(int page);
    /// Effect rows of the answer on the scale that is chosen.
    void showEffects(const std::shared_ptr<const Answer>& answer);
    void fillLevels(const Answer& answer);
    /// The pages of questions of another kind; null: the question explains an outcome.
    [[nodiscard]] KindPages* pagesOf(const Question& question) const;
    void showEquation(const Answer& answer);
    void showSplit(const Answer& answer);
    /// What can be asked of the effect that is selected so as to defend it.
    void addWaysToDefend(ReadingContent& content, const Answer& answer) const;

    QButtonGroup* tabs_;
    QButtonGroup* scales_;
    QComboBox* levels_;  ///< Of an outcome of groups: whose probability.
    QStackedWidget* pages_;
    EffectRows* effects_;
    std::map<std::string, KindPages*> ofKind_;
    QWidget* tabsBox_ = nullptr;  ///< Pages and scales of an explained outcome.
    QTextBrowser* equation_;
    QTextBrowser* split_;
    CurvePage* curve_;
    PredictTab* predict_;
    HypothesesPage* hypotheses_;
    TermsPage* terms_;
    FirstStagePage* firstStage_;
    LeftOutPage* leftOut_;
    GroupsPage* groups_;
    DefendPage* defend_;
    EventPage* event_;
    PlotView* process_;
    QWidget* scalesBox_ = nullptr;
    FitStrip* strip_;
    QLabel* note_;
    QLabel* message_;
    int selected_ = -1;
    bool constantAsked_ = false;  ///< Somebody chose the constant; else the first effect is shown.
    EffectScale scale_ = EffectScale::Raw;
    std::string shownQuestion_;
    OnOutcome onOutcome_;
    Later<OnOutcome> onOutcomeLater_;
};

}  // namespace rapporto::app
