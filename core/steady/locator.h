#pragma once

#include "steady/motion.h"

#include <string>

namespace pinion {

/// Carries the motion of its tracks for whatever hangs on it.
struct Locator {
    std::string name;
    List<TrackId> tracks;
    int referenceFrame = 0;
    MotionKind kind = MotionKind::position;
    std::string plane{};  ///< its name: the planar track that carries it, in place of tracks
};

}  // namespace pinion
