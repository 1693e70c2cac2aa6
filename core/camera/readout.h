#pragma once

#include <Eigen/Core>

namespace pinion {

/// How a sensor is read: at once, or row by row (a rolling shutter). A frame's pose is that of its middle row.
struct Readout {
    double share = 0;      ///< of the time from frame to frame, from the first row to the last; below 0: from the last
    bool columns = false;  ///< by columns, left to right: a telephone held upright
    bool isRolling() const { return share != 0; }
    bool operator==(const Readout&) const = default;
};

/// Where a place of the plate lies in the order of reading: -0.5 on the first row (or column), 0.5 on the last.
inline double rowOf(const Eigen::Vector2d& plate, bool columns, int width, int height) {
    return columns ? plate.x() / width - 0.5 : plate.y() / height - 0.5;
}

}  // namespace pinion
