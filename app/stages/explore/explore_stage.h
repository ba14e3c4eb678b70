#pragma once

#include "app/shell/stage.h"

namespace rapporto::app {

class FlowLayout;
class PlotView;

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
    void rebuildDesk();
    void drawPictures();
    [[nodiscard]] bool plottable(const std::string& name) const;

    FlowLayout* deskLine_;
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
};

}  // namespace rapporto::app
