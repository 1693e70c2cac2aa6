#pragma once

#include "canvas/canvas.h"
#include "stages/planes/planehand.h"

#include <optional>

namespace pinion {

/// Draws what a plane is tracked by: corner by corner, or a rectangle by one drag; a new plane, more of the held one,
/// or a part of it that does not count. Corners of the held one are dragged.
class PlaneOutlineTool : public Tool {
public:
    enum class Kind { plane, more, takenOut };
    PlaneOutlineTool(Session& session, PlaneHand& hand, Canvas& canvas, Kind kind)
        : session_(session), hand_(hand), canvas_(canvas), kind_(kind) {}
    QString name() const override;
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void doubleClick(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    bool finish() override;
    bool finishes() const override { return !drawn_.empty(); }
    bool remove() override;
    bool removes() const override { return !drawn_.empty(); }
    void leave() override { hovered_ = false; }
    void putDown() override { drawn_.clear(); }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    struct Grip {
        std::size_t outline, corner;
    };
    std::optional<Grip> gripNear(const QPointF& at) const;
    bool onFirst(const QPointF& at) const;
    void close();

    Session& session_;
    PlaneHand& hand_;
    Canvas& canvas_;
    Kind kind_;
    Polygon drawn_;
    QPointF at_, from_;
    bool hovered_ = false;
    std::optional<Eigen::Vector2d> corner_;  ///< of the rectangle, opposite the first
    std::optional<Grip> grip_;
    std::optional<Eigen::Vector2d> moved_;
};

/// Places the four corners of the held plane's surface by clicks, drags them under a loupe, or all of it from inside;
/// what is dragged on another frame than it was placed on is a correction: a tie.
class SurfaceTool : public Tool {
public:
    SurfaceTool(Session& session, PlaneHand& hand, Canvas& canvas) : session_(session), hand_(hand), canvas_(canvas) {}
    QString name() const override { return "surface"; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override { hovered_ = false; }
    void nudge(const Eigen::Vector2d& by) override;
    bool remove() override;
    bool removes() const override { return !placed_.empty() || hand_.held() != nullptr; }
    void putDown() override { placed_.clear(); }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    std::optional<std::size_t> cornerNear(const Quad& corners, const QPointF& at) const;

    Session& session_;
    PlaneHand& hand_;
    Canvas& canvas_;
    Polygon placed_;  ///< of a surface that is begun
    QPointF at_;
    bool hovered_ = false;
    std::optional<Quad> start_;  ///< the surface when the drag began
    Eigen::Vector2d from_{0, 0};
    std::optional<std::size_t> corner_;  ///< that is dragged, or was last; none: all of it
};

}  // namespace pinion
