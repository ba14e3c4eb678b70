#pragma once

#include "app/plots/plot_view.h"
#include "app/shell/session.h"
#include "core/study/report_item.h"

class QComboBox;
class QLabel;
class QVBoxLayout;

namespace rapporto::app {

/// What an effect stands on beside its error: the lots it is set against, the worst cases of what
/// was not seen, and how many rows would find an effect of a size that is typed here.
class DefendPage : public QWidget {
    Q_OBJECT

  public:
    DefendPage(Session& session, QWidget* parent);

    /// The answer was asked for something that this page shows.
    [[nodiscard]] static bool has(const Answer& answer);

    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

    /// All that was asked, in words.
    [[nodiscard]] std::vector<QString> reading() const;

    /// What is in front, as items of the report.
    [[nodiscard]] std::vector<ReportItem> forReport() const;

  private:
    void fillChoices(const Question& question);
    void buildSizes(const Question& question);
    void askSize(std::size_t place, const QString& effect, const QString& power);
    void askLots(const QString& by, const QString& within);

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    PlotView* plot_;
    QWidget* choices_;  ///< Who draws a lot, and within what.
    QComboBox* by_;
    QComboBox* within_;
    QLabel* words_;  ///< Why something is not told.
    QWidget* sizes_;
    QVBoxLayout* sizesLayout_;
    QString built_;  ///< The sizes that the fields were built for.
    QLabel* problem_;
};

}  // namespace rapporto::app
