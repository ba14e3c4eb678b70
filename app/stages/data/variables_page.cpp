#include "app/stages/data/variables_page.h"

#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/describe/codes.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSortFilterProxyModel>
#include <QTableView>
#include <QTableWidget>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

const std::vector<Measure> kMeasures = {Measure::Quantity, Measure::Count,         Measure::YesNo,
                                        Measure::Groups,   Measure::OrderedGroups, Measure::Date,
                                        Measure::Text};

/// “-9, -8, -99 to -90” as codes and ranges.
struct MissingWords {
    std::vector<Key> codes;
    std::vector<KeyRange> ranges;
};

MissingWords readMissing(const QString& words) {
    MissingWords out;
    for (const QString& part : words.split(',', Qt::SkipEmptyParts)) {
        const QString plain = part.trimmed().replace("−", "-");
        const QStringList ends = plain.split(" to ");
        bool low = false;
        bool high = false;
        if (ends.size() == 2) {
            const KeyRange range{ends[0].trimmed().toDouble(&low),
                                 ends[1].trimmed().toDouble(&high)};
            if (low && high) {
                out.ranges.push_back(range);
                continue;
            }
        }
        const double x = plain.toDouble(&low);
        out.codes.push_back(low ? Key(x) : Key(utf8(plain)));
    }
    return out;
}

QString missingWords(const Variable& variable) {
    QStringList words;
    for (const Key& key : variable.missing) {
        words << text(keyText(key));
    }
    for (const KeyRange& range : variable.missingRanges) {
        words << text(exactNumber(range.low)) + " to " + text(exactNumber(range.high));
    }
    return words.join(", ");
}

}  // namespace

void VariablesModel::showFrame(std::shared_ptr<const Frame> frame) {
    beginResetModel();
    frame_ = std::move(frame);
    missing_.clear();
    if (frame_) {
        for (const Column& column : frame_->table().columns) {
            missing_.push_back(column.countMissing());
        }
    }
    endResetModel();
}

int VariablesModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() || !frame_ ? 0 : static_cast<int>(frame_->table().columns.size());
}

int VariablesModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : FieldCount;
}

std::string VariablesModel::name(int row) const {
    return frame_->table().variables[static_cast<std::size_t>(row)].name;
}

QVariant VariablesModel::data(const QModelIndex& index, int role) const {
    if (!frame_ || !index.isValid()) {
        return {};
    }
    const auto row = static_cast<std::size_t>(index.row());
    const Variable& v = frame_->table().variables[row];
    if (role == Qt::ForegroundRole) {
        return !v.expression.empty() && index.column() == Name  ? QVariant(colour::kPlum)
               : index.column() == Missing && missing_[row] > 0 ? QVariant(colour::kOchreText)
                                                                : QVariant();
    }
    if (role == Qt::TextAlignmentRole && index.column() == Missing) {
        return QVariant(Qt::AlignRight | Qt::AlignVCenter);
    }
    if (role != Qt::DisplayRole && role != Qt::EditRole) {
        return {};
    }
    switch (index.column()) {
        case Name:
            return text(v.name);
        case Label:
            return text(v.label);
        case Unit:
            return text(v.unit);
        case Kind:
            return text(measureName(v.measure));
        case MissingCodes:
            return v.expression.empty() ? missingWords(v) : text(v.expression);
        case Levels:
            return isGrouping(v.measure) && !v.levels.empty()
                       ? QVariant(static_cast<int>(v.levels.size()))
                       : QVariant();
        case Missing:
            return missing_[row] > 0 ? QVariant(numbered(countText(missing_[row]))) : QVariant();
        case Note:
            return text(v.note);
        default:
            return {};
    }
}

QVariant VariablesModel::headerData(int section, Qt::Orientation orientation, int role) const {
    static const QStringList kTitles = {
        tr("name"),   tr("label"),   tr("unit"), tr("measure"), tr("codes for missing"),
        tr("levels"), tr("missing"), tr("note")};
    if (role != Qt::DisplayRole) {
        return {};
    }
    return orientation == Qt::Horizontal ? QVariant(kTitles[section]) : QVariant(section + 1);
}

