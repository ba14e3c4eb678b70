#include "app/stages/data/summary_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

enum Column { kName, kMean, kSd, kFirst };

QString sentence(const Refusal& refusal) {
    QString words = text(refusal.what + ". " + refusal.help);
    words[0] = words[0].toUpper();
    return words;
}

}  // namespace

SummaryPage::SummaryPage(Session& session, const QString& prefix, QWidget* parent)
    : DataPage(session, parent),
      size_(new QSpinBox(this)),
      n_(new QLineEdit(this)),
      table_(new QTableWidget(0, kFirst, this)),
      says_(softLine({}, this)),
      use_(new QPushButton(tr("Use this summary"), this)),
      leave_(new QPushButton(tr("Leave it"), this)),
      head_(new QWidget(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 6, 0, 8);
    layout->setSpacing(9);
    auto* line = new QHBoxLayout(head_);
    line->setContentsMargins(0, 0, 0, 0);
    line->addWidget(sentenceWord(tr("A summary of"), this));
    size_->setRange(1, 60);
    size_->setObjectName(prefix + ":size");
    size_->setAccessibleName(tr("Number of variables"));
    line->addWidget(size_);
    line->addWidget(sentenceWord(tr("variables over"), this));
    n_->setPlaceholderText("412");
    n_->setMaximumWidth(90);
    n_->setObjectName(prefix + ":n");
    n_->setAccessibleName(tr("Number of rows behind the summary"));
    line->addWidget(n_);
    line->addWidget(sentenceWord(tr("rows"), this));
    line->addStretch(1);
    layout->addWidget(head_);
    table_->setObjectName(prefix + ":table");
    table_->setAccessibleName(tr("Means, standard deviations and correlations"));
    dressTable(table_);
    table_->verticalHeader()->hide();
    table_->setTabKeyNavigation(true);
    layout->addWidget(table_, 1);
    says_->setObjectName(prefix + ":says");
    layout->addWidget(says_);
    auto* buttons = new QHBoxLayout;
    use_->setProperty("card", true);
    use_->setObjectName(prefix + ":use");
    leave_->setObjectName(prefix + ":leave");
    buttons->addWidget(use_);
    buttons->addWidget(leave_);
    buttons->addStretch(1);
    layout->addLayout(buttons);
    connect(size_, &QSpinBox::valueChanged, this, &SummaryPage::resizeSheet);
    connect(n_, &QLineEdit::textEdited, this, &SummaryPage::readSheet);
    connect(table_, &QTableWidget::cellChanged, this, [this] {
        if (!filling_) {
            readSheet();
        }
    });
    connect(use_, &QPushButton::clicked, this, [this] {
        if (read_) {
            const SummaryMatrix moments = *read_;
            sheet_ = false;
            session_.useMoments(moments);
            emit left();
        }
    });
    connect(leave_, &QPushButton::clicked, this, [this] {
        sheet_ = false;
        emit left();
    });
}

void SummaryPage::startSheet() {
    sheet_ = true;
    read_.reset();
    shownFrame_.reset();
    n_->clear();
    table_->setRowCount(0);
    const QSignalBlocker quiet(size_);
    size_->setValue(3);
    resizeSheet(3);
    n_->setFocus();
}

void SummaryPage::resizeSheet(int variables) {
    filling_ = true;
    table_->setRowCount(variables);
    table_->setColumnCount(kFirst + variables);
    QStringList titles = {tr("name"), tr("mean"), tr("sd")};
    for (int j = 0; j < variables; ++j) {
        titles << (cell(j, kName).isEmpty() ? QString::number(j + 1) : cell(j, kName));
    }
    table_->setHorizontalHeaderLabels(titles);
    table_->setColumnWidth(kName, 150);
    table_->setColumnWidth(kMean, 84);
    table_->setColumnWidth(kSd, 84);
    for (int i = 0; i < variables; ++i) {
        for (int j = 0; j < kFirst + variables; ++j) {
            const int other = j - kFirst;
            auto* item = table_->item(i, j);
            if (item == nullptr) {
                item = new QTableWidgetItem;
                table_->setItem(i, j, item);
            }
            if (j != kName) {
                item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            }
            item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsEditable);
            if (other >= i) {
                // The diagonal is known and the upper half says the same.
                item->setText(other == i ? "1" : QString());
                item->setFlags(Qt::ItemIsEnabled);
                item->setForeground(colour::kSoft);
                item->setBackground(colour::kPanel);
            }
        }
    }
    for (int j = 0; j < variables; ++j) {
        table_->setColumnWidth(kFirst + j, 84);
    }
    filling_ = false;
    readSheet();
}

QString SummaryPage::cell(int row, int column) const {
    const auto* item = table_->item(row, column);
    return item == nullptr ? QString() : item->text().trimmed();
}

