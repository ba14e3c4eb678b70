#include "app/stages/checks/checks_stage.h"

#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "app/stages/checks/check_list.h"
#include "app/stages/checks/row_sheet_view.h"
#include "core/base/format.h"
#include "core/checks/residual_pictures.h"
#include "core/describe/row_names.h"
#include "core/report/assumptions.h"
#include "core/report/classification.h"
#include "core/study/kept.h"

#include <QGridLayout>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QScrollArea>
#include <QSlider>
#include <QTextBrowser>

#include <set>
#include <utility>

namespace rapporto::app {

ChecksStage::ChecksStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      list_(new CheckList),
      cut_(new QSlider(Qt::Horizontal, this)),
      cutWords_(new QLabel(this)),
      plot_(new PlotView(this)),
      numbers_(new QLabel(this)),
      ledger_(new QTextBrowser(this)),
      ledgerButton_(new QPushButton(tr("assumptions of the study"), this)),
      overview_(new QWidget(this)),
      overviewButton_(new QPushButton(tr("residuals together"), this)),
      more_(new QPushButton(overview_)),
      sheet_(new RowSheetView(session, this)),
      sheetButton_(new QPushButton(tr("row by row"), this)),
      leftLater_([this](const Left& found) {
          left_ = found;
          if (std::exchange(drawing_, false) && overviewButton_->isChecked()) {
              showOverview();
          }
      }) {
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(0);
    auto* scroll = new QScrollArea(this);
    connect(list_, &CheckList::checkChosen, this, [this, scroll](const std::string& id) {
        scroll->ensureVisible(0, list_->rowOf(id).center().y(), 0, 40);
    });
    scroll->setWidgetResizable(true);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setWidget(list_);
    scroll->setFixedWidth(276);
    dress(scroll, "QScrollArea{border-right:1px solid {hairline}}");
    layout->addWidget(scroll);
    listBox_ = scroll;
    auto* right = new QVBoxLayout;
    right->setContentsMargins(16, 12, 16, 12);
    right->addWidget(plot_, 1);
    cut_->setObjectName("checks:cut");
    cut_->setAccessibleName(tr("Probability from which a row is told yes"));
    cut_->setRange(1, 99);
    cut_->setValue(50);
    cut_->hide();
    right->addWidget(cut_);
    cutWords_->setObjectName("checks:cutWords");
    cutWords_->setWordWrap(true);
    cutWords_->setFont(paperFont(15, false));
    cutWords_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    cutWords_->hide();
    right->addWidget(cutWords_);
    connect(cut_, &QSlider::valueChanged, this, &ChecksStage::showCut);
    dress(numbers_, "border-top:2px solid {soft};padding-top:6px");
    numbers_->setWordWrap(true);
    // Wide numbers never push the other columns off the window.
    numbers_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    right->addWidget(numbers_);
    ledger_->setFrameShape(QFrame::NoFrame);
    ledger_->setStyleSheet("background:transparent");
    ledger_->setObjectName("ledger");
    ledger_->setAccessibleName(tr("Assumptions of the study"));
    ledger_->hide();
    right->addWidget(ledger_, 1);
    auto* grid = new QGridLayout(overview_);
    grid->setContentsMargins(0, 0, 0, 0);
    grid->setSpacing(10);
    for (int i = 0; i < 4; ++i) {
        pictures_.push_back(new PlotView(overview_));
        pictures_.back()->setObjectName(QString("checks:picture:%1").arg(i));
        grid->addWidget(pictures_.back(), i / 2, i % 2);
        connect(pictures_.back(), &PlotView::rowsSelected, &session_, &Session::selectRows);
    }
    more_->setProperty("tab", true);
    more_->setObjectName("checks:more");
    more_->setCursor(Qt::PointingHandCursor);
    grid->addWidget(more_, 2, 1, Qt::AlignRight);
    connect(more_, &QPushButton::clicked, this, [this] {
        ++shownPage_;
        showOverview();
    });
    overview_->hide();
    right->addWidget(overview_, 1);
    sheet_->hide();
    right->addWidget(sheet_, 1);
    auto* foot = new QHBoxLayout;
    foot->addStretch(1);
    overviewButton_->setObjectName("checks:overview");
    for (QPushButton* button : {sheetButton_, overviewButton_, ledgerButton_}) {
        button->setCheckable(true);
        button->setProperty("tab", true);
        button->setCursor(Qt::PointingHandCursor);
        // One of them at a time.
        connect(button, &QPushButton::toggled, this, [this, button](bool on) {
            for (QPushButton* other : {sheetButton_, overviewButton_, ledgerButton_}) {
                if (on && other != button) {
                    other->setChecked(false);
                }
            }
            showSelected();
            emit readingChanged();
        });
        button->setMinimumWidth(
            QFontMetrics(interfaceFont(13, true)).horizontalAdvance(button->text()) + 8);
    }
    sheetButton_->setObjectName("checks:rows");
    ledgerButton_->setObjectName("checks:ledger");
    foot->addWidget(sheetButton_);
    foot->addSpacing(14);
    foot->addWidget(overviewButton_);
    foot->addSpacing(14);
    foot->addWidget(ledgerButton_);
    right->addLayout(foot);
    layout->addLayout(right, 1);
    connect(list_, &CheckList::checkChosen, this, [this](const std::string& id) {
        selected_ = id;
        list_->showChecks(answer_, session_.isFresh(), selected_);
        showSelected();
        emit readingChanged();
    });
    connect(plot_, &PlotView::rowsSelected, &session_, &Session::selectRows);
}

void ChecksStage::showCut() {
    const CheckResult* result = selected();
    if (result == nullptr || result->id != "roc" || !answer_) {
        return;
    }
    const auto told = classify(*answer_, cut_->value() / 100.0);
    if (!told) {
        return;
    }
    Exhibit e = result->exhibit;
    const double found = told->yesFound / (told->yesFound + told->yesMissed);
    const double taken = told->noTaken / (told->noTaken + told->noSpared);
    e.lines.push_back({.name = "cut " + fixedNumber(told->cut, 2),
                       .x = {taken, taken},
                       .y = {0.0, found},
                       .dashed = true});
    e.lines.push_back({.x = {0.0, taken}, .y = {found, found}, .dashed = true});
    plot_->showExhibit(std::move(e));
    cutWords_->setText(richText(classificationReading(*answer_, *told)));
}

const CheckResult* ChecksStage::selected() const {
    if (!answer_) {
        return nullptr;
    }
    for (const CheckResult& result : answer_->checks) {
        if (checkKey(result) == selected_) {
            return &result;
        }
    }
    return nullptr;
}

std::string ChecksStage::worst() const {
    for (const Verdict verdict :
         {Verdict::Fails, Verdict::Weigh, Verdict::AllowedFor, Verdict::Noted, Verdict::Fine}) {
        for (const CheckResult& result : answer_->checks) {
            if (result.verdict == verdict) {
                return checkKey(result);
            }
        }
    }
    return {};
}

void ChecksStage::refresh() {
    answer_ = session_.answer();
    if (answer_ && !answer_->checks.empty()) {
        // What was looked at in another question stays in view where it says something here.
        const CheckResult* here = selected();
        const bool other = chosenFor_ != answer_->question.id;
        if (here == nullptr || (other && here->verdict == Verdict::NotApplicable)) {
            selected_ = worst();
        }
        chosenFor_ = answer_->question.id;
    }
    list_->showChecks(answer_, session_.isFresh(), selected_);
    showSelected();
    emit readingChanged();
}

void ChecksStage::showSelected() {
    if (const auto frame = session_.frame()) {
        plot_->setRowNamer([frame](std::size_t row) { return text(rowName(*frame, row)); });
    }
    plot_->showSelection(session_.selectedRows());
    plot_->showHeld(heldRows(answer_));
    const CheckResult* result = selected();
    const bool ledger = ledgerButton_->isChecked();
    const bool overview = overviewButton_->isChecked();
    const bool sheet = sheetButton_->isChecked();
    ledger_->setVisible(ledger);
    overview_->setVisible(overview);
    sheet_->setVisible(sheet);
    listBox_->setVisible(!sheet);  // The rows need the width.
    plot_->setVisible(!ledger && !overview && !sheet);
    if (ledger || overview || sheet) {
        numbers_->hide();
        cut_->hide();
        cutWords_->hide();
        if (sheet) {
            sheet_->showAnswer(answer_);
        } else {
            ledger ? showLedger() : showOverview();
        }
        return;
    }
    const bool tells =
        result != nullptr && result->id == "roc" && result->verdict != Verdict::NotApplicable;
    cut_->setVisible(tells);
    cutWords_->setVisible(tells);
    numbers_->setVisible(result != nullptr && result->verdict != Verdict::NotApplicable);
    if (result == nullptr) {
        plot_->showNothing(
            answer_ && answer_->refusal ? numbered(answer_->refusal->text())
            : answer_ && answer_->correlations
                ? tr("Correlations have no assumptions of their own to check: look at their "
                     "scatters.")
            : answer_ && !answer_->checks.empty()
                ? tr("None of the checks is made for this way of estimating.")
                : tr("Checks are computed with every answer. State a question first."));
        return;
    }
    if (result->verdict == Verdict::NotApplicable) {
        plot_->showNothing(!result->awaited                     ? numbered(result->reading)
                           : session_.bench().progress().busy() ? tr("It is being worked out …")
                                                                : stoppedWords());
        return;
    }
    const Exhibit& picture = result->exhibit;
    if (picture.x.empty() && picture.lines.empty() && picture.bars.empty() &&
        answer_->fromMoments) {
        plot_->showNothing(tr("Its picture shows rows, and they are not at hand."));
    } else {
        plot_->showExhibit(picture);
    }
    plot_->setStale(!session_.isFresh() || result->awaited);
    if (tells) {
        showCut();
    }
    std::vector<std::pair<QString, QString>> cells;
    if (result->statistic) {
        cells.emplace_back(text(result->statisticName),
                           numbered(shortNumber(*result->statistic, 4)));
    }
    if (!result->df.empty()) {
        QString df;
        for (const double d : result->df) {
            df += (df.isEmpty() ? "" : ", ") + numbered(shortNumber(d, 6));
        }
        cells.emplace_back("df", df);
    }
    if (result->p) {
        cells.emplace_back("p", numbered(pText(*result->p)));
    }
    for (const auto& [name, value] : result->details) {
        // The slider tells what a cut does.
        if (cells.size() < 5 && !(tells && name.starts_with("cut "))) {
            cells.emplace_back(text(name), numbered(shortNumber(value, 3)));
        }
    }
    QString head;
    QString body;
    for (const auto& [name, value] : cells) {
        head += "<td style=\"padding-right:22px;color:{soft};font-size:12px\">" +
                name.toHtmlEscaped() + "</td>";
        body += "<td style=\"padding-right:22px;font-size:15px;white-space:nowrap\">" +
                value.toHtmlEscaped() + "</td>";
    }
    numbers_->setText(
        themed("<table cellspacing=\"0\"><tr>" + head + "</tr><tr>" + body + "</tr></table>"));
}

void ChecksStage::showOverview() {
    static const std::vector<CheckResult> kNone;
    const std::vector<const CheckResult*> shown = keyPictures(answer_ ? answer_->checks : kNone);
    const auto frame = session_.frame();
    if (left_.of != answer_) {
        left_ = {answer_, {}};
        drawing_ = false;
        leftLater_.cancel();
        if (answer_ && answer_->fit && !answer_->fromMoments) {
            // Smooths over many rows take longer than a click may.
            const bool few = answer_->rows.used <= kRowsAtOnce;
            drawing_ = !few;
            leftLater_.ask(
                [answer = answer_] {
                    return Left{answer, residualPictures(*answer->design, *answer->fit,
                                                         answer->question.settings, answer->alpha)};
                },
                few);
        }
    }
    const std::vector<Exhibit>& further = left_.pictures;
    // Fits whose checks have no pictures of what is left begin with those of their own.
    const bool keys =
        std::any_of(shown.begin(), shown.end(), [](const CheckResult* r) { return r != nullptr; });
    const std::size_t first = keys || further.empty() ? 1 : 0;
    const std::size_t pages = first + (further.size() + pictures_.size() - 1) / pictures_.size();
    shownPage_ %= pages;
    more_->setVisible(pages > 1);
    more_->setText(shownPage_ + 1 == pages
                       ? tr("back to the first")
                       : tr("further pictures, %1 of %2").arg(shownPage_ + 2).arg(pages));
    if (shownPage_ >= first) {
        for (std::size_t i = 0; i < pictures_.size(); ++i) {
            const std::size_t at = (shownPage_ - first) * pictures_.size() + i;
            if (at >= further.size()) {
                pictures_[i]->showNothing({});
                continue;
            }
            if (frame) {
                pictures_[i]->setRowNamer(
                    [frame](std::size_t row) { return text(rowName(*frame, row)); });
            }
            pictures_[i]->showExhibit(further[at]);
            pictures_[i]->showSelection(session_.selectedRows());
            pictures_[i]->showHeld(heldRows(answer_));
        }
        return;
    }
    for (std::size_t i = 0; i < pictures_.size(); ++i) {
        if (shown[i] == nullptr) {
            const QString why =
                keys       ? tr("There is no such picture of this question.")
                : i != 0   ? QString()
                : drawing_ ? tr("What is left of %1 rows is being drawn …")
                                 .arg(numbered(countText(answer_->rows.used)))
                           : tr("A fit of this kind leaves no residuals that a picture could "
                                "show.");
            pictures_[i]->showNothing(why);
            continue;
        }
        if (frame) {
            pictures_[i]->setRowNamer(
                [frame](std::size_t row) { return text(rowName(*frame, row)); });
        }
        pictures_[i]->showExhibit(shown[i]->exhibit);
        pictures_[i]->showSelection(session_.selectedRows());
        pictures_[i]->showHeld(heldRows(answer_));
    }
}

void ChecksStage::showLedger() {
    std::vector<std::shared_ptr<const Answer>> kept;
    std::vector<const Answer*> answers;
    for (const Question& q : session_.study().questions) {
        if (auto a = session_.answer(q.id)) {
            answers.push_back(a.get());
            kept.push_back(std::move(a));
        }
    }
    const auto rows = assumptionLedger(session_.study(), answers);
    QString html;
    std::string question;
    for (const AssumptionRow& row : rows) {
        if (row.state == AssumptionRow::State::Unasked) {
            continue;
        }
        if (row.question != question) {
            question = row.question;
            html += QString(
                        "<p style=\"margin-top:14px\"><i style=\"font-family:STIX;"
                        "font-size:17px\">%1</i></p>")
                        .arg(text(row.title).toHtmlEscaped());
        }
        const bool open = row.state == AssumptionRow::State::Open;
        html += QString(
                    "<p style=\"margin:5px 0 0 0\"><span style=\"color:%1\">%2</span> %3 "
                    "<span style=\"color:{soft}\">%4</span>%5</p>")
                    .arg(verdictColour(row.worst).name(), text(verdictMark(row.worst)),
                         "<b>" + text(row.group).toHtmlEscaped() + "</b>",
                         row.awaited                               ? tr("being worked out …")
                         : row.state == AssumptionRow::State::Fine ? tr("nothing against it")
                                                                   : richText(row.evidence),
                         row.state == AssumptionRow::State::Fine ? QString()
                         : open ? "<br>&nbsp;&nbsp;&nbsp;<span style=\"color:{caution}\">" +
                                      tr("open") + "</span>"
                                : "<br>&nbsp;&nbsp;&nbsp;" + text(row.done).toHtmlEscaped());
    }
    const std::size_t open = openDoubts(rows);
    ledger_->setHtml(themed(
        "<p>" +
        (open == 0 ? tr("No doubt is open.")
                   : tr("<b>%1 open.</b> A doubt closes with a reason beside its check, or with a "
                        "variant that is free of it.")
                         .arg(open)) +
        "</p>" + html));
}

void ChecksStage::addDecision(ReadingContent& content, const CheckResult& result) const {
    const Question* q = session_.question();
    if (q == nullptr) {
        return;
    }
    QString reason;
    for (const Decision& d : q->decisions) {
        reason = d.check == result.id ? text(d.reason) : reason;
    }
    // One reason for the question that the check answers: five tests of normality are one doubt.
    std::vector<std::string> ids;
    const Check* own = findCheck(result.id);
    for (const CheckResult& c : answer_->checks) {
        const Check* check = findCheck(c.id);
        const bool doubts = isDoubt(c.verdict);
        if (doubts && check != nullptr && own != nullptr &&
            std::string_view(check->group) == own->group) {
            ids.push_back(c.id);
        }
    }
    SheetField field;
    field.name = tr("kept because");
    field.value = reason;
    field.placeholder = tr("a reason, for the report");
    field.set = [this, id = result.id, ids](const QString& value) {
        const Question* present = session_.question();
        if (present == nullptr) {
            return;
        }
        const Question next = withDecision(*present, ids, "kept", utf8(value.trimmed()));
        if (next.decisions != present->decisions) {
            session_.putQuestion(next, value.trimmed().isEmpty()
                                           ? tr("reopen %1").arg(text(id))
                                           : tr("keep in spite of %1").arg(text(id)));
        }
    };
    content.fields.push_back(std::move(field));
}

ReadingContent ChecksStage::rowsReadingContent() const {
    ReadingContent content;
    content.title = tr("row by row");
    content.paragraphs << sheet_->reading();
    const std::size_t chosen = session_.selectedRows().size();
    const Question* q = session_.question();
    if (q == nullptr) {
        return content;
    }
    content.actionsTitle = tr("What you can do");
    if (chosen == 0) {
        addKeepers(content);
        return content;
    }
    content.actions.push_back(
        {tr("See it without %1 selected").arg(chosen), tr("a variant beside this question"),
         [this] {
             const Question* present = session_.question();
             if (present == nullptr) {
                 return;
             }
             Question variant = *present;
             variant.id.clear();
             variant.lead = false;
             variant.variantOf = present->variantOf.empty() ? present->id : present->variantOf;
             for (const std::size_t row : session_.selectedRows()) {
                 variant.without.push_back(row + 1);
             }
             std::sort(variant.without.begin(), variant.without.end());
             variant.without.erase(std::unique(variant.without.begin(), variant.without.end()),
                                   variant.without.end());
             const std::string rows = plural(session_.selectedRows().size(), "row", "rows");
             variant.title = "without " + rows;
             session_.putQuestion(variant, tr("see it without %1").arg(text(rows)));
         }});
    content.actions.push_back(
        {tr("Set %1 selected aside").arg(chosen), tr("Delete · with a reason: Shift+Delete"),
         [this] { session_.setSelectedAside(tr("set aside from the row sheet")); }});
    addKeepers(content);
    return content;
}

void ChecksStage::addKeepers(ReadingContent& content) const {
    const auto frame = session_.frame();
    if (!frame || !session_.isFresh()) {
        return;
    }
    std::set<std::string> taken;
    for (const Variable& v : frame->table().variables) {
        taken.insert(v.name);
    }
    for (const Keepable& what : keepables(*answer_)) {
        const auto same = [&](const KeptColumn& c) {
            return c.question == answer_->question.id && c.what == what.what &&
                   c.grouping == what.grouping;
        };
        const auto& kept = session_.study().kept;
        const auto before = std::find_if(kept.begin(), kept.end(), same);
        content.actions.push_back(
            {tr("Keep %1 as a variable").arg(text(what.shown)),
             before == kept.end() ? tr("they stay as they are, whatever becomes of the question")
                                  : tr("%1 holds them as they were; these are kept beside it")
                                        .arg(text(before->name)),
             [this, what, taken, rows = frame->rows()] {
                 const auto column = keptColumn(*answer_, what, rows, taken, Job());
                 if (!column) {
                     emit session_.refused(numbered(column.error().text()));
                     return;
                 }
                 session_.edit(PutKept{*column},
                               tr("keep %1 as %2").arg(text(what.shown), text(column->name)));
             }});
    }
}

ReadingContent ChecksStage::reading() const {
    ReadingContent content;
    if (sheetButton_->isChecked() && answer_ && answer_->fit) {
        return rowsReadingContent();
    }
    const CheckResult* result = selected();
    if (result == nullptr) {
        content.title = tr("checks");
        content.paragraphs
            << (answer_ && answer_->fit && !answer_->checks.empty()
                    ? tr("None of the checks is made for this way of estimating. What can be held "
                         "against it: the same question asked another way, beside it in Compare; "
                         "its terms one by one under Hypotheses; the rows it rests on, row by row.")
                    : tr("Each assumption behind an answer is examined as soon as the answer is "
                         "there."));
        return content;
    }
    const Check* check = findCheck(result->id);
    content.title = text(checkName(*result));
    content.help = "check:" + result->id;
    if (result->awaited) {
        // What it said before is no reading of what is asked now.
        content.paragraphs << (session_.bench().progress().busy()
                                   ? tr("This check is being worked out.")
                                   : stoppedWords());
        return content;
    }
    const std::string answers = list_->answerTo(selected_);
    if (!answers.empty()) {
        content.paragraphs << "<i style=\"font-family:STIX;font-size:16px\">" +
                                  QString::fromUtf8(check->group).toHtmlEscaped() + "</i> " +
                                  richText(answers);
    }
    content.paragraphs << richText(result->reading);
    if (check != nullptr) {
        content.paragraphs << QString("<span style=\"color:{soft}\">%1</span>")
                                  .arg(tr("Null: %1.<br>Verdict: %2.<br>%3")
                                           .arg(QString::fromUtf8(check->null).toHtmlEscaped(),
                                                QString::fromUtf8(check->rule).toHtmlEscaped(),
                                                QString::fromUtf8(check->source).toHtmlEscaped()));
    }
    if (isDoubt(result->verdict)) {
        addDecision(content, *result);
    }
    if (isDoubt(result->verdict) && check != nullptr && check->isOfData()) {
        std::string about;
        for (const Oddity& odd : session_.oddities()) {
            const bool here = result->headline.starts_with(odd.title) && !odd.variables.empty();
            about = here ? odd.variables.front() : about;
        }
        content.actions.push_back({tr("Mend it in the data"),
                                   tr("or say there why it stands: for every question at once"),
                                   [this, about] { emit session_.oddityAsked(about); }});
    }
    content.actionsTitle =
        result->remedies.empty() && content.actions.empty() ? QString() : tr("What you can do");
    for (const Remedy& remedy : result->remedies) {
        content.actions.push_back({text(remedy.label), numbered(remedy.why),
                                   [this, remedy] { session_.tryRemedy(remedy); }});
    }
    if (!session_.selectedRows().empty()) {
        content.actions.push_back(
            {tr("Set %1 selected aside").arg(session_.selectedRows().size()),
             tr("Delete · with a reason: Shift+Delete"),
             [this] { session_.setSelectedAside(tr("set aside from %1").arg(text(selected_))); }});
    }
    return content;
}

QString ChecksStage::stoppedWords() {
    return tr("It was stopped before it was done. Any change of the question starts it again.");
}

std::vector<ReportItem> ChecksStage::forReport() const {
    const CheckResult* check = selected();
    const Question* q = session_.question();
    if (q != nullptr && overview_->isVisible()) {
        ReportItem figure("figure", {q->id});
        figure.shows = shownPage_ == 0 ? "residuals" : "residuals-further";
        return {figure};
    }
    if (q == nullptr || check == nullptr || check->verdict == Verdict::NotApplicable) {
        return q == nullptr ? std::vector<ReportItem>()
                            : std::vector<ReportItem>{{"checks", {q->id}}};
    }
    ReportItem figure("figure", {q->id});
    figure.shows = check->id;
    return {figure};
}

QString ChecksStage::state() const {
    const auto answer = session_.answer();
    if (!answer || answer->refusal) {
        return "–";
    }
    if (answer->correlations) {
        return tr("none to ask");
    }
    if (const std::size_t open = awaitedChecks(*answer); open > 0) {
        return tr("%1 of %2").arg(answer->checks.size() - open).arg(answer->checks.size());
    }
    const auto open = openDoubts(*answer);
    const auto fails = std::count_if(open.begin(), open.end(),
                                     [](const auto& one) { return one.worst == Verdict::Fails; });
    const auto weigh = std::ssize(open) - fails;
    if (open.empty()) {
        const auto count = [&](auto holds) {
            return std::count_if(answer->checks.begin(), answer->checks.end(), holds);
        };
        const auto applicable =
            count([](const auto& c) { return c.verdict != Verdict::NotApplicable; });
        const auto fine = count([](const auto& c) { return c.verdict == Verdict::Fine; });
        return answer->checks.empty()                     ? tr("none asked")
               : applicable == 0                          ? tr("none applies")
               : fine != applicable                       ? tr("none open")
               : applicable == std::ssize(answer->checks) ? tr("all fine")
                                                          : tr("%1 fine").arg(applicable);
    }
    return fails > 0 ? weigh > 0 ? tr("%1 fail, %2 to weigh").arg(fails).arg(weigh)
                                 : tr("%1 fail").arg(fails)
                     : tr("%1 to weigh").arg(weigh);
}

}  // namespace rapporto::app
