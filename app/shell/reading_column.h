#pragma once

#include "app/shell/stage.h"

#include <QScrollArea>

class QGridLayout;
class QHBoxLayout;
class QLabel;
class QVBoxLayout;

namespace rapporto::app {

/// Plain words about what is selected, a sheet of its facts, and what can be done next: below each
/// other, or in two columns where there is room for it.
class ReadingColumn : public QScrollArea {
    Q_OBJECT

  public:
    explicit ReadingColumn(QWidget* parent = nullptr);

    void show(const ReadingContent& content);

  protected:
    void resizeEvent(QResizeEvent* event) override;

  private:
    [[nodiscard]] static QVBoxLayout* addColumn(QHBoxLayout* columns);
    void addActions(QVBoxLayout* layout);
    void fitWords(QWidget& page);
    void addField(const SheetField& field, QGridLayout* grid, int row);

    /// Takes new words into the page that is there, where they are as many: numbers move, widgets
    /// stay.
    bool takeWords(const ReadingContent& content);
    [[nodiscard]] static QString shapeOf(const ReadingContent& content);

    bool inTwo_ = false;
    int columns_ = 1;
    QString signature_;
    QString shape_;
    std::vector<QLabel*> paragraphs_;
    ReadingContent content_;
};

}  // namespace rapporto::app
