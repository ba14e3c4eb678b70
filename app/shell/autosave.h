#pragma once

#include "app/shell/session.h"

#include <QTimer>

namespace rapporto::app {

/// Saves a study that has a file a moment after each step, where a person chose so. The journal
/// keeps steps either way; this keeps the file itself. After a save that failed, or that found
/// another study in its place, it waits until the study was saved by hand.
class Autosave : public QObject {
    Q_OBJECT

  public:
    Autosave(Session& session, QObject* parent);

    [[nodiscard]] bool isOn() const { return on_; }

    /// What it does now, said to a person.
    [[nodiscard]] QString words() const;

    /// Kept for the next start.
    void setOn(bool on);

    /// It will save this study.
    [[nodiscard]] bool covers() const;

  signals:
    void changed();

  private:
    void considerSaving();
    void save();

    Session& session_;
    QTimer wait_;
    bool on_ = false;
    QString failedAt_;  ///< Path that is not tried again until it was saved by hand.
};

}  // namespace rapporto::app
