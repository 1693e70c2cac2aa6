#pragma once

#include "base/progress.h"
#include "lens/chart.h"
#include "lens/lines.h"
#include "plate/framecache.h"

#include <filesystem>
#include <span>
#include <vector>

namespace pinion {

/// A line as it was clicked and as it lies on its edge.
struct TracedLine {
    int frame = 0;
    std::vector<Eigen::Vector2d> clicks;  ///< on the edge where there is one
    std::vector<Eigen::Vector2d> edge;    ///< empty where no edge was found: then the clicks count
    StraightLine straight() const { return {frame, edge.empty() ? clicks : edge}; }
};

/// Moves the lines on to the edges under them. Fails for a frame that cannot be read.
Expected<std::vector<TracedLine>> traceLines(FrameCache& frames, std::span<const StraightLine> lines,
                                             const Progress& progress = Progress{});

/// The chart's corners in pictures of one size: files, or frames of a plate by its path. Fails for a picture of another
/// size, naming both.
struct ChartPictures {
    int width = 0, height = 0;
    std::vector<ChartView> views;
};
Expected<ChartPictures> findCharts(const std::vector<std::filesystem::path>& pictures, const Chart& chart,
                                   const Progress& progress = Progress{});

}  // namespace pinion
