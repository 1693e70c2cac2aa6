#pragma once

#include "track/tracking.h"
#include "camera/result.h"
#include "planar/planartrack.h"

namespace pinion {

/// A planar track by the solved camera, in place of one by its texture: the plane through the solved points that lie
/// inside the outline on its reference frame (Fischler and Bolles 1981, then least squares), seen from each solved
/// frame of the range on which enough of the outline is in front of the camera and in the frame. Fails with what is
/// missing: a solve of that frame, four points on one plane.
Expected<PlanarTrack> planeFromScene(const PlanarTrack& drawn, const Solve& solve, const FrameRange& range);

}  // namespace pinion
