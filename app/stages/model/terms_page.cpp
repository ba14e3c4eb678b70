#include "app/stages/model/terms_page.h"

#include "app/shell/flow_layout.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/left_wording.h"
#include "core/report/term_choice_picture.h"

#include <QButtonGroup>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QTextBrowser>
#include <QUrl>
#include <QVBoxLayout>

namespace rapporto::app {
namespace {

QString cell(const QString& value, const char* align = "right") {
    return QString("<td align=\"%1\" style=\"padding:2px 9px\">%2</td>").arg(align, value);
}

QString soft(const QString& value) { return "<span style=\"color:{soft}\">" + value + "</span>"; }

QString link(std::size_t offer, const QString& label) {
    return QString("<a href=\"take:%1\" style=\"color:{accent};text-decoration:none\">%2</a>")
        .arg(offer)
        .arg(label.toHtmlEscaped());
}

QPushButton* toggle(const QString& name, const QString& id, QWidget* parent) {
    auto* button = new QPushButton(name, parent);
    button->setCheckable(true);
    button->setProperty("tab", true);
    button->setCursor(Qt::PointingHandCursor);
    button->setObjectName(id);
    // Room for the bold of a chosen word.
    button->setMinimumWidth(QFontMetrics(interfaceFont(13, true)).horizontalAdvance(name) + 8);
    return button;
}

/// Which terms, or which not, whichever is shorter to say.
QString subsetText(const Design& design, const std::vector<std::size_t>& terms) {
    const std::size_t all = design.terms.size();
    if (terms.size() == all) {
        return QObject::tr("all terms");
    }
    if (terms.size() * 2 <= all) {
        return text(termsText(design, terms));
    }
    std::vector<std::size_t> out;
    for (std::size_t t = 0; t < all; ++t) {
        if (!std::binary_search(terms.begin(), terms.end(), t)) {
            out.push_back(t);
        }
    }
    return QObject::tr("all but %1").arg(text(termsText(design, out)));
}

}  // namespace

TermsPage::TermsPage(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      ways_(new QButtonGroup(this)),
      by_(new QComboBox(this)),
      choices_(new QWidget(this)),
      plot_(new PlotView(this)),
      list_(new QTextBrowser(this)),
      later_([this](const Found& found) { show(found); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    auto* top = new QHBoxLayout;
    int id = 0;
    for (const auto& [name, key] : {std::pair{tr("all subsets"), "subsets"},
                                    {tr("lasso"), "lasso"},
                                    {tr("controls of one effect"), "double"},
                                    {tr("what says the same"), "overlap"}}) {
        auto* button = toggle(name, QString("terms:") + key, this);
        ways_->addButton(button, id++);
        top->addWidget(button);
        top->addSpacing(10);
    }
    ways_->button(0)->setChecked(true);
    top->addStretch(1);
    by_->setObjectName("terms:by");
    by_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    top->addWidget(by_);
    layout->addLayout(top);
    choices_->setLayout(new FlowLayout(14));
    layout->addWidget(choices_);
    layout->addWidget(plot_, 3);
    list_->setFrameShape(QFrame::NoFrame);
    list_->setStyleSheet("background:transparent");
    list_->setOpenLinks(false);
    list_->setObjectName("terms:list");
    list_->setAccessibleName(tr("Choices of terms"));
    layout->addWidget(list_, 2);
    connect(ways_, &QButtonGroup::idClicked, this, [this] {
        choicesFor_.clear();
        buildChoices();
        ask();
    });
    connect(by_, &QComboBox::activated, this, [this](int index) {
        shownBy_[static_cast<std::size_t>(way())] = index;
        if (way() == Double) {
            ask();
        } else {
            draw();
        }
    });
    connect(list_, &QTextBrowser::anchorClicked, this,
            [this](const QUrl& url) { take(url.toString().mid(5).toUInt()); });
}

int TermsPage::way() const { return ways_->checkedId(); }

void TermsPage::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    answer_ = answer;
    QString why;
    if (!answer_ || !answer_->fit) {
        why = tr("There is nothing to choose from yet.");
    } else if (!answer_->question.byLeastSquares() || !answer_->question.fixedEffects.empty()) {
        why = tr("Terms are chosen for questions by least squares.");
    } else if (answer_->design->terms.empty()) {
        why = tr("The question has no term to choose.");
    } else if (answer_->fromMoments) {
        why = tr("Choosing terms looks at rows, and %1.").arg(text(whyNoRows(*answer_)));
    }
    if (!why.isEmpty()) {
        job_.stop();
        later_.cancel();
        asked_.clear();
        choicesFor_.clear();
        offers_.clear();
        found_ = {};
        list_->clear();
        plot_->showNothing(why);
        return;
    }
    buildChoices();
    if (fresh) {
        ask();
    } else {
        plot_->setStale(true);
    }
}

void TermsPage::buildChoices() {
    if (!answer_ || !answer_->fit) {
        return;
    }
    std::string key = questionText(answer_->question) + "|" + std::to_string(way());
    if (key == choicesFor_) {
        return;
    }
    choicesFor_ = std::move(key);
    while (QLayoutItem* item = choices_->layout()->takeAt(0)) {
        if (QWidget* widget = item->widget()) {
            widget->setParent(nullptr);
            widget->deleteLater();
        }
        delete item;
    }
    by_->clear();
    const Design& design = *answer_->design;
    if (way() == Subsets) {
        for (const CriterionName& one : allCriteria()) {
            by_->addItem(QString::fromUtf8(one.shown));
        }
        by_->setAccessibleName(tr("The criterion"));
    } else if (way() == Lasso) {
        by_->addItems({tr("errors of the penalties"), tr("coefficients along the penalty")});
        by_->setAccessibleName(tr("The picture"));
    } else if (way() == Double) {
        for (const DesignTerm& term : design.terms) {
            by_->addItem(termText(term.name));
        }
        by_->setAccessibleName(tr("The effect that is asked for"));
    }
    by_->setVisible(way() != Overlap);
    auto& at = shownBy_[static_cast<std::size_t>(way())];
    at = std::clamp(at, 0, std::max(by_->count() - 1, 0));
    by_->setCurrentIndex(at);
    choices_->setVisible(way() == Subsets || way() == Lasso);
    if (!choices_->isVisibleTo(this)) {
        return;
    }
    auto* label = new QLabel(tr("always in"), choices_);
    label->setFont(paperFont(14, true));
    dress(label, "color:{soft};padding:3px 0");
    choices_->layout()->addWidget(label);
    for (const DesignTerm& term : design.terms) {
        auto* button = toggle(termText(term.name), "terms:hold:" + text(term.name), choices_);
        button->setChecked(wanted_[term.name]);
        choices_->layout()->addWidget(button);
        connect(button, &QPushButton::toggled, this, [this, name = term.name](bool on) {
            wanted_[name] = on;
            ask();
        });
    }
}

ReportItem TermsPage::forReport() const {
    ReportItem figure("figure", {answer_->question.id});
    const auto shown =
        static_cast<std::size_t>(std::max(shownBy_[static_cast<std::size_t>(way())], 0));
    const auto& terms = answer_->design->terms;
    if (way() == Double) {
        figure.shows = "controls";
        figure.variables = {terms[std::min(shown, terms.size() - 1)].name};
        return figure;
    }
    if (way() == Overlap) {
        figure.shows = "vif";
        return figure;
    }
    figure.shows = way() == Subsets ? "subsets" : shown == 1 ? "penalty-path" : "penalty";
    figure.by = way() == Subsets ? allCriteria()[std::min(shown, allCriteria().size() - 1)].id : "";
    const auto keep = held();
    for (std::size_t t = 0; t < terms.size(); ++t) {
        if (keep[t]) {
            figure.variables.push_back(terms[t].name);
        }
    }
    return figure;
}

std::vector<bool> TermsPage::held() const {
    std::vector<bool> out;
    for (const DesignTerm& term : answer_->design->terms) {
        const auto at = wanted_.find(term.name);
        out.push_back(at != wanted_.end() && at->second);
    }
    return out;
}

Criterion TermsPage::criterion() const {
    const auto at = static_cast<std::size_t>(std::max(shownBy_[Subsets], 0));
    return allCriteria()[std::min(at, allCriteria().size() - 1)].criterion;
}

void TermsPage::ask() {
    if (!answer_ || !answer_->fit) {
        return;
    }
    std::string key = questionText(answer_->question) + "|" + std::to_string(way()) + "|" +
                      std::to_string(session_.bench().revision());
    for (const bool h : held()) {
        key += h ? '1' : '0';
    }
    key += way() == Double ? std::to_string(shownBy_[Double]) : "";
    if (key == asked_) {
        return;
    }
    asked_ = std::move(key);
    job_.stop();
    job_ = Job();
    plot_->setStale(true);
    const auto of = static_cast<std::size_t>(std::max(shownBy_[Double], 0));
    const bool small = answer_->rows.used <= 5000 && answer_->design->terms.size() <= 12;
    later_.ask(
        [answer = answer_, way = way(), keep = held(), of, job = job_,
         seed = session_.study().seed] {
            Found out;
            out.way = way;
            const Design& design = *answer->design;
            const auto fill = [&](auto result, auto& into) {
                if (result) {
                    into = *std::move(result);
                } else {
                    out.refusal = result.error();
                }
            };
            if (way == Subsets) {
                fill(searchSubsets(design, keep, 5, job), out.subsets);
            } else if (way == Lasso) {
                fill(lassoPath(design, keep, seed, job), out.lasso);
            } else if (way == Double) {
                fill(doubleSelection(design, of, job), out.selection);
            } else {
                out.overlap = overlapSteps(design, *answer->fit);
            }
            return out;
        },
        small);
}

void TermsPage::show(const Found& found) {
    found_ = found;
    draw();
}

void TermsPage::draw() {
    offers_.clear();
    if (!answer_ || !answer_->fit) {
        return;
    }
    if (found_.refusal) {
        plot_->showNothing(numbered(found_.refusal->text()));
        list_->clear();
    } else if (found_.subsets) {
        drawSubsets();
    } else if (found_.lasso) {
        drawLasso();
    } else if (found_.selection) {
        drawSelection();
    } else if (found_.way == Overlap) {
        drawOverlap();
    }
    emit changed();
}

void TermsPage::drawSubsets() {
    const Criterion by = criterion();
    const Design& design = *answer_->design;
    plot_->showExhibit(criteriaExhibit(*found_.subsets, by));
    std::vector<const TermSubset*> order;
    for (const TermSubset& one : found_.subsets->subsets) {
        if (std::isfinite(one.value(by))) {
            order.push_back(&one);
        }
    }
    std::stable_sort(order.begin(), order.end(), [&](const TermSubset* a, const TermSubset* b) {
        return a->value(by) < b->value(by);
    });
    order.resize(std::min<std::size_t>(order.size(), 12));
    const auto among = openedTerms(answer_->question, session_.study().sets);
    QString rows = "<tr>" + cell(soft(tr("the best choices")), "left") + cell(soft(tr("coef.")));
    std::string id;
    for (const CriterionName& one : allCriteria()) {
        rows += cell(one.criterion == by ? "<b>" + QString::fromUtf8(one.shown) + "</b>"
                                         : soft(QString::fromUtf8(one.shown)));
        id = one.criterion == by ? one.id : id;
    }
    rows += "</tr>";
    for (const TermSubset* one : order) {
        const QString title = tr("by %1").arg(by_->currentText());
        rows += "<tr>" + cell(link(offers_.size(), subsetText(design, one->terms)), "left") +
                cell(numbered(shortNumber(one->coefficients)));
        for (const CriterionName& name : allCriteria()) {
            const double v = name.criterion == Criterion::AdjustedRSquared
                                 ? one->adjustedRSquared
                                 : one->value(name.criterion);
            const QString said =
                !std::isfinite(v) ? "–"
                : name.criterion == Criterion::AdjustedRSquared
                    ? numbered(fixedNumber(v, 4, true))
                    : numbered(name.criterion == Criterion::LeaveOneOut ? shortNumber(v, 5)
                                                                        : fixedNumber(v, 1));
            rows += cell(name.criterion == by ? "<b>" + said + "</b>" : said);
        }
        rows += "</tr>";
        offers_.push_back({one->terms, TermChoice{id, among, ""}, title});
    }
    list_->setHtml(themed("<table cellspacing=\"0\">" + rows + "</table>"));
}

void TermsPage::drawLasso() {
    const LassoPath& path = *found_.lasso;
    const Design& design = *answer_->design;
    plot_->showExhibit(shownBy_[Lasso] == 1 ? lassoPathExhibit(design, path)
                                            : lassoErrorExhibit(path));
    const auto among = openedTerms(answer_->question, session_.study().sets);
    QString rows = "<tr>" + cell(soft(tr("terms that are left")), "left") +
                   cell(soft(tr("penalty"))) + cell(soft(tr("columns"))) +
                   cell(soft(tr("error in rows not seen"))) + "</tr>";
    for (const auto& [at, id, title] :
         {std::tuple{path.best, "lasso", tr("by the lasso")},
          {path.oneSe, "lasso-sparse", tr("by the lasso, sparser")}}) {
        const auto terms = path.termsAt(design, held(), at);
        const auto left =
            (path.coefficients.col(static_cast<Eigen::Index>(at)).array() != 0.0).count();
        rows += "<tr>" + cell(link(offers_.size(), subsetText(design, terms)), "left") +
                cell(numbered(shortNumber(path.lambda[at], 3))) + cell(QString::number(left)) +
                cell(numbered(shortNumber(path.error[at], 4)) + " ± " +
                     numbered(shortNumber(path.errorSe[at], 2))) +
                "</tr>";
        offers_.push_back({terms, TermChoice{id, among, ""}, title});
    }
    list_->setHtml(
        themed("<table cellspacing=\"0\">" + rows + "</table><p>" +
               soft(tr("The variant fits the terms that are left by least squares, without the "
                       "penalty; a level of a grouping that is left brings all its levels.")) +
               "</p>"));
}

void TermsPage::drawSelection() {
    const DoubleSelection& s = *found_.selection;
    const Design& design = *answer_->design;
    // One bar a control: what it does.
    QString rows = "<tr>" + cell(soft(tr("control")), "left") +
                   cell(soft(tr("foretells the outcome"))) +
                   cell(soft(tr("foretells %1").arg(text(design.terms[s.of].name)))) +
                   cell(soft(tr("kept"))) + "</tr>";
    const auto in = [](const std::vector<std::size_t>& list, std::size_t t) {
        return std::binary_search(list.begin(), list.end(), t);
    };
    for (std::size_t t = 0; t < design.terms.size(); ++t) {
        if (t == s.of) {
            continue;
        }
        const QString yes = "●";
        rows += "<tr>" + cell(termText(design.terms[t].name).toHtmlEscaped(), "left") +
                cell(in(s.forOutcome, t) ? yes : soft("–")) +
                cell(in(s.forTerm, t) ? yes : soft("–")) +
                cell(in(s.together, t) ? yes : soft("–")) + "</tr>";
    }
    offers_.push_back(
        {s.together,
         TermChoice{"double-selection", openedTerms(answer_->question, session_.study().sets),
                    design.terms[s.of].name},
         tr("controls of %1").arg(text(design.terms[s.of].name))});
    list_->setHtml(themed("<p>" + link(0, tr("Ask with these controls")) +
                          "</p><table cellspacing=\"0\">" + rows + "</table>"));
    plot_->showExhibit(selectionExhibit(design, s));
}

void TermsPage::drawOverlap() {
    const Design& design = *answer_->design;
    std::vector<std::size_t> left;
    for (std::size_t t = 0; t < design.terms.size(); ++t) {
        const bool gone = std::any_of(found_.overlap.begin(), found_.overlap.end(),
                                      [&](const OverlapStep& s) { return s.term == t; });
        if (!gone) {
            left.push_back(t);
        }
    }
    for (const CheckResult& check : answer_->checks) {
        if (check.id == "vif" && check.verdict != Verdict::NotApplicable) {
            plot_->showExhibit(check.exhibit);
        }
    }
    if (found_.overlap.empty()) {
        list_->setHtml(themed("<p>" + soft(tr("Nothing to take out.")) + "</p>"));
        return;
    }
    QString rows = "<tr>" + cell(soft(tr("take out")), "left") +
                   cell(soft(tr("inflation of its variance"))) +
                   cell(soft(tr("largest left afterwards"))) + "</tr>";
    QString out;
    for (const OverlapStep& step : found_.overlap) {
        const QString name = termText(design.terms[step.term].name);
        out += (out.isEmpty() ? "" : ", ") + name;
        rows += "<tr>" + cell(name.toHtmlEscaped(), "left") +
                cell(numbered(shortNumber(step.inflation, 3))) +
                cell(numbered(shortNumber(step.left, 3))) + "</tr>";
    }
    offers_.push_back({left, std::nullopt, tr("without %1").arg(out)});
    list_->setHtml(themed("<p>" + link(0, tr("Ask without %1").arg(out)) +
                          "</p><table cellspacing=\"0\">" + rows + "</table>"));
}

void TermsPage::take(std::size_t offer) {
    if (offer >= offers_.size() || !answer_) {
        return;
    }
    const Offer& o = offers_[offer];
    session_.putQuestion(
        withTerms(answer_->question, session_.study().sets, o.terms, o.chosen, utf8(o.title)),
        tr("terms %1").arg(o.title));
}

ReadingContent TermsPage::reading() const {
    ReadingContent content;
    content.title = tr("which terms");
    if (!answer_ || !answer_->fit) {
        return content;
    }
    const Design& design = *answer_->design;
    if (found_.refusal) {
        content.paragraphs << richText("~" + found_.refusal->text());
        return content;
    }
    std::string said;
    if (found_.subsets) {
        said = subsetReading(design, *found_.subsets, criterion());
    } else if (found_.lasso) {
        said = lassoReading(design, *found_.lasso, held());
    } else if (found_.selection) {
        said = selectionReading(design, *found_.selection);
    } else if (found_.way == Overlap) {
        said = overlapReading(design, found_.overlap);
    }
    content.paragraphs << richText(said);
    if (found_.way == Subsets || found_.way == Lasso) {
        content.paragraphs << richText(
            "~A choice by the same rows that answer the question makes its p-values and intervals "
            "look better than they are. A variant made here says so, in the report too.");
    }
    content.actionsTitle = offers_.empty() ? QString() : tr("What you can do");
    auto* self = const_cast<TermsPage*>(this);
    for (std::size_t i = 0; i < std::min<std::size_t>(offers_.size(), 2); ++i) {
        content.actions.push_back({tr("Ask %1").arg(offers_[i].title),
                                   subsetText(design, offers_[i].terms),
                                   [self, i] { self->take(i); }});
        if (found_.subsets) {
            break;
        }
    }
    return content;
}

}  // namespace rapporto::app
