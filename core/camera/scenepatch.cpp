#include "camera/scenepatch.h"

#include <cmath>

namespace pinion {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

constexpr double kFar = 1e6;  // units of the solve, whose median point is ten away: as good as a direction
constexpr double kSteepest = 4.0;
constexpr double kEdgeOn = 0.15;  // of the slope's share that is left towards a ray

}  // namespace

std::optional<ScenePatch> ScenePatch::create(const SolvedViews& views, const Vector4d& point, int frame,
                                             const Vector2d& at, const Vector2d& slopes, double half_px) {
    const FrameRows* rows = views.on(frame);
    if (!rows || slopes.cwiseAbs().maxCoeff() > kSteepest) return std::nullopt;
    const FrameRows::View middle = rows->at(at);
    const bool isFar = std::abs(point[3]) < 1e-9;
    const Vector3d origin = isFar ? Vector3d(middle.pose.rotation * point.head<3>() * kFar)
                                  : middle.pose.cameraFromWorld(point.head<3>() / point[3]);
    if (origin.z() <= 1e-6) return std::nullopt;
    // Z = Z0 + slopes . (X - X0): the same plane for all rays.
    const double offset = origin.z() - slopes.dot(origin.head<2>());
    const auto met = [&](const Vector2d& place) -> std::optional<Vector3d> {
        const FrameRows::View view = rows->at(place);
        const auto plane = planeFromPlate(view.lens, place);
        if (!plane) return std::nullopt;
        // A camera that moves while it reads has its rays elsewhere; the piece stays where the middle one has it.
        const Vector3d eye = middle.pose.cameraFromWorld(view.pose.centre());
        const Vector3d ray = middle.pose.rotation * (view.pose.rotation.conjugate() * plane->homogeneous());
        const double towards = ray.z() - slopes.dot(ray.head<2>());
        if (towards < kEdgeOn * ray.z()) return std::nullopt;
        const double along = (offset - eye.z() + slopes.dot(eye.head<2>())) / towards;
        if (along <= 0) return std::nullopt;
        return middle.pose.rotation.conjugate() * (eye + along * ray - middle.pose.translation);
    };
    ScenePatch patch;
    patch.half_px_ = half_px;
    const auto centre = met(at);
    if (!centre) return std::nullopt;
    patch.centre_ = *centre;
    const std::array<Vector2d, 4> sides{Vector2d(1, 0), Vector2d(-1, 0), Vector2d(0, 1), Vector2d(0, -1)};
    for (std::size_t i = 0; i < sides.size(); ++i) {
        const auto side = met(at + half_px * sides[i]);
        if (!side) return std::nullopt;
        patch.around_[i] = *side;
    }
    return patch;
}

std::optional<PatternPose> ScenePatch::on(const FrameRows& rows) const {
    const auto at = rows.projected(centre_);
    if (!at) return std::nullopt;
    std::array<Vector2d, 4> sides;
    for (std::size_t i = 0; i < sides.size(); ++i) {
        const auto side = rows.projected(around_[i]);
        if (!side) return std::nullopt;
        sides[i] = *side;
    }
    PatternPose pose = PatternPose::at(*at);
    pose.plateFromPattern.block<2, 1>(0, 0) = (sides[0] - sides[1]) / (2 * half_px_);
    pose.plateFromPattern.block<2, 1>(0, 1) = (sides[2] - sides[3]) / (2 * half_px_);
    return pose;
}

}  // namespace pinion
