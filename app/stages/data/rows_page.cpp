#include "app/stages/data/rows_page.h"

#include "app/shell/expression_edit.h"
#include "app/shell/theme.h"
#include "app/stages/data/derive_panel.h"
#include "app/stages/data/grid_model.h"
#include "core/base/format.h"
#include "core/describe/ledger.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QTableView>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {

RowsPage::RowsPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      gridModel_(new GridModel(this)),
      grid_(new QTableView(this)),
      rule_(new ExpressionEdit(this)),
      rulePreview_(new QLabel(this)),
      derive_(new DerivePanel(session, this)),
      counting_([this](const RuleCount& found) { showRule(found); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(6);
    auto* sentence = new QHBoxLayout;
    sentence->addWidget(sentenceWord(tr("Among"), this));
    rule_->setPlaceholderText(tr("all rows, or a condition: age >= 18"));
    rule_->setAccessibleName(tr("Sample rule"));
    rule_->setObjectName("data:rule");
    sentence->addWidget(rule_, 1);
    rulePreview_->setTextFormat(Qt::RichText);
    rulePreview_->setObjectName("data:rulePreview");
    sentence->addWidget(rulePreview_);
    layout->addLayout(sentence);
    grid_->setModel(gridModel_);
    grid_->setAccessibleName(tr("Rows"));
    grid_->setObjectName("grid");
    dressTable(grid_);
    layout->addWidget(grid_, 1);
    layout->addWidget(derive_);
    connect(rule_, &QLineEdit::textEdited, this, &RowsPage::previewRule);
    connect(rule_, &QLineEdit::returnPressed, this, [this] {
        const QString rule = rule_->text().trimmed();
        session_.edit(SetRule{utf8(rule)},
                      rule.isEmpty() ? tr("all rows") : tr("among %1").arg(rule));
    });
    connect(grid_->selectionModel(), &QItemSelectionModel::selectionChanged, this,
            &RowsPage::takeGridSelection);
}

void RowsPage::takeGridSelection() {
    if (selecting_) {
        return;
    }
    RowSet rows;
    for (const QItemSelectionRange& range : grid_->selectionModel()->selection()) {
        // Whole columns are a way to choose a variable, not all rows.
        if (range.height() < gridModel_->rowCount()) {
            for (int r = range.top(); r <= range.bottom(); ++r) {
                rows.insert(static_cast<std::size_t>(r));
            }
        }
    }
    const QModelIndex current = grid_->currentIndex();
    selecting_ = true;
    if (current.isValid() && gridModel_->table() != nullptr) {
        session_.setVariable(
            gridModel_->table()->variables[static_cast<std::size_t>(current.column())].name);
    }
    session_.selectRows(rows);
    selecting_ = false;
}

void RowsPage::refresh() {
    const auto frame = session_.frame();
    if (frame && frame != shownFrame_) {
        shownFrame_ = frame;
        gridModel_->showFrame(frame, session_.study().sample);
        rule_->setFrame(frame);
        for (int c = 0; c < std::min(gridModel_->columnCount(), 200); ++c) {
            grid_->setColumnWidth(
                c, std::clamp(fontMetrics().horizontalAdvance(text(
                                  frame->table().variables[static_cast<std::size_t>(c)].name)) +
                                  34,
                              98, 190));
        }
        previewRule();
    }
    if (!rule_->hasFocus() && utf8(rule_->text()) != session_.study().sample.where) {
        rule_->setText(text(session_.study().sample.where));
        previewRule();
    }
    derive_->refresh();
    refreshSelection();
}

void RowsPage::refreshSelection() {
    derive_->refresh();
    if (selecting_ || !shownFrame_) {
        return;
    }
    selecting_ = true;
    auto* model = grid_->selectionModel();
    model->clearSelection();
    QItemSelection selection;
    std::size_t count = 0;
    for (const std::size_t row : session_.selectedRows()) {
        if (++count > 2000) {
            break;  // More cannot be told apart on a screen; the count stands in the reading.
        }
        selection.select(gridModel_->index(static_cast<int>(row), 0),
                         gridModel_->index(static_cast<int>(row), gridModel_->columnCount() - 1));
    }
    model->select(selection, QItemSelectionModel::Select);
    if (!session_.selectedRows().empty()) {
        grid_->scrollTo(gridModel_->index(static_cast<int>(*session_.selectedRows().begin()),
                                          std::max(grid_->currentIndex().column(), 0)));
    }
    selecting_ = false;
}

void RowsPage::showVariable(const std::string& name) {
    const Table* table = gridModel_->table();
    if (table != nullptr && table->find(name) >= 0) {
        selecting_ = true;
        grid_->setCurrentIndex(
            gridModel_->index(std::max(grid_->currentIndex().row(), 0), table->find(name)));
        selecting_ = false;
    }
}

void RowsPage::previewRule() {
    if (!shownFrame_) {
        return;
    }
    const std::string rule = utf8(rule_->text().trimmed());
    counting_.ask(
        [frame = shownFrame_, rule] {
            RuleCount out{rule, {}, frame->rows()};
            if (!rule.empty()) {
                const auto steps = ruleSteps(*frame, rule);
                steps ? void(out.kept = steps->back().left) : void(out.refusal = steps.error());
            }
            return out;
        },
        shownFrame_->rows() <= kRowsAtOnce);
}

void RowsPage::showRule(const RuleCount& found) {
    if (found.refusal) {
        rulePreview_->setText(themed("<span style=\"color:{caution}\">" +
                                     numbered(found.refusal->text()).toHtmlEscaped() + "</span>"));
        return;
    }
    const bool applied = found.rule == session_.study().sample.where;
    rulePreview_->setText(
        themed("<span style=\"color:{soft}\">" +
               tr("%1 of %2 rows")
                   .arg(numbered(countText(found.kept)), numbered(countText(shownFrame_->rows()))) +
               (applied ? QString() : tr(" · Enter applies it")) + "</span>"));
}

}  // namespace rapporto::app
