#pragma once

#include "core/data/frame.h"

#include <QLineEdit>

class QCompleter;

namespace rapporto::app {

/// A line for an expression that completes the word being typed: variables first, then functions
/// with what they do.
class ExpressionEdit : public QLineEdit {
    Q_OBJECT

  public:
    explicit ExpressionEdit(QWidget* parent = nullptr);

    /// Whose names are offered; may be null.
    void setFrame(const std::shared_ptr<const Frame>& frame);

    /// What is offered for the word at the cursor.
    [[nodiscard]] QStringList offered() const;

  protected:
    bool event(QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    [[nodiscard]] QString word() const;
    void offer();
    void take(const QString& completion);

    QCompleter* completer_;
    std::shared_ptr<const Frame> frame_;
};

}  // namespace rapporto::app
