#include "app/stages/model/model_stage.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/defend/ways_to_defend.h"
#include "core/left/left_sample.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/response.h"
#include "core/model/robust.h"
#include "core/report/effect_picture.h"
#include "core/report/report.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"
#include "core/study/sweep.h"

#include <QApplication>
#include <QButtonGroup>
#include <QClipboard>
#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QRegularExpression>
#include <QScrollArea>
#include <QStackedWidget>
#include <QTextBrowser>

#include <cmath>

namespace rapporto::app {
namespace {

constexpr int kSplit = 2;  // Pages that come and go, by their place among the tabs.
constexpr int kTerms = 6;
constexpr int kFirstStage = 7;
constexpr int kEvent = 8;
constexpr int kProcess = 9;
constexpr int kLeftOut = 10;
constexpr int kGroups = 11;
constexpr int kDefend = 12;

QPushButton* tabButton(const QString& name, QWidget* parent) {
    auto* button = new QPushButton(name, parent);
    button->setProperty("tab", true);
    button->setCheckable(true);
    button->setCursor(Qt::PointingHandCursor);
    button->setObjectName("tab:" + name);
    return button;
}

QTextBrowser* page(const QString& name, QWidget* parent) {
    auto* browser = new QTextBrowser(parent);
    browser->setAccessibleName(name);
    browser->setFrameShape(QFrame::NoFrame);
    browser->setStyleSheet("background:transparent");
    return browser;
}

QString cell(const QString& value, const char* align = "right") {
    return QString("<td align=\"%1\" style=\"padding:3px 10px\">%2</td>").arg(align, value);
}

}  // namespace

ModelStage::ModelStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      tabs_(new QButtonGroup(this)),
      scales_(new QButtonGroup(this)),
      levels_(new QComboBox(this)),
      pages_(new QStackedWidget(this)),
      effects_(new EffectRows),
      equation_(page(tr("Equation"), this)),
      split_(page(tr("Variance split"), this)),
      curve_(new CurvePage(session, this)),
      predict_(new PredictTab(session, this)),
      hypotheses_(new HypothesesPage(session, this)),
      terms_(new TermsPage(session, this)),
      firstStage_(new FirstStagePage(this)),
      leftOut_(new LeftOutPage(this)),
      groups_(new GroupsPage(this)),
      defend_(new DefendPage(session, this)),
      event_(new EventPage(this)),
      process_(new PlotView(this)),
      strip_(new FitStrip(this)),
      note_(new QLabel(this)),
      message_(new QLabel(this)),
      onOutcomeLater_([this](const OnOutcome& found) {
          onOutcome_ = found;
          refresh();
      }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 10, 20, 10);
    tabsBox_ = new QWidget(this);
    auto* top = new QHBoxLayout(tabsBox_);
    top->setContentsMargins(0, 0, 0, 0);
    top->setSpacing(16);
    int id = 0;
    for (const QString& name :
         {tr("Effects"), tr("Equation"), tr("Variance split"), tr("Shape"), tr("Predict"),
          tr("Hypotheses"), tr("Terms"), tr("First stage"), tr("Before and after"),
          tr("Along quantiles"), tr("Left out"), tr("Groups"), tr("Defend")}) {
        auto* button = tabButton(name, this);
        tabs_->addButton(button, id++);
        top->addWidget(button);
    }
    top->addStretch(1);
    scalesBox_ = new QWidget(this);
    auto* scalesLine = new QHBoxLayout(scalesBox_);
    scalesLine->setContentsMargins(0, 0, 0, 0);
    scalesLine->setSpacing(12);
    top->addWidget(scalesBox_);
    id = 0;
    for (const QString& name :
         {tr("raw"), tr("standardised"), tr("percent"), tr("ratio"), tr("on the outcome")}) {
        auto* button = tabButton(name, this);
        scales_->addButton(button, id++);
        scalesLine->addWidget(button);
    }
    levels_->setObjectName("effects:level");
    levels_->setAccessibleName(tr("Whose probability moves"));
    levels_->setToolTip(tr("Whose probability moves"));
    levels_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    levels_->hide();
    scalesLine->addWidget(levels_);
    connect(levels_, &QComboBox::activated, this, &ModelStage::refresh);
    tabs_->button(0)->setChecked(true);
    scales_->button(0)->setChecked(true);
    // What not every answer has takes no room before the first one.
    for (const int page : {kFirstStage, kEvent, kProcess, kLeftOut, kGroups, kDefend}) {
        tabs_->button(page)->setVisible(false);
    }
    for (const int scale : {3, 4}) {
        scales_->button(scale)->setVisible(false);
    }
    layout->addWidget(tabsBox_);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setWidget(effects_);
    pages_->addWidget(scroll);
    pages_->addWidget(equation_);
    pages_->addWidget(split_);
    pages_->addWidget(curve_);
    pages_->addWidget(predict_);
    pages_->addWidget(hypotheses_);
    pages_->addWidget(terms_);
    pages_->addWidget(firstStage_);
    pages_->addWidget(event_);
    process_->setObjectName("processPicture");
    pages_->addWidget(process_);
    pages_->addWidget(leftOut_);
    pages_->addWidget(groups_);
    pages_->addWidget(defend_);
    connect(groups_->picture(), &PlotView::rowsSelected, &session, &Session::selectRows);
    connect(terms_, &TermsPage::changed, this, &Stage::readingChanged);
    pages_->addWidget(message_);
    for (const KindPagesMaker& maker : kindPages()) {
        KindPages* pages = maker.make(session, this);
        ofKind_.emplace(maker.kind, pages);
        pages_->addWidget(pages);
        connect(pages, &KindPages::readingChanged, this, &Stage::readingChanged);
        connect(pages, &KindPages::pairAsked, this, &ModelStage::pairAsked);
    }
    connect(curve_, &CurvePage::changed, this, &Stage::readingChanged);
    connect(predict_, &PredictTab::changed, this, &Stage::readingChanged);
    message_->setAlignment(Qt::AlignCenter);
    message_->setWordWrap(true);
    message_->setTextFormat(Qt::RichText);
    message_->setObjectName("modelMessage");
    layout->addWidget(pages_, 1);
    note_->setFont(interfaceFont(11));
    dress(note_, "color:{soft}");
    note_->setWordWrap(true);
    layout->addWidget(note_);
    strip_->setObjectName("fitStrip");
    layout->addWidget(strip_);
    connect(tabs_, &QButtonGroup::idClicked, this, &ModelStage::showPage);
    connect(scales_, &QButtonGroup::idClicked, this, [this](int scale) {
        scale_ = static_cast<EffectScale>(scale);
        refresh();
    });
    connect(effects_, &EffectRows::coefficientChosen, this, [this](int coefficient) {
        selected_ = coefficient;
        constantAsked_ = coefficient == 0;
        effects_->showSelected(coefficient);
        emit readingChanged();
    });
}

