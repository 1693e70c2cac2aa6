#include "jobs/jobs.h"

#include "base/files.h"
#include "exchange/usd.h"
#include "lens/stmap.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace pinion {
namespace {

namespace fs = std::filesystem;

Expected<void> checkSame(bool same, const fs::path& path, const char* what) {
    if (!same) return failure(Fault::system, "{}: read back, {}", path.string(), what);
    return {};
}

Expected<void> checkCamera(const fs::path& path, const CameraFile& written) {
    const auto read = readCamera(path);
    if (!read) return tl::unexpected(read.error());
    bool same = read->frames.size() == written.frames.size() && read->points.size() == written.points.size() && read->fps == written.fps &&
                read->width == written.width && read->height == written.height;
    for (std::size_t i = 0; same && i < written.frames.size(); ++i)
        same = read->frames[i].frame == written.frames[i].frame && read->frames[i].worldFromCamera.isApprox(written.frames[i].worldFromCamera, 1e-9);
    return checkSame(same, path, "the camera differs from the shot's");
}

Expected<void> checkTracks(const fs::path& path, const TrackFile& written) {
    const auto read = readTracks(path);
    if (!read) return tl::unexpected(read.error());
    bool same = read->tracks.size() == written.tracks.size() && read->fps == written.fps;
    for (std::size_t i = 0; same && i < written.tracks.size(); ++i) same = read->tracks[i].samples.size() == written.tracks[i].samples.size();
    return checkSame(same, path, "the tracks differ from the shot's");
}

Expected<void> checkMap(const fs::path& path, const StMap& written) {
    const auto read = readStMap(path);
    if (!read) return tl::unexpected(read.error());
    return checkSame(read->data == written.data && read->width == written.width && read->height == written.height && read->st == written.st, path, "the map differs");
}

}  // namespace

Expected<TrackingResult> runScatter(const Shot& shot, FrameCache& frames, int startFrame, const Progress& progress, const LiveListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    return scatter(frames, scatterOptionsOf(shot, startFrame), progress, live);
}

Expected<TrackingResult> runTrack(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& ids, int from, Direction direction, int steps,
                                  const Progress& progress, const LiveListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    const std::set<TrackId> meant(ids.begin(), ids.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (meant.contains(track.id)) tracks.push_back(track);
    if (tracks.empty()) return failure(Fault::input, "no track is selected; click one, or place one with the tool");
    FrameRange range = shot.plate.range;
    if (steps > 0) range = {std::max(range.first, from - steps), std::min(range.last, from + steps)};
    return trackPoints(frames, tracks, from, range, direction, progress, live);
}

Expected<Solve> runSolve(const Shot& shot, const Progress& progress) {
    if (shot.tracks.isEmpty()) return failure(Fault::outcome, "there are no tracks to solve from; scatter features first");
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks) {
        if (track.setAside) continue;
        Track within = track;
        within.samples = track.samples.edited([&](auto& samples) { std::erase_if(samples, [&](const Sample& s) { return !shot.plate.range.holds(s.frame); }); });
        tracks.push_back(std::move(within));
    }
    return solveCamera(tracks, solveOptionsOf(shot), progress);
}

Expected<CameraFile> cameraFileOf(const Shot& shot) {
    if (!shot.solve) return failure(Fault::outcome, "shot {}: there is no solved camera to deliver; solve it first", shot.name);
    const auto orientation = orient(shot.world, *shot.solve);
    if (!orientation) return tl::unexpected(orientation.error());
    CameraFile file;
    file.width = shot.plate.width;
    file.height = shot.plate.height;
    file.fps = shot.plate.fps;
    file.lens = shot.solve->lens;
    file.sensorWidth_mm = shot.solve->sensorWidth_mm;
    for (const SolvedFrame& frame : shot.solve->frames) file.frames.push_back({frame.frame, orientation->apply(frame.worldFromCamera), frame.focal_px});
    for (const SolvedTrack& track : shot.solve->tracks) {
        if (!track.xyz || track.role == TrackRole::disagreed) continue;
        const Track* named = findTrack(shot, track.track);
        file.points.push_back({named ? named->name : fmt::format("t-{}", track.track), orientation->apply(*track.xyz)});
    }
    file.rms_px = shot.solve->rms_px;
    file.heldOutRms_px = shot.solve->heldOutRms_px;
    file.tracks = shot.solve->used;
    return file;
}

