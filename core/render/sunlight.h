#pragma once

#include "base/expected.h"
#include "world/eye.h"

#include <Eigen/Core>

namespace pinion {

/// The direction towards the sun, a unit vector, from a shadow in the plate: where an upright stands on the ground, its
/// top, and the tip of its shadow there, in pixels of the plate. Fails where one of them cannot lie there, saying
/// which.
Expected<Eigen::Vector3d> sunFromShadow(const WorldEye& eye, double ground, const Eigen::Vector2d& foot,
                                        const Eigen::Vector2d& top, const Eigen::Vector2d& tip);

/// How high above `foot` a ray passes nearest to the upright through it; none where it runs along it.
std::optional<double> heightOnUpright(const WorldRay& ray, const Eigen::Vector3d& foot);

}  // namespace pinion
