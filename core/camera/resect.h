#pragma once

#include "base/expected.h"
#include "camera/pose.h"

#include <Eigen/Core>
#include <array>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

/// A scene point and where one frame saw it.
struct Sighting {
    Eigen::Vector3d world;  ///< in the solve's units
    Eigen::Vector2d plane;  ///< undistorted, on the normalised image plane (x right, y down)
};

/// All poses that see three points so, at most four (Grunert 1841, in the form of Haralick et al. 1994).
std::vector<Pose> poseFromThree(const std::array<Sighting, 3>& sightings);

struct ResectionOptions {
    /// Largest distance, in pixels of the plate, at which a sighting still counts as seen by the pose. Raise it for
    /// soft or noisy plates; too large and movers vote.
    double inlier_px = 3.0;

    /// Fewest inliers for an answer. Six leave no redundancy for the refinement to lean on.
    int fewest = 8;

    /// Where the pose is expected, as from a neighbouring frame. Tried first; when most sightings agree with what it
    /// leads to, nothing else is tried.
    std::optional<Pose> guess;
};

/// Finds the pose of one frame from at least `options.fewest` sightings: the guess, else P3P in RANSAC (Fischler and
/// Bolles 1981), then robust least squares. Fails when too few agree, saying how many did. Safe to call from several
/// threads.
Expected<Pose> resect(std::span<const Sighting> sightings, double focal_px, const ResectionOptions& options = {});

}  // namespace pinion
