#pragma once

#include "app/shell/stage.h"

namespace rapporto::app {

/// Terms as rows, the questions of one family as columns: a small lens beside the digits, fit and
/// verdicts below. A column can be chosen; the reading tells how it differs from the lead.
class CompareTable : public QWidget {
    Q_OBJECT

  public:
    explicit CompareTable(QWidget* parent = nullptr);

    void showAnswers(std::vector<std::shared_ptr<const Answer>> answers, std::size_t chosen);

    [[nodiscard]] QRectF columnRect(std::size_t column) const;

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
    std::vector<std::string> terms_;
    std::size_t chosen_ = 0;
};

class CompareStage : public Stage {
    Q_OBJECT

  public:
    CompareStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

  private:
    CompareTable* table_;
    std::vector<std::shared_ptr<const Answer>> answers_;
    std::size_t chosen_ = 0;
};

}  // namespace rapporto::app
