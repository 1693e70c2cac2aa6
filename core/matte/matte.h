#pragma once

#include "base/list.h"

#include <Eigen/Core>
#include <span>
#include <string>
#include <vector>

namespace pinion {

using Polygon = std::vector<Eigen::Vector2d>;  ///< closed, in pixels of the plate

/// A drawn area that moves by keyframes. Between keys the corners are interpolated; before the first and after the last
/// the shape stays. All keys of a matte have the same number of corners.
struct Matte {
    enum class Mode { exclude, include };
    struct Key {
        int frame = 0;
        Polygon polygon;
    };
    std::string name;
    Mode mode = Mode::exclude;
    std::vector<Key> keys;  ///< by rising frame
};

/// The outline on one frame; empty without keys.
Polygon outlineAt(const Matte& matte, int frame);

/// Even-odd rule.
bool contains(const Polygon& polygon, const Eigen::Vector2d& point);

/// Whether the mattes take `point` out of the analysis on `frame`: inside an exclusion, or outside all inclusions if
/// any.
bool isExcluded(std::span<const Matte> mattes, int frame, const Eigen::Vector2d& point);

}  // namespace pinion
