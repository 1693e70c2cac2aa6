#include "camera/solve.h"

#include "base/median.h"
#include "base/parallel.h"
#include "base/units.h"
#include "camera/contest.h"
#include "camera/doubt.h"
#include "camera/hypotheses.h"
#include "camera/measures.h"
#include "camera/measuring.h"
#include "camera/readings.h"
#include "camera/rolling.h"
#include "camera/sceneshape.h"
#include "camera/sortingout.h"
#include "camera/turning.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numeric>
#include <set>

namespace pinion {
namespace {

using namespace solving;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr std::size_t kBasePairs = 3;
constexpr double kUsualFocal = 35.0 / 36.0;  // frame widths
constexpr int kRoundsOfMovers = 2;
constexpr double kLeastMore = 0.005, kMuchMore = 0.08;  // of all tracks explained
constexpr double kClearParallax = 8.0;                  // pixels that no camera that only turns would show

Expected<void> checkOptions(const SolveOptions& options) {
    if (options.width < 1 || options.height < 1) return failure(Fault::input, "the plate has no size");
    if (!(options.sensorWidth_mm > 0))
        return failure(Fault::input, "the sensor width is {} mm; it has to be above 0", options.sensorWidth_mm);
    if (!(options.squeeze > 0))
        return failure(Fault::input, "the squeeze is {}; it has to be above 0", options.squeeze);
    if ((options.distortion == SolveOptions::Distortion::known ||
         options.distortion == SolveOptions::Distortion::guessed) &&
        !options.lens)
        return failure(Fault::input, "no lens was given for a known distortion");
    if (options.distortion == SolveOptions::Distortion::guessed && options.lens->field)
        return failure(Fault::input, "a lens from maps has no terms to guess from; keep it, or find the lens out");
    if (options.lens && (options.lens->width != options.width || options.lens->height != options.height))
        return failure(Fault::input, "the lens is for {}x{}, the plate is {}x{}", options.lens->width,
                       options.lens->height, options.width, options.height);
    if (options.focal != Knowledge::unknown && !(options.focal_mm > 0) && !options.lens)
        return failure(Fault::input, "the focal length is {} mm; it has to be above 0", options.focal_mm);
    return {};
}

/// The tracks, if there is enough in them.
Expected<Material> prepare(std::span<const Track> tracks, const SolveOptions& options, std::span<const Track> filmed) {
    std::set<int> frames;
    for (const Track& track : tracks)
        if (!track.setAside)
            for (const Sample& sample : track.samples) frames.insert(sample.frame);
    if (!frames.empty() && frames.size() < 3)
        return failure(
            Fault::outcome,
            "tracks cover only {} frame{}; a camera needs at least 3, and a few hundred pixels of walk between them",
            frames.size(), frames.size() == 1 ? "" : "s");
    auto material = gather(tracks, options, filmed);
    if (!material) return material;
    if (material->trails.size() < std::size_t(options.fewestTracks)) {
        if (material->duplicates > 0)
            return failure(Fault::outcome,
                           "only {} different tracks of three frames or more ({} are copies of another); at least {} "
                           "are needed: scatter features first",
                           material->trails.size(), material->duplicates, options.fewestTracks);
        return failure(
            Fault::outcome,
            "only {} track{} of three frames or more; at least {} are needed, more is better: scatter features first",
            material->trails.size(), material->trails.size() == 1 ? "" : "s", options.fewestTracks);
    }
    if (auto joined = checkConnected(*material, options.fewestTracks); !joined) return tl::unexpected(joined.error());
    return material;
}

Expected<std::vector<BasePair>> basePairsOf(const Material& material, const std::vector<int>& keys,
                                            const SolveOptions& options) {
    if (options.basePair) {
        const auto indexOf = [&](int frame) {
            const auto found = std::find(material.frames.begin(), material.frames.end(), frame);
            return found == material.frames.end() ? -1 : int(found - material.frames.begin());
        };
        const int a = indexOf(options.basePair->first), b = indexOf(options.basePair->second);
        if (a < 0 || b < 0 || a == b)
            return failure(Fault::input, "base pair {},{}: both frames need tracks and have to differ",
                           options.basePair->first, options.basePair->second);
        if (const auto shared = sharedPlaces(material, a, b).size(); shared < 8)
            return failure(Fault::outcome, "base pair {},{}: only {} tracks see both frames; 8 are needed",
                           options.basePair->first, options.basePair->second, shared);
        return std::vector<BasePair>{{std::min(a, b), std::max(a, b), 1, 1}};
    }
    std::vector<Lens> lenses;
    const auto focals = focalsToTry(options);
    for (std::size_t i = 0; i<focals.size(); i += focals.size()> 3 ? 2 : 1)
        lenses.push_back(lensAt(options, focals[i]));
    auto pairs = chooseBasePairs(material, keys, lenses, kBasePairs);
    if (pairs.empty())
        return failure(Fault::outcome, "no base pair: no two frames share 12 tracks; track longer or more points");
    return pairs;
}

/// A camera on the keyframes: candidates that travel, the best first, or else one that only turns.
struct Found {
    std::vector<Attempt> candidates;
    std::optional<Reconstruction> turning;
    std::string reason;  ///< why the one or the other
};
Expected<Found> findCamera(const Material& material, const std::vector<int>& keys, const SolveOptions& options,
                           const Progress& progress) {
    Found found;
    if (options.motion == CameraMotion::nodal) {
        found.turning = solveTurning(material, keys, options, progress);
        if (!found.turning)
            return failure(Fault::outcome,
                           "neighbouring frames share too few tracks for a nodal solve; track longer or more points");
        found.reason = "chosen";
        return found;
    }
    const auto pairs = basePairsOf(material, keys, options);
    if (pairs) found.candidates = searchKeyframes(material, keys, *pairs, options, progress.part(0, 0.35));
    else if (options.motion) return tl::unexpected(pairs.error());
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    if (options.motion) {
        if (found.candidates.empty())
            return failure(Fault::outcome,
                           "no base pair leads to a solve: track more of what stands still, choose other base frames "
                           "or give the focal length");
        found.reason = "chosen";
        return found;
    }
    if (!found.candidates.empty() && !options.zooms()) {
        const Attempt& best = found.candidates.front();
        const double parallax = parallaxOf(best.scene, best.pair);
        if (std::min(parallax, options.basePair ? parallax : best.pair.parallax_px) >
            std::max(kClearParallax * material.scale(), 20 * best.scene.noise())) {
            found.reason =
                fmt::format("no turn explains {:.0f} px of parallax between frames {} and {}", parallax,
                            material.frames[std::size_t(best.pair.a)], material.frames[std::size_t(best.pair.b)]);
            return found;
        }
    }
    progress.report(0.35, "Comparing with a camera that only turns");
    auto turning = solveTurning(material, keys, options, progress);
    if (!turning && !pairs) return tl::unexpected(pairs.error());
    if (found.candidates.empty()) {
        if (!turning)
            return failure(Fault::outcome,
                           "no base pair leads to a solve: track more of what stands still, choose other base frames "
                           "or give the focal length");
        found.turning = std::move(turning);
        return found;
    }
    if (!turning) return found;
    const TurnVote vote = voteOfTurning(found.candidates.front().scene, *turning);
    if (vote.turning >= 0.93 * vote.travelling) {
        found.reason = fmt::format("{} of {} tracks fit a camera that only turns", vote.turning, vote.travelling);
        found.turning = std::move(turning);
        found.candidates.clear();
    } else {
        found.reason = fmt::format("{} of {} tracks show parallax", vote.travelling - vote.turning, vote.travelling);
    }
    return found;
}

/// Whether the tracks say that the optical axis meets the middle: known to a thousandth of the width, and not clearly
/// elsewhere.
constexpr double kAxisKnown = 0.001;
Vector2d axisOff(const Reconstruction& scene) {
    return {scene.lens().cx - 0.5 * scene.options().width, scene.lens().cy - 0.5 * scene.options().height};
}
bool mayBeCentred(const Reconstruction& scene, const LensPlan& plan) {
    return scene.options().axis == SolveOptions::Axis::automatic && !scene.options().lens &&
           plan.fine.has(LensTerm::cx) &&
           axisOff(scene).cwiseAbs().maxCoeff() < 1.2 * kAxisKnown * scene.options().width;
}
bool isCentred(const Reconstruction& scene, const BundleCovariance& covariance) {
    const Vector2d off = axisOff(scene);
    const Vector2d deviation(covariance.deviationOf(LensTerm::cx), covariance.deviationOf(LensTerm::cy));
    const double known = kAxisKnown * scene.options().width;
    return deviation.x() > 0 && deviation.maxCoeff() < known && off.cwiseQuotient(deviation).norm() < 3.5;
}

void widenDeviations(Solve& solve, double factor) {
    auto frames = solve.frames.vector();
    for (SolvedFrame& frame : frames) frame.deviation *= factor;
    solve.frames = List<SolvedFrame>(std::move(frames));
    auto tracks = solve.tracks.vector();
    for (SolvedTrack& track : tracks) track.deviation *= factor;
    solve.tracks = List<SolvedTrack>(std::move(tracks));
}

/// Puts more words after some, if there are any.
void addWords(std::string& words, const std::string& more) {
    if (!words.empty() && !more.empty()) words += "; ";
    words += more;
}

/// The reason, with what is peculiar to the move and the scene.
std::string withScene(std::string reason, const Reconstruction& scene) {
    if (slidesStraight(scene)) addWords(reason, "it slides straight, without a turn");
    if (isFlat(scene)) addWords(reason, "the scene is flat");
    return reason;
}

/// A camera that stands still: every frame the same.
Solve lockedSolve(const Material& material, std::span<const Track> tracks, const SolveOptions& options) {
    const double focal = options.focal == Knowledge::unknown
                             ? focalPixels(options.focal_mm, options.sensorWidth_mm, options.width)
                             : focalsToTry(options).front();
    Reconstruction scene(material, options, lensAt(options, focal));
    scene.turnOnly();
    for (int f = 0; f < int(material.frames.size()); ++f) scene.setPose(f, Pose{});
    scene.triangulateAll(0.005 * options.width, true);
    sortOut(scene, options.trim_px);
    Solve solve = measured(scene, LensPlan{}, tracks, std::nullopt);
    solve.motion = CameraMotion::locked;
    solve.reason = fmt::format("{} of {} tracks stand still", solve.used, solve.used + solve.disagreed);
    if (options.focal == Knowledge::unknown)
        solve.doubt = fmt::format(
            "a camera that stands still tells nothing of its lens: {:.0f} mm is assumed, give the focal length",
            options.focal_mm);
    return solve;
}

/// Brings what was found on the keyframes to its end there.
void polishFound(Found& found, const std::vector<int>& keys, const Progress& progress) {
    progress.report(0.4, "Polishing");
    if (found.turning) polish(*found.turning, lensPlanOf(found.turning->options()), progress);
    else polishBest(found.candidates, keys, lensPlanOf(found.candidates.front().scene.options()), progress);
}
const Reconstruction& sceneOf(const Found& found) {
    return found.turning ? *found.turning : found.candidates.front().scene;
}

/// The shortest and the longest focal length on the keyframes that have a camera, in pixels.
std::pair<double, double> focalsOf(const Reconstruction& scene, const std::vector<int>& keys) {
    std::pair<double, double> range{1e9, 0};
    for (const int key : keys)
        if (scene.pose(key))
            range = {std::min(range.first, scene.focalOf(key)), std::max(range.second, scene.focalOf(key))};
    return range;
}

/// By how much of the badness the second explains the keyframes better than the first; nothing when its focal length
/// changes by no more than that of a breathing lens.
double gainOfZoom(const Reconstruction& fixed, const Reconstruction& zoomed, const std::vector<int>& keys) {
    const auto [shortest, longest] = focalsOf(zoomed, keys);
    const double noise = std::max(std::min(zoomed.noise(), fixed.noise()), 0.05 * fixed.material().scale());
    return longest > 1.02 * shortest ? fixed.badness(keys, noise) - zoomed.badness(keys, noise) : 0;
}

// Over made-up shots of every kind those with one focal length gain less than 0.007 by its freedom and less than 0.01
// by a search of their own, however noisy; zooms, from 1.05 times on, 0.04 and 0.09 at least.
constexpr double kHintOfZoom = 0.008, kZoomGain = 0.025;
// What moves before a wall lends a zoom up to 0.12 on the keyframes, and nothing on all frames.
constexpr double kClearZoom = 0.2;
// With all frames placed a thing before a wall lent a zoom up to 0.027; zooms gain more than on the keyframes.
constexpr double kZoomGainInTheEnd = 0.033, kOpenZoom = 0.015;
constexpr double kTurnGain = 0.01;             // simpler than a camera that travels, and so it needs less
constexpr double kLongestLens = 400.0 / 36.0;  // frame widths

/// Whether keyframes read with a focal length that stays look as if it changed, given its freedom where they are.
bool looksZoomed(const Found& found, const std::vector<int>& keys, const SolveOptions& zooming,
                 const Progress& progress) {
    // Growing and shrinking is what an ever longer lens, carried to and fro, imitates best: nobody brings such a lens.
    if (sceneOf(found).lens().focal_px > kLongestLens * zooming.width) return true;
    progress.report(0.42, "Looking for a zoom");
    Reconstruction freed = sceneOf(found);
    freed.becomeZoom();
    polish(freed, lensPlanOf(zooming), progress);
    return gainOfZoom(sceneOf(found), freed, keys) > (zooming.focal == Knowledge::known ? kZoomGain : kHintOfZoom);
}

/// Pixels of parallax that no camera which only turns would show.
double clearParallax(const Reconstruction& scene) {
    return std::max(kClearParallax * scene.material().scale(), 20 * scene.noise());
}

/// What showed parallax at first may have been something that moves: a camera that travels and shows none of what it
/// explains only turns.
void turnAfterAll(Found& found, const std::vector<int>& keys, const SolveOptions& options, const Progress& progress) {
    if (found.turning || options.motion || options.zooms()) return;
    const Reconstruction& best = found.candidates.front().scene;
    if (mostParallax(best, keys) > clearParallax(best)) return;
    progress.report(0.41, "Comparing with a camera that only turns");
    auto turning = solveTurning(best.material(), keys, options, progress);
    if (!turning) return;
    polish(*turning, lensPlanOf(options), progress);
    const TurnVote vote = voteOfTurning(best, *turning);
    if (vote.turning < 0.93 * vote.travelling) return;
    found.reason = fmt::format("{} of {} tracks fit a camera that only turns", vote.turning, vote.travelling);
    found.turning = std::move(turning);
    found.candidates.clear();
}

/// A camera that turns and zooms, where the one that was found may only seem to travel, to and fro. A wall faced
/// squarely fits both: then the travelling one stays, and `doubt` says so.
std::optional<Found> turningAndZooming(const Found& found, const std::vector<int>& keys, const SolveOptions& zooming,
                                       std::string& doubt, const Progress& progress) {
    if (found.turning || zooming.focal == Knowledge::known || zooming.motion.has_value()) return std::nullopt;
    const Attempt& best = found.candidates.front();
    const double clear = std::max(kClearParallax * best.scene.material().scale(), 20 * best.scene.noise());
    if (parallaxBeyondZoom(best.scene, best.pair) > clear) return std::nullopt;
    progress.report(0.43, "Comparing with a camera that turns and zooms");
    Found other;
    other.turning = solveTurning(best.scene.material(), keys, zooming, progress);
    if (!other.turning) return std::nullopt;
    polish(*other.turning, lensPlanOf(zooming), progress);
    const TurnVote vote = voteOfTurning(best.scene, *other.turning);
    if (vote.turning < 0.93 * vote.travelling) return std::nullopt;
    other.reason = fmt::format("{} of {} tracks fit a camera that only turns", vote.turning, vote.travelling);
    if (gainOfZoom(best.scene, *other.turning, keys) > kTurnGain) return other;
    const auto [shortest, longest] = focalsOf(*other.turning, keys);
    if (longest > 1.02 * shortest)
        doubt = fmt::format(
            "a camera that only turns and zooms by {:.0f} % explains the tracks about as well: choose how "
            "it moves, or whether it zooms",
            100 * (longest / shortest - 1));
    return std::nullopt;
}

/// A camera on all frames, and what came near it.
struct Answer {
    Reconstruction scene;
    std::vector<Attempt> candidates;  ///< the winner first; none of a camera that turns, or of an earlier solve
    std::vector<Rival> rivals;
    std::string reason;
    std::string doubt = {};  ///< from the search
};
using BundleWatch = std::function<void(const Bundle&)>;

/// What the keyframes show, with its zoom told.
struct KeyReading {
    Found found;
    std::string doubt;
    std::optional<Found> fixed = {};  ///< with one focal length, where a zoom is better by a little only
    const Reconstruction& scene() const { return sceneOf(found); }
    /// Goes on with other tracks at the same numbers.
    void continueOn(const Material& material) {
        for (Attempt& candidate : found.candidates) candidate.scene.continueOn(material);
        if (found.turning) found.turning->continueOn(material);
        if (!fixed) return;
        for (Attempt& candidate : fixed->candidates) candidate.scene.continueOn(material);
        if (fixed->turning) fixed->turning->continueOn(material);
    }
    /// The reading with one focal length by itself.
    std::optional<KeyReading> withoutZoom() const {
        return fixed ? std::optional(KeyReading{*fixed, doubt, {}}) : std::nullopt;
    }
};

/// `zooming`: the same options with a zoom, when it has to be found out whether there is one.
Expected<KeyReading> readKeyframes(const Material& material, const std::vector<int>& keys, const SolveOptions& options,
                                   const SolveOptions* zooming, const Progress& progress) {
    auto found = findCamera(material, keys, options, progress);
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    if (found) polishFound(*found, keys, progress);
    if (found && !progress.stopped()) turnAfterAll(*found, keys, options, progress);
    std::string doubt;
    std::optional<Found> fixed;
    const auto withZoom = [&](Found& chosen) {
        const auto [shortest, longest] = focalsOf(sceneOf(chosen), keys);
        addWords(chosen.reason, fmt::format("the lens zooms by {:.0f} %", 100 * (longest / shortest - 1)));
    };
    if (zooming && found && !progress.stopped())
        if (auto turning = turningAndZooming(*found, keys, *zooming, doubt, progress)) {
            withZoom(*turning);
            found = std::move(*turning);
            zooming = nullptr;
        }
    if (zooming && !progress.stopped() && (!found || looksZoomed(*found, keys, *zooming, progress))) {
        if (options.focal == Knowledge::known) {
            if (found)
                doubt = "the tracks look as if the lens zoomed, and one focal length was given: solve it as a zoom";
        } else if (auto zoomed = findCamera(material, keys, *zooming, progress); zoomed) {
            polishFound(*zoomed, keys, progress);
            const double gain = found ? gainOfZoom(sceneOf(*found), sceneOf(*zoomed), keys) : 1;
            if (gain > kZoomGain) {
                withZoom(*zoomed);
                if (gain < kClearZoom) fixed = std::move(*found);
                doubt.clear();
                found = std::move(zoomed);
            }
        }
    }
    if (!found) return tl::unexpected(found.error());
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    return KeyReading{std::move(*found), std::move(doubt), std::move(fixed)};
}

/// Groups without which it is worth to read the keyframes, in the order of what a glance explains of all tracks without
/// them: those without which it explains more than with all, and the best. A group that a glance says nothing of stays,
/// behind the others.
std::vector<std::vector<int>> promising(std::vector<std::vector<int>> groups, const Material& material,
                                        const Material& rest, const std::vector<int>& keys, const SolveOptions& options,
                                        const Progress& progress) {
    const double noise = 0.3 * material.scale();
    const auto glanceAt = [&](const Material& seen) -> std::optional<double> {
        auto pairs = basePairsOf(seen, keys, options);
        if (!pairs) return std::nullopt;
        if (pairs->size() > 2) pairs->resize(2);
        const auto found = searchKeyframes(seen, keys, *pairs, options, progress.part(0.43, 0.44), kGlance);
        if (found.empty()) return std::nullopt;
        return explainedShare(found.front().scene, material, keys, noise);
    };
    struct Seen {
        double share = 0;
        std::size_t group = 0;
    };
    std::vector<Seen> clear;
    std::vector<std::size_t> unclear;
    const double withAll = glanceAt(rest).value_or(0);
    for (std::size_t i = 0; i < groups.size() && !progress.stopped(); ++i) {
        if (const auto share = glanceAt(withoutTrails(rest, groups[i]))) clear.push_back({*share, i});
        else unclear.push_back(i);
    }
    std::stable_sort(clear.begin(), clear.end(), [](const Seen& a, const Seen& b) { return a.share > b.share; });
    std::vector<std::vector<int>> result;
    for (const Seen& one : clear)
        if (result.empty() || one.share > withAll) result.push_back(std::move(groups[one.group]));
    for (const std::size_t i : unclear) result.push_back(std::move(groups[i]));
    return result;
}

/// Where the errors of a reading are not those of tracks, others are tried, each without one group of tracks that go
/// together: the one that explains most tracks stays, and what it left out stays out while more is looked for. Tracks
/// left out have their say again from there on. Whether another reading was found.
bool lookForMovers(Expected<KeyReading>& reading, const Material& material, const std::vector<int>& keys,
                   const SolveOptions& options, const SolveOptions* zooming, const Progress& progress) {
    if (options.basePair) return false;
    bool found = false;
    progress.report(0.43, "Looking for what moves");
    Material rest = material;
    for (int round = 0; round < kRoundsOfMovers; ++round) {
        double gain = 0;
        std::vector<int> leftOut;
        const auto groups = promising(groupsApart(rest, keys), material, rest, keys, options, progress);
        for (const std::vector<int>& group : groups) {
            if (progress.stopped()) return found;
            const Material others = withoutTrails(rest, group);
            auto other = readKeyframes(others, keys, options, zooming, progress.part(0.43, 0.45));
            if (!other) continue;
            double more = 1;
            if (reading) {
                const double noise =
                    std::max(std::min(reading->scene().noise(), other->scene().noise()), 0.08 * material.scale());
                more = explainedShare(other->scene(), material, keys, noise) -
                       explainedShare(reading->scene(), material, keys, noise);
            }
            if (more < kLeastMore) continue;
            gain += more;
            other->continueOn(material);
            reading = std::move(other);
            found = true;
            leftOut = group;
            if (!isBent(reading->scene(), keys)) return true;
            if (more > kMuchMore) break;  // what is still to be found is looked for without this
        }
        if (gain < 3 * kLeastMore) return found;
        rest = withoutTrails(rest, leftOut);
    }
    return found;
}

/// The reading that sees the told tracks stand still: the usual one where it does, else of what goes as they do, or
/// without a group that they do not belong to.
void readToldScene(Expected<KeyReading>& reading, const Material& material, const std::vector<int>& told,
                   const std::vector<int>& keys, const SolveOptions& options, const SolveOptions* zooming,
                   const Progress& progress) {
    constexpr double kStands = 0.6, kClearlyMore = 0.1;
    const double noise = 0.3 * material.scale();
    const auto toldOf = [&](const Expected<KeyReading>& one) {
        return one ? explainedOfTold(one->scene(), material, keys, noise, told) : 0.0;
    };
    const auto shareOf = [&](const Expected<KeyReading>& one) {
        return one ? explainedShare(one->scene(), material, keys, noise) : 0.0;
    };
    std::vector<char> isTold(material.trails.size(), 0);
    for (const int trail : told) isTold[std::size_t(trail)] = 1;
    double best = toldOf(reading), share = shareOf(reading);
    const auto isTaken = [&] { return best > kStands && reading && !isBent(reading->scene(), keys); };
    if (isTaken()) return;
    progress.report(0.43, "Looking for what stands");
    // Groups to be read alone, and groups to be left out.
    std::vector<std::pair<std::vector<int>, bool>> tries{{goingWith(material, keys, told), true}};
    for (const std::vector<int>& group : groupsApart(material, keys)) {
        std::size_t ours = 0;
        for (const int trail : group) ours += std::size_t(isTold[std::size_t(trail)]);
        if (2 * ours > told.size()) tries.emplace_back(group, true);
        else if (ours == 0) tries.emplace_back(group, false);
    }
    for (const auto& [group, isAlone] : tries) {
        if (progress.stopped()) return;
        if (isTaken()) break;
        if (isAlone && group.size() < std::size_t(options.fewestTracks)) continue;
        std::vector<int> out = group;
        if (isAlone) {
            std::vector<char> isIn(material.trails.size(), 0);
            for (const int trail : group) isIn[std::size_t(trail)] = 1;
            out.clear();
            for (std::size_t t = 0; t < material.trails.size(); ++t)
                if (!isIn[t]) out.push_back(int(t));
        }
        const Material rest = withoutTrails(material, out);
        auto other = readKeyframes(rest, keys, options, zooming, progress.part(0.43, 0.45));
        if (!other) continue;
        const double its = toldOf(other), itsShare = shareOf(other);
        if (its < best - kClearlyMore || (its < best + kClearlyMore && itsShare <= share)) continue;
        best = its;
        share = itsShare;
        // `rest` goes; what it was read from stays the same by number.
        other->continueOn(material);
        reading = std::move(other);
    }
    if (!reading) return;
    if (best < kStands)
        addWords(reading->doubt, "no camera sees the tracks stand still that were said to be the scene's");
}

/// Tracks that had no vote are sorted in or out by the finished camera.
void takeAllTracks(Reconstruction& scene, const Material& material, const LensPlan& plan, const Progress& progress) {
    if (&scene.material() == &material) return;
    scene.continueOn(material);
    sortOut(scene, scene.options().trim_px);
    // Frames that were left without a camera have another chance.
    if (scene.placedFrames() < int(material.frames.size())) {
        complete(scene, plan, progress);
        return;
    }
    scene.adjust(plan.fine, lossWidth(scene), 12, progress, 0);
    sortOut(scene, scene.options().trim_px);
}

/// A reading brought to its end on all frames.
Answer finished(KeyReading reading, const Material& material, const std::vector<int>& keys, const Progress& progress,
                const BundleWatch& watch, Ending ending = Ending::whole) {
    // What moves has no vote when the other frames are placed: on some there may be little else.
    Material voting;
    if (const auto moving = trailsOnMovers(reading.scene(), material, keys); !moving.empty()) {
        voting = withoutTrails(material, moving);
        reading.continueOn(voting);
    }
    Found& found = reading.found;
    const LensPlan plan = lensPlanOf(sceneOf(found).options());
    if (found.turning) {
        complete(*found.turning, plan, progress, watch, ending);
        takeAllTracks(*found.turning, material, plan, progress);
        return Answer{std::move(*found.turning), {}, {}, std::move(found.reason), std::move(reading.doubt)};
    }
    Winner winner = decided(found.candidates, plan, progress, watch, ending);
    takeAllTracks(winner.scene, material, plan, progress);
    for (Attempt& candidate : found.candidates) candidate.scene.continueOn(material);
    return Answer{std::move(winner.scene), std::move(found.candidates), std::move(winner.rivals),
                  std::move(found.reason), std::move(reading.doubt)};
}

/// Whether a camera that only turns explains nearly all that a travelling one does, and misses it by less though it has
/// fewer freedoms: the walk was made of what moves. Of a true walk the far tracks are missed by as much or more.
bool turnsRather(const TurnVote& vote, const Reconstruction& travelling, const Reconstruction& turning) {
    constexpr double kNearlyAll = 0.85, kClearlyLess = 0.95;
    return vote.turning > kNearlyAll * vote.travelling && turning.noise() < kClearlyLess * travelling.noise();
}

/// The same with all frames placed: on the keyframes what moves may have been explained as well. The camera that turns
/// starts where the travelling one stands. Nobody watches it: it is a trial that mostly is not taken.
void turnInTheEnd(Answer& answer, const std::vector<int>& keys, const SolveOptions& options, const Progress& progress) {
    if (progress.stopped() || answer.scene.turnsOnly() || answer.scene.isZoom() || options.motion || options.zooms())
        return;
    constexpr double kManyPairs = 0.85, kMost = 0.7, kTogether = 0.45;
    // Of a walk nearly all pairs show it; those of a pan that share little but what moves do as well.
    if (shareOfParallax(answer.scene, keys, clearParallax(answer.scene)) > kManyPairs) return;
    Reconstruction turned = answer.scene;
    turned.turnOnly();
    for (int f = 0; f < int(turned.material().frames.size()); ++f)
        if (auto pose = turned.pose(f)) {
            pose->translation.setZero();
            turned.setPose(f, *pose);
        }
    turned.triangulateAll(0.004 * turned.material().width, true);
    complete(turned, lensPlanOf(options), progress);
    if (progress.stopped()) return;
    const TurnVote vote = voteOfTurning(answer.scene, turned);
    std::string doubt = std::move(answer.doubt);
    if (vote.turning < 0.93 * vote.travelling) {
        // What alone speaks for a walk, and lies close together, moves rather than that all else is infinitely far.
        const Material& material = turned.material();
        if (!turnsRather(vote, answer.scene, turned) &&
            (vote.turning < kMost * vote.travelling ||
             double(partsCovered(material, vote.apart)) > kTogether * double(partsCovered(material, vote.both)))) {
            answer.doubt = std::move(doubt);
            return;
        }
        addWords(doubt, fmt::format("{} tracks close together move against a camera that only turns: where they stand, "
                                    "choose a travelling camera",
                                    vote.apart.size()));
    }
    answer = {std::move(turned),
              {},
              {},
              fmt::format("{} of {} tracks fit a camera that only turns", vote.turning, vote.travelling),
              std::move(doubt)};
}

/// A readout that is only guessed may bend what stands: a bent reading is held against that of the tracks as filmed,
/// and where that one is better, it goes on with `material` as filmed. Whether it did: a camera that wanders a little
/// may take a true readout up, so what was found is asked for its rows in the end.
bool goesOnAsFilmed(Expected<KeyReading>& reading, Material& material, Material filmed, const std::vector<int>& keys,
                    const SolveOptions& options, const SolveOptions* zooming, const Progress& progress) {
    if (reading && !isBent(reading->scene(), keys)) return false;
    auto plain = readKeyframes(filmed, keys, options, zooming, progress.part(0.43, 0.45));
    if (!plain) return false;
    if (reading && isBent(plain->scene(), keys)) {
        const double noise =
            std::max(std::min(reading->scene().noise(), plain->scene().noise()), 0.08 * material.scale());
        if (explainedShare(plain->scene(), filmed, keys, noise) <=
            explainedShare(reading->scene(), material, keys, noise))
            return false;
    }
    material = std::move(filmed);
    plain->continueOn(material);
    reading = std::move(plain);
    return true;
}

/// A reading brought to its end, with what the keyframes left open told: whether its lens zooms (`isPlain` where it
/// does not after all), and whether it only turns.
Answer ended(const KeyReading& reading, const Material& material, const std::vector<int>& keys,
             const SolveOptions& options, const Progress& progress, const BundleWatch& watch, bool* isPlain = nullptr) {
    Answer answer = finished(reading, material, keys, progress, watch);
    if (const auto fixed = reading.withoutZoom(); fixed && !progress.stopped()) {
        std::vector<int> all(material.frames.size());
        std::iota(all.begin(), all.end(), 0);
        Answer plain = finished(*fixed, material, keys, progress.part(0.84, 0.92), watch);
        const double gain = gainOfZoom(plain.scene, answer.scene, all);
        std::string open;
        if (std::abs(gain - kZoomGainInTheEnd) < kOpenZoom) {
            const auto [shortest, longest] = focalsOf(answer.scene, all);
            open = fmt::format(
                "a lens that zooms by {:.0f} % and one that does not explain the tracks about as well: "
                "choose which it is",
                100 * (longest / shortest - 1));
        }
        if (plain.scene.placedFrames() >= answer.scene.placedFrames() && gain < kZoomGainInTheEnd) {
            answer = std::move(plain);
            if (isPlain) *isPlain = true;
        }
        addWords(answer.doubt, open);
    }
    turnInTheEnd(answer, keys, options, progress.part(0.84, 0.92));
    return answer;
}

bool explainsMore(const Reconstruction& one, const Reconstruction& other, const Material& material,
                  const std::vector<int>& frames) {
    const double noise = std::max(std::min(one.noise(), other.noise()), 0.08 * material.scale());
    return explainedShare(one, material, frames, noise) > explainedShare(other, material, frames, noise);
}

/// An answer, and the keyframes that it comes from.
struct ReadAnswer {
    Answer answer;
    KeyReading reading;
    std::vector<int> keys;
};

/// Where much of the picture contradicts the answer, it may be the camera of something that moves and fills less of it:
/// a van that is followed lives as long as the shot, what stands passes by. What contradicts it is read by itself, and
/// is taken for the scene where it spreads over clearly more of the picture, or explains more.
std::optional<ReadAnswer> otherSide(const Answer& answer, const Material& material, const SolveOptions& options,
                                    const SolveOptions* zooming, const std::vector<int>& frames,
                                    const Progress& progress, const BundleWatch& watch) {
    constexpr double kOften = 0.2, kWider = 1.3, kEnough = 0.2, kNotLess = 0.6;
    if (options.basePair || progress.stopped()) return std::nullopt;
    const OtherSide side = otherSideOf(answer.scene, material, frames);
    if (side.share < kOften) return std::nullopt;
    const Material rest = withoutTrails(material, side.standing);
    const std::vector<int> keys = chooseKeyframes(rest, options.fewestTracks);
    if (keys.size() < 2) return std::nullopt;
    auto reading = readKeyframes(rest, keys, options, zooming, progress);
    if (!reading) return std::nullopt;
    reading->continueOn(material);
    Answer other = ended(*reading, material, keys, options, progress, watch);
    if (other.scene.placedFrames() < answer.scene.placedFrames()) return std::nullopt;
    if (answer.scene.turnsOnly() && !other.scene.turnsOnly() &&
        turnsRather(voteOfTurning(other.scene, answer.scene), other.scene, answer.scene))
        return std::nullopt;
    const double noise = std::max(std::min(answer.scene.noise(), other.scene.noise()), 0.08 * material.scale());
    const auto [ours, its] = compareSides(answer.scene, other.scene, material, frames, noise);
    const bool isWider = its.extent > kWider * ours.extent && its.share > kEnough && its.share > kNotLess * ours.share;
    if (!isWider && (isBent(other.scene, frames) || !explainsMore(other.scene, answer.scene, material, frames)))
        return std::nullopt;
    addWords(other.reason,
             fmt::format("its tracks lie in {:.0f} % of the picture, those that go against it in {:.0f} %",
                         100 * its.extent, 100 * ours.extent));
    return ReadAnswer{std::move(other), *std::move(reading), keys};
}

/// The answer without what still bends it, where leaving that out explains more of the tracks.
Answer withoutMovers(ReadAnswer read, const Material& material, const SolveOptions& options,
                     const SolveOptions* zooming, const std::vector<int>& frames, const Progress& progress,
                     const BundleWatch& watch) {
    Expected<KeyReading> reading = std::move(read.reading);
    // Where a handful of tracks holds two parts together, one of them can go with a mover and explain more.
    if (!isBent(read.answer.scene, frames) || isTorn(read.answer.scene) ||
        !lookForMovers(reading, material, read.keys, options, zooming, progress) || progress.stopped())
        return std::move(read.answer);
    Answer other = finished(*reading, material, read.keys, progress, watch);
    if (!explainsMore(other.scene, read.answer.scene, material, frames)) return std::move(read.answer);
    other.reason = std::move(read.answer.reason);
    if (other.doubt.empty()) other.doubt = std::move(read.answer.doubt);  // what was open about the lens still is
    return other;
}

Expected<Answer> searchedCamera(Expected<KeyReading> reading, const Material& material, const std::vector<int>& keys,
                                const SolveOptions& options, const std::vector<int>& told, const SolveOptions* zooming,
                                const Progress& progress, const BundleWatch& watch) {
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    const bool looks = !told.empty() || !reading || isBent(reading->scene(), keys);
    std::vector<int> frames;
    const int step = 1 + int(material.frames.size()) / 120;
    for (int f = 0; f < int(material.frames.size()); f += step) frames.push_back(f);
    const auto heard = [&](const Answer& answer) {
        return otherSide(answer, material, options, zooming, frames, progress.part(0.84, 0.92), watch);
    };
    // Asked at once where the keyframes hint at it: looking for each thing that moves takes long.
    constexpr double kHint = 0.15;
    if (looks && told.empty() && reading && otherSideOf(reading->scene(), material, keys).share > kHint)
        if (auto other = heard(finished(*reading, material, keys, progress, watch, Ending::rough)))
            return withoutMovers(*std::move(other), material, options, zooming, frames, progress, watch);
    if (!told.empty()) readToldScene(reading, material, told, keys, options, zooming, progress);
    else if (looks) lookForMovers(reading, material, keys, options, zooming, progress);
    if (!reading) return tl::unexpected(reading.error());
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    Expected<KeyReading> first = *reading;
    bool isPlain = false;
    Answer answer = ended(*first, material, keys, options, progress, watch, &isPlain);
    if (isPlain) {
        first = *first->withoutZoom();
        zooming = nullptr;
    }
    if (looks && told.empty())
        if (auto other = heard(answer)) return std::move(other->answer);
    if (looks || progress.stopped()) return answer;
    // On the keyframes all was well; between them something may still bend it.
    if (!isBent(answer.scene, frames) && !isTorn(answer.scene)) return answer;
    if (told.empty())
        if (auto other = heard(answer)) return std::move(other->answer);
    const Progress again = progress.part(0.84, 0.92);
    if (!lookForMovers(first, material, keys, options, zooming, again)) return answer;
    Answer other = finished(*std::move(first), material, keys, again, watch);
    const bool isBetter = explainsMore(other.scene, answer.scene, material, frames);
    if (other.doubt.empty()) other.doubt = answer.doubt;  // what was open about the lens still is
    return isBetter ? std::move(other) : std::move(answer);
}

/// From the cameras and points of an earlier solve: no search.
Expected<Answer> continuedCamera(const Material& material, std::span<const Track> tracks, const SolveOptions& options,
                                 const Progress& progress, const BundleWatch& watch) {
    const Solve& start = *options.start;
    const LensPlan plan = lensPlanOf(options);
    Lens lens = start.lens;
    if (options.focal == Knowledge::known || options.distortion == SolveOptions::Distortion::known ||
        options.distortion == SolveOptions::Distortion::none)
        lens = lensAt(options, options.focal == Knowledge::known ? focalsToTry(options).front() : start.lens.focal_px);
    Reconstruction scene(material, options, lens, options.zooms());
    if (options.motion.value_or(start.motion) == CameraMotion::nodal) scene.turnOnly();
    for (std::size_t f = 0; f < material.frames.size(); ++f)
        if (const SolvedFrame* frame = solvedFrameAt(start, material.frames[f])) {
            Pose pose = poseFrom(frame->worldFromCamera);
            if (scene.turnsOnly()) pose.translation.setZero();
            scene.setPose(int(f), pose);
            if (options.zooms()) scene.setFocal(int(f), frame->focal_px);
        }
    if (scene.placedFrames() < 3)
        return failure(Fault::input,
                       "the earlier solve and these tracks share {} frames; 3 are needed: solve from the beginning",
                       scene.placedFrames());
    std::map<TrackId, const SolvedTrack*> earlier;
    for (const SolvedTrack& track : start.tracks) earlier[track.track] = &track;
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        const auto known = earlier.find(tracks[material.trails[t].track].id);
        if (material.trails[t].heldOut || known == earlier.end()) continue;
        const SolvedTrack& track = *known->second;
        if (track.direction)
            scene.setPoint(t, Eigen::Vector4d(track.direction->x(), track.direction->y(), track.direction->z(), 0));
        else if (track.xyz && !scene.turnsOnly()) scene.setPoint(t, track.xyz->homogeneous());
    }
    progress.report(0.4, "Starting from the earlier solve");
    // Tracks may have changed since: what no longer fits is placed again.
    scene.triangulateAll(0.004 * material.width, true);
    complete(scene, plan, progress, watch);
    return Answer{std::move(scene), {}, {}, "from an earlier solve"};
}

bool readoutIsFree(const SolveOptions& options) {
    return options.reading == SolveOptions::Reading::found ||
           (options.reading == SolveOptions::Reading::known && options.readoutSigma > 0);
}

/// What moves as one thing among the tracks that contradict the scene; and a doubt, where one such thing is seen in as
/// much of the picture as the scene is: which of both stands nobody can tell from tracks.
std::vector<MovingTracks> moversBeside(const Solve& solve, const Reconstruction& scene, std::string& doubt) {
    constexpr double kAsMuch = 0.8;
    // Tracks on crossing edges and on a horizon that slips go together as well, off by 0.5 to 1.3 px on rendered
    // plates; things that move were off by 4 to 240.
    constexpr double kMoves = 2.0;
    const Material& material = scene.material();
    std::vector<int> contrary, standing;
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        if (solve.tracks[t].role == TrackRole::disagreed) contrary.push_back(int(t));
        if (solve.tracks[t].role == TrackRole::used) standing.push_back(int(t));
    }
    const double covered = double(partsCovered(material, standing));
    std::vector<MovingTracks> movers;
    for (const std::vector<int>& body : bodiesAmong(material, contrary, scene.turnsOnly())) {
        std::vector<double> errors;
        for (const int t : body) errors.push_back(solve.tracks[std::size_t(t)].rms_px);
        if (median(std::move(errors)) < kMoves * material.scale()) continue;
        MovingTracks mover{{}, {material.frames.back(), material.frames.front()}};
        for (const int t : body) {
            mover.tracks.push_back(solve.tracks[std::size_t(t)].track);
            const Trail& trail = material.trails[std::size_t(t)];
            mover.frames.first = std::min(mover.frames.first, material.frames[std::size_t(trail.seen.front().frame)]);
            mover.frames.second = std::max(mover.frames.second, material.frames[std::size_t(trail.seen.back().frame)]);
        }
        movers.push_back(std::move(mover));
        if (doubt.empty() && double(partsCovered(material, body)) > kAsMuch * covered &&
            scene.options().sceneOf.isEmpty())
            doubt = fmt::format(
                "{} tracks move as one thing of their own and are seen in as much of the picture as those that stand: "
                "say which are the scene's",
                body.size());
    }
    return movers;
}

