#include "camera/object.h"

#include "base/framerange.h"
#include "base/units.h"
#include "camera/pose.h"
#include "camera/solve.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace pinion {
namespace {

using Eigen::Isometry3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr std::size_t kFewestTracks = 6;
constexpr double kSureOfUnrest = 0.05;  // of the size, a standard deviation

const CameraOnFrame* cameraOn(std::span<const CameraOnFrame> cameras, int frame) {
    const auto found = std::lower_bound(cameras.begin(), cameras.end(), frame,
                                        [](const CameraOnFrame& one, int number) { return one.frame < number; });
    return found != cameras.end() && found->frame == frame ? &*found : nullptr;
}

/// The tracks on it as one lens without distortion would have seen them: of a zoom every frame has its own.
std::vector<Track> straightened(std::span<const CameraOnFrame> cameras, std::span<const Track> tracks,
                                const std::set<TrackId>& wanted, const Lens& plain) {
    std::vector<Track> result;
    for (const Track& track : tracks) {
        if (!wanted.contains(track.id)) continue;
        Track one = track;
        one.setAside = false;
        std::vector<Sample> samples;
        for (Sample sample : track.samples) {
            const CameraOnFrame* camera = cameraOn(cameras, sample.frame);
            if (!camera || sample.bridged || sample.aside) continue;
            const auto plane = planeFromPlate(camera->lens, sample.at);
            const auto straight = plane ? plateFromPlane(plain, *plane) : std::nullopt;
            if (!straight) continue;
            sample.at = *straight;
            samples.push_back(sample);
        }
        one.samples = List<Sample>(std::move(samples));
        result.push_back(std::move(one));
    }
    return result;
}

/// The object before the camera with a size of its own: relative to the camera, not to the world.
struct Before {
    int frame = 0;
    Isometry3d worldFromCamera, cameraFromObject;
    /// From the camera to the object's origin, in the axes of the world.
    Vector3d away() const { return worldFromCamera.linear() * cameraFromObject.translation(); }
};

/// The tracks over the longest run of frames, by sightings, that enough of them go through.
std::vector<Track> longestRun(std::vector<Track> tracks) {
    std::map<int, int> across, seen;  // from a frame to the next
    for (const Track& track : tracks)
        for (std::size_t i = 0; i < track.samples.size(); ++i) {
            ++seen[track.samples[i].frame];
            if (i > 0)
                for (int frame = track.samples[i - 1].frame; frame < track.samples[i].frame; ++frame) ++across[frame];
        }
    FrameRange best{0, -1}, run{0, -1};
    int most = 0, count = 0;
    for (const auto& [frame, here] : seen) {
        if (run.last < run.first || across[frame - 1] < int(kFewestTracks)) {
            run = {frame, frame};
            count = 0;
        }
        run.last = frame;
        count += here;
        if (count > most) {
            most = count;
            best = run;
        }
    }
    for (Track& track : tracks)
        track.samples = track.samples.edited([&](auto& samples) {
            std::erase_if(samples, [&](const Sample& sample) { return !best.holds(sample.frame); });
        });
    std::erase_if(tracks, [](const Track& track) { return track.samples.size() < 3; });
    return tracks;
}

struct Size {
    double value = 1, deviation = 0;
};

/// The size at which the object's path shares least with the camera's: where the object is, is the camera's place and
/// the size times the way to it. What changes the camera's speed from frame to frame is its own; seen from the camera
/// the object then changes its own by the same, over the size. The least squares are over the exact side, the camera.
std::optional<Size> sizeByUnrest(const std::vector<Before>& before) {
    std::map<int, const Before*> byFrame;
    for (const Before& one : before) byFrame[one.frame] = &one;
    std::optional<Size> best;
    for (const int step : {1, 2, 3, 5, 8}) {
        double products = 0, squares = 0, others = 0;
        int count = 0;
        for (const auto& [frame, at] : byFrame) {
            const auto last = byFrame.find(frame - step), next = byFrame.find(frame + step);
            if (last == byFrame.end() || next == byFrame.end()) continue;
            const auto across = [&](const Vector3d& bend) {
                // Along the line of sight an object's place is known least.
                const Vector3d ray = at->away().normalized();
                return Vector3d(bend - ray * ray.dot(bend));
            };
            const auto place = [](const Before* one) { return Vector3d(one->worldFromCamera.translation()); };
            const Vector3d camera = across(place(next->second) - 2 * place(at) + place(last->second)),
                           object = across(next->second->away() - 2 * at->away() + last->second->away());
            products += camera.dot(object);
            squares += camera.squaredNorm();
            others += object.squaredNorm();
            ++count;
        }
        if (count < 12 || !(squares > 0) || !(products < 0)) continue;
        const double inverse = -products / squares;  // over the size
        const double left = std::max(0.0, others - inverse * inverse * squares);
        // Bends of neighbouring frames over several steps say the same.
        const double deviation = std::sqrt(left * step / (2.0 * count) / squares) / inverse;
        if (!best || deviation < best->deviation) best = Size{1 / inverse, deviation};
    }
    return best;
}

/// The size at which its points touch the ground on all frames.
std::optional<Size> sizeOnGround(const std::vector<Before>& before, const std::vector<Vector3d>& touching,
                                 double ground) {
    double products = 0, squares = 0;
    int count = 0;
    for (const Before& one : before)
        for (const Vector3d& point : touching) {
            const double down = (one.worldFromCamera.linear() * (one.cameraFromObject * point)).y();
            const double height = ground - one.worldFromCamera.translation().y();
            products += down * height;
            squares += down * down;
            ++count;
        }
    if (count == 0 || !(squares > 0) || !(products > 0)) return std::nullopt;
    const double size = products / squares;
    double left = 0;
    for (const Before& one : before)
        for (const Vector3d& point : touching)
            left += std::pow(size * (one.worldFromCamera.linear() * (one.cameraFromObject * point)).y() +
                                 one.worldFromCamera.translation().y() - ground,
                             2);
    return Size{size, std::sqrt(left / std::max(1, count - 1) / squares) / size};
}

Expected<Size> sizeOf(const std::vector<Before>& before, const std::map<TrackId, Vector3d>& points,
                      const ObjectOptions& options, ObjectScale& told) {
    const auto missing = [&](TrackId id) { return !points.contains(id); };
    if (options.length) {
        const auto& length = *options.length;
        if (missing(length.from) || missing(length.to) || length.from == length.to || !(length.length > 0))
            return failure(Fault::outcome,
                           "the length has no two points: choose two of the object's tracks that the solve used, and a "
                           "length above 0");
        told = ObjectScale::length;
        const double apart = (points.at(length.from) - points.at(length.to)).norm();
        if (!(apart > 0)) return failure(Fault::outcome, "the two points of the length are one: choose others");
        return Size{length.length / apart, 0};
    }
    if (!options.onGround.empty()) {
        std::vector<Vector3d> touching;
        for (const TrackId id : options.onGround)
            if (!missing(id)) touching.push_back(points.at(id));
        const auto size = sizeOnGround(before, touching, options.ground);
        if (!size)
            return failure(Fault::outcome,
                           "nothing of the object meets the ground: choose tracks where it touches it, below the "
                           "camera, and lay the ground first");
        told = ObjectScale::ground;
        return *size;
    }
    if (const auto size = sizeByUnrest(before); size && size->deviation < kSureOfUnrest) {
        told = ObjectScale::unrest;
        return *size;
    }
    told = ObjectScale::free;
    const double away = before.front().away().norm();
    return Size{away > 0 ? options.usualDistance / away : 1.0, 0};
}

}  // namespace

