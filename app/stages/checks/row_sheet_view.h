#pragma once

#include "app/shell/session.h"
#include "core/checks/row_sheet.h"

#include <QAbstractTableModel>
#include <QWidget>

class QComboBox;
class QTableView;

namespace rapporto::app {

/// The rows of a fit as a table that can be sorted by any column. Millions of rows cost no more
/// than their sorting.
class RowSheetModel : public QAbstractTableModel {
    Q_OBJECT

  public:
    enum Column {
        Name,
        Observed,
        Predicted,
        Drawn,
        Left,
        Unusual,
        Cook,
        Without,
        Leverage,
        kColumns
    };

    explicit RowSheetModel(QObject* parent) : QAbstractTableModel(parent) {}

    void showSheet(std::shared_ptr<const Frame> frame, RowSheet sheet, int decimals);

    /// The estimate of an effect without each row; empty: none.
    void showWithout(Eigen::VectorXd without, const Coefficient& effect);
    void showSelection(const RowSet& rows);

    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] int columnCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] QVariant headerData(int section, Qt::Orientation orientation,
                                      int role) const override;
    void sort(int column, Qt::SortOrder order) override;

    /// Of the source, from 0.
    [[nodiscard]] std::size_t sourceRow(int row) const;

    /// −1 to 1: what is left, against the most that is left of any row.
    [[nodiscard]] double drawn(int row) const;

  private:
    [[nodiscard]] double value(int column, std::size_t at) const;

    std::shared_ptr<const Frame> frame_;
    RowSheet sheet_;
    int decimals_ = 0;  ///< Of the outcome.
    int withoutDecimals_ = 0;
    Eigen::VectorXd without_;
    std::string effect_;
    RowSet selected_;
    std::vector<std::size_t> order_;
    int sortedBy_ = Name;
    Qt::SortOrder sortedTo_ = Qt::AscendingOrder;
    double most_ = 0.0;
};

/// A row sheet of the fit with the effect whose drop-one change stands in its last column.
class RowSheetView : public QWidget {
    Q_OBJECT

  public:
    RowSheetView(Session& session, QWidget* parent);

    void showAnswer(const std::shared_ptr<const Answer>& answer);

    /// What the sheet says in words.
    [[nodiscard]] QStringList reading() const;

    [[nodiscard]] QTableView* table() const { return table_; }

  private:
    void showEffect();
    void takeSelection();

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    QComboBox* effects_;
    RowSheetModel* model_;
    QTableView* table_;
    bool selecting_ = false;
};

}  // namespace rapporto::app
