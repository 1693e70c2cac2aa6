#pragma once

#include "matte/matte.h"
#include "session/session.h"
#include "stages/tracks/spots.h"

#include <filesystem>
#include <vector>

namespace pinion {

// The jobs of the Tracks stage; each runs in the foreground and merges its result into the shot of that moment.

void startScatter(Session& session);
void startTrack(Session& session, const std::vector<TrackId>& tracks, Direction direction, int steps);
/// Only what is bad of them, from the good frames around it.
void startTrackBad(Session& session, const std::vector<TrackId>& tracks);
/// Tracks longer by what the solved camera knows, and the camera adjusted to them: one edit.
void startLengthen(Session& session);
void startSearch(Session& session, Spots& spots, const Polygon& area);
void importTracks(Session& session, const std::filesystem::path& path);

}  // namespace pinion
