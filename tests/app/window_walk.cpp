// Random hands on the real window: buttons, keys, drags, typed junk, questions of every method,
// undo and redo, in sizes from small to large. Never a crash, a stuck turn, a warning of the
// toolkit, or a study that undo, redo and its own file do not give back.
//
//     window-walk SECONDS [FIRST SEED [STUDY]]     walks of 150 steps each, one a seed
//     window-walk 0 SEED                           the one walk of this seed, with its steps told
#include "app/shell/main_window.h"
#include "app/shell/theme.h"
#include "core/model/estimator.h"
#include "core/numerics/random.h"

#include <nlohmann/json.hpp>
#include <unistd.h>

#include <QAbstractButton>
#include <QAbstractScrollArea>
#include <QApplication>
#include <QComboBox>
#include <QDialog>
#include <QDir>
#include <QElapsedTimer>
#include <QKeyEvent>
#include <QMenu>
#include <QScrollBar>
#include <QTemporaryDir>
#include <QTest>
#include <QTimer>
#include <QWheelEvent>

#include <array>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <map>
#include <optional>

using namespace rapporto;
using namespace rapporto::app;

namespace {

constexpr int kSteps = 150;
/// A turn longer than this is told; a step longer than `kStuck` seconds ends the walk.
constexpr qint64 kLongTurn = 100;
constexpr unsigned kStuck = 240;

// What was done last, where a signal can read it.
constexpr std::size_t kKept = 24;
std::array<std::array<char, 160>, kKept> lastSteps;
volatile std::size_t stepsDone = 0;
volatile unsigned long long currentSeed = 0;
bool telling = false;
std::vector<std::string> findings;

void note(const QString& step) {
    std::snprintf(lastSteps[stepsDone % kKept].data(), lastSteps[0].size(), "%s",
                  step.toUtf8().constData());
    stepsDone = stepsDone + 1;
    if (telling) {
        std::printf("%s\n", step.toUtf8().constData());
        std::fflush(stdout);
    }
}

void put(const char* text) { (void)!write(STDERR_FILENO, text, std::strlen(text)); }

/// Says which walk it was and what was done last: a crash or a hang tells nothing by itself.
void report(int signal) {
    std::array<char, 96> head{};
    std::snprintf(head.data(), head.size(), "signal %d in the walk of seed %llu, after:\n", signal,
                  currentSeed);
    put(head.data());
    const std::size_t end = stepsDone;
    for (std::size_t k = end > kKept ? end - kKept : 0; k < end; ++k) {
        put("  ");
        put(lastSteps[k % kKept].data());
        put("\n");
    }
    std::_Exit(2);
}

void find(const std::string& what) {
    if (std::find(findings.begin(), findings.end(), what) == findings.end()) {
        findings.push_back(what);
        std::printf("seed %llu, after ‘%s’: %s\n", currentSeed,
                    stepsDone > 0 ? lastSteps[(stepsDone - 1) % kKept].data() : "", what.c_str());
        std::fflush(stdout);
    }
}

/// What the toolkit warns of is a mistake of ours.
void onMessage(QtMsgType type, const QMessageLogContext& /*context*/, const QString& message) {
    const bool known = message.startsWith("This plugin does not support") ||
                       message.contains("Mouse event occurs outside");
    if (type != QtDebugMsg && type != QtInfoMsg && !known) {
        find("warned: " + message.toStdString());
    }
}

/// Knows how long each turn of the event loop took, and of whom.
class TimedApplication final : public QApplication {
  public:
    using QApplication::QApplication;

    std::map<std::string, qint64> longest;

    bool notify(QObject* receiver, QEvent* event) override {
        if (depth_ > 0) {
            return QApplication::notify(receiver, event);
        }
        const std::string who = std::string(receiver->metaObject()->className()) + " ‘" +
                                receiver->objectName().toStdString() + "’ event " +
                                std::to_string(event->type());
        QElapsedTimer timer;
        timer.start();
        ++depth_;
        const bool done = QApplication::notify(receiver, event);
        --depth_;
        if (const qint64 took = timer.elapsed(); took > kLongTurn) {
            qint64& most = longest[who];
            most = std::max(most, took);
        }
        return done;
    }

