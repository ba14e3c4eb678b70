#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/describe/ledger.h"

class QTableWidget;
class QLineEdit;

namespace rapporto::app {

class ExpressionEdit;

/// Which rows the study speaks about: rules in their order, rows set aside, and for each question
/// where its rows went.
class SamplePage : public DataPage {
    Q_OBJECT

  public:
    SamplePage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  private:
    struct Found {
        std::optional<Refusal> refusal;
        std::vector<RuleStep> steps;
    };

    void addCondition();
    void dropCondition();
    void setAsideByRule();
    void takeBack();
    void drawPart();
    void showSteps(const Found& found);
    void showAside();
    void showQuestions();

    QTableWidget* steps_;
    ExpressionEdit* condition_;
    QLabel* conditionSays_;
    QTableWidget* aside_;
    QComboBox* part_ = nullptr;
    QLineEdit* amount_ = nullptr;
    QLineEdit* seed_ = nullptr;
    ExpressionEdit* asideRule_;
    QLineEdit* asideReason_;
    QTableWidget* questions_;
    std::shared_ptr<const Frame> shownFrame_;
    std::string shownRule_;
    Later<Found> counting_;
};

}  // namespace rapporto::app
