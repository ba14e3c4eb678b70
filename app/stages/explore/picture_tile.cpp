#include "app/stages/explore/picture_tile.h"

#include "app/shell/theme.h"

#include <QApplication>
#include <QClipboard>
#include <QGridLayout>
#include <QHeaderView>
#include <QKeyEvent>
#include <QPushButton>
#include <QTableWidget>

namespace rapporto::app {
namespace {

/// A table whose cells are copied as they stand, for a spreadsheet.
class CopiedTable : public QTableWidget {
  public:
    using QTableWidget::QTableWidget;

  protected:
    void keyPressEvent(QKeyEvent* event) override {
        if (!event->matches(QKeySequence::Copy)) {
            QTableWidget::keyPressEvent(event);
            return;
        }
        QStringList lines;
        QStringList head;
        for (int c = 0; c < columnCount(); ++c) {
            head << horizontalHeaderItem(c)->text();
        }
        lines << head.join('\t');
        for (int r = 0; r < rowCount(); ++r) {
            QStringList cells;
            for (int c = 0; c < columnCount(); ++c) {
                cells << item(r, c)->text();
            }
            lines << cells.join('\t');
        }
        QApplication::clipboard()->setText(lines.join('\n'));
    }
};

/// What moves when rows leave: curves of all points, not lines of units.
std::vector<Exhibit::Line> curvesOf(const Exhibit& e) {
    std::vector<Exhibit::Line> out;
    for (const auto& line : e.lines) {
        if (!line.faint && line.rows.empty()) {
            out.push_back(line);
        }
    }
    return out;
}

bool sameCurves(const std::vector<Exhibit::Line>& a, const std::vector<Exhibit::Line>& b) {
    return a.size() == b.size() &&
           std::equal(a.begin(), a.end(), b.begin(),
                      [](const auto& p, const auto& q) { return p.x == q.x && p.y == q.y; });
}

}  // namespace

PictureTile::PictureTile(QWidget* parent)
    : QFrame(parent), grid_(new QGridLayout(this)), close_(new QPushButton("×", this)) {
    setObjectName("pictureTile");
    grid_->setContentsMargins(4, 4, 4, 4);
    grid_->setSpacing(2);
    close_->setToolTip(tr("Take this picture off the desk"));
    close_->setAccessibleName(tr("Take this picture off the desk"));
    close_->setObjectName("tile:close");
    close_->setFocusPolicy(Qt::NoFocus);
    close_->hide();
    connect(close_, &QPushButton::clicked, this, &PictureTile::closed);
}

PlotView* PictureTile::viewAt(std::size_t k) {
    while (views_.size() <= k) {
        auto* view = new PlotView(this);
        connect(view, &PlotView::rowsSelected, this, &PictureTile::rowsSelected);
        connect(view, &PlotView::rowsBrushed, this, [this, view](const RowSet& rows) {
            for (PlotView* one : views_) {
                if (one != view) {
                    one->showSelection(rows);
                }
            }
            view->showSelection(rows);
            emit rowsBrushed(rows);
        });
        connect(view, &PlotView::titleEdited, this, &PictureTile::titleEdited);
        connect(view, &PlotView::opened, this, &PictureTile::opened);
        connect(view, &PlotView::pressed, this, &PictureTile::taken);
        view->setRowNamer(namer_);
        view->showSelection(selection_);
        view->showHeld(held_);
        views_.push_back(view);
    }
    return views_[k];
}

void PictureTile::clear(std::size_t from) {
    while (views_.size() > from) {
        delete views_.back();
        views_.pop_back();
    }
    if (table_ != nullptr) {
        delete table_;
        table_ = nullptr;
    }
}

void PictureTile::showNothing(const QString& why) {
    clear(1);
    grid_->addWidget(viewAt(0), 0, 0);
    views_[0]->setTitleEditable(false);
    views_[0]->showNothing(why);
    views_[0]->show();
}

void PictureTile::showTable(const PictureTable& table) {
    clear(0);
    const int columns = static_cast<int>(table.cells.front().size());
    table_ = new CopiedTable(static_cast<int>(table.cells.size()) - 1, columns, this);
    table_->setObjectName("pictureTable");
    table_->setAccessibleName(text(table.title));
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->verticalHeader()->hide();
    table_->setShowGrid(false);
    table_->setAlternatingRowColors(false);
    QStringList head;
    for (const std::string& cell : table.cells.front()) {
        head << numbered(cell);
    }
    table_->setHorizontalHeaderLabels(head);
    table_->setFont(interfaceFont(12));
    table_->horizontalHeader()->setFont(interfaceFont(12));
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignRight | Qt::AlignVCenter);
    for (int r = 1; r < static_cast<int>(table.cells.size()); ++r) {
        for (int c = 0; c < columns; ++c) {
            auto* item = new QTableWidgetItem(
                numbered(table.cells[static_cast<std::size_t>(r)][static_cast<std::size_t>(c)]));
            item->setTextAlignment((c == 0 ? Qt::AlignLeft : Qt::AlignRight) | Qt::AlignVCenter);
            table_->setItem(r - 1, c, item);
        }
    }
    table_->resizeColumnsToContents();
    table_->verticalHeader()->setDefaultSectionSize(24);
    table_->setToolTip(numbered(table.note) + "\n" + tr("Ctrl+C copies it for a sheet."));
    grid_->addWidget(table_, 0, 0);
    table_->show();
}

