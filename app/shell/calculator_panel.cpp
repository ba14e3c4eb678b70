#include "app/shell/calculator_panel.h"

#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/calculator.h"

#include <QComboBox>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

std::optional<double> numberOf(const QLineEdit* edit) { return typedNumber(edit->text()); }

QLabel* title(const QString& words, int pixels) {
    auto* label = new QLabel(words);
    label->setFont(paperFont(pixels, true));
    return label;
}

/// Digits enough to read back what was meant.
QString plain(double value) {
    return numbered(utf8(QString::number(value, 'g', 6))).replace('-', "−");
}

void showRow(QLineEdit* edit, bool visible) {
    auto* form = qobject_cast<QFormLayout*>(edit->parentWidget()->layout());
    edit->setVisible(visible);
    if (form != nullptr && form->labelForField(edit) != nullptr) {
        form->labelForField(edit)->setVisible(visible);
    }
}

}  // namespace

CalculatorPanel::CalculatorPanel(QWidget* parent) : QScrollArea(parent) {
    setWidgetResizable(true);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setAccessibleName(tr("Calculator"));
    auto* page = new QWidget;
    page->setObjectName("readingPage");
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(20, 18, 18, 18);
    layout->setSpacing(9);
    layout->addWidget(title(tr("calculator"), 19));
    auto* laws = new QWidget;
    auto* form = new QFormLayout(laws);
    form->setContentsMargins(0, 0, 0, 0);
    law_ = new QComboBox;
    law_->addItems({tr("normal"), tr("t"), tr("χ²"), tr("F")});
    law_->setCurrentIndex(1);
    law_->setObjectName("calc:law");
    law_->setAccessibleName(tr("Law"));
    form->addRow(tr("law"), law_);
    tail_ = new QComboBox;
    tail_->addItems({tr("both sides"), tr("above"), tr("below")});
    tail_->setObjectName("calc:tail");
    tail_->setAccessibleName(tr("Which tail"));
    form->addRow(tr("tail"), tail_);
    df1_ = field(tr("degrees of freedom"), "calc:df1", "20", &CalculatorPanel::fromStatistic);
    df2_ = field(tr("and below"), "calc:df2", "100", &CalculatorPanel::fromStatistic);
    statistic_ = field(tr("statistic"), "calc:statistic", "2", &CalculatorPanel::fromStatistic);
    p_ = field(tr("p"), "calc:p", "", &CalculatorPanel::fromP);
    form->addRow(tr("df"), df1_);
    form->addRow(tr("second df"), df2_);
    form->addRow(tr("statistic"), statistic_);
    form->addRow(tr("p"), p_);
    layout->addWidget(laws);
    picture_ = new PlotView;
    picture_->setFixedHeight(110);
    picture_->setFocusPolicy(Qt::NoFocus);
    layout->addWidget(picture_);
    words_ = new QLabel;
    words_->setWordWrap(true);
    words_->setObjectName("calc:words");
    layout->addWidget(words_);
    layout->addSpacing(12);
    layout->addWidget(title(tr("split of the variance"), 17));
    auto* sums = new QWidget;
    auto* sumForm = new QFormLayout(sums);
    sumForm->setContentsMargins(0, 0, 0, 0);
    n_ = field(tr("Rows"), "calc:n", "", &CalculatorPanel::split);
    terms_ = field(tr("Terms without the constant"), "calc:terms", "1", &CalculatorPanel::split);
    model_ = field(tr("Sum of squares, model"), "calc:model", "", &CalculatorPanel::split);
    residual_ = field(tr("Sum of squares, residual"), "calc:residual", "", &CalculatorPanel::split);
    total_ = field(tr("Sum of squares, total"), "calc:total", "", &CalculatorPanel::split);
    sumForm->addRow(tr("n"), n_);
    sumForm->addRow(tr("terms"), terms_);
    sumForm->addRow(tr("SS model"), model_);
    sumForm->addRow(tr("SS residual"), residual_);
    sumForm->addRow(tr("SS total"), total_);
    layout->addWidget(sums);
    split_ = new QLabel;
    split_->setWordWrap(true);
    split_->setTextFormat(Qt::RichText);
    split_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    split_->setObjectName("calc:split");
    layout->addWidget(split_);
    auto* back = new QPushButton(tr("back to the reading"));
    back->setObjectName("calc:close");
    connect(back, &QPushButton::clicked, this, &CalculatorPanel::closed);
    layout->addWidget(back, 0, Qt::AlignLeft);
    layout->addStretch(1);
    setWidget(page);
    for (QComboBox* box : {law_, tail_}) {
        connect(box, &QComboBox::currentIndexChanged, this, &CalculatorPanel::fromStatistic);
    }
    fromStatistic();
    split();
}

