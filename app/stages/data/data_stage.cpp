#include "app/stages/data/data_stage.h"

#include "app/shell/theme.h"
#include "app/stages/data/grid_model.h"
#include "app/stages/data/shape_ladder.h"
#include "core/base/format.h"
#include "core/report/wording.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QStackedWidget>
#include <QTableView>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

enum Page { kEmpty, kImport, kGrid };

QLabel* script(const QString& word, QWidget* parent) {
    auto* label = new QLabel(word, parent);
    label->setFont(paperFont(18, true));
    label->setStyleSheet("color:#6B6F7B");
    return label;
}

void dress(QTableView* view) {
    view->verticalHeader()->setDefaultSectionSize(26);
    view->verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    view->horizontalHeader()->setDefaultSectionSize(104);
    view->horizontalHeader()->setHighlightSections(false);
    view->setShowGrid(true);
    view->setWordWrap(false);
    view->setHorizontalScrollMode(QAbstractItemView::ScrollPerPixel);
    view->setSelectionBehavior(QAbstractItemView::SelectItems);
    view->setSelectionMode(QAbstractItemView::ExtendedSelection);
    view->setTabKeyNavigation(false);
}

QComboBox* choice(const QString& name, const QStringList& values, QWidget* parent) {
    auto* combo = new QComboBox(parent);
    combo->addItems(values);
    combo->setAccessibleName(name);
    combo->setObjectName("import:" + name);
    return combo;
}

const std::vector<char> kDelimiters = {',', ';', '\t', '|'};

}  // namespace

DataStage::DataStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      pages_(new QStackedWidget(this)),
      previewModel_(new GridModel(this)),
      gridModel_(new GridModel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->addWidget(pages_);
    pages_->addWidget(makeEmptyPage());
    pages_->addWidget(makeImportPage());
    pages_->addWidget(makeGridPage());
    connect(&session_, &Session::importChanged, this, &DataStage::refresh);
    connect(&session_, &Session::selectionChanged, this, &DataStage::refreshSelection);
}

QWidget* DataStage::makeEmptyPage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(90, 60, 90, 60);
    auto* title = new QLabel(tr("Start with a table"), page);
    title->setFont(paperFont(30));
    layout->addWidget(title);
    emptyMessage_ = new QLabel(page);
    emptyMessage_->setWordWrap(true);
    emptyMessage_->setTextFormat(Qt::RichText);
    layout->addWidget(emptyMessage_);
    layout->addSpacing(12);
    const auto card = [&](const QString& name, const QString& label, auto slot) {
        auto* button = new QPushButton(label, page);
        button->setProperty("card", true);
        button->setObjectName(name);
        button->setMaximumWidth(420);
        connect(button, &QPushButton::clicked, this, slot);
        layout->addWidget(button);
    };
    card("start:open", tr("Open a table or a study…   Ctrl+O"), [this] { emit openRequested(); });
    card("start:paste", tr("Paste cells from a sheet   Ctrl+V"), [this] { emit pasteRequested(); });
    card("start:demo", tr("Look at the demo: apple growers in a made-up valley"),
         [this] { session_.openDemo(); });
    layout->addStretch(1);
    return page;
}

QWidget* DataStage::makeImportPage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(22, 16, 20, 12);
    importTitle_ = new QLabel(page);
    importTitle_->setFont(paperFont(19, true));
    layout->addWidget(importTitle_);
    auto* options = new QHBoxLayout;
    options->setSpacing(8);
    const auto add = [&](const QString& label, QComboBox* combo) {
        auto* word = new QLabel(label, page);
        word->setStyleSheet("color:#6B6F7B");
        options->addWidget(word);
        options->addWidget(combo);
        connect(combo, &QComboBox::activated, this, &DataStage::readOptions);
    };
    delimiter_ = choice("delimiter", {tr("comma"), tr("semicolon"), tr("tab"), tr("bar")}, page);
    decimal_ = choice("decimal", {"1.5", "1,5"}, page);
    header_ = choice("header", {tr("names"), tr("data")}, page);
    encoding_ = choice("encoding", {"UTF-8", "UTF-16", "ISO-8859-1", "windows-1252"}, page);
    add(tr("cells end at"), delimiter_);
    add(tr("numbers like"), decimal_);
    add(tr("first line holds"), header_);
    add(tr("text in"), encoding_);
    options->addStretch(1);
    layout->addLayout(options);
    preview_ = new QTableView(page);
    preview_->setModel(previewModel_);
    preview_->setAccessibleName(tr("Preview"));
    dress(preview_);
    layout->addWidget(preview_, 1);
    importProblems_ = new QLabel(page);
    importProblems_->setWordWrap(true);
    importProblems_->setTextFormat(Qt::RichText);
    importProblems_->setObjectName("importProblems");
    layout->addWidget(importProblems_);
    auto* buttons = new QHBoxLayout;
    auto* take = new QPushButton(tr("Use this table"), page);
    take->setProperty("card", true);
    take->setObjectName("import:use");
    auto* leave = new QPushButton(tr("Leave it"), page);
    leave->setObjectName("import:leave");
    buttons->addWidget(take);
    buttons->addWidget(leave);
    buttons->addStretch(1);
    layout->addLayout(buttons);
    connect(take, &QPushButton::clicked, &session_, &Session::acceptImport);
    connect(leave, &QPushButton::clicked, &session_, &Session::cancelImport);
    return page;
}

