#pragma once

#include "camera/contest.h"
#include "camera/hypotheses.h"
#include "camera/result.h"

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace pinion::solving {

/// The focal lengths, in pixels, that explain the tracks about as well as the scene's own: the adjustment is repeated
/// with the focal length held farther and farther off, everything else free, until the fall in likelihood is clear (a
/// profile; Venzon and Moolgavkar 1988). Where it is never clear the range ends at the limits of the search, 12 and 400
/// mm on a 36 mm frame.
std::pair<double, double> alikeFocals(const Reconstruction& scene, const LensPlan& plan, const Progress& progress);

/// The standard deviation of a focal length of which all in the range are as likely, by their logarithm, in pixels.
double spreadOf(const std::pair<double, double>& focals, double focal_px);

/// The range of clearly different focal lengths, in pixels, that the tracks leave open; none when they decide.
std::optional<std::pair<double, double>> openFocals(const Reconstruction& scene, const LensPlan& plan,
                                                    const std::vector<Attempt>& candidates,
                                                    const std::optional<BundleCovariance>& covariance,
                                                    const Progress& progress);

/// Takes a scene along the valley to another focal length and adjusts everything else there.
void takeFocal(Reconstruction& scene, const LensPlan& plan, double focal_px, const Progress& progress);

/// The focal length that the tracks themselves ask for, when one was given: the scene adjusted with it free. None when
/// they leave it open.
struct FocalOpinion {
    double focal_px = 0, deviation_px = 0;
};
std::optional<FocalOpinion> focalAskedFor(const Reconstruction& scene, const LensPlan& plan, const Progress& progress);

/// Everything that speaks against a measured answer, in words; it also widens the deviation of a focal length that is
/// left open, and gives its range.
struct Evidence {
    const LensPlan& plan;
    const std::vector<Attempt>& candidates;  ///< the winner first
    const std::vector<Rival>& rivals;
    const std::optional<BundleCovariance>& covariance;
    const std::optional<std::pair<double, double>>& openFocals;
};
std::string doubtsOf(Solve& solve, const Reconstruction& scene, const Evidence& evidence, const Progress& progress);

/// "1043-1047, 1060", of frame numbers in rising order.
std::string inRanges(const std::vector<int>& frames);

/// Whether between two frames so few of the tracks agree that the two sides may not belong together.
bool isTorn(const Reconstruction& scene);

/// The part of a scene that decides: at most `most` of its frames, spread evenly.
Reconstruction thinned(const Reconstruction& scene, int most);

}  // namespace pinion::solving
