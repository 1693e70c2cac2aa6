#include "camera/reconstruction.h"

#include "base/parallel.h"
#include "base/units.h"
#include "camera/relativepose.h"
#include "camera/resect.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace pinion::solving {

using Eigen::Vector2d;
using Eigen::Vector3d;

Expected<void> Reconstruction::start(int a, int b, double tolerance_px) {
    dropped_.assign(material_->trails.size(), false);
    std::vector<int> trails;
    const auto pairs = planePairs(sharedPlaces(*material_, a, b, &trails), lens_);
    auto relative = relativePose(pairs, {.inlierDistance = tolerance_px / lens_.focal_px});
    if (!relative) return tl::unexpected(relative.error());
    poses_[std::size_t(a)] = Pose{};
    poses_[std::size_t(b)] = relative->second;
    held_ = a;
    for (std::size_t i = 0; i < pairs.size(); ++i) {
        if (!relative->inliers[i]) continue;
        const std::array<Ray, 2> rays{Ray{Pose{}, pairs[i].first}, Ray{relative->second, pairs[i].second}};
        points_[std::size_t(trails[i])] = triangulate(rays);
    }
    return {};
}

bool Reconstruction::place(int frame, double tolerance_px) {
    if (auto pose = resected(frame, tolerance_px)) {
        poses_[std::size_t(frame)] = *pose;
        return true;
    }
    return false;
}

void Reconstruction::placeAll(const std::vector<int>& frames, double tolerance_px) {
    std::vector<std::optional<Pose>> found(frames.size());
    parallelFor(frames.size(), [&](std::size_t i) { found[i] = resected(frames[i], tolerance_px); }, 2);
    for (std::size_t i = 0; i < frames.size(); ++i)
        if (found[i]) poses_[std::size_t(frames[i])] = found[i];
}

int Reconstruction::sightingsOf(int frame) const {
    int count = 0;
    for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) count += points_[std::size_t(trail)].has_value();
    return count;
}

void Reconstruction::triangulateAll(double tolerance_px, bool again) {
    parallelFor(material_->trails.size(), [&](std::size_t t) {
        const Trail& trail = material_->trails[t];
        if (trail.heldOut || dropped_[t] || (points_[t] && !again)) return;
        points_[t] = placed(trail.seen, tolerance_px);
    }, 8);
}

std::optional<Vector3d> Reconstruction::placed(const std::vector<Seen>& seen, double tolerance_px) const {
    std::vector<Ray> rays;
    std::vector<const Seen*> used;
    // Every ray costs; two dozen over the whole length place a point as well as a hundred.
    const std::size_t step = std::max<std::size_t>(1, seen.size() / 24);
    for (std::size_t i = 0; i < seen.size(); i += step) {
        const Seen& one = seen[i];
        if (!poses_[std::size_t(one.frame)]) continue;
        if (const auto plane = planeFromPlate(lens_, one.plate)) {
            rays.push_back({*poses_[std::size_t(one.frame)], *plane});
            used.push_back(&one);
        }
    }
    if (rays.size() < 2) return std::nullopt;
    const auto point = triangulate(rays);
    if (!point || triangulationAngle(rays, *point) < radians(kLeastAngle)) return std::nullopt;
    double squares = 0;
    for (std::size_t i = 0; i < rays.size(); ++i)
        squares += (rays[i].pose.cameraFromWorld(*point).hnormalized() - rays[i].plane).squaredNorm();
    if (std::sqrt(squares / double(rays.size())) * lens_.focal_px > tolerance_px) return std::nullopt;
    return point;
}

bool Reconstruction::adjustAll(BundleOptions bundleOptions, const Progress& progress) {
    std::vector<int> cameraOf(poses_.size(), -1), pointOf(points_.size(), -1);
    Bundle bundle = assemble(cameraOf, pointOf);
    bundleOptions.heldCamera = cameraOf[std::size_t(held_)];
    const bool finished = adjust(bundle, bundleOptions, progress);
    lens_ = bundle.lens;
    for (std::size_t i = 0; i < poses_.size(); ++i)
        if (cameraOf[i] >= 0) poses_[i] = bundle.cameras[std::size_t(cameraOf[i])];
    for (std::size_t i = 0; i < points_.size(); ++i)
        if (pointOf[i] >= 0) points_[i] = bundle.points[std::size_t(pointOf[i])];
    return finished;
}

Bundle Reconstruction::assemble(std::vector<int>& cameraOf, std::vector<int>& pointOf) const {
    Bundle bundle;
    bundle.lens = lens_;
    for (std::size_t i = 0; i < poses_.size(); ++i)
        if (poses_[i]) {
            cameraOf[i] = int(bundle.cameras.size());
            bundle.cameras.push_back(*poses_[i]);
        }
    for (std::size_t t = 0; t < points_.size(); ++t) {
        if (!points_[t]) continue;
        pointOf[t] = int(bundle.points.size());
        bundle.points.push_back(*points_[t]);
        for (const Seen& seen : material_->trails[t].seen)
            if (cameraOf[std::size_t(seen.frame)] >= 0) bundle.observations.push_back({cameraOf[std::size_t(seen.frame)], pointOf[t], seen.plate});
    }
    return bundle;
}

