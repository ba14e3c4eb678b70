#pragma once

#include "app/shell/told_parts.h"
#include "core/study/sweep.h"

#include <QWidget>

namespace rapporto::app {

/// A sweep as a sorted curve: each specification a dot with its interval, its choices below as
/// marks in rows. A click or the arrow keys choose one.
class SweepView : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit SweepView(QWidget* parent = nullptr);

    void showSweep(std::shared_ptr<const Sweep> sweep, double alpha);
    void showNothing(const QString& why);

    [[nodiscard]] const std::shared_ptr<const Sweep>& shown() const { return sweep_; }

    /// Index into the results, or −1.
    [[nodiscard]] int chosen() const { return chosen_; }

    /// Where a specification stands, for tests.
    [[nodiscard]] double xOf(std::size_t result) const;

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void specificationChosen(int result);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    [[nodiscard]] QRectF curve() const;
    void choose(int result);

    std::shared_ptr<const Sweep> sweep_;
    double alpha_ = 0.05;
    QString why_;
    int chosen_ = -1;
};

}  // namespace rapporto::app
