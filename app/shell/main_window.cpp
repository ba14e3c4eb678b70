#include "app/shell/main_window.h"

#include "app/question/question_line.h"
#include "app/shell/ask_band.h"
#include "app/shell/autosave.h"
#include "app/shell/calculator_panel.h"
#include "app/shell/fault_report.h"
#include "app/shell/finder.h"
#include "app/shell/help_panel.h"
#include "app/shell/reading_column.h"
#include "app/shell/roster.h"
#include "app/shell/route.h"
#include "app/shell/settings.h"
#include "app/shell/side_drawer.h"
#include "app/shell/theme.h"
#include "app/stages/checks/checks_stage.h"
#include "app/stages/compare/compare_stage.h"
#include "app/stages/data/data_stage.h"
#include "app/stages/explore/explore_stage.h"
#include "app/stages/model/model_stage.h"
#include "app/stages/report/report_stage.h"
#include "core/base/format.h"
#include "core/base/hash.h"
#include "core/report/report_items.h"
#include "core/report/wording.h"
#include "core/study/differences.h"

#include <QAction>
#include <QApplication>
#include <QClipboard>
#include <QCloseEvent>
#include <QDateTime>
#include <QDragEnterEvent>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QInputDialog>
#include <QLabel>
#include <QMimeData>
#include <QPushButton>
#include <QSplitter>
#include <QStackedWidget>
#include <QThreadPool>
#include <QTimer>
#include <QVBoxLayout>