QWidget* DataStage::makeGridPage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(22, 14, 20, 10);
    auto* sentence = new QHBoxLayout;
    sentence->addWidget(script(tr("Each row is"), page));
    layoutKind_ = new QComboBox(page);
    layoutKind_->addItems({tr("a case on its own"), tr("a moment"), tr("a unit at a moment")});
    layoutKind_->setAccessibleName(tr("What a row is"));
    layoutUnit_ = new QComboBox(page);
    layoutUnit_->setAccessibleName(tr("Unit"));
    layoutTime_ = new QComboBox(page);
    layoutTime_->setAccessibleName(tr("Time"));
    sentence->addWidget(layoutKind_);
    sentence->addWidget(layoutUnit_);
    sentence->addWidget(layoutTime_);
    sentence->addStretch(1);
    sentence->addWidget(script(tr("among"), page));
    rule_ = new QLineEdit(page);
    rule_->setPlaceholderText(tr("all rows, or a condition: age >= 18"));
    rule_->setAccessibleName(tr("Sample rule"));
    rule_->setObjectName("data:rule");
    rule_->setMinimumWidth(220);
    sentence->addWidget(rule_);
    layout->addLayout(sentence);
    rulePreview_ = new QLabel(page);
    rulePreview_->setAlignment(Qt::AlignRight);
    rulePreview_->setFont(interfaceFont(11));
    layout->addWidget(rulePreview_);
    grid_ = new QTableView(page);
    grid_->setModel(gridModel_);
    grid_->setAccessibleName(tr("Rows"));
    grid_->setObjectName("grid");
    dress(grid_);
    layout->addWidget(grid_, 1);
    auto* derive = new QHBoxLayout;
    derive->addWidget(script(tr("Derive"), page));
    derivedName_ = new QLineEdit(page);
    derivedName_->setPlaceholderText(tr("new_name"));
    derivedName_->setAccessibleName(tr("Name of the derived variable"));
    derivedName_->setObjectName("data:derivedName");
    derivedName_->setMaximumWidth(150);
    derive->addWidget(derivedName_);
    derive->addWidget(new QLabel("=", page));
    derivedExpression_ = new QLineEdit(page);
    derivedExpression_->setPlaceholderText(tr("an expression: ln(x), a / b, case when … end"));
    derivedExpression_->setAccessibleName(tr("Expression"));
    derivedExpression_->setObjectName("data:derivedExpression");
    derive->addWidget(derivedExpression_, 1);
    auto* addButton = new QPushButton(tr("add it"), page);
    addButton->setObjectName("data:addDerived");
    derive->addWidget(addButton);
    layout->addLayout(derive);
    derivedPreview_ = new QLabel(page);
    derivedPreview_->setObjectName("data:derivedPreview");
    derivedPreview_->setFont(interfaceFont(12));
    derivedPreview_->setTextFormat(Qt::RichText);
    layout->addWidget(derivedPreview_);
    ladderTitle_ = new QLabel(page);
    ladderTitle_->setTextFormat(Qt::RichText);
    layout->addWidget(ladderTitle_);
    ladder_ = new ShapeLadder(page);
    layout->addWidget(ladder_);

    connect(layoutKind_, &QComboBox::activated, this, &DataStage::applyLayout);
    connect(layoutUnit_, &QComboBox::activated, this, &DataStage::applyLayout);
    connect(layoutTime_, &QComboBox::activated, this, &DataStage::applyLayout);
    connect(derivedExpression_, &QLineEdit::textChanged, this, &DataStage::previewDerived);
    connect(derivedName_, &QLineEdit::textChanged, this, &DataStage::previewDerived);
    connect(derivedExpression_, &QLineEdit::returnPressed, this, &DataStage::addDerived);
    connect(addButton, &QPushButton::clicked, this, &DataStage::addDerived);
    connect(rule_, &QLineEdit::textEdited, this, &DataStage::previewRule);
    connect(rule_, &QLineEdit::returnPressed, this, [this] {
        const QString rule = rule_->text().trimmed();
        session_.edit(SetRule{utf8(rule)},
                      rule.isEmpty() ? tr("all rows") : tr("among %1").arg(rule));
    });
    connect(ladder_, &ShapeLadder::rungChosen, this,
            [this](const QString& name, const QString& expression) {
                derivedName_->setText(name);
                derivedExpression_->setText(expression);
                derivedExpression_->setFocus();
            });
    connect(grid_->selectionModel(), &QItemSelectionModel::selectionChanged, this, [this] {
        if (selecting_) {
            return;
        }
        std::set<std::size_t> rows;
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
    });
    return page;
}

