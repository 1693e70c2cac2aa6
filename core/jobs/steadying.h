#pragma once

#include "base/progress.h"
#include "comp/render.h"
#include "plate/framecache.h"
#include "shot/stages/steadystage.h"

#include <filesystem>

namespace pinion {

/// The steadied and shaken frames to `pattern`; `plan` is the shot's `picturePlan`.
Expected<RenderReport> runRender(const Shot& shot, const PicturePlan& plan, FrameCache& frames,
                                 const std::filesystem::path& pattern, const Progress& progress = Progress{});

/// What was changed elsewhere on those frames, read from `made`, put back over the plate.
Expected<PutBackReport> runPutBack(const Shot& shot, const PicturePlan& plan, FrameCache& frames, FrameCache& made,
                                   const std::filesystem::path& pattern, const Progress& progress = Progress{},
                                   const PutBackSource& source = {});

/// The shake in the shot's tracks: all of it, or what is faster than `above_hz`.
Expected<ShakeProfile> runTakeShake(const Shot& shot, double above_hz);

}  // namespace pinion
