#pragma once

#include "base/progress.h"
#include "camera/result.h"
#include "comp/bend.h"
#include "lens/stmap.h"

#include <filesystem>
#include <functional>
#include <memory>

namespace pinion {

/// What pictures are bent by where a rolling shutter is taken out with the lens: each row as the middle one would have
/// seen it. What moves the picture by its depth is taken out for what lies as far as most of the scene.
struct RowGlass {
    std::shared_ptr<const Solve> solve;  ///< with a readout
    const Lens& lens() const { return solve->lens; }
};

/// From the plate into `out` (undistorted pixels of the middle row's camera), and back into the plate's rows from
/// pictures that fill `source`. A frame that is not solved is bent by the lens alone.
LookUp undistortingRows(const RowGlass& glass, int frame, const PixelBox& out, int samples = 1);
LookUp redistortingRows(const RowGlass& glass, int frame, const PixelBox& source, int samples = 1);

/// A table as an ST map, whose looked-up picture is a frame of `width` x `height` that fills `source`.
StMap mapOf(const LookUp& table, const PixelBox& source, int width, int height);

/// Writes an ST map a frame, `maps.####.exr`; fails for a name without a place for the number.
Expected<void> writeMaps(const std::filesystem::path& pattern, int first, int last,
                         const std::function<StMap(int frame)>& map, const Progress& progress = Progress{});

}  // namespace pinion
