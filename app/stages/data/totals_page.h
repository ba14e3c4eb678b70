#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/describe/calibration_facts.h"

class QLineEdit;
class QTableWidget;

namespace rapporto::app {

class PlotView;

/// What is known of the population, and what the weights become when they are brought to it.
class TotalsPage : public DataPage {
    Q_OBJECT

  public:
    TotalsPage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  public slots:
    /// Takes the totals of a table of them in place of those that stand.
    void takeFrom(const QString& path);

  private:
    /// What the totals come to, made beside the window's turn.
    struct Found {
        Survey survey;
        std::vector<CalibrationFacts::Total> drawn;  ///< Each level, before.
        std::optional<Refusal> refusal;
        CalibrationFacts facts;
        Exhibit picture;
        std::shared_ptr<const SurveyRows> rows;
    };

    [[nodiscard]] static Found look(const Frame& frame, const Survey& survey);
    void show(const Found& found);
    void fillTable(const Found& found);
    void put(const Survey& survey, const QString& did);
    void add(bool mean);
    void drop();
    void cellEdited(int row);
    void boundsEdited();
    void keepWeights();

    QComboBox* method_;
    QLineEdit* least_;
    QLineEdit* most_;
    QComboBox* variable_;
    QPushButton* addShares_;
    QPushButton* addMean_;
    QTableWidget* table_;
    QLabel* says_;
    PlotView* picture_;
    QPushButton* keep_;
    std::shared_ptr<const Frame> shownFrame_;
    Survey shownSurvey_;
    Found found_;
    Later<Found> looking_;
};

}  // namespace rapporto::app
