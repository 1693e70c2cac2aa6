#pragma once

#include "picture/picture.h"

#include <vector>

namespace pinion {

/// A frame made ready for matching: level 0 at full size, lightly smoothed against grain and the bias of interpolation;
/// each further level at half the size of the one before. Sample i of level l lies over sample i * 2^l of level 0.
struct Pyramid {
    std::vector<ImageChannel> levels;
    int width() const { return levels.empty() ? 0 : levels.front().width; }
    int height() const { return levels.empty() ? 0 : levels.front().height; }
};

Pyramid buildPyramid(const Picture& picture, Channel channel = Channel::luma, PreFilter filter = PreFilter::none,
                     int levels = 3);

/// The part around `at` that reaches `radius` pixels of level 0 to every side, as far as there is picture.
struct PyramidPart {
    Pyramid pyramid;
    double left = 0, top = 0;  ///< where its first sample lies in the whole one
};
PyramidPart partAround(const Pyramid& whole, double x, double y, double radius);

}  // namespace pinion
