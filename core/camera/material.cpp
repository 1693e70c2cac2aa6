#include "camera/material.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace pinion::solving {

using Eigen::Vector2d;

Material gather(std::span<const Track> tracks, const SolveOptions& options) {
    Material material;
    material.width = options.width;
    std::map<int, int> indexOf;
    for (const Track& track : tracks)
        if (!track.setAside)
            for (const Sample& sample : track.samples) indexOf[sample.frame] = 0;
    for (auto& [frame, index] : indexOf) {
        index = int(material.frames.size());
        material.frames.push_back(frame);
    }
    std::size_t eligible = 0;
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        if (tracks[i].setAside || tracks[i].samples.size() < 3) continue;
        Trail trail{i, {}, false};
        for (const Sample& sample : tracks[i].samples) trail.seen.push_back({indexOf[sample.frame], sample.at});
        // Every tenth of those long enough to be halved; scattered tracks come in no spatial order, so this is a fair draw.
        if (options.holdOut && trail.seen.size() >= 8 && !tracks[i].byHand) trail.heldOut = eligible++ % 10 == 5;
        material.trails.push_back(std::move(trail));
    }
    // Too few to spare any.
    const auto held = std::count_if(material.trails.begin(), material.trails.end(), [](const Trail& t) { return t.heldOut; });
    if (std::ptrdiff_t(material.trails.size()) - held < 30)
        for (Trail& trail : material.trails) trail.heldOut = false;
    material.byFrame.resize(material.frames.size());
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (!material.trails[t].heldOut)
            for (const Seen& seen : material.trails[t].seen) material.byFrame[std::size_t(seen.frame)].emplace_back(int(t), seen.plate);
    return material;
}

std::vector<std::pair<Vector2d, Vector2d>> sharedPlaces(const Material& material, int a, int b, std::vector<int>* trails) {
    std::vector<std::pair<Vector2d, Vector2d>> shared;
    const auto& first = material.byFrame[std::size_t(a)];
    const auto& second = material.byFrame[std::size_t(b)];
    for (std::size_t i = 0, j = 0; i < first.size() && j < second.size();) {
        if (first[i].first < second[j].first) {
            ++i;
        } else if (first[i].first > second[j].first) {
            ++j;
        } else {
            shared.emplace_back(first[i].second, second[j].second);
            if (trails) trails->push_back(first[i].first);
            ++i;
            ++j;
        }
    }
    return shared;
}

std::vector<int> chooseKeyframes(const Material& material, int width, int fewest) {
    std::vector<int> keys;
    for (int frame = 0; frame < int(material.frames.size()); ++frame) {
        if (int(material.byFrame[std::size_t(frame)].size()) < fewest) continue;
        if (keys.empty()) {
            keys.push_back(frame);
            continue;
        }
        const auto shared = sharedPlaces(material, keys.back(), frame);
        std::vector<double> moves;
        for (const auto& [from, to] : shared) moves.push_back((to - from).norm());
        const double count = double(material.byFrame[std::size_t(keys.back())].size());
        bool far = double(shared.size()) < 0.6 * count;
        if (!moves.empty()) {
            std::nth_element(moves.begin(), moves.begin() + std::ptrdiff_t(moves.size() / 2), moves.end());
            far = far || moves[moves.size() / 2] > 0.045 * width;
        }
        if (far) keys.push_back(frame);
    }
    // A short shot, or a slow one: at least six frames, evenly, where there are so many.
    if (keys.size() < 6) {
        keys.clear();
        std::vector<int> usable;
        for (int frame = 0; frame < int(material.frames.size()); ++frame)
            if (int(material.byFrame[std::size_t(frame)].size()) >= fewest) usable.push_back(frame);
        const std::size_t count = std::min<std::size_t>(usable.size(), 8);
        for (std::size_t i = 0; i < count; ++i) keys.push_back(usable[count > 1 ? i * (usable.size() - 1) / (count - 1) : 0]);
        keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
    }
    return keys;
}

std::vector<PlanePair> planePairs(const std::vector<std::pair<Vector2d, Vector2d>>& shared, const Lens& lens) {
    std::vector<PlanePair> pairs;
    pairs.reserve(shared.size());
    for (const auto& [first, second] : shared) {
        const auto a = planeFromPlate(lens, first);
        const auto b = planeFromPlate(lens, second);
        pairs.push_back({a.value_or(Vector2d(1e3, 1e3)), b.value_or(Vector2d(1e3, -1e3))});
    }
    return pairs;
}

std::vector<PairScore> scorePairs(const Material& material, const std::vector<int>& keys, const Lens& lens) {
    std::vector<PairScore> scores;
    for (std::size_t i = 0; i < keys.size(); ++i)
        for (std::size_t j = i + 1; j < keys.size() && j < i + 12; ++j) {
            const auto shared = sharedPlaces(material, keys[i], keys[j]);
            if (shared.size() < 15) continue;
            const double parallax = fitRotation(planePairs(shared, lens)).medianResidual * lens.focal_px;
            // Parallax beyond 5 % of the width adds little; tracks that both see add by their root.
            const double score = std::min(parallax, 0.05 * lens.width) * std::sqrt(double(std::min<std::size_t>(shared.size(), 200)));
            scores.push_back({keys[i], keys[j], score, parallax});
        }
    std::sort(scores.begin(), scores.end(), [](const PairScore& a, const PairScore& b) { return a.score > b.score; });
    return scores;
}

double leastParallax(const Material& material, const PairScore& pair, const std::function<Lens(double focal_px)>& lensFor, bool focalOpen, bool distortionOpen,
                     double focal_px) {
    const auto shared = sharedPlaces(material, pair.a, pair.b);
    const auto residual = [&](double focal, double k1) {
        Lens lens = lensFor(focal);
        // In terms of the picture's half width, so that one grid suits all focal lengths.
        if (distortionOpen) lens.k1 = k1 * std::pow(2 * focal / lens.width, 2);
        return fitRotation(planePairs(shared, lens)).medianResidual * focal;
    };
    std::vector<double> bends{0.0};
    if (distortionOpen) bends = {-0.12, -0.08, -0.05, -0.025, 0.0, 0.025};
    double best = 1e300;
    for (const double k1 : bends) {
        if (!focalOpen) {
            best = std::min(best, residual(focal_px, k1));
            continue;
        }
        double bestFocal = material.width, own = 1e300;
        for (double focal = 0.45 * material.width; focal < 12 * material.width; focal *= 1.22)
            if (const double value = residual(focal, k1); value < own) {
                own = value;
                bestFocal = focal;
            }
        double low = bestFocal / 1.22, high = bestFocal * 1.22;
        for (int i = 0; i < 9; ++i) {
            const double a = low + (high - low) * 0.382, b = low + (high - low) * 0.618;
            (residual(a, k1) < residual(b, k1) ? high : low) = residual(a, k1) < residual(b, k1) ? b : a;
        }
        best = std::min({best, own, residual(0.5 * (low + high), k1)});
    }
    return best;
}

}  // namespace pinion::solving
