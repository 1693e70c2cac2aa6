#include "jobs/diagnosing.h"

#include "base/median.h"
#include "jobs/solving.h"
#include "shot/edits/trackedits.h"
#include "shot/ingredients.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>
#include <string>
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
    constexpr int kWide = 16, kHigh = 9;
    struct Crossing {
        std::size_t track = 0;
        Eigen::Vector2d sum{0, 0};
        int count = 0;
    };
    std::vector<std::vector<Crossing>> parts(kWide * kHigh);
    const double wide = double(shot.plate.width) / kWide, high = double(shot.plate.height) / kHigh;
    for (std::size_t t = 0; t < look.errors.size(); ++t) {
        const SolvedTrack& solved = shot.solve->tracks[t];
        if (solved.role != TrackRole::used) continue;
        for (const TrackErrors::Error& one : look.errors[t].of) {
            if (solved.goodFrames && (one.frame < solved.goodFrames->first || one.frame > solved.goodFrames->second))
                continue;
            auto& [squares, count] = sums[one.frame];
            squares += one.error.squaredNorm();
            ++count;
            const int x = std::clamp(int(one.at.x() / wide), 0, kWide - 1),
                      y = std::clamp(int(one.at.y() / high), 0, kHigh - 1);
            std::vector<Crossing>& part = parts[std::size_t(y) * kWide + std::size_t(x)];
            if (part.empty() || part.back().track != t) part.push_back({.track = t});
            part.back().sum += one.error;
            ++part.back().count;
        }
    }
    for (std::size_t i = 0; i < parts.size(); ++i) {
        if (parts[i].empty()) continue;
        std::vector<double> across, down;
        for (const Crossing& one : parts[i]) {
            across.push_back(one.sum.x() / one.count);
            down.push_back(one.sum.y() / one.count);
        }
        const std::size_t column = i % kWide, row = i / kWide;
        look.parts.push_back({{(double(column) + 0.5) * wide, (double(row) + 0.5) * high},
                              {median(std::move(across)), median(std::move(down))},
                              int(parts[i].size())});
    }
    for (const auto& [frame, sum] : sums) look.byFrame[frame] = std::sqrt(sum.first / sum.second);
    return look;
}

namespace {

/// What a solve of fewer tracks is against one of more; `all` are the tracks of the first.
Without comparedWith(const Solve& now, const Solve& then, const std::set<TrackId>& gone, const Shot& shot,
                     std::span<const Track> all) {
    std::set<TrackId> held, both;
    for (const SolvedTrack& track : now.tracks)
        if (track.role == TrackRole::heldOut && !gone.contains(track.track)) held.insert(track.track);
    for (const SolvedTrack& track : then.tracks)
        if (track.role == TrackRole::heldOut && held.contains(track.track)) both.insert(track.track);
    const Spread before = spreadOf(now, all, shot.plate.width, shot.plate.height),
                 after = spreadOf(then, all, shot.plate.width, shot.plate.height);
    return Without{.tracks = gone.size(),
                   .heldOut_px = heldOutOf(now, both),
                   .heldOutThen_px = heldOutOf(then, both),
                   .rms_px = now.rms_px,
                   .rmsThen_px = then.rms_px,
                   .fewest = before.fewest,
                   .fewestThen = after.fewest,
                   .fewestFrame = after.frame,
                   .covered = before.covered,
                   .coveredThen = after.covered};
}

/// The used tracks with the largest errors, one in fifty.
std::vector<TrackId> worstOf(const Solve& solve) {
    std::vector<std::pair<double, TrackId>> used;
    for (const SolvedTrack& track : solve.tracks)
        if (track.role == TrackRole::used) used.emplace_back(-track.rms_px, track.track);
    std::sort(used.begin(), used.end());
    std::vector<TrackId> worst;
    for (const auto& [error, track] : std::span(used).first(used.size() / 50)) worst.push_back(track);
    return worst;
}

}  // namespace

