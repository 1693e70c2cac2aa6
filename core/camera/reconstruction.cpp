#include "camera/reconstruction.h"

#include "base/median.h"
#include "base/units.h"
#include "camera/relativepose.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace pinion::solving {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

Reconstruction::Reconstruction(const Material& material, const SolveOptions& options, const Lens& first, bool zoom)
    : material_(&material),
      options_(&options),
      lens_(first),
      poses_(material.frames.size()),
      points_(material.trails.size()),
      stretches_(material.trails.size(), {0, std::numeric_limits<int>::max()}),
      sigmas_(material.trails.size(), 1.0),
      dropped_(material.trails.size(), 0),
      doubted_(material.trails.size(), 0),
      axisSigma_(options.axisSigma * options.width) {
    if (zoom) becomeZoom();
}

void Reconstruction::becomeZoom() {
    if (!isZoom()) focals_.assign(poses_.size(), lens_.focal_px);
}

std::pair<int, int> Reconstruction::stretch(std::size_t trail) const {
    return {stretches_[trail].first, std::min(stretches_[trail].second, int(material_->trails[trail].seen.size()) - 1)};
}

void Reconstruction::takeOnly(const std::vector<int>& trails) {
    ignored_.assign(points_.size(), 1);
    for (const int trail : trails) ignored_[std::size_t(trail)] = 0;
}

void Reconstruction::start(int a, int b, const RelativePose& relative, const std::vector<int>& trails,
                           const std::vector<PlanePair>& pairs) {
    poses_[std::size_t(a)] = Pose{};
    poses_[std::size_t(b)] = relative.second;
    for (std::size_t i = 0; i < pairs.size(); ++i) {
        if (!relative.inliers[i] || (!ignored_.empty() && ignored_[std::size_t(trails[i])])) continue;
        const std::array<Ray, 2> rays{Ray{Pose{}, pairs[i].first}, Ray{relative.second, pairs[i].second}};
        if (const auto point = triangulate(rays)) points_[std::size_t(trails[i])] = point->homogeneous().normalized();
    }
}

int Reconstruction::sightingsOf(int frame) const {
    int count = 0;
    for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)])
        count += points_[std::size_t(trail)].has_value();
    return count;
}

BundleOptions Reconstruction::bundleOptions(const LensTerms& free, double width_px, int rounds, double settled) const {
    BundleOptions result;
    result.free = free;
    result.freePlaces = !turnsOnly_;
    result.robustWidth_px = width_px;
    result.noise_px = std::clamp(width_px / 3, 0.03 * material_->scale(), 2.0 * material_->scale());
    result.rounds = rounds;
    result.settled = settled;
    result.step = 0.05;
    const double half = 0.5 * material_->width / lens_.focal_px;
    // Lenses bend the side of the frame by some per cent; more than that is a fit to something else.
    Lens guess;
    double sigma = 1;  // of what is usual
    if (options_->distortion == SolveOptions::Distortion::guessed) {
        guess = atFocal(*options_->lens, lens_.focal_px);
        sigma = 0.15;
    }
    if (free.has(LensTerm::k1)) result.priors.push_back({LensTerm::k1, guess.k1, sigma * 0.12 / (half * half)});
    if (free.has(LensTerm::k2)) result.priors.push_back({LensTerm::k2, guess.k2, sigma * 0.05 / std::pow(half, 4)});
    if (free.has(LensTerm::k3)) result.priors.push_back({LensTerm::k3, 0.0, 0.03 / std::pow(half, 6)});
    if (free.has(LensTerm::p1)) result.priors.push_back({LensTerm::p1, 0.0, 0.01 / half});
    if (free.has(LensTerm::p2)) result.priors.push_back({LensTerm::p2, 0.0, 0.01 / half});
    if (free.has(LensTerm::k1Slope)) result.priors.push_back({LensTerm::k1Slope, 0.0, 0.1 / (half * half)});
    if (options_->axis == SolveOptions::Axis::automatic) {
        result.priors.push_back({LensTerm::cx, expectedAxis().x(), axisSigma_});
        result.priors.push_back({LensTerm::cy, expectedAxis().y(), axisSigma_});
    }
    if (options_->focal == Knowledge::unknown) {
        // Lenses are chosen around normal ones: a factor of two more or less. It decides only where the tracks decide
        // nothing.
        const double own = lens_.focal_px;
        result.priors.push_back(
            {LensTerm::focal, own - own * std::log(own / (35.0 / 36.0 * material_->width)), 0.8 * own});
    }
    if (free.has(LensTerm::readout)) {
        const bool isGiven = options_->reading == SolveOptions::Reading::known && options_->readoutSigma > 0;
        result.priors.push_back(
            {LensTerm::readout, isGiven ? options_->readoutShare : 0.0, isGiven ? options_->readoutSigma : 0.7});
    }
    if (options_->focal == Knowledge::guessed)
        result.priors.push_back({LensTerm::focal,
                                 focalPixels(options_->focal_mm, options_->sensorWidth_mm, material_->width),
                                 focalPixels(options_->focalSigma_mm, options_->sensorWidth_mm, material_->width)});
    return result;
}

