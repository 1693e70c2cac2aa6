#include "jobs/solving.h"

#include "base/median.h"
#include "shot/objects.h"
#include "shot/stages/camerastage.h"
#include "world/world.h"

#include <algorithm>
#include <set>

namespace pinion {
namespace {

/// What a solve takes of a track: within the range, where it is wanted, as far as it was seen.
Track solvable(const Shot& shot, const Track& track) {
    Track within = track;
    within.samples = track.samples.edited([&](auto& samples) {
        std::erase_if(samples,
                      [&](const Sample& s) { return !shot.plate.range.holds(s.frame) || s.bridged || s.aside; });
        for (Sample& sample : samples) sample.at = sample.wanted();
    });
    return within;
}

/// From the world as it is handed on to that of the solve.
ObjectSolve undone(ObjectSolve object, const Orientation& orientation) {
    for (ObjectFrame& frame : object.frames) {
        frame.worldFromObject.translation() = orientation.undo(frame.worldFromObject.translation());
        frame.worldFromObject.linear() = orientation.rotation.transpose() * frame.worldFromObject.linear();
    }
    for (ObjectPoint& point : object.points) point.xyz /= orientation.scale;
    return object;
}

}  // namespace

std::vector<Track> solvableTracks(const Shot& shot) {
    const auto onObjects = tracksOnObjects(shot);
    const std::set<TrackId> apart(onObjects.begin(), onObjects.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (!track.setAside && !apart.contains(track.id)) tracks.push_back(solvable(shot, track));
    return tracks;
}

Expected<Solve> runSolve(const Shot& shot, const Progress& progress, const SolveRun& run) {
    if (shot.tracks.isEmpty())
        return failure(Fault::outcome, "there are no tracks to solve from; scatter features first");
    const std::vector<Track> tracks = solvableTracks(shot);
    SolveOptions options = solveOptionsOf(shot);
    options.trim_px = run.trim_px;
    if (run.refines) options.start = shot.solve;
    return solveCamera(tracks, options, progress, run.watch);
}

Expected<ObjectSolve> runObject(const Shot& shot, ObjectId id, const Progress& progress) {
    const ShotObject* object = findObject(shot, id);
    if (!object) return failure(Fault::input, "there is no such object");
    if (!shot.solve)
        return failure(Fault::outcome, "{}: an object is solved against a camera; solve that first", object->name);
    ObjectOptions options;
    options.tracks = object->tracks.vector();
    options.onGround = object->onGround.vector();
    options.sensorWidth_mm = shot.solve->sensorWidth_mm;
    options.readout = shot.solve->readout;
    std::vector<CameraOnFrame> cameras = camerasOf(*shot.solve);
    Orientation orientation;
    if (!options.onGround.empty()) {
        if (shot.world.ground.isEmpty())
            return failure(Fault::outcome, "{}: it touches a ground that is not laid yet; lay it on the World card",
                           object->name);
        const auto oriented = orient(shot.world, *shot.solve);
        if (!oriented) return tl::unexpected(oriented.error());
        orientation = *oriented;
        for (CameraOnFrame& camera : cameras) camera.worldFromCamera = orientation.apply(camera.worldFromCamera);
    }
    std::vector<double> away;
    for (const SolvedTrack& track : shot.solve->tracks)
        if (track.xyz && track.role == TrackRole::used)
            away.push_back((*track.xyz - shot.solve->frames.front().worldFromCamera.translation()).norm());
    if (!away.empty()) options.usualDistance = orientation.scale * median(std::move(away));
    const std::set<TrackId> own(object->tracks.begin(), object->tracks.end());
    std::vector<Track> tracks;
    // What the camera contradicts may be on it too; what is on another object is not.
    const auto onObjects = tracksOnObjects(shot);
    const std::set<TrackId> taken(onObjects.begin(), onObjects.end());
    options.mayJoin = looseTracks(*shot.solve);
    std::erase_if(options.mayJoin, [&](TrackId track) { return taken.contains(track); });
    const std::set<TrackId> loose(options.mayJoin.begin(), options.mayJoin.end());
    for (const Track& track : shot.tracks)
        if (own.contains(track.id) || (loose.contains(track.id) && !track.setAside)) {
            tracks.push_back(solvable(shot, track));
            tracks.back().setAside = false;  // it may be set aside from the camera
        }
    auto solved = solveObject(cameras, tracks, options, progress);
    if (!solved) return failure(solved.error().fault, "{}: {}", object->name, solved.error().message);
    return undone(std::move(*solved), orientation);
}

}  // namespace pinion
