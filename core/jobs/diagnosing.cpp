#include "jobs/diagnosing.h"

#include "jobs/solving.h"
#include "shot/edits/trackedits.h"
#include "shot/ingredients.h"

#include <algorithm>
#include <cmath>
#include <set>
#include <unordered_map>

namespace pinion {
namespace {

constexpr int kAcross = 8, kDown = 6;

/// The errors of the held-out tracks that `both` name, over all their frames.
double heldOutOf(const Solve& solve, const std::set<TrackId>& both) {
    double squares = 0, frames = 0;
    for (const SolvedTrack& track : solve.tracks)
        if (track.role == TrackRole::heldOut && both.contains(track.track)) {
            squares += track.rms_px * track.rms_px * track.frames;
            frames += track.frames;
        }
    return frames > 0 ? std::sqrt(squares / frames) : 0;
}

struct Spread {
    int fewest = 0, frame = 0;
    double covered = 0;
};
Spread spreadOf(const Solve& solve, std::span<const Track> tracks, int width, int height) {
    std::unordered_map<TrackId, const Track*> byId;
    for (const Track& track : tracks) byId[track.id] = &track;
    std::map<int, int> onFrame;
    for (const SolvedFrame& frame : solve.frames) onFrame[frame.frame] = 0;
    std::set<int> cells;
    for (const SolvedTrack& solved : solve.tracks) {
        const auto found = byId.find(solved.track);
        if (found == byId.end() || solved.role != TrackRole::used) continue;
        for (const Sample& sample : found->second->samples) {
            if (const auto on = onFrame.find(sample.frame); on != onFrame.end()) ++on->second;
            const int x = std::clamp(int(sample.at.x() * kAcross / std::max(1, width)), 0, kAcross - 1),
                      y = std::clamp(int(sample.at.y() * kDown / std::max(1, height)), 0, kDown - 1);
            cells.insert(y * kAcross + x);
        }
    }
    Spread spread;
    spread.covered = double(cells.size()) / (kAcross * kDown);
    const auto least = std::min_element(onFrame.begin(), onFrame.end(),
                                        [](const auto& a, const auto& b) { return a.second < b.second; });
    if (least != onFrame.end()) {
        spread.frame = least->first;
        spread.fewest = least->second;
    }
    return spread;
}

}  // namespace

std::uint64_t lookKey(const Shot& shot) {
    Fingerprint print;
    addTracks(print, shot.tracks, AsideTracks::leftOut);
    addSolve(print, shot);
    print.add(shot.plate.range.first).add(shot.plate.range.last);
    return print.value();
}

Expected<SolveLook> lookAtSolve(const Shot& shot, const Progress& progress) {
    if (!shot.solve) return failure(Fault::outcome, "nothing is solved yet; solve the camera first");
    const std::vector<Track> tracks = solvableTracks(shot);
    SolveLook look;
    look.errors = errorsOf(*shot.solve, tracks, progress);
    if (progress.stopped()) return failure(Fault::stopped, "stopped");
    look.suspects = suspectsOf(*shot.solve, look.errors);
    std::map<int, std::pair<double, int>> sums;
    for (std::size_t t = 0; t < look.errors.size(); ++t) {
        const SolvedTrack& solved = shot.solve->tracks[t];
        if (solved.role != TrackRole::used) continue;
        for (const TrackErrors::Error& one : look.errors[t].of) {
            if (solved.goodFrames && (one.frame < solved.goodFrames->first || one.frame > solved.goodFrames->second))
                continue;
            auto& [squares, count] = sums[one.frame];
            squares += one.error.squaredNorm();
            ++count;
        }
    }
    for (const auto& [frame, sum] : sums) look.byFrame[frame] = std::sqrt(sum.first / sum.second);
    return look;
}

Expected<Without> solveWithout(const Shot& shot, std::span<const TrackId> tracks, const Progress& progress) {
    if (!shot.solve) return failure(Fault::outcome, "nothing is solved yet; solve the camera first");
    Shot less = withSetAside(shot, std::vector<TrackId>(tracks.begin(), tracks.end()), true);
    const std::set<TrackId> gone(tracks.begin(), tracks.end());
    auto solved = runSolve(less, progress, {.refines = true});
    if (!solved) return tl::unexpected(solved.error());
    std::set<TrackId> held, both;
    for (const SolvedTrack& track : shot.solve->tracks)
        if (track.role == TrackRole::heldOut && !gone.contains(track.track)) held.insert(track.track);
    for (const SolvedTrack& track : solved->tracks)
        if (track.role == TrackRole::heldOut && held.contains(track.track)) both.insert(track.track);
    const std::vector<Track> all = solvableTracks(shot);
    const Spread now = spreadOf(*shot.solve, all, shot.plate.width, shot.plate.height),
                 then = spreadOf(*solved, all, shot.plate.width, shot.plate.height);
    return Without{.tracks = gone.size(),
                   .heldOut_px = heldOutOf(*shot.solve, both),
                   .heldOutThen_px = heldOutOf(*solved, both),
                   .rms_px = shot.solve->rms_px,
                   .rmsThen_px = solved->rms_px,
                   .fewest = now.fewest,
                   .fewestThen = then.fewest,
                   .fewestFrame = then.frame,
                   .covered = now.covered,
                   .coveredThen = then.covered};
}

}  // namespace pinion
