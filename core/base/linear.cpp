#include "base/linear.h"

#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <Eigen/QR>

namespace pinion {

namespace {

/// Without an allocation up to a size that nearly all have.
constexpr Eigen::Index kSmall = 10;
using Small = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::ColMajor, kSmall, kSmall>;

template <class Matrix>
void solveAs(const double* matrix, Eigen::Index size, double* right, Eigen::Index columns) {
    const Eigen::LDLT<Matrix> solver(Eigen::Map<const Eigen::MatrixXd>(matrix, size, size));
    for (Eigen::Index i = 0; i < columns; ++i) {
        Eigen::Map<Eigen::VectorXd> column(right + i * size, size);
        column = solver.solve(column).eval();
    }
}

}  // namespace

void linear::solveSymmetric(const double* matrix, Eigen::Index size, double* right, Eigen::Index columns) {
    if (size <= kSmall) solveAs<Small>(matrix, size, right, columns);
    else solveAs<Eigen::MatrixXd>(matrix, size, right, columns);
}

Eigen::MatrixXd solved(const Eigen::MatrixXd& matrix, const Eigen::MatrixXd& right) {
    return matrix.partialPivLu().solve(right);
}

Eigen::MatrixXd inverseOf(const Eigen::MatrixXd& matrix) { return matrix.inverse(); }

Eigen::VectorXd leastSquares(const Eigen::MatrixXd& rows, const Eigen::VectorXd& right) {
    return rows.colPivHouseholderQr().solve(right);
}

Eigen::MatrixXd fullBasisOf(const Eigen::MatrixXd& columns) {
    return Eigen::HouseholderQR<Eigen::MatrixXd>(columns).householderQ();
}

}  // namespace pinion
