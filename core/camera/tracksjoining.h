#pragma once

#include "track/track.h"

#include <set>
#include <vector>

namespace pinion::solving {

/// Of tracks that keep nearer to each other than `apart_px` on the frames that both have (the mean distance), the one
/// with the fewer frames goes where the other has nearly all of them, or where both stand for one place and its frames
/// can be given to the other. Those in `kept` stay, and so do those placed by hand. Returns what went.
std::vector<TrackId> joinWhatIsOne(std::vector<Track>& tracks, double apart_px, const std::set<TrackId>& kept);

}  // namespace pinion::solving
