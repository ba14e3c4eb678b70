#include "app/stages/data/data_stage.h"

#include "app/shell/theme.h"
#include "app/stages/data/derive_panel.h"
#include "app/stages/data/import_page.h"
#include "app/stages/data/layout_page.h"
#include "app/stages/data/left_page.h"
#include "app/stages/data/missing_page.h"
#include "app/stages/data/odd_page.h"
#include "app/stages/data/review_page.h"
#include "app/stages/data/rows_page.h"
#include "app/stages/data/sample_page.h"
#include "app/stages/data/shape_page.h"
#include "app/stages/data/summary_page.h"
#include "app/stages/data/totals_page.h"
#include "app/stages/data/variables_page.h"
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/describe/codes.h"
#include "core/io/table_file.h"
#include "core/left/left_table.h"
#include "core/report/codebook.h"
#include "core/report/report.h"
#include "core/report/wording.h"

#include <QButtonGroup>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QLabel>
#include <QMenu>
#include <QPushButton>
#include <QStackedWidget>
#include <QVBoxLayout>

#include <cmath>

namespace rapporto::app {
namespace {

enum Page { kEmpty, kImport, kTable, kReview, kSheet };

/// Which of the pages of the table is which.
enum View { kRows, kCodebook, kLayout, kSample, kTotals, kShape, kOdd, kMissing, kSummary, kLeft };

QString asItStandsWords(bool transformed) {
    return transformed
               ? DataStage::tr("the table as it stands, with derived variables and without codes")
               : DataStage::tr("the table as it came, with all that is known of it");
}

}  // namespace

DataStage::DataStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      pages_(new QStackedWidget(this)),
      words_(new QButtonGroup(this)),
      views_(new QStackedWidget(this)),
      import_(new ImportPage(session, this)),
      rows_(new RowsPage(session, this)),
      odd_(new OddPage(session, this)),
      review_(new ReviewPage(session, this)),
      summary_(new SummaryPage(session, "summary", this)),
      sheet_(new SummaryPage(session, "sheet", this)),
      left_(new LeftPage(session, this)),
      exporting_([this](const std::optional<Refusal>& refusal) {
          refusal ? emit session_.refused(numbered(refusal->text()))
                  : emit session_.told(tr("It is written."));
      }) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->addWidget(pages_);
    pages_->addWidget(makeEmptyPage());
    pages_->addWidget(import_);
    import_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Expanding);
    pages_->addWidget(makeTablePage());
    pages_->addWidget(review_);
    auto* sheetPage = new QWidget(this);
    auto* sheetLayout = new QVBoxLayout(sheetPage);
    sheetLayout->setContentsMargins(22, 16, 20, 12);
    sheetLayout->addWidget(sheet_);
    pages_->addWidget(sheetPage);
    connect(sheet_, &SummaryPage::left, this, &DataStage::refresh);
    connect(summary_, &SummaryPage::questionBegun, this, &DataStage::modelAsked);
    connect(left_, &LeftPage::questionBegun, this, &DataStage::modelAsked);
    connect(&session_, &Session::importChanged, this, &DataStage::refresh);
    connect(&session_, &Session::selectionChanged, this, [this] {
        if (pages_->currentIndex() == kTable && isVisible()) {
            rows_->refreshSelection();
            emit readingChanged();
        }
    });
}

