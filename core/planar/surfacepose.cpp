#include "planar/surfacepose.h"

#include "base/linear.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

SurfacePose SurfacePose::inverse() const {
    const Matrix3d back = matrix.inverse();
    return {back, -back * shift};
}

SurfacePose operator*(const SurfacePose& then, const SurfacePose& first) {
    return {then.matrix * first.matrix, then.matrix * first.shift + then.shift};
}

Matrix3d pixelsFromRays(const Lens& lens) {
    Matrix3d matrix = Matrix3d::Identity();
    matrix(0, 0) = lens.focal_px * lens.squeeze;
    matrix(1, 1) = lens.focal_px;
    matrix(0, 2) = lens.cx;
    matrix(1, 2) = lens.cy;
    return matrix;
}

Vector3d rayOf(const Lens& lens, const Vector2d& plate) {
    const Vector2d at = undistortedFromPlate(lens, plate).value_or(plate);
    return {(at.x() - lens.cx) / (lens.focal_px * lens.squeeze), (at.y() - lens.cy) / lens.focal_px, 1};
}

Vector2d seenAt(const Lens& lens, const Vector3d& point) {
    const Vector2d at(lens.cx + lens.focal_px * lens.squeeze * point.x() / point.z(),
                      lens.cy + lens.focal_px * point.y() / point.z());
    return plateFromUndistorted(lens, at).value_or(at);
}

Expected<Cylinder> Cylinder::fromSides(const Lens& lens, const Quad& sides) {
    std::array<Vector3d, 4> rays;
    for (std::size_t i = 0; i < 4; ++i) rays[i] = rayOf(lens, sides[i]);
    constexpr double kLeast_px = 8;  // between which anything can be seen to turn
    if (std::max((sides[1] - sides[0]).norm(), (sides[2] - sides[3]).norm()) < kLeast_px)
        return failure(Fault::input, "the two sides of the cylinder lie too near each other");
    // The planes that touch it on its sides; their normals look inwards.
    Vector3d left = rays[0].cross(rays[3]).normalized(), right = rays[1].cross(rays[2]).normalized();
    const bool crossed = left.dot(rays[1]) * left.dot(rays[2]) <= 0 || right.dot(rays[0]) * right.dot(rays[3]) <= 0;
    if (crossed || !left.allFinite() || !right.allFinite())
        return failure(Fault::input,
                       "the two sides of the cylinder cross: draw one along its left contour, one along its right");
    if (left.dot(rays[1]) < 0) left = -left;
    if (right.dot(rays[0]) < 0) right = -right;
    Cylinder cylinder;
    cylinder.axis = left.cross(right);
    if (!(cylinder.axis.norm() > 1e-4))
        return failure(Fault::input, "the two sides of the cylinder lie too near each other");
    cylinder.axis.normalize();
    if (cylinder.axis.dot(rays[3] - rays[0]) < 0) cylinder.axis = -cylinder.axis;
    // The axis is one radius away from both, at its nearest to the camera.
    Matrix3d rows;
    rows << left.transpose(), right.transpose(), cylinder.axis.transpose();
    const Vector3d nearest = rows.inverse() * Vector3d(1, 1, 0);
    if (!nearest.allFinite() || nearest.norm() < 1.02 || nearest.norm() > 1e4)
        return failure(Fault::input,
                       "no cylinder has such sides: draw one along its left contour, one along its right");
    cylinder.front = -nearest.normalized();
    cylinder.middle = nearest;
    const Vector3d met = cylinder.met(0.25 * (rays[0] + rays[1] + rays[2] + rays[3]));
    cylinder.middle += cylinder.axis * cylinder.placeOf(met).y();
    if (!(cylinder.middle.z() > 0)) return failure(Fault::input, "the cylinder would lie behind the camera");
    return cylinder;
}

Vector3d Cylinder::normal(double angle) const { return std::cos(angle) * front + std::sin(angle) * front.cross(axis); }

Vector3d Cylinder::at(const Vector2d& place) const { return middle + place.y() * axis + normal(place.x()); }

Vector2d Cylinder::placeOf(const Vector3d& point) const {
    const Vector3d from = point - middle;
    return {std::atan2(from.dot(front.cross(axis)), from.dot(front)), from.dot(axis)};
}

Vector3d Cylinder::met(const Vector3d& ray, bool* missed) const {
    // Seen along the axis: a circle of radius one about the axis.
    const Vector3d flat = ray - axis * axis.dot(ray), to = middle - axis * axis.dot(middle);
    const double a = flat.squaredNorm(), b = flat.dot(to), c = to.squaredNorm() - 1, inside = b * b - a * c;
    if (missed) *missed = !(inside >= 0);
    const double s = (b - std::sqrt(std::max(0.0, inside))) / std::max(a, 1e-12);
    const Vector3d point = s * ray, from = point - middle;
    // What passes by is taken to the surface.
    return middle + axis * axis.dot(from) + (from - axis * axis.dot(from)).normalized();
}