double Reconstruction::errorAt(const Seen& seen, const Vector3d& point) const {
    const auto& pose = poses_[std::size_t(seen.frame)];
    if (!pose) return 0;
    const Vector3d inCamera = pose->cameraFromWorld(point);
    if (inCamera.z() <= 1e-6) return 1e4;
    const auto plate = plateFromPlane(lens_, inCamera.hnormalized());
    return plate ? (*plate - seen.plate).norm() : 1e4;
}

std::pair<double, int> Reconstruction::rmsOf(const Trail& trail, const Vector3d& point) const {
    double squares = 0;
    int count = 0;
    for (const Seen& seen : trail.seen) {
        if (!poses_[std::size_t(seen.frame)]) continue;
        const double error = errorAt(seen, point);
        squares += error * error;
        ++count;
    }
    return {count > 0 ? std::sqrt(squares / count) : 0.0, count};
}

double Reconstruction::medianError() const {
    std::vector<double> errors;
    for (std::size_t t = 0; t < points_.size(); ++t)
        if (points_[t])
            for (const Seen& seen : material_->trails[t].seen)
                if (poses_[std::size_t(seen.frame)]) errors.push_back(errorAt(seen, *points_[t]));
    if (errors.empty()) return 1e6;
    std::nth_element(errors.begin(), errors.begin() + std::ptrdiff_t(errors.size() / 2), errors.end());
    return errors[errors.size() / 2];
}

double Reconstruction::cost() const {
    double sum = 0;
    double count = 0;
    for (std::size_t t = 0; t < points_.size(); ++t)
        for (const Seen& seen : material_->trails[t].seen) {
            if (!poses_[std::size_t(seen.frame)] || material_->trails[t].heldOut) continue;
            const double error = points_[t] ? errorAt(seen, *points_[t]) : 12.0;
            sum += std::log1p(error * error / 2.25);
            ++count;
        }
    return count > 0 ? sum / count : 1e9;
}

void Reconstruction::dropPoint(std::size_t trail) {
    points_[trail].reset();
    dropped_[trail] = true;
}

double Reconstruction::medianAngle() const {
    std::vector<double> angles;
    for (std::size_t t = 0; t < points_.size(); ++t) {
        if (!points_[t]) continue;
        std::vector<Ray> rays;
        for (const Seen& seen : material_->trails[t].seen)
            if (poses_[std::size_t(seen.frame)]) rays.push_back({*poses_[std::size_t(seen.frame)], {0, 0}});
        if (rays.size() >= 2) angles.push_back(triangulationAngle(rays, *points_[t]));
    }
    if (angles.empty()) return 0;
    std::nth_element(angles.begin(), angles.begin() + std::ptrdiff_t(angles.size() / 2), angles.end());
    return degrees(angles[angles.size() / 2]);
}

std::optional<Pose> Reconstruction::resected(int frame, double tolerance_px) const {
    std::vector<Sighting> sightings;
    for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) {
        if (!points_[std::size_t(trail)]) continue;
        if (const auto plane = planeFromPlate(lens_, place)) sightings.push_back({*points_[std::size_t(trail)], *plane});
    }
    ResectionOptions options{.inlier_px = tolerance_px, .fewest = std::max(6, options_->fewestTracks), .guess = guessFor(frame)};
    const auto pose = resect(sightings, lens_.focal_px, options);
    if (!pose) return std::nullopt;
    return *pose;
}

std::optional<Pose> Reconstruction::guessFor(int frame) const {
    int before = frame - 1;
    while (before >= 0 && !poses_[std::size_t(before)]) --before;
    int after = frame + 1;
    while (after < int(poses_.size()) && !poses_[std::size_t(after)]) ++after;
    const bool hasBefore = before >= 0;
    const bool hasAfter = after < int(poses_.size());
    if (!hasBefore && !hasAfter) return std::nullopt;
    if (!hasBefore) return poses_[std::size_t(after)];
    if (!hasAfter) return poses_[std::size_t(before)];
    const double share = double(material_->frames[std::size_t(frame)] - material_->frames[std::size_t(before)]) /
                         (material_->frames[std::size_t(after)] - material_->frames[std::size_t(before)]);
    const Pose& a = *poses_[std::size_t(before)];
    const Pose& b = *poses_[std::size_t(after)];
    Pose between;
    between.rotation = a.rotation.slerp(share, b.rotation);
    between.translation = -(between.rotation * (a.centre() + share * (b.centre() - a.centre())));
    return between;
}

}  // namespace pinion::solving
