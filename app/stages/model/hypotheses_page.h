#pragma once

#include "app/shell/session.h"

#include <QWidget>

class QLabel;
class QLineEdit;
class QTextBrowser;

namespace rapporto::app {

/// Statements about the effects, typed and tested, and all effects seen together.
class HypothesesPage : public QWidget {
    Q_OBJECT

  public:
    HypothesesPage(Session& session, QWidget* parent);

    void showAnswer(const std::shared_ptr<const Answer>& answer);

    /// What the page says, as plain text; for tests.
    [[nodiscard]] QString shownText() const;

  private:
    void add();
    void remove(std::size_t index);

    Session& session_;
    std::shared_ptr<const Answer> answer_;
    QLineEdit* edit_;
    QLabel* message_;
    QTextBrowser* list_;
};

}  // namespace rapporto::app
