#pragma once

#include "app/shell/stage.h"
#include "core/report/report.h"

class QListWidget;
class QTextBrowser;
class QTextDocument;

namespace rapporto::app {

/// The report as a page, the list of its items in order, and ways to take it away.
class ReportStage : public Stage {
    Q_OBJECT

  public:
    ReportStage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state() const override;

    /// Adds what belongs to the question in focus: its table and reading.
    void addPresentQuestion();

    /// Writes the report; the type follows the ending (.html .md .csv .pdf). Empty when done.
    [[nodiscard]] QString exportTo(const QString& path) const;
    [[nodiscard]] std::string pdf() const;

  private:
    [[nodiscard]] std::vector<ReportBlock> blocks() const;
    [[nodiscard]] bool allComplete() const;  ///< No answer is old or lacks a check.
    void fill(QTextDocument& document, double scale) const;
    void moveItem(int by);
    void placeItem(int from, int to);
    void removeItem();
    void exportAs(const QString& ending);

    QTextBrowser* page_;
    QListWidget* items_;
    QString shown_;
};

}  // namespace rapporto::app
