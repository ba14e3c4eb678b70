#pragma once

#include "core/data/frame.h"

#include <QAbstractTableModel>

#include <memory>

namespace rapporto::app {

/// A frame as a table for a view: rows set aside are struck, missing cells blank. Millions of rows
/// cost nothing: a cell is made into text when it is drawn.
class GridModel : public QAbstractTableModel {
    Q_OBJECT

  public:
    explicit GridModel(QObject* parent) : QAbstractTableModel(parent) {}

    void showFrame(std::shared_ptr<const Frame> frame, const Sample& sample);

    /// A table that is not taken in yet.
    void showTable(std::shared_ptr<const Table> table);

    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] int columnCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] QVariant headerData(int section, Qt::Orientation orientation,
                                      int role) const override;

    [[nodiscard]] const Table* table() const;

  private:
    std::shared_ptr<const Frame> frame_;
    std::shared_ptr<const Table> table_;
    std::map<std::size_t, std::string> reasons_;
};

}  // namespace rapporto::app
