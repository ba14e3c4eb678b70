#pragma once

#include "app/stages/data/data_page.h"

class QLineEdit;
class QSpinBox;
class QTableWidget;

namespace rapporto::app {

/// A printed summary in place of rows: n, means, standard deviations, correlations. A page of the
/// table when the source is a summary, and the sheet on which one is typed in.
class SummaryPage : public DataPage {
    Q_OBJECT

  public:
    /// @param prefix  of the names of its parts.
    SummaryPage(Session& session, const QString& prefix, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

    /// An empty sheet for a new study.
    void startSheet();

    [[nodiscard]] bool isSheet() const { return sheet_; }

  signals:
    void left();
    /// A question was begun: the model is asked for.
    void questionBegun();

  private:
    void showMoments(const SummaryMatrix& moments);
    void resizeSheet(int variables);
    void readSheet();
    [[nodiscard]] QString cell(int row, int column) const;

    QSpinBox* size_;
    QLineEdit* n_;
    QTableWidget* table_;
    QLabel* says_;
    QPushButton* use_;
    QPushButton* leave_;
    QWidget* head_;
    std::optional<SummaryMatrix> read_;
    std::shared_ptr<const Frame> shownFrame_;
    bool sheet_ = false;
    bool filling_ = false;
};

}  // namespace rapporto::app
