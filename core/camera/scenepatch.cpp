#include "camera/scenepatch.h"

#include <cmath>

namespace pinion {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

constexpr double kFar = 1e6;         // units of the solve, whose median point is ten away: as good as a direction
constexpr double kMostChange = 0.5;  // of the depth, over half the pattern

}  // namespace

std::optional<ScenePatch> ScenePatch::create(const SolvedViews& views, const Vector4d& point, int frame,
                                             const Vector2d& at, const Vector2d& tilt, double half_px) {
    const FrameRows* rows = views.on(frame);
    if (!rows) return std::nullopt;
    // A pattern is small: all of it is read by the row of its centre.
    const FrameRows::View view = rows->at(at);
    const auto middle = planeFromPlate(view.lens, at);
    if (!middle) return std::nullopt;
    const double depth = std::abs(point[3]) < 1e-9 ? kFar : view.pose.cameraFromWorld(point.head<3>() / point[3]).z();
    if (depth <= 1e-6) return std::nullopt;
    const auto met = [&](const Vector2d& place) -> std::optional<Vector3d> {
        const auto plane = planeFromPlate(view.lens, place);
        if (!plane) return std::nullopt;
        const double inverse = 1 + tilt.dot(*plane - *middle);
        if (!(std::abs(inverse - 1) < kMostChange)) return std::nullopt;
        return view.pose.rotation.conjugate() * (depth / inverse * plane->homogeneous() - view.pose.translation);
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
