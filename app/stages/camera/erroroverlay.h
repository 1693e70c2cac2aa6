#pragma once

#include "canvas/overlay.h"
#include "stages/camera/camerastage.h"

namespace pinion {

/// What the solve makes of tracks: a line from a selected one to where the camera sees its point, a cross on what would
/// be set aside.
class ErrorOverlay : public Overlay {
public:
    ErrorOverlay(const Session& session, const CameraStage& stage) : session_(session), stage_(stage) {}
    Layer layer() const override { return Layer::notes; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    const Session& session_;
    const CameraStage& stage_;
};

}  // namespace pinion
