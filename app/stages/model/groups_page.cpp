#include "app/stages/model/groups_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/checks/groups_picture.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {

GroupsPage::GroupsPage(QWidget* parent)
    : QWidget(parent),
      what_(new QComboBox(this)),
      picture_(new PlotView(this)),
      spreads_(new QLabel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    auto* line = new QHBoxLayout;
    what_->setObjectName("groups:what");
    what_->setAccessibleName(tr("Whose effects are shown"));
    what_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    line->addWidget(what_);
    line->addStretch(1);
    layout->addLayout(line);
    picture_->setObjectName("groups:picture");
    layout->addWidget(picture_, 1);
    spreads_->setTextFormat(Qt::RichText);
    spreads_->setWordWrap(true);
    spreads_->setObjectName("groups:spreads");
    dress(spreads_, "color:{ink}");
    layout->addWidget(spreads_);
    connect(what_, &QComboBox::activated, this, &GroupsPage::draw);
}

void GroupsPage::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    if (!answer || !answer->fit || !answer->fit->levels) {
        return;
    }
    answer_ = answer;
    const QString before = what_->currentText();
    what_->clear();
    const LevelsFit& fit = *answer->fit->levels;
    QStringList spreads;
    const QString holds = numbered(percentLevel(answer->alpha));
    for (std::size_t l = 0; l < fit.levels.size(); ++l) {
        const LevelsFit::Level& level = fit.levels[l];
        for (std::size_t c = 0; c < level.variances.size(); ++c) {
            const LevelsFit::Variance& v = level.variances[c];
            const QString name = c == 0
                                     ? tr("levels of %1").arg(text(level.by))
                                     : tr("effects of %1 in %2").arg(text(v.term), text(level.by));
            what_->addItem(name, QVariantList{static_cast<int>(l), static_cast<int>(c)});
            const QString sd = numbered(shortNumber(std::sqrt(v.variance), 3));
            spreads << (v.atBoundary ? tr("<b>%1</b>: none, at its boundary").arg(name)
                        : v.low && v.high
                            ? tr("<b>%1</b>: sd %2 (%5: %3 to %4)")
                                  .arg(name, sd, numbered(shortNumber(std::sqrt(*v.low), 3)),
                                       numbered(shortNumber(std::sqrt(*v.high), 3)), holds)
                            : tr("<b>%1</b>: sd %2").arg(name, sd));
        }
        for (const LevelsFit::Correlation& r : level.correlations) {
            if (r.value) {
                spreads << tr("level and %1 of %2 correlate at %3%4")
                               .arg(text(level.variances[r.second].term), text(level.by),
                                    numbered(fixedNumber(*r.value, 2, true)),
                                    r.low && r.high
                                        ? tr(" (%3: %1 to %2)")
                                              .arg(numbered(fixedNumber(*r.low, 2, true)),
                                                   numbered(fixedNumber(*r.high, 2, true)), holds)
                                        : QString());
            }
        }
    }
    if (std::isfinite(answer->fit->statistics.sigma)) {
        spreads << tr("rows within groups: sd %1")
                       .arg(numbered(shortNumber(answer->fit->statistics.sigma, 3)));
    }
    spreads_->setText(spreads.join(" · ") + ".");
    what_->setCurrentIndex(std::max(what_->findText(before), 0));
    draw();
    picture_->setStale(!fresh);
}

void GroupsPage::draw() {
    const QVariantList at = what_->currentData().toList();
    if (answer_ && at.size() == 2) {
        picture_->showExhibit(groupsExhibit(
            *answer_->design, *answer_->fit->levels, static_cast<std::size_t>(at[0].toInt()),
            static_cast<std::size_t>(at[1].toInt()), answer_->alpha));
    }
}

ReportItem GroupsPage::forReport() const {
    ReportItem figure("figure", {answer_->question.id});
    figure.shows = "groups";
    const QVariantList at = what_->currentData().toList();
    const LevelsFit::Level& level =
        answer_->fit->levels->levels[static_cast<std::size_t>(at[0].toInt())];
    figure.variables = {level.by};
    if (at[1].toInt() > 0) {
        figure.variables.push_back(level.variances[static_cast<std::size_t>(at[1].toInt())].term);
    }
    return figure;
}

}  // namespace rapporto::app
