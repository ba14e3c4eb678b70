#include "app/stages/data/sample_page.h"

#include "app/shell/expression_edit.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/row_names.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableWidget>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

QTableWidget* list(const QString& name, const QStringList& titles, const std::vector<int>& widths,
                   const QString& object, QWidget* parent) {
    auto* table = new QTableWidget(0, static_cast<int>(titles.size()), parent);
    table->setHorizontalHeaderLabels(titles);
    table->setObjectName(object);
    table->setAccessibleName(name);
    dressTable(table);
    table->setSelectionBehavior(QAbstractItemView::SelectRows);
    table->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table->verticalHeader()->hide();
    for (std::size_t c = 0; c < widths.size(); ++c) {
        table->setColumnWidth(static_cast<int>(c), widths[c]);
    }
    table->horizontalHeader()->setStretchLastSection(true);
    for (int c = 1; c + 1 < table->columnCount() && object != "sample:aside"; ++c) {
        table->horizontalHeaderItem(c)->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    }
    return table;
}

void put(QTableWidget* table, int row, int column, const QString& value, bool number = false) {
    auto* item = new QTableWidgetItem(value);
    if (number) {
        item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    }
    table->setItem(row, column, item);
}

QString count(std::size_t n) { return numbered(countText(n)); }

}  // namespace

