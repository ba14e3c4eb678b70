#pragma once

#include <QScrollArea>

class QComboBox;
class QLabel;
class QLineEdit;

namespace rapporto::app {

class PlotView;

/// A calculator that takes the reading column’s place: statistic ↔ p under the laws that tests
/// use, with the picture, and a split of the variance that fills itself.
class CalculatorPanel : public QScrollArea {
    Q_OBJECT

  public:
    explicit CalculatorPanel(QWidget* parent = nullptr);

  signals:
    void closed();

  private:
    void fromStatistic();
    void fromP();
    void showLaw(double statistic);
    void split();
    QLineEdit* field(const QString& name, const QString& id, const QString& value,
                     void (CalculatorPanel::*changed)());

    QComboBox* law_;
    QComboBox* tail_;
    QLineEdit* df1_;
    QLineEdit* df2_;
    QLineEdit* statistic_;
    QLineEdit* p_;
    PlotView* picture_;
    QLabel* words_;
    QLineEdit* n_;
    QLineEdit* terms_;
    QLineEdit* model_;
    QLineEdit* residual_;
    QLineEdit* total_;
    QLabel* split_;
};

}  // namespace rapporto::app
