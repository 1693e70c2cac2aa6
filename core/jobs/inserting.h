#pragma once

#include "base/progress.h"
#include "shot/layers/layers.h"
#include "comp/match.h"
#include "comp/render.h"
#include "exchange/corners.h"
#include "shot/shot.h"

#include <filesystem>
#include <span>

namespace pinion {

struct InsertOptions {
    InsertLook look;
    double softEdge_px = 0;
    double shutter = 0;                  ///< frames over which it is blurred by its motion; 0: not at all
    bool alone = false;                  ///< by itself with its alpha, not over the plate
    std::optional<AlphaKind> alphaKind;  ///< of the art; none: as its format has it, else it is asked
    PlaneLens lens;                      ///< that bends what lies on the corners; null: it is straight between them
    int quality = 16;
};

/// What came of a render of inserts.
struct InsertReport {
    RenderReport render;
    int kept = 0;                       ///< frames that an earlier run had written and this one left as they are
    std::vector<std::string> problems;  ///< what could not be shown as it should, in words
};

/// Art, a still or a clip, on four corners a frame over the frames of the plate in `range`, written to `pattern`; where
/// there are no corners the plate is as it is. The first frame of a clip is shown on the first frame with corners; its
/// last one holds. What `heldOut` covers comes back on top. Fails when the art's alpha could be either kind and nobody
/// said which, when it is too large, when no corners lie in the range.
Expected<InsertReport> runInsert(FrameCache& frames, const FrameRange& range, const CornersFile& corners,
                                 const std::filesystem::path& art, const std::filesystem::path& pattern,
                                 const InsertOptions& options, std::span<const Matte> heldOut = {},
                                 const Progress& progress = Progress{});

/// The corners over an open shutter about a frame: so many that none moves more than a pixel or so between two; those
/// beside it are taken in where they are known.
std::vector<Quad> cornersOverShutter(const CornersFile& corners, std::size_t index, double shutter);

/// The shot's inserts over its plate, or `alone` with their alpha, on the frames of its range. A sequence that was
/// stopped, or ran out of disk, goes on where it ended as long as nothing has changed since. Fails when a clip is
/// missing, naming all that are, or an alpha could be of either kind.
Expected<InsertReport> runInserts(const Shot& shot, FrameCache& frames, ArtShelf& shelf,
                                  const std::filesystem::path& pattern, bool alone,
                                  const Progress& progress = Progress{});

}  // namespace pinion