void PictureTile::setStale(bool stale) {
    for (PlotView* view : views_) {
        view->setStale(stale);
    }
    if (table_ != nullptr) {
        table_->setEnabled(!stale);
    }
}

void PictureTile::showPicture(const std::shared_ptr<const DrawnPicture>& picture,
                              const DrawnPicture* before) {
    const DrawnPicture& drawn = *picture;
    if (!drawn.nothing.empty()) {
        showNothing(text(drawn.nothing));
        return;
    }
    if (drawn.exhibits.empty() && drawn.table) {
        showTable(*drawn.table);
        return;
    }
    clear(drawn.exhibits.size());
    for (std::size_t k = 0; k < drawn.exhibits.size(); ++k) {
        PlotView* view = viewAt(k);
        grid_->addWidget(view, static_cast<int>(k / drawn.columns),
                         static_cast<int>(k % drawn.columns));
        view->setTitleEditable(k == 0 && !drawn.exhibits[k].compact);
        view->showExhibit(std::shared_ptr<const Exhibit>(picture, &drawn.exhibits[k]));
        if (before != nullptr && k < before->exhibits.size()) {
            auto curves = curvesOf(before->exhibits[k]);
            if (!sameCurves(curves, curvesOf(drawn.exhibits[k]))) {
                view->showBefore(std::move(curves));
            }
        }
        view->show();
    }
}

void PictureTile::showSelection(const RowSet& rows) {
    selection_ = rows;
    for (PlotView* view : views_) {
        view->showSelection(rows);
    }
}

void PictureTile::showHeld(const std::shared_ptr<const HeldRows>& held) {
    held_ = held;
    for (PlotView* view : views_) {
        view->showHeld(held);
    }
}

void PictureTile::setRowNamer(std::function<QString(std::size_t)> namer) {
    namer_ = std::move(namer);
    for (PlotView* view : views_) {
        view->setRowNamer(namer_);
    }
}

void PictureTile::setInHand(bool inHand, bool amongSeveral) {
    dress(this, amongSeveral ? QString("#pictureTile{border:1px solid %1;border-radius:3px}")
                                   .arg(inHand ? "{accent}" : "{hairline}")
                             : QString());
    close_->setVisible(amongSeveral);
    close_->adjustSize();
    close_->move(width() - close_->width() - 3, height() - close_->height() - 3);
    close_->raise();
}

void PictureTile::mousePressEvent(QMouseEvent* event) {
    emit taken();
    QFrame::mousePressEvent(event);
}

}  // namespace rapporto::app
