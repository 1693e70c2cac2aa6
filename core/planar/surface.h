#pragma once

#include "base/expected.h"
#include "planar/planartrack.h"

#include <optional>
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

/// Where the plane lies on a frame; on its reference frame also before it was tracked.
std::optional<Eigen::Matrix3d> poseOn(const PlanarTrack& plane, int frame);

/// The surface on a frame, in pixels of the plate: on its ties as they were placed, between two of them smoothly from
/// one to the other (in the plane, by monotone cubics: Fritsch and Carlson 1980), beyond them as the nearest tie has
/// it. None where the plane is not, or has no surface. Ties on frames without the plane are passed over.
std::optional<Quad> surfaceAt(const PlanarTrack& plane, int frame);

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
