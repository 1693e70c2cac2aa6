#pragma once

#include "canvas/overlay.h"
#include "canvas/plateview.h"
#include "render/scenerender.h"
#include "stages/world/standinhand.h"

#include <functional>

namespace pinion {

/// Where the held stand-in is gripped, on the screen; none where that is out of sight.
struct StandInGrips {
    std::optional<QPointF> foot, rise, turn, size;
};
StandInGrips gripsOf(const StandIn& standIn, const Stance& stance, const WorldEye& eye, const PlateView& view);

using ScreenOfWorld = std::function<std::optional<QPointF>(const Eigen::Vector3d&)>;
/// The locators of a scene with their names, and the one under a place.
void drawLocators(QPainter& painter, const SceneLook& look, int frame, const ScreenOfWorld& screenOf);
std::optional<ScenePick> locatorNear(const SceneLook& look, int frame, const QPointF& at,
                                     const ScreenOfWorld& screenOf);

/// The held stand-in's box, bent as the lens bends it, a ring on the floor by which it is turned, and its grips; while
/// it is dragged the numbers beside it.
class StandInOverlay : public Overlay {
public:
    StandInOverlay(const Session& session, const StandInHand& hand) : session_(session), hand_(hand) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

    bool shown = false;  ///< while its card is open
    std::function<QString()> looked;

private:
    const Session& session_;
    const StandInHand& hand_;
};

}  // namespace pinion
