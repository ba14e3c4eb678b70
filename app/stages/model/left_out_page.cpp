#include "app/stages/model/left_out_page.h"

#include "app/shell/theme.h"
#include "core/base/markup.h"

#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

constexpr int kSmall = 165;  // Beside the large picture, in pixels.

}  // namespace

void StrengthPlot::put(double withTerm, double withOutcome) {
    const auto within = [](double share, double most) {
        return std::clamp(share, 0.001 * most, most);
    };
    chosen_ = {within(withTerm, most_.withTerm), within(withOutcome, most_.withOutcome)};
    emit moved(chosen_.withTerm, chosen_.withOutcome);
}

void StrengthPlot::putAt(QPointF point) {
    const QPointF at = valueAt(point);
    put(at.x(), at.y());
}

void StrengthPlot::mousePressEvent(QMouseEvent* event) {
    const QPointF at = valueAt(event->position());
    held_ = event->button() == Qt::LeftButton && at.x() >= 0.0 && at.x() <= most_.withTerm &&
            at.y() >= 0.0 && at.y() <= most_.withOutcome;
    if (held_) {
        setFocus();
        putAt(event->position());
    } else {
        PlotView::mousePressEvent(event);
    }
}

void StrengthPlot::mouseMoveEvent(QMouseEvent* event) {
    if (held_) {
        putAt(event->position());
    } else {
        PlotView::mouseMoveEvent(event);
    }
}

void StrengthPlot::mouseReleaseEvent(QMouseEvent* event) {
    if (!held_) {
        PlotView::mouseReleaseEvent(event);
    }
    held_ = false;
}

void StrengthPlot::keyPressEvent(QKeyEvent* event) {
    const Strength step{most_.withTerm / 50.0, most_.withOutcome / 50.0};
    switch (event->key()) {
        case Qt::Key_Left:
            put(chosen_.withTerm - step.withTerm, chosen_.withOutcome);
            return;
        case Qt::Key_Right:
            put(chosen_.withTerm + step.withTerm, chosen_.withOutcome);
            return;
        case Qt::Key_Up:
            put(chosen_.withTerm, chosen_.withOutcome + step.withOutcome);
            return;
        case Qt::Key_Down:
            put(chosen_.withTerm, chosen_.withOutcome - step.withOutcome);
            return;
        default:
            PlotView::keyPressEvent(event);
    }
}

LeftOutPage::LeftOutPage(QWidget* parent)
    : QWidget(parent),
      plot_(new StrengthPlot(this)),
      words_(new QLabel(this)),
      stability_(new PlotView(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    plot_->setObjectName("leftOutPicture");
    plot_->setAccessibleName(tr("What a cause left out would do, by its strength"));
    layout->addWidget(plot_, 1);
    words_->setObjectName("leftOutWords");
    words_->setWordWrap(true);
    words_->setTextFormat(Qt::RichText);
    words_->setMinimumHeight(46);  // Two lines: the picture stays where it is while one drags.
    layout->addWidget(words_);
    stability_->setObjectName("stabilityPicture");
    stability_->setAccessibleName(
        tr("How much stronger what is left out would have to be than what is in"));
    stability_->setFixedHeight(kSmall);
    layout->addWidget(stability_);
    connect(plot_, &StrengthPlot::moved, this, [this](double withTerm, double withOutcome) {
        choose({withTerm, withOutcome});
    });
}

void LeftOutPage::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    if (leftOutToDraw(*answer) == nullptr) {
        return;
    }
    answer_ = answer;
    const LeftOut& found = *leftOutToDraw(*answer);
    const std::string of = answer->question.id + "|" + found.of;
    if (of != of_) {
        of_ = of;
        // The equal strength on both sides that takes the effect to zero.
        chosen_ = {found.robustness.value_or(0.1), found.robustness.value_or(0.1)};
    }
    plot_->setMost(leftOutReach(found));
    choose(chosen_);
    plot_->setStale(!fresh);
    const Exhibit stable = stabilityExhibit(*answer);
    stability_->setVisible(!stable.lines.empty());
    stability_->showExhibit(stable);
    stability_->setStale(!fresh);
}

void LeftOutPage::choose(const Strength& chosen) {
    const LeftOut& found = *leftOutToDraw(*answer_);
    chosen_ = chosen;
    plot_->setChosen(chosen);
    plot_->showExhibit(leftOutExhibit(found, answer_->alpha, chosen));
    const QString said = richText(strengthReading(found, chosen, answer_->alpha));
    words_->setText(said);
    plot_->setAccessibleDescription(
        text(withoutMarks(strengthReading(found, chosen, answer_->alpha))));
}

ReportItem LeftOutPage::forReport() const {
    ReportItem figure("figure", {answer_->question.id});
    figure.shows = "left-out";
    return figure;
}

}  // namespace rapporto::app