void DataStage::refresh() {
    if (session_.pending()) {
        pages_->setCurrentIndex(kImport);
        refreshImport();
    } else if (session_.frame() && session_.hasTable()) {
        pages_->setCurrentIndex(kGrid);
        refreshGrid();
    } else {
        pages_->setCurrentIndex(kEmpty);
        QString words =
            tr("A row a case, a column a variable, names in the first line: a CSV file, or cells "
               "copied from a sheet. "
               "Every guess about it can be changed before it is taken in. Then state a question "
               "as a sentence.");
        if (session_.sourceRefusal()) {
            words = "<b style=\"color:#966618\">" +
                    tr("The study is open, but its data are not: ") +
                    text(session_.sourceRefusal()->text()).toHtmlEscaped() + "</b>";
        } else if (session_.isLoading()) {
            words = tr("Reading the data…");
        }
        emptyMessage_->setText("<div style=\"font-size:15px;line-height:125%\">" + words +
                               "</div>");
    }
    emit readingChanged();
}

void DataStage::refreshImport() {
    const PendingImport& p = *session_.pending();
    const QString name = p.path.isEmpty() ? tr("pasted cells") : p.path.section('/', -1);
    if (!p.import) {
        importTitle_->setText(p.refusal ? tr("%1 cannot be read").arg(name)
                                        : tr("Reading %1 …").arg(name));
        importProblems_->setText(p.refusal ? "<span style=\"color:#A4513A\">" +
                                                 text(p.refusal->text()).toHtmlEscaped() + "</span>"
                                           : QString());
        previewModel_->showTable(nullptr);
        return;
    }
    const Import& import = *p.import;
    importTitle_->setText(tr("%1: %2 rows, %3 columns")
                              .arg(name, text(countText(import.table.rows())))
                              .arg(import.table.columns.size()));
    delimiter_->setCurrentIndex(
        static_cast<int>(std::find(kDelimiters.begin(), kDelimiters.end(), *import.used.delimiter) -
                         kDelimiters.begin()));
    decimal_->setCurrentIndex(*import.used.decimal == ',' ? 1 : 0);
    header_->setCurrentIndex(*import.used.header ? 0 : 1);
    encoding_->setCurrentText(text(*import.used.encoding));
    if (previewModel_->table() != &import.table) {
        previewModel_->showTable(std::shared_ptr<const Table>(p.import, &import.table));
    }
    QString problems;
    for (std::size_t i = 0; i < std::min<std::size_t>(import.problems.size(), 4); ++i) {
        problems += tr("<br>line %1: %2")
                        .arg(import.problems[i].line)
                        .arg(text(import.problems[i].what).toHtmlEscaped());
    }
    const QString count = text(plural(import.problemCount, "repair", "repairs"));
    importProblems_->setText(
        import.problemCount == 0
            ? tr("Every line has the same number of cells; nothing had to be repaired.")
            : "<span style=\"color:#966618\"><b>" + count + "</b>" + problems +
                  (import.problemCount > 4 ? "<br>…" : "") + "</span>");
}

