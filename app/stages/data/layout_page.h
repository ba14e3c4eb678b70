#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/describe/coverage.h"
#include "core/describe/survey_facts.h"

class QListWidget;

namespace rapporto::app {

class CoverageView;

/// What a row is, what follows from it, and how the rows were drawn.
class LayoutPage : public DataPage {
    Q_OBJECT

  public:
    LayoutPage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  private:
    struct Found {
        std::optional<Refusal> refusal;
        LayoutFacts facts;
        std::string step;
        Coverage coverage;
        std::optional<Result<SurveyFacts>> survey;
        std::string effectOf;
        std::optional<double> effect;
    };

    [[nodiscard]] static Found look(const Frame& frame, const Survey& survey,
                                    const std::string& outcome);
    void applyLayout();
    void applySurvey();
    void fillReplicates(const Frame& frame, const Survey& survey);
    void show(const Found& found);
    void addRows(const QString& what, const std::vector<std::uint32_t>& rows);

    QComboBox* kind_;
    QComboBox* unit_;
    QComboBox* time_;
    QComboBox* frequency_;
    QLabel* unitWord_;
    QLabel* timeWord_;
    QLabel* everyWord_;
    QLabel* facts_;
    QListWidget* rows_;
    CoverageView* coverage_;
    QComboBox* weight_;
    QComboBox* strata_;
    QComboBox* cluster_;
    QComboBox* lonely_;
    QComboBox* replicates_;
    QComboBox* replicateKind_;
    QLabel* surveyFacts_;
    std::shared_ptr<const Frame> shownFrame_;
    Survey shownSurvey_;
    Later<Found> looking_;
};

}  // namespace rapporto::app