  private:
    int depth_ = 0;
};

/// One walk.
class Walk {
  public:
    Walk(std::uint64_t seed, const QString& study)
        : random_(seed, 3), place_(), window_(nullptr, place_.filePath("journals")) {
        window_.resize(1280, 800);
        window_.show();
        (void)QTest::qWaitForWindowActive(&window_);
        if (chance(0.1)) {
            note("nothing is opened");
            return;
        }
        window_.session().openStudy(study);
        window_.settle();
        window_.showStage(static_cast<int>(below(6)));
    }

    ~Walk() { alarm(0); }

    Walk(const Walk&) = delete;
    Walk& operator=(const Walk&) = delete;

    void go() {
        for (int k = 0; k < kSteps; ++k) {
            alarm(kStuck);
            step();
            closeOthers();
            if (chance(0.3)) {
                window_.settle();
            } else {
                QTest::qWait(static_cast<int>(below(15)));
            }
            if (chance(0.05)) {
                look();
            }
        }
        look();
    }

  private:
    [[nodiscard]] std::size_t below(std::size_t n) { return n == 0 ? 0 : random_.below(n); }

    [[nodiscard]] bool chance(double p) { return random_.uniform() < p; }

    template <class T>
    const T& one(const std::vector<T>& of) {
        return of[below(of.size())];
    }

    void step() {
        switch (below(14)) {
            case 0:
            case 1:
            case 2:
                return press();
            case 3:
            case 4:
            case 5:
                return key();
            case 6:
                return type();
            case 7:
            case 8:
                return mouse();
            case 9:
                return wheel();
            case 10:
                return choose();
            case 11:
                return ask();
            case 12:
                return below(2) == 0 ? undoSome() : resizeOrTurn();
            default:
                return hover();
        }
    }

    /// Whatever stands in front: a popup, else the window.
    [[nodiscard]] QWidget* front() {
        QWidget* popup = QApplication::activePopupWidget();
        return popup != nullptr && chance(0.8) ? popup : &window_;
    }

    template <class T>
    T* someVisible(QWidget* in) {
        std::vector<T*> found;
        for (T* widget : in->findChildren<T*>()) {
            if (widget->isVisible() && widget->isEnabled() && widget->width() > 1 &&
                widget->height() > 1) {
                found.push_back(widget);
            }
        }
        return found.empty() ? nullptr : found[below(found.size())];
    }

    static QString nameOf(const QWidget* widget) {
        return QString(widget->metaObject()->className()) + " ‘" + widget->objectName() + "’";
    }

    QPoint somewhere(const QWidget* widget) {
        return {static_cast<int>(below(static_cast<std::size_t>(widget->width()))),
                static_cast<int>(below(static_cast<std::size_t>(widget->height())))};
    }

    Qt::KeyboardModifiers someModifiers() {
        return chance(0.8) ? Qt::NoModifier : chance(0.5) ? Qt::ShiftModifier : Qt::ControlModifier;
    }

    void press() {
        if (auto* button = someVisible<QAbstractButton>(front())) {
            note("press " + nameOf(button) + " " + button->text());
            QTest::mouseClick(button, Qt::LeftButton, someModifiers());
        }
    }

