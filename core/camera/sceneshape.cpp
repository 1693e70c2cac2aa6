#include "camera/sceneshape.h"

#include "base/linear.h"
#include "base/median.h"
#include "base/units.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion::solving {

using Eigen::Matrix3d;
using Eigen::Vector3d;

namespace {
constexpr double kStraight = 0.01;  // off the line, over the length of the path
constexpr double kTurns = 0.1;      // degrees, RMS about the mean
constexpr double kFlat = 0.01;      // of the depth

std::vector<int> placedFramesOf(const Reconstruction& scene) {
    std::vector<int> frames;
    for (int f = 0; f < int(scene.material().frames.size()); ++f)
        if (scene.pose(f)) frames.push_back(f);
    return frames;
}
}  // namespace

Vector3d planeOf(const std::vector<Vector3d>& rays, const std::vector<double>& inverseDepths) {
    Vector3d plane(0, 0, median(inverseDepths));
    for (int round = 0; round < 12; ++round) {
        std::vector<double> off;
        for (std::size_t i = 0; i < rays.size(); ++i) off.push_back(std::abs(plane.dot(rays[i]) - inverseDepths[i]));
        const double width = 1.5 * std::max(1e-9, median(off));
        Matrix3d normal = Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (std::size_t i = 0; i < rays.size(); ++i) {
            const double miss = plane.dot(rays[i]) - inverseDepths[i];
            const double weight = 1 / (1 + miss * miss / (width * width));
            normal += weight * rays[i] * rays[i].transpose();
            right += weight * inverseDepths[i] * rays[i];
        }
        plane = solvedSymmetric(normal, right);
    }
    return plane;
}

SeenPoints pointsSeenFrom(const Reconstruction& scene, int frame) {
    const Pose& pose = *scene.pose(frame);
    SeenPoints seen;
    for (std::size_t t = 0; t < scene.material().trails.size(); ++t) {
        if (!scene.point(t)) continue;
        const Vector3d inCamera = pose.rotation * scene.point(t)->head<3>() + pose.translation * (*scene.point(t))[3];
        if (inCamera.z() < 1e-9) continue;
        seen.trails.push_back(t);
        seen.rays.push_back(inCamera / inCamera.z());
        seen.inverseDepths.push_back((*scene.point(t))[3] / inCamera.z());
    }
    return seen;
}

bool slidesStraight(const Reconstruction& scene) {
    const std::vector<int> frames = placedFramesOf(scene);
    if (scene.turnsOnly() || frames.size() < 3) return false;
    const Eigen::Quaterniond middle = scene.pose(frames[frames.size() / 2])->rotation;
    double turns = 0, off = 0;
    for (const int f : frames) {
        const double angle = middle.angularDistance(scene.pose(f)->rotation);
        turns += angle * angle / double(frames.size());
    }
    const Vector3d start = scene.pose(frames.front())->centre(), way = scene.pose(frames.back())->centre() - start;
    if (way.norm() < 1e-12) return false;
    for (const int f : frames) off = std::max(off, (scene.pose(f)->centre() - start).cross(way.normalized()).norm());
    return std::sqrt(turns) < radians(kTurns) && off < kStraight * way.norm();
}

bool isFlat(const Reconstruction& scene) {
    const std::vector<int> frames = placedFramesOf(scene);
    if (scene.turnsOnly() || frames.empty()) return false;
    const auto [trails, rays, inverseDepths] = pointsSeenFrom(scene, frames[frames.size() / 2]);
    if (rays.size() < 12) return false;
    const Vector3d plane = planeOf(rays, inverseDepths);
    std::size_t near = 0;
    for (std::size_t i = 0; i < rays.size(); ++i)
        near += std::abs(inverseDepths[i] - plane.dot(rays[i])) < kFlat * std::abs(plane.dot(rays[i]));
    return double(near) > 0.9 * double(rays.size());
}

double pathsApart(const Reconstruction& one, const Reconstruction& other) {
    std::vector<Vector3d> a, b;
    double length = 0;
    for (int f = 0; f < int(one.material().frames.size()); ++f)
        if (one.pose(f) && other.pose(f)) {
            if (!a.empty()) length += (one.pose(f)->centre() - a.back()).norm();
            a.push_back(one.pose(f)->centre());
            b.push_back(other.pose(f)->centre());
        }
    if (a.size() < 4 || !(length > 0)) return 0;
    Eigen::Matrix3Xd from(3, b.size()), to(3, a.size());
    for (std::size_t i = 0; i < a.size(); ++i) {
        from.col(Eigen::Index(i)) = b[i];
        to.col(Eigen::Index(i)) = a[i];
    }
    const Eigen::Matrix4d fit = similarityBetween(from, to, true);
    const Eigen::Matrix3Xd off = (fit.topLeftCorner<3, 3>() * from).colwise() + fit.topRightCorner<3, 1>() - to;
    return std::sqrt(off.squaredNorm() / double(a.size())) / length;
}

}  // namespace pinion::solving
