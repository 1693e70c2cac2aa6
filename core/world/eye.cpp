#include "world/eye.h"

namespace pinion {

using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr double kNearest = 0.05;  // of the world's unit

}  // namespace

std::optional<WorldEye> WorldEye::of(const Solve& solve, const Orientation& orientation, int frame, double part) {
    auto rows = FrameRows::of(solve, frame, part);
    if (!rows) return std::nullopt;
    return WorldEye(orientation, *std::move(rows));
}

Vector3d WorldEye::forward() const {
    return orientation_.rotation * (middle_.pose.rotation.conjugate() * Vector3d(0, 0, 1));
}

double WorldEye::depthOf(const Vector3d& world) const {
    return middle_.pose.cameraFromWorld(orientation_.undo(world)).z() * orientation_.scale;
}

std::optional<Vector2d> WorldEye::plateFromWorld(const Vector3d& world) const {
    if (depthOf(world) < kNearest) return std::nullopt;
    return rows_.projected(orientation_.undo(world));
}

WorldEye::Row WorldEye::rowAt(double row) const {
    const FrameRows::View view = rows_.isRolling() ? rows_.at(row) : middle_;
    return {orientation_.rotation * view.pose.rotation.conjugate().toRotationMatrix(), worldOf(view.pose.centre())};
}

std::optional<WorldRay> WorldEye::rayThrough(const Vector2d& plate) const {
    const auto plane = planeFromPlate(middle_.lens, plate);
    if (!plane) return std::nullopt;
    return rowAt(rows_.isRolling() ? rows_.rowAt(plate) : 0.0).rayThrough(*plane);
}

}  // namespace pinion
