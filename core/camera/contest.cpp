#include "camera/contest.h"

#include "base/parallel.h"
#include "camera/insideout.h"
#include "camera/sceneshape.h"
#include "camera/sortingout.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numeric>

namespace pinion::solving {

using Eigen::Vector3d;

namespace {

constexpr std::size_t kPolished = 3;    // candidates that are brought to the end of the keyframes
constexpr std::size_t kContenders = 3;  // that are brought to the end of all frames
constexpr double kNear = 1.03;          // badness over the keyframes, against the best, that all frames have to decide
constexpr double kApart = 0.01;         // paths closer than this, as a share of their length, are the same

/// Places frames until none is left that can be.
void placeEveryFrame(Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    const Material& material = scene.material();
    const double loose = std::clamp(15 * scene.noise(), 0.0015 * material.width, 0.005 * material.width);
    int adjusted = scene.placedFrames();
    while (!progress.stopped()) {
        std::vector<int> open;
        for (int frame = 0; frame < int(material.frames.size()); ++frame)
            if (!scene.pose(frame) && scene.sightingsOf(frame) >= std::max(6, scene.options().fewestTracks))
                open.push_back(frame);
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
void finish(Reconstruction& scene, const LensPlan& plan, const Progress& progress,
            const std::function<void(const Bundle&)>& watch, Ending ending) {
    const double trim = scene.options().trim_px;
    progress.report(0.5, "Adjusting");
    scene.adjust(plan.fine, lossWidth(scene), 8, progress, 1e-3, watch);
    progress.report(0.65, "Sorting tracks out");
    sortOut(scene, 0);
    placeEveryFrame(scene, plan, progress);
    progress.report(0.7, "Adjusting");
    scene.adjust(plan.fine, lossWidth(scene), 20, progress, 1e-4, watch);
    const int passes = ending == Ending::rough ? 0 : 3;
    for (int pass = 0; pass < passes && !progress.stopped(); ++pass) {
        const int changed = sortOut(scene, trim);
        weigh(scene);
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

}  // namespace

void complete(Reconstruction& scene, const LensPlan& plan, const Progress& progress,
              const std::function<void(const Bundle&)>& watch, Ending ending) {
    progress.report(0.45, "Placing all frames");
    placeEveryFrame(scene, plan, progress);
    if (progress.stopped()) return;
    finish(scene, plan, progress, watch, ending);
    forgetWeakFrames(scene);
}

void polishBest(std::vector<Attempt>& candidates, const std::vector<int>& keys, const LensPlan& plan,
                const Progress& progress) {
    std::size_t count = 0;
    while (count < std::min(kPolished, candidates.size()) &&
           candidates[count].badness < 1.25 * candidates.front().badness + 0.004)
        ++count;
    candidates.resize(count, candidates.front());
    parallelFor(count, [&](std::size_t i) { polish(candidates[i].scene, plan, progress); });
    // Where a stretch of the best may be inside out, the other reading has its chance.
    const auto best = std::min_element(candidates.begin(), candidates.end(), [&](const Attempt& a, const Attempt& b) {
        const double noise = std::max(std::min(a.scene.noise(), b.scene.noise()), 0.08 * a.scene.material().scale());
        return a.scene.badness(keys, noise) < b.scene.badness(keys, noise);
    });
    const Attempt first = *best;
    const auto stretches = stretchesInDoubt(first.scene, keys, progress);
    std::vector<Attempt> others(stretches.size(), first);
    parallelFor(stretches.size(), [&](std::size_t i) {
        others[i].scene = turnedInsideOut(first.scene, keys, stretches[i], plan, progress);
        polish(others[i].scene, plan, progress);
    });
    candidates.insert(candidates.end(), std::make_move_iterator(others.begin()), std::make_move_iterator(others.end()));
    double noise = 1e9;
    for (const Attempt& candidate : candidates) noise = std::min(noise, candidate.scene.noise());
    noise = std::max(noise, 0.08 * candidates.front().scene.material().scale());
    for (Attempt& candidate : candidates) candidate.badness = candidate.scene.badness(keys, noise);
    std::stable_sort(candidates.begin(), candidates.end(),
                     [](const Attempt& a, const Attempt& b) { return a.badness < b.badness; });
}

Winner decided(std::vector<Attempt>& candidates, const LensPlan& plan, const Progress& progress,
               const std::function<void(const Bundle&)>& watch, Ending ending) {
    const Material& material = candidates.front().scene.material();
    std::vector<std::size_t> contenders{0};
    for (std::size_t i = 1; i < candidates.size() && contenders.size() < kContenders; ++i) {
        if (candidates[i].badness > kNear * candidates.front().badness + 0.001) break;
        if (std::all_of(contenders.begin(), contenders.end(), [&](std::size_t other) {
                return pathsApart(candidates[other].scene, candidates[i].scene) > kApart;
            }))
            contenders.push_back(i);
    }
    std::vector<Reconstruction> scenes;
    for (const std::size_t i : contenders) {
        scenes.push_back(candidates[i].scene);
        complete(scenes.back(), plan, progress, i == 0 ? watch : std::function<void(const Bundle&)>{}, ending);
        if (progress.stopped()) break;
    }
    std::vector<int> frames(material.frames.size());
    std::iota(frames.begin(), frames.end(), 0);
    double noise = 1e9, sightings = 0;
    for (const Reconstruction& scene : scenes) noise = std::min(noise, scene.noise());
    noise = std::max(noise, 0.05 * material.scale());
    for (const auto& seen : material.byFrame) sightings += double(seen.size());
    std::vector<double> badness;
    for (const Reconstruction& scene : scenes) badness.push_back(scene.badness(frames, noise));
    const auto best = std::size_t(std::min_element(badness.begin(), badness.end()) - badness.begin());
    Winner winner{std::move(scenes[best]), {}};
    for (std::size_t i = 0; i < scenes.size(); ++i)
        // Small errors count e²/9 noise² in the badness and half of e²/noise² in the likelihood.
        if (i != best)
            winner.rivals.push_back(
                {pathsApart(winner.scene, scenes[i]), 4.5 * sightings * (badness[i] - badness[best])});
    std::rotate(candidates.begin(), candidates.begin() + std::ptrdiff_t(contenders[best]),
                candidates.begin() + std::ptrdiff_t(contenders[best]) + 1);
    return winner;
}

}  // namespace pinion::solving