QLineEdit* CalculatorPanel::field(const QString& name, const QString& id, const QString& value,
                                  void (CalculatorPanel::*changed)()) {
    auto* edit = new QLineEdit(value);
    edit->setObjectName(id);
    edit->setAccessibleName(name);
    connect(edit, &QLineEdit::textEdited, this, changed);
    return edit;
}

void CalculatorPanel::fromStatistic() {
    const Law law{static_cast<LawKind>(law_->currentIndex()), numberOf(df1_).value_or(0.0),
                  numberOf(df2_).value_or(0.0)};
    const auto statistic = numberOf(statistic_);
    const auto p = probabilityBeyond(law, static_cast<Tail>(tail_->currentIndex()),
                                     statistic.value_or(std::nan("")));
    p_->setText(p ? plain(*p) : QString());
    showLaw(p ? *statistic : std::nan(""));
    if (!p) {
        words_->setText(numbered(p.error().text()));
    }
}

void CalculatorPanel::fromP() {
    const Law law{static_cast<LawKind>(law_->currentIndex()), numberOf(df1_).value_or(0.0),
                  numberOf(df2_).value_or(0.0)};
    const auto statistic =
        statisticFor(law, static_cast<Tail>(tail_->currentIndex()), numberOf(p_).value_or(0.0));
    statistic_->setText(statistic ? plain(*statistic) : QString());
    showLaw(statistic ? *statistic : std::nan(""));
    if (!statistic) {
        words_->setText(numbered(statistic.error().text()));
    }
}

void CalculatorPanel::showLaw(double statistic) {
    const auto kind = static_cast<LawKind>(law_->currentIndex());
    const bool oneSided = kind == LawKind::ChiSquare || kind == LawKind::F;
    showRow(df1_, kind != LawKind::Normal);
    showRow(df2_, kind == LawKind::F);
    tail_->setEnabled(!oneSided);
    if (std::isnan(statistic)) {
        picture_->showNothing({});
        return;
    }
    const Law law{kind, numberOf(df1_).value_or(0.0), numberOf(df2_).value_or(0.0)};
    const auto tail = static_cast<Tail>(tail_->currentIndex());
    picture_->showExhibit(lawPicture(law, tail, statistic));
    const auto p = probabilityBeyond(law, tail, statistic);
    const QString far = oneSided || tail == Tail::Upper ? tr("at or above %1").arg(plain(statistic))
                        : tail == Tail::Lower           ? tr("at or below %1").arg(plain(statistic))
                                              : tr("as far from zero as %1").arg(plain(statistic));
    words_->setText(p ? tr("If the null hypothesis holds, a statistic %1 comes with probability "
                           "%2. It is not the chance that the null holds.")
                            .arg(far, numbered(pText(*p)))
                      : QString());
}

void CalculatorPanel::split() {
    const auto made = splitVariance(numberOf(model_), numberOf(residual_), numberOf(total_),
                                    numberOf(n_).value_or(0.0), numberOf(terms_).value_or(0.0));
    if (!made) {
        const bool empty = n_->text().isEmpty() && model_->text().isEmpty() &&
                           residual_->text().isEmpty() && total_->text().isEmpty();
        split_->setText(empty ? tr("Two sums of squares and n fill the rest.")
                              : numbered(made.error().text()).toHtmlEscaped());
        return;
    }
    const auto row = [](const QString& name, double df, double ss, const QString& rest) {
        return QString(
                   "<tr><td>%1&nbsp;&nbsp;</td><td align=right>%2&nbsp;&nbsp;</td>"
                   "<td align=right>%3&nbsp;&nbsp;</td><td>%4</td></tr>")
            .arg(name, numbered(shortNumber(df, 6)), numbered(shortNumber(ss, 6)), rest);
    };
    split_->setText(
        "<table><tr><td></td><td>df</td><td>SS</td><td></td></tr>" +
        row(tr("model"), made->modelDf, made->model,
            "F = " + numbered(shortNumber(made->f, 5)) + ", " + numbered(pClause(made->p))) +
        row(tr("residual"), made->residualDf, made->residual,
            "σ = " + numbered(shortNumber(made->sigma, 5))) +
        row(tr("total"), made->modelDf + made->residualDf, made->total,
            "R² = " + numbered(fixedNumber(made->rSquared, 4, true)) + tr(", adjusted ") +
                numbered(fixedNumber(made->adjustedRSquared, 4, true))) +
        "</table>");
}

}  // namespace rapporto::app
