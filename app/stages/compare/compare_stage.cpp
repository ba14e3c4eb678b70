#include "app/stages/compare/compare_stage.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/report.h"
#include "core/report/wording.h"

#include <QApplication>
#include <QClipboard>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollArea>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

constexpr double kNames = 150.0;
constexpr double kHead = 58.0;
constexpr double kRow = 50.0;

}  // namespace

CompareTable::CompareTable(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(tr("Variants side by side"));
}

void CompareTable::showAnswers(std::vector<std::shared_ptr<const Answer>> answers,
                               std::size_t chosen) {
    answers_ = std::move(answers);
    chosen_ = chosen;
    terms_.clear();
    for (const auto& a : answers_) {
        if (a && a->fit) {
            for (const Coefficient& c : a->fit->coefficients) {
                if (c.designTerm >= 0 &&
                    std::find(terms_.begin(), terms_.end(), c.term) == terms_.end()) {
                    terms_.push_back(c.term);
                }
            }
        }
    }
    setMinimumHeight(
        static_cast<int>(kHead + kRow * static_cast<double>(terms_.size()) + 5 * 20 + 7 * 22 + 40));
    setMinimumWidth(static_cast<int>(kNames + 130.0 * static_cast<double>(answers_.size())));
    update();
}

QRectF CompareTable::columnRect(std::size_t column) const {
    const double width_ =
        (width() - kNames) / std::max<double>(static_cast<double>(answers_.size()), 1.0);
    const double w = std::min(width_, 220.0);
    return {kNames + w * static_cast<double>(column), 0.0, w, static_cast<double>(height())};
}

void CompareTable::paintEvent(QPaintEvent* /*event*/) {
    QPainter painter(this);
    painter.setRenderHint(QPainter::Antialiasing);
    for (std::size_t a = 0; a < answers_.size(); ++a) {
        const QRectF column = columnRect(a);
        if (a == chosen_) {
            painter.fillRect(column.adjusted(0, 0, 0, -20), QColor(0xE6, 0xEE, 0xEE));
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
    for (const auto& term : terms_) {
        painter.setPen(QPen(colour::kHairline, 1));
        painter.drawLine(QPointF(0, top), QPointF(width(), top));
        painter.setFont(interfaceFont(13, true));
        painter.setPen(colour::kInk);
        painter.drawText(QRectF(4, top, kNames - 12, kRow), Qt::AlignLeft | Qt::AlignVCenter,
                         painter.fontMetrics().elidedText(termText(term), Qt::ElideRight,
                                                          static_cast<int>(kNames) - 14));
        // One axis for all columns that explain the same outcome.
        std::map<std::string, double> reach;
        for (const auto& a : answers_) {
            if (a && a->fit) {
                for (const Coefficient& c : a->fit->coefficients) {
                    if (c.term == term) {
                        reach[a->design->outcome] = std::max(
                            {reach[a->design->outcome], std::abs(c.low), std::abs(c.high)});
                    }
                }
            }
        }
        const QColor colours[] = {colour::kBlue, colour::kOchre, colour::kPlum, colour::kMoss,
                                  colour::kClay};
        for (std::size_t a = 0; a < answers_.size(); ++a) {
            if (!answers_[a] || !answers_[a]->fit) {
                continue;
            }
            for (const Coefficient& c : answers_[a]->fit->coefficients) {
                if (c.term != term) {
                    continue;
                }
                const QRectF column = columnRect(a);
                const double limit = std::max(reach[answers_[a]->design->outcome], 1e-300) * 1.1;
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
                const QString estimate = text(fixedNumber(c.estimate, decimals, true));
                painter.drawText(QRectF(column.left() + 8, top + 29, column.width(), 17),
                                 Qt::AlignLeft | Qt::AlignVCenter, estimate);
                const int used = painter.fontMetrics().horizontalAdvance(estimate);
                painter.setFont(interfaceFont(13));
                painter.setPen(colour::kSoft);
                painter.drawText(QRectF(column.left() + 12 + used, top + 29, column.width(), 17),
                                 Qt::AlignLeft | Qt::AlignVCenter,
                                 "(" + text(fixedNumber(c.se, decimals, true)) + ")");
            }
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
            if (answers_[a] && answers_[a]->fit) {
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
                             tr("refused: ") + text(answers_[a]->refusal->what));
        }
    }
    line(tr("rows"), [](const Answer& a) { return text(countText(a.rows.used)); });
    line("R²",
         [](const Answer& a) { return text(fixedNumber(a.fit->statistics.rSquared, 3, true)); });
    line("σ", [](const Answer& a) { return text(shortNumber(a.fit->statistics.sigma, 3)); });
    line("AIC", [](const Answer& a) {
        return a.fit->statistics.aic ? text(fixedNumber(*a.fit->statistics.aic, 1)) : QString("–");
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
        painter.drawText(QRectF(4, top, kNames, 22), Qt::AlignLeft | Qt::AlignVCenter, text(group));
        for (std::size_t a = 0; a < answers_.size(); ++a) {
            if (!answers_[a] || !answers_[a]->fit) {
                continue;
            }
            const auto verdicts = verdictsByGroup(answers_[a]->checks);
            const auto worst = std::find_if(verdicts.begin(), verdicts.end(),
                                            [&](const auto& one) { return one.group == group; });
            if (worst != verdicts.end()) {
                drawVerdict(painter, QPointF(columnRect(a).left() + 16, top + 11), worst->worst);
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
    : Stage(session, parent), table_(new CompareTable) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 14, 20, 10);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFocusPolicy(Qt::NoFocus);
    scroll->setWidget(table_);
    layout->addWidget(scroll);
    connect(table_, &CompareTable::columnChosen, this, [this](std::size_t column) {
        chosen_ = column;
        if (column < answers_.size() && answers_[column]) {
            session_.setQuestion(answers_[column]->question.id);
        }
    });
}

void CompareStage::refresh() {
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
    emit readingChanged();
}

ReadingContent CompareStage::reading() const {
    ReadingContent content;
    if (answers_.size() < 2) {
        content.title = tr("one answer");
        content.paragraphs << tr(
            "There is nothing beside it yet. A variant answers the same question in another way: "
            "other terms, other errors, other rows.");
        content.actions.push_back(
            {tr("Make a variant"), "Ctrl+D", [this] { session_.startVariant(); }});
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
    content.actions.push_back({tr("Copy the table"), tr("for a sheet or a letter"), [this] {
                                   std::vector<const Answer*> list;
                                   for (const auto& a : answers_) {
                                       if (a && a->fit) {
                                           list.push_back(a.get());
                                       }
                                   }
                                   QString out;
                                   for (const auto& row :
                                        comparisonTable(session_.study(), list).cells) {
                                       QStringList cells;
                                       for (const auto& cell : row) {
                                           cells << text(cell);
                                       }
                                       out += cells.join('\t') + "\n";
                                   }
                                   QApplication::clipboard()->setText(out);
                               }});
    return content;
}

QString CompareStage::state() const {
    const Question* q = session_.question();
    const auto n = q == nullptr ? std::size_t{0} : session_.study().family(q->id).size();
    return n < 2 ? tr("no variants") : tr("%1 variants").arg(n);
}

}  // namespace rapporto::app
