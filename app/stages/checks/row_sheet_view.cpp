#include "app/stages/checks/row_sheet_view.h"

#include "app/shell/theme.h"
#include "app/stages/data/data_page.h"
#include "core/base/format.h"
#include "core/describe/row_names.h"
#include "core/report/left_wording.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QPainter>
#include <QStyledItemDelegate>
#include <QTableView>
#include <QVBoxLayout>

#include <cmath>
#include <numeric>

namespace rapporto::app {
namespace {

/// A bar from the middle to what is left.
class LeftDelegate : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;

    void paint(QPainter* painter, const QStyleOptionViewItem& option,
               const QModelIndex& index) const override {
        const QVariant ground = index.data(Qt::BackgroundRole);
        if (ground.isValid()) {
            painter->fillRect(option.rect, qvariant_cast<QBrush>(ground));
        }
        const auto* model = qobject_cast<const RowSheetModel*>(index.model());
        const double share = model == nullptr ? 0.0 : model->drawn(index.row());
        const QRectF r = QRectF(option.rect).adjusted(8, 0, -8, 0);
        const double middle = r.center().x();
        const double reach = r.width() / 2.0 * share;
        painter->fillRect(
            QRectF(std::min(middle, middle + reach), r.center().y() - 4.0, std::abs(reach), 8.0),
            colour::kBlue);
        painter->setPen(colour::kHairline);
        painter->drawLine(QPointF(middle, option.rect.top()),
                          QPointF(middle, option.rect.bottom()));
    }
};

}  // namespace

void RowSheetModel::showSheet(std::shared_ptr<const Frame> frame, RowSheet sheet, int decimals) {
    beginResetModel();
    frame_ = std::move(frame);
    sheet_ = std::move(sheet);
    decimals_ = decimals;
    without_.resize(0);
    order_.resize(sheet_.rows.size());
    std::iota(order_.begin(), order_.end(), std::size_t{0});
    most_ = sheet_.left.size() > 0 ? sheet_.left.cwiseAbs().maxCoeff() : 0.0;
    endResetModel();
    sort(sortedBy_, sortedTo_);
}

void RowSheetModel::showWithout(Eigen::VectorXd without, const Coefficient& effect) {
    without_ = std::move(without);
    effect_ = effect.term;
    withoutDecimals_ = decimalsFor(effect.se) + 1;
    emit headerDataChanged(Qt::Horizontal, Without, Without);
    if (sortedBy_ == Without) {
        sort(sortedBy_, sortedTo_);
    } else if (rowCount() > 0) {
        emit dataChanged(index(0, Without), index(rowCount() - 1, Without));
    }
}

void RowSheetModel::showSelection(const RowSet& rows) {
    selected_ = rows;
    if (rowCount() > 0) {
        emit dataChanged(index(0, 0), index(rowCount() - 1, kColumns - 1), {Qt::BackgroundRole});
    }
}

int RowSheetModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(order_.size());
}

int RowSheetModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : kColumns;
}

std::size_t RowSheetModel::sourceRow(int row) const {
    return sheet_.rows[order_[static_cast<std::size_t>(row)]];
}

double RowSheetModel::drawn(int row) const {
    const auto at = static_cast<Eigen::Index>(order_[static_cast<std::size_t>(row)]);
    return most_ > 0.0 ? sheet_.left(at) / most_ : 0.0;
}

double RowSheetModel::value(int column, std::size_t at) const {
    const auto i = static_cast<Eigen::Index>(at);
    switch (column) {
        case Observed:
            return sheet_.observed(i);
        case Predicted:
            return sheet_.predicted(i);
        case Drawn:
        case Left:
            return sheet_.left(i);
        case Unusual:
            return sheet_.studentised(i);
        case Leverage:
            return sheet_.leverage(i);
        case Cook:
            return sheet_.cook(i);
        case Without:
            return without_.size() > i ? without_(i) : std::nan("");
        default:
            return static_cast<double>(sheet_.rows[at]);
    }
}

