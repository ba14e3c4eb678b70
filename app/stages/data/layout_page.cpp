#include "app/stages/data/layout_page.h"

#include "app/shell/theme.h"
#include "app/stages/data/coverage_view.h"
#include "core/base/format.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QListWidget>
#include <QVBoxLayout>

#include <algorithm>
#include <map>

namespace rapporto::app {
namespace {

const std::vector<std::string> kFrequencies = {"",      "year", "half", "quarter",
                                               "month", "week", "day",  "order"};

QComboBox* box(const QString& name, const QString& object, QWidget* parent) {
    auto* combo = new QComboBox(parent);
    combo->setAccessibleName(name);
    combo->setObjectName(object);
    combo->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    combo->setMaximumWidth(150);
    return combo;
}

}  // namespace

LayoutPage::LayoutPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      kind_(box(tr("What a row is"), "layout:kind", this)),
      unit_(box(tr("Unit"), "layout:unit", this)),
      time_(box(tr("Time"), "layout:time", this)),
      frequency_(box(tr("Step of time"), "layout:frequency", this)),
      unitWord_(sentenceWord(tr("of"), this)),
      timeWord_(sentenceWord(tr("at"), this)),
      everyWord_(sentenceWord(tr("a step is"), this)),
      facts_(softLine({}, this)),
      rows_(new QListWidget(this)),
      coverage_(new CoverageView(this)),
      weight_(box(tr("Weight"), "layout:weight", this)),
      strata_(box(tr("Strata"), "layout:strata", this)),
      cluster_(box(tr("Clusters"), "layout:cluster", this)),
      lonely_(box(tr("Lonely clusters"), "layout:lonely", this)),
      replicates_(box(tr("Replicate weights"), "layout:replicates", this)),
      replicateKind_(box(tr("Kind of replicate weights"), "layout:replicateKind", this)),
      surveyFacts_(softLine({}, this)),
      looking_([this](const Found& found) { show(found); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(9);
    auto* sentence = new QHBoxLayout;
    kind_->addItems({tr("a case on its own"), tr("a moment"), tr("a unit at a moment")});
    frequency_->addItems({tr("what the times share"), tr("a year"), tr("a half-year"),
                          tr("a quarter"), tr("a month"), tr("a week"), tr("a day"),
                          tr("one row")});
    sentence->addWidget(sentenceWord(tr("Each row is"), this));
    sentence->addWidget(kind_);
    for (QWidget* one : {static_cast<QWidget*>(unitWord_), static_cast<QWidget*>(unit_),
                         static_cast<QWidget*>(timeWord_), static_cast<QWidget*>(time_),
                         static_cast<QWidget*>(everyWord_), static_cast<QWidget*>(frequency_)}) {
        sentence->addWidget(one);
    }
    sentence->addStretch(1);
    layout->addLayout(sentence);
    facts_->setObjectName("layout:facts");
    dress(facts_, "color:{ink}");
    layout->addWidget(facts_);
    auto* middle = new QHBoxLayout;
    middle->setSpacing(20);
    middle->addWidget(coverage_, 3);
    rows_->setObjectName("layout:rows");
    rows_->setAccessibleName(tr("Rows to look at"));
    middle->addWidget(rows_, 2);
    layout->addLayout(middle, 8);
    auto* drawn = new QHBoxLayout;
    drawn->addWidget(sentenceWord(tr("Drawn with weight"), this));
    drawn->addWidget(weight_);
    drawn->addWidget(sentenceWord(tr("strata"), this));
    drawn->addWidget(strata_);
    drawn->addWidget(sentenceWord(tr("clusters"), this));
    drawn->addWidget(cluster_);
    drawn->addStretch(1);
    layout->addLayout(drawn);
    auto* further = new QHBoxLayout;
    lonely_->addItem(tr("held to the mean"), "centred");
    lonely_->addItem(tr("taken as certain"), "skipped");
    lonely_->addItem(tr("refused"), "refused");
    lonely_->setMaximumWidth(170);
    replicateKind_->addItem(tr("jackknife"), "jackknife");
    replicateKind_->addItem(tr("balanced halves"), "balanced");
    replicateKind_->addItem(tr("bootstrap"), "bootstrap");
    replicates_->setMaximumWidth(220);
    further->addWidget(sentenceWord(tr("A lone cluster is"), this));
    further->addWidget(lonely_);
    further->addWidget(sentenceWord(tr("replicates"), this));
    further->addWidget(replicates_);
    further->addWidget(sentenceWord(tr("by"), this));
    further->addWidget(replicateKind_);
    further->addStretch(1);
    layout->addLayout(further);
    surveyFacts_->setObjectName("layout:survey");
    dress(surveyFacts_, "color:{ink}");
    layout->addWidget(surveyFacts_);
    layout->addStretch(1);
    for (QComboBox* one : {kind_, unit_, time_, frequency_}) {
        connect(one, &QComboBox::activated, this, &LayoutPage::applyLayout);
    }
    for (QComboBox* one : {weight_, strata_, cluster_, lonely_, replicates_, replicateKind_}) {
        connect(one, &QComboBox::activated, this, &LayoutPage::applySurvey);
    }
    connect(rows_, &QListWidget::currentItemChanged, this, [this](QListWidgetItem* item) {
        if (item != nullptr && item->data(Qt::UserRole).isValid()) {
            session_.selectRows({static_cast<std::size_t>(item->data(Qt::UserRole).toULongLong())});
        }
    });
}

void LayoutPage::refresh() {
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    const Layout& layout = session_.study().layout;
    const Survey& survey = session_.study().survey;
    const bool panel = layout.kind == Layout::Kind::Panel;
    const bool timed = layout.kind != Layout::Kind::CrossSection;
    kind_->setCurrentIndex(static_cast<int>(layout.kind));
    for (QWidget* one : {static_cast<QWidget*>(unitWord_), static_cast<QWidget*>(unit_)}) {
        one->setVisible(panel);
    }
    for (QWidget* one : {static_cast<QWidget*>(timeWord_), static_cast<QWidget*>(time_),
                         static_cast<QWidget*>(everyWord_), static_cast<QWidget*>(frequency_)}) {
        one->setVisible(timed);
    }
    static_cast<QVBoxLayout*>(this->layout())->setStretch(2, timed ? 8 : 0);
    coverage_->setVisible(timed);
    rows_->setVisible(timed);
    const auto at = std::find(kFrequencies.begin(), kFrequencies.end(), layout.frequency);
    frequency_->setCurrentIndex(
        at == kFrequencies.end() ? 0 : static_cast<int>(at - kFrequencies.begin()));
    if (frame == shownFrame_ && survey == shownSurvey_) {
        return;
    }
    shownFrame_ = frame;
    shownSurvey_ = survey;
    const auto any = [](const Variable&) { return true; };
    const auto number = [&frame](const Variable& v) { return !frame->column(v.name)->isText(); };
    fillVariables(unit_, *frame, layout.unit, {}, any);
    fillVariables(time_, *frame, layout.time, {}, number);
    fillVariables(weight_, *frame, survey.weight, tr("none"), number);
    fillVariables(strata_, *frame, survey.strata, tr("none"), any);
    fillVariables(cluster_, *frame, survey.cluster, tr("none"), any);
    lonely_->setCurrentIndex(lonely_->findData(text(survey.lonely)));
    replicateKind_->setCurrentIndex(replicateKind_->findData(text(survey.replicateKind)));
    fillReplicates(*frame, survey);
    // The design effect of what is explained; else of what is looked at.
    const Question* question = session_.question();
    const bool named = question != nullptr && frame->column(question->outcome) != nullptr;
    const std::string outcome = named ? question->outcome : session_.variable();
    if (frame->rows() > kRowsAtOnce) {
        facts_->setText(tr("Looking at %1 rows…").arg(numbered(countText(frame->rows()))));
        surveyFacts_->clear();
        rows_->clear();
        coverage_->showCoverage({});
    }
    looking_.ask([frame, survey, outcome] { return look(*frame, survey, outcome); },
                 frame->rows() <= kRowsAtOnce);
}

LayoutPage::Found LayoutPage::look(const Frame& frame, const Survey& survey,
                                   const std::string& outcome) {
    Found out;
    if (frame.layout().kind != Layout::Kind::CrossSection) {
        const auto& order = frame.timeOrder();
        if (order) {
            out.facts = layoutFacts(*order);
            out.step = order->stepText();
            out.coverage = coverageOf(frame, *order);
        } else {
            out.refusal = order.error();
        }
    }
    if (survey.isWeighted() || !survey.strata.empty() || !survey.cluster.empty()) {
        out.survey = surveyFacts(frame, survey);
        out.effectOf = outcome;
        out.effect = designEffect(frame, outcome, survey);
    }
    return out;
}

void LayoutPage::fillReplicates(const Frame& frame, const Survey& survey) {
    // Numbered names of one beginning are one family: w1, w2, …
    std::map<std::string, QStringList> families;
    for (const Variable& v : frame.table().variables) {
        const auto digits = v.name.find_last_not_of("0123456789");
        if (digits != std::string::npos && digits + 1 < v.name.size() &&
            !frame.column(v.name)->isText()) {
            families[v.name.substr(0, digits + 1)] << text(v.name);
        }
    }
    replicates_->clear();
    replicates_->addItem(tr("none"), QStringList());
    QStringList chosen;
    for (const std::string& name : survey.replicates) {
        chosen << text(name);
    }
    for (const auto& [start, names] : families) {
        if (names.size() > 3) {
            replicates_->addItem(
                tr("%1 … %2 (%3)").arg(names.front(), names.back()).arg(names.size()), names);
        }
    }
    int at = replicates_->findData(chosen);
    if (at < 0) {
        replicates_->addItem(tr("%1 named ones").arg(chosen.size()), chosen);
        at = replicates_->count() - 1;
    }
    replicates_->setCurrentIndex(at);
    replicateKind_->setEnabled(!chosen.isEmpty());
}

void LayoutPage::show(const Found& found) {
    rows_->clear();
    coverage_->showCoverage(found.coverage);
    const bool timed = shownFrame_->layout().kind != Layout::Kind::CrossSection;
    if (!timed) {
        facts_->setText(
            tr("The order of the rows means nothing: lags, runs over time and checks "
               "of serial correlation do not apply. Say so here if a row is a moment "
               "of a series, or one unit at one moment."));
    } else if (found.refusal) {
        facts_->setText(themed("<span style=\"color:{caution}\">" +
                               numbered(found.refusal->text()).toHtmlEscaped() + "</span>"));
    } else {
        const LayoutFacts& f = found.facts;
        QString words =
            shownFrame_->layout().kind == Layout::Kind::Panel
                ? tr("<b>%1</b> at <b>%2</b>, a step of %3")
                      .arg(numbered(plural(f.units, "unit", "units")),
                           numbered(plural(f.moments, "moment", "moments")), text(found.step))
                : tr("<b>%1</b>, a step of %2")
                      .arg(numbered(plural(f.moments, "moment", "moments")), text(found.step));
        words += f.balanced ? tr(" · every unit has every moment")
                            : tr(" · %1 · %2 · %3")
                                  .arg(numbered(plural(f.afterGap.size(), "gap", "gaps")),
                                       numbered(plural(f.repeated.size(), "repeated moment",
                                                       "repeated moments")),
                                       numbered(plural(f.singles.size(), "unit with one row",
                                                       "units with one row")));
        if (f.unplaced > 0) {
            words +=
                " · <span style=\"color:{caution}\">" +
                tr("%1 without a unit or a time").arg(numbered(plural(f.unplaced, "row", "rows"))) +
                "</span>";
        }
        facts_->setText(themed(words + "."));
        addRows(tr("repeated"), f.repeated);
        addRows(tr("after a gap"), f.afterGap);
        if (shownFrame_->layout().kind == Layout::Kind::Panel) {
            addRows(tr("alone in its unit"), f.singles);
        }
        if (rows_->count() == 0) {
            rows_->addItem(tr("no row needs a look"));
        }
    }
    if (!found.survey) {
        surveyFacts_->setText(
            tr("No survey design is declared: each row counts once and was drawn by itself."));
        return;
    }
    if (!*found.survey) {
        surveyFacts_->setText(themed("<span style=\"color:{caution}\">" +
                                     numbered(found.survey->error().text()).toHtmlEscaped() +
                                     "</span>"));
        return;
    }
    const SurveyFacts& s = **found.survey;
    QString words = tr("%1 in %2 and %3")
                        .arg(numbered(plural(s.n, "row", "rows")),
                             numbered(plural(s.strata, "stratum", "strata")),
                             numbered(plural(s.clusters, "cluster", "clusters")));
    if (!shownSurvey_.cluster.empty()) {
        words += tr(" of %1 to %2 rows").arg(s.smallest).arg(s.largest);
    }
    if (shownSurvey_.isWeighted()) {
        words +=
            tr(". Weights%5 run from %1 to %2; their spread makes the rows worth <b>%3</b> "
               "drawn with equal chance (design effect of the weights %4)")
                .arg(numbered(shortNumber(s.lowestWeight, 4)),
                     numbered(shortNumber(s.highestWeight, 4)),
                     numbered(countText(static_cast<std::size_t>(s.effectiveRows + 0.5))),
                     numbered(fixedNumber(s.weightEffect, 2)),
                     shownSurvey_.targets.empty() ? QString() : tr(", brought to known totals,"));
    }
    if (found.effect) {
        words +=
            tr(". For the mean of %1 the whole design has an effect of <b>%2</b>")
                .arg(text(found.effectOf).toHtmlEscaped(), numbered(fixedNumber(*found.effect, 2)));
    }
    words += ".";
    if (s.without > 0) {
        words += tr(" <span style=\"color:{caution}\">%1 in the sample lack a part of it.</span>")
                     .arg(numbered(plural(s.without, "row", "rows")));
    }
    if (!s.lonely.empty()) {
        QString names;
        for (const std::string& one : s.lonely) {
            names += (names.isEmpty() ? "" : ", ") + text(one).toHtmlEscaped();
        }
        words += tr(" <span style=\"color:{caution}\">A single cluster in: %1.</span>").arg(names);
    }
    surveyFacts_->setText(themed(words));
}

void LayoutPage::addRows(const QString& what, const std::vector<std::uint32_t>& rows) {
    constexpr std::size_t kMost = 400;
    for (std::size_t i = 0; i < std::min(rows.size(), kMost); ++i) {
        const std::size_t row = rows[i];
        const Layout& layout = shownFrame_->layout();
        const auto cell = [&](const std::string& name) {
            return name.empty() ? QString()
                                : " · " + text(cellText(*shownFrame_->column(name),
                                                        *shownFrame_->variable(name), row));
        };
        auto* item = new QListWidgetItem(
            tr("%1%2%3 · %4")
                .arg(numbered(countText(row + 1)), cell(layout.unit), cell(layout.time), what));
        item->setData(Qt::UserRole, QVariant::fromValue<qulonglong>(row));
        rows_->addItem(item);
    }
    if (rows.size() > kMost) {
        rows_->addItem(tr("… and %1 more").arg(numbered(countText(rows.size() - kMost))));
    }
}

void LayoutPage::applyLayout() {
    Layout layout;
    layout.kind = static_cast<Layout::Kind>(kind_->currentIndex());
    const bool first = session_.study().layout.kind == Layout::Kind::CrossSection;
    if (layout.kind != Layout::Kind::CrossSection) {
        layout.time = utf8(time_->currentData().toString());
        if (first && shownFrame_) {
            // A date is the likeliest time, then what is called a year, until another is chosen.
            for (const Variable& v : shownFrame_->table().variables) {
                const QString name = text(v.name).toLower();
                if (v.measure == Measure::Date || name == "year" || name == "time" ||
                    name.endsWith("_year")) {
                    layout.time = v.name;
                    break;
                }
            }
        }
        layout.frequency = kFrequencies[static_cast<std::size_t>(frequency_->currentIndex())];
    }
    if (layout.kind == Layout::Kind::Panel) {
        layout.unit = utf8(unit_->currentData().toString());
    }
    session_.edit(SetLayout{layout}, tr("each row is %1").arg(kind_->currentText()));
}

void LayoutPage::applySurvey() {
    Survey survey = session_.study().survey;
    survey.weight = utf8(weight_->currentData().toString());
    survey.strata = utf8(strata_->currentData().toString());
    survey.cluster = utf8(cluster_->currentData().toString());
    survey.lonely = utf8(lonely_->currentData().toString());
    survey.replicateKind = utf8(replicateKind_->currentData().toString());
    survey.replicates.clear();
    for (const QString& name : replicates_->currentData().toStringList()) {
        survey.replicates.push_back(utf8(name));
    }
    session_.edit(SetSurvey{survey}, tr("survey design"));
}

ReadingContent LayoutPage::reading() const {
    ReadingContent content;
    content.title = tr("what a row is");
    content.paragraphs
        << tr("A lag is the value one step earlier <b>in the same unit</b>. Over a gap there is "
              "none: the value is missing, and the count says so.")
        << tr("The step is the coarsest that all times share. On a market that is closed at "
              "weekends choose “one row”: then Monday follows Friday.");
    return content;
}

}  // namespace rapporto::app
