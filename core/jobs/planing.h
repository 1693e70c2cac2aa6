#pragma once

#include "base/progress.h"
#include "comp/bend.h"
#include "comp/render.h"
#include "planar/planartracking.h"
#include "planar/surface.h"
#include "plate/framecache.h"
#include "shot/shot.h"

#include <vector>

namespace pinion {

/// The named planes from the frame `from` in one direction, or both; merge with `withPlanesTracked`. `steps` frames at
/// most, 0 for all of the range. With `anew`, from the surface as the tie on `from` has it (`begunAnew`).
Expected<PlanarResult> runPlanes(const Shot& shot, FrameCache& frames, const std::vector<PlaneId>& planes, int from,
                                 Direction direction, int steps = 0, bool anew = false,
                                 const Progress& progress = Progress{}, const PlaneListener& live = {});

/// Where the pixels of a cylinder's surface, unrolled to `width` x `height`, are found on the plate; nothing where it
/// turns away.
LookUp unrolled(const SurfaceSheet& sheet, int width, int height, int samples = 1);

/// The plane's surface squared up (a cylinder's unrolled), `width` x `height`, on the frames of the range where it is,
/// in one resampling.
Expected<RenderReport> runSquared(const Shot& shot, FrameCache& frames, PlaneId plane,
                                  const std::filesystem::path& pattern, int width, int height,
                                  const Progress& progress = Progress{});

/// What was changed elsewhere on the surface that `runSquared` rendered, read from `made`, put back over the plate; of
/// any size that it was rendered at. The rest is the plate to the last bit.
Expected<PutBackReport> runPutBackSurface(const Shot& shot, FrameCache& frames, FrameCache& made, PlaneId plane,
                                          const std::filesystem::path& pattern, const Progress& progress = Progress{});

}  // namespace pinion
