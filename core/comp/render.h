#pragma once

#include "base/progress.h"
#include "comp/warp.h"
#include "plate/framecache.h"
#include "steady/steady.h"

#include <filesystem>
#include <vector>

namespace pinion {

struct RenderOptions {
    ResampleFilter filter = ResampleFilter::bicubic;
    EdgeMode edges = EdgeMode::empty;
    /// Of a video: 0 is lossless, 18 hardly visible.
    int quality = 16;
};

struct RenderReport {
    int frames = 0;            ///< written
    std::vector<int> missing;  ///< unreadable in the source, left out of a sequence, repeated in a video
    bool stopped = false;      ///< a sequence keeps what was written, a video leaves nothing
};

/// Reads each frame of the plate through its map and writes it to `pattern` (see `FrameWriter`), at the depth of the
/// source and in one resampling. The next frame is read and the last one written while one is warped.
Expected<RenderReport> renderFrames(FrameCache& frames, const std::vector<FrameMap>& maps,
                                    const std::filesystem::path& pattern, const RenderOptions& options = {},
                                    const Progress& progress = Progress{});

}  // namespace pinion
