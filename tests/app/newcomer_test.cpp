// From an empty window to a saved report: once by the keyboard alone, once by the mouse alone. And
// what a window does about room, colours and settings.
#include "app/shell/reading_column.h"
#include "app/shell/route.h"
#include "app/shell/settings.h"
#include "app/shell/side_drawer.h"
#include "app/shell/theme.h"
#include "app/stages/model/effect_rows.h"
#include "tests/app/window_driver.h"

#include <QApplication>
#include <QClipboard>
#include <QDialogButtonBox>
#include <QDir>
#include <QFile>
#include <QFileDialog>
#include <QListWidget>
#include <QRegularExpression>
#include <QTemporaryDir>
#include <QTimer>

#include <cmath>

using namespace rapporto;
using namespace rapporto::app;
using namespace rapporto::app::test;

namespace {

/// Cells as a sheet puts them on the clipboard.
QString cells() {
    QString out = "grower\trevenue\thives\tirrigated\tzone\n";
    for (int i = 0; i < 120; ++i) {
        const double hives = 1 + (i * 7) % 9;
        const bool water = i % 2 == 0;
        const double noise = std::sin(i * 12.9898) * 90.0;
        out += QString("T%1\t%2\t%3\t%4\t%5\n")
                   .arg(i + 1)
                   .arg(400.0 + 60.0 * hives + (water ? 150.0 : 0.0) + noise, 0, 'f', 1)
                   .arg(hives)
                   .arg(water ? "yes" : "no")
                   .arg(i % 3 == 0   ? "Valley"
                        : i % 3 == 1 ? "Slope"
                                     : "Terrace");
    }
    return out;
}

}  // namespace

class NewcomerTest : public WindowDriver {
    Q_OBJECT

    QTemporaryDir place_;

    /// A key where the keyboard is: in a popup first.
    void key(int code, Qt::KeyboardModifiers modifiers = {}) {
        QWidget* at = QApplication::activePopupWidget();
        at = at != nullptr && at->focusWidget() != nullptr ? at->focusWidget()
             : QApplication::focusWidget() != nullptr      ? QApplication::focusWidget()
                                                           : window_.get();
        QTest::keyClick(at, static_cast<Qt::Key>(code), modifiers);
        QApplication::processEvents();
    }

    void typed(const QString& words) {
        QWidget* popup = QApplication::activePopupWidget();
        QWidget* at = popup != nullptr ? popup->focusWidget() : QApplication::focusWidget();
        QVERIFY(at != nullptr);
        QTest::keyClicks(at, words);
        QApplication::processEvents();
    }

    /// Tab until the widget of that name has the focus.
    void tabTo(const QString& name) {
        QString seen;
        for (int presses = 0; presses < 150; ++presses) {
            QWidget* at = QApplication::focusWidget();
            if (at != nullptr && at->objectName() == name) {
                return;
            }
            seen += (at == nullptr ? QString("nothing") : at->objectName()) + " ";
            key(Qt::Key_Tab);
        }
        QFAIL(qPrintable("Tab never comes to " + name + ": " + seen.left(2000)));
    }

    void settled() {
        window_->activateWindow();
        window_->settle();
    }

    Finder* finder() { return window_->findChild<Finder*>(); }

    /// Clicks on an entry of the finder that stands open.
    void pick(const QString& name) {
        QVERIFY(finder()->isVisible());
        auto* list = finder()->findChild<QListWidget*>();
        for (int row = 0; row < list->count(); ++row) {
            const QString shown = list->item(row)->text();
            if (shown == name || shown.startsWith(name + "   ")) {
                list->scrollToItem(list->item(row));
                QTest::mouseClick(list->viewport(), Qt::LeftButton, {},
                                  list->visualItemRect(list->item(row)).center());
                settled();
                return;
            }
        }
        QFAIL(qPrintable(name + " is not offered"));
    }

    void clickStage(int stage) {
        auto* route = window_->findChild<Route*>();
        const int x = static_cast<int>((stage + 0.5) * route->width() / 6.0);
        QTest::mouseClick(route, Qt::LeftButton, {}, QPoint(x, 20));
        settled();
        QCOMPARE(window_->stage(), stage);
    }

