#pragma once

#include "app/shell/session.h"

#include <QMainWindow>

#include <functional>
#include <set>
#include <string>

class QLabel;
class QPushButton;
class QStackedWidget;

namespace rapporto::app {

class AskBand;
class CalculatorPanel;
class HelpPanel;
class DataStage;
class ExploreStage;
class Autosave;
class Finder;
class QuestionLine;
class ReadingColumn;
class ReportStage;
class Roster;
class Route;
class SettingsSheet;
class SideDrawer;
class Stage;

/// The whole frame: route, roster, question line, the stage, reading column, status line.
class MainWindow : public QMainWindow {
    Q_OBJECT

  public:
    /// @param journals  the folder in which steps are kept until they are saved; empty: nowhere.
    explicit MainWindow(QWidget* parent = nullptr, const QString& journals = {});

    /// What is being typed is taken in while the session still stands.
    ~MainWindow() override;

    [[nodiscard]] Session& session() { return session_; }

    void showStage(int stage);

    [[nodiscard]] int stage() const { return stage_; }

    /// A table or a study, by its ending. Asks first when something would be lost.
    void openPath(const QString& path);

    /// Offers, one at a time, the steps that earlier windows were not able to save.
    void offerLeftWork();

    /// From now on the window deletes itself once it was closed and its work has ended.
    void liveAlone() { alone_ = true; }

    /// Blocks until everything that is wanted has been computed and shown; for tests and pictures.
    void settle();

  protected:
    void closeEvent(QCloseEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

  private:
    /// What is in front goes into the report.
    void sendToReport();
    [[nodiscard]] QWidget* makeTop();
    [[nodiscard]] QWidget* makeStatus();
    void makeActions();
    void refresh();
    /// Many changes in one turn of the event loop are shown once.
    void refreshSoon();
    void refreshStatus();
    void refreshReading();
    void open();
    void openDemo();
    [[nodiscard]] QString askForPath();
    [[nodiscard]] QStringList unsavedSteps() const;
    bool save();
    bool saveAs();
    /// The one question before the study in this window makes room; `then` is what was wanted, and
    /// `elsewhere` the same in a window of its own.
    void beforeLeaving(const QString& words, std::function<void()> then,
                       std::function<void()> elsewhere);
    void askAboutConflict(const QString& path);
    void askAboutOutside();
    void askAboutLeft(const LeftWork& left);
    void askBeforeClosing();
    void tellOfOtherHolder();
    [[nodiscard]] MainWindow* furtherWindow();
    void paste();
    void find();
    /// Help about what is selected, or the reading again.
    void turnHelp();
    [[nodiscard]] std::string selectedTopic() const;
    void showHelp(const std::string& topic);
    void showKeys();
    void setAsideAsking();
    void go(int stage, bool remember);
    void say(const QString& what, bool warning);

    QString journals_;
    Session session_;
    AskBand* band_;
    Autosave* autosave_ = nullptr;
    Finder* finder_;
    Route* route_;
    QLabel* title_;
    QLabel* saved_;
    Roster* roster_;
    QuestionLine* question_;
    QStackedWidget* stages_;
    ReadingColumn* reading_;
    CalculatorPanel* calculator_;
    HelpPanel* help_;
    std::string followed_;  ///< The topic of what was selected when help was asked for.
    SideDrawer* drawer_ = nullptr;
    SettingsSheet* settings_ = nullptr;
    QPushButton* settingsWord_ = nullptr;
    QStackedWidget* side_;  ///< The reading column, or the calculator or help in its place.
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
    std::set<std::string> passedOver_;  ///< Journals that the person put off.
    bool wasPending_ = false;
    bool refreshing_ = false;
    bool alone_ = false;
    bool leaving_ = false;  ///< The question before closing was answered.
};

}  // namespace rapporto::app
