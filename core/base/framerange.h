#pragma once

#include <string>
#include <vector>

namespace pinion {

struct FrameRange {
    int first = 0;
    int last = 0;  ///< inclusive
    bool holds(int frame) const { return frame >= first && frame <= last; }
    int count() const { return last - first + 1; }
    bool operator==(const FrameRange&) const = default;
};

/// "1003-1005, 1009": frame numbers for messages and lists.
std::string frameRanges(const std::vector<int>& frames);

}  // namespace pinion
