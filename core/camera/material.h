#pragma once

#include "camera/relativepose.h"
#include "camera/solve.h"

#include <Eigen/Core>
#include <functional>
#include <span>
#include <utility>
#include <vector>

namespace pinion::solving {

// What the tracks say before anything is solved; included by the solver's sources alone.

struct Seen {
    int frame;  ///< index into `frames`
    Eigen::Vector2d plate;
};

struct Trail {
    std::size_t track;  ///< index into the caller's tracks
    std::vector<Seen> seen;
    bool heldOut = false;
};

/// The tracks, indexed both ways.
struct Material {
    double width = 0;                                          ///< of the plate, pixels
    std::vector<int> frames;                                   ///< numbers, rising
    std::vector<Trail> trails;
    std::vector<std::vector<std::pair<int, Eigen::Vector2d>>> byFrame;  ///< (trail, place), adjusted ones only
};

/// The tracks that are not set aside, with every tenth of the long ones held out.
Material gather(std::span<const Track> tracks, const SolveOptions& options);

/// The places of the tracks that both frames (indices) see; `trails` gets theirs.
std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>> sharedPlaces(const Material& material, int a, int b, std::vector<int>* trails = nullptr);

/// Frames far enough apart to say something new, near enough to share tracks.
std::vector<int> chooseKeyframes(const Material& material, int width, int fewest);

struct PairScore {
    int a, b;
    double score;
    double parallax_px;
};

/// On the image plane of `lens`; places that it cannot undistort lie far off, where nothing agrees with them.
std::vector<PlanePair> planePairs(const std::vector<std::pair<Eigen::Vector2d, Eigen::Vector2d>>& shared, const Lens& lens);

/// Pairs of keyframes by how much is left of their motion once the best turn is taken out, best first.
std::vector<PairScore> scorePairs(const Material& material, const std::vector<int>& keys, const Lens& lens);

/// The least parallax, in pixels, that any lens leaves between two frames once the best turn is taken out. A wrong focal
/// length or distortion looks like parallax; only what no lens explains is real.
double leastParallax(const Material& material, const PairScore& pair, const std::function<Lens(double focal_px)>& lensFor, bool focalOpen, bool distortionOpen,
                     double focal_px);

}  // namespace pinion::solving
