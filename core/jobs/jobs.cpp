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
    bool same = read->frames.size() == written.frames.size() && read->points.size() == written.points.size() &&
                read->fps == written.fps && read->width == written.width && read->height == written.height;
    for (std::size_t i = 0; same && i < written.frames.size(); ++i)
        same = read->frames[i].frame == written.frames[i].frame &&
               read->frames[i].worldFromCamera.isApprox(written.frames[i].worldFromCamera, 1e-9);
    return checkSame(same, path, "the camera differs from the shot's");
}

Expected<void> checkTracks(const fs::path& path, const TrackFile& written) {
    const auto read = readTracks(path);
    if (!read) return tl::unexpected(read.error());
    bool same = read->tracks.size() == written.tracks.size() && read->fps == written.fps;
    for (std::size_t i = 0; same && i < written.tracks.size(); ++i)
        same = read->tracks[i].samples.size() == written.tracks[i].samples.size();
    return checkSame(same, path, "the tracks differ from the shot's");
}

Expected<void> checkMap(const fs::path& path, const StMap& written) {
    const auto read = readStMap(path);
    if (!read) return tl::unexpected(read.error());
    return checkSame(read->data == written.data && read->width == written.width && read->height == written.height &&
                         read->st == written.st,
                     path, "the map differs");
}

UsdOptions usdOptionsOf(const Shot& shot, const Deliverable& deliverable) {
    return {.name = shot.name, .zUp = deliverable.upAxis == UpAxis::z, .metres = shot.world.measure.has_value()};
}

/// The file holds what was written, to the letter; and where a reader of ours exists, it reads the same.
Expected<void> checkText(const fs::path& path, const std::string& written) {
    const auto read = readFile(path);
    if (!read) return tl::unexpected(read.error());
    return checkSame(*read == written, path, "the file differs from what was written");
}

}  // namespace

Expected<TrackingResult> runScatter(const Shot& shot, FrameCache& frames, int startFrame, const Progress& progress,
                                    const LiveListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    return scatter(frames, scatterOptionsOf(shot, startFrame), progress, live);
}

Expected<TrackingResult> runTrack(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& ids, int from,
                                  Direction direction, int steps, const Progress& progress, const LiveListener& live) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    const std::set<TrackId> meant(ids.begin(), ids.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (meant.contains(track.id)) {
            if (track.locked) return failure(Fault::input, "track {} is locked; unlock it to track it", track.name);
            tracks.push_back(track);
        }
    if (tracks.empty()) return failure(Fault::input, "no track is selected; click one, or place one with the tool");
    FrameRange range = shot.plate.range;
    if (steps > 0) range = {std::max(range.first, from - steps), std::min(range.last, from + steps)};
    auto result = trackPoints(frames, tracks, from, range, direction, progress, live);
    if (result && steps > 0)
        // A few steps end where they were told to, not where the range does.
        for (Track& track : result->tracks) {
            if (track.endReason == EndReason::rangeEnd && track.lastFrame() < shot.plate.range.last)
                track.endReason = EndReason::none;
            if (track.startReason == EndReason::rangeEnd && track.firstFrame() > shot.plate.range.first)
                track.startReason = EndReason::none;
        }
    return result;
}

Expected<TrackingResult> runTie(const Shot& shot, FrameCache& frames, TrackId id, int frame, const Progress& progress,
                                const LiveListener& live) {
    const Track* track = findTrack(shot, id);
    if (!track) return failure(Fault::input, "the track is gone");
    if (track->locked) return failure(Fault::input, "track {} is locked; unlock it to track it", track->name);
    if (const Sample* sample = sampleAt(*track, frame); sample && sample->tie)
        return trackAroundTie(frames, *track, frame, shot.plate.range, progress, live);
    // The tie was taken away: the gap it left, from its neighbours. Other gaps are none of its business.
    FrameRange gap = shot.plate.range;
    for (const Sample& sample : track->samples) {
        if (sample.frame < frame) gap.first = std::max(gap.first, sample.frame);
        if (sample.frame > frame) {
            gap.last = std::min(gap.last, sample.frame);
            break;
        }
    }
    return trackBad(frames, {*track}, 0.0, gap, progress, live);
}

Expected<TrackingResult> runTrackBad(const Shot& shot, FrameCache& frames, const std::vector<TrackId>& ids,
                                     double least, const Progress& progress, const LiveListener& live) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (meant.contains(track.id) && !track.locked) tracks.push_back(track);
    if (tracks.empty()) return failure(Fault::input, "no track is selected that is not locked; click one first");
    return trackBad(frames, tracks, least, shot.plate.range, progress, live);
}

Expected<std::vector<SpotProposal>> runPropose(const Shot& shot, FrameCache& frames, const Polygon& area, int frame,
                                               int count, const Progress& progress) {
    if (!shot.plate.isOpen()) return failure(Fault::input, "no plate is open");
    TrackId id = 0;
    const Shot with = withTrackAdded(shot, frame, {0, 0}, &id);
    return proposeSpots(frames, area, frame, shot.plate.range, count, *findTrack(with, id), progress);
}

