#pragma once

#include "base/list.h"
#include "track/track.h"

#include <cstdint>
#include <memory>
#include <string>

namespace pinion {

struct ObjectSolve;  // camera/object.h

using ObjectId = std::int64_t;

/// A rigid thing of the shot that moves by itself: the tracks on it, what tells its size, and its pose once it is
/// solved against the camera. Its tracks never count for the camera.
struct ShotObject {
    ObjectId id = 0;
    std::string name;
    List<TrackId> tracks;
    List<TrackId> onGround;                    ///< those where it touches the ground, which tells its size
    std::shared_ptr<const ObjectSolve> solve;  ///< in the world of the shot's solve, in its units
    std::uint64_t solvedKey = 0;               ///< `objectKey` of the shot that it was solved in
};

}  // namespace pinion
