#include "camera/bundle.h"

#include "base/cloned.h"
#include "camera/rowposes.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
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

void moveTerm(Bundle& bundle, LensTerm term, double step) {
    if (term == LensTerm::k1Slope) bundle.k1Slope += step;
    else if (term == LensTerm::readout) bundle.readout = std::clamp(bundle.readout + step, -1.0, 1.0);
    else termOf(bundle.lens, term) += step;
}

PINION_CLONED
Projection project(const Lens& lens, const Matrix3d& rotation, const Vector3d& translation, const Vector4d& point,
                   Derived derived, double logZoom, double k1Slope) {
    Projection result;
    const Vector3d turned = rotation * point.head<3>();
    const Vector3d seen = turned + translation * point[3];
    // No plate shows what lies more than 80 degrees off the axis; there, and behind, the derivatives would mean
    // nothing.
    result.inFront = seen.z() > 0 && seen.z() * seen.z() > 0.17 * 0.17 * seen.head<2>().squaredNorm();
    if (!result.inFront) return result;
    const double near = 1 / seen.z();
    const double x = seen.x() * near, y = seen.y() * near;
    const double fx = lens.focal_px * lens.squeeze;
    const double fy = lens.focal_px;
    // As `distort` and `distortionJacobian`, together: this is the innermost loop of a solve.
    const double r2 = x * x + y * y;
    const bool isField = bool(lens.field);
    const double radial = 1 + r2 * (lens.k1 + r2 * (lens.k2 + r2 * lens.k3));
    const Vector2d bent = isField ? distort(lens, {x, y})
                                  : Vector2d(x * radial + 2 * lens.p1 * x * y + lens.p2 * (r2 + 2 * x * x),
                                             y * radial + lens.p1 * (r2 + 2 * y * y) + 2 * lens.p2 * x * y);
    result.plate = Vector2d(fx * bent.x() + lens.cx, fy * bent.y() + lens.cy);
    if (derived == Derived::nothing) return result;
    Eigen::Matrix2d byPlane;
    if (isField) {
        byPlane = distortionJacobian(lens, {x, y});
    } else {
        const double slope = lens.k1 + r2 * (2 * lens.k2 + r2 * 3 * lens.k3);  // d radial / d r2
        const double mixed = 2 * x * y * slope + 2 * lens.p1 * x + 2 * lens.p2 * y;
        byPlane(0, 0) = radial + 2 * x * x * slope + 2 * lens.p1 * y + 6 * lens.p2 * x;
        byPlane(0, 1) = byPlane(1, 0) = mixed;
        byPlane(1, 1) = radial + 2 * y * y * slope + 6 * lens.p1 * y + 2 * lens.p2 * x;
    }
    byPlane.row(0) *= fx;
    byPlane.row(1) *= fy;
    for (int r = 0; r < 2; ++r) {
        const double sx = byPlane(r, 0) * near, sy = byPlane(r, 1) * near, sz = -(sx * x + sy * y);
        if (derived != Derived::byPoint) {
            result.byCamera(r, 0) = sz * turned.y() - sy * turned.z();
            result.byCamera(r, 1) = sx * turned.z() - sz * turned.x();
            result.byCamera(r, 2) = sy * turned.x() - sx * turned.y();
            result.byCamera(r, 3) = sx * point[3];
            result.byCamera(r, 4) = sy * point[3];
            result.byCamera(r, 5) = sz * point[3];
        }
        if (derived != Derived::byCamera) {
            for (int c = 0; c < 3; ++c)
                result.byPoint(r, c) = sx * rotation(0, c) + sy * rotation(1, c) + sz * rotation(2, c);
            result.byPoint(r, 3) = sx * translation.x() + sy * translation.y() + sz * translation.z();
        }
    }
    if (derived != Derived::all) return result;
    auto& byLens = result.byLens;
    if (isField) {  // bends pixels, not the plane
        byLens.setZero();
        byLens.col(int(LensTerm::focal)) = byPlane * Vector2d(x, y) / lens.focal_px;
        byLens.col(int(LensTerm::cx)) = byPlane.col(0) / fx;
        byLens.col(int(LensTerm::cy)) = byPlane.col(1) / fy;
        return result;
    }
    byLens.col(int(LensTerm::readout)).setZero();  // a row's own affair
    const Vector2d scaled(fx * x, fy * y);
    byLens.col(int(LensTerm::k1)) = scaled * r2;
    byLens.col(int(LensTerm::k2)) = scaled * (r2 * r2);
    byLens.col(int(LensTerm::k3)) = scaled * (r2 * r2 * r2);
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

RowLens rowLens(const Bundle& bundle, std::size_t camera, const RowPoses::Slopes& slopes) {
    RowLens row{bundle.lens, 0, 0};
    if (!bundle.isZoom()) return row;
    double focal = 0;
    for (std::size_t k = 0; k < std::size_t(slopes.count); ++k) {
        focal += slopes.weights[k] * bundle.focals[std::size_t(slopes.cameras[k])];
        row.focalByTime += slopes.speeds[k] * bundle.focals[std::size_t(slopes.cameras[k])];
    }
    if (!(focal > 0)) focal = bundle.focals[camera];
    row.logZoom = std::log(focal / bundle.lens.focal_px);
    row.lens = zoomed(bundle.lens, bundle.k1Slope, focal);
    return row;
}

std::vector<Vector2d> modelledPlaces(const Bundle& bundle) {
    const RowPoses rows(std::span(bundle.cameras).first(bundle.readout != 0 ? bundle.cameras.size() : 0), bundle.times);
    std::vector<Vector2d> places;
    places.reserve(bundle.observations.size());
    for (const auto& seen : bundle.observations) {
        const auto camera = std::size_t(seen.camera);
        Pose pose = bundle.cameras[camera];
        Lens lens;
        if (bundle.readout != 0) {
            RowPoses::Slopes slopes;
            pose = rows.at(camera, bundle.readout * seen.row, &slopes);
            lens = rowLens(bundle, camera, slopes).lens;
        } else {
            lens = bundle.lensOf(camera);
        }
        const Projection projection = project(lens, pose.rotation.toRotationMatrix(), pose.translation,
                                              bundle.points[std::size_t(seen.point)], Derived::nothing);
        places.push_back(projection.inFront ? projection.plate
                                            : Vector2d::Constant(std::numeric_limits<double>::infinity()));
    }
    return places;
}

}  // namespace pinion
