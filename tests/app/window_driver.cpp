#include "tests/app/window_driver.h"

namespace rapporto::app::test {

void WindowDriver::open() {
    window_ = std::make_unique<MainWindow>();
    window_->resize(1280, 800);
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
}

void WindowDriver::openDemo() {
    open();
    session().openDemo();
    window_->settle();
    window_->showStage(2);
    window_->settle();
}

const Answer& WindowDriver::answer() {
    held_ = session().answer();
    if (!held_) {
        qFatal("no answer");
    }
    return *held_;
}

void WindowDriver::click(const QString& name) {
    QTest::mouseClick(find<QPushButton>(name), Qt::LeftButton);
    window_->settle();
}

void WindowDriver::take(const QString& words) {
    auto* finder = window_->findChild<Finder*>();
    QVERIFY(finder != nullptr && finder->isVisible());
    auto* line = finder->findChild<QLineEdit*>();
    QTest::keyClicks(line, words);
    QTest::keyClick(line, Qt::Key_Return);
    window_->activateWindow();  // The popup had the focus.
    window_->settle();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
}

void WindowDriver::closeFinder() {
    auto* finder = window_->findChild<Finder*>();
    if (finder != nullptr && finder->isVisible()) {
        QTest::keyClick(finder->findChild<QLineEdit*>(), Qt::Key_Escape);
    }
    window_->settle();
}

void WindowDriver::choose(const QString& name, int index) {
    auto* box = find<QComboBox>(name);
    box->setFocus();
    while (box->currentIndex() != index) {
        QTest::keyClick(box, box->currentIndex() < index ? Qt::Key_Down : Qt::Key_Up);
    }
    emit box->activated(index);
    window_->settle();
    QCOMPARE(box->currentIndex(), index);
}

QPushButton* WindowDriver::card(const QString& beginning) {
    for (auto* button : window_->findChildren<QPushButton*>()) {
        if (button->objectName().startsWith("card:" + beginning) && button->isVisible()) {
            return button;
        }
    }
    return nullptr;
}

QString WindowDriver::readingText() {
    window_->settle();
    QString all;
    for (const QLabel* label : window_->findChild<ReadingColumn*>()->findChildren<QLabel*>()) {
        all += label->text() + "\n";
    }
    return all.replace(QChar(QChar::Nbsp), ' ');  // What keeps a p and its value on one line.
}

void WindowDriver::openCheck(const std::string& id) {
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

}  // namespace rapporto::app::test