std::string_view toString(ObjectScale scale) {
    switch (scale) {
        case ObjectScale::unrest:
            return "unrest";
        case ObjectScale::ground:
            return "ground";
        case ObjectScale::length:
            return "length";
        default:
            return "free";
    }
}

std::vector<CameraOnFrame> camerasOf(const Solve& solve) {
    std::vector<CameraOnFrame> cameras;
    for (const SolvedFrame& frame : solve.frames)
        cameras.push_back({frame.frame, frame.worldFromCamera, lensOf(solve, frame)});
    return cameras;
}

Expected<ObjectSolve> solveObject(std::span<const CameraOnFrame> cameras, std::span<const Track> tracks,
                                  const ObjectOptions& options, const Progress& progress) {
    if (cameras.empty()) return failure(Fault::input, "an object is solved against a camera, and there is none");
    const std::set<TrackId> wanted(options.tracks.begin(), options.tracks.end());
    const Lens& lens = cameras.front().lens;
    Lens plain = pinholeLens(lens.width, lens.height, lens.focal_px);
    std::vector<Track> own = straightened(cameras, tracks, wanted, plain);
    if (own.size() < kFewestTracks)
        return failure(Fault::outcome, "an object needs {} tracks at least that go with it, and has {}", kFewestTracks,
                       own.size());
    own = longestRun(std::move(own));
    if (own.size() < kFewestTracks)
        return failure(Fault::outcome,
                       "the object: its tracks are never seen {} together from frame to frame; track more on it",
                       kFewestTracks);
    SolveOptions asked;
    asked.width = plain.width;
    asked.height = plain.height;
    asked.sensorWidth_mm = options.sensorWidth_mm;
    asked.focal = Knowledge::known;
    asked.focal_mm = focalMillimetres(plain.focal_px, options.sensorWidth_mm, plain.width);
    asked.distortion = SolveOptions::Distortion::none;
    asked.axis = SolveOptions::Axis::centre;
    asked.motion = CameraMotion::travelling;
    asked.zoom = false;
    // What goes by itself is read row by row as the scene is.
    asked.reading = options.readout.isRolling() ? SolveOptions::Reading::known : SolveOptions::Reading::atOnce;
    asked.readoutShare = options.readout.share;
    asked.readoutSigma = 0;
    asked.readBy = options.readout.columns ? SolveOptions::ReadBy::columns : SolveOptions::ReadBy::rows;
    asked.fewestTracks = int(kFewestTracks);
    asked.holdOut = own.size() >= 30;
    // Of what one said goes together nothing is left out as a mover of its own.
    std::vector<TrackId> all;
    for (const Track& track : own) all.push_back(track.id);
    asked.sceneOf = List<TrackId>(std::move(all));
    auto relative = solveCamera(own, asked, progress.part(0, options.mayJoin.empty() ? 1 : 0.6));
    if (!relative) return failure(relative.error().fault, "the object: {}", relative.error().message);
    if (!options.mayJoin.empty() && !progress.stopped()) {
        std::set<TrackId> pool = wanted;
        pool.insert(options.mayJoin.begin(), options.mayJoin.end());
        SolveOptions wider = asked;
        wider.start = std::make_shared<const Solve>(*relative);
        const std::vector<Track> together = straightened(cameras, tracks, pool, plain);
        // What goes with it is used, what does not disagrees.
        if (auto grown = solveCamera(together, wider, progress.part(0.6, 1)); grown && grown->used >= relative->used)
            relative = std::move(grown);
    }

    std::map<TrackId, Vector3d> points;
    Vector3d middle = Vector3d::Zero();
    for (const SolvedTrack& track : relative->tracks)
        if (track.xyz && (track.role == TrackRole::used || track.role == TrackRole::heldOut)) {
            points[track.track] = *track.xyz;
            middle += *track.xyz;
        }
    if (points.size() < kFewestTracks)
        return failure(Fault::outcome,
                       "only {} of the object's tracks agree on one shape: leave out what bends or slips",
                       points.size());
    middle /= double(points.size());

    // Its axes are the world's on its first frame, its origin the middle of its points.
    std::vector<Before> before;
    Eigen::Matrix3d turn = Eigen::Matrix3d::Identity();
    for (const SolvedFrame& frame : relative->frames) {
        const CameraOnFrame* camera = cameraOn(cameras, frame.frame);
        if (!camera) continue;
        const Isometry3d cameraFromShape = frame.worldFromCamera.inverse();
        if (before.empty()) turn = camera->worldFromCamera.linear() * cameraFromShape.linear();
        Isometry3d shapeFromObject = Isometry3d::Identity();
        shapeFromObject.linear() = turn.transpose();
        shapeFromObject.translation() = middle;
        before.push_back({frame.frame, camera->worldFromCamera, cameraFromShape * shapeFromObject});
    }
    if (before.empty()) return failure(Fault::outcome, "the object and the camera share no frame");
    for (auto& [track, at] : points) at = turn * (at - middle);

    ObjectSolve object;
    const auto size = sizeOf(before, points, options, object.scale);
    if (!size) return tl::unexpected(size.error());
    object.scaleDeviation = size->deviation;
    object.rms_px = relative->rms_px;
    object.heldOutRms_px = relative->heldOutRms_px;
    for (const Before& one : before) {
        Isometry3d cameraFromObject = one.cameraFromObject;
        cameraFromObject.translation() *= size->value;
        const SolvedFrame* frame = solvedFrameAt(*relative, one.frame);
        object.frames.push_back({one.frame, one.worldFromCamera * cameraFromObject, frame->rms_px, frame->tracks});
    }
    for (const SolvedTrack& track : relative->tracks)
        if (const auto at = points.find(track.track); at != points.end())
            object.points.push_back({track.track, size->value * at->second, track.rms_px});
    object.doubt = relative->doubt;
    return object;
}

