#pragma once

#include "app/shell/stage.h"

namespace rapporto::app {

/// What Model shows of questions of one kind, where that is not an explained outcome.
class KindPages : public QWidget {
    Q_OBJECT

  public:
    KindPages(Session& session, QWidget* parent) : QWidget(parent), session_(session) {}

    /// @param answer  neither null nor refused.
    virtual void showAnswer(std::shared_ptr<const Answer> answer, bool fresh) = 0;

    [[nodiscard]] virtual ReadingContent reading() const = 0;

    /// The stage’s live state under its name in the route.
    [[nodiscard]] virtual QString state(const Answer& answer) const = 0;

    /// Ways out of a refusal that only this kind knows.
    [[nodiscard]] virtual std::vector<ActionCard> whenRefused(const Answer& /*answer*/) const {
        return {};
    }

    /// What to do while nothing is asked yet, as rich text.
    [[nodiscard]] virtual QString whenEmpty() const = 0;

  signals:
    void readingChanged();
    /// The pictures of two variables are asked for.
    void pairAsked(const std::string& first, const std::string& second);

  protected:
    Session& session_;
};

/// The pages of a kind of question.
struct KindPagesMaker {
    const char* kind;
    KindPages* (*make)(Session& session, QWidget* parent);
};

/// All of them; the only place to add one.
[[nodiscard]] const std::vector<KindPagesMaker>& kindPages();

}  // namespace rapporto::app
