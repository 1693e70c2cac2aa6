#pragma once

#include "matte/matte.h"

#include <span>
#include <string>

namespace pinion {

/// The shapes of one frame as SVG 1.1, a pixel of the plate a unit: each a closed path of cubic curves in its colour,
/// named after it, those that do not count on the frame or are made of pictures left out. `mattes` without rides. What
/// SVG does not know (subtracting, growing, feathers) stands in each path's `data-` attributes.
std::string mattesSvg(std::span<const Matte> mattes, int frame, int width, int height);

}  // namespace pinion
