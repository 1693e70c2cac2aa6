#pragma once

#include "planar/surface.h"
#include "steady/motion.h"

namespace pinion {

/// What a planar track carries, relative to `referenceFrame`: by its surface, whose corners are then those of a corner
/// pin; without one, by the plane itself. Fails when the plane is not there on the reference frame, naming frames.
Expected<PlateMotion> motionOf(const PlanarTrack& plane, int referenceFrame, const FrameRange& range);

}  // namespace pinion