Solve seenFromObject(const Solve& camera, const ObjectSolve& object) {
    Solve seen;
    seen.lens = camera.lens;
    seen.sensorWidth_mm = camera.sensorWidth_mm;
    seen.zoom = camera.zoom;
    seen.k1Slope = camera.k1Slope;
    seen.readout = camera.readout;
    std::vector<SolvedFrame> frames;
    for (const ObjectFrame& pose : object.frames)
        if (const SolvedFrame* own = solvedFrameAt(camera, pose.frame)) {
            frames.push_back(*own);
            frames.back().worldFromCamera = pose.worldFromObject.inverse() * own->worldFromCamera;
        }
    seen.frames = List<SolvedFrame>(std::move(frames));
    return seen;
}

std::vector<TrackId> looseTracks(const Solve& camera) {
    constexpr int kLongEnough = 8;
    std::vector<TrackId> loose;
    for (const SolvedTrack& track : camera.tracks)
        if (track.role == TrackRole::disagreed && track.frames >= kLongEnough) loose.push_back(track.track);
    return loose;
}

const ObjectFrame* objectFrameAt(const ObjectSolve& object, int frame) {
    const auto found = std::lower_bound(object.frames.begin(), object.frames.end(), frame,
                                        [](const ObjectFrame& one, int number) { return one.frame < number; });
    return found != object.frames.end() && found->frame == frame ? &*found : nullptr;
}

std::optional<Vector2d> projected(const ObjectSolve& object, std::span<const CameraOnFrame> cameras, int frame,
                                  const Vector3d& xyz) {
    const CameraOnFrame* camera = cameraOn(cameras, frame);
    const ObjectFrame* pose = objectFrameAt(object, frame);
    if (!camera || !pose) return std::nullopt;
    const Vector3d seen = camera->worldFromCamera.inverse() * (pose->worldFromObject * xyz);
    if (seen.z() >= -1e-6) return std::nullopt;
    return plateFromPlane(camera->lens, {seen.x() / -seen.z(), -seen.y() / -seen.z()});
}

}  // namespace pinion
