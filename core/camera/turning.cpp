#include "camera/turning.h"

#include "base/median.h"
#include "base/parallel.h"
#include "camera/sortingout.h"

#include <algorithm>
#include <cmath>
#include <mutex>

namespace pinion::solving {

using Eigen::Vector2d;

namespace {

/// How much larger the second picture is: the median ratio of distances between tracks.
double growthBetween(const std::vector<std::pair<Vector2d, Vector2d>>& shared) {
    std::vector<double> ratios;
    const std::size_t half = shared.size() / 2;
    for (std::size_t i = 0; i < half; ++i) {
        const double before = (shared[i].first - shared[i + half].first).norm(),
                     after = (shared[i].second - shared[i + half].second).norm();
        if (before > 20) ratios.push_back(after / before);
    }
    return ratios.size() > 4 ? median(ratios) : 1.0;
}

struct Growth {
    double logarithm = 0;   ///< of the second picture's focal length over the first's
    double residual = 1e9;  ///< median, in plane units
};

/// The zoom under which a turn explains the pairs best; `second` was taken with the first's focal length. Coarsely
/// over `reach` (a logarithm) to either side of `start`, then finer about the best.
Growth zoomOfTurn(const std::vector<PlanePair>& pairs, double start, double reach) {
    Growth best{start};
    for (; reach > 0.0005; reach /= 8) {
        const double middle = best.logarithm;
        for (int i = -8; i <= 8; ++i) {
            const double logarithm = middle + reach * i / 8;
            std::vector<PlanePair> scaled = pairs;
            for (PlanePair& one : scaled) one.second *= std::exp(-logarithm);
            if (const double here = fitRotation(scaled).medianResidual; here < best.residual) best = {logarithm, here};
        }
    }
    return best;
}

std::optional<Reconstruction> turnFrom(const Material& material, const std::vector<int>& keys, const Lens& lens,
                                       const SolveOptions& options, const LensPlan& plan, const Progress& progress) {
    Reconstruction scene(material, options, lens, options.zooms());
    scene.turnOnly();
    scene.setPose(keys.front(), Pose{});
    double focal = lens.focal_px;
    for (std::size_t k = 1; k < keys.size(); ++k) {
        const auto shared = sharedPlaces(material, keys[k - 1], keys[k]);
        if (shared.size() < 6) return std::nullopt;
        Lens next = lens;
        if (options.zooms()) {
            // The growth alone may be led astray, by movers or by where the tracks lie, and no adjustment returns from
            // a focal length some per cent off.
            const double growth =
                zoomOfTurn(planePairs(shared, zoomed(lens, 0, focal)), std::log(growthBetween(shared)), 0.25).logarithm;
            next = zoomed(lens, 0, std::clamp(focal * std::exp(growth), 0.2 * material.width, 50.0 * material.width));
            scene.setFocal(keys[k], next.focal_px);
        }
        std::vector<PlanePair> pairs;
        for (const auto& [first, second] : shared) {
            const auto a = planeFromPlate(zoomed(lens, 0, focal), first);
            const auto b = planeFromPlate(next, second);
            if (a && b) pairs.push_back({*a, *b});
        }
        if (pairs.size() < 6) return std::nullopt;
        Pose pose;
        pose.rotation = fitRotation(pairs).rotation * scene.pose(keys[k - 1])->rotation;
        scene.setPose(keys[k], pose);
        focal = next.focal_px;
    }
    const double loose = 0.02 * material.width;
    scene.triangulateAll(loose, true);
    scene.adjust(LensTerms{}, lossWidth(scene), 6, progress);
    for (int pass = 0; pass < 3 && !progress.stopped(); ++pass) {
        scene.adjust(pass < 2 ? plan.coarse : plan.fine, lossWidth(scene), pass < 2 ? 12 : 25, progress);
        scene.triangulateAll(loose, true);
    }
    return scene;
}

}  // namespace

std::optional<Reconstruction> solveTurning(const Material& material, const std::vector<int>& keys,
                                           const SolveOptions& options, const Progress& progress) {
    const LensPlan plan = lensPlanOf(options);
    const auto focals = focalsToTry(options);
    std::vector<std::optional<Reconstruction>> found(focals.size());
    parallelFor(focals.size(), [&](std::size_t i) {
        found[i] = turnFrom(material, keys, lensAt(options, focals[i]), options, plan, progress);
    });
    double noise = 1e9;
    for (const auto& scene : found)
        if (scene) noise = std::min(noise, scene->noise());
    std::optional<Reconstruction> best;
    double least = 1e9;
    for (auto& scene : found) {
        if (!scene) continue;
        const double badness = scene->badness(keys, std::max(noise, 0.05 * material.scale()));
        if (badness < least) {
            least = badness;
            best = std::move(scene);
        }
    }
    return best;
}

bool standsStill(const Material& material) {
    std::vector<double> wander, steps;
    for (const Trail& trail : material.trails) {
        if (trail.seen.size() < 8) continue;
        Vector2d mean = Vector2d::Zero();
        for (const Seen& seen : trail.seen) mean += seen.plate / double(trail.seen.size());
        double squares = 0, stepSquares = 0;
        for (std::size_t i = 0; i < trail.seen.size(); ++i) {
            squares += (trail.seen[i].plate - mean).squaredNorm();
            if (i > 0) stepSquares += (trail.seen[i].plate - trail.seen[i - 1].plate).squaredNorm();
        }
        wander.push_back(std::sqrt(0.5 * squares / double(trail.seen.size())));
        steps.push_back(std::sqrt(0.25 * stepSquares / double(trail.seen.size() - 1)));
    }
    // White noise wanders as far as it steps; a camera that moves wanders farther.
    return !wander.empty() &&
           median(wander) < std::max(0.2 * material.scale(), std::min(1.3 * median(steps), 0.8 * material.scale()));
}

TurnVote voteOfTurning(const Reconstruction& travelling, const Reconstruction& turning) {
    const Material& material = travelling.material();
    const double noise = noiseOfTracks(travelling);
    TurnVote vote;
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        if (!travelling.point(t) || material.trails[t].heldOut) continue;
        const auto agrees = [&](const Reconstruction& scene) {
            const auto& point = scene.point(t);
            if (!point) return false;
            std::vector<Vector2d> errors;
            for (const auto& [i, error] : scene.errorsOf(material.trails[t], *point)) errors.push_back(error);
            return errors.size() >= 3 && agreementOf(errors, noise, material.scale()).agrees;
        };
        if (!agrees(travelling)) continue;
        ++vote.travelling;
        const bool fits = agrees(turning);
        vote.turning += fits;
        (fits ? vote.both : vote.apart).push_back(int(t));
    }
    return vote;
}

