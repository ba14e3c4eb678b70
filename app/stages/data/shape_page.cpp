#include "app/stages/data/shape_page.h"

#include "app/shell/theme.h"
#include "app/stages/data/grid_model.h"
#include "core/base/format.h"
#include "core/io/table_file.h"
#include "core/study/shape_text.h"

#include <QComboBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QStackedWidget>
#include <QTableView>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

enum Kind { kNothing, kAppend, kJoin, kCollapse, kLong, kWide };

QLineEdit* field(const QString& object, const QString& name, const QString& hint, QWidget* parent) {
    auto* edit = new QLineEdit(parent);
    edit->setObjectName(object);
    edit->setAccessibleName(name);
    edit->setPlaceholderText(hint);
    return edit;
}

QPlainTextEdit* linesField(const QString& object, const QString& name, const QString& hint,
                           QWidget* parent) {
    auto* edit = new QPlainTextEdit(parent);
    edit->setObjectName(object);
    edit->setAccessibleName(name);
    edit->setPlaceholderText(hint);
    edit->setTabChangesFocus(true);
    edit->setMaximumHeight(92);
    return edit;
}

/// A row of words and fields.
QHBoxLayout* line(QVBoxLayout* into, std::initializer_list<QWidget*> widgets) {
    auto* row = new QHBoxLayout;
    row->setSpacing(8);
    for (QWidget* one : widgets) {
        row->addWidget(one, qobject_cast<QLineEdit*>(one) != nullptr ? 1 : 0);
    }
    into->addLayout(row);
    return row;
}

QString caution(const QString& words) {
    return "<span style=\"color:{caution}\">" + words.toHtmlEscaped() + "</span>";
}

}  // namespace

ShapePage::ShapePage(Session& session, QWidget* parent)
    : DataPage(session, parent),
      steps_(new QListWidget(this)),
      kind_(new QComboBox(this)),
      drafts_(new QStackedWidget(this)),
      says_(new QLabel(this)),
      add_(actionWord(tr("take this step"), this)),
      view_(new QTableView(this)),
      model_(new GridModel(this)),
      trying_([this](const Tried& tried) { show(tried); }),
      reading_([this](const Other& other) { showOther(other); }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(7);
    layout->addWidget(sentenceWord(tr("From the source to the table"), this));
    steps_->setObjectName("shape:steps");
    steps_->setAccessibleName(tr("Steps from the source to the table"));
    steps_->setWordWrap(true);
    layout->addWidget(steps_);
    auto* next = new QHBoxLayout;
    next->addWidget(sentenceWord(tr("Then"), this));
    kind_->addItems({tr("nothing more"), tr("add the rows of another file"),
                     tr("look up columns in another file"), tr("make one row a group"),
                     tr("go from wide to long"), tr("go from long to wide")});
    kind_->setObjectName("shape:kind");
    kind_->setAccessibleName(tr("The next step"));
    next->addWidget(kind_);
    next->addStretch(1);
    auto* drop = actionWord(tr("take the last step back"), this);
    drop->setObjectName("shape:drop");
    next->addWidget(drop);
    layout->addLayout(next);
    drafts_->addWidget(new QWidget(this));
    drafts_->addWidget(makeFilePage(false));
    drafts_->addWidget(makeFilePage(true));
    drafts_->addWidget(makeCollapsePage());
    drafts_->addWidget(makeLongPage());
    drafts_->addWidget(makeWidePage());
    layout->addWidget(drafts_);
    auto* outcome = new QHBoxLayout;
    says_->setObjectName("shape:says");
    says_->setTextFormat(Qt::RichText);
    says_->setWordWrap(true);
    outcome->addWidget(says_, 1);
    add_->setObjectName("shape:add");
    outcome->addWidget(add_, 0, Qt::AlignTop);
    layout->addLayout(outcome);
    view_->setModel(model_);
    view_->setObjectName("shape:preview");
    view_->setAccessibleName(tr("The table after this step"));
    dressTable(view_);
    layout->addWidget(view_, 1);
    connect(kind_, &QComboBox::activated, this, &ShapePage::chooseKind);
    connect(add_, &QPushButton::clicked, this, &ShapePage::add);
    connect(drop, &QPushButton::clicked, this, &ShapePage::dropLast);
    chooseKind(kNothing);
}