void ModelStage::showPage(int page) {
    pages_->setCurrentIndex(page);
    note_->setVisible(page == 0);
    refresh();
}

void ModelStage::showEffects(const std::shared_ptr<const Answer>& answer) {
    if (scale_ != EffectScale::Outcome) {
        onOutcomeLater_.cancel();
        effects_->showAnswer(answer, session_.isFresh(), scale_);
        return;
    }
    const int level = std::max(levels_->currentIndex(), 0);
    if (onOutcome_.of == answer && onOutcome_.level == level) {
        effects_->showAnswer(onOutcome_.shown, session_.isFresh(), scale_);
        return;
    }
    // What was there of this question stays, faded, until every row has been asked.
    const bool same = onOutcome_.of != nullptr && onOutcome_.of->question.id == answer->question.id;
    note_->setText(tr("Mean effects on the outcome are being worked out in %1 rows …")
                       .arg(numbered(countText(answer->rows.used))));
    effects_->showAnswer(same ? onOutcome_.shown : nullptr, false, scale_);
    onOutcomeLater_.ask(
        [answer, level] {
            const auto own = columnEffects(*answer->design, *answer->fit, answer->alpha,
                                           static_cast<std::size_t>(level));
            // The same rows, in their places, with mean effects in place of coefficients.
            auto shown = std::make_shared<Answer>(*answer);
            auto fit = std::make_shared<Fit>(*answer->fit);
            for (Coefficient& c : fit->coefficients) {
                for (const Coefficient& effect : own) {
                    c = effect.column == c.column && effect.equation == c.equation ? effect : c;
                }
            }
            shown->fit = std::move(fit);
            return OnOutcome{answer, level, std::move(shown)};
        },
        answer->rows.used <= kRowsAtOnce);
}

