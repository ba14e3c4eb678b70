#pragma once

#include <QAccessible>
#include <QObject>
#include <QRect>

namespace rapporto::app {

/// Something that readers are told of and that is no object of its own: without children and
/// without words that could be changed, until it says otherwise.
class BareAccess : public QAccessibleInterface {
  public:
    [[nodiscard]] QObject* object() const override { return nullptr; }

    [[nodiscard]] QAccessibleInterface* child(int /*index*/) const override { return nullptr; }

    [[nodiscard]] QAccessibleInterface* childAt(int /*x*/, int /*y*/) const override {
        return nullptr;
    }

    [[nodiscard]] int childCount() const override { return 0; }

    [[nodiscard]] int indexOfChild(const QAccessibleInterface* /*child*/) const override {
        return -1;
    }

    void setText(QAccessible::Text /*what*/, const QString& /*words*/) override {}
};

}  // namespace rapporto::app