    void key() {
        static const std::vector<QKeySequence> kKeys = {
            QKeySequence("Ctrl+1"),    QKeySequence("Ctrl+2"),       QKeySequence("Ctrl+3"),
            QKeySequence("Ctrl+4"),    QKeySequence("Ctrl+5"),       QKeySequence("Ctrl+6"),
            QKeySequence("Ctrl+K"),    QKeySequence("Ctrl+N"),       QKeySequence("Ctrl+D"),
            QKeySequence("M"),         QKeySequence("Delete"),       QKeySequence("Shift+Delete"),
            QKeySequence("Ctrl+Z"),    QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Return"),
            QKeySequence("F1"),        QKeySequence("Ctrl+?"),       QKeySequence("Alt+Left"),
            QKeySequence("Alt+Right"), QKeySequence("Escape"),       QKeySequence("Tab"),
            QKeySequence("Shift+Tab"), QKeySequence("Return"),       QKeySequence("Space"),
            QKeySequence("Down"),      QKeySequence("Up"),           QKeySequence("Left"),
            QKeySequence("Right"),     QKeySequence("Home"),         QKeySequence("End"),
            QKeySequence("PgUp"),      QKeySequence("PgDown"),       QKeySequence("Backspace"),
            QKeySequence("Ctrl+C"),    QKeySequence("Ctrl+A"),       QKeySequence("Ctrl+I"),
            QKeySequence("Ctrl+,"),    QKeySequence("Ctrl+Shift+C"), QKeySequence("Shift+F1"),
            QKeySequence("Ctrl+Down"), QKeySequence("Ctrl+Up"),      QKeySequence("Alt+Up"),
            QKeySequence("Alt+Down"),  QKeySequence("Shift+Down"),   QKeySequence("Ctrl+V"),
        };
        const QKeySequence& keys = one(kKeys);
        QWidget* to = receiver();
        note("key " + keys.toString() + " to " + nameOf(to));
        QTest::keyClick(to, keys[0].key(), keys[0].keyboardModifiers());
    }

    QWidget* receiver() {
        QWidget* popup = QApplication::activePopupWidget();
        QWidget* focus = popup != nullptr && popup->focusWidget() != nullptr
                             ? popup->focusWidget()
                             : QApplication::focusWidget();
        return focus != nullptr && focus->isVisible() ? focus : &window_;
    }

    void type() {
        static const std::vector<QString> kTexts = {"ln(revenue)",
                                                    "hives",
                                                    "age * 500",
                                                    "exp(age * 5)",
                                                    "1/0",
                                                    "revenue >",
                                                    "((",
                                                    "’",
                                                    "\"",
                                                    "zone = 'Ridge'",
                                                    "lag(revenue)",
                                                    "−3,5",
                                                    "1e999",
                                                    "0",
                                                    "NaN",
                                                    "a b c",
                                                    "power(hives, 2)",
                                                    "mean(revenue over (partition by village))",
                                                    "x",
                                                    "größer ≥ 3",
                                                    "hives = 0",
                                                    "village",
                                                    "2",
                                                    "0.05",
                                                    "case when member then 1 else 0 end",
                                                    "\t",
                                                    "  "};
        QWidget* to = receiver();
        const QString& text = one(kTexts);
        note("type ‘" + text + "’ into " + nameOf(to));
        // The toolkit’s own typing knows ASCII alone.
        for (const QChar& letter : text) {
            to = receiver();
            QKeyEvent down(QEvent::KeyPress, 0, Qt::NoModifier, QString(letter));
            QApplication::sendEvent(to, &down);
        }
        if (chance(0.6)) {
            to = receiver();
            note("Return to " + nameOf(to));
            QTest::keyClick(to, Qt::Key_Return);
        }
    }

    void mouse() {
        QWidget* widget = someVisible<QWidget>(front());
        if (widget == nullptr) {
            return;
        }
        const QPoint from = somewhere(widget);
        if (chance(0.15)) {
            note("double click on " + nameOf(widget));
            QTest::mouseDClick(widget, Qt::LeftButton, someModifiers(), from);
            return;
        }
        const auto button = chance(0.15) ? Qt::RightButton : Qt::LeftButton;
        if (chance(0.6)) {
            note(QString("click on %1 at %2, %3").arg(nameOf(widget)).arg(from.x()).arg(from.y()));
            QTest::mouseClick(widget, button, someModifiers(), from);
            return;
        }
        const QPoint to = somewhere(widget);
        note("drag over " + nameOf(widget));
        QTest::mousePress(widget, Qt::LeftButton, someModifiers(), from);
        QTest::mouseMove(widget, (from + to) / 2);
        QTest::mouseMove(widget, to);
        QTest::mouseRelease(widget, Qt::LeftButton, Qt::NoModifier, to);
    }

    void hover() {
        if (QWidget* widget = someVisible<QWidget>(&window_)) {
            note("hover over " + nameOf(widget));
            QTest::mouseMove(widget, somewhere(widget));
        }
    }

