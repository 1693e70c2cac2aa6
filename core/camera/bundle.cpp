#include "camera/bundle.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <ceres/ceres.h>
#include <cmath>
#include <limits>
#include <thread>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

// Parameter blocks: a camera is its unit quaternion (w, x, y, z) and translation; the lens is f, k1, k2.
constexpr int kCameraSize = 7;
constexpr int kLensSize = 3;

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

class ReprojectionCost final : public ceres::SizedCostFunction<2, kCameraSize, 3, kLensSize> {
public:
    ReprojectionCost(const Lens& lens, const Vector2d& plate) : lens_(lens), plate_(plate) {}

    bool Evaluate(double const* const* parameters, double* residuals, double** jacobians) const override {
        const double* camera = parameters[0];
        Lens lens = lens_;
        lens.focal_px = parameters[2][0];
        lens.k1 = parameters[2][1];
        lens.k2 = parameters[2][2];
        const Matrix3d rotation = Eigen::Quaterniond(camera[0], camera[1], camera[2], camera[3]).toRotationMatrix();
        const Projection projection = project(lens, rotation, Eigen::Map<const Vector3d>(camera + 4),
                                              Eigen::Map<const Vector3d>(parameters[1]), jacobians != nullptr);
        Eigen::Map<Vector2d>{residuals} = projection.plate - plate_;
        if (!jacobians) return true;
        if (jacobians[0]) {
            Eigen::Map<Eigen::Matrix<double, 2, kCameraSize, Eigen::RowMajor>> out(jacobians[0]);
            out.leftCols<6>() = projection.byCamera;
            out.col(6).setZero();
        }
        if (jacobians[1]) Eigen::Map<Eigen::Matrix<double, 2, 3, Eigen::RowMajor>>{jacobians[1]} = projection.byPoint;
        if (jacobians[2]) Eigen::Map<Eigen::Matrix<double, 2, 3, Eigen::RowMajor>>{jacobians[2]} = projection.byLens;
        return true;
    }

private:
    const Lens& lens_;
    Vector2d plate_;
};

/// Turns from the left and shifts. The cost above gives its derivatives by the six local values already, so the map from
/// the seven stored ones is cut to the identity.
class CameraManifold final : public ceres::Manifold {
public:
    int AmbientSize() const override { return kCameraSize; }
    int TangentSize() const override { return 6; }
    bool Plus(const double* x, const double* delta, double* result) const override {
        const Vector3d turn(delta[0], delta[1], delta[2]);
        const double angle = turn.norm();
        Eigen::Quaterniond rotation(x[0], x[1], x[2], x[3]);
        if (angle > 1e-300) rotation = Eigen::Quaterniond(Eigen::AngleAxisd(angle, turn / angle)) * rotation;
        rotation.normalize();
        result[0] = rotation.w();
        result[1] = rotation.x();
        result[2] = rotation.y();
        result[3] = rotation.z();
        for (int i = 0; i < 3; ++i) result[4 + i] = x[4 + i] + delta[3 + i];
        return true;
    }
    bool PlusJacobian(const double*, double* jacobian) const override {
        Eigen::Map<Eigen::Matrix<double, kCameraSize, 6, Eigen::RowMajor>> out(jacobian);
        out.setZero();
        out.topRows<6>().setIdentity();
        return true;
    }
    bool Minus(const double*, const double*, double*) const override { return false; }  // the solver never asks
    bool MinusJacobian(const double*, double*) const override { return false; }
};

struct FocalPrior {
    double focal, trust;
    template <class T>
    bool operator()(const T* lens, T* residual) const {
        residual[0] = (lens[0] - T(focal)) / T(trust);
        return true;
    }
};

class StopOnRequest final : public ceres::IterationCallback {
public:
    explicit StopOnRequest(const Progress& progress) : progress_(progress) {}
    ceres::CallbackReturnType operator()(const ceres::IterationSummary&) override {
        return progress_.stopped() ? ceres::SOLVER_TERMINATE_SUCCESSFULLY : ceres::SOLVER_CONTINUE;
    }

private:
    const Progress& progress_;
};

}  // namespace