void ModelStage::refresh() {
    const auto answer = session_.answer();
    const Question* q = session_.question();
    QString why;
    if (session_.sourceRefusal()) {
        why = tr("<b>The data are not there.</b><br>%1")
                  .arg(text(session_.sourceRefusal()->text()).toHtmlEscaped());
    } else if (!session_.hasTable()) {
        why = session_.isLoading()
                  ? tr("Reading the data…")
                  : tr("There are no data yet.<br>Bring a table in under <b>Data</b>.");
    } else if (q != nullptr && q->isEmpty() && pagesOf(*q) != nullptr) {
        why = pagesOf(*q)->whenEmpty();
    } else if (q == nullptr || q->isEmpty()) {
        why =
            tr("<b>State a question.</b><br>Click “an outcome…” above, or drag a variable there "
               "from the left.");
    } else if (!answer) {
        why = tr("Computing…");
    } else if (answer->refusal) {
        why = tr("<b>This question cannot be answered as it stands.</b><br>%1")
                  .arg(numbered(answer->refusal->text()).toHtmlEscaped());
    }
    KindPages* own = q == nullptr ? nullptr : pagesOf(*q);
    tabsBox_->setVisible(own == nullptr);
    if (own != nullptr && why.isEmpty()) {
        pages_->setCurrentWidget(own);
        own->showAnswer(answer, session_.isFresh());
        note_->hide();
        strip_->hide();
        emit readingChanged();
        return;
    }
    const bool has = why.isEmpty();
    const bool instrumented = has && answer->fit && answer->fit->instrumented;
    const bool split = has && answer->fit &&
                       (!answer->fit->varianceSplit.empty() || answer->fit->panel != nullptr);
    const bool event = has && answer->fit && answer->fit->event;
    tabs_->button(kFirstStage)->setVisible(instrumented);
    const bool process =
        has && answer->fit && answer->fit->quantile && !answer->fit->quantile->process.at.empty();
    // Choosing terms and trying shapes are least squares’.
    const bool other = has && answer->fit &&
                       (answer->fit->likelihood || answer->fit->quantile || answer->fit->robust ||
                        answer->fit->dynamic || answer->fit->levels);
    const bool groups = has && answer->fit && answer->fit->levels;
    tabs_->button(kGroups)->setVisible(groups);
    tabs_->button(kEvent)->setVisible(event);
    tabs_->button(kProcess)->setVisible(process);
    const bool leftOut = has && leftOutToDraw(*answer) != nullptr;
    tabs_->button(kLeftOut)->setVisible(leftOut);
    const bool defend = has && DefendPage::has(*answer);
    tabs_->button(kDefend)->setVisible(defend);
    tabs_->button(kTerms)->setVisible(!instrumented && !event && !other);
    tabs_->button(kSplit)->setVisible(split || !has);
    const bool gone =
        (tabs_->checkedId() == kFirstStage && !instrumented) ||
        (tabs_->checkedId() == kEvent && !event) || (tabs_->checkedId() == kProcess && !process) ||
        (tabs_->checkedId() == kLeftOut && !leftOut) ||
        (tabs_->checkedId() == kGroups && !groups) || (tabs_->checkedId() == kDefend && !defend) ||
        (tabs_->checkedId() == kTerms && (instrumented || event || other)) ||
        (tabs_->checkedId() == kSplit && has && !split);
    if (gone) {
        tabs_->button(0)->setChecked(true);
    }
    message_->setText(
        themed("<div style=\"color:{ink};font-size:15px;line-height:125%\">" + why + "</div>"));
    if (has) {
        pages_->setCurrentIndex(tabs_->checkedId());
    } else {
        pages_->setCurrentWidget(message_);
    }
    scalesBox_->setVisible(tabs_->checkedId() == 0);
    note_->setVisible(has && tabs_->checkedId() == 0);
    note_->setText(
        tr("A lens is as tall at any value as that value’s p: where the zero line cuts it, that "
           "height is the p of no effect."));
    strip_->setVisible(has);
    if (!has) {
        effects_->showAnswer(nullptr, true, scale_);
        return;
    }
    const bool logged = !answer->design->outcomeLogOf.empty();
    scales_->button(2)->setEnabled(logged);
    scales_->button(2)->setToolTip(logged ? QString() : tr("Percentages need a logged outcome"));
    // A ratio of odds or rates where the index is a logarithm; the outcome’s own scale where the
    // coefficients are not on it.
    const LikelihoodFit* told = answer->fit->likelihood.get();
    const bool ratios = told != nullptr && told->family->inLogs();
    fillLevels(*answer);
    const bool onOutcome =  // Of several sets the rows are those of one: effects that are asked for
                            // are pooled.
        !answer->fit->pooled && told != nullptr && answer->design->effects.empty() &&
        told->family->outcome != Family::Outcome::CutOff &&
        told->family->outcome != Family::Outcome::Within;
    scales_->button(1)->setVisible(told == nullptr && !answer->fit->quantile);
    scales_->button(2)->setVisible(told == nullptr);
    scales_->button(3)->setVisible(ratios);
    scales_->button(4)->setVisible(onOutcome);
    levels_->setVisible(onOutcome && scale_ == EffectScale::Outcome && levels_->count() > 1);
    const bool lost = (!logged && scale_ == EffectScale::Percent) ||
                      (!ratios && scale_ == EffectScale::Ratio) ||
                      (!onOutcome && scale_ == EffectScale::Outcome) ||
                      (scale_ == EffectScale::Standardised && told != nullptr);
    if (lost) {
        scale_ = EffectScale::Raw;
        scales_->button(0)->setChecked(true);
    }
    const bool constantAlone = answer->fit->coefficients.size() == 1;
    const bool grown = selected_ == 0 && !constantAsked_ && !constantAlone;
    constantAsked_ = constantAsked_ && shownQuestion_ == q->id && !constantAlone;
    if (shownQuestion_ != q->id || grown ||
        selected_ >= static_cast<int>(answer->fit->coefficients.size()) || selected_ < 0) {
        shownQuestion_ = q->id;
        selected_ = answer->fit->coefficients.size() > 1 && answer->design->hasConstant ? 1 : 0;
    }
    showEffects(answer);
    effects_->showSelected(selected_);
    if (tabs_->checkedId() == 1) {
        showEquation(*answer);
    } else if (tabs_->checkedId() == 2) {
        showSplit(*answer);
    } else if (tabs_->checkedId() == 3) {
        curve_->showAnswer(answer);
    } else if (tabs_->checkedId() == 4) {
        predict_->showAnswer(answer, session_.isFresh());
    } else if (tabs_->checkedId() == 5) {
        hypotheses_->showAnswer(answer);
    } else if (tabs_->checkedId() == 6) {
        terms_->showAnswer(answer, session_.isFresh());
    } else if (tabs_->checkedId() == kFirstStage) {
        firstStage_->showAnswer(answer, session_.isFresh());
    } else if (tabs_->checkedId() == kEvent) {
        event_->showAnswer(answer, session_.isFresh());
    } else if (tabs_->checkedId() == kProcess) {
        process_->showExhibit(processExhibit(*answer, static_cast<std::size_t>(selected_)));
        process_->setStale(!session_.isFresh());
    } else if (tabs_->checkedId() == kLeftOut) {
        leftOut_->showAnswer(answer, session_.isFresh());
    } else if (tabs_->checkedId() == kGroups) {
        groups_->showAnswer(answer, session_.isFresh());
    } else if (tabs_->checkedId() == kDefend) {
        defend_->showAnswer(answer, session_.isFresh());
    }
    strip_->showAnswer(*answer);
    emit readingChanged();
}

