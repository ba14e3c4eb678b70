#include "app/shell/roster.h"

#include "app/shell/theme.h"
#include "core/base/format.h"

#include <QLineEdit>
#include <QListView>
#include <QPainter>
#include <QStandardItemModel>
#include <QStyledItemDelegate>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

constexpr int kName = Qt::UserRole;
constexpr int kDetail = Qt::UserRole + 1;
constexpr int kTag = Qt::UserRole + 2;
constexpr int kLit = Qt::UserRole + 6;
constexpr int kBars = Qt::UserRole + 3;
constexpr int kBadge = Qt::UserRole + 4;
constexpr int kSection = Qt::UserRole + 5;

class RosterDelegate : public QStyledItemDelegate {
  public:
    using QStyledItemDelegate::QStyledItemDelegate;

    [[nodiscard]] QSize sizeHint(const QStyleOptionViewItem& /*option*/,
                                 const QModelIndex& index) const override {
        return {180, index.data(kSection).toBool() ? 28 : 37};
    }

    void paint(QPainter* painter, const QStyleOptionViewItem& option,
               const QModelIndex& index) const override {
        painter->save();
        const QRect r = option.rect;
        if (index.data(kSection).toBool()) {
            painter->setFont(paperFont(14, true));
            painter->setPen(colour::kSoft);
            painter->drawText(r.adjusted(16, 6, 0, 0), Qt::AlignLeft | Qt::AlignVCenter,
                              index.data(Qt::DisplayRole).toString());
            painter->restore();
            return;
        }
        if (option.state.testFlag(QStyle::State_Selected)) {
            painter->fillRect(r, colour::kAccentWash);
            painter->fillRect(QRect(r.left(), r.top(), 3, r.height()), colour::kAccent);
        }
        painter->setFont(interfaceFont(11));
        painter->setPen(colour::kAccent);
        painter->drawText(QRect(r.left() + 14, r.top() + 4, 30, 16),
                          Qt::AlignLeft | Qt::AlignVCenter, index.data(kTag).toString());
        const int left = r.left() + 46;
        const int bars = r.right() - 70;
        painter->setFont(interfaceFont(13));
        painter->setPen(colour::kInk);
        painter->drawText(QRect(left, r.top() + 3, bars - left - 4, 17),
                          Qt::AlignLeft | Qt::AlignVCenter,
                          painter->fontMetrics().elidedText(index.data(Qt::DisplayRole).toString(),
                                                            Qt::ElideRight, bars - left - 4));
        painter->setFont(interfaceFont(11));
        painter->setPen(colour::kSoft);
        painter->drawText(QRect(left, r.top() + 20, bars - left + 4, 14),
                          Qt::AlignLeft | Qt::AlignVCenter,
                          painter->fontMetrics().elidedText(index.data(kDetail).toString(),
                                                            Qt::ElideRight, bars - left));
        const QVariantList heights = index.data(kBars).toList();
        const double w =
            std::min(58.0 / std::max<double>(static_cast<double>(heights.size()), 1.0), 11.0);
        for (int b = 0; b < heights.size(); ++b) {
            const double h =
                std::max(heights[b].toDouble() * 15.0, heights[b].toDouble() > 0 ? 1.0 : 0.0);
            painter->fillRect(QRectF(bars + b * w, r.top() + 20 - h, std::max(w - 1.0, 1.0), h),
                              colour::kBars);
        }
        const QVariantList lit = index.data(kLit).toList();
        for (int b = 0; b < lit.size() && b < heights.size(); ++b) {
            if (lit[b].toDouble() > 0.0) {
                // A single selected row must still be seen.
                const double h = std::max(lit[b].toDouble() * 15.0, 2.0);
                painter->fillRect(QRectF(bars + b * w, r.top() + 20 - h, std::max(w - 1.0, 1.0), h),
                                  colour::kOchre);
            }
        }
        if (const QString badge = index.data(kBadge).toString(); !badge.isEmpty()) {
            painter->setPen(colour::kOchreText);
            painter->setFont(interfaceFont(10));
            painter->drawText(QRect(bars - 20, r.top() + 21, 80, 13),
                              Qt::AlignRight | Qt::AlignVCenter, badge);
        }
        painter->restore();
    }
};