/// The answer measured, with its doubts.
Solve described(Answer& answer, std::span<const Track> tracks, const Progress& progress) {
    Reconstruction& scene = answer.scene;
    const SolveOptions& options = scene.options();
    const Material& material = scene.material();
    LensPlan settled = lensPlanOf(options);
    if (scene.readsRows() && readoutIsFree(options)) settled.fine.add(LensTerm::readout);
    const auto covarianceIs = [&](bool lensOnly) {
        return covarianceOf(scene.assemble(), scene.bundleOptions(settled.fine, lossWidth(scene), 0, 0), lensOnly);
    };
    if (mayBeCentred(scene, settled))
        if (const auto lens = covarianceIs(true); lens && isCentred(scene, *lens)) {
            // What is left of the axis is the tracks' own error, and would turn every camera by it.
            scene.centreAxis();
            settled.fine.remove(LensTerm::cx).remove(LensTerm::cy);
            scene.adjust(settled.fine, lossWidth(scene), 20, progress, 0);
            sortOut(scene, options.trim_px);
        }
    auto covariance = covarianceIs(false);
    const auto open = openFocals(scene, settled, answer.candidates, covariance, progress);
    if (open && open->second > 2 * open->first) {
        // Any of them will do as well; a usual one surprises least.
        takeFocal(scene, settled, std::clamp(kUsualFocal * options.width, open->first, open->second), progress);
        sortOut(scene, options.trim_px);
        covariance = covarianceIs(false);
    }
    const Measures measures = enterMeasures(scene, settled, tracks);
    Solve solve = measured(scene, settled, tracks, covariance, measures);
    solve.reason = withScene(answer.reason, scene);
    std::string tie;
    solve.movers = List<MovingTracks>(moversBeside(solve, scene, tie));
    if (!answer.candidates.empty()) {
        const BasePair& pair = answer.candidates.front().pair;
        solve.basePair = {material.frames[std::size_t(pair.a)], material.frames[std::size_t(pair.b)]};
    } else if (options.start) {
        solve.basePair = options.start->basePair;
    }
    if (open && covariance) {
        // Places are as open as the focal length, far beyond what its neighbourhood says.
        const double spread = spreadOf(*open, scene.lens().focal_px), own = covariance->deviationOf(LensTerm::focal);
        if (own > 0 && spread > own) widenDeviations(solve, spread / own);
    }
    solve.doubt = std::move(answer.doubt);
    addWords(solve.doubt,
             doubtsOf(solve, scene, {settled, answer.candidates, answer.rivals, covariance, open}, progress));
    for (const std::string& doubt : measures.doubts) addWords(tie, doubt);
    addWords(solve.doubt, tie);
    return solve;
}