/// The levels whose probability effects can be told of; the choice stays while they do.
void ModelStage::fillLevels(const Answer& answer) {
    QStringList names;
    for (const std::string& name : outcomesOf(*answer.design, *answer.fit)) {
        names << text(name);
    }
    QStringList present;
    for (int i = 0; i < levels_->count(); ++i) {
        present << levels_->itemText(i);
    }
    if (names == present) {
        return;
    }
    const QString was = levels_->currentText();
    levels_->clear();
    levels_->addItems(names);
    // The highest of ordered levels is what people ask about first.
    const auto at = static_cast<int>(names.indexOf(was));
    levels_->setCurrentIndex(at >= 0 ? at : static_cast<int>(names.size()) - 1);
}

KindPages* ModelStage::pagesOf(const Question& question) const {
    const auto own = ofKind_.find(question.kind);
    return own == ofKind_.end() ? nullptr : own->second;
}

void ModelStage::showEquation(const Answer& answer) {
    const QString said = text(htmlText(equationText(answer)));
    // A number without its nought is not to be broken at its point: a word joiner holds it.
    static const QRegularExpression kPoint("(^|[^0-9])\\.(\\d)");
    QString whole = said;
    whole.replace(kPoint, QString("\\1.%1\\2").arg(QChar(0x2060)));
    const QString note = said.contains("+ e")
                             ? tr("Standard errors in parentheses; e is what the terms leave.")
                             : tr("Standard errors in parentheses.");
    equation_->setHtml(
        themed(QString("<div style=\"font-family:STIX;font-size:18px;line-height:115%\">%1</div><p "
                       "style=\"color:{soft}\">%2</p>")
                   .arg(whole, note)));
}

