#include "track/track.h"

#include <algorithm>
#include <array>

namespace pinion {
namespace {

constexpr std::array<std::string_view, 4> kMotions{"translation", "similarity", "affine", "perspective"};
constexpr std::array<std::string_view, 4> kChannels{"luma", "red", "green", "blue"};

}  // namespace

std::string_view toString(MotionModel motion) { return kMotions[std::size_t(motion)]; }

std::optional<MotionModel> motionModelFrom(std::string_view word) {
    for (std::size_t i = 0; i < kMotions.size(); ++i)
        if (kMotions[i] == word) return MotionModel(i);
    return std::nullopt;
}

std::string_view toString(Channel channel) { return kChannels[std::size_t(channel)]; }

std::optional<Channel> channelFrom(std::string_view word) {
    for (std::size_t i = 0; i < kChannels.size(); ++i)
        if (kChannels[i] == word) return Channel(i);
    return std::nullopt;
}

std::string_view toString(EndReason reason) {
    switch (reason) {
        case EndReason::none: return "not tracked further";
        case EndReason::rangeEnd: return "end of the range";
        case EndReason::leftFrame: return "left the frame";
        case EndReason::covered: return "covered or changed";
        case EndReason::driftLimit: return "below the drift limit";
        case EndReason::ambiguous: return "ambiguous";
    }
    return "";
}

const Sample* sampleAt(const Track& track, int frame) {
    const auto& samples = track.samples.vector();
    const auto found = std::lower_bound(samples.begin(), samples.end(), frame, [](const Sample& s, int f) { return s.frame < f; });
    return found != samples.end() && found->frame == frame ? &*found : nullptr;
}

}  // namespace pinion