Vector2d Reconstruction::expectedAxis() const {
    return options_->lens ? Vector2d(options_->lens->cx, options_->lens->cy)
                          : Vector2d(material_->width / 2.0, material_->height / 2.0);
}

bool Reconstruction::axisStrains() const {
    return options_->axis == SolveOptions::Axis::automatic &&
           (Vector2d(lens_.cx, lens_.cy) - expectedAxis()).norm() > 2.5 * axisSigma_;
}

bool Reconstruction::adjust(const LensTerms& free, double width_px, int rounds, const Progress& progress,
                            double settled, const std::function<void(const Bundle&)>& watch) {
    recentre();
    std::vector<int> cameraOf, pointOf;
    Bundle bundle = assemble(&cameraOf, &pointOf);
    BundleOptions own = bundleOptions(free, width_px, rounds, settled);
    own.watch = watch;
    if (settled == 0) own.damping = 1e-7;
    const bool finished = pinion::adjust(bundle, own, progress);
    take(bundle, cameraOf, pointOf);
    // Nothing holds the size of the world; what is near is told against it.
    recentre();
    if (!turnsOnly_)
        for (std::size_t i = 0; i < points_.size(); ++i) {
            if (!points_[i]) continue;
            const auto& seen = material_->trails[i].seen;
            const auto isNearTo = [&](const Seen& one) {
                const auto& pose = poses_[std::size_t(one.frame)];
                return pose &&
                       std::abs((*points_[i])[3]) >
                           kNearCamera *
                               std::abs(
                                   (pose->rotation * points_[i]->head<3>() + pose->translation * (*points_[i])[3]).z());
            };
            if (std::any_of(seen.begin(), seen.end(), isNearTo)) {
                const auto [from, to] = stretch(i);
                points_[i] = bestPlace(material_->trails[i], width_px, std::size_t(from), 1, std::size_t(to) + 1);
            }
        }
    return finished;
}

void Reconstruction::take(const Bundle& bundle, const std::vector<int>& cameraOf, const std::vector<int>& pointOf) {
    lens_ = bundle.lens;
    k1Slope_ = bundle.k1Slope;
    readout_ = bundle.readout;
    for (std::size_t i = 0; i < poses_.size(); ++i)
        if (cameraOf[i] >= 0) {
            poses_[i] = bundle.cameras[std::size_t(cameraOf[i])];
            if (isZoom()) focals_[i] = bundle.focals[std::size_t(cameraOf[i])];
        }
    for (std::size_t i = 0; i < points_.size(); ++i)
        if (pointOf[i] >= 0) points_[i] = bundle.points[std::size_t(pointOf[i])];
}

