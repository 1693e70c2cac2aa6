#include "camera/sortingout.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>

namespace pinion::solving {

using Eigen::Vector2d;
using Eigen::Vector4d;

namespace {

constexpr double kCommon = 4;  // sightings that the noise of all weighs as much as
constexpr double kLeastSigma = 0.25;
constexpr int kLasting = 5;      // frames over which noise averages out and a drift does not
constexpr double kSpread = 2.1;  // times the noise of all
constexpr double kMild = 2.5;    // times the limits: what the robust loss can live with
constexpr double kShortest = 5;  // frames of a stretch worth keeping

std::vector<Vector2d> plain(const std::vector<std::pair<int, Vector2d>>& errors, int from, int to) {
    std::vector<Vector2d> result;
    for (const auto& [i, error] : errors)
        if (i >= from && i <= to) result.push_back(error);
    return result;
}

struct Verdict {
    bool agrees = false;
    bool mild = false;  ///< it does not agree, but by little
    std::optional<Vector4d> point;
    int from = 0, to = 0;
};

/// The longest stretch that agrees by itself and ends in a jump, not in a slide.
Verdict stretchOf(const Reconstruction& scene, const Trail& trail, double noise) {
    const double scale = scene.material().scale();
    const int count = int(trail.seen.size());
    Verdict best;
    const double limit = std::max(0.6 * scale, 4.5 * noise);
    for (const auto& [a, b] :
         {std::pair{0, count / 2}, std::pair{count / 2, count}, std::pair{count / 4, 3 * count / 4},
          std::pair{0, count / 3}, std::pair{2 * count / 3, count}}) {
        if (b - a < kShortest) continue;
        const auto point = scene.bestPlace(trail, 3 * noise, std::size_t(a), 1, std::size_t(b));
        if (!point) continue;
        const auto errors = scene.errorsOf(trail, *point);
        if (errors.empty()) continue;
        // From the middle of the window outwards as far as it holds.
        auto middle = std::min_element(errors.begin(), errors.end(), [&](const auto& l, const auto& r) {
            return std::abs(l.first - (a + b) / 2) < std::abs(r.first - (a + b) / 2);
        });
        auto first = middle, last = middle;
        const auto holds = [&](auto it) { return it->second.norm() < limit; };
        while (first != errors.begin() && (holds(first - 1) || (first - 1 != errors.begin() && holds(first - 2))))
            --first;
        while (last + 1 != errors.end() && (holds(last + 1) || (last + 2 != errors.end() && holds(last + 2)))) ++last;
        while (first != last && !holds(first)) ++first;
        while (last != first && !holds(last)) --last;
        const int from = first->first, to = last->first;
        if (to - from + 1 < kShortest || to - from + 1 <= best.to - best.from || to - from + 1 < 0.25 * count) continue;
        const double jump = std::max(1.5 * scale, 9 * noise);
        const auto jumps = [&](auto inside, auto outside) { return (inside->second - outside->second).norm() > jump; };
        const bool before = first == errors.begin() || jumps(first, first - 1);
        const bool after = last + 1 == errors.end() || jumps(last, last + 1);
        if (!before || !after) continue;
        const auto own = scene.bestPlace(trail, 3 * noise, std::size_t(from), 1, std::size_t(to) + 1);
        if (!own || !agreementOf(plain(scene.errorsOf(trail, *own), from, to), noise, scale).agrees) continue;
        best = {true, false, own, from, to};
    }
    return best;
}

}  // namespace

Agreement agreementOf(const std::vector<Vector2d>& errors, double noise_px, double scale) {
    Agreement result;
    if (errors.empty()) return result;
    double squares = 0, clipped = 0;
    for (const Vector2d& error : errors) {
        squares += error.squaredNorm();
        clipped += std::min(error.squaredNorm(), 25 * noise_px * noise_px);
    }
    result.rms_px = std::sqrt(squares / double(errors.size()));
    result.spread = std::sqrt(clipped / (2 * double(errors.size()))) / noise_px;
    const int length = std::min(kLasting, int(errors.size()));
    for (int i = 0; i + length <= int(errors.size()); ++i) {
        // The median of each axis: one spike does not last.
        std::vector<double> x, y;
        for (int k = 0; k < length; ++k) {
            x.push_back(errors[std::size_t(i + k)].x());
            y.push_back(errors[std::size_t(i + k)].y());
        }
        std::sort(x.begin(), x.end());
        std::sort(y.begin(), y.end());
        for (const int middleOf : {(length - 1) / 2, length / 2})
            result.drift_px = std::max(result.drift_px, std::hypot(x[std::size_t(middleOf)], y[std::size_t(middleOf)]));
    }
    // A slow slide shows as a trend long before any stretch of it stands out.
    Vector2d mean = Vector2d::Zero(), trend = Vector2d::Zero();
    double spread2 = 0;
    const double count = double(errors.size()), middle = 0.5 * (count - 1);
    const auto clippedTo = [&](const Vector2d& error) -> Vector2d {
        return error.norm() > 5 * noise_px ? Vector2d(error * (5 * noise_px / error.norm())) : error;
    };
    for (const Vector2d& error : errors) mean += clippedTo(error) / count;
    for (std::size_t i = 0; i < errors.size(); ++i) {
        trend += (double(i) - middle) * (clippedTo(errors[i]) - mean);
        spread2 += (double(i) - middle) * (double(i) - middle);
    }
    result.trend_px = spread2 > 0 ? trend.norm() / spread2 * middle : 0;
    const bool slides = result.trend_px > std::max(0.5 * scale, 5.5 * noise_px * std::sqrt(3 / count));
    const bool wide = result.spread > kSpread && result.drift_px > std::max(0.5 * scale, 2.5 * noise_px);
    const bool lasting = result.drift_px > std::max(1.0 * scale, 5.5 * noise_px);
    // Spikes happen; more than one in seven frames, or one across the picture, is no spike.
    const auto beyond = [&](double limit) {
        return std::count_if(errors.begin(), errors.end(), [&](const Vector2d& error) { return error.norm() > limit; });
    };
    const bool jumps = double(beyond(std::max(1.2 * scale, 8 * noise_px))) > 0.15 * count ||
                       beyond(std::max(25 * scale, 40 * noise_px)) > 0;
    result.agrees = !wide && !lasting && !slides && !jumps;
    return result;
}

double noiseOfTracks(const Reconstruction& scene) {
    const Material& material = scene.material();
    const double noise = std::max(scene.noise(), 0.04 * material.scale());
    std::vector<double> own;
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        if (!scene.point(t) || material.trails[t].seen.size() < 5) continue;
        double squares = 0;
        const auto errors = scene.errorsOf(material.trails[t], *scene.point(t));
        for (const auto& [i, error] : errors) squares += std::min(error.squaredNorm(), 100 * noise * noise);
        if (!errors.empty()) own.push_back(std::sqrt(squares / (2 * double(errors.size()))));
    }
    if (own.size() < 20) return noise;
    // Real tracks differ, and how much is told by the better seven in ten: as if their noise were lognormal, the noisy
    // end of the good ones (a deviation and a half above the middle) sets the measure.
    const auto quantile = [&](double share) {
        const auto at = own.begin() + std::ptrdiff_t(share * double(own.size()));
        std::nth_element(own.begin(), at, own.end());
        return std::max(*at, 1e-6);
    };
    const double low = quantile(0.35), high = quantile(0.70);
    const double shape = std::log(high / low) / 0.909;  // between the normal's quantiles of those shares
    const double end = low * std::exp(0.385 * shape + 1.5 * shape);
    return std::clamp(end / 1.35, noise, 6 * noise);
}

