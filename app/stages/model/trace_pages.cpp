#include "app/stages/model/trace_pages.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/paths/trace.h"
#include "core/paths/trace_edits.h"
#include "core/paths/trace_kind.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"

#include <QApplication>
#include <QButtonGroup>
#include <QClipboard>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QStackedWidget>
#include <QTextBrowser>
#include <QVBoxLayout>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

/// The way that carries most, said in a line over the picture.
QString headline(const Answer& answer) {
    const Trace& trace = *answer.trace;
    for (const TraceShare& share : trace.shares) {
        if (!share.share || !share.at.empty()) {
            continue;
        }
        const auto sum =
            std::find_if(trace.effects.begin(), trace.effects.end(), [&](const TraceEffect& e) {
                return e.from == share.from && e.to == share.to && e.at.empty() &&
                       e.through.empty() && (e.kind == "indirect" || e.kind == "natural-indirect");
            });
        if (sum == trace.effects.end() || !(sum->low > 0.0 || sum->high < 0.0)) {
            continue;
        }
        const double part = *share.share;
        const QString how = part > 0.8   ? QObject::tr("Nearly all of the effect of %1 on %2")
                            : part > 0.5 ? QObject::tr("Most of the effect of %1 on %2")
                            : part > 0.2 ? QObject::tr("A part of the effect of %1 on %2")
                                         : QObject::tr("A small part of the effect of %1 on %2");
        std::set<std::string> between;
        for (const TraceEffect& e : trace.effects) {
            if (e.from == share.from && e.to == share.to) {
                between.insert(e.through.begin(), e.through.end());
            }
        }
        return how.arg(text(share.from), text(share.to)) +
               QObject::tr(" passes through %1")
                   .arg(between.size() == 1 ? text(*between.begin())
                                            : QObject::tr("what stands between"));
    }
    return trace.equations.size() > 1
               ? QObject::tr("No way through what stands between is told apart from zero")
               : QObject::tr("Nothing stands between yet: drop a variable on the picture");
}

}  // namespace

