#pragma once

#include "app/plots/plot_view.h"
#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "core/model/term_choice.h"

#include <array>

class QButtonGroup;
class QComboBox;
class QTextBrowser;

namespace rapporto::app {

/// Which terms to keep: all subsets by a criterion, the lasso, the controls of one effect, terms
/// that say the same. Each answer opens as a variant that carries how it was chosen.
class TermsPage : public QWidget {
    Q_OBJECT

  public:
    TermsPage(Session& session, QWidget* parent);

    ~TermsPage() override { job_.stop(); }

    void showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh);

    [[nodiscard]] ReadingContent reading() const;

    /// What is in front, as a figure of the report.
    [[nodiscard]] ReportItem forReport() const;

    /// The search is being worked out.
    [[nodiscard]] bool isBusy() const { return later_.isBusy(); }

    [[nodiscard]] PlotView* plot() const { return plot_; }

  signals:
    void changed();

  private:
    enum Way { Subsets, Lasso, Double, Overlap };

    /// What one way found; the others are empty.
    struct Found {
        int way = Subsets;
        std::optional<Refusal> refusal;
        std::optional<SubsetSearch> subsets;
        std::optional<LassoPath> lasso;
        std::optional<DoubleSelection> selection;
        std::vector<OverlapStep> overlap;
    };

    /// A choice that can be made a variant.
    struct Offer {
        std::vector<std::size_t> terms;
        std::optional<TermChoice> chosen;
        QString title;
    };

    void buildChoices();
    void ask();
    void show(const Found& found);
    void draw();
    void drawSubsets();
    void drawLasso();
    void drawSelection();
    void drawOverlap();
    void take(std::size_t offer);
    [[nodiscard]] Criterion criterion() const;
    [[nodiscard]] std::vector<bool> held() const;
    [[nodiscard]] int way() const;

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    QButtonGroup* ways_;
    QComboBox* by_;     ///< The criterion, the picture, or the effect.
    QWidget* choices_;  ///< Terms that are always in.
    PlotView* plot_;
    QTextBrowser* list_;
    std::map<std::string, bool> wanted_;  ///< Terms held, by name.
    std::array<int, 4> shownBy_{};        ///< What `by_` stood at, a way each.
    std::string choicesFor_;
    std::string asked_;
    Found found_;
    std::vector<Offer> offers_;
    Job job_;
    Later<Found> later_;
};

}  // namespace rapporto::app
