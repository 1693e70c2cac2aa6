#pragma once

#include "base/progress.h"
#include "matte/matte.h"
#include "plate/framecache.h"
#include "track/tracking.h"

#include <filesystem>
#include <span>

namespace pinion {

/// A matte by itself (one channel), or as the plate's alpha: with the colours multiplied by it, or left as they are.
enum class MatteAs { alone, premultiplied, straight };

struct MatteReport {
    int frames = 0;
    bool stopped = false;
    double coverage = 0;  ///< the mean over all pixels
};

/// Writes what the mattes cover on each frame, at the plate's size, as a sequence. `mattes` without rides (`ridden`).
/// Fails for a video, and for colours that are multiplied in PNG, whose standard has straight alpha only.
Expected<MatteReport> renderMattes(FrameCache& frames, const FrameRange& range, std::span<const Matte> mattes,
                                   const std::filesystem::path& pattern, MatteAs as,
                                   const Progress& progress = Progress{});

}  // namespace pinion