namespace rapporto::app {
namespace {

QString shortTime(const QString& iso) {
    const QDateTime at = QDateTime::fromString(iso, Qt::ISODate);
    return at.isValid() ? QLocale().toString(at, "d MMM, HH:mm") : iso;
}

QString stepLine(const TrailStep& step) {
    return shortTime(text(step.at)) + "  " +
           (step.did.empty() ? MainWindow::tr("what stands in Explore") : text(step.did));
}

/// “growers (2).rapporto”, or with the next number that is free.
QString freeName(const QString& base) {
    for (int number = 2;; ++number) {
        const QString name = QString("%1 (%2).rapporto").arg(base).arg(number);
        if (!QFile::exists(name)) {
            return name;
        }
    }
}

}  // namespace

MainWindow::MainWindow(QWidget* parent, const QString& journals)
    : QMainWindow(parent),
      journals_(journals),
      session_(nullptr, journals),
      band_(new AskBand(this)),
      finder_(new Finder(this)) {
    setWindowTitle("Rapporto");
    resize(1280, 800);
    setMinimumSize(1024, 640);
    setAcceptDrops(true);
    auto* central = new QWidget(this);
    auto* layout = new QVBoxLayout(central);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    layout->addWidget(makeTop());
    layout->addWidget(band_);

    auto* middle = new QSplitter(Qt::Horizontal, central);
    middle->setHandleWidth(1);
    // Its line is drawn by the style of the application: one of its own would dress all in it anew.
    middle->setObjectName("middle");
    roster_ = new Roster(session_, middle);
    auto* work = new QWidget(middle);
    auto* workLayout = new QVBoxLayout(work);
    workLayout->setContentsMargins(0, 0, 0, 0);
    workLayout->setSpacing(0);
    question_ = new QuestionLine(session_, finder_, work);
    question_->setObjectName("questionLine");
    question_->setAttribute(Qt::WA_StyledBackground);
    dress(question_, "#questionLine{border-bottom:1px solid {hairline}}");
    workLayout->addWidget(question_);
    stages_ = new QStackedWidget(work);
    workLayout->addWidget(stages_, 1);
    side_ = new QStackedWidget(middle);
    reading_ = new ReadingColumn(side_);
    calculator_ = new CalculatorPanel(side_);
    side_->addWidget(reading_);
    side_->addWidget(calculator_);
    help_ = new HelpPanel(side_);
    side_->addWidget(help_);
    connect(help_, &HelpPanel::closed, this, &MainWindow::turnHelp);
    connect(calculator_, &CalculatorPanel::closed, this,
            [this] { side_->setCurrentWidget(reading_); });
    middle->addWidget(roster_);
    middle->addWidget(work);
    middle->addWidget(side_);
    middle->setSizes({235, 745, 300});
    middle->setStretchFactor(0, 0);
    middle->setStretchFactor(1, 1);
    middle->setStretchFactor(2, 0);
    middle->setCollapsible(1, false);
    drawer_ = new SideDrawer(middle, side_, central);
    layout->addWidget(drawer_, 1);
    layout->addWidget(makeStatus());
    setCentralWidget(central);

    data_ = new DataStage(session_, this);
    explore_ = new ExploreStage(session_, this);
    report_ = new ReportStage(session_, this);
    auto* model = new ModelStage(session_, this);
    connect(model, &ModelStage::pairAsked, this,
            [this](const std::string& first, const std::string& second) {
                explore_->putOnDesk(first);
                explore_->putOnDesk(second);
                showStage(1);
            });
    connect(question_, &QuestionLine::missingAsked, this, [this] {
        showStage(0);
        data_->showMissing();
    });
    connect(&session_, &Session::oddityAsked, this, [this](const std::string& variable) {
        showStage(0);
        data_->showOddities(variable);
    });
    all_ = {
        data_,  explore_, model, new ChecksStage(session_, this), new CompareStage(session_, this),
        report_};
    for (Stage* stage : all_) {
        stages_->addWidget(stage);
        connect(stage, &Stage::readingChanged, this, [this, stage] {
            if (stages_->currentWidget() == stage) {
                refreshReading();
            }
        });
    }
    connect(data_, &DataStage::openRequested, this, &MainWindow::open);
    connect(data_, &DataStage::pasteRequested, this, &MainWindow::paste);
    connect(data_, &DataStage::modelAsked, this, [this] { showStage(2); });
    connect(data_, &DataStage::demoRequested, this, &MainWindow::openDemo);
    connect(route_, &Route::stageRequested, this, &MainWindow::showStage);
    connect(&session_, &Session::changed, this, &MainWindow::refreshSoon);
    connect(&session_, &Session::questionChanged, this, &MainWindow::refreshSoon);
    connect(&session_, &Session::importChanged, this, [this] {
        if (session_.pending() && !wasPending_) {
            showStage(0);
        }
        wasPending_ = session_.pending().has_value();
        refresh();
    });
    connect(&session_, &Session::refused, this, [this](const QString& why) { say(why, true); });
    connect(&session_, &Session::told, this, [this](const QString& what) { say(what, false); });
    connect(&session_, &Session::conflicted, this, &MainWindow::askAboutConflict);
    connect(&session_, &Session::outsideAsked, this, &MainWindow::askAboutOutside);
    connect(&session_, &Session::besideAsked, this,
            [this](const Study& study) { furtherWindow()->session().openMade(study); });
    connect(roster_, &Roster::variablePicked, this, [this](const std::string& name) {
        if (stage_ == 1) {
            explore_->putOnDesk(name,
                                QGuiApplication::keyboardModifiers().testFlag(Qt::ControlModifier));
        } else {
            data_->showVariable(name);
            if (stage_ != 0) {
                refreshReading();
            }
        }
    });
    connect(roster_, &Roster::variableActivated, this, [this](const std::string& name) {
        if (stage_ >= 2) {
            question_->addTerm(quotedName(name));
        } else {
            data_->showVariable(name);
        }
    });
    makeActions();
    showStage(0);
    session_.bench().waitForPainter(std::chrono::milliseconds(40));
    auto* timer = new QTimer(this);
    connect(timer, &QTimer::timeout, this, &MainWindow::refreshStatus);
    timer->start(250);
}

QWidget* MainWindow::makeTop() {
    auto* top = new QWidget(this);
    top->setObjectName("top");
    top->setAttribute(Qt::WA_StyledBackground);
    dress(top, "#top{background:{panel};border-bottom:1px solid {hairline}}");
    auto* layout = new QHBoxLayout(top);
    layout->setContentsMargins(18, 0, 16, 0);
    auto* names = new QVBoxLayout;
    names->setSpacing(0);
    title_ = new QLabel(top);
    title_->setFont(paperFont(19));
    saved_ = new QLabel(top);
    saved_->setFont(interfaceFont(12));
    dress(saved_, "color:{soft}");
    names->addStretch(1);
    names->addWidget(title_);
    names->addWidget(saved_);
    names->addStretch(1);
    auto* left = new QWidget(top);
    left->setLayout(names);
    left->setFixedWidth(215);
    names->setContentsMargins(0, 0, 0, 0);
    layout->addWidget(left);
    route_ = new Route(top);
    layout->addWidget(route_, 1);
    auto* find = new QPushButton(tr("find anything      Ctrl K"), top);
    find->setObjectName("findAnything");
    dress(find,
          "QPushButton{background:{ground};border:1px solid {hairline};color:{soft};padding:5px "
          "10px}QPushButton:hover,QPushButton:focus{border-color:{accent};text-decoration:none}");
    connect(find, &QPushButton::clicked, this, &MainWindow::find);
    layout->addWidget(find);
    settingsWord_ = new QPushButton(tr("settings"), top);
    settingsWord_->setObjectName("settings:open");
    settingsWord_->setCursor(Qt::PointingHandCursor);
    connect(settingsWord_, &QPushButton::clicked, this,
            [this] { settings_->openUnder(settingsWord_); });
    layout->addSpacing(8);
    layout->addWidget(settingsWord_);
    return top;
}

QWidget* MainWindow::makeStatus() {
    auto* status = new QWidget(this);
    status->setObjectName("status");
    status->setAttribute(Qt::WA_StyledBackground);
    dress(status,
          "#status{background:{panel};border-top:1px solid {hairline}} QLabel{color:{soft}}");
    status->setFixedHeight(28);
    auto* layout = new QHBoxLayout(status);
    layout->setContentsMargins(18, 0, 16, 0);
    counts_ = new QLabel(status);
    counts_->setObjectName("counts");
    progress_ = new QLabel(status);
    progress_->setObjectName("progress");
    stop_ = new QPushButton(tr("stop"), status);
    stop_->hide();
    undo_ = new QPushButton(status);
    undo_->setObjectName("undo");
    layout->addWidget(counts_);
    layout->addStretch(1);
    layout->addWidget(progress_);
    layout->addWidget(stop_);
    layout->addSpacing(18);
    layout->addWidget(undo_);
    connect(stop_, &QPushButton::clicked, this, [this] { session_.bench().stop(); });
    connect(undo_, &QPushButton::clicked, &session_, &Session::undo);
    return status;
}

void MainWindow::makeActions() {
    const auto add = [this](const QString& name, const QList<QKeySequence>& keys,
                            std::function<void()> act) {
        auto* action = new QAction(name, this);
        action->setShortcuts(keys);
        connect(action, &QAction::triggered, this, std::move(act));
        addAction(action);
    };
    const QStringList names = stageNames();
    for (int s = 0; s < 6; ++s) {
        add(names[s], {QKeySequence(QString("Ctrl+%1").arg(s + 1))}, [this, s] { showStage(s); });
    }
    add(tr("Calculator: statistic, p, split of the variance"), {QKeySequence("Ctrl+Shift+C")},
        [this] {
            side_->setCurrentWidget(side_->currentWidget() == calculator_
                                        ? static_cast<QWidget*>(reading_)
                                        : calculator_);
        });
    add(tr("Open…"), {QKeySequence::Open}, [this] { open(); });
    add(tr("Save"), {QKeySequence::Save}, [this] { save(); });
    add(tr("Save as…"), {QKeySequence("Ctrl+Shift+S")}, [this] { saveAs(); });
    autosave_ = new Autosave(session_, this);
    connect(autosave_, &Autosave::changed, this, &MainWindow::refreshSoon);
    add(tr("Let studies save themselves, or stop it"), {}, [this] {
        autosave_->setOn(!autosave_->isOn());
        say(autosave_->words(), false);
    });
    settings_ = new SettingsSheet(autosave_, this);
    connect(settings_, &SettingsSheet::told, this,
            [this](const QString& what) { say(what, false); });
    const auto showAnew = [this] {
        for (Stage* stage : all_) {
            stage->refresh();  // Texts hold their colours and their numbers’ marks.
        }
        refresh();
        update();
    };
    connect(settings_, &SettingsSheet::themeChanged, this, showAnew);
    connect(settings_, &SettingsSheet::marksChanged, this, showAnew);
    add(tr("Settings"), {QKeySequence("Ctrl+,")}, [this] { settings_->openUnder(settingsWord_); });
    add(tr("Reading column, where it is folded away"), {QKeySequence("Ctrl+I")},
        [this] { drawer_->setOpen(!drawer_->isOpen()); });
    add(tr("Paste cells"), {QKeySequence::Paste}, [this] { paste(); });
    add(tr("Find anything"), {QKeySequence("Ctrl+K")}, [this] { find(); });
    add(tr("New question"), {QKeySequence("Ctrl+N")}, [this] {
        session_.startQuestion();
        showStage(2);
        question_->openNext();
    });
    add(tr("Variant of this question"), {QKeySequence("Ctrl+D")},
        [this] { session_.startVariant(); });
    add(tr("Undo"), {QKeySequence::Undo}, [this] { session_.undo(); });
    add(tr("Redo"), {QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")},
        [this] { session_.redo(); });
    add(tr("Set selected rows aside"), {QKeySequence::Delete},
        [this] { session_.setSelectedAside({}); });
    add(tr("Set selected rows aside, with a reason"), {QKeySequence("Shift+Delete")},
        [this] { setAsideAsking(); });
    add(tr("Send to the report"), {QKeySequence("Ctrl+Return")}, [this] { sendToReport(); });
    add(tr("Back"), {QKeySequence("Alt+Left")}, [this] {
        if (!back_.empty()) {
            forward_.push_back(stage_);
            const int to = back_.back();
            back_.pop_back();
            go(to, false);
        }
    });
    add(tr("Forward"), {QKeySequence("Alt+Right")}, [this] {
        if (!forward_.empty()) {
            back_.push_back(stage_);
            const int to = forward_.back();
            forward_.pop_back();
            go(to, false);
        }
    });
    add(tr("Open the demo"), {}, [this] { openDemo(); });
    add(tr("Open in a window of its own…"), {QKeySequence("Ctrl+Shift+O")}, [this] {
        const QString path = askForPath();
        if (!path.isEmpty()) {
            furtherWindow()->openPath(path);
        }
    });
    add(tr("Explain what is selected: help"), {QKeySequence("F1")}, [this] { turnHelp(); });
    add(tr("All keys"), {QKeySequence("Ctrl+?")}, [this] { showKeys(); });
    add(tr("Read what is selected"), {QKeySequence("Shift+F1")}, [this] {
        side_->setCurrentWidget(reading_);
        drawer_->setOpen(true);
        reading_->ensureVisible(0, 0);
        reading_->setFocus();
    });
}

void MainWindow::turnHelp() {
    if (side_->currentWidget() == help_) {
        side_->setCurrentWidget(reading_);
        return;
    }
    showHelp(selectedTopic());
    followed_ = help_->topic();
}

void MainWindow::showHelp(const std::string& topic) {
    followed_.clear();
    help_->showTopic(topic);
    side_->setCurrentWidget(help_);
    drawer_->setOpen(true);
    help_->seek();
}

void MainWindow::showKeys() {
    QString rows;
    for (const QAction* action : actions()) {
        QStringList keys;
        for (const QKeySequence& key : action->shortcuts()) {
            keys << key.toString();
        }
        if (!keys.isEmpty()) {
            rows += "- **" + keys.join(tr(" or ")) + "** " + action->text() + "\n";
        }
    }
    const std::string own = "guide:Keys";
    const HelpTopic* more = HelpPanel::help().topic(own);
    showHelp(own);
    help_->showText(tr("Keys"), rows + "\n" + (more == nullptr ? QString() : text(more->markdown)));
}

void MainWindow::resizeEvent(QResizeEvent* event) {
    QMainWindow::resizeEvent(event);
    if (drawer_ != nullptr) {
        drawer_->fit(width());
    }
}

MainWindow::~MainWindow() { hide(); }

void MainWindow::showStage(int stage) { go(stage, true); }

void MainWindow::go(int stage, bool remember) {
    if (remember && stage != stage_) {
        back_.push_back(stage_);
        forward_.clear();
    }
    stage_ = stage;
    route_->showStage(stage);
    stages_->setCurrentWidget(all_[static_cast<std::size_t>(stage)]);
    all_[static_cast<std::size_t>(stage)]->refresh();
    refresh();
}

void MainWindow::refreshSoon() {
    if (refreshing_) {
        return;
    }
    refreshing_ = true;
    // Most answers take less than this: then the window is laid out once, with the answer in it.
    constexpr int kAnswerIsNear = 3;  // Milliseconds.
    const bool waits = session_.question() != nullptr && !session_.isFresh();
    QTimer::singleShot(waits ? kAnswerIsNear : 0, this, [this] {
        refresh();
        // Behind the painting that this has asked for.
        QTimer::singleShot(0, this, [this] { session_.bench().painted(); });
    });
}

void MainWindow::refresh() {
    refreshing_ = false;
    const QString title = text(session_.study().title);
    title_->setText(title_->fontMetrics().elidedText(title, Qt::ElideRight, 213));
    title_->setToolTip(title_->text() == title ? QString() : title);
    const bool any = session_.hasTable() || session_.sourceRefusal();
    title_->setVisible(any);
    if (!any) {
        saved_->setText({});
    } else if (session_.path().isEmpty()) {
        saved_->setText(tr("not saved yet"));
    } else {
        saved_->setText((session_.isSaved()    ? tr("saved")
                         : autosave_->covers() ? tr("saves itself")
                                               : tr("changed")) +
                        " · " + session_.path().section('/', -1));
    }
    const auto trouble = session_.journalTrouble();
    saved_->setToolTip(trouble ? numbered(trouble->text()) : QString());
    if (trouble && any) {
        saved_->setText(tr("steps are not being kept"));
    }
    dress(saved_, trouble && any ? "color:{clay}" : "color:{soft}");
    noteLastStep(text(session_.bench().undoLabel()));
    Stage* present = all_[static_cast<std::size_t>(stage_)];
    roster_->refresh();
    question_->setVisible(present->showsQuestion() && session_.hasTable());
    question_->refresh();
    present->refresh();
    QStringList states;
    for (const Stage* stage : all_) {
        states << stage->state();
    }
    route_->showStates(states);
    refreshReading();
    refreshStatus();
}

void MainWindow::refreshReading() {
    reading_->show(all_[static_cast<std::size_t>(stage_)]->reading());
    // Help about what was selected goes on to what is selected now.
    const bool follows =
        side_->currentWidget() == help_ && !followed_.empty() && help_->topic() == followed_;
    if (const std::string now = follows ? selectedTopic() : followed_; now != followed_) {
        help_->showTopic(now);
        followed_ = help_->topic();
    }
}

std::string MainWindow::selectedTopic() const {
    const Stage* stage = all_[static_cast<std::size_t>(stage_)];
    const std::string own = stage->reading().help;
    return own.empty() ? stage->chapter() : own;
}

void MainWindow::refreshStatus() {
    const auto answer = session_.answer();
    const auto frame = session_.frame();
    if (answer && !answer->refusal && session_.hasTable() && stage_ >= 2) {
        counts_->setText(numbered(rowsReading(answer->rows)));
    } else if (frame && session_.hasTable()) {
        RowCounts rows;
        rows.source = frame->moments() != nullptr ? static_cast<std::size_t>(frame->moments()->n)
                                                  : frame->rows();
        rows.setAside = frame->count(RowState::SetAside);
        rows.byRule = frame->count(RowState::ByRule);
        rows.used = frame->moments() != nullptr ? rows.source : frame->count(RowState::In);
        counts_->setText(numbered(rowsReading(rows)));
    } else {
        counts_->clear();
    }
    const Progress progress = session_.bench().progress();
    const bool busy = progress.busy();
    progress_->setText(
        !busy ? QString()
        : progress.awaited > 0
            ? tr("check %1 of %2").arg(progress.checks - progress.awaited + 1).arg(progress.checks)
            : tr("computing %1 of %2").arg(progress.ready + 1).arg(progress.wanted));
    stop_->setVisible(busy);
    if (session_.pending() && !session_.pending()->import && !session_.pending()->refusal) {
        progress_->setText(
            tr("reading %1 %").arg(static_cast<int>(100.0 * session_.pending()->job.done())));
    }
    const std::string undo = session_.bench().undoLabel();
    undo_->setText(undo.empty() ? QString() : tr("undo: %1").arg(text(undo)));
    undo_->setVisible(!undo.empty());
}

void MainWindow::say(const QString& what, bool warning) {
    // A line over the reading column's foot, gone by itself; nothing to click away.
    auto* note = new QLabel(what, this);
    note->setObjectName(warning ? "refusal" : "told");
    note->setWordWrap(true);
    dress(note, QString("background:{field};border:1px solid %1;border-left:3px solid "
                        "%1;padding:9px 12px;color:{ink}")
                    .arg(warning ? "{clay}" : "{moss}"));
    note->setFixedWidth(420);
    note->setMinimumHeight(note->heightForWidth(396) + 20);
    note->move(width() - 440, height() - 28 - note->minimumHeight() - 12);
    note->show();
    QTimer::singleShot(warning ? 9000 : 3500, note, &QLabel::deleteLater);
}

MainWindow* MainWindow::furtherWindow() {
    auto* window = new MainWindow(nullptr, journals_);
    window->liveAlone();
    window->resize(size());
    window->move(pos() + QPoint(28, 28));
    window->show();
    return window;
}

void MainWindow::beforeLeaving(const QString& words, std::function<void()> then,
                               std::function<void()> elsewhere) {
    if (!session_.isWorthKeeping()) {
        then();
        return;
    }
    band_->ask(tr("This study has changes that are not saved. %1").arg(words), unsavedSteps(),
               {{"save", tr("save them first"),
                 [this, then] {
                     if (save()) {
                         then();
                     }
                 }},
                {"elsewhere", tr("open it in a window of its own"), std::move(elsewhere)},
                {"letGo", tr("let them go"),
                 [this, then] {
                     session_.letGo();
                     then();
                 }},
                {"stay", tr("stay here"), [] {}}});
}

/// What was done since the study was read or saved, newest last.
QStringList MainWindow::unsavedSteps() const {
    QStringList out;
    for (const TrailStep& step : session_.unsavedSteps()) {
        out << stepLine(step);
    }
    return out;
}

void MainWindow::openPath(const QString& path) {
    const bool study = path.endsWith(".rapporto");
    const QString name = path.section('/', -1);
    beforeLeaving(
        tr("What about them, before %1 is opened?").arg(name),
        [this, path, study] {
            if (!study) {
                session_.beginImport(path);
                return;
            }
            session_.openStudy(path);
            tellOfOtherHolder();
            offerLeftWork();
        },
        [this, path] { furtherWindow()->openPath(path); });
}

void MainWindow::openDemo() {
    beforeLeaving(
        tr("What about them, before the demo is opened?"), [this] { session_.openDemo(); },
        [this] { furtherWindow()->session().openDemo(); });
}

QString MainWindow::askForPath() {
    return QFileDialog::getOpenFileName(
        this, tr("Open a table or a study"), {},
        tr("Tables and studies (*.csv *.tsv *.txt *.xlsx *.ods *.sqlite *.sqlite3 *.db *.json "
           "*.rapporto);;All files (*)"));
}

void MainWindow::open() {
    const QString path = askForPath();
    if (!path.isEmpty()) {
        openPath(path);
    }
}

bool MainWindow::save() {
    return session_.path().isEmpty() ? saveAs() : session_.saveStudy(session_.path());
}

bool MainWindow::saveAs() {
    QString path = QFileDialog::getSaveFileName(this, tr("Save the study"),
                                                text(session_.study().title) + ".rapporto",
                                                tr("Studies (*.rapporto)"));
    if (path.isEmpty()) {
        return false;
    }
    path += path.endsWith(".rapporto") ? "" : ".rapporto";
    return session_.saveStudy(path);
}

void MainWindow::tellOfOtherHolder() {
    const LockHolder* other = session_.otherHolder();
    if (other == nullptr) {
        return;
    }
    band_->ask(
        tr("This study is open in another window: %1 on %2, since %3. Before anything that was "
           "saved there is overwritten you will be asked.")
            .arg(text(other->owner), text(other->host), shortTime(text(other->since))),
        {}, {{"goOn", tr("go on"), [] {}}});
}

void MainWindow::askAboutOutside() {
    QStringList files;
    for (const std::string& file : session_.outside()) {
        files << text(file);
    }
    band_->ask(
        tr("This study wants to read %1, outside its own folder. Allow that if you trust where "
           "it comes from; it is remembered for this study.")
            .arg(files.join(", ")),
        {},
        {{"allow", tr("read them"), [this] { session_.allowOutside(); }},
         {"refuse", tr("leave them"), [] {}}},
        1);
}

void MainWindow::askAboutConflict(const QString& path) {
    const auto theirs = readStudyFile(utf8(path));
    QStringList details;
    if (theirs) {
        const StudyDifferences differ = differencesOf(session_.study(), *theirs);
        for (const TrailStep& step : differ.first) {
            details << tr("here  ") + stepLine(step);
        }
        for (const TrailStep& step : differ.second) {
            details << tr("in the file  ") + stepLine(step);
        }
        for (const std::string& part : differ.parts) {
            details << tr("differs: ") + text(part);
        }
    }
    const QFileInfo info(path);
    const QString beside = freeName(info.absoluteDir().filePath(info.completeBaseName()));
    // First what loses nothing.
    std::vector<Choice> choices = {
        {"beside", tr("save mine as %1").arg(QFileInfo(beside).fileName()),
         [this, beside] { session_.saveStudy(beside); }},
        {"mine", tr("keep mine, over it"), [this, path] { session_.saveStudy(path, true); }}};
    if (theirs) {
        choices.push_back({"theirs", tr("take theirs"), [this, path] {
                               session_.setJournalAside();
                               session_.openStudy(path);
                           }});
    }
    choices.push_back({"stay", tr("save nothing yet"), [] {}});
    band_->ask(
        theirs ? tr("%1 was changed by somebody else since it was read here. Nothing was written.")
                     .arg(info.fileName())
               : tr("%1 is no study any more: somebody else has changed it since it was read "
                    "here. Nothing was written.")
                     .arg(info.fileName()),
        details, std::move(choices));
}

void MainWindow::offerLeftWork() {
    if (journals_.isEmpty() || !band_->words().isEmpty()) {
        return;
    }
    for (const LeftWork& left : workLeftIn(utf8(journals_))) {
        if (!passedOver_.contains(left.file)) {
            askAboutLeft(left);
            return;
        }
    }
    const QString report = newFaultReport(QFileInfo(journals_).path());
    if (!report.isEmpty()) {
        band_->ask(
            tr("Rapporto was ended by a fault the last time. A report without any data is in %1.")
                .arg(report),
            {}, {{"goOn", tr("go on"), [] {}}});
    }
}

void MainWindow::askAboutLeft(const LeftWork& left) {
    QStringList details;
    for (const JournalStep& step : left.steps) {
        details << stepLine({step.at, step.did});
    }
    const QString file = text(left.head.study);
    const QString steps = numbered(plural(left.steps.size(), "step was", "steps were"));
    const QString when = shortTime(text(left.steps.back().at));
    QString words = file.isEmpty()
                        ? tr("A study without a name, “%1”, was being changed on %2: %3 not saved.")
                              .arg(text(left.steps.back().study.title), when, steps)
                        : tr("%1 was being changed on %2: %3 not saved.")
                              .arg(file.section('/', -1), when, steps);
    if (!file.isEmpty() &&
        sha256OfFile(left.head.study).value_or(std::string()) != left.head.base) {
        words += " " + tr("Its file has changed since, or is gone.");
        if (const auto now = readStudyFile(left.head.study)) {
            for (const TrailStep& step : differencesOf(left.start, *now).second) {
                details << tr("in the file  ") + stepLine(step);
            }
        }
    }
    band_->ask(words, details,
               {{"takeUp", tr("take them up"),
                 [this, left] {
                     const bool room = !session_.hasTable() && !session_.sourceRefusal() &&
                                       !session_.isLoading() && !session_.pending();
                     const bool here = room || session_.path() == text(left.head.study);
                     MainWindow* window =
                         here && !session_.isWorthKeeping() ? this : furtherWindow();
                     window->session().takeUp(left);
                     offerLeftWork();
                 }},
                {"leave", tr("leave them"),
                 [this, left] {
                     layAside(left);
                     offerLeftWork();
                 }},
                {"later", tr("later"), [this, left] {
                     passedOver_.insert(left.file);
                     offerLeftWork();
                 }}});
}

void MainWindow::paste() {
    const QString cells = QApplication::clipboard()->text();
    if (cells.trimmed().isEmpty()) {
        say(tr("The clipboard holds no cells. Copy a block in a sheet, header row and all, then "
               "paste here."),
            true);
        return;
    }
    beforeLeaving(
        tr("What about them, before the pasted cells are looked at?"),
        [this, cells] { session_.beginPaste(cells.toUtf8()); },
        [this, cells] { furtherWindow()->session().beginPaste(cells.toUtf8()); });
}

void MainWindow::sendToReport() {
    const auto* stage = qobject_cast<const Stage*>(stages_->currentWidget());
    const auto items = stage == nullptr ? std::vector<ReportItem>() : stage->forReport();
    if (items.empty()) {
        report_->addPresentQuestion();
        return;
    }
    const ReportItemKind* kind = findReportItem(items.front().item);
    report_->addItems(items, text(kind == nullptr ? items.front().item : std::string(kind->words)));
    emit session_.told(tr("it stands in the report now"));
}

void MainWindow::setAsideAsking() {
    if (session_.selectedRows().empty()) {
        return;
    }
    // A field in place: the finder takes the reason.
    finder_->open(
        mapToGlobal(QPoint(width() / 2 - 190, 120)), 380, tr("why are these rows set aside?"), {},
        [](const QString&) { return QString(); },
        [this](const QString& reason) { session_.setSelectedAside(reason); });
}

void MainWindow::find() {
    std::vector<FinderEntry> entries;
    for (const Question& q : session_.study().questions) {
        entries.push_back({text(q.title.empty() ? q.id : q.title),
                           tr("question · ") + text(questionSentence(q)), [this, id = q.id] {
                               session_.setQuestion(id);
                               if (stage_ < 2) {
                                   showStage(2);
                               }
                           }});
    }
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            entries.push_back(
                {text(v.name), tr("variable · ") + text(v.label), [this, name = v.name] {
                     showStage(0);
                     data_->showVariable(name);
                 }});
        }
    }
    for (QAction* action : actions()) {
        entries.push_back({action->text(), tr("action · ") + action->shortcut().toString(),
                           [action] { action->trigger(); }});
    }
    for (const HelpTopic& topic : HelpPanel::help().topics()) {
        entries.push_back({text(topic.title), tr("help · ") + text(topic.chapter),
                           [this, id = topic.id] { showHelp(id); }});
    }
    finder_->open(mapToGlobal(QPoint(width() - 496, 60)), 480,
                  tr("a variable, a question, an action, help"), std::move(entries));
}