    void wheel() {
        QWidget* widget = someVisible<QWidget>(front());
        if (widget == nullptr) {
            return;
        }
        note("wheel over " + nameOf(widget));
        const QPointF at = somewhere(widget);
        QWheelEvent event(at, widget->mapToGlobal(at), {}, {0, chance(0.5) ? 240 : -240},
                          Qt::NoButton, chance(0.3) ? Qt::ControlModifier : Qt::NoModifier,
                          Qt::NoScrollPhase, false);
        QApplication::sendEvent(widget, &event);
    }

    void choose() {
        if (auto* box = someVisible<QComboBox>(front()); box != nullptr && box->count() > 0) {
            const int index = static_cast<int>(below(static_cast<std::size_t>(box->count())));
            note(QString("choose %1 of %2").arg(index).arg(nameOf(box)));
            box->setCurrentIndex(index);
            emit box->activated(index);
        }
    }

    /// A question of any method about the table’s own variables.
    void ask() {
        Session& session = window_.session();
        const auto frame = session.frame();
        if (!session.hasTable() || frame == nullptr || frame->table().variables.empty()) {
            return;
        }
        std::vector<std::string> names;
        for (const Variable& v : frame->table().variables) {
            names.push_back(quotedName(v.name));
        }
        Question q;
        if (session.question() != nullptr && chance(0.7)) {
            q = *session.question();
        } else {
            q.title = "asked on the way";
        }
        if (q.kind != "explain") {
            return;
        }
        q.outcome = q.outcome.empty() || chance(0.2) ? one(names) : q.outcome;
        q.method = one(allEstimators()).method;
        q.settings = {};
        q.settings.variable = one(names);
        if (canTake(q.method, takes::kGroupsWhole)) {
            q.settings.levels = {{one(names)}};
        }
        for (std::size_t k = below(3); k > 0; --k) {
            q.terms.push_back(Term::expression(one(names)));
        }
        if (chance(0.3)) {
            q.fixedEffects = {one(names)};
        }
        if (chance(0.2)) {
            q.endogenous = {Term::expression(one(names))};
            q.instruments = {Term::expression(one(names))};
        }
        if (chance(0.5)) {
            q.errors =
                chance(0.5) ? ErrorSpec{"robust", "HC3", {}} : ErrorSpec::clusteredBy(one(names));
        }
        if (chance(0.2)) {
            q.missing = chance(0.5) ? "imputed" : "weighted";
        }
        note("ask " + QString::fromStdString(methodText(q)) + " of " +
             QString::fromStdString(q.outcome));
        session.putQuestion(q, "ask on the way");
    }

    void resizeOrTurn() {
        static const std::vector<QSize> kSizes = {
            {1024, 680}, {1280, 800}, {1920, 1080}, {1100, 700}, {2560, 1440}};
        const QSize& size = one(kSizes);
        note(QString("resize to %1 × %2").arg(size.width()).arg(size.height()));
        window_.resize(size);
        if (chance(0.3)) {
            useTheme(chance(0.5) ? Theme::Dark : Theme::Paper);
        }
    }

    void undoSome() {
        const auto steps = static_cast<int>(1 + below(6));
        note(QString("undo and redo %1").arg(steps));
        for (int k = 0; k < steps; ++k) {
            window_.session().undo();
        }
        for (int k = 0; k < steps && chance(0.9); ++k) {
            window_.session().redo();
        }
    }

    /// Windows and dialogs beside the one that is walked in are closed.
    void closeOthers() {
        if (QWidget* modal = QApplication::activeModalWidget()) {
            modal->close();
        }
        if (QWidget* popup = QApplication::activePopupWidget(); popup != nullptr && chance(0.2)) {
            popup->close();
        }
        for (QWidget* top : QApplication::topLevelWidgets()) {
            if (auto* other = qobject_cast<MainWindow*>(top);
                other != nullptr && other != &window_) {
                other->close();
                other->deleteLater();
            }
        }
        if (!window_.isVisible()) {
            window_.show();
        }
    }