double Cylinder::facing() const { return placeOf(Vector3d(0, 0, 0)).x(); }

double Cylinder::visible() const {
    const double distance = (middle - axis * axis.dot(middle)).norm();
    return std::acos(std::min(1.0, 1 / std::max(1.0, distance)));
}

Cylinder Cylinder::moved(const SurfacePose& pose) const {
    return {pose.matrix * axis, pose.matrix * middle + pose.shift, pose.matrix * front};
}

std::optional<Vector2d> SurfaceGeometry::carried(const SurfacePose& pose, const Vector2d& place) const {
    if (!cylinder) {
        const Vector3d to = pose.matrix * straightened(lens, place).homogeneous();
        if (!(to.z() * pose.matrix.determinant() > 1e-12)) return std::nullopt;
        return bent(lens, to.hnormalized());
    }
    const Vector3d point = cylinder->met(rayOf(*lens, place));
    const Vector3d to = pose.matrix * point + pose.shift;
    const Vector3d normal = pose.matrix * cylinder->normal(cylinder->placeOf(point).x());
    if (!(to.z() > 1e-6) || normal.dot(to) >= 0) return std::nullopt;
    return seenAt(*lens, to);
}

Matrix3d SurfaceGeometry::flat(const SurfacePose& pose, const Vector2d& about) const {
    if (!cylinder) return pose.matrix;
    const Vector3d point = cylinder->met(rayOf(*lens, about));
    const Vector3d normal = cylinder->normal(cylinder->placeOf(point).x());
    const Matrix3d pixels = pixelsFromRays(*lens);
    const Matrix3d matrix =
        pixels * (pose.matrix + pose.shift * normal.transpose() / normal.dot(point)) * pixels.inverse();
    return matrix / matrix(2, 2);
}

SurfaceGeometry SurfaceGeometry::moved(const SurfacePose& pose) const {
    return {lens, cylinder ? std::optional(cylinder->moved(pose)) : std::nullopt};
}

SurfacePose bodySeenAt(const Lens& lens, std::span<const Vector3d> points, std::span<const Vector2d> targets,
                       const SurfacePose& start) {
    const Matrix3d pixels = pixelsFromRays(lens);
    Vector3d middle(0, 0, 0);
    for (const Vector3d& point : points) middle += (start.matrix * point + start.shift) / double(points.size());
    // A pixel or so against a turn of some degrees.
    const double held = double(points.size()) * std::pow(0.02 * pixels(1, 1) / std::max(1.0, middle.z()), 2);
    SurfacePose pose = start;
    for (int round = 0; round < 8; ++round) {
        Eigen::Matrix<double, 6, 6> normal = held * Eigen::Matrix<double, 6, 6>::Identity();
        Eigen::Matrix<double, 6, 1> right = Eigen::Matrix<double, 6, 1>::Zero();
        for (std::size_t i = 0; i < points.size(); ++i) {
            const Vector3d to = pose.matrix * points[i] + pose.shift, arm = to - middle;
            const double z = to.z();
            if (!(z > 1e-6)) continue;
            Eigen::Matrix<double, 2, 3> seen;
            seen << pixels(0, 0) / z, 0, -pixels(0, 0) * to.x() / (z * z), 0, pixels(1, 1) / z,
                -pixels(1, 1) * to.y() / (z * z);
            Eigen::Matrix<double, 3, 6> motion;
            motion.leftCols<3>().setIdentity();
            motion.rightCols<3>() << 0, arm.z(), -arm.y(), -arm.z(), 0, arm.x(), arm.y(), -arm.x(), 0;
            const Eigen::Matrix<double, 2, 6> slope = seen * motion;
            normal += slope.transpose() * slope;
            right += slope.transpose() * (targets[i] - Vector2d((pixels * to).hnormalized()));
        }
        const Eigen::Matrix<double, 6, 1> step = solvedSymmetric(normal, right);
        if (!step.allFinite()) return start;
        const Vector3d turn = step.tail<3>();
        const Matrix3d matrix = turn.norm() > 1e-15
                                    ? Eigen::AngleAxisd(turn.norm(), turn.normalized()).toRotationMatrix()
                                    : Matrix3d(Matrix3d::Identity());
        pose = SurfacePose{matrix, step.head<3>() + middle - matrix * middle} * pose;
        if (step.norm() < 1e-7) break;
    }
    return pose;
}

}  // namespace pinion