void DataStage::readOptions() {
    if (!session_.pending() || !session_.pending()->import) {
        return;
    }
    ReaderOptions options = session_.pending()->options;
    options.delimiter = kDelimiters[static_cast<std::size_t>(delimiter_->currentIndex())];
    options.decimal = decimal_->currentIndex() == 1 ? ',' : '.';
    options.header = header_->currentIndex() == 0;
    options.encoding = utf8(encoding_->currentText());
    session_.changeImportOptions(options);
}

void DataStage::refreshGrid() {
    const auto frame = session_.frame();
    if (frame != shownFrame_) {
        shownFrame_ = frame;
        gridModel_->showFrame(frame, session_.study().sample);
        const QString unit = layoutUnit_->currentText();
        layoutUnit_->clear();
        layoutTime_->clear();
        for (const Variable& v : frame->table().variables) {
            layoutUnit_->addItem(text(v.name));
            layoutTime_->addItem(text(v.name));
        }
        previewDerived();
        shownVariable_.clear();
        for (int c = 0; c < std::min(gridModel_->columnCount(), 200); ++c) {
            grid_->setColumnWidth(
                c, std::clamp(fontMetrics().horizontalAdvance(text(
                                  frame->table().variables[static_cast<std::size_t>(c)].name)) +
                                  34,
                              98, 190));
        }
    }
    const Layout& layout = session_.study().layout;
    layoutKind_->setCurrentIndex(static_cast<int>(layout.kind));
    layoutUnit_->setVisible(layout.kind == Layout::Kind::Panel);
    layoutTime_->setVisible(layout.kind != Layout::Kind::CrossSection);
    if (!layout.unit.empty()) {
        layoutUnit_->setCurrentText(text(layout.unit));
    }
    if (!layout.time.empty()) {
        layoutTime_->setCurrentText(text(layout.time));
    }
    if (!rule_->hasFocus()) {
        rule_->setText(text(session_.study().sample.where));
        previewRule();
    }
    refreshSelection();
}

void DataStage::applyLayout() {
    Layout layout;
    layout.kind = static_cast<Layout::Kind>(layoutKind_->currentIndex());
    if (layout.kind == Layout::Kind::Panel) {
        layout.unit = utf8(layoutUnit_->currentText());
    }
    if (layout.kind != Layout::Kind::CrossSection) {
        // A date is the likeliest time, until another is chosen.
        if (session_.study().layout.kind == Layout::Kind::CrossSection && shownFrame_) {
            for (const Variable& v : shownFrame_->table().variables) {
                if (v.measure == Measure::Date) {
                    layoutTime_->setCurrentText(text(v.name));
                    break;
                }
            }
        }
        layout.time = utf8(layoutTime_->currentText());
    }
    session_.edit(SetLayout{layout}, tr("each row is %1").arg(layoutKind_->currentText()));
}

void DataStage::refreshSelection() {
    if (pages_->currentIndex() != kGrid || !shownFrame_) {
        return;
    }
    const std::string& name = session_.variable();
    if (name != shownVariable_) {
        shownVariable_ = name;
        ladderTitle_->setText(
            "<b>" + tr("Shape ladder of %1").arg(text(name)) +
            "</b> &nbsp; <span style=\"color:#6B6F7B\">" +
            tr("skewness under each; the lightest touch that straightens it is marked") +
            "</span>");
        ladder_->showVariable(shownFrame_, name);
    }
    if (!selecting_) {
        selecting_ = true;
        auto* model = grid_->selectionModel();
        model->clearSelection();
        QItemSelection selection;
        std::size_t count = 0;
        for (const std::size_t row : session_.selectedRows()) {
            if (++count > 2000) {
                break;  // More cannot be told apart on a screen; the count stands in the reading.
            }
            selection.select(
                gridModel_->index(static_cast<int>(row), 0),
                gridModel_->index(static_cast<int>(row), gridModel_->columnCount() - 1));
        }
        model->select(selection, QItemSelectionModel::Select);
        if (!session_.selectedRows().empty()) {
            grid_->scrollTo(gridModel_->index(static_cast<int>(*session_.selectedRows().begin()),
                                              std::max(grid_->currentIndex().column(), 0)));
        }
        selecting_ = false;
    }
    emit readingChanged();
}

