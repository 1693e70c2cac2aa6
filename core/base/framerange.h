#pragma once

namespace pinion {

struct FrameRange {
    int first = 0;
    int last = 0;  ///< inclusive
    bool holds(int frame) const { return frame >= first && frame <= last; }
    int count() const { return last - first + 1; }
    bool operator==(const FrameRange&) const = default;
};

}  // namespace pinion
