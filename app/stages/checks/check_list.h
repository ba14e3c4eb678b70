#pragma once

#include "app/shell/told_parts.h"
#include "core/checks/check.h"
#include "core/study/answer.h"

#include <QWidget>

#include <memory>
#include <set>
#include <string>
#include <vector>

namespace rapporto::app {

/// The questions that are asked of an answer, each with a verdict and a line; under it, unfolded on
/// demand, its checks: a mark, a name and one line.
class CheckList : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit CheckList(QWidget* parent = nullptr);

    void showChecks(std::shared_ptr<const Answer> answer, bool fresh, const std::string& selected);

    /// Where the check's row lies, for the mouse; empty when it is folded away or not listed.
    [[nodiscard]] QRect rowOf(const std::string& id) const;

    /// Where the question lies under which the check stands; empty when it is not listed.
    [[nodiscard]] QRect questionOf(const std::string& id) const;

    /// What the question’s checks say together, where the check speaks for them; else empty.
    [[nodiscard]] std::string answerTo(const std::string& id) const;

    /// Where one shows and hides what does not apply; empty when everything does.
    [[nodiscard]] QRect foldPlace() const;

    [[nodiscard]] QSize sizeHint() const override;

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

    [[nodiscard]] QAccessible::Role toldRole() const override { return QAccessible::Tree; }

  signals:
    void checkChosen(const std::string& id);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    /// A question with its checks.
    struct Asked {
        std::string key;  ///< The question; of an equation “pruning · Is the spread even?”.
        GroupVerdict verdict;
        std::vector<const CheckResult*> checks;

        [[nodiscard]] const CheckResult* leading() const;
        [[nodiscard]] bool holds(const std::string& check) const;
    };

    struct Row {
        QRect place;
        const Asked* asked = nullptr;
        const CheckResult* result = nullptr;  ///< Null: the question itself.
        QString words;                        ///< Of a line that is neither.
        bool fold = false;  ///< Shows and hides the questions of which nothing applies.
    };

    /// @param show  the id of a check that is not to be folded away.
    void layOut(const std::string& show = {});
    void unfold(bool open);
    void step(const std::string& id);  ///< Chosen by a key.
    void turn(const Asked& asked);     ///< Folds or unfolds a question, as by a click on it.
    void paintAsked(QPainter& painter, const Row& row) const;
    void paintCheck(QPainter& painter, const Row& row) const;
    [[nodiscard]] const Asked* askedOf(const std::string& check) const;

    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
    std::string selected_;
    std::vector<Asked> asked_;
    std::vector<Row> rows_;
    std::set<std::string> open_;  ///< Questions whose checks are shown.
    bool unfolded_ = false;
};

}  // namespace rapporto::app
