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
    void open();

    /// The same with the demo, at its model.
    void openDemo();

    [[nodiscard]] Session& session() { return window_->session(); }

    /// The answer in focus; it is held until the next is asked for.
    [[nodiscard]] const Answer& answer();

    template <class T>
    T* find(const QString& name) {
        T* found = window_->findChild<T*>(name);
        if (found == nullptr) {
            qFatal("no widget %s", qPrintable(name));
        }
        return found;
    }

    void click(const QString& name);

    /// Types into the finder that stands open and takes its first entry.
    void take(const QString& words);

    void closeFinder();

    /// Takes the entry of a list with the keyboard.
    void choose(const QString& name, int index);

    /// A card of the reading column that is to be seen, by how it begins; null without one.
    QPushButton* card(const QString& beginning);

    /// All that the reading column says.
    QString readingText();

    bool reads(const QString& words) { return readingText().contains(words); }

    /// Opens the checks and clicks on one; it must be listed.
    void openCheck(const std::string& id);

  private:
    std::shared_ptr<const Answer> held_;
};

}  // namespace rapporto::app::test
