// Help by the keyboard and the mouse: what is selected, what is sought, the keys.
#include "app/shell/theme.h"
#include "tests/app/window_driver.h"

#include <QAction>
#include <QApplication>
#include <QListWidget>
#include <QTemporaryDir>
#include <QTextBrowser>

using namespace rapporto;
using namespace rapporto::app;

class HelpWindowTest : public test::WindowDriver {
    Q_OBJECT

  private slots:

    void init() { openDemo(); }

    void explainsTheMethodAndTheCheck();
    void findsByTyping();
    void isFoundByFindAnything();
    void listsEveryKey();
    void opensWithoutATable();

  private:
    void press(Qt::Key key, Qt::KeyboardModifiers with = Qt::NoModifier) {
        QTest::keyClick(window_.get(), key, with);
        window_->settle();
    }

    QString title() { return find<QLabel>("help:title")->text(); }

    QString words() { return find<QTextBrowser>("help:text")->toPlainText(); }

    bool isOpen() { return find<QTextBrowser>("help:text")->isVisible(); }
};

void HelpWindowTest::explainsTheMethodAndTheCheck() {
    QVERIFY(!isOpen());
    press(Qt::Key_F1);
    QVERIFY(isOpen());
    QCOMPARE(title(), QString("least squares"));
    QVERIFY(words().contains("How it reads"));
    // It goes on to what is selected next.
    openCheck("white");
    QVERIFY(isOpen());
    QCOMPARE(title(), QString("White"));
    QVERIFY(words().contains("White 1980"));
    window_->showStage(0);
    window_->settle();
    QCOMPARE(title(), QString("The pages of Data"));
    press(Qt::Key_F1);
    QVERIFY(!isOpen());
    press(Qt::Key_F1);
    click("help:close");
    QVERIFY(!isOpen());
    QVERIFY(window_->findChild<ReadingColumn*>()->isVisible());
}

void HelpWindowTest::findsByTyping() {
    press(Qt::Key_F1);
    auto* search = find<QLineEdit>("help:search");
    QVERIFY(search->hasFocus());
    QTest::keyClicks(search, "breusch");
    auto* matches = find<QListWidget>("help:matches");
    QVERIFY(matches->isVisible());
    QVERIFY(matches->count() >= 2);
    QTest::keyClick(search, Qt::Key_Return);
    QVERIFY2(title().contains("Breusch"), qPrintable(title()));
    // What was chosen stays when something else is selected.
    const QString chosen = title();
    openCheck("white");
    QCOMPARE(title(), chosen);
    search->setFocus();
    // More than are listed: said, and no topic to open.
    search->clear();
    QTest::keyClicks(search, "e");
    QVERIFY(matches->item(matches->count() - 1)->text().contains("more: add a word"));
    QVERIFY(matches->item(matches->count() - 1)->flags() == Qt::NoItemFlags);
    search->clear();
    QTest::keyClicks(search, "qwertzuiop");
    QCOMPARE(matches->count(), 1);
    QVERIFY(matches->item(0)->text().contains("does not know"));
    QTest::keyClick(search, Qt::Key_Return);
    QCOMPARE(title(), chosen);
    QTest::keyClick(search, Qt::Key_Escape);
    QVERIFY(!matches->isVisible() && isOpen());
    QTest::keyClick(search, Qt::Key_Escape);
    QVERIFY(!isOpen());
}

void HelpWindowTest::isFoundByFindAnything() {
    press(Qt::Key_K, Qt::ControlModifier);
    take("Saving by itself");
    QVERIFY(isOpen());
    QCOMPARE(title(), QString("Saving by itself"));
}

void HelpWindowTest::listsEveryKey() {
    press(Qt::Key_Question, Qt::ControlModifier);
    QVERIFY(isOpen());
    QCOMPARE(title(), QString("Keys"));
    for (const QAction* action : window_->actions()) {
        if (!action->shortcut().isEmpty()) {
            QVERIFY2(words().contains(action->shortcut().toString()), qPrintable(action->text()));
            QVERIFY2(words().contains(action->text()), qPrintable(action->text()));
        }
    }
    QVERIFY(words().contains("On a chip"));
}

void HelpWindowTest::opensWithoutATable() {
    open();
    press(Qt::Key_F1);
    QVERIFY(isOpen());
    QCOMPARE(title(), QString("The pages of Data"));
    press(Qt::Key_F1);
    QVERIFY(!isOpen());
}

int main(int argc, char** argv) {
    QTemporaryDir home;  // Settings of the test are nobody's.
    qputenv("XDG_CONFIG_HOME", home.path().toUtf8());
    QApplication application(argc, argv);
    applyTheme(application);
    HelpWindowTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "help_window_test.moc"
