#pragma once

#include "app/shell/stage.h"

class QButtonGroup;
class QLabel;
class QStackedWidget;

namespace rapporto::app {

class DataPage;
class ImportPage;
class RowsPage;

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
    [[nodiscard]] QWidget* makeTablePage();
    [[nodiscard]] DataPage* page() const;
    void refreshPage();
    [[nodiscard]] ReadingContent variableReadingContent() const;

    QStackedWidget* pages_;
    QButtonGroup* words_;
    QStackedWidget* views_;
    ImportPage* import_;
    RowsPage* rows_;
    QLabel* emptyMessage_ = nullptr;
};

}  // namespace rapporto::app
