#pragma once

#include "shot/ingredients.h"
#include "shot/shot.h"
#include "shot/stages/report.h"

namespace pinion {

StageReport planesReport(const Shot& shot);

/// The lens that a cylinder is seen through: the one in force, else one without distortion of the focal length that is
/// given, or usual.
Lens cylinderLens(const Shot& shot);
/// Whether its focal length was measured or told, not assumed.
bool knowsFocal(const Shot& shot);

/// What is to be said of one plane: where it is and why it ends, or what to do next.
std::string wordsOf(const PlanarTrack& plane, const FrameRange& range);

/// How well a frame's sample can be relied on: what is below is worth a look.
inline constexpr float kGoodFit = 0.95F, kPoorFit = 0.85F;

}  // namespace pinion
