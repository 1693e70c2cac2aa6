#include "jobs/planing.h"

#include "planar/surface.h"
#include "shot/stages/lensstage.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/planesstage.h"

#include <algorithm>
#include <memory>

namespace pinion {

Expected<PlanarResult> runPlanes(const Shot& shot, FrameCache& frames, const std::vector<PlaneId>& ids, int from,
                                 Direction direction, int steps, bool anew, const Progress& progress,
                                 const PlaneListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    std::vector<PlanarTrack> planes;
    for (const PlanarTrack& plane : shot.planes) {
        if (std::find(ids.begin(), ids.end(), plane.id) == ids.end()) continue;
        if (plane.locked) return failure(Fault::input, "plane {} is locked; unlock it to track it", plane.name);
        planes.push_back(anew ? begunAnew(plane, from) : plane);
        // What is known of the lens comes first; what a plane was tracked through before stays with what is left of it.
        PlanarTrack& begun = planes.back();
        const bool whole = begun.samples.size() <= 1 || (steps == 0 && !sampleAt(begun, from));
        const auto lens = lensInForce(shot);
        // A cylinder asks for a focal length, known or not. One that was fitted to it stays.
        if (begun.sides && begun.samples.size() <= 1) begun.lens = std::make_shared<const Lens>(cylinderLens(shot));
        else if (!begun.sides && whole && lens && lens->isDistorted()) begun.lens = std::make_shared<const Lens>(*lens);
    }
    if (planes.empty())
        return failure(Fault::input, "no plane is chosen; draw an outline with the tool, or choose one in the list");
    FrameRange range = shot.plate.range;
    if (steps > 0) range = {std::max(range.first, from - steps), std::min(range.last, from + steps)};
    // No plane rides on itself: what mattes ride on is as it was before.
    const std::vector<Matte> mattes = mattesOf(shot);
    auto result = trackPlanes(frames, planes, from, range, direction, progress, live, mattes, !knowsFocal(shot));
    if (result && steps > 0)
        // A few steps end where they were told to, not where the range does.
        for (PlanarTrack& plane : result->planes) {
            if (plane.endReason == PlaneEnd::rangeEnd && plane.lastFrame() < shot.plate.range.last)
                plane.endReason = PlaneEnd::none;
            if (plane.startReason == PlaneEnd::rangeEnd && plane.firstFrame() > shot.plate.range.first)
                plane.startReason = PlaneEnd::none;
        }
    return result;
}

}  // namespace pinion
