#pragma once

#include "base/expected.h"
#include "base/geometry.h"
#include "planar/planelens.h"

#include <Eigen/Core>
#include <array>
#include <optional>
#include <span>

namespace pinion {

/// How a surface moved since its reference frame. Of a plane: `matrix` is the homography of undistorted pixels, `shift`
/// is zero. Of a cylinder: the turn (a rotation) and the shift of camera coordinates (x right, y down, z ahead), the
/// cylinder's radius being one.
struct SurfacePose {
    Eigen::Matrix3d matrix = Eigen::Matrix3d::Identity();
    Eigen::Vector3d shift{0, 0, 0};
    SurfacePose inverse() const;
};
/// First `first`, then `then`.
SurfacePose operator*(const SurfacePose& then, const SurfacePose& first);

/// A round upright body of radius one, in camera coordinates. Places on it are (angle, along): radians from `front` to
/// the right as seen from `front`, and along `axis` from `middle`.
struct Cylinder {
    Eigen::Vector3d axis{0, 1, 0};     ///< its direction, down the picture
    Eigen::Vector3d middle{0, 0, 10};  ///< on the axis
    Eigen::Vector3d front{0, 0, -1};   ///< at right angles to the axis

    /// From the two sides that are seen, the left from sides[0] to sides[3] and the right from sides[1] to sides[2], on
    /// the plate: planes through the camera that touch it, so the focal length of `lens` has to be about right. Fails
    /// when they cross, or run the wrong way, with what to do.
    static Expected<Cylinder> fromSides(const Lens& lens, const Quad& sides);

    Eigen::Vector3d normal(double angle) const;
    Eigen::Vector3d at(const Eigen::Vector2d& place) const;
    /// Of a point on it, the angle from -pi to pi.
    Eigen::Vector2d placeOf(const Eigen::Vector3d& point) const;
    /// Where the ray from the camera first meets it; `missed` when it passes by: then where it passes nearest.
    Eigen::Vector3d met(const Eigen::Vector3d& ray, bool* missed = nullptr) const;
    /// The angle that faces the camera.
    double facing() const;
    /// How far to each side of that it can be seen, in radians.
    double visible() const;
    Cylinder moved(const SurfacePose& pose) const;
};

/// What carries places of one frame to another: the lens, and the cylinder as the first of the two frames sees it; a
/// plane has none.
struct SurfaceGeometry {
    PlaneLens lens;  ///< never null with a cylinder
    std::optional<Cylinder> cylinder;

    /// A place of the plate; none where it goes through the horizon, or turns away from the camera.
    std::optional<Eigen::Vector2d> carried(const SurfacePose& pose, const Eigen::Vector2d& place) const;
    /// The homography that does the same about a place: of a cylinder, of the plane that touches it there.
    Eigen::Matrix3d flat(const SurfacePose& pose, const Eigen::Vector2d& about) const;
    SurfaceGeometry moved(const SurfacePose& pose) const;
};

/// The pose near `start` by which points of a cylinder are seen at `targets` (undistorted pixels): least squares, held
/// to `start` where they do not tell.
SurfacePose bodySeenAt(const Lens& lens, std::span<const Eigen::Vector3d> points,
                       std::span<const Eigen::Vector2d> targets, const SurfacePose& start);

/// The direction in which the camera sees a place of the plate, z = 1, and the place that lies in that direction.
Eigen::Vector3d rayOf(const Lens& lens, const Eigen::Vector2d& plate);
Eigen::Vector2d seenAt(const Lens& lens, const Eigen::Vector3d& point);
/// From directions (z = 1) to undistorted pixels.
Eigen::Matrix3d pixelsFromRays(const Lens& lens);

}  // namespace pinion
