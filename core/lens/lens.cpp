#include "lens/lens.h"

#include <Eigen/LU>
#include <cmath>
#include <limits>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::Vector2d;

Vector2d planeFromPixels(const Lens& lens, const Vector2d& pixels) {
    return {(pixels.x() - lens.cx) / (lens.focal_px * lens.squeeze), (pixels.y() - lens.cy) / lens.focal_px};
}

Vector2d pixelsFromPlane(const Lens& lens, const Vector2d& plane) {
    return {plane.x() * lens.focal_px * lens.squeeze + lens.cx, plane.y() * lens.focal_px + lens.cy};
}

constexpr double kMostValue = 1e9, kMostSqueeze = 100;  // beyond, numbers are no lens's
constexpr double kMostOffset = 1e6;                     // pixels that a field moves a place by
constexpr int kMostCells = 4096;
constexpr double kMostBend = 100;     // that a term moves the corner by, of its distance from the middle
constexpr double kFarthestAxis = 50;  // from the plate's middle, in its widths

constexpr double kNowhere = std::numeric_limits<double>::quiet_NaN();

Expected<void> checkField(const Lens& lens) {
    const LensField& field = *lens.field;
    if (lens.k1 != 0 || lens.k2 != 0 || lens.k3 != 0 || lens.p1 != 0 || lens.p2 != 0)
        return failure(Fault::input, "it has both a field and coefficients; one of them bends");
    if (field.width() != lens.width || field.height() != lens.height)
        return failure(Fault::input, "its field is for {}x{}, the lens for {}x{}", field.width(), field.height(),
                       lens.width, lens.height);
    if (const auto fold = field.fold())
        return failure(Fault::input,
                       "this distortion folds the picture over or turns it on its head at ({:.0f}, {:.0f})", fold->x(),
                       fold->y());
    return {};
}

}  // namespace

Lens atFocal(const Lens& lens, double focal_px) {
    Lens carried = lens;
    const double ratio = focal_px / lens.focal_px;
    carried.k1 *= ratio * ratio;
    carried.k2 *= std::pow(ratio, 4);
    carried.k3 *= std::pow(ratio, 6);
    carried.p1 *= ratio;
    carried.p2 *= ratio;
    carried.focal_px = focal_px;
    return carried;
}

Lens atSize(const Lens& lens, int width, int height) {
    Lens other = lens;
    const double ratio = double(width) / lens.width;
    other.width = width;
    other.height = height;
    other.focal_px *= ratio;
    other.cx *= ratio;
    other.cy *= ratio;
    if (lens.field) other.field = SharedField(lens.field->scaled(ratio, width, height));
    return other;
}

Lens pinholeLens(int width, int height, double focal_px) {
    return {.width = width, .height = height, .focal_px = focal_px, .cx = width / 2.0, .cy = height / 2.0};
}

Vector2d distort(const Lens& lens, const Vector2d& plane) {
    if (lens.field) {
        const auto plate = lens.field->plateFrom(pixelsFromPlane(lens, plane));
        return plate ? planeFromPixels(lens, *plate) : Vector2d::Constant(kNowhere);
    }
    const double x = plane.x();
    const double y = plane.y();
    const double r2 = x * x + y * y;
    const double radial = 1 + r2 * (lens.k1 + r2 * (lens.k2 + r2 * lens.k3));
    return {x * radial + 2 * lens.p1 * x * y + lens.p2 * (r2 + 2 * x * x),
            y * radial + lens.p1 * (r2 + 2 * y * y) + 2 * lens.p2 * x * y};
}

Matrix2d distortionJacobian(const Lens& lens, const Vector2d& plane) {
    if (lens.field) {
        const auto plate = lens.field->plateFrom(pixelsFromPlane(lens, plane));
        if (!plate) return Matrix2d::Constant(kNowhere);
        const Eigen::DiagonalMatrix<double, 2> pixels(lens.focal_px * lens.squeeze, lens.focal_px);
        const Matrix2d plateByPixels = (Matrix2d::Identity() + lens.field->at(*plate).slope).inverse();
        return pixels.inverse() * plateByPixels * pixels;
    }
    const double x = plane.x();
    const double y = plane.y();
    const double r2 = x * x + y * y;
    const double radial = 1 + r2 * (lens.k1 + r2 * (lens.k2 + r2 * lens.k3));
    const double slope = lens.k1 + r2 * (2 * lens.k2 + r2 * 3 * lens.k3);  // d radial / d r2
    Matrix2d jacobian;
    jacobian << radial + 2 * x * x * slope + 2 * lens.p1 * y + 6 * lens.p2 * x,
        2 * x * y * slope + 2 * lens.p1 * x + 2 * lens.p2 * y, 2 * x * y * slope + 2 * lens.p1 * x + 2 * lens.p2 * y,
        radial + 2 * y * y * slope + 6 * lens.p1 * y + 2 * lens.p2 * x;
    return jacobian;
}

