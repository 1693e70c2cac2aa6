#pragma once

#include "planes/planecase.h"

#include <map>

namespace pinion::planes {

/// Where a general-purpose method has the surface's corners, by frame, and what it took.
struct Rival {
    std::map<int, Quad> corners;
    double seconds = 0;
};

/// OpenCV's ECC alignment (Evangelidis and Psarakis 2008) of the reference's rectangle to every frame, started from the
/// frame before; 50 iterations at most, to 1e-4.
Rival byEcc(const PlaneCase& c, const Plate& plate);

/// Features followed from frame to frame by pyramidal Lucas-Kanade, a homography by RANSAC between each two, chained.
Rival byChain(const PlaneCase& c, const Plate& plate);

}  // namespace pinion::planes
