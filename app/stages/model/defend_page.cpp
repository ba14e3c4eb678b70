#include "app/stages/model/defend_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/expression/expression.h"
#include "core/report/defence_picture.h"
#include "core/report/defence_wording.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

QLineEdit* numberField(QWidget* parent, const QString& name, const QString& says, double value) {
    auto* field = new QLineEdit(numbered(exactNumber(value)), parent);
    field->setObjectName(name);
    field->setAccessibleName(says);
    field->setFixedWidth(84);
    field->setAlignment(Qt::AlignRight);
    return field;
}

void choose(QComboBox* box, const std::string& name) {
    const int at = box->findData(text(name));
    box->setCurrentIndex(std::max(at, 0));
}

}  // namespace

DefendPage::DefendPage(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      plot_(new PlotView(this)),
      choices_(new QWidget(this)),
      by_(new QComboBox(choices_)),
      within_(new QComboBox(choices_)),
      words_(new QLabel(this)),
      sizes_(new QWidget(this)),
      sizesLayout_(new QVBoxLayout(sizes_)),
      problem_(new QLabel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    auto* line = new QHBoxLayout(choices_);
    line->setContentsMargins(0, 0, 0, 0);
    by_->setObjectName("defend:by");
    by_->setAccessibleName(tr("Who draws one lot"));
    within_->setObjectName("defend:within");
    within_->setAccessibleName(tr("Within which groups lots are drawn"));
    line->addWidget(new QLabel(tr("lots among"), choices_));
    line->addWidget(by_);
    line->addWidget(new QLabel(tr("within"), choices_));
    line->addWidget(within_);
    line->addStretch(1);
    layout->addWidget(choices_);
    plot_->setObjectName("defendPicture");
    plot_->setAccessibleName(tr("Effects that lots give"));
    layout->addWidget(plot_, 1);
    words_->setObjectName("defendWords");
    words_->setWordWrap(true);
    words_->setTextFormat(Qt::RichText);
    layout->addWidget(words_);
    sizesLayout_->setContentsMargins(0, 4, 0, 0);
    layout->addWidget(sizes_);
    problem_->setObjectName("defend:problem");
    dress(problem_, "color:{caution}");
    problem_->hide();
    layout->addWidget(problem_);
    layout->addStretch(0);
    const auto ask = [this] {
        askLots(by_->currentData().toString(), within_->currentData().toString());
    };
    connect(by_, &QComboBox::activated, this, ask);
    connect(within_, &QComboBox::activated, this, ask);
}

bool DefendPage::has(const Answer& answer) {
    const Question& q = answer.question;
    return answer.defence && (q.byLot || q.worstCases || !q.planned.empty());
}

void DefendPage::showAnswer(const std::shared_ptr<const Answer>& answer, bool fresh) {
    answer_ = answer;
    const Question& q = answer->question;
    const ByLot* lots = lotsToDraw(*answer);
    choices_->setVisible(q.byLot.has_value());
    plot_->setVisible(lots != nullptr);
    if (q.byLot) {
        fillChoices(q);
    }
    if (lots != nullptr) {
        plot_->showExhibit(lotsExhibit(*lots));
        plot_->setStale(!fresh);
    }
    QStringList refused;
    for (const std::string& one : defenceReading(*answer)) {
        if (one.starts_with("~")) {
            refused << richText(one);
        }
    }
    words_->setVisible(!refused.isEmpty());
    words_->setText("<p>" + refused.join("</p><p>") + "</p>");
    buildSizes(q);
}

void DefendPage::fillChoices(const Question& question) {
    const auto frame = session_.frame();
    for (QComboBox* box : {by_, within_}) {
        box->clear();
        box->addItem(box == by_ ? tr("rows") : tr("all rows"), QString());
        for (const Variable& variable :
             frame ? frame->table().variables : std::vector<Variable>()) {
            if (isGrouping(variable.measure) || variable.measure == Measure::Text) {
                const QString name = text(quotedName(variable.name));
                box->addItem(tr("groups of %1").arg(name), name);
            }
        }
        const std::string present = box == by_ ? question.byLot->by
                                    : question.byLot->within.empty()
                                        ? std::string()
                                        : question.byLot->within.front();
        if (!present.empty() && box->findData(text(present)) < 0) {
            box->addItem(tr("groups of %1").arg(text(present)), text(present));
        }
        choose(box, present);
    }
}

void DefendPage::buildSizes(const Question& question) {
    QString shape = text(question.id);
    for (const PlannedRequest& one : question.planned) {
        shape += QString("|%1 %2 %3").arg(text(one.of)).arg(one.effect).arg(one.power);
    }
    if (shape == built_) {
        return;
    }
    built_ = shape;
    problem_->hide();
    while (QLayoutItem* item = sizesLayout_->takeAt(0)) {
        if (QWidget* widget = item->widget()) {
            widget->setParent(nullptr);
            widget->deleteLater();
        }
        delete item;
    }
    for (std::size_t k = 0; k < question.planned.size(); ++k) {
        const PlannedRequest& one = question.planned[k];
        auto* row = new QWidget(sizes_);
        auto* line = new QHBoxLayout(row);
        line->setContentsMargins(0, 0, 0, 0);
        line->addWidget(new QLabel(tr("rows that find an effect of"), row));
        auto* effect = numberField(row, QString("defend:effect:%1").arg(k),
                                   tr("Size of the effect of %1").arg(text(one.of)), one.effect);
        auto* power = numberField(row, QString("defend:power:%1").arg(k),
                                  tr("Probability to find it"), one.power);
        line->addWidget(effect);
        line->addWidget(new QLabel(tr("of %1 with probability").arg(text(one.of)), row));
        line->addWidget(power);
        line->addStretch(1);
        sizesLayout_->addWidget(row);
        for (QLineEdit* field : {effect, power}) {
            connect(field, &QLineEdit::editingFinished, this, [this, k, effect, power] {
                if (effect->isModified() || power->isModified()) {
                    effect->setModified(false);
                    power->setModified(false);
                    askSize(k, effect->text(), power->text());
                }
            });
        }
    }
}

void DefendPage::askSize(std::size_t place, const QString& effect, const QString& power) {
    const auto size = typedNumber(effect);
    const auto chance = typedNumber(power);
    const bool good = size && *size != 0.0 && chance && *chance > 0.05 && *chance < 0.9999;
    problem_->setVisible(!good);
    if (!good) {
        problem_->setText(
            !size || *size == 0.0
                ? tr("‘%1’ is no size of an effect: a number other than 0.").arg(effect)
                : tr("‘%1’ is no probability between .05 and .9999.").arg(power));
        return;
    }
    const Question* present = session_.question();
    if (present == nullptr || present->id != answer_->question.id ||
        place >= present->planned.size()) {
        return;
    }
    Question next = *present;
    next.planned[place].effect = *size;
    next.planned[place].power = *chance;
    session_.putQuestion(next, tr("rows that find an effect of %1").arg(effect.trimmed()));
}

void DefendPage::askLots(const QString& by, const QString& within) {
    const Question* present = session_.question();
    if (present == nullptr || present->id != answer_->question.id || !present->byLot) {
        return;
    }
    Question next = *present;
    next.byLot->by = utf8(by);
    next.byLot->within.clear();
    if (!within.isEmpty()) {
        next.byLot->within.push_back(utf8(within));
    }
    if (!(next.byLot == present->byLot)) {
        session_.putQuestion(next, tr("draw lots among %1").arg(by.isEmpty() ? tr("rows") : by));
    }
}

std::vector<QString> DefendPage::reading() const {
    std::vector<QString> out;
    for (const std::string& one : answer_ ? defenceReading(*answer_) : std::vector<std::string>()) {
        out.push_back(richText(one));
    }
    return out;
}

std::vector<ReportItem> DefendPage::forReport() const {
    std::vector<ReportItem> out;
    if (!answer_) {
        return out;
    }
    if (lotsToDraw(*answer_) != nullptr) {
        ReportItem figure("figure", {answer_->question.id});
        figure.shows = "by-lot";
        out.push_back(figure);
    }
    out.emplace_back("defence", std::vector<std::string>{answer_->question.id});
    return out;
}

}  // namespace rapporto::app