int sortOut(Reconstruction& scene, double trim_px) {
    const Material& material = scene.material();
    const double noise = noiseOfTracks(scene);
    std::vector<Verdict> verdicts(material.trails.size());
    parallelFor(
        material.trails.size(),
        [&](std::size_t t) {
            const Trail& trail = material.trails[t];
            if (trail.heldOut) return;
            const int end = int(trail.seen.size()) - 1;
            Verdict& verdict = verdicts[t];
            const bool whole = scene.stretch(t) == std::pair{0, end};
            verdict = {false, false, scene.point(t) && whole ? scene.point(t) : scene.bestPlace(trail, 3 * noise), 0,
                       end};
            if (!verdict.point) return;
            const auto judge = [&](const Vector4d& point) {
                return agreementOf(plain(scene.errorsOf(trail, point), 0, end), noise, material.scale());
            };
            Agreement own = judge(*verdict.point);
            if (!own.agrees && whole && scene.point(t)) {
                // The adjusted place may be held by what is wrong; the track's own best place is its fair chance.
                if (const auto again = scene.bestPlace(trail, 3 * noise)) {
                    if (const Agreement second = judge(*again); second.agrees) {
                        own = second;
                        verdict.point = again;
                    }
                }
            }
            if (own.agrees && !scene.turnsOnly() && (*verdict.point)[3] < 0) {
                // Rays that part instead of meeting: noise does that to what is far away, anything more moves by
                // itself.
                Vector4d far = *verdict.point;
                far[3] = 0;
                const auto direction = scene.bestDirection(trail, far.normalized(), 3 * noise);
                own.agrees = judge(direction).agrees;
            }
            verdict.agrees = own.agrees && !(trim_px > 0 && own.rms_px > trim_px);
            if (!own.agrees) {
                const auto wholePoint = verdict.point;
                verdict = stretchOf(scene, trail, noise);
                if (!verdict.agrees && agreementOf(plain(scene.errorsOf(trail, *wholePoint), 0, end), kMild * noise,
                                                   kMild * material.scale())
                                           .agrees)
                    verdict = {false, true, wholePoint, 0, end};
            }
        },
        8);
    int changed = 0;
    for (std::size_t t = 0; t < verdicts.size(); ++t) {
        if (material.trails[t].heldOut) continue;
        const Verdict& verdict = verdicts[t];
        if ((verdict.agrees || verdict.mild) && verdict.point) {
            const bool before = scene.point(t).has_value() && scene.isDoubted(t) == verdict.mild &&
                                scene.stretch(t) == std::pair{verdict.from, verdict.to};
            changed += !before;
            scene.bringBack(t);
            scene.setDoubted(t, verdict.mild);
            scene.keepStretch(t, verdict.from, verdict.to);
            scene.setPoint(t, *verdict.point);
        } else {
            changed += scene.point(t).has_value();
            scene.dropPoint(t);
        }
    }
    return changed;
}

void weigh(Reconstruction& scene) {
    const Material& material = scene.material();
    const double noise = std::max(scene.noise(), 0.04 * material.scale());
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        if (!scene.point(t)) continue;
        // Three of the errors' freedoms went into the point.
        const auto [from, to] = scene.stretch(t);
        double squares = kCommon * 2 * noise * noise, freedoms = 2 * kCommon - 3;
        for (const Vector2d& error : plain(scene.errorsOf(material.trails[t], *scene.point(t)), from, to)) {
            squares += std::min(error.squaredNorm(), 25 * noise * noise);
            freedoms += 2;
        }
        scene.setTrust(t, std::clamp(noise / std::sqrt(squares / freedoms), kLeastSigma, 1 / kLeastSigma));
    }
}

}  // namespace pinion::solving
