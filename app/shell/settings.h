#pragma once

#include "app/shell/theme.h"

#include <QFrame>
#include <QSettings>

class QComboBox;

namespace rapporto::app {

class Autosave;

/// What a person has chosen once for all studies, kept in the user’s configuration folder.
namespace settings {

/// Where they are kept.
[[nodiscard]] QSettings store();

[[nodiscard]] Theme theme();
void setTheme(Theme theme);

/// Per cent, 100 to 200; it holds from the next start on.
[[nodiscard]] int size();
void setSize(int percent);

/// The marks that numbers are read and typed with.
[[nodiscard]] NumberMarks numberMarks();
void setNumberMarks(const NumberMarks& marks);

/// To be called before there is an application: a size is the whole window’s.
void applySize();

}  // namespace settings

/// The settings, few and in one place: a small sheet over the window.
class SettingsSheet : public QFrame {
    Q_OBJECT

  public:
    SettingsSheet(Autosave* autosave, QWidget* parent);

    /// Below a widget, aligned with its right edge.
    void openUnder(const QWidget* widget);

  signals:
    void themeChanged();
    void marksChanged();
    void told(const QString& what);

  protected:
    void keyPressEvent(QKeyEvent* event) override;

  private:
    Autosave* autosave_;
    QComboBox* theme_;
    QComboBox* size_;
    QComboBox* decimal_;
    QComboBox* thousands_;
    QComboBox* saving_;

    /// Keeps what the two lists of marks say, and shows numbers so.
    void takeMarks();
    void showMarks(const NumberMarks& marks);
};

}  // namespace rapporto::app
