#pragma once

#include "lens/stmap.h"

#include <string>
#include <vector>

namespace pinion {

/// What two ST maps make of each other.
struct MapsLens {
    Lens lens;
    double held_px = 0;             ///< the field against the redistorting map: RMS over its pixels
    double returns_px = 0;          ///< the farthest that a place comes back beside itself through both maps
    Eigen::Vector2d worstAt{0, 0};  ///< where, on the undistorted picture
    bool isHalf = false;            ///< one of the maps is of half floats
    std::vector<std::string> warnings;
};

/// Whether one map by itself can bend pictures: it has answers within the frame (a redistorting one for all of it), and
/// neighbouring pixels look at neighbouring places the right way up. Fails with where and what it seems to be instead.
Expected<void> checkStMap(const StMap& map, bool isRedistorting);

/// The lens that a pair of maps describes: a field (LensField) of what the redistorting one says, fitted with cells of
/// 16 pixels, or finer while that misses it by more than 0.02 px; of half floats 96, which smooths their rounding. The
/// focal length is not in the maps. Fails when a map is of another size than the plate, leaves a part of the frame
/// without an answer, turns the picture over, or when the two do not undo each other to half a pixel (of half floats
/// and twice their rounding), saying by how much and where.
Expected<MapsLens> lensFromMaps(const StMap& undistorting, const StMap& redistorting, int width, int height,
                                double focal_px);

}  // namespace pinion
