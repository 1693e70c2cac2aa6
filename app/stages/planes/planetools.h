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
    void putDown() override;
    void paint(QPainter& painter, const PlateView& view) override;

private:
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

/// Draws the two sides of a cylinder along its contours, on the plane's reference frame: two clicks each, moved to the
/// edges they lie near. Ends of sides that are there are dragged under a loupe.
class SidesTool : public Tool {
public:
    SidesTool(Session& session, PlaneHand& hand, Canvas& canvas) : session_(session), hand_(hand), canvas_(canvas) {}
    QString name() const override { return "cylinder sides"; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override { hovered_ = false; }
    bool remove() override;
    bool removes() const override { return !clicked_.empty(); }
    void putDown() override { clicked_.clear(); }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    bool mayDraw();
    void set(const Quad& sides, const QString& edit);

    Session& session_;
    PlaneHand& hand_;
    Canvas& canvas_;
    Polygon clicked_;
    QPointF at_;
    bool hovered_ = false;
    std::optional<std::size_t> end_;  ///< of the sides, that is dragged
    std::optional<Eigen::Vector2d> moved_;
};

}  // namespace pinion
