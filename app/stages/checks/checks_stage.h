#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "core/checks/check.h"

#include <set>

class QLabel;
class QPushButton;
class QSlider;
class QTextBrowser;

namespace rapporto::app {

class PlotView;
class RowSheetView;

/// The questions that are asked of an answer, each with a verdict and a line; under it, unfolded on
/// demand, its checks: a mark, a name and one line.
class CheckList : public QWidget {
    Q_OBJECT

  public:
    explicit CheckList(QWidget* parent = nullptr);

    void showChecks(std::shared_ptr<const Answer> answer, bool fresh, const std::string& selected);

    /// Where the check's row lies, for the mouse; empty when it is folded away or not listed.
    [[nodiscard]] QRect rowOf(const std::string& id) const;

    /// Where the question lies under which the check stands; empty when it is not listed.
    [[nodiscard]] QRect questionOf(const std::string& id) const;

    /// What the question’s checks say together, where the check speaks for them; else empty.
    [[nodiscard]] std::string answerTo(const std::string& id) const;

    /// Where one shows and hides what does not apply; empty when everything does.
    [[nodiscard]] QRect foldPlace() const;

    [[nodiscard]] QSize sizeHint() const override;

  signals:
    void checkChosen(const std::string& id);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    /// A question with its checks.
    struct Asked {
        std::string key;  ///< The question; of an equation “pruning · Is the spread even?”.
        GroupVerdict verdict;
        std::vector<const CheckResult*> checks;

        [[nodiscard]] const CheckResult* leading() const;
        [[nodiscard]] bool holds(const std::string& check) const;
    };

    struct Row {
        QRect place;
        const Asked* asked = nullptr;
        const CheckResult* result = nullptr;  ///< Null: the question itself.
        QString words;                        ///< Of a line that is neither.
        bool fold = false;  ///< Shows and hides the questions of which nothing applies.
    };

    /// @param show  the id of a check that is not to be folded away.
    void layOut(const std::string& show = {});
    void unfold(bool open);
    void step(const std::string& id);  ///< Chosen by a key.
    void turn(const Asked& asked);     ///< Folds or unfolds a question, as by a click on it.
    void paintAsked(QPainter& painter, const Row& row) const;
    void paintCheck(QPainter& painter, const Row& row) const;
    [[nodiscard]] const Asked* askedOf(const std::string& check) const;

    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
    std::string selected_;
    std::vector<Asked> asked_;
    std::vector<Row> rows_;
    std::set<std::string> open_;  ///< Questions whose checks are shown.
    bool unfolded_ = false;
};

/// List, exhibit and numbers of the checks of the question in focus.
class ChecksStage : public Stage {
    Q_OBJECT

  public:
    ChecksStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] bool showsQuestion() const override { return true; }

  signals:
    /// What looks odd about this variable is to be mended in the data.
    void oddityAsked(const std::string& variable);

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