Expected<RenderReport> runRender(const Shot& shot, const PicturePlan& plan, FrameCache& frames, const fs::path& pattern,
                                 const Progress& progress) {
    return renderFrames(frames, plan.frames, pattern, {.filter = shot.steady.filter, .edges = shot.steady.edges},
                        progress);
}

Expected<ShakeProfile> runTakeShake(const Shot& shot, double above_hz) {
    const auto motion = steadyMotion(shot);
    if (!motion) return tl::unexpected(motion.error());
    return takeShake(*motion, shot.plate.width, shot.plate.height, shot.plate.fps, above_hz, shot.name);
}

Expected<std::string> deliverableText(const Shot& shot, const Deliverable& deliverable) {
    const bool csv = deliverable.format == DeliverableFormat::csv;
    switch (deliverable.kind) {
        case DeliverableKind::camera: {
            const auto camera = cameraFileOf(shot);
            if (!camera) return tl::unexpected(camera.error());
            if (deliverable.format == DeliverableFormat::usda)
                return cameraUsd(*camera, usdOptionsOf(shot, deliverable));
            if (deliverable.format != DeliverableFormat::json)
                return failure(Fault::input, "deliverable {}: a camera is written as usda or json", deliverable.name);
            return cameraJson(*camera);
        }
        case DeliverableKind::tracks: {
            if (shot.tracks.isEmpty())
                return failure(Fault::outcome, "shot {}: there are no tracks to deliver", shot.name);
            if (!csv && deliverable.format != DeliverableFormat::json)
                return failure(Fault::input, "deliverable {}: tracks are written as json or csv", deliverable.name);
            const TrackFile file = trackFileOf(shot);
            return csv ? tracksCsv(file, deliverable.transform.origin) : tracksJson(file, deliverable.transform.origin);
        }
        case DeliverableKind::transforms:
        case DeliverableKind::cornerPin: {
            const Locator* locator = findLocator(shot, deliverable.locator);
            if (!locator)
                return failure(Fault::input, "deliverable {}: its locator '{}' is gone", deliverable.name,
                               deliverable.locator);
            const auto motion = locatorMotion(shot, *locator);
            if (!motion) return tl::unexpected(motion.error());
            const TransformSource source{locator->name, shot.plate.width, shot.plate.height, shot.plate.fps};
            if (deliverable.kind == DeliverableKind::transforms)
                return csv ? transformsCsv(*motion, source, deliverable.transform)
                           : transformsJson(*motion, source, deliverable.transform);
            return csv ? cornerPinCsv(*motion, source, deliverable.transform)
                       : cornerPinJson(*motion, source, deliverable.transform);
        }
        case DeliverableKind::stMaps:
            break;
    }
    return failure(Fault::input, "deliverable {}: is a picture, not text", deliverable.name);
}

Expected<Solve> runSolve(const Shot& shot, const Progress& progress, const SolveRun& run) {
    if (shot.tracks.isEmpty())
        return failure(Fault::outcome, "there are no tracks to solve from; scatter features first");
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks) {
        if (track.setAside) continue;
        Track within = track;
        within.samples = track.samples.edited([&](auto& samples) {
            std::erase_if(samples, [&](const Sample& s) { return !shot.plate.range.holds(s.frame) || s.bridged; });
            for (Sample& sample : samples) sample.at = sample.wanted();
        });
        tracks.push_back(std::move(within));
    }
    SolveOptions options = solveOptionsOf(shot);
    options.trim_px = run.trim_px;
    if (run.refines) options.start = shot.solve;
    return solveCamera(tracks, options, progress, run.watch);
}

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
    return file;
}

TrackFile trackFileOf(const Shot& shot) {
    return {shot.plate.width, shot.plate.height, shot.plate.fps, shot.tracks.vector(), shot.plate.times};
}

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
    if (deliverable.kind != DeliverableKind::stMaps) {
        const auto contents = deliverableText(shot, deliverable);
        if (!contents) return tl::unexpected(contents.error());
        done = write(path, *contents);
        if (done) done = checkText(path, *contents);
    }
    switch (deliverable.kind) {
        case DeliverableKind::camera: {
            const auto camera = cameraFileOf(shot);
            if (done)
                done = deliverable.format == DeliverableFormat::usda
                           ? checkCameraUsd(path, *camera, usdOptionsOf(shot, deliverable))
                           : checkCamera(path, *camera);
            break;
        }
        case DeliverableKind::tracks:
            if (done) done = checkTracks(path, trackFileOf(shot));
            break;
        case DeliverableKind::transforms:
        case DeliverableKind::cornerPin:
            if (done && deliverable.format == DeliverableFormat::json) {
                const auto matrices = readMatrices(path);
                done = matrices ? Expected<void>{} : tl::unexpected(matrices.error());
            }
            break;
        case DeliverableKind::stMaps: {
            if (!shot.solve)
                return failure(Fault::outcome, "shot {}: there is no lens to make ST maps of; solve the camera first",
                               shot.name);
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