Qt::ItemFlags VariablesModel::flags(const QModelIndex& index) const {
    Qt::ItemFlags flags = QAbstractTableModel::flags(index);
    const bool derived =
        frame_ &&
        !frame_->table().variables[static_cast<std::size_t>(index.row())].expression.empty();
    const int f = index.column();
    const bool editable = f == Label || f == Unit || f == Note || (f == MissingCodes && !derived) ||
                          (f == Name && derived);
    return editable ? flags | Qt::ItemIsEditable : flags;
}

bool VariablesModel::setData(const QModelIndex& index, const QVariant& value, int role) {
    if (role != Qt::EditRole || data(index, Qt::EditRole) == value) {
        return false;
    }
    const QString said = value.toString().trimmed();
    VariableEntry entry;
    entry.name = name(index.row());
    const QString shown = text(entry.name);
    switch (index.column()) {
        case Name:
            return session_.edit(RenameDerived{entry.name, utf8(said)},
                                 tr("rename %1 to %2").arg(shown, said));
        case Label:
            entry.label = utf8(said);
            return session_.edit(PutVariable{entry}, tr("label %1").arg(shown));
        case Unit:
            entry.unit = utf8(said);
            return session_.edit(PutVariable{entry}, tr("unit of %1").arg(shown));
        case Note:
            entry.note = utf8(said);
            return session_.edit(PutVariable{entry}, tr("note on %1").arg(shown));
        case MissingCodes: {
            const MissingWords words = readMissing(said);
            entry.missing = words.codes;
            entry.missingRanges = words.ranges;
            return session_.edit(PutVariable{entry}, tr("missing codes of %1").arg(shown));
        }
        default:
            return false;
    }
}

