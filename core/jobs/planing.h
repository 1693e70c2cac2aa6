#pragma once

#include "base/progress.h"
#include "planar/planartracking.h"
#include "plate/framecache.h"
#include "shot/shot.h"

#include <vector>

namespace pinion {

/// The named planes from the frame `from` in one direction, or both; merge with `withPlanesTracked`. `steps` frames at
/// most, 0 for all of the range. With `anew`, from the surface as the tie on `from` has it (`begunAnew`).
Expected<PlanarResult> runPlanes(const Shot& shot, FrameCache& frames, const std::vector<PlaneId>& planes, int from,
                                 Direction direction, int steps = 0, bool anew = false,
                                 const Progress& progress = Progress{}, const PlaneListener& live = {});

}  // namespace pinion