/// The same camera as a lens without distortion would have filmed it. Exact at every focal length, which the lens need
/// not know.
struct Straightened {
    std::vector<Track> tracks;
    SolveOptions options;
};
Straightened straightened(std::span<const Track> tracks, const SolveOptions& options) {
    Straightened result{{tracks.begin(), tracks.end()}, options};
    const Lens& lens = *options.lens;
    for (Track& track : result.tracks)
        track.samples = track.samples.edited([&](auto& samples) {
            std::erase_if(samples, [&](Sample& sample) {
                const auto straight = undistortedFromPlate(lens, sample.at);
                if (straight) sample.at = *straight;
                return !straight;  // no ray of this lens comes from there
            });
        });
    const auto plain = [](const Lens& bent) {
        Lens without = pinholeLens(bent.width, bent.height, bent.focal_px);
        without.cx = bent.cx;
        without.cy = bent.cy;
        without.squeeze = bent.squeeze;
        return without;
    };
    result.options.lens = plain(lens);
    result.options.distortion = SolveOptions::Distortion::none;
    // Maps do not tell where the axis is.
    if (!lens.field) result.options.axis = SolveOptions::Axis::centre;
    if (options.start) {
        auto start = std::make_shared<Solve>(*options.start);
        start->lens = plain(start->lens);
        result.options.start = start;
    }
    return result;
}

