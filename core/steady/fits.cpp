#include "steady/fits.h"

#include "base/linear.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <cmath>

namespace pinion::fits {

using Eigen::Matrix3d;
using Eigen::Vector2d;

Matrix3d similarityOf(const std::vector<Pair>& pairs) {
    double total = 0;
    Vector2d from(0, 0), to(0, 0);
    for (const Pair& p : pairs) {
        total += p.weight;
        from += p.weight * p.from;
        to += p.weight * p.to;
    }
    if (total <= 0) return Matrix3d::Identity();
    from /= total;
    to /= total;
    double along = 0, across = 0, spread = 0;
    for (const Pair& p : pairs) {
        const Vector2d a = p.from - from, b = p.to - to;
        along += p.weight * a.dot(b);
        across += p.weight * (a.x() * b.y() - a.y() * b.x());
        spread += p.weight * a.squaredNorm();
    }
    Matrix3d result = Matrix3d::Identity();
    if (spread > 1e-9) {
        result(0, 0) = result(1, 1) = along / spread;
        result(1, 0) = across / spread;
        result(0, 1) = -across / spread;
    }
    result.topRightCorner<2, 1>() = to - result.topLeftCorner<2, 2>() * from;
    return result;
}

namespace {

/// Takes places around the middle and to a mean distance of one.
Matrix3d normaliserOf(const std::vector<Pair>& pairs, Vector2d Pair::*place) {
    Vector2d middle(0, 0);
    double total = 0, distance = 0;
    for (const Pair& p : pairs) {
        middle += p.weight * p.*place;
        total += p.weight;
    }
    middle /= total;
    for (const Pair& p : pairs) distance += p.weight * (p.*place - middle).norm() / total;
    const double scale = 1 / std::max(1e-9, distance);
    Matrix3d normal = Matrix3d::Identity() * scale;
    normal.topRightCorner<2, 1>() = -scale * middle;
    normal(2, 2) = 1;
    return normal;
}

}  // namespace

Matrix3d homographyOf(const std::vector<Pair>& pairs) {
    double total = 0;
    for (const Pair& p : pairs) total += p.weight;
    if (pairs.size() < 4 || !(total > 0)) return Matrix3d::Identity();
    const Matrix3d from = normaliserOf(pairs, &Pair::from), to = normaliserOf(pairs, &Pair::to);
    Eigen::Matrix<double, 9, 9> normal = Eigen::Matrix<double, 9, 9>::Zero();
    for (const Pair& pair : pairs) {
        const Vector2d p = (from * pair.from.homogeneous()).hnormalized(),
                       q = (to * pair.to.homogeneous()).hnormalized();
        Eigen::Matrix<double, 2, 9> rows;
        rows << p.x(), p.y(), 1, 0, 0, 0, -q.x() * p.x(), -q.x() * p.y(), -q.x(), 0, 0, 0, p.x(), p.y(), 1,
            -q.y() * p.x(), -q.y() * p.y(), -q.y();
        normal += (pair.weight * rows.transpose()).lazyProduct(rows);
    }
    const Spectrum<9> spectrum = spectrumOf(normal);
    // Two solutions as good as each other are none.
    if (!(spectrum.values[1] > 1e-10 * spectrum.values[8])) return Matrix3d::Identity();
    const Eigen::Matrix<double, 9, 1> h = spectrum.vectors.col(0);
    Matrix3d result;
    result << h[0], h[1], h[2], h[3], h[4], h[5], h[6], h[7], h[8];
    for (int round = 0; round < 4 && pairs.size() > 4; ++round) {
        if (std::abs(result(2, 2)) < 1e-9) break;
        result /= result(2, 2);
        Eigen::Matrix<double, 8, 8> system = Eigen::Matrix<double, 8, 8>::Identity() * 1e-12;
        Eigen::Matrix<double, 8, 1> right = Eigen::Matrix<double, 8, 1>::Zero();
        for (const Pair& pair : pairs) {
            const Vector2d p = (from * pair.from.homogeneous()).hnormalized(),
                           q = (to * pair.to.homogeneous()).hnormalized();
            const Eigen::Vector3d at = result * p.homogeneous();
            const Vector2d now = at.hnormalized();
            Eigen::Matrix<double, 2, 8> slope;
            slope << p.x(), p.y(), 1, 0, 0, 0, -now.x() * p.x(), -now.x() * p.y(), 0, 0, 0, p.x(), p.y(), 1,
                -now.y() * p.x(), -now.y() * p.y();
            slope /= at.z();
            system += (pair.weight * slope.transpose()).lazyProduct(slope);
            right += pair.weight * slope.transpose() * (q - now);
        }
        const Eigen::Matrix<double, 8, 1> step = solvedSymmetric(system, right);
        if (!step.allFinite()) break;
        for (int i = 0; i < 8; ++i) result(i / 3, i % 3) += step[i];
    }
    result = to.inverse() * result * from;
    return std::abs(result(2, 2)) > 1e-12 ? Matrix3d(result / result(2, 2)) : Matrix3d::Identity();
}

double biweight(double residual, double width) {
    const double r = residual / width;
    return r >= 1 ? 0.0 : (1 - r * r) * (1 - r * r);
}

}  // namespace pinion::fits
