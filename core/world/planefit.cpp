#include "world/planefit.h"

#include "base/linear.h"

namespace pinion {

using Eigen::Vector3d;

std::optional<FittedPlane> fittedPlane(std::span<const Vector3d> points, double leastBreadth) {
    Vector3d middle = Vector3d::Zero();
    for (const Vector3d& point : points) middle += point / double(points.size());
    Eigen::Matrix3d spread = Eigen::Matrix3d::Zero();
    for (const Vector3d& point : points) spread += (point - middle) * (point - middle).transpose();
    const Spectrum<3> spectrum = spectrumOf(spread);
    if (!(spectrum.values[1] > leastBreadth * leastBreadth * spectrum.values[2])) return std::nullopt;
    return FittedPlane{middle, spectrum.vectors.col(0)};
}

}  // namespace pinion
