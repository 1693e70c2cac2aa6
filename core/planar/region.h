#pragma once

#include "matte/matte.h"
#include "planar/surfacepose.h"

#include <Eigen/Core>
#include <functional>
#include <optional>
#include <vector>

namespace pinion {

/// The part of a frame that a plane is tracked by, in pixels of the plate.
struct PlaneRegion {
    std::vector<Polygon> outlines;  ///< what is in any of them counts (even-odd rule within each)
    std::vector<Polygon> takenOut;  ///< but for what is in one of these: reflections, what passes in front

    bool holds(const Eigen::Vector2d& place) const;
};

/// An upright box; empty when `right` is not beyond `left`.
struct PlaneBox {
    double left = 0, top = 0, right = 0, bottom = 0;
    bool isEmpty() const { return !(right > left && bottom > top); }
    double width() const { return right - left; }
    double height() const { return bottom - top; }
    Eigen::Vector2d centre() const { return {0.5 * (left + right), 0.5 * (top + bottom)}; }
    std::vector<Eigen::Vector2d> corners() const {
        return {{left, top}, {right, top}, {right, bottom}, {left, bottom}};
    }
    PlaneBox cutTo(int frameWidth, int frameHeight) const;
};
PlaneBox boxOf(const PlaneRegion& region);

/// What is taken out of the analysis on the reference frame besides, asked at places of the plate; none: nothing.
using PlaneExclusion = std::function<bool(const Eigen::Vector2d&)>;

/// The region where a pose takes it. Of a cylinder, what turns away from the camera stays on its contour. None when a
/// part of it goes through the horizon.
std::optional<PlaneRegion> carried(const SurfaceGeometry& geometry, const SurfacePose& pose, const PlaneRegion& region);

}  // namespace pinion