VariablesPage::VariablesPage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      model_(new VariablesModel(session, this)),
      filtered_(new QSortFilterProxyModel(this)),
      table_(new QTableView(this)),
      search_(new QLineEdit(this)),
      many_(sentenceWord({}, this)),
      manyLine_(new QWidget(this)),
      missing_(new QLineEdit(this)),
      unit_(new QLineEdit(this)),
      measure_(new QComboBox(this)),
      setsLine_(new QWidget(this)),
      sets_(new QComboBox(this)),
      setName_(new QLineEdit(this)),
      levelsBox_(new QWidget(this)),
      levelsTitle_(new QLabel(this)),
      levels_(new QTableWidget(0, 4, this)),
      scaling_([this](const Result<ScaleFacts>& facts) {
          scale_ = facts;
          emit readingChanged();
      }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(8);
    search_->setPlaceholderText(tr("find in names, labels, notes…"));
    search_->setAccessibleName(tr("Find a variable"));
    search_->setObjectName("variables:search");
    layout->addWidget(search_);
    filtered_->setSourceModel(model_);
    filtered_->setFilterCaseSensitivity(Qt::CaseInsensitive);
    filtered_->setFilterKeyColumn(-1);
    table_->setModel(filtered_);
    table_->setObjectName("variables");
    table_->setAccessibleName(tr("Variables"));
    dressTable(table_);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->verticalHeader()->hide();
    const int widths[] = {138, 168, 64, 104, 124, 50, 62, 150};
    for (int c = 0; c < VariablesModel::FieldCount; ++c) {
        table_->setColumnWidth(c, widths[c]);
    }
    table_->horizontalHeader()->setStretchLastSection(true);
    table_->setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed |
                            QAbstractItemView::AnyKeyPressed);
    layout->addWidget(table_, 1);

    auto* line = new QHBoxLayout(manyLine_);
    line->setContentsMargins(0, 0, 0, 0);
    line->addWidget(many_);
    line->addWidget(sentenceWord(tr("measure"), this));
    for (const Measure m : kMeasures) {
        measure_->addItem(text(measureName(m)));
    }
    measure_->setObjectName("variables:measure");
    measure_->setAccessibleName(tr("Measure of all that are selected"));
    line->addWidget(measure_);
    line->addWidget(sentenceWord(tr("missing"), this));
    missing_->setPlaceholderText(tr("-9, -99 to -90"));
    missing_->setObjectName("variables:missing");
    missing_->setAccessibleName(tr("Missing codes of all that are selected"));
    line->addWidget(missing_);
    line->addWidget(sentenceWord(tr("unit"), this));
    unit_->setObjectName("variables:unit");
    unit_->setAccessibleName(tr("Unit of all that are selected"));
    unit_->setMaximumWidth(90);
    line->addWidget(unit_);
    layout->addWidget(manyLine_);

    auto* setsLayout = new QHBoxLayout(setsLine_);
    setsLayout->setContentsMargins(0, 0, 0, 0);
    setsLayout->addWidget(sentenceWord(tr("Set"), this));
    sets_->setObjectName("sets:which");
    sets_->setAccessibleName(tr("Set"));
    sets_->setMinimumWidth(130);
    setsLayout->addWidget(sets_);
    setsLayout->addWidget(sentenceWord(tr("called"), this));
    setName_->setObjectName("sets:name");
    setName_->setAccessibleName(tr("Name of the set"));
    setName_->setMaximumWidth(150);
    setsLayout->addWidget(setName_);
    const auto setWord = [&](const QString& label, const QString& object, auto act) {
        auto* button = actionWord(label, this);
        button->setObjectName(object);
        connect(button, &QPushButton::clicked, this, act);
        setsLayout->addWidget(button);
    };
    setWord(tr("put the chosen in"), "sets:add", [this] { changeSet(true); });
    setWord(tr("take them out"), "sets:drop", [this] { changeSet(false); });
    setWord(tr("take the set apart"), "sets:apart", [this] {
        if (const TermSet* set = chosenSet()) {
            session_.edit(PutSet{{set->name, {}}},
                          tr("take the set %1 apart").arg(text(set->name)));
        }
    });
    setsLayout->addStretch(1);
    layout->addWidget(setsLine_);
    connect(sets_, &QComboBox::activated, this, [this] {
        showSets();
        if (const TermSet* set = chosenSet()) {
            std::vector<std::string> names;
            for (const std::string& member : set->members) {
                const auto parsed = Expression::parse(member);
                names.push_back(parsed && parsed->isName() ? parsed->root().text : member);
            }
            select(names);
        }
    });
    connect(setName_, &QLineEdit::returnPressed, this, [this] {
        const TermSet* set = chosenSet();
        const QString name = setName_->text().trimmed();
        if (set != nullptr && text(set->name) != name) {
            const QString did = tr("call the set %1 %2").arg(text(set->name), name);
            session_.edit(RenameSet{set->name, utf8(name)}, did);
        }
    });

    auto* box = new QVBoxLayout(levelsBox_);
    box->setContentsMargins(0, 0, 0, 0);
    auto* head = new QHBoxLayout;
    levelsTitle_->setTextFormat(Qt::RichText);
    head->addWidget(levelsTitle_, 1);
    const auto word = [&](const QString& label, const QString& object, auto act) {
        auto* button = actionWord(label, this);
        button->setObjectName(object);
        connect(button, &QPushButton::clicked, this, act);
        head->addWidget(button);
    };
    word(tr("up"), "levels:up", [this] { moveLevel(-1); });
    word(tr("down"), "levels:down", [this] { moveLevel(1); });
    word(tr("make it the base"), "levels:base", [this] {
        const int row = levels_->currentRow();
        if (row >= 0) {
            VariableEntry entry;
            entry.name = levelsOf_;
            const QString value = levels_->item(row, 0)->text();
            const bool number = !shownFrame_->column(levelsOf_)->isText();
            entry.base = number ? Key(value.toDouble()) : Key(utf8(value));
            session_.edit(PutVariable{entry}, tr("base of %1").arg(text(levelsOf_)));
        }
    });
    word(tr("derive what they become"), "levels:merge", [this] { proposeMerged(); });
    box->addLayout(head);
    levels_->setHorizontalHeaderLabels({tr("value"), tr("label"), tr("rows"), tr("becomes")});
    levels_->setObjectName("levels");
    levels_->setAccessibleName(tr("Levels"));
    dressTable(levels_);
    levels_->verticalHeader()->hide();
    levels_->setColumnWidth(1, 200);
    levels_->setColumnWidth(3, 200);
    levels_->setMaximumHeight(190);
    box->addWidget(levels_);
    layout->addWidget(levelsBox_);

    connect(search_, &QLineEdit::textChanged, filtered_,
            &QSortFilterProxyModel::setFilterFixedString);
    connect(table_->selectionModel(), &QItemSelectionModel::selectionChanged, this,
            &VariablesPage::takeSelection);
    connect(missing_, &QLineEdit::returnPressed, this, &VariablesPage::applyMissing);
    connect(unit_, &QLineEdit::returnPressed, this, [this] {
        const std::string unit = utf8(unit_->text().trimmed());
        applyToSelected([&](VariableEntry& e) { e.unit = unit; }, tr("unit %1").arg(unit_->text()));
    });
    connect(measure_, &QComboBox::activated, this, [this](int at) {
        const Measure measure = kMeasures[static_cast<std::size_t>(at)];
        applyToSelected([&](VariableEntry& e) { e.measure = measure; },
                        tr("measure %1").arg(text(measureName(measure))));
    });
    connect(levels_, &QTableWidget::cellChanged, this, [this](int /*row*/, int column) {
        if (!filling_ && column == 1) {
            takeLevels(tr("level labels of %1").arg(text(levelsOf_)));
        }
    });
    takeSelection();
}

