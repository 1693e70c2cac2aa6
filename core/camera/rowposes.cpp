#include "camera/rowposes.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace pinion {

using Eigen::Matrix3d;
using Eigen::Vector3d;

namespace {

Matrix3d crossOf(const Vector3d& v) {
    Matrix3d cross;
    cross << 0, -v.z(), v.y(), v.z(), 0, -v.x(), -v.y(), v.x(), 0;
    return cross;
}

/// exp(turn + small) = exp(leftJacobian * small) exp(turn) to first order, and its inverse (Chirikjian 2011, section
/// 10.8).
Matrix3d leftJacobian(const Vector3d& turn) {
    const double angle2 = turn.squaredNorm(), angle = std::sqrt(angle2);
    const Matrix3d cross = crossOf(turn);
    if (angle < 1e-4) return Matrix3d::Identity() + 0.5 * cross + cross * cross / 6;
    return Matrix3d::Identity() + (1 - std::cos(angle)) / angle2 * cross +
           (angle - std::sin(angle)) / (angle2 * angle) * cross * cross;
}
Matrix3d leftJacobianInverse(const Vector3d& turn) {
    const double angle2 = turn.squaredNorm(), angle = std::sqrt(angle2);
    const Matrix3d cross = crossOf(turn);
    if (angle < 1e-4) return Matrix3d::Identity() - 0.5 * cross + cross * cross / 12;
    const double half = 0.5 * angle;
    return Matrix3d::Identity() - 0.5 * cross + (1 - half / std::tan(half)) / angle2 * cross * cross;
}

Matrix3d expOf(const Vector3d& turn) {
    const double angle = turn.norm();
    if (angle < 1e-12) return Matrix3d::Identity() + crossOf(turn);
    return Eigen::AngleAxisd(angle, turn / angle).toRotationMatrix();
}

Vector3d logOf(const Eigen::Quaterniond& turn) {
    const Vector3d v = turn.w() < 0 ? Vector3d(-turn.vec()) : Vector3d(turn.vec());
    const double sine = v.norm(), cosine = std::abs(turn.w());
    return sine < 1e-12 ? Vector3d(2 * v) : Vector3d(2 * std::atan2(sine, cosine) / sine * v);
}

}  // namespace

Eigen::Matrix<double, 3, 6> centreByPose(const Pose& pose) {
    const Matrix3d back = pose.rotation.toRotationMatrix().transpose();
    Eigen::Matrix<double, 3, 6> result;
    result << -back * crossOf(pose.translation), -back;
    return result;
}

RowPoses::RowPoses(std::span<const Pose> cameras, std::span<const int> times) : frames_(cameras.size()) {
    const int count = int(cameras.size());
    const auto follow = [&](int a, int b) {
        return a >= 0 && b < count && (times.empty() || times[std::size_t(b)] == times[std::size_t(a)] + b - a);
    };
    for (int i = 0; i < count; ++i) {
        Frame& frame = frames_[std::size_t(i)];
        const Pose& pose = cameras[std::size_t(i)];
        frame.rotation = pose.rotation.toRotationMatrix();
        frame.centre = pose.centre();
        frame.centreByPose = pinion::centreByPose(pose);
        while (frame.before < kReach && follow(i - frame.before - 1, i)) ++frame.before;
        while (frame.after < kReach && follow(i, i + frame.after + 1)) ++frame.after;
        for (int step = -frame.before; step <= frame.after; ++step) {
            if (step == 0) continue;
            Beside& beside = frame.beside[placeOf(step)];
            beside.turn = logOf(cameras[std::size_t(i + step)].rotation * pose.rotation.conjugate());
            beside.inverse = leftJacobianInverse(beside.turn);
        }
    }
}

std::pair<int, int> RowPoses::support(std::size_t camera) const {
    return {int(camera) - frames_[camera].before, int(camera) + frames_[camera].after};
}

Pose RowPoses::at(std::size_t camera, double time, Slopes* slopes) const {
    const Frame& own = frames_[camera];
    const FrameBlend blend = FrameBlend::at(time, own.before, own.after);
    Vector3d turn = Vector3d::Zero(), centre = Vector3d::Zero(), speed = Vector3d::Zero(), pace = Vector3d::Zero();
    for (std::size_t k = 0; k < std::size_t(blend.count); ++k) {
        const int step = blend.steps[k];
        const Vector3d& place = frames_[std::size_t(int(camera) + step)].centre;
        centre += blend.weights[k] * place;
        pace += blend.speeds[k] * place;
        if (step == 0) continue;
        turn += blend.weights[k] * own.beside[placeOf(step)].turn;
        speed += blend.speeds[k] * own.beside[placeOf(step)].turn;
    }
    const Matrix3d turned = expOf(turn), rotation = turned * own.rotation;
    Pose pose;
    pose.rotation = Eigen::Quaterniond(rotation).normalized();
    pose.translation = -(rotation * centre);
    if (!slopes) return pose;
    const Matrix3d jacobian = leftJacobian(turn);
    slopes->count = blend.count;
    slopes->turnByTime = jacobian * speed;
    slopes->centreByTime = pace;
    // The camera's own turn carries the row's along, and takes from the way to each neighbour.
    Matrix3d byOwn = turned;
    std::size_t ownAt = 0;
    for (std::size_t k = 0; k < std::size_t(blend.count); ++k) {
        const int step = blend.steps[k];
        const auto other = std::size_t(int(camera) + step);
        slopes->cameras[k] = int(other);
        slopes->weights[k] = blend.weights[k];
        slopes->speeds[k] = blend.speeds[k];
        slopes->centreByPose[k] = blend.weights[k] * frames_[other].centreByPose;
        if (step == 0) {
            ownAt = k;
            continue;
        }
        const Beside& beside = own.beside[placeOf(step)];
        slopes->turnByTurn[k] = blend.weights[k] * jacobian * beside.inverse;
        // The right Jacobian is the left one's transpose.
        byOwn -= blend.weights[k] * jacobian * beside.inverse.transpose();
    }
    slopes->turnByTurn[ownAt] = byOwn;
    return pose;
}

}  // namespace pinion
