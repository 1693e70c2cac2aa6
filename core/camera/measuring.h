#pragma once

#include "camera/hypotheses.h"
#include "camera/measures.h"
#include "camera/solve.h"

#include <optional>
#include <span>

namespace pinion::solving {

/// The finished scene as a solve: roles and errors of the tracks, held-out tracks placed from half of their frames and
/// measured on the other half, standard deviations, the world turned upright with the median point ten units away, or
/// as measures from the set have it.
Solve measured(const Reconstruction& scene, const LensPlan& plan, std::span<const Track> tracks,
               const std::optional<BundleCovariance>& covariance, const Measures& measures = {});

/// What a scene has so far, in its own world.
SolveView viewOf(const Bundle& bundle);

}  // namespace pinion::solving
