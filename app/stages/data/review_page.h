#pragma once

#include "app/stages/data/data_page.h"

class QTableWidget;

namespace rapporto::app {

/// A study whose files are gone or differ from what it was made with: what differs, before
/// anything is computed from them.
class ReviewPage : public DataPage {
    Q_OBJECT

  public:
    ReviewPage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  private:
    void fill(const SourceReview& review);
    void lookFor(const std::string& file);
    [[nodiscard]] std::string firstMissing() const;

    QLabel* title_;
    QLabel* words_;
    QTableWidget* columns_;
    QPushButton* use_;
    QPushButton* look_;
    std::shared_ptr<const SourceReview> shown_;
};

}  // namespace rapporto::app
