#include "lens/lensfield.h"

#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::MatrixXd;
using Eigen::Vector2d;

/// The four splines that reach into a cell, at a place in it, and their derivatives by the cell's width.
struct Weights {
    int first;  ///< of the coefficients they belong to
    std::array<double, 4> value, slope;
};

/// `place` in cells, within 0 and `cells`.
Weights weightsAt(double place, int cells) {
    Weights w{};
    w.first = std::clamp(int(std::floor(place)), 0, cells - 1);
    const double t = place - w.first, u = 1 - t;
    w.value = {u * u * u / 6, (3 * t * t * t - 6 * t * t + 4) / 6, (3 * u * u * u - 6 * u * u + 4) / 6, t * t * t / 6};
    w.slope = {-u * u / 2, (3 * t * t - 4 * t) / 2, (4 * u - 3 * u * u) / 2, t * t / 2};
    return w;
}

/// Least squares along one direction: the coefficients of the splines from values at the centres of `count` pixels.
class LineFit {
public:
    LineFit(int count, int cells) : weights_(std::size_t(count)) {
        MatrixXd normal = MatrixXd::Zero(cells + 3, cells + 3);
        for (int i = 0; i < count; ++i) {
            const Weights& w = weights_[std::size_t(i)] = weightsAt((i + 0.5) * cells / count, cells);
            for (int a = 0; a < 4; ++a)
                for (int b = 0; b < 4; ++b)
                    normal(w.first + a, w.first + b) += w.value[std::size_t(a)] * w.value[std::size_t(b)];
        }
        solver_.compute(normal);
    }
    const Weights& at(int pixel) const { return weights_[std::size_t(pixel)]; }
    MatrixXd solved(const MatrixXd& right) const { return solver_.solve(right); }

private:
    std::vector<Weights> weights_;
    Eigen::LLT<MatrixXd> solver_;
};

/// A spline's slope lies between the differences of its coefficients: bounds that prove the usual field sound at a
/// hundredth of the cost of looking everywhere.
bool isSurelySound(const LensField& field) {
    const std::vector<Vector2d>& c = field.coefficients();
    const double cellX = double(field.columns()) / field.width(), cellY = double(field.rows()) / field.height();
    Vector2d low(1e9, 1e9);  // of the stretch across and down
    Vector2d shear(0, 0);    // the most of y by x, and of x by y
    const auto stride = std::size_t(field.columns() + 3);
    for (std::size_t i = 0; i < c.size(); ++i) {
        if ((i + 1) % stride != 0) {
            const Vector2d across = (c[i + 1] - c[i]) * cellX;
            low.x() = std::min(low.x(), 1 + across.x());
            shear.x() = std::max(shear.x(), std::abs(across.y()));
        }
        if (i + stride < c.size()) {
            const Vector2d down = (c[i + stride] - c[i]) * cellY;
            low.y() = std::min(low.y(), 1 + down.y());
            shear.y() = std::max(shear.y(), std::abs(down.x()));
        }
    }
    return low.minCoeff() > 0 && low.x() * low.y() > shear.x() * shear.y();
}

}  // namespace

LensField::LensField(int width, int height, int columns, int rows, std::vector<Vector2d> coefficients)
    : width_(width), height_(height), columns_(columns), rows_(rows), coefficients_(std::move(coefficients)) {}

LensField LensField::nearest(int width, int height, int columns, int rows,
                             const std::function<Vector2d(int x, int y)>& offsets) {
    const LineFit across(width, columns), down(height, rows);
    // A column each row of the plate: first x, then y.
    MatrixXd byRow = MatrixXd::Zero(columns + 3, 2 * height);
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const Weights& w = across.at(x);
            const Vector2d offset = offsets(x, y);
            for (int a = 0; a < 4; ++a) {
                byRow(w.first + a, y) += w.value[std::size_t(a)] * offset.x();
                byRow(w.first + a, height + y) += w.value[std::size_t(a)] * offset.y();
            }
        }
    const MatrixXd rowsFitted = across.solved(byRow);
    MatrixXd byColumn = MatrixXd::Zero(rows + 3, 2 * (columns + 3));
    for (int y = 0; y < height; ++y) {
        const Weights& w = down.at(y);
        for (int a = 0; a < 4; ++a) {
            byColumn.row(w.first + a).head(columns + 3) += w.value[std::size_t(a)] * rowsFitted.col(y).transpose();
            byColumn.row(w.first + a).tail(columns + 3) +=
                w.value[std::size_t(a)] * rowsFitted.col(height + y).transpose();
        }
    }
    const MatrixXd fitted = down.solved(byColumn);
    std::vector<Vector2d> coefficients;
    coefficients.reserve(std::size_t(columns + 3) * std::size_t(rows + 3));
    for (int row = 0; row < rows + 3; ++row)
        for (int column = 0; column < columns + 3; ++column)
            coefficients.emplace_back(fitted(row, column), fitted(row, columns + 3 + column));
    return {width, height, columns, rows, std::move(coefficients)};
}

