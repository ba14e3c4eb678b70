#pragma once

#include "app/shell/session.h"

#include <QMainWindow>

class QLabel;
class QPushButton;
class QStackedWidget;

namespace rapporto::app {

class CalculatorPanel;
class DataStage;
class ExploreStage;
class Finder;
class QuestionLine;
class ReadingColumn;
class ReportStage;
class Roster;
class Route;
class Stage;

/// The whole frame: route, roster, question line, the stage, reading column, status line.
class MainWindow : public QMainWindow {
    Q_OBJECT

  public:
    explicit MainWindow(QWidget* parent = nullptr);

    [[nodiscard]] Session& session() { return session_; }

    void showStage(int stage);

    [[nodiscard]] int stage() const { return stage_; }

    /// A table or a study, by its ending.
    void openPath(const QString& path);

    /// Blocks until everything that is wanted has been computed and shown; for tests and pictures.
    void settle();

  protected:
    void closeEvent(QCloseEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    [[nodiscard]] QWidget* makeTop();
    [[nodiscard]] QWidget* makeStatus();
    void makeActions();
    void refresh();
    /// Many changes in one turn of the event loop are shown once.
    void refreshSoon();
    void refreshStatus();
    void refreshReading();
    void open();
    void save();
    void saveAs();
    void paste();
    void find();
    void setAsideAsking();
    void go(int stage, bool remember);
    void say(const QString& what, bool warning);

    Session session_;
    Finder* finder_;
    Route* route_;
    QLabel* title_;
    QLabel* saved_;
    Roster* roster_;
    QuestionLine* question_;
    QStackedWidget* stages_;
    ReadingColumn* reading_;
    CalculatorPanel* calculator_;
    QStackedWidget* side_;  ///< The reading column, or the calculator in its place.
    QLabel* counts_;
    QLabel* progress_;
    QPushButton* stop_;
    QPushButton* undo_;
    std::vector<Stage*> all_;
    DataStage* data_;
    ExploreStage* explore_;
    ReportStage* report_;
    int stage_ = 0;
    std::vector<int> back_;
    std::vector<int> forward_;
    bool wasPending_ = false;
    bool refreshing_ = false;
};

}  // namespace rapporto::app