Bundle Reconstruction::assemble(std::vector<int>* cameras, std::vector<int>* points) const {
    std::vector<int> cameraOf(poses_.size(), -1), pointOf(points_.size(), -1);
    Bundle bundle;
    bundle.lens = lens_;
    bundle.k1Slope = k1Slope_;
    bundle.readout = readout_;
    for (std::size_t i = 0; i < poses_.size(); ++i)
        if (poses_[i]) {
            cameraOf[i] = int(bundle.cameras.size());
            bundle.cameras.push_back(*poses_[i]);
            bundle.times.push_back(material_->frames[i]);
            if (isZoom()) bundle.focals.push_back(focals_[i]);
        }
    for (std::size_t t = 0; t < points_.size(); ++t) {
        if (!points_[t]) continue;
        const Trail& trail = material_->trails[t];
        pointOf[t] = int(bundle.points.size());
        bundle.points.push_back(*points_[t]);
        const auto [from, to] = stretch(t);
        for (int i = from; i <= to; ++i) {
            const Seen& seen = trail.seen[std::size_t(i)];
            if (cameraOf[std::size_t(seen.frame)] >= 0)
                bundle.observations.push_back({cameraOf[std::size_t(seen.frame)], pointOf[t],
                                               readsRows_ ? seen.filmed : seen.plate, trail.weight * sigmas_[t],
                                               seen.row});
        }
    }
    if (cameras) *cameras = std::move(cameraOf);
    if (points) *points = std::move(pointOf);
    return bundle;
}

std::optional<Vector2d> Reconstruction::plateOf(int frame, const Vector4d& point) const {
    const Pose& pose = *poses_[std::size_t(frame)];
    const Projection p =
        project(lensOf(frame), pose.rotation.toRotationMatrix(), pose.translation, point, Derived::nothing);
    return p.inFront ? std::optional(p.plate) : std::nullopt;
}

double Reconstruction::errorAt(const Seen& seen, const Vector4d& point) const {
    const auto& pose = poses_[std::size_t(seen.frame)];
    if (!pose) return std::numeric_limits<double>::infinity();
    const Projection p =
        project(lensOf(seen.frame), pose->rotation.toRotationMatrix(), pose->translation, point, Derived::nothing);
    return p.inFront ? (p.plate - seen.plate).norm() : std::numeric_limits<double>::infinity();
}

std::vector<std::pair<int, Vector2d>> Reconstruction::errorsOf(const Trail& trail, const Vector4d& point) const {
    std::vector<std::pair<int, Vector2d>> errors;
    for (std::size_t i = 0; i < trail.seen.size(); ++i) {
        const Seen& seen = trail.seen[i];
        const auto& pose = poses_[std::size_t(seen.frame)];
        if (!pose) continue;
        const Projection p =
            project(lensOf(seen.frame), pose->rotation.toRotationMatrix(), pose->translation, point, Derived::nothing);
        errors.emplace_back(int(i), p.inFront ? Vector2d(p.plate - seen.plate) : Vector2d(1e4, 1e4));
    }
    return errors;
}

double Reconstruction::noise() const {
    std::vector<double> errors;
    for (std::size_t t = 0; t < points_.size(); ++t)
        if (points_[t]) {
            const auto [from, to] = stretch(t);
            for (int i = from; i <= to; ++i) {
                const Seen& seen = material_->trails[t].seen[std::size_t(i)];
                if (poses_[std::size_t(seen.frame)]) errors.push_back(errorAt(seen, *points_[t]));
            }
        }
    if (errors.empty()) return 1e6;
    // The median of the length of a plane Gaussian vector is 1.1774 of its deviation on one axis.
    return median(errors) / 1.1774;
}

double Reconstruction::badness(const std::vector<int>& frames, double noise_px) const {
    const double scale = 9 * noise_px * noise_px;
    double sum = 0, count = 0;
    for (const int frame : frames)
        for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) {
            if (!ignored_.empty() && ignored_[std::size_t(trail)]) continue;
            ++count;
            const auto& point = points_[std::size_t(trail)];
            if (!point || !poses_[std::size_t(frame)]) {
                ++sum;
                continue;
            }
            const double error = errorAt({frame, place}, *point);
            sum += std::isfinite(error) ? error * error / (error * error + scale) : 1.0;
        }
    return count > 0 ? sum / count : 1.0;
}

int Reconstruction::placedFrames() const {
    return int(std::count_if(poses_.begin(), poses_.end(), [](const auto& p) { return p.has_value(); }));
}
int Reconstruction::placedPoints() const {
    return int(std::count_if(points_.begin(), points_.end(), [](const auto& p) { return p.has_value(); }));
}

