#include "camera/solve.h"

#include "base/parallel.h"
#include "base/units.h"
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

/// Places frames until none is left that can be.
void placeEveryFrame(Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    const Material& material = scene.material();
    const double loose = std::clamp(15 * scene.noise(), 0.0015 * material.width, 0.005 * material.width);
    int adjusted = scene.placedFrames();
    while (!progress.stopped()) {
        std::vector<int> open;
        for (int frame = 0; frame < int(material.frames.size()); ++frame)
            if (!scene.pose(frame) && scene.sightingsOf(frame) >= std::max(6, scene.options().fewestTracks)) open.push_back(frame);
        if (open.empty() || scene.placeAll(open, loose) == 0) break;
        scene.triangulateAll(loose, false);
        if (scene.placedFrames() == int(material.frames.size())) break;
        if (scene.placedFrames() > 1.3 * adjusted) {
            scene.adjust(plan.coarse, lossWidth(scene), 4, progress, 1e-3);
            adjusted = scene.placedFrames();
        }
    }
    scene.triangulateAll(loose, false);
}

/// Adjusts all frames to the end, sorting tracks out in between.
void finish(Reconstruction& scene, const LensPlan& plan, const Progress& progress, const std::function<void(const Bundle&)>& watch) {
    const double trim = scene.options().trim_px;
    progress.report(0.5, "Adjusting");
    scene.adjust(plan.fine, lossWidth(scene), 8, progress, 1e-3, watch);
    progress.report(0.65, "Sorting tracks out");
    sortOut(scene, 0);
    placeEveryFrame(scene, plan, progress);
    progress.report(0.7, "Adjusting");
    scene.adjust(plan.fine, lossWidth(scene), 20, progress, 1e-5, watch);
    for (int pass = 0; pass < 3 && !progress.stopped(); ++pass) {
        const int changed = sortOut(scene, trim);
        progress.report(0.78 + 0.04 * pass, "Adjusting");
        scene.adjust(plan.fine, lossWidth(scene), 25, progress, 0, watch);
        if (changed * 200 < scene.placedPoints()) break;
    }
    sortOut(scene, trim);
}

/// Frames that too few tracks hold are not solved.
void forgetWeakFrames(Reconstruction& scene) {
    for (int f = 0; f < int(scene.material().frames.size()); ++f)
        if (scene.pose(f) && scene.sightingsOf(f) < std::min(scene.options().fewestTracks, 6)) scene.forgetFrame(f);
}

/// Whether the tracks say that the optical axis meets the middle: known to a thousandth of the width, and not clearly elsewhere.
bool isCentred(const Reconstruction& scene, const BundleCovariance& covariance) {
    if (scene.options().axis != SolveOptions::Axis::automatic || scene.options().lens) return false;
    const Vector2d off(scene.lens().cx - 0.5 * scene.options().width, scene.lens().cy - 0.5 * scene.options().height);
    const Vector2d deviation(covariance.deviationOf(LensTerm::cx), covariance.deviationOf(LensTerm::cy));
    const double known = 0.001 * scene.options().width;
    return deviation.x() > 0 && deviation.maxCoeff() < known && off.cwiseAbs().maxCoeff() < 1.2 * known && off.cwiseQuotient(deviation).norm() < 3.5;
}

double millimetres(const SolveOptions& options, double focal_px) { return focalMillimetres(focal_px, options.sensorWidth_mm, options.width); }

/// The focal lengths of candidates that are clearly different cameras and explain the keyframes as well as the winner.
std::vector<double> otherFocals(const std::vector<Candidate>& candidates, const LensPlan& plan, const Progress& progress) {
    std::vector<double> others;
    for (std::size_t i = 1; i < candidates.size(); ++i) {
        const Candidate& best = candidates.front();
        const auto differs = [&](const Reconstruction& scene) { return std::abs(scene.lens().focal_px / best.scene.lens().focal_px - 1) > 0.1; };
        if (candidates[i].badness > 1.2 * best.badness + 0.002 || !differs(candidates[i].scene)) continue;
        // It may only not have arrived yet.
        Reconstruction scene = candidates[i].scene;
        settle(scene, plan, progress, 3);
        if (!differs(scene)) continue;
        std::vector<int> frames;
        for (int f = 0; f < int(scene.material().frames.size()); ++f)
            if (best.scene.pose(f)) frames.push_back(f);
        const double noise = std::max(best.scene.noise(), 0.05 * scene.material().scale());
        if (scene.badness(frames, noise) < 1.01 * best.scene.badness(frames, noise) + 0.0005) others.push_back(scene.lens().focal_px);
    }
    return others;
}

