#include "camera/bundle.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <cmath>
#include <limits>

namespace pinion {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

Lens zoomed(const Lens& lens, double k1Slope, double focal_px) {
    Lens own = lens;
    own.focal_px = focal_px;
    own.k1 += k1Slope * std::log(focal_px / lens.focal_px);
    return own;
}

double& termOf(Lens& lens, LensTerm term) {
    switch (term) {
        case LensTerm::focal:
            return lens.focal_px;
        case LensTerm::k1:
            return lens.k1;
        case LensTerm::k2:
            return lens.k2;
        case LensTerm::k3:
            return lens.k3;
        case LensTerm::p1:
            return lens.p1;
        case LensTerm::p2:
            return lens.p2;
        case LensTerm::cx:
            return lens.cx;
        default:
            return lens.cy;
    }
}

Projection project(const Lens& lens, const Matrix3d& rotation, const Vector3d& translation, const Vector4d& point,
                   bool derivatives, double logZoom, double k1Slope) {
    Projection result;
    const Vector3d turned = rotation * point.head<3>();
    const Vector3d seen = turned + translation * point[3];
    // No plate shows what lies more than 80 degrees off the axis; there, and behind, the derivatives would mean
    // nothing.
    result.inFront = seen.z() > 0.17 * seen.head<2>().norm() && seen.z() > 0;
    if (!result.inFront) return result;
    const double depth = seen.z();
    const Vector2d plane = seen.head<2>() / depth;
    const double fx = lens.focal_px * lens.squeeze;
    const double fy = lens.focal_px;
    const Vector2d bent = distort(lens, plane);
    result.plate = Vector2d(fx * bent.x() + lens.cx, fy * bent.y() + lens.cy);
    if (!derivatives) return result;
    Eigen::Matrix2d byPlane = distortionJacobian(lens, plane);
    byPlane.row(0) *= fx;
    byPlane.row(1) *= fy;
    Eigen::Matrix<double, 2, 3> bySeen;
    bySeen << 1 / depth, 0, -plane.x() / depth, 0, 1 / depth, -plane.y() / depth;
    const Eigen::Matrix<double, 2, 3> slope = byPlane * bySeen;
    Matrix3d cross;
    cross << 0, turned.z(), -turned.y(), -turned.z(), 0, turned.x(), turned.y(), -turned.x(), 0;
    result.byCamera << slope * cross, slope * point[3];
    result.byPoint << slope * rotation, slope * translation;
    auto& byLens = result.byLens;
    const double x = plane.x(), y = plane.y();
    if (lens.field) {  // bends pixels, not the plane
        byLens.setZero();
        byLens.col(int(LensTerm::focal)) = byPlane * plane / lens.focal_px;
        byLens.col(int(LensTerm::cx)) = byPlane.col(0) / fx;
        byLens.col(int(LensTerm::cy)) = byPlane.col(1) / fy;
        return result;
    }
    const double r2 = plane.squaredNorm();
    const Vector2d scaled(fx * x, fy * y);
    byLens.col(int(LensTerm::k1)) = scaled * r2;
    byLens.col(int(LensTerm::k2)) = scaled * r2 * r2;
    byLens.col(int(LensTerm::k3)) = scaled * r2 * r2 * r2;
    byLens.col(int(LensTerm::p1)) = Vector2d(fx * 2 * x * y, fy * (r2 + 2 * y * y));
    byLens.col(int(LensTerm::p2)) = Vector2d(fx * (r2 + 2 * x * x), fy * 2 * x * y);
    byLens.col(int(LensTerm::cx)) = Vector2d(1, 0);
    byLens.col(int(LensTerm::cy)) = Vector2d(0, 1);
    byLens.col(int(LensTerm::k1Slope)) = logZoom * byLens.col(int(LensTerm::k1));
    byLens.col(int(LensTerm::focal)) =
        Vector2d(lens.squeeze * bent.x(), bent.y()) + (k1Slope / lens.focal_px) * byLens.col(int(LensTerm::k1));
    return result;
}

Eigen::Matrix<double, 4, 3> tangentOf(const Vector4d& point) {
    // The last columns of the reflection that takes the axis of the largest entry to the point.
    int largest = 0;
    point.cwiseAbs().maxCoeff(&largest);
    Vector4d v = point;
    v[largest] += point[largest] > 0 ? 1.0 : -1.0;
    const double scale = 2 / v.squaredNorm();
    Eigen::Matrix<double, 4, 3> tangent;
    for (int axis = 0, column = 0; axis < 4; ++axis) {
        if (axis == largest) continue;
        tangent.col(column) = -scale * v[axis] * v;
        tangent(axis, column++) += 1;
    }
    return tangent;
}

double errorOf(const Bundle& bundle, const Bundle::Observation& observation) {
    const auto camera = std::size_t(observation.camera);
    const Pose& pose = bundle.cameras[camera];
    const Projection projection = project(bundle.lensOf(camera), pose.rotation.toRotationMatrix(), pose.translation,
                                          bundle.points[std::size_t(observation.point)], false);
    if (!projection.inFront) return std::numeric_limits<double>::infinity();
    return (projection.plate - observation.plate).norm();
}

}  // namespace pinion