    /// What a study is but for its trail and what stands on the desk.
    static std::string bodyOf(const Study& study) {
        auto json = nlohmann::ordered_json::parse(studyText(study));
        json.erase("trail");
        json.erase("desk");
        return json.dump();
    }

    /// The study is what its file says, and what undo and redo lead back to.
    void look() {
        window_.settle();
        const Study& now = window_.session().study();
        const std::string text = studyText(now);
        const auto read = readStudyText(text);
        if (!read) {
            find("the study cannot be read back: " + read.error().text());
        } else if (const std::string again = studyText(*read); again != text) {
            const auto at = static_cast<std::size_t>(
                std::mismatch(text.begin(), text.end(), again.begin(), again.end()).first -
                text.begin());
            const std::size_t from = at > 60 ? at - 60 : 0;
            find("the study is another when it is read back: …" + text.substr(from, 160) +
                 "… and …" + again.substr(std::min(from, again.size()), 160) + "…");
        }
        // A step after which nothing is left to be redone; steps back and forth end where they
        // began.
        window_.session().edit(SetTitle{"walked " + std::to_string(stepsDone)}, "title");
        const std::string body = bodyOf(window_.session().study());
        for (int back = 0; back < 8; ++back) {
            window_.session().undo();
        }
        for (int forth = 0; forth < 8; ++forth) {
            window_.session().redo();
        }
        if (bodyOf(window_.session().study()) != body) {
            find("undo and redo lead to another study");
        }
        window_.settle();
    }

    RandomStream random_;
    QTemporaryDir place_;
    MainWindow window_;
};

/// The demo in a folder of its own: nothing outside of it is written.
QString copyOfDemo(const QString& folder) {
    const QDir from(RAPPORTO_SOURCE_DIR "/demo");
    for (const QString& name : from.entryList(QDir::Files)) {
        QFile::copy(from.filePath(name), folder + "/" + name);
    }
    return folder + "/calvessa.rapporto";
}

}  // namespace

int main(int argc, char** argv) {
    const QTemporaryDir home;
    qputenv("QT_QPA_PLATFORM", "offscreen");
    qputenv("RAPPORTO_UNATTENDED", "1");
    for (const char* name :
         {"HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"}) {
        qputenv(name, home.path().toUtf8());
    }
    QDir::setCurrent(home.path());
    for (const int signal : {SIGSEGV, SIGABRT, SIGFPE, SIGALRM, SIGBUS}) {
        std::signal(signal, &report);
    }
    qInstallMessageHandler(&onMessage);
    TimedApplication application(argc, argv);
    applyTheme(application);
    // A file chooser and a menu would wait for somebody; every other menu has an action taken.
    QTimer closer;
    int menus = 0;
    QObject::connect(&closer, &QTimer::timeout, [&menus] {
        if (auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget())) {
            const QList<QAction*> actions = menu->actions();
            if (++menus % 2 == 0 && !actions.isEmpty()) {
                // Not from here: what it opens must be closed by this very timer.
                QTimer::singleShot(0, actions[menus % actions.size()], &QAction::trigger);
            }
            menu->close();
        }
        if (auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget())) {
            dialog->reject();
        }
    });
    closer.start(60);
    const QStringList arguments = QApplication::arguments();
    const double seconds = arguments.size() > 1 ? arguments[1].toDouble() : 60.0;
    unsigned long long seed = arguments.size() > 2 ? arguments[2].toULongLong() : 1;
    const QString study = arguments.size() > 3 ? arguments[3] : copyOfDemo(home.path());
    telling = seconds == 0.0;
    QElapsedTimer timer;
    timer.start();
    int walks = 0;
    do {
        currentSeed = seed++;
        stepsDone = 0;
        Walk walk(currentSeed, study);
        walk.go();
        ++walks;
    } while (static_cast<double>(timer.elapsed()) < 1000.0 * seconds);
    for (const auto& [who, took] : application.longest) {
        std::printf("a turn of %lld ms: %s\n", static_cast<long long>(took), who.c_str());
    }
    std::printf("%d walks, %zu findings\n", walks, findings.size());
    return findings.empty() ? 0 : 1;
}