Expected<Without> solveWithout(const Shot& shot, std::span<const TrackId> tracks, const Progress& progress) {
    if (!shot.solve) return failure(Fault::outcome, "nothing is solved yet; solve the camera first");
    const Shot less = withSetAside(shot, std::vector<TrackId>(tracks.begin(), tracks.end()), true);
    const auto solved = runSolve(less, progress, {.refines = true});
    if (!solved) return tl::unexpected(solved.error());
    return comparedWith(*shot.solve, *solved, {tracks.begin(), tracks.end()}, shot, solvableTracks(shot));
}

Expected<Weeding> setAsideWhileItGains(const Shot& shot, const Progress& progress) {
    if (!shot.solve) return failure(Fault::outcome, "nothing is solved yet; solve the camera first");
    constexpr int kRounds = 12, kTries = 24;
    constexpr double kGain = 0.995, kKept = 0.5, kUncovered = 0.03;
    // Settled first, so that nothing is taken for a gain that a few steps more would have given.
    auto settled = runSolve(shot, progress, {.refines = true});
    if (!settled) return tl::unexpected(settled.error());
    if (progress.stopped()) return failure(Fault::stopped, "stopped before anything was tried");
    if (settled->heldOut == 0)
        return failure(Fault::outcome, "there are too few tracks to hold any out, so no gain can be measured");
    Shot held = shot;
    held.solve = std::make_shared<const Solve>(*settled);
    const Solve first = *settled;
    const std::vector<Track> all = solvableTracks(shot);
    Weeding weeding;
    std::set<TrackId> gone;
    std::set<std::vector<TrackId>> refused;
    bool goesOn = true;
    for (int round = 0, tries = 0; round < kRounds && goesOn; ++round) {
        const auto look = lookAtSolve(held, progress);
        if (!look) break;
        std::vector<std::pair<std::string, std::vector<TrackId>>> steps;
        for (std::size_t reason = 0; reason < kSuspectReasons; ++reason) {
            if (!isHarmful(SuspectReason(reason))) continue;
            std::vector<TrackId> tracks;
            for (const Suspect& one : look->suspects)
                if (one.reason == SuspectReason(reason)) tracks.push_back(one.track);
            steps.emplace_back(wordsOf(SuspectReason(reason)), std::move(tracks));
        }
        steps.emplace_back("have the largest errors", worstOf(*held.solve));
        goesOn = false;
        for (auto& [words, tracks] : steps) {
            if (tracks.empty() || refused.contains(tracks) || ++tries > kTries) continue;
            progress.report(double(round) / kRounds, fmt::format("Without {} that {}", tracks.size(), words));
            const Shot less = withSetAside(held, tracks, true);
            auto solved =
                runSolve(less, progress.part(double(round) / kRounds, double(round + 1) / kRounds), {.refines = true});
            if (progress.stopped()) break;
            if (solved) {
                const Without step = comparedWith(*held.solve, *solved, {tracks.begin(), tracks.end()}, shot, all);
                if (step.heldOutThen_px > 0 && step.heldOutThen_px < kGain * step.heldOut_px &&
                    step.fewestThen >= std::max(8.0, kKept * step.fewest) &&
                    step.coveredThen >= step.covered - kUncovered) {
                    gone.insert(tracks.begin(), tracks.end());
                    weeding.steps.push_back(fmt::format("{} that {}", tracks.size(), words));
                    held = less;
                    held.solve = std::make_shared<const Solve>(std::move(*solved));
                    goesOn = true;
                    break;
                }
            }
            refused.insert(std::move(tracks));
        }
    }
    if (progress.stopped() && gone.empty()) return failure(Fault::stopped, "stopped before anything was gained");
    const Without whole = comparedWith(first, *held.solve, gone, shot, all);
    weeding.aside.assign(gone.begin(), gone.end());
    weeding.heldOut_px = whole.heldOut_px;
    weeding.heldOutThen_px = whole.heldOutThen_px;
    weeding.solve = *held.solve;
    return weeding;
}

}  // namespace pinion
