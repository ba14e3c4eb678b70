#include "app/stages/model/hypotheses_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/correlation.h"
#include "core/numerics/distributions.h"
#include "core/report/request_wording.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QTextBrowser>
#include <QUrl>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

QString cell(const QString& value, const char* align = "right") {
    return QString("<td align=\"%1\" style=\"padding:3px 9px\">%2</td>").arg(align, value);
}

QString soft(const QString& value) { return "<span style=\"color:{soft}\">" + value + "</span>"; }

/// All effects at once: p by Holm and by the rate of false findings, intervals that all hold
/// together by Bonferroni; where the errors are by draws, p stepped down over these.
QString together(const Answer& answer) {
    std::vector<const Coefficient*> effects;
    std::vector<double> p;
    std::vector<double> stepped;
    for (std::size_t j = 0; j < answer.fit->coefficients.size(); ++j) {
        const Coefficient& c = answer.fit->coefficients[j];
        if (c.designTerm >= 0 && c.p) {
            effects.push_back(&c);
            p.push_back(*c.p);
            if (answer.fit->resampling && answer.fit->resampling->together.size() > 0) {
                stepped.push_back(answer.fit->resampling->together(static_cast<Eigen::Index>(j)));
            }
        }
    }
    if (effects.size() < 2) {
        return {};
    }
    const auto byHolm = holm(p);
    const auto byRate = falseDiscoveryAdjusted(p);
    const double critical =
        criticalValue(answer.alpha / static_cast<double>(effects.size()), effects.front()->df);
    QString rows =
        "<tr>" + cell(soft(QObject::tr("term")), "left") + cell(soft(QObject::tr("estimate"))) +
        cell(soft(QObject::tr("interval that holds with all others"))) + cell(soft("p")) +
        cell(soft(QObject::tr("p, Holm"))) + cell(soft(QObject::tr("p, false findings"))) +
        (stepped.empty() ? QString() : cell(soft(QObject::tr("p, stepped down")))) + "</tr>";
    for (std::size_t i = 0; i < effects.size(); ++i) {
        const Coefficient& c = *effects[i];
        const int d = decimalsFor(c.se);
        rows += "<tr>" + cell(termText(c.term).toHtmlEscaped(), "left") +
                cell(numbered(fixedNumber(c.estimate, d, true))) +
                cell(QObject::tr("%1 to %2")
                         .arg(numbered(fixedNumber(c.estimate - critical * c.se, d, true)),
                              numbered(fixedNumber(c.estimate + critical * c.se, d, true)))) +
                cell(numbered(pText(*c.p)).toHtmlEscaped()) +
                cell(numbered(pText(byHolm[i])).toHtmlEscaped()) +
                cell(numbered(pText(byRate[i])).toHtmlEscaped()) +
                (stepped.empty() ? QString() : cell(numbered(pText(stepped[i])).toHtmlEscaped())) +
                "</tr>";
    }
    return "<p style=\"margin-top:22px\"><i style=\"font-family:STIX;font-size:17px\">" +
           QObject::tr("all effects together") + "</i></p><table cellspacing=\"0\">" + rows +
           "</table><p>" +
           soft(QObject::tr("Looking at %1 effects, one in %2 would seem clear by chance alone if "
                            "none were there; these p-values and intervals allow for that "
                            "(Bonferroni; Holm 1979; Benjamini & Hochberg 1995%3).")
                    .arg(effects.size())
                    .arg(std::lround(1.0 / answer.alpha))
                    .arg(stepped.empty()
                             ? QString()
                             : QObject::tr("; by the draws, Romano & Wolf 2005, which knows how "
                                           "the effects hang together"))) +
           "</p>";
}

}  // namespace