QWidget* ShapePage::makeFilePage(bool join) {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(0, 0, 0, 0);
    QLineEdit*& file = join ? joinFile_ : appendFile_;
    file = field(join ? "shape:joinFile" : "shape:appendFile", tr("The other file"),
                 tr("path of a table"), page);
    auto* choose = actionWord(tr("choose…"), page);
    choose->setObjectName(join ? "shape:chooseJoin" : "shape:chooseAppend");
    connect(choose, &QPushButton::clicked, this, [this] {
        const QString path = QFileDialog::getOpenFileName(this, tr("The other table"));
        if (!path.isEmpty()) {
            useFile(path);
        }
    });
    connect(file, &QLineEdit::returnPressed, this, [this, &file] { useFile(file->text()); });
    line(layout, {sentenceWord(tr("from"), page), file, choose});
    if (join) {
        keys_ = field("shape:keys", tr("Keys"), tr("village, zone = zone_id"), page);
        take_ = field("shape:take", tr("Columns to take"), tr("all its columns"), page);
        line(layout, {sentenceWord(tr("where the same is"), page), keys_,
                      sentenceWord(tr("taking"), page), take_});
        connect(keys_, &QLineEdit::textEdited, this, &ShapePage::tryDraft);
        connect(take_, &QLineEdit::textEdited, this, &ShapePage::tryDraft);
    } else {
        mark_ = field("shape:mark", tr("Name of the mark"), tr("no mark; or a name: wave"), page);
        line(layout, {sentenceWord(tr("and tell the two apart by"), page), mark_});
        connect(mark_, &QLineEdit::textEdited, this, &ShapePage::tryDraft);
    }
    return page;
}

QWidget* ShapePage::makeCollapsePage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(0, 0, 0, 0);
    groups_ = field("shape:groups", tr("Groups"), tr("village, or village, year"), page);
    line(layout, {sentenceWord(tr("for each"), page), groups_});
    columns_ = linesField("shape:columns", tr("What each group gets"),
                          tr("mean_age = avg(age)\nrows = count(age)"), page);
    layout->addWidget(columns_);
    connect(groups_, &QLineEdit::textEdited, this, [this] {
        const auto by = readNames(utf8(groups_->text()));
        const auto table = present();
        if (by && table && columns_->document()->isEmpty()) {
            const QSignalBlocker quiet(columns_);
            columns_->setPlainText(text(columnsText(likelyColumns(*table, *by))));
        }
        tryDraft();
    });
    connect(columns_, &QPlainTextEdit::textChanged, this, &ShapePage::tryDraft);
    return page;
}

QWidget* ShapePage::makeLongPage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(0, 0, 0, 0);
    moment_ = field("shape:moment", tr("Name of the moment"), tr("year"), page);
    line(layout, {sentenceWord(tr("with the moment in"), page), moment_});
    longVariables_ = linesField("shape:long", tr("Variables and their columns"),
                                tr("yield = yield_2019 at 2019, yield_2020 at 2020"), page);
    layout->addWidget(longVariables_);
    connect(moment_, &QLineEdit::textEdited, this, &ShapePage::tryDraft);
    connect(longVariables_, &QPlainTextEdit::textChanged, this, &ShapePage::tryDraft);
    return page;
}

