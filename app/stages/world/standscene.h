#pragma once

#include "scene/scenetool.h"
#include "stages/world/standdrag.h"
#include "stages/world/standinhand.h"

#include <array>
#include <functional>

namespace pinion {

/// Stand-ins in the 3D view: a click holds one, a drag moves it over its floor; the held one's grips move it along an
/// axis, over the floor, turn it about its upright and size it. Shift goes in steps.
class StandScene : public SceneTool {
public:
    StandScene(Session& session, StandInHand& hand) : session_(session), hand_(hand) {}
    bool press(const SceneEvent& event) override;
    void drag(const SceneEvent& event) override;
    void release() override;
    void paint(QPainter& painter, const SceneSight& sight) const override;
    std::optional<Shot> draft() const override;
    std::vector<Eigen::Vector3d> held() const override;

    bool shown = false;            ///< while its card is open
    std::optional<World> instead;  ///< of the shot's, while that is looked at

    /// Where the held one's grips are on the screen; none where that is out of sight, or an axis points at the eye.
    struct Grips {
        std::optional<QPointF> foot, turn, size;
        std::array<std::optional<QPointF>, 3> axes;
        double reach = 1;  ///< of the axes, in the world
    };
    std::optional<Grips> grips(const SceneSight& sight) const;

private:
    std::optional<Stance> stance() const;

    Session& session_;
    StandInHand& hand_;
    StandDrag drag_;
    QPointF at_;    ///< where it was gripped
    QPointF foot_;  ///< on the screen, of what is sized
};

}  // namespace pinion
