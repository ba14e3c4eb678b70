#pragma once

#include "app/shell/told_parts.h"
#include "core/study/answer.h"

#include <QWidget>

#include <utility>
#include <vector>

namespace rapporto::app {

/// The figures of the whole fit in a line below the effects, each under its name; in two lines
/// where one is too short for them.
class FitStrip : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit FitStrip(QWidget* parent = nullptr);

    void showAnswer(const Answer& answer);

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

  private:
    struct Cell {
        QString name;
        QString value;
        QRect place = {};
    };

    [[nodiscard]] static std::vector<Cell> cellsOf(const Answer& answer);

    /// Gives each figure its place in the width there is, and the strip the height of its lines.
    void place();

    std::vector<Cell> cells_;
};

}  // namespace rapporto::app