QWidget* ShapePage::makeWidePage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(0, 0, 0, 0);
    unit_ = new QComboBox(page);
    unit_->setObjectName("shape:unit");
    unit_->setAccessibleName(tr("Unit"));
    time_ = new QComboBox(page);
    time_->setObjectName("shape:time");
    time_->setAccessibleName(tr("Moment"));
    wideVariables_ = field("shape:wide", tr("Variables that get a column a moment"),
                           tr("those that change within a unit"), page);
    line(layout,
         {sentenceWord(tr("one row a"), page), unit_, sentenceWord(tr("a column for each"), page),
          time_, sentenceWord(tr("of"), page), wideVariables_});
    const auto guess = [this] {
        if (const auto frame = session_.frame(); frame && !unit_->currentText().isEmpty()) {
            auto names = varyingWithin(*frame, utf8(unit_->currentText()));
            std::erase(names, utf8(time_->currentText()));
            wideVariables_->setText(text(namesText(names)));
        }
        tryDraft();
    };
    connect(unit_, &QComboBox::activated, this, guess);
    connect(time_, &QComboBox::activated, this, guess);
    connect(wideVariables_, &QLineEdit::textEdited, this, &ShapePage::tryDraft);
    return page;
}

std::shared_ptr<const Table> ShapePage::present() const {
    const auto shaping = session_.bench().shaping();
    return shaping && shaping->table ? shaping->table : session_.bench().table();
}

void ShapePage::refresh() {
    const auto frame = session_.frame();
    const auto source = session_.bench().table();
    const auto shaping = session_.bench().shaping();
    if (!frame || !source || frame == shownFrame_) {
        return;
    }
    shownFrame_ = frame;
    steps_->clear();
    const Study& study = session_.study();
    const QString file = study.source.file.empty() ? tr("the pasted table")
                                                   : QFileInfo(text(study.source.file)).fileName();
    steps_->addItem(tr("%1: %2 rows, %3 columns")
                        .arg(file, numbered(countText(source->rows())))
                        .arg(source->columns.size()));
    for (std::size_t k = 0; k < study.shape.size(); ++k) {
        const QString words = text(shapeText(study.shape[k]));
        if (shaping && k < shaping->facts.size()) {
            QStringList facts;
            for (const std::string& fact : shaping->facts[k]) {
                facts << text(fact);
            }
            const Table& after = *shaping->after[k];
            steps_->addItem(tr("%1: %2 → %3 rows, %4 columns")
                                .arg(words, facts.join("; "), numbered(countText(after.rows())))
                                .arg(after.columns.size()));
        } else {
            const bool here = shaping && shaping->refusal && k == shaping->facts.size();
            auto* item =
                new QListWidgetItem(here ? words + ": " + numbered(shaping->refusal->text())
                                         : words + ": " + tr("waits"));
            item->setForeground(colour::kOchreText);
            steps_->addItem(item);
        }
    }
    int height = 6;
    for (int k = 0; k < steps_->count(); ++k) {
        height += steps_->sizeHintForRow(k) + 2;
    }
    steps_->setFixedHeight(std::clamp(height, 30, 150));
    steps_->scrollToBottom();
    fillDraft();
    if (kind_->currentIndex() == kNothing) {
        model_->showTable(present());
    } else {
        tryDraft();
    }
    emit readingChanged();
}

void ShapePage::chooseKind(int kind) {
    kind_->setCurrentIndex(kind);
    drafts_->setCurrentIndex(kind);
    // The stack is as high as the page that is shown.
    for (int k = 0; k < drafts_->count(); ++k) {
        drafts_->widget(k)->setSizePolicy(
            QSizePolicy::Preferred, k == kind ? QSizePolicy::Preferred : QSizePolicy::Ignored);
    }
    drafts_->setVisible(kind != kNothing);
    drafts_->setMaximumHeight(kind == kNothing ? 0 : kind == kCollapse || kind == kLong ? 136 : 76);
    add_->setVisible(kind != kNothing);
    tried_ = {};
    other_ = {};
    if (kind == kNothing) {
        trying_.cancel();
        says_->clear();
        if (const auto table = present()) {
            model_->showTable(table);
        }
        return;
    }
    fillDraft();
    tryDraft();
}

