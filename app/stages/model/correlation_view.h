#pragma once

#include "app/shell/told_parts.h"
#include "core/study/answer.h"

#include <QWidget>

namespace rapporto::app {

/// Correlations as a mosaic: below the diagonal a shade with the interval drawn on an axis from −1
/// to 1, above it the digits with p and n. A click or the arrow keys choose a pair.
class CorrelationView : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit CorrelationView(QWidget* parent = nullptr);

    /// @param similar  alike variables side by side instead of the order of the question.
    void showAnswer(std::shared_ptr<const Answer> answer, bool fresh, bool similar);

    /// The chosen pair in the order of the question; −1, −1 when there is none.
    [[nodiscard]] std::pair<int, int> chosen() const { return {chosenA_, chosenB_}; }

    void choose(int a, int b);

    /// The cell of two variables of the question, for tests; first the row.
    [[nodiscard]] QRectF cellOf(int a, int b) const;

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void pairChosen(int a, int b);
    void pairOpened(int a, int b);  ///< Double click or Return: its scatter is asked for.

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    [[nodiscard]] QRectF cell(int row, int column) const;
    [[nodiscard]] std::pair<int, int> at(QPointF point) const;
    void drawShade(QPainter& painter, const QRectF& area, int a, int b) const;
    void drawDigits(QPainter& painter, const QRectF& area, int a, int b) const;

    std::shared_ptr<const Answer> answer_;
    std::vector<int> order_;  ///< Variables of the question by place.
    bool fresh_ = true;
    int chosenA_ = -1;
    int chosenB_ = -1;
};

}  // namespace rapporto::app
