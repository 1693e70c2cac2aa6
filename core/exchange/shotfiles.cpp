#include "exchange/shotfiles.h"

#include "shot/stages/worldstage.h"

#include "camera/object.h"
#include "lens/stmap.h"
#include "shot/stages/lensstage.h"

#include <cmath>
#include <fmt/format.h>

namespace pinion {

Expected<CameraFile> cameraFileOf(const Shot& shot) {
    if (!shot.solve)
        return failure(Fault::outcome, "shot {}: there is no solved camera to deliver; solve it first", shot.name);
    const auto orientation = orient(shot.world, *shot.solve);
    if (!orientation) return tl::unexpected(orientation.error());
    CameraFile file;
    file.width = shot.plate.width;
    file.height = shot.plate.height;
    file.fps = shot.plate.fps;
    file.times = shot.plate.times;
    file.lens = shot.solve->lens;
    file.sensorWidth_mm = shot.solve->sensorWidth_mm;
    file.zoom = shot.solve->zoom;
    file.motion = toString(shot.solve->motion);
    file.doubt = shot.solve->doubt;
    file.readout = shot.solve->readout;
    file.focalDeviation_mm = shot.solve->focalDeviation_mm.value_or(0);
    for (const SolvedFrame& frame : shot.solve->frames)
        file.frames.push_back({frame.frame, orientation->apply(frame.worldFromCamera), frame.focal_px,
                               file.zoom ? lensOf(*shot.solve, frame).k1 : 0.0});
    for (const SolvedTrack& track : shot.solve->tracks) {
        if ((!track.xyz && !track.direction) || track.role == TrackRole::disagreed) continue;
        const Track* named = findTrack(shot, track.track);
        const std::string name = named ? named->name : fmt::format("t-{}", track.track);
        if (track.xyz) file.points.push_back({name, orientation->apply(*track.xyz)});
        else file.directions.push_back({name, (orientation->rotation * *track.direction).normalized()});
    }
    file.rms_px = shot.solve->rms_px;
    file.heldOutRms_px = shot.solve->heldOutRms_px;
    file.tracks = shot.solve->used;
    file.scene = sceneInWorld(shot);
    if (auto objects = objectFileOf(shot)) file.objects = std::move(objects->objects);
    return file;
}

Expected<ObjectFile> objectFileOf(const Shot& shot) {
    if (!shot.solve)
        return failure(Fault::outcome, "shot {}: objects are in the world of a camera; solve it first", shot.name);
    const auto orientation = orient(shot.world, *shot.solve);
    if (!orientation) return tl::unexpected(orientation.error());
    const auto nameOf = [&](TrackId id) {
        const Track* named = findTrack(shot, id);
        return named ? named->name : fmt::format("t-{}", id);
    };
    ObjectFile file;
    for (const ShotObject& object : shot.objects) {
        if (!object.solve) continue;
        ObjectFile::Object one = objectOf(object.name, *object.solve, nameOf);
        for (ObjectFile::Frame& frame : one.frames) {
            frame.worldFromObject.translation() =
                orientation->apply(Eigen::Vector3d(frame.worldFromObject.translation()));
            frame.worldFromObject.linear() = orientation->rotation * frame.worldFromObject.linear();
        }
        for (ObjectFile::Point& point : one.points) point.xyz *= orientation->scale;
        file.objects.push_back(std::move(one));
    }
    if (file.objects.empty())
        return failure(Fault::outcome, "shot {}: no object is solved; choose its tracks on the Camera card", shot.name);
    return file;
}

Solve solveOf(const CameraFile& file) {
    Solve solve;
    solve.lens = file.lens;
    solve.sensorWidth_mm = file.sensorWidth_mm;
    solve.zoom = file.zoom;
    solve.readout = file.readout;
    solve.motion = file.motion == "nodal"    ? CameraMotion::nodal
                   : file.motion == "locked" ? CameraMotion::locked
                                             : CameraMotion::travelling;
    std::vector<SolvedFrame> frames;
    double farthest = 0;
    for (const CameraFile::Frame& frame : file.frames) {
        frames.push_back({.frame = frame.frame, .worldFromCamera = frame.worldFromCamera, .focal_px = frame.focal_px});
        // The bend of a zoom goes with the logarithm of its focal length; it is told best where that is farthest.
        const double zoomed = file.zoom ? std::log(frame.focal_px / file.lens.focal_px) : 0;
        if (std::abs(zoomed) <= farthest) continue;
        farthest = std::abs(zoomed);
        solve.k1Slope = (frame.k1 - file.lens.k1) / zoomed;
    }
    solve.frames = List<SolvedFrame>(std::move(frames));
    std::vector<SolvedTrack> tracks;
    for (const CameraFile::Point& point : file.points) tracks.push_back({.role = TrackRole::used, .xyz = point.xyz});
    solve.tracks = List<SolvedTrack>(std::move(tracks));
    return solve;
}

TrackFile trackFileOf(const Shot& shot) {
    return {shot.plate.width, shot.plate.height, shot.plate.fps, shot.tracks.vector(), shot.plate.times};
}

Expected<Lens> lensFileOf(const Shot& shot) {
    if (shot.solve) return shot.solve->lens;
    if (const auto lens = lensInForce(shot)) return *lens;
    return failure(Fault::outcome,
                   "shot {}: there is no lens to hand on; measure it in the Lens card or solve the camera", shot.name);
}

CameraFile withOverscan(const CameraFile& file) {
    CameraFile grown = file;
    const PixelBox box = undistortedBox(file.lens);
    grown.width = box.width();
    grown.height = box.height();
    grown.sensorWidth_mm = file.sensorWidth_mm * grown.width / file.width;
    Lens& lens = grown.lens;
    lens = pinholeLens(grown.width, grown.height, file.lens.focal_px);
    lens.squeeze = file.lens.squeeze;
    lens.cx = file.lens.cx - box.x0;
    lens.cy = file.lens.cy - box.y0;
    for (CameraFile::Frame& frame : grown.frames) frame.k1 = 0;
    return grown;
}

}  // namespace pinion
