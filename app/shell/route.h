#pragma once

#include "app/shell/told_parts.h"

#include <QStringList>
#include <QWidget>

namespace rapporto::app {

/// The strip of six stages with their live states; emits the stage that was asked for.
class Route : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit Route(QWidget* parent = nullptr);

    void showStage(int stage);
    void showStates(const QStringList& states);

    [[nodiscard]] QSize sizeHint() const override { return {830, 66}; }

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

    [[nodiscard]] QAccessible::Role toldRole() const override { return QAccessible::PageTabList; }

  signals:
    void stageRequested(int stage);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void leaveEvent(QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    [[nodiscard]] double centre(int stage) const;
    [[nodiscard]] int stageAt(double x) const;

    int stage_ = 0;
    int hovered_ = -1;
    QStringList states_;
};

[[nodiscard]] QStringList stageNames();

}  // namespace rapporto::app
