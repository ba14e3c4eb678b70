#include "app/stages/data/odd_page.h"

#include "app/plots/plot_view.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/row_names.h"
#include "core/study/odd_mends.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {

OddPage::OddPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      heading_(softLine({}, this)),
      list_(new QListWidget(this)),
      picture_(new PlotView(this)),
      words_(softLine({}, this)),
      reason_(new QLineEdit(this)),
      stand_(actionWord(tr("let it stand"), this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(8);
    heading_->setObjectName("odd:heading");
    layout->addWidget(heading_);
    auto* both = new QHBoxLayout;
    both->setSpacing(18);
    list_->setObjectName("odd:list");
    list_->setAccessibleName(tr("What looks odd"));
    list_->setFixedWidth(268);
    list_->setWordWrap(true);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    dress(list_,
          "QListWidget::item{padding:8px 6px;border-bottom:1px solid {hairline}} "
          "QListWidget::item:selected{background:{wash};color:{accent}}");
    both->addWidget(list_);
    auto* right = new QVBoxLayout;
    right->setSpacing(8);
    picture_->setObjectName("odd:picture");
    right->addWidget(picture_, 1);
    words_->setObjectName("odd:words");
    dress(words_, "color:{ink}");
    words_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    right->addWidget(words_);
    auto* line = new QHBoxLayout;
    reason_->setObjectName("odd:reason");
    reason_->setPlaceholderText(tr("it stands, because …"));
    reason_->setAccessibleName(tr("Why it stands"));
    line->addWidget(reason_, 1);
    stand_->setObjectName("odd:stand");
    line->addWidget(stand_);
    right->addLayout(line);
    both->addLayout(right, 1);
    layout->addLayout(both, 1);
    connect(list_, &QListWidget::currentRowChanged, this, [this](int row) {
        if (row >= 0 && row < static_cast<int>(session_.oddities().size())) {
            chosen_ = session_.oddities()[static_cast<std::size_t>(row)].id();
            showChosen();
            emit readingChanged();
        }
    });
    connect(stand_, &QPushButton::clicked, this, &OddPage::letStand);
    connect(reason_, &QLineEdit::returnPressed, this, &OddPage::letStand);
    connect(picture_, &PlotView::rowsSelected, &session_, &Session::selectRows);
}

const Oddity* OddPage::chosen() const {
    const auto frame = session_.frame();
    for (const Oddity& one : session_.oddities()) {
        // While another table is being looked over those of the one before are still there.
        const bool here = frame && std::all_of(one.variables.begin(), one.variables.end(),
                                               [&](const std::string& name) {
                                                   return frame->column(name) != nullptr;
                                               });
        if (one.id() == chosen_ && here) {
            return &one;
        }
    }
    return nullptr;
}

void OddPage::showVariable(const std::string& name) {
    for (const Oddity& one : session_.oddities()) {
        if (std::find(one.variables.begin(), one.variables.end(), name) != one.variables.end()) {
            chosen_ = one.id();
            break;
        }
    }
    refresh();
}

void OddPage::refresh() {
    const auto& all = session_.oddities();
    const Sample& sample = session_.study().sample;
    const QSignalBlocker quiet(list_);
    const std::string before = chosen_;
    list_->clear();
    std::size_t open = 0;
    int row = -1;
    for (std::size_t k = 0; k < all.size(); ++k) {
        const bool stands = reasonItStands(sample, all[k]) != nullptr;
        auto* item = new QListWidgetItem(text(capitalised(all[k].title)) +
                                         (stands ? tr(" · stands") : QString()));
        if (stands) {
            item->setForeground(colour::kSoft);
        }
        list_->addItem(item);
        open += stands ? 0U : 1U;
        row = all[k].id() == before ? static_cast<int>(k) : row;
    }
    const bool known = session_.odditiesAreFresh();
    heading_->setText(
        !known ? tr("The table is being looked over …")
        : session_.oddTrouble()
            ? tr("The table could not be looked over: %1").arg(text(session_.oddTrouble()->text()))
        : session_.frame() && session_.frame()->refusal()
            ? tr("The table waits for its shape: what looks odd is told once it stands.")
        : all.empty() ? tr("Nothing looks odd: no code that looks like “no answer”, no level "
                           "spelled twice, no row that repeats, no value far from the others.")
        : open == 0
            ? tr("Everything odd here has been looked at.")
            : tr("%1 to look at. What stays open stands beside every question that uses it.")
                  .arg(open));
    if (!all.empty()) {
        row = row < 0 ? 0 : row;
        list_->setCurrentRow(row);
        chosen_ = all[static_cast<std::size_t>(row)].id();
    }
    const bool any = !all.empty();
    for (QWidget* part : {static_cast<QWidget*>(list_), static_cast<QWidget*>(picture_),
                          static_cast<QWidget*>(words_), static_cast<QWidget*>(reason_),
                          static_cast<QWidget*>(stand_)}) {
        part->setVisible(any);
    }
    showChosen();
}

void OddPage::showChosen() {
    const Oddity* odd = chosen();
    const auto frame = session_.frame();
    if (odd == nullptr || !frame) {
        return;
    }
    picture_->setRowNamer([frame](std::size_t row) { return text(rowName(*frame, row)); });
    Exhibit exhibit = oddExhibit(*frame, *odd);
    exhibit.title = capitalised(exhibit.title);
    exhibit.x.empty() ? picture_->showNothing(text(capitalised(odd->title)))
                      : picture_->showExhibit(std::move(exhibit));
    picture_->showSelection(session_.selectedRows());
    words_->setText(richText(odd->text));
    const std::string* reason = reasonItStands(session_.study().sample, *odd);
    reason_->setText(reason == nullptr ? QString() : text(*reason));
    stand_->setText(reason == nullptr ? tr("let it stand") : tr("open it again"));
}

void OddPage::letStand() {
    const Oddity* odd = chosen();
    if (odd == nullptr) {
        return;
    }
    const bool stands = reasonItStands(session_.study().sample, *odd) != nullptr;
    const QString reason = reason_->text().trimmed();
    if (!stands && reason.isEmpty()) {
        reason_->setFocus();
        emit session_.refused(tr("Say why it stands: the reason goes into the report."));
        return;
    }
    session_.edit(AcceptOddity{odd->id(), stands ? std::string() : utf8(reason)},
                  stands ? tr("open again: %1").arg(text(odd->title))
                         : tr("let stand: %1").arg(text(odd->title)));
}

ReadingContent OddPage::reading() const {
    ReadingContent content;
    content.title = tr("what looks odd");
    const Oddity* odd = chosen();
    const auto frame = session_.frame();
    if (odd == nullptr || !frame) {
        content.paragraphs << tr(
            "Slips that numbers do not show by themselves. What is found here "
            "may be true: then let it stand, and say why.");
        return content;
    }
    content.title = text(capitalised(odd->title));
    content.paragraphs << richText(odd->text);
    if (const std::string* reason = reasonItStands(session_.study().sample, *odd)) {
        content.paragraphs << tr("It stands: %1").arg(text(*reason).toHtmlEscaped());
        return content;
    }
    const auto mends = mendsOf(session_.study(), *frame, *odd, session_.oddities());
    content.actionsTitle = mends.empty() ? QString() : tr("What you can do");
    for (const OddMend& mend : mends) {
        content.actions.push_back({text(mend.label), numbered(mend.why),
                                   [this, mend] { session_.edit(mend.change, text(mend.did)); }});
    }
    if (!odd->rows.empty()) {
        content.actions.push_back(
            {tr("Select %1")
                 .arg(odd->rows.size() == 1 ? tr("the row")
                                            : tr("the %1 rows").arg(odd->rows.size())),
             tr("they light up in every picture and in Rows"), [this, rows = odd->rows] {
                 RowSet set;
                 for (const std::size_t row : rows) {
                     set.insert(row);
                 }
                 session_.selectRows(set);
             }});
    }
    return content;
}

}  // namespace rapporto::app