double planeRadiusLimit(const Lens& lens) {
    // The radius grows with the undistorted one while 1 + 3 k1 r2 + 5 k2 r4 + 7 k3 r6 > 0; find its first root in r2.
    const auto slope = [&](double r2) { return 1 + r2 * (3 * lens.k1 + r2 * (5 * lens.k2 + r2 * 7 * lens.k3)); };
    if (lens.k1 >= 0 && lens.k2 >= 0 && lens.k3 >= 0) return std::numeric_limits<double>::infinity();
    double below = 0.0;
    for (double r2 = 0.01; r2 < 1e4; r2 *= 1.05) {
        if (slope(r2) <= 0) {
            double above = r2;
            for (int i = 0; i < 60; ++i) {
                const double middle = 0.5 * (below + above);
                (slope(middle) > 0 ? below : above) = middle;
            }
            return std::sqrt(below);
        }
        below = r2;
    }
    return std::numeric_limits<double>::infinity();
}

std::optional<Vector2d> undistort(const Lens& lens, const Vector2d& distorted) {
    if (!distorted.allFinite()) return std::nullopt;
    if (!lens.isDistorted()) return distorted;
    if (lens.field) {
        const auto straight = lens.field->undistortedFrom(pixelsFromPlane(lens, distorted));
        return straight ? std::optional(planeFromPixels(lens, *straight)) : std::nullopt;
    }
    // Plain Newton from the distorted place; where the lens is mild that is all it takes.
    Vector2d plane = distorted;
    for (int i = 0; i < 8; ++i) {
        const Vector2d residual = distort(lens, plane) - distorted;
        const double r2 = plane.squaredNorm();
        const bool surelyInside =
            r2 * (3 * std::abs(lens.k1) + r2 * (5 * std::abs(lens.k2) + r2 * 7 * std::abs(lens.k3))) < 0.8;
        if (!surelyInside) break;
        if (residual.squaredNorm() < 1e-26) return plane;
        plane -= distortionJacobian(lens, plane).inverse() * residual;
    }
    const double limit = planeRadiusLimit(lens);
    plane = distorted;
    // Started inside the growing part, Newton stays there: steps that would leave it are shortened.
    if (plane.norm() > 0.9 * limit) plane *= 0.9 * limit / plane.norm();
    for (int i = 0; i < 40; ++i) {
        const Vector2d residual = distort(lens, plane) - distorted;
        if (residual.squaredNorm() < 1e-26) break;
        Vector2d step = distortionJacobian(lens, plane).inverse() * residual;
        if (!step.allFinite()) return std::nullopt;
        for (int halving = 0; halving < 12 && (plane - step).norm() > limit; ++halving) step *= 0.5;
        plane -= step;
    }
    if (!plane.allFinite() || plane.norm() > limit) return std::nullopt;
    if ((distort(lens, plane) - distorted).norm() > 1e-10) return std::nullopt;
    return plane;
}

std::optional<Vector2d> planeFromPlate(const Lens& lens, const Vector2d& plate) {
    return undistort(lens, planeFromPixels(lens, plate));
}

std::optional<Vector2d> plateFromPlane(const Lens& lens, const Vector2d& plane) {
    if (lens.field) return lens.field->plateFrom(pixelsFromPlane(lens, plane));
    // Most points lie where no set of such coefficients could fold; only the others need the limit itself.
    const double r2 = plane.squaredNorm();
    const bool surelyInside =
        r2 * (3 * std::abs(lens.k1) + r2 * (5 * std::abs(lens.k2) + r2 * 7 * std::abs(lens.k3))) < 1;
    if (!surelyInside && lens.isDistorted() && plane.norm() > planeRadiusLimit(lens)) return std::nullopt;
    return pixelsFromPlane(lens, distort(lens, plane));
}