QVariant RowSheetModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid()) {
        return {};
    }
    const std::size_t at = order_[static_cast<std::size_t>(index.row())];
    if (role == Qt::BackgroundRole) {
        return selected_.contains(sheet_.rows[at]) ? QVariant(QBrush(colour::kAccentWash))
                                                   : QVariant();
    }
    if (role == Qt::TextAlignmentRole) {
        return index.column() == Name ? QVariant(Qt::AlignLeft | Qt::AlignVCenter)
                                      : QVariant(Qt::AlignRight | Qt::AlignVCenter);
    }
    if (role != Qt::DisplayRole || index.column() == Drawn) {
        return {};
    }
    if (index.column() == Name) {
        return frame_ ? text(rowName(*frame_, sheet_.rows[at])) : QString();
    }
    const double v = value(index.column(), at);
    if (std::isnan(v)) {
        return "–";
    }
    switch (index.column()) {
        case Unusual:
            return numbered(fixedNumber(v, 2));
        case Leverage:
        case Cook:
            return numbered(fixedNumber(v, 4, true));
        case Without:
            return numbered(fixedNumber(v, withoutDecimals_));
        default:
            return numbered(fixedNumber(v, decimals_));
    }
}

QVariant RowSheetModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal || role != Qt::DisplayRole) {
        return {};
    }
    switch (section) {
        case Name:
            return tr("row");
        case Observed:
            return tr("observed");
        case Predicted:
            return tr("predicted");
        case Drawn:
            return tr("what is left");
        case Left:
            return tr("left");
        case Unusual:
            return tr("unusual");
        case Leverage:
            return tr("leverage");
        case Cook:
            return tr("Cook");
        case Without:
            return tr("%1 without").arg(text(effect_));
        default:
            return {};
    }
}

void RowSheetModel::sort(int column, Qt::SortOrder order) {
    sortedBy_ = column;
    sortedTo_ = order;
    emit layoutAboutToBeChanged();
    const double sign = order == Qt::AscendingOrder ? 1.0 : -1.0;
    std::vector<double> keys(sheet_.rows.size());
    for (std::size_t i = 0; i < keys.size(); ++i) {
        // How unusual a row is has no side.
        const double v = value(column, i);
        keys[i] = sign * (column == Unusual || column == Drawn ? std::abs(v) : v);
    }
    std::iota(order_.begin(), order_.end(), std::size_t{0});
    std::stable_sort(order_.begin(), order_.end(),
                     [&](std::size_t a, std::size_t b) { return keys[a] < keys[b]; });
    emit layoutChanged();
}

