#include "camera/normalequations.h"

#include <array>
#include <cmath>

namespace pinion {
namespace {

using bundling::NormalEquations;
using Eigen::Index;
using Eigen::Matrix3d;
using Eigen::MatrixXd;
using Eigen::Vector3d;

Matrix3d crossOf(const Vector3d& v) {
    Matrix3d cross;
    cross << 0, -v.z(), v.y(), v.z(), 0, -v.x(), -v.y(), v.x(), 0;
    return cross;
}

/// What the errors that are left say of the noise.
struct Noise {
    double factor = 0;  ///< the inverse of the normal equations times this is the covariance
    double sigma = 0;
};

Noise noiseOf(const Bundle& bundle, const BundleOptions& options, double parameters) {
    const double width2 = options.robustWidth_px * options.robustWidth_px;
    std::vector<double> errors;
    double squares = 0, slopes = 0;
    for (const auto& seen : bundle.observations) {
        const double error = errorOf(bundle, seen) * seen.weight;
        if (!std::isfinite(error)) continue;
        errors.push_back(error);
        const double weight = 1 / (1 + error * error / width2);
        squares += 0.5 * weight * weight * error * error;
        // The curvature that the normal equations hold: the mean of across and along the error.
        slopes += 0.5 * weight * (1 + std::max(0.02, (width2 - error * error) / (width2 + error * error)));
    }
    if (errors.empty()) return {};
    const double count = double(errors.size());
    const double spare = 2 * count / std::max(0.05 * 2 * count, 2 * count - parameters);
    const auto middle = errors.begin() + std::ptrdiff_t(errors.size() / 2);
    std::nth_element(errors.begin(), middle, errors.end());
    // The median of the length of a plane Gaussian vector is 1.1774 of its deviation on one axis.
    return {squares / slopes * spare, *middle / 1.1774 * std::sqrt(spare)};
}

/// By how much errors that follow each other in time make the answer less sure than as many free ones: 1 + 2 times the
/// sum of the autocorrelations of the tracks' errors (Bartlett 1946). A tracker's errors last; a table of random ones
/// gives 1.
double lastingOf(const Bundle& bundle, const BundleOptions& options) {
    constexpr std::size_t kLags = 25;
    std::array<double, kLags + 1> sums{};
    std::array<double, kLags + 1> counts{};
    std::vector<Eigen::Vector2d> errors;
    const auto take = [&] {
        if (errors.size() >= 10)
            for (std::size_t lag = 0; lag <= std::min(kLags, errors.size() / 2); ++lag)
                for (std::size_t i = 0; i + lag < errors.size(); ++i) {
                    sums[lag] += errors[i].dot(errors[i + lag]);
                    ++counts[lag];
                }
        errors.clear();
    };
    for (std::size_t i = 0; i < bundle.observations.size(); ++i) {
        const auto& seen = bundle.observations[i];
        if (i > 0 && seen.point != bundle.observations[i - 1].point) take();
        const auto camera = std::size_t(seen.camera);
        const Pose& pose = bundle.cameras[camera];
        const Projection projection = project(bundle.lensOf(camera), pose.rotation.toRotationMatrix(), pose.translation,
                                              bundle.points[std::size_t(seen.point)], false);
        if (!projection.inFront) continue;
        Eigen::Vector2d error = projection.plate - seen.plate;
        // As the loss counts it.
        error /= 1 + error.squaredNorm() / (options.robustWidth_px * options.robustWidth_px);
        errors.push_back(error);
    }
    take();
    if (counts[0] < 100 || !(sums[0] > 0)) return 1;
    double total = 1;
    for (std::size_t lag = 1; lag <= kLags && counts[lag] > 50; ++lag) {
        const double correlation = (sums[lag] / counts[lag]) / (sums[0] / counts[0]);
        if (correlation < 0.05) break;
        total += 2 * correlation;
    }
    return total;
}

template <bool Places, bool Zoom>
std::optional<BundleCovariance> covarianceAs(const Bundle& bundle, const BundleOptions& options, bool lensOnly) {
    using Equations = NormalEquations<Places, Zoom>;
    constexpr int B = Equations::B;
    constexpr int kGauge = Places ? 7 : 3;
    Equations equations(bundle, options);
    equations.linearise(bundle, true);
    equations.collectGradient();
    Envelope matrix = equations.emptyMatrix();
    Eigen::VectorXd right;
    const auto cameras = bundle.cameras.size();
    const Index cameraRows = Index(cameras) * B, lens = equations.lensCount();

    // The freedoms of a similarity, tied to one camera and to the distance of another; the ties drop out below.
    const auto tie = [&](std::size_t camera, int c) {
        double* block = matrix.at(int(camera), int(camera));
        double& entry = block[Index(c) * matrix.stride(int(camera)) + c];
        entry += std::max(entry, 1e-6);
    };
    const std::size_t held = cameras / 2;
    double spread = 1;
    std::size_t farthest = held;
    int axis = 0;
    if constexpr (Places) {
        const auto distance = [&](std::size_t i) {
            return (bundle.cameras[i].centre() - bundle.cameras[held].centre()).norm();
        };
        double squares = 0;
        for (std::size_t i = 0; i < cameras; ++i) {
            squares += distance(i) * distance(i);
            if (distance(i) > distance(farthest)) farthest = i;
        }
        spread = std::sqrt(squares / double(cameras));
        if (farthest == held || !(spread > 0)) return std::nullopt;
        const Vector3d apart =
            bundle.cameras[farthest].rotation * (bundle.cameras[held].centre() - bundle.cameras[farthest].centre());
        apart.cwiseAbs().maxCoeff(&axis);
    }
    // What hardly anything determines may leave the equations singular to the last digits; then a trace of damping
    // stands in.
    bool factorised = false;
    for (const double trace : {0.0, 1e-10, 1e-8, 1e-6}) {
        equations.reduce(trace, matrix, right);
        for (int c = 0; c < (Places ? 6 : 3); ++c) tie(held, c);
        if constexpr (Places) tie(farthest, 3 + axis);
        factorised = matrix.factorise();
        if (factorised) break;
    }
    if (!factorised) return std::nullopt;

    // Columns: how a similarity moves all cameras, and the measure by which the best one is found.
    MatrixXd gauge = MatrixXd::Zero(cameraRows, kGauge), measured = MatrixXd::Zero(cameraRows + lens, kGauge);
    std::vector<Eigen::Matrix<double, 3, 6>> centres(Places ? cameras : 0);
    for (std::size_t i = 0; i < cameras; ++i) {
        const Index at = Index(i) * B;
        const Matrix3d rotation = bundle.cameras[i].rotation.toRotationMatrix();
        gauge.block<3, 3>(at, 0) = -rotation;
        if constexpr (Places) {
            gauge.template block<3, 3>(at + 3, 3) = -rotation;
            gauge.template block<3, 1>(at + 3, 6) = bundle.cameras[i].translation;
            centres[i] = Equations::centreByPose(bundle.cameras[i]);
            Eigen::Matrix<double, 6, 6> weight = centres[i].transpose() * centres[i];
            weight.topLeftCorner<3, 3>().diagonal().array() += spread * spread;
            measured.template middleRows<6>(at) = weight * gauge.template middleRows<6>(at);
        } else {
            measured.template middleRows<3>(at) = gauge.template middleRows<3>(at);
        }
    }
    const MatrixXd shape =
        (gauge.transpose() * measured.topRows(cameraRows)).ldlt().solve(MatrixXd::Identity(kGauge, kGauge));
    const MatrixXd spreadColumns = matrix.solve(measured);
    const MatrixXd inner = measured.transpose() * spreadColumns;
    matrix.invert();

    const double parameters = double(cameraRows + lens) - kGauge + (Places ? 3.0 : 2.0) * double(bundle.points.size());
    Noise noise = noiseOf(bundle, options, parameters);
    noise.factor *= lastingOf(bundle, options);
    BundleCovariance result;
    result.noise_px = noise.sigma;
    result.factor = noise.factor;
    result.terms = equations.terms();
    result.lens = matrix.corner() * noise.factor;
    if (!result.lens.allFinite()) return std::nullopt;
    if (lensOnly) return result;
    const auto free = [&](const MatrixXd& own, const MatrixXd& moves, const MatrixXd& columns) {
        const MatrixXd mixed = moves * shape * columns.transpose();
        return MatrixXd(own - mixed - mixed.transpose() + moves * shape * inner * shape * moves.transpose());
    };
    const auto blockOf = [&](int row, int column) {
        return Eigen::Map<const Eigen::Matrix<double, B, B, Eigen::RowMajor>, 0, Eigen::OuterStride<>>(
            matrix.at(row, column), B, B, Eigen::OuterStride<>(matrix.stride(row)));
    };
    for (std::size_t i = 0; i < cameras; ++i) {
        const Index at = Index(i) * B;
        if constexpr (Zoom)
            result.focals_px.push_back(std::sqrt(std::max(0.0, noise.factor * blockOf(int(i), int(i))(B - 1, B - 1))));
        if constexpr (Places) {
            const MatrixXd own = blockOf(int(i), int(i)).template topLeftCorner<6, 6>();
            const MatrixXd cov = free(own, gauge.template middleRows<6>(at), spreadColumns.template middleRows<6>(at));
            result.positions.emplace_back(noise.factor * centres[i] * cov * centres[i].transpose());
        }
    }
    result.points.resize(bundle.points.size());
    if constexpr (Places) {
        parallelFor(
            bundle.points.size(),
            [&](std::size_t p) {
                const Eigen::Vector4d& point = bundle.points[p];
                if (std::abs(point[3]) < 1e-9) return;
                std::vector<std::pair<int, typename Equations::Tall>> seen;
                equations.visitCross(p, [&](std::size_t camera, const typename Equations::Tall& w) {
                    seen.emplace_back(int(camera), w);
                });
                if (seen.size() < 2) return;
                const std::size_t step = std::max<std::size_t>(1, seen.size() / 400);
                if (step > 1) return;  // hundreds of frames: its place is as sure as the path itself
                Matrix3d middle = Matrix3d::Zero();
                Eigen::Matrix<double, 3, kGauge> columns = Eigen::Matrix<double, 3, kGauge>::Zero();
                for (std::size_t a = 0; a < seen.size(); ++a) {
                    columns.noalias() -=
                        seen[a].second.transpose() * spreadColumns.template middleRows<B>(Index(seen[a].first) * B);
                    Eigen::Matrix<double, B, 3> sum = 0.5 * (blockOf(seen[a].first, seen[a].first) * seen[a].second);
                    for (std::size_t b = 0; b < a; ++b)
                        sum.noalias() += blockOf(seen[a].first, seen[b].first) * seen[b].second;
                    const Matrix3d half = seen[a].second.transpose() * sum;
                    middle += half + half.transpose();
                    if (lens > 0) {
                        const Matrix3d cross = equations.lensCross(p) *
                                               matrix.border().template middleCols<B>(Index(seen[a].first) * B) *
                                               seen[a].second;
                        middle += cross + cross.transpose();
                    }
                }
                if (lens > 0) {
                    middle += equations.lensCross(p) * matrix.corner() * equations.lensCross(p).transpose();
                    columns -= equations.lensCross(p) * spreadColumns.bottomRows(lens);
                }
                const Matrix3d& inverse = equations.pointInverse(p);
                const Vector3d place = point.head<3>() / point[3];
                Eigen::Matrix<double, 3, 4> finite;
                finite << Matrix3d::Identity() / point[3], -point.head<3>() / (point[3] * point[3]);
                const Matrix3d byTangent = finite * equations.tangent(p);
                const Matrix3d own = byTangent * (inverse + inverse * middle * inverse) * byTangent.transpose();
                Eigen::Matrix<double, 3, 7> moves;
                moves << -crossOf(place), Matrix3d::Identity(), place;
                const Matrix3d cov = free(own, moves, byTangent * inverse * columns) * noise.factor;
                if (cov.allFinite()) result.points[p] = cov;
            },
            16);
    }
    return result;
}

}  // namespace

double BundleCovariance::deviationOf(LensTerm term) const {
    const auto found = std::find(terms.begin(), terms.end(), term);
    if (found == terms.end()) return 0.0;
    const Index at = found - terms.begin();
    return std::sqrt(std::max(0.0, lens(at, at)));
}

std::optional<BundleCovariance> covarianceOf(const Bundle& bundle, const BundleOptions& options, bool lensOnly) {
    if (bundle.observations.empty()) return std::nullopt;
    return bundling::withShape(bundle, options, [&]<bool Places, bool Zoom>() {
        return covarianceAs<Places, Zoom>(bundle, options, lensOnly);
    });
}

}  // namespace pinion
