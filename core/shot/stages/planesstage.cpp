#include "shot/stages/planesstage.h"

#include "shot/stages/lensstage.h"

#include <algorithm>
#include <fmt/format.h>

namespace pinion {
namespace {

bool isEarly(PlaneEnd reason) { return reason != PlaneEnd::none && reason != PlaneEnd::rangeEnd; }

/// What to do where a track ended though its surface is there.
std::string remedyFor(const PlanarTrack& plane) {
    const auto is = [&](PlaneEnd reason) { return plane.startReason == reason || plane.endReason == reason; };
    if (is(PlaneEnd::unlike))
        return " A mirror shows another picture on each frame: take reflections out (Shift+W), or track what does not "
               "reflect.";
    if (is(PlaneEnd::covered)) return " What passes in front on its reference frame can be taken out (Shift+W).";
    return {};
}

}  // namespace

Lens cylinderLens(const Shot& shot) {
    const auto lens = lensInForce(shot);
    if (!lens) return pinholeLens(shot.plate.width, shot.plate.height, focalForLens_px(shot));
    // Straight lines tell the bend of a lens, not its focal length.
    return shot.lens.source == LensCard::Source::lines ? atFocal(*lens, focalForLens_px(shot)) : *lens;
}

bool knowsFocal(const Shot& shot) {
    if (shot.solve || shot.solveSettings.focal != Knowledge::unknown) return true;
    return lensInForce(shot) && shot.lens.source != LensCard::Source::lines;
}

std::string wordsOf(const PlanarTrack& plane, const FrameRange& range) {
    if (plane.samples.size() <= 1) return "not tracked yet";
    std::string words = fmt::format("{}-{}", plane.firstFrame(), plane.lastFrame());
    if (plane.fromScene) words += ", by the solved scene";
    if (isEarly(plane.startReason) && plane.firstFrame() > range.first)
        words += fmt::format("; before {}: {}", plane.firstFrame(), toString(plane.startReason));
    if (isEarly(plane.endReason) && plane.lastFrame() < range.last)
        words += fmt::format("; after {}: {}", plane.lastFrame(), toString(plane.endReason));
    return words;
}

StageReport planesReport(const Shot& shot) {
    StageReport report{StageState::empty, "none", ""};
    if (shot.planes.isEmpty()) return report;
    report.state = StageState::done;
    report.number = fmt::format("{} plane{}", shot.planes.size(), shot.planes.size() == 1 ? "" : "s");
    const auto attention = [&](std::string words) {
        if (report.state == StageState::attention) return;
        report.state = StageState::attention;
        report.message = std::move(words);
    };
    for (const PlanarTrack& plane : shot.planes) {
        if (plane.samples.size() <= 1) {
            attention(fmt::format("{}: is not tracked yet.", plane.name));
            continue;
        }
        if ((isEarly(plane.startReason) && plane.firstFrame() > shot.plate.range.first) ||
            (isEarly(plane.endReason) && plane.lastFrame() < shot.plate.range.last))
            attention(fmt::format("{}: {}.{}", plane.name, wordsOf(plane, shot.plate.range), remedyFor(plane)));
        std::vector<int> poor;
        for (const PlaneSample& sample : plane.samples)
            if (sample.fit < kPoorFit) poor.push_back(sample.frame);
        if (!poor.empty())
            attention(
                fmt::format("{}: fits poorly on {}; look whether it sticks there.", plane.name, frameRanges(poor)));
    }
    return report;
}

}  // namespace pinion
