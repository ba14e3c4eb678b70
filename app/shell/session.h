#pragma once

#include "app/shell/later.h"
#include "core/data/row_set.h"
#include "core/describe/odd/oddity.h"
#include "core/describe/summary.h"
#include "core/describe/thumbnail.h"
#include "core/report/writers/writer.h"
#include "core/study/allowed.h"
#include "core/study/journal.h"
#include "core/study/study_lock.h"
#include "core/study/workbench.h"

#include <QObject>
#include <QString>
#include <QThreadPool>

#include <map>
#include <set>

namespace rapporto {
struct WayToAsk;
}

namespace rapporto::app {

/// Small facts for the roster, computed beside the frame.
struct VariableFacts {
    Thumbnail thumbnail;
    std::size_t missing = 0;
    std::vector<std::string> levels;  ///< Values of groups, at most 60.
    std::vector<std::string>
        reading;  ///< In words; sorting a million rows is no work for a window.
};

using FactsByName = std::map<std::string, VariableFacts>;

/// A table that is being looked at before it is taken in.
struct PendingImport {
    QString path;  ///< Empty: pasted text.
    QByteArray pasted;
    ReaderOptions options;                 ///< As chosen; what is open is guessed.
    std::shared_ptr<const Import> import;  ///< Null while it is read.
    std::optional<Refusal> refusal;
    Source source;                                 ///< Checksum and columns of the file, once read.
    std::vector<VariableEntry> entries;            ///< What was said of its columns here.
    std::optional<Result<SummaryMatrix>> summary;  ///< Where the table reads as a summary matrix.
    Job job;
};

/// The window's one way to the core: the present study, what is computed from it, what is
/// selected, and the files. Emits values' changes; holds no statistics.
class Session : public QObject {
    Q_OBJECT

  public:
    /// @param journals  the folder of journals; empty: none is kept.
    explicit Session(QObject* parent = nullptr, const QString& journals = {});
    ~Session() override;

    [[nodiscard]] Workbench& bench() { return bench_; }

    [[nodiscard]] const Study& study() const { return study_; }

    /// Rows or moments are at hand.
    [[nodiscard]] bool hasTable() const {
        return sources_.table != nullptr || sources_.moments != nullptr;
    }

    /// The source is a summary matrix: there are no rows.
    [[nodiscard]] bool isSummary() const { return sources_.moments != nullptr; }

    /// The rows stay with a database server, or on the disk.
    [[nodiscard]] bool isLeft() const { return sources_.left != nullptr; }

    /// Takes a summary in: as a new study, or in place of the present one’s.
    void useMoments(const SummaryMatrix& moments);

    /// Puts the steps of the shape; tables of files they read must have been read (`addTable`).
    bool setShape(const std::vector<ShapeStep>& steps, const QString& did);
    void addTable(const Source& source, std::shared_ptr<const Table> table);

    [[nodiscard]] std::shared_ptr<const Frame> frame() const { return frame_; }

    [[nodiscard]] const FactsByName& facts() const { return facts_; }

    /// What looks odd about the table, worked out beside the window.
    [[nodiscard]] const std::vector<Oddity>& oddities() const { return oddities_; }

    /// They are of the present table; else they are being looked for.
    [[nodiscard]] bool odditiesAreFresh() const { return frame_ == odditiesFrame_; }

    /// Why it could not be looked over, where it could not.
    [[nodiscard]] const std::optional<Refusal>& oddTrouble() const { return oddTrouble_; }

    /// Those that nobody has said anything about.
    [[nodiscard]] std::size_t openOddities() const;

    /// What a variable looks like in words; a line of waiting until it is known.
    [[nodiscard]] std::vector<std::string> readingOf(const std::string& variable) const;

    /// The question the stages speak of; null when the study has none.
    [[nodiscard]] const Question* question() const;
    [[nodiscard]] std::shared_ptr<const Answer> answer() const;
    [[nodiscard]] std::shared_ptr<const Answer> answer(const std::string& id) const;
    [[nodiscard]] bool isFresh() const;
    /// Fresh, and no check of it is awaited.
    [[nodiscard]] bool isComplete() const;
    void setQuestion(const std::string& id);