void ShapePage::fillDraft() {
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    const Layout& layout = session_.study().layout;
    const auto any = [](const Variable& v) { return v.expression.empty(); };
    if (kind_->currentIndex() == kWide) {
        const std::string unit = utf8(unit_->currentText());
        const std::string time = utf8(time_->currentText());
        fillVariables(unit_, *frame, unit.empty() ? layout.unit : unit, {}, any);
        fillVariables(time_, *frame, time.empty() ? layout.time : time, {}, any);
        if (wideVariables_->text().isEmpty() && !layout.unit.empty()) {
            emit unit_->activated(unit_->currentIndex());
        }
    } else if (kind_->currentIndex() == kLong && longVariables_->document()->isEmpty()) {
        const auto table = present();
        const QSignalBlocker quiet(longVariables_);
        longVariables_->setPlainText(table ? text(longVariablesText(longVariablesIn(*table)))
                                           : QString());
    }
}

void ShapePage::useFile(const QString& path) {
    const QString absolute = QFileInfo(path.trimmed()).absoluteFilePath();
    appendFile_->setText(absolute);
    joinFile_->setText(absolute);
    says_->setText(tr("Reading %1…").arg(QFileInfo(absolute).fileName()).toHtmlEscaped());
    reading_.ask([absolute] {
        Other out;
        auto import = readTableFile(utf8(absolute), {}, Job());
        if (!import) {
            out.refusal = import.error();
            return out;
        }
        out.source.file = utf8(absolute);
        out.source.reader = import->used;
        out.source.sha256 = sha256OfTable(utf8(absolute), import->used).value_or(std::string());
        noteSeen(import->table, out.source);
        out.table = std::make_shared<const Table>(std::move(import->table));
        return out;
    });
}

void ShapePage::showOther(const Other& other) {
    other_ = other;
    if (other.refusal) {
        says_->setText(themed(caution(numbered(other.refusal->text()))));
        return;
    }
    const auto here = present();
    if (kind_->currentIndex() == kJoin && here && keys_->text().isEmpty()) {
        keys_->setText(text(keysText(likelyKeys(*here, *other.table))));
    }
    tryDraft();
}

Result<ShapeStep> ShapePage::drafted() const {
    const auto nothing = [](const QString& what) { return refuse(ErrorCode::NoTerms, utf8(what)); };
    switch (kind_->currentIndex()) {
        case kAppend:
            if (!other_.table) {
                return nothing(tr("Choose the other file."));
            }
            return ShapeStep(AppendStep{other_.source, utf8(mark_->text().trimmed())});
        case kJoin: {
            if (!other_.table) {
                return nothing(tr("Choose the other file."));
            }
            const auto keys = readKeys(utf8(keys_->text()));
            const auto take = readNames(utf8(take_->text()));
            if (!keys || !take) {
                return tl::make_unexpected((keys ? take.error() : keys.error()));
            }
            return ShapeStep(JoinStep{other_.source, *keys, *take});
        }
        case kCollapse: {
            const auto by = readNames(utf8(groups_->text()));
            const auto columns = readColumns(utf8(columns_->toPlainText()));
            if (!by || !columns) {
                return tl::make_unexpected((by ? columns.error() : by.error()));
            }
            return by->empty() ? Result<ShapeStep>(nothing(tr("Name the groups.")))
                               : Result<ShapeStep>(CollapseStep{*by, *columns});
        }
        case kLong: {
            const auto variables = readLongVariables(utf8(longVariables_->toPlainText()));
            if (!variables) {
                return tl::make_unexpected(variables.error());
            }
            const QString moment = moment_->text().trimmed();
            return ShapeStep(
                LongStep{utf8(moment.isEmpty() ? moment_->placeholderText() : moment), *variables});
        }
        default: {
            const auto variables = readNames(utf8(wideVariables_->text()));
            if (!variables) {
                return tl::make_unexpected(variables.error());
            }
            return ShapeStep(
                WideStep{utf8(unit_->currentText()), utf8(time_->currentText()), *variables});
        }
    }
}