/// How far apart two solutions of the same frames put their cameras: RMS after the best similarity, over the length of the path.
double pathsApart(const Reconstruction& one, const Reconstruction& other) {
    std::vector<Vector3d> a, b;
    double length = 0;
    for (int f = 0; f < int(one.material().frames.size()); ++f)
        if (one.pose(f) && other.pose(f)) {
            if (!a.empty()) length += (one.pose(f)->centre() - a.back()).norm();
            a.push_back(one.pose(f)->centre());
            b.push_back(other.pose(f)->centre());
        }
    if (a.size() < 4 || !(length > 0)) return 0;
    Eigen::Matrix3Xd from(3, b.size()), to(3, a.size());
    for (std::size_t i = 0; i < a.size(); ++i) {
        from.col(Eigen::Index(i)) = b[i];
        to.col(Eigen::Index(i)) = a[i];
    }
    const Eigen::Matrix4d fit = Eigen::umeyama(from, to, true);
    const Eigen::Matrix3Xd off = (fit.topLeftCorner<3, 3>() * from).colwise() + fit.topRightCorner<3, 1>() - to;
    return std::sqrt(off.squaredNorm() / double(a.size())) / length;
}

/// Brings those candidates that come near the best one to their end and ranks them again: where minima lie close, only there do
/// they differ.
void polishBest(std::vector<Candidate>& candidates, const std::vector<int>& keys, const LensPlan& plan, const Progress& progress) {
    std::size_t count = 0;
    while (count < std::min<std::size_t>(3, candidates.size()) && candidates[count].badness < 1.25 * candidates.front().badness + 0.004) ++count;
    parallelFor(count, [&](std::size_t i) { polish(candidates[i].scene, plan, progress); });
    double noise = 1e9;
    for (std::size_t i = 0; i < count; ++i) noise = std::min(noise, candidates[i].scene.noise());
    noise = std::max(noise, 0.08 * candidates.front().scene.material().scale());
    for (std::size_t i = 0; i < count; ++i) candidates[i].badness = candidates[i].scene.badness(keys, noise);
    candidates.resize(count, candidates.front());
    std::sort(candidates.begin(), candidates.end(), [](const Candidate& a, const Candidate& b) { return a.badness < b.badness; });
}

/// The step from one frame to the next at which the fewest tracks hold the two sides together.
struct Seam {
    int before = 0, after = 0;  ///< frame numbers
    int holding = 0, crossing = 0;
};
Seam weakestSeam(const Reconstruction& scene) {
    const Material& material = scene.material();
    std::vector<Seam> seams(material.frames.size() - 1);
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        const Trail& trail = material.trails[t];
        if (trail.heldOut) continue;
        const auto [from, to] = scene.stretch(t);
        const bool held = scene.point(t) && !scene.isDoubted(t);
        for (int f = trail.seen.front().frame; f < trail.seen.back().frame; ++f) {
            Seam& seam = seams[std::size_t(f)];
            ++seam.crossing;
            seam.holding += held && f >= trail.seen[std::size_t(from)].frame && f < trail.seen[std::size_t(to)].frame;
        }
    }
    Seam weakest{0, 0, 1 << 20, 1 << 20};
    for (std::size_t f = 0; f < seams.size(); ++f) {
        seams[f].before = material.frames[f];
        seams[f].after = material.frames[f + 1];
        if (double(seams[f].holding) / std::max(1, seams[f].crossing) < double(weakest.holding) / std::max(1, weakest.crossing) || weakest.crossing == 1 << 20) weakest = seams[f];
    }
    return weakest;
}

