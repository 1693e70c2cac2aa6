#include "camera/bundle.h"

#include "base/parallel.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>
#include <thread>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

/// The plate position and its derivatives by the camera's turn and shift, the point, and the lens.
struct Projection {
    Vector2d plate;
    Eigen::Matrix<double, 2, 6> byCamera;
    Eigen::Matrix<double, 2, 3> byPoint;
    Eigen::Matrix<double, 2, 3> byLens;
    bool inFront = false;
};

Projection project(const Lens& lens, const Matrix3d& rotation, const Vector3d& translation, const Vector3d& point, bool derivatives) {
    Projection result;
    const Vector3d turned = rotation * point;
    const Vector3d seen = turned + translation;
    result.inFront = seen.z() > 1e-6;
    // Behind the camera a mirrored depth keeps the derivatives finite and pushes the point back to the front.
    const double depth = result.inFront ? seen.z() : 1e-6 + std::abs(seen.z());
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
    result.byCamera << slope * cross, slope;
    result.byPoint = slope * rotation;
    const double r2 = plane.squaredNorm();
    const Vector2d scaled(fx * plane.x(), fy * plane.y());
    result.byLens.col(0) = Vector2d(lens.squeeze * bent.x(), bent.y());
    result.byLens.col(1) = scaled * r2;
    result.byLens.col(2) = scaled * r2 * r2;
    return result;
}

#if defined(__x86_64__) && !defined(__SANITIZE_ADDRESS__)
__attribute__((target_clones("arch=x86-64-v3", "default")))
#endif
/// block (6x6) -= tall (6x3) * flat (3x6), all row-major: the innermost loop of the adjustment.
void subtractProduct(const double* __restrict tall, const double* __restrict flat, double* __restrict block) {
    for (int r = 0; r < 6; ++r)
        for (int c = 0; c < 6; ++c)
            block[r * 6 + c] -= tall[r * 3] * flat[c] + tall[r * 3 + 1] * flat[6 + c] + tall[r * 3 + 2] * flat[12 + c];
}

/// The observations of a bundle with their derivatives, grouped by point, and the normal equations with the points
/// eliminated: a block for every pair of cameras that share a point, a border for the lens.
class NormalEquations {
public:
    NormalEquations(const Bundle& bundle, const BundleOptions& options) : options_(options), cameras_(bundle.cameras.size()) {
        if (options.freeFocal) lensColumns_.push_back(0);
        if (options.freeK1) lensColumns_.push_back(1);
        if (options.freeK2) lensColumns_.push_back(2);
        starts_.assign(bundle.points.size() + 1, 0);
        for (const auto& seen : bundle.observations) ++starts_[std::size_t(seen.point) + 1];
        for (std::size_t p = 0; p < bundle.points.size(); ++p) starts_[p + 1] += starts_[p];
        order_.resize(bundle.observations.size());
        std::vector<std::size_t> next(starts_.begin(), starts_.end() - 1);
        for (std::size_t i = 0; i < bundle.observations.size(); ++i) order_[next[std::size_t(bundle.observations[i].point)]++] = i;
        // Rising cameras within a point: then each block lies in the upper half.
        for (std::size_t p = 0; p < bundle.points.size(); ++p)
            std::sort(order_.begin() + std::ptrdiff_t(starts_[p]), order_.begin() + std::ptrdiff_t(starts_[p + 1]),
                      [&](std::size_t a, std::size_t b) { return bundle.observations[a].camera < bundle.observations[b].camera; });
        rows_.resize(order_.size());
        pointBlocks_.resize(bundle.points.size());
        pointRights_.resize(bundle.points.size());
        pointLens_.resize(bundle.points.size());
        pointInverses_.resize(bundle.points.size());
    }

    Eigen::Index lensCount() const { return Eigen::Index(lensColumns_.size()); }
    Eigen::Index size() const { return Eigen::Index(cameras_) * 6 + lensCount(); }

