#pragma once

#include <cmath>
#include <numbers>

namespace pinion {

constexpr double radians(double angleDegrees) { return angleDegrees * std::numbers::pi / 180.0; }
constexpr double degrees(double angle) { return angle * 180.0 / std::numbers::pi; }

/// Horizontal angle of view of a rectilinear lens focused at infinity, 2 atan(w / 2f).
inline double angleOfViewDegrees(double focal_mm, double sensorWidth_mm) {
    return degrees(2.0 * std::atan(sensorWidth_mm / (2.0 * focal_mm)));
}

inline double focalPixels(double focal_mm, double sensorWidth_mm, int width_px) {
    return focal_mm / sensorWidth_mm * width_px;
}

inline double focalMillimetres(double focal_px, double sensorWidth_mm, int width_px) {
    return focal_px * sensorWidth_mm / width_px;
}

}  // namespace pinion
