#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/describe/ladder.h"
#include "core/describe/preview.h"

class QLineEdit;
class QStackedWidget;

namespace rapporto::app {

class ExpressionEdit;
class FlowLayout;
class LadderView;
class PreviewView;

/// A new variable: by expression with a live preview, by a word, or from the ladder of powers.
class DerivePanel : public DataPage {
    Q_OBJECT

  public:
    DerivePanel(Session& session, QWidget* parent);

    void refresh() override;

    /// Puts an expression into the field, ready to be looked at and added.
    void propose(const QString& name, const QString& expression);

  private:
    struct ForVariable {
        std::string name;
        ShapeLadder ladder;
        std::vector<Proposal> proposals;
    };

    void preview();
    void add();
    void showPreview(const DerivedPreview& preview);
    void showVariable(const ForVariable& found);

    QLineEdit* name_;
    ExpressionEdit* expression_;
    QLabel* words_;
    QStackedWidget* below_;
    PreviewView* picture_;
    QLabel* ladderTitle_;
    LadderView* ladder_;
    QWidget* offers_;
    FlowLayout* offersLine_;
    std::shared_ptr<const Frame> shownFrame_;
    std::string shownVariable_;
    DerivedPreview last_;
    Later<DerivedPreview> previewing_;
    Later<ForVariable> looking_;
};

}  // namespace rapporto::app
