#pragma once

#include "canvas/overlay.h"
#include "stages/lens/lensstage.h"

namespace pinion {

/// The lines, each with how far from straight it is; those of other frames dimmed.
class LinesOverlay : public Overlay {
public:
    LinesOverlay(Session& session, const LensStage& stage) : session_(session), stage_(stage) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    Session& session_;
    const LensStage& stage_;
};

/// A grid that is straight where the lens is taken out: bent on the plate as filmed.
class LensGridOverlay : public Overlay {
public:
    LensGridOverlay(Session& session, const LensStage& stage) : session_(session), stage_(stage) {}
    Layer layer() const override { return Layer::ground; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    Session& session_;
    const LensStage& stage_;
};

}  // namespace pinion
