#pragma once

#include <QFrame>

#include <functional>
#include <vector>

class QLineEdit;
class QListWidget;
class QLabel;

namespace rapporto::app {

/// One thing that can be found.
struct FinderEntry {
    QString label;
    QString detail;
    std::function<void()> act;
};

/// A field over a list that narrows as one types; the chosen entry acts. Typed text that is no
/// entry can be taken as it stands where `typed` is given: it returns why not, or nothing.
class Finder : public QFrame {
    Q_OBJECT

  public:
    explicit Finder(QWidget* parent);

    /// @param typed  checks a text: an empty answer means it can be used, then `useTyped` gets it.
    void open(QPoint at, int width, const QString& prompt, std::vector<FinderEntry> entries,
              std::function<QString(const QString&)> typed = {},
              std::function<void(const QString&)> useTyped = {}, const QString& start = {});

  protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    void narrow();
    void completeLastWord(const QString& sought);
    void choose();

    QLineEdit* field_;
    QListWidget* list_;
    QLabel* hint_;
    std::vector<FinderEntry> entries_;
    std::function<QString(const QString&)> typed_;
    std::function<void(const QString&)> useTyped_;
};

}  // namespace rapporto::app
