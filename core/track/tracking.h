#pragma once

#include "base/framerange.h"
#include "base/progress.h"
#include "plate/framecache.h"
#include "track/candidates.h"
#include "track/sweep.h"

#include <functional>
#include <span>
#include <vector>

namespace pinion {

/// Where the tracks in motion are on the frame just done; for showing results as they come. Called from the job's
/// thread.
struct LivePoint {
    Eigen::Vector2d at;
    double score;
};
using LiveListener = std::function<void(int frame, const std::vector<LivePoint>& points)>;

struct TrackingResult {
    std::vector<Track> tracks;
    bool stopped = false;         ///< the artist stopped it; the tracks hold what was done until then
    std::vector<int> unreadable;  ///< frames left out because they are missing or damaged
};

struct ScatterOptions {
    CandidateOptions candidates;

    /// Side of the pattern and search areas, in pixels. A larger pattern is steadier and blurs depth edges together; a
    /// larger search follows faster motion and costs with its square.
    int pattern_px = 21;
    int search_px = 61;

    /// Affine follows a surface that turns; translation is faster and enough for short moves.
    MotionModel motion = MotionModel::affine;

    /// The least score; a track stops below it rather than wander.
    double driftLimit = 0.8;

    Channel channel = Channel::luma;
    PreFilter preFilter = PreFilter::none;

    /// Tracks with fewer frames than this are not kept.
    int fewestFrames = 6;

    /// The frames to track over, and the one whose candidates come first.
    FrameRange range;
    int startFrame = 0;

    std::vector<Matte> mattes;
};

/// Finds features all over the plate and tracks them over the range, both ways, replacing those that are lost.
/// Fails when not one feature is found. Reads through `frames`; runs on all threads.
Expected<TrackingResult> scatter(FrameCache& frames, const ScatterOptions& options,
                                 const Progress& progress = Progress{}, const LiveListener& live = {});

enum class Direction { forward, backward, both };

/// Tracks each of `tracks` from its sample on the frame `from` (its reference frame when it has none there), in the
/// asked direction, up to the end of `range`. Between two ties the stretch is tracked from both sides and blended, so
/// that no tie makes a jump. Samples that the run reaches are replaced, ties and the others stay. One that runs into
/// what `mattes` (none rides) take out ends there; one that starts inside is meant to be there.
Expected<TrackingResult> trackPoints(FrameCache& frames, const std::vector<Track>& tracks, int from,
                                     const FrameRange& range, Direction direction,
                                     const Progress& progress = Progress{}, const LiveListener& live = {},
                                     std::span<const Matte> mattes = {});

/// The same, each track from its own reference frame.
Expected<TrackingResult> trackPoints(FrameCache& frames, const std::vector<Track>& tracks, const FrameRange& range,
                                     Direction direction, const Progress& progress = Progress{},
                                     const LiveListener& live = {}, std::span<const Matte> mattes = {});

/// Re-tracks the stretch on both sides of the tie on `frame`, to the neighbouring ties or the ends of the track; the
/// rest stays.
Expected<TrackingResult> trackAroundTie(FrameCache& frames, const Track& track, int frame, const FrameRange& range,
                                        const Progress& progress = Progress{}, const LiveListener& live = {});

/// Re-tracks only what is bad, from the good frames on its two sides: stretches of a score below `least`, and gaps.
/// Frames already good stay as they are.
Expected<TrackingResult> trackBad(FrameCache& frames, const std::vector<Track>& tracks, double least,
                                  const FrameRange& range, const Progress& progress = Progress{},
                                  const LiveListener& live = {});

/// How the whole picture moved from one frame to another: the median over a grid of patches, in pixels.
Eigen::Vector2d pictureMotion(const Pyramid& from, const Pyramid& to, double reach_px = 40.0);

}  // namespace pinion