const TermSet* VariablesPage::chosenSet() const {
    const auto& sets = session_.study().sets;
    const int at = sets_->currentIndex();
    return at >= 0 && at < static_cast<int>(sets.size()) ? &sets[static_cast<std::size_t>(at)]
                                                         : nullptr;
}

void VariablesPage::showSets() {
    const auto& sets = session_.study().sets;
    setsLine_->setVisible(!sets.empty());
    // The newest one is what was just made.
    const bool grown = static_cast<int>(sets.size()) > sets_->count();
    const int at = grown ? static_cast<int>(sets.size()) - 1 : sets_->currentIndex();
    const QSignalBlocker quiet(sets_);
    sets_->clear();
    for (const TermSet& set : sets) {
        sets_->addItem(tr("%1 (%2)").arg(text(set.name)).arg(set.members.size()));
    }
    sets_->setCurrentIndex(std::min(std::max(at, 0), sets_->count() - 1));
    if (const TermSet* set = chosenSet(); set != nullptr && !setName_->hasFocus()) {
        setName_->setText(text(set->name));
        QStringList members;
        for (const std::string& member : set->members) {
            members << text(member);
        }
        sets_->setToolTip(members.join(", "));
    }
}

void VariablesPage::changeSet(bool add) {
    const TermSet* chosen = chosenSet();
    if (chosen == nullptr || selected().empty()) {
        return;
    }
    TermSet set = *chosen;
    for (const std::string& name : selected()) {
        const std::string member = quotedName(name);
        std::erase(set.members, member);
        if (add) {
            set.members.push_back(member);
        }
    }
    session_.edit(PutSet{set},
                  (add ? tr("put %1 into the set %2") : tr("take %1 out of the set %2"))
                      .arg(selected().size() == 1 ? text(selected().front())
                                                  : tr("%1 variables").arg(selected().size()))
                      .arg(text(set.name)));
}

void VariablesPage::refresh() {
    showSets();
    const auto frame = session_.frame();
    if (!frame || frame == shownFrame_) {
        return;
    }
    const std::vector<std::string> kept = selected();
    shownFrame_ = frame;
    model_->showFrame(frame);
    select(kept);
}

void VariablesPage::select(const std::vector<std::string>& names) {
    filling_ = true;
    table_->clearSelection();
    for (int r = 0; r < filtered_->rowCount(); ++r) {
        const std::string name = model_->name(filtered_->mapToSource(filtered_->index(r, 0)).row());
        if (std::find(names.begin(), names.end(), name) != names.end()) {
            table_->selectionModel()->select(
                filtered_->index(r, 0), QItemSelectionModel::Select | QItemSelectionModel::Rows);
            if (name == names.front()) {
                // A page that was just turned to has no height yet.
                QMetaObject::invokeMethod(
                    table_, [this, r] { table_->scrollTo(filtered_->index(r, 0)); },
                    Qt::QueuedConnection);
            }
        }
    }
    filling_ = false;
    takeSelection();
}

std::vector<std::string> VariablesPage::selected() const {
    std::vector<std::string> names;
    for (const QModelIndex& index : table_->selectionModel()->selectedRows()) {
        names.push_back(model_->name(filtered_->mapToSource(index).row()));
    }
    return names;
}

