#include "camera/resect.h"

#include "base/linear.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

/// The rigid motion that takes `from` to `to` (Kabsch 1976; Umeyama 1991).
Pose rigidMotion(const std::array<Vector3d, 3>& from, const std::array<Vector3d, 3>& to) {
    const Vector3d fromMean = (from[0] + from[1] + from[2]) / 3;
    const Vector3d toMean = (to[0] + to[1] + to[2]) / 3;
    Matrix3d sum = Matrix3d::Zero();
    for (std::size_t i = 0; i < 3; ++i) sum += (to[i] - toMean) * (from[i] - fromMean).transpose();
    const Matrix3d rotation = nearestRotation(sum);
    return {Eigen::Quaterniond(rotation), toMean - rotation * fromMean};
}

double squaredError(const Pose& pose, const Sighting& sighting) {
    const Vector3d seen = pose.cameraFromWorld(sighting.world);
    if (seen.z() <= 1e-9) return 1e12;
    return (seen.hnormalized() - sighting.plane).squaredNorm();
}

/// Gauss-Newton with Cauchy weights of the given width on the image plane.
Pose refinedPose(Pose pose, std::span<const Sighting> sightings, double width, int rounds) {
    for (int round = 0; round < rounds; ++round) {
        Eigen::Matrix<double, 6, 6> normal = Eigen::Matrix<double, 6, 6>::Zero();
        Eigen::Matrix<double, 6, 1> right = Eigen::Matrix<double, 6, 1>::Zero();
        for (const Sighting& sighting : sightings) {
            const Vector3d turned = pose.rotation * sighting.world;
            const Vector3d seen = turned + pose.translation;
            if (seen.z() <= 1e-9) continue;
            const double inverse = 1 / seen.z();
            const Vector2d residual = seen.head<2>() * inverse - sighting.plane;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            Eigen::Matrix<double, 2, 3> slope;
            slope << inverse, 0, -seen.x() * inverse * inverse, 0, inverse, -seen.y() * inverse * inverse;
            Matrix3d cross;
            cross << 0, turned.z(), -turned.y(), -turned.z(), 0, turned.x(), turned.y(), -turned.x(), 0;
            Eigen::Matrix<double, 2, 6> jacobian;
            jacobian << slope * cross, slope;
            normal += weight * jacobian.transpose() * jacobian;
            right -= weight * jacobian.transpose() * residual;
        }
        normal.diagonal() *= 1 + 1e-6;
        const Eigen::Matrix<double, 6, 1> step = solvedSymmetric(normal, right);
        if (!step.allFinite()) return pose;
        const Vector3d turn = step.head<3>();
        const double angle = turn.norm();
        if (angle > 1e-14)
            pose.rotation = (Eigen::Quaterniond(Eigen::AngleAxisd(angle, turn / angle)) * pose.rotation).normalized();
        pose.translation += step.tail<3>();
        if (angle < 1e-9 && step.tail<3>().norm() < 1e-9 * (1 + pose.translation.norm())) break;
    }
    return pose;
}

int inliersOf(const Pose& pose, std::span<const Sighting> sightings, double limit) {
    int count = 0;
    for (const Sighting& sighting : sightings) count += squaredError(pose, sighting) < limit;
    return count;
}

}  // namespace

