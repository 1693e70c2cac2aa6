#include "camera/solve.h"

#include "base/parallel.h"
#include "base/units.h"
#include "camera/reconstruction.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <map>
#include <mutex>
#include <numeric>

namespace pinion {
namespace {

using namespace solving;
using Eigen::Vector2d;
using Eigen::Vector3d;

// Focal lengths tried when nothing is known, in frame widths: 18 mm to 108 mm on a 36 mm frame.
constexpr std::array<double, 7> kFocalsTried{0.5, 0.68, 0.92, 1.25, 1.7, 2.3, 3.1};
constexpr double kLeastParallax = 0.8;       // pixels that no turn and no lens explains, in the median, of the best pair
constexpr std::size_t kMostKeyframes = 14;  // of the part that is solved first

struct LensFreedom {
    bool focal, k1, k2;
};

BundleOptions bundleOptions(const SolveOptions& options, const LensFreedom& freedom, double width_px, int rounds, double settled = 3e-4) {
    BundleOptions result;
    result.settled = settled;
    result.freeFocal = freedom.focal;
    result.freeK1 = freedom.k1;
    result.freeK2 = freedom.k2;
    result.robustWidth_px = width_px;
    result.rounds = rounds;
    if (options.focal == Knowledge::guessed) {
        result.focalPrior_px = focalPixels(options.focal_mm, options.sensorWidth_mm, options.width);
        result.focalTrust_px = focalPixels(options.focalTrust_mm, options.sensorWidth_mm, options.width);
    }
    return result;
}

/// Solves the keyframes around one base pair for one first guess of the lens.
Expected<Reconstruction> solveKeyframes(const Material& material, const std::vector<int>& keys, const PairScore& pair, const SolveOptions& options,
                                        const Lens& lens, const LensFreedom& freedom, const Progress& progress) {
    Reconstruction reconstruction(material, options, lens);
    // Until the lens is found its faults look like errors of the tracks, most of all at the corners.
    const double loose = freedom.k1 ? 0.0045 * options.width : 0.0025 * options.width;
    if (auto started = reconstruction.start(pair.a, pair.b, 0.5 * loose); !started) return tl::unexpected(started.error());
    const LensFreedom none{false, false, false};
    reconstruction.adjustAll(bundleOptions(options, none, 2.0, 10), progress);

    std::vector<int> open;
    for (int key : keys)
        if (key != pair.a && key != pair.b) open.push_back(key);
    int added = 0;
    while (!open.empty() && !progress.stopped()) {
        const auto next = std::max_element(open.begin(), open.end(), [&](int a, int b) { return reconstruction.sightingsOf(a) < reconstruction.sightingsOf(b); });
        const int frame = *next;
        open.erase(next);
        if (!reconstruction.place(frame, loose)) continue;
        ++added;
        reconstruction.triangulateAll(2 * loose, false);
        const LensFreedom now{freedom.focal && added >= 2, freedom.k1 && added >= 2, false};
        if (added <= 4 || added % 3 == 0 || open.empty()) reconstruction.adjustAll(bundleOptions(options, now, 2.0, 8), progress);
    }
    if (progress.stopped()) return failure(Fault::stopped, "stopped");
    if (added == 0 && keys.size() > 2) return failure(Fault::outcome, "no third frame agrees with the base pair");
    const LensFreedom late{freedom.focal && added >= 1, freedom.k1 && added >= 1, freedom.k2 && added >= 3};
    reconstruction.triangulateAll(loose, true);
    reconstruction.adjustAll(bundleOptions(options, late, 1.5, 25), progress);
    return reconstruction;
}

/// Y up along the cameras' mean, the middle of the cloud at the origin's side, the median point ten units away.
void normalise(Solve& solve) {
    Vector3d up = Vector3d::Zero();
    Vector3d back = Vector3d::Zero();
    for (const SolvedFrame& frame : solve.frames) {
        up += frame.worldFromCamera.linear().col(1);
        back += frame.worldFromCamera.linear().col(2);
    }
    up.normalize();
    std::vector<double> depths;
    std::vector<double> axes[3];
    const Vector3d eye = solve.frames.front().worldFromCamera.translation();
    for (const SolvedTrack& track : solve.tracks)
        if (track.xyz) {
            depths.push_back((*track.xyz - eye).norm());
            for (int a = 0; a < 3; ++a) axes[a].push_back((*track.xyz)[a]);
        }
    if (depths.empty()) return;
    const auto median = [](std::vector<double>& values) {
        std::nth_element(values.begin(), values.begin() + std::ptrdiff_t(values.size() / 2), values.end());
        return values[values.size() / 2];
    };
    const double scale = 10.0 / std::max(1e-12, median(depths));
    const Vector3d middle(median(axes[0]), median(axes[1]), median(axes[2]));
    back = (back - up * back.dot(up));
    if (back.norm() < 1e-9) back = up.unitOrthogonal();
    back.normalize();
    Eigen::Matrix3d rotation;
    rotation.row(0) = up.cross(back);
    rotation.row(1) = up;
    rotation.row(2) = back;
    const auto moved = [&](const Vector3d& p) -> Vector3d { return scale * (rotation * (p - middle)); };
    solve.frames = solve.frames.edited([&](auto& frames) {
        for (SolvedFrame& frame : frames) {
            frame.worldFromCamera.translation() = moved(frame.worldFromCamera.translation());
            frame.worldFromCamera.linear() = rotation * frame.worldFromCamera.linear();
            frame.deviation = (rotation.cwiseAbs2() * frame.deviation.cwiseAbs2()).cwiseSqrt() * scale;
        }
    });
    solve.tracks = solve.tracks.edited([&](auto& tracks) {
        for (SolvedTrack& track : tracks)
            if (track.xyz) track.xyz = moved(*track.xyz);
    });
}

}  // namespace

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame) {
    const auto& frames = solve.frames.vector();
    const auto found = std::lower_bound(frames.begin(), frames.end(), frame, [](const SolvedFrame& f, int number) { return f.frame < number; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

std::optional<Vector2d> projected(const Solve& solve, int frame, const Vector3d& xyz) {
    const SolvedFrame* solved = solvedFrameAt(solve, frame);
    if (!solved) return std::nullopt;
    const Vector3d seen = solved->worldFromCamera.inverse() * xyz;
    if (seen.z() >= -1e-9) return std::nullopt;
    return plateFromPlane(solve.lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
}

Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options, const Progress& progress) {
    if (options.width < 1 || options.height < 1) return failure(Fault::input, "the plate has no size");
    if (!(options.sensorWidth_mm > 0)) return failure(Fault::input, "the sensor width is {} mm; it has to be above 0", options.sensorWidth_mm);
    if (options.distortion == SolveOptions::Distortion::known && !options.lens) return failure(Fault::input, "no lens was given for a known distortion");
    if (options.lens && (options.lens->width != options.width || options.lens->height != options.height))
        return failure(Fault::input, "the lens is for {}x{}, the plate is {}x{}", options.lens->width, options.lens->height, options.width, options.height);
    if (options.focal != Knowledge::unknown && !(options.focal_mm > 0) && !options.lens)
        return failure(Fault::input, "the focal length is {} mm; it has to be above 0", options.focal_mm);
    progress.report(0, "Preparing the solve");
    const Material material = gather(tracks, options);
    if (material.frames.size() < 3)
        return failure(Fault::outcome, "tracks cover only {} frame{}; a camera needs at least 3, and a few hundred pixels of walk between them",
                       material.frames.size(), material.frames.size() == 1 ? "" : "s");
    if (material.trails.size() < std::size_t(options.fewestTracks))
        return failure(Fault::outcome, "only {} tracks of three frames or more; at least {} are needed, more is better: scatter features first",
                       material.trails.size(), options.fewestTracks);
    const std::vector<int> allKeys = chooseKeyframes(material, options.width, options.fewestTracks);
    if (allKeys.size() < 2)
        return failure(Fault::outcome, "no two frames have {} tracks; track more points", options.fewestTracks);

    const LensFreedom freedom{options.focal != Knowledge::known, options.distortion == SolveOptions::Distortion::unknown,
                              options.distortion == SolveOptions::Distortion::unknown};
    const auto lensFor = [&](double focal_px) {
        Lens lens = pinholeLens(options.width, options.height, focal_px);
        if (options.distortion == SolveOptions::Distortion::known) {
            lens = *options.lens;
            // Distortion is kept as numbers for its own focal length; for another one the same glass bends the same pixels.
            if (focal_px != lens.focal_px) {
                const double ratio = focal_px / lens.focal_px;
                lens.k1 *= ratio * ratio;
                lens.k2 *= ratio * ratio * ratio * ratio;
                lens.k3 *= std::pow(ratio, 6);
                lens.p1 *= ratio;
                lens.p2 *= ratio;
                lens.focal_px = focal_px;
            }
        }
        return lens;
    };
    std::vector<double> focals;
    if (options.focal == Knowledge::unknown)
        for (double share : kFocalsTried) focals.push_back(share * options.width);
    else if (options.focal_mm > 0)
        focals.push_back(focalPixels(options.focal_mm, options.sensorWidth_mm, options.width));
    else
        focals.push_back(options.lens->focal_px);

    // The base pair by parallax; the focal length in the middle of the range serves to judge it.
    const Lens judge = lensFor(focals[focals.size() / 2]);
    std::vector<PairScore> pairs = scorePairs(material, allKeys, judge);
    if (options.basePair) {
        const auto indexOf = [&](int frame) {
            const auto found = std::find(material.frames.begin(), material.frames.end(), frame);
            return found == material.frames.end() ? -1 : int(found - material.frames.begin());
        };
        const int a = indexOf(options.basePair->first);
        const int b = indexOf(options.basePair->second);
        if (a < 0 || b < 0 || a == b)
            return failure(Fault::input, "base pair {},{}: both frames need tracks and have to differ", options.basePair->first, options.basePair->second);
        pairs = {{std::min(a, b), std::max(a, b), 1e9, 1e9}};
    }
    if (pairs.empty()) return failure(Fault::outcome, "no base pair: no two frames share 15 tracks; track longer or more points");
    const double parallax = leastParallax(material, pairs.front(), lensFor, freedom.focal, freedom.k1, focals.front());
    if (parallax < kLeastParallax)
        return failure(Fault::outcome, "no base pair: the camera does not move enough (parallax {:.2f} px); try --motion nodal", parallax);

    // First a part of the keyframes, around the base pair; then all frames from there.
    const auto keysAround = [&](const PairScore& pair) {
        std::vector<int> keys = allKeys;
        for (int own : {pair.a, pair.b})
            if (std::find(keys.begin(), keys.end(), own) == keys.end()) keys.push_back(own);
        std::sort(keys.begin(), keys.end());
        const auto middle = std::find(keys.begin(), keys.end(), pair.a) - keys.begin();
        if (keys.size() > kMostKeyframes) {
            const auto first = std::clamp<std::ptrdiff_t>(middle - std::ptrdiff_t(kMostKeyframes / 3), 0, std::ptrdiff_t(keys.size() - kMostKeyframes));
            keys = std::vector<int>(keys.begin() + first, keys.begin() + first + std::ptrdiff_t(kMostKeyframes));
            for (int own : {pair.a, pair.b})
                if (std::find(keys.begin(), keys.end(), own) == keys.end()) keys.push_back(own);
        }
        return keys;
    };
    std::optional<Reconstruction> best;
    double bestCost = 1e300;
    Error lastError{Fault::outcome, "no base pair leads to a solve"};
    PairScore bestPair = pairs.front();
    std::mutex mutex;
    int done = 0;
    for (std::size_t attempt = 0; attempt < std::min<std::size_t>(pairs.size(), 4) && !best; ++attempt) {
        const PairScore pair = pairs[attempt * std::max<std::size_t>(1, pairs.size() / 12)];
        const std::vector<int> keys = keysAround(pair);
        parallelFor(focals.size(), [&](std::size_t i) {
            if (progress.stopped()) return;
            auto tried = solveKeyframes(material, keys, pair, options, lensFor(focals[i]), freedom, progress);
            const std::lock_guard lock(mutex);
            progress.report(0.05 + 0.35 * ++done / double(focals.size() * (attempt + 1)), "Finding the base and the lens");
            if (!tried) {
                lastError = tried.error();
                return;
            }
            // What explains few points well is no better than what explains all a little worse; nor is a lens that folds.
            const double cost = tried->cost() + (checkLens(tried->lens()) ? 0.0 : 1.0) +
                                2.0 * (1 - double(tried->placedFrames()) / double(keys.size()));
            if (cost < bestCost) {
                bestCost = cost;
                best = std::move(*tried);
                bestPair = pair;
            }
        });
        if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    }
    if (!best) return failure(Fault::outcome, "no solve from any base pair: {}; try more tracks, other base frames or a known focal length", lastError.message);

    // All frames, the near ones first, so that each finds points already placed.
    Reconstruction& scene = *best;
    const double loose = 0.004 * options.width;
    progress.report(0.45, "Placing all frames");
    for (int pass = 0; pass < 6; ++pass) {
        const int before = scene.placedFrames();
        std::vector<int> open;
        for (int frame = 0; frame < int(material.frames.size()); ++frame)
            if (!scene.poses()[std::size_t(frame)] && scene.sightingsOf(frame) >= options.fewestTracks) open.push_back(frame);
        if (open.empty()) break;
        scene.placeAll(open, loose);
        scene.triangulateAll(loose, false);
        if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
        if (scene.placedFrames() == before) break;
        if (pass < 5 && scene.placedFrames() < int(material.frames.size())) scene.adjustAll(bundleOptions(options, freedom, 2.0, 4), progress);
    }
    progress.report(0.55, "Adjusting");
    const auto width = [&] { return std::clamp(3.0 * 1.2 * scene.medianError(), 0.3, 3.0); };
    scene.triangulateAll(loose, true);
    scene.adjustAll(bundleOptions(options, freedom, std::max(1.0, width()), 12), progress);
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    progress.report(0.75, "Leaving out what disagrees");
    std::vector<TrackRole> roles(material.trails.size(), TrackRole::unplaced);
    for (int pass = 0; pass < 2; ++pass) {
        scene.triangulateAll(3.0 * loose, true);
        const double limit = std::max(1.2, 6.0 * scene.medianError());
        for (std::size_t t = 0; t < material.trails.size(); ++t) {
            if (!scene.points()[t]) continue;
            const auto [rms, count] = scene.rmsOf(material.trails[t], *scene.points()[t]);
            const double own = options.trim_px > 0 && pass == 1 ? std::min(limit, options.trim_px) : limit;
            if (rms > own) {
                roles[t] = TrackRole::disagreed;
                scene.dropPoint(t);
            }
        }
        for (std::size_t f = 0; f < material.frames.size(); ++f)
            if (scene.poses()[f] && scene.sightingsOf(int(f)) < std::min(options.fewestTracks, 6)) scene.forgetFrame(f);
        scene.adjustAll(pass == 0 ? bundleOptions(options, freedom, width(), 10) : bundleOptions(options, freedom, width(), 25, 2e-5), progress);
        if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    }
    if (scene.placedPoints() < options.fewestTracks)
        return failure(Fault::outcome, "only {} tracks agree on one camera; mask what moves, or track more of what stands still", scene.placedPoints());
    const double angle = scene.medianAngle();
    if (angle < 0.75 * kLeastAngle)
        return failure(Fault::outcome, "no base pair: the camera does not move enough (rays spread by {:.2f} degrees); try --motion nodal", angle);
    if (auto lens = checkLens(scene.lens()); !lens)
        return failure(Fault::outcome, "the lens that was found is impossible ({}); give a focal length or set the distortion to none", lens.error().message);

    progress.report(0.92, "Measuring");
    Solve solve;
    solve.lens = scene.lens();
    solve.sensorWidth_mm = options.sensorWidth_mm;
    solve.medianAngleDegrees = angle;
    solve.basePair = {material.frames[std::size_t(bestPair.a)], material.frames[std::size_t(bestPair.b)]};
    std::vector<SolvedTrack> solvedTracks;
    std::vector<double> squaresByFrame(material.frames.size(), 0.0);
    std::vector<int> countByFrame(material.frames.size(), 0);
    double squares = 0, heldSquares = 0;
    std::size_t count = 0, heldCount = 0;
    const double believable = std::max(1.2, 6.0 * scene.medianError());
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        const Trail& trail = material.trails[t];
        SolvedTrack solved;
        solved.track = tracks[trail.track].id;
        solved.role = roles[t];
        if (trail.heldOut) {
            // Placed from every other frame, measured on the rest.
            std::vector<Seen> half;
            for (std::size_t i = 0; i < trail.seen.size(); i += 2) half.push_back(trail.seen[i]);
            if (const auto point = scene.placed(half, 3 * loose)) {
                double own = 0;
                int ownCount = 0;
                for (std::size_t i = 1; i < trail.seen.size(); i += 2) {
                    if (!scene.poses()[std::size_t(trail.seen[i].frame)]) continue;
                    const double error = scene.errorAt(trail.seen[i], *point);
                    own += error * error;
                    ++ownCount;
                }
                const double rms = ownCount > 0 ? std::sqrt(own / ownCount) : 0;
                solved.xyz = point;
                solved.rms_px = rms;
                solved.frames = ownCount;
                // The same limit as for the others: a mover is no measure of the camera.
                if (rms <= believable) {
                    solved.role = TrackRole::heldOut;
                    heldSquares += own;
                    heldCount += std::size_t(ownCount);
                    ++solve.heldOut;
                } else {
                    solved.role = TrackRole::disagreed;
                }
            }
        } else if (scene.points()[t]) {
            const auto [rms, frames] = scene.rmsOf(trail, *scene.points()[t]);
            solved.role = TrackRole::used;
            solved.xyz = *scene.points()[t];
            solved.rms_px = rms;
            solved.frames = frames;
            ++solve.used;
            for (const Seen& seen : trail.seen) {
                if (!scene.poses()[std::size_t(seen.frame)]) continue;
                const double error = scene.errorAt(seen, *scene.points()[t]);
                squaresByFrame[std::size_t(seen.frame)] += error * error;
                ++countByFrame[std::size_t(seen.frame)];
                squares += error * error;
                ++count;
            }
        } else if (const auto point = scene.placed(trail.seen, 1e9)) {
            // What disagrees is shown where it would lie best, with the error it has there.
            solved.rms_px = scene.rmsOf(trail, *point).first;
            solved.frames = scene.rmsOf(trail, *point).second;
        }
        if (solved.role == TrackRole::disagreed) ++solve.disagreed;
        solvedTracks.push_back(solved);
    }
    solve.rms_px = count > 0 ? std::sqrt(squares / double(count)) : 0;
    solve.heldOutRms_px = heldCount > 0 ? std::sqrt(heldSquares / double(heldCount)) : 0;
    std::vector<int> cameraOf(material.frames.size(), -1), pointOf(material.trails.size(), -1);
    const Bundle bundle = scene.assemble(cameraOf, pointOf);
    BundleOptions measured = bundleOptions(options, freedom, width(), 0);
    measured.heldCamera = cameraOf[std::size_t(scene.heldFrame())];
    const auto covariance = covarianceOf(bundle, measured);
    std::vector<SolvedFrame> solvedFrames;
    for (std::size_t f = 0; f < material.frames.size(); ++f) {
        if (!scene.poses()[f]) continue;
        SolvedFrame frame{.frame = material.frames[f], .worldFromCamera = worldFromCamera(*scene.poses()[f]), .focal_px = solve.lens.focal_px};
        frame.rms_px = countByFrame[f] > 0 ? std::sqrt(squaresByFrame[f] / countByFrame[f]) : 0;
        frame.tracks = countByFrame[f];
        if (covariance) frame.deviation = covariance->positions[std::size_t(cameraOf[f])];
        solvedFrames.push_back(frame);
    }
    solve.frames = List<SolvedFrame>(std::move(solvedFrames));
    solve.tracks = List<SolvedTrack>(std::move(solvedTracks));
    if (covariance && freedom.focal) solve.focalDeviation_mm = focalMillimetres(covariance->focal_px, options.sensorWidth_mm, options.width);
    normalise(solve);
    progress.report(1, "Solved");
    return solve;
}

}  // namespace pinion