/// Names used by the question in focus.
std::set<std::string> namesInQuestion(const Session& session) {
    std::set<std::string> names;
    const Question* q = session.question();
    if (q == nullptr) {
        return names;
    }
    const auto add = [&](const std::string& expression) {
        if (const auto parsed = Expression::parse(expression)) {
            names.merge(parsed->names());
        }
    };
    for (const std::string& text : {q->outcome, q->offset, q->exposure, q->where}) {
        add(text);
    }
    for (const PathSpec& path : q->trace.paths) {
        add(path.to);
    }
    for (const auto* list : {&q->variables, &q->holding, &q->fixedEffects, &q->ownSlopes}) {
        std::for_each(list->begin(), list->end(), add);
    }
    for (const LevelSpec& level : q->settings.levels) {
        add(level.by);
        std::for_each(level.slopes.begin(), level.slopes.end(), add);
    }
    if (hasTrait(q->method, trait::kChange)) {
        add(q->settings.variable);
    }
    if (hasTrait(q->method, trait::kHoldsUnit)) {
        names.insert(session.study().layout.unit);
    }
    for (const Term* one : q->allTerms()) {
        const Term& term = *one;
        for (const auto& part : term.parts) {
            if (term.kind != Term::Kind::Set) {
                add(part);
                continue;
            }
            for (const TermSet& set : session.study().sets) {
                for (const auto& member : set.members) {
                    set.name == part ? add(member) : void();
                }
            }
        }
    }
    names.insert(q->errors.by.begin(), q->errors.by.end());
    if (!q->weight.empty()) {
        names.insert(q->weight);
    }
    return names;
}

}  // namespace

QString measureTag(Measure measure) {
    switch (measure) {
        case Measure::Quantity:
            return numbered("1.5");
        case Measure::Count:
            return "3";
        case Measure::YesNo:
            return "0|1";
        case Measure::Groups:
            return "a·b";
        case Measure::OrderedGroups:
            return "a<b";
        case Measure::Date:
            return "d/m";
        case Measure::Text:
            return "“t”";
    }
    return {};
}

Roster::Roster(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      search_(new QLineEdit(this)),
      list_(new QListView(this)),
      model_(new QStandardItemModel(this)) {
    setMinimumWidth(200);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 14, 0, 0);
    auto* top = new QVBoxLayout;
    top->setContentsMargins(16, 0, 16, 4);
    top->addWidget(search_);
    layout->addLayout(top);
    layout->addWidget(list_);
    search_->setProperty("quiet", true);
    search_->setPlaceholderText(tr("find a variable…"));
    search_->setAccessibleName(tr("Find a variable"));
    list_->setAccessibleName(tr("Variables"));
    list_->setModel(model_);
    list_->setItemDelegate(new RosterDelegate(list_));
    list_->setDragEnabled(true);
    list_->setDragDropMode(QAbstractItemView::DragOnly);
    list_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
    list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    list_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    list_->setUniformItemSizes(false);
    connect(search_, &QLineEdit::textChanged, this, &Roster::rebuild);
    connect(list_->selectionModel(), &QItemSelectionModel::currentChanged, this,
            [this](const QModelIndex& index) {
                if (index.isValid() && !index.data(kSection).toBool() && list_->hasFocus()) {
                    emit variablePicked(utf8(index.data(kName).toString()));
                }
            });
    connect(&session_, &Session::selectionChanged, this, &Roster::lightUp);
    connect(list_, &QListView::activated, this, [this](const QModelIndex& index) {
        emit variableActivated(utf8(index.data(kName).toString()));
    });
}

void Roster::refresh() { rebuild(); }

