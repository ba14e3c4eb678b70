#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/describe/ladder.h"
#include "core/describe/preview.h"
#include "core/describe/recode.h"

class QLineEdit;
class QStackedWidget;
class QTableWidget;

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
    void startRecoding();
    void recode();
    void showRecoding(const Result<Recoding>& recoding);

    QLineEdit* name_;
    ExpressionEdit* expression_;
    QLabel* words_;
    QStackedWidget* below_;
    PreviewView* picture_;
    QLabel* ladderTitle_;
    LadderView* ladder_;
    QTableWidget* recoding_;
    QLabel* recodingSays_;
    std::string recoded_;  ///< The variable that the table recodes; empty: no table is open.
    bool fillingRecoding_ = false;
    QWidget* offers_;
    FlowLayout* offersLine_;
    std::shared_ptr<const Frame> shownFrame_;
    std::string shownVariable_;
    DerivedPreview last_;
    Later<DerivedPreview> previewing_;
    Later<ForVariable> looking_;
    Later<Result<Recoding>> recodingLater_;
};

}  // namespace rapporto::app
