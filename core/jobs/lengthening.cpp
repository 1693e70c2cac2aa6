#include "jobs/lengthening.h"

#include "shot/carriers/carriers.h"
#include "shot/edits/trackedits.h"
#include "shot/objects.h"
#include "shot/stages/mattesstage.h"

#include <set>

namespace pinion {
namespace {

/// Tracks that something of the shot names: they stay their own.
std::set<TrackId> namedTracks(const Shot& shot) {
    std::set<TrackId> named;
    for (const Ride& ride : ridesOf(shot))
        for (const TrackId id : tracksCarrying(shot, ride)) named.insert(id);
    const World& world = shot.world;
    for (const auto* list : {&world.ground, &world.wall, &shot.solveSettings.sceneOf})
        named.insert(list->begin(), list->end());
    if (world.origin) named.insert(*world.origin);
    if (world.facing) named.insert({world.facing->from, world.facing->to});
    for (const World::Measure& measure : world.measures) named.insert({measure.from, measure.to});
    for (const KnownDistance& distance : shot.solveSettings.distances) named.insert({distance.a, distance.b});
    for (const KnownPlace& place : shot.solveSettings.places) named.insert(place.track);
    return named;
}

}  // namespace

Expected<SecondSweep> runLengthen(const Shot& shot, FrameCache& frames, const Progress& progress) {
    if (!shot.solve)
        return failure(Fault::outcome, "tracks are lengthened by a camera; solve the camera first (Ctrl+Return)");
    SecondSweepOptions options;
    options.range = shot.plate.range;
    options.mattes = mattesOf(shot);
    options.apart_px = 0.5 * shot.scatterSettings.leastDistance_px;
    options.kept = namedTracks(shot);
    const auto onObjects = tracksOnObjects(shot);
    const std::set<TrackId> apart(onObjects.begin(), onObjects.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (!track.setAside && !apart.contains(track.id)) tracks.push_back(track);
    return lengthen(frames, *shot.solve, tracks, options, progress);
}

Expected<ThoroughSolve> lengthenAndRefine(const Shot& shot, FrameCache& frames, const Progress& progress,
                                          const SolveWatch& watch) {
    auto sweep = runLengthen(shot, frames, progress.part(0, 0.6));
    if (!sweep) return tl::unexpected(sweep.error());
    ThoroughSolve result{std::move(*sweep), *shot.solve, std::nullopt};
    if (result.sweep.stopped) return result;
    auto solve = runSolve(withLengthened(shot, result.sweep), progress.part(0.6, 1), {.watch = watch, .refines = true});
    if (!solve && solve.error().fault != Fault::stopped) return tl::unexpected(solve.error());
    if (solve) result.solve = std::move(*solve);
    return result;
}

}  // namespace pinion
