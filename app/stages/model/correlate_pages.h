#pragma once

#include "app/stages/model/correlation_view.h"
#include "app/stages/model/kind_pages.h"

class QLabel;
class QPushButton;

namespace rapporto::app {

/// The mosaic of a question that correlates, with what it says.
class CorrelatePages : public KindPages {
    Q_OBJECT

  public:
    CorrelatePages(Session& session, QWidget* parent);

    void showAnswer(std::shared_ptr<const Answer> answer, bool fresh) override;
    [[nodiscard]] ReadingContent reading() const override;
    [[nodiscard]] QString state(const Answer& answer) const override;
    [[nodiscard]] QString whenEmpty() const override;

  private:
    void openPair(int a, int b);

    QPushButton* similar_;  ///< Alike variables side by side.
    CorrelationView* view_;
    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
};

}  // namespace rapporto::app
