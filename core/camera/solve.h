#pragma once

#include "base/expected.h"
#include "base/progress.h"
#include "camera/options.h"
#include "camera/result.h"

#include <functional>
#include <span>
#include <vector>

namespace pinion {

/// What a solve has so far, for whoever watches: poses of the frames placed, and points.
struct SolveView {
    std::vector<SolvedFrame> frames;
    std::vector<Eigen::Vector3d> points;
    double focal_px = 0.0;
};
using SolveWatch = std::function<void(const SolveView&)>;

/// Solves a camera from its tracks; those set aside are left out. Several pairs of frames and several focal lengths are
/// carried through keyframes of the whole shot and compared at one noise scale; the best goes on to all frames
/// (docs/architecture.md). Fails, saying the cause and what to try, when there are too few tracks, a cut, or nothing
/// that decides; a result that is not sure says so in `doubt`. When stopped early it gives what it has once all frames
/// are placed, with a doubt, else Fault::stopped.
Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options,
                            const Progress& progress = Progress{}, const SolveWatch& watch = {});

}  // namespace pinion
