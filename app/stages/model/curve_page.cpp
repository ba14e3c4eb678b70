#include "app/stages/model/curve_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/row_sheet.h"
#include "core/describe/row_names.h"
#include "core/report/effect_picture.h"
#include "core/report/request_wording.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QMouseEvent>
#include <QTextBrowser>
#include <QUrl>
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
    places_[static_cast<std::size_t>(held_)] = valueAt(event->position()).x();
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
      by_(new QComboBox(this)),
      looks_(new QComboBox(this)),
      plot_(new BendPlot(this)),
      list_(new QTextBrowser(this)),
      later_([this](const Curve& curve) { show(curve); }),
      trying_([this](const Result<ShapeTrials>& trials) { showTrials(trials); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    auto* top = new QHBoxLayout;
    auto* along = new QLabel(tr("along"), this);
    along->setFont(paperFont(15, true));
    top->addWidget(along);
    picker_->setObjectName("curve:variable");
    picker_->setAccessibleName(tr("Along which variable"));
    top->addWidget(picker_);
    auto* apart = new QLabel(tr("by"), this);
    apart->setFont(paperFont(15, true));
    top->addWidget(apart);
    by_->setObjectName("curve:by");
    by_->setAccessibleName(tr("In the groups of which variable"));
    by_->setToolTip(tr("Its curve and its mean effect in each group"));
    top->addWidget(by_);
    connect(by_, &QComboBox::activated, this, [this] { draw(); });
    top->addStretch(1);
    looks_->setObjectName("curve:look");
    looks_->setAccessibleName(tr("What is looked at"));
    looks_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    top->addWidget(looks_);
    layout->addLayout(top);
    layout->addWidget(plot_, 2);
    list_->setFrameShape(QFrame::NoFrame);
    list_->setStyleSheet("background:transparent");
    list_->setOpenLinks(false);
    list_->setObjectName("curve:trials");
    list_->setAccessibleName(tr("Shapes that were tried"));
    list_->hide();
    layout->addWidget(list_, 1);
    connect(looks_, &QComboBox::activated, this, [this] { draw(); });
    connect(list_, &QTextBrowser::anchorClicked, this, [this](const QUrl& url) {
        const QString target = url.toString();
        const std::size_t at = target.mid(4).toUInt();
        if (target.startsWith("try:")) {
            take(at);
            return;
        }
        chosen_ = static_cast<int>(at);
        listTrials();
    });
    connect(picker_, &QComboBox::activated, this,
            [this](int index) { setVariable(utf8(picker_->itemData(index).toString())); });
    connect(plot_, &PlotView::rowsSelected, &session_, &Session::selectRows);
    connect(plot_, &BendPlot::placesMoved, this, &CurvePage::preview);
    connect(plot_, &BendPlot::placesChosen, this, &CurvePage::hold);
}

void CurvePage::showAnswer(const std::shared_ptr<const Answer>& answer) {
    answer_ = answer;
    looks_->setEnabled(answer_ && answer_->fit && answer_->scenarios);
    if (!looks_->isEnabled()) {
        later_.cancel();
        trying_.cancel();
        list_->hide();
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
    fillLooks();
    fillGroups();
    draw();
}

int CurvePage::look() const {
    return looks_->currentIndex() < 0 ? OwnCurve : looks_->currentData().toPoint().x();
}

std::optional<std::size_t> CurvePage::coefficient() const {
    const int at = looks_->currentIndex() < 0 ? -1 : looks_->currentData().toPoint().y();
    const bool there = look() == Alone && at >= 0 && answer_ && answer_->fit &&
                       static_cast<std::size_t>(at) < answer_->fit->coefficients.size();
    return there ? std::optional(static_cast<std::size_t>(at)) : std::nullopt;
}

/// What can be looked at along the variable: its curve, other shapes of it and of the outcome, and
/// each of its columns alone.
void CurvePage::fillLooks() {
    const QString was = looks_->currentText();
    looks_->clear();
    looks_->addItem(tr("its curve"), QPoint(OwnCurve, -1));
    const ScenarioVariable* v = answer_->scenarios->find(variable_);
    const auto frame = session_.frame();
    const bool linear = answer_->question.byLeastSquares() &&
                        answer_->question.fixedEffects.empty() && !answer_->fromMoments;
    const bool quantity = v != nullptr && !v->groups && !v->yesNo();
    if (linear && quantity && frame) {
        looks_->addItem(tr("other shapes of it"), QPoint(OwnShapes, -1));
        const std::string own = outcomeVariable(*frame, answer_->question);
        if (!own.empty() && !answer_->design->outcomeYesNo) {
            looks_->addItem(tr("shapes of %1").arg(text(own)), QPoint(OutcomeShapes, -1));
        }
    }
    for (std::size_t j = 0; linear && j < answer_->fit->coefficients.size(); ++j) {
        const Coefficient& c = answer_->fit->coefficients[j];
        if (c.designTerm >= 0 &&
            answer_->design->terms[static_cast<std::size_t>(c.designTerm)].names.contains(
                variable_)) {
            looks_->addItem(tr("%1 alone").arg(termText(c.term)),
                            QPoint(Alone, static_cast<int>(j)));
        }
    }
    looks_->setCurrentIndex(std::max(looks_->findText(was), 0));
}

/// Groupings of few levels, whether they are among the terms or not.
void CurvePage::fillGroups() {
    const QVariant was = by_->currentData();
    by_->clear();
    by_->addItem(tr("all rows"), QString());
    const auto frame = session_.frame();
    for (std::size_t i = 0; frame && !answer_->fromMoments && i < frame->table().variables.size();
         ++i) {
        const Variable& v = frame->table().variables[i];
        const bool grouping = isGrouping(v.measure) || v.measure == Measure::YesNo;
        if (grouping && v.measure != Measure::Text && v.name != variable_) {
            by_->addItem(termText(quotedName(v.name)), text(v.name));
        }
    }
    by_->setCurrentIndex(std::max(by_->findData(was), 0));
}

ReportItem CurvePage::forReport() const {
    ReportItem figure("figure", {answer_->question.id});
    figure.shows = "shape";
    figure.variables = {variable_};
    if (const auto at = coefficient()) {
        figure.shows = "alone";
        figure.variables = {answer_->fit->coefficients[*at].term};
    } else if (look() == OwnCurve) {
        figure.by = by();
    } else {
        figure.shows = "shapes";
        if (const auto frame = session_.frame(); frame && look() == OutcomeShapes) {
            figure.variables.push_back(outcomeVariable(*frame, answer_->question));
        }
    }
    return figure;
}

std::string CurvePage::by() const { return utf8(by_->currentData().toString()); }

void CurvePage::setVariable(const std::string& name) {
    variable_ = name;
    picker_->setCurrentIndex(picker_->findData(text(variable_)));
    if (answer_ && answer_->fit && answer_->scenarios) {
        fillLooks();
        fillGroups();
        draw();
    }
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
    const bool shapes = look() == OwnShapes || look() == OutcomeShapes;
    list_->setVisible(shapes);
    if (!shapes) {
        job_.stop();
        trying_.cancel();
        tried_.clear();
        trials_.reset();
    }
    if (look() != OwnCurve) {
        later_.cancel();
        plot_->setPlaces({});
    }
    if (shapes) {
        drawShapes();
    } else if (look() == Alone) {
        drawAlone();
    } else {
        drawCurve();
    }
}

void CurvePage::drawShapes() {
    const auto frame = session_.frame();
    const std::string of =
        look() == OwnShapes || !frame ? variable_ : outcomeVariable(*frame, answer_->question);
    const std::string key = questionText(answer_->question) + "|" + of + "|" + variable_ + "|" +
                            std::to_string(session_.bench().revision());
    if (key == tried_ || !frame || !session_.isFresh()) {
        return;
    }
    tried_ = key;
    chosen_ = -1;
    job_.stop();
    job_ = Job();
    plot_->setStale(true);
    trying_.ask(
        [frame, question = answer_->question, sets = session_.study().sets, of, along = variable_,
         job = job_] { return shapeTrials(*frame, question, sets, of, along, job); },
        answer_->rows.used <= 2000);
}

void CurvePage::showTrials(const Result<ShapeTrials>& trials) {
    trials_ = trials;
    if (const auto frame = session_.frame()) {
        plot_->setRowNamer([frame](std::size_t row) { return text(rowName(*frame, row)); });
    }
    listTrials();
}

void CurvePage::listTrials() {
    if (!trials_ || !*trials_) {
        list_->clear();
        plot_->showNothing(trials_ ? numbered(trials_->error().text()) : QString());
        emit changed();
        return;
    }
    const ShapeTrials& t = **trials_;
    plot_->showExhibit(t.exhibit(chosen_));
    plot_->showSelection(session_.selectedRows());
    plot_->showHeld(heldRows(answer_));
    const ShapeTrial* best = t.best();
    const auto cell = [](const QString& value, const char* align = "right") {
        return QString("<td align=\"%1\" style=\"padding:2px 10px\">%2</td>").arg(align, value);
    };
    const auto soft = [](const QString& value) {
        return "<span style=\"color:{soft}\">" + value + "</span>";
    };
    const auto link = [](const QString& to, const QString& label) {
        return "<a href=\"" + to + "\" style=\"color:{accent};text-decoration:none\">" + label +
               "</a>";
    };
    QString rows = "<tr>" + cell(soft(tr("shape")), "left") + cell(soft(tr("coef."))) +
                   cell(soft(tr("AIC over the best"))) +
                   cell(soft(tr("error in units of %1").arg(text(t.own)))) + cell("") + "</tr>";
    std::vector<std::size_t> order(t.trials.size());
    for (std::size_t i = 0; i < order.size(); ++i) {
        order[i] = i;
    }
    const auto rank = [&](std::size_t i) {
        const ShapeTrial& one = t.trials[i];
        return std::pair(!one.none.empty(), one.aic.value_or(one.error));
    };
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return rank(a) < rank(b); });
    for (const std::size_t i : order) {
        const ShapeTrial& one = t.trials[i];
        QString name = text(one.label).toHtmlEscaped();
        if (static_cast<int>(i) == chosen_) {
            name = "<b>" + name + "</b>";
        }
        if (!one.none.empty()) {
            rows += "<tr>" + cell(soft(name), "left") +
                    "<td colspan=\"4\" style=\"padding:2px 10px\">" +
                    soft(text(one.none).toHtmlEscaped()) + "</td></tr>";
            continue;
        }
        rows += "<tr>" + cell(link(QString("see:%1").arg(i), name), "left") +
                cell(numbered(shortNumber(one.coefficients))) +
                cell(one.aic && best != nullptr && best->aic
                         ? numbered(fixedNumber(*one.aic - *best->aic, 1))
                         : "–") +
                cell(numbered(shortNumber(one.error, 4))) +
                cell(one.present ? soft(tr("the question’s"))
                                 : link(QString("try:%1").arg(i), tr("ask it so"))) +
                "</tr>";
    }
    list_->setHtml(themed("<table cellspacing=\"0\">" + rows + "</table>"));
    emit changed();
}

