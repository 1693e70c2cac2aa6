#pragma once

#include "lens/lens.h"

#include <cmath>

namespace pinion::bench {

/// RMS over the frame, in pixels, of how far apart two lenses put a place of the plate once it is undistorted. A place
/// where one has no answer counts as a thousand.
inline double mappingError(const Lens& a, const Lens& b) {
    constexpr int kAcross = 24, kDown = 14;
    double squares = 0;
    for (int i = 0; i <= kAcross; ++i)
        for (int j = 0; j <= kDown; ++j) {
            const Eigen::Vector2d plate(double(a.width) * i / kAcross, double(a.height) * j / kDown);
            const auto x = undistortedFromPlate(a, plate), y = undistortedFromPlate(b, plate);
            squares += x && y ? (*x - *y).squaredNorm() : 1e6;
        }
    return std::sqrt(squares / ((kAcross + 1) * (kDown + 1)));
}

/// The lens of the demo's *landing* and of its charts.
inline Lens landingLens() {
    Lens lens = pinholeLens(1280, 720, 28.0 / 36.0 * 1280);
    lens.k1 = -0.112;
    lens.k2 = 0.018;
    return lens;
}

}  // namespace pinion::bench
