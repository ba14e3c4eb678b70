#include "app/stages/compare/compare_stage.h"

#include "app/shell/flow_layout.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/left_wording.h"
#include "core/report/report.h"
#include "core/report/results_table.h"
#include "core/report/sweep_picture.h"
#include "core/report/wording.h"

#include <QApplication>
#include <QButtonGroup>
#include <QClipboard>
#include <QComboBox>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QScrollArea>
#include <QStackedWidget>
#include <QVBoxLayout>

#include <cmath>
#include <set>

namespace rapporto::app {
namespace {

constexpr double kNames = 150.0;
constexpr double kHead = 58.0;
constexpr double kRow = 50.0;

}  // namespace

CompareTable::CompareTable(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Variants side by side"));
    tellParts();
}

void CompareTable::showAnswers(std::vector<std::shared_ptr<const Answer>> answers,
                               std::size_t chosen) {
    answers_ = std::move(answers);
    chosen_ = chosen;
    effects_.clear();
    for (const auto& a : answers_) {
        effects_.push_back(a ? comparedEffects(*a) : std::vector<ComparedEffect>());
    }
    rows_ = comparedRows(effects_);
    setMinimumHeight(
        static_cast<int>(kHead + kRow * static_cast<double>(rows_.size()) + 6 * 20 + 7 * 22 + 40));
    setMinimumWidth(static_cast<int>(kNames + 130.0 * static_cast<double>(answers_.size())));
    update();
}

QRectF CompareTable::columnRect(std::size_t column) const {
    const double width_ =
        (width() - kNames) / std::max<double>(static_cast<double>(answers_.size()), 1.0);
    const double w = std::min(width_, 300.0);
    return {kNames + w * static_cast<double>(column), 0.0, w, static_cast<double>(height())};
}

std::vector<ToldPart> CompareTable::toldParts() {
    std::vector<ToldPart> out;
    for (std::size_t a = 0; a < answers_.size(); ++a) {
        if (!answers_[a]) {
            continue;
        }
        const Answer& answer = *answers_[a];
        const Question& q = answer.question;
        ToldPart head;
        head.role = QAccessible::ColumnHeader;
        head.place = columnRect(a).toRect();
        head.name = QString("%1 · %2, %3, %4")
                        .arg(QString::number(a + 1), text(q.title.empty() ? q.id : q.title),
                             termText(q.outcome), text(q.errors.shown()));
        head.name += answer.refusal ? tr(", refused: ") + numbered(answer.refusal->what)
                                    : tr(", rows: %1").arg(numbered(countText(answer.rows.used)));
        head.chosen = a == chosen_;
        head.press = [this, a] { emit columnChosen(a); };
        out.push_back(std::move(head));
        for (std::size_t r = 0; r < rows_.size(); ++r) {
            const Coefficient* c = effectIn(effects_[a], rows_[r]);
            if (c == nullptr) {
                continue;
            }
            const int decimals = decimalsFor(c->se);
            ToldPart part;
            part.role = QAccessible::Cell;
            part.place = QRectF(columnRect(a).left(), kHead + kRow * static_cast<double>(r),
                                columnRect(a).width(), kRow)
                             .toRect();
            part.name = tr("%1 in %2: %3, std. error %4, from %5 to %6")
                            .arg(text(rows_[r].text()), text(q.title.empty() ? q.id : q.title),
                                 numbered(fixedNumber(c->estimate, decimals, true)),
                                 numbered(fixedNumber(c->se, decimals, true)),
                                 numbered(fixedNumber(c->low, decimals, true)),
                                 numbered(fixedNumber(c->high, decimals, true)));
            out.push_back(std::move(part));
        }
    }
    return out;
}

void CompareTable::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    for (std::size_t a = 0; a < answers_.size(); ++a) {
        const QRectF column = columnRect(a);
        if (a == chosen_) {
            painter.fillRect(column.adjusted(0, 0, 0, -20), colour::kAccentWash);
        }
        if (!answers_[a]) {
            continue;
        }
        const Question& q = answers_[a]->question;
        painter.setFont(interfaceFont(13, true));
        painter.setPen(colour::kInk);
        const int room = static_cast<int>(column.width()) - 14;
        painter.drawText(
            column.adjusted(8, 8, 0, 0), Qt::AlignLeft | Qt::AlignTop,
            painter.fontMetrics().elidedText(
                QString("%1 · %2").arg(a + 1).arg(text(q.title.empty() ? q.id : q.title)),
                Qt::ElideRight, room));
        painter.setFont(interfaceFont(11));
        painter.setPen(colour::kSoft);
        painter.drawText(
            column.adjusted(8, 26, 0, 0), Qt::AlignLeft | Qt::AlignTop,
            painter.fontMetrics().elidedText(termText(q.outcome), Qt::ElideRight, room));
        painter.drawText(column.adjusted(8, 40, 0, 0), Qt::AlignLeft | Qt::AlignTop,
                         painter.fontMetrics().elidedText(
                             text(q.errors.shown()) + (q.lead ? tr(" · lead") : QString()),
                             Qt::ElideRight, room));
    }
    double top = kHead;
    drawTerms(painter, top);
    drawFit(painter, top);
    drawVerdicts(painter, top);
}

