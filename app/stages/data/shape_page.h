#pragma once

#include "app/shell/later.h"
#include "app/stages/data/data_page.h"
#include "core/study/sources.h"

class QLineEdit;
class QListWidget;
class QPlainTextEdit;
class QStackedWidget;

namespace rapporto::app {

class GridModel;

/// What is done to the table before anything else: rows of another file, columns of another file,
/// groups, long and wide. Each step is looked at before it is taken.
class ShapePage : public DataPage {
    Q_OBJECT

  public:
    ShapePage(Session& session, QWidget* parent);

    void refresh() override;
    [[nodiscard]] ReadingContent reading() const override;

    /// Reads the other file for an append or a join.
    void useFile(const QString& path);

  private:
    /// A second table as it was read.
    struct Other {
        Source source;
        std::shared_ptr<const Table> table;
        std::optional<Refusal> refusal;
    };

    struct Tried {
        std::optional<ShapeStep> step;
        std::optional<Refusal> refusal;
        std::shared_ptr<const Table> table;
        std::vector<std::string> facts;
    };

    [[nodiscard]] QWidget* makeFilePage(bool join);
    [[nodiscard]] QWidget* makeCollapsePage();
    [[nodiscard]] QWidget* makeLongPage();
    [[nodiscard]] QWidget* makeWidePage();
    [[nodiscard]] Result<ShapeStep> drafted() const;
    [[nodiscard]] std::shared_ptr<const Table> present() const;
    void chooseKind(int kind);
    void fillDraft();
    void tryDraft();
    void show(const Tried& tried);
    void showOther(const Other& other);
    void add();
    void dropLast();

    QListWidget* steps_;
    QComboBox* kind_;
    QStackedWidget* drafts_;
    QLineEdit* appendFile_ = nullptr;
    QLineEdit* mark_ = nullptr;
    QLineEdit* joinFile_ = nullptr;
    QLineEdit* keys_ = nullptr;
    QLineEdit* take_ = nullptr;
    QLineEdit* groups_ = nullptr;
    QPlainTextEdit* columns_ = nullptr;
    QLineEdit* moment_ = nullptr;
    QPlainTextEdit* longVariables_ = nullptr;
    QComboBox* unit_ = nullptr;
    QComboBox* time_ = nullptr;
    QLineEdit* wideVariables_ = nullptr;
    QLabel* says_;
    QPushButton* add_;
    QTableView* view_;
    GridModel* model_;
    Other other_;
    Tried tried_;
    std::shared_ptr<const Frame> shownFrame_;
    Later<Tried> trying_;
    Later<Other> reading_;
};

}  // namespace rapporto::app