QWidget* DataStage::makeTablePage() {
    auto* page = new QWidget(this);
    auto* layout = new QVBoxLayout(page);
    layout->setContentsMargins(22, 10, 20, 10);
    auto* strip = new QHBoxLayout;
    strip->setSpacing(16);
    auto* variables = new VariablesPage(session_, this);
    const std::vector<std::pair<QString, DataPage*>> all = {
        {tr("Rows"), rows_},
        {tr("Codebook"), variables},
        {tr("What a row is"), new LayoutPage(session_, this)},
        {tr("Sample"), new SamplePage(session_, this)},
        {tr("Known totals"), new TotalsPage(session_, this)},
        {tr("Shape"), new ShapePage(session_, this)},
        {tr("What looks odd"), odd_},
        {tr("What is missing"), new MissingPage(session_, this)},
        {tr("Summary"), summary_},
        {tr("In the database"), left_}};
    for (std::size_t k = 0; k < all.size(); ++k) {
        auto* word = pageWord(all[k].first, page);
        words_->addButton(word, static_cast<int>(k));
        // What stands in place of the others takes no room beside them.
        word->setHidden(static_cast<int>(k) >= kSummary);
        strip->addWidget(word);
        views_->addWidget(all[k].second);
        connect(all[k].second, &DataPage::readingChanged, this, &Stage::readingChanged);
    }
    words_->button(0)->setChecked(true);
    strip->addStretch(1);
    auto* out = actionWord(tr("write…"), page);
    out->setObjectName("data:write");
    out->setToolTip(tr("the table or its codebook, into a file"));
    connect(out, &QPushButton::clicked, this, [this, out] {
        QMenu menu(this);
        menu.setObjectName("data:ways");
        if (!session_.isSummary() && !session_.isLeft()) {
            for (const bool asItStands : {true, false}) {
                menu.addAction(asItStandsWords(asItStands) + "…", this,
                               [this, asItStands] { exportTable(asItStands); });
            }
        }
        menu.addAction(tr("the codebook: every variable with its small histogram…"), this,
                       &DataStage::printCodebook);
        menu.exec(out->mapToGlobal(QPoint(0, out->height())));
    });
    strip->addWidget(out);
    // A wide page must not squeeze the columns beside it.
    views_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Expanding);
    layout->addLayout(strip);
    layout->addWidget(views_, 1);
    connect(words_, &QButtonGroup::idClicked, this, [this](int at) {
        views_->setCurrentIndex(at);
        refreshPage();
        emit readingChanged();
    });
    connect(variables, &VariablesPage::deriveAsked, this,
            [this](const QString& name, const QString& expression) {
                words_->button(0)->click();
                rows_->derive()->propose(name, expression);
            });
    return page;
}

void DataStage::exportTable(bool transformed) {
    const QString path = QFileDialog::getSaveFileName(
        this, tr("Write the table"), {},
        tr("CSV (*.csv);;Data package: CSV with its codebook (*.datapackage.json);;DDI codebook "
           "beside a CSV (*.xml);;Spreadsheet (*.xlsx);;SQLite database (*.sqlite)"));
    if (!path.isEmpty()) {
        exportTo(path, transformed);
    }
}

void DataStage::exportTo(const QString& path, bool transformed) {
    if (const auto may = session_.mayWriteTo(path); !may) {
        emit session_.refused(numbered(may.error().text()));
        return;
    }
    const auto frame = session_.frame();
    const auto source = session_.bench().table();
    if (!frame || !source || frame->left() != nullptr) {
        return;  // Its first rows are not the table.
    }
    exporting_.ask([frame, source, transformed, where = utf8(path)]() -> std::optional<Refusal> {
        // As it stands: missing codes are gone and derived variables are there. As imported: the
        // cells of the source with all that is known of them.
        Table table = transformed ? frame->table() : *source;
        for (Variable& v : table.variables) {
            if (const Variable* known = frame->variable(v.name)) {
                v = *known;
            }
            if (transformed) {
                v.missing.clear();
                v.missingRanges.clear();
            }
        }
        const auto done = writeTableFile(table, where);
        return done ? std::nullopt : std::optional(done.error());
    });
}

void DataStage::printCodebook() {
    QStringList kinds;
    for (const ReportWriter& writer : allReportWriters()) {
        kinds << tr("%1 (*%2)").arg(writer.name, writer.ending);
    }
    QString kind;
    QString path =
        QFileDialog::getSaveFileName(this, tr("Write the codebook"), {}, kinds.join(";;"), &kind);
    if (path.isEmpty()) {
        return;
    }
    if (QFileInfo(path).suffix().isEmpty()) {
        path += kind.section("(*", 1).chopped(kind.endsWith(')') ? 1 : 0);
    }
    writeCodebook(path);
}