    /// The robust cost; with `derivatives`, everything `reduce` needs.
    double linearise(const Bundle& bundle, bool derivatives) {
        std::vector<Matrix3d> rotations(cameras_);
        for (std::size_t i = 0; i < cameras_; ++i) rotations[i] = bundle.cameras[i].rotation.toRotationMatrix();
        const double width2 = options_.robustWidth_px * options_.robustWidth_px;
        std::vector<double> costs(bundle.points.size(), 0.0);
        parallelFor(bundle.points.size(), [&](std::size_t p) {
            Matrix3d block = Matrix3d::Zero();
            Vector3d right = Vector3d::Zero();
            Matrix3d lensBlock = Matrix3d::Zero();
            for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
                const auto& seen = bundle.observations[order_[k]];
                const auto camera = std::size_t(seen.camera);
                const Projection projection = project(bundle.lens, rotations[camera], bundle.cameras[camera].translation, bundle.points[p], derivatives);
                const Vector2d residual = projection.plate - seen.plate;
                const double squared = residual.squaredNorm();
                costs[p] += 0.5 * width2 * std::log1p(squared / width2);
                if (!derivatives) continue;
                // The Cauchy loss as a weight (Triggs 2000, first-order).
                Row& row = rows_[k];
                const double root = std::sqrt(1 / (1 + squared / width2));
                row.camera = camera;
                row.residual = root * residual;
                row.byCamera = root * projection.byCamera;
                row.byPoint = root * projection.byPoint;
                for (std::size_t c = 0; c < lensColumns_.size(); ++c) row.byLens.col(Eigen::Index(c)) = root * projection.byLens.col(lensColumns_[c]);
                block.noalias() += row.byPoint.transpose() * row.byPoint;
                right.noalias() -= row.byPoint.transpose() * row.residual;
                if (lensCount() > 0) lensBlock.noalias() += row.byPoint.transpose() * row.byLens;
            }
            if (!derivatives) return;
            pointBlocks_[p] = block;
            pointRights_[p] = right;
            pointLens_[p] = lensBlock;  // point by lens
        }, 16);
        double cost = 0;
        for (double own : costs) cost += own;
        if (hasPrior()) {
            const double off = (bundle.lens.focal_px - *options_.focalPrior_px) / priorWidth();
            cost += 0.5 * off * off;
            priorResidual_ = off / priorWidth();
        }
        return cost;
    }

    /// The reduced system with `damping` added to the diagonals; true upper half only, mirrored at the end.
    void reduce(double damping, Eigen::MatrixXd& matrix, Eigen::VectorXd& right) {
        // Each part of the points into blocks of its own, summed at the end; the blocks of one pair lie together in memory.
        const std::size_t parts = std::max(1U, std::thread::hardware_concurrency());
        struct Part {
            std::vector<double> blocks;
            Eigen::VectorXd right;
            Eigen::Matrix<double, Eigen::Dynamic, 3> border;
            Matrix3d lens = Matrix3d::Zero();
        };
        std::vector<Part> all(parts);
        const Eigen::Index n = size();
        parallelFor(parts, [&](std::size_t index) {
            Part& part = all[index];
            part.blocks.assign(cameras_ * (cameras_ + 1) / 2 * 36, 0.0);
            part.right = Eigen::VectorXd::Zero(n);
            part.border.setZero(Eigen::Index(cameras_) * 6, 3);
            std::vector<double> cross, solved;
            for (std::size_t p = index; p + 1 < starts_.size(); p += parts) eliminate(p, damping, part.blocks, part.right, part.border, part.lens, cross, solved);
        });
        for (std::size_t i = 1; i < parts; ++i) {
            for (std::size_t k = 0; k < all[0].blocks.size(); ++k) all[0].blocks[k] += all[i].blocks[k];
            all[0].right += all[i].right;
            all[0].border += all[i].border;
            all[0].lens += all[i].lens;
        }
        matrix.resize(n, n);
        using Block = Eigen::Matrix<double, 6, 6, Eigen::RowMajor>;
        for (std::size_t a = 0; a < cameras_; ++a)
            for (std::size_t b = a; b < cameras_; ++b) {
                const Eigen::Map<const Block> block(all[0].blocks.data() + blockAt(a, b));
                matrix.block<6, 6>(Eigen::Index(b) * 6, Eigen::Index(a) * 6) = block.transpose();
                if (a == b) matrix.block<6, 6>(Eigen::Index(a) * 6, Eigen::Index(a) * 6) = block.selfadjointView<Eigen::Upper>();
            }
        const Eigen::Index lens = lensCount();
        if (lens > 0) {
            matrix.bottomLeftCorner(lens, n - lens) = all[0].border.leftCols(lens).transpose();
            matrix.bottomRightCorner(lens, lens) = all[0].lens.topLeftCorner(lens, lens);
            if (hasPrior()) {
                matrix(n - lens, n - lens) += 1 / (priorWidth() * priorWidth());
                all[0].right[n - lens] -= priorResidual_;
            }
        }
        right = all[0].right;
        cameraDiagonals(damping, matrix);
    }

    /// The points' steps once cameras and lens are known.
    std::vector<Vector3d> pointSteps(const Eigen::VectorXd& steps) const {
        std::vector<Vector3d> result(pointBlocks_.size());
        const Eigen::Index lens = lensCount();
        parallelFor(result.size(), [&](std::size_t p) {
            Vector3d right = pointRights_[p];
            for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
                const Row& row = rows_[k];
                right.noalias() -= row.byPoint.transpose() * (row.byCamera * steps.segment<6>(Eigen::Index(row.camera) * 6));
            }
            if (lens > 0) right -= pointLens_[p].leftCols(lens) * steps.tail(lens);
            result[p] = pointInverses_[p] * right;
        }, 32);
        return result;
    }

    const std::vector<int>& lensColumns() const { return lensColumns_; }

