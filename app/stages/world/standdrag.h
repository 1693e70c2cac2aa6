#pragma once

#include "world/eye.h"
#include "world/standin.h"

#include <QString>

#include <optional>

namespace pinion {

/// What a stand-in is gripped by: its floor, an axis of the world, the ring about its upright, its size.
enum class StandGrip { none, floor, alongX, alongY, alongZ, turn, size };

/// "Move", "Raise", for the name of the edit.
QString verbOf(StandGrip grip);

/// What a drag makes of a stance, from the ray it began on to the one it is at: the same on the plate and in the 3D
/// view. With `steps` in tenths of the unit, or 15 degrees.
class StandDrag {
public:
    StandDrag() = default;
    /// `level`: the height over which it is moved, and at which it is turned.
    StandDrag(StandGrip grip, const Stance& start, const WorldRay& from, double level);

    StandGrip grip() const { return grip_; }
    const Stance& start() const { return start_; }
    /// None where the ray does not tell: above the horizon, or along the axis. Sizes go by `sized`.
    std::optional<Stance> at(const WorldRay& ray, bool steps) const;
    Stance sized(double factor, bool steps) const;

private:
    std::optional<Eigen::Vector3d> onFloor(const WorldRay& ray) const;
    std::optional<double> alongAxis(const WorldRay& ray) const;

    StandGrip grip_ = StandGrip::none;
    Stance start_;
    double level_ = 0;
    std::optional<Eigen::Vector3d> from_;  ///< on the level, where it was gripped
    std::optional<double> begun_;          ///< along the axis, where it was gripped
};

}  // namespace pinion
