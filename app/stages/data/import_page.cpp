#include "app/stages/data/import_page.h"

#include "app/shell/theme.h"
#include "app/stages/data/grid_model.h"
#include "core/base/format.h"
#include "core/base/room.h"
#include "core/io/table_file.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QRegularExpression>
#include <QTableView>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

QComboBox* choice(const QString& name, const QStringList& values, QWidget* parent) {
    auto* combo = new QComboBox(parent);
    combo->addItems(values);
    combo->setAccessibleName(name);
    combo->setObjectName("import:" + name);
    return combo;
}

const std::vector<char> kDelimiters = {',', ';', '\t', '|'};

/// Marks between thousands in the order they are offered; the third is what the decimal mark is
/// not.
char thousandsMark(int choice, char decimal) {
    return choice == 1 ? ' ' : choice == 2 ? '\'' : decimal == ',' ? '.' : ',';
}

QString nameOfServed(const PendingImport& p) {
    const ReaderOptions& used = p.import ? p.import->used : p.options;
    return !used.query.empty()    ? ImportPage::tr("the query")
           : !used.table.empty()  ? text(used.table)
           : used.service.empty() ? ImportPage::tr("the database")
                                  : ImportPage::tr("the database “%1”").arg(text(used.service));
}

/// Widgets that come and go together, one line of them.
QHBoxLayout* ownLine(QWidget*& into, QWidget* parent, QBoxLayout* beside) {
    into = new QWidget(parent);
    auto* line = new QHBoxLayout(into);
    line->setContentsMargins(0, 0, 0, 0);
    line->setSpacing(8);
    beside->addWidget(into);
    return line;
}

}  // namespace

ImportPage::ImportPage(Session& session, QWidget* parent)
    : DataPage(session, parent), previewModel_(new GridModel(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 16, 20, 12);
    importTitle_ = new QLabel(this);
    importTitle_->setFont(paperFont(19, true));
    layout->addWidget(importTitle_);
    auto* options = new QHBoxLayout;
    options->setSpacing(8);
    const auto group = [&](QWidget*& into) { return ownLine(into, this, options); };
    const auto add = [&](QHBoxLayout* line, const QString& label, QComboBox* combo) {
        auto* word = new QLabel(label, this);
        dress(word, "color:{soft}");
        line->addWidget(word);
        line->addWidget(combo);
        connect(combo, &QComboBox::activated, this, &ImportPage::readOptions);
    };
    delimiter_ = choice("delimiter", {tr("comma"), tr("semicolon"), tr("tab"), tr("bar")}, this);
    decimal_ = choice("decimal", {"1.5", "1,5"}, this);
    thousands_ = choice("thousands", {tr("by column"), "1 234", "1'234", "1,234"}, this);
    header_ = choice("header", {tr("names"), tr("data")}, this);
    encoding_ = choice("encoding", {"UTF-8", "UTF-16", "ISO-8859-1", "windows-1252"}, this);
    skip_ = choice("skip", {"0", "1", "2", "3", "4", "5", "6", "8", "10"}, this);
    part_ = choice("part", {}, this);
    part_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    query_ = new QLineEdit(this);
    query_->setObjectName("import:query");
    connect(query_, &QLineEdit::returnPressed, this, &ImportPage::readOptions);
    add(group(composite_), tr("from"), part_);
    queryWord_ = new QLabel(this);
    dress(queryWord_, "color:{soft}");
    composite_->layout()->addWidget(queryWord_);
    composite_->layout()->addWidget(query_);
    makeServing(layout);
    auto* lines = group(textual_);
    add(lines, tr("cells end at"), delimiter_);
    add(lines, tr("numbers like"), decimal_);
    add(lines, tr("thousands"), thousands_);
    add(lines, tr("text in"), encoding_);
    options->addStretch(1);
    layout->addLayout(options);
    // A line of its own: beside the others there is no room for their words.
    options = new QHBoxLayout;
    options->setSpacing(8);
    auto* head = group(heading_);
    add(head, tr("first line holds"), header_);
    add(head, tr("skip"), skip_);
    options->addStretch(1);
    layout->addLayout(options);
    preview_ = new QTableView(this);
    preview_->setModel(previewModel_);
    preview_->setAccessibleName(tr("Preview"));
    preview_->setObjectName("import:preview");
    dressTable(preview_);
    layout->addWidget(preview_, 1);
    importProblems_ = new QLabel(this);
    importProblems_->setWordWrap(true);
    importProblems_->setTextFormat(Qt::RichText);
    importProblems_->setObjectName("importProblems");
    layout->addWidget(importProblems_);
    problemList_ = new QListWidget(this);
    problemList_->setMaximumHeight(110);
    problemList_->setAccessibleName(tr("Repairs by line"));
    problemList_->setObjectName("import:problems");
    connect(problemList_, &QListWidget::currentRowChanged, this, &ImportPage::showLine);
    layout->addWidget(problemList_);
    mending_ = new QWidget(this);
    auto* mendLine = new QHBoxLayout(mending_);
    mendLine->setContentsMargins(0, 0, 0, 0);
    mendingWord_ = sentenceWord({}, this);
    mendLine->addWidget(mendingWord_);
    line_ = new QLineEdit(this);
    line_->setObjectName("import:line");
    line_->setAccessibleName(tr("The line, to be mended"));
    mendLine->addWidget(line_, 1);
    auto* mend = actionWord(tr("read it so"), this);
    mend->setObjectName("import:mend");
    auto* asItWas = actionWord(tr("as in the file"), this);
    asItWas->setObjectName("import:unmend");
    mendLine->addWidget(mend);
    mendLine->addWidget(asItWas);
    layout->addWidget(mending_);
    mending_->hide();
    connect(line_, &QLineEdit::returnPressed, this, &ImportPage::mendLine);
    connect(mend, &QPushButton::clicked, this, &ImportPage::mendLine);
    connect(asItWas, &QPushButton::clicked, this, [this] {
        if (session_.pending()) {
            ReaderOptions asRead = session_.pending()->options;
            std::erase_if(asRead.repairs,
                          [this](const LineRepair& r) { return r.line == lineNumber_; });
            session_.changeImportOptions(asRead);
        }
    });
    auto* buttons = new QHBoxLayout;
    auto* take = new QPushButton(tr("Use this table"), this);
    take->setProperty("card", true);
    take->setObjectName("import:use");
    auto* leave = new QPushButton(tr("Leave it"), this);
    leave->setObjectName("import:leave");
    buttons->addWidget(take);
    buttons->addWidget(leave);
    buttons->addStretch(1);
    layout->addLayout(buttons);
    connect(take, &QPushButton::clicked, &session_, &Session::acceptImport);
    connect(leave, &QPushButton::clicked, &session_, &Session::cancelImport);
}