/// Everything that speaks against the answer, in words.
std::string doubtsOf(Solve& solve, const Reconstruction& scene, const LensPlan& plan, const std::vector<Candidate>& candidates,
                     const std::optional<BundleCovariance>& covariance, const Progress& progress) {
    const SolveOptions& options = scene.options();
    const Material& material = scene.material();
    std::vector<std::string> doubts;
    std::vector<int> missing;
    for (int f = 0; f < int(material.frames.size()); ++f)
        if (!scene.pose(f)) missing.push_back(material.frames[std::size_t(f)]);
    if (!missing.empty())
        doubts.push_back(fmt::format("{} of {} frames have no camera ({}): track more that stands still there", missing.size(), material.frames.size(), inRanges(missing)));
    if (!covariance) doubts.push_back("the tracks leave something of the camera open: track more, or give a focal length");

    const double focal = scene.lens().focal_px;
    if (plan.focal && !scene.isZoom()) {
        double low = focal, high = focal;
        const double deviation = covariance ? covariance->deviationOf(LensTerm::focal) / focal : 1.0;
        if (deviation > 0.012 && options.focal == Knowledge::unknown) std::tie(low, high) = alikeFocals(scene, plan, progress);
        for (const double other : otherFocals(candidates, plan, progress)) {
            low = std::min(low, other);
            high = std::max(high, other);
        }
        if (high / low > 1.15) {
            solve.focalRange_mm = {millimetres(options, low), millimetres(options, high)};
            // Anything in the range is as likely: the deviation of an even spread.
            solve.focalDeviation_mm = std::max(solve.focalDeviation_mm.value_or(0), (solve.focalRange_mm->second - solve.focalRange_mm->first) / std::sqrt(12.0));
            doubts.push_back(fmt::format("{:.0f} to {:.0f} mm fit alike: give a focal length, or a longer move", solve.focalRange_mm->first, solve.focalRange_mm->second));
        } else if (deviation > 0.03) {
            doubts.push_back(fmt::format("the focal length is known to {:.0f} % only: give one, or track more", 100 * deviation));
        }
    }
    if (options.focal != Knowledge::unknown && !scene.isZoom()) {
        const double given = focalsToTry(options).size() == 3 ? focalsToTry(options)[1] : focalsToTry(options).front();
        if (const auto asked = focalAskedFor(scene, plan, progress)) {
            const double off = std::abs(asked->focal_px - given);
            const double trust = options.focal == Knowledge::guessed ? 2 * focalPixels(options.focalTrust_mm, options.sensorWidth_mm, options.width) : 0.0;
            if (off > 5 * asked->deviation_px + trust && off > 0.03 * given)
                doubts.push_back(fmt::format("{:.1f} mm was given, the tracks say {:.1f} ± {:.1f} mm: check the lens, or the sensor width", millimetres(options, given),
                                             millimetres(options, asked->focal_px), millimetres(options, asked->deviation_px)));
        }
    }
    for (std::size_t i = 1; i < candidates.size() && doubts.empty(); ++i)
        if (candidates[i].badness < 1.02 * candidates.front().badness + 0.001)
            if (const double apart = pathsApart(candidates.front().scene, candidates[i].scene); apart > 0.03)
                doubts.push_back(fmt::format("another camera path, {:.0f} % of its length away, explains the tracks about as well: give a focal length, or track what is nearer", 100 * apart));
    if (covariance && !covariance->positions.empty()) {
        double squares = 0, length = 0;
        std::optional<Vector3d> last;
        std::size_t at = 0;
        for (int f = 0; f < int(material.frames.size()); ++f) {
            if (!scene.pose(f)) continue;
            squares += covariance->positions[at++].trace();
            if (last) length += (scene.pose(f)->centre() - *last).norm();
            last = scene.pose(f)->centre();
        }
        const double share = std::sqrt(squares / double(std::max<std::size_t>(1, at))) / std::max(1e-12, length);
        if (share > 0.02 && doubts.empty()) doubts.push_back(fmt::format("the camera's path is known to {:.0f} % of its length only: a longer move or nearer tracks would tell more", 100 * share));
    }
    const Seam seam = weakestSeam(scene);
    if (seam.crossing >= 8 && seam.holding < 0.4 * seam.crossing)
        doubts.push_back(fmt::format("between frames {} and {} only {} of {} tracks agree: the two sides may not belong together", seam.before, seam.after, seam.holding, seam.crossing));
    const int judged = solve.used + solve.disagreed;
    if (judged > 0 && solve.used < 0.6 * judged)
        doubts.push_back(fmt::format("only {} of {} tracks agree on one camera: mask what moves, or something else than the set was followed", solve.used, judged));
    if (solve.rms_px > 2.0 * material.scale()) doubts.push_back(fmt::format("the error of {:.2f} px is large: no camera explains these tracks well", solve.rms_px));
    if (auto lens = checkLens(scene.lens()); !lens) doubts.push_back(fmt::format("the distortion that was found is no lens ({}): set it to none or k1", lens.error().message));
    if (progress.stopped()) doubts.push_back("it was stopped before its end");
    std::string text;
    for (const std::string& doubt : doubts) text += (text.empty() ? "" : "; ") + doubt;
    return text;
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
    if (scene->turnsOnly()) {
        polish(*scene, plan, progress);
    } else {
        polishBest(candidates, keys, plan, progress);
        scene = candidates.front().scene;
        base = {material.frames[std::size_t(candidates.front().pair.a)], material.frames[std::size_t(candidates.front().pair.b)]};
    }
    progress.report(0.45, "Placing all frames");
    placeEveryFrame(*scene, plan, progress);
    if (progress.stopped()) return stopped();
    std::function<void(const Bundle&)> watchBundle;
    if (watch) watchBundle = [&](const Bundle& bundle) { watch(viewOf(bundle)); };
    finish(*scene, plan, progress, watchBundle);
    forgetWeakFrames(*scene);
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
    solve.doubt = doubtsOf(solve, *scene, settled, candidates, covariance, progress);
    progress.report(1, "Solved");
    return solve;
}

}  // namespace pinion
