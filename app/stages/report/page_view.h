#pragma once

#include "app/shell/told_parts.h"
#include "core/report/press/press.h"

#include <QAbstractScrollArea>
#include <QImage>

#include <memory>
#include <optional>
#include <string>
#include <vector>

class QPainter;
class QPlainTextEdit;

namespace rapporto::app {

/// The pages of a report as they will print, one below the other, as wide as there is room or at a
/// zoom of one's own. A click chooses the block under it; a double click, F2 or Return lets its
/// words be changed in place where they can be: captions, notes, free text, heads of columns. A
/// block that is dragged takes its item to another place, a head that is dragged takes its column
/// along; Esc lets go. Nothing on it is ever cut off: the press sees to
/// the paper, the zoom to the window.
class PageView : public QAbstractScrollArea, public ToldWidget {
    Q_OBJECT

  public:
    explicit PageView(QWidget* parent = nullptr);

    /// @param pages   what was set, for its words; `press` holds its measures.
    void showPages(std::shared_ptr<const Press> press, ReportPages pages);

    /// Words in place of pages.
    void showNothing(const QString& why);

    /// What stands here is of before a change, and the new is being made: dimmed, and said.
    void setStale(bool stale);

    [[nodiscard]] bool isStale() const { return stale_; }

    /// The report item that is chosen; −1: none.
    void choose(int item);

    /// 0: as wide as there is room; else points to pixels.
    void setZoom(double zoom);

    [[nodiscard]] double scale() const;

    [[nodiscard]] const ReportPages& pages() const { return pages_; }

    /// Where a block stands in the viewport, all its parts together; for tests and editing.
    [[nodiscard]] QRectF boxOf(std::size_t block) const;

    /// The words of all pages, for search and for those who hear them.
    [[nodiscard]] QString words() const;

    /// Its blocks, of tables their rows.
    [[nodiscard]] std::vector<ToldPart> toldParts() override;

    [[nodiscard]] QAccessible::Role toldRole() const override { return QAccessible::Document; }

    /// Shows the next block that holds the words, from the one shown last; false: none does.
    bool find(const QString& sought);

    /// Opens the words of a block for editing, where they can be.
    /// @param part  of a cell, as it has it; empty: the block itself.
    void edit(std::size_t block, const std::string& part = {});

    /// Where a cell that can be edited stands first; for tests and editing.
    [[nodiscard]] QRectF boxOf(std::size_t block, const std::string& part) const;

  signals:
    void chosen(int item);
    void edited(int item, const QString& part, const QString& text);
    void editAsked(int item);  ///< A block of free text: its item is edited as a whole.
    void itemMoved(int from, int to);
    void columnMoved(int item, int from, int to);  ///< Places of heads, from 0.

  protected:
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void wheelEvent(QWheelEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    void layOut();
    [[nodiscard]] QRectF pageBox(std::size_t page) const;  ///< In the viewport.
    [[nodiscard]] int blockAt(QPointF at) const;

    /// The cell under a point that can be edited; empty: none.
    [[nodiscard]] std::string partAt(QPointF at) const;

    [[nodiscard]] QRectF boxOf(const Press::Place& place) const;

    /// The head under the mouse while a column is dragged, its place; −1: none.
    [[nodiscard]] int headAt(QPointF at) const;

    /// Before which item what is dragged would go; the last one and 1: at the end.
    [[nodiscard]] int gapAt(QPointF at) const;

    [[nodiscard]] int lastItem() const;
    void paintDrag(QPainter& painter) const;
    const QImage& imageOf(std::size_t page);
    void endEdit(bool take);

    std::shared_ptr<const Press> press_;
    ReportPages pages_;
    QString nothing_;
    bool stale_ = false;
    double zoom_ = 0.0;
    int item_ = -1;
    int found_ = -1;
    std::vector<double> tops_;  ///< Of each page, unscrolled.
    double height_ = 0.0;
    double width_ = 0.0;

    struct Painted {
        double scale = 0.0;
        QImage image;
    };

    std::vector<Painted> painted_;
    QPlainTextEdit* editor_ = nullptr;
    int editing_ = -1;
    std::string editingPart_;

    /// What the mouse holds, from the press on; it is dragged once it has left its place.
    struct Drag {
        QPointF from;
        QPointF at;
        int block = -1;
        std::string part;
        bool begun = false;
    };

    std::optional<Drag> drag_;
};

}  // namespace rapporto::app