void DataStage::writeCodebook(const QString& path) {
    if (const auto may = session_.mayWriteTo(path); !may) {
        emit session_.refused(numbered(may.error().text()));
        return;
    }
    const auto frame = session_.frame();
    if (!frame) {
        return;
    }
    exporting_.ask([frame, where = utf8(path), title = session_.study().title,
                    dressed = dressOf(session_.study().reportStyle),
                    put = session_.putFile()]() -> std::optional<Refusal> {
        const auto done = saveReport(codebookPages(title, *frame, dressed), where, put);
        return done ? std::nullopt : std::optional(done.error());
    });
}

DataPage* DataStage::page() const { return static_cast<DataPage*>(views_->currentWidget()); }

void DataStage::refreshPage() { page()->refresh(); }

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
    card("start:server", tr("Connect to a table in a database server"),
         [this] { session_.beginServer(); });
    card("start:summary", tr("Type in a printed summary: means, deviations, correlations"), [this] {
        sheet_->startSheet();
        refresh();
    });
    card("start:demo", tr("Look at the demo: apple growers in a made-up valley"),
         [this] { emit demoRequested(); });
    layout->addStretch(1);
    return page;
}

void DataStage::refresh() {
    if (session_.pending()) {
        pages_->setCurrentIndex(kImport);
        import_->refresh();
    } else if (sheet_->isSheet()) {
        pages_->setCurrentIndex(kSheet);
        sheet_->refresh();
    } else if (session_.frame() && session_.hasTable()) {
        pages_->setCurrentIndex(kTable);
        showPages();
        refreshPage();
    } else if (session_.sourceRefusal()) {
        pages_->setCurrentIndex(kReview);
        review_->refresh();
    } else {
        pages_->setCurrentIndex(kEmpty);
        QString words =
            tr("A row a case, a column a variable, names in the first line: a CSV file, or cells "
               "copied from a sheet. "
               "Every guess about it can be changed before it is taken in. Then state a question "
               "as a sentence.");
        if (session_.isLoading()) {
            words = tr("Reading the data…");
        }
        emptyMessage_->setText("<div style=\"font-size:15px;line-height:125%\">" + words +
                               "</div>");
    }
    emit readingChanged();
}

void DataStage::showPages() {
    const bool summary = session_.isSummary();
    const bool left = session_.isLeft();
    const int first = summary ? kSummary : left ? kLeft : kRows;
    for (int k = kRows; k <= kLeft; ++k) {
        const bool ofRows = k != kSummary && k != kLeft;
        const bool fits =
            k == first || k == kCodebook || (ofRows && first == kRows) || (left && k == kSample);
        words_->button(k)->setVisible(fits);
    }
    if (words_->button(views_->currentIndex())->isHidden()) {
        words_->button(first)->setChecked(true);
        views_->setCurrentIndex(first);
    }
    const auto frame = session_.frame();
    const std::size_t open = first == kRows ? session_.openOddities() : 0;
    if (left) {
        words_->button(kLeft)->setText(frame->left()->isOnDisk() ? tr("On the disk")
                                                                 : tr("In the database"));
    }
    words_->button(kOdd)->setText(open == 0 ? tr("What looks odd")
                                            : tr("What looks odd: %1").arg(open));
    const bool waits = frame->refusal().has_value();
    words_->button(kShape)->setText(waits ? tr("Shape ◆") : tr("Shape"));
    words_->button(kShape)->setToolTip(waits ? text(frame->refusal()->text()) : QString());
}

void DataStage::showOddities(const std::string& variable) {
    refresh();
    words_->button(kOdd)->click();
    if (!variable.empty()) {
        odd_->showVariable(variable);
    }
}

void DataStage::showMissing() {
    refresh();
    words_->button(kMissing)->click();
}

