#pragma once

#include "canvas/tool.h"
#include "stages/world/standinhand.h"

#include <vector>

namespace pinion {

/// The sun's direction from a shadow in the plate: clicks on the foot of something upright, its top, and the tip of its
/// shadow on the ground.
class SunTool : public Tool {
public:
    SunTool(Session& session, StandInHand& hand) : session_(session), hand_(hand) {}
    QString name() const override { return "sun"; }
    void press(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void putDown() override { clicks_.clear(); }
    void paint(QPainter& painter, const PlateView& view) override;
    /// What is clicked next, in words.
    QString next() const;

private:
    Session& session_;
    StandInHand& hand_;
    std::vector<Eigen::Vector2d> clicks_;
    std::optional<Eigen::Vector2d> at_;
};

}  // namespace pinion
