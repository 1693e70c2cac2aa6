#pragma once

#include "base/expected.h"
#include "motion/carrier.h"
#include "planar/planartrack.h"

#include <optional>
#include <span>
#include <string>

namespace pinion {

// The surface that a planar track carries: four corners, not the outline it is tracked by.

/// The homography that takes the corners of one quad to those of another; none when three of either lie on a line.
std::optional<Eigen::Matrix3d> quadFromQuad(const Quad& to, const Quad& from);

/// What is wrong with four corners as a surface, in words: two edges cross, a corner lies inside the others or on their
/// line, or there is no area. Empty when nothing is.
std::string troubleOf(const Quad& corners);

/// The corners clockwise on the screen from the one nearest to the top left; of those that were clicked crosswise too.
/// Fails with `troubleOf`.
Expected<Quad> inOrder(const Quad& corners);

/// The ends of a cylinder's two sides, clicked as (end, end) of the one and of the other, as `PlanarTrack::sides` has
/// them: which is left and which end is the top does not matter.
Quad sidesInOrder(std::span<const Eigen::Vector2d> ends);

/// Where the surface lies on a frame; on its reference frame also before it was tracked.
std::optional<SurfacePose> surfacePoseOn(const PlanarTrack& plane, int frame);

/// Places of a track's surface and where they are seen on one frame. Of a plane they are undistorted pixels of the
/// reference frame; of a cylinder (angle, along) as `Cylinder` has them.
class SurfaceMap {
public:
    /// None where the plane is not.
    static std::optional<SurfaceMap> of(const PlanarTrack& plane, int frame);
    static SurfaceMap of(const PlanarTrack& plane, const SurfacePose& pose);
    /// The place that is seen there; what passes by a cylinder is taken to its contour.
    Eigen::Vector2d onSurface(const Eigen::Vector2d& plate) const;
    Eigen::Vector2d onPlate(const Eigen::Vector2d& surface) const;
    /// Whether the camera sees that side of it.
    bool faces(const Eigen::Vector2d& surface) const;
    /// Of a cylinder: the angle that faces the camera, degrees; 0 of a plane.
    double turn_deg() const;

private:
    SurfaceGeometry reference_, here_;
    SurfacePose pose_;
};

/// Where a place of the track's reference frame is while it lies as `pose` says, and back; on the plate.
Eigen::Vector2d placedBy(const PlanarTrack& plane, const SurfacePose& pose, const Eigen::Vector2d& reference);
Eigen::Vector2d referencePlace(const PlanarTrack& plane, const SurfacePose& pose, const Eigen::Vector2d& plate);

/// How far a cylinder has turned before the camera since its reference frame, in degrees, positive when its front moves
/// to the right; none where it is not tracked, or is a plane.
std::optional<double> turnAt(const PlanarTrack& plane, int frame);

/// The surface on a frame, in pixels of the plate: on its ties as they were placed, between two of them smoothly from
/// one to the other (in the plane, by monotone cubics: Fritsch and Carlson 1980), beyond them as the nearest tie has
/// it. None where the plane is not, has no surface, or a cylinder shows its
/// other side. Ties on frames without the plane are passed over.
std::optional<Quad> surfaceAt(const PlanarTrack& plane, int frame);

/// The surface as a sheet on one frame: where its places, (0, 0) its top left corner and (1, 1) its bottom right one,
/// are on the plate. A cylinder's is unrolled.
class SurfaceSheet : public Sheet {
public:
    /// None where the plane is not, or has no surface.
    static std::optional<SurfaceSheet> of(const PlanarTrack& plane, int frame);
    /// Of a flat surface whose corners are seen there through a lens; none where they enclose nothing.
    static std::optional<SurfaceSheet> of(const Quad& corners, const PlaneLens& lens);
    Eigen::Vector2d onPlate(const Eigen::Vector2d& sheet) const override;
    std::optional<Eigen::Vector2d> onSheet(const Eigen::Vector2d& plate) const override;
    bool faces(const Eigen::Vector2d& sheet) const override;
    /// Of a cylinder.
    bool isCurved() const override { return curved_; }
    bool isFlat() const override { return !curved_ && !lens_; }
    /// Of a cylinder's, unrolled.
    double widthToHeight() const;

private:
    Eigen::Vector2d onSurface(const Eigen::Vector2d& sheet) const;
    SurfaceMap map_;  ///< of a cylinder
    Quad corners_;    ///< of a cylinder: of the surface's places
    bool curved_ = false;
    PlaneLens lens_;                                      ///< of a plane, where it bends; else null
    Eigen::Matrix3d flat_ = Eigen::Matrix3d::Identity();  ///< of a plane: the undistorted picture from the sheet
};

/// The plate of a frame from the surface as a unit square, (0, 0) its top left corner.
std::optional<Eigen::Matrix3d> plateFromSurface(const PlanarTrack& plane, int frame);

/// The surface squared up from where it is largest: its sides as long as its edges are on the frame that shows the most
/// of it (of 64 along the track, about), in pixels, both at least 16.
struct SquaredSize {
    int width = 0, height = 0;
    int frame = 0;
};
std::optional<SquaredSize> squaredSize(const PlanarTrack& plane);

/// The track as a correction on `frame` has it, ready to be tracked on from there: what lies between the tie before and
/// `frame` is bent towards it, its sample is marked as begun anew, and this and all later ties are taken in.
PlanarTrack begunAnew(const PlanarTrack& plane, int frame);

}  // namespace pinion
