#pragma once

#include "base/expected.h"
#include "base/list.h"
#include "camera/result.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>
#include <vector>

namespace pinion {

/// What the artist has decided about the solved world, by reference to tracks; the orientation follows from it and the
/// solve.
struct World {
    struct Measure {
        TrackId from = 0;
        TrackId to = 0;
        double length_m = 1.0;
        bool operator==(const Measure&) const = default;
    };
    /// Two points that lie along the world's x, the first to the left.
    struct Facing {
        TrackId from = 0;
        TrackId to = 0;
        bool operator==(const Facing&) const = default;
    };
    List<TrackId> ground;  ///< three or more points on the floor; empty: not set
    std::optional<TrackId>
        origin;              ///< the point at x = z = 0; on the floor's height when there is one, else at y = 0 itself
    List<Measure> measures;  ///< known lengths, in metres: what they say of the scale is averaged
    std::optional<double> height_m;  ///< of the first camera over the ground: the scale, where no length is known
    std::optional<Facing> facing;
    List<TrackId> wall;    ///< three or more points of a wall, in place of the facing: it stands across z
    double turn_deg = 0;   ///< about up, counterclockwise seen from above, on top of all that
    bool flipped = false;  ///< what would be up is down

    bool isSet() const {
        return !ground.isEmpty() || origin || !measures.isEmpty() || height_m || facing || !wall.isEmpty() ||
               turn_deg != 0 || flipped;
    }
    bool hasScale() const { return !measures.isEmpty() || height_m; }
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
/// the cameras above it; the heading by the facing, or the wall, whose face looks towards z, else the cameras look
/// towards -z; the scale by which all measures together are missed least (least squares of metres), or by the camera's
/// height; the origin as chosen. Fails when a point is not solved, points lie on a line, or a line or wall has no
/// heading, naming what to do.
Expected<Orientation> orient(const World& world, const Solve& solve);

/// How far the ground points lie from the plane, root mean square, in world units.
double groundRms(const World& world, const Solve& solve, const Orientation& orientation);

/// How far a ground point lies above the plane, in world units.
struct GroundResidual {
    TrackId track = 0;
    double height = 0;
};
/// Of all that are solved, the farthest first.
std::vector<GroundResidual> groundResiduals(const World& world, const Solve& solve, const Orientation& orientation);

/// By how much of its length each measure is missed by the scale that all give together; 0 where a point is not solved.
std::vector<double> measureMisses(const World& world, const Solve& solve, const Orientation& orientation);

}  // namespace pinion