void Reconstruction::recentre() {
    if (turnsOnly_) return;
    Vector3d middle = Vector3d::Zero();
    int count = 0;
    for (const auto& pose : poses_)
        if (pose) {
            middle += pose->centre();
            ++count;
        }
    if (count == 0) return;
    middle /= count;
    std::vector<double> distances;
    for (const auto& point : points_)
        if (point)
            distances.push_back(std::abs((*point)[3]) > 1e-6 ? (point->head<3>() / (*point)[3] - middle).norm() : 1e6);
    if (distances.empty()) return;
    // All places and all nearnesses with the other sign project alike: in front is where most points are.
    double side = 0;
    for (const auto& point : points_)
        if (point) side += (*point)[3];
    const double sign = side < 0 ? -1 : 1;
    const double scale = sign / std::clamp(median(distances), 1e-9, 1e9);
    for (auto& pose : poses_)
        if (pose) pose->translation = scale * (pose->translation + pose->rotation * middle);
    for (auto& point : points_)
        if (point) {
            Vector4d moved;
            moved << scale * sign * (point->head<3>() - (*point)[3] * middle), sign * (*point)[3];
            point = moved.normalized();
        }
}

void Reconstruction::deepen(double ratio) {
    std::vector<int> placed;
    for (std::size_t f = 0; f < poses_.size(); ++f)
        if (poses_[f]) placed.push_back(int(f));
    if (placed.empty()) return;
    const Vector3d axis = poses_[std::size_t(placed[placed.size() / 2])]->rotation.conjugate() * Vector3d::UnitZ();
    const auto along = [&](const Vector3d& v) -> Vector3d { return v + (ratio - 1) * axis.dot(v) * axis; };
    for (auto& pose : poses_)
        if (pose) pose->translation = -(pose->rotation * along(pose->centre()));
    for (auto& point : points_)
        if (point) {
            Vector4d moved;
            moved << along(point->head<3>()), (*point)[3];
            point = moved.normalized();
        }
}

Reconstruction Reconstruction::mirrored(int frame, double tolerance_px) const {
    Reconstruction twin = *this;
    const Pose& pose = *poses_[std::size_t(frame)];
    std::vector<double> nearness;
    const auto inverseDepth = [&](const Vector4d& point) {
        const Vector3d seen = pose.rotation * point.head<3>() + pose.translation * point[3];
        return point[3] / std::max(1e-9, seen.z());
    };
    for (const auto& point : points_)
        if (point) nearness.push_back(inverseDepth(*point));
    if (nearness.empty()) return twin;
    const double middle = median(nearness);
    std::vector<int> frames;
    for (std::size_t f = 0; f < poses_.size(); ++f)
        if (poses_[f]) frames.push_back(int(f));
    for (auto& point : twin.points_)
        if (point) {
            const Vector3d seen = pose.rotation * point->head<3>() + pose.translation * (*point)[3];
            const double inverse = std::max(0.02 * middle, 2 * middle - inverseDepth(*point));
            const Vector3d ray = seen / std::max(1e-9, seen.z());
            Vector4d moved;
            moved << pose.rotation.conjugate() * (ray - pose.translation * inverse), inverse;
            point = moved.normalized();
        }
    for (const int other : frames)
        if (other != frame) twin.poses_[std::size_t(other)].reset();
    // Near the mirror frame first: each starts from its neighbour.
    std::sort(frames.begin(), frames.end(), [&](int a, int b) { return std::abs(a - frame) < std::abs(b - frame); });
    for (const int other : frames)
        if (other != frame) twin.place(other, tolerance_px);
    return twin;
}

double Reconstruction::medianAngleDegrees() const {
    std::vector<double> angles;
    for (std::size_t t = 0; t < points_.size(); ++t) {
        if (!points_[t]) continue;
        if ((*points_[t])[3] < 1e-7) {
            angles.push_back(0);
            continue;
        }
        std::vector<Ray> rays;
        for (const Seen& seen : material_->trails[t].seen)
            if (poses_[std::size_t(seen.frame)]) rays.push_back({*poses_[std::size_t(seen.frame)], {0, 0}});
        if (rays.size() >= 2) angles.push_back(triangulationAngle(rays, points_[t]->head<3>() / (*points_[t])[3]));
    }
    return angles.empty() ? 0.0 : degrees(median(angles));
}

}  // namespace pinion::solving
