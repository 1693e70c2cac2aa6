#pragma once

#include "camera/hypotheses.h"

#include <optional>
#include <vector>

namespace pinion::solving {

/// The keyframes solved as a camera that only turns (with `options.zoom`, and zooms): turns from frame to frame, then
/// all adjusted together, for each focal length to be tried; the best. None when neighbouring keyframes share too few
/// tracks.
std::optional<Reconstruction> solveTurning(const Material& material, const std::vector<int>& keys,
                                           const SolveOptions& options, const Progress& progress);

/// Whether the tracks stand still but for their noise: the median over tracks of how far they wander.
bool standsStill(const Material& material);

/// How many tracks a travelling scene explains, and how many of those a turning one explains as well.
struct TurnVote {
    int travelling = 0;
    int turning = 0;
    std::vector<int> both, apart;  ///< trails that both explain, and that the travelling one explains alone
};
TurnVote voteOfTurning(const Reconstruction& travelling, const Reconstruction& turning);

/// What no turn explains between the frames of a pair, under the scene's lens: the median over its tracks, in pixels.
double parallaxOf(const Reconstruction& scene, const BasePair& pair);

/// The most that any two keyframes show of it which share enough tracks that the scene explains.
double mostParallax(const Reconstruction& scene, const std::vector<int>& keys);

/// Of those pairs of keyframes the share that shows more than `clear_px` of it. Where something that moves outlives
/// what stands, few pairs do.
double shareOfParallax(const Reconstruction& scene, const std::vector<int>& keys, double clear_px);

/// The same for a turn with a zoom, whatever the focal lengths: little where a camera that goes to and fro may be one
/// that turns and zooms.
double parallaxBeyondZoom(const Reconstruction& scene, const BasePair& pair);

}  // namespace pinion::solving
