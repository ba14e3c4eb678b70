#pragma once

#include "app/shell/told_parts.h"
#include "core/describe/ladder.h"

#include <QWidget>

namespace rapporto::app {

/// Draws a ladder of powers side by side with skewness; a click asks for that rung as a derived
/// variable. Left and right move, Enter takes.
class LadderView : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit LadderView(QWidget* parent = nullptr);

    void showLadder(ShapeLadder ladder);

    [[nodiscard]] const ShapeLadder& ladder() const { return ladder_; }

    /// Where a rung is drawn.
    [[nodiscard]] QRect rungRect(std::size_t rung) const;

    [[nodiscard]] QSize sizeHint() const override { return {600, 112}; }

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void rungChosen(const QString& name, const QString& expression);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    void take(int rung);

    ShapeLadder ladder_;
    int current_ = -1;
};

}  // namespace rapporto::app
