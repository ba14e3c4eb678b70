#pragma once

#include "core/describe/preview.h"

#include <QWidget>

namespace rapporto::app {

/// A derived variable before it is taken: the shape before and after, and ten rows.
class PreviewView : public QWidget {
    Q_OBJECT

  public:
    explicit PreviewView(QWidget* parent = nullptr);

    void showPreview(const DerivedPreview& preview);

    [[nodiscard]] const DerivedPreview& preview() const { return preview_; }

  protected:
    void paintEvent(QPaintEvent* event) override;

  private:
    void drawHistogram(QPainter& painter, const QRectF& area, const Histogram& bins,
                       const QString& title, const QColor& colour) const;
    void drawLevels(QPainter& painter, const QRectF& area) const;
    void drawRows(QPainter& painter, const QRectF& area) const;

    DerivedPreview preview_;
};

}  // namespace rapporto::app