void CompareTable::drawTerms(QPainter& painter, double& top) const {
    const auto axisOf = [](const Answer& a) { return effectAxis(a); };
    for (const ComparedRow& row : rows_) {
        painter.setPen(QPen(colour::kHairline, 1));
        painter.drawLine(QPointF(0, top), QPointF(width(), top));
        painter.setFont(interfaceFont(13, true));
        painter.setPen(colour::kInk);
        const bool second = !row.equation.empty();
        // Of a trace the way is what tells rows apart, not the pair.
        const bool way = second && row.term.find(" → ") != std::string::npos;
        const QString name = way ? text(row.equation) : termText(row.term);
        const QString below = way ? text(row.term) : text(row.equation);
        painter.drawText(
            QRectF(4, top, kNames - 12, second ? kRow - 16 : kRow),
            Qt::AlignLeft | Qt::AlignVCenter,
            painter.fontMetrics().elidedText(name, Qt::ElideRight, static_cast<int>(kNames) - 14));
        if (second) {
            painter.setFont(interfaceFont(11));
            painter.setPen(colour::kSoft);
            painter.drawText(QRectF(4, top + 25, kNames - 12, 16), Qt::AlignLeft | Qt::AlignVCenter,
                             painter.fontMetrics().elidedText(below, Qt::ElideRight,
                                                              static_cast<int>(kNames) - 14));
        }
        // One axis for all that explains the same outcome on the same scale, at every quantile.
        const auto sharesAxis = [&](const ComparedRow& other) {
            const auto ofOutcome = [](const ComparedRow& one) {
                return one.equation.empty() || one.equation.starts_with("quantile ");
            };
            // The ways of one pair of a trace are parts of one effect.
            if (row.term.find(" → ") != std::string::npos) {
                return other.term == row.term;
            }
            return other.term == row.term &&
                   (other.equation == row.equation || (ofOutcome(other) && ofOutcome(row)));
        };
        std::map<std::string, double> reach;
        for (std::size_t a = 0; a < answers_.size(); ++a) {
            for (const ComparedEffect& one : effects_[a]) {
                if (sharesAxis(one.row)) {
                    double& most = reach[axisOf(*answers_[a])];
                    most = std::max({most, std::abs(one.effect->low), std::abs(one.effect->high)});
                }
            }
        }
        const QColor colours[] = {colour::kBlue, colour::kOchre, colour::kPlum, colour::kMoss,
                                  colour::kClay};
        for (std::size_t a = 0; a < answers_.size(); ++a) {
            const Coefficient* own = effectIn(effects_[a], row);
            if (own == nullptr) {
                continue;
            }
            const Coefficient& c = *own;
            const QRectF column = columnRect(a);
            const double limit = std::max(reach[axisOf(*answers_[a])], 1e-300) * 1.1;
            const QRectF axis(column.left() + 8, top + 5, column.width() - 20, 22);
            const auto at = [&](double v) {
                return axis.center().x() + v / limit * axis.width() / 2.0;
            };
            painter.setPen(QPen(colour::kSoft, 1));
            painter.drawLine(QPointF(at(0), axis.top()), QPointF(at(0), axis.bottom()));
            drawLens(painter, axis, c, at,
                     answers_[a]->question.lead ? colour::kAccent : colours[a % 5]);
            const int decimals = decimalsFor(c.se);
            painter.setFont(interfaceFont(13, true));
            painter.setPen(colour::kInk);
            const QString estimate = numbered(fixedNumber(c.estimate, decimals, true));
            painter.drawText(QRectF(column.left() + 8, top + 29, column.width(), 17),
                             Qt::AlignLeft | Qt::AlignVCenter, estimate);
            const int used = painter.fontMetrics().horizontalAdvance(estimate);
            painter.setFont(interfaceFont(13));
            painter.setPen(colour::kSoft);
            painter.drawText(QRectF(column.left() + 12 + used, top + 29, column.width(), 17),
                             Qt::AlignLeft | Qt::AlignVCenter,
                             "(" + numbered(fixedNumber(c.se, decimals, true)) + ")");
        }
        top += kRow;
    }
    painter.setPen(QPen(colour::kSoft, 2));
    painter.drawLine(QPointF(0, top), QPointF(width(), top));
    top += 8;
}

