#include "camera/insideout.h"

#include "base/linear.h"
#include "base/median.h"
#include "base/parallel.h"
#include "camera/sceneshape.h"

#include <Eigen/Geometry>
#include <Eigen/LU>

#include <algorithm>
#include <array>
#include <cmath>

namespace pinion::solving {

using Eigen::Matrix3d;
using Eigen::Vector3d;

namespace {

constexpr std::size_t kSpan = 7;  // keyframes that are judged together
constexpr double kShown = 8.0;    // times the noise: less depth than that is not worth turning
constexpr double kOther = 0.03;   // of the path: nearer than that it is the same reading
constexpr double kLikely = 1.05;  // badness of the mirror image over the own one that is still in doubt

double looseness(const Reconstruction& scene) { return 0.004 * scene.material().width; }

/// The scene with nothing but these frames, and the points that two of them see.
Reconstruction only(const Reconstruction& scene, const std::vector<int>& frames) {
    Reconstruction part = scene;
    for (int f = 0; f < int(scene.material().frames.size()); ++f)
        if (part.pose(f) && std::find(frames.begin(), frames.end(), f) == frames.end()) part.forgetFrame(f);
    std::vector<int> sightings(scene.material().trails.size(), 0);
    for (const int f : frames)
        for (const auto& [trail, place] : scene.material().byFrame[std::size_t(f)]) ++sightings[std::size_t(trail)];
    for (std::size_t t = 0; t < sightings.size(); ++t)
        if (sightings[t] < 2) part.forgetPoint(t);
    return part;
}

/// The scene as the other reading of a plane has it, taken for one as `frame` sees it: motion and normal trade places.
std::optional<Reconstruction> otherReading(const Reconstruction& scene, int frame) {
    const Material& material = scene.material();
    const Pose& own = *scene.pose(frame);
    const SeenPoints seen = pointsSeenFrom(scene, frame);
    const auto& trails = seen.trails;
    const auto& rays = seen.rays;
    const auto& inverseDepths = seen.inverseDepths;
    if (rays.size() < 8) return std::nullopt;
    const Vector3d plane = planeOf(rays, inverseDepths);
    struct Relative {
        int frame;
        std::vector<PlaneMotion> motions;
        double base;
    };
    std::vector<Relative> relatives;
    double longest = 0;
    for (int f = 0; f < int(material.frames.size()); ++f) {
        if (!scene.pose(f) || f == frame) continue;
        const Matrix3d rotation = (scene.pose(f)->rotation * own.rotation.conjugate()).toRotationMatrix();
        const Vector3d shift = scene.pose(f)->translation - rotation * own.translation;
        relatives.push_back({f, motionsOf(rotation + shift * plane.transpose()), shift.norm()});
        longest = std::max(longest, relatives.back().base);
    }
    // The other normal as the longest base tells it.
    std::optional<Vector3d> other;
    const auto inFront = [&](const Vector3d& normal) {
        return std::count_if(rays.begin(), rays.end(), [&](const Vector3d& ray) { return normal.dot(ray) > 0; }) >
               0.9 * double(rays.size());
    };
    for (const Relative& relative : relatives) {
        if (relative.base < longest) continue;
        double apart = std::cos(0.02);
        for (const PlaneMotion& motion : relative.motions)
            if (inFront(motion.normal) && motion.normal.dot(plane.normalized()) < apart) {
                apart = motion.normal.dot(plane.normalized());
                other = motion.normal;
            }
    }
    if (!other) return std::nullopt;
    std::vector<double> nearness;
    for (const Vector3d& ray : rays) nearness.push_back(other->dot(ray));
    const double scale = median(inverseDepths) / std::max(1e-9, median(nearness));
    Reconstruction twin = scene;
    for (std::size_t i = 0; i < trails.size(); ++i) {
        const double inverse = std::max(0.02 * median(inverseDepths), scale * nearness[i]);
        Eigen::Vector4d moved;
        moved << own.rotation.conjugate() * (rays[i] - own.translation * inverse), inverse;
        twin.setPoint(trails[i], moved);
    }
    std::vector<int> open;
    for (const Relative& relative : relatives) {
        twin.forgetFrame(relative.frame);
        open.push_back(relative.frame);
        if (relative.base < 0.3 * longest || relative.motions.empty()) continue;
        const auto nearest = std::max_element(
            relative.motions.begin(), relative.motions.end(),
            [&](const PlaneMotion& a, const PlaneMotion& b) { return a.normal.dot(*other) < b.normal.dot(*other); });
        Pose pose;
        pose.rotation = (Eigen::Quaterniond(nearest->rotation) * own.rotation).normalized();
        pose.translation = nearest->rotation * own.translation + nearest->shift / scale;
        twin.setPose(relative.frame, pose);
        open.pop_back();
    }
    std::sort(open.begin(), open.end(), [&](int a, int b) { return std::abs(a - frame) < std::abs(b - frame); });
    for (const int f : open) twin.place(f, looseness(scene));
    return twin;
}

std::optional<Reconstruction> turned(const Reconstruction& scene, int frame, Reading reading) {
    if (!scene.pose(frame)) return std::nullopt;
    if (reading == Reading::plane) return otherReading(scene, frame);
    return scene.mirrored(frame, looseness(scene));
}

/// Moves and scales `part` so that its camera at `seam` is that of `whole`, and the points that both have lie as far
/// from it.
void lay(Reconstruction& part, const Reconstruction& whole, int seam) {
    const Pose from = *part.pose(seam), to = *whole.pose(seam);
    const auto nearness = [](const Pose& pose, const Eigen::Vector4d& point) {
        return point[3] / (pose.rotation * point.head<3>() + pose.translation * point[3]).z();
    };
    std::vector<double> ratios;
    for (std::size_t t = 0; t < part.material().trails.size(); ++t)
        if (part.point(t) && whole.point(t)) {
            const double ratio = nearness(from, *part.point(t)) / nearness(to, *whole.point(t));
            if (std::isfinite(ratio) && ratio > 0) ratios.push_back(ratio);
        }
    const double scale = ratios.empty() ? 1 : median(ratios);
    for (int f = 0; f < int(part.material().frames.size()); ++f) {
        if (!part.pose(f)) continue;
        const Eigen::Quaterniond turn = part.pose(f)->rotation * from.rotation.conjugate();
        part.setPose(f, {(turn * to.rotation).normalized(),
                         turn * to.translation + scale * (part.pose(f)->translation - turn * from.translation)});
    }
    for (std::size_t t = 0; t < part.material().trails.size(); ++t) {
        if (!part.point(t)) continue;
        const Eigen::Vector4d point = *part.point(t);
        Eigen::Vector4d moved;
        moved << to.rotation.conjugate() * (scale * (from.rotation * point.head<3>() + from.translation * point[3]) -
                                            to.translation * point[3]),
            point[3];
        part.setPoint(t, moved);
    }
}

/// The keyframe near `at` (as an index) after which the fewest tracks go on: there a chain goes wrong first.
std::size_t weakestLink(const Material& material, const std::vector<int>& keys, std::size_t from, std::size_t to) {
    std::size_t weakest = from, fewest = SIZE_MAX;
    for (std::size_t i = from; i < to; ++i) {
        const std::size_t shared = sharedPlaces(material, keys[i], keys[i + 1]).size();
        if (shared < fewest) {
            fewest = shared;
            weakest = i;
        }
    }
    return weakest;
}

/// How far the nearer and the farther half of the points move apart over a window, in pixels: where a camera only
/// turns, any depth reads alike and none matters.
double depthShown(const Reconstruction& scene, const std::vector<int>& window) {
    const int middle = window[window.size() / 2];
    if (!scene.pose(middle)) return 0;
    auto inverseDepths = pointsSeenFrom(scene, middle).inverseDepths;
    if (inverseDepths.size() < 8) return 0;
    std::sort(inverseDepths.begin(), inverseDepths.end());
    double base = 0;
    for (const int f : window)
        if (scene.pose(f)) base = std::max(base, (scene.pose(f)->centre() - scene.pose(middle)->centre()).norm());
    return scene.focalOf(middle) * base *
           (inverseDepths[inverseDepths.size() * 3 / 4] - inverseDepths[inverseDepths.size() / 4]);
}

/// Whether a window's other reading explains it about as well.
bool isInDoubt(const Reconstruction& scene, const std::vector<int>& window, Reading reading, const Progress& progress) {
    Reconstruction own = only(scene, window);
    own.takeOnly(telling(scene.material(), window));
    for (std::size_t t = 0; t < scene.material().trails.size(); ++t)
        if (own.isIgnored(t)) own.forgetPoint(t);
    if (own.placedFrames() < int(kSpan) - 1) return false;
    const double width = lossWidth(scene), noise = std::max(scene.noise(), 0.05 * scene.material().scale());
    own.triangulateAll(looseness(scene), true);
    own.adjust({}, width, 10, progress, 1e-4);
    if (depthShown(own, window) < kShown * noise) return false;
    auto twin = turned(own, window[window.size() / 2], reading);
    if (!twin || twin->placedFrames() < own.placedFrames()) return false;
    for (int pass = 0; pass < 2; ++pass) {
        twin->triangulateAll(looseness(scene), true);
        twin->adjust({}, width, 12, progress, 1e-4);
    }
    // Often it finds its way back to the first.
    return twin->badness(window, noise) < kLikely * own.badness(window, noise) + 0.002 &&
           pathsApart(own, *twin) > kOther;
}

}  // namespace

std::vector<PlaneMotion> motionsOf(Matrix3d homography) {
    homography /= singularValuesOf(homography).values[1];
    if (homography.determinant() < 0) homography = -homography;
    const Spectrum<3> spectrum = spectrumOf(Matrix3d(homography.transpose() * homography));
    const double low = spectrum.values[0], high = spectrum.values[2];
    if (high - low < 1e-9) return {};
    Matrix3d axes = spectrum.vectors;
    if (axes.determinant() < 0) axes = -axes;
    const Vector3d v1 = axes.col(2), v2 = axes.col(1), v3 = axes.col(0);
    const double along = std::sqrt(std::max(0.0, 1 - low) / (high - low)),
                 across = std::sqrt(std::max(0.0, high - 1) / (high - low));
    std::vector<PlaneMotion> motions;
    for (const double sign : {1.0, -1.0}) {
        const Vector3d u = along * v1 + sign * across * v3;
        const Vector3d normal = v2.cross(u);
        Matrix3d before, after;
        before << v2, u, normal;
        after << homography * v2, homography * u, (homography * v2).cross(homography * u);
        const Matrix3d rotation = after * before.transpose();
        motions.push_back({rotation, (homography - rotation) * normal, normal});
        motions.push_back({rotation, -(homography - rotation) * normal, -normal});
    }
    return motions;
}

std::vector<Stretch> stretchesInDoubt(const Reconstruction& scene, const std::vector<int>& keys,
                                      const Progress& progress) {
    std::vector<std::size_t> starts;
    for (std::size_t i = 0; i + kSpan < keys.size(); i += 2) starts.push_back(i);
    if (keys.size() >= kSpan) starts.push_back(keys.size() - kSpan);
    constexpr std::array kReadings{Reading::mirror, Reading::plane};
    std::vector<char> doubtful(starts.size() * kReadings.size(), 0);
    parallelFor(doubtful.size(), [&](std::size_t i) {
        const auto from = keys.begin() + std::ptrdiff_t(starts[i / kReadings.size()]);
        doubtful[i] =
            !progress.stopped() && isInDoubt(scene, {from, from + kSpan}, kReadings[i % kReadings.size()], progress);
    });
    std::vector<Stretch> stretches;
    for (std::size_t r = 0; r < kReadings.size(); ++r)
        for (std::size_t i = 0; i < starts.size(); ++i) {
            if (!doubtful[i * kReadings.size() + r]) continue;
            if (i > 0 && doubtful[(i - 1) * kReadings.size() + r]) stretches.back().last = starts[i] + kSpan - 1;
            else stretches.push_back({starts[i], starts[i] + kSpan - 1, kReadings[r]});
        }
    for (Stretch& stretch : stretches) {
        if (stretch.first > 0)
            stretch.first = weakestLink(scene.material(), keys, stretch.first, stretch.first + kSpan - 2);
        else stretch.last = weakestLink(scene.material(), keys, stretch.last - kSpan + 2, stretch.last) + 1;
    }
    std::erase_if(stretches, [&](const Stretch& stretch) { return stretch.last - stretch.first + 2 >= keys.size(); });
    return stretches;
}

Reconstruction turnedInsideOut(const Reconstruction& scene, const std::vector<int>& keys, const Stretch& stretch,
                               const LensPlan& plan, const Progress& progress) {
    const bool joinsBefore = stretch.first > 0;
    // A few keyframes are read otherwise; the rest of the stretch grows on from there.
    const std::size_t from = joinsBefore || stretch.last < kSpan ? stretch.first : stretch.last - kSpan;
    const std::size_t to = joinsBefore ? std::min(stretch.last, stretch.first + kSpan) : stretch.last;
    const std::vector<int> inner(keys.begin() + std::ptrdiff_t(from), keys.begin() + std::ptrdiff_t(to) + 1);
    const int seam = joinsBefore ? inner.front() : inner.back();
    const std::vector<int> rest = joinsBefore
                                      ? std::vector<int>(keys.begin(), keys.begin() + std::ptrdiff_t(stretch.first) + 1)
                                      : std::vector<int>(keys.begin() + std::ptrdiff_t(stretch.last), keys.end());
    Reconstruction result = only(scene, rest);
    auto twin = turned(only(scene, inner), inner[inner.size() / 2], stretch.reading);
    if (!twin) return scene;
    for (int pass = 0; pass < 2; ++pass) {
        twin->triangulateAll(looseness(scene), true);
        twin->adjust({}, lossWidth(scene), 12, progress, 1e-4);
    }
    if (!twin->pose(seam)) return scene;
    lay(*twin, result, seam);
    for (std::size_t t = 0; t < scene.material().trails.size(); ++t)
        if (!result.point(t) && twin->point(t)) result.setPoint(t, *twin->point(t));
    for (const int key : inner)
        if (key != seam && twin->pose(key)) result.setPose(key, *twin->pose(key));
    for (int pass = 0; pass < 2 && !progress.stopped(); ++pass) {
        result.triangulateAll(looseness(scene), true);
        result.adjust(pass == 0 ? LensTerms{} : plan.coarse, lossWidth(scene), 15, progress);
    }
    result.triangulateAll(looseness(scene), false);
    extend(result, keys, plan, progress);
    settle(result, plan, progress);
    return result;
}

}  // namespace pinion::solving