void VariablesPage::takeSelection() {
    if (filling_) {
        return;
    }
    const std::vector<std::string> names = selected();
    manyLine_->setEnabled(!names.empty());
    many_->setText(names.empty()       ? tr("Choose variables above:")
                   : names.size() == 1 ? tr("%1:").arg(text(names.front()))
                                       : tr("These %1:").arg(names.size()));
    if (!names.empty() && shownFrame_) {
        const Variable& first = *shownFrame_->variable(names.front());
        measure_->setCurrentText(text(measureName(first.measure)));
        missing_->setText(missingWords(first));
        unit_->setText(text(first.unit));
        if (names.front() != session_.variable() && names.size() == 1) {
            session_.setVariable(names.front());
        }
    }
    showLevels();
    scale_.reset();
    std::string joined;
    for (const std::string& one : names) {
        joined += one + "\n";
    }
    scaleOf_ = joined;
    const bool numbers = names.size() > 1 && std::all_of(names.begin(), names.end(), [&](auto& n) {
                             return !shownFrame_->column(n)->isText();
                         });
    if (numbers) {
        scaling_.ask([frame = shownFrame_, names] { return scaleOf(*frame, names); },
                     shownFrame_->rows() <= kRowsAtOnce);
    } else {
        scaling_.cancel();
    }
    emit readingChanged();
}

void VariablesPage::applyToSelected(const std::function<void(VariableEntry&)>& change,
                                    const QString& did) {
    PutVariables put;
    for (const std::string& name : selected()) {
        VariableEntry entry;
        entry.name = name;
        change(entry);
        put.entries.push_back(entry);
    }
    if (!put.entries.empty()) {
        session_.edit(put, put.entries.size() == 1
                               ? did + tr(" in %1").arg(text(put.entries.front().name))
                               : did + tr(" in %1 variables").arg(put.entries.size()));
    }
}

void VariablesPage::applyMissing() {
    const MissingWords words = readMissing(missing_->text());
    applyToSelected(
        [&](VariableEntry& e) {
            e.missing = words.codes;
            e.missingRanges = words.ranges;
        },
        missing_->text().trimmed().isEmpty() ? tr("no missing codes")
                                             : tr("%1 missing").arg(missing_->text().trimmed()));
}

void VariablesPage::showLevels() {
    const std::vector<std::string> names = selected();
    const Variable* v =
        names.size() == 1 && shownFrame_ ? shownFrame_->variable(names.front()) : nullptr;
    const bool shown = v != nullptr && (isGrouping(v->measure) || v->measure == Measure::YesNo) &&
                       v->measure != Measure::Text;
    levelsBox_->setVisible(shown);
    if (!shown) {
        return;
    }
    levelsOf_ = v->name;
    const auto found = levelsOf(*shownFrame_->column(v->name), *v);
    filling_ = true;
    const std::size_t rows = std::min<std::size_t>(found.size(), 200);
    levels_->setRowCount(static_cast<int>(rows));
    const std::string base = v->base.empty() ? "" : keyText(v->base.front());
    for (std::size_t k = 0; k < rows; ++k) {
        const FoundLevel& level = found[k];
        const bool isBase = base.empty() ? k == 0 : level.value == base || level.label == base;
        const auto cell = [&](int column, const QString& value, bool editable) {
            auto* item = new QTableWidgetItem(value);
            item->setFlags(editable ? item->flags() : item->flags() & ~Qt::ItemIsEditable);
            levels_->setItem(static_cast<int>(k), column, item);
            return item;
        };
        cell(0, text(level.value), false);
        cell(1, level.label == level.value ? QString() : text(level.label), true);
        cell(2, numbered(countText(level.count)) + (isBase ? tr(" · base") : QString()), false)
            ->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        cell(3, text(level.label), true);
    }
    levelsTitle_->setText(
        themed(tr("<b>Levels of %1</b> <span style=\"color:{soft}\">one word under "
                  "“becomes” merges</span>")
                   .arg(text(v->name).toHtmlEscaped())));
    filling_ = false;
}

void VariablesPage::takeLevels(const QString& did) {
    VariableEntry entry;
    entry.name = levelsOf_;
    entry.levels.emplace();
    const bool number = !shownFrame_->column(levelsOf_)->isText();
    for (int r = 0; r < levels_->rowCount(); ++r) {
        const QString value = levels_->item(r, 0)->text();
        entry.levels->push_back({number ? Key(value.toDouble()) : Key(utf8(value)),
                                 utf8(levels_->item(r, 1)->text().trimmed())});
    }
    session_.edit(PutVariable{entry}, did);
}

