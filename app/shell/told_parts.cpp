#include "app/shell/told_parts.h"

#include "app/shell/bare_access.h"

#include <QAccessibleWidget>
#include <QWidget>

#include <optional>

namespace rapporto::app {
namespace {

/// A part by its place in the list; what it says is asked for anew every time.
class PartAccess final : public BareAccess, public QAccessibleActionInterface {
  public:
    PartAccess(QWidget& widget, int index) : widget_(widget), index_(index) {}

    void* interface_cast(QAccessible::InterfaceType type) override {
        return type == QAccessible::ActionInterface ? static_cast<QAccessibleActionInterface*>(this)
                                                    : nullptr;
    }

    [[nodiscard]] bool isValid() const override { return part().has_value(); }

    [[nodiscard]] QAccessibleInterface* parent() const override {
        return QAccessible::queryAccessibleInterface(&widget_);
    }

    [[nodiscard]] QString text(QAccessible::Text what) const override {
        const auto own = part();
        return own && what == QAccessible::Name ? own->name : QString();
    }

    [[nodiscard]] QRect rect() const override {
        const auto own = part();
        return own ? QRect(widget_.mapToGlobal(own->place.topLeft()), own->place.size()) : QRect();
    }

    [[nodiscard]] QAccessible::Role role() const override {
        const auto own = part();
        return own ? own->role : QAccessible::NoRole;
    }

    [[nodiscard]] QAccessible::State state() const override {
        const auto own = part();
        QAccessible::State out;
        out.invalid = !own;
        out.selectable = own && own->press;
        out.selected = own && own->chosen;
        out.focusable = out.selectable;
        out.focused = out.selected && widget_.hasFocus();
        out.invisible = !widget_.isVisible();
        return out;
    }

    // What can be done.
    [[nodiscard]] QStringList actionNames() const override {
        const auto own = part();
        return own && own->press ? QStringList{pressAction()} : QStringList();
    }

    void doAction(const QString& name) override {
        if (const auto own = part(); own && own->press && name == pressAction()) {
            own->press();
        }
    }

    [[nodiscard]] QStringList keyBindingsForAction(const QString& /*name*/) const override {
        return {};
    }

  private:
    [[nodiscard]] std::optional<ToldPart> part() const {
        auto* told = dynamic_cast<ToldWidget*>(&widget_);
        const auto parts = told != nullptr ? told->toldParts() : std::vector<ToldPart>();
        const auto at = static_cast<std::size_t>(index_);
        return at < parts.size() ? std::optional(parts[at]) : std::nullopt;
    }

    QWidget& widget_;
    int index_;
};

/// A widget whose children are its parts.
class PartsAccess final : public QAccessibleWidget {
  public:
    explicit PartsAccess(QWidget& widget) : QAccessibleWidget(&widget), widget_(widget) {}

    ~PartsAccess() override {
        for (const QAccessible::Id id : children_) {
            QAccessible::deleteAccessibleInterface(id);
        }
    }

    PartsAccess(const PartsAccess&) = delete;
    PartsAccess& operator=(const PartsAccess&) = delete;

    [[nodiscard]] QAccessible::Role role() const override { return told().toldRole(); }

    /// The parts, then the widgets that stand on it.
    [[nodiscard]] int childCount() const override {
        return parts() + QAccessibleWidget::childCount();
    }

    [[nodiscard]] QAccessibleInterface* child(int index) const override {
        if (index < 0 || index >= parts()) {
            return index < 0 ? nullptr : QAccessibleWidget::child(index - parts());
        }
        for (int next = static_cast<int>(children_.size()); next <= index; ++next) {
            children_.push_back(
                QAccessible::registerAccessibleInterface(new PartAccess(widget_, next)));
        }
        return QAccessible::accessibleInterface(children_[static_cast<std::size_t>(index)]);
    }

    [[nodiscard]] int indexOfChild(const QAccessibleInterface* child) const override {
        for (std::size_t k = 0; k < children_.size(); ++k) {
            if (QAccessible::accessibleInterface(children_[k]) == child) {
                return static_cast<int>(k);
            }
        }
        const int own = QAccessibleWidget::indexOfChild(child);
        return own < 0 ? own : own + parts();
    }

    [[nodiscard]] QAccessibleInterface* childAt(int x, int y) const override {
        const auto parts = told().toldParts();
        const QPoint at = widget_.mapFromGlobal(QPoint(x, y));
        for (std::size_t k = 0; k < parts.size(); ++k) {
            if (parts[k].place.contains(at)) {
                return child(static_cast<int>(k));
            }
        }
        return QAccessibleWidget::childAt(x, y);
    }

    [[nodiscard]] QAccessibleInterface* focusChild() const override {
        const auto parts = told().toldParts();
        for (std::size_t k = 0; widget_.hasFocus() && k < parts.size(); ++k) {
            if (parts[k].chosen) {
                return child(static_cast<int>(k));
            }
        }
        return QAccessibleWidget::focusChild();
    }

  private:
    [[nodiscard]] int parts() const { return static_cast<int>(told().toldParts().size()); }

    [[nodiscard]] ToldWidget& told() const { return dynamic_cast<ToldWidget&>(widget_); }

    QWidget& widget_;
    mutable std::vector<QAccessible::Id> children_;
};

QAccessibleInterface* factory(const QString& /*name*/, QObject* object) {
    auto* widget = qobject_cast<QWidget*>(object);
    return dynamic_cast<ToldWidget*>(widget) != nullptr ? new PartsAccess(*widget) : nullptr;
}

}  // namespace

void tellParts() { QAccessible::installFactory(factory); }

void tellChosen(QWidget& widget) {
    if (!QAccessible::isActive() || !widget.hasFocus()) {
        return;
    }
    auto* told = dynamic_cast<ToldWidget*>(&widget);
    const auto parts = told != nullptr ? told->toldParts() : std::vector<ToldPart>();
    for (std::size_t k = 0; k < parts.size(); ++k) {
        if (parts[k].chosen) {
            QAccessibleEvent event(&widget, QAccessible::Focus);
            event.setChild(static_cast<int>(k));
            QAccessible::updateAccessibility(&event);
            return;
        }
    }
}

}  // namespace rapporto::app