    /// Applies an edit; a refusal is emitted and nothing changes.
    bool edit(const Change& change, const QString& did);

    /// Replaces the present question, or adds it when it has no id and turns to it.
    bool putQuestion(const Question& question, const QString& did);
    void startQuestion();
    void startCorrelate(const std::vector<std::string>& variables);
    void startTrace(const TraceSpec& spec);
    void startVariant();

    /// Puts a question the way that was proposed, with the grouping that it needs.
    void takeWay(const WayToAsk& way);

    /// Adds a remedy's variant and turns to it.
    void tryRemedy(const Remedy& remedy);
    void undo();
    void redo();

    [[nodiscard]] const RowSet& selectedRows() const { return selected_; }  ///< From 0.

    void selectRows(RowSet rows);
    void setSelectedAside(const QString& reason);

    /// Puts what stands on the desk of Explore; part of the study, no step of its trail.
    void setDesk(const Desk& desk);

    [[nodiscard]] const std::string& variable() const { return variable_; }

    void setVariable(const std::string& name);

    [[nodiscard]] const std::optional<PendingImport>& pending() const { return pending_; }

    void beginImport(const QString& path);
    void beginPaste(const QByteArray& text);
    void changeImportOptions(const ReaderOptions& options);

    /// Looks at the tables of a database server, the first one’s first rows before it is taken in.
    void beginServer();
    void noteImport(const std::vector<VariableEntry>& entries);
    void acceptImport();
    void cancelImport();

    /// Opens a study that was made here and has no file yet: its source is read.
    void openMade(Study study);

    /// Offers the study with rows at hand, to be opened beside: with a sample of those that stay
    /// with a database, with all of those that stay on the disk.
    void askForSample();

    void openStudy(const QString& path);

    /// Files outside the study's folder that it wants read and that nobody has allowed yet.
    [[nodiscard]] const std::vector<std::string>& outside() const { return outside_; }

    /// Lets the study read them, now and whenever it is opened again.
    void allowOutside();

    /// Goes on where a journal that was left behind ends; undo goes back through its steps.
    void takeUp(const LeftWork& left);

    /// What differs between the study’s files and what it was made with; null: nothing does.
    [[nodiscard]] const std::shared_ptr<const SourceReview>& review() const { return review_; }

    /// Names `path` in place of a file that the study cannot find or shall no longer use, and
    /// looks at what differs. Nothing is computed from it before `acceptReview`.
    void relink(const std::string& file, const QString& path);
    void acceptReview();
    void openDemo();

    /// Saves the study there and makes that its place. A file that is not as this session last saw
    /// it is left alone, and `conflicted` tells of it, unless `over`.
    ///
    /// @return whether it is saved.
    bool saveStudy(const QString& path, bool over = false);

    /// The file is the demo that ships with the application.
    [[nodiscard]] static bool isDemo(const QString& path);

    /// There is something that would be lost: steps since the study was read or saved, or rows that
    /// no file holds. The one rule for every question about leaving it.
    [[nodiscard]] bool isWorthKeeping() const;

    /// Steps of the trail since the study was read or saved, oldest first.
    [[nodiscard]] std::vector<TrailStep> unsavedSteps() const;

    /// The journal stays in its folder, out of the way, when what it holds makes room for another
    /// state of the study.
    void setJournalAside() { journal_.layAside(); }

    /// Refuses a place for a report or a table that is the study or one of its sources.
    [[nodiscard]] Result<void> mayWriteTo(const QString& path) const;

    /// What puts a file where that is allowed; it may run beside the window.
    [[nodiscard]] PutFile putFile() const;

    /// What writes a folder from which the study can be computed again; it holds all that it needs
    /// and may run beside the window. All answers must be there.
    [[nodiscard]] std::function<Result<void>()> replicationTo(const QString& folder,
                                                              bool withData) const;