private:
    struct Row {
        std::size_t camera = 0;
        Vector2d residual;
        Eigen::Matrix<double, 2, 6> byCamera;
        Eigen::Matrix<double, 2, 3> byPoint;
        Eigen::Matrix<double, 2, 3> byLens = Eigen::Matrix<double, 2, 3>::Zero();
    };

    bool hasPrior() const { return options_.freeFocal && options_.focalPrior_px && options_.focalTrust_px > 0; }
    /// The errors are in pixels, not in standard deviations; a third of the loss's width stands for one.
    double priorWidth() const { return options_.focalTrust_px / (options_.robustWidth_px / 3); }

    std::size_t blockAt(std::size_t a, std::size_t b) const { return (a * cameras_ - a * (a + 1) / 2 + b) * 36; }

    template <class Border>
    void eliminate(std::size_t p, double damping, std::vector<double>& blocks, Eigen::VectorXd& right, Border& border, Matrix3d& lensMatrix,
                   std::vector<double>& cross, std::vector<double>& solved) {
        const std::size_t count = starts_[p + 1] - starts_[p];
        if (count == 0) return;
        Matrix3d block = pointBlocks_[p];
        for (int i = 0; i < 3; ++i) block(i, i) += damping * block(i, i) + 1e-12;
        const Matrix3d inverse = block.inverse();
        pointInverses_[p] = inverse;
        const Vector3d solvedRight = inverse * pointRights_[p];
        const Matrix3d solvedLens = inverse * pointLens_[p];
        cross.resize(count * 18);
        solved.resize(count * 18);
        using Tall = Eigen::Matrix<double, 6, 3, Eigen::RowMajor>;
        using Flat = Eigen::Matrix<double, 3, 6, Eigen::RowMajor>;
        for (std::size_t k = 0; k < count; ++k) {
            const Row& row = rows_[starts_[p] + k];
            const Eigen::Index at = Eigen::Index(row.camera) * 6;
            const Tall w = row.byCamera.transpose() * row.byPoint;
            Eigen::Map<Flat>{cross.data() + k * 18} = w.transpose();
            Eigen::Map<Tall>{solved.data() + k * 18} = w * inverse;
            right.segment<6>(at).noalias() -= row.byCamera.transpose() * row.residual + w * solvedRight;
            if (lensCount() > 0) border.template middleRows<6>(at).noalias() += row.byCamera.transpose() * row.byLens - w * solvedLens;
            // The camera's own block.
            Eigen::Map<Eigen::Matrix<double, 6, 6, Eigen::RowMajor>>{blocks.data() + blockAt(row.camera, row.camera)}.noalias() += row.byCamera.transpose() * row.byCamera;
            if (lensCount() > 0) {
                lensMatrix.noalias() += row.byLens.transpose() * row.byLens;
                right.tail(lensCount()) -= (row.byLens.transpose() * row.residual).head(lensCount());
            }
        }
        if (lensCount() > 0) {
            lensMatrix.noalias() -= pointLens_[p].transpose() * solvedLens;
            right.tail(lensCount()) -= (pointLens_[p].transpose() * solvedRight).head(lensCount());
        }
        for (std::size_t a = 0; a < count; ++a) {
            const std::size_t cameraA = rows_[starts_[p] + a].camera;
            for (std::size_t b = a; b < count; ++b)
                subtractProduct(solved.data() + a * 18, cross.data() + b * 18, blocks.data() + blockAt(cameraA, rows_[starts_[p] + b].camera));
        }
    }

    void cameraDiagonals(double damping, Eigen::MatrixXd& matrix) const {
        for (Eigen::Index i = 0; i < size(); ++i) matrix(i, i) += damping * std::abs(matrix(i, i)) + 1e-9;
    }

    const BundleOptions& options_;
    std::size_t cameras_;
    std::vector<int> lensColumns_;
    std::vector<std::size_t> starts_, order_;
    std::vector<Row> rows_;
    std::vector<Matrix3d> pointBlocks_, pointLens_, pointInverses_;
    std::vector<Vector3d> pointRights_;
    double priorResidual_ = 0;
};

