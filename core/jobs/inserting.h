#pragma once

#include "base/progress.h"
#include "comp/insert.h"
#include "comp/render.h"
#include "exchange/corners.h"
#include "matte/matte.h"
#include "plate/framecache.h"
#include "track/tracking.h"

#include <filesystem>
#include <span>

namespace pinion {

struct InsertOptions {
    InsertLook look;
    double shutter = 0;                  ///< frames over which it is blurred by its motion; 0: not at all
    bool alone = false;                  ///< by itself with its alpha, not over the plate
    std::optional<AlphaKind> alphaKind;  ///< of the art; none: as its format has it, else it is asked
    int quality = 16;
};

/// Art, a still or a clip, on four corners a frame over the frames of the plate in `range`, written to `pattern`; where
/// there are no corners the plate is as it is. The first frame of a clip is shown on the first frame with corners; its
/// last one holds. What `heldOut` covers comes back on top. Fails when the art's alpha could be either kind and nobody
/// said which, when it is too large, when no corners lie in the range.
Expected<RenderReport> runInsert(FrameCache& frames, const FrameRange& range, const CornersFile& corners,
                                 FrameCache& art, const std::filesystem::path& pattern, const InsertOptions& options,
                                 std::span<const Matte> heldOut = {}, const Progress& progress = Progress{});

/// The corners over an open shutter about a frame: so many that none moves more than a pixel or so between two; those
/// beside it are taken in where they are known.
std::vector<Quad> cornersOverShutter(const CornersFile& corners, std::size_t index, double shutter);

}  // namespace pinion
