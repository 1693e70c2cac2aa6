#pragma once

#include "matte/matte.h"
#include "steady/motion.h"
#include "track/tracking.h"

#include <vector>

namespace pinion {

/// The mattes with their rides taken in: one that rides gets a key on every frame of `range` on which its tracks are
/// there, where they carry it: one by its place, two and three with turn and size, four by perspective, more by the
/// homography nearest to them. On its reference frame it lies as it was drawn. Fails, naming shape and track, when a
/// track is not there at all or not on the reference frame, and where a perspective takes the shape to its horizon.
Expected<std::vector<Matte>> ridden(std::vector<Matte> mattes, const std::vector<Track>& tracks,
                                    const FrameRange& range);

}  // namespace pinion
