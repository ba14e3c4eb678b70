#include "app/stages/data/left_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/left/left_table.h"

#include <QHeaderView>
#include <QLabel>
#include <QPlainTextEdit>
#include <QRegularExpression>
#include <QTableWidget>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

enum Column { kName, kLabel, kPresent, kMean, kSd, kLow, kHigh, kColumns };

void put(QTableWidget* table, int row, int column, const QString& words) {
    auto* item = new QTableWidgetItem(words);
    item->setTextAlignment((column >= kPresent ? Qt::AlignRight : Qt::AlignLeft) |
                           Qt::AlignVCenter);
    table->setItem(row, column, item);
}

/// A statement in lines that can be read: a sum a line, a part a line.
QString brokenUp(QString statement) {
    static const QRegularExpression kParts("(?<!both) (from|where|group by|join) ");
    statement.replace(", sum(", ",\n    sum(");
    statement.replace(kParts, "\n  \\1 ");
    return statement;
}

}  // namespace

LeftPage::LeftPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      title_(sentenceWord({}, this)),
      table_(new QTableWidget(0, kColumns, this)),
      asked_(softLine({}, this)),
      statements_(new QPlainTextEdit(this)),
      describing_([this](const Result<void>& done) {
          done || done.error().code == ErrorCode::Stopped
              ? void()
              : emit session_.refused(numbered(done.error().text()));
          showFacts();
          emit readingChanged();
      }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 6, 0, 8);
    layout->setSpacing(9);
    layout->addWidget(title_);
    table_->setObjectName("left:table");
    table_->setAccessibleName(tr("Columns of the table"));
    table_->setHorizontalHeaderLabels({tr("variable"), tr("label"), tr("rows with an answer"),
                                       tr("mean"), tr("standard deviation"), tr("from"), tr("to")});
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    dressTable(table_);
    table_->verticalHeader()->hide();
    layout->addWidget(table_, 3);
    asked_->setObjectName("left:asked");
    layout->addWidget(asked_);
    statements_->setReadOnly(true);
    statements_->setObjectName("left:statements");
    statements_->setAccessibleName(tr("What was asked of the table"));
    statements_->setLineWrapMode(QPlainTextEdit::WidgetWidth);
    for (int column = kPresent; column < kColumns; ++column) {
        table_->horizontalHeaderItem(column)->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
    }
    layout->addWidget(statements_, 2);
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        const auto* item = table_->item(table_->currentRow(), kName);
        if (item != nullptr) {
            session_.setVariable(utf8(item->text()));
        }
    });
}

LeftPage::~LeftPage() { job_.stop(); }

void LeftPage::refresh() {
    const auto frame = session_.frame();
    if (!frame || !frame->left()) {
        return;
    }
    showStatements();
    if (frame == shownFrame_) {
        return;
    }
    shownFrame_ = frame;
    const LeftTable& left = *frame->left();
    title_->setText((left.isOnDisk() ? tr("%1 rows of %2 stay on the disk")
                                     : tr("%1 rows of %2 stay with the database"))
                        .arg(numbered(countText(static_cast<std::size_t>(left.rows()))),
                             text(left.table().shown)));
    const auto& variables = left.table().variables;
    table_->setRowCount(static_cast<int>(variables.size()));
    bool labelled = false;
    for (int i = 0; i < table_->rowCount(); ++i) {
        const std::string& name = variables[static_cast<std::size_t>(i)].name;
        const Variable* variable = frame->variable(name);
        labelled = labelled || (variable != nullptr && !variable->label.empty());
        put(table_, i, kName, text(name));
        put(table_, i, kLabel, variable == nullptr ? QString() : text(variable->label));
    }
    table_->setColumnHidden(kLabel, !labelled);
    showFacts();
    if (!left.facts()) {
        // It reads the whole table: the page does not wait for it.
        job_.stop();
        job_ = Job();
        describing_.ask([of = frame->left(), job = job_] { return of->describe(job); });
    }
}

void LeftPage::showFacts() {
    const auto frame = session_.frame();
    if (!frame || !frame->left()) {
        return;
    }
    const auto all = frame->left()->facts();
    for (int i = 0; i < table_->rowCount(); ++i) {
        const auto at = all ? all->find(utf8(table_->item(i, kName)->text()))
                            : LeftFactsByName::const_iterator();
        const bool known = all && at != all->end();
        const auto number = [&](double x) {
            return !known || std::isnan(x) ? QString() : numbered(shortNumber(x, 5));
        };
        put(table_, i, kPresent,
            known ? numbered(countText(static_cast<std::size_t>(at->second.present))) : tr("…"));
        const LeftFacts facts = known ? at->second : LeftFacts{};
        for (const auto& [column, value] :
             {std::pair{kMean, facts.mean}, std::pair{kSd, facts.sd}, std::pair{kLow, facts.low},
              std::pair{kHigh, facts.high}}) {
            put(table_, i, column, number(value));
        }
    }
    table_->resizeColumnsToContents();
}

void LeftPage::showStatements() {
    const auto answer = session_.answer();
    const bool any = answer && answer->asked && !answer->asked->empty();
    const auto frame = session_.frame();
    const bool onDisk = frame && frame->left() && frame->left()->isOnDisk();
    asked_->setText(any ? (onDisk ? tr("For “%1” the table was asked:")
                                  : tr("For “%1” the database was asked, in one transaction that "
                                       "only reads:"))
                              .arg(text(answer->question.title.empty() ? answer->question.id
                                                                       : answer->question.title))
                        : tr("Nothing was asked of the table for a question yet."));
    statements_->setVisible(any);
    QStringList all;
    for (std::size_t i = 0; any && i < answer->asked->size(); ++i) {
        all << brokenUp(text((*answer->asked)[i])) + ";";
    }
    const QString words = all.join("\n\n");
    if (words != statements_->toPlainText()) {
        statements_->setPlainText(words);
    }
}

ReadingContent LeftPage::reading() const {
    ReadingContent content;
    const auto frame = session_.frame();
    const bool onDisk = frame && frame->left() && frame->left()->isOnDisk();
    content.title = onDisk ? tr("left on the disk") : tr("left with the database");
    content.paragraphs
        << (onDisk ? tr("Questions are answered by <b>sums over columns on the disk</b>, block of "
                        "rows by block: however many rows there are, they need little memory.")
                   : tr("Questions are answered by <b>sums that the database works out</b> where "
                        "its rows are: nothing but these sums crosses the wire."))
        << tr("Least squares with classical, robust or clustered errors, weights, groups and "
              "products, one grouping held fixed, two-stage least squares, logit, probit, Poisson "
              "and correlations can be asked so. What looks at single rows says that it needs "
              "them.")
        << tr("Numbers here are of all rows, codes for “no answer” included.");
    auto* self = const_cast<LeftPage*>(this);
    content.actionsTitle = tr("What you can ask of it");
    content.actions = {{tr("Explain one of them"), tr("by sums over all rows"),
                        [self] {
                            self->session_.startQuestion();
                            emit self->questionBegun();
                        }},
                       {tr("Correlate them"), tr("Pearson’s coefficient"), [self] {
                            self->session_.startCorrelate({});
                            emit self->questionBegun();
                        }}};
    return content;
}

}  // namespace rapporto::app