RowSheetView::RowSheetView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      effects_(new QComboBox(this)),
      model_(new RowSheetModel(this)),
      table_(new QTableView(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    auto* top = new QHBoxLayout;
    auto* word = new QLabel(tr("each row, and the effect it would leave of"), this);
    word->setFont(paperFont(15, true));
    top->addWidget(word);
    effects_->setObjectName("rowsheet:effect");
    effects_->setAccessibleName(tr("The effect without each row"));
    effects_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    top->addWidget(effects_);
    top->addStretch(1);
    layout->addLayout(top);
    table_->setModel(model_);
    table_->setObjectName("rowsheet");
    table_->setAccessibleName(tr("Rows of the fit"));
    dressTable(table_);
    table_->verticalHeader()->hide();
    table_->setSortingEnabled(true);
    table_->sortByColumn(RowSheetModel::Unusual, Qt::DescendingOrder);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setItemDelegateForColumn(RowSheetModel::Drawn, new LeftDelegate(table_));
    layout->addWidget(table_, 1);
    connect(effects_, &QComboBox::activated, this, [this] { showEffect(); });
    connect(table_->selectionModel(), &QItemSelectionModel::selectionChanged, this,
            &RowSheetView::takeSelection);
    connect(&session_, &Session::selectionChanged, this,
            [this] { model_->showSelection(session_.selectedRows()); });
}

void RowSheetView::takeSelection() {
    if (selecting_) {
        return;
    }
    RowSet rows;
    for (const QItemSelectionRange& range : table_->selectionModel()->selection()) {
        for (int row = range.top(); row <= range.bottom(); ++row) {
            rows.insert(model_->sourceRow(row));
        }
    }
    session_.selectRows(rows);
}

void RowSheetView::showAnswer(const std::shared_ptr<const Answer>& answer) {
    if (answer == answer_) {
        return;
    }
    answer_ = answer;
    selecting_ = true;
    if (!answer_ || !answer_->fit || answer_->fromMoments) {
        model_->showSheet(nullptr, {}, 0);
        effects_->clear();
        selecting_ = false;
        return;
    }
    model_->showSheet(session_.frame(), rowSheet(*answer_->design, *answer_->fit),
                      decimalsFor(std::sqrt(answer_->fit->residuals.squaredNorm() /
                                            std::max(answer_->fit->n, 1.0))) +
                          1);
    model_->showSelection(session_.selectedRows());
    const QString was = effects_->currentText();
    effects_->clear();
    for (std::size_t j = 0; j < answer_->fit->coefficients.size(); ++j) {
        if (answer_->fit->coefficients[j].designTerm >= 0 && hasInfluence(*answer_->fit)) {
            effects_->addItem(termText(answer_->fit->coefficients[j].term), static_cast<int>(j));
        }
    }
    effects_->setCurrentIndex(std::max(effects_->findText(was), effects_->count() > 0 ? 0 : -1));
    showEffect();
    table_->resizeColumnsToContents();
    table_->setColumnWidth(RowSheetModel::Drawn, 92);
    for (const int narrow : {RowSheetModel::Observed, RowSheetModel::Predicted}) {
        table_->setColumnWidth(narrow, std::min(table_->columnWidth(narrow), 76));
    }
    table_->setColumnWidth(RowSheetModel::Name,
                           std::max(table_->columnWidth(RowSheetModel::Name), 84));
    selecting_ = false;
}

void RowSheetView::showEffect() {
    if (!answer_ || !answer_->fit || effects_->currentIndex() < 0) {
        return;
    }
    const auto j = static_cast<std::size_t>(effects_->currentData().toInt());
    model_->showWithout(estimatesWithout(*answer_->design, *answer_->fit, j),
                        answer_->fit->coefficients[j]);
    table_->resizeColumnToContents(RowSheetModel::Without);
}

QStringList RowSheetView::reading() const {
    QStringList out;
    const auto frame = session_.frame();
    if (!answer_ || !answer_->fit || !frame) {
        return out;
    }
    if (answer_->fromMoments) {
        out << tr("There are no rows to show: %1.").arg(text(whyNoRows(*answer_)));
        return out;
    }
    out << tr(
        "Every row as the fit has it. A click on a heading sorts by it; chosen rows light up "
        "in every picture.");
    std::vector<DropOne> drops = dropOne(*answer_->design, *answer_->fit);
    std::sort(drops.begin(), drops.end(), [](const DropOne& a, const DropOne& b) {
        return std::abs(a.change) > std::abs(b.change);
    });
    QString rows;
    for (std::size_t i = 0; i < std::min<std::size_t>(drops.size(), 8); ++i) {
        const Coefficient& c = answer_->fit->coefficients[drops[i].coefficient];
        const int d = decimalsFor(c.se);
        rows += QString("<br><b>%1</b> %2 → %3 <span style=\"color:{soft}\">%4</span>")
                    .arg(termText(c.term).toHtmlEscaped(), numbered(fixedNumber(c.estimate, d)),
                         numbered(fixedNumber(drops[i].estimate, d)),
                         tr("without %1").arg(text(rowName(*frame, drops[i].row)).toHtmlEscaped()));
    }
    if (!rows.isEmpty()) {
        out << tr("What a single row decides, effect by effect, most first:") + rows;
    }
    return out;
}

}  // namespace rapporto::app
