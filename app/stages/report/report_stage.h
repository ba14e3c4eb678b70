#pragma once

#include "app/shell/later.h"
#include "app/shell/stage.h"
#include "core/report/press/press.h"
#include "core/report/report_fields.h"

class QLabel;
class QLineEdit;
class QListWidget;
class QPlainTextEdit;
class QTimer;

namespace rapporto::app {

class Finder;
class PageView;

/// The report as its pages, the list of its items in order, what can be said of the chosen item,
/// and ways to take it away.
class ReportStage : public Stage {
    Q_OBJECT

  public:
    ReportStage(Session& session, QWidget* parent);
    ~ReportStage() override;

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    [[nodiscard]] std::string chapter() const override { return "guide:Report"; }

    /// Adds what belongs to the question in focus: its table and reading.
    void addPresentQuestion();

    /// Adds items at the end and chooses the first of them.
    void addItems(const std::vector<ReportItem>& items, const QString& what);

    /// Offers all kinds of items; the one taken is added behind the chosen one.
    void offerItems();

    /// Offers the numbers that a text can hold, and puts the one taken where the cursor is.
    void offerFields();

    /// Writes the report; the type follows the ending. Empty when done.
    [[nodiscard]] QString exportTo(const QString& path) const;

    /// Writes a replication folder there. Empty when done.
    [[nodiscard]] QString replicateTo(const QString& folder, bool withData) const;

    [[nodiscard]] ReportPages pages() const;

    void chooseItem(int item);

    [[nodiscard]] int chosenItem() const;

  protected:
    void showEvent(QShowEvent* event) override;
    void hideEvent(QHideEvent* event) override;

  private:
    struct Made {
        ReportPages pages;
    };

    struct Replicated {
        QString folder;
        QString why;  ///< It could not be written; empty: it is.
    };

    [[nodiscard]] AnswersById answersHeld(std::vector<std::shared_ptr<const Answer>>& held) const;
    [[nodiscard]] bool allComplete() const;  ///< No answer is old or lacks a check.
    void renew();
    void take(const Made& made);
    void listItems();
    void showText();
    void putText();
    void takeText();
    void moveItem(int by);
    void placeItem(int from, int to);
    void removeItem();
    void writeHead(int item, int column, const QString& words);
    void moveColumn(int item, int from, int to);
    void changeItem(int item, const std::function<void(ReportItem&)>& change, const QString& did);
    void changeStyle(const std::function<void(ReportStyle&)>& change, const QString& did);
    void freeze(int item, bool frozen);
    void exportAs(const QString& ending);
    [[nodiscard]] QString whyNotYet() const;
    void replicateAs(bool withData);
    void copyTables() const;
    void addItemFields(ReadingContent& content, int item) const;
    void addLookFields(ReadingContent& content, int item) const;
    void addStyleFields(ReadingContent& content) const;

    PageView* page_;
    QListWidget* items_;
    QPlainTextEdit* text_;
    QWidget* textPanel_;
    QLineEdit* find_;
    QLabel* zoom_;
    Finder* finder_;
    QTimer* textTimer_;
    Job job_;  ///< Of the pages being made.
    Later<Made> later_;
    Later<Replicated> replication_;
    bool stale_ = true;
    int textItem_ = -1;
    bool writeNext_ = false;  ///< The text that is chosen next is to be written in at once.
    int wanted_ = -1;         ///< To be chosen once it stands in the list.
};

}  // namespace rapporto::app
