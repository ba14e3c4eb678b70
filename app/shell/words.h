#pragma once

#include <QLabel>
#include <QTextDocument>

namespace rapporto::app {

/// Rich text as wide as its column. The column says how wide that is, and its layout need not ask:
/// a label that is asked lays its text out some five times for each height, and twice more to paint
/// it; these words are laid out once. Until they are selected from they paint themselves.
class Words : public QLabel {
    Q_OBJECT

  public:
    using QLabel::QLabel;

    /// Takes the height that the words need in `width` pixels.
    void fitTo(int width);

    [[nodiscard]] bool hasHeightForWidth() const override { return false; }

    [[nodiscard]] QSize sizeHint() const override { return {200, 18}; }

    [[nodiscard]] QSize minimumSizeHint() const override { return {40, 18}; }

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;

  private:
    QTextDocument document_;
    int width_ = -1;
    bool selecting_ = false;
    QString text_;
    QFont font_;
};

}  // namespace rapporto::app
