#pragma once

#include "canvas/overlay.h"
#include "stages/mattes/mattehand.h"

#include <QPolygonF>

#include <vector>

namespace pinion {

/// The shapes on the plate: their outlines, and their surfaces as dimly as each says. The held one has a thicker line
/// and is hatched, one way where it takes out, the other where it alone admits; so are all that alone admit.
class MattesOverlay : public Overlay {
public:
    MattesOverlay(const Session& session, const MatteHand& hand) : session_(session), hand_(hand) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    void paintShape(QPainter& painter, const PlateView& view, std::size_t matte) const;

    const Session& session_;
    const MatteHand& hand_;
};

}  // namespace pinion
