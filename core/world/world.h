#pragma once

#include "base/expected.h"
#include "base/list.h"
#include "camera/result.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>

namespace pinion {

/// What the artist has decided about the solved world, by reference to tracks; the orientation follows from it and the
/// solve.
struct World {
    struct Measure {
        TrackId from = 0;
        TrackId to = 0;
        double length_m = 1.0;
    };
    List<TrackId> ground;  ///< three or more points on the floor; empty: not set
    std::optional<TrackId>
        origin;  ///< the point at x = z = 0; on the floor's height when there is one, else at y = 0 itself
    std::optional<Measure> measure;  ///< a known length, in metres

    bool isSet() const { return !ground.isEmpty() || origin || measure; }
};

/// worldPoint = scale * rotation * solvePoint + translation.
struct Orientation {
    double scale = 1.0;
    Eigen::Matrix3d rotation = Eigen::Matrix3d::Identity();
    Eigen::Vector3d translation{0, 0, 0};

    Eigen::Vector3d apply(const Eigen::Vector3d& point) const { return scale * (rotation * point) + translation; }
    Eigen::Vector3d undo(const Eigen::Vector3d& world) const {
        return rotation.transpose() * (world - translation) / scale;
    }
    Eigen::Isometry3d apply(const Eigen::Isometry3d& worldFromCamera) const;
};

/// The world of `solve` after the decisions in `world`: the least-squares plane through the ground points at y = 0 with
/// the cameras above it, the cameras looking towards -z, the origin and the scale as chosen. Fails when a point is not
/// solved or the ground points lie on a line, naming what to do.
Expected<Orientation> orient(const World& world, const Solve& solve);

/// How far the ground points lie from the plane, root mean square, in world units.
double groundRms(const World& world, const Solve& solve, const Orientation& orientation);

}  // namespace pinion