    /// What the next file dialog is told. It is waited for: a busy machine takes its time to show
    /// one. Where it stands still, a test that waits for it says what it looks like and goes on.
    void answerDialog(const std::function<void(QFileDialog*)>& act) {
        auto* look = new QTimer(this);
        look->setInterval(50);
        connect(look, &QTimer::timeout, this, [look, act, looks = 0]() mutable {
            auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget());
            if (dialog == nullptr) {
                return;
            }
            ++looks;
            if (looks % 40 == 4) {
                act(dialog);
            }
            if (!dialog->isVisible()) {
                look->deleteLater();
            } else if (looks > 400) {
                look->deleteLater();
                auto* line = dialog->findChild<QLineEdit*>();
                auto* box = dialog->findChild<QDialogButtonBox*>();
                qWarning("the file dialog stands: %s, button %d", qPrintable(line->text()),
                         static_cast<int>(box->button(QDialogButtonBox::Save)->isEnabled()));
                dialog->reject();
            }
        });
        look->start();
    }

    QString saved(const QString& name) {
        QFile file(place_.filePath(name));
        return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
    }

    void hasAnswer() {
        QCOMPARE(answer().question.outcome, std::string("revenue"));
        QVERIFY(answer().fit != nullptr);
        QCOMPARE(answer().question.terms.size(), std::size_t{2});
        // The first effect is looked at, not the constant.
        QCOMPARE(window_->findChild<EffectRows*>()->selected(), 1);
    }

  private slots:

    void init() {
        open();
        QApplication::clipboard()->setText(cells());
        QDir::setCurrent(place_.path());
    }

    void cleanup() { window_.reset(); }

    void byTheKeyboardAlone() {
        key(Qt::Key_V, Qt::ControlModifier);
        settled();
        QVERIFY(session().pending().has_value());
        tabTo("import:use");
        key(Qt::Key_Space);
        settled();
        QVERIFY(session().hasTable());
        key(Qt::Key_3, Qt::ControlModifier);
        settled();
        // A letter on the slot is the first of what is sought; the sentence goes on by itself.
        tabTo("slot:outcome");
        typed("r");
        QVERIFY(finder()->isVisible());
        typed("evenue");
        key(Qt::Key_Return);
        QVERIFY(finder()->isVisible());
        typed("hives");
        key(Qt::Key_Return);
        QVERIFY(finder()->isVisible());
        typed("irri");
        key(Qt::Key_Return);
        QVERIFY(finder()->isVisible());
        key(Qt::Key_Return);  // On nothing: that is all.
        QVERIFY(!finder()->isVisible());
        settled();
        hasAnswer();
        // Return opens a slot as a click does.
        tabTo("slot:add");
        key(Qt::Key_Return);
        QVERIFY(finder()->isVisible());
        key(Qt::Key_Escape);
        settled();
        // The checks, one after another.
        key(Qt::Key_4, Qt::ControlModifier);
        settled();
        auto* list = window_->findChild<CheckList*>();
        list->setFocus(Qt::TabFocusReason);
        const QString before = list->accessibleDescription();
        key(Qt::Key_Down);
        QVERIFY(list->accessibleDescription() != before);
        key(Qt::Key_6, Qt::ControlModifier);
        settled();
        tabTo("card:Save as HTML");
        answerDialog([](QFileDialog* dialog) {
            auto* line = dialog->findChild<QLineEdit*>();
            line->setFocus();
            line->clear();
            QTest::keyClicks(line, "keys.html");
            QTest::keyClick(line, Qt::Key_Return);
        });
        key(Qt::Key_Space);
        settled();
        QVERIFY(saved("keys.html").contains("hives"));
    }

    void byTheMouseAlone() {
        click("start:paste");
        QVERIFY(session().pending().has_value());
        click("import:use");
        QVERIFY(session().hasTable());
        clickStage(2);
        click("slot:outcome");
        pick("revenue");
        pick("hives");
        pick("irrigated");
        QTest::mouseClick(window_.get(), Qt::LeftButton, {}, QPoint(600, 700));
        finder()->hide();  // A popup goes at the first click beside it; offscreen there is no grab.
        settled();
        hasAnswer();
        clickStage(3);
        auto* list = window_->findChild<CheckList*>();
        QTest::mouseClick(list, Qt::LeftButton, {}, list->questionOf("vif").center());
        settled();
        QVERIFY(!list->rowOf("vif").isEmpty());
        QTest::mouseClick(list, Qt::LeftButton, {}, list->rowOf("vif").center());
        settled();
        clickStage(5);
        answerDialog([](QFileDialog* dialog) {
            auto* box = dialog->findChild<QDialogButtonBox*>();
            QTest::mouseClick(box->button(QDialogButtonBox::Save), Qt::LeftButton);
        });
        click("card:Save as HTML");
        settled();
        QVERIFY(saved("report.html").contains("hives"));
    }

    void severalAreTickedAndTakenTogether() {
        click("start:paste");
        click("import:use");
        clickStage(2);
        click("slot:outcome");
        take("revenue");
        QVERIFY(finder()->isVisible());
        auto* line = finder()->findChild<QLineEdit*>();
        for (const char* name : {"hives", "irrigated"}) {
            QTest::keyClicks(line, name);
            QTest::keyClick(line, Qt::Key_Return, Qt::ControlModifier);
        }
        line->clear();
        QTest::keyClick(line, Qt::Key_Return);
        settled();
        QCOMPARE(session().question()->terms.size(), std::size_t{2});
        session().undo();  // One step for both.
        settled();
        QCOMPARE(session().question()->terms.size(), std::size_t{0});
    }

    void slotsAreWordsAndLargeEnough() {
        click("start:paste");
        click("import:use");
        clickStage(2);
        click("slot:outcome");
        take("revenue");
        closeFinder();
        for (auto* button : window_->findChildren<QPushButton*>()) {
            if (button->property("slot").toBool() && button->isVisible()) {
                QVERIFY2(button->text() != "+", qPrintable(button->objectName()));
                QVERIFY2(button->width() >= 24 && button->height() >= 24,
                         qPrintable(button->objectName()));
            }
        }
        // A constant alone is a mean, and says so.
        QVERIFY(reads("asks for a mean"));
    }

    void aNarrowWindowHasADrawer() {
        openDemo();
        auto* drawer = window_->findChild<SideDrawer*>();
        auto* reading = window_->findChild<ReadingColumn*>();
        QVERIFY(!drawer->isDrawer() && reading->isVisible());
        window_->resize(1024, 680);
        settled();
        QVERIFY(drawer->isDrawer() && !reading->isVisible());
        click("drawer:handle");
        QVERIFY(reading->isVisible() && reading->width() > 250);
        QVERIFY(reading->mapTo(window_.get(), QPoint(reading->width(), 0)).x() <= 1024);
        QTest::keyClick(window_.get(), Qt::Key_I, Qt::ControlModifier);
        QVERIFY(!reading->isVisible());
        window_->resize(1280, 800);
        settled();
        QVERIFY(!drawer->isDrawer() && reading->isVisible());
        window_->resize(1920, 1080);
        settled();
        QVERIFY(reading->width() > 380 && reading->width() < 560);
        window_->resize(2400, 1300);
        settled();
        QVERIFY(reading->width() >= 560);
        // What can be done stands beside the words, and under them where there is less room.
        const auto firstCard = [&] {
            QPushButton* found = nullptr;
            for (auto* button : reading->findChildren<QPushButton*>()) {
                if (button->property("card").toBool() &&
                    (found == nullptr || button->y() < found->y())) {
                    found = button;
                }
            }
            return found;
        };
        QTRY_VERIFY(firstCard() != nullptr && firstCard()->x() > reading->width() / 2);
        QVERIFY(firstCard()->y() < 200);
        QVERIFY(firstCard()->geometry().right() < reading->viewport()->width());
        window_->resize(1700, 900);
        settled();
        QTRY_VERIFY(firstCard() != nullptr && firstCard()->x() < 40);
        QVERIFY(reading->width() > 380 && reading->width() < 560);
    }

    void coloursFollowTheThemeAndFiguresDoNot() {
        openDemo();
        const QColor paper = colour::kGround;
        settings::setTheme(Theme::Dark);
        QCOMPARE(settings::theme(), Theme::Dark);
        useTheme(settings::theme());
        QVERIFY(isDark() && colour::kGround.lightness() < 80);
        QVERIFY(colour::kInk.lightness() > 180);
        {
            const OnPaper page;
            QCOMPARE(colour::kGround, paper);
        }
        QVERIFY(colour::kGround.lightness() < 80);
        QCOMPARE(themed("color:{ink}"), "color:" + colour::kInk.name());
        QCOMPARE(themed("a value in {ink} braces"), QString("a value in {ink} braces"));
        settled();
        const QImage seen = window_->grab().toImage();
        QVERIFY(seen.pixelColor(640, 300).lightness() < 120);
        settings::setTheme(Theme::Paper);
        useTheme(settings::theme());
        QCOMPARE(colour::kGround, paper);
    }

    void settingsAreFewAndKept() {
        openDemo();
        click("settings:open");
        auto* sheet = window_->findChild<SettingsSheet*>();
        QVERIFY(sheet->isVisible());
        auto* size = sheet->findChild<QComboBox*>("settings:size");
        size->setCurrentIndex(2);
        emit size->activated(2);
        QCOMPARE(settings::size(), 125);
        auto* theme = sheet->findChild<QComboBox*>("settings:theme");
        theme->setCurrentIndex(2);
        emit theme->activated(2);
        QVERIFY(isDark());
        theme->setCurrentIndex(1);
        emit theme->activated(1);
        QVERIFY(!isDark());
        QTest::keyClick(sheet, Qt::Key_Escape);
        QVERIFY(!sheet->isVisible());
        settings::setSize(100);
    }

    /// Numbers are read and typed in one’s own marks; expressions and names are what they are.
    void numbersHaveThePersonsMarks() {
        openDemo();
        window_->showStage(2);
        settled();
        const QString before = readingText();
        const std::string kept = studyText(session().study());
        QVERIFY(QRegularExpression("\\d\\.\\d").match(before).hasMatch());
        click("settings:open");
        auto* sheet = window_->findChild<SettingsSheet*>();
        const auto choose = [sheet](const QString& name, int index) {
            auto* box = sheet->findChild<QComboBox*>(name);
            box->setCurrentIndex(index);
            emit box->activated(index);
        };
        choose("settings:decimal", 1);
        choose("settings:thousands", 1);
        settled();
        QCOMPARE(settings::numberMarks(), (NumberMarks{",", "."}));
        QCOMPARE(numberMarks(), settings::numberMarks());
        QCOMPARE(numbered("1\u202F234.5 (p = .03), q2.5, 12.03.2020"),
                 QString("1.234,5 (p = 0,03), q2.5, 12.03.2020"));
        const QString after = readingText();
        QVERIFY2(!QRegularExpression("\\d\\.\\d{1,2}\\b").match(after).hasMatch(),
                 qPrintable(after));
        QVERIFY(QRegularExpression("\\d,\\d").match(after).hasMatch());
        // Typed so, and in the other way where that leaves no doubt.
        QCOMPARE(typedNumber("1.234,5").value_or(0), 1234.5);
        QCOMPARE(typedNumber(" −0,25 ").value_or(0), -0.25);
        QCOMPARE(typedNumber("1.5").value_or(0), 1.5);
        QCOMPARE(typedNumber("12.500").value_or(0), 12500.0);
        QCOMPARE(typedNumber("12.50").value_or(0), 12.5);
        QCOMPARE(typedNumber("0.125").value_or(0), 0.125);
        QCOMPARE(typedNumber("1.125e-7").value_or(0), 1.125e-7);
        QCOMPARE(typedNumber(numbered("0.125")).value_or(0), 0.125);
        QVERIFY(!typedNumber("1,2,3") && !typedNumber("") && !typedNumber("inf"));
        QCOMPARE(studyText(session().study()), kept);
        QTest::keyClick(sheet, Qt::Key_Escape);
        click("settings:open");
        QCOMPARE(sheet->findChild<QComboBox*>("settings:decimal")->currentIndex(), 1);
        QCOMPARE(sheet->findChild<QComboBox*>("settings:thousands")->currentIndex(), 1);
        choose("settings:decimal", 0);
        QCOMPARE(numberMarks(), (NumberMarks{".", ","}));
        QCOMPARE(typedNumber("1,234.5").value_or(0), 1234.5);
        QCOMPARE(typedNumber("1,5").value_or(0), 1.5);
        choose("settings:thousands", 0);
        settled();
        QCOMPARE(readingText(), before);
        QTest::keyClick(sheet, Qt::Key_Escape);
    }
};

int main(int argc, char** argv) {
    QTemporaryDir home;  // Settings of the test are nobody's.
    qputenv("XDG_CONFIG_HOME", home.path().toUtf8());
    QApplication application(argc, argv);
    QApplication::setAttribute(Qt::AA_DontUseNativeDialogs);
    applyTheme(application);
    NewcomerTest test;
    return QTest::qExec(&test, argc, argv);
}

#include "newcomer_test.moc"