LensField::Move LensField::at(const Vector2d& plate) const {
    const double cellX = double(columns_) / width_, cellY = double(rows_) / height_;
    const Vector2d inside(std::clamp(plate.x(), 0.0, double(width_)), std::clamp(plate.y(), 0.0, double(height_)));
    const Weights across = weightsAt(inside.x() * cellX, columns_), down = weightsAt(inside.y() * cellY, rows_);
    Vector2d offset(0, 0), byX(0, 0), byY(0, 0);
    const std::size_t stride = std::size_t(columns_ + 3);
    for (std::size_t row = 0; row < 4; ++row) {
        const Vector2d* line = &coefficients_[(std::size_t(down.first) + row) * stride + std::size_t(across.first)];
        Vector2d value(0, 0), slope(0, 0);
        for (std::size_t column = 0; column < 4; ++column) {
            value += across.value[column] * line[column];
            slope += across.slope[column] * line[column];
        }
        offset += down.value[row] * value;
        byX += down.value[row] * slope;
        byY += down.slope[row] * value;
    }
    Move move;
    move.slope << byX * cellX, byY * cellY;
    move.offset = offset + move.slope * (plate - inside);
    return move;
}

bool LensField::isNear(const Vector2d& plate) const {
    return plate.x() >= -0.5 * width_ && plate.x() <= 1.5 * width_ && plate.y() >= -0.5 * height_ &&
           plate.y() <= 1.5 * height_;
}

std::optional<Vector2d> LensField::undistortedFrom(const Vector2d& plate) const {
    if (!isNear(plate)) return std::nullopt;
    return plate + at(plate).offset;
}

std::optional<Vector2d> LensField::plateFrom(const Vector2d& undistorted) const {
    if (!undistorted.allFinite()) return std::nullopt;
    Vector2d plate(std::clamp(undistorted.x(), 0.0, double(width_)), std::clamp(undistorted.y(), 0.0, double(height_)));
    Move move = at(plate);
    Vector2d miss = plate + move.offset - undistorted;
    for (int i = 0; i < 30 && miss.squaredNorm() > 1e-18; ++i) {
        const Vector2d step = (Matrix2d::Identity() + move.slope).inverse() * miss;
        if (!step.allFinite()) return std::nullopt;
        // A step that ends farther off is shortened: strong bends.
        double share = 1;
        for (int halving = 0; halving < 8; ++halving, share *= 0.5) {
            const Vector2d next = plate - share * step;
            const Move there = at(next);
            const Vector2d left = next + there.offset - undistorted;
            if (left.squaredNorm() >= miss.squaredNorm() && halving < 7) continue;
            plate = next;
            move = there;
            miss = left;
            break;
        }
    }
    if (miss.squaredNorm() > 1e-12 || !isNear(plate)) return std::nullopt;
    return plate;
}

std::optional<Vector2d> LensField::fold() const {
    if (isSurelySound(*this)) return std::nullopt;
    const int across = 2 * columns_, down = 2 * rows_;
    for (int row = 0; row <= down; ++row)
        for (int column = 0; column <= across; ++column) {
            const Vector2d plate(double(width_) * column / across, double(height_) * row / down);
            const Matrix2d slope = Matrix2d::Identity() + at(plate).slope;
            // Neither over itself nor on its head.
            if (!(slope.determinant() > 0 && slope(0, 0) > 0 && slope(1, 1) > 0)) return plate;
        }
    return std::nullopt;
}

LensField LensField::scaled(double ratio, int width, int height) const {
    std::vector<Vector2d> coefficients = coefficients_;
    for (Vector2d& one : coefficients) one *= ratio;
    return {width, height, columns_, rows_, std::move(coefficients)};
}

}  // namespace pinion
