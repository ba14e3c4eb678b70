#pragma once

#include "app/shell/finder.h"
#include "app/shell/main_window.h"
#include "app/shell/reading_column.h"
#include "app/stages/checks/check_list.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTest>

#include <memory>

namespace rapporto::app::test {

/// The real window as a person drives it: widgets by name, the mouse and the keyboard.
class WindowDriver : public QObject {
  protected:
    std::unique_ptr<MainWindow> window_;

    /// A window of the size that screens are looked at.
    void open() {
        window_ = std::make_unique<MainWindow>();
        window_->resize(1280, 800);
        window_->show();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    }

    /// The same with the demo, at its model.
    void openDemo() {
        open();
        session().openDemo();
        window_->settle();
        window_->showStage(2);
        window_->settle();
    }

    [[nodiscard]] Session& session() { return window_->session(); }

    /// The answer in focus; it is held until the next is asked for.
    [[nodiscard]] const Answer& answer() {
        held_ = session().answer();
        if (!held_) {
            qFatal("no answer");
        }
        return *held_;
    }

    template <class T>
    T* find(const QString& name) {
        T* found = window_->findChild<T*>(name);
        if (found == nullptr) {
            qFatal("no widget %s", qPrintable(name));
        }
        return found;
    }

    void click(const QString& name) {
        QTest::mouseClick(find<QPushButton>(name), Qt::LeftButton);
        window_->settle();
    }

    /// Types into the finder that stands open and takes its first entry.
    void take(const QString& words) {
        auto* finder = window_->findChild<Finder*>();
        QVERIFY(finder != nullptr && finder->isVisible());
        auto* line = finder->findChild<QLineEdit*>();
        QTest::keyClicks(line, words);
        QTest::keyClick(line, Qt::Key_Return);
        window_->activateWindow();  // The popup had the focus.
        window_->settle();
        QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    }

    void closeFinder() {
        auto* finder = window_->findChild<Finder*>();
        if (finder != nullptr && finder->isVisible()) {
            QTest::keyClick(finder->findChild<QLineEdit*>(), Qt::Key_Escape);
        }
        window_->settle();
    }

    /// Takes the entry of a list with the keyboard.
    void choose(const QString& name, int index) {
        auto* box = find<QComboBox>(name);
        box->setFocus();
        while (box->currentIndex() != index) {
            QTest::keyClick(box, box->currentIndex() < index ? Qt::Key_Down : Qt::Key_Up);
        }
        emit box->activated(index);
        window_->settle();
        QCOMPARE(box->currentIndex(), index);
    }

    /// All that the reading column says.
    QString readingText() {
        window_->settle();
        QString all;
        for (const QLabel* label : window_->findChild<ReadingColumn*>()->findChildren<QLabel*>()) {
            all += label->text() + "\n";
        }
        return all;
    }

    bool reads(const QString& words) { return readingText().contains(words); }

    /// Opens the checks and clicks on one; it must be listed.
    void openCheck(const std::string& id) {
        window_->showStage(3);
        window_->settle();
        auto* list = window_->findChild<CheckList*>();
        if (list->rowOf(id).isEmpty() && !list->questionOf(id).isEmpty()) {
            QTest::mouseClick(list, Qt::LeftButton, {}, list->questionOf(id).center());
        }
        QVERIFY2(!list->rowOf(id).isEmpty(), id.c_str());
        QTest::mouseClick(list, Qt::LeftButton, {}, list->rowOf(id).center());
        window_->settle();
    }

  private:
    std::shared_ptr<const Answer> held_;
};

}  // namespace rapporto::app::test