SamplePage::SamplePage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      steps_(list(tr("Conditions of the sample"),
                  {tr("condition"), tr("takes out"), tr("of them unknown"), tr("left"), ""},
                  {300, 80, 120, 80}, "sample:steps", this)),
      condition_(new ExpressionEdit(this)),
      conditionSays_(softLine({}, this)),
      aside_(list(tr("Rows set aside"), {tr("row"), tr("name"), tr("reason")}, {70, 160, 300},
                  "sample:aside", this)),
      asideRule_(new ExpressionEdit(this)),
      asideReason_(new QLineEdit(this)),
      questions_(list(tr("Questions and their rows"),
                      {tr("question"), tr("source"), tr("by rule"), tr("set aside"), tr("missing"),
                       tr("dropped"), tr("used"), tr("missing, by what")},
                      {124, 54, 54, 66, 58, 62, 54, 180}, "sample:questions", this)),
      counting_([this](const Found& found) { showSteps(found); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(7);
    const auto heading = [&](const QString& words) {
        layout->addWidget(sentenceWord(words, this));
    };
    heading(tr("Among rows where"));
    layout->addWidget(steps_, 2);
    auto* line = new QHBoxLayout;
    condition_->setPlaceholderText(tr("and where … (a condition: age >= 18)"));
    condition_->setObjectName("sample:condition");
    condition_->setAccessibleName(tr("A further condition"));
    line->addWidget(condition_, 1);
    auto* add = actionWord(tr("add it"), this);
    add->setObjectName("sample:add");
    auto* drop = actionWord(tr("take the chosen one out"), this);
    drop->setObjectName("sample:drop");
    line->addWidget(add);
    line->addWidget(drop);
    layout->addLayout(line);
    auto* chance = new QHBoxLayout;
    chance->addWidget(softLine(tr("or a part by chance:"), this));
    part_ = new QComboBox(this);
    part_->addItems({tr("this share of the rows, in %"), tr("this many rows"),
                     tr("this many parts, to compare"), tr("this share of the clusters, in %")});
    part_->setObjectName("sample:part");
    part_->setAccessibleName(tr("What is drawn by chance"));
    chance->addWidget(part_);
    amount_ = new QLineEdit("50", this);
    amount_->setMaximumWidth(70);
    amount_->setObjectName("sample:amount");
    amount_->setAccessibleName(tr("How much"));
    chance->addWidget(amount_);
    chance->addWidget(softLine(tr("seed"), this));
    seed_ = new QLineEdit(this);
    seed_->setMaximumWidth(110);
    seed_->setObjectName("sample:seed");
    seed_->setAccessibleName(tr("Seed: the same seed draws the same rows"));
    chance->addWidget(seed_);
    auto* draw = actionWord(tr("draw it"), this);
    draw->setObjectName("sample:draw");
    chance->addWidget(draw);
    chance->addStretch(1);
    layout->addLayout(chance);
    connect(draw, &QPushButton::clicked, this, &SamplePage::drawPart);
    conditionSays_->setObjectName("sample:says");
    layout->addWidget(conditionSays_);
    heading(tr("Set aside, one by one"));
    layout->addWidget(aside_, 3);
    auto* asideLine = new QHBoxLayout;
    asideRule_->setPlaceholderText(tr("rows where … (revenue > 50000)"));
    asideRule_->setObjectName("sample:asideRule");
    asideRule_->setAccessibleName(tr("Rows to set aside"));
    asideReason_->setPlaceholderText(tr("because …"));
    asideReason_->setObjectName("sample:asideReason");
    asideReason_->setAccessibleName(tr("Reason"));
    auto* put = actionWord(tr("set them aside"), this);
    put->setObjectName("sample:setAside");
    auto* back = actionWord(tr("take the chosen back"), this);
    back->setObjectName("sample:back");
    asideLine->addWidget(asideRule_, 3);
    asideLine->addWidget(asideReason_, 2);
    asideLine->addWidget(put);
    asideLine->addWidget(back);
    layout->addLayout(asideLine);
    heading(tr("Where each question’s rows went"));
    layout->addWidget(questions_, 3);
    connect(add, &QPushButton::clicked, this, &SamplePage::addCondition);
    connect(condition_, &QLineEdit::returnPressed, this, &SamplePage::addCondition);
    connect(drop, &QPushButton::clicked, this, &SamplePage::dropCondition);
    connect(put, &QPushButton::clicked, this, &SamplePage::setAsideByRule);
    connect(asideReason_, &QLineEdit::returnPressed, this, &SamplePage::setAsideByRule);
    connect(back, &QPushButton::clicked, this, &SamplePage::takeBack);
}

void SamplePage::refresh() {
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    const std::string& rule = session_.study().sample.where;
    if (frame != shownFrame_ || rule != shownRule_) {
        shownFrame_ = frame;
        shownRule_ = rule;
        condition_->setFrame(frame);
        asideRule_->setFrame(frame);
        showAside();
        if (frame->rows() > kRowsAtOnce) {
            steps_->setRowCount(0);
            conditionSays_->setText(tr("Counting…"));
        }
        counting_.ask(
            [frame, rule] {
                Found out;
                if (!rule.empty()) {
                    auto steps = ruleSteps(*frame, rule);
                    steps ? void(out.steps = *std::move(steps)) : void(out.refusal = steps.error());
                }
                return out;
            },
            frame->rows() <= kRowsAtOnce);
    }
    showQuestions();
}

void SamplePage::showSteps(const Found& found) {
    steps_->setRowCount(static_cast<int>(found.steps.size()));
    for (std::size_t k = 0; k < found.steps.size(); ++k) {
        const RuleStep& step = found.steps[k];
        const int row = static_cast<int>(k);
        put(steps_, row, 0, text(step.condition));
        put(steps_, row, 1, count(step.removed), true);
        put(steps_, row, 2, step.unknown > 0 ? count(step.unknown) : QString(), true);
        put(steps_, row, 3, count(step.left), true);
    }
    conditionSays_->setText(themed(
        found.refusal ? "<span style=\"color:{caution}\">" +
                            numbered(found.refusal->text()).toHtmlEscaped() + "</span>"
        : found.steps.empty() ? tr("No rule: all %1 rows count.").arg(count(shownFrame_->rows()))
                              : QString()));
}

void SamplePage::showAside() {
    const auto& aside = session_.study().sample.setAside;
    aside_->setRowCount(static_cast<int>(aside.size()));
    for (std::size_t k = 0; k < aside.size(); ++k) {
        const int row = static_cast<int>(k);
        put(aside_, row, 0, count(aside[k].row), true);
        put(aside_, row, 1,
            aside[k].row >= 1 && aside[k].row <= shownFrame_->rows()
                ? text(rowName(*shownFrame_, aside[k].row - 1))
                : tr("not in this source"));
        put(aside_, row, 2, text(aside[k].reason));
    }
}

void SamplePage::showQuestions() {
    const auto& questions = session_.study().questions;
    questions_->setRowCount(static_cast<int>(questions.size()));
    for (std::size_t k = 0; k < questions.size(); ++k) {
        const int row = static_cast<int>(k);
        const Question& q = questions[k];
        put(questions_, row, 0, text(q.title.empty() ? q.id : q.title));
        const auto answer = session_.answer(q.id);
        if (!answer) {
            put(questions_, row, 7, tr("not answered yet"));
            continue;
        }
        const RowCounts& c = answer->rows;
        int column = 1;
        for (const std::size_t n : {c.source, c.byRule, c.setAside, c.missing, c.dropped, c.used}) {
            put(questions_, row, column++, count(n), true);
        }
        QStringList lacks;
        for (const RowCounts::Lack& lack : c.missingBy) {
            lacks << tr("%1 %2").arg(termText(lack.name), count(lack.rows));
        }
        put(questions_, row, 7,
            answer->refusal && c.source == 0 ? tr("refused") : lacks.join(" · "));
        questions_->item(row, 7)->setToolTip(lacks.join("\n"));
    }
}

void SamplePage::addCondition() {
    const std::string condition = utf8(condition_->text().trimmed());
    if (condition.empty() || !shownFrame_) {
        return;
    }
    const auto parsed = Expression::parse(condition);
    if (!parsed) {
        conditionSays_->setText(themed("<span style=\"color:{caution}\">" +
                                       numbered(parsed.error().text()).toHtmlEscaped() +
                                       "</span>"));
        return;
    }
    const std::string rule = joinedRule(session_.study().sample.where, condition);
    if (session_.edit(SetRule{rule}, tr("among %1").arg(text(condition)))) {
        condition_->clear();
    }
}

void SamplePage::dropCondition() {
    const int chosen = steps_->currentRow();
    if (chosen < 0) {
        return;
    }
    const auto parts = ruleParts(session_.study().sample.where);
    const std::string rule =
        ruleWithout(session_.study().sample.where, static_cast<std::size_t>(chosen));
    session_.edit(SetRule{rule},
                  tr("no longer among %1").arg(text(parts[static_cast<std::size_t>(chosen)])));
}

void SamplePage::setAsideByRule() {
    const std::string rule = utf8(asideRule_->text().trimmed());
    if (rule.empty() || !shownFrame_) {
        return;
    }
    const auto found = rowsWhere(*shownFrame_, rule);
    if (!found) {
        conditionSays_->setText(themed("<span style=\"color:{caution}\">" +
                                       numbered(found.error().text()).toHtmlEscaped() + "</span>"));
        return;
    }
    std::vector<std::size_t> rows;
    for (const std::size_t i : *found) {
        if (shownFrame_->states()[i] != RowState::SetAside) {
            rows.push_back(i + 1);
        }
    }
    if (rows.empty()) {
        conditionSays_->setText(tr("No row fits “%1”.").arg(text(rule).toHtmlEscaped()));
        return;
    }
    const QString reason = asideReason_->text().trimmed();
    if (session_.edit(SetRowsAside{rows, reason.isEmpty() ? rule : utf8(reason)},
                      tr("set %1 rows aside").arg(rows.size()))) {
        asideRule_->clear();
        asideReason_->clear();
    }
}

void SamplePage::drawPart() {
    const auto said = typedNumber(amount_->text());
    const bool fits = said.has_value();
    const double amount = said.value_or(0.0);
    const QString typed = seed_->text().trimmed();
    const QString seed = typed.isEmpty() ? QString::number(session_.study().seed) : typed;
    bool whole = false;
    (void)seed.toULongLong(&whole);
    const int kind = part_->currentIndex();
    const bool share = kind == 0 || kind == 3;
    const bool sound = fits && amount > 0.0 && (!share || amount < 100.0) &&
                       (share || amount == std::floor(amount)) && (kind != 2 || amount >= 2.0);
    const QString warn = "<span style=\"color:{caution}\">%1</span>";
    if (!sound || !whole) {
        conditionSays_->setText(themed(warn.arg(
            !whole ? tr("A seed is a whole number.")
            : share
                ? tr("A share lies between 0 and 100 %.")
                : tr("How many is a whole number%1.").arg(kind == 2 ? tr(", 2 or more") : ""))));
        return;
    }
    seed_->setText(seed);
    const QString draw = QString("uniform(%1)").arg(seed);
    const QString bound = text(exactNumber(amount / 100.0));
    QString condition;
    if (kind == 0) {
        condition = draw + " < " + bound;
    } else if (kind == 1) {
        condition = QString("rank(%1) <= %2").arg(draw).arg(amount, 0, 'f', 0);
    } else if (kind == 3) {
        const Survey& survey = session_.study().survey;
        const std::string by =
            survey.cluster.empty() ? session_.study().layout.unit : survey.cluster;
        if (by.empty()) {
            conditionSays_->setText(themed(
                warn.arg(tr("Say first what the clusters are, or the units: What a row is."))));
            return;
        }
        // A cluster comes whole: its smallest number decides, brought back to an even law.
        const QString name = text(quotedName(by));
        condition = QString(
                        "1 - power(1 - min(%1) over (partition by %2), count(%2) over "
                        "(partition by %2)) < %3")
                        .arg(draw, name, bound);
    } else {
        const QString name = tr("part_%1").arg(seed);
        session_.edit(
            PutDerived{{utf8(name),
                        utf8(QString("1 + floor(%1 * %2)").arg(draw).arg(amount, 0, 'f', 0)),
                        utf8(tr("part by chance"))}},
            tr("split into %1 parts").arg(amount, 0, 'f', 0));
        VariableEntry entry;
        entry.name = utf8(name);
        entry.measure = Measure::Groups;
        session_.edit(PutVariable{entry}, tr("%1 is groups").arg(name));
        conditionSays_->setText(
            tr("%1 tells the parts apart: a rule of a question takes one of them.").arg(name));
        return;
    }
    session_.edit(SetRule{joinedRule(session_.study().sample.where, utf8(condition))},
                  tr("a part by chance, seed %1").arg(seed));
}

void SamplePage::takeBack() {
    std::vector<std::size_t> rows;
    const auto& aside = session_.study().sample.setAside;
    for (const QModelIndex& index : aside_->selectionModel()->selectedRows()) {
        rows.push_back(aside[static_cast<std::size_t>(index.row())].row);
    }
    if (!rows.empty()) {
        session_.edit(TakeRowsBack{rows}, rows.size() == 1
                                              ? tr("take row %1 back").arg(rows.front())
                                              : tr("take %1 rows back").arg(rows.size()));
    }
}

ReadingContent SamplePage::reading() const {
    ReadingContent content;
    content.title = tr("the sample");
    content.paragraphs
        << tr("A rule takes out the rows where it does not hold <b>or is unknown</b>: a missing "
              "age is not an age above 18. Conditions work in the order written.")
        << tr("A row set aside stays in the data with its reason, and comes back with one click. "
              "What a question lacks is taken out last, and only for that question.");
    return content;
}

}  // namespace rapporto::app
