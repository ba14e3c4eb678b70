#include "app/stages/model/event_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/event_picture.h"

#include <QLabel>
#include <QVBoxLayout>

namespace rapporto::app {

EventPage::EventPage(QWidget* parent)
    : QWidget(parent), picture_(new PlotView(this)), cohorts_(new QLabel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->addWidget(picture_, 1);
    picture_->setObjectName("eventPicture");
    cohorts_->setTextFormat(Qt::RichText);
    cohorts_->setWordWrap(true);
    cohorts_->setObjectName("eventCohorts");
    cohorts_->setFont(interfaceFont(11));
    dress(cohorts_, "color:{soft}");
    layout->addWidget(cohorts_);
}

void EventPage::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    if (!answer || !answer->fit || !answer->fit->event) {
        return;
    }
    const EventFit& event = *answer->fit->event;
    picture_->showExhibit(eventExhibit(event, answer->alpha, shownNames(answer->design->outcome),
                                       answer->design->outcomeUnit));
    picture_->setStale(!fresh);
    QStringList parts;
    for (const EventFit::Place& place : event.places) {
        if (!place.reference) {
            parts << tr("%1: %2").arg(
                text((place.at < 0 ? "−" : "+") + std::to_string(std::abs(place.at))),
                numbered(countText(place.rows)));
        }
    }
    const QString further = event.weighting == "group-time"
                                ? tr("What lies further out is left out.")
                                : tr("The ends hold everything further out.");
    cohorts_->setText(
        tr("Rows of units that change, by distance: %1. %2").arg(parts.join(" · "), further));
}

}  // namespace rapporto::app
