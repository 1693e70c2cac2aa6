// How a reconstruction places cameras.

#include "camera/reconstruction.h"

#include "base/linear.h"
#include "base/parallel.h"
#include "camera/resect.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion::solving {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

/// A sighting of a placed point by the frame that is being placed.
struct Sight {
    Vector4d point;
    Vector2d plate;
};

/// Robust Gauss-Newton of one pose, and of the focal length when given.
void refinePose(Pose& pose, double* focal_px, Lens lens, double k1Slope, double lensFocal,
                const std::vector<Sight>& sights, double width, int rounds, bool turnsOnly) {
    const int count = (turnsOnly ? 3 : 6) + (focal_px ? 1 : 0);
    for (int round = 0; round < rounds; ++round) {
        Eigen::Matrix<double, 7, 7> normal = Eigen::Matrix<double, 7, 7>::Zero();
        Eigen::Matrix<double, 7, 1> right = Eigen::Matrix<double, 7, 1>::Zero();
        const Matrix3d rotation = pose.rotation.toRotationMatrix();
        const Lens own = focal_px ? zoomed(lens, k1Slope, *focal_px) : lens;
        const double logZoom = focal_px ? std::log(*focal_px / lensFocal) : 0;
        for (const Sight& sight : sights) {
            const Projection p = project(own, rotation, pose.translation, sight.point,
                                         focal_px ? Derived::all : Derived::byCamera, logZoom, k1Slope);
            if (!p.inFront) continue;
            const Vector2d residual = p.plate - sight.plate;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            Eigen::Matrix<double, 2, 7> slope = Eigen::Matrix<double, 2, 7>::Zero();
            if (turnsOnly) slope.leftCols<3>() = p.byCamera.leftCols<3>();
            else slope.leftCols<6>() = p.byCamera;
            if (focal_px) slope.col(count - 1) = p.byLens.col(int(LensTerm::focal));
            normal.noalias() += weight * slope.transpose() * slope;
            right.noalias() -= weight * slope.transpose() * residual;
        }
        Eigen::MatrixXd part = normal.topLeftCorner(count, count);
        part.diagonal() *= 1 + 1e-6;
        part.diagonal().array() += 1e-9 * part.trace() / count + 1e-300;
        const Eigen::VectorXd step = solvedSymmetric(part, Eigen::VectorXd(right.head(count)));
        if (!step.allFinite()) return;
        const Vector3d turn = step.head<3>();
        const double angle = turn.norm();
        if (angle > 1e-14)
            pose.rotation = (Eigen::Quaterniond(Eigen::AngleAxisd(std::min(angle, 0.5), turn / angle)) * pose.rotation)
                                .normalized();
        if (!turnsOnly) pose.translation += step.segment<3>(3);
        if (focal_px) *focal_px = std::clamp(*focal_px + step[count - 1], 0.7 * *focal_px, 1.4 * *focal_px);
        if (angle < 1e-7 && (turnsOnly || step.segment<3>(3).norm() < 1e-7)) return;
    }
}

int agreeing(const Pose& pose, const Lens& lens, const std::vector<Sight>& sights, double limit) {
    int count = 0;
    const Matrix3d rotation = pose.rotation.toRotationMatrix();
    for (const Sight& sight : sights) {
        const Projection p = project(lens, rotation, pose.translation, sight.point, Derived::nothing);
        count += p.inFront && (p.plate - sight.plate).squaredNorm() < limit * limit;
    }
    return count;
}

}  // namespace

bool Reconstruction::place(int frame, double tolerance_px) {
    double focal = focalGuessFor(frame);
    const auto pose = resected(frame, tolerance_px, isZoom() ? &focal : nullptr);
    if (!pose) return false;
    poses_[std::size_t(frame)] = *pose;
    if (isZoom()) focals_[std::size_t(frame)] = focal;
    return true;
}

int Reconstruction::placeAll(const std::vector<int>& frames, double tolerance_px) {
    std::vector<std::optional<Pose>> found(frames.size());
    std::vector<double> focals(frames.size(), lens_.focal_px);
    parallelFor(
        frames.size(),
        [&](std::size_t i) {
            focals[i] = focalGuessFor(frames[i]);
            found[i] = resected(frames[i], tolerance_px, isZoom() ? &focals[i] : nullptr);
        },
        2);
    int count = 0;
    for (std::size_t i = 0; i < frames.size(); ++i)
        if (found[i]) {
            poses_[std::size_t(frames[i])] = found[i];
            if (isZoom()) focals_[std::size_t(frames[i])] = focals[i];
            ++count;
        }
    return count;
}

