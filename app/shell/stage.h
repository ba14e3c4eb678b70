#pragma once

#include "app/shell/session.h"

#include <QWidget>

#include <functional>
#include <vector>

namespace rapporto::app {

/// A button in the reading column: what it does and why.
struct ActionCard {
    QString label;
    QString why;
    std::function<void()> act;
};

/// A line of a sheet in the reading column: a fact, or a value that can be edited.
struct SheetField {
    QString name;
    QString value;
    QStringList choices;                      ///< Not empty: one of these.
    std::function<void(const QString&)> set;  ///< Null: a fact.
    QString placeholder;
};

/// What the reading column shows.
struct ReadingContent {
    QString title;
    std::string help;        ///< Topic of help about it; empty: the stage’s chapter of the guide.
    QStringList paragraphs;  ///< Rich text.
    std::vector<SheetField> fields;
    bool actionsFirst = false;  ///< They stand above the sheet.
    QString actionsTitle;
    std::vector<ActionCard> actions;
};

/// One of the six stages. Shows what the session holds; a change of view state is announced by
/// readingChanged().
class Stage : public QWidget {
    Q_OBJECT

  public:
    Stage(Session& session, QWidget* parent) : QWidget(parent), session_(session) {}

    /// Takes over everything that may have changed.
    virtual void refresh() = 0;

    [[nodiscard]] virtual ReadingContent reading() const = 0;

    /// The stage's live state under its name in the route.
    [[nodiscard]] virtual QString state() const = 0;

    /// The chapter of the guide about it, as help knows it.
    [[nodiscard]] virtual std::string chapter() const = 0;

    /// This stage works on the question line's question.
    [[nodiscard]] virtual bool showsQuestion() const { return false; }

    /// What is in front here, as items of the report; none: the question in focus.
    [[nodiscard]] virtual std::vector<ReportItem> forReport() const { return {}; }

  signals:
    void readingChanged();

  protected:
    Session& session_;
};

}  // namespace rapporto::app
