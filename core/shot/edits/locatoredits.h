#pragma once

#include "shot/shot.h"

#include <vector>

namespace pinion {

/// A locator on the tracks, with the deliverables that hand it on.
Shot withLocatorAdded(const Shot& shot, const std::vector<TrackId>& tracks, int referenceFrame, MotionKind kind);

}  // namespace pinion
