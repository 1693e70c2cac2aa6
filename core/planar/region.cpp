#include "planar/region.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <numbers>
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

namespace {

/// On a cylinder straight edges of the plate are curves: cut into short pieces. What is beyond the contour as `seen`
/// has it is moved there.
Polygon carriedOnCylinder(const Lens& lens, const Cylinder& cylinder, const Cylinder& seen, const Polygon& polygon) {
    constexpr double kPiece = 12;    // pixels
    constexpr double kShown = 0.97;  // of the visible half angle
    Polygon result;
    for (std::size_t i = 0; i < polygon.size(); ++i) {
        const Eigen::Vector2d from = polygon[i], to = polygon[(i + 1) % polygon.size()];
        const int pieces = std::max(1, int(std::ceil((to - from).norm() / kPiece)));
        for (int k = 0; k < pieces; ++k) {
            const Eigen::Vector2d at = from + double(k) / pieces * (to - from);
            Eigen::Vector2d place = cylinder.placeOf(cylinder.met(rayOf(lens, at)));
            const double facing = seen.facing(), most = kShown * seen.visible();
            const double away = std::remainder(place.x() - facing, 2 * std::numbers::pi);
            place.x() = facing + std::clamp(away, -most, most);
            result.push_back(seenAt(lens, seen.at(place)));
        }
    }
    return result;
}

}  // namespace

std::optional<PlaneRegion> carried(const SurfaceGeometry& geometry, const SurfacePose& pose,
                                   const PlaneRegion& region) {
    bool through = false;
    const SurfaceGeometry there = geometry.moved(pose);
    const auto moved = [&](std::vector<Polygon> polygons) {
        for (Polygon& polygon : polygons) {
            if (geometry.cylinder) {
                polygon = carriedOnCylinder(*geometry.lens, *geometry.cylinder, *there.cylinder, polygon);
                continue;
            }
            for (Eigen::Vector2d& p : polygon) {
                const auto to = geometry.carried(pose, p);
                // Only what stays on one side of the horizon has a place.
                through = through || !to;
                p = to.value_or(p);
            }
        }
        return polygons;
    };
    PlaneRegion result{moved(region.outlines), moved(region.takenOut)};
    if (through) return std::nullopt;
    return result;
}

}  // namespace pinion