TrackFile trackFileOf(const Shot& shot) { return {shot.plate.width, shot.plate.height, shot.plate.fps, shot.tracks.vector()}; }

fs::path deliveryFolderOf(const Shot& shot, const fs::path& shotFile) {
    const fs::path folder = shot.deliveryFolder.empty() ? fs::path("delivery") : fs::path(shot.deliveryFolder);
    if (folder.is_absolute()) return folder;
    const fs::path base = shotFile.empty() ? shot.plate.path.parent_path() : shotFile.parent_path();
    return base / folder;
}

Expected<DeliveryReport> deliver(const Shot& shot, const Deliverable& deliverable, const fs::path& folder) {
    if (deliverable.place.empty()) return failure(Fault::input, "deliverable {}: has no place", deliverable.name);
    const fs::path path = folder / deliverable.place;
    DeliveryReport report{deliverable.name, {}};
    const auto write = [&](const fs::path& to, const std::string& contents) -> Expected<void> {
        if (auto made = makeFolder(to.parent_path()); !made) return made;
        if (auto written = writeFile(to, contents); !written) return written;
        report.files.push_back(to);
        return {};
    };
    Expected<void> done;
    switch (deliverable.kind) {
        case DeliverableKind::camera: {
            const auto camera = cameraFileOf(shot);
            if (!camera) return tl::unexpected(camera.error());
            if (deliverable.format == DeliverableFormat::usda) {
                const UsdOptions options{.name = shot.name, .zUp = deliverable.upAxis == UpAxis::z, .metres = shot.world.measure.has_value()};
                done = write(path, cameraUsd(*camera, options));
                if (done) done = checkCameraUsd(path, *camera, options);
            } else if (deliverable.format == DeliverableFormat::json) {
                done = write(path, cameraJson(*camera));
                if (done) done = checkCamera(path, *camera);
            } else {
                return failure(Fault::input, "deliverable {}: a camera is written as usda or json", deliverable.name);
            }
            break;
        }
        case DeliverableKind::tracks: {
            if (shot.tracks.isEmpty()) return failure(Fault::outcome, "shot {}: there are no tracks to deliver", shot.name);
            const TrackFile tracks = trackFileOf(shot);
            if (deliverable.format == DeliverableFormat::json) {
                done = write(path, tracksJson(tracks));
                if (done) done = checkTracks(path, tracks);
            } else if (deliverable.format == DeliverableFormat::csv) {
                const std::string csv = tracksCsv(tracks);
                done = write(path, csv);
                if (done) {
                    const auto read = readFile(path);
                    done = read ? checkSame(*read == csv, path, "the table differs") : tl::unexpected(read.error());
                }
            } else {
                return failure(Fault::input, "deliverable {}: tracks are written as json or csv", deliverable.name);
            }
            break;
        }
        case DeliverableKind::stMaps: {
            if (!shot.solve) return failure(Fault::outcome, "shot {}: there is no lens to make ST maps of; solve the camera first", shot.name);
            if (auto made = makeFolder(path); !made) return tl::unexpected(made.error());
            for (const bool undistort : {true, false}) {
                const StMap map = undistort ? undistortMap(shot.solve->lens) : redistortMap(shot.solve->lens);
                const fs::path file = path / (undistort ? "undistort.exr" : "redistort.exr");
                done = writeStMap(map, file);
                if (done) done = checkMap(file, map);
                if (!done) return tl::unexpected(done.error());
                report.files.push_back(file);
            }
            break;
        }
    }
    if (!done) return tl::unexpected(done.error());
    return report;
}

Shot withDelivered(const Shot& shot, const std::string& deliverableName) {
    Shot result = shot;
    result.deliverables = shot.deliverables.edited([&](auto& deliverables) {
        for (Deliverable& deliverable : deliverables)
            if (deliverable.name == deliverableName) deliverable.writtenKey = deliveryKey(shot, deliverable);
    });
    return result;
}

}  // namespace pinion
