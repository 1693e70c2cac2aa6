#pragma once

#include "matte/matte.h"

#include <vector>

namespace pinion {

// Shapes from what a hand does; all on frame 0.

Matte::Key rectangleShape(const Eigen::Vector2d& corner, const Eigen::Vector2d& opposite);

/// Within the rectangle of two corners: four curves, within 0.03 % of its half axes.
Matte::Key ellipseShape(const Eigen::Vector2d& corner, const Eigen::Vector2d& opposite);

/// The smooth closed shape that a freehand stroke means, with few points: curves fitted to pieces of the stroke by
/// least squares (Schneider 1990), cut in two where they pass farther than `tolerance` from it. Corners sharper than a
/// right angle stay corners. None (no points) for a stroke of fewer than three different places.
Matte::Key smoothShape(const std::vector<Eigen::Vector2d>& stroke, double tolerance);

}  // namespace pinion