std::optional<Pose> Reconstruction::resected(int frame, double tolerance_px, double* focal_px) const {
    std::vector<Sight> sights;
    for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)])
        if (points_[std::size_t(trail)]) sights.push_back({*points_[std::size_t(trail)], place});
    const int fewest = std::max(6, options_->fewestTracks);
    if (int(sights.size()) < fewest) return std::nullopt;
    const double lensFocal = lens_.focal_px;
    const auto finished = [&](Pose pose, double focal) -> std::pair<int, Pose> {
        double own = focal;
        refinePose(pose, focal_px ? &own : nullptr, lens_, k1Slope_, lensFocal, sights, tolerance_px, 10, turnsOnly_);
        refinePose(pose, focal_px ? &own : nullptr, lens_, k1Slope_, lensFocal, sights,
                   std::max(0.5 * material_->scale(), 0.25 * tolerance_px), 8, turnsOnly_);
        if (focal_px) *focal_px = own;
        return {agreeing(pose, focal_px ? zoomed(lens_, k1Slope_, own) : lens_, sights, tolerance_px), pose};
    };
    std::pair<int, Pose> best{0, Pose{}};
    double bestFocal = focal_px ? *focal_px : 0;
    const auto tryFrom = [&](Pose pose) {
        double own = focal_px ? *focal_px : 0;
        // Wide first: a neighbour's pose may be many pixels off.
        refinePose(pose, nullptr, focal_px ? zoomed(lens_, k1Slope_, own) : lens_, k1Slope_, lensFocal, sights,
                   12 * tolerance_px, 8, turnsOnly_);
        if (focal_px) refinePose(pose, &own, lens_, k1Slope_, lensFocal, sights, 6 * tolerance_px, 8, turnsOnly_);
        double found = own;
        const double before = focal_px ? *focal_px : 0;
        const auto result = finished(pose, own);
        if (focal_px) {
            found = *focal_px;
            *focal_px = before;
        }
        if (result.first > best.first) {
            best = result;
            bestFocal = found;
        }
    };
    if (const auto walked = walkedTo(frame, tolerance_px)) tryFrom(*walked);
    else if (const auto guess = guessFor(frame)) tryFrom(*guess);
    if (best.first < 0.6 * double(sights.size()) && !turnsOnly_) {
        std::vector<Sighting> finite;
        const Lens lens = focal_px ? zoomed(lens_, k1Slope_, focalGuessFor(frame)) : lens_;
        for (const Sight& sight : sights)
            if (sight.point[3] > 1e-5)
                if (const auto plane = planeFromPlate(lens, sight.plate))
                    finite.push_back({sight.point.head<3>() / sight.point[3], *plane});
        if (const auto pose = resect(finite, lens.focal_px, {.inlier_px = tolerance_px, .fewest = fewest})) {
            const auto other = finished(*pose, lens.focal_px);
            if (other.first > best.first) {
                best = other;
                if (focal_px) bestFocal = *focal_px;
            }
        }
    }
    if (focal_px) *focal_px = bestFocal;
    if (best.first < fewest || best.first < 0.35 * double(sights.size())) return std::nullopt;
    return best.second;
}

std::optional<Pose> Reconstruction::walkedTo(int frame, double tolerance_px) const {
    if (turnsOnly_ || isZoom()) return std::nullopt;
    int before = frame - 1, after = frame + 1;
    while (before >= 0 && !poses_[std::size_t(before)]) --before;
    while (after < int(poses_.size()) && !poses_[std::size_t(after)]) ++after;
    if (before >= 0 && after < int(poses_.size())) return std::nullopt;
    const int from = before >= 0 ? before : after, step = before >= 0 ? 1 : -1;
    if (from < 0 || from >= int(poses_.size()) || std::abs(frame - from) < 2) return std::nullopt;
    Pose pose = *poses_[std::size_t(from)];
    for (int f = from + step; f != frame; f += step) {
        std::vector<Sight> sights;
        for (const auto& [trail, place] : material_->byFrame[std::size_t(f)])
            if (points_[std::size_t(trail)]) sights.push_back({*points_[std::size_t(trail)], place});
        if (int(sights.size()) < 2 * std::max(6, options_->fewestTracks)) return std::nullopt;
        refinePose(pose, nullptr, lens_, k1Slope_, lens_.focal_px, sights, 4 * tolerance_px, 4, false);
    }
    return pose;
}

double Reconstruction::focalGuessFor(int frame) const {
    if (!isZoom()) return lens_.focal_px;
    for (int apart = 0; apart < int(poses_.size()); ++apart)
        for (const int other : {frame - apart, frame + apart})
            if (other >= 0 && other < int(poses_.size()) && poses_[std::size_t(other)])
                return focals_[std::size_t(other)];
    return lens_.focal_px;
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
