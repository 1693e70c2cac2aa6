#pragma once

#include <Eigen/Core>
#include <optional>
#include <span>

namespace pinion {

struct FittedPlane {
    Eigen::Vector3d middle;
    Eigen::Vector3d normal;  ///< of length one, on either side
};

/// The least-squares plane through points. None where they lie on a line: where their deviation across it within the
/// plane is less than `leastBreadth` of that along it.
std::optional<FittedPlane> fittedPlane(std::span<const Eigen::Vector3d> points, double leastBreadth = 1e-3);

}  // namespace pinion
