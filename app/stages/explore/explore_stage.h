#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "app/stages/explore/picture_tile.h"

class QGridLayout;
class QHBoxLayout;
class QSlider;

namespace rapporto::app {

class Finder;
class FlowLayout;

/// Variables on the desk and the pictures that fit them; several can stand together, one is in
/// hand. Rows selected anywhere light up everywhere. The desk is part of the study.
class ExploreStage : public Stage {
    Q_OBJECT

  public:
    ExploreStage(Session& session, QWidget* parent);
    ~ExploreStage() override;

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] std::string chapter() const override { return "guide:Pictures and correlations"; }

    [[nodiscard]] std::vector<ReportItem> forReport() const override;

    /// Puts a variable into the picture in hand. `add` keeps all that are there; else two stay at
    /// most and the oldest leaves.
    void putOnDesk(const std::string& name, bool add = false);

    /// The variables of the picture in hand, outcome first.
    [[nodiscard]] std::vector<std::string> desk() const { return inHand().of; }

  protected:
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;

  private:
    /// Shared, so that no view copies a million points in the window’s turn.
    using Pictures = std::vector<std::shared_ptr<const DrawnPicture>>;

    /// The pictures’ numbers, made beside the window’s turn.
    struct Drawn {
        std::shared_ptr<const Frame> frame;
        std::vector<PictureSpec> specs;
        Pictures pictures;     ///< Of the desk, in order.
        Pictures companions;   ///< Beside a lone picture.
        bool refused = false;  ///< A database did not answer for one of them.
    };

    [[nodiscard]] Desk shownDesk() const;
    [[nodiscard]] PictureSpec inHand() const;
    [[nodiscard]] const DrawnPicture* drawnInHand() const;
    void change(const PictureSpec& spec);
    void changeDesk(const Desk& desk);
    void addPicture();
    void closePicture(std::size_t k);
    void rebuildDeskLine();
    void rebuildWords();
    void addToggle(const QString& name, const QString& id, bool PictureSpec::*flag,
                   const PictureSpec& spec, const QString& why);
    void draw();
    void showDrawn(const Drawn& drawn);
    void addAsked(ReadingContent& content, const DrawnPicture& picture) const;
    void placeTiles(std::size_t pictures, std::size_t companions);
    void brush(const RowSet& rows, const QObject* from);
    void askForVariable();
    void addSelectionReading(ReadingContent& content) const;
    void addActions(ReadingContent& content) const;
    [[nodiscard]] std::optional<double> slopeWithoutSelected() const;

    FlowLayout* deskLine_;
    FlowLayout* wordLine_;
    QGridLayout* tiles_;
    QGridLayout* beside_;
    QWidget* tilesHost_;
    QWidget* besideHost_;
    std::vector<PictureTile*> pictures_;
    std::vector<PictureTile*> companions_;
    Finder* finder_;
    std::size_t hand_ = 0;
    QString lineSignature_;
    QString wordSignature_;
    std::shared_ptr<const Frame> askedFrame_;
    std::vector<PictureSpec> askedSpecs_;
    Survey askedSurvey_;
    double askedAlpha_ = 0.0;
    std::optional<Drawn> drawn_;
    std::shared_ptr<QString> condition_ = std::make_shared<QString>();  ///< Typed to select by.
    bool showsAsked_ = false;
    Job asking_;  ///< Of a database.
    Later<Drawn> drawing_;
};

}  // namespace rapporto::app
