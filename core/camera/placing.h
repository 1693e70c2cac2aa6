#pragma once

#include "lens/lens.h"

#include <Eigen/Core>
#include <optional>
#include <vector>

namespace pinion::solving {

/// One sighting of a point that is being placed.
struct PlateSighting {
    Eigen::Matrix3d rotation;  ///< as in Pose
    Eigen::Vector3d translation;
    Eigen::Vector2d plane, plate;  ///< where it is seen, on the image plane and on the plate
    Lens lens;
};

/// The homogeneous point nearest to all rays in the image's terms: the smallest singular vector, depths from the round
/// before as weights (Hartley and Sturm 1997). None where it is behind some that see it.
std::optional<Eigen::Vector4d> linearPlace(const std::vector<PlateSighting>& views);

/// Robust Gauss-Newton on the plate; a depth that nothing shows stays where it is.
Eigen::Vector4d refinedPlace(Eigen::Vector4d point, const std::vector<PlateSighting>& views, double width_px,
                             int rounds);

}  // namespace pinion::solving
