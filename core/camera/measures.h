#pragma once

#include "camera/hypotheses.h"
#include "camera/options.h"

#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace pinion::solving {

/// What measures from the set made of a scene.
struct Measures {
    std::optional<double> metresPerUnit;  ///< none without a measure that could be used
    std::optional<Eigen::Matrix4d>
        metresFromScene;              ///< a similarity, when three known places or more say where the world is
    std::vector<std::string> doubts;  ///< measures that contradict the rest, or could not be used, in words
};

/// Refuses measures that mean nothing: an unknown track, one track twice, a length or trust that is not above 0.
Expected<void> checkMeasures(std::span<const Track> tracks, const SolveOptions& options);

/// Adjusts the scene with the measures of its options. Known places enter as the distances between them (their trust
/// widened where there are more distances than freedoms); a measure that contradicts tracks and the other measures
/// (Baarda 1968) is named and left out, two that contradict each other are both named.
Measures enterMeasures(Reconstruction& scene, const LensPlan& plan, std::span<const Track> tracks);

}  // namespace pinion::solving
