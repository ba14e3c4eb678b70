#include "app/stages/model/curve_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/row_names.h"
#include "core/report/effect_picture.h"
#include "core/report/request_wording.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QMouseEvent>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {

int BendPlot::under(QPointF point) const {
    for (std::size_t i = 0; i < places_.size(); ++i) {
        if (std::abs(pixelOf(places_[i], 0.0).x() - point.x()) < 6.0) {
            return static_cast<int>(i);
        }
    }
    return -1;
}

void BendPlot::mousePressEvent(QMouseEvent* event) {
    held_ = event->button() == Qt::LeftButton ? under(event->position()) : -1;
    if (held_ < 0) {
        PlotView::mousePressEvent(event);
    }
}

void BendPlot::mouseMoveEvent(QMouseEvent* event) {
    if (held_ < 0) {
        PlotView::mouseMoveEvent(event);
        if (event->buttons() == Qt::NoButton && !places_.empty()) {
            setCursor(under(event->position()) >= 0 ? Qt::SplitHCursor : Qt::ArrowCursor);
        }
        return;
    }
    // The axis is straight: two places tell where the mouse is.
    const double x0 = pixelOf(0.0, 0.0).x();
    const double unit = pixelOf(1.0, 0.0).x() - x0;
    places_[static_cast<std::size_t>(held_)] = (event->position().x() - x0) / unit;
    emit placesMoved(places_);
}

void BendPlot::mouseReleaseEvent(QMouseEvent* event) {
    if (held_ < 0) {
        PlotView::mouseReleaseEvent(event);
        return;
    }
    held_ = -1;
    emit placesChosen(places_);
}

