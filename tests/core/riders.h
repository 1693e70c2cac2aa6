#pragma once

// Rides by the names of tracks, and shots of nothing but what carries.

#include "shot/carriers/carriers.h"

namespace pinion::test {

/// As a file names them; `tied` gives them ids.
inline Ride rideByNames(std::vector<std::string> names, int referenceFrame = 0) {
    return {.on = "tracks", .ids = {}, .referenceFrame = referenceFrame, .names = std::move(names)};
}

/// On a shot's tracks.
inline Ride rideOnNamed(const Shot& shot, std::vector<std::string> names, int referenceFrame = 0) {
    return tied(shot, rideByNames(std::move(names), referenceFrame));
}

inline Shot shotOf(const List<Track>& tracks, const FrameRange& range, const List<PlanarTrack>& planes = {},
                   const List<Locator>& locators = {}) {
    Shot shot;
    shot.plate.range = shot.plate.frames = range;
    shot.tracks = tracks;
    shot.planes = planes;
    shot.locators = locators;
    return shot;
}

}  // namespace pinion::test