std::optional<Vector2d> undistortedFromPlate(const Lens& lens, const Vector2d& plate) {
    const auto plane = planeFromPlate(lens, plate);
    if (!plane) return std::nullopt;
    return pixelsFromPlane(lens, *plane);
}

std::optional<Vector2d> plateFromUndistorted(const Lens& lens, const Vector2d& undistorted) {
    return plateFromPlane(lens, planeFromPixels(lens, undistorted));
}

Expected<void> checkLensValues(const Lens& lens) {
    if (lens.width < 1 || lens.height < 1 || lens.width > 65536 || lens.height > 65536 ||
        std::int64_t(lens.width) * lens.height > (std::int64_t(1) << 28))
        return failure(Fault::input, "the size {}x{} is no plate size", lens.width, lens.height);
    for (double value : {lens.focal_px, lens.k1, lens.k2, lens.k3, lens.p1, lens.p2, lens.cx, lens.cy, lens.squeeze})
        if (!std::isfinite(value)) return failure(Fault::input, "a value is not a finite number");
    if (lens.focal_px <= 0) return failure(Fault::input, "focal_px is {}, it has to be above 0", lens.focal_px);
    if (lens.squeeze <= 0) return failure(Fault::input, "squeeze is {}, it has to be above 0", lens.squeeze);
    if (lens.focal_px > kMostValue || lens.squeeze > kMostSqueeze || lens.squeeze < 1 / kMostSqueeze)
        return failure(Fault::input, "focal_px {} with a squeeze of {} is no lens's", lens.focal_px, lens.squeeze);
    for (double value : {lens.k1, lens.k2, lens.k3, lens.p1, lens.p2, lens.cx, lens.cy})
        if (std::abs(value) > kMostValue) return failure(Fault::input, "the value {:g} is no lens's", value);
    if (!lens.field) return {};
    const LensField& field = *lens.field;
    if (field.columns() < 1 || field.rows() < 1 || field.columns() > kMostCells || field.rows() > kMostCells)
        return failure(Fault::input, "a field of {}x{} cells is none", field.columns(), field.rows());
    if (field.coefficients().size() != std::size_t(field.columns() + 3) * std::size_t(field.rows() + 3))
        return failure(Fault::input, "a field of {}x{} cells has {} values, {} are there", field.columns(),
                       field.rows(), std::size_t(field.columns() + 3) * std::size_t(field.rows() + 3),
                       field.coefficients().size());
    for (const Vector2d& one : field.coefficients())
        if (!(one.cwiseAbs().maxCoeff() <= kMostOffset))
            return failure(Fault::input, "its field moves a place by ({:g}, {:g}) pixels", one.x(), one.y());
    return {};
}

Expected<void> checkLens(const Lens& lens) {
    if (auto values = checkLensValues(lens); !values) return values;
    const double reach = std::hypot(lens.width, lens.height) / (2 * lens.focal_px), r2 = reach * reach;
    for (const double share :
         {lens.k1 * r2, lens.k2 * r2 * r2, lens.k3 * r2 * r2 * r2, lens.p1 * reach, lens.p2 * reach})
        if (!(std::abs(share) <= kMostBend))
            return failure(Fault::input, "it moves the plate's corner by {:.3g} times its distance from the middle",
                           share);
    if (std::abs(lens.cx - 0.5 * lens.width) > kFarthestAxis * lens.width ||
        std::abs(lens.cy - 0.5 * lens.height) > kFarthestAxis * lens.height)
        return failure(Fault::input, "its axis at ({:.0f}, {:.0f}) lies far outside the plate", lens.cx, lens.cy);
    if (lens.field)
        if (auto sound = checkField(lens); !sound) return sound;
    const double w = lens.width;
    const double h = lens.height;
    for (const Vector2d& corner : {Vector2d(0, 0), Vector2d(w, 0), Vector2d(w, h), Vector2d(0, h)})
        if (!planeFromPlate(lens, corner))
            return failure(Fault::input,
                           "this distortion folds the picture over before it reaches the corner ({:.0f}, {:.0f})",
                           corner.x(), corner.y());
    return {};
}

}  // namespace pinion
