#pragma once

#include "app/plots/plot_view.h"
#include "app/shell/session.h"
#include "core/study/report_item.h"

class QGridLayout;
class QLabel;
class QLineEdit;
class QPushButton;

namespace rapporto::app {

/// The outcome at moments to come, drawn after the series; how many, and how each variable goes on,
/// is said above the picture and kept with the question.
class ForecastPage : public QWidget {
    Q_OBJECT

  public:
    ForecastPage(Session& session, QWidget* parent);

    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

    [[nodiscard]] std::vector<QString> reading() const;

    /// What is in front, as items of the report.
    [[nodiscard]] std::vector<ReportItem> forReport() const;

  private:
    void build();
    void put(const ForecastRequest& request, const QString& did);
    void takeValues(const std::string& name, const QString& typed);

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    QPushButton* begin_;
    QWidget* settings_;
    QGridLayout* grid_;
    QString built_;  ///< What the fields were built for.
    PlotView* plot_;
    QLabel* message_;
};

}  // namespace rapporto::app