void CompareTable::drawFit(QPainter& painter, double& top) const {
    const auto line = [&](const QString& name, auto value) {
        painter.setFont(interfaceFont(13));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(4, top, kNames, 20), Qt::AlignLeft | Qt::AlignVCenter, name);
        painter.setPen(colour::kInk);
        for (std::size_t a = 0; a < answers_.size(); ++a) {
            if (answers_[a] && (answers_[a]->fit || answers_[a]->trace)) {
                painter.drawText(QRectF(columnRect(a).left() + 8, top, columnRect(a).width(), 20),
                                 Qt::AlignLeft | Qt::AlignVCenter, value(*answers_[a]));
            }
        }
        top += 20;
    };
    for (std::size_t a = 0; a < answers_.size(); ++a) {
        if (answers_[a] && answers_[a]->refusal) {
            painter.setPen(colour::kOchreText);
            painter.setFont(interfaceFont(12));
            painter.drawText(columnRect(a).adjusted(8, kHead + 6, -8, 0),
                             Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap,
                             tr("refused: ") + numbered(answers_[a]->refusal->what));
        }
    }
    std::set<std::string> scales;
    for (const auto& a : answers_) {
        if (a && a->fit) {
            scales.insert(effectsIn(*a->fit));
        }
    }
    if (scales.size() > 1) {
        // Their lenses have axes of their own.
        line(tr("effects in"), [](const Answer& a) { return text(effectsIn(*a.fit)); });
    }
    line(tr("rows"), [](const Answer& a) { return numbered(countText(a.rows.used)); });
    if (scales.empty()) {
        return;  // Of traces: each equation has its own.
    }
    line("R²", [](const Answer& a) {
        const auto r = a.fit ? a.fit->statistics.rSquared : std::nullopt;
        return r ? numbered(fixedNumber(*r, 3, true)) : QString("–");
    });
    line("σ", [](const Answer& a) {
        const double sigma = a.fit ? a.fit->statistics.sigma : std::nan("");
        return std::isfinite(sigma) ? numbered(shortNumber(sigma, 3)) : QString("–");
    });
    line("AIC", [](const Answer& a) {
        return a.fit && a.fit->statistics.aic ? numbered(fixedNumber(*a.fit->statistics.aic, 1))
                                              : QString("–");
    });
    top += 6;
    painter.setPen(QPen(colour::kHairline, 1));
    painter.drawLine(QPointF(0, top), QPointF(width(), top));
    top += 6;
}

