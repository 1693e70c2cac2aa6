#include "shot/edits/plateedits.h"

#include <algorithm>

namespace pinion {

Shot withPlate(const Shot& shot, const PlateFacts& facts) {
    Shot result = shot;
    const FrameRange range = shot.plate.range;
    result.plate = plateRef(facts);
    if (shot.plate.isOpen())
        result.plate.range = {std::clamp(range.first, facts.firstFrame, facts.lastFrame),
                              std::clamp(range.last, facts.firstFrame, facts.lastFrame)};
    return result;
}

Shot withRange(const Shot& shot, const FrameRange& range) {
    Shot result = shot;
    result.plate.range.first =
        std::clamp(std::min(range.first, range.last), shot.plate.frames.first, shot.plate.frames.last);
    result.plate.range.last =
        std::clamp(std::max(range.first, range.last), shot.plate.frames.first, shot.plate.frames.last);
    return result;
}

}  // namespace pinion
