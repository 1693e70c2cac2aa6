#pragma once

#include "camera/reconstruction.h"

#include <vector>

namespace pinion::solving {

/// How a track's errors compare with the noise of all.
struct Agreement {
    bool agrees = false;
    double rms_px = 0;
    double spread = 0;    ///< RMS of one coordinate over the noise, single spikes clipped
    double drift_px = 0;  ///< the largest error that lasts for five frames
    double trend_px = 0;  ///< how far a straight line through the errors leads from their mean at the ends
};

/// Errors in order of frames. A track is wrong when what is left of it is both larger than the noise and lasting: it
/// slides, jumps or moves by itself. A good track with a few spikes agrees.
Agreement agreementOf(const std::vector<Eigen::Vector2d>& errors, double noise_px, double scale);

/// The standard deviation of one coordinate that a good but poor track has: what `agreementOf` should measure by on
/// footage whose tracks are not all alike. At least the scene's noise.
double noiseOfTracks(const Reconstruction& scene);

/// Sets apart the tracks that contradict the scene (those that do by little stay in the adjustment, where the loss
/// gives them little weight, and are marked), keeps the good stretch of one that jumps, and takes back those that agree
/// now. `trim_px` > 0: also those whose RMS is above it. Returns how many changed.
int sortOut(Reconstruction& scene, double trim_px);

/// Lets each track count by its own noise (inverse variances; of short tracks drawn to the noise of all): a crisp
/// corner is worth several soft ones.
void weigh(Reconstruction& scene);

}  // namespace pinion::solving