/// Which server, and whether rows are fetched or left where they lie.
void ImportPage::makeServing(QVBoxLayout* layout) {
    auto* all = new QHBoxLayout;
    all->setSpacing(8);
    const auto group = [&](QWidget*& into) { return ownLine(into, this, all); };
    const auto word = [](QHBoxLayout* line, const QString& words) {
        auto* label = new QLabel(words, line->parentWidget());
        dress(label, "color:{soft}");
        line->addWidget(label);
    };
    auto* line = group(serving_);
    word(line, tr("service"));
    service_ = new QLineEdit(serving_);
    service_->setObjectName("import:service");
    service_->setAccessibleName(tr("Service of the connection"));
    service_->setMinimumWidth(200);
    service_->setPlaceholderText(tr("as the environment says"));
    service_->setToolTip(
        tr("A name in your service file (pg_service.conf). Host, user and password stay there: "
           "none of them enters the study."));
    line->addWidget(service_);
    line = group(leaving_);
    word(line, tr("rows"));
    rows_ = choice("rows", {tr("fetched"), tr("left there")}, leaving_);
    line->addWidget(rows_);
    all->addStretch(1);
    layout->addLayout(all);
    connect(service_, &QLineEdit::returnPressed, this, &ImportPage::readServer);
    connect(rows_, &QComboBox::activated, this, &ImportPage::readServer);
}

/// What may be done with the rows of what is looked at; those of a small file are read.
void ImportPage::showLeaving(const PendingImport& pending, bool served) {
    constexpr std::size_t kMany = 1'000'000;
    const bool large = !served && !pending.path.isEmpty() && !pending.summary && pending.import &&
                       pending.import->table.rows() >= kMany;
    leaving_->setVisible(served || large);
    rows_->setItemText(0, served ? tr("fetched") : tr("at hand"));
    rows_->setItemText(1, served ? tr("left there") : tr("left on the disk"));
    rows_->setToolTip(
        served ? tr("Fetched rows are a snapshot with its checksum. Rows that are left are asked "
                    "for sums alone.")
               : tr("Rows at hand need memory for what is asked of them. Rows that are left on "
                    "the disk are asked for sums alone: any number of them fits."));
}

