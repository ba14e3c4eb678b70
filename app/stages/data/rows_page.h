#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"

namespace rapporto::app {

class DerivePanel;
class ExpressionEdit;
class GridModel;

/// The rows as a grid, the rule of the sample above, new variables below.
class RowsPage : public DataPage {
    Q_OBJECT

  public:
    RowsPage(Session& session, QWidget* parent);

    void refresh() override;
    void refreshSelection();

    /// Brings the variable into view.
    void showVariable(const std::string& name);

    [[nodiscard]] DerivePanel* derive() const { return derive_; }

  private:
    struct RuleCount {
        std::string rule;
        std::optional<Refusal> refusal;
        std::size_t kept = 0;
    };

    void takeGridSelection();
    void previewRule();
    void showRule(const RuleCount& found);

    GridModel* gridModel_;
    QTableView* grid_;
    ExpressionEdit* rule_;
    QLabel* rulePreview_;
    DerivePanel* derive_;
    std::shared_ptr<const Frame> shownFrame_;
    bool selecting_ = false;
    Later<RuleCount> counting_;
};

}  // namespace rapporto::app
