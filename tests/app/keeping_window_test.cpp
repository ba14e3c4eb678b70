// Nothing is lost and nothing is thrown away unasked: the real window, its journal, its questions.
#include "app/shell/ask_band.h"
#include "app/shell/theme.h"
#include "core/base/hash.h"
#include "core/study/differences.h"
#include "tests/app/window_driver.h"

#include <sys/stat.h>

#include <QAction>
#include <QApplication>
#include <QClipboard>
#include <QDir>
#include <QElapsedTimer>
#include <QFile>
#include <QLabel>
#include <QSettings>
#include <QSignalSpy>
#include <QTemporaryDir>
#include <QTest>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

class KeepingWindowTest : public WindowDriver {
    Q_OBJECT

    std::unique_ptr<QTemporaryDir> place_;

    [[nodiscard]] QString at(const QString& name) const { return place_->filePath(name); }

    [[nodiscard]] QString journals() const { return at("state/journals"); }

    static void write(const QString& path, const QByteArray& text) {
        QFile file(path);
        QVERIFY(file.open(QIODevice::WriteOnly));
        QVERIFY(file.write(text) == text.size());
    }

    static QByteArray read(const QString& path) {
        QFile file(path);
        return file.open(QIODevice::ReadOnly) ? file.readAll() : QByteArray();
    }

    void openKept() {
        window_ = std::make_unique<MainWindow>(nullptr, journals());
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    }

