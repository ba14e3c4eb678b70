#pragma once

#include "app/plots/plot_view.h"
#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "core/describe/comparison.h"
#include "core/describe/normality_tests.h"
#include "core/describe/pictures.h"
#include "core/describe/scatter.h"

class QHBoxLayout;

namespace rapporto::app {

class FlowLayout;

/// What the large picture shows.
enum class Picture : std::uint8_t { Histogram, Quantiles, Cumulative, Scatter, Groups };

/// Up to three variables on the desk: the distribution of each, and the first against the second
/// with line and local smooth. Rows selected anywhere light up everywhere.
class ExploreStage : public Stage {
    Q_OBJECT

  public:
    ExploreStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    /// Puts a variable on the desk; the oldest leaves when it is full.
    void putOnDesk(const std::string& name);

    [[nodiscard]] const std::vector<std::string>& desk() const { return desk_; }

  private:
    /// The numbers of the pictures, made beside the window's turn.
    struct Drawn {
        std::shared_ptr<const Frame> frame;
        std::vector<std::string> desk;
        std::vector<Distribution> distributions;
        Scatter scatter;
        Picture picture = Picture::Histogram;
        Exhibit exhibit;    ///< Of the large picture, where it is neither histogram nor scatter.
        Exhibit quantiles;  ///< Beside a single quantity.
        Exhibit cumulative;
        Density density;
        std::vector<NormalityTest> normality;   ///< Of one quantity.
        std::optional<GroupComparison> groups;  ///< Of a quantity and a grouping.
        std::vector<std::string> words;         ///< What the numbers say.
    };

    [[nodiscard]] static HistogramPicture pictureOf(const Drawn& drawn, std::size_t k);
    void showDrawn(const Drawn& drawn);
    void rebuildDesk();
    void rebuildPictures();
    [[nodiscard]] std::vector<Picture> fittingPictures() const;
    [[nodiscard]] bool isGroups(const std::string& name) const;
    void drawPictures();
    [[nodiscard]] bool plottable(const std::string& name) const;

    FlowLayout* deskLine_;
    QHBoxLayout* pictureLine_;
    Picture picture_ = Picture::Histogram;
    Picture shownPicture_ = Picture::Histogram;
    std::vector<std::string> words_;
    std::vector<NormalityTest> normality_;
    std::optional<GroupComparison> groups_;
    PlotView* scatter_;
    PlotView* first_;
    PlotView* second_;
    std::vector<std::string> desk_;  ///< Outcome first.
    std::shared_ptr<const Frame> shown_;
    std::vector<std::string> shownDesk_;
    std::set<std::size_t> shownSelection_;
    double slope_ = 0.0;
    double slopeWithout_ = 0.0;
    std::size_t n_ = 0;
    std::vector<std::string> drawnDesk_;  ///< Whose numbers those are.
    Later<Drawn> drawing_;
};

}  // namespace rapporto::app