void CompareTable::drawVerdicts(QPainter& painter, double& top) const {
    std::vector<std::string> groups;
    for (const Check& check : allChecks()) {
        if (std::find(groups.begin(), groups.end(), check.group) == groups.end()) {
            groups.emplace_back(check.group);
        }
    }
    for (const auto& group : groups) {
        painter.setFont(interfaceFont(12));
        painter.setPen(colour::kSoft);
        painter.drawText(QRectF(4, top, kNames, 22), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(text(group), Qt::ElideRight,
                                                          static_cast<int>(kNames)));
        for (std::size_t a = 0; a < answers_.size(); ++a) {
            if (!answers_[a]) {
                continue;
            }
            const auto verdicts = verdictsByGroup(answers_[a]->checks, answers_[a]->alpha);
            const auto worst = std::find_if(verdicts.begin(), verdicts.end(),
                                            [&](const auto& one) { return one.group == group; });
            if (worst != verdicts.end()) {
                painter.setOpacity(worst->awaited ? 0.4 : 1.0);
                drawVerdict(painter, QPointF(columnRect(a).left() + 16, top + 11), worst->worst);
                painter.setOpacity(1.0);
            }
        }
        top += 22;
    }
}

void CompareTable::mousePressEvent(QMouseEvent* event) {
    for (std::size_t a = 0; a < answers_.size(); ++a) {
        if (columnRect(a).contains(event->position())) {
            emit columnChosen(a);
        }
    }
}

void CompareTable::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Right && chosen_ + 1 < answers_.size()) {
        emit columnChosen(chosen_ + 1);
    } else if (event->key() == Qt::Key_Left && chosen_ > 0) {
        emit columnChosen(chosen_ - 1);
    } else {
        QWidget::keyPressEvent(event);
    }
}

CompareStage::CompareStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      table_(new CompareTable),
      pages_(new QStackedWidget(this)),
      tabs_(new QButtonGroup(this)),
      sweep_(new SweepView),
      of_(new QComboBox(this)),
      choices_(new QWidget(this)),
      stop_(new QPushButton(tr("stop"), this)),
      later_([this](const Result<Sweep>& result) {
          stop_->hide();
          if (result) {
              sweep_->showSweep(std::make_shared<const Sweep>(*result), session_.study().alpha);
          } else {
              sweep_->showNothing(numbered(result.error().text()));
          }
          emit readingChanged();
      }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 10, 20, 10);
    auto* top = new QHBoxLayout;
    int id = 0;
    for (const QString& name : {tr("Variants"), tr("Sweep")}) {
        auto* button = new QPushButton(name, this);
        button->setProperty("tab", true);
        button->setCheckable(true);
        button->setCursor(Qt::PointingHandCursor);
        button->setObjectName("compare:" + name);
        tabs_->addButton(button, id++);
        top->addWidget(button);
    }
    tabs_->button(0)->setChecked(true);
    top->addStretch(1);
    stop_->setObjectName("sweep:stop");
    stop_->hide();
    top->addWidget(stop_);
    of_->setObjectName("sweep:of");
    of_->setAccessibleName(tr("The effect that is followed"));
    of_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    of_->setMinimumContentsLength(12);
    top->addWidget(of_);
    layout->addLayout(top);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setWidget(table_);
    pages_->addWidget(scroll);
    auto* page = new QWidget(this);
    auto* inner = new QVBoxLayout(page);
    inner->setContentsMargins(0, 4, 0, 0);
    choices_->setLayout(new FlowLayout(14));
    inner->addWidget(choices_);
    auto* sweepScroll = new QScrollArea(page);
    sweepScroll->setWidgetResizable(true);
    sweepScroll->setFocusPolicy(Qt::NoFocus);
    sweepScroll->setFrameShape(QFrame::NoFrame);
    sweepScroll->setWidget(sweep_);
    inner->addWidget(sweepScroll, 1);
    pages_->addWidget(page);
    layout->addWidget(pages_, 1);
    connect(tabs_, &QButtonGroup::idClicked, this, &CompareStage::refresh);
    connect(of_, &QComboBox::activated, this, &CompareStage::refresh);
    connect(stop_, &QPushButton::clicked, this, [this] { sweepJob_.stop(); });
    connect(sweep_, &SweepView::specificationChosen, this, &Stage::readingChanged);
    connect(table_, &CompareTable::columnChosen, this, [this](std::size_t column) {
        chosen_ = column;
        if (column < answers_.size() && answers_[column]) {
            session_.setQuestion(answers_[column]->question.id);
        }
    });
}

