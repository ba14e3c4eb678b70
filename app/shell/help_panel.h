#pragma once

#include "core/report/help_topics.h"

#include <QWidget>

class QLabel;
class QLineEdit;
class QListWidget;
class QTextBrowser;

namespace rapporto::app {

/// Help in the reading column’s place: what is selected, the whole guide behind a search line, and
/// the keys.
class HelpPanel : public QWidget {
    Q_OBJECT

  public:
    explicit HelpPanel(QWidget* parent = nullptr);

    /// @param id  of a topic; one that does not exist shows the guide’s first chapter.
    void showTopic(const std::string& id);

    /// The topic that stands there; empty for a text of its own.
    [[nodiscard]] const std::string& topic() const { return topic_; }

    /// Text of its own, with a title above it.
    void showText(const QString& title, const QString& markdown);

    /// Made once, when something is first asked.
    [[nodiscard]] static const Help& help();

    /// Puts the cursor into the search line.
    void seek();

  signals:
    void closed();

  protected:
    void keyPressEvent(QKeyEvent* event) override;

  private:
    void showMatches();

    std::string topic_;
    QLabel* title_;
    QLabel* chapter_;
    QLineEdit* search_;
    QListWidget* matches_;
    QTextBrowser* text_;
};

}  // namespace rapporto::app