/// The readout to start from; a share of 0 for none.
Readout firstReadout(const Material& material, const SolveOptions& options) {
    if (options.reading == SolveOptions::Reading::atOnce) return {};
    if (options.reading == SolveOptions::Reading::known) return {options.readoutShare, options.readsColumns()};
    ReadoutGuess guess = guessReadout(material, options.readsColumns());
    Readout readout{guess.share, options.readsColumns()};
    // A telephone held upright is turned by its player, and its rows stand.
    if (!options.readsColumns() && options.height > options.width) {
        const ReadoutGuess other = guessReadout(material, true);
        if (std::abs(other.share) / other.sigma > std::abs(guess.share) / guess.sigma) {
            guess = other;
            readout = {other.share, true};
        }
    }
    return guess.isSure() ? readout : Readout{};
}

/// Whether rows bear a readout out.
bool isReadout(double share, double sigma) { return std::abs(share) > std::max(4 * sigma, 0.03); }

struct SolveManner {
    bool keepsGuess = false;  ///< a guessed readout is known to be there
    bool* zooms = nullptr;    ///< where the keyframes say that the lens zooms, this is set, and no more is done
};

Expected<Solve> solvedCamera(std::span<const Track> tracks, std::span<const Track> filmed, const SolveOptions& options,
                             const Progress& progress, const SolveWatch& watch, const SolveManner& manner = {}) {
    if (auto checked = checkMeasures(tracks, options); !checked) return tl::unexpected(checked.error());
    progress.report(0, "Preparing the solve");
    auto prepared = prepare(tracks, options, filmed);
    if (!prepared) return tl::unexpected(prepared.error());
    Material& material = *prepared;
    if (options.motion == CameraMotion::locked || (!options.motion && standsStill(material)))
        return lockedSolve(material, tracks, options);
    Readout readout = firstReadout(material, options);
    if (readout.columns && !options.readsColumns()) {
        SolveOptions byColumns = options;
        byColumns.readBy = SolveOptions::ReadBy::columns;
        return solvedCamera(tracks, filmed, byColumns, progress, watch, manner);
    }
    const bool isGuess = readout.isRolling() && options.reading == SolveOptions::Reading::found;
    std::optional<Material> asFilmed;
    if (isGuess && !manner.keepsGuess) asFilmed = material;
    if (readout.isRolling()) readAtOnce(material, readout.share);

    const std::vector<int> keys = chooseKeyframes(material, options.fewestTracks);
    if (keys.size() < 2)
        return failure(Fault::outcome, "no two frames have {} tracks; track more points", options.fewestTracks);
    if (options.focal == Knowledge::unknown)
        if (const SheetMotion sheet = sheetMotionOf(material, keys); sheet.isSheet)
            return failure(
                Fault::outcome,
                "the picture only {} as one flat sheet{}: no parallax, and nothing tells the focal length; give it{}",
                sheet.growth > 1.04 ? "shifts, turns and grows" : "shifts and turns",
                sheet.growth > 1.04 ? " (a zoom, an enlarged still, or a flat scene faced squarely)"
                                    : " (a moved picture or test pattern, or a far scene through a long lens)",
                sheet.growth > 1.04 ? ", with --zoom if the lens zooms" : "");
    SolveOptions decided = options, zooming = options;
    decided.zoom = options.zoom.value_or(options.start && options.start->zoom);
    zooming.zoom = true;
    const bool mayZoom = !options.zoom;
    std::vector<int> told;
    const std::set<TrackId> sceneOf(options.sceneOf.begin(), options.sceneOf.end());
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (sceneOf.contains(tracks[material.trails[t].track].id)) told.push_back(int(t));
    if (!options.sceneOf.isEmpty() && told.empty())
        return failure(Fault::input,
                       "none of the {} tracks that were said to be the scene's can be solved from: they are set aside, "
                       "or shorter than three frames",
                       options.sceneOf.size());
    BundleWatch watchBundle;
    if (watch) watchBundle = [&](const Bundle& bundle) { watch(viewOf(bundle)); };
    Readout doubted;  ///< a guess without which it goes on
    const auto searched = [&]() -> Expected<Answer> {
        const SolveOptions* orZoom = mayZoom ? &zooming : nullptr;
        auto reading = readKeyframes(material, keys, decided, orZoom, progress);
        if (asFilmed && !progress.stopped() &&
            goesOnAsFilmed(reading, material, *std::move(asFilmed), keys, decided, orZoom, progress)) {
            doubted = readout;
            readout = {};
        }
        if (manner.zooms && reading && reading->scene().isZoom()) {
            *manner.zooms = true;
            return failure(Fault::outcome, "the lens zooms");
        }
        return searchedCamera(std::move(reading), material, keys, decided, told, orZoom, progress, watchBundle);
    };
    auto answer = options.start ? continuedCamera(material, tracks, decided, progress, watchBundle) : searched();
    if (!answer) return tl::unexpected(answer.error());
    if (doubted.isRolling() && answer->scene.placedFrames() > 3 && !progress.stopped()) {
        Material asked = material;
        Reconstruction trial = answer->scene;
        const double sigma =
            readByRows(trial, asked, lensPlanOf(trial.options()), doubted.share, true, progress.part(0.88, 0.92));
        // There after all: what moves bent the reading, and is looked for.
        if (isReadout(trial.readout(), sigma))
            return solvedCamera(tracks, filmed, options, progress, watch, {.keepsGuess = true});
    }
    Material own;  // what the scene goes on with, as its rows are read
    if (readout.isRolling() && answer->scene.placedFrames() > 3 && !progress.stopped()) {
        own = material;
        progress.report(0.88, "Reading the rows");
        const double sigma = readByRows(answer->scene, own, lensPlanOf(answer->scene.options()), readout.share,
                                        readoutIsFree(options), progress);
        const double found = answer->scene.readout();
        // What the tracks hinted at was not there.
        if (isGuess && !isReadout(found, sigma)) {
            SolveOptions atOnce = options;
            atOnce.reading = SolveOptions::Reading::atOnce;
            return solvedCamera(tracks, filmed, atOnce, progress, watch);
        }
        // Rows that were not read yet, or a guess of them, look like a walk.
        turnInTheEnd(*answer, keys, decided, progress);
    }
    const Reconstruction& scene = answer->scene;
    if (scene.placedFrames() < int(material.frames.size()) && progress.stopped())
        return failure(Fault::stopped, "the solve was stopped");
    if (scene.placedPoints() < options.fewestTracks)
        return failure(Fault::outcome,
                       "only {} tracks agree on one camera; mask what moves, or track more of what stands still",
                       scene.placedPoints());
    // Half of the tracks contradicting a camera that misses by many pixels is no camera.
    const double noise = scene.noise();
    if (noise > 5 * material.scale())
        return failure(Fault::outcome,
                       "no camera explains these tracks (they miss it by {:.0f} px): mask what moves, look for a cut, "
                       "or track what stands still",
                       noise);
    progress.report(0.92, "Measuring");
    Solve solve = described(*answer, tracks, progress);
    progress.report(1, "Solved");
    return solve;
}

}  // namespace