/// Rows and columns of the reduced system that may move: all but the held camera's.
std::vector<Eigen::Index> freeRows(Eigen::Index size, int held, Eigen::Index alsoFixed = -1) {
    std::vector<Eigen::Index> kept;
    for (Eigen::Index i = 0; i < size; ++i)
        if ((held < 0 || i / 6 != held) && i != alsoFixed) kept.push_back(i);
    return kept;
}

}  // namespace

bool adjust(Bundle& bundle, const BundleOptions& options, const Progress& progress) {
    if (bundle.observations.empty()) return !progress.stopped();
    NormalEquations equations(bundle, options);
    const Eigen::Index n = equations.size();
    double cost = equations.linearise(bundle, true);
    double damping = 1e-4;
    double growth = 2;
    Eigen::MatrixXd matrix;
    Eigen::VectorXd right;
    for (int round = 0; round < options.rounds && !progress.stopped(); ++round) {
        equations.reduce(damping, matrix, right);
        if (options.heldCamera >= 0) {
            const Eigen::Index at = Eigen::Index(options.heldCamera) * 6;
            matrix.middleRows(at, 6).setZero();
            matrix.middleCols(at, 6).setZero();
            matrix.block<6, 6>(at, at).setIdentity();
            right.segment<6>(at).setZero();
        }
        const Eigen::LLT<Eigen::Ref<Eigen::MatrixXd>> decomposition(matrix);
        bool better = false;
        if (decomposition.info() == Eigen::Success) {
            const Eigen::VectorXd steps = decomposition.solve(right);
            Bundle moved = bundle;
            for (std::size_t i = 0; i < bundle.cameras.size(); ++i) {
                const Vector3d turn = steps.segment<3>(Eigen::Index(i) * 6);
                const double angle = turn.norm();
                Pose& pose = moved.cameras[i];
                if (angle > 1e-300) pose.rotation = (Eigen::Quaterniond(Eigen::AngleAxisd(angle, turn / angle)) * pose.rotation).normalized();
                pose.translation += steps.segment<3>(Eigen::Index(i) * 6 + 3);
            }
            for (std::size_t c = 0; c < equations.lensColumns().size(); ++c) {
                const double step = steps[n - equations.lensCount() + Eigen::Index(c)];
                switch (equations.lensColumns()[c]) {
                    case 0: moved.lens.focal_px = std::clamp(moved.lens.focal_px + step, 0.15 * bundle.lens.width, 40.0 * bundle.lens.width); break;
                    case 1: moved.lens.k1 += step; break;
                    default: moved.lens.k2 += step;
                }
            }
            const auto pointSteps = equations.pointSteps(steps);
            for (std::size_t p = 0; p < bundle.points.size(); ++p) moved.points[p] += pointSteps[p];
            const double movedCost = steps.allFinite() ? equations.linearise(moved, false) : cost * 2 + 1;
            if (movedCost < cost) {
                const bool settled = cost - movedCost < options.settled * cost;
                bundle = std::move(moved);
                better = true;
                damping = std::max(damping * 0.2, 1e-9);
                growth = 2;
                if (settled) break;
                cost = equations.linearise(bundle, true);
            }
        }
        if (!better) {
            damping *= growth;
            growth *= 2;
            if (damping > 1e8) break;
        }
    }
    return !progress.stopped();
}

