#include "planar/region.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <limits>

namespace pinion {

bool PlaneRegion::holds(const Eigen::Vector2d& place) const {
    const auto in = [&](const Polygon& polygon) { return contains(polygon, place); };
    return std::any_of(outlines.begin(), outlines.end(), in) && std::none_of(takenOut.begin(), takenOut.end(), in);
}

PlaneBox PlaneBox::cutTo(int frameWidth, int frameHeight) const {
    return {std::max(left, 0.0), std::max(top, 0.0), std::min(right, double(frameWidth)),
            std::min(bottom, double(frameHeight))};
}

PlaneBox boxOf(const PlaneRegion& region) {
    constexpr double kFar = std::numeric_limits<double>::max();
    PlaneBox box{kFar, kFar, -kFar, -kFar};
    for (const Polygon& outline : region.outlines)
        for (const Eigen::Vector2d& p : outline)
            box = {std::min(box.left, p.x()), std::min(box.top, p.y()), std::max(box.right, p.x()),
                   std::max(box.bottom, p.y())};
    return box;
}

std::optional<PlaneRegion> carried(const Eigen::Matrix3d& matrix, const PlaneRegion& region, const PlaneLens& lens) {
    bool through = false;
    const auto moved = [&](std::vector<Polygon> polygons) {
        for (Polygon& polygon : polygons)
            for (Eigen::Vector2d& p : polygon) {
                const Eigen::Vector3d to = matrix * straightened(lens, p).homogeneous();
                // Only what stays on one side of the horizon has a place.
                through = through || !(to.z() * matrix.determinant() > 1e-12);
                p = bent(lens, to.hnormalized());
            }
        return polygons;
    };
    PlaneRegion result{moved(region.outlines), moved(region.takenOut)};
    if (through) return std::nullopt;
    return result;
}

}  // namespace pinion
