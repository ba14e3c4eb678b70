#include "app/shell/session.h"

#include "app/shell/theme.h"
#include "core/base/border.h"
#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/hash.h"
#include "core/io/server_table.h"
#include "core/io/table_file.h"
#include "core/left/left_sample.h"
#include "core/report/replication.h"
#include "core/report/wording.h"
#include "core/study/odd_mends.h"
#include "core/study/ways_to_ask.h"

#include <QCoreApplication>
#include <QDir>
#include <QFile>
#include <QFileInfo>
#include <QStandardPaths>
#include <QThreadPool>

#include <algorithm>
#include <cmath>

namespace rapporto::app {
namespace {

/// With words and levels, which sort or count the whole column.
VariableFacts allFactsOf(const Frame& frame, const Column& column, const Variable& variable) {
    // The rows of a summary are no observations: no bars, no levels.
    VariableFacts facts;
    if (frame.moments() == nullptr) {
        facts.thumbnail = thumbnailOf(column, variable);
        facts.missing = column.countMissing();
    }
    facts.reading = variableReading(frame, variable.name);
    if (frame.moments() != nullptr) {
        return facts;
    }
    if (isGrouping(variable.measure) && variable.measure != Measure::Text) {
        for (const FoundLevel& level : levelsOf(column, variable)) {
            if (facts.levels.size() < 60) {
                facts.levels.push_back(level.value);
            }
        }
    }
    return facts;
}

/// What a study reads from outside of its folder, by name: files, and tables of database servers.
std::vector<std::string> readElsewhere(const Study& study, const std::string& directory) {
    auto out = filesOutside(study, directory);
    const auto served = databasesOf(study);
    out.insert(out.end(), served.begin(), served.end());
    return out;
}

}  // namespace

Session::Session(QObject* parent, const QString& journals)
    : QObject(parent),
      bench_([this] {
          // Many results may land before the window turns to them: one visit serves all.
          if (!taking_.exchange(true)) {
              QMetaObject::invokeMethod(
                  this, [this] { take(); }, Qt::QueuedConnection);
          }
      }),
      journal_(utf8(journals)),
      allowed_(journals.isEmpty() ? std::string()
                                  : utf8(QFileInfo(journals).dir().filePath("allowed.json"))) {}

Session::~Session() {
    finish();
    pool_.waitForDone();
}

void Session::finish() {
    if (pending_) {
        pending_->job.stop();
    }
    load_.stop();
    oddLook_.stop();
    bench_.stop();
    journal_.flush();
    lock_.reset();
}

bool Session::isWorthKeeping() const {
    return !pastedSource_.isEmpty() ||
           ((hasTable() || sourceRefusal_) && studyText(study_) != settled_);
}

std::vector<TrailStep> Session::unsavedSteps() const {
    const auto from = std::min(settledSteps_, study_.trail.size());
    return {study_.trail.begin() + static_cast<std::ptrdiff_t>(from), study_.trail.end()};
}

Result<void> Session::mayWriteTo(const QString& path) const {
    return rapporto::mayWriteTo(utf8(path), study_, utf8(path_));
}

PutFile Session::putFile() const {
    return [study = study_, own = utf8(path_)](const std::string& path, const std::string& bytes) {
        auto may = rapporto::mayWriteTo(path, study, own);
        if (!may) {
            return may;
        }
        const auto done = replaceFile(path, bytes);
        return done ? Result<void>() : tl::make_unexpected(done.error());
    };
}

std::function<Result<void>()> Session::replicationTo(const QString& folder, bool withData) const {
    std::vector<Answer> answers;
    for (const Question& q : study_.questions) {
        if (const auto one = answer(q.id)) {
            answers.push_back(*one);
        }
    }
    const QString directory = path_.isEmpty() ? QDir::currentPath() : QFileInfo(path_).path();
    return [study = study_, directory = utf8(directory), sources = sources_, frame = frame_,
            answers = std::move(answers), folder = utf8(folder), withData]() -> Result<void> {
        if (frame == nullptr) {
            return refuse(ErrorCode::File, "there is no table to compute from", "report",
                          "Open one first.");
        }
        return writeReplication({study, directory, sources, *frame, answers}, folder,
                                {withData, RAPPORTO_VERSION});
    };
}

void Session::letGo() {
    journal_.drop();
    pastedSource_.clear();
    settled_ = studyText(study_);
}

/// A step was made: it goes into the journal at once.
void Session::stepped(const QString& did) { journal_.note(study_, utf8(did)); }

/// What stands now is what stands at `path`; empty: it has no file yet.
void Session::settled(const QString& path) {
    settled_ = studyText(study_);
    settledSteps_ = study_.trail.size();
    onDisk_ = path.isEmpty() ? std::string() : sha256OfFile(utf8(path)).value_or(std::string());
    if (path.isEmpty()) {
        lock_.reset();
    } else if (!lock_ && !isDemo(path)) {
        // The demo is everybody’s, and may lie where nothing can be written.
        lock_ = std::make_unique<StudyLock>(utf8(QFileInfo(path).absoluteFilePath()));
    }
    JournalHead head;
    head.study = path.isEmpty() ? std::string() : utf8(QFileInfo(path).absoluteFilePath());
    head.base = onDisk_;
    head.pasted = pastedSource_.toStdString();
    journal_.begin(std::move(head), study_);
}

void Session::take() {
    taking_ = false;
    const auto frame = bench_.frame();
    if (frame != frame_) {
        frame_ = frame;
        takeFacts();
        lookForOddities();
    }
    emit changed();
}

std::size_t Session::openOddities() const {
    return static_cast<std::size_t>(std::count_if(
        oddities_.begin(), oddities_.end(),
        [this](const Oddity& one) { return reasonItStands(study_.sample, one) == nullptr; }));
}

void Session::lookForOddities() {
    oddLook_.stop();
    oddLook_ = Job();
    if (!frame_) {
        oddities_.clear();
        odditiesFrame_.reset();
        return;
    }
    OddScope scope;
    scope.weight = study_.survey.weight;
    pool_.start([this, frame = frame_, scope, job = oddLook_] {
        auto found = guarded("what looks odd", [&]() -> Result<std::vector<Oddity>> {
            return rapporto::oddities(*frame, scope, job);
        });
        if (job.stopped()) {
            return;
        }
        QMetaObject::invokeMethod(
            this,
            [this, frame, found = std::move(found)]() mutable {
                if (frame == frame_) {
                    oddTrouble_ = found ? std::nullopt : std::optional(found.error());
                    oddities_ = found ? *std::move(found) : std::vector<Oddity>();
                    odditiesFrame_ = frame;
                    emit changed();
                }
            },
            Qt::QueuedConnection);
    });
}

void Session::takeFacts() {
    const auto frame = frame_;
    if (!frame) {
        facts_.clear();
        factsFrame_.reset();
        return;
    }
    // What did not change keeps its facts.
    const auto before = factsFrame_;
    const FactsByName known = facts_;
    pool_.start([this, frame, before, known] {
        const bool sameRows = before && before->states() == frame->states();
        FactsByName facts;
        for (std::size_t j = 0; j < frame->table().columns.size(); ++j) {
            const Column& column = frame->table().columns[j];
            const Variable& variable = frame->table().variables[j];
            const Column* old = sameRows ? before->column(variable.name) : nullptr;
            const auto kept = known.find(variable.name);
            facts[variable.name] = old != nullptr && kept != known.end() &&
                                           old->sharesCellsWith(column) &&
                                           *before->variable(variable.name) == variable
                                       ? kept->second
                                       : allFactsOf(*frame, column, variable);
        }
        QMetaObject::invokeMethod(
            this,
            [this, frame, facts = std::move(facts)]() mutable {
                if (frame == frame_) {
                    facts_ = std::move(facts);
                    factsFrame_ = frame;
                    emit changed();
                }
            },
            Qt::QueuedConnection);
    });
}

std::vector<std::string> Session::readingOf(const std::string& variable) const {
    const auto known = facts_.find(variable);
    if (known != facts_.end()) {
        return known->second.reading;
    }
    // Broken variables have no facts; their refusal is read at once.
    return frame_ && frame_->column(variable) == nullptr
               ? variableReading(*frame_, variable)
               : std::vector<std::string>{utf8(tr("Looking at its values…"))};
}

const Question* Session::question() const {
    const Question* found = study_.find(questionId_);
    return found != nullptr ? found : study_.lead();
}

std::shared_ptr<const Answer> Session::answer() const {
    return question() == nullptr ? nullptr : bench_.answer(question()->id);
}

std::shared_ptr<const Answer> Session::answer(const std::string& id) const {
    return bench_.answer(id);
}

bool Session::isComplete() const {
    return question() != nullptr && bench_.isComplete(question()->id);
}

bool Session::isFresh() const { return question() != nullptr && bench_.isFresh(question()->id); }

void Session::setQuestion(const std::string& id) {
    questionId_ = id;
    bench_.setFocus(id);
    emit questionChanged();
    emit changed();
}

bool Session::edit(const Change& change, const QString& did) {
    if (const auto done = bench_.apply({change, utf8(did)}); !done) {
        emit refused(numbered(done.error().text()));
        return false;
    }
    study_ = bench_.study();
    stepped(did);
    emit changed();
    return true;
}

bool Session::putQuestion(const Question& question, const QString& did) {
    Question put = question;
    const bool fresh = put.id.empty();
    if (fresh) {
        put.id = freshQuestionId(study_);
        put.lead = study_.questions.empty();
    }
    bench_.setFocus(put.id);
    if (!edit(PutQuestion{put}, did)) {
        return false;
    }
    if (fresh) {
        setQuestion(put.id);
    }
    return true;
}

void Session::startQuestion() {
    Question question;
    question.title = utf8(tr("question %1").arg(study_.questions.size() + 1));
    if (!study_.questions.empty()) {
        question.outcome = study_.questions.front().outcome;
    }
    putQuestion(question, tr("new question"));
}

void Session::startCorrelate(const std::vector<std::string>& variables) {
    Question question;
    question.kind = "correlate";
    question.variables = variables;
    question.title = utf8(tr("correlations %1").arg(study_.questions.size() + 1));
    putQuestion(question, tr("new correlations"));
}

void Session::startTrace(const TraceSpec& spec) {
    Question question;
    question.kind = "trace";
    question.trace = spec;
    question.title = utf8(tr("trace %1").arg(study_.questions.size() + 1));
    putQuestion(question, tr("new trace"));
}

void Session::startVariant() {
    const Question* present = question();
    if (present == nullptr) {
        startQuestion();
        return;
    }
    Question variant = *present;
    variant.variantOf = present->variantOf.empty() ? present->id : present->variantOf;
    variant.id.clear();
    variant.title = present->title + utf8(tr(", varied"));
    putQuestion(variant, tr("variant of %1").arg(text(present->title)));
}

void Session::takeWay(const WayToAsk& way) {
    if (way.groups) {
        VariableEntry entry;
        entry.name = way.groups->name;
        entry.measure = Measure::Groups;
        if (!edit(PutDerived{*way.groups}, tr("derive %1").arg(text(way.groups->name))) ||
            !edit(PutVariable{entry}, tr("%1 are groups").arg(text(way.groups->name)))) {
            return;
        }
    }
    putQuestion(way.question, text(way.label));
}

void Session::tryRemedy(const Remedy& remedy) {
    putQuestion(remedy.variant, tr("try %1").arg(text(remedy.variant.title)));
}

void Session::undo() {
    const std::string did = bench_.undoLabel();
    bench_.undo();
    study_ = bench_.study();
    stepped(tr("undo: %1").arg(text(did)));
    emit questionChanged();
    emit changed();
}

void Session::redo() {
    const std::string did = bench_.redoLabel();
    bench_.redo();
    study_ = bench_.study();
    stepped(tr("again: %1").arg(text(did)));
    emit questionChanged();
    emit changed();
}

void Session::selectRows(RowSet rows) {
    selected_ = std::move(rows);
    emit selectionChanged();
}

void Session::setSelectedAside(const QString& reason) {
    if (selected_.empty()) {
        return;
    }
    std::vector<std::size_t> rows;
    for (const std::size_t row : selected_) {
        rows.push_back(row + 1);
    }
    const QString what = rows.size() == 1 ? tr("set row %1 aside").arg(rows.front())
                                          : tr("set %1 rows aside").arg(rows.size());
    if (edit(SetRowsAside{rows, utf8(reason)}, what)) {
        selectRows({});
    }
}

void Session::setDesk(const Desk& desk) {
    bench_.restate([&desk](Study& study) { study.desk = desk; });
    study_ = bench_.study();
    stepped({});
    emit changed();
}

void Session::setVariable(const std::string& name) {
    variable_ = name;
    emit selectionChanged();
}

void Session::beginImport(const QString& path) {
    cancelImport();
    pending_ = PendingImport{path, {}, {}, nullptr, {}, {}, {}, {}, {}};
    readPending();
}

void Session::beginPaste(const QByteArray& pasted) {
    cancelImport();
    pending_ = PendingImport{{}, pasted, {}, nullptr, {}, {}, {}, {}, {}};
    readPending();
}

void Session::beginServer() {
    cancelImport();
    ReaderOptions options;
    options.type = "postgresql";
    pending_ = PendingImport{{}, {}, options, nullptr, {}, {}, {}, {}, {}};
    readPending();
}

void Session::changeImportOptions(const ReaderOptions& options) {
    if (pending_) {
        pending_->job.stop();
        pending_->job = Job();
        pending_->options = options;
        readPending();
    }
}

void Session::cancelImport() {
    if (pending_) {
        pending_->job.stop();
        pending_.reset();
        emit importChanged();
    }
}

void Session::readPending() {
    const PendingImport job = *pending_;
    const std::size_t number = ++importNumber_;
    emit importChanged();
    pool_.start([this, job, number] {
        Source source;
        std::optional<Result<SummaryMatrix>> summary;
        auto result = guarded("this table", [&]() -> Result<Import> {
            if (isServed(job.options)) {
                return firstServerRows(job.options, job.job);
            }
            auto read = job.path.isEmpty()
                            ? readCsvText({job.pasted.constData(),
                                           static_cast<std::size_t>(job.pasted.size())},
                                          job.options, job.job)
                            : readTableFile(utf8(job.path), job.options, job.job);
            if (!read) {
                return read;
            }
            const Table& table = read->table;
            if (table.find("statistic") >= 0 && table.find("variable") >= 0) {
                summary = momentsOfTable(table);
            }
            if (!summary || !*summary) {
                noteSeen(table, source);
            }
            if (!job.path.isEmpty()) {
                source.sha256 =
                    sha256OfTable(utf8(job.path), read->used, job.job).value_or(std::string());
            }
            return read;
        });
        auto shared = std::make_shared<Result<Import>>(std::move(result));
        QMetaObject::invokeMethod(
            this,
            [this, shared, number, source, summary] {
                if (!pending_ || number != importNumber_) {
                    return;  // Another reading has begun since.
                }
                if (*shared) {
                    pending_->import = std::make_shared<const Import>(std::move(**shared));
                    pending_->refusal.reset();
                    pending_->source = source;
                    pending_->summary = summary;
                } else {
                    pending_->import.reset();
                    pending_->refusal = shared->error();
                }
                emit importChanged();
            },
            Qt::QueuedConnection);
    });
}

void Session::noteImport(const std::vector<VariableEntry>& entries) {
    if (pending_) {
        pending_->entries.insert(pending_->entries.end(), entries.begin(), entries.end());
        emit importChanged();
    }
}

void Session::acceptImport() {
    if (!pending_ || !pending_->import) {
        return;
    }
    const PendingImport done = *pending_;
    pending_.reset();
    Study study;
    if (isServed(done.options)) {
        study.title =
            done.import->used.query.empty() ? done.import->used.table : utf8(tr("A query"));
        study.source.reader = done.import->used;
        study.source.reader.asText.clear();
        study.variables = done.entries;
        openMade(std::move(study));
        emit importChanged();
        return;
    }
    const QFileInfo info(done.path);
    study.title = utf8(done.path.isEmpty() ? tr("Pasted table") : info.completeBaseName());
    study.source = done.source;
    study.source.file = utf8(info.absoluteFilePath());
    study.source.reader = done.import->used;
    study.variables = done.entries;
    for (const std::string& name : done.import->used.asText) {
        VariableEntry entry;
        entry.name = name;
        entry.measure = Measure::Text;
        study.variables.push_back(std::move(entry));
    }
    study.source.reader.asText.clear();
    if (study.source.reader.left && study.source.kind == "table") {
        openMade(std::move(study));
        emit importChanged();
        return;
    }
    Sources sources;
    if (done.summary && *done.summary) {
        sources.moments = std::make_shared<const SummaryMatrix>(**done.summary);
        study.source.kind = "summary";
        if (done.path.isEmpty()) {
            // Pasted: it stands in the study itself from now on.
            study.source = Source{};
            study.source.kind = "summary";
            study.source.moments = **done.summary;
        }
    } else {
        sources.table = std::make_shared<const Table>(done.import->table);
    }
    pastedSource_ =
        done.path.isEmpty() && study.source.kind == "table" ? done.pasted : QByteArray();
    path_.clear();
    land(study, sources);
    savedRevision_ = 0;
    settled({});
    emit importChanged();
}

void Session::openMade(Study study) {
    cancelImport();
    load_.stop();
    pastedSource_.clear();
    path_.clear();
    takenUp_.reset();
    study_ = std::move(study);
    settled({});
    readStudySources();
}

void Session::askForSample() {
    const auto frame = frame_;
    if (!frame || !frame->left()) {
        return;
    }
    if (!frame->left()->isOnDisk()) {
        emit besideAsked(withSample(study_, frame->left()->table()));
        return;
    }
    Study read = study_;
    read.source.reader.left = false;
    emit besideAsked(read);
}

void Session::land(Study study, Sources sources) {
    sourceRefusal_.reset();
    review_.reset();
    study_ = std::move(study);
    sources_ = std::move(sources);
    std::vector<Study> past;
    const auto left = std::exchange(takenUp_, std::nullopt);
    if (left) {
        past.push_back(left->start);
        for (const JournalStep& step : left->steps) {
            past.push_back(step.study);
        }
        past.pop_back();  // The present one.
    }
    bench_.open(study_, sources_, std::move(past));
    savedRevision_ = left ? 0 : bench_.revision();
    selected_.clear();
    questionId_.clear();
    const Table* table = sources_.table.get();
    variable_ = table == nullptr           ? sources_.moments->names.front()
                : table->variables.empty() ? ""
                                           : table->variables.front().name;
    if (const Question* lead = study_.lead()) {
        const auto outcome = Expression::parse(lead->outcome);
        for (const Derived& d : study_.derived) {
            // What is explained is what one wants to look at; of a log, what was logged.
            const auto inner = outcome && outcome->isName() && d.name == outcome->root().text
                                   ? Expression::parse(d.expression)
                                   : Expression::parse("0");
            variable_ = inner && !inner->names().empty() ? *inner->names().begin() : variable_;
        }
        variable_ = outcome && table != nullptr && table->find(outcome->root().text) >= 0
                        ? outcome->root().text
                        : variable_;
        questionId_ = lead->id;
        bench_.setFocus(lead->id);
    }
    emit questionChanged();
    emit changed();
}

void Session::useMoments(const SummaryMatrix& moments) {
    if (sources_.moments && study_.source.kind == "summary") {
        Source source;
        source.kind = "summary";
        source.moments = moments;
        edit(SetSource{source}, tr("change the summary"));
        return;
    }
    Study study;
    study.title = utf8(tr("A summary"));
    study.source.kind = "summary";
    study.source.moments = moments;
    Sources sources;
    sources.moments = std::make_shared<const SummaryMatrix>(moments);
    cancelImport();
    path_.clear();
    pastedSource_.clear();
    land(study, sources);
    savedRevision_ = 0;
    settled({});
    settled_.clear();  // It was typed: no file holds it.
    stepped(tr("type in a summary"));
}

void Session::addTable(const Source& source, std::shared_ptr<const Table> table) {
    sources_.others[sourceText(source)] = table;
    bench_.addSource(source, std::move(table));
}

bool Session::setShape(const std::vector<ShapeStep>& steps, const QString& did) {
    if (!edit(SetShape{steps}, did)) {
        return false;
    }
    selectRows({});  // Numbers may mean other rows now.
    return true;
}

void Session::openStudy(const QString& path) {
    auto study = readStudyFile(utf8(path));
    if (!study) {
        emit refused(numbered(study.error().text()));
        return;
    }
    cancelImport();
    load_.stop();
    lock_.reset();
    path_ = path;
    study_ = *study;
    pastedSource_.clear();
    takenUp_.reset();
    settled(path);
    readStudySources();
}

void Session::takeUp(const LeftWork& left) {
    cancelImport();
    load_.stop();
    lock_.reset();
    path_ = text(left.head.study);
    study_ = left.steps.back().study;
    pastedSource_ = QByteArray::fromStdString(left.head.pasted);
    // It is judged by the file that it began from: what has happened to that since is a conflict.
    settled(path_);
    onDisk_ = left.head.base;
    settled_ = studyText(left.start);
    settledSteps_ = left.start.trail.size();
    journal_.adopt(left);
    takenUp_ = left;
    if (pastedSource_.isEmpty()) {
        readStudySources();
        return;
    }
    auto import =
        readCsvText({pastedSource_.constData(), static_cast<std::size_t>(pastedSource_.size())},
                    study_.source.reader, Job());
    if (!import) {
        emit refused(numbered(import.error().text()));
        return;
    }
    Sources sources;
    sources.table = std::make_shared<const Table>(std::move(import->table));
    land(study_, sources);
}

void Session::allowOutside() {
    allowed_.allow(utf8(QFileInfo(path_).absoluteFilePath()), outside_);
    readStudySources();
}

/// False, with the question asked, while there are files that nobody allowed the study to read.
bool Session::mayLook() {
    if (outside_.empty()) {
        return true;
    }
    loading_ = false;
    sourceRefusal_ =
        Refusal{ErrorCode::File,
                "the study reads what lies outside its folder: " + joinedNames(outside_),
                "",
                "Nothing of them is read before you allow it.",
                {}};
    emit questionChanged();
    emit changed();
    emit outsideAsked();
    return false;
}

/// Reads what the study is made from, unless it lies where nobody allowed it to look.
void Session::readStudySources() {
    sourceRefusal_.reset();
    review_.reset();
    loading_ = true;
    sources_ = {};
    bench_.open(study_, {});  // What was open is no longer: nothing of it may shine through.
    frame_.reset();
    facts_.clear();
    factsFrame_.reset();
    questionId_.clear();
    selected_.clear();
    const std::size_t number = ++loadNumber_;
    const QString place = path_.isEmpty() ? QDir::currentPath() + "/study" : path_;
    const std::string directory = utf8(QFileInfo(place).absolutePath());
    outside_ = allowed_.missing(utf8(QFileInfo(place).absoluteFilePath()),
                                readElsewhere(study_, directory));
    if (path_.isEmpty()) {
        outside_.clear();  // It was made here: every file was chosen by hand.
    }
    savedRevision_ = takenUp_ ? 0 : bench_.revision();
    if (!mayLook()) {
        return;
    }
    load_ = Job();
    emit questionChanged();
    emit changed();
    pool_.start([this, study = study_, directory, number, job = load_] {
        auto shared = std::make_shared<Result<Sources>>(guarded(
            "the study’s table", [&] { return readSources(study, directory, false, job); }));
        QMetaObject::invokeMethod(
            this,
            [this, shared, number] {
                if (number != loadNumber_) {
                    return;
                }
                loading_ = false;
                if (*shared) {
                    Study read = study_;
                    if (read.source.sha256.empty() && !(*shared)->sha256.empty()) {
                        read.source.sha256 = (*shared)->sha256;
                        noteSeen(*(*shared)->table, read.source);
                    }
                    land(std::move(read), **shared);
                    emit changed();
                    return;
                }
                sourceRefusal_ = shared->error();
                emit questionChanged();
                emit changed();
                startReview(study_);
            },
            Qt::QueuedConnection);
    });
}

void Session::startReview(const Study& proposed) {
    const std::size_t number = ++loadNumber_;
    loading_ = true;
    review_.reset();  // What was compared with other files decides nothing here.
    emit changed();
    const std::string directory = utf8(QFileInfo(path_).absolutePath());
    outside_ = allowed_.missing(utf8(QFileInfo(path_).absoluteFilePath()),
                                readElsewhere(proposed, directory));
    if (!path_.isEmpty() && !mayLook()) {
        return;
    }
    load_.stop();
    load_ = Job();
    pool_.start([this, study = study_, proposed, directory, number, job = load_] {
        SourceReview made;
        try {
            made = reviewSources(study, proposed, directory, job);
        } catch (const std::exception& error) {
            made.refusal = faultOf("the review of the study’s files", error.what());
        }
        auto review = std::make_shared<const SourceReview>(std::move(made));
        QMetaObject::invokeMethod(
            this,
            [this, review, number] {
                if (number == loadNumber_) {
                    loading_ = false;
                    review_ = review;
                    emit changed();
                }
            },
            Qt::QueuedConnection);
    });
}

void Session::relink(const std::string& file, const QString& path) {
    Study proposed = review_ ? review_->proposed : study_;
    const auto take = [&](Source& source, const Source& before) {
        if (source.file == file) {
            source.file = utf8(QFileInfo(path).absoluteFilePath());
            source.reader.type.clear();  // Another ending may mean another reader.
            source.sha256 = before.sha256;
            allowed_.allow(utf8(QFileInfo(path_).absoluteFilePath()), {source.file});
        }
    };
    take(proposed.source, study_.source);
    for (std::size_t k = 0; k < proposed.shape.size() && k < study_.shape.size(); ++k) {
        if (Source* other = otherSource(proposed.shape[k])) {
            take(*other, *otherSource(study_.shape[k]));
        }
    }
    startReview(proposed);
}

void Session::acceptReview() {
    if (!review_ || review_->refusal) {
        return;
    }
    const auto review = review_;
    const Study before = study_;
    land(before, review->sources);
    QStringList names;
    for (const FileReview& file : review->files) {
        if (file.changed) {
            names << QFileInfo(text(file.file)).fileName();
        }
    }
    edit(SetSource{review->proposed.source}, tr("use %1 as it is now").arg(names.join(", ")));
    if (review->proposed.shape != study_.shape) {
        edit(SetShape{review->proposed.shape}, tr("use %1 as it is now").arg(names.join(", ")));
    }
}

namespace {

/// The demo lies beside an installed application, or in the tree that holds its build folder.
QStringList demoPlaces() {
    const QString here = QCoreApplication::applicationDirPath();
    return {here + "/../share/rapporto/demo/calvessa.rapporto",
            QStandardPaths::locate(QStandardPaths::GenericDataLocation,
                                   "rapporto/demo/calvessa.rapporto"),
            here + "/../../../demo/calvessa.rapporto"};
}

}  // namespace

bool Session::isDemo(const QString& path) {
    const auto folder = QFileInfo(path).absoluteDir();
    for (const QString& place : demoPlaces()) {
        if (!place.isEmpty() && folder == QFileInfo(place).absoluteDir()) {
            return true;
        }
    }
    return false;
}

void Session::openDemo() {
    for (const QString& place : demoPlaces()) {
        if (QFile::exists(place)) {
            openStudy(QFileInfo(place).canonicalFilePath());
            return;
        }
    }
    emit refused(tr("The demo study is not installed."));
}

/// Pasted rows get a file of their own beside the study.
bool Session::savePasted(const QString& beside) {
    if (QFile::exists(beside)) {
        emit refused(tr("The pasted rows cannot be saved as %1: a file of that name is there. Save "
                        "the study under another name.")
                         .arg(beside));
        return false;
    }
    const std::string_view rows(pastedSource_.constData(),
                                static_cast<std::size_t>(pastedSource_.size()));
    if (const auto done = replaceFile(utf8(beside), rows); !done) {
        emit refused(numbered(done.error().text()));
        return false;
    }
    return true;
}

bool Session::saveStudy(const QString& path, bool over) {
    const bool mine = QFileInfo(path) == QFileInfo(path_) && !path_.isEmpty();
    if (!over && mine && QFile::exists(path) &&
        sha256OfFile(utf8(path)).value_or(std::string()) != onDisk_) {
        emit conflicted(path);
        return false;
    }
    Study out = study_;
    const QDir directory = QFileInfo(path).absoluteDir();
    const QString beside = directory.filePath(QFileInfo(path).completeBaseName() + "_data.csv");
    const bool pasted = !pastedSource_.isEmpty();
    if (pasted) {
        if (!savePasted(beside)) {
            return false;
        }
        out.source.file = utf8(beside);
    }
    const auto besideStudy = [&](const std::string& file) {
        if (file.empty()) {
            return file;  // A server’s table lies nowhere.
        }
        const QString source = text(file);
        const QString absolute = QFileInfo(source).isAbsolute()
                                     ? source
                                     : QFileInfo(path_).absoluteDir().filePath(source);
        return utf8(directory.relativeFilePath(absolute));
    };
    if (!out.source.file.empty()) {
        out.source.file = besideStudy(out.source.file);
    }
    for (ShapeStep& step : out.shape) {
        if (Source* other = otherSource(step)) {
            other->file = besideStudy(other->file);
        }
    }
    const auto done = writeStudyFile(out, utf8(path));
    if (!done) {
        if (pasted) {
            QFile::remove(beside);  // The rows are here still, for the next try.
        }
        emit refused(numbered(done.error().text()));
        return false;
    }
    pastedSource_.clear();
    if (done->otherNamesLeftBehind) {
        emit told(
            tr("Saved. The file had another name too (a hard link): under that one the older "
               "study stays."));
    }
    if (done->ownerChanged) {
        emit told(tr("Saved. The file belonged to somebody else and is yours now."));
    }
    const bool moved = out.source.file != study_.source.file || out.shape != study_.shape;
    if (moved) {
        // No step of the work: the files are the same, named from where the study lies now. Their
        // tables must be known under the new names before anything is computed, so those of the
        // present study go first.
        std::vector<std::pair<Source, std::shared_ptr<const Table>>> known;
        const auto rename = [&](Study& one) {
            if (one.source.file == study_.source.file) {
                one.source.file = out.source.file;
            }
            for (ShapeStep& step : one.shape) {
                if (Source* other = otherSource(step)) {
                    const auto table = sources_.others.find(sourceText(*other));
                    other->file = besideStudy(other->file);
                    if (table != sources_.others.end()) {
                        known.emplace_back(*other, table->second);
                    }
                }
            }
        };
        const auto addKnown = [&] {
            for (const auto& [source, table] : std::exchange(known, {})) {
                addTable(source, table);
            }
        };
        Study present = study_;
        rename(present);
        addKnown();
        bench_.restate(rename);
        addKnown();
        study_ = bench_.study();
    }
    const std::string place = utf8(QFileInfo(path).absoluteFilePath());
    // What was chosen here may be read again; what a stranger's study named and nobody allowed may
    // not, whatever it is saved as.
    if (outside_.empty()) {
        allowed_.allow(place, readElsewhere(study_, utf8(directory.absolutePath())));
    }
    if (path != path_) {
        lock_.reset();
    }
    path_ = path;
    savedRevision_ = bench_.revision();
    settled(path);
    emit changed();
    return true;
}

}  // namespace rapporto::app