void ModelStage::showSplit(const Answer& answer) {
    QString rows = "<tr style=\"color:{soft}\">" + cell(tr("source"), "left") + cell("df") +
                   cell(tr("sum of squares")) + cell(tr("mean square")) + cell("F") + cell("p") +
                   "</tr>";
    for (std::size_t v = 0; v < answer.fit->varianceSplit.size(); ++v) {
        const VarianceSource& s = answer.fit->varianceSplit[v];
        rows +=
            (v == 3
                 ? "<tr><td colspan=\"6\" style=\"padding:10px 10px 2px 10px;color:{soft}\"><i>" +
                       tr("what each term adds to the others") + "</i></td></tr>"
                 : QString()) +
            "<tr>" + cell(text(s.source).toHtmlEscaped(), "left") +
            cell(numbered(shortNumber(s.df, 6))) + cell(numbered(shortNumber(s.ss, 6))) +
            cell(s.ms ? numbered(shortNumber(*s.ms, 5)) : "") +
            cell(s.f ? numbered(shortNumber(*s.f, 4)) : "") +
            cell(s.p ? numbered(pText(*s.p)).toHtmlEscaped() : QString()) + "</tr>";
    }
    QString within;
    if (answer.fit->panel) {
        // What the data can say: what never changes within units says nothing about them.
        constexpr int kWidth = 260;
        for (const PanelFit::Share& share : answer.fit->panel->shares) {
            const int part = static_cast<int>(std::lround(share.within * kWidth));
            const auto bar = [](int width, const char* colour) {
                return width < 1 ? QString()
                                 : QString("<td width=\"%1\" bgcolor=\"%2\">&nbsp;</td>")
                                       .arg(width)
                                       .arg(colour);
            };
            within +=
                "<tr>" + cell(text(share.column).toHtmlEscaped(), "left") +
                cell(numbered(fixedNumber(100.0 * share.within, 0)) + " %") +
                "<td style=\"padding:4px 0\"><table cellspacing=\"0\" cellpadding=\"0\"><tr>" +
                bar(part, "{blue}") + bar(kWidth - part, "{hairline}") + "</tr></table></td></tr>";
        }
        within = "<p style=\"color:{soft}\"><i>" +
                 tr("what the data can say: how much of each variable changes within units, the "
                    "rest lies between them") +
                 "</i></p><table cellspacing=\"0\">" + within + "</table>";
    }
    split_->setHtml(themed("<table cellspacing=\"0\">" + rows + "</table>" + within));
}