std::string_view toString(CameraMotion motion) {
    switch (motion) {
        case CameraMotion::nodal:
            return "nodal";
        case CameraMotion::locked:
            return "locked";
        default:
            return "travelling";
    }
}

std::string heldOutWords(const Solve& solve, int decimals) {
    return solve.heldOut > 0 && solve.heldOutRms_px > 0
               ? fmt::format("held out {:.{}f} px", solve.heldOutRms_px, decimals)
               : "none held out";
}

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame) {
    const auto& frames = solve.frames.vector();
    const auto found = std::lower_bound(frames.begin(), frames.end(), frame,
                                        [](const SolvedFrame& f, int number) { return f.frame < number; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

Lens lensOf(const Solve& solve, const SolvedFrame& frame) {
    return solve.zoom ? zoomed(solve.lens, solve.k1Slope, frame.focal_px) : solve.lens;
}

Lens lensOn(const Solve& solve, int frame) {
    const SolvedFrame* solved = solvedFrameAt(solve, frame);
    return solved ? lensOf(solve, *solved) : solve.lens;
}

Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options, const Progress& progress,
                            const SolveWatch& watch) {
    if (auto checked = checkOptions(options); !checked) return tl::unexpected(checked.error());
    // A zoom's bend changes with its focal length: that one goes through the lens. Maps bend every frame alike.
    const bool isField = options.lens && options.lens->field;
    if (options.distortion != SolveOptions::Distortion::known || (options.zooms() && !isField))
        return solvedCamera(tracks, tracks, options, progress, watch);
    const Straightened plain = straightened(tracks, options);
    bool zooms = false;
    auto solve =
        solvedCamera(plain.tracks, tracks, plain.options, progress, watch, {.zooms = isField ? nullptr : &zooms});
    // What looks like movers there may be a bend that changes with the focal length.
    if (zooms || (solve && solve->zoom && !isField)) {
        SolveOptions zooming = options;
        zooming.zoom = true;
        return solvedCamera(tracks, tracks, zooming, progress, watch);
    }
    if (!solve) return solve;
    Lens lens = atFocal(*options.lens, solve->lens.focal_px);
    if (isField) {
        lens.cx = solve->lens.cx;
        lens.cy = solve->lens.cy;
    }
    solve->lens = lens;
    return solve;
}

}  // namespace pinion
