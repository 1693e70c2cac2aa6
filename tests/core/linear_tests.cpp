#include "base/linear.h"

#include <catch2/catch.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <limits>
#include <random>

using namespace pinion;
using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::MatrixXd;
using Eigen::Vector3d;
using Eigen::VectorXd;

namespace {

MatrixXd randomMatrix(Eigen::Index rows, Eigen::Index columns, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> normal;
    MatrixXd matrix(rows, columns);
    for (double& value : matrix.reshaped()) value = normal(random);
    return matrix;
}

}  // namespace

TEST_CASE("symmetric systems of any size are solved, indefinite ones too, by their lower triangle alone") {
    for (const Eigen::Index size : {1, 2, 3, 6, 9, 10, 11, 40})
        for (unsigned seed = 0; seed < 5; ++seed) {
            const MatrixXd any = randomMatrix(size, size, 100 * unsigned(size) + seed);
            MatrixXd matrix = any + any.transpose();
            const MatrixXd right = randomMatrix(size, 3, seed);
            const MatrixXd expected = matrix.fullPivLu().solve(right);
            const double room = 1e-9 * (1 + expected.norm()) / std::min(1.0, matrix.fullPivLu().rcond() * 1e3);
            CHECK((solvedSymmetric(matrix, right) - expected).norm() < room);
            matrix.triangularView<Eigen::StrictlyUpper>().setConstant(std::numeric_limits<double>::quiet_NaN());
            CHECK((solvedSymmetric(matrix, right) - expected).norm() < room);
        }
    Matrix2d unknown = Matrix2d::Constant(std::numeric_limits<double>::quiet_NaN());
    CHECK_FALSE(solvedSymmetric(unknown, Eigen::Vector2d(1, 2)).allFinite());
}

TEST_CASE("a spectrum rises, its vectors are orthonormal and make the matrix again") {
    for (unsigned seed = 0; seed < 20; ++seed) {
        const MatrixXd any = randomMatrix(4, 4, seed);
        const Eigen::Matrix4d matrix = any + any.transpose();
        const Spectrum<4> spectrum = spectrumOf(matrix);
        CHECK(std::is_sorted(spectrum.values.begin(), spectrum.values.end()));
        CHECK((spectrum.vectors.transpose() * spectrum.vectors - Eigen::Matrix4d::Identity()).norm() < 1e-12);
        CHECK((spectrum.vectors * spectrum.values.asDiagonal() * spectrum.vectors.transpose() - matrix).norm() < 1e-11);
    }
    // Of points on a line two are nothing.
    const Vector3d along(1, 2, 2);
    const Spectrum<3> line = spectrumOf(Matrix3d(along * along.transpose()));
    CHECK(line.values[2] == Approx(9));
    CHECK(std::abs(line.values[1]) < 1e-12);
    CHECK(std::abs(line.vectors.col(2).dot(along)) == Approx(3));
}

TEST_CASE("singular values fall and make the matrix again; the nearest rotation of a mirrored one turns all the same") {
    for (unsigned seed = 0; seed < 20; ++seed) {
        Matrix3d matrix = randomMatrix(3, 3, seed);
        if (seed % 4 == 3) matrix.col(2) = matrix.col(0) + matrix.col(1);  // flat
        const SingularValues svd = singularValuesOf(matrix);
        CHECK(svd.values[0] >= svd.values[1]);
        CHECK(svd.values[1] >= svd.values[2]);
        CHECK((svd.u * svd.values.asDiagonal() * svd.v.transpose() - matrix).norm() < 1e-12 * (1 + matrix.norm()));
        const Matrix3d rotation = nearestRotation(matrix);
        CHECK(rotation.determinant() == Approx(1));
        CHECK((rotation.transpose() * rotation - Matrix3d::Identity()).norm() < 1e-12);
        // No turn of it lies nearer.
        for (int axis = 0; axis < 3; ++axis)
            for (const double turn : {-0.01, 0.01}) {
                const Matrix3d other = Eigen::AngleAxisd(turn, Vector3d::Unit(axis)) * rotation;
                CHECK((other - matrix).norm() >= (rotation - matrix).norm() - 1e-12);
            }
    }
    Matrix2d thin;
    thin << 1, 1, 1, 1 + 1e-9;
    CHECK(singularValuesOf(thin)[0] == Approx(2));
    CHECK(singularValuesOf(thin)[1] == Approx(0.5e-9).epsilon(1e-3));
}