double errorOf(const Bundle& bundle, const Bundle::Observation& observation) {
    const Pose& pose = bundle.cameras[std::size_t(observation.camera)];
    const Projection projection = project(bundle.lens, pose.rotation.toRotationMatrix(), pose.translation, bundle.points[std::size_t(observation.point)], false);
    if (!projection.inFront) return std::numeric_limits<double>::infinity();
    return (projection.plate - observation.plate).norm();
}

std::optional<BundleCovariance> covarianceOf(const Bundle& bundle, const BundleOptions& options) {
    NormalEquations equations(bundle, options);
    const Eigen::Index size = equations.size();
    if (bundle.observations.empty() || size > 6000) return std::nullopt;  // a dense inverse of a very long shot would take minutes
    equations.linearise(bundle, true);
    Eigen::MatrixXd normal;
    Eigen::VectorXd right;
    equations.reduce(0.0, normal, right);
    double squares = 0;
    double weights = 0;
    for (const auto& seen : bundle.observations) {
        const double error = errorOf(bundle, seen);
        if (!std::isfinite(error)) continue;
        const double weight = 1 / (1 + error * error / (options.robustWidth_px * options.robustWidth_px));
        squares += weight * error * error;
        weights += 2 * weight;
    }
    const double variance = squares / std::max(1.0, weights - double(size) + 7 - 3.0 * double(bundle.points.size()));

    // The gauge: the held camera, and of the camera farthest from it the coordinate along which it is far.
    const auto held = std::size_t(std::max(0, options.heldCamera));
    std::size_t farthest = held;
    const auto distance = [&](std::size_t i) { return (bundle.cameras[i].centre() - bundle.cameras[held].centre()).norm(); };
    for (std::size_t i = 0; i < bundle.cameras.size(); ++i)
        if (distance(i) > distance(farthest)) farthest = i;
    const Pose& far = bundle.cameras[farthest];
    const Vector3d span = far.rotation * (bundle.cameras[held].centre() - far.centre());
    Eigen::Index axis = 0;
    span.cwiseAbs().maxCoeff(&axis);
    const auto kept = freeRows(size, int(held), Eigen::Index(farthest) * 6 + 3 + axis);
    const Eigen::MatrixXd lower = normal(kept, kept);
    const Eigen::LLT<Eigen::MatrixXd> decomposition(lower);
    if (decomposition.info() != Eigen::Success) return std::nullopt;
    const Eigen::MatrixXd covariance = decomposition.solve(Eigen::MatrixXd::Identity(lower.rows(), lower.cols())) * variance;

    std::vector<Eigen::Index> placeOf(std::size_t(size), -1);
    for (std::size_t i = 0; i < kept.size(); ++i) placeOf[std::size_t(kept[i])] = Eigen::Index(i);
    BundleCovariance result;
    if (options.freeFocal) {
        const Eigen::Index at = placeOf[std::size_t(size - equations.lensCount())];
        result.focal_px = std::sqrt(std::max(0.0, covariance(at, at)));
    }
    for (std::size_t i = 0; i < bundle.cameras.size(); ++i) {
        // The centre is -R^T t; a turn about the camera moves it by R^T [t]x, a shift by -R^T.
        Eigen::Matrix<double, 3, 6> byLocal;
        const Matrix3d back = bundle.cameras[i].rotation.toRotationMatrix().transpose();
        const Vector3d& t = bundle.cameras[i].translation;
        Matrix3d crossT;
        crossT << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
        byLocal << back * -crossT, -back;
        Eigen::Matrix<double, 6, 6> block = Eigen::Matrix<double, 6, 6>::Zero();
        for (int a = 0; a < 6; ++a)
            for (int b = 0; b < 6; ++b) {
                const Eigen::Index pa = placeOf[i * 6 + std::size_t(a)];
                const Eigen::Index pb = placeOf[i * 6 + std::size_t(b)];
                if (pa >= 0 && pb >= 0) block(a, b) = covariance(pa, pb);
            }
        result.positions.emplace_back((byLocal * block * byLocal.transpose()).diagonal().cwiseMax(0).cwiseSqrt());
    }
    return result;
}

}  // namespace pinion
