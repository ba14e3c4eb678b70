#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/impute/patterns.h"
#include "core/impute/sets.h"
#include "core/study/missing_shift.h"

#include <QTimer>

class QButtonGroup;
class QLineEdit;
class QSpinBox;
class QTableWidget;

namespace rapporto::app {

class PlotView;

/// Which answers are missing together, who lacks them, and how they are filled in.
class MissingPage : public DataPage {
    Q_OBJECT

  public:
    MissingPage(Session& session, QWidget* parent);
    ~MissingPage() override;

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  protected:
    void hideEvent(QHideEvent* event) override;

  private:
    /// What is missing, looked at beside the window’s turn.
    struct Looked {
        MissingPatterns patterns;
        std::vector<MissingContrast> contrasts;  ///< Of the chosen variable.
        std::string of;
        std::vector<Variable> variables;  ///< As the table shows them.
        std::vector<std::size_t> gaps;
    };

    struct Made {
        std::shared_ptr<const ImputedSets> sets;
        std::optional<Refusal> refusal;
    };

    /// What an effect becomes where those who did not answer differ.
    struct Shifted {
        std::string of;  ///< What it was asked of, as one text.
        std::optional<MissingShift> shift;
        std::optional<Refusal> refusal;
    };

    [[nodiscard]] static Looked look(const Frame& frame, const std::string& of);
    void show(const Looked& looked);
    void showMade(const Made& made);
    void fillTable();
    void showPicture();
    void showShift();
    void say();
    void make();
    void stopMaking();
    void put(const ImputationSpec& spec, const QString& did);
    void changeWay(int row);
    void cellChanged(int row, int column);
    void numbersEdited();
    void furtherEdited();
    void propose();
    void ask();
    [[nodiscard]] std::string chosen() const;

    QSpinBox* sets_;
    QSpinBox* rounds_;
    QSpinBox* donors_;
    QLineEdit* further_;
    QPushButton* propose_;
    QPushButton* make_;
    QPushButton* ask_;
    QTableWidget* table_;
    QLabel* says_;
    QButtonGroup* pictures_;
    PlotView* picture_;
    QTimer progress_;
    std::shared_ptr<const Frame> shownFrame_;
    ImputationSpec shownSpec_;
    Looked looked_;
    Made made_;
    bool held_ = false;  ///< Stopped by hand: nothing begins by itself until something changes.
    Shifted shifted_;
    Job job_;
    Job shiftJob_;
    Later<Looked> looking_;
    Later<Made> making_;
    Later<Shifted> shifting_;
};

}  // namespace rapporto::app
