#include "track/track.h"

#include "base/words.h"

#include <algorithm>
#include <array>

namespace pinion {
namespace {

constexpr std::array<std::string_view, 4> kMotions{"translation", "similarity", "affine", "perspective"};
constexpr std::array<std::string_view, 2> kOrigins{"top-left", "bottom-left"};
constexpr std::array<std::string_view, 3> kFilters{"none", "denoise", "local-contrast"};
constexpr std::array<std::string_view, 4> kChannels{"luma", "red", "green", "blue"};

}  // namespace

std::string_view toString(MotionModel motion) { return kMotions[std::size_t(motion)]; }

std::optional<MotionModel> motionModelFrom(std::string_view word) { return fromWord<MotionModel>(kMotions, word); }

std::string_view toString(Channel channel) { return kChannels[std::size_t(channel)]; }

std::optional<Channel> channelFrom(std::string_view word) { return fromWord<Channel>(kChannels, word); }

std::string_view toString(Origin origin) { return kOrigins[std::size_t(origin)]; }

std::optional<Origin> originFrom(std::string_view word) { return fromWord<Origin>(kOrigins, word); }

std::string_view toString(PreFilter filter) { return kFilters[std::size_t(filter)]; }

std::optional<PreFilter> preFilterFrom(std::string_view word) { return fromWord<PreFilter>(kFilters, word); }

std::string_view toString(EndReason reason) {
    switch (reason) {
        case EndReason::none:
            return "not tracked further";
        case EndReason::rangeEnd:
            return "end of the range";
        case EndReason::leftFrame:
            return "left the frame";
        case EndReason::covered:
            return "covered or changed";
        case EndReason::driftLimit:
            return "below the drift limit";
        case EndReason::ambiguous:
            return "ambiguous";
        case EndReason::excluded:
            return "ran into a matte";
    }
    return "";
}

int asideFrames(const Track& track) {
    struct AsideCount {
        int count;
    };
    return track.samples
        .derived<AsideCount>([](const std::vector<Sample>& all) {
            return AsideCount{int(std::count_if(all.begin(), all.end(), [](const Sample& s) { return s.aside; }))};
        })
        .count;
}

const Sample* sampleAt(const Track& track, int frame) {
    const auto& samples = track.samples.vector();
    const auto found =
        std::lower_bound(samples.begin(), samples.end(), frame, [](const Sample& s, int f) { return s.frame < f; });
    return found != samples.end() && found->frame == frame ? &*found : nullptr;
}

Track unbridged(const Track& track) {
    Track result = track;
    result.samples =
        track.samples.edited([](auto& samples) { std::erase_if(samples, [](const Sample& s) { return s.bridged; }); });
    return result;
}

Track bridged(const Track& track) {
    Track result = unbridged(track);
    const std::vector<Sample> seen = result.samples.vector();
    std::vector<Sample> filled;
    // The speed at a sample, from its neighbour on the side away from the gap.
    const auto speed = [&](std::size_t i, bool before) -> Eigen::Vector2d {
        const std::size_t other = before ? (i > 0 ? i - 1 : i) : std::min(i + 1, seen.size() - 1);
        const int step = seen[i].frame - seen[other].frame;
        return step == 0 ? Eigen::Vector2d(0, 0) : Eigen::Vector2d((seen[i].at - seen[other].at) / step);
    };
    for (std::size_t i = 0; i < seen.size(); ++i) {
        filled.push_back(seen[i]);
        if (i + 1 == seen.size() || seen[i + 1].frame == seen[i].frame + 1) continue;
        const Sample &a = seen[i], &b = seen[i + 1];
        const int span = b.frame - a.frame;
        const Eigen::Vector2d from = speed(i, true) * span, to = speed(i + 1, false) * span;
        for (int frame = a.frame + 1; frame < b.frame; ++frame) {
            const double t = double(frame - a.frame) / span;
            Sample sample{.frame = frame, .score = 0.0, .bridged = true};
            sample.at = (2 * t * t * t - 3 * t * t + 1) * a.at + (t * t * t - 2 * t * t + t) * from +
                        (3 * t * t - 2 * t * t * t) * b.at + (t * t * t - t * t) * to;
            sample.carried = a.carried + float(t) * (b.carried - a.carried);
            filled.push_back(sample);
        }
    }
    result.samples = List<Sample>(std::move(filled));
    return result;
}

Track joined(const Track& first, const Track& second) {
    Track result = first;
    std::vector<Sample> samples = first.samples.vector();
    for (const Sample& sample : second.samples)
        if (!sampleAt(first, sample.frame)) samples.push_back(sample);
    std::sort(samples.begin(), samples.end(), [](const Sample& a, const Sample& b) { return a.frame < b.frame; });
    if (second.firstFrame() < first.firstFrame()) result.startReason = second.startReason;
    if (second.lastFrame() > first.lastFrame()) result.endReason = second.endReason;
    result.samples = List<Sample>(std::move(samples));
    return result;
}

std::optional<int> firstDoubt(const Track& track) {
    const auto& samples = track.samples.vector();
    const auto count = std::ptrdiff_t(samples.size());
    const auto start = std::lower_bound(samples.begin(), samples.end(), track.referenceFrame,
                                        [](const Sample& s, int f) { return s.frame < f; }) -
                       samples.begin();
    const auto wrong = [&](std::ptrdiff_t i, std::ptrdiff_t step) {
        const Sample& sample = samples[std::size_t(i)];
        if (sample.tie) return false;
        if (sample.bridged || sample.score < track.driftLimit) return true;
        // A fall of the score: against the median of the eight frames before it on the way from the reference.
        std::vector<double> before;
        for (std::ptrdiff_t k = i - step; k >= 0 && k < count && before.size() < 8; k -= step)
            before.push_back(samples[std::size_t(k)].score);
        if (before.size() >= 3) {
            std::nth_element(before.begin(), before.begin() + std::ptrdiff_t(before.size() / 2), before.end());
            if (sample.score < before[before.size() / 2] - 0.06) return true;
        }
        // A jerk: one place that neither the way before nor the way after it leads to.
        if (i < 2 || i + 2 >= count) return false;
        const auto at = [&](std::ptrdiff_t k) { return samples[std::size_t(i + k)].at; };
        if (samples[std::size_t(i + 2)].frame - samples[std::size_t(i - 2)].frame != 4) return false;
        const double off = std::min((at(0) - 2 * at(-1) + at(-2)).norm(), (at(0) - 2 * at(1) + at(2)).norm());
        return off > 1.5 + 0.4 * (at(1) - at(-1)).norm();
    };
    for (std::ptrdiff_t reach = 1; reach < count; ++reach) {
        if (start + reach < count && wrong(start + reach, 1)) return samples[std::size_t(start + reach)].frame;
        if (start - reach >= 0 && wrong(start - reach, -1)) return samples[std::size_t(start - reach)].frame;
    }
    return std::nullopt;
}

}  // namespace pinion