/// Takes over what was said of the server; its table is the first one of another service.
void ImportPage::readServer() {
    if (!session_.pending()) {
        return;
    }
    ReaderOptions options = session_.pending()->options;
    const std::string service = utf8(service_->text().trimmed());
    if (service != options.service) {
        options.table.clear();
        options.query.clear();
    }
    options.service = service;
    options.left = rows_->currentIndex() == 1;
    session_.changeImportOptions(options);
}

void ImportPage::refresh() {
    if (!session_.pending()) {
        return;
    }
    const PendingImport& p = *session_.pending();
    const bool served = isServed(p.options);
    const QString name = served             ? nameOfServed(p)
                         : p.path.isEmpty() ? tr("pasted cells")
                                            : p.path.section('/', -1);
    serving_->setVisible(served);
    showLeaving(p, served);
    // What a person has chosen here outlives a refresh.
    if ((p.import && p.import == shownImport_) || (p.refusal && p.refusal == shownRefusal_)) {
        return;
    }
    shownImport_ = p.import;
    shownRefusal_ = p.import ? std::nullopt : p.refusal;
    if (!p.import && served) {
        // What was looked at before says nothing here.
        textual_->hide();
        heading_->hide();
        composite_->hide();
        if (!service_->hasFocus()) {
            service_->setText(text(p.options.service));
        }
    }
    if (!p.import) {
        importTitle_->setText(p.refusal ? tr("%1 cannot be read").arg(name)
                                        : tr("Reading %1 …").arg(name));
        importProblems_->setText(
            themed(p.refusal ? "<span style=\"color:{clay}\">" +
                                   numbered(p.refusal->text()).toHtmlEscaped() + "</span>"
                             : QString()));
        previewModel_->showTable(nullptr);
        problemList_->hide();
        mending_->hide();
        // A refusal that names its line can be mended here, too.
        static const QRegularExpression kLine("line (\\d+)");
        const auto at = p.refusal ? kLine.match(text(p.refusal->where + " " + p.refusal->what))
                                  : QRegularExpressionMatch();
        if (at.hasMatch()) {
            lineNumber_ = at.captured(1).toULongLong();
            showLine(0);
        }
        return;
    }
    const Import& import = *p.import;
    importTitle_->setText(
        (served ? tr("%1: its first %2 rows, %3 columns") : tr("%1: %2 rows, %3 columns"))
            .arg(name, numbered(countText(import.table.rows())))
            .arg(import.table.columns.size()));
    const std::string& type = import.used.type;
    rows_->setCurrentIndex(import.used.left ? 1 : 0);
    const bool database = type == "sqlite" || served;
    const bool delimited = type.empty() || type == "csv" || type == "data-package";
    const bool sheets = type == "xlsx" || type == "ods";
    textual_->setVisible(delimited);
    composite_->setVisible(sheets || database || import.parts.size() > 1);
    query_->setVisible(sheets || database);
    queryWord_->setVisible(sheets || database);
    queryWord_->setText(sheets ? tr("block") : tr("or the query"));
    query_->setPlaceholderText(sheets ? tr("all, or B3:F200") : tr("select … from …"));
    heading_->setVisible(delimited || sheets);
    part_->clear();
    for (const std::string& part : import.parts) {
        part_->addItem(text(part));
    }
    part_->setCurrentText(text(sheets ? import.used.sheet : import.used.table));
    if (delimited && import.used.delimiter && import.used.decimal) {
        delimiter_->setCurrentIndex(static_cast<int>(
            std::find(kDelimiters.begin(), kDelimiters.end(), *import.used.delimiter) -
            kDelimiters.begin()));
        decimal_->setCurrentIndex(*import.used.decimal == ',' ? 1 : 0);
        thousands_->setItemText(3, *import.used.decimal == ',' ? "1.234" : "1,234");
        int mark = 0;
        for (int k = 1; k < thousands_->count(); ++k) {
            mark = import.used.thousands == thousandsMark(k, *import.used.decimal) ? k : mark;
        }
        thousands_->setCurrentIndex(mark);
        encoding_->setCurrentText(text(import.used.encoding.value_or("UTF-8")));
    }
    header_->setCurrentIndex(import.used.header.value_or(true) ? 0 : 1);
    skip_->setCurrentText(QString::number(import.used.skip));
    if (previewModel_->table() != &import.table) {
        previewModel_->showTable(std::shared_ptr<const Table>(p.import, &import.table));
    }
    showProblems(import);
    if (p.summary) {
        importProblems_->setText(themed(
            *p.summary
                ? tr("<b>This is a summary</b> of %1 variables over %2 rows: it is taken in as "
                     "one, without rows.")
                      .arg((*p.summary)->names.size())
                      .arg((*p.summary)->n, 0, 'f', 0)
                : "<span style=\"color:{caution}\">" +
                      tr("It looks like a summary, but %1 It would be taken in as rows.")
                          .arg(numbered(p.summary->error().text()).toHtmlEscaped()) +
                      "</span>"));
    }
}

