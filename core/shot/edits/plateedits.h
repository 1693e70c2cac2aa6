#pragma once

#include "shot/shot.h"

namespace pinion {

/// The same shot on another opening of its plate.
Shot withPlate(const Shot& shot, const PlateFacts& facts);
// Edits: each gives the shot after it.
Shot withRange(const Shot& shot, const FrameRange& range);

}  // namespace pinion