void CurvePage::take(std::size_t trial) {
    if (trials_ && *trials_ && trial < (*trials_)->trials.size()) {
        const ShapeTrial& one = (*trials_)->trials[trial];
        session_.putQuestion(one.question, tr("try %1").arg(text(one.label)));
    }
}

void CurvePage::drawAlone() {
    const auto at = coefficient();
    if (!at) {
        plot_->showNothing(tr("There is no such column."));
        return;
    }
    const auto exhibit = addedVariable(*answer_->design, *answer_->fit, *at, Job());
    if (const auto frame = session_.frame()) {
        plot_->setRowNamer([frame](std::size_t row) { return text(rowName(*frame, row)); });
    }
    if (exhibit) {
        plot_->showExhibit(*exhibit);
        plot_->showSelection(session_.selectedRows());
        plot_->showHeld(heldRows(answer_));
    } else {
        plot_->showNothing(numbered(exhibit.error().text()));
    }
    emit changed();
}

ReadingContent CurvePage::trialReading() const {
    ReadingContent content;
    content.title = tr("shapes of %1").arg(text(trials_ && *trials_ ? (*trials_)->of : variable_));
    if (!trials_) {
        content.paragraphs << tr("Trying the ladder of powers…");
        return content;
    }
    if (!*trials_) {
        content.paragraphs << richText("~" + trials_->error().text());
        return content;
    }
    const ShapeTrials& t = **trials_;
    const ShapeTrial* best = t.best();
    const auto present = std::find_if(t.trials.begin(), t.trials.end(),
                                      [](const ShapeTrial& one) { return one.present; });
    if (best == nullptr) {
        content.paragraphs << tr("None of the shapes could be fitted.");
        return content;
    }
    std::string said = "**" + best->label + "** fits best";
    if (present != t.trials.end() && &*present == best) {
        said += ": that is how the question has it.";
    } else if (present != t.trials.end() && present->none.empty()) {
        const double more = present->aic && best->aic ? *present->aic - *best->aic : 0.0;
        said += present->aic && best->aic
                    ? ": its AIC lies " + fixedNumber(more, 1) + " under that of the question’s " +
                          present->label +
                          (more < 2.0    ? ", which is hardly a difference."
                           : more < 10.0 ? ", which is some reason to prefer it."
                                         : ", which is a clear difference.")
                    : ".";
    } else {
        said += ".";
    }
    content.paragraphs << richText(said);
    content.paragraphs << richText(
        t.outcome
            ? "~R² of different outcomes cannot be compared. AIC here has the Jacobian of each "
              "transformation, so that all are about " +
                  t.own +
                  " itself; errors are of predictions carried back to its units by smearing."
            : "~All shapes have the same outcome and the same rows; errors are of predictions in "
              "units of " +
                  t.own + ". A shape chosen here by the data makes its p look better than it is.");
    content.actionsTitle = tr("What you can do");
    auto* self = const_cast<CurvePage*>(this);
    for (std::size_t i = 0; i < t.trials.size(); ++i) {
        const ShapeTrial& one = t.trials[i];
        const bool shown = &one == best || static_cast<int>(i) == chosen_;
        if (shown && !one.present && one.none.empty()) {
            content.actions.push_back({tr("Ask with %1").arg(text(one.label)),
                                       tr("a variant beside this question"),
                                       [self, i] { self->take(i); }});
        }
    }
    return content;
}