/// What stands against having so many rows at hand; empty where nothing does.
QString ImportPage::roomWords(const Table& table) {
    const double bytes =
        static_cast<double>(table.rows()) * static_cast<double>(table.columns.size()) * 8.0;
    const auto room = roomFor(bytes, utf8(tr("A question about all of its columns")));
    return room ? QString()
                : themed("<br><span style=\"color:{caution}\">" +
                         tr("%1: leave the rows on the disk.")
                             .arg(numbered(room.error().what).toHtmlEscaped()) +
                         "</span>");
}

void ImportPage::showProblems(const Import& import) {
    const QString count = numbered(plural(import.problemCount, "repair", "repairs"));
    importProblems_->setText(themed(
        import.problemCount == 0
            ? (isServed(import.used)
                   ? (import.used.left
                          ? tr("Rows stay there: questions are answered by sums over all of them.")
                          : tr("All rows are fetched when you take it in."))
               : textual_->isHidden() ? tr("Nothing had to be repaired.")
               : import.used.repairs.empty()
                   ? tr("Every line has the same number of cells; nothing had to be repaired.")
                   : tr("Lines mended here: %1; nothing else had to be repaired.")
                         .arg(import.used.repairs.size()))
            : "<span style=\"color:{caution}\"><b>" + count + "</b> " +
                  tr("in the whole file; choose one to see its row, and mend its line here, or "
                     "take it as repaired. The file stays as it is.") +
                  "</span>"));
    if (!leaving_->isHidden() && !isServed(import.used)) {
        importProblems_->setText(
            importProblems_->text() +
            (import.used.left ? "<br>" + tr("Rows stay on the disk: questions are answered by sums "
                                            "over all of them.")
                              : roomWords(import.table)));
    }
    mending_->hide();
    problemList_->clear();
    for (const Problem& problem : import.problems) {
        problemList_->addItem(tr("line %1: %2").arg(problem.line).arg(numbered(problem.what)));
    }
    if (import.problemCount > import.problems.size()) {
        problemList_->addItem(
            tr("… and %1 more")
                .arg(numbered(countText(import.problemCount - import.problems.size()))));
    }
    problemList_->setVisible(import.problemCount > 0);
}

void ImportPage::showLine(int problem) {
    const auto& pending = session_.pending();
    mending_->hide();
    if (problem < 0 || !pending) {
        return;
    }
    const ReaderOptions& used = pending->import ? pending->import->used : pending->options;
    if (pending->import) {
        const auto& problems = pending->import->problems;
        if (static_cast<std::size_t>(problem) >= problems.size()) {
            return;
        }
        lineNumber_ = problems[static_cast<std::size_t>(problem)].line;
        // Lines and rows differ by the header and what was skipped.
        const auto above = used.skip + (used.header.value_or(true) ? 1U : 0U);
        if (lineNumber_ > above) {
            preview_->selectRow(static_cast<int>(lineNumber_ - above - 1));
            preview_->scrollTo(previewModel_->index(static_cast<int>(lineNumber_ - above - 1), 0));
        }
    }
    if (lineNumber_ == 0 || !(used.type.empty() || used.type == "csv")) {
        return;
    }
    const auto lines = pending->path.isEmpty()
                           ? linesOfText({pending->pasted.constData(),
                                          static_cast<std::size_t>(pending->pasted.size())},
                                         used, lineNumber_, lineNumber_)
                           : linesOfFile(utf8(pending->path), used, lineNumber_, lineNumber_);
    if (lines && !lines->empty()) {
        mendingWord_->setText(tr("Line %1").arg(lineNumber_));
        line_->setText(text(lines->front()));
        line_->setCursorPosition(0);
        mending_->show();
    }
}

