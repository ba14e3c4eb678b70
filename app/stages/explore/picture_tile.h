#pragma once

#include "app/plots/held_rows.h"
#include "app/plots/plot_view.h"
#include "core/picture/picture.h"

#include <QFrame>

class QGridLayout;
class QTableWidget;

namespace rapporto::app {

/// One picture of the desk: an exhibit, a grid of small ones, or a table.
class PictureTile : public QFrame {
    Q_OBJECT

  public:
    explicit PictureTile(QWidget* parent = nullptr);

    /// @param before  the picture that stood here over other rows: its curves stay, faint.
    void showPicture(const std::shared_ptr<const DrawnPicture>& picture,
                     const DrawnPicture* before = nullptr);
    void showNothing(const QString& why);

    /// What stands here is of before a change, and the new is being made.
    void setStale(bool stale);
    void showSelection(const RowSet& rows);
    void showHeld(const std::shared_ptr<const HeldRows>& held);
    void setRowNamer(std::function<QString(std::size_t)> namer);

    /// Whether this is the picture that the words above change, among several.
    void setInHand(bool inHand, bool amongSeveral);

  signals:
    void rowsSelected(const rapporto::RowSet& rows);
    void rowsBrushed(const rapporto::RowSet& rows);
    void titleEdited(const QString& title);
    void opened(const QStringList& variables);
    void taken();   ///< Pressed anywhere.
    void closed();  ///< Its “×”.

  protected:
    void mousePressEvent(QMouseEvent* event) override;

  private:
    PlotView* viewAt(std::size_t k);
    void showTable(const PictureTable& table);
    void clear(std::size_t from);

    QGridLayout* grid_;
    std::vector<PlotView*> views_;
    QTableWidget* table_ = nullptr;
    QPushButton* close_;
    RowSet selection_;
    std::shared_ptr<const HeldRows> held_;
    std::function<QString(std::size_t)> namer_;
};

}  // namespace rapporto::app
