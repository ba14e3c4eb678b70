#pragma once

#include "app/shell/stage.h"
#include "app/stages/model/effect_rows.h"

class QButtonGroup;
class QLabel;
class QStackedWidget;
class QTextBrowser;

namespace rapporto::app {

/// Effects, equation and variance split of the question in focus, with the fit strip below.
class ModelStage : public Stage {
    Q_OBJECT

  public:
    ModelStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] bool showsQuestion() const override { return true; }

  private:
    void showPage(int page);
    void showEquation(const Answer& answer);
    void showSplit(const Answer& answer);
    void showStrip(const Answer& answer);

    QButtonGroup* tabs_;
    QButtonGroup* scales_;
    QStackedWidget* pages_;
    EffectRows* effects_;
    QTextBrowser* equation_;
    QTextBrowser* split_;
    QLabel* strip_;
    QLabel* note_;
    QLabel* message_;
    int selected_ = -1;
    EffectScale scale_ = EffectScale::Raw;
    std::string shownQuestion_;
};

}  // namespace rapporto::app
