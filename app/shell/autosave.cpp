#include "app/shell/autosave.h"

#include "app/shell/settings.h"

#include <QFileInfo>

namespace rapporto::app {
namespace {

constexpr int kPause = 1500;  // Milliseconds after the last step.

}  // namespace

Autosave::Autosave(Session& session, QObject* parent)
    : QObject(parent), session_(session), on_(settings::store().value("autosave", false).toBool()) {
    wait_.setSingleShot(true);
    wait_.setInterval(kPause);
    connect(&wait_, &QTimer::timeout, this, &Autosave::save);
    connect(&session_, &Session::changed, this, &Autosave::considerSaving);
}

void Autosave::setOn(bool on) {
    on_ = on;
    settings::store().setValue("autosave", on);
    failedAt_.clear();
    considerSaving();
    emit changed();
}

QString Autosave::words() const {
    return on_ ? tr("Studies that have a file save themselves a moment after each step.")
               : tr("Studies are saved when you save them.");
}

bool Autosave::covers() const {
    const QString path = session_.path();
    // What ships with the application is a place to begin, not a place to save to.
    return on_ && !path.isEmpty() && path != failedAt_ && !Session::isDemo(path);
}

void Autosave::considerSaving() {
    if (session_.isSaved()) {
        failedAt_.clear();
        wait_.stop();
    } else if (covers()) {
        wait_.start();
    }
}

void Autosave::save() {
    const QString path = session_.path();
    if (covers() && !session_.isSaved() && !session_.saveStudy(path)) {
        failedAt_ = path;
        emit changed();
    }
}

}  // namespace rapporto::app
