#pragma once

#include "base/progress.h"
#include "exchange/transforms.h"
#include "plate/framecache.h"
#include "shot/shot.h"
#include "track/advice.h"

#include <filesystem>
#include <string>
#include <vector>

namespace pinion {

// What the window and the command line start: a shot and a plate in, a result out, with progress. None of them changes
// the shot it was given; `shot/shot.h` has the edits that merge a result.

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

/// The steadied and shaken frames to `pattern`; `plan` is the shot's `picturePlan`.
Expected<RenderReport> runRender(const Shot& shot, const PicturePlan& plan, FrameCache& frames,
                                 const std::filesystem::path& pattern, const Progress& progress = Progress{});

/// The shake in the shot's tracks: all of it, or what is faster than `above_hz`.
Expected<ShakeProfile> runTakeShake(const Shot& shot, double above_hz);

/// The text of one deliverable that is a file of text: tracks, transforms, corner pin, camera; for a file or the
/// clipboard.
Expected<std::string> deliverableText(const Shot& shot, const Deliverable& deliverable);

/// The camera from the shot's tracks within its range; merge with `withSolve` and the key of this same shot.
struct SolveRun {
    SolveWatch watch = {};
    double trim_px = 0.0;
    bool refines = false;  ///< starts from the shot's solve, without a search
};
Expected<Solve> runSolve(const Shot& shot, const Progress& progress = Progress{}, const SolveRun& run = {});

/// The shot's camera, oriented and scaled, as it is delivered. Fails when there is none.
Expected<CameraFile> cameraFileOf(const Shot& shot);
TrackFile trackFileOf(const Shot& shot);

/// What was written, and that it was read back and found the same.
struct DeliveryReport {
    std::string name;
    std::vector<std::filesystem::path> files;
};

/// Writes one deliverable below `folder` and reads it back to check.
Expected<DeliveryReport> deliver(const Shot& shot, const Deliverable& deliverable, const std::filesystem::path& folder);

/// Where the shot's deliveries go: its delivery folder, relative to the shot's file; "delivery" beside it by default.
std::filesystem::path deliveryFolderOf(const Shot& shot, const std::filesystem::path& shotFile);

/// The shot after a successful delivery: the deliverable is marked as written from this version.
Shot withDelivered(const Shot& shot, const std::string& deliverableName);

}  // namespace pinion
