#pragma once

#include "base/progress.h"
#include "plate/framecache.h"
#include "shot/shot.h"
#include "track/advice.h"

#include <vector>

namespace pinion {

/// Features over the shot's range; merge with `withScattered`.
Expected<TrackingResult> runScatter(const Shot& shot, FrameCache& frames, int startFrame,
                                    const Progress& progress = Progress{}, const LiveListener& live = {});

/// The named tracks from `from` in one direction; merge with `withTracked`. `steps` frames at most, 0 for all of the
/// range.
Expected<TrackingResult> runTrack(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& tracks, int from,
                                  Direction direction, int steps = 0, const Progress& progress = Progress{},
                                  const LiveListener& live = {});

/// After the tie on `frame` was placed or moved: the stretches to its neighbours again; merge with `withTracked`.
Expected<TrackingResult> runTie(const Shot& shot, FrameCache& frames, TrackId track, int frame,
                                const Progress& progress = Progress{}, const LiveListener& live = {});

/// Only what is bad of the named tracks, from the good frames around it; merge with `withTracked`.
Expected<TrackingResult> runTrackBad(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& tracks,
                                     double least, const Progress& progress = Progress{},
                                     const LiveListener& live = {});

/// The best spots of an area on `frame`, tracked as the Tracks card says.
Expected<std::vector<SpotProposal>> runPropose(const Shot& shot, FrameCache& frames, const Polygon& area, int frame,
                                               int count, const Progress& progress = Progress{});

}  // namespace pinion
