#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"

class QPlainTextEdit;
class QTableWidget;

namespace rapporto::app {

/// A table whose rows stay with a database server: what is known of its columns, and what was asked
/// of the server for the present question.
class LeftPage : public DataPage {
    Q_OBJECT

  public:
    LeftPage(Session& session, QWidget* parent);
    ~LeftPage() override;
    LeftPage(const LeftPage&) = delete;
    LeftPage& operator=(const LeftPage&) = delete;

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  signals:
    /// A question was begun: the model is asked for.
    void questionBegun();

  private:
    void showStatements();
    void showFacts();

    QLabel* title_;
    QTableWidget* table_;
    QLabel* asked_;
    QPlainTextEdit* statements_;
    std::shared_ptr<const Frame> shownFrame_;
    Job job_;
    Later<Result<void>> describing_;
};

}  // namespace rapporto::app