bool adjust(Bundle& bundle, const BundleOptions& options, const Progress& progress) {
    std::vector<std::array<double, kCameraSize>> cameras(bundle.cameras.size());
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        const Pose& pose = bundle.cameras[i];
        cameras[i] = {pose.rotation.w(), pose.rotation.x(), pose.rotation.y(), pose.rotation.z(),
                      pose.translation.x(), pose.translation.y(), pose.translation.z()};
    }
    std::array<double, kLensSize> lens{bundle.lens.focal_px, bundle.lens.k1, bundle.lens.k2};
    // The costs keep a reference to this copy for what of the lens does not move.
    const Lens still = bundle.lens;

    ceres::CauchyLoss loss(std::max(0.05, options.robustWidth_px));
    CameraManifold manifold;
    ceres::Problem::Options ownership;
    ownership.loss_function_ownership = ceres::DO_NOT_TAKE_OWNERSHIP;
    ownership.manifold_ownership = ceres::DO_NOT_TAKE_OWNERSHIP;
    ownership.disable_all_safety_checks = true;
    ceres::Problem problem(ownership);
    auto ordering = std::make_shared<ceres::ParameterBlockOrdering>();
    for (const Bundle::Observation& seen : bundle.observations)
        problem.AddResidualBlock(new ReprojectionCost(still, seen.plate), &loss, cameras[std::size_t(seen.camera)].data(),
                                 bundle.points[std::size_t(seen.point)].data(), lens.data());
    if (problem.NumResidualBlocks() == 0) return true;
    for (Vector3d& point : bundle.points)
        if (problem.HasParameterBlock(point.data())) ordering->AddElementToGroup(point.data(), 0);
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        double* camera = cameras[i].data();
        if (!problem.HasParameterBlock(camera)) continue;
        problem.SetManifold(camera, &manifold);
        ordering->AddElementToGroup(camera, 1);
        if (int(i) == options.heldCamera) problem.SetParameterBlockConstant(camera);
    }
    ordering->AddElementToGroup(lens.data(), 1);
    if (!options.freeFocal && !options.freeK1 && !options.freeK2) {
        problem.SetParameterBlockConstant(lens.data());
    } else {
        if (options.freeFocal && options.focalPrior_px && options.focalTrust_px > 0) {
            // The errors are in pixels, not in standard deviations; a third of the loss's width stands for one.
            const double noise_px = options.robustWidth_px / 3;
            problem.AddResidualBlock(new ceres::AutoDiffCostFunction<FocalPrior, 1, kLensSize>(
                                         new FocalPrior{*options.focalPrior_px, options.focalTrust_px / noise_px}),
                                     nullptr, lens.data());
        }
        std::vector<int> constant;
        if (!options.freeFocal) constant.push_back(0);
        if (!options.freeK1) constant.push_back(1);
        if (!options.freeK2) constant.push_back(2);
        if (!constant.empty()) problem.SetManifold(lens.data(), new ceres::SubsetManifold(kLensSize, constant));
        if (options.freeFocal) {
            problem.SetParameterLowerBound(lens.data(), 0, 0.15 * bundle.lens.width);
            problem.SetParameterUpperBound(lens.data(), 0, 40.0 * bundle.lens.width);
        }
    }
    ceres::Solver::Options solver;
    solver.linear_solver_type = cameras.size() > 220 ? ceres::SPARSE_SCHUR : ceres::DENSE_SCHUR;
    solver.linear_solver_ordering = ordering;
    solver.max_num_iterations = options.rounds;
    solver.function_tolerance = options.settled;
    solver.num_threads = options.threads > 0 ? options.threads : std::max(1, int(std::thread::hardware_concurrency()));
    solver.logging_type = ceres::SILENT;
    solver.initial_trust_region_radius = 1e4;
    StopOnRequest stop(progress);
    solver.callbacks.push_back(&stop);
    ceres::Solver::Summary summary;
    ceres::Solve(solver, &problem, &summary);
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        const auto& c = cameras[i];
        bundle.cameras[i] = {Eigen::Quaterniond(c[0], c[1], c[2], c[3]), Vector3d(c[4], c[5], c[6])};
    }
    bundle.lens.focal_px = lens[0];
    bundle.lens.k1 = lens[1];
    bundle.lens.k2 = lens[2];
    return !progress.stopped();
}

