#include "shot/stages/tracksstage.h"

#include "shot/stages/mattesstage.h"

#include <algorithm>
#include <numeric>

namespace pinion {

std::vector<int> tracksPerFrame(const Shot& shot) {
    const FrameRange& range = shot.plate.range;
    // Where tracks begin and end, summed up; only gaps are looked at frame by frame.
    std::vector<int> counts(std::size_t(std::max(0, range.count())) + 1, 0);
    const auto add = [&](int first, int last) {
        first = std::max(first, range.first);
        last = std::min(last, range.last);
        if (first > last) return;
        ++counts[std::size_t(first - range.first)];
        --counts[std::size_t(last - range.first) + 1];
    };
    for (const Track& track : shot.tracks) {
        if (track.setAside || track.samples.isEmpty()) continue;
        if (track.lastFrame() - track.firstFrame() + 1 == int(track.samples.size()) && asideFrames(track) == 0)
            add(track.firstFrame(), track.lastFrame());
        else
            for (const Sample& sample : track.samples)
                if (!sample.aside) add(sample.frame, sample.frame);
    }
    std::partial_sum(counts.begin(), counts.end(), counts.begin());
    counts.pop_back();
    return counts;
}

ScatterOptions scatterOptionsOf(const Shot& shot, int startFrame) {
    const ScatterSettings& s = shot.scatterSettings;
    ScatterOptions options;
    options.candidates.features = s.features;
    options.candidates.leastDistance_px = s.leastDistance_px;
    options.candidates.threshold = s.threshold;
    options.pattern_px = s.pattern_px;
    options.search_px = s.search_px;
    options.motion = s.motion;
    options.driftLimit = s.driftLimit;
    options.channel = s.channel;
    options.preFilter = s.preFilter;
    options.range = shot.plate.range;
    options.startFrame = startFrame;
    options.mattes = mattesOf(shot);
    return options;
}

StageReport tracksReport(const Shot& shot) {
    StageReport report{StageState::empty, "none", ""};
    if (!shot.tracks.isEmpty()) {
        const auto aside =
            std::count_if(shot.tracks.begin(), shot.tracks.end(), [](const Track& t) { return t.setAside; });
        report.state = StageState::done;
        report.number = aside > 0 ? fmt::format("{} · {} set aside", shot.tracks.size(), aside)
                                  : fmt::format("{}", shot.tracks.size());
        const auto counts = tracksPerFrame(shot);
        std::vector<int> poor;
        for (std::size_t i = 0; i < counts.size(); ++i)
            if (counts[i] < kTrackFloor) poor.push_back(shot.plate.range.first + int(i));
        if (!poor.empty()) {
            report.state = StageState::attention;
            report.message = fmt::format("{} frame{} fewer than {} tracks: {}", poor.size(),
                                         poor.size() == 1 ? " has" : "s have", kTrackFloor, frameRanges(poor));
        }
    }
    return report;
}

}  // namespace pinion
