#pragma once

#include <QLayout>

namespace rapporto::app {

/// Lays children out like words: left to right, wrapping.
class FlowLayout : public QLayout {
  public:
    explicit FlowLayout(int gap = 7) : gap_(gap) {}

    ~FlowLayout() override;

    void addItem(QLayoutItem* item) override { items_.append(item); }

    [[nodiscard]] int count() const override { return static_cast<int>(items_.size()); }

    [[nodiscard]] QLayoutItem* itemAt(int index) const override { return items_.value(index); }

    QLayoutItem* takeAt(int index) override {
        return index >= 0 && index < items_.size() ? items_.takeAt(index) : nullptr;
    }

    [[nodiscard]] Qt::Orientations expandingDirections() const override { return {}; }

    [[nodiscard]] bool hasHeightForWidth() const override { return true; }

    [[nodiscard]] int heightForWidth(int width) const override {
        return place({0, 0, width, 0}, false);
    }

    void setGeometry(const QRect& rect) override;

    [[nodiscard]] QSize sizeHint() const override { return minimumSize(); }

    [[nodiscard]] QSize minimumSize() const override;

  private:
    int place(const QRect& rect, bool apply) const;

    QList<QLayoutItem*> items_;
    int gap_;
};

}  // namespace rapporto::app
