#pragma once

#include "app/shell/session.h"

#include <QWidget>

class QLineEdit;
class QListView;
class QStandardItemModel;

namespace rapporto::app {

/// The list of variables: tag, name, label or expression, a tiny histogram, missing values;
/// grouped by use. A variable can be dragged onto the question line.
class Roster : public QWidget {
    Q_OBJECT

  public:
    Roster(Session& session, QWidget* parent);

    void refresh();

  signals:
    void variablePicked(const std::string& name);     ///< Clicked or arrowed to.
    void variableActivated(const std::string& name);  ///< Entered or double-clicked.

  private:
    void rebuild();
    void lightUp();

    Session& session_;
    QLineEdit* search_;
    QListView* list_;
    QStandardItemModel* model_;
    QString shown_;  ///< What the list was built from, to leave it alone when nothing changed.
};

/// The measure as a sample value: 1.5, 3, 0|1, a·b, a<b, d/m, “t”.
[[nodiscard]] QString measureTag(Measure measure);

}  // namespace rapporto::app