ReadingContent CurvePage::aloneReading() const {
    ReadingContent content;
    const auto at = coefficient();
    if (!at) {
        return content;
    }
    const Coefficient& c = answer_->fit->coefficients[*at];
    content.title = tr("%1 alone").arg(termText(c.term));
    content.paragraphs << richText(
        "What is left of " + shownNames(answer_->design->outcome) + " against what is left of **" +
        c.term + "** when all other terms are taken out of both. The slope is the estimate, " +
        fixedNumber(c.estimate, decimalsFor(c.se)) +
        "; the points show which rows make it, and whether a few far out do.");
    std::vector<DropOne> drops = dropOne(*answer_->design, *answer_->fit);
    const auto own = std::find_if(drops.begin(), drops.end(),
                                  [&](const DropOne& d) { return d.coefficient == *at; });
    if (const auto frame = session_.frame(); own != drops.end() && frame) {
        content.paragraphs << richText("Without **" + rowName(*frame, own->row) +
                                       "**, the row that moves it most, it would be **" +
                                       fixedNumber(own->estimate, decimalsFor(c.se)) + "**.");
    }
    return content;
}

void CurvePage::drawCurve() {
    plot_->setStale(true);
    later_.ask(
        [answer = answer_, variable = variable_, by = by(), frame = session_.frame()] {
            Curve out{shapeExhibit(*answer, variable, by), {}, {}, {}, {}};
            if (!by.empty() && frame) {
                const auto groups = rowGroups(*frame, quotedName(by), answer->design->rows);
                const auto effects =
                    groups
                        ? marginalEffects(*answer->design, *answer->fit, *answer->scenarios,
                                          {variable, EffectRequest::As::Average, {}, false, by},
                                          answer->alpha, &*groups)
                        : Result<std::vector<MarginalEffect>>(tl::make_unexpected(groups.error()));
                out.groups = effects ? groupReading(*answer, *effects)
                                     : std::vector<std::string>{"~" + effects.error().text()};
            }
            const ScenarioVariable* v = answer->scenarios->find(variable);
            if (v == nullptr || v->groups || v->yesNo()) {
                return out;
            }
            const auto effectOf = [&](bool elasticity) {
                return marginalEffects(*answer->design, *answer->fit, *answer->scenarios,
                                       {variable, EffectRequest::As::Average, {}, elasticity, {}},
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
        plot_->showNothing(numbered(curve_.exhibit.error().text()));
    } else {
        plot_->showExhibit(*curve_.exhibit);
        plot_->showSelection(session_.selectedRows());
        plot_->showHeld(heldRows(answer_));
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
    next.method = bends > 0 ? "bent-line" : kLeastSquares;
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
    if (look() == OwnShapes || look() == OutcomeShapes) {
        return trialReading();
    }
    if (look() == Alone) {
        return aloneReading();
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
    if (!curve_.groups.empty()) {
        content.paragraphs << richText("The mean effect of **" + variable_ +
                                       "** over the rows of "
                                       "each group of " +
                                       by() + ":");
        for (const std::string& line : curve_.groups) {
            content.paragraphs << richText(line);
        }
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
            "On average over the rows, one unit" +
            (v->unit.empty() ? std::string() : " (" + v->unit + ")") + " more of **" + variable_ +
            "** goes with **" + fixedNumber(e.value, d) + "** in " +
            shownNames(answer_->design->outcome) + " (" + fixedNumber(e.low, d) + " to " +
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
    if (curve_.exhibit && !curve_.exhibit->pointsHidden) {
        content.paragraphs << tr(
            "Each point is a row moved to where it would lie with the other "
            "variables at their means: the curve plus what the fit leaves of it.");
    }
    const bool own = std::any_of(answer_->design->terms.begin(), answer_->design->terms.end(),
                                 [&](const DesignTerm& t) { return t.name == variable_; });
    if (own && answer_->question.byLeastSquares() && answer_->question.fixedEffects.empty() &&
        !answer_->fromMoments) {
        content.actionsTitle = tr("What you can do");
        content.actions.push_back(
            {tr("Let it bend"),
             tr("a variant whose slope changes at one place, wherever it fits best"),
             [self] { self->bend(1, self->tr("bend in %1").arg(text(self->variable_)), true); }});
    }
    return content;
}

}  // namespace rapporto::app