void DataStage::showVariable(const std::string& name) {
    session_.setVariable(name);
    const Table* table = gridModel_->table();
    if (table != nullptr && table->find(name) >= 0) {
        selecting_ = true;
        grid_->setCurrentIndex(
            gridModel_->index(std::max(grid_->currentIndex().row(), 0), table->find(name)));
        selecting_ = false;
    }
}

void DataStage::previewDerived() {
    const QString expression = derivedExpression_->text().trimmed();
    if (expression.isEmpty() || !shownFrame_) {
        derivedPreview_->clear();
        return;
    }
    const auto value = shownFrame_->evaluateText(utf8(expression));
    if (!value) {
        derivedPreview_->setText("<span style=\"color:#966618\">" +
                                 text(value.error().text()).toHtmlEscaped() + "</span>");
        return;
    }
    const std::size_t missing = value->column.countMissing();
    QString words =
        tr("%1 values · %2 missing")
            .arg(text(countText(value->column.size() - missing)), text(countText(missing)));
    if (value->undefined > 0) {
        words += " · <span style=\"color:#966618\">" +
                 tr("%1 lost: the expression has no value there")
                     .arg(text(countText(value->undefined))) +
                 "</span>";
    }
    if (!value->column.isText() && missing < value->column.size()) {
        const Summary s = summarise(value->column.numbers());
        words += tr(" · from %1 to %2, skewness %3")
                     .arg(text(shortNumber(s.low)), text(shortNumber(s.high)),
                          text(fixedNumber(s.skewness, 1)));
    }
    derivedPreview_->setText("<span style=\"color:#6B6F7B\">" + words + "</span>");
}

void DataStage::addDerived() {
    const QString expression = derivedExpression_->text().trimmed();
    QString name = derivedName_->text().trimmed();
    if (expression.isEmpty() || !shownFrame_) {
        return;
    }
    if (name.isEmpty()) {
        name = expression;
    }
    if (const auto value = shownFrame_->evaluateText(utf8(expression)); !value) {
        previewDerived();
        return;
    }
    if (shownFrame_->column(utf8(name)) != nullptr &&
        shownFrame_->variable(utf8(name))->expression.empty()) {
        derivedPreview_->setText(
            "<span style=\"color:#966618\">" +
            tr("‘%1’ is a variable of the source: choose another name.").arg(name.toHtmlEscaped()) +
            "</span>");
        return;
    }
    if (session_.edit(PutDerived{{utf8(name), utf8(expression), {}}}, tr("derive %1").arg(name))) {
        derivedName_->clear();
        derivedExpression_->clear();
        session_.setVariable(utf8(name));
    }
}

void DataStage::previewRule() {
    const QString rule = rule_->text().trimmed();
    if (!shownFrame_) {
        return;
    }
    if (rule.isEmpty()) {
        rulePreview_->setText("<span style=\"color:#6B6F7B\">" +
                              tr("all %1 rows").arg(text(countText(shownFrame_->rows()))) +
                              "</span>");
        return;
    }
    const auto value = shownFrame_->evaluateText(utf8(rule));
    if (!value || value->column.isText()) {
        rulePreview_->setText("<span style=\"color:#966618\">" +
                              (value ? tr("this is a text, not a condition")
                                     : text(value.error().text()).toHtmlEscaped()) +
                              "</span>");
        return;
    }
    std::size_t kept = 0;
    for (const double v : value->column.numbers()) {
        kept += !std::isnan(v) && v != 0.0 ? 1U : 0U;
    }
    const bool applied = utf8(rule) == session_.study().sample.where;
    rulePreview_->setText(
        "<span style=\"color:#6B6F7B\">" +
        tr("%1 of %2 rows").arg(text(countText(kept)), text(countText(shownFrame_->rows()))) +
        (applied ? QString() : tr(" · Enter applies it")) + "</span>");
}

