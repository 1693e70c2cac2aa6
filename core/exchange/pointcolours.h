#pragma once

#include "base/framerange.h"
#include "base/progress.h"
#include "exchange/formats.h"
#include "plate/framecache.h"
#include "shot/shot.h"

#include <array>
#include <cstdint>
#include <unordered_map>
#include <vector>

namespace pinion {

/// Red, green and blue as shown.
using PointColour = std::array<std::uint8_t, 3>;

/// The colour that the plate has under each track: the mean of three by three pixels, on one of at most `most` frames
/// spread over the range. A track that is seen on none of them, or on none that can be read, has none.
std::unordered_map<TrackId, PointColour> trackColours(const List<Track>& tracks, const FrameRange& range,
                                                      FrameCache& frames, int most = 48,
                                                      const Progress& progress = Progress{});

/// The same under each point of the camera's cloud, by the names of its tracks; a mid grey where there is none.
std::vector<PointColour> pointColours(const CameraFile& file, const Shot& shot, FrameCache& frames,
                                      const Progress& progress = Progress{});

}  // namespace pinion
