#pragma once

#include "base/expected.h"
#include "camera/pose.h"

#include <Eigen/Core>
#include <array>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

/// A point as two frames see it, undistorted, on the normalised image plane (x right, y down).
struct PlanePair {
    Eigen::Vector2d first;
    Eigen::Vector2d second;
};

/// All essential matrices through five pairs, at most ten (Nister 2004; solved by the action matrix of Stewenius,
/// Engels and Nister 2006). `second^T E first = 0`.
std::vector<Eigen::Matrix3d> essentialFromFive(const std::array<PlanePair, 5>& pairs);

/// The rotation that best takes the first rays to the second ones, by the median of what is left (Kabsch 1976, repeated
/// on the better half). What remains after it is parallax.
struct RotationFit {
    Eigen::Quaterniond rotation;
    double medianResidual;  ///< on the image plane
};
RotationFit fitRotation(std::span<const PlanePair> pairs);

struct RelativePoseOptions {
    /// Largest distance from the epipolar line, on the image plane, of a pair that agrees. Two pixels over the focal
    /// length suit clean tracks; with an unknown distortion, more.
    double inlierDistance = 0.002;

    /// Tries at most; fewer when most pairs agree.
    int rounds = 400;
};

struct RelativePose {
    Pose second;                ///< of the second frame; the first is at the origin, the base has length 1
    std::vector<bool> inliers;  ///< a flag a pair
    int inlierCount = 0;
};

/// The motion between two frames from at least eight pairs: five-point minimal sets in RANSAC (Fischler and Bolles
/// 1981), the solution with most points in front of both cameras.
Expected<RelativePose> relativePose(std::span<const PlanePair> pairs, const RelativePoseOptions& options = {});

/// The same, with up to `most` clearly different motions that explain the pairs about as well, best first: a flat scene
/// has two (Longuet-Higgins 1986), a long lens often its mirror image. Each is refined on all pairs that agree.
Expected<std::vector<RelativePose>> relativePoses(std::span<const PlanePair> pairs, const RelativePoseOptions& options,
                                                  std::size_t most);

/// The point nearest to both rays in the least-squares sense of the image (linear triangulation, Hartley and Sturm
/// 1997), over any number of frames. None when it lies behind a camera or the rays are parallel.
struct Ray {
    Pose pose;
    Eigen::Vector2d plane;
};
std::optional<Eigen::Vector3d> triangulate(std::span<const Ray> rays);

/// The largest angle between two of the rays to `point`.
double triangulationAngle(std::span<const Ray> rays, const Eigen::Vector3d& point);

}  // namespace pinion
