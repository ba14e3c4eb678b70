#include "app/stages/data/review_page.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QTableWidget>
#include <QVBoxLayout>

namespace rapporto::app {
namespace {

QString kindWords(ColumnChange::Kind kind) {
    switch (kind) {
        case ColumnChange::Kind::Gone:
            return Session::tr("is gone");
        case ColumnChange::Kind::New:
            return Session::tr("is new");
        case ColumnChange::Kind::OtherKind:
            return Session::tr("holds another kind: numbers and words changed places");
        case ColumnChange::Kind::OtherCells:
            return Session::tr("has other values");
    }
    return {};
}

}  // namespace

ReviewPage::ReviewPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      title_(new QLabel(this)),
      words_(softLine({}, this)),
      columns_(new QTableWidget(0, 4, this)),
      use_(new QPushButton(tr("Use it as it is now"), this)),
      look_(new QPushButton(tr("Look for another file…"), this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 16, 20, 12);
    layout->setSpacing(9);
    title_->setFont(paperFont(19, true));
    layout->addWidget(title_);
    words_->setObjectName("review:words");
    dress(words_, "color:{ink}");
    layout->addWidget(words_);
    columns_->setHorizontalHeaderLabels(
        {tr("file"), tr("column"), tr("what differs"), tr("used by")});
    columns_->setObjectName("review:columns");
    columns_->setAccessibleName(tr("What differs"));
    dressTable(columns_);
    columns_->setSelectionBehavior(QAbstractItemView::SelectRows);
    columns_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    columns_->verticalHeader()->hide();
    columns_->setColumnWidth(0, 150);
    columns_->setColumnWidth(1, 150);
    columns_->setColumnWidth(2, 250);
    columns_->horizontalHeader()->setStretchLastSection(true);
    layout->addWidget(columns_, 1);
    auto* buttons = new QHBoxLayout;
    use_->setProperty("card", true);
    use_->setObjectName("review:use");
    look_->setObjectName("review:look");
    buttons->addWidget(use_);
    buttons->addWidget(look_);
    buttons->addStretch(1);
    layout->addLayout(buttons);
    connect(use_, &QPushButton::clicked, &session_, &Session::acceptReview);
    connect(look_, &QPushButton::clicked, this, [this] { lookFor(firstMissing()); });
}

std::string ReviewPage::firstMissing() const {
    const auto& review = session_.review();
    if (!review) {
        return session_.study().source.file;
    }
    for (const FileReview& file : review->files) {
        if (!file.found) {
            return file.file;
        }
    }
    for (const FileReview& file : review->files) {
        if (file.changed) {
            return file.file;
        }
    }
    return review->proposed.source.file;
}

void ReviewPage::lookFor(const std::string& file) {
    const QString path = QFileDialog::getOpenFileName(
        this, tr("In place of %1").arg(QFileInfo(text(file)).fileName()));
    if (!path.isEmpty()) {
        session_.relink(file, path);
    }
}

void ReviewPage::refresh() {
    const auto& review = session_.review();
    if (!review) {
        QStringList outside;
        for (const std::string& file : session_.outside()) {
            outside << text(file);
        }
        title_->setText(outside.isEmpty() ? tr("Looking at the study’s files…")
                                          : tr("The study’s data lie elsewhere"));
        words_->setText(
            outside.isEmpty()
                ? (session_.sourceRefusal() ? text(session_.sourceRefusal()->text()) : QString())
                : tr("It names %1. Nothing of that is read before you allow it in the "
                     "band above; the study itself is here.")
                      .arg(outside.join(", ").toHtmlEscaped()));
        columns_->setRowCount(0);
        use_->setVisible(false);
        shown_.reset();
        return;
    }
    if (review != shown_) {
        shown_ = review;
        fill(*review);
    }
}

void ReviewPage::fill(const SourceReview& review) {
    QStringList sentences;
    QString title = tr("The data are as they were");
    columns_->setRowCount(0);
    for (const FileReview& file : review.files) {
        const QString name = QFileInfo(text(file.file)).fileName();
        if (!file.found) {
            title = tr("%1 is not where it was").arg(name);
            sentences << tr("<b>%1</b> cannot be found at %2. Nothing is lost: the study is here, "
                            "and waits for its data.")
                             .arg(name.toHtmlEscaped(), text(file.file).toHtmlEscaped());
            continue;
        }
        if (!file.changed) {
            continue;
        }
        title =
            review.refusal ? title : tr("%1 is not the file this study was made with").arg(name);
        const SourceChanges& c = file.changes;
        QString words = tr("<b>%1</b>: ").arg(name.toHtmlEscaped());
        if (!c.noted) {
            words += c.columns.empty()
                         ? tr("the study kept no note of its columns; every name it uses is there")
                         : tr("the study kept no note of its columns; names it uses are missing");
        } else {
            words +=
                c.rowsBefore == c.rowsNow
                    ? tr("%1 rows as before").arg(numbered(countText(c.rowsNow)))
                    : tr("%1 rows, where there were %2")
                          .arg(numbered(countText(c.rowsNow)), numbered(countText(c.rowsBefore)));
            words += c.columns.empty()
                         ? tr("; every column has the same values")
                         : tr("; %1 columns the same, %2 not").arg(c.same).arg(c.columns.size());
        }
        sentences << words + ".";
        for (const ColumnChange& change : c.columns) {
            const int row = columns_->rowCount();
            columns_->insertRow(row);
            QStringList uses;
            for (const std::string& use : change.uses) {
                uses << text(use);
            }
            const QStringList cells = {name, text(change.name), kindWords(change.kind),
                                       uses.join(", ")};
            for (int column = 0; column < 4; ++column) {
                auto* item = new QTableWidgetItem(cells[column]);
                item->setToolTip(cells[column]);
                if (change.kind == ColumnChange::Kind::Gone && !change.uses.empty()) {
                    item->setForeground(colour::kClay);
                }
                columns_->setItem(row, column, item);
            }
        }
    }
    if (review.refusal && title == tr("The data are as they were")) {
        title = tr("The data cannot be used as they are");
        sentences << numbered(review.refusal->text()).toHtmlEscaped();
    }
    title_->setText(title);
    words_->setText(sentences.join("<br>"));
    columns_->setVisible(columns_->rowCount() > 0);
    use_->setVisible(!review.refusal);
    static_cast<QVBoxLayout*>(layout())->setStretch(3, columns_->rowCount() > 0 ? 0 : 1);
}

ReadingContent ReviewPage::reading() const {
    ReadingContent content;
    if (!session_.outside().empty()) {
        content.title = tr("data from elsewhere");
        content.paragraphs
            << tr("A study can name any file of this machine as its table, or one of a "
                  "database that you may read. From somebody you do not know, that "
                  "is how your own data would be read.")
            << tr("Files beside the study are read without asking.");
        return content;
    }
    content.title = tr("changed data");
    content.paragraphs
        << tr("Nothing has been computed from these files yet. Look at what differs; a column "
              "that is gone and used makes its questions say so, and leaves the others alone.")
        << tr("Taken, the change is a step of the trail, and the new state is noted.");
    return content;
}

}  // namespace rapporto::app