CurvePage::CurvePage(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      picker_(new QComboBox(this)),
      plot_(new BendPlot(this)),
      later_([this](const Curve& curve) { show(curve); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    auto* top = new QHBoxLayout;
    auto* along = new QLabel(tr("along"), this);
    along->setFont(paperFont(15, true));
    top->addWidget(along);
    picker_->setObjectName("curve:variable");
    picker_->setAccessibleName(tr("Along which variable"));
    top->addWidget(picker_);
    top->addStretch(1);
    layout->addLayout(top);
    layout->addWidget(plot_, 1);
    connect(picker_, &QComboBox::activated, this,
            [this](int index) { setVariable(utf8(picker_->itemData(index).toString())); });
    connect(plot_, &PlotView::rowsSelected, &session_, &Session::selectRows);
    connect(plot_, &BendPlot::placesMoved, this, &CurvePage::preview);
    connect(plot_, &BendPlot::placesChosen, this, &CurvePage::hold);
}

void CurvePage::showAnswer(const std::shared_ptr<const Answer>& answer) {
    answer_ = answer;
    if (!answer_ || !answer_->fit || !answer_->scenarios) {
        later_.cancel();
        plot_->showNothing(tr("There is no curve to draw."));
        return;
    }
    const auto& variables = answer_->scenarios->variables();
    if (answer_->scenarios->find(variable_) == nullptr ||
        (question_ != answer_->question.id && answer_->fit->bent)) {
        // What bends, what turns, or the first quantity.
        variable_ = variables.empty() ? "" : variables.front().name;
        for (const ScenarioVariable& v : variables) {
            if (!v.groups && !v.yesNo()) {
                variable_ = v.name;
                break;
            }
        }
        if (!answer_->turningPoints.empty()) {
            variable_ = answer_->turningPoints.front().of;
        }
        if (answer_->fit->bent) {
            variable_ = answer_->fit->bent->variable;
        }
    }
    question_ = answer_->question.id;
    picker_->clear();
    for (const ScenarioVariable& v : variables) {
        picker_->addItem(termText(v.name), text(v.name));
    }
    picker_->setCurrentIndex(picker_->findData(text(variable_)));
    draw();
}

void CurvePage::setVariable(const std::string& name) {
    variable_ = name;
    picker_->setCurrentIndex(picker_->findData(text(variable_)));
    draw();
}

void CurvePage::preview(const std::vector<double>& places) {
    // Of very many rows the pieces follow when the mouse lets go.
    if (!answer_ || answer_->rows.used > kRowsAtOnce || !curve_.exhibit) {
        return;
    }
    const auto pieces = bentPreview(*answer_, places);
    if (!pieces) {
        return;
    }
    Exhibit e = *curve_.exhibit;
    Exhibit::Line was = e.lines.front();
    was.faint = true;
    e.bands.clear();
    e.lines = {was, pieces->line};
    const auto ends = std::minmax_element(e.y.begin(), e.y.end());
    for (const double at : places) {
        e.lines.push_back({.name = shortNumber(at, 3),
                           .x = {at, at},
                           .y = {*ends.first, *ends.second},
                           .dashed = true});
    }
    const double change = pieces->rss / answer_->fit->statistics.rss - 1.0;
    e.title =
        "What is left: " + fixedNumber(100.0 * change, 1) + " % more than where the bends were";
    plot_->showExhibit(std::move(e));
}

void CurvePage::draw() {
    plot_->setStale(true);
    later_.ask(
        [answer = answer_, variable = variable_] {
            Curve out{shapeExhibit(*answer, variable), {}, {}, {}};
            const ScenarioVariable* v = answer->scenarios->find(variable);
            if (v == nullptr || v->groups || v->yesNo()) {
                return out;
            }
            const auto effectOf = [&](bool elasticity) {
                return marginalEffects(*answer->design, *answer->fit, *answer->scenarios,
                                       {variable, EffectRequest::As::Average, {}, elasticity},
                                       answer->alpha);
            };
            if (const auto effect = effectOf(false)) {
                out.effect = effect->front().effect;
            } else {
                out.none = effect.error();
            }
            if (const auto elasticity = effectOf(true); elasticity && v->low > 0.0) {
                out.elasticity = elasticity->front().effect;
            }
            return out;
        },
        answer_->rows.used <= kRowsAtOnce);
}

void CurvePage::show(const Curve& curve) {
    curve_ = curve;
    if (const auto frame = session_.frame()) {
        plot_->setRowNamer([frame](std::size_t row) { return text(rowName(*frame, row)); });
    }
    plot_->setPlaces({});
    if (!curve_.exhibit) {
        plot_->showNothing(text(curve_.exhibit.error().text()));
    } else {
        plot_->showExhibit(*curve_.exhibit);
        plot_->showSelection(session_.selectedRows());
        if (answer_->fit->bent && answer_->fit->bent->variable == variable_) {
            std::vector<double> places;
            for (const Bend& b : answer_->fit->bent->bends) {
                places.push_back(b.at);
            }
            plot_->setPlaces(std::move(places));
        }
    }
    emit changed();
}

void CurvePage::hold(const std::vector<double>& places) {
    const Question* present = session_.question();
    if (present == nullptr || present->method != "bent-line") {
        return;
    }
    Question next = *present;
    next.settings.start = places;
    std::sort(next.settings.start.begin(), next.settings.start.end());
    // To the digits that can be seen.
    const ScenarioVariable* v = answer_->scenarios->find(variable_);
    const double step =
        v == nullptr ? 0.0 : std::pow(10.0, std::floor(std::log10((v->high - v->low) / 200.0)));
    std::string said;
    for (double& at : next.settings.start) {
        at = step > 0.0 ? std::round(at / step) * step : at;
        said += (said.empty() ? "" : ", ") + shortNumber(at, 4);
    }
    next.settings.fixed = true;
    session_.putQuestion(next, tr("hold bends at %1").arg(text(said)));
}

void CurvePage::bend(int bends, const QString& did, bool variant) {
    const Question* present = session_.question();
    if (present == nullptr) {
        return;
    }
    Question next = *present;
    next.method = bends > 0 ? "bent-line" : "least-squares";
    next.settings = {};
    if (bends > 0) {
        next.settings.variable = variable_;
        next.settings.bends = bends;
    }
    if (variant) {
        next.id.clear();
        next.lead = false;
        next.variantOf = present->variantOf.empty() ? present->id : present->variantOf;
        next.title = utf8(tr("bent in %1").arg(text(variable_)));
        session_.putQuestion(next, did);
        return;
    }
    session_.putQuestion(next, did);
}

ReadingContent CurvePage::reading() const {
    ReadingContent content;
    if (!answer_ || !answer_->fit) {
        return content;
    }
    auto* self = const_cast<CurvePage*>(this);
    content.title = text(variable_);
    const auto& bent = answer_->fit->bent;
    if (bent && bent->variable == variable_) {
        for (const std::string& p : bendReading(*answer_)) {
            content.paragraphs << richText(p);
        }
        content.actionsTitle = tr("What you can do");
        const int n = static_cast<int>(bent->bends.size());
        if (bent->fixed) {
            content.actions.push_back(
                {tr("Let the bends move"), tr("to where they fit best"),
                 [self, n] { self->bend(n, self->tr("free the bends"), false); }});
        }
        if (n < 5) {
            content.actions.push_back(
                {tr("One bend more"), tr("searched anew over all places"),
                 [self, n] { self->bend(n + 1, self->tr("one bend more"), false); }});
        }
        content.actions.push_back({n > 1 ? tr("One bend fewer") : tr("A straight line"),
                                   tr("the other choice side by side in BIC above"), [self, n] {
                                       self->bend(n - 1,
                                                  n > 1 ? self->tr("one bend fewer")
                                                        : self->tr("straighten the line"),
                                                  false);
                                   }});
        content.paragraphs << tr(
            "Drag a bend to see the pieces follow; where you let go it is held.");
        return content;
    }
    for (const TurningPoint& t : answer_->turningPoints) {
        if (t.of == variable_) {
            content.paragraphs << richText(turningReading(*answer_, t));
        }
    }
    const ScenarioVariable* v = answer_->scenarios->find(variable_);
    if (v == nullptr) {
        return content;
    }
    if (v->groups || v->yesNo()) {
        content.paragraphs << tr(
            "The predicted mean at each level, the other variables at their "
            "means and bases, with its interval.");
        return content;
    }
    if (curve_.effect) {
        const Estimate& e = *curve_.effect;
        const int d = decimalsFor(e.se);
        content.paragraphs << richText(
            "On average over the rows, one " + (v->unit.empty() ? "unit" : v->unit) +
            " more of **" + variable_ + "** goes with **" + fixedNumber(e.value, d) + "** in " +
            answer_->design->outcome + " (" + fixedNumber(e.low, d) + " to " +
            fixedNumber(e.high, d) + "), through every term it enters.");
    } else if (curve_.none) {
        content.paragraphs << richText("~" + curve_.none->text());
    }
    if (curve_.elasticity) {
        const Estimate& e = *curve_.elasticity;
        content.paragraphs << richText("In percent: 1 % more goes with **" +
                                       fixedNumber(e.value, decimalsFor(e.se)) + " %** (" +
                                       fixedNumber(e.low, decimalsFor(e.se)) + " to " +
                                       fixedNumber(e.high, decimalsFor(e.se)) + ").");
    }
    content.paragraphs << tr(
        "Each point is a row moved to where it would lie with the other "
        "variables at their means: the curve plus what the fit leaves of it.");
    const bool own = std::any_of(answer_->design->terms.begin(), answer_->design->terms.end(),
                                 [&](const DesignTerm& t) { return t.name == variable_; });
    if (own && answer_->question.method == "least-squares" && !answer_->fromMoments) {
        content.actionsTitle = tr("What you can do");
        content.actions.push_back(
            {tr("Let it bend"),
             tr("a variant whose slope changes at one place, wherever it fits best"),
             [self] { self->bend(1, self->tr("bend in %1").arg(text(self->variable_)), true); }});
    }
    return content;
}

}  // namespace rapporto::app
