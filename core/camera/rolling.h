#pragma once

#include "base/progress.h"
#include "camera/hypotheses.h"
#include "camera/material.h"
#include "camera/reconstruction.h"

#include <limits>

namespace pinion::solving {

/// Sensors that are read row by row. The search knows nothing of them: tracks are first carried along their own paths
/// to the time of the middle row; the camera that was found is then adjusted to the tracks as filmed, each row by its
/// own pose. Included by the solver's sources alone.

/// The readout that the tracks alone tell: what is common to their jolts comes to the last row later than to the first.
/// Shear and stretch of the picture's second differences, which neither a roll nor a zoom makes, against how the jolt
/// itself changes.
struct ReadoutGuess {
    double share = 0;
    double sigma = std::numeric_limits<double>::infinity();
    /// Enough to begin with: what is not there after all the adjustment drops.
    bool isSure() const { return std::abs(share) > 3.3 * sigma && std::abs(share) > 0.1; }
};
/// `columns`: as if the plate were read by columns.
ReadoutGuess guessReadout(const Material& material, bool columns);

/// Carries the tracks to the time of the middle row along their own paths.
void readAtOnce(Material& material, double share);

/// The same by the scene's cameras and points, exactly as its rows see them.
void readAtOnce(Material& material, const Reconstruction& scene);

/// Adjusts a finished scene to its tracks as filmed, from a first readout; `own` is the material that the scene goes on
/// with from here. With `isFree` the readout is found. Returns its standard deviation, 0 when it is not free.
double readByRows(Reconstruction& scene, Material& own, const LensPlan& plan, double share, bool isFree,
                  const Progress& progress);

}  // namespace pinion::solving
