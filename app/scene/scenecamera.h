#pragma once

#include <Eigen/Core>
#include <QMatrix4x4>
#include <QPointF>
#include <QSize>

#include <array>
#include <optional>
#include <vector>

namespace pinion {

/// From where the 3D view looks: freely around a target, or straight along an axis of the world without perspective.
class SceneCamera {
public:
    enum class Look { free, front, side, top };

    Look look() const { return look_; }
    void setLook(Look look) { look_ = look; }
    /// All the points with some room; the direction stays.
    void frame(const std::vector<Eigen::Vector3d>& points);
    void frame(const Eigen::Vector3d& target, double distance);
    /// By screen pixels. Turning leaves a straight look for the free one, beginning from where it was.
    void orbit(const QPointF& by);
    void pan(const QPointF& by, const QSize& screen);
    void zoom(double factor);

    QMatrix4x4 clipFromWorld(const QSize& screen) const;
    const Eigen::Vector3d& target() const { return target_; }
    double distance() const { return distance_; }
    /// Where x, y and z point on the screen: right, down, for the sign in the corner.
    std::array<QPointF, 3> axesOnScreen() const;

private:
    struct Axes {
        Eigen::Vector3d right, up, back;
    };
    Axes axes() const;

    Look look_ = Look::free;
    Eigen::Vector3d target_{0, 0, 0};
    double distance_ = 14;
    double yaw_ = 0.6;
    double pitch_ = 0.45;
};

/// Where a place lies on a screen; none behind the eye.
std::optional<QPointF> screenFromWorld(const QMatrix4x4& clipFromWorld, const QSize& screen,
                                       const Eigen::Vector3d& world);

}  // namespace pinion
