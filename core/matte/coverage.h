#pragma once

#include "matte/matte.h"
#include "picture/picture.h"

#include <span>

namespace pinion {

/// How much of each pixel of a frame of `width` x `height` one shape covers, 0 to 1: exact areas along sharp edges
/// (Cairo), ramps as wide as its feather, by the distance from its outline, along soft ones.
ImageChannel coverageOf(const Matte& matte, int frame, int width, int height);

/// What all shapes cover together, in their order: added (the more of the two), taken away, cut. Their modes do not
/// count.
ImageChannel coverageOf(std::span<const Matte> mattes, int frame, int width, int height);

}  // namespace pinion
