#include "app/stages/data/grid_model.h"

#include "app/shell/roster.h"
#include "app/shell/theme.h"

namespace rapporto::app {

void GridModel::showFrame(std::shared_ptr<const Frame> frame, const Sample& sample) {
    const Table* before = table();
    const bool same = before != nullptr && frame && before->rows() == frame->rows() &&
                      before->columns.size() == frame->table().columns.size() && !table_;
    if (!same) {
        beginResetModel();
    }
    frame_ = std::move(frame);
    table_.reset();
    reasons_.clear();
    for (const SetAside& s : sample.setAside) {
        reasons_[s.row] = s.reason;
    }
    if (!same) {
        endResetModel();
    } else if (rowCount() > 0 && columnCount() > 0) {
        emit dataChanged(index(0, 0), index(rowCount() - 1, columnCount() - 1));
        emit headerDataChanged(Qt::Horizontal, 0, columnCount() - 1);
    }
}

void GridModel::showTable(std::shared_ptr<const Table> table) {
    beginResetModel();
    table_ = std::move(table);
    frame_.reset();
    reasons_.clear();
    endResetModel();
}

const Table* GridModel::table() const {
    return table_ ? table_.get() : frame_ ? &frame_->table() : nullptr;
}

int GridModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() || table() == nullptr
               ? 0
               : static_cast<int>(std::min<std::size_t>(table()->rows(), 50000000));
}

int GridModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() || table() == nullptr ? 0 : static_cast<int>(table()->columns.size());
}

QVariant GridModel::data(const QModelIndex& index, int role) const {
    const Table* t = table();
    if (t == nullptr || !index.isValid()) {
        return {};
    }
    const auto row = static_cast<std::size_t>(index.row());
    const auto column = static_cast<std::size_t>(index.column());
    const bool out = frame_ && frame_->states()[row] != RowState::In;
    switch (role) {
        case Qt::DisplayRole:
            return t->columns[column].isText()
                       ? text(cellText(t->columns[column], t->variables[column], row))
                       : numbered(cellText(t->columns[column], t->variables[column], row));
        case Qt::TextAlignmentRole:
            return t->columns[column].isText() ? QVariant(Qt::AlignLeft | Qt::AlignVCenter)
                                               : QVariant(Qt::AlignRight | Qt::AlignVCenter);
        case Qt::ForegroundRole:
            return out                                       ? QVariant(colour::kSoft)
                   : t->variables[column].expression.empty() ? QVariant()
                                                             : QVariant(colour::kPlum);
        case Qt::BackgroundRole:
            return t->columns[column].isMissing(row)
                       ? QVariant(QBrush(colour::kHatch, Qt::BDiagPattern))
                       : QVariant();
        case Qt::FontRole:
            if (frame_ && frame_->states()[row] == RowState::SetAside) {
                QFont font = interfaceFont();
                font.setStrikeOut(true);
                return font;
            }
            return {};
        case Qt::ToolTipRole: {
            if (const auto reason = reasons_.find(row + 1); reason != reasons_.end()) {
                return tr("Set aside: %1").arg(text(reason->second));
            }
            return out                                 ? QVariant(tr("Left out by the sample rule"))
                   : t->columns[column].isMissing(row) ? QVariant(tr("Missing"))
                                                       : QVariant();
        }
        default:
            return {};
    }
}

QVariant GridModel::headerData(int section, Qt::Orientation orientation, int role) const {
    const Table* t = table();
    if (t == nullptr) {
        return {};
    }
    if (orientation == Qt::Vertical) {
        return role == Qt::DisplayRole ? QVariant(section + 1) : QVariant();
    }
    const Variable& v = t->variables[static_cast<std::size_t>(section)];
    switch (role) {
        case Qt::DisplayRole:
            return text(v.name) + "\n" +
                   (v.expression.empty() ? measureTag(v.measure) : tr("derived"));
        case Qt::ToolTipRole:
            return text(v.shown());
        case Qt::ForegroundRole:
            return v.expression.empty() ? QVariant() : QVariant(colour::kPlum);
        default:
            return {};
    }
}

}  // namespace rapporto::app
