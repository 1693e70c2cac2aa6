#include "base/linear.h"

#include <Eigen/Eigenvalues>
#include <Eigen/Geometry>
#include <Eigen/LU>
#include <Eigen/SVD>

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
    return Eigen::JacobiSVD<Eigen::Matrix2d>(matrix).singularValues();
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
    return Eigen::umeyama(from, to, scales);
}

}  // namespace pinion