void CompareStage::refresh() {
    const bool sweeping = tabs_->checkedId() == 1;
    pages_->setCurrentIndex(sweeping ? 1 : 0);
    of_->setVisible(sweeping);
    refreshVariants();
    if (sweeping && isVisible()) {
        refreshSweep();
    }
    if ((!sweeping || !isVisible()) && later_.isBusy()) {
        sweepJob_.stop();
        asked_.clear();
    }
    emit readingChanged();
}

void CompareStage::refreshVariants() {
    answers_.clear();
    if (const Question* q = session_.question()) {
        for (const Question* member : session_.study().family(q->id)) {
            if (member->id == q->id) {
                chosen_ = answers_.size();
            }
            answers_.push_back(session_.answer(member->id));
        }
    }
    table_->showAnswers(answers_, chosen_);
}

void CompareStage::refreshSweep() {
    const auto answer = session_.answer();
    const auto frame = session_.frame();
    const bool linear =
        answer && answer->fit && !answer->fromMoments && !answer->fit->bent && frame;
    of_->setEnabled(linear);
    if (!linear) {
        choicesFor_.clear();
        asked_.clear();
        sweep_->showNothing(
            !answer           ? tr("State a question first.")
            : answer->refusal ? numbered(answer->refusal->text())
            : !answer->fit
                ? tr("A sweep follows one effect of an explained outcome; this question has none.")
            : answer->fromMoments
                ? tr("A sweep fits many models on the rows, and %1.").arg(text(whyNoRows(*answer)))
                : tr("A sweep follows one effect of a question by least squares."));
        return;
    }
    const QString present = of_->currentData().toString();
    of_->clear();
    for (const Coefficient& c : answer->fit->coefficients) {
        if (c.designTerm >= 0) {
            of_->addItem(termText(c.term), text(c.term));
        }
    }
    if (of_->count() == 0) {
        sweep_->showNothing(tr("There is no effect to follow: add a term."));
        return;
    }
    of_->setCurrentIndex(std::max(of_->findData(present), 0));
    buildChoices(*answer);
    const SweepSpec spec = specFor(*answer);
    std::string key = questionText(spec.question) + "|" + spec.of + "|" +
                      std::to_string(session_.bench().revision());
    for (const std::size_t t : spec.vary) {
        key += "," + std::to_string(t);
    }
    for (const ErrorSpec& e : spec.errors) {
        key += ";" + e.shown();
    }
    for (const SweepSample& sample : spec.samples) {
        key += "/" + sample.name;
    }
    if (key == asked_ || !session_.isComplete()) {
        return;
    }
    asked_ = key;
    sweepJob_.stop();
    sweepJob_ = Job();
    stop_->show();
    later_.ask([study = session_.study(), frame, spec, job = sweepJob_] {
        return sweep(study, *frame, spec, job);
    });
}

