#pragma once

#include "camera/result.h"
#include "track/track.h"

#include <set>
#include <vector>

namespace pinion {

// Choosing among the solved points by where they lie in space.

/// The tracks whose points lie farther than `times` the median from the cameras that see them, and those that have a
/// direction alone. A point's distance is that from the nearest camera.
std::vector<TrackId> beyond(const Solve& solve, double times);

/// `tracks`, and those whose points lie near one of them: within 1.5 times the distance at which points usually have
/// their fourth neighbour.
std::vector<TrackId> grown(const Solve& solve, const std::set<TrackId>& tracks);

}  // namespace pinion