void MainWindow::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape && !session_.selectedRows().empty()) {
        session_.selectRows({});
        return;
    }
    QMainWindow::keyPressEvent(event);
}

void MainWindow::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasUrls()) {
        event->acceptProposedAction();
    }
}

void MainWindow::dropEvent(QDropEvent* event) {
    const QList<QUrl> urls = event->mimeData()->urls();
    if (!urls.isEmpty() && urls.front().isLocalFile()) {
        openPath(urls.front().toLocalFile());
    }
}

void MainWindow::askBeforeClosing() {
    const auto leave = [this] {
        leaving_ = true;
        close();
    };
    band_->ask(tr("This study has changes that are not saved."), unsavedSteps(),
               {{"save", tr("save and close"),
                 [this, leave] {
                     if (save()) {
                         leave();
                     }
                 }},
                {"letGo", tr("close and let them go"),
                 [this, leave] {
                     session_.letGo();
                     leave();
                 }},
                {"stay", tr("stay here"), [] {}}});
}

void MainWindow::closeEvent(QCloseEvent* event) {
    const bool attended = qEnvironmentVariableIsEmpty("RAPPORTO_UNATTENDED");
    if (!leaving_ && attended && session_.isWorthKeeping()) {
        event->ignore();
        askBeforeClosing();
        return;
    }
    session_.finish();
    if (alone_) {
        // Others may be open: nobody waits here for work that is slow to stop.
        auto* timer = new QTimer(this);
        connect(timer, &QTimer::timeout, this, [this] {
            if (session_.isIdle()) {
                deleteLater();
            }
        });
        timer->start(200);
    }
    QMainWindow::closeEvent(event);
}

void MainWindow::settle() {
    for (int round = 0; round < 3; ++round) {
        session_.waitForPool();
        QThreadPool::globalInstance()->waitForDone();
        QApplication::processEvents();
        session_.bench().wait();
        QApplication::processEvents();
    }
    refresh();
    // What that asked for beside the window's turn, as pages that hold fits of their own.
    session_.waitForPool();
    QThreadPool::globalInstance()->waitForDone();
    QApplication::processEvents();
}

}  // namespace rapporto::app
