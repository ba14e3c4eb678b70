#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"

class QButtonGroup;
class QLabel;
class QStackedWidget;

namespace rapporto::app {

class DataPage;
class ImportPage;
class LeftPage;
class OddPage;
class ReviewPage;
class RowsPage;
class SummaryPage;

/// Bring data in, look at it, describe it, derive from it, choose rows.
class DataStage : public Stage {
    Q_OBJECT

  public:
    DataStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] std::string chapter() const override { return "guide:The pages of Data"; }

    /// Turns to what looks odd, about a variable where one is named.
    void showOddities(const std::string& variable = {});

    /// Turns to what is missing and how it is filled in.
    void showMissing();

    /// Brings the variable into view and focus.
    void showVariable(const std::string& name);

    /// Writes the table as it stands, or as imported with what is known of it; empty: done.
    void exportTo(const QString& path, bool transformed);

    /// Writes the codebook as a page: HTML or PDF by the ending.
    void writeCodebook(const QString& path);

  signals:
    void modelAsked();
    void openRequested();
    void pasteRequested();
    void demoRequested();

  private:
    [[nodiscard]] QWidget* makeEmptyPage();
    [[nodiscard]] QWidget* makeTablePage();
    [[nodiscard]] DataPage* page() const;
    void exportTable(bool transformed);
    void printCodebook();
    void showPages();
    void refreshPage();
    [[nodiscard]] ReadingContent variableReadingContent() const;

    QStackedWidget* pages_;
    QButtonGroup* words_;
    QStackedWidget* views_;
    ImportPage* import_;
    RowsPage* rows_;
    OddPage* odd_;
    ReviewPage* review_;
    SummaryPage* summary_;
    SummaryPage* sheet_;  ///< On which a summary is typed in.
    LeftPage* left_;
    QLabel* emptyMessage_ = nullptr;
    Later<std::optional<Refusal>> exporting_;
};

}  // namespace rapporto::app
