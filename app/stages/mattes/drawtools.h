#pragma once

#include "canvas/canvas.h"
#include "stages/mattes/mattehand.h"

#include <optional>
#include <vector>

namespace pinion {

/// Draws a shape point by point: a click makes a corner, a drag a smooth point with its tangents. The first point
/// again, Enter or a double click close it.
class ShapeTool : public Tool {
public:
    ShapeTool(MatteHand& hand, Canvas& canvas) : hand_(hand), canvas_(canvas) {}
    QString name() const override { return "shape"; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void doubleClick(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void putDown() override { drawn_ = {}; }
    bool remove() override;
    bool removes() const override { return isDrawing(); }
    bool finish() override;
    bool finishes() const override { return isDrawing(); }
    void paint(QPainter& painter, const PlateView& view) override;

    void close();
    bool isDrawing() const { return !drawn_.polygon.empty(); }

private:
    bool onFirst(const QPointF& at) const;

    MatteHand& hand_;
    Canvas& canvas_;
    Matte::Key drawn_;  ///< on the plate
    bool drags_ = false;
    QPointF at_;
};

/// A shape by one drag: an ellipse or a rectangle between two corners (Shift: as wide as high, Alt: from its middle),
/// or a stroke that becomes a smooth shape.
class DragShapeTool : public Tool {
public:
    enum class Kind { ellipse, rectangle, stroke };
    DragShapeTool(MatteHand& hand, Canvas& canvas, Kind kind) : hand_(hand), canvas_(canvas), kind_(kind) {}
    QString name() const override;
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void putDown() override { stroke_.clear(); }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    Matte::Key shape() const;

    MatteHand& hand_;
    Canvas& canvas_;
    Kind kind_;
    std::vector<Eigen::Vector2d> stroke_;  ///< on the plate
    Qt::KeyboardModifiers modifiers_;
};

}  // namespace pinion
