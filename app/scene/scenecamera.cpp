#include "scene/scenecamera.h"

#include <Eigen/Geometry>
#include <QVector4D>

#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr double kFieldDegrees = 42.0;  // of the free look, from top to bottom
constexpr double kTurn = 0.008;         // radians a pixel
constexpr double kSteepest = 1.5;       // radians; beyond it up would turn over

double halfHeight(double distance) { return distance * std::tan(kFieldDegrees * M_PI / 360); }

QVector3D toQt(const Vector3d& v) { return {float(v.x()), float(v.y()), float(v.z())}; }

}  // namespace

SceneCamera::Axes SceneCamera::axes() const {
    switch (look_) {
        case Look::front:  // from in front of the scene, where cameras usually start, along -z
            return {Vector3d::UnitX(), Vector3d::UnitY(), Vector3d::UnitZ()};
        case Look::side:
            return {-Vector3d::UnitZ(), Vector3d::UnitY(), Vector3d::UnitX()};
        case Look::top:
            return {Vector3d::UnitX(), -Vector3d::UnitZ(), Vector3d::UnitY()};
        case Look::free:
            break;
    }
    const Vector3d back(std::cos(pitch_) * std::sin(yaw_), std::sin(pitch_), std::cos(pitch_) * std::cos(yaw_));
    const Vector3d right = Vector3d::UnitY().cross(back).normalized();
    return {right, back.cross(right), back};
}

void SceneCamera::frame(const Vector3d& target, double distance) {
    target_ = target;
    distance_ = std::max(1e-6, distance);
}

void SceneCamera::frame(const std::vector<Vector3d>& points) {
    if (points.empty()) return;
    Vector3d low = points.front(), high = points.front();
    for (const Vector3d& point : points) {
        low = low.cwiseMin(point);
        high = high.cwiseMax(point);
    }
    // A single point is shown as near as half of the distance now.
    const double radius = std::max((high - low).norm() / 2, 0.05 * distance_);
    frame((low + high) / 2, 1.25 * radius / std::sin(kFieldDegrees * M_PI / 360));
}

void SceneCamera::orbit(const QPointF& by) {
    if (look_ != Look::free) {
        const Vector3d back = axes().back;
        yaw_ = look_ == Look::top ? 0 : std::atan2(back.x(), back.z());
        pitch_ = look_ == Look::top ? kSteepest : 0;
        look_ = Look::free;
    }
    yaw_ -= by.x() * kTurn;
    pitch_ = std::clamp(pitch_ + by.y() * kTurn, -kSteepest, kSteepest);
}

void SceneCamera::pan(const QPointF& by, const QSize& screen) {
    const double perPixel = 2 * halfHeight(distance_) / std::max(1, screen.height());
    const Axes a = axes();
    target_ += (-a.right * by.x() + a.up * by.y()) * perPixel;
}

void SceneCamera::zoom(double factor) { distance_ = std::clamp(distance_ * factor, 1e-6, 1e9); }

QMatrix4x4 SceneCamera::clipFromWorld(const QSize& screen) const {
    const Axes a = axes();
    const double aspect = double(screen.width()) / std::max(1, screen.height());
    QMatrix4x4 projection;
    if (look_ == Look::free) {
        projection.perspective(float(kFieldDegrees), float(aspect), float(distance_ * 0.01), float(distance_ * 200));
    } else {
        const double high = halfHeight(distance_);
        projection.ortho(float(-high * aspect), float(high * aspect), float(-high), float(high),
                         float(-distance_ * 200), float(distance_ * 200));
    }
    QMatrix4x4 view;
    view.lookAt(toQt(target_ + distance_ * a.back), toQt(target_), toQt(a.up));
    return projection * view;
}

std::array<QPointF, 3> SceneCamera::axesOnScreen() const {
    const Axes a = axes();
    std::array<QPointF, 3> shown;
    for (int i = 0; i < 3; ++i) shown[std::size_t(i)] = {a.right[i], -a.up[i]};
    return shown;
}

std::optional<QPointF> screenFromWorld(const QMatrix4x4& clipFromWorld, const QSize& screen, const Vector3d& world) {
    const QVector4D clip = clipFromWorld * QVector4D(toQt(world), 1);
    if (clip.w() <= 0) return std::nullopt;
    return QPointF((clip.x() / clip.w() + 1) / 2 * screen.width(), (1 - clip.y() / clip.w()) / 2 * screen.height());
}

}  // namespace pinion
