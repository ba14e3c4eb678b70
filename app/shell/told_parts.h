#pragma once

#include <QAccessible>
#include <QRect>
#include <QString>

#include <functional>
#include <vector>

class QWidget;

namespace rapporto::app {

/// One thing on a widget that paints its things itself, as those who read it are told.
struct ToldPart {
    QString name;  ///< All it says: “hives: .412, std. error .08, p = .001”.
    QRect place;   ///< In the widget.
    QAccessible::Role role = QAccessible::ListItem;
    bool chosen = false;
    std::function<void()> press = {};  ///< What a click on it does; may be empty.
};

/// A widget that paints a list, a table or a picture of parts. Whoever reads it instead of seeing
/// it finds the parts as children, with their words, places and what can be done.
class ToldWidget {
  public:
    virtual ~ToldWidget() = default;

    [[nodiscard]] virtual std::vector<ToldPart> toldParts() = 0;

    [[nodiscard]] virtual QAccessible::Role toldRole() const { return QAccessible::List; }

  protected:
    ToldWidget() = default;
    ToldWidget(const ToldWidget&) = default;
    ToldWidget& operator=(const ToldWidget&) = default;
};

/// From now on every ToldWidget tells its parts. May be called again.
void tellParts();

/// The chosen part of a widget has changed: whoever listens is told, where the widget has the keys.
void tellChosen(QWidget& widget);

}  // namespace rapporto::app