void Roster::lightUp() {
    const auto frame = session_.frame();
    for (int row = 0; row < model_->rowCount() && frame; ++row) {
        QStandardItem* item = model_->item(row);
        const std::string name = utf8(item->data(kName).toString());
        const auto fact = session_.facts().find(name);
        const Column* column = frame->column(name);
        QVariantList lit;
        if (fact != session_.facts().end() && column != nullptr &&
            !session_.selectedRows().empty()) {
            for (const double h :
                 litPart(fact->second.thumbnail, *column, session_.selectedRows())) {
                lit.append(h);
            }
        }
        if (item->data(kLit).toList() != lit) {
            item->setData(lit, kLit);
        }
    }
}

void Roster::rebuild() {
    const auto frame = session_.frame();
    const auto used = namesInQuestion(session_);
    QStandardItemModel next;
    QString signature = search_->text();
    const auto addSection = [&](const QString& name) {
        auto* item = new QStandardItem(name);
        item->setData(true, kSection);
        item->setFlags(Qt::NoItemFlags);
        model_->appendRow(item);
    };

    struct Entry {
        int section;
        const Variable* variable;
    };

    std::vector<Entry> entries;
    if (frame) {
        for (const Variable& v : frame->table().variables) {
            if (!text(v.name).contains(search_->text(), Qt::CaseInsensitive) &&
                !text(v.label).contains(search_->text(), Qt::CaseInsensitive)) {
                continue;
            }
            const int section = used.contains(v.name) ? 0 : v.expression.empty() ? 2 : 1;
            entries.push_back({section, &v});
            const auto fact = session_.facts().find(v.name);
            signature +=
                QString("|%1:%2:%3:%4:%5:%6")
                    .arg(text(v.name))
                    .arg(section)
                    .arg(static_cast<int>(v.measure))
                    .arg(text(v.label), text(v.expression))
                    .arg(fact == session_.facts().end() ? -1
                                                        : static_cast<int>(fact->second.missing));
        }
    }
    for (const auto& [name, why] : frame ? frame->broken() : std::map<std::string, Refusal>()) {
        signature += text(name + why.what);
    }
    if (signature == shown_) {
        return;
    }
    shown_ = signature;
    const QString current = list_->currentIndex().data(kName).toString();
    model_->clear();
    const QStringList titles = {tr("in this question"), tr("derived"), tr("others")};
    for (int section = 0; section < 3; ++section) {
        bool any = false;
        for (const Entry& entry : entries) {
            if (entry.section != section) {
                continue;
            }
            if (!any) {
                addSection(section == 2 && used.empty() ? tr("variables") : titles[section]);
                any = true;
            }
            const Variable& v = *entry.variable;
            auto* item = new QStandardItem(text(v.name));
            item->setData(text(v.name), kName);
            const bool both = !v.label.empty() && !v.unit.empty();
            item->setData(text(!v.expression.empty() ? v.expression
                               : both                ? v.label + ", " + v.unit
                                                     : v.label + v.unit),
                          kDetail);
            item->setData(measureTag(v.measure), kTag);
            item->setToolTip(text(v.shown()));
            const auto fact = session_.facts().find(v.name);
            if (fact != session_.facts().end()) {
                QVariantList bars;
                for (const double h : fact->second.thumbnail.bars) {
                    bars.append(h);
                }
                item->setData(bars, kBars);
                if (fact->second.missing > 0) {
                    item->setData(tr("%1 missing").arg(numbered(countText(fact->second.missing))),
                                  kBadge);
                }
            }
            model_->appendRow(item);
            if (text(v.name) == current) {
                list_->setCurrentIndex(item->index());
            }
        }
        if (section == 1 && frame) {
            for (const auto& [name, why] : frame->broken()) {
                auto* item = new QStandardItem(text(name));
                item->setData(text(name), kName);
                item->setData(numbered(why.what), kDetail);
                item->setData(tr("broken"), kBadge);
                model_->appendRow(item);
            }
        }
    }
    lightUp();
}

}  // namespace rapporto::app
