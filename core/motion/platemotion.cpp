#include "motion/platemotion.h"

#include <algorithm>

namespace pinion {

std::string_view toString(MotionKind kind) {
    switch (kind) {
        case MotionKind::position:
            return "position";
        case MotionKind::cornerPin:
            return "corner pin";
        case MotionKind::perspective:
            return "perspective";
        default:
            return "similarity";
    }
}

const FrameMotion* PlateMotion::at(int frame) const {
    const auto found =
        std::lower_bound(frames.begin(), frames.end(), frame, [](const FrameMotion& m, int f) { return m.frame < f; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

}  // namespace pinion
