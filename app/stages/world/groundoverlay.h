#pragma once

#include "canvas/overlay.h"
#include "session/session.h"

namespace pinion {

/// The ground as a grid over the plate, bent as the lens bends it.
class GroundOverlay : public Overlay {
public:
    explicit GroundOverlay(const Session& session) : session_(session) {}
    Layer layer() const override { return Layer::ground; }
    void paint(QPainter& painter, const PlateView& view) override;

    bool isShown() const { return shown_; }
    void show(bool shown) { shown_ = shown; }
    /// Of another world than the shot's, while that is looked at.
    void showInstead(const std::optional<World>& world) { instead_ = world; }

private:
    const Session& session_;
    bool shown_ = true;
    std::optional<World> instead_;
};

}  // namespace pinion
