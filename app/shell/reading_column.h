#pragma once

#include "app/shell/stage.h"

#include <QScrollArea>

class QGridLayout;

namespace rapporto::app {

/// Plain words about what is selected, a sheet of its facts, and what can be done next.
class ReadingColumn : public QScrollArea {
    Q_OBJECT

  public:
    explicit ReadingColumn(QWidget* parent = nullptr);

    void show(const ReadingContent& content);

  private:
    void addField(const SheetField& field, QGridLayout* grid, int row);

    QString signature_;
    ReadingContent content_;
};

}  // namespace rapporto::app
