#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"

class QLabel;
class QPushButton;
class QSlider;
class QTextBrowser;

namespace rapporto::app {

class CheckList;
class PlotView;
class RowSheetView;

/// List, exhibit and numbers of the checks of the question in focus.
class ChecksStage : public Stage {
    Q_OBJECT

  public:
    ChecksStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] std::string chapter() const override { return "guide:Checks"; }

    [[nodiscard]] bool showsQuestion() const override { return true; }

    [[nodiscard]] std::vector<ReportItem> forReport() const override;

  private:
    [[nodiscard]] static QString stoppedWords();

    /// Pictures of what an answer leaves, beside those of its checks.
    struct Left {
        std::shared_ptr<const Answer> of;
        std::vector<Exhibit> pictures;
    };

    [[nodiscard]] const CheckResult* selected() const;
    void showSelected();
    /// The classification at the cut of the slider, on the curve and in words.
    void showCut();
    void showLedger();
    void showOverview();
    [[nodiscard]] ReadingContent rowsReadingContent() const;
    /// What of the fit can be kept as a variable, as actions.
    void addKeepers(ReadingContent& content) const;
    void addDecision(ReadingContent& content, const CheckResult& result) const;

    /// The check that one comes here for: the worst, or the first that applies; empty: none does.
    [[nodiscard]] std::string worst() const;

    CheckList* list_;
    std::string chosenFor_;  ///< Id of the question that `selected_` was chosen in.
    QSlider* cut_;
    QLabel* cutWords_;
    QWidget* listBox_ = nullptr;
    PlotView* plot_;
    QLabel* numbers_;
    QTextBrowser* ledger_;  ///< Assumptions of all questions, in the exhibit’s place.
    QPushButton* ledgerButton_;
    QWidget* overview_;  ///< The key pictures of the residuals together.
    QPushButton* overviewButton_;
    QPushButton* more_;  ///< Turns to the next four pictures of what is left.
    std::size_t shownPage_ = 0;
    std::vector<PlotView*> pictures_;
    RowSheetView* sheet_;  ///< The rows of the fit, in the exhibit’s place.
    QPushButton* sheetButton_;
    std::shared_ptr<const Answer> answer_;
    std::string selected_;
    Left left_;
    bool drawing_ = false;  ///< `left_` waits for its pictures.
    Later<Left> leftLater_;
};

}  // namespace rapporto::app
