#pragma once

#include "base/expected.h"
#include "comp/insert.h"

#include <span>

namespace pinion {

/// What brings art to the plate: gain and lift of each colour, so that the darkest and the lightest of both are the
/// same, and the blur that makes its edges as soft as the plate's.
struct Matched {
    Grade grade;
    double blur_px = 0;
    bool hasEdges = true;  ///< false: too few to tell the blur, which is 0 then
};

/// Of the plate inside `area` (pixels of the plate), for a layer as it is laid there, neither graded nor blurred. Of
/// the layer what lies inside the area counts, all of it where that is little. Darkest and lightest are those of a
/// fiftieth of the pixels, after what is finer than a pixel has been smoothed away in both. The blur is the one with
/// which the layer's strong edges fall off between two scales as the plate's do. Fails where area or layer are too
/// small to tell, with what to do.
Expected<Matched> matched(const Picture& plate, const Layer& layer, std::span<const Eigen::Vector2d> area);

}  // namespace pinion
