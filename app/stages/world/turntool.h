#pragma once

#include "canvas/tool.h"
#include "stages/world/standinhand.h"

#include <functional>

namespace pinion {

/// Turns the world about up: the ground that is gripped goes with the cursor. Shift goes in steps of 5 degrees.
class TurnTool : public Tool {
public:
    TurnTool(Session& session, StandInHand& hand) : session_(session), hand_(hand) {}
    QString name() const override { return "turn world"; }
    Qt::CursorShape cursor() const override { return Qt::OpenHandCursor; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void putDown() override;
    void paint(QPainter& painter, const PlateView& view) override;

    std::function<void(const std::optional<World>&)> showInstead;  ///< while it is dragged
    std::function<void(const World&)> turned;

private:
    /// About the world's origin, of the ground under the cursor.
    std::optional<double> headingUnder(const CanvasEvent& event) const;

    Session& session_;
    StandInHand& hand_;
    std::optional<WorldEye> eye_;  ///< of the world as it was gripped
    double grip_deg_ = 0;
    std::optional<World> draft_;
    QPointF at_;
};

}  // namespace pinion
