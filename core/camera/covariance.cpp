#include "camera/normalequations.h"

#include "base/linear.h"
#include "base/parallel.h"

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
    const std::vector<Eigen::Vector2d> places = modelledPlaces(bundle);
    for (std::size_t i = 0; i < places.size(); ++i) {
        const auto& seen = bundle.observations[i];
        const double error = (places[i] - seen.plate).norm() * seen.weight;
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
    const std::vector<Eigen::Vector2d> places = modelledPlaces(bundle);
    for (std::size_t i = 0; i < bundle.observations.size(); ++i) {
        const auto& seen = bundle.observations[i];
        if (i > 0 && seen.point != bundle.observations[i - 1].point) take();
        if (!places[i].allFinite()) continue;
        Eigen::Vector2d error = places[i] - seen.plate;
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

/// The covariance of a free network: what the tracks leave open (a similarity, or a turn) is shared out so that all
/// cameras together move least, and counts as certain.
template <bool Places, bool Zoom>
class FreeNetwork {
public:
    using Equations = NormalEquations<Places, Zoom>;
    using Tall = typename Equations::Tall;
    static constexpr int B = Equations::B;
    static constexpr int kGauge = Places ? 7 : 3;

    FreeNetwork(const Bundle& bundle, const BundleOptions& options)
        : bundle_(bundle), options_(options), equations_(bundle, options), matrix_(equations_.emptyMatrix()) {
        equations_.linearise(bundle, true);
        equations_.collectGradient();
        lens_ = equations_.lensCount();
    }

    std::optional<BundleCovariance> covariance(bool lensOnly) {
        if (!hold() || !factorise()) return std::nullopt;
        shareOut();
        const Noise noise = noiseNow();
        BundleCovariance result;
        result.noise_px = noise.sigma;
        result.factor = factor_ = noise.factor;
        result.terms = equations_.terms();
        result.lens = matrix_.corner() * factor_;
        if (!result.lens.allFinite()) return std::nullopt;
        if (lensOnly) return result;
        ofCameras(result);
        result.points.resize(bundle_.points.size());
        if constexpr (Places)
            parallelFor(
                bundle_.points.size(), [&](std::size_t p) { result.points[p] = ofPoint(p); }, 16);
        return result;
    }

private:
    /// Chooses what ties the freedoms of a similarity down: one camera, and the distance of another.
    bool hold() {
        held_ = bundle_.cameras.size() / 2;
        farthest_ = held_;
        if constexpr (Places) {
            const auto distance = [&](std::size_t i) {
                return (bundle_.cameras[i].centre() - bundle_.cameras[held_].centre()).norm();
            };
            double squares = 0;
            for (std::size_t i = 0; i < bundle_.cameras.size(); ++i) {
                squares += distance(i) * distance(i);
                if (distance(i) > distance(farthest_)) farthest_ = i;
            }
            spread_ = std::sqrt(squares / double(bundle_.cameras.size()));
            if (farthest_ == held_ || !(spread_ > 0)) return false;
            const Pose& far = bundle_.cameras[farthest_];
            const Vector3d apart = far.rotation * (bundle_.cameras[held_].centre() - far.centre());
            apart.cwiseAbs().maxCoeff(&axis_);
        }
        return true;
    }

    void tie(std::size_t camera, int c) {
        double* block = matrix_.at(int(camera), int(camera));
        double& entry = block[Index(c) * matrix_.stride(int(camera)) + c];
        entry += std::max(entry, 1e-6);
    }

    bool factorise() {
        Eigen::VectorXd right;
        // What hardly anything determines may leave the equations singular to the last digits; then a trace of damping
        // stands in.
        for (const double trace : {0.0, 1e-10, 1e-8, 1e-6}) {
            equations_.reduce(trace, matrix_, right);
            for (int c = 0; c < (Places ? 6 : 3); ++c) tie(held_, c);
            if constexpr (Places) tie(farthest_, 3 + axis_);
            if (matrix_.factorise()) return true;
        }
        return false;
    }

    /// Columns: how a similarity moves all cameras, and the measure by which the best one is found. The ties drop out.
    void shareOut() {
        const auto cameras = bundle_.cameras.size();
        const Index cameraRows = Index(cameras) * B;
        gauge_ = MatrixXd::Zero(cameraRows, kGauge);
        MatrixXd measure = MatrixXd::Zero(cameraRows + lens_, kGauge);
        centres_.resize(Places ? cameras : 0);
        for (std::size_t i = 0; i < cameras; ++i) {
            const Index at = Index(i) * B;
            const Matrix3d rotation = bundle_.cameras[i].rotation.toRotationMatrix();
            gauge_.template block<3, 3>(at, 0) = -rotation;
            if constexpr (Places) {
                gauge_.template block<3, 3>(at + 3, 3) = -rotation;
                gauge_.template block<3, 1>(at + 3, 6) = bundle_.cameras[i].translation;
                centres_[i] = centreByPose(bundle_.cameras[i]);
                Eigen::Matrix<double, 6, 6> weight = centres_[i].transpose() * centres_[i];
                weight.topLeftCorner<3, 3>().diagonal().array() += spread_ * spread_;
                measure.template middleRows<6>(at) = weight.lazyProduct(gauge_.template middleRows<6>(at));
            } else {
                measure.template middleRows<3>(at) = gauge_.template middleRows<3>(at);
            }
        }
        shape_ = solvedSymmetric(MatrixXd(gauge_.transpose() * measure.topRows(cameraRows)),
                                 MatrixXd(MatrixXd::Identity(kGauge, kGauge)));
        spreadColumns_ = matrix_.solve(measure);
        inner_ = measure.transpose() * spreadColumns_;
        matrix_.invert();
    }

    Noise noiseNow() const {
        const double parameters = double(Index(bundle_.cameras.size()) * B + lens_) - kGauge +
                                  (Places ? 3.0 : 2.0) * double(bundle_.points.size());
        Noise noise = noiseOf(bundle_, options_, parameters);
        noise.factor *= lastingOf(bundle_, options_);
        return noise;
    }

    /// A part's own covariance without what a similarity, which moves it by `moves`, leaves open.
    MatrixXd free(const MatrixXd& own, const MatrixXd& moves, const MatrixXd& columns) const {
        const MatrixXd shared = moves * shape_;
        const MatrixXd mixed = shared * columns.transpose();
        const MatrixXd left = shared * inner_;
        return own - mixed - mixed.transpose() + left * shared.transpose();
    }

    auto blockOf(int row, int column) {
        return Eigen::Map<const Eigen::Matrix<double, B, B, Eigen::RowMajor>, 0, Eigen::OuterStride<>>(
            matrix_.at(row, column), B, B, Eigen::OuterStride<>(matrix_.stride(row)));
    }

    void ofCameras(BundleCovariance& result) {
        for (std::size_t i = 0; i < bundle_.cameras.size(); ++i) {
            const Index at = Index(i) * B;
            if constexpr (Zoom)
                result.focals_px.push_back(std::sqrt(std::max(0.0, factor_ * blockOf(int(i), int(i))(B - 1, B - 1))));
            if constexpr (Places) {
                const MatrixXd own = blockOf(int(i), int(i)).template topLeftCorner<6, 6>();
                const MatrixXd cov =
                    free(own, gauge_.template middleRows<6>(at), spreadColumns_.template middleRows<6>(at));
                const Eigen::Matrix<double, 3, 6> mixed = factor_ * centres_[i].lazyProduct(cov);
                result.positions.emplace_back(mixed.lazyProduct(centres_[i].transpose()));
            }
        }
    }

    /// How a point's step follows from what is unsure of the cameras and the lens that saw it.
    struct Followed {
        Matrix3d middle = Matrix3d::Zero();
        Eigen::Matrix<double, 3, kGauge> columns = Eigen::Matrix<double, 3, kGauge>::Zero();
    };

    Followed followed(std::size_t p, const std::vector<std::pair<int, Tall>>& seen) {
        Followed sum;
        for (std::size_t a = 0; a < seen.size(); ++a) {
            const auto& [camera, cross] = seen[a];
            sum.columns -= cross.transpose().lazyProduct(spreadColumns_.template middleRows<B>(Index(camera) * B));
            Eigen::Matrix<double, B, 3> row = 0.5 * blockOf(camera, camera).lazyProduct(cross);
            for (std::size_t b = 0; b < a; ++b) row += blockOf(camera, seen[b].first).lazyProduct(seen[b].second);
            const Matrix3d half = cross.transpose() * row;
            sum.middle += half + half.transpose();
            if (lens_ > 0) {
                const Eigen::Matrix<double, 3, B> mixed =
                    equations_.lensCross(p).lazyProduct(matrix_.border().template middleCols<B>(Index(camera) * B));
                const Matrix3d byLens = mixed * cross;
                sum.middle += byLens + byLens.transpose();
            }
        }
        if (lens_ > 0) {
            const typename Equations::LensCross mixed = equations_.lensCross(p).lazyProduct(matrix_.corner());
            sum.middle += mixed.lazyProduct(equations_.lensCross(p).transpose());
            sum.columns -= equations_.lensCross(p).lazyProduct(spreadColumns_.bottomRows(lens_));
        }
        return sum;
    }

    std::optional<Matrix3d> ofPoint(std::size_t p) {
        const Eigen::Vector4d& point = bundle_.points[p];
        if (std::abs(point[3]) < 1e-9) return std::nullopt;
        const std::vector<std::pair<int, Tall>> seen = equations_.crossOf(p);
        // Seen in hundreds of frames, its place is as sure as the path itself.
        if (seen.size() < 2 || seen.size() >= 800) return std::nullopt;
        const Followed sum = followed(p, seen);
        const Matrix3d& inverse = equations_.pointInverse(p);
        const Vector3d place = point.head<3>() / point[3];
        Eigen::Matrix<double, 3, 4> finite;
        finite << Matrix3d::Identity() / point[3], -point.head<3>() / (point[3] * point[3]);
        const Matrix3d byTangent = finite * equations_.tangent(p);
        const Matrix3d own = byTangent * (inverse + inverse * sum.middle * inverse) * byTangent.transpose();
        Eigen::Matrix<double, 3, 7> moves;
        moves << -crossOf(place), Matrix3d::Identity(), place;
        const Matrix3d cov = free(own, moves, byTangent * inverse * sum.columns) * factor_;
        if (!cov.allFinite()) return std::nullopt;
        return cov;
    }

    const Bundle& bundle_;
    const BundleOptions& options_;
    Equations equations_;
    Envelope matrix_;
    Index lens_ = 0;
    std::size_t held_ = 0, farthest_ = 0;
    int axis_ = 0;
    double spread_ = 1, factor_ = 0;
    MatrixXd gauge_, shape_, spreadColumns_, inner_;
    std::vector<Eigen::Matrix<double, 3, 6>> centres_;
};

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
        return FreeNetwork<Places, Zoom>(bundle, options).covariance(lensOnly);
    });
}

}  // namespace pinion
