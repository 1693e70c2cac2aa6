#pragma once

#include "canvas/overlay.h"
#include "stages/camera/solvelooker.h"

namespace pinion {

/// How far tracks lie from where the camera sees their points: of this frame an arrow each, of the whole shot the mean
/// in each part of the picture.
class ErrorArrows : public Overlay {
public:
    ErrorArrows(const Session& session, const SolveLooker& looker) : session_(session), looker_(looker) {}
    Layer layer() const override { return Layer::notes; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    const Session& session_;
    const SolveLooker& looker_;
};

}  // namespace pinion