void ImportPage::mendLine() {
    if (!session_.pending() || lineNumber_ == 0) {
        return;
    }
    ReaderOptions options = session_.pending()->options;
    std::erase_if(options.repairs, [this](const LineRepair& r) { return r.line == lineNumber_; });
    options.repairs.push_back({lineNumber_, utf8(line_->text())});
    session_.changeImportOptions(options);
}

void ImportPage::readOptions() {
    if (!session_.pending() || !session_.pending()->import) {
        return;
    }
    ReaderOptions options = session_.pending()->options;
    const std::string& type = session_.pending()->import->used.type;
    const bool sheets = type == "xlsx" || type == "ods";
    const std::string asked = utf8(query_->text().trimmed());
    if (sheets) {
        options.sheet = utf8(part_->currentText());
        options.block = asked;
    } else if (type == "sqlite" || isServed(options)) {
        options.query = asked;
        options.table = asked.empty() ? utf8(part_->currentText()) : std::string();
    } else if (type == "data-package") {
        options.table = utf8(part_->currentText());
    }
    if (sheets || !textual_->isHidden()) {
        options.header = header_->currentIndex() == 0;
        options.skip = static_cast<std::size_t>(skip_->currentText().toInt());
    }
    if (!textual_->isHidden()) {
        options.delimiter = kDelimiters[static_cast<std::size_t>(delimiter_->currentIndex())];
        options.decimal = decimal_->currentIndex() == 1 ? ',' : '.';
        const int mark = thousands_->currentIndex();
        options.thousands =
            mark == 0 ? std::nullopt : std::optional(thousandsMark(mark, *options.decimal));
        options.encoding = utf8(encoding_->currentText());
    }
    session_.changeImportOptions(options);
}

/// What is asked of the columns, answered with one click each.
void ImportPage::addAnswers(ReadingContent& content, const Import& import) const {
    const PendingImport& p = *session_.pending();
    std::vector<VariableEntry> codes;
    QStringList coded;
    for (std::size_t j = 0; j < import.evidence.size(); ++j) {
        const std::string& name = import.table.variables[j].name;
        const ColumnEvidence& e = import.evidence[j];
        const bool known = std::any_of(p.entries.begin(), p.entries.end(),
                                       [&](const VariableEntry& one) { return one.name == name; });
        if (!e.suspected.empty() && !known) {
            VariableEntry entry;
            entry.name = name;
            entry.missing = e.suspected;
            codes.push_back(entry);
            coded << text(name);
        }
        if (e.inTheWay.empty()) {
            continue;
        }
        QStringList words;
        for (std::size_t k = 0; k < std::min<std::size_t>(e.inTheWay.size(), 4); ++k) {
            words << QString("“%1”").arg(text(e.inTheWay[k]));
        }
        const QString texts = words.join(", ") + (e.inTheWay.size() > 4 ? " …" : "");
        content.actions.push_back(
            {tr("Read %1 as missing").arg(texts), tr("%1 becomes numbers").arg(text(name)),
             [this, add = e.inTheWay] {
                 ReaderOptions options = session_.pending()->options;
                 options.missing.insert(options.missing.end(), add.begin(), add.end());
                 session_.changeImportOptions(options);
             }});
        content.actions.push_back({tr("Keep %1 as text").arg(text(name)),
                                   tr("its cells stay as they are written"), [this, name] {
                                       ReaderOptions options = session_.pending()->options;
                                       options.asText.push_back(name);
                                       session_.changeImportOptions(options);
                                   }});
    }
    if (!codes.empty()) {
        content.actions.insert(content.actions.begin(),
                               {tr("Make codes for “no answer” missing"), coded.join(", "),
                                [this, codes] { session_.noteImport(codes); }});
    }
    content.actionsFirst = true;  // A table of many columns has a long sheet.
    content.actionsTitle = content.actions.empty() ? QString() : tr("What is open");
}

ReadingContent ImportPage::reading() const {
    if (!session_.pending()) {
        return {};
    }
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
    if (p.import->used.thousands && !textual_->isHidden()) {
        const QChar mark(*p.import->used.thousands);
        content.paragraphs << tr("Numbers have %1 between thousands, by what the columns show.")
                                  .arg(mark == ' ' ? tr("a space") : QString("“%1”").arg(mark));
    }
    addAnswers(content, *p.import);
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

}  // namespace rapporto::app
