#pragma once

#include "comp/render.h"
#include "shot/shot.h"
#include "shot/stages/report.h"
#include "steady/rows.h"

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

namespace pinion {

StageReport steadyReport(const Shot& shot);

/// What the steadied picture depends on.
std::uint64_t steadyKey(const Shot& shot);

/// The reference frame of the steadying, within the range.
int steadyReference(const Shot& shot);
/// What the Steady card holds still, and as what.
Ride steadyRide(const Shot& shot);
/// The readout by which its rows are straightened: of the solve, or the one that is known; none where tracks do not
/// tell what is held, or the rows stay as they are.
Readout steadyReadout(const Shot& shot);
Expected<PlateMotion> locatorMotion(const Shot& shot, const Locator& locator);
/// The motion that the Steady card takes out: of all tracks that are not set aside, or of the chosen ones.
Expected<PlateMotion> steadyMotion(const Shot& shot);

/// What becomes of the picture: steadied, shaken, or one and then the other, in one map a frame.
struct PicturePlan {
    std::vector<FrameMap> frames;
    double zoom = 1.0;
    bool fills = true;
    std::string note;                     ///< the blur that will stay visible, a profile that was looped or cut
    PlateMotion motion;                   ///< of the steadying, if any; where rows are straightened, of their middle
    std::shared_ptr<const RowWarp> rows;  ///< what a rolling shutter does beside the maps; null: nothing
    std::vector<ShakeSample> shake;       ///< as lent, if any

    const FrameMap* at(int frame) const;
    /// The plate through it, and the way back.
    std::vector<SheetMap> sheets(ResampleFilter filter, EdgeMode edges) const;
};
Expected<PicturePlan> picturePlan(const Shot& shot);

}  // namespace pinion