void ShapePage::tryDraft() {
    const auto table = present();
    if (kind_->currentIndex() == kNothing || !table) {
        return;
    }
    const auto step = drafted();
    if (!step) {
        trying_.cancel();
        tried_ = {};
        tried_.refusal = step.error();
        show(tried_);
        return;
    }
    Sources sources = session_.bench().sources();
    if (const Source* other = otherSource(*step)) {
        sources.others[sourceText(*other)] = other_.table;
    }
    // Until it has been tried, nothing may be taken: what was tried before was another step.
    tried_ = {};
    add_->setEnabled(false);
    if (table->rows() > kRowsAtOnce) {
        says_->setText(tr("Trying it on %1 rows…").arg(numbered(countText(table->rows()))));
    }
    trying_.ask(
        [step = *step, sources, study = session_.study(), table] {
            Tried out;
            out.step = step;
            auto shaped = takeStep(step, study, sources, *table);
            if (!shaped) {
                out.refusal = shaped.error();
                return out;
            }
            out.facts = shaped->facts;
            out.table = std::make_shared<const Table>(std::move(shaped->table));
            return out;
        },
        table->rows() <= kRowsAtOnce);
}

void ShapePage::show(const Tried& tried) {
    tried_ = tried;
    add_->setEnabled(tried.table != nullptr);
    if (tried.refusal) {
        const bool waiting = tried.refusal->code == ErrorCode::NoTerms && !tried.step;
        says_->setText(themed(waiting ? numbered(tried.refusal->what).toHtmlEscaped()
                                      : caution(numbered(tried.refusal->text()))));
        model_->showTable(present());
        return;
    }
    QStringList facts;
    for (const std::string& fact : tried.facts) {
        facts << text(fact).toHtmlEscaped();
    }
    says_->setText(tr("%1 rows, %2 columns: ")
                       .arg(numbered(countText(tried.table->rows())))
                       .arg(tried.table->columns.size()) +
                   facts.join("; ") + ".");
    model_->showTable(tried.table);
}

void ShapePage::add() {
    if (!tried_.step || !tried_.table) {
        return;
    }
    auto steps = session_.study().shape;
    steps.push_back(*tried_.step);
    if (const Source* other = otherSource(*tried_.step)) {
        session_.addTable(*other, other_.table);
    }
    if (session_.setShape(steps, text(shapeText(*tried_.step)))) {
        for (QLineEdit* edit :
             {appendFile_, mark_, joinFile_, keys_, take_, groups_, moment_, wideVariables_}) {
            edit->clear();
        }
        columns_->clear();
        longVariables_->clear();
        chooseKind(kNothing);
    }
}

void ShapePage::dropLast() {
    auto steps = session_.study().shape;
    if (steps.empty()) {
        says_->setText(tr("There is no step to take back."));
        return;
    }
    const QString words = text(shapeText(steps.back()));
    steps.pop_back();
    session_.setShape(steps, tr("no longer: %1").arg(words));
}

ReadingContent ShapePage::reading() const {
    ReadingContent content;
    content.title = tr("the table’s shape");
    content.paragraphs
        << tr("Steps are taken in order, before codes, derived variables and rules, and <b>anew "
              "whenever a file changes</b>. The files themselves are never written.")
        << tr("A look-up gives many rows here the one row there with their key. Where the other "
              "file has a key twice it is refused: rows would multiply unseen.")
        << tr("What a group gets is written as an expression over its rows: avg, sum, min, max, "
              "median, stddev, count, and anything made of them.");
    const auto shaping = session_.bench().shaping();
    if (shaping && shaping->refusal) {
        content.paragraphs << richText("~" + shaping->refusal->text());
    }
    return content;
}

}  // namespace rapporto::app
