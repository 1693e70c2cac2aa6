#pragma once

#include "planar/planartrack.h"
#include "track/tracking.h"

#include <functional>
#include <span>
#include <vector>

namespace pinion {

struct PlanarResult {
    std::vector<PlanarTrack> planes;
    bool stopped = false;              ///< the artist stopped it; the planes hold what was done until then
    std::vector<int> unreadable;       ///< frames left out because they are missing or damaged
    std::vector<MotionModel> motions;  ///< that each was tracked with
};

/// Where the planes in motion are on the frame just done, in the order they were given; for showing results as they
/// come. Called from the job's thread.
using PlaneListener = std::function<void(int frame, const std::vector<const PlaneSample*>& samples)>;

/// Follows each plane from the frame `from` (where it has a sample, or its reference frame) in the asked direction, to
/// the end of `range`; samples from there to the end of the range are replaced, the others stay. Planes are followed
/// together, each on a thread. Nothing counts that `mattes` (none rides) take out, on the reference frame pixel by
/// pixel, on others by small blocks. A cylinder that was not tracked yet is tracked twice, its sides (with `freeFocal`
/// the focal length too) fitted to what the first time found. Fails with what is wrong with an outline, naming the
/// plane.
Expected<PlanarResult> trackPlanes(FrameCache& frames, const std::vector<PlanarTrack>& planes, int from,
                                   const FrameRange& range, Direction direction, const Progress& progress = Progress{},
                                   const PlaneListener& live = {}, std::span<const Matte> mattes = {},
                                   bool freeFocal = false);

}  // namespace pinion
