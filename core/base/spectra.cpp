#include "base/linear.h"

#include <Eigen/Eigenvalues>
#include <Eigen/SVD>
#include <algorithm>
#include <cmath>

namespace pinion {

void linear::spectrum(const double* matrix, Eigen::Index size, double* values, double* vectors) {
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> solver(Eigen::Map<const Eigen::MatrixXd>(matrix, size, size));
    Eigen::Map<Eigen::VectorXd>(values, size) = solver.eigenvalues();
    Eigen::Map<Eigen::MatrixXd>(vectors, size, size) = solver.eigenvectors();
}

SingularValues singularValuesOf(const Eigen::Matrix3d& matrix) {
    const Eigen::JacobiSVD<Eigen::Matrix3d, Eigen::NoQRPreconditioner> svd(matrix,
                                                                           Eigen::ComputeFullU | Eigen::ComputeFullV);
    return {svd.matrixU(), svd.singularValues(), svd.matrixV()};
}

Eigen::Vector2d singularValuesOf(const Eigen::Matrix2d& matrix) {
    // Of its square; the smaller one by the determinant, which keeps its digits.
    const double squares = matrix.squaredNorm(), area = std::abs(matrix.determinant());
    const double larger = std::sqrt(0.5 * (squares + std::sqrt(std::max(0.0, squares * squares - 4 * area * area))));
    return {larger, larger > 0 ? area / larger : 0.0};
}

Eigen::Matrix3d nearestRotation(const Eigen::Matrix3d& matrix) {
    const SingularValues svd = singularValuesOf(matrix);
    Eigen::Matrix3d mirror = Eigen::Matrix3d::Identity();
    mirror(2, 2) = (svd.u * svd.v.transpose()).determinant() < 0 ? -1 : 1;
    return svd.u * mirror * svd.v.transpose();
}

std::optional<Eigen::VectorXcd> eigenvaluesOf(const Eigen::MatrixXd& matrix) {
    const Eigen::EigenSolver<Eigen::MatrixXd> solver(matrix, false);
    return solver.info() == Eigen::Success ? std::optional<Eigen::VectorXcd>(solver.eigenvalues()) : std::nullopt;
}

std::optional<GeneralSpectrum> generalSpectrumOf(const Eigen::MatrixXd& matrix) {
    const Eigen::EigenSolver<Eigen::MatrixXd> solver(matrix);
    if (solver.info() != Eigen::Success) return std::nullopt;
    return GeneralSpectrum{solver.eigenvalues(), solver.eigenvectors()};
}

Eigen::Matrix4d similarityBetween(const Eigen::Matrix3Xd& from, const Eigen::Matrix3Xd& to, bool scales) {
    const Eigen::Vector3d fromMiddle = from.rowwise().mean(), toMiddle = to.rowwise().mean();
    Eigen::Matrix3d sum = Eigen::Matrix3d::Zero();
    double squares = 0;
    for (Eigen::Index i = 0; i < from.cols(); ++i) {
        sum += (to.col(i) - toMiddle) * (from.col(i) - fromMiddle).transpose();
        squares += (from.col(i) - fromMiddle).squaredNorm();
    }
    const Eigen::Matrix3d rotation = nearestRotation(sum);
    const double scale = scales ? (rotation.transpose() * sum).trace() / squares : 1.0;
    Eigen::Matrix4d moved = Eigen::Matrix4d::Identity();
    moved.topLeftCorner<3, 3>() = scale * rotation;
    moved.topRightCorner<3, 1>() = toMiddle - scale * rotation * fromMiddle;
    return moved;
}

}  // namespace pinion