ReadingContent ModelStage::reading() const {
    ReadingContent content;
    const auto answer = session_.answer();
    const bool told = answer && !answer->refusal;
    if (KindPages* own = told ? pagesOf(answer->question) : nullptr) {
        return own->reading();
    }
    if (!answer || !answer->fit) {
        if (answer && answer->question.isEmpty()) {
            content.title = tr("the question");
            content.paragraphs << tr("What its answer says will stand here in words.");
            return content;
        }
        content.title = answer && answer->refusal ? tr("refused") : tr("the answer");
        content.paragraphs << (answer && answer->refusal
                                   ? richText("~" + answer->refusal->text())
                                   : tr("What a selected effect says will stand here in words."));
        KindPages* own = answer ? pagesOf(answer->question) : nullptr;
        if (own != nullptr && answer->refusal) {
            content.actions = own->whenRefused(*answer);
        }
        const auto frame = session_.frame();
        if (answer && answer->refusal && frame && frame->left()) {
            content.actions.push_back(
                {frame->left()->isOnDisk() ? tr("Have the rows read") : tr("Fetch a sample"),
                 frame->left()->isOnDisk()
                     ? tr("all of them, in a window of their own, as far as memory goes")
                     : tr("%1 rows that anybody draws again alike, in a window of their own")
                           .arg(numbered(countText(kSampleRows))),
                 [this] { session_.askForSample(); }});
        }
        content.actionsTitle = content.actions.empty() ? QString() : tr("What you can do");
        return content;
    }
    if (tabs_->checkedId() == 3 && answer->scenarios) {
        return curve_->reading();
    }
    content.help = "method:" + answer->question.method;
    if (tabs_->checkedId() == 4 && answer->scenarios) {
        content.title = predict_->title();
        for (const QString& p : predict_->reading()) {
            content.paragraphs << p;
        }
        return content;
    }
    if (tabs_->checkedId() == 6) {
        return terms_->reading();
    }
    if (tabs_->checkedId() == kDefend) {
        content.title = tr("defended");
        for (const QString& p : defend_->reading()) {
            content.paragraphs << p;
        }
        return content;
    }
    if (selected_ >= 0 && selected_ < static_cast<int>(answer->fit->coefficients.size())) {
        content.title = text(answer->fit->coefficients[static_cast<std::size_t>(selected_)].term);
        for (const auto& p : effectReading(*answer, static_cast<std::size_t>(selected_))) {
            content.paragraphs << richText(p);
        }
    }
    content.paragraphs << "<hr>" << richText(answerReading(*answer));
    content.actionsTitle = tr("What you can do");
    addWaysToDefend(content, *answer);
    content.actions.push_back({tr("Try a variant"),
                               tr("the same question, to be changed beside this one"),
                               [this] { session_.startVariant(); }});
    if (answer->fit->instrumented) {
        const Question q = answer->question;
        const auto add = [&](const QString& name, const QString& what,
                             const std::vector<Question>& series) {
            if (!series.empty()) {
                content.actions.push_back({name, what, [this, series, name] {
                                               session_.edit(PutQuestions{series}, name);
                                           }});
            }
        };
        add(tr("Four estimators side by side"),
            tr("least squares, two stages, limited information, moments"), causesSideBySide(q));
        add(tr("Add the instruments one by one"), tr("a variant for each; see Compare"),
            progressiveInstruments(q));
    }
    content.actions.push_back(
        {tr("Copy the effects"), tr("as a table for a sheet or a letter"), [answer] {
             QString table = tr("term\testimate\tstd. error\tt\tp\tlow\thigh\n");
             for (const Coefficient& c : answer->fit->coefficients) {
                 table += QString("%1\t%2\t%3\t%4\t%5\t%6\t%7\n")
                              .arg(text(c.term))
                              .arg(c.estimate, 0, 'g', 15)
                              .arg(c.se, 0, 'g', 15)
                              .arg(c.statistic.value_or(0), 0, 'g', 8)
                              .arg(c.p.value_or(1), 0, 'g', 8)
                              .arg(c.low, 0, 'g', 15)
                              .arg(c.high, 0, 'g', 15);
             }
             QApplication::clipboard()->setText(table);
         }});
    return content;
}