namespace {

/// The places of what the scene explains on two frames: what moves by itself shows no parallax of the camera's.
std::vector<std::pair<Vector2d, Vector2d>> explainedPlaces(const Reconstruction& scene, int a, int b) {
    std::vector<int> trails;
    const auto shared = sharedPlaces(scene.material(), a, b, &trails);
    std::vector<std::pair<Vector2d, Vector2d>> placed;
    for (std::size_t i = 0; i < shared.size(); ++i) {
        const auto t = std::size_t(trails[i]);
        if (scene.point(t) && !scene.isDropped(t) && !scene.isDoubted(t)) placed.push_back(shared[i]);
    }
    return placed;
}

double beyondTurn(const Reconstruction& scene, const std::vector<std::pair<Vector2d, Vector2d>>& places) {
    return fitRotation(planePairs(places, scene.lens())).medianResidual * scene.lens().focal_px;
}

}  // namespace

double parallaxOf(const Reconstruction& scene, const BasePair& pair) {
    return beyondTurn(scene, sharedPlaces(scene.material(), pair.a, pair.b));
}

namespace {

std::vector<double> parallaxes(const Reconstruction& scene, const std::vector<int>& keys) {
    std::vector<double> all;
    for (std::size_t step = 1; step < keys.size(); step *= 2)
        for (std::size_t i = 0; i + step < keys.size(); i += std::max<std::size_t>(1, step / 2))
            if (const auto places = explainedPlaces(scene, keys[i], keys[i + step]); places.size() >= 15)
                all.push_back(beyondTurn(scene, places));
    return all;
}

}  // namespace

double mostParallax(const Reconstruction& scene, const std::vector<int>& keys) {
    const auto all = parallaxes(scene, keys);
    return all.empty() ? 0 : *std::max_element(all.begin(), all.end());
}

double shareOfParallax(const Reconstruction& scene, const std::vector<int>& keys, double clear_px) {
    const auto all = parallaxes(scene, keys);
    const auto clear = std::count_if(all.begin(), all.end(), [&](double one) { return one > clear_px; });
    return all.empty() ? 0 : double(clear) / double(all.size());
}

double parallaxBeyondZoom(const Reconstruction& scene, const BasePair& pair) {
    const auto shared = sharedPlaces(scene.material(), pair.a, pair.b);
    if (shared.size() < 12) return 1e9;
    double least = 1e9;
    for (const double focal : focalsToTry(scene.options())) {
        const Lens lens = lensAt(scene.options(), focal);
        const auto pairs = planePairs(shared, lens);
        least = std::min(least, focal * zoomOfTurn(pairs, 0, 1).residual);
    }
    return least;
}

}  // namespace pinion::solving
