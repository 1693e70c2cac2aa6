#pragma once

#include "base/expected.h"
#include "base/geometry.h"
#include "lens/lens.h"

#include <filesystem>
#include <vector>

namespace pinion {

/// The smallest box of undistorted pixels that holds the whole plate with its distortion taken out, and the plate's own
/// frame. How far it reaches past the frame is the overscan the lens needs.
PixelBox undistortedBox(const Lens& lens);

/// Where to look up each pixel: R = s (0 left to 1 right of the looked-up picture's frame), G = t (0 bottom to 1 top),
/// sampled at pixel centres. Where the lens has no answer both are -1.
struct StMap {
    int width = 0, height = 0;  ///< the display window
    PixelBox data;              ///< the data window
    std::vector<float> st;      ///< data.width() * data.height() pairs, rows from the top
    bool isHalf = false;        ///< it was read from half floats, too coarse for a clean round trip
};

/// For each pixel of the undistorted picture (with overscan), the place in the plate.
StMap undistortMap(const Lens& lens);

/// For each pixel of the plate, the place in the undistorted picture; values outside 0 to 1 lie in its overscan.
StMap redistortMap(const Lens& lens);

/// Writes 32-bit float OpenEXR: R = s, G = t, B = 0, display and data window set.
Expected<void> writeStMap(const StMap& map, const std::filesystem::path& path);

/// Reads a map made here or elsewhere: channels R and G, else the first two, of 32-bit or half floats. Fails for
/// pictures of whole numbers, of one channel, and for values that are no numbers, saying where.
Expected<StMap> readStMap(const std::filesystem::path& path);

}  // namespace pinion
