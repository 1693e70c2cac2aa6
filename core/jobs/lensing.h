#pragma once

#include "base/progress.h"
#include "comp/render.h"
#include "jobs/rowbend.h"
#include "lens/chart.h"
#include "lens/lines.h"
#include "lens/maps.h"
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

/// The frames from the first to the last that holds a line, where a cut between them would part the lines; none when
/// they are on one frame, or too many to look through.
std::optional<FrameRange> framesOfLines(std::span<const int> frames);
/// What is to be said of lines that lie on both sides of cuts (the frames after them); empty when none do.
std::string cutWords(std::span<const int> frames, std::span<const int> cuts);

/// The chart's corners in pictures of one size: files, or frames of a plate by its path. Fails for a picture of another
/// size, naming both.
struct ChartPictures {
    int width = 0, height = 0;
    std::vector<ChartView> views;
};
Expected<ChartPictures> findCharts(const std::vector<std::filesystem::path>& pictures, const Chart& chart,
                                   const Progress& progress = Progress{});

/// The lens of a pair of ST maps in files, for a plate of that size (lensFromMaps); errors name the file.
Expected<MapsLens> readMapsLens(const LensMaps& files, int width, int height, double focal_px);

/// A zoom: another lens on every frame, all for one size.
struct LensOverTime {
    int width = 0, height = 0;
    std::function<Lens(int frame)> at;
};

/// What pictures are bent by: a lens, the map that undistorts or redistorts, a zoom, a camera read row by row.
using Glass = std::variant<Lens, StMap, LensOverTime, RowGlass>;

/// The shot's lens in force, or its zoom's over time.
std::optional<Glass> glassOf(const Shot& shot);

/// Of the plate that it is for.
std::pair<int, int> sizeOf(const Glass& glass);

/// Fails when the glass is for another size than `width` x `height`, naming both; `what` has that size ("the plate
/// is").
Expected<void> checkSize(const Glass& glass, int width, int height, std::string_view what);

/// The boxes that hold the undistorted pictures of every frame of a zoom, or of a camera read row by row.
Expected<PixelBox> undistortedBox(const Glass& glass, const FrameRange& range, const Overscan& overscan);

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
