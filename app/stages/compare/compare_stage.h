#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "app/shell/told_parts.h"
#include "app/stages/compare/sweep_view.h"
#include "core/report/wording.h"

class QButtonGroup;
class QComboBox;
class QPushButton;
class QScrollArea;
class QStackedWidget;

namespace rapporto::app {

/// Terms as rows, the questions of one family as columns: a small lens beside the digits, fit and
/// verdicts below. A column can be chosen; the reading tells how it differs from the lead.
class CompareTable : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit CompareTable(QWidget* parent = nullptr);

    void showAnswers(std::vector<std::shared_ptr<const Answer>> answers, std::size_t chosen);

    [[nodiscard]] QRectF columnRect(std::size_t column) const;

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void columnChosen(std::size_t column);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    void drawTerms(QPainter& painter, double& top) const;
    void drawFit(QPainter& painter, double& top) const;
    void drawVerdicts(QPainter& painter, double& top) const;

    std::vector<std::shared_ptr<const Answer>> answers_;
    std::vector<ComparedRow> rows_;
    std::vector<std::vector<ComparedEffect>> effects_;  ///< Of each answer; empty without a fit.
    std::size_t chosen_ = 0;
};

/// Variants side by side, and the sweep of one question over its choices.
class CompareStage : public Stage {
    Q_OBJECT

  public:
    CompareStage(Session& session, QWidget* parent);

    ~CompareStage() override { sweepJob_.stop(); }

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] std::string chapter() const override { return "guide:Compare"; }

    [[nodiscard]] std::vector<ReportItem> forReport() const override;

    /// The sweep is being worked out.
    [[nodiscard]] bool isSweeping() const { return later_.isBusy(); }

  private:
    void refreshVariants();
    void refreshSweep();
    void buildChoices(const Answer& answer);
    [[nodiscard]] SweepChoices choicesFor(const Answer& answer) const;
    [[nodiscard]] SweepSpec specFor(const Answer& answer) const;
    [[nodiscard]] ReadingContent sweepReading() const;
    void startSeries();

    CompareTable* table_;
    QStackedWidget* pages_;
    QButtonGroup* tabs_;
    SweepView* sweep_;
    QComboBox* of_;     ///< The effect that is followed.
    QWidget* choices_;  ///< What comes and goes, as words.
    QPushButton* stop_;
    Later<Result<Sweep>> later_;
    Job sweepJob_;
    std::string asked_;                   ///< What the sweep shown or in work is of.
    std::string choicesFor_;              ///< The question and effect whose choices stand there.
    std::map<std::string, bool> wanted_;  ///< Choices as clicked.
    std::vector<std::shared_ptr<const Answer>> answers_;
    std::size_t chosen_ = 0;
};

}  // namespace rapporto::app
