#pragma once

#include "app/stages/data/data_page.h"
#include "core/describe/odd/oddity.h"

class QLineEdit;
class QListWidget;

namespace rapporto::app {

class PlotView;

/// What looks odd about the table, each thing with its picture and its one-step mend, and what was
/// looked at and stands.
class OddPage : public DataPage {
    Q_OBJECT

  public:
    OddPage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

    /// Turns to what is odd about a variable.
    void showVariable(const std::string& name);

  private:
    [[nodiscard]] const Oddity* chosen() const;
    void showChosen();
    void letStand();

    QLabel* heading_;
    QListWidget* list_;
    PlotView* picture_;
    QLabel* words_;
    QLineEdit* reason_;
    QPushButton* stand_;
    std::string chosen_;  ///< Id.
};

}  // namespace rapporto::app
