#include "app/stages/report/report_stage.h"

#include "app/shell/finder.h"
#include "app/shell/theme.h"
#include "app/stages/report/page_view.h"
#include "core/base/clock.h"
#include "core/report/frozen.h"
#include "core/report/named_figures.h"
#include "core/report/report_items.h"
#include "core/report/writers/writer.h"

#include <QApplication>
#include <QClipboard>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QTimer>
#include <QVBoxLayout>

#include <algorithm>

namespace rapporto::app {
namespace {

/// What an item is called in the list.
QString itemLabel(const Study& study, const ReportItem& item) {
    const ReportItemKind* kind = findReportItem(item.item);
    QString label = text(kind == nullptr ? item.item : std::string(kind->words));
    if (item.item == "text") {
        const QString first = text(item.text).section('\n', 0, 0).remove("# ").left(40);
        return first.isEmpty() ? label : "“" + first + "”";
    }
    if (item.questions.size() == 1) {
        if (const Question* q = study.find(item.questions.front())) {
            label += "  " + text(q->title);
        }
    } else if (item.questions.size() > 1) {
        label += QObject::tr("  of %1").arg(item.questions.size());
    } else if (!item.variables.empty()) {
        label += "  " + text(item.variables.front());
    } else if (item.picture && !item.picture->of.empty()) {
        label += "  " + text(item.picture->of.front());
    }
    return label;
}

QPushButton* wordButton(const QString& label, QWidget* parent) {
    auto* button = new QPushButton(label, parent);
    button->setMinimumHeight(24);
    return button;
}

}  // namespace

ReportStage::ReportStage(Session& session, QWidget* parent)
    : Stage(session, parent),
      page_(new PageView(this)),
      items_(new QListWidget(this)),
      text_(new QPlainTextEdit(this)),
      textPanel_(new QWidget(this)),
      find_(new QLineEdit(this)),
      zoom_(new QLabel(this)),
      finder_(new Finder(this)),
      textTimer_(new QTimer(this)),
      later_([this](const Made& made) { take(made); }),
      replication_([this](const Replicated& done) {
          done.why.isEmpty() ? emit session_.told(tr("saved %1").arg(done.folder.section('/', -1)))
                             : emit session_.refused(done.why);
      }) {
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(14, 10, 12, 12);
    layout->setSpacing(14);
    auto* left = new QVBoxLayout;
    left->setSpacing(6);
    auto* bar = new QHBoxLayout;
    find_->setPlaceholderText(tr("find on the page…"));
    find_->setAccessibleName(tr("Find on the page"));
    find_->setObjectName("reportFind");
    find_->setMaximumWidth(220);
    connect(find_, &QLineEdit::returnPressed, this, [this] {
        if (!page_->find(find_->text())) {
            emit session_.told(tr("“%1” does not stand in the report").arg(find_->text()));
        }
    });
    bar->addWidget(find_);
    bar->addStretch(1);
    dress(zoom_, "color:{soft}");
    for (const auto& [label, name, act] :
         std::vector<std::tuple<QString, QString, std::function<void()>>>{
             {tr("smaller"), tr("Smaller"), [this] { page_->setZoom(page_->scale() / 1.2); }},
             {tr("to width"), tr("As wide as there is room"), [this] { page_->setZoom(0.0); }},
             {tr("larger"), tr("Larger"), [this] { page_->setZoom(page_->scale() * 1.2); }}}) {
        auto* button = wordButton(label, this);
        button->setFlat(true);
        button->setAccessibleName(name);
        connect(button, &QPushButton::clicked, this, act);
        bar->addWidget(button);
    }
    bar->addWidget(zoom_);
    left->addLayout(bar);
    page_->setAccessibleName(tr("Report page"));
    page_->setObjectName("reportPage");
    left->addWidget(page_, 1);

    auto* panel = new QVBoxLayout(textPanel_);
    panel->setContentsMargins(0, 0, 0, 0);
    auto* words = new QHBoxLayout;
    auto* hint =
        new QLabel(tr("your words · “# ” a heading · “- ” a point · **bold**"), textPanel_);
    dress(hint, "color:{soft}");
    words->addWidget(hint, 1);
    auto* fields = wordButton(tr("put in a number…"), textPanel_);
    fields->setObjectName("reportField");
    connect(fields, &QPushButton::clicked, this, &ReportStage::offerFields);
    words->addWidget(fields);
    panel->addLayout(words);
    text_->setObjectName("reportText");
    text_->setAccessibleName(tr("Text of this item"));
    text_->setFont(paperFont(15));
    text_->setFixedHeight(118);
    panel->addWidget(text_);
    textPanel_->hide();
    left->addWidget(textPanel_);
    layout->addLayout(left, 1);

    auto* side = new QVBoxLayout;
    auto* title = new QLabel(tr("items"), this);
    title->setFont(paperFont(17, true));
    dress(title, "color:{soft}");
    side->addWidget(title);
    items_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    items_->setTextElideMode(Qt::ElideRight);
    items_->setFixedWidth(154);
    items_->setAccessibleName(tr("Items of the report"));
    items_->setObjectName("reportItems");
    dress(items_,
          "QListWidget::item{padding:7px 2px;border-bottom:1px solid {hairline}} "
          "QListWidget::item:selected{background:{wash};color:{accent}}");
    items_->setDragDropMode(QAbstractItemView::InternalMove);
    connect(items_->model(), &QAbstractItemModel::rowsMoved, this,
            [this](const QModelIndex&, int from, int, const QModelIndex&, int to) {
                placeItem(from, to > from ? to - 1 : to);
            });
    connect(items_, &QListWidget::currentRowChanged, this, [this](int row) {
        page_->choose(row);
        showText();
        emit readingChanged();
    });
    side->addWidget(items_, 1);
    for (const auto& [label, act] : std::vector<std::pair<QString, std::function<void()>>>{
             {tr("add an item…"), [this] { offerItems(); }},
             {tr("+ this question"), [this] { addPresentQuestion(); }},
             {tr("move up"), [this] { moveItem(-1); }},
             {tr("move down"), [this] { moveItem(1); }},
             {tr("take out"), [this] { removeItem(); }}}) {
        auto* button = wordButton(label, this);
        connect(button, &QPushButton::clicked, this, act);
        side->addWidget(button);
    }
    layout->addLayout(side);

    connect(page_, &PageView::chosen, this, [this](int item) { chooseItem(item); });
    connect(page_, &PageView::edited, this,
            [this](int item, const QString& part, const QString& words_) {
                if (part.startsWith("head:")) {
                    writeHead(item, part.mid(5).toInt(), words_);
                    return;
                }
                changeItem(
                    item,
                    [&](ReportItem& one) {
                        (part == "caption" ? one.caption : one.note) = utf8(words_);
                    },
                    part == "caption" ? tr("write a caption") : tr("write a note"));
            });
    connect(page_, &PageView::itemMoved, this, &ReportStage::placeItem);
    connect(page_, &PageView::columnMoved, this, &ReportStage::moveColumn);
    connect(page_, &PageView::editAsked, this, [this](int item) {
        chooseItem(item);
        text_->setFocus();
    });
    textTimer_->setSingleShot(true);
    textTimer_->setInterval(400);
    connect(text_, &QPlainTextEdit::textChanged, this, [this] {
        if (textItem_ >= 0) {
            textTimer_->start();
        }
    });
    connect(textTimer_, &QTimer::timeout, this, &ReportStage::putText);
}

ReportStage::~ReportStage() = default;

AnswersById ReportStage::answersHeld(std::vector<std::shared_ptr<const Answer>>& held) const {
    AnswersById byId;
    for (const Question& q : session_.study().questions) {
        if (const auto answer = session_.answer(q.id)) {
            held.push_back(answer);
            byId.emplace(q.id, answer.get());
        }
    }
    return byId;
}

ReportPages ReportStage::pages() const {
    if (!stale_ && !page_->isStale() && !page_->pages().blocks.empty()) {
        return page_->pages();  // As they stand here.
    }
    std::vector<std::shared_ptr<const Answer>> held;
    const AnswersById byId = answersHeld(held);
    return reportPages(session_.study(), byId, session_.frame().get());
}

bool ReportStage::allComplete() const {
    const auto& all = session_.study().questions;
    return std::all_of(all.begin(), all.end(), [this](const Question& q) {
        return session_.answer(q.id) == nullptr || session_.bench().isComplete(q.id);
    });
}

void ReportStage::showEvent(QShowEvent* event) {
    Stage::showEvent(event);
    if (stale_) {
        renew();
    }
}

void ReportStage::hideEvent(QHideEvent* event) {
    takeText();
    Stage::hideEvent(event);
}

void ReportStage::refresh() {
    listItems();
    stale_ = true;
    if (isVisible()) {
        renew();
    }
    emit readingChanged();
}

/// Makes the pages anew, beside the window’s turn where the table is long.
void ReportStage::renew() {
    if (reportItems(session_.study()).empty()) {
        stale_ = false;
        later_.cancel();
        page_->showNothing(
            tr("The report fills itself from the lead question. State a question "
               "first, or add an item of your own."));
        return;
    }
    page_->setStale(!page_->pages().blocks.empty());
    if (!page_->pages().blocks.empty() && !allComplete()) {
        return;  // The page turns once, when all of it is there.
    }
    stale_ = false;
    if (page_->pages().blocks.empty()) {
        page_->showNothing(tr("The pages are being set…"));
    }
    auto held = std::make_shared<std::vector<std::shared_ptr<const Answer>>>();
    const AnswersById byId = answersHeld(*held);
    const auto frame = session_.frame();
    job_.stop();  // What is being made is of before the change.
    job_ = Job();
    later_.ask([study = session_.study(), byId, held, frame,
                job = job_] { return Made{reportPages(study, byId, frame.get(), job)}; },
               (frame == nullptr || (frame->left() == nullptr && frame->rows() <= kRowsAtOnce)) &&
                   !fitAnew(session_.study().report));
}

void ReportStage::take(const Made& made) {
    auto press = Press::make(made.pages);
    if (!press) {
        page_->showNothing(numbered(press.error().text()));
        return;
    }
    page_->showPages(*std::move(press), made.pages);
    page_->choose(items_->currentRow());
    zoom_->setText(tr("%1 %").arg(static_cast<int>(std::lround(page_->scale() * 100.0))));
}

void ReportStage::listItems() {
    const auto items = reportItems(session_.study());
    const QSignalBlocker quiet(items_);
    const int current = items_->currentRow();
    items_->clear();
    for (const ReportItem& item : items) {
        auto* line = new QListWidgetItem(itemLabel(session_.study(), item) +
                                         (item.frozen ? tr(" · frozen") : QString()));
        line->setToolTip(line->text());
        items_->addItem(line);
    }
    const bool added = wanted_ >= 0 && wanted_ < items_->count();
    items_->setCurrentRow(added ? std::exchange(wanted_, -1)
                                : std::min(current, items_->count() - 1));
    showText();
}

int ReportStage::chosenItem() const { return items_->currentRow(); }

void ReportStage::chooseItem(int item) {
    // An item that was only just added stands in the list with the next refresh.
    wanted_ = item < items_->count() ? -1 : item;
    if (wanted_ < 0) {
        items_->setCurrentRow(item);
    }
    emit readingChanged();
}

void ReportStage::showText() {
    const auto items = reportItems(session_.study());
    const int row = items_->currentRow();
    const bool mine = row >= 0 && row < static_cast<int>(items.size()) &&
                      items[static_cast<std::size_t>(row)].item == "text";
    if (row != textItem_) {
        takeText();
    }
    textPanel_->setVisible(mine);
    if (!mine) {
        textItem_ = -1;
        return;
    }
    const QString words = text(items[static_cast<std::size_t>(row)].text);
    if (textItem_ != row || (!textTimer_->isActive() && text_->toPlainText() != words)) {
        textItem_ = -1;
        text_->setPlainText(words);
        textItem_ = row;
    }
    if (std::exchange(writeNext_, false)) {
        text_->setFocus();
        text_->selectAll();
    }
}

void ReportStage::putText() {
    if (textItem_ >= 0) {
        const std::string words = utf8(text_->toPlainText());
        changeItem(
            textItem_, [&](ReportItem& item) { item.text = words; }, tr("write in the report"));
    }
}

/// Into its own item, before another is chosen, moved or taken out.
void ReportStage::takeText() {
    if (textTimer_->isActive()) {
        textTimer_->stop();
        putText();
    }
}

void ReportStage::changeItem(int item, const std::function<void(ReportItem&)>& change,
                             const QString& did) {
    auto items = reportItems(session_.study());
    if (item < 0 || item >= static_cast<int>(items.size())) {
        return;
    }
    ReportItem& one = items[static_cast<std::size_t>(item)];
    const ReportItem before = one;
    change(one);
    if (!(one == before)) {
        session_.edit(SetReport{items}, did);
    }
}

void ReportStage::changeStyle(const std::function<void(ReportStyle&)>& change, const QString& did) {
    ReportStyle style = session_.study().reportStyle;
    change(style);
    if (!(style == session_.study().reportStyle)) {
        session_.edit(SetReportStyle{style}, did);
    }
}

void ReportStage::freeze(int item, bool frozen) {
    const auto items = reportItems(session_.study());
    if (item < 0 || item >= static_cast<int>(items.size())) {
        return;
    }
    std::vector<std::shared_ptr<const Answer>> held;
    const AnswersById byId = answersHeld(held);
    // The item alone, so that its tables and figures are numbered from one.
    Study alone = session_.study();
    alone.report = {items[static_cast<std::size_t>(item)]};
    alone.report.front().frozen.reset();
    const std::string blocks = frozenBlocks(buildReport(alone, byId, session_.frame().get()));
    changeItem(
        item,
        [&](ReportItem& one) {
            one.frozen = frozen ? std::optional(FrozenItem{timeNow(), blocks}) : std::nullopt;
        },
        frozen ? tr("freeze an item of the report") : tr("let an item follow its question again"));
}

void ReportStage::moveItem(int by) {
    const int from = items_->currentRow();
    placeItem(from, from + by);
}

void ReportStage::placeItem(int from, int to) {
    takeText();
    auto items = reportItems(session_.study());
    if (from < 0 || to < 0 || from == to || to >= static_cast<int>(items.size())) {
        return;
    }
    const ReportItem moved = items[static_cast<std::size_t>(from)];
    items.erase(items.begin() + from);
    items.insert(items.begin() + to, moved);
    session_.edit(SetReport{items}, tr("reorder the report"));
    items_->setCurrentRow(to);
}

void ReportStage::writeHead(int item, int column, const QString& words) {
    changeItem(
        item,
        [&](ReportItem& one) {
            auto& heads = one.table.heads;
            heads.resize(std::max(heads.size(), static_cast<std::size_t>(column) + 1));
            heads[static_cast<std::size_t>(column)] = utf8(words);
            one.table.columns = TableLook().columns;  // Words are not seen where numbers stand.
        },
        tr("write the head of a column"));
}

void ReportStage::moveColumn(int item, int from, int to) {
    changeItem(
        item,
        [&](ReportItem& one) {
            const auto move = [&](std::vector<std::string>& list) {
                const auto last = static_cast<int>(list.size());
                if (from < last && to < last) {
                    const std::string held = list[static_cast<std::size_t>(from)];
                    list.erase(list.begin() + from);
                    list.insert(list.begin() + to, held);
                }
            };
            one.table.heads.resize(one.table.heads.empty() ? 0 : one.questions.size());
            move(one.table.heads);
            if (one.table.panels.empty()) {
                move(one.questions);
            }
            for (TableLook::Panel& panel : one.table.panels) {
                move(panel.questions);
            }
        },
        tr("move a column"));
}

void ReportStage::removeItem() {
    takeText();
    auto items = reportItems(session_.study());
    const int at = items_->currentRow();
    if (at >= 0 && items.size() > 1) {
        items.erase(items.begin() + at);
        session_.edit(SetReport{items}, tr("shorten the report"));
    }
}

void ReportStage::addItems(const std::vector<ReportItem>& added, const QString& what) {
    takeText();
    auto items = reportItems(session_.study());
    const int at = static_cast<int>(items.size());
    items.insert(items.end(), added.begin(), added.end());
    if (!added.empty() && session_.edit(SetReport{items}, tr("add %1 to the report").arg(what))) {
        chooseItem(at);
    }
}

void ReportStage::addPresentQuestion() {
    if (const Question* q = session_.question()) {
        addItems({{"reading", {q->id}}, {"table", {q->id}}}, text(q->title));
    }
}

void ReportStage::offerItems() {
    takeText();
    std::vector<FinderEntry> entries;
    const std::string question = session_.question() != nullptr ? session_.question()->id : "";
    for (const ReportItemKind& kind : allReportItems()) {
        FinderEntry entry;
        entry.label = text(kind.words);
        entry.detail = text(kind.about);
        entry.act = [this, &kind, question] {
            ReportItem item(kind.id);
            if ((kind.reads & item_reads::kQuestions) != 0 && !question.empty()) {
                item.questions = {question};
            }
            if (std::string(kind.id) == "text") {
                item.text = utf8(tr("Write here."));
            }
            if (std::string(kind.id) == "picture" && !session_.study().desk.pictures.empty()) {
                item.picture = session_.study().desk.pictures.front();
            }
            auto items = reportItems(session_.study());
            const int at = items_->currentRow() < 0 ? static_cast<int>(items.size())
                                                    : items_->currentRow() + 1;
            items.insert(items.begin() + std::min<std::ptrdiff_t>(at, std::ssize(items)), item);
            if (session_.edit(SetReport{items}, tr("add %1 to the report").arg(text(kind.words)))) {
                chooseItem(at);
                writeNext_ = item.item == "text";
            }
        };
        entries.push_back(std::move(entry));
    }
    finder_->open(items_->mapTo(this, QPoint(-240, 20)), 380, tr("What shall stand in the report?"),
                  std::move(entries));
}

void ReportStage::offerFields() {
    std::vector<std::shared_ptr<const Answer>> held;
    const AnswersById byId = answersHeld(held);
    std::vector<FinderEntry> entries;
    for (const ReportField& field : reportFields(byId, session_.study().alpha)) {
        FinderEntry entry;
        entry.label = text(field.field).mid(1, static_cast<int>(field.field.size()) - 2);
        entry.detail = text(field.value);
        entry.act = [this, field] {
            text_->insertPlainText(text(field.field));
            text_->setFocus();
        };
        entries.push_back(std::move(entry));
    }
    finder_->open(textPanel_->mapTo(this, QPoint(0, -260)), 420, tr("A number that follows"),
                  std::move(entries));
}

/// Why what is computed cannot be written yet; empty: it can.
QString ReportStage::whyNotYet() const {
    if (!allComplete()) {
        return session_.bench().progress().busy()
                   ? tr("Answers of this report are still being worked out. Save it when the line "
                        "at the foot of the window has stopped counting.")
                   : tr("Answers of this report were stopped before they were done. Any change "
                        "starts them again.");
    }
    return {};
}

QString ReportStage::exportTo(const QString& path) const {
    if (const QString why = whyNotYet(); !why.isEmpty()) {
        return why;
    }
    const auto done = saveReport(pages(), utf8(path), session_.putFile());
    return done ? QString() : numbered(done.error().text());
}

void ReportStage::exportAs(const QString& ending) {
    const QString path =
        QFileDialog::getSaveFileName(this, tr("Save the report"), "report" + ending, "*" + ending);
    if (path.isEmpty()) {
        return;
    }
    const QString why = exportTo(path.endsWith(ending) ? path : path + ending);
    why.isEmpty() ? emit session_.told(tr("saved %1").arg(path.section('/', -1)))
                  : emit session_.refused(why);
}

QString ReportStage::replicateTo(const QString& folder, bool withData) const {
    if (const QString why = whyNotYet(); !why.isEmpty()) {
        return why;
    }
    const auto done = session_.replicationTo(folder, withData)();
    return done ? QString() : numbered(done.error().text());
}

void ReportStage::replicateAs(bool withData) {
    if (const QString why = whyNotYet(); !why.isEmpty()) {
        emit session_.refused(why);
        return;
    }
    const QString folder =
        QFileDialog::getSaveFileName(this, tr("A folder for the replication"), "replication");
    if (folder.isEmpty()) {
        return;
    }
    emit session_.told(tr("writing %1…").arg(folder.section('/', -1)));
    // Checksums and copies of a long table are no work for the window’s turn.
    replication_.ask([write = session_.replicationTo(folder, withData), folder] {
        const auto done = write();
        return Replicated{folder, done ? QString() : numbered(done.error().text())};
    });
}

void ReportStage::copyTables() const {
    QString out;
    for (const ReportBlock& b : pages().blocks) {
        for (const CellRow& row : b.cells) {
            QStringList cells;
            for (const Cell& cell : row) {
                cells << text(cell.text);
                for (int more = 1; more < cell.span; ++more) {
                    cells << QString();
                }
            }
            out += cells.join('\t') + "\n";
        }
    }
    QApplication::clipboard()->setText(out);
}

QString ReportStage::state() const {
    const auto n = reportItems(session_.study()).size();
    return n == 0 ? tr("empty") : n == 1 ? tr("1 item") : tr("%1 items").arg(n);
}

}  // namespace rapporto::app
