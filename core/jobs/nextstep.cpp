#include "jobs/nextstep.h"

#include "base/units.h"
#include "shot/objects.h"
#include "shot/stages/camerastage.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace pinion {
namespace {

constexpr int kThin = 20;          // tracks on a frame, below which a camera wanders
constexpr double kPattern = 0.45;  // of the noise: a mean that many tracks share is no noise
constexpr double kHarmful = 0.1;   // share of the used tracks; a rendered plate's good solve has 0.06

/// A frame without a camera, or the one with the fewest tracks where those are few.
NextStep thinFrame(const Shot& shot) {
    const Solve& solve = *shot.solve;
    int open = 0, first = 0;
    for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
        if (!solvedFrameAt(solve, frame) && open++ == 0) first = frame;
    if (open > 0)
        return {NextStep::Kind::goThere,
                fmt::format("{} frame{} ha{} no camera, from {} on: too few tracks go through. Track more there.", open,
                            open == 1 ? "" : "s", open == 1 ? "s" : "ve", first),
                first};
    const auto least = std::min_element(solve.frames.begin(), solve.frames.end(),
                                        [](const SolvedFrame& a, const SolvedFrame& b) { return a.tracks < b.tracks; });
    if (least != solve.frames.end() && least->tracks > 0 && least->tracks < kThin)
        return {NextStep::Kind::goThere,
                fmt::format("Only {} tracks hold frame {}: the camera may wander there. Track more, on all depths.",
                            least->tracks, least->frame),
                least->frame};
    return {};
}

NextStep moverThatCounts(const Shot& shot) {
    const auto on = tracksOnObjects(shot);
    std::set<TrackId> apart(on.begin(), on.end());
    for (const Track& track : shot.tracks)
        if (track.setAside) apart.insert(track.id);
    for (std::size_t i = 0; i < shot.solve->movers.size(); ++i) {
        const MovingTracks& mover = shot.solve->movers[i];
        const auto left = std::count_if(mover.tracks.begin(), mover.tracks.end(), [&](TrackId id) {
            return !apart.contains(id) && findTrack(shot, id) != nullptr;
        });
        if (2 * left > std::ptrdiff_t(mover.tracks.size()) && left >= 4) {
            NextStep step{NextStep::Kind::maskMover,
                          fmt::format("{} tracks move as one thing of their own, {} to {}: mask it, and solve again.",
                                      left, mover.frames.first, mover.frames.second)};
            step.mover = i;
            return step;
        }
    }
    return {};
}

/// Whether tracks are off alike where they are, over the whole shot: the lens, not the tracks.
NextStep lensPattern(const Shot& shot, const SolveLook& look) {
    const Solve& solve = *shot.solve;
    double squares = 0;
    int told = 0;
    for (const SolveLook::Part& part : look.parts)
        if (part.tracks >= 6) {
            squares += part.usual.squaredNorm();
            ++told;
        }
    if (told < 20) return {};
    const double mean = std::sqrt(squares / told);
    const double noise = std::max(solve.noise_px, 0.04 * solve.lens.width / 1920.0);
    using Distortion = SolveSettings::Distortion;
    if (mean < kPattern * noise || shot.solveSettings.distortion == Distortion::full) return {};
    return {NextStep::Kind::freeLens,
            fmt::format("Tracks are off alike where they are: {:.2f} px in the mean of {} parts of the picture, at a "
                        "noise of {:.2f}. The lens bends in another way: find all of its terms.",
                        mean, told, noise)};
}

}  // namespace

NextStep nextStepOf(const Shot& shot, const SolveLook& look) {
    if (!shot.solve) return {};
    const Solve& solve = *shot.solve;
    if (shot.solvedKey != solveKey(shot))
        return {NextStep::Kind::solveAgain, "Tracks or settings have changed since: refine, or solve again."};
    if (NextStep step = moverThatCounts(shot); step.kind != NextStep::Kind::none) return step;
    if (NextStep step = thinFrame(shot); step.kind != NextStep::Kind::none) return step;
    if (solve.focalRange_mm && shot.solveSettings.focal == Knowledge::unknown) {
        const auto [from, to] = *solve.focalRange_mm;
        NextStep step{
            NextStep::Kind::guessFocal,
            fmt::format("{:.0f} to {:.0f} mm fit alike: the move does not tell the focal length. Say what the "
                        "lens was, or guess.",
                        from, to)};
        step.focal_mm = focalMillimetres(solve.lens.focal_px, solve.sensorWidth_mm, shot.plate.width);
        return step;
    }
    if (NextStep step = lensPattern(shot, look); step.kind != NextStep::Kind::none) return step;
    std::set<TrackId> used;
    for (const SolvedTrack& track : solve.tracks)
        if (track.role == TrackRole::used) used.insert(track.track);
    const auto harmful = std::count_if(look.suspects.begin(), look.suspects.end(), [&](const Suspect& one) {
        return isHarmful(one.reason) && used.contains(one.track);
    });
    if (double(harmful) > kHarmful * double(used.size()))
        return {NextStep::Kind::setAside,
                fmt::format("{} of {} used tracks are suspected: see below, or set aside while it gains.", harmful,
                            used.size())};
    if (solve.doubt.empty() && shot.world.ground.isEmpty() && solve.motion == CameraMotion::travelling &&
        !solve.inMetres)
        return {NextStep::Kind::layGround, "Nothing stands out. Next: the ground, from points that lie on it."};
    return {};
}

}  // namespace pinion
