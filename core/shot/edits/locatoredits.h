#pragma once

#include "shot/shot.h"

#include <vector>

namespace pinion {

/// A locator on the tracks, with the deliverables that hand it on.
Shot withLocatorAdded(const Shot& shot, const std::vector<TrackId>& tracks, int referenceFrame, MotionKind kind);

/// A locator on a planar track, with a corner pin of its surface (or transforms, while it has none) among the
/// deliverables.
Shot withPlaneHandedOn(const Shot& shot, PlaneId plane, int referenceFrame);

}  // namespace pinion
