#pragma once

#include "base/progress.h"
#include "comp/render.h"
#include "lens/chart.h"
#include "lens/lines.h"
#include "lens/stmap.h"
#include "plate/framecache.h"
#include "shot/shot.h"

#include <filesystem>
#include <span>
#include <string_view>
#include <variant>
#include <vector>

namespace pinion {

/// Moves the lines on to the edges under them. Fails for a frame that cannot be read.
Expected<std::vector<LensLine>> traceLines(FrameCache& frames, std::span<const StraightLine> lines,
                                           const Progress& progress = Progress{});

/// The chart's corners in pictures of one size: files, or frames of a plate by its path. Fails for a picture of another
/// size, naming both.
struct ChartPictures {
    int width = 0, height = 0;
    std::vector<ChartView> views;
};
Expected<ChartPictures> findCharts(const std::vector<std::filesystem::path>& pictures, const Chart& chart,
                                   const Progress& progress = Progress{});

/// What pictures are bent by: a lens, or the map that undistorts or redistorts.
using Glass = std::variant<Lens, StMap>;

/// Fails when the glass is for another size than `width` x `height`, naming both; `what` has that size ("the plate
/// is").
Expected<void> checkSize(const Glass& glass, int width, int height, std::string_view what);

struct BendChoices {
    Overscan overscan;  ///< of undistorting by a lens; a map has its own
    BendFilter filter = BendFilter::bicubic;
    EdgeMode edges = EdgeMode::empty;
    int samples = 1;   ///< across and down, of each pixel
    int quality = 16;  ///< of a video
};

struct BentFrames {
    RenderReport report;
    int width = 0, height = 0;  ///< of the frame
    PixelBox box;               ///< of the pictures about it
};

/// Writes frames of a plate without its distortion.
Expected<BentFrames> undistortPlate(FrameCache& frames, const FrameRange& range, const Glass& glass,
                                    const std::filesystem::path& pattern, const BendChoices& choices = {},
                                    const Progress& progress = Progress{});

/// Puts the distortion into pictures that were made without it, opened with their overscan
/// (`PlateOptions::overscan`).
Expected<BentFrames> redistortPictures(FrameCache& frames, const FrameRange& range, const Glass& glass,
                                       const std::filesystem::path& pattern, const BendChoices& choices = {},
                                       const Progress& progress = Progress{});

}  // namespace pinion
