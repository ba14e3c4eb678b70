#pragma once

#include <QStringList>
#include <QWidget>

namespace rapporto::app {

/// The strip of six stages with their live states; emits the stage that was asked for.
class Route : public QWidget {
    Q_OBJECT

  public:
    explicit Route(QWidget* parent = nullptr);

    void showStage(int stage);
    void showStates(const QStringList& states);

    [[nodiscard]] QSize sizeHint() const override { return {830, 66}; }

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
