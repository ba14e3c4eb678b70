#pragma once

#include "app/shell/stage.h"

class QComboBox;
class QLabel;
class QLineEdit;
class QStackedWidget;
class QTableView;

namespace rapporto::app {

class GridModel;
class ShapeLadder;

/// Bring data in, look at it, describe it, derive from it, choose rows.
class DataStage : public Stage {
    Q_OBJECT

  public:
    DataStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    /// Brings the variable into view and focus.
    void showVariable(const std::string& name);

  signals:
    void openRequested();
    void pasteRequested();

  private:
    [[nodiscard]] QWidget* makeEmptyPage();
    [[nodiscard]] QWidget* makeImportPage();
    [[nodiscard]] QWidget* makeGridPage();
    void refreshImport();
    void refreshGrid();
    void refreshSelection();
    void previewDerived();
    void addDerived();
    void previewRule();
    void applyLayout();
    void readOptions();
    [[nodiscard]] ReadingContent importReading() const;
    [[nodiscard]] ReadingContent variableReadingContent() const;

    QStackedWidget* pages_;
    GridModel* previewModel_;
    GridModel* gridModel_;
    QTableView* preview_ = nullptr;
    QTableView* grid_ = nullptr;
    QLabel* importTitle_ = nullptr;
    QLabel* importProblems_ = nullptr;
    QComboBox* delimiter_ = nullptr;
    QComboBox* decimal_ = nullptr;
    QComboBox* header_ = nullptr;
    QComboBox* encoding_ = nullptr;
    QComboBox* layoutKind_ = nullptr;
    QComboBox* layoutUnit_ = nullptr;
    QComboBox* layoutTime_ = nullptr;
    QLineEdit* derivedName_ = nullptr;
    QLineEdit* derivedExpression_ = nullptr;
    QLabel* derivedPreview_ = nullptr;
    QLineEdit* rule_ = nullptr;
    QLabel* rulePreview_ = nullptr;
    QLabel* ladderTitle_ = nullptr;
    ShapeLadder* ladder_ = nullptr;
    QLabel* emptyMessage_ = nullptr;
    std::shared_ptr<const Frame> shownFrame_;
    std::string shownVariable_;
    bool selecting_ = false;
};

}  // namespace rapporto::app