void CompareStage::buildChoices(const Answer& answer) {
    const std::string key =
        questionText(answer.question) + "|" + utf8(of_->currentData().toString());
    if (key == choicesFor_) {
        return;
    }
    choicesFor_ = key;
    while (QLayoutItem* item = choices_->layout()->takeAt(0)) {
        if (QWidget* widget = item->widget()) {
            widget->setParent(nullptr);
            widget->deleteLater();
        }
        delete item;
    }
    const auto word = [&](const QString& name, bool soft) {
        auto* label = new QLabel(name, choices_);
        label->setFont(paperFont(14, true));
        dress(label, soft ? "color:{soft};padding:3px 0" : "padding:3px 0");
        choices_->layout()->addWidget(label);
    };
    const auto toggle = [&](const std::string& id, const QString& name, bool on) {
        auto* button = new QPushButton(name, choices_);
        button->setCheckable(true);
        button->setProperty("tab", true);
        button->setCursor(Qt::PointingHandCursor);
        button->setObjectName("sweep:" + text(id));
        // Room for the bold of a chosen word.
        button->setMinimumWidth(QFontMetrics(interfaceFont(13, true)).horizontalAdvance(name) + 8);
        const auto known = wanted_.find(id);
        wanted_[id] = known == wanted_.end() ? on : known->second;
        button->setChecked(wanted_[id]);
        choices_->layout()->addWidget(button);
        connect(button, &QPushButton::toggled, this, [this, id](bool checked) {
            wanted_[id] = checked;
            refresh();
        });
    };
    word(tr("with and without"), true);
    const std::string of = utf8(of_->currentData().toString());
    int free = 0;
    for (const std::size_t t : freeTerms(answer.question, *answer.design, *answer.fit, of)) {
        const std::string name = answer.question.terms[t].shown();
        toggle("term:" + name, termText(name), free++ < 8);
    }
    word(tr("errors"), true);
    toggle("errors:classical", tr("classical"), true);
    toggle("errors:robust", tr("robust (HC3)"), true);
    if (answer.question.errors.kind == "clustered") {
        toggle("errors:own", text(answer.question.errors.shown()), true);
    }
    word(tr("rows"), true);
    toggle("rows:outliers", tr("also without those that stand out"), true);
}

SweepChoices CompareStage::choicesFor(const Answer& answer) const {
    const auto wanted = [&](const std::string& id) {
        const auto at = wanted_.find(id);
        return at != wanted_.end() && at->second;
    };
    SweepChoices out;
    out.of = utf8(of_->currentData().toString());
    out.vary.emplace();
    for (const Term& term : answer.question.terms) {
        if (wanted("term:" + term.shown())) {
            out.vary->push_back(term.shown());
        }
    }
    std::erase_if(out.errors, [&](const std::string& which) { return !wanted("errors:" + which); });
    out.outliers = wanted("rows:outliers");
    return out;
}

SweepSpec CompareStage::specFor(const Answer& answer) const {
    return sweepOf(answer.question, *answer.design, *answer.fit, choicesFor(answer));
}

void CompareStage::startSeries() {
    if (const Question* q = session_.question()) {
        const auto series = progressiveSeries(*q);
        if (!series.empty()) {
            session_.edit(PutQuestions{series}, tr("bring the terms in one by one"));
        }
    }
}

ReadingContent CompareStage::sweepReading() const {
    ReadingContent content;
    const auto& shown = sweep_->shown();
    if (!shown) {
        content.title = tr("sweep");
        content.paragraphs << tr(
            "Every combination of the choices above, and what one effect is in each of them.");
        return content;
    }
    content.title = termText(shown->spec.of);
    for (const std::string& paragraph : rapporto::sweepReading(*shown)) {
        content.paragraphs << richText(paragraph);
    }
    const int d = decimalsFor(shown->results[shown->results.size() / 2].se);
    const int chosen = sweep_->chosen();
    if (chosen >= 0) {
        const SweepResult& r = shown->results[static_cast<std::size_t>(chosen)];
        const Question variant = shown->variant(r);
        content.paragraphs << "<hr>"
                           << richText("The one chosen: " + variant.title + ", errors " +
                                       variant.errors.shown() + ". **" +
                                       fixedNumber(r.estimate, d) + "** (" + fixedNumber(r.low, d) +
                                       " to " + fixedNumber(r.high, d) + ", " + pClause(r.p) +
                                       ") in " + countText(r.rows) + " rows.");
        content.actionsTitle = tr("What you can do");
        auto* self = const_cast<CompareStage*>(this);
        content.actions.push_back(
            {tr("Make it a variant"), tr("to look at its effects and checks"), [self, variant] {
                 self->session_.putQuestion(
                     variant, self->tr("from the sweep: %1").arg(text(variant.title)));
             }});
    }
    return content;
}

