// How a reconstruction places points.

#include "camera/reconstruction.h"

#include "camera/logsum.h"
#include "base/linear.h"
#include "base/median.h"
#include "base/parallel.h"
#include "camera/placing.h"

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

constexpr double kNearest = 50;    // times nearer than the median point: not believed
constexpr double kDepthShown = 6;  // rise of the log-likelihood that shows a depth

using View = PlateSighting;

double costOfPlace(const Vector4d& at, const std::vector<View>& views, double width) {
    LogSum cost;
    for (const View& view : views) {
        const Projection p = project(view.lens, view.rotation, view.translation, at, Derived::nothing);
        cost.add((p.inFront ? (p.plate - view.plate).squaredNorm() : 1e6) / (width * width));
    }
    return cost.value();
}

}  // namespace

std::optional<Vector4d> linearPlace(const std::vector<View>& views) {
    std::vector<double> weights(views.size(), 1.0);
    Vector4d point;
    for (int round = 0; round < 2; ++round) {
        Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
        for (std::size_t i = 0; i < views.size(); ++i)
            for (int axis = 0; axis < 2; ++axis) {
                Vector4d row;
                row << (views[i].rotation.row(axis) - views[i].plane[axis] * views[i].rotation.row(2)).transpose(),
                    views[i].translation[axis] - views[i].plane[axis] * views[i].translation.z();
                row *= weights[i];
                normal += row * row.transpose();
            }
        point = spectrumOf(normal).vectors.col(0);
        int front = 0;
        for (std::size_t i = 0; i < views.size(); ++i) {
            const double depth = (views[i].rotation.row(2) * point.head<3>())[0] + views[i].translation.z() * point[3];
            front += depth > 0 ? 1 : -1;
            weights[i] = 1 / std::max(1e-3, std::abs(depth));
        }
        if (front < 0) point = -point;
        if (std::abs(front) < int(views.size())) {
            if (round == 1) return std::nullopt;
            weights.assign(views.size(), 1.0);
        }
    }
    return point;
}

Vector4d refinedPlace(Vector4d point, const std::vector<View>& views, double width, int rounds) {
    double cost = costOfPlace(point, views, width), damping = 1e-6;
    for (int round = 0; round < rounds; ++round) {
        const auto tangent = tangentOf(point);
        Matrix3d normal = Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (const View& view : views) {
            const Projection p = project(view.lens, view.rotation, view.translation, point, Derived::byPoint);
            if (!p.inFront) continue;
            const Vector2d residual = p.plate - view.plate;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            const Eigen::Matrix<double, 2, 3> slope = p.byPoint * tangent;
            normal.noalias() += weight * slope.transpose() * slope;
            right.noalias() -= weight * slope.transpose() * residual;
        }
        normal.diagonal() *= 1 + damping;
        normal.diagonal().array() += 1e-10 * normal.trace() + 1e-300;
        // A depth that nothing shows stays where it is instead of running off.
        const Vector3d depth = 0.1 * width * tangent.row(3).transpose();
        normal += depth * depth.transpose();
        const Vector4d moved = (point + tangent * solvedSymmetric(normal, right)).normalized();
        if (!moved.allFinite()) break;
        const double movedCost = costOfPlace(moved, views, width);
        if (movedCost >= cost) {
            damping = std::max(1e-3, damping * 30);
            if (damping > 1e3) break;
            continue;
        }
        const bool settled = cost - movedCost < 1e-6 * cost;
        point = moved;
        cost = movedCost;
        damping *= 0.1;
        if (settled) break;
    }
    return point;
}

namespace {

/// As `refinedPlace`, for a point that stays at infinity.
Vector4d refinedDirection(const Vector4d& first, const std::vector<View>& views, double width) {
    Vector3d direction = first.head<3>().normalized();
    for (int round = 0; round < 6; ++round) {
        Eigen::Matrix<double, 3, 2> tangent;
        tangent.col(0) = direction.unitOrthogonal();
        tangent.col(1) = direction.cross(tangent.col(0)).normalized();
        Eigen::Matrix2d normal = Eigen::Matrix2d::Zero();
        Vector2d right = Vector2d::Zero();
        for (const View& view : views) {
            const Projection p = project(view.lens, view.rotation, view.translation,
                                         Vector4d(direction.x(), direction.y(), direction.z(), 0), Derived::byPoint);
            if (!p.inFront) continue;
            const Vector2d residual = p.plate - view.plate;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            const Eigen::Matrix2d slope = p.byPoint.leftCols<3>() * tangent;
            normal += weight * slope.transpose() * slope;
            right -= weight * slope.transpose() * residual;
        }
        normal.diagonal().array() += 1e-12 * normal.trace() + 1e-300;
        const Vector2d moved = solvedSymmetric(normal, right);
        if (!moved.allFinite()) break;
        direction = (direction + tangent * moved).normalized();
        if (moved.norm() < 1e-9) break;
    }
    return {direction.x(), direction.y(), direction.z(), 0};
}

/// Whether a point lies close to one of the cameras. What is seen only while the camera turns may be put anywhere, in
/// the camera's very place as well: there it projects anywhere, and it would nail every later camera to that place.
bool isNear(const Vector4d& point, const std::vector<View>& views, double times) {
    return std::any_of(views.begin(), views.end(), [&](const View& view) {
        return std::abs(point[3]) >
               times * std::abs(view.rotation.row(2).dot(point.head<3>()) + view.translation.z() * point[3]);
    });
}

}  // namespace

