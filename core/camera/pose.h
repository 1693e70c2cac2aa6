#pragma once

#include <Eigen/Core>
#include <Eigen/Geometry>

namespace pinion {

/// A camera's place as the solver keeps it: a world point X lies at `rotation * X + translation` in the camera's own
/// axes, with x right, y down and z forward, so that the image plane is x/z, y/z. Files and views use
/// `worldFromCamera`, whose camera looks along -Z with Y up.
struct Pose {
    Eigen::Quaterniond rotation = Eigen::Quaterniond::Identity();
    Eigen::Vector3d translation{0, 0, 0};

    Eigen::Vector3d cameraFromWorld(const Eigen::Vector3d& world) const { return rotation * world + translation; }
    Eigen::Vector3d centre() const { return -(rotation.conjugate() * translation); }
};

inline Eigen::Isometry3d worldFromCamera(const Pose& pose) {
    Eigen::Isometry3d result = Eigen::Isometry3d::Identity();
    const Eigen::DiagonalMatrix<double, 3> flip(1, -1, -1);
    result.linear() = pose.rotation.conjugate().toRotationMatrix() * flip;
    result.translation() = pose.centre();
    return result;
}

inline Pose poseFrom(const Eigen::Isometry3d& worldFromCamera) {
    const Eigen::DiagonalMatrix<double, 3> flip(1, -1, -1);
    const Eigen::Matrix3d worldFromOwn = worldFromCamera.linear() * flip;
    Pose pose;
    pose.rotation = Eigen::Quaterniond(Eigen::Matrix3d(worldFromOwn.transpose())).normalized();
    pose.translation = -(pose.rotation * worldFromCamera.translation());
    return pose;
}

}  // namespace pinion
