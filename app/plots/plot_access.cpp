#include "app/plots/plot_access.h"

#include "app/plots/plot_view.h"
#include "app/shell/bare_access.h"
#include "app/shell/theme.h"
#include "core/picture/mark_table.h"

#include <QAccessible>
#include <QAccessibleWidget>

#include <algorithm>
#include <map>

namespace rapporto::app {
namespace {

class MarksAccess;

/// One cell of the table of marks. The table makes it, and takes it away with the picture.
class MarkCell final : public BareAccess, public QAccessibleTableCellInterface {
  public:
    MarkCell(MarksAccess& table, int row, int column) : table_(table), row_(row), column_(column) {}

    void* interface_cast(QAccessible::InterfaceType type) override {
        return type == QAccessible::TableCellInterface
                   ? static_cast<QAccessibleTableCellInterface*>(this)
                   : nullptr;
    }

    [[nodiscard]] bool isValid() const override;

    [[nodiscard]] QAccessibleInterface* parent() const override;

    [[nodiscard]] QString text(QAccessible::Text what) const override;

    [[nodiscard]] QRect rect() const override;

    [[nodiscard]] QAccessible::Role role() const override { return QAccessible::Cell; }

    [[nodiscard]] QAccessible::State state() const override {
        QAccessible::State out;
        out.selectable = true;
        out.readOnly = true;
        out.selected = isSelected();
        return out;
    }

    // As a cell.
    [[nodiscard]] bool isSelected() const override;

    [[nodiscard]] QList<QAccessibleInterface*> columnHeaderCells() const override { return {}; }

    [[nodiscard]] QList<QAccessibleInterface*> rowHeaderCells() const override { return {}; }

    [[nodiscard]] int columnIndex() const override { return column_; }

    [[nodiscard]] int rowIndex() const override { return row_; }

    [[nodiscard]] int columnExtent() const override { return 1; }

    [[nodiscard]] int rowExtent() const override { return 1; }

    [[nodiscard]] QAccessibleInterface* table() const override { return parent(); }

  private:
    MarksAccess& table_;
    int row_;
    int column_;
};

/// The table of a picture’s marks.
class MarksAccess final : public BareAccess, public QAccessibleTableInterface {
  public:
    explicit MarksAccess(PlotView& plot) : plot_(plot) {}

    ~MarksAccess() override { forget(); }

    MarksAccess(const MarksAccess&) = delete;
    MarksAccess& operator=(const MarksAccess&) = delete;

    void* interface_cast(QAccessible::InterfaceType type) override {
        return type == QAccessible::TableInterface ? static_cast<QAccessibleTableInterface*>(this)
                                                   : nullptr;
    }

    /// What stands there now: another picture has other cells.
    [[nodiscard]] const MarkTable& marks() const {
        const MarkTable& now = plot_.marks();
        if (seen_ != &plot_.exhibit()) {
            forget();
            seen_ = &plot_.exhibit();
        }
        return now;
    }

    [[nodiscard]] PlotView& plot() const { return plot_; }

    [[nodiscard]] bool has(int row, int column) const {
        return row >= 0 && column >= 0 && row < rowCount() && column < columnCount();
    }

    [[nodiscard]] bool isValid() const override { return true; }

    [[nodiscard]] QAccessibleInterface* parent() const override {
        return QAccessible::queryAccessibleInterface(&plot_);
    }

    [[nodiscard]] QAccessibleInterface* child(int index) const override {
        const int columns = std::max(columnCount(), 1);
        return cellAt(index / columns, index % columns);
    }

    [[nodiscard]] int childCount() const override { return rowCount() * columnCount(); }

    [[nodiscard]] int indexOfChild(const QAccessibleInterface* child) const override {
        const auto at = std::find_if(cells_.begin(), cells_.end(), [&](const auto& one) {
            return QAccessible::accessibleInterface(one.second) == child;
        });
        return at == cells_.end() ? -1 : at->first.first * columnCount() + at->first.second;
    }

    [[nodiscard]] QString text(QAccessible::Text what) const override {
        return what == QAccessible::Name ? QObject::tr("Marks of the picture") : QString();
    }

    [[nodiscard]] QRect rect() const override {
        return {plot_.mapToGlobal(QPoint(0, 0)), plot_.size()};
    }

    [[nodiscard]] QAccessible::Role role() const override { return QAccessible::Table; }

    [[nodiscard]] QAccessible::State state() const override {
        QAccessible::State out;
        out.readOnly = true;
        return out;
    }

    // As a table.
    [[nodiscard]] QAccessibleInterface* caption() const override { return nullptr; }

    [[nodiscard]] QAccessibleInterface* summary() const override { return nullptr; }

    [[nodiscard]] QAccessibleInterface* cellAt(int row, int column) const override {
        if (!has(row, column)) {
            return nullptr;
        }
        const auto [at, fresh] = cells_.try_emplace({row, column}, QAccessible::Id{});
        if (fresh) {
            at->second =
                QAccessible::registerAccessibleInterface(new MarkCell(*self_, row, column));
        }
        return QAccessible::accessibleInterface(at->second);
    }

    [[nodiscard]] int rowCount() const override {
        constexpr std::size_t kMost = 1000000000;
        return static_cast<int>(std::min(marks().rows(), kMost));
    }

    [[nodiscard]] int columnCount() const override { return static_cast<int>(marks().columns()); }

    [[nodiscard]] QString columnDescription(int column) const override {
        return column >= 0 && column < columnCount()
                   ? app::numbered(marks().head(static_cast<std::size_t>(column)))
                   : QString();
    }

