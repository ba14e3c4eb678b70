#pragma once

#include "app/shell/stage.h"

class QComboBox;
class QLabel;
class QPushButton;
class QTableView;

namespace rapporto::app {

/// One page of the Data stage. Shows what the session holds; holds nothing but view state.
class DataPage : public QWidget {
    Q_OBJECT

  public:
    DataPage(Session& session, QWidget* parent) : QWidget(parent), session_(session) {}

    /// Takes over everything that may have changed.
    virtual void refresh() = 0;

    /// What this page says beside the variable in focus; empty: nothing.
    [[nodiscard]] virtual ReadingContent reading() const { return {}; }

  signals:
    void readingChanged();

  protected:
    Session& session_;
};

/// A word of a sentence, in the page's italics.
[[nodiscard]] QLabel* sentenceWord(const QString& word, QWidget* parent);

/// A small soft line of explanation.
[[nodiscard]] QLabel* softLine(const QString& words, QWidget* parent);

/// The look that all grids share.
void dressTable(QTableView* view);

/// “This page” among others, as a checkable word.
[[nodiscard]] QPushButton* pageWord(const QString& name, QWidget* parent);

/// A word that does something at once.
[[nodiscard]] QPushButton* actionWord(const QString& word, QWidget* parent);

/// A box with the variables that pass; an empty first entry stands for none where `none` says so.
void fillVariables(QComboBox* box, const Frame& frame, const std::string& chosen,
                   const QString& none, const std::function<bool(const Variable&)>& fits);

}  // namespace rapporto::app