HypothesesPage::HypothesesPage(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      edit_(new QLineEdit(this)),
      message_(new QLabel(this)),
      list_(new QTextBrowser(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 8, 0, 0);
    edit_->setObjectName("hypothesis:edit");
    edit_->setPlaceholderText(
        tr("a statement to test: hives = 0.04,  hives = irrigated,  zone = 0,  member > 0"));
    edit_->setAccessibleName(tr("A statement to test"));
    layout->addWidget(edit_);
    message_->setWordWrap(true);
    dress(message_, "color:{caution}");
    message_->setObjectName("hypothesis:message");
    message_->hide();
    layout->addWidget(message_);
    list_->setFrameShape(QFrame::NoFrame);
    list_->setStyleSheet("background:transparent");
    list_->setOpenLinks(false);
    list_->setObjectName("hypothesis:list");
    list_->setAccessibleName(tr("Statements and their tests"));
    layout->addWidget(list_, 1);
    connect(edit_, &QLineEdit::returnPressed, this, &HypothesesPage::add);
    connect(list_, &QTextBrowser::anchorClicked, this,
            [this](const QUrl& url) { remove(url.toString().mid(4).toUInt()); });
}

void HypothesesPage::add() {
    const std::string typed = utf8(edit_->text().trimmed());
    if (typed.empty() || !answer_ || !answer_->fit) {
        return;
    }
    const auto test = testHypothesis(*answer_->design, *answer_->fit, typed, answer_->alpha);
    message_->setVisible(!test);
    if (!test) {
        message_->setText(numbered(test.error().text()));
        return;
    }
    Question next = *session_.question();
    next.hypotheses.push_back(typed);
    edit_->clear();
    session_.putQuestion(next, tr("test %1").arg(text(typed)));
}

void HypothesesPage::remove(std::size_t index) {
    Question next = *session_.question();
    if (index < next.hypotheses.size()) {
        const std::string was = next.hypotheses[index];
        next.hypotheses.erase(next.hypotheses.begin() + static_cast<std::ptrdiff_t>(index));
        session_.putQuestion(next, tr("take out the test of %1").arg(text(was)));
    }
}

void HypothesesPage::showAnswer(const std::shared_ptr<const Answer>& answer) {
    answer_ = answer;
    if (!answer_ || !answer_->fit) {
        return;
    }
    QString html;
    for (std::size_t i = 0; i < answer_->hypotheses.size(); ++i) {
        const auto& h = answer_->hypotheses[i];
        html += QString(
                    "<p style=\"margin-top:12px\"><b>%1</b> &nbsp; <a href=\"out:%2\" "
                    "style=\"color:{accent};text-decoration:none\">%3</a><br>")
                    .arg(text(answer_->question.hypotheses[i]).toHtmlEscaped())
                    .arg(i)
                    .arg(tr("take out"));
        if (h) {
            const QString statistic =
                h->estimate ? QString("t(%1) = %2")
                                  .arg(h->df2 ? numbered(shortNumber(*h->df2)) : QString("∞"),
                                       numbered(fixedNumber(h->statistic, 2)))
                            : QString("F(%1, %2) = %3")
                                  .arg(numbered(shortNumber(h->df1)),
                                       h->df2 ? numbered(shortNumber(*h->df2)) : QString("∞"),
                                       numbered(fixedNumber(h->statistic, 2)));
            html +=
                soft(statistic + " · " + numbered(pClause(h->p)).toHtmlEscaped() +
                     (answer_->hypotheses.size() > 1 && h->adjusted
                          ? tr(", by Holm %1").arg(numbered(pText(*h->adjusted)).toHtmlEscaped())
                          : QString())) +
                "<br>";
        }
        html += richText(hypothesisReading(*answer_, i)) + "</p>";
    }
    if (answer_->hypotheses.empty()) {
        html += "<p>" +
                soft(tr("Type what is to hold between effects and press Return: an equation, a "
                        "claim with &gt; or &lt;, several joined by “and”. Effects are named like "
                        "their terms; a level is named as (zone = 'Ridge').")) +
                "</p>";
    }
    list_->setHtml(themed(html + together(*answer_)));
}

QString HypothesesPage::shownText() const { return list_->toPlainText(); }

}  // namespace rapporto::app