ReadingContent CompareStage::reading() const {
    if (tabs_->checkedId() == 1) {
        return sweepReading();
    }
    ReadingContent content;
    const ActionCard series{tr("Bring the terms in one by one"),
                            tr("a variant for each step, in one action"),
                            [self = const_cast<CompareStage*>(this)] { self->startSeries(); }};
    const Question* present = session_.question();
    const bool several =
        present != nullptr && present->kind == "explain" && progressiveSeries(*present).size() > 0;
    if (answers_.size() < 2) {
        content.title = tr("one answer");
        content.paragraphs << tr(
            "There is nothing beside it yet. A variant answers the same question in another way: "
            "other terms, other errors, other rows.");
        content.actions.push_back(
            {tr("Make a variant"), "Ctrl+D", [this] { session_.startVariant(); }});
        if (several) {
            content.actions.push_back(series);
        }
        return content;
    }
    // Against the lead; the lead itself against the one before it.
    std::size_t from = 0;
    for (std::size_t a = 0; a < answers_.size(); ++a) {
        from = answers_[a] && answers_[a]->question.lead ? a : from;
    }
    if (from == chosen_) {
        from = chosen_ > 0 ? chosen_ - 1 : 1;
    }
    if (!answers_[from] || chosen_ >= answers_.size() || !answers_[chosen_]) {
        content.title = tr("computing…");
        return content;
    }
    content.title = tr("from %1 to %2").arg(from + 1).arg(chosen_ + 1);
    for (const auto& p : differenceReading(*answers_[from], *answers_[chosen_])) {
        content.paragraphs << richText(p);
    }
    const std::string id = answers_[chosen_]->question.id;
    content.actionsTitle = tr("What you can do");
    if (!answers_[chosen_]->question.lead) {
        content.actions.push_back(
            {tr("Make %1 the lead").arg(chosen_ + 1), tr("the one reported first"), [this, id] {
                 session_.edit(MakeLead{id},
                               tr("make %1 the lead").arg(text(session_.study().find(id)->title)));
             }});
    }
    content.actions.push_back(
        {tr("Vary %1 once more").arg(chosen_ + 1), "Ctrl+D", [this] { session_.startVariant(); }});
    if (several) {
        content.actions.push_back(series);
    }
    content.actions.push_back({tr("Copy the table"), tr("for a sheet or a letter"), [this] {
                                   std::vector<const Answer*> list;
                                   for (const auto& a : answers_) {
                                       if (a && (a->fit || a->trace)) {
                                           list.push_back(a.get());
                                       }
                                   }
                                   QString out;
                                   for (const CellRow& row :
                                        resultsTable(session_.study(), list).cells) {
                                       QStringList cells;
                                       for (const Cell& cell : row) {
                                           cells << text(cell.text);
                                       }
                                       out += cells.join('\t') + "\n";
                                   }
                                   QApplication::clipboard()->setText(out);
                               }});
    return content;
}

std::vector<ReportItem> CompareStage::forReport() const {
    const Question* q = session_.question();
    if (q == nullptr) {
        return {};
    }
    const auto answer = session_.answer();
    if (tabs_->checkedId() == 1 && sweep_->shown() && answer && answer->fit) {
        ReportItem figure("figure", {q->id});
        figure.shows = "sweep";
        figure.sweep = choicesFor(*answer);
        return {figure};
    }
    ReportItem table("table");
    for (const Question* one : session_.study().family(q->id)) {
        table.questions.push_back(one->id);
    }
    ReportItem lenses("lenses", table.questions);
    return {table, lenses};
}

QString CompareStage::state() const {
    const Question* q = session_.question();
    const auto n = q == nullptr ? std::size_t{0} : session_.study().family(q->id).size();
    return n < 2 ? tr("no variants") : tr("%1 variants").arg(n);
}

}  // namespace rapporto::app
