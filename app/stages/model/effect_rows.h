#pragma once

#include "app/shell/told_parts.h"
#include "core/study/answer.h"

#include <QWidget>

namespace rapporto::app {

enum class EffectScale { Raw, Standardised, Percent, Ratio, Outcome };

/// One row a coefficient: name, lens on a common axis, estimate, standard error, t, p. Groups
/// stand folded out under their variable with the base named. Emits the row that was chosen.
class EffectRows : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit EffectRows(QWidget* parent = nullptr);

    void showAnswer(std::shared_ptr<const Answer> answer, bool fresh, EffectScale scale);
    void showSelected(int coefficient);

    [[nodiscard]] int selected() const { return selected_; }

    /// Text of a row’s cells, as drawn: name, estimate, error, t, p.
    [[nodiscard]] QStringList cells(int coefficient) const;

    [[nodiscard]] QSize sizeHint() const override;

    [[nodiscard]] double rowTop(int coefficient) const;

    /// Top of the heading of a group’s levels, or −1.
    [[nodiscard]] double headingTop(const std::string& term) const;

    /// The levels of this term are folded away under their heading.
    [[nodiscard]] bool isFolded(const std::string& term) const;

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void coefficientChosen(int coefficient);

  protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;

  private:
    struct Row {
        int coefficient = -1;  ///< −1: a group’s heading.
        QString name;
        QString detail;
        bool indented = false;
        int term = -1;  ///< Of a heading: which term folds under it; −2: an equation’s.
    };

    void layoutRows();
    [[nodiscard]] QString equationName(const std::string& equation) const;
    [[nodiscard]] static bool hasRatio(const Coefficient& c);
    void toggle(int term);
    [[nodiscard]] Coefficient scaled(const Coefficient& c) const;
    void drawRow(QPainter& painter, const Row& row, double top,
                 const std::function<double(double)>& at, const QRectF& axis) const;

    std::shared_ptr<const Answer> answer_;
    bool fresh_ = true;
    EffectScale scale_ = EffectScale::Raw;
    int selected_ = -1;
    std::vector<Row> rows_;
    std::map<std::string, bool> folded_;  ///< As chosen; else groups of many levels are.
};

}  // namespace rapporto::app