double errorOf(const Bundle& bundle, const Bundle::Observation& observation) {
    const Pose& pose = bundle.cameras[std::size_t(observation.camera)];
    const Projection projection = project(bundle.lens, pose.rotation.toRotationMatrix(), pose.translation, bundle.points[std::size_t(observation.point)], false);
    if (!projection.inFront) return std::numeric_limits<double>::infinity();
    return (projection.plate - observation.plate).norm();
}

std::optional<BundleCovariance> covarianceOf(const Bundle& bundle, const BundleOptions& options) {
    const std::size_t cameraCount = bundle.cameras.size();
    std::vector<int> lensColumns;
    if (options.freeFocal) lensColumns.push_back(0);
    if (options.freeK1) lensColumns.push_back(1);
    if (options.freeK2) lensColumns.push_back(2);
    const Eigen::Index lensCount = Eigen::Index(lensColumns.size());
    const Eigen::Index size = Eigen::Index(cameraCount) * 6 + lensCount;
    if (size > 6000) return std::nullopt;  // a dense inverse of a very long shot would take minutes
    Eigen::MatrixXd normal = Eigen::MatrixXd::Zero(size, size);
    std::vector<Matrix3d> rotations;
    for (const Pose& pose : bundle.cameras) rotations.push_back(pose.rotation.toRotationMatrix());
    std::vector<std::vector<std::size_t>> byPoint(bundle.points.size());
    for (std::size_t i = 0; i < bundle.observations.size(); ++i) byPoint[std::size_t(bundle.observations[i].point)].push_back(i);

    double squares = 0;
    double weights = 0;
    using Column = Eigen::Matrix<double, Eigen::Dynamic, 3>;
    for (std::size_t p = 0; p < byPoint.size(); ++p) {
        if (byPoint[p].size() < 2) continue;
        Matrix3d pointBlock = Matrix3d::Zero();
        const std::size_t count = byPoint[p].size();
        Column cross = Column::Zero(Eigen::Index(count) * 6 + lensCount, 3);
        std::vector<Eigen::Index> places;
        for (std::size_t k = 0; k < count; ++k) {
            const auto& seen = bundle.observations[byPoint[p][k]];
            const auto camera = std::size_t(seen.camera);
            const Projection projection = project(bundle.lens, rotations[camera], bundle.cameras[camera].translation, bundle.points[p], true);
            const double error = (projection.plate - seen.plate).squaredNorm();
            const double weight = 1 / (1 + error / (options.robustWidth_px * options.robustWidth_px));
            squares += weight * error;
            weights += 2 * weight;
            Eigen::MatrixXd byLens(2, lensCount);
            for (Eigen::Index c = 0; c < lensCount; ++c) byLens.col(c) = projection.byLens.col(lensColumns[std::size_t(c)]);
            const Eigen::Index at = Eigen::Index(camera) * 6;
            normal.block<6, 6>(at, at) += weight * projection.byCamera.transpose() * projection.byCamera;
            if (lensCount > 0) {
                const Eigen::MatrixXd mixed = weight * projection.byCamera.transpose() * byLens;
                normal.block(at, size - lensCount, 6, lensCount) += mixed;
                normal.block(size - lensCount, at, lensCount, 6) += mixed.transpose();
                normal.bottomRightCorner(lensCount, lensCount) += weight * byLens.transpose() * byLens;
                cross.bottomRows(lensCount) += weight * byLens.transpose() * projection.byPoint;
            }
            pointBlock += weight * projection.byPoint.transpose() * projection.byPoint;
            cross.middleRows<6>(Eigen::Index(k) * 6) = weight * projection.byCamera.transpose() * projection.byPoint;
            places.push_back(at);
        }
        const Column solved = cross * pointBlock.inverse();
        for (std::size_t a = 0; a < count; ++a) {
            const auto left = solved.middleRows<6>(Eigen::Index(a) * 6);
            for (std::size_t b = 0; b < count; ++b)
                normal.block<6, 6>(places[a], places[b]).noalias() -= left.lazyProduct(cross.middleRows<6>(Eigen::Index(b) * 6).transpose());
            if (lensCount > 0) {
                const Eigen::MatrixXd mixed = left * cross.bottomRows(lensCount).transpose();
                normal.block(places[a], size - lensCount, 6, lensCount) -= mixed;
                normal.block(size - lensCount, places[a], lensCount, 6) -= mixed.transpose();
            }
        }
        if (lensCount > 0) normal.bottomRightCorner(lensCount, lensCount) -= solved.bottomRows(lensCount) * cross.bottomRows(lensCount).transpose();
    }
    const double unknowns = double(size) - 7 + 3.0 * double(bundle.points.size());
    const double variance = squares / std::max(1.0, weights - unknowns);
    if (options.freeFocal && options.focalPrior_px && options.focalTrust_px > 0)
        normal(size - lensCount, size - lensCount) += variance / (options.focalTrust_px * options.focalTrust_px);

    // The gauge: drop the held camera, and of the camera farthest from it the coordinate along which it is far.
    const auto held = std::size_t(options.heldCamera);
    std::size_t farthest = held;
    for (std::size_t i = 0; i < cameraCount; ++i)
        if ((bundle.cameras[i].centre() - bundle.cameras[held].centre()).norm() > (bundle.cameras[farthest].centre() - bundle.cameras[held].centre()).norm()) farthest = i;
    const Vector3d span = bundle.cameras[farthest].translation - rotations[farthest] * rotations[held].transpose() * bundle.cameras[held].translation;
    Eigen::Index axis = 0;
    span.cwiseAbs().maxCoeff(&axis);
    std::vector<Eigen::Index> kept;
    for (Eigen::Index i = 0; i < size; ++i)
        if (!(i / 6 == Eigen::Index(held) && i < Eigen::Index(cameraCount) * 6) && i != Eigen::Index(farthest) * 6 + 3 + axis) kept.push_back(i);
    const Eigen::MatrixXd fixed = normal(kept, kept);
    const Eigen::LDLT<Eigen::MatrixXd> decomposition(fixed);
    if (decomposition.info() != Eigen::Success || !decomposition.isPositive()) return std::nullopt;
    const Eigen::MatrixXd covariance = decomposition.solve(Eigen::MatrixXd::Identity(fixed.rows(), fixed.cols())) * variance;

    std::vector<Eigen::Index> placeOf(std::size_t(size), -1);
    for (std::size_t i = 0; i < kept.size(); ++i) placeOf[std::size_t(kept[i])] = Eigen::Index(i);
    BundleCovariance result;
    if (options.freeFocal) result.focal_px = std::sqrt(std::max(0.0, covariance(placeOf[std::size_t(size - lensCount)], placeOf[std::size_t(size - lensCount)])));
    for (std::size_t i = 0; i < cameraCount; ++i) {
        // The centre is -R^T t; a turn about the camera moves it by R^T [t]x, a shift by -R^T.
        Eigen::Matrix<double, 3, 6> byLocal;
        const Vector3d& t = bundle.cameras[i].translation;
        Matrix3d crossT;
        crossT << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
        byLocal << rotations[i].transpose() * -crossT, -rotations[i].transpose();
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