TracePages::TracePages(Session& session, QWidget* parent)
    : KindPages(session, parent),
      tabs_(new QButtonGroup(this)),
      pages_(new QStackedWidget(this)),
      title_(new QLabel(this)),
      note_(new QLabel(this)),
      picture_(new PathView(this)),
      rows_(new WayRows(this)),
      equations_(new QScrollArea(this)),
      fit_(new QTextBrowser(this)),
      sensitivity_(new PlotView(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(4);
    auto* top = new QHBoxLayout;
    top->setSpacing(16);
    int id = 0;
    for (const auto& [name, object] :
         {std::pair(tr("Ways"), "Ways"), std::pair(tr("Equations"), "Equations"),
          std::pair(tr("Fit"), "Fit"), std::pair(tr("Sensitivity"), "Sensitivity")}) {
        auto* button = new QPushButton(name, this);
        button->setProperty("tab", true);
        button->setCheckable(true);
        button->setCursor(Qt::PointingHandCursor);
        button->setObjectName(QString("trace:") + object);
        tabs_->addButton(button, id++);
        top->addWidget(button);
    }
    top->addStretch(1);
    layout->addLayout(top);
    tabs_->button(kWays)->setChecked(true);

    auto* ways = new QWidget(this);
    auto* waysLayout = new QVBoxLayout(ways);
    waysLayout->setContentsMargins(0, 0, 0, 0);
    waysLayout->setSpacing(2);
    title_->setFont(interfaceFont(14, true));
    title_->setWordWrap(true);
    title_->setObjectName("trace:headline");
    note_->setFont(interfaceFont(11));
    dress(note_, "color:{soft}");
    note_->setWordWrap(true);
    waysLayout->addWidget(title_);
    waysLayout->addWidget(note_);
    waysLayout->addWidget(picture_, 3);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setMinimumHeight(136);
    scroll->setWidget(rows_);
    waysLayout->addWidget(scroll, 2);
    pages_->addWidget(ways);

    equations_->setWidgetResizable(true);
    equations_->setFrameShape(QFrame::NoFrame);
    equations_->setFocusPolicy(Qt::NoFocus);
    pages_->addWidget(equations_);
    fit_->setFrameShape(QFrame::NoFrame);
    fit_->setStyleSheet("background:transparent");
    fit_->setObjectName("trace:fit");
    pages_->addWidget(fit_);
    sensitivity_->setObjectName("trace:curve");
    pages_->addWidget(sensitivity_);
    layout->addWidget(pages_, 1);

    connect(tabs_, &QButtonGroup::idClicked, this, [this](int page) {
        pages_->setCurrentIndex(page);
        showPage();
        emit readingChanged();
    });
    connect(rows_, &WayRows::effectChosen, this, &TracePages::chooseEffect);
    connect(picture_, &PathView::chosen, this, [this] {
        effect_ = -1;
        rows_->showSelected(-1);
        emit readingChanged();
    });
    connect(picture_, &PathView::pathDrawn, this,
            [this](const std::string& from, const std::string& to) {
                change([&](TraceSpec& spec) { drawPath(spec, from, to); },
                       tr("draw %1 → %2").arg(text(from), text(to)));
            });
    connect(picture_, &PathView::pathRemoved, this,
            [this](const std::string& from, const std::string& to) {
                change([&](TraceSpec& spec) { removePath(spec, from, to); },
                       tr("take out %1 → %2").arg(text(from), text(to)));
            });
    connect(picture_, &PathView::nodeRemoved, this, [this](const std::string& node) {
        change([&](TraceSpec& spec) { removeNode(spec, node.substr(0, levelAt(node))); },
               tr("take out %1").arg(text(node)));
    });
    connect(picture_, &PathView::nodeMuted, this, [this](const std::string& node) {
        change([&](TraceSpec& spec) { muteNode(spec, node); }, tr("mute %1").arg(text(node)));
    });
    connect(picture_, &PathView::nodeMoved, this, [this](const std::string& node, NodePlace at) {
        change([&](TraceSpec& spec) { spec.places[node] = at; }, tr("move %1").arg(text(node)));
    });
    connect(picture_, &PathView::variableDropped, this, [this](const std::string& name) {
        change([&](TraceSpec& spec) { addDropped(spec, name); }, tr("add %1").arg(text(name)));
    });
}

void TracePages::change(const std::function<void(TraceSpec&)>& how, const QString& did) {
    Question next = *session_.question();
    how(next.trace);
    session_.putQuestion(next, did);
}

void TracePages::showAnswer(std::shared_ptr<const Answer> answer, bool fresh) {
    if (answer_ == nullptr || answer_->question.id != answer->question.id ||
        effect_ >= static_cast<int>(answer->trace->effects.size())) {
        effect_ = -1;
    }
    answer_ = std::move(answer);
    fresh_ = fresh;
    tabs_->button(kSensitivity)->setVisible(!answer_->trace->sensitivity.empty());
    if (answer_->trace->sensitivity.empty() && tabs_->checkedId() == kSensitivity) {
        tabs_->button(kWays)->setChecked(true);
        pages_->setCurrentIndex(kWays);
    }
    showPage();
}

void TracePages::showPage() {
    if (answer_ == nullptr) {
        return;
    }
    switch (tabs_->checkedId()) {
        case kEquations:
            showEquations();
            break;
        case kFit:
            showFit();
            break;
        case kSensitivity:
            showSensitivity();
            break;
        default:
            showWays();
    }
}

void TracePages::showWays() {
    title_->setText(themed(headline(*answer_)));
    const Trace& trace = *answer_->trace;
    QStringList parts = {tr("width of an arrow: standardised effect"),
                         tr("broken: its interval holds zero"),
                         tr("n = %1").arg(numbered(countText(answer_->rows.used)))};
    if (answer_->fromMoments) {
        parts << tr("from a summary");
    }
    if (trace.asked > 0) {
        const auto asked = numbered(countText(static_cast<std::size_t>(trace.asked)));
        parts << (trace.failed > 0
                      ? tr("%1 of %2 draws without a solution").arg(trace.failed).arg(asked)
                      : tr("%1 draws").arg(asked));
    }
    const bool held = std::any_of(trace.nodes.begin(), trace.nodes.end(),
                                  [](const TraceNode& node) { return node.held; });
    if (held) {
        parts << tr("what is held is not drawn");
    }
    note_->setText(parts.join(" · "));
    const Question* present = session_.question();
    picture_->showAnswer(answer_,
                         present != nullptr && present->id == answer_->question.id
                             ? present->trace.places
                             : answer_->question.trace.places,
                         fresh_);
    rows_->showAnswer(answer_, fresh_);
    if (effect_ < 0 && picture_->chosenNode() < 0 && picture_->chosenArrow() < 0) {
        // What is asked about first: the way through of the first pair.
        for (std::size_t k = 0; k < trace.effects.size() && effect_ < 0; ++k) {
            const std::string& kind = trace.effects[k].kind;
            effect_ = kind == "indirect" || kind == "natural-indirect" ? static_cast<int>(k) : -1;
        }
    }
    rows_->showSelected(effect_);
}

void TracePages::chooseEffect(int effect) {
    effect_ = effect;
    const Trace& trace = *answer_->trace;
    const TraceEffect& own = trace.effects[static_cast<std::size_t>(effect)];
    picture_->choose(-1, -1);
    effect_ = effect;
    rows_->showSelected(effect);
    // The arrows it is made of.
    std::set<int> lit;
    std::vector<std::string> stops = {own.from};
    stops.insert(stops.end(), own.through.begin(), own.through.end());
    stops.push_back(own.to);
    const bool one = own.kind == "direct" || !own.through.empty();
    for (std::size_t a = 0; a < trace.arrows.size() && one; ++a) {
        const std::string& from = trace.nodes[static_cast<std::size_t>(trace.arrows[a].from)].name;
        const std::string& to = trace.nodes[static_cast<std::size_t>(trace.arrows[a].to)].name;
        for (std::size_t k = 0; k + 1 < stops.size(); ++k) {
            if (stops[k] == from && stops[k + 1] == to) {
                lit.insert(static_cast<int>(a));
            }
        }
    }
    picture_->light(lit);
    emit readingChanged();
}

void TracePages::showEquations() {
    auto* inside = new QWidget;
    auto* layout = new QVBoxLayout(inside);
    layout->setContentsMargins(0, 4, 0, 0);
    equationRows_.clear();
    for (const TraceEquation& equation : answer_->trace->equations) {
        auto* head = new QLabel(inside);
        head->setFont(paperFont(18, true));
        const auto& r = equation.fit->statistics.rSquared;
        head->setText(
            tr("what explains %1").arg(text(equation.to)) +
            (r ? QString(" · R² %1").arg(numbered(fixedNumber(*r, 3, true))) : QString()) +
            (equation.isLinear() ? QString() : " · " + text(methodText(equation.question))));
        layout->addWidget(head);
        // The equation as it would be answered by itself.
        auto own = std::make_shared<Answer>();
        own->question = equation.question;
        own->alpha = answer_->alpha;
        own->rows = answer_->rows;
        own->design = equation.design;
        own->fit = equation.fit;
        auto* rows = new EffectRows(inside);
        rows->showAnswer(own, fresh_, EffectScale::Raw);
        equationRows_.push_back(rows);
        layout->addWidget(rows);
    }
    layout->addStretch(1);
    equations_->setWidget(inside);
}

void TracePages::showFit() {
    const Trace& trace = *answer_->trace;
    QString html;
    const auto row = [&](const QString& name, const QString& value) {
        html += QString(
                    "<tr><td style=\"padding:3px 26px 3px 2px;color:{soft}\">%1</td><td "
                    "align=\"right\" style=\"padding:3px 0\">%2</td></tr>")
                    .arg(name, value);
    };
    const auto three = [](double v) {
        return std::isfinite(v) ? numbered(fixedNumber(v, 3, true)) : QString("–");
    };
    if (trace.fit && trace.fit->df > 0.0) {
        const SystemFit& f = *trace.fit;
        html += "<table cellspacing=\"0\">";
        row(tr("χ² of the paths left out, %1 of them").arg(numbered(shortNumber(f.df))),
            numbered(fixedNumber(f.chi2, 2, true)));
        row("p", numbered(pText(f.p)).toHtmlEscaped());
        row("CFI", three(f.cfi));
        row("TLI", three(f.tli));
        row(tr("RMSEA, 90 %"),
            tr("%1 (%2 to %3)").arg(three(f.rmsea), three(f.rmseaLow), three(f.rmseaHigh)));
        row("SRMR", three(f.srmr));
        html += "</table>";
    } else {
        html += "<p>" +
                (trace.fit
                     ? tr("Every path that these variables could show is drawn, so that nothing is "
                          "left by which the system as a whole could be judged: it fits as it "
                          "must.")
                     : tr("A fit of the system as a whole is made for plain variables in linear, "
                          "unweighted equations. Paths that are left out are tested one by one "
                          "below.")) +
                "</p>";
    }
    if (!trace.absent.empty()) {
        html += "<p style=\"color:{soft}\"><i>" +
                tr("paths that are left out, by what adding each would say") +
                "</i></p><table cellspacing=\"0\">";
        for (std::size_t k = 0; k < trace.absent.size() && k < 12; ++k) {
            const AbsentPath& path = trace.absent[k];
            row(text(path.from + " → " + path.to).toHtmlEscaped(),
                (path.df == 1.0 ? QString("t² ") : QString("F ")) +
                    numbered(shortNumber(path.statistic, 3)) + " · " +
                    numbered(pClause(path.p)).toHtmlEscaped());
        }
        html += "</table>";
    }
    fit_->setHtml(themed(html));
}

void TracePages::showSensitivity() {
    const TraceSensitivity& s = answer_->trace->sensitivity.front();
    Exhibit e;
    e.title =
        utf8(tr("What would pass through %1 if the errors went together").arg(text(s.through)));
    e.subtitle = s.from + " → " + s.to + " · n = " + countText(answer_->rows.used);
    e.xTitle = utf8(tr("correlation of the errors of the two equations"));
    e.yTitle = utf8(tr("indirect effect"));
    e.zeroLine = true;
    Exhibit::Line line;
    line.series = 0;
    for (int k = -90; k <= 90; ++k) {
        line.x.push_back(k / 100.0);
        line.y.push_back(s.indirectAt(k / 100.0));
    }
    const auto [low, high] = std::minmax_element(line.y.begin(), line.y.end());
    Exhibit::Line zero;
    zero.name = utf8(tr("nothing passes at %1").arg(numbered(fixedNumber(s.rhoZero, 2, true))));
    zero.dashed = true;
    zero.series = 1;
    zero.x = {s.rhoZero, s.rhoZero};
    zero.y = {*low, *high};
    e.lines = {line, zero};
    sensitivity_->showExhibit(e);
    sensitivity_->setStale(!fresh_);
}

void TracePages::addArrowActions(ReadingContent& content, const TraceArrow& arrow) const {
    const Trace& trace = *answer_->trace;
    const std::string from = trace.nodes[static_cast<std::size_t>(arrow.from)].name;
    const std::string to = trace.nodes[static_cast<std::size_t>(arrow.to)].name;
    auto* self = const_cast<TracePages*>(this);
    content.actions.push_back({tr("Take this path out"), tr("Delete"), [self, from, to] {
                                   self->change(
                                       [&](TraceSpec& spec) { removePath(spec, from, to); },
                                       tr("take out %1 → %2").arg(text(from), text(to)));
                               }});
    content.actions.push_back({tr("Turn the arrow"),
                               tr("the data cannot say by themselves which way it points"),
                               [self, from, to] {
                                   self->change([&](TraceSpec& spec) { turnPath(spec, from, to); },
                                                tr("turn %1 → %2").arg(text(from), text(to)));
                               }});
}

void TracePages::addNodeActions(ReadingContent& content, const TraceNode& node) const {
    auto* self = const_cast<TracePages*>(this);
    const std::string name = node.name.substr(0, levelAt(node.name));
    content.actions.push_back({tr("Mute %1").arg(text(name)),
                               tr("M · kept in the sentence, left out of the system"),
                               [self, name] {
                                   self->change([&](TraceSpec& spec) { muteNode(spec, name); },
                                                tr("mute %1").arg(text(name)));
                               }});
    content.actions.push_back({tr("Take %1 out").arg(text(name)), tr("Delete"), [self, name] {
                                   self->change([&](TraceSpec& spec) { removeNode(spec, name); },
                                                tr("take out %1").arg(text(name)));
                               }});
}

ReadingContent TracePages::reading() const {
    ReadingContent content;
    const Trace& trace = *answer_->trace;
    content.title = tr("the ways");
    content.actionsTitle = tr("What you can do");
    const auto say = [&](const std::vector<std::string>& paragraphs) {
        for (const std::string& p : paragraphs) {
            content.paragraphs << richText(p);
        }
    };
    if (tabs_->checkedId() == kSensitivity && !trace.sensitivity.empty()) {
        content.title = tr("how easily it vanishes");
        content.paragraphs << richText(sensitivityReading(trace.sensitivity.front()));
        return content;
    }
    if (picture_->chosenArrow() >= 0) {
        const auto a = static_cast<std::size_t>(picture_->chosenArrow());
        const TraceArrow& arrow = trace.arrows[a];
        content.title =
            tr("%1 → %2").arg(text(trace.nodes[static_cast<std::size_t>(arrow.from)].name),
                              text(trace.nodes[static_cast<std::size_t>(arrow.to)].name));
        say(arrowReading(*answer_, a));
        addArrowActions(content, arrow);
    } else if (picture_->chosenNode() >= 0) {
        const TraceNode& node = trace.nodes[static_cast<std::size_t>(picture_->chosenNode())];
        content.title = text(node.name);
        if (node.label != node.name) {
            content.paragraphs << text(node.label).toHtmlEscaped();
        }
        content.paragraphs << tr("Mean %1, standard deviation %2.")
                                  .arg(numbered(shortNumber(node.mean, 4)),
                                       numbered(shortNumber(node.sd, 4)));
        addNodeActions(content, node);
    } else if (effect_ >= 0) {
        const TraceEffect& effect = trace.effects[static_cast<std::size_t>(effect_)];
        content.title = text(effectName(effect));
        say(tracedEffectReading(*answer_, static_cast<std::size_t>(effect_)));
    }
    content.paragraphs << "<hr>" << richText(answerReading(*answer_));
    for (const std::string& warning : trace.warnings) {
        content.paragraphs << richText("~" + warning);
    }
    if (answer_->fromMoments) {
        content.paragraphs << richText(
            utf8(tr("~The data are a summary, so draws come from the law it implies; what looks at "
                    "rows is not available.")));
    }
    content.paragraphs << richText(rowsReading(answer_->rows));
    content.actions.push_back({tr("Try a variant"),
                               tr("the same question, to be changed beside this one"),
                               [this] { session_.startVariant(); }});
    content.actions.push_back(
        {tr("Copy the effects"), tr("as a table for a sheet or a letter"), [answer = answer_] {
             QString table = tr("from\tto\tway\teffect\tstd. error\tlow\thigh\tp\n");
             for (const TraceEffect& e : answer->trace->effects) {
                 table += QString("%1\t%2\t%3\t%4\t%5\t%6\t%7\t%8\n")
                              .arg(text(e.from), text(e.to), text(effectName(e)))
                              .arg(e.estimate, 0, 'g', 15)
                              .arg(e.se, 0, 'g', 15)
                              .arg(e.low, 0, 'g', 15)
                              .arg(e.high, 0, 'g', 15)
                              .arg(e.p.value_or(std::nan("")), 0, 'g', 8);
             }
             QApplication::clipboard()->setText(table);
         }});
    content.actions.push_back(
        {tr("Copy the picture"), tr("as SVG text"), [answer = answer_] {
             QApplication::clipboard()->setText(
                 text(pathPictureSvg(*answer->trace, answer->question.trace.places, 760.0, 440.0)));
         }});
    return content;
}

QString TracePages::state(const Answer& answer) const {
    const Trace& trace = *answer.trace;
    return trace.asked > 0
               ? tr("%1 draws").arg(numbered(countText(static_cast<std::size_t>(trace.asked))))
               : tr("%1 equations").arg(trace.equations.size());
}

std::vector<ActionCard> TracePages::whenRefused(const Answer& answer) const {
    // On a circle each path may be the one that does not belong.
    std::vector<ActionCard> actions;
    const auto& circle = answer.refusal->subjects;
    auto* self = const_cast<TracePages*>(this);
    for (const PathSpec& path : answer.question.trace.paths) {
        for (const Term& term : path.from) {
            const bool plain = term.kind == Term::Kind::Expression;
            const std::string from = plain ? term.parts.front() : std::string();
            const auto on = [&](const std::string& name) {
                return std::find(circle.begin(), circle.end(), name) != circle.end();
            };
            if (plain && circle.size() > 2 && on(from) && on(path.to)) {
                actions.push_back({tr("Take %1 → %2 out").arg(text(from), text(path.to)),
                                   tr("a path of the circle"), [self, from, to = path.to] {
                                       self->change(
                                           [&](TraceSpec& spec) { removePath(spec, from, to); },
                                           tr("take out %1 → %2").arg(text(from), text(to)));
                                   }});
            }
        }
    }
    return actions;
}

QString TracePages::whenEmpty() const {
    return tr(
        "<b>How does a cause reach its outcome?</b><br>A <b>cause</b> is what could have been "
        "otherwise: put it after “Trace how”.<br>The <b>outcome</b> is what it is to change: "
        "after “reaches”.<br>A <b>way</b> is something it changes first, which then changes "
        "the outcome: after “through”.");
}

}  // namespace rapporto::app
