#include "jobs/solving.h"

#include "shot/stages/camerastage.h"

#include <algorithm>

namespace pinion {

Expected<Solve> runSolve(const Shot& shot, const Progress& progress, const SolveRun& run) {
    if (shot.tracks.isEmpty())
        return failure(Fault::outcome, "there are no tracks to solve from; scatter features first");
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks) {
        if (track.setAside) continue;
        Track within = track;
        within.samples = track.samples.edited([&](auto& samples) {
            std::erase_if(samples,
                          [&](const Sample& s) { return !shot.plate.range.holds(s.frame) || s.bridged || s.aside; });
            for (Sample& sample : samples) sample.at = sample.wanted();
        });
        tracks.push_back(std::move(within));
    }
    SolveOptions options = solveOptionsOf(shot);
    options.trim_px = run.trim_px;
    if (run.refines) options.start = shot.solve;
    return solveCamera(tracks, options, progress, run.watch);
}

}  // namespace pinion