void ModelStage::addWaysToDefend(ReadingContent& content, const Answer& answer) const {
    if (selected_ < 0) {
        return;
    }
    for (const WayToDefend& way :
         waysToDefend(session_.study(), answer, static_cast<std::size_t>(selected_))) {
        const QString name = text(way.label);
        content.actions.push_back({name, numbered(way.why), [this, question = way.question, name] {
                                       session_.putQuestion(question, name.toLower());
                                   }});
    }
}

std::vector<ReportItem> ModelStage::forReport() const {
    const Question* q = session_.question();
    const auto answer = session_.answer();
    if (q == nullptr || !answer || answer->refusal) {
        return {};
    }
    if (answer->trace) {
        return {{"lenses", {q->id}}, {"table", {q->id}}};
    }
    const QWidget* page = pages_->currentWidget();
    if (page == equation_) {
        return {{"equation", {q->id}}};
    }
    if (page == predict_ && answer->fit) {
        return predict_->forReport();
    }
    if (page == defend_ && answer->fit && DefendPage::has(*answer)) {
        return defend_->forReport();
    }
    if (page == hypotheses_ && !answer->hypotheses.empty()) {
        return {{"hypotheses", {q->id}}};
    }
    if (page == curve_) {
        return {curve_->forReport()};
    }
    if (page == terms_ && answer->fit && answer->design && !answer->design->terms.empty()) {
        return {terms_->forReport()};
    }
    if (page == firstStage_ && answer->fit && answer->fit->instrumented) {
        return {firstStage_->forReport()};
    }
    if (page == process_ && answer->fit && answer->fit->quantile && selected_ >= 0) {
        ReportItem figure("figure", {q->id});
        figure.shows = "quantiles";
        figure.variables = {answer->fit->coefficients[static_cast<std::size_t>(selected_)].term};
        return {figure};
    }
    if (page == leftOut_ && leftOutToDraw(*answer) != nullptr) {
        return {leftOut_->forReport()};
    }
    if (page == groups_ && answer->fit && answer->fit->levels) {
        return {groups_->forReport()};
    }
    if (page == event_ && answer->fit && answer->fit->event) {
        ReportItem figure("figure", {q->id});
        figure.shows = "event";
        return {figure};
    }
    return {};
}

QString ModelStage::state() const {
    const auto answer = session_.answer();
    if (!answer) {
        return session_.question() == nullptr ? tr("no question") : tr("…");
    }
    if (answer->question.isEmpty()) {
        return tr("not asked yet");
    }
    KindPages* own = answer->refusal ? nullptr : pagesOf(answer->question);
    if (own != nullptr) {
        return own->state(*answer);
    }
    return answer->refusal ? tr("refused")
           : answer->fit->statistics.rSquared
               ? tr("R² %1").arg(numbered(fixedNumber(*answer->fit->statistics.rSquared, 3, true)))
           : answer->fit->likelihood && answer->fit->likelihood->pseudoRSquared()
               ? tr("McFadden %1")
                     .arg(
                         numbered(fixedNumber(*answer->fit->likelihood->pseudoRSquared(), 3, true)))
           : answer->fit->likelihood
               ? tr("ln L %1").arg(numbered(fixedNumber(answer->fit->likelihood->logLikelihood, 1)))
           : answer->fit->levels
               ? tr("%1 % between groups")
                     .arg(numbered(fixedNumber(100.0 * answer->fit->levels->shareBetween(), 0)))
           : answer->fit->event ? tr("before and after")
           : answer->fit->quantile && answer->fit->quantile->points.size() > 1
               ? tr("%1 quantiles").arg(answer->fit->quantile->points.size())
           : answer->fit->quantile ? text(methodText(answer->question))
           : answer->fit->robust   ? tr("odd rows held down")
           : answer->fit->dynamic  ? tr("by earlier moments")
                                   : tr("by instruments");
}

}  // namespace rapporto::app