void DataStage::showVariable(const std::string& name) {
    session_.setVariable(name);
    rows_->showVariable(name);
    if (auto* variables = qobject_cast<VariablesPage*>(page())) {
        variables->select({name});
    }
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
        content.fields.push_back(
            {tr("derived"),
             text(v->expression),
             {},
             [this, name, label = v->label](const QString& s) {
                 session_.edit(PutDerived{{name, utf8(s), label}}, tr("derive %1").arg(text(name)));
             },
             {}});
    }
    const auto facts = session_.facts().find(name);
    if (isGrouping(v->measure) && v->measure != Measure::Text && facts != session_.facts().end()) {
        QStringList levels;
        for (const std::string& level : facts->second.levels) {
            levels << text(level);
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
    const auto& kept = session_.study().kept;
    const auto own =
        std::find_if(kept.begin(), kept.end(), [&](const KeptColumn& c) { return c.name == name; });
    if (own != kept.end()) {
        content.paragraphs << tr("Kept from question %1 as it stood; rows it did not use are "
                                 "missing.")
                                  .arg(text(own->question));
    }
    if (!v->expression.empty() || own != kept.end()) {
        QString breaks;
        for (const std::string& use : usesOf(session_.study(), name)) {
            breaks += (breaks.isEmpty() ? "" : ", ") + text(use);
        }
        content.actions.push_back(
            {tr("Take %1 out").arg(text(name)),
             breaks.isEmpty() ? tr("nothing uses it") : tr("it would be missed by %1").arg(breaks),
             [this, name, isKept = own != kept.end()] {
                 session_.edit(isKept ? Change(RemoveKept{name}) : Change(RemoveDerived{name}),
                               tr("take out %1").arg(text(name)));
             }});
    }
    // Codes that look like “no answer” in any variable that has none declared.
    const std::vector<std::string> suspects = countingNoAnswer(*frame);
    if (!suspects.empty()) {
        content.paragraphs << richText(
            "~**" + suspects.front() + "**" +
            (suspects.size() > 1
                 ? " and " + std::to_string(suspects.size() - 1) + " more still count"
                 : " still counts") +
            " −9 as an answer.");
        content.actions.push_back(
            {tr("Make −9 missing in %1 variables").arg(suspects.size()), tr("one step, undoable"),
             [this, suspects] {
                 PutVariables all;
                 for (const auto& one : suspects) {
                     VariableEntry entry;
                     entry.name = one;
                     entry.missing = std::vector<Key>{Key(-9.0)};
                     all.entries.push_back(entry);
                 }
                 session_.edit(all, tr("−9 is missing in %1 variables").arg(suspects.size()));
             }});
    }
    return content;
}

ReadingContent DataStage::reading() const {
    if (session_.pending()) {
        return import_->reading();
    }
    if (sheet_->isSheet()) {
        return sheet_->reading();
    }
    if (!session_.frame() || !session_.hasTable()) {
        if (session_.sourceRefusal()) {
            return review_->reading();
        }
        ReadingContent content;
        content.title = tr("welcome");
        content.paragraphs << tr(
            "Rapporto turns a table into effects that can be defended: a question is a sentence, "
            "its answer is alive, and its doubts stand beside it.");
        return content;
    }
    if (ReadingContent own = page()->reading(); !own.title.isEmpty()) {
        return own;
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
    if (frame && frame->left() != nullptr) {
        return frame->left()->isOnDisk() ? tr("on the disk") : tr("in a database");
    }
    if (frame && frame->moments() != nullptr) {
        return tr("summary of %1").arg(frame->moments()->names.size());
    }
    const std::size_t odd = session_.openOddities();
    return frame && session_.hasTable() ? (odd == 0 ? QString() : tr("%1 odd · ").arg(odd)) +
                                              QString("%1 × %2")
                                                  .arg(numbered(countText(frame->rows())))
                                                  .arg(frame->table().columns.size())
           : session_.isLoading() ? tr("reading…")
                                  : tr("no table");
}

}  // namespace rapporto::app
