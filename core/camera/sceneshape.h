#pragma once

#include "camera/reconstruction.h"

#include <string>
#include <vector>

namespace pinion::solving {

/// Inverse depths of points over the rays (x, y, 1) of a camera as a plane: 1/z = plane . ray, robustly (Cauchy
/// weights).
Eigen::Vector3d planeOf(const std::vector<Eigen::Vector3d>& rays, const std::vector<double>& inverseDepths);

/// The points of a scene as one camera sees them.
struct SeenPoints {
    std::vector<std::size_t> trails;
    std::vector<Eigen::Vector3d> rays;  ///< (x, y, 1)
    std::vector<double> inverseDepths;
};
SeenPoints pointsSeenFrom(const Reconstruction& scene, int frame);

/// Whether the camera neither turns nor leaves a straight line: then the pictures tell nothing of the focal length but
/// by the lens' distortion, for a scene twice as deep through twice the focal length looks the same.
bool slidesStraight(const Reconstruction& scene);

/// Whether nine points in ten lie on one plane, to one per cent of their depth.
bool isFlat(const Reconstruction& scene);

/// How far apart two solutions of the same frames put their cameras: RMS after the best similarity, over the length of
/// the path.
double pathsApart(const Reconstruction& one, const Reconstruction& other);

}  // namespace pinion::solving