    [[nodiscard]] QString rowDescription(int row) const override {
        return has(row, 0) ? app::numbered(marks().sentence(static_cast<std::size_t>(row)))
                           : QString();
    }

    [[nodiscard]] bool isRowSelected(int row) const override {
        if (!has(row, 0)) {
            return false;
        }
        const auto rows = marks().sourceRows(static_cast<std::size_t>(row));
        return !rows.empty() && std::all_of(rows.begin(), rows.end(), [&](std::size_t one) {
            return plot_.selection().contains(one);
        });
    }

    [[nodiscard]] bool isColumnSelected(int /*column*/) const override { return false; }

    [[nodiscard]] int selectedRowCount() const override {
        return static_cast<int>(selectedRows().size());
    }

    [[nodiscard]] int selectedColumnCount() const override { return 0; }

    [[nodiscard]] int selectedCellCount() const override {
        return selectedRowCount() * columnCount();
    }

    [[nodiscard]] QList<int> selectedRows() const override {
        // Whoever lights a million rows does not want them one by one.
        constexpr int kMost = 5000;
        QList<int> out;
        for (int row = 0; !plot_.selection().empty() && row < rowCount() && out.size() < kMost;
             ++row) {
            if (isRowSelected(row)) {
                out << row;
            }
        }
        return out;
    }

    [[nodiscard]] QList<int> selectedColumns() const override { return {}; }

    [[nodiscard]] QList<QAccessibleInterface*> selectedCells() const override {
        QList<QAccessibleInterface*> out;
        for (const int row : selectedRows()) {
            for (int column = 0; column < columnCount(); ++column) {
                out << cellAt(row, column);
            }
        }
        return out;
    }

    bool selectRow(int row) override { return light(row, true); }

    bool unselectRow(int row) override { return light(row, false); }

    bool selectColumn(int /*column*/) override { return false; }

    bool unselectColumn(int /*column*/) override { return false; }

    void modelChange(QAccessibleTableModelChangeEvent* /*event*/) override { forget(); }

  private:
    bool light(int row, bool on) {
        if (!has(row, 0)) {
            return false;
        }
        RowSet rows = plot_.selection();
        for (const std::size_t one : marks().sourceRows(static_cast<std::size_t>(row))) {
            on ? rows.insert(one) : rows.erase(one);
        }
        emit plot_.rowsSelected(rows);
        return true;
    }

    void forget() const {
        for (const auto& [place, id] : cells_) {
            QAccessible::deleteAccessibleInterface(id);
        }
        cells_.clear();
    }

    PlotView& plot_;
    MarksAccess* self_ = this;  ///< What cells lie in, made while they are asked for.
    mutable const Exhibit* seen_ = nullptr;
    mutable std::map<std::pair<int, int>, QAccessible::Id> cells_;
};

bool MarkCell::isValid() const { return table_.has(row_, column_); }

QAccessibleInterface* MarkCell::parent() const { return &table_; }

QString MarkCell::text(QAccessible::Text what) const {
    if (!isValid() || (what != QAccessible::Name && what != QAccessible::Value)) {
        return {};
    }
    return app::numbered(
        table_.marks().cell(static_cast<std::size_t>(row_), static_cast<std::size_t>(column_)));
}

QRect MarkCell::rect() const {
    if (!isValid()) {
        return {};
    }
    constexpr int kHalf = 6;
    const Mark mark = table_.marks().mark(static_cast<std::size_t>(row_));
    const QPoint at = table_.plot().mapToGlobal(table_.plot().pixelOf(mark.x, mark.y).toPoint());
    return {at - QPoint(kHalf, kHalf), QSize(2 * kHalf, 2 * kHalf)};
}

bool MarkCell::isSelected() const { return table_.isRowSelected(row_); }

/// A picture: what it shows, and under it the table of its marks.
class PlotAccess final : public QAccessibleWidget {
  public:
    explicit PlotAccess(PlotView& plot)
        : QAccessibleWidget(&plot, QAccessible::Chart), plot_(plot) {
        marks_ = QAccessible::registerAccessibleInterface(new MarksAccess(plot));
    }

    ~PlotAccess() override { QAccessible::deleteAccessibleInterface(marks_); }

    PlotAccess(const PlotAccess&) = delete;
    PlotAccess& operator=(const PlotAccess&) = delete;

    [[nodiscard]] int childCount() const override { return QAccessibleWidget::childCount() + 1; }

    /// The marks come first, then what stands on the picture.
    [[nodiscard]] QAccessibleInterface* child(int index) const override {
        return index == 0 ? QAccessible::accessibleInterface(marks_)
                          : QAccessibleWidget::child(index - 1);
    }

    [[nodiscard]] int indexOfChild(const QAccessibleInterface* child) const override {
        if (child == QAccessible::accessibleInterface(marks_)) {
            return 0;
        }
        const int own = QAccessibleWidget::indexOfChild(child);
        return own < 0 ? own : own + 1;
    }

    [[nodiscard]] QString text(QAccessible::Text what) const override {
        if (what != QAccessible::Description) {
            return QAccessibleWidget::text(what);
        }
        return plot_.description();
    }

  private:
    PlotView& plot_;
    QAccessible::Id marks_;
};

QAccessibleInterface* factory(const QString& /*name*/, QObject* object) {
    auto* plot = qobject_cast<PlotView*>(object);
    return plot != nullptr ? new PlotAccess(*plot) : nullptr;
}

}  // namespace

void tellPictures() { QAccessible::installFactory(factory); }

}  // namespace rapporto::app