std::vector<Pose> poseFromThree(const std::array<Sighting, 3>& sightings) {
    std::array<Vector3d, 3> world, rays;
    for (std::size_t i = 0; i < 3; ++i) {
        world[i] = sightings[i].world;
        rays[i] = Vector3d(sightings[i].plane.x(), sightings[i].plane.y(), 1).normalized();
    }
    const double a2 = (world[1] - world[2]).squaredNorm();
    const double b2 = (world[0] - world[2]).squaredNorm();
    const double c2 = (world[0] - world[1]).squaredNorm();
    if (a2 < 1e-18 || b2 < 1e-18 || c2 < 1e-18) return {};
    const double ca = rays[1].dot(rays[2]);
    const double cb = rays[0].dot(rays[2]);
    const double cg = rays[0].dot(rays[1]);
    const double d = (a2 - c2) / b2;
    const double s = (a2 + c2) / b2;
    const double q4 = (d - 1) * (d - 1) - 4 * c2 / b2 * ca * ca;
    const double q3 = 4 * (d * (1 - d) * cb - (1 - s) * ca * cg + 2 * c2 / b2 * ca * ca * cb);
    const double q2 = 2 * (d * d - 1 + 2 * d * d * cb * cb + 2 * (b2 - c2) / b2 * ca * ca - 4 * s * ca * cb * cg +
                           2 * (b2 - a2) / b2 * cg * cg);
    const double q1 = 4 * (-d * (1 + d) * cb + 2 * a2 / b2 * cg * cg * cb - (1 - s) * ca * cg);
    const double q0 = (1 + d) * (1 + d) - 4 * a2 / b2 * cg * cg;
    if (std::abs(q4) < 1e-14) return {};
    Eigen::Matrix4d companion = Eigen::Matrix4d::Zero();
    companion(0, 3) = -q0 / q4;
    companion(1, 3) = -q1 / q4;
    companion(2, 3) = -q2 / q4;
    companion(3, 3) = -q3 / q4;
    companion(1, 0) = companion(2, 1) = companion(3, 2) = 1;
    const auto found = eigenvaluesOf(companion);
    if (!found) return {};
    const Eigen::Vector4cd roots = *found;
    std::vector<Pose> poses;
    for (int i = 0; i < 4; ++i) {
        if (std::abs(roots[i].imag()) > 1e-6 || roots[i].real() <= 0) continue;
        const double v = roots[i].real();
        const double below = 2 * (cg - v * ca);
        if (std::abs(below) < 1e-12) continue;
        const double u = ((-1 + d) * v * v - 2 * d * cb * v + 1 + d) / below;
        const double square = b2 / (1 + v * v - 2 * v * cb);
        if (u <= 0 || !(square > 0)) continue;
        const double s1 = std::sqrt(square);
        poses.push_back(rigidMotion(world, {rays[0] * s1, rays[1] * (u * s1), rays[2] * (v * s1)}));
    }
    return poses;
}

Expected<Pose> resect(std::span<const Sighting> sightings, double focal_px, const ResectionOptions& options) {
    if (int(sightings.size()) < std::max(4, options.fewest))
        return failure(Fault::outcome, "only {} solved tracks are seen; {} are needed", sightings.size(),
                       std::max(4, options.fewest));
    const double distance = options.inlier_px / focal_px;
    const double limit = distance * distance;
    std::optional<Pose> best;
    int most = 0;
    const auto consider = [&](const Pose& pose) {
        const int count = inliersOf(pose, sightings, limit);
        if (count > most) {
            most = count;
            best = pose;
        }
    };
    if (options.guess) {
        // Wide first: a neighbour's pose may be many pixels off.
        consider(refinedPose(refinedPose(*options.guess, sightings, 10 * distance, 8), sightings, distance, 10));
    }
    if (!best || most < 0.6 * double(sightings.size())) {
        std::mt19937 random(4711);
        std::uniform_int_distribution<std::size_t> pick(0, sightings.size() - 1);
        for (int round = 0; round < 200; ++round) {
            const std::array<std::size_t, 3> chosen{pick(random), pick(random), pick(random)};
            if (chosen[0] == chosen[1] || chosen[0] == chosen[2] || chosen[1] == chosen[2]) continue;
            for (const Pose& pose : poseFromThree({sightings[chosen[0]], sightings[chosen[1]], sightings[chosen[2]]}))
                consider(pose);
            if (best && most > 0.8 * double(sightings.size()) && round > 20) break;
        }
        if (best) consider(refinedPose(*best, sightings, distance, 15));
    }
    if (!best || most < options.fewest)
        return failure(Fault::outcome, "only {} of {} tracks agree on a camera position; {} are needed", most,
                       sightings.size(), options.fewest);
    return refinedPose(*best, sightings, distance, 10);
}

}  // namespace pinion
