#pragma once

#include "core/describe/coverage.h"

#include <QWidget>

namespace rapporto::app {

/// Units down, moments across: a filled cell is a row, an ochre one a repeated moment.
class CoverageView : public QWidget {
    Q_OBJECT

  public:
    explicit CoverageView(QWidget* parent = nullptr);

    void showCoverage(const Coverage& coverage);

    [[nodiscard]] const Coverage& coverage() const { return coverage_; }

  protected:
    void paintEvent(QPaintEvent* event) override;

  private:
    Coverage coverage_;
};

}  // namespace rapporto::app
