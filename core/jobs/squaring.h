#pragma once

#include "base/progress.h"
#include "comp/bend.h"
#include "comp/render.h"
#include "motion/carrier.h"
#include "plate/framecache.h"

namespace pinion {

/// Where the pixels of a surface that is curved or bent by the lens, unrolled to `width` x `height`, are found on the
/// plate; nothing where it turns away.
LookUp unrolled(const Sheet& sheet, int width, int height, int samples = 1);

/// The surface that something carries squared up (a cylinder's unrolled), `width` x `height`, on the frames of the
/// carrier's range where it is seen, in one resampling.
Expected<RenderReport> runSquared(const Carrier& carrier, FrameCache& frames, const std::filesystem::path& pattern,
                                  int width, int height, const Progress& progress = Progress{});

/// What was changed elsewhere on the surface that `runSquared` rendered, read from `made`, put back over the plate; of
/// any size that it was rendered at. The rest is the plate to the last bit.
Expected<PutBackReport> runPutBackSurface(const Carrier& carrier, FrameCache& frames, FrameCache& made,
                                          const std::filesystem::path& pattern, const Progress& progress = Progress{});

}  // namespace pinion
