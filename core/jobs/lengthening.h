#pragma once

#include "base/progress.h"
#include "camera/secondsweep.h"
#include "jobs/solving.h"
#include "plate/framecache.h"
#include "shot/shot.h"

#include <optional>

namespace pinion {

/// The shot's tracks made longer by what its solved camera knows; merge with `withLengthened`. Tracks that something
/// rides on or is told by stay their own. Fails, saying what to do, where nothing is solved.
Expected<SecondSweep> runLengthen(const Shot& shot, FrameCache& frames, const Progress& progress = Progress{});

/// The same, and then the camera adjusted anew from where it stands.
struct ThoroughSolve {
    SecondSweep sweep;
    Solve before;
    std::optional<Solve> solve;  ///< of the shot with `sweep` in it; none where it was stopped before
};
Expected<ThoroughSolve> lengthenAndRefine(const Shot& shot, FrameCache& frames, const Progress& progress = Progress{},
                                          const SolveWatch& watch = {});

}  // namespace pinion
