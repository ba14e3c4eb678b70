#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/describe/scale.h"

#include <QAbstractTableModel>

class QLineEdit;
class QSortFilterProxyModel;
class QTableWidget;

namespace rapporto::app {

/// Every variable as a row: what a person can say about it is edited in place.
class VariablesModel : public QAbstractTableModel {
    Q_OBJECT

  public:
    enum Field { Name, Label, Unit, Kind, MissingCodes, Levels, Missing, Note, FieldCount };

    VariablesModel(Session& session, QObject* parent)
        : QAbstractTableModel(parent), session_(session) {}

    void showFrame(std::shared_ptr<const Frame> frame);

    [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] int columnCount(const QModelIndex& parent = {}) const override;
    [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
    [[nodiscard]] QVariant headerData(int section, Qt::Orientation orientation,
                                      int role) const override;
    [[nodiscard]] Qt::ItemFlags flags(const QModelIndex& index) const override;
    bool setData(const QModelIndex& index, const QVariant& value, int role) override;

    [[nodiscard]] std::string name(int row) const;

  private:
    Session& session_;
    std::shared_ptr<const Frame> frame_;
    std::vector<std::size_t> missing_;
};

/// The sheet of all variables: search, edit, the same for many at once, levels, scales.
class VariablesPage : public DataPage {
    Q_OBJECT

  public:
    VariablesPage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

    /// Selects these rows of the sheet.
    void select(const std::vector<std::string>& names);

    [[nodiscard]] std::vector<std::string> selected() const;

  signals:
    void deriveAsked(const QString& name, const QString& expression);

  private:
    void takeSelection();
    void applyToSelected(const std::function<void(VariableEntry&)>& change, const QString& did);
    void applyMissing();
    void showLevels();
    void takeLevels(const QString& did);
    void moveLevel(int by);
    void proposeMerged();
    void showSets();
    [[nodiscard]] const TermSet* chosenSet() const;
    void changeSet(bool add);

    VariablesModel* model_;
    QSortFilterProxyModel* filtered_;
    QTableView* table_;
    QLineEdit* search_;
    QLabel* many_;
    QWidget* manyLine_;
    QLineEdit* missing_;
    QLineEdit* unit_;
    QComboBox* measure_;
    QWidget* setsLine_;
    QComboBox* sets_;
    QLineEdit* setName_;
    QWidget* levelsBox_;
    QLabel* levelsTitle_;
    QTableWidget* levels_;
    std::shared_ptr<const Frame> shownFrame_;
    std::string levelsOf_;
    std::string scaleOf_;  ///< The items that `scale_` speaks of, joined.
    std::optional<Result<ScaleFacts>> scale_;
    bool filling_ = false;
    Later<Result<ScaleFacts>> scaling_;
};

}  // namespace rapporto::app
