#include "app/stages/model/correlate_pages.h"

#include "app/shell/theme.h"
#include "core/report/correlate_wording.h"
#include "core/report/wording.h"

#include <QApplication>
#include <QClipboard>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

namespace rapporto::app {

CorrelatePages::CorrelatePages(Session& session, QWidget* parent)
    : KindPages(session, parent),
      similar_(new QPushButton(tr("alike side by side"), this)),
      view_(new CorrelationView(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    similar_->setProperty("tab", true);
    similar_->setCheckable(true);
    similar_->setCursor(Qt::PointingHandCursor);
    similar_->setObjectName("correlations:similar");
    layout->addWidget(similar_, 0, Qt::AlignRight);
    layout->addWidget(view_, 1);
    auto* note = new QLabel(
        tr("Below the diagonal the shade is r, and the bar its interval between −1 and 1; above it "
           "the digits. Enter or a double click opens the scatter of a pair."),
        this);
    note->setFont(interfaceFont(11));
    dress(note, "color:{soft}");
    note->setWordWrap(true);
    layout->addWidget(note);
    connect(similar_, &QPushButton::toggled, this,
            [this] { view_->showAnswer(answer_, fresh_, similar_->isChecked()); });
    connect(view_, &CorrelationView::pairChosen, this, &KindPages::readingChanged);
    connect(view_, &CorrelationView::pairOpened, this, &CorrelatePages::openPair);
}

void CorrelatePages::showAnswer(std::shared_ptr<const Answer> answer, bool fresh) {
    answer_ = std::move(answer);
    fresh_ = fresh;
    view_->showAnswer(answer_, fresh, similar_->isChecked());
    if (view_->chosen().first < 0 && answer_->correlations->r.rows() > 1) {
        view_->choose(1, 0);
    }
}

void CorrelatePages::openPair(int a, int b) {
    const auto& names = answer_->correlations->variables;
    emit pairAsked(names[static_cast<std::size_t>(a)], names[static_cast<std::size_t>(b)]);
}

ReadingContent CorrelatePages::reading() const {
    ReadingContent content;
    const CorrelationTable& t = *answer_->correlations;
    const auto [a, b] = view_->chosen();
    if (a >= 0 && a < t.r.rows() && b < t.r.rows()) {
        const auto i = static_cast<std::size_t>(a);
        const auto j = static_cast<std::size_t>(b);
        content.title = tr("%1 and %2").arg(text(t.variables[i]), text(t.variables[j]));
        for (const std::string& p : pairReading(*answer_, i, j)) {
            content.paragraphs << richText(p);
        }
        content.actions.push_back(
            {tr("Look at their scatter"), tr("Enter or a double click on the cell"),
             [this, a = a, b = b] { const_cast<CorrelatePages*>(this)->openPair(a, b); }});
    }
    content.paragraphs << "<hr>" << richText(answerReading(*answer_))
                       << richText(rowsReading(answer_->rows));
    content.actionsTitle = tr("What you can do");
    content.actions.push_back(
        {tr("Copy the correlations"), tr("r, p and n as a table for a sheet"), [answer = answer_] {
             QApplication::clipboard()->setText(text(correlationsAsText(*answer->correlations)));
         }});
    return content;
}

QString CorrelatePages::state(const Answer& answer) const {
    const auto p = answer.correlations->r.rows();
    return tr("%1 correlations").arg(p * (p - 1) / 2);
}

QString CorrelatePages::whenEmpty() const {
    return tr(
        "<b>Which variables belong together?</b><br>Click “variables…” above, or drag them "
        "there from the left: two or more.");
}

}  // namespace rapporto::app
