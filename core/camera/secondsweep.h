#pragma once

#include "base/expected.h"
#include "base/framerange.h"
#include "base/progress.h"
#include "camera/result.h"
#include "matte/matte.h"
#include "plate/framecache.h"
#include "track/track.h"

#include <functional>
#include <set>
#include <span>
#include <vector>

namespace pinion {

struct SecondSweepOptions {
    /// The frames to look at.
    FrameRange range;

    /// What they take out is not looked at; they ride on nothing any more.
    std::vector<Matte> mattes;

    /// Two tracks that keep nearer than this are one, and the weaker goes into the other. 0 keeps all.
    double apart_px = 8.0;

    /// Tracks that something rides on or is told by: they stay, with the samples they have.
    std::set<TrackId> kept;
};

struct SecondSweep {
    std::vector<Track> tracks;    ///< those that were made better, by their ids
    std::vector<TrackId> joined;  ///< went into another, or say nothing that it does not
    double medianBefore = 0;      ///< length in frames, of those in `tracks` or `joined`
    double median = 0;            ///< of those in `tracks`
    bool stopped = false;         ///< nothing is changed then
    std::vector<int> unreadable;  ///< frames left out because they are missing or damaged
};

/// The second sweep: tracks again with what the solved camera knows. Of each track that the camera agrees with, the
/// piece of surface under its pattern is found (its tilt from the neighbours' places, then by how well its views
/// agree), a pattern is made of up to eight views laid over each other, and every frame that has it in view is
/// searched where the camera sees it (guided matching: Hartley and Zisserman 2003, 11.6; patches: Furukawa and Ponce
/// 2010). So it is found again after it was covered or had left the frame, runs on as long as it is seen, and is
/// measured against less grain. What is off the camera by more than the frame's own spread is
/// refused: slides along an edge among it. Tracks that turn out to be one become one.
///
/// Tracks placed by hand, tied somewhere or among `kept` keep the samples they have and get only what is missing;
/// locked ones stay as they are.
/// `tracks` are as they were solved (`wanted` places are the solve's matter, not this). Fails where the camera knows
/// none of them. Reads through `frames`; runs on all threads.
Expected<SecondSweep> lengthen(FrameCache& frames, const Solve& solve, std::span<const Track> tracks,
                               const SecondSweepOptions& options, const Progress& progress = Progress{});

}  // namespace pinion
