#include "shots.h"

#include "base/units.h"

#include <cmath>

namespace ternholm {
namespace {

using Eigen::Vector3d;

/// A hand's unrest: a few sines whose rates share no beat; about -1 to 1.
double unrest(double seconds, int seed) {
    double sum = 0;
    for (int i = 0; i < 5; ++i) {
        const double rate = 0.31 + 0.63 * i + 0.17 * std::sin(double(seed * 13 + i * 7));
        sum += std::sin(6.283185 * rate * seconds + seed * 2.1 + i * 1.7) / (1.0 + 0.9 * i);
    }
    return sum / 2.0;
}

}  // namespace

pinion::Lens landingLens(const ShotSize& size) {
    pinion::Lens lens = pinion::pinholeLens(size.width, size.height, pinion::focalPixels(28.0, 36.0, size.width));
    lens.k1 = -0.112;
    lens.k2 = 0.018;
    return lens;
}

Eigen::Affine3d landingCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double step = 6.283185 * 1.75 * seconds;  // paces a second
    Vector3d eye(-2.1 + 3.4 * along, 1.62, 7.1 - 2.2 * along);
    eye += Vector3d(0.022 * std::sin(step / 2) + 0.02 * unrest(seconds, 1), 0.024 * std::sin(step) + 0.012 * unrest(seconds, 2), 0.02 * unrest(seconds, 3));
    const Vector3d target(-0.35 + 1.35 * along, 1.05 + 0.1 * along, -2.0);
    const Vector3d back = (eye - target).normalized();
    const Vector3d right = Vector3d::UnitY().cross(back).normalized();
    Eigen::Matrix3d rotation;
    rotation << right, back.cross(right), back;
    const auto turn = [](double angleDegrees, const Vector3d& axis) { return Eigen::AngleAxisd(pinion::radians(angleDegrees), axis).toRotationMatrix(); };
    rotation = rotation * turn(0.55 * unrest(seconds, 4) + 0.12 * std::sin(step), Vector3d::UnitX()) *
               turn(0.70 * unrest(seconds, 5) + 0.10 * std::sin(step / 2), Vector3d::UnitY()) * turn(0.5 * unrest(seconds, 6), Vector3d::UnitZ());
    Eigen::Affine3d pose = Eigen::Affine3d::Identity();
    pose.linear() = rotation;
    pose.translation() = eye;
    return pose;
}

Eigen::Affine3d landingTrolley(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    // It enters from the left at a quarter of the shot and is out of the frame by four fifths.
    Eigen::Affine3d pose = Eigen::Affine3d::Identity();
    pose.translation() = Vector3d(-6.6 + 14.0 * (along - 0.15), 0, 2.3);
    return pose;
}

}  // namespace ternholm
