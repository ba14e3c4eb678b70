#pragma once

#include "app/shell/told_parts.h"
#include "core/paths/path_picture.h"
#include "core/study/answer.h"

#include <QWidget>

#include <optional>
#include <set>

namespace rapporto::app {

/// The picture of a trace: nodes that can be moved, arrows that can be drawn. A node dragged onto
/// another draws an arrow between them, onto empty ground it stays there. By keys: Tab goes from
/// node to node and on to the arrows, P then Tab and Return draws one, Delete takes one out, M
/// mutes a node. Computes nothing: what is wanted is emitted.
class PathView : public QWidget, public ToldWidget {
    Q_OBJECT

  public:
    explicit PathView(QWidget* parent = nullptr);

    /// @param places  where nodes stand by hand, of the question as it is now.
    void showAnswer(std::shared_ptr<const Answer> answer, std::map<std::string, NodePlace> places,
                    bool fresh);

    /// What is chosen, −1: nothing.
    [[nodiscard]] int chosenNode() const { return node_; }

    [[nodiscard]] int chosenArrow() const { return arrow_; }

    /// Lights the arrows of a way; empty: those of what is chosen.
    void light(std::set<int> arrows);
    void choose(int node, int arrow);

    /// Where a node or an arrow’s number stands, for tests.
    [[nodiscard]] QPointF placeOf(const std::string& node) const;
    [[nodiscard]] QPointF numberOf(const std::string& from, const std::string& to) const;

    [[nodiscard]] QSize sizeHint() const override { return {700, 360}; }

    [[nodiscard]] std::vector<ToldPart> toldParts() override;

  signals:
    void chosen();
    void pathDrawn(const std::string& from, const std::string& to);
    void pathRemoved(const std::string& from, const std::string& to);
    void nodeRemoved(const std::string& node);
    void nodeMuted(const std::string& node);
    void nodeMoved(const std::string& node, NodePlace place);
    void variableDropped(const std::string& name);

  protected:
    bool event(QEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void leaveEvent(QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void dragEnterEvent(QDragEnterEvent* event) override;
    void dropEvent(QDropEvent* event) override;
    bool focusNextPrevChild(bool next) override;

  private:
    void layOut();
    [[nodiscard]] const Trace* trace() const;
    [[nodiscard]] std::string nameOf(int node) const;
    /// The box under a point, or −1.
    [[nodiscard]] int boxAt(QPointF point) const;
    [[nodiscard]] int arrowAt(QPointF point) const;
    /// Arrows on some way that uses `arrow`, or that begins or ends at `node`.
    [[nodiscard]] std::set<int> waysOf(int node, int arrow) const;
    /// What Tab goes through: nodes, then arrows.
    void step(int by);
    void takeOut();
    void drawCurve(class QPainter& painter, const PathCurve& curve, bool lit, bool dim) const;
    void drawBox(class QPainter& painter, const PathBox& box, bool lit, bool dim) const;

    std::shared_ptr<const Answer> answer_;
    std::map<std::string, NodePlace> places_;
    bool fresh_ = true;
    PathLayout layout_;
    int node_ = -1;
    int arrow_ = -1;
    std::set<int> lit_;
    std::set<int> hovered_;
    int dragged_ = -1;  ///< Box.
    QPointF pressedAt_;
    QPointF dragAt_;
    bool moved_ = false;
    std::optional<int> drawingFrom_;  ///< Node, while a target is chosen by keys.
    int target_ = -1;                 ///< Node.
};

}  // namespace rapporto::app
