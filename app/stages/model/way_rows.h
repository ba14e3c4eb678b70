#pragma once

#include "app/shell/told_parts.h"
#include "core/study/answer.h"

#include <QWidget>

#include <functional>

namespace rapporto::app {

/// The effects of a trace, a row each with its lens: under every pair (and setting of moderators)
/// total, each way and direct on one axis. Emits the row that was chosen.
class WayRows : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit WayRows(QWidget* parent = nullptr);

    void showAnswer(std::shared_ptr<const Answer> answer, bool fresh);
    void showSelected(int effect);

    [[nodiscard]] int selected() const { return selected_; }

    /// Where an effect’s row begins, for tests.
    [[nodiscard]] double rowTop(int effect) const;

    /// Text of a row’s cells, as drawn: name, effect, interval, p.
    [[nodiscard]] QStringList cells(int effect) const;

    [[nodiscard]] QSize sizeHint() const override;

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void effectChosen(int effect);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    struct Row {
        int effect = -1;  ///< −1: the heading of a pair.
        QString name;
        double low = 0.0;  ///< Ends of the axis of its pair.
        double high = 0.0;
    };

    void layOut();
    void drawRow(class QPainter& painter, const Row& row, double top) const;

    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
    int selected_ = -1;
    std::vector<Row> rows_;
};

}  // namespace rapporto::app
