#include "base/framerange.h"

#include <fmt/format.h>

namespace pinion {

std::string frameRanges(const std::vector<int>& frames) {
    std::string text;
    for (std::size_t i = 0; i < frames.size();) {
        std::size_t last = i;
        while (last + 1 < frames.size() && frames[last + 1] == frames[last] + 1) ++last;
        if (!text.empty()) text += ", ";
        text += last == i ? fmt::format("{}", frames[i]) : fmt::format("{}-{}", frames[i], frames[last]);
        i = last + 1;
    }
    return text;
}

}  // namespace pinion