    /// What is not saved shall go: its journal is dropped.
    void letGo();

    /// Stops all work and sees to it that every step is on the disk; nothing is to be asked any
    /// more.
    void finish();

    /// No work of it is under way: it may go without anybody waiting.
    [[nodiscard]] bool isIdle() const { return pool_.activeThreadCount() == 0 && bench_.isIdle(); }

    /// Waits for the work in the pool; for tests and pictures.
    void waitForPool() { pool_.waitForDone(); }

    /// Who else has the study open, when somebody has.
    [[nodiscard]] const LockHolder* otherHolder() const {
        return lock_ && lock_->other() ? &*lock_->other() : nullptr;
    }

    /// Why steps are not being kept; nothing when they are.
    [[nodiscard]] std::optional<Refusal> journalTrouble() const { return journal_.trouble(); }

    [[nodiscard]] const QString& path() const { return path_; }

    [[nodiscard]] bool isSaved() const { return savedRevision_ == bench_.revision(); }

    /// Why the study's source could not be used, when it could not; the study is kept.
    [[nodiscard]] const std::optional<Refusal>& sourceRefusal() const { return sourceRefusal_; }

    [[nodiscard]] bool isLoading() const { return loading_; }

  signals:
    void changed();           ///< The study or something computed from it.
    void selectionChanged();  ///< Rows or the variable in focus.
    void questionChanged();   ///< Another question is in focus.
    void importChanged();
    /// What looks odd about this variable is to be mended in the data; empty: no one in particular.
    void oddityAsked(const std::string& variable);
    void refused(const QString& why);
    void told(const QString& what);
    /// `path` holds another study than was read or saved here; nothing was written.
    void conflicted(const QString& path);
    void outsideAsked();  ///< See outside().
    /// A study that was made of this one wants a window of its own.
    void besideAsked(const rapporto::Study& study);

  private:
    void readPending();
    void readStudySources();
    [[nodiscard]] bool mayLook();
    void stepped(const QString& did);
    void settled(const QString& path);
    [[nodiscard]] bool savePasted(const QString& beside);
    void land(Study study, Sources sources);
    void startReview(const Study& proposed);
    void take();
    void takeFacts();
    void lookForOddities();

    Workbench bench_;
    Study study_;
    Sources sources_;
    std::shared_ptr<const SourceReview> review_;
    std::shared_ptr<const Frame> frame_;
    FactsByName facts_;
    std::shared_ptr<const Frame> factsFrame_;  ///< Whose facts they are.
    std::vector<Oddity> oddities_;
    std::optional<Refusal> oddTrouble_;
    std::shared_ptr<const Frame> odditiesFrame_;
    Job oddLook_;
    std::string questionId_;
    std::string variable_;
    RowSet selected_;
    std::optional<PendingImport> pending_;
    std::optional<Refusal> sourceRefusal_;
    QString path_;
    QByteArray pastedSource_;  ///< Pasted rows that have no file yet.
    Journal journal_;
    std::unique_ptr<StudyLock> lock_;
    std::string onDisk_;            ///< SHA-256 of the study's file as it was read or saved here.
    std::size_t settledSteps_ = 0;  ///< Of the trail then.
    std::string settled_;           ///< The study as text when it was read, saved or taken in.
    AllowedFiles allowed_;
    std::vector<std::string> outside_;
    std::optional<LeftWork> takenUp_;  ///< While its sources are read.
    Job load_;                         ///< Reading of a study's files, or the review of them.
    std::size_t savedRevision_ = 0;
    bool loading_ = false;
    std::size_t loadNumber_ = 0;
    std::size_t importNumber_ = 0;  ///< Its own: an import begun while a study loads drops neither.
    std::atomic<bool> taking_ = false;
    QThreadPool pool_;  ///< Last: its work must end before anything else does.
};

}  // namespace rapporto::app
