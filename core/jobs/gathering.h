#pragma once

#include "base/progress.h"
#include "camera/result.h"
#include "plate/framecache.h"
#include "world/standin.h"
#include "world/world.h"

#include <filesystem>

namespace pinion {

struct GatherOptions {
    double pixelsPerUnit = 0;  ///< of the world; 0: as many as the frame has that sees it best
    int most = 48;             ///< frames that are asked, evenly over the range
};

struct GatherReport {
    int frames = 0;  ///< that see any of it
    int width = 0, height = 0;
    double seen = 0;  ///< the share of it that any frame sees
};

/// What the plate shows of a flat stand-in (a board, a card, a grid; in the world, without a carrier), as one picture
/// that fills it: each place the median of what the frames show there, weighted by how large they show it, so that what
/// passes before it drops out. Clear where none sees it. Written to `out` (.png, .tif or .exr) beside its place and
/// renamed. Fails for a stand-in that is not flat or turns after the camera, and when no frame sees it.
Expected<GatherReport> runGather(FrameCache& frames, const FrameRange& range, const Solve& solve,
                                 const Orientation& orientation, const StandIn& sheet, const std::filesystem::path& out,
                                 const GatherOptions& options = {}, const Progress& progress = Progress{});

}  // namespace pinion
