#pragma once

#include <Eigen/Core>

#include <complex>
#include <optional>

namespace pinion {

// Dense linear algebra of small matrices, compiled once: in every source that uses them, the solvers' templates are
// most of what the compiler has to do. Matrices are plain ones, columns first.

namespace linear {
void solveSymmetric(const double* matrix, Eigen::Index size, double* right, Eigen::Index columns);
void spectrum(const double* matrix, Eigen::Index size, double* values, double* vectors);
}  // namespace linear

/// x with `matrix` x = `right`; the matrix is symmetric, its lower triangle is read. LDLᵀ with pivoting. Not finite
/// where the matrix is.
template <class Matrix, class Right>
Right solvedSymmetric(const Matrix& matrix, const Right& right) {
    static_assert(!Matrix::IsRowMajor && !Right::IsRowMajor);
    Right result = right;
    linear::solveSymmetric(matrix.data(), matrix.rows(), result.data(), result.cols());
    return result;
}

/// Of a symmetric matrix: eigenvalues that rise, and their vectors of length one as columns.
template <int N>
struct Spectrum {
    Eigen::Matrix<double, N, 1> values;
    Eigen::Matrix<double, N, N> vectors;
};
/// The matrix's lower triangle is read.
template <int N>
Spectrum<N> spectrumOf(const Eigen::Matrix<double, N, N>& matrix) {
    static_assert(N > 0);
    Spectrum<N> result;
    linear::spectrum(matrix.data(), N, result.values.data(), result.vectors.data());
    return result;
}

/// matrix = u · diag(values) · vᵀ, values that fall.
struct SingularValues {
    Eigen::Matrix3d u;
    Eigen::Vector3d values;
    Eigen::Matrix3d v;
};
SingularValues singularValuesOf(const Eigen::Matrix3d& matrix);
/// The larger one first.
Eigen::Vector2d singularValuesOf(const Eigen::Matrix2d& matrix);

/// The rotation nearest to a matrix (Kabsch 1976; Umeyama 1991).
Eigen::Matrix3d nearestRotation(const Eigen::Matrix3d& matrix);

/// Of any square matrix; none where it does not converge.
std::optional<Eigen::VectorXcd> eigenvaluesOf(const Eigen::MatrixXd& matrix);
struct GeneralSpectrum {
    Eigen::VectorXcd values;
    Eigen::MatrixXcd vectors;
};
std::optional<GeneralSpectrum> generalSpectrumOf(const Eigen::MatrixXd& matrix);

/// x with `matrix` x = `right` of a square matrix (LU with partial pivoting).
Eigen::MatrixXd solved(const Eigen::MatrixXd& matrix, const Eigen::MatrixXd& right);
Eigen::MatrixXd inverseOf(const Eigen::MatrixXd& matrix);

/// x that makes `rows` x - `right` least (QR with column pivoting).
Eigen::VectorXd leastSquares(const Eigen::MatrixXd& rows, const Eigen::VectorXd& right);
/// A whole orthonormal basis: its first columns span those of the matrix, the others what is left.
Eigen::MatrixXd fullBasisOf(const Eigen::MatrixXd& columns);

/// The motion, with a change of size if that is wanted, that takes points to others (Umeyama 1991).
Eigen::Matrix4d similarityBetween(const Eigen::Matrix3Xd& from, const Eigen::Matrix3Xd& to, bool scales);

}  // namespace pinion
