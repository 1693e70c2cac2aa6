#pragma once

#include "base/progress.h"
#include "exchange/formats.h"
#include "plate/framecache.h"
#include "shot/shot.h"

#include <array>
#include <cstdint>
#include <vector>

namespace pinion {

/// Red, green and blue as shown.
using PointColour = std::array<std::uint8_t, 3>;

/// The colour that the plate has under each point of the camera's cloud: the mean of three by three pixels on the frame
/// in the middle of its track. A mid grey where that frame cannot be read, or no track has the point's name.
std::vector<PointColour> pointColours(const CameraFile& file, const Shot& shot, FrameCache& frames,
                                      const Progress& progress = Progress{});

}  // namespace pinion
