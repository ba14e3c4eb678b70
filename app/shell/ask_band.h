#pragma once

#include <QFrame>
#include <QStringList>

#include <functional>
#include <vector>

class QHBoxLayout;
class QLabel;

namespace rapporto::app {

/// One thing that the person may do about what the band tells.
struct Choice {
    QString name;  ///< Of the button, for keyboard and tests.
    QString label;
    std::function<void()> act;
};

/// A band between the route and the work in which a question about the study itself stands until it
/// is answered: what to do with work that is not saved, work that was found, files that others
/// changed. Nothing is hidden behind it and nothing waits for it; Escape takes the last choice,
/// which is the one that changes nothing.
class AskBand : public QFrame {
    Q_OBJECT

  public:
    explicit AskBand(QWidget* parent = nullptr);

    /// Shows a question in place of the one that stands there.
    ///
    /// @param details  lines that “look” unfolds; empty: there is nothing to look at.
    /// @param focus    the choice that Return takes.
    void ask(const QString& words, const QStringList& details, std::vector<Choice> choices,
             std::size_t focus = 0);

    void answer();  ///< The question is settled: the band goes.

    [[nodiscard]] QString words() const;

  protected:
    void keyPressEvent(QKeyEvent* event) override;

  private:
    QLabel* words_;
    QLabel* details_;
    QHBoxLayout* buttons_;
    std::vector<Choice> choices_;
};

}  // namespace rapporto::app
