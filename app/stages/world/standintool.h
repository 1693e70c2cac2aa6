#pragma once

#include "canvas/canvas.h"
#include "canvas/tool.h"
#include "stages/world/standdrag.h"
#include "stages/world/standinhand.h"

#include <functional>

namespace pinion {

/// Stand-ins on the plate: a click holds one, a drag moves it over its floor, its grips raise, turn and size it.
/// Shift goes in steps.
class StandTool : public Tool {
public:
    StandTool(Session& session, StandInHand& hand, const Canvas& canvas)
        : session_(session), hand_(hand), canvas_(canvas) {}
    QString name() const override { return "stand"; }
    Qt::CursorShape cursor() const override { return wanted ? Qt::CrossCursor : Qt::ArrowCursor; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void nudge(const Eigen::Vector2d& by) override;
    bool remove() override;
    bool removes() const override { return hand_.held() != nullptr; }
    void putDown() override;

    /// What the next click puts into the scene.
    std::optional<StandIn> wanted;
    /// Puts it there, its place the world's under the click.
    std::function<void(const StandIn&)> placed;

private:
    /// The solved point under the click, or the ground, or what stands there.
    std::optional<Eigen::Vector3d> groundUnder(const CanvasEvent& event) const;

    Session& session_;
    StandInHand& hand_;
    const Canvas& canvas_;
    StandDrag drag_;
    QPointF at_;  ///< where it was gripped
};

}  // namespace pinion
