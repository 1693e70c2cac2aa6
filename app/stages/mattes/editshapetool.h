#pragma once

#include "canvas/canvas.h"
#include "stages/mattes/mattehand.h"

#include <optional>
#include <vector>

namespace pinion {

/// Changes shapes: points and tangents are dragged, several points moved, turned and scaled together by the frame about
/// them. A press takes what is nearest of the held shape, else another shape.
class EditShapeTool : public Tool {
public:
    EditShapeTool(Session& session, MatteHand& hand, Canvas& canvas)
        : session_(session), hand_(hand), canvas_(canvas) {}
    QString name() const override { return "edit shapes"; }
    Qt::CursorShape cursor() const override { return cursor_; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void doubleClick(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override { hovered_ = {}; }
    void nudge(const Eigen::Vector2d& by) override;
    void putDown() override;
    bool remove() override;
    bool removes() const override { return hand_.matte().has_value(); }
    void paint(QPainter& painter, const PlateView& view) override;

    void setSmooth(bool smooth);

private:
    enum class Part { none, point, in, out, edge, inside, corner, turn };
    struct Grip {
        Part part = Part::none;
        std::size_t matte = 0;
        std::size_t index = 0;  ///< of a point, of the edge that leaves one, of a corner of the frame
        double t = 0;           ///< along an edge
        bool operator==(const Grip&) const = default;
    };
    /// The frame about several points, on the screen.
    struct Handles {
        QPolygonF corners;  ///< left top, right top, right bottom, left bottom
        QPointF turn;
    };
    Grip gripAt(const QPointF& at) const;
    Grip gripOn(std::size_t matte, const QPointF& at) const;
    std::optional<Handles> handles(const Matte::Key& shape) const;
    void pressPoint(const CanvasEvent& event);
    Matte::Key dragged(const CanvasEvent& event) const;
    Matte::Key framed(const Eigen::Vector2d& at, Qt::KeyboardModifiers modifiers) const;
    void removePoints();
    void paintTangents(QPainter& painter, const PlateView& view, const Matte::Key& shape) const;

    Session& session_;
    MatteHand& hand_;
    Canvas& canvas_;
    Grip grip_, hovered_;
    Matte::Key start_;  ///< the held shape on the plate, when the drag began
    std::optional<Eigen::Vector2d> from_;
    QPointF pressed_, at_;
    bool bands_ = false, moves_ = false, feathers_ = false;
    Qt::CursorShape cursor_ = Qt::ArrowCursor;
};

}  // namespace pinion