    /// A study with its table, and a window on it.
    void openStudy(const QString& name = "s.rapporto") {
        if (!QFile::exists(at("t.csv"))) {
            write(at("t.csv"), "y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n7,6\n");
        }
        write(at(name), R"({"format":"rapporto-study","version":1,"title":"hives",
            "source":{"kind":"table","file":"t.csv"},
            "questions":[{"id":"q1","kind":"explain","title":"main","outcome":"y","terms":["x"]}]})");
        openKept();
        window_->openPath(at(name));
        window_->settle();
    }

    void change(const QString& title = "changed") {
        QVERIFY(session().edit(SetTitle{title.toStdString()}, "name it " + title));
        window_->settle();
    }

    [[nodiscard]] QString asked() { return find<AskBand>("askBand")->words(); }

    /// Clicks a choice of the band; what it does runs in the next turn.
    void choose(const QString& name) {
        QTest::mouseClick(find<QPushButton>("ask:" + name), Qt::LeftButton);
        QApplication::processEvents();
        if (window_->isVisible()) {
            window_->settle();
        }
    }

    [[nodiscard]] std::vector<LeftWork> left() const {
        return workLeftIn(journals().toStdString());
    }

    /// The window is gone as after a kill: nothing of it is asked or dropped.
    void lose() { window_.reset(); }

  private slots:

    void init() {
        place_ = std::make_unique<QTemporaryDir>();
        // What a person chose on this machine is not these tests'.
        QSettings::setPath(QSettings::IniFormat, QSettings::UserScope, place_->path());
        qunsetenv("RAPPORTO_UNATTENDED");
    }

    void cleanup() {
        window_.reset();
        qputenv("RAPPORTO_UNATTENDED", "1");
    }

    void offersWhatWasNotSaved() {
        openStudy();
        change("one");
        change("two");
        lose();
        QCOMPARE(left().size(), std::size_t{1});
        openKept();
        window_->offerLeftWork();
        QVERIFY2(asked().contains("s.rapporto") && asked().contains("2 steps were"),
                 qPrintable(asked()));
        click("ask:look");
        QVERIFY(find<QLabel>("askBand:details")->text().contains("name it two"));
        choose("takeUp");
        QCOMPARE(session().study().title, std::string("two"));
        QVERIFY(!session().isSaved() && session().isWorthKeeping());
        QVERIFY(session().answer() && session().answer()->fit);
        session().undo();
        QCOMPARE(session().study().title, std::string("one"));
        session().undo();
        QCOMPARE(session().study().title, std::string("hives"));
        session().redo();
        session().redo();
        // Lost once more while it is taken up: it is there still.
        change("three");
        lose();
        QCOMPARE(left().size(), std::size_t{1});
        QCOMPARE(left()[0].steps.back().study.title, std::string("three"));
        openKept();
        window_->offerLeftWork();
        choose("takeUp");
        QVERIFY(session().saveStudy(at("s.rapporto")));
        QVERIFY(read(at("s.rapporto")).contains("three"));
        lose();
        QVERIFY(left().empty());
    }

    void keepsRowsThatNoFileHolds() {
        openKept();
        QApplication::clipboard()->setText("a\tb\n1\t2\n3\t5\n4\t4\n");
        QTest::keyClick(window_.get(), Qt::Key_V, Qt::ControlModifier);
        window_->settle();
        click("import:use");
        window_->settle();
        QVERIFY(session().isWorthKeeping());
        QVERIFY(session().edit(SetTitle{"pasted"}, "name it"));
        lose();
        openKept();
        window_->offerLeftWork();
        QVERIFY(asked().contains("without a name"));
        choose("takeUp");
        QCOMPARE(session().frame()->rows(), std::size_t{3});
        // A first save that fails takes nothing with it.
        QDir().mkpath(at("folder.rapporto"));
        QVERIFY(!session().saveStudy(at("folder.rapporto")));
        QVERIFY(!QFile::exists(at("folder_data.csv")));
        QVERIFY(session().saveStudy(at("p.rapporto")));
        QVERIFY(read(at("p_data.csv")).contains("3\t5"));
        QVERIFY(read(at("p.rapporto")).contains("p_data.csv"));
        QVERIFY(!session().isWorthKeeping());
    }

    void leavesWhatIsLeft() {
        openStudy();
        change();
        lose();
        openKept();
        window_->offerLeftWork();
        choose("leave");
        QVERIFY(asked().isEmpty() && left().empty());
        QCOMPARE(QDir(journals()).entryList({"*.aside"}).size(), 1);
    }

    void saysThatTheFileHasChangedMeanwhile() {
        openStudy();
        change();
        lose();
        QByteArray theirs = read(at("s.rapporto"));
        write(at("s.rapporto"), theirs.replace("hives", "theirs"));
        openKept();
        window_->offerLeftWork();
        QVERIFY2(asked().contains("has changed since"), qPrintable(asked()));
        choose("takeUp");
        QCOMPARE(session().study().title, std::string("changed"));
        // And it is not written over unasked.
        QVERIFY(!session().saveStudy(at("s.rapporto")));
        QVERIFY(read(at("s.rapporto")).contains("theirs"));
    }

    void asksBeforeItOverwritesOthers() {
        openStudy();
        change("mine");
        QByteArray theirs = read(at("s.rapporto"));
        write(at("s.rapporto"), theirs.replace("hives", "theirs"));
        QTest::keyClick(window_.get(), Qt::Key_S, Qt::ControlModifier);
        window_->settle();
        QVERIFY2(asked().contains("changed by somebody else"), qPrintable(asked()));
        QVERIFY(read(at("s.rapporto")).contains("theirs"));
        choose("beside");
        QVERIFY(read(at("s (2).rapporto")).contains("mine"));
        QCOMPARE(session().path(), at("s (2).rapporto"));

        lose();
        openStudy();
        change("mine");
        write(at("s.rapporto"), read(at("s.rapporto")).replace("hives", "theirs"));
        QVERIFY(!session().saveStudy(at("s.rapporto")));
        choose("theirs");
        QCOMPARE(session().study().title, std::string("theirs"));
        // Mine is out of the way and not gone.
        QCOMPARE(QDir(journals()).entryList({"*.aside"}).size(), 1);
        change("mine again");
        write(at("s.rapporto"), read(at("s.rapporto")).replace("theirs", "yours"));
        QVERIFY(!session().saveStudy(at("s.rapporto")));
        choose("mine");
        QVERIFY(read(at("s.rapporto")).contains("mine again"));
        QVERIFY(session().isSaved());
    }

    void asksBeforeItCloses() {
        openStudy();
        QVERIFY(window_->close());  // Nothing to ask about.
        openStudy();
        change();
        QVERIFY(!window_->close());
        QVERIFY(window_->isVisible() && asked().contains("not saved"));
        choose("stay");
        QVERIFY(window_->isVisible() && asked().isEmpty());
        // A save that fails keeps the window.
        QFile::remove(at("s.rapporto"));
        QDir().mkpath(at("s.rapporto"));
        QVERIFY(!window_->close());
        choose("save");
        QVERIFY(window_->isVisible());
        QVERIFY(session().isWorthKeeping());
        QDir().rmdir(at("s.rapporto"));
        QVERIFY(!window_->close());
        choose("save");
        QVERIFY(!window_->isVisible());
        QVERIFY(read(at("s.rapporto")).contains("changed"));
    }

    void letsGoWhenTold() {
        openStudy();
        const QByteArray before = read(at("s.rapporto"));
        change();
        QVERIFY(!window_->close());
        choose("letGo");
        QVERIFY(!window_->isVisible());
        QCOMPARE(read(at("s.rapporto")), before);
        lose();
        QVERIFY(left().empty());
    }

    void asksOnceForATableThatWasWorkedOn() {
        write(at("u.csv"), "a,b\n1,2\n3,5\n4,4\n");
        openKept();
        window_->openPath(at("u.csv"));
        window_->settle();
        click("import:use");
        window_->settle();
        QVERIFY(!session().isWorthKeeping());  // The file has all there is.
        QVERIFY(session().edit(PutDerived{{"c", "a + b", ""}}, "derive c"));
        QVERIFY(!window_->close());
        choose("letGo");
        QVERIFY(!window_->isVisible());
    }

    void asksBeforeAnotherStudyTakesItsPlace() {
        openStudy("other.rapporto");
        lose();
        openStudy();
        change("worth it");
        window_->openPath(at("other.rapporto"));
        QVERIFY2(asked().contains("other.rapporto"), qPrintable(asked()));
        QCOMPARE(session().study().title, std::string("worth it"));
        QTest::keyClick(find<QPushButton>("ask:stay"), Qt::Key_Escape);
        QApplication::processEvents();
        QCOMPARE(session().study().title, std::string("worth it"));
        window_->openPath(at("other.rapporto"));
        choose("elsewhere");
        MainWindow* further = nullptr;
        for (QWidget* one : QApplication::topLevelWidgets()) {
            auto* window = qobject_cast<MainWindow*>(one);
            further = window != nullptr && window != window_.get() ? window : further;
        }
        QVERIFY(further != nullptr);
        further->settle();
        QCOMPARE(further->session().path(), at("other.rapporto"));
        QCOMPARE(session().study().title, std::string("worth it"));
        delete further;
        window_->openPath(at("t.csv"));
        choose("save");
        QVERIFY(read(at("s.rapporto")).contains("worth it"));
        QVERIFY(session().pending());
    }

    void tellsOfTheOtherWindow() {
        openStudy();
        auto other = std::make_unique<MainWindow>(nullptr, journals());
        other->openPath(at("s.rapporto"));
        QVERIFY(other->findChild<AskBand*>("askBand")->words().contains("open in another window"));
        other.reset();
        lose();
        QVERIFY(QDir(place_->path()).entryList({".*.lock"}, QDir::Files | QDir::Hidden).isEmpty());
    }

    void asksBeforeItReadsElsewhere() {
        QDir().mkpath(at("inner"));
        write(at("t.csv"), "y,x\n1,1\n3,2\n2,3\n5,4\n4,5\n7,6\n");
        write(at("inner/s.rapporto"), R"({"format":"rapporto-study","version":1,"title":"stranger",
            "source":{"kind":"table","file":"../t.csv"},"questions":[]})");
        openKept();
        window_->openPath(at("inner/s.rapporto"));
        window_->settle();
        QVERIFY(!session().hasTable());
        QVERIFY2(asked().contains("../t.csv"), qPrintable(asked()));
        // To refuse and to save is not to allow.
        choose("refuse");
        QVERIFY(session().saveStudy(at("inner/s.rapporto")));
        lose();
        openKept();
        window_->openPath(at("inner/s.rapporto"));
        window_->settle();
        QVERIFY(!session().hasTable() && asked().contains("../t.csv"));
        choose("allow");
        QVERIFY(session().hasTable());
        lose();
        openKept();
        window_->openPath(at("inner/s.rapporto"));
        window_->settle();
        QVERIFY(session().hasTable() && asked().isEmpty());
    }

    void changesAnExpressionAfterItsLabelWasUndone() {
        openStudy();
        QVERIFY(session().edit(PutDerived{{"z", "ln(x)", "log of x"}}, "derive z"));
        window_->showStage(0);
        window_->settle();
        session().setVariable("z");
        QVERIFY(session().edit(PutDerived{{"z", "ln(x)", "another label"}}, "label z"));
        window_->settle();
        QTest::keyClick(window_.get(), Qt::Key_Z, Qt::ControlModifier);
        window_->settle();
        auto* line = find<QLineEdit>("field:derived");
        line->selectAll();
        QTest::keyClicks(line, "ln(x + 1)");
        QTest::keyClick(line, Qt::Key_Return);
        window_->settle();
        QCOMPARE(session().study().derived[0].expression, std::string("ln(x + 1)"));
        QCOMPARE(session().study().derived[0].label, std::string("log of x"));
    }

    void readsATableWhileAStudyLoads() {
        openStudy();
        session().openStudy(at("s.rapporto"));
        session().beginImport(at("t.csv"));
        session().cancelImport();
        window_->settle();
        QVERIFY(session().hasTable() && !session().isLoading());
        QVERIFY(session().question() != nullptr);
    }

    void closesWhileItComputes() {
        openStudy();
        Question question = *session().question();
        question.errors.kind = "bootstrap";
        question.errors.draws = 5000000;
        QVERIFY(session().putQuestion(question, "draw"));
        QTest::qWait(200);
        window_->session().letGo();
        QElapsedTimer timer;
        timer.start();
        window_.reset();
        // It drew all of it anew before.
        QVERIFY2(timer.elapsed() < 3000, qPrintable(QString::number(timer.elapsed())));
    }

    /// By choice the file itself follows the work; what another wrote is never overwritten so.
    void aStudySavesItselfWhereItIsLetTo() {
        openStudy();
        const auto act = [&](const QString& words) {
            for (QAction* action : window_->actions()) {
                if (action->text().startsWith(words)) {
                    action->trigger();
                    return;
                }
            }
            QFAIL("no such action");
        };
        const auto saysOnDisk = [&](const char* words) {
            return read(at("s.rapporto")).contains(words);
        };
        QVERIFY(session().edit(SetTitle{"first"}, "call it first"));
        QTest::qWait(2200);
        QVERIFY(!saysOnDisk("first"));  // Nobody asked for it.
        act("Let studies save themselves");
        QTRY_VERIFY_WITH_TIMEOUT(saysOnDisk("first"), 8000);
        QVERIFY(session().edit(SetTitle{"second"}, "call it second"));
        QTRY_VERIFY_WITH_TIMEOUT(saysOnDisk("second"), 8000);
        QVERIFY(session().isSaved());
        // Somebody else saves there: asked once, not overwritten, not asked again and again.
        QByteArray other = read(at("s.rapporto"));
        other.replace("second", "theirs");
        write(at("s.rapporto"), other);
        QSignalSpy conflicts(&session(), &Session::conflicted);
        QVERIFY(session().edit(SetTitle{"third"}, "call it third"));
        QTRY_COMPARE_WITH_TIMEOUT(conflicts.count(), 1, 8000);
        QVERIFY(session().edit(SetTitle{"fourth"}, "call it fourth"));
        QTest::qWait(2200);
        QCOMPARE(conflicts.count(), 1);
        QVERIFY(saysOnDisk("theirs"));
        // Saved by hand over it, it goes on.
        QVERIFY(session().saveStudy(at("s.rapporto"), true));
        QVERIFY(session().edit(SetTitle{"fifth"}, "call it fifth"));
        QTRY_VERIFY_WITH_TIMEOUT(saysOnDisk("fifth"), 8000);
        act("Let studies save themselves");  // And no more.
        QVERIFY(session().edit(SetTitle{"sixth"}, "call it sixth"));
        QTest::qWait(2200);
        QVERIFY(!saysOnDisk("sixth"));
        // The demo is a place to begin, not one to save to.
        QVERIFY(Session::isDemo(RAPPORTO_SOURCE_DIR "/demo/calvessa.rapporto"));
        QVERIFY(!Session::isDemo(at("s.rapporto")));
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    applyTheme(application);
    KeepingWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "keeping_window_test.moc"
