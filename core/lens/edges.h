#pragma once

#include "picture/picture.h"

#include <Eigen/Core>
#include <span>
#include <vector>

namespace pinion {

struct EdgeOptions {
    /// How far from a click, in pixels across the line, its edge is looked for. Too large and a neighbouring edge wins.
    double reach_px = 5.0;

    /// The spacing of the places that are found between the clicks.
    double step_px = 6.0;

    /// The steepest slope across the line has to be at least this, in grey levels of 255 a pixel.
    double leastSlope = 1.5;
};

/// A line of clicks on the edge under it.
struct SnappedLine {
    std::vector<Eigen::Vector2d> clicks;  ///< on the edge where one was found, else as they were
    std::vector<bool> onEdge;             ///< of each click
    std::vector<Eigen::Vector2d> edge;    ///< places of the edge from the first to the last click, the clicks' own too
};

/// Moves clicks along something straight in life on to the edge they lie near, across its own direction, to a fraction
/// of a pixel (the steepest slope of the Gaussian derivative, deviation 1 px, with a parabola), and follows the edge
/// between them. All places lie on the same side of a thin line: dark to bright or bright to dark is decided for the
/// whole line. `plane` as `analysisPlane` makes it; clicks in pixels of the plate, two or more, in order along the
/// line. Safe to call from several threads.
SnappedLine snapped(const ImageChannel& plane, std::span<const Eigen::Vector2d> clicks,
                    const EdgeOptions& options = {});

}  // namespace pinion
