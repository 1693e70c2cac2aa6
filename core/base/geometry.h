#pragma once

#include <Eigen/Core>
#include <array>
#include <vector>

namespace pinion {

/// Closed, in pixels of the plate.
using Polygon = std::vector<Eigen::Vector2d>;

/// Four places of the plate in order round a quad: top left, top right, bottom right, bottom left.
using Quad = std::array<Eigen::Vector2d, 4>;

/// A half-open rectangle of pixels; x0, y0 may be negative (overscan).
struct PixelBox {
    int x0 = 0, y0 = 0, x1 = 0, y1 = 0;
    int width() const { return x1 - x0; }
    int height() const { return y1 - y0; }
    bool operator==(const PixelBox&) const = default;
};

/// Where pixels are counted from in a delivery: those of the plate run down from the top; some programs run up from the
/// bottom.
enum class Origin { topLeft, bottomLeft };

}  // namespace pinion
