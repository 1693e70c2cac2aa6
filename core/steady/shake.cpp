#include "steady/shake.h"

#include "base/units.h"

#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Path = std::vector<double>;

/// x, y, angle, logarithm of the scale: four curves that may be added and averaged.
std::array<Path, 4> curvesOf(const std::vector<ShakeSample>& samples) {
    std::array<Path, 4> curves;
    for (const ShakeSample& s : samples) {
        curves[0].push_back(s.x);
        curves[1].push_back(s.y);
        curves[2].push_back(s.angleDegrees);
        curves[3].push_back(std::log(std::max(1e-6, s.scale)));
    }
    return curves;
}

double mean(const Path& path) {
    double sum = 0;
    for (double value : path) sum += value;
    return path.empty() ? 0 : sum / double(path.size());
}

/// A Catmull-Rom curve through the samples; the ends go on as they are. `wraps` joins them.
double at(const Path& path, double place, bool wraps) {
    const auto count = std::ptrdiff_t(path.size());
    const double floor = std::floor(place);
    const double t = place - floor;
    const auto value = [&](std::ptrdiff_t i) {
        if (wraps) return path[std::size_t(((i % count) + count) % count)];
        return path[std::size_t(std::clamp<std::ptrdiff_t>(i, 0, count - 1))];
    };
    const auto i = std::ptrdiff_t(floor);
    const double a = value(i - 1), b = value(i), c = value(i + 1), d = value(i + 2);
    return b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)));
}

/// A stretch that can be repeated: its last part is faded into what comes before its first.
Path looped(const Path& path, std::size_t fade) {
    const std::size_t period = path.size() - fade;
    Path loop(path.begin(), path.begin() + std::ptrdiff_t(period));
    for (std::size_t i = 0; i < fade; ++i) {
        const double u = double(i) / double(fade);
        const double eased = u * u * (3 - 2 * u);
        // Equal power: the two stretches know nothing of each other, and their blend shakes as hard as each.
        loop[i] = std::sin(0.5 * std::numbers::pi * eased) * path[i] +
                  std::cos(0.5 * std::numbers::pi * eased) * path[period + i];
    }
    return loop;
}

}  // namespace

double ShakeProfile::shiftRms() const {
    double sum = 0;
    for (const ShakeSample& s : samples) sum += s.x * s.x + s.y * s.y;
    return samples.empty() ? 0 : std::sqrt(sum / double(samples.size()));
}

double ShakeProfile::angleRms() const {
    double sum = 0;
    for (const ShakeSample& s : samples) sum += s.angleDegrees * s.angleDegrees;
    return samples.empty() ? 0 : std::sqrt(sum / double(samples.size()));
}

Expected<ShakeProfile> takeShake(const PlateMotion& motion, int width, int height, FrameRate fps, double above_hz,
                                 const std::string& name) {
    if (motion.frames.size() < 8)
        return failure(Fault::outcome, "the motion is known on {} frames only; a shake needs at least 8",
                       motion.frames.size());
    for (std::size_t i = 1; i < motion.frames.size(); ++i)
        if (motion.frames[i].frame != motion.frames[i - 1].frame + 1)
            return failure(Fault::outcome,
                           "the motion is not known between the frames {} and {}; track more points there",
                           motion.frames[i - 1].frame, motion.frames[i].frame);
    if (above_hz < 0 || above_hz > 0.5 * fps.perSecond())
        return failure(Fault::input,
                       "a shake above {:.2f} Hz cannot be told at {} frames a second; write 0 (all of it) to {:.2f}",
                       above_hz, toString(fps), 0.5 * fps.perSecond());
    const double seconds = double(motion.frames.size()) / fps.perSecond();
    if (above_hz > 0 && above_hz * seconds < 0.25)
        return failure(
            Fault::input,
            "a shake above {:g} Hz is slower than the {:.2f} s of this plate can tell; write 0 for all of it", above_hz,
            seconds);
    const Eigen::Vector2d middle(width / 2.0, height / 2.0);
    std::vector<ShakeSample> samples;
    for (const FrameMotion& frame : motion.frames) {
        const MotionParts parts = partsOf(frame.plateFromReference, middle);
        samples.push_back({parts.shift.x() / width, parts.shift.y() / width, degrees(parts.angle), parts.scale});
    }
    auto curves = curvesOf(samples);
    for (Path& curve : curves) {
        if (above_hz > 0) {
            // The Gaussian whose spectrum is one half at above_hz.
            const double sigma = std::sqrt(0.5 * std::numbers::ln2) / (std::numbers::pi * above_hz) * fps.perSecond();
            const Path slow = smoothGaussian(curve, sigma);
            for (std::size_t i = 0; i < curve.size(); ++i) curve[i] -= slow[i];
        }
        const double rest = mean(curve);
        for (double& value : curve) value -= rest;
    }
    ShakeProfile profile{name, fps, above_hz, {}};
    for (std::size_t i = 0; i < samples.size(); ++i)
        profile.samples.push_back({curves[0][i], curves[1][i], curves[2][i], std::exp(curves[3][i])});
    return profile;
}

Expected<ShakePlan> lendShake(const ShakeProfile& profile, const FrameRange& frames, FrameRate fps, int width,
                              int height, const ShakeLending& lending) {
    if (profile.samples.empty()) return failure(Fault::input, "the shake profile has no samples");
    ShakePlan plan;
    auto curves = curvesOf(profile.samples);
    const double ratio = profile.fps.perSecond() / fps.perSecond();
    const double needed = double(frames.count() - 1) * ratio;
    plan.looped = needed > double(profile.samples.size() - 1) + 1e-9;
    plan.cut = double(profile.samples.size()) - needed > ratio + 1;
    if (plan.looped) {
        const std::size_t fade =
            std::min(profile.samples.size() / 3, std::size_t(std::lround(profile.fps.perSecond())));
        if (fade >= 2)
            for (Path& curve : curves) {
                // A drift from end to end would be a step at the seam.
                const double drift = (curve.back() - curve.front()) / std::max<double>(1, double(curve.size() - 1));
                Path level = curve;
                for (std::size_t i = 0; i < level.size(); ++i)
                    level[i] -= drift * (double(i) - 0.5 * double(level.size() - 1));
                curve = looped(level, fade);
            }
    }
    const Eigen::Vector2d middle(width / 2.0, height / 2.0);
    for (int i = 0; i < frames.count(); ++i) {
        const double place = i * ratio;
        ShakeSample sample;
        sample.x = lending.position * at(curves[0], place, plan.looped);
        sample.y = lending.position * at(curves[1], place, plan.looped);
        sample.angleDegrees = lending.rotation * at(curves[2], place, plan.looped);
        sample.scale = std::exp(lending.scale * at(curves[3], place, plan.looped));
        plan.samples.push_back(sample);
        // The shares are of the width on both axes: a shake is round, whatever the frame's shape.
        const MotionParts parts{{sample.x * width, sample.y * width}, radians(sample.angleDegrees), sample.scale};
        plan.frames.push_back({frames.first + i, parts.about(middle).inverse()});
    }
    if (lending.fit == SteadyOptions::Fit::fill) {
        const auto zoom = fillZoom(plan.frames, width, height);
        if (!zoom) return failure(Fault::outcome, "no zoom fills the frame under this shake; lower its amount");
        plan.zoom = *zoom;
        applyZoom(plan.frames, plan.zoom, middle);
    }
    return plan;
}

}  // namespace pinion
