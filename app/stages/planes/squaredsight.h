#pragma once

#include "canvas/sight.h"
#include "stages/planes/planehand.h"

#include <list>

namespace pinion {

/// The held plane's surface squared up: it stands still and upright, whatever the camera does. Or what differs of it
/// from the reference frame: the proof of a plane.
class SquaredSight : public Sight {
public:
    SquaredSight(const Session& session, const PlaneHand& hand, bool difference)
        : session_(session), hand_(hand), difference_(difference) {}
    QString name() const override { return difference_ ? "surface difference" : "surface"; }
    PlateWarp warpAt(int frame) const override;
    std::shared_ptr<const Rendering> rendering(int frame) const override;
    QString words(int frame) const override;
    bool isTroubled() const override { return !trouble(session_.player.frame()).isEmpty(); }
    std::optional<QRectF> extent() const override;
    bool fills() const override { return true; }

private:
    QString trouble(int frame) const;
    /// Where the surface is shown, in pixels of the plate's size.
    std::optional<QRectF> shownRect() const;
    std::shared_ptr<const Rendering> made(const PlanarTrack& plane, int frame) const;

    const Session& session_;
    const PlaneHand& hand_;
    bool difference_;
    struct Made {
        int frame;
        PlaneId plane;
        List<PlanarTrack> planes;
        std::shared_ptr<const Rendering> rendering;
    };
    mutable std::list<Made> made_;
};

}  // namespace pinion