void VariablesPage::moveLevel(int by) {
    const int from = levels_->currentRow();
    const int to = from + by;
    if (from < 0 || to < 0 || to >= levels_->rowCount()) {
        return;
    }
    filling_ = true;
    for (int c = 0; c < levels_->columnCount(); ++c) {
        QTableWidgetItem* a = levels_->takeItem(from, c);
        QTableWidgetItem* b = levels_->takeItem(to, c);
        levels_->setItem(from, c, b);
        levels_->setItem(to, c, a);
    }
    levels_->setCurrentCell(to, 0);
    filling_ = false;
    takeLevels(tr("order of the levels of %1").arg(text(levelsOf_)));
    levels_->setCurrentCell(to, 0);
}

void VariablesPage::proposeMerged() {
    const auto literal = [](const QString& word) {
        return "'" + QString(word).replace("'", "''") + "'";
    };
    const bool number = !shownFrame_->column(levelsOf_)->isText();
    const QString x = text(quotedName(levelsOf_));
    // One branch a new level, in the order in which they appear.
    std::vector<std::pair<QString, QStringList>> branches;
    for (int r = 0; r < levels_->rowCount(); ++r) {
        const QString becomes = levels_->item(r, 3)->text().trimmed();
        const QString value = levels_->item(r, 0)->text();
        if (becomes.isEmpty()) {
            continue;  // Blank: missing.
        }
        const auto at = std::find_if(branches.begin(), branches.end(),
                                     [&](const auto& b) { return b.first == becomes; });
        const QString key = number ? value : literal(value);
        if (at == branches.end()) {
            branches.push_back({becomes, {key}});
        } else {
            at->second << key;
        }
    }
    QString expression = "case";
    for (const auto& [becomes, keys] : branches) {
        expression += " when " + x +
                      (keys.size() == 1 ? " = " + keys.front() : " in (" + keys.join(", ") + ")") +
                      " then " + literal(becomes);
    }
    emit deriveAsked(text(levelsOf_) + "_merged", expression + " end");
}

ReadingContent VariablesPage::reading() const {
    ReadingContent content;
    const std::vector<std::string> names = selected();
    if (names.size() < 2) {
        return content;
    }
    content.title = tr("%1 variables").arg(names.size());
    if (scale_ && *scale_) {
        const ScaleFacts& facts = **scale_;
        content.paragraphs << tr("Taken as one scale, Cronbach’s alpha is <b>%1</b> in the %2 rows "
                                 "that answer all of them.")
                                  .arg(numbered(fixedNumber(facts.alpha, 3)),
                                       numbered(countText(facts.n)));
        for (const auto& item : facts.items) {
            content.fields.push_back(
                {text(item.name),
                 tr("with the rest %1").arg(numbered(fixedNumber(item.withRest, 2))) +
                     (names.size() > 2 ? tr(" · alpha without it %1")
                                             .arg(numbered(fixedNumber(item.alphaWithout, 3)))
                                       : QString()),
                 {},
                 {},
                 {}});
        }
        for (const std::string& name : countingNoAnswer(*shownFrame_)) {
            if (std::find(names.begin(), names.end(), name) != names.end()) {
                content.paragraphs << richText("~**" + name +
                                               "** still counts −9 as an answer, which spoils "
                                               "all of this: type it under “missing” below.");
                break;
            }
        }
        for (const std::string& against : facts.againstTheRest) {
            content.paragraphs << richText("~**" + against +
                                           "** runs against the rest: is it worded in reverse? "
                                           "Turn its scale round first.");
        }
        content.actions.push_back(
            {tr("Add the mean as a scale"), text(scaleExpression(names)), [this, names] {
                 emit const_cast<VariablesPage*>(this)->deriveAsked(tr("scale"),
                                                                    text(scaleExpression(names)));
             }});
    } else if (scale_) {
        content.paragraphs << richText("~" + scale_->error().text());
    }
    content.actions.push_back(
        {tr("Keep them as a set"), tr("one chip for all of them in a question"), [this, names] {
             TermSet set{"set_" + std::to_string(session_.study().sets.size() + 1), {}};
             for (const std::string& name : names) {
                 set.members.push_back(quotedName(name));
             }
             session_.edit(PutSet{set}, tr("set of %1 variables").arg(names.size()));
         }});
    return content;
}

}  // namespace rapporto::app
