#pragma once

#include <QFrame>

#include <functional>
#include <vector>

class QLineEdit;
class QListWidget;
class QModelIndex;
class QLabel;

namespace rapporto::app {

/// One thing that can be found.
struct FinderEntry {
    QString label;
    QString detail;
    std::function<void()> act;
    std::vector<double> bars = {};  ///< A tiny histogram, the tallest 1.
    QString aside = {};       ///< Soft, at the right: “31 missing”, “in the question”.
    QString takes = {};       ///< What is taken when it is ticked among several.
    bool onlySought = false;  ///< Shown when something is typed that fits it.
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

    /// For things of which several are taken in a row: ticked ones are taken together, and Enter on
    /// nothing ends. To be called right after open().
    void takeSeveral(std::function<void(const QStringList&)> takeAll);

    /// What is chosen is acted on only while this holds: entries speak of what stood there when it
    /// was opened. To be called right after open().
    void actOnlyWhile(std::function<bool()> holds) { holds_ = std::move(holds); }

    /// Puts what was typed before it was open.
    void type(const QString& typed);

  protected:
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    void narrow();
    void completeLastWord(const QString& sought);
    void choose();
    void tick(int row);
    void pressed(const QModelIndex& index);

    std::function<bool()> holds_;
    QLineEdit* field_;
    QListWidget* list_;
    QLabel* hint_;
    std::vector<FinderEntry> entries_;
    std::function<QString(const QString&)> typed_;
    std::function<void(const QString&)> useTyped_;
    std::function<void(const QStringList&)> takeAll_;
    std::vector<int> ticked_;  ///< Entries in the order they were ticked.
};

}  // namespace rapporto::app
