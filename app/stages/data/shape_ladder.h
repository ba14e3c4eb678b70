#pragma once

#include "core/data/frame.h"

#include <QWidget>

namespace rapporto::app {

/// One variable under the powers from −1/x² to x³, side by side with skewness; a click asks for
/// that rung as a derived variable.
class ShapeLadder : public QWidget {
    Q_OBJECT

  public:
    explicit ShapeLadder(QWidget* parent = nullptr);

    void showVariable(const std::shared_ptr<const Frame>& frame, const std::string& name);

    [[nodiscard]] QSize sizeHint() const override { return {600, 112}; }

  signals:
    void rungChosen(const QString& name, const QString& expression);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;

  private:
    struct Rung {
        QString label;
        QString name;
        QString expression;
        std::vector<double> bars;
        double skewness = 0.0;
        bool defined = false;
    };

    std::vector<Rung> rungs_;
    int best_ = -1;
    QString why_;
};

}  // namespace rapporto::app
