#pragma once

#include "camera/framerows.h"
#include "world/world.h"

#include <Eigen/Core>
#include <optional>
#include <vector>

namespace pinion {

struct WorldRay {
    Eigen::Vector3d from{0, 0, 0};
    Eigen::Vector3d along{0, 0, -1};  ///< a unit vector
};

/// The solved camera on one frame, in the oriented world: how places of the world and of the plate go together, through
/// the lens and by the row that sees them.
class WorldEye {
public:
    /// None of a frame that is not solved. `part`: so much later, up to half a frame earlier or later.
    static std::optional<WorldEye> of(const Solve& solve, const Orientation& orientation, int frame, double part = 0);

    const Lens& lens() const { return middle_.lens; }
    bool isRolling() const { return rows_.isRolling(); }
    bool readsColumns() const { return rows_.readsColumns(); }
    Eigen::Vector3d place() const { return worldOf(middle_.pose.centre()); }
    /// The unit vector that the camera looks along.
    Eigen::Vector3d forward() const;
    /// How far before the camera it lies, along its axis; negative behind it.
    double depthOf(const Eigen::Vector3d& world) const;
    /// Pixels of the plate; none out of view of the lens, or nearer than a twentieth of the world's unit.
    std::optional<Eigen::Vector2d> plateFromWorld(const Eigen::Vector3d& world) const;
    /// None where no ray of this lens comes.
    std::optional<WorldRay> rayThrough(const Eigen::Vector2d& plate) const;

    /// The same for a place of the image plane (`planeFromPlate`) that is read with a row: -0.5 to 0.5, as `rowOf`.
    struct Row {
        Eigen::Matrix3d worldFromPlane;  ///< takes (x, y, 1) to a direction
        Eigen::Vector3d from;
        WorldRay rayThrough(const Eigen::Vector2d& plane) const {
            return {from, (worldFromPlane * plane.homogeneous()).normalized()};
        }
    };
    Row rowAt(double row) const;

private:
    WorldEye(const Orientation& orientation, FrameRows rows)
        : orientation_(orientation), rows_(std::move(rows)), middle_(rows_.at(0.0)) {}
    Eigen::Vector3d worldOf(const Eigen::Vector3d& place) const { return orientation_.apply(place); }

    Orientation orientation_;
    FrameRows rows_;
    FrameRows::View middle_;
};

}  // namespace pinion
