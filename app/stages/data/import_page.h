#pragma once

#include "app/stages/data/data_page.h"

class QLineEdit;
class QListWidget;
class QVBoxLayout;

namespace rapporto::app {

class GridModel;

/// A table that is being looked at before it is taken in: every guess can be changed here.
class ImportPage : public DataPage {
    Q_OBJECT

  public:
    ImportPage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

  private:
    void addAnswers(ReadingContent& content, const Import& import) const;
    void showLeaving(const PendingImport& pending, bool served);
    [[nodiscard]] static QString roomWords(const Table& table);
    void makeServing(QVBoxLayout* layout);
    void readServer();
    void readOptions();
    void showProblems(const Import& import);
    void showLine(int problem);
    void mendLine();

    GridModel* previewModel_;
    QTableView* preview_ = nullptr;
    QLabel* importTitle_ = nullptr;
    QLabel* importProblems_ = nullptr;
    QListWidget* problemList_ = nullptr;
    QComboBox* delimiter_ = nullptr;
    QComboBox* thousands_ = nullptr;
    QComboBox* decimal_ = nullptr;
    QComboBox* header_ = nullptr;
    QComboBox* encoding_ = nullptr;
    QComboBox* skip_ = nullptr;
    QComboBox* part_ = nullptr;     ///< Sheet or table of the file.
    QLineEdit* query_ = nullptr;    ///< Instead of a table, or the block of a sheet.
    QWidget* textual_ = nullptr;    ///< What only delimited text has.
    QWidget* composite_ = nullptr;  ///< What only files of several tables have.
    QWidget* serving_ = nullptr;    ///< What only a database server has.
    QLineEdit* service_ = nullptr;
    QWidget* leaving_ = nullptr;  ///< Of a server, and of a file of many rows.
    QComboBox* rows_ = nullptr;   ///< Fetched or left.
    QWidget* heading_ = nullptr;  ///< What only files with a first line have.
    QLabel* queryWord_ = nullptr;
    QWidget* mending_ = nullptr;  ///< A line of the text, to be mended here.
    QLabel* mendingWord_ = nullptr;
    QLineEdit* line_ = nullptr;
    std::size_t lineNumber_ = 0;
    std::shared_ptr<const Import> shownImport_;  ///< What the page was filled from.
    std::optional<Refusal> shownRefusal_;
};

}  // namespace rapporto::app
