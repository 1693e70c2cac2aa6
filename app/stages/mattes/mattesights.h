#pragma once

#include "canvas/sight.h"
#include "stages/mattes/mattehand.h"

#include <list>

namespace pinion {

/// What the shapes cover, by itself, or the plate cut by it.
class MatteSight : public Sight {
public:
    enum class Kind { alone, cut };
    MatteSight(const Session& session, Kind kind) : session_(session), kind_(kind) {}
    QString name() const override { return kind_ == Kind::alone ? "matte" : "cut out"; }
    PlateWarp warpAt(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int frame) const override;
    QString words(int frame) const override;

private:
    struct Made {
        int frame;
        std::uint64_t key;  ///< of what the mattes cover
        std::shared_ptr<const Rendering> rendering;
    };

    const Session& session_;
    Kind kind_;
    mutable std::list<Made> made_;  ///< the latest used first
};

/// The canvas stands still on what a ride carries, as it was on one frame, so that a shape is drawn on what does not
/// move.
class StillSight : public Sight {
public:
    StillSight(const Session& session, const MatteHand& hand) : session_(session), hand_(hand) {}
    QString name() const override { return "still"; }
    bool isView() const override { return false; }
    PlateWarp warpAt(int frame) const override;
    QString words(int frame) const override;
    bool isTroubled() const override;

    Ride ride;   ///< what it stands still on, and from which frame
    QString on;  ///< in words

private:
    const Session& session_;
    const MatteHand& hand_;
};

}  // namespace pinion
