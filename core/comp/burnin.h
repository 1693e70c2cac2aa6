#pragma once

#include "picture/picture.h"

#include <array>
#include <string>

namespace pinion {

/// Words burnt into a picture for a review: at the left, the middle and the right of a dark strip along its foot.
void burnIn(Picture& picture, const std::array<std::string, 3>& words);

}  // namespace pinion