void SummaryPage::readSheet() {
    if (!sheet_) {
        return;
    }
    MomentEntries entries;
    const int p = table_->rowCount();
    entries.n = typedNumber(n_->text()).value_or(0.0);
    QString slip;
    const auto number = [&](int row, int column) {
        const auto value = typedNumber(cell(row, column));
        if (!value && !cell(row, column).isEmpty() && slip.isEmpty()) {
            slip = tr("“%1” is no number").arg(cell(row, column));
        }
        return value.value_or(std::nan(""));
    };
    bool means = false;
    bool scales = false;
    for (int i = 0; i < p; ++i) {
        entries.names.push_back(utf8(cell(i, kName)));
        entries.mean.push_back(number(i, kMean));
        entries.sd.push_back(number(i, kSd));
        means = means || !std::isnan(entries.mean.back());
        scales = scales || !std::isnan(entries.sd.back());
        std::vector<double> row;
        for (int j = 0; j < i; ++j) {
            row.push_back(number(i, kFirst + j));
        }
        row.push_back(1.0);
        entries.correlation.push_back(row);
    }
    if (!means) {
        entries.mean.clear();
    }
    if (!scales) {
        entries.sd.clear();
    }
    filling_ = true;
    for (int j = 0; j < p; ++j) {
        table_->horizontalHeaderItem(kFirst + j)
            ->setText(cell(j, kName).isEmpty() ? QString::number(j + 1) : cell(j, kName));
    }
    filling_ = false;
    const auto moments = makeMoments(entries);
    read_ = slip.isEmpty() && moments ? std::optional(*moments) : std::nullopt;
    use_->setEnabled(read_.has_value());
    says_->setText(
        !slip.isEmpty() ? slip
        : !moments      ? sentence(moments.error()).toHtmlEscaped()
        : !means && !scales
            ? tr("Correlations alone: effects will be in standard deviations.")
            : tr("Complete: it can carry least squares, correlations and path systems."));
}

void SummaryPage::showMoments(const SummaryMatrix& moments) {
    filling_ = true;
    const auto p = static_cast<int>(moments.names.size());
    n_->setText(QString::number(moments.n, 'f', 0));
    {
        const QSignalBlocker quiet(size_);
        size_->setValue(p);
    }
    table_->setRowCount(0);
    filling_ = false;
    resizeSheet(p);
    filling_ = true;
    for (int i = 0; i < p; ++i) {
        const auto at = static_cast<std::size_t>(i);
        table_->item(i, kName)->setText(text(moments.names[at]));
        table_->horizontalHeaderItem(kFirst + i)->setText(text(moments.names[at]));
        if (moments.hasMeans) {
            table_->item(i, kMean)->setText(numbered(shortNumber(moments.mean(i), 6)));
        }
        if (moments.hasScale) {
            table_->item(i, kSd)->setText(numbered(shortNumber(moments.sd(i), 6)));
        }
        for (int j = 0; j < p; ++j) {
            table_->item(i, kFirst + j)
                ->setText(i == j  ? QString("1")
                          : j < i ? numbered(shortNumber(moments.correlation(i, j), 4))
                                  : QString());
        }
        for (int j = 0; j < table_->columnCount(); ++j) {
            table_->item(i, j)->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable);
        }
    }
    filling_ = false;
}

void SummaryPage::refresh() {
    size_->setEnabled(sheet_);
    n_->setReadOnly(!sheet_);
    use_->setVisible(sheet_);
    leave_->setVisible(sheet_);
    if (sheet_) {
        return;
    }
    const auto frame = session_.frame();
    if (!frame || frame->moments() == nullptr || frame == shownFrame_) {
        return;
    }
    shownFrame_ = frame;
    showMoments(*frame->moments());
    says_->setText(tr("There are no rows behind this table: what needs rows says so."));
}

ReadingContent SummaryPage::reading() const {
    ReadingContent content;
    content.title = tr("a summary");
    content.paragraphs
        << tr("A printed summary is enough for least squares with classical errors, correlations "
              "and path systems: they need <b>no more than means, standard deviations, "
              "correlations and n</b>.")
        << tr("Residuals, robust errors, logs and squares need rows. Digits as printed limit the "
              "digits of the answer.");
    if (!sheet_) {
        auto* self = const_cast<SummaryPage*>(this);
        content.actionsTitle = tr("What you can ask of it");
        content.actions = {
            {tr("Trace a way"), tr("how a cause reaches its outcome, and through what"),
             [self] {
                 self->session_.startTrace({});
                 emit self->questionBegun();
             }},
            {tr("Explain one of them"), tr("least squares with classical errors"),
             [self] {
                 self->session_.startQuestion();
                 emit self->questionBegun();
             }},
            {tr("Correlate them"), tr("with others held"), [self] {
                 self->session_.startCorrelate({});
                 emit self->questionBegun();
             }}};
    }
    return content;
}

}  // namespace rapporto::app
