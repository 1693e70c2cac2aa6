#pragma once

#include "canvas/overlay.h"
#include "stages/planes/planehand.h"

#include <QImage>

namespace pinion {

/// Planes as they lie on the plate: what they are tracked by, their surfaces with grid or test picture.
class PlanesOverlay : public Overlay {
public:
    PlanesOverlay(const Session& session, const PlaneHand& hand) : session_(session), hand_(hand) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

    bool shown = false;                 ///< while its card is open
    std::function<QString()> looked{};  ///< the view that is shown

private:
    void paintOutlines(QPainter& painter, const PlateView& view, const PlanarTrack& plane) const;
    void paintContours(QPainter& painter, const PlateView& view, const PlanarTrack& plane,
                       const SurfacePose& pose) const;
    void paintSurface(QPainter& painter, const PlateView& view, const PlanarTrack& plane) const;
    void paintTestPicture(QPainter& painter, const PlateView& view, const PlanarTrack& plane) const;

    const Session& session_;
    const PlaneHand& hand_;
    mutable QImage picture_;  ///< the test picture, as drawn last
    mutable double pictureRatio_ = 0;
};

}  // namespace pinion
