#include "camera/solve.h"

#include "base/parallel.h"
#include "base/units.h"
#include "camera/contest.h"
#include "camera/doubt.h"
#include "camera/hypotheses.h"
#include "camera/measuring.h"
#include "camera/sortingout.h"
#include "camera/turning.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <set>

namespace pinion {
namespace {

using namespace solving;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr std::size_t kBasePairs = 3;

Expected<void> checkOptions(const SolveOptions& options) {
    if (options.width < 1 || options.height < 1) return failure(Fault::input, "the plate has no size");
    if (!(options.sensorWidth_mm > 0)) return failure(Fault::input, "the sensor width is {} mm; it has to be above 0", options.sensorWidth_mm);
    if (!(options.squeeze > 0)) return failure(Fault::input, "the squeeze is {}; it has to be above 0", options.squeeze);
    if (options.distortion == SolveOptions::Distortion::known && !options.lens) return failure(Fault::input, "no lens was given for a known distortion");
    if (options.lens && (options.lens->width != options.width || options.lens->height != options.height))
        return failure(Fault::input, "the lens is for {}x{}, the plate is {}x{}", options.lens->width, options.lens->height, options.width, options.height);
    if (options.focal != Knowledge::unknown && !(options.focal_mm > 0) && !options.lens)
        return failure(Fault::input, "the focal length is {} mm; it has to be above 0", options.focal_mm);
    return {};
}

/// The tracks, if there is enough in them.
Expected<Material> prepare(std::span<const Track> tracks, const SolveOptions& options) {
    std::set<int> frames;
    for (const Track& track : tracks)
        if (!track.setAside)
            for (const Sample& sample : track.samples) frames.insert(sample.frame);
    if (!frames.empty() && frames.size() < 3)
        return failure(Fault::outcome, "tracks cover only {} frame{}; a camera needs at least 3, and a few hundred pixels of walk between them", frames.size(),
                       frames.size() == 1 ? "" : "s");
    auto material = gather(tracks, options);
    if (!material) return material;
    if (material->trails.size() < std::size_t(options.fewestTracks)) {
        if (material->duplicates > 0)
            return failure(Fault::outcome, "only {} different tracks of three frames or more ({} are copies of another); at least {} are needed: scatter features first",
                           material->trails.size(), material->duplicates, options.fewestTracks);
        return failure(Fault::outcome, "only {} tracks of three frames or more; at least {} are needed, more is better: scatter features first",
                       material->trails.size(), options.fewestTracks);
    }
    if (auto joined = checkConnected(*material, options.fewestTracks); !joined) return tl::unexpected(joined.error());
    return material;
}

Expected<std::vector<BasePair>> basePairsOf(const Material& material, const std::vector<int>& keys, const SolveOptions& options) {
    if (options.basePair) {
        const auto indexOf = [&](int frame) {
            const auto found = std::find(material.frames.begin(), material.frames.end(), frame);
            return found == material.frames.end() ? -1 : int(found - material.frames.begin());
        };
        const int a = indexOf(options.basePair->first), b = indexOf(options.basePair->second);
        if (a < 0 || b < 0 || a == b)
            return failure(Fault::input, "base pair {},{}: both frames need tracks and have to differ", options.basePair->first, options.basePair->second);
        if (const auto shared = sharedPlaces(material, a, b).size(); shared < 8)
            return failure(Fault::outcome, "base pair {},{}: only {} tracks see both frames; 8 are needed", options.basePair->first, options.basePair->second, shared);
        return std::vector<BasePair>{{std::min(a, b), std::max(a, b), 1, 1}};
    }
    std::vector<Lens> lenses;
    const auto focals = focalsToTry(options);
    for (std::size_t i = 0; i < focals.size(); i += focals.size() > 3 ? 2 : 1) lenses.push_back(lensAt(options, focals[i]));
    auto pairs = chooseBasePairs(material, keys, lenses, kBasePairs);
    if (pairs.empty()) return failure(Fault::outcome, "no base pair: no two frames share 12 tracks; track longer or more points");
    return pairs;
}

/// Whether the tracks say that the optical axis meets the middle: known to a thousandth of the width, and not clearly elsewhere.
bool isCentred(const Reconstruction& scene, const BundleCovariance& covariance) {
    if (scene.options().axis != SolveOptions::Axis::automatic || scene.options().lens) return false;
    const Vector2d off(scene.lens().cx - 0.5 * scene.options().width, scene.lens().cy - 0.5 * scene.options().height);
    const Vector2d deviation(covariance.deviationOf(LensTerm::cx), covariance.deviationOf(LensTerm::cy));
    const double known = 0.001 * scene.options().width;
    return deviation.x() > 0 && deviation.maxCoeff() < known && off.cwiseAbs().maxCoeff() < 1.2 * known && off.cwiseQuotient(deviation).norm() < 3.5;
}

/// A camera that stands still: every frame the same.
Solve lockedSolve(const Material& material, std::span<const Track> tracks, const SolveOptions& options) {
    const double focal = options.focal == Knowledge::unknown ? focalPixels(options.focal_mm, options.sensorWidth_mm, options.width) : focalsToTry(options).front();
    Reconstruction scene(material, options, lensAt(options, focal));
    scene.turnOnly();
    for (int f = 0; f < int(material.frames.size()); ++f) scene.setPose(f, Pose{});
    scene.triangulateAll(0.005 * options.width, true);
    sortOut(scene, options.trim_px);
    Solve solve = measured(scene, LensPlan{}, tracks, std::nullopt);
    solve.motion = CameraMotion::locked;
    solve.reason = fmt::format("{} of {} tracks stand still", solve.used, solve.used + solve.disagreed);
    if (options.focal == Knowledge::unknown)
        solve.doubt = fmt::format("a camera that stands still tells nothing of its lens: {:.0f} mm is assumed, give the focal length", options.focal_mm);
    return solve;
}

}  // namespace

std::string_view toString(CameraMotion motion) {
    switch (motion) {
        case CameraMotion::nodal: return "nodal";
        case CameraMotion::locked: return "locked";
        default: return "travelling";
    }
}

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame) {
    const auto& frames = solve.frames.vector();
    const auto found = std::lower_bound(frames.begin(), frames.end(), frame, [](const SolvedFrame& f, int number) { return f.frame < number; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

Lens lensOf(const Solve& solve, const SolvedFrame& frame) { return solve.zoom ? zoomed(solve.lens, solve.k1Slope, frame.focal_px) : solve.lens; }

std::optional<Vector2d> projected(const Solve& solve, int frame, const Vector3d& xyz) {
    const SolvedFrame* solved = solvedFrameAt(solve, frame);
    if (!solved) return std::nullopt;
    const Vector3d inCamera = poseFrom(solved->worldFromCamera).cameraFromWorld(xyz);
    if (inCamera.z() <= 1e-6) return std::nullopt;
    return plateFromPlane(lensOf(solve, *solved), inCamera.hnormalized());
}

Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options, const Progress& progress, const SolveWatch& watch) {
    if (auto checked = checkOptions(options); !checked) return tl::unexpected(checked.error());
    progress.report(0, "Preparing the solve");
    const auto prepared = prepare(tracks, options);
    if (!prepared) return tl::unexpected(prepared.error());
    const Material& material = *prepared;
    const auto stopped = [] { return failure(Fault::stopped, "the solve was stopped"); };
    if (options.motion == CameraMotion::locked || (!options.motion && standsStill(material))) return lockedSolve(material, tracks, options);

    const std::vector<int> keys = chooseKeyframes(material, options.fewestTracks);
    if (keys.size() < 2) return failure(Fault::outcome, "no two frames have {} tracks; track more points", options.fewestTracks);
    if (options.focal == Knowledge::unknown)
        if (const SheetMotion sheet = sheetMotionOf(material, keys); sheet.isSheet)
            return failure(Fault::outcome, "the picture only {} as one flat sheet{}: no parallax, and nothing tells the focal length; give it{}",
                           sheet.growth > 1.04 ? "shifts, turns and grows" : "shifts and turns",
                           sheet.growth > 1.04 ? " (a zoom, an enlarged still, or a flat scene faced squarely)" : " (a moved picture or test pattern, or a far scene through a long lens)",
                           sheet.growth > 1.04 ? ", with --zoom if the lens zooms" : "");
    const LensPlan plan = lensPlanOf(options);
    std::optional<Reconstruction> turning;
    if (options.motion != CameraMotion::travelling) {
        turning = solveTurning(material, keys, options, progress);
        if (!turning && options.motion == CameraMotion::nodal)
            return failure(Fault::outcome, "neighbouring frames share too few tracks for a nodal solve; track longer or more points");
    }
    std::vector<Candidate> candidates;
    std::string reason;
    std::pair<int, int> base{0, 0};
    std::optional<Reconstruction> scene;
    if (options.motion == CameraMotion::nodal) {
        scene = std::move(turning);
        reason = "chosen";
    } else {
        const auto pairs = basePairsOf(material, keys, options);
        if (!pairs && !turning) return tl::unexpected(pairs.error());
        if (pairs) candidates = searchKeyframes(material, keys, *pairs, options, progress.part(0, 0.4));
        if (progress.stopped()) return stopped();
        if (candidates.empty() && !turning)
            return failure(Fault::outcome, "no base pair leads to a solve: track more of what stands still, choose other base frames or give the focal length");
        if (!candidates.empty()) {
            scene = candidates.front().scene;
            base = {material.frames[std::size_t(candidates.front().pair.a)], material.frames[std::size_t(candidates.front().pair.b)]};
            reason = options.motion ? "chosen" : "";
        }
        if (turning && scene) {
            const TurnVote vote = voteOfTurning(*scene, *turning);
            const bool turns = vote.turning >= 0.93 * vote.travelling;
            reason = turns ? fmt::format("{} of {} tracks fit a camera that only turns", vote.turning, vote.travelling)
                           : fmt::format("{} of {} tracks show parallax", vote.travelling - vote.turning, vote.travelling);
            if (turns) {
                scene = std::move(turning);
                candidates.clear();
            }
        } else if (turning && !scene) {
            scene = std::move(turning);
        }
    }
    if (progress.stopped()) return stopped();
    progress.report(0.4, "Polishing");
    std::function<void(const Bundle&)> watchBundle;
    if (watch) watchBundle = [&](const Bundle& bundle) { watch(viewOf(bundle)); };
    std::vector<Rival> rivals;
    if (scene->turnsOnly()) {
        polish(*scene, plan, progress);
        complete(*scene, plan, progress, watchBundle);
    } else {
        polishBest(candidates, keys, plan, progress);
        if (progress.stopped()) return stopped();
        Winner winner = decided(candidates, plan, progress, watchBundle);
        scene = std::move(winner.scene);
        rivals = std::move(winner.rivals);
        base = {material.frames[std::size_t(candidates.front().pair.a)], material.frames[std::size_t(candidates.front().pair.b)]};
    }
    if (scene->placedFrames() < int(material.frames.size()) && progress.stopped()) return stopped();
    if (scene->placedPoints() < options.fewestTracks)
        return failure(Fault::outcome, "only {} tracks agree on one camera; mask what moves, or track more of what stands still", scene->placedPoints());

    // Half of the tracks contradicting a camera that misses by many pixels is no camera.
    const double noise = scene->noise();
    if (noise > 5 * material.scale())
        return failure(Fault::outcome, "no camera explains these tracks (they miss it by {:.0f} px): mask what moves, look for a cut, or track what stands still", noise);
    progress.report(0.92, "Measuring");
    LensPlan settled = plan;
    auto covariance = covarianceOf(scene->assemble(), scene->bundleOptions(plan.fine, lossWidth(*scene), 0, 0));
    if (covariance && isCentred(*scene, *covariance)) {
        // What is left of the axis is the tracks' own error, and would turn every camera by it.
        scene->centreAxis();
        settled.fine.remove(LensTerm::cx).remove(LensTerm::cy);
        scene->adjust(settled.fine, lossWidth(*scene), 20, progress, 0);
        sortOut(*scene, options.trim_px);
        covariance = covarianceOf(scene->assemble(), scene->bundleOptions(settled.fine, lossWidth(*scene), 0, 0));
    }
    Solve solve = measured(*scene, settled, tracks, covariance);
    solve.reason = reason;
    if (!scene->turnsOnly()) solve.basePair = base;
    solve.doubt = doubtsOf(solve, *scene, {settled, candidates, rivals, covariance}, progress);
    progress.report(1, "Solved");
    return solve;
}

}  // namespace pinion