ReadingContent DataStage::importReading() const {
    ReadingContent content;
    const PendingImport& p = *session_.pending();
    if (!p.import) {
        content.title = p.refusal ? tr("it cannot be read") : tr("reading…");
        if (p.refusal) {
            content.paragraphs << richText("~" + p.refusal->text());
        }
        return content;
    }
    content.title = tr("what was found");
    content.paragraphs << tr(
        "Look at the columns below and change a guess above where it is wrong. Nothing is taken in "
        "before you say so.");
    for (std::size_t j = 0; j < p.import->evidence.size(); ++j) {
        const ColumnEvidence& e = p.import->evidence[j];
        if (!e.suggestion.empty()) {
            content.paragraphs << richText("~**" + p.import->table.variables[j].name +
                                           "**: " + e.suggestion);
        }
    }
    for (std::size_t j = 0; j < std::min<std::size_t>(p.import->evidence.size(), 40); ++j) {
        content.fields.push_back({text(p.import->table.variables[j].name),
                                  text(measureName(p.import->table.variables[j].measure) + ": " +
                                       p.import->evidence[j].reason),
                                  {},
                                  {},
                                  {}});
    }
    return content;
}

ReadingContent DataStage::variableReadingContent() const {
    ReadingContent content;
    const std::string name = session_.variable();
    const auto frame = session_.frame();
    content.title = text(name);
    for (const auto& p : session_.readingOf(name)) {
        content.paragraphs << richText(p);
    }
    const Variable* v = frame->variable(name);
    if (v == nullptr) {
        return content;
    }
    const auto put = [this, name](auto member, auto value, const QString& did) {
        VariableEntry entry;
        entry.name = name;
        entry.*member = value;
        session_.edit(PutVariable{entry}, did);
    };
    content.fields.push_back({tr("label"),
                              text(v->label),
                              {},
                              [put, name](const QString& s) {
                                  put(&VariableEntry::label, std::optional(utf8(s)),
                                      Session::tr("label %1").arg(text(name)));
                              },
                              tr("for people")});
    content.fields.push_back({tr("unit"),
                              text(v->unit),
                              {},
                              [put, name](const QString& s) {
                                  put(&VariableEntry::unit, std::optional(utf8(s)),
                                      Session::tr("unit of %1").arg(text(name)));
                              },
                              tr("kg, years, …")});
    QStringList measures;
    std::vector<Measure> allowed = {Measure::Quantity, Measure::Count,         Measure::YesNo,
                                    Measure::Groups,   Measure::OrderedGroups, Measure::Date};
    if (frame->column(name)->isText()) {
        allowed = {Measure::Groups, Measure::OrderedGroups, Measure::Text};
    }
    for (const Measure m : allowed) {
        measures << text(measureName(m));
    }
    content.fields.push_back(
        {tr("measure"),
         text(measureName(v->measure)),
         measures,
         [put, name, allowed, measures](const QString& s) {
             put(&VariableEntry::measure,
                 std::optional(allowed[static_cast<std::size_t>(measures.indexOf(s))]),
                 Session::tr("%1 is %2").arg(text(name), s));
         },
         {}});
    QString codes;
    for (const Key& key : v->missing) {
        codes += (codes.isEmpty() ? "" : ", ") + text(keyText(key));
    }
    if (v->expression.empty()) {
        content.fields.push_back({tr("missing"),
                                  codes,
                                  {},
                                  [put, name](const QString& s) {
                                      std::vector<Key> keys;
                                      for (const QString& part : s.split(',', Qt::SkipEmptyParts)) {
                                          bool ok = false;
                                          const double x =
                                              part.trimmed().replace("−", "-").toDouble(&ok);
                                          keys.push_back(ok ? Key(x) : Key(utf8(part.trimmed())));
                                      }
                                      put(&VariableEntry::missing, std::optional(keys),
                                          Session::tr("missing codes of %1").arg(text(name)));
                                  },
                                  tr("codes: -9, …")});
    } else {
        content.fields.push_back({tr("derived"),
                                  text(v->expression),
                                  {},
                                  [this, name, v](const QString& s) {
                                      session_.edit(PutDerived{{name, utf8(s), v->label}},
                                                    tr("derive %1").arg(text(name)));
                                  },
                                  {}});
    }
    if (isGrouping(v->measure)) {
        QStringList levels;
        for (const FoundLevel& level : levelsOf(*frame->column(name), *v)) {
            if (levels.size() < 60) {
                levels << text(level.value);
            }
        }
        content.fields.push_back(
            {tr("base"),
             v->base.empty() ? levels.value(0) : text(keyText(v->base.front())),
             levels,
             [put, name, number = !frame->column(name)->isText()](const QString& s) {
                 put(&VariableEntry::base, std::optional(number ? Key(s.toDouble()) : Key(utf8(s))),
                     Session::tr("base of %1").arg(text(name)));
             },
             {}});
    }
    content.fields.push_back({tr("note"),
                              text(v->note),
                              {},
                              [put, name](const QString& s) {
                                  put(&VariableEntry::note, std::optional(utf8(s)),
                                      Session::tr("note on %1").arg(text(name)));
                              },
                              tr("anything to remember")});
    if (!v->expression.empty()) {
        content.actions.push_back(
            {tr("Take %1 out").arg(text(name)), tr("what needs it will say so"), [this, name] {
                 session_.edit(RemoveDerived{name}, tr("take out %1").arg(text(name)));
             }});
    }
    // Codes that look like “no answer” in any variable that has none declared.
    std::vector<std::string> suspects;
    for (const Variable& other : frame->table().variables) {
        const Column& column = *frame->column(other.name);
        if (!column.isText() && other.expression.empty() && other.missing.empty() &&
            column.size() <= 200000) {
            bool nine = false;
            bool negative = false;
            for (const double x : column.numbers()) {
                nine = nine || x == -9.0;
                negative = negative || (x < 0.0 && x != -9.0);
            }
            if (nine && !negative) {
                suspects.push_back(other.name);
            }
        }
    }
    if (!suspects.empty()) {
        content.paragraphs << richText(
            "~**" + suspects.front() + "**" +
            (suspects.size() > 1
                 ? " and " + std::to_string(suspects.size() - 1) + " more still count"
                 : " still counts") +
            " −9 as an answer.");
        content.actions.push_back({tr("Make −9 missing in %1 variables").arg(suspects.size()),
                                   tr("one step each, all undoable"), [this, suspects] {
                                       for (const auto& one : suspects) {
                                           VariableEntry entry;
                                           entry.name = one;
                                           entry.missing = std::vector<Key>{Key(-9.0)};
                                           session_.edit(PutVariable{entry},
                                                         tr("−9 is missing in %1").arg(text(one)));
                                       }
                                   }});
    }
    return content;
}

