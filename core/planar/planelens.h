#pragma once

#include "lens/lens.h"

#include <Eigen/Geometry>
#include <memory>

namespace pinion {

/// The lens that a plane is seen through; null: as if there were none. A flat surface moves by a homography only in the
/// picture without distortion ("undistorted"), so that is where a plane's matrices act.
using PlaneLens = std::shared_ptr<const Lens>;

/// A place of the plate in the undistorted picture; where no ray comes, as it is.
inline Eigen::Vector2d straightened(const PlaneLens& lens, const Eigen::Vector2d& plate) {
    return lens ? undistortedFromPlate(*lens, plate).value_or(plate) : plate;
}

inline Eigen::Vector2d bent(const PlaneLens& lens, const Eigen::Vector2d& undistorted) {
    return lens ? plateFromUndistorted(*lens, undistorted).value_or(undistorted) : undistorted;
}

}  // namespace pinion