TEST_CASE("eigenvalues of a companion matrix are the roots of its polynomial") {
    // (x - 1)(x + 2)(x^2 + 1) = x^4 + x^3 - x^2 + x - 2
    Eigen::Matrix4d companion = Eigen::Matrix4d::Zero();
    companion.col(3) << 2, -1, 1, -1;
    companion(1, 0) = companion(2, 1) = companion(3, 2) = 1;
    const auto values = eigenvaluesOf(companion);
    const auto spectrum = generalSpectrumOf(companion);
    REQUIRE(values);
    REQUIRE(spectrum);
    for (const std::complex<double> root : {std::complex<double>(1, 0), {-2, 0}, {0, 1}, {0, -1}}) {
        const auto isIt = [&](const std::complex<double>& value) { return std::abs(value - root) < 1e-9; };
        CHECK(std::count_if(values->begin(), values->end(), isIt) == 1);
        CHECK(std::count_if(spectrum->values.begin(), spectrum->values.end(), isIt) == 1);
    }
    for (int i = 0; i < 4; ++i)
        CHECK((companion * spectrum->vectors.col(i) - spectrum->values[i] * spectrum->vectors.col(i)).norm() < 1e-9);
}

TEST_CASE("a line is fitted as the textbook has it, and a basis is filled up") {
    // Anscombe, Graphs in Statistical Analysis (1973), first set; from memory: y = 3.00 + 0.500 x.
    const std::array<double, 11> x{10, 8, 13, 9, 11, 14, 6, 4, 12, 7, 5},
        y{8.04, 6.95, 7.58, 8.81, 8.33, 9.96, 7.24, 4.26, 10.84, 4.82, 5.68};
    MatrixXd rows(11, 2);
    VectorXd right(11);
    for (Eigen::Index i = 0; i < 11; ++i) {
        rows.row(i) << 1, x[std::size_t(i)];
        right[i] = y[std::size_t(i)];
    }
    const VectorXd line = leastSquares(rows, right);
    CHECK(line[0] == Approx(3.00).margin(0.005));
    CHECK(line[1] == Approx(0.500).margin(0.0005));

    const MatrixXd five = randomMatrix(9, 5, 3);
    const MatrixXd basis = fullBasisOf(five);
    REQUIRE(basis.cols() == 9);
    CHECK((basis.transpose() * basis - MatrixXd::Identity(9, 9)).norm() < 1e-12);
    CHECK((basis.rightCols(4).transpose() * five).norm() < 1e-12);

    const MatrixXd square = randomMatrix(10, 10, 4), wanted = randomMatrix(10, 10, 5);
    CHECK((square * solved(square, wanted) - wanted).norm() < 1e-9);
    CHECK((square * inverseOf(square) - MatrixXd::Identity(10, 10)).norm() < 1e-9);
}

TEST_CASE("the motion between points is found, with its change of size where that is wanted") {
    const Matrix3d turn = Eigen::AngleAxisd(2.1, Vector3d(1, -2, 0.5).normalized()).toRotationMatrix();
    const Vector3d shift(4, -1, 100);
    for (const bool isFlat : {false, true}) {
        Eigen::Matrix3Xd from = randomMatrix(3, 12, 7);
        if (isFlat) from.row(2).setZero();
        for (const double size : {1.0, 2.5}) {
            const Eigen::Matrix3Xd to = (size * turn * from).colwise() + shift;
            const Eigen::Matrix4d found = similarityBetween(from, to, true);
            CHECK((found.topLeftCorner<3, 3>() - size * turn).norm() < 1e-9);
            CHECK((found.topRightCorner<3, 1>() - shift).norm() < 1e-9);
            CHECK((similarityBetween(from, to, false).topLeftCorner<3, 3>() - turn).norm() < 1e-9);
        }
    }
}
