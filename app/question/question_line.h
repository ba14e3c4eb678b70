#pragma once

#include "app/shell/finder.h"
#include "app/shell/session.h"

#include <QWidget>

class QPushButton;

namespace rapporto::app {

class Finder;
class FlowLayout;

/// The sentence of the question: slots with chips. Edits go to the session as whole questions.
class QuestionLine : public QWidget {
    Q_OBJECT

  public:
    QuestionLine(Session& session, Finder* finder, QWidget* parent);

    void refresh();

    /// Puts an expression among the terms, or into the outcome when that is empty.
    void addTerm(const std::string& expression);

    /// Opens the finder of the first empty slot: the outcome, else a further term.
    void openNext();

  signals:
    /// What is filled in is to be looked at, or said.
    void missingAsked();

  protected:
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    [[nodiscard]] FinderEntry variableEntry(const Variable& v, std::function<void()> act) const;
    void addTerms(const QStringList& expressions);
    bool openByKey(QPushButton* button, const QKeyEvent& key);
    QPushButton* addChip(FlowLayout* line, const QString& shown, const QString& name);
    QPushButton* addSlot(FlowLayout* line, const QString& shown, const QString& name);
    void addWord(FlowLayout* line, const QString& word, bool script);
    void rebuild();

    /// The sentence of a kind of question: how it is built, what a further variable becomes in it,
    /// and which blank comes next.
    struct Sentence {
        const char* kind;
        void (QuestionLine::*build)(const Question*);
        void (QuestionLine::*add)(const std::string&);
        void (QuestionLine::*next)();
    };

    /// The sentence of a question; without one, of what would be explained.
    [[nodiscard]] static const Sentence& sentenceOf(const Question* question);
    void buildExplain(const Question* question);
    void addExplainTerm(const std::string& expression);
    void nextInExplain();
    void buildCorrelate(const Question* question);
    void addCorrelated(const std::string& expression);
    void nextInCorrelate();

    // In question_trace.cpp.
    void buildTrace(const Question* question);
    void addTraced(const std::string& expression);
    void nextInTrace();
    /// A further variable for a slot of a trace: “cause”, “reached”, “between”, “beside”, “held”.
    void pickTraced(QWidget* by, const QString& role);
    void pickIntervals(QWidget* by);
    void changeTraced(QWidget* by, const QString& role, const QString& name);
    void editTrace(const std::function<void(TraceSpec&)>& how, const QString& did);
    void putTraced(const QString& role, const std::string& expression);
    /// A key on a chip of a trace; false: it means nothing there.
    bool traceKey(const QString& chip, QEvent* event);
    /// A variable dropped on a slot or chip of a trace; false: it is none.
    bool dropOnTrace(const QString& slot, const std::string& expression);
    void pickCorrelated(QWidget* by, bool held);
    void pickCoefficient(QWidget* by);
    void removeCorrelated(std::size_t index, bool held);
    void pickOutcome(QWidget* by);
    void pickTerm(QWidget* by);
    void pickMethod(QWidget* by);
    void pickExposure(QWidget* by);

    // In question_missing.cpp.
    void buildMissing(const Question& question);
    void pickMissing(QWidget* by);
    /// What tells zeros or missing outcomes apart, as chips after the terms.
    void buildZeroPart(const Question& question);
    void pickZeroTerm(QWidget* by);
    [[nodiscard]] std::vector<FinderEntry> groupMethods() const;
    /// The law that random effects of the outcome are of by its measure, as the study has it.
    [[nodiscard]] QString lawFor(const Question& question) const;
    void pickErrors(QWidget* by);
    void pickRule(QWidget* by);
    void pickWeights(QWidget* by);
    void pickQuestion(QWidget* by);
    void changeTerm(QWidget* by, std::size_t index);
    /// Chips after “holding fixed”, “where” and “is moved by”, and the words before them.
    void buildCauses(const Question& question);
    void buildProposals(const Question& question);
    void pickFixed(QWidget* by);
    void pickMoved(QWidget* by, bool instrument);
    void changeMoved(QWidget* by, std::size_t index, bool instrument);
    /// Takes the chip of that name (“fixed:0”, “moved:1”, “mover:2”) out of the sentence.
    void removeListed(const QString& chip);
    [[nodiscard]] bool hasTerm(std::size_t index) const;
    void muteTerm(std::size_t index);
    void removeTerm(std::size_t index);
    void moveTerm(std::size_t index, int by);
    void actOnThisQuestion();
    void openFinder(QWidget* by, const QString& prompt, std::vector<struct FinderEntry> entries,
                    std::function<void(const QString&)> useTyped, const QString& start = {});
    [[nodiscard]] QString whyNot(const QString& expression) const;

    Session& session_;
    Finder* finder_;
    FlowLayout* first_;
    FlowLayout* second_;
    QWidget* firstRow_;
    QWidget* secondRow_;
    QString signature_;
    std::shared_ptr<const Frame> proposedFor_;  ///< The table that the proposals were made for.
};

}  // namespace rapporto::app