Reconstruction::Placed Reconstruction::placed(const Trail& trail, double width_px, std::size_t from, std::size_t step,
                                              std::size_t until) const {
    if (turnsOnly_) {
        // The mean direction; every sighting gives one.
        Vector3d sum = Vector3d::Zero();
        int count = 0;
        for (std::size_t i = from; i < std::min(trail.seen.size(), until); i += step) {
            const Seen& one = trail.seen[i];
            if (!poses_[std::size_t(one.frame)]) continue;
            if (const auto plane = planeFromPlate(lensOf(one.frame), one.plate)) {
                sum += poses_[std::size_t(one.frame)]->rotation.conjugate() * plane->homogeneous().normalized();
                ++count;
            }
        }
        if (count < 1 || sum.norm() < 0.5 * count) return {};
        Vector4d direction;
        direction << sum.normalized(), 0;
        return {direction};
    }
    std::vector<View> views;
    std::size_t count = 0;
    for (std::size_t i = from; i < std::min(trail.seen.size(), until); i += step)
        count += poses_[std::size_t(trail.seen[i].frame)].has_value();
    if (count < 2) return {};
    // Every ray costs; two dozen over the whole length place a point as well as a hundred.
    const std::size_t stride = width_px > 0 ? 1 : std::max<std::size_t>(1, count / 16);
    std::size_t k = 0;
    for (std::size_t i = from; i < std::min(trail.seen.size(), until); i += step) {
        const Seen& one = trail.seen[i];
        const auto& pose = poses_[std::size_t(one.frame)];
        if (!pose || k++ % stride != 0) continue;
        const Lens lens = lensOf(one.frame);
        if (const auto plane = planeFromPlate(lens, one.plate))
            views.push_back({pose->rotation.toRotationMatrix(), pose->translation, *plane, one.plate, lens});
    }
    if (views.size() < 2) return {};
    const double width = width_px > 0 ? width_px : 2.0 * material_->scale();
    // Rays that hardly converge may cross behind by their noise, and of a camera that stands still the camera itself
    // would be an answer: then the mean direction is the better start.
    Vector3d sum = Vector3d::Zero();
    for (const View& view : views) sum += view.rotation.transpose() * view.plane.homogeneous().normalized();
    Vector4d point;
    point << sum.normalized(), 0;
    const Vector4d start = point;
    if (const auto linear = linearPlace(views);
        linear && costOfPlace(*linear, views, width) < costOfPlace(point, views, width))
        point = *linear;
    point = refinedPlace(point, views, width, width_px > 0 ? 8 : 3);
    if (!isNear(point, views, kNearCamera)) return {point};
    // In the log-likelihood, the width being three times the noise.
    const Vector4d far = refinedDirection(start, views, width);
    if (4.5 * (costOfPlace(far, views, width) - costOfPlace(point, views, width)) < kDepthShown) return {far};
    if (isNear(point, views, kNearest)) return {{}, true};
    return {point};
}

std::optional<Vector4d> Reconstruction::bestPlace(const Trail& trail, double width_px, std::size_t from,
                                                  std::size_t step, std::size_t until) const {
    return placed(trail, width_px, from, step, until).point;
}

bool Reconstruction::isOnlyNear(const Trail& trail, double width_px) const {
    return placed(trail, width_px, 0, 1, SIZE_MAX).isOnlyNear;
}

Vector4d Reconstruction::bestDirection(const Trail& trail, const Vector4d& first, double width_px,
                                       std::size_t step) const {
    std::vector<View> views;
    for (std::size_t i = 0; i < trail.seen.size(); i += step) {
        const Seen& seen = trail.seen[i];
        if (const auto& pose = poses_[std::size_t(seen.frame)])
            views.push_back({pose->rotation.toRotationMatrix(), pose->translation, Vector2d::Zero(), seen.plate,
                             lensOf(seen.frame)});
    }
    return refinedDirection(first, views, width_px);
}

void Reconstruction::triangulateAll(double tolerance_px, bool again) {
    parallelFor(
        material_->trails.size(),
        [&](std::size_t t) {
            const Trail& trail = material_->trails[t];
            if (trail.heldOut || dropped_[t] || (points_[t] && !again) || (!ignored_.empty() && ignored_[t])) return;
            const auto [from, to] = stretch(t);
            auto found = bestPlace(trail, 0, std::size_t(from), 1, std::size_t(to) + 1);
            if (found) {
                std::vector<double> errors;
                for (const auto& [i, error] : errorsOf(trail, *found))
                    if (i >= from && i <= to) errors.push_back(error.norm());
                if (errors.size() < 2 || median(errors) > tolerance_px) found.reset();
            }
            // A point that was adjusted stays when the quick way does not find it again.
            if (found || !points_[t]) points_[t] = found;
            else {
                std::vector<double> errors;
                for (const auto& [i, error] : errorsOf(trail, *points_[t])) errors.push_back(error.norm());
                if (errors.size() < 2 || median(errors) > tolerance_px) points_[t].reset();
            }
        },
        8);
}

}  // namespace pinion::solving