ReadingContent DataStage::reading() const {
    if (session_.pending()) {
        return importReading();
    }
    if (!session_.frame() || !session_.hasTable()) {
        ReadingContent content;
        content.title = tr("welcome");
        content.paragraphs << tr(
            "Rapporto turns a table into effects that can be defended: a question is a sentence, "
            "its answer is alive, and its doubts stand beside it.");
        if (session_.sourceRefusal()) {
            content.title = tr("data not found");
            content.paragraphs = {richText("~" + session_.sourceRefusal()->text())};
            if (session_.sourceRefusal()->code == ErrorCode::Changed) {
                content.actions.push_back({tr("Use the changed file"),
                                           tr("every answer is computed anew from it"),
                                           [this] { session_.openStudy(session_.path(), true); }});
            }
            content.actions.push_back({tr("Open another table"), tr("Ctrl+O"), [this] {
                                           emit const_cast<DataStage*>(this)->openRequested();
                                       }});
        }
        return content;
    }
    ReadingContent content = variableReadingContent();
    const auto& rows = session_.selectedRows();
    if (!rows.empty()) {
        const bool one = rows.size() == 1;
        std::vector<std::size_t> back;
        for (const std::size_t row : rows) {
            if (session_.frame()->states()[row] == RowState::SetAside) {
                back.push_back(row + 1);
            }
        }
        if (back.size() < rows.size()) {
            content.actions.insert(content.actions.begin(),
                                   {one ? tr("Set row %1 aside").arg(*rows.begin() + 1)
                                        : tr("Set %1 rows aside").arg(rows.size()),
                                    tr("Delete · with a reason: Shift+Delete"),
                                    [this] { session_.setSelectedAside({}); }});
        }
        if (!back.empty()) {
            content.actions.insert(
                content.actions.begin(),
                {tr("Take %1 back into the sample").arg(back.size()), {}, [this, back] {
                     session_.edit(TakeRowsBack{back}, tr("take %1 rows back").arg(back.size()));
                 }});
        }
    }
    return content;
}

QString DataStage::state() const {
    if (session_.pending()) {
        return tr("preview");
    }
    const auto frame = session_.frame();
    return frame && session_.hasTable() ? QString("%1 × %2")
                                              .arg(text(countText(frame->rows())))
                                              .arg(frame->table().columns.size())
           : session_.isLoading() ? tr("reading…")
                                  : tr("no table");
}

}  // namespace rapporto::app
