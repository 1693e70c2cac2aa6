#include "camera/lengths.h"

#include "base/linear.h"
#include "camera/normalequations.h"

#include <cmath>

namespace pinion {
namespace {

using bundling::NormalEquations;
using Eigen::Index;
using Eigen::Matrix3d;
using Eigen::MatrixXd;
using Eigen::Vector3d;
using Eigen::VectorXd;

constexpr int kRounds = 4;

Vector3d parameterOf(const Bundle& bundle, int point) {
    const Eigen::Vector4d& at = bundle.points[std::size_t(point)];
    return at.head<3>() / at[3];
}

/// How the logarithm of a length follows the two points' steps in their tangents.
struct Slope {
    Vector3d a, b;
};

template <bool Zoom>
class LengthAdjustment {
public:
    LengthAdjustment(Bundle& bundle, const BundleOptions& options, const std::vector<KnownLength>& lengths)
        : bundle_(bundle), options_(options), lengths_(lengths), count_(Index(lengths.size())) {}

    /// `factor`: what turns the inverse of the normal equations into a covariance, pixels squared.
    std::optional<LengthFit> run(double factor) {
        LengthFit fit;
        fit.tests.assign(lengths_.size(), 0.0);
        for (int round = 0; round < kRounds; ++round)
            if (!step(factor, round == 0 ? &fit.tests : nullptr)) return std::nullopt;
        double sum = 0, weights = 0;
        for (const KnownLength& known : lengths_) {
            const double weight = std::pow(known.length / known.sigma, 2);
            sum += weight * std::log(known.length / lengthOf(known));
            weights += weight;
        }
        fit.scale = std::exp(sum / weights);
        for (const KnownLength& known : lengths_) fit.found.push_back(fit.scale * lengthOf(known));
        return fit;
    }

private:
    using Equations = NormalEquations<true, Zoom>;
    static constexpr int B = Equations::B;

    double lengthOf(const KnownLength& known) const {
        return (parameterOf(bundle_, known.a) - parameterOf(bundle_, known.b)).norm();
    }

    bool step(double factor, std::vector<double>* tests) {
        Equations equations(bundle_, options_);
        equations.linearise(bundle_, true);
        equations.collectGradient();
        Envelope matrix = equations.emptyMatrix();
        VectorXd right;
        equations.reduce(1e-10, matrix, right);
        tie(matrix);
        if (!matrix.factorise()) return false;

        std::vector<Slope> slopes;
        MatrixXd columns = MatrixXd::Zero(equations.size(), count_);
        for (Index i = 0; i < count_; ++i) {
            slopes.push_back(slopeOf(equations, lengths_[std::size_t(i)]));
            eliminate(equations, std::size_t(lengths_[std::size_t(i)].a), slopes.back().a, columns.col(i));
            eliminate(equations, std::size_t(lengths_[std::size_t(i)].b), slopes.back().b, columns.col(i));
        }
        const MatrixXd responses = matrix.solve(columns);
        const VectorXd own = matrix.solve(right);
        double predicted = 0;
        const auto ownPoints = equations.pointSteps(own, 0, equations.gradient(), predicted);

        // What tracks alone say of the logarithms, and how the lengths' pulls change them.
        MatrixXd spread(count_, count_);
        VectorXd misfit(count_), sigmas(count_);
        for (Index i = 0; i < count_; ++i) {
            const KnownLength& known = lengths_[std::size_t(i)];
            const Slope& slope = slopes[std::size_t(i)];
            for (Index k = 0; k < count_; ++k) {
                spread(i, k) = slope.a.dot(response(equations, known.a, k, responses, slopes)) +
                               slope.b.dot(response(equations, known.b, k, responses, slopes));
            }
            misfit[i] = std::log(known.length / lengthOf(known)) - slope.a.dot(ownPoints[std::size_t(known.a)]) -
                        slope.b.dot(ownPoints[std::size_t(known.b)]);
            sigmas[i] = std::pow(known.sigma / known.length, 2);
        }
        spread = 0.5 * (spread + spread.transpose()).eval();
        MatrixXd total = factor * spread;
        total.diagonal() += sigmas;
        const MatrixXd inverse = solvedSymmetric(total, MatrixXd(MatrixXd::Identity(count_, count_)));
        // The scale is free: what all have in common says nothing.
        const VectorXd common = inverse.rowwise().sum();
        const MatrixXd telling = inverse - common * common.transpose() / common.sum();
        const VectorXd pulls = telling * misfit;
        if (tests && count_ > 1)
            for (Index i = 0; i < count_; ++i)
                // A length that nothing else bears on has no test.
                if (telling(i, i) > 1e-9 * inverse(i, i))
                    (*tests)[std::size_t(i)] = pulls[i] / std::sqrt(telling(i, i));

        const VectorXd lambda = factor * pulls;
        const VectorXd steps = own + responses * lambda;
        auto pointSteps = equations.pointSteps(steps, 0, equations.gradient(), predicted);
        for (Index i = 0; i < count_; ++i) {
            const KnownLength& known = lengths_[std::size_t(i)];
            pointSteps[std::size_t(known.a)] +=
                equations.pointInverse(std::size_t(known.a)) * slopes[std::size_t(i)].a * lambda[i];
            pointSteps[std::size_t(known.b)] +=
                equations.pointInverse(std::size_t(known.b)) * slopes[std::size_t(i)].b * lambda[i];
        }
        if (!steps.allFinite()) return false;
        apply(equations, steps, pointSteps);
        return true;
    }

    /// The freedoms of a similarity, held at one camera and one coordinate of the farthest; no length ratio depends on
    /// how.
    void tie(Envelope& matrix) const {
        const std::size_t held = bundle_.cameras.size() / 2;
        std::size_t farthest = held;
        const auto distance = [&](std::size_t i) {
            return (bundle_.cameras[i].centre() - bundle_.cameras[held].centre()).norm();
        };
        for (std::size_t i = 0; i < bundle_.cameras.size(); ++i)
            if (distance(i) > distance(farthest)) farthest = i;
        int axis = 0;
        const Vector3d apart =
            bundle_.cameras[farthest].rotation * (bundle_.cameras[held].centre() - bundle_.cameras[farthest].centre());
        apart.cwiseAbs().maxCoeff(&axis);
        const auto stiffen = [&](std::size_t camera, int c) {
            double& entry = matrix.at(int(camera), int(camera))[Index(c) * matrix.stride(int(camera)) + c];
            entry += std::max(entry, 1e-6);
        };
        for (int c = 0; c < 6; ++c) stiffen(held, c);
        stiffen(farthest, 3 + axis);
    }

    Slope slopeOf(const Equations& equations, const KnownLength& known) const {
        const Vector3d apart = parameterOf(bundle_, known.a) - parameterOf(bundle_, known.b);
        const Vector3d direction = apart / apart.squaredNorm();
        const auto byTangent = [&](int point) -> Matrix3d {
            const Eigen::Vector4d& at = bundle_.points[std::size_t(point)];
            Eigen::Matrix<double, 3, 4> finite;
            finite << Matrix3d::Identity() / at[3], -at.head<3>() / (at[3] * at[3]);
            return finite * equations.tangent(std::size_t(point));
        };
        return {byTangent(known.a).transpose() * direction, -(byTangent(known.b).transpose() * direction)};
    }

    /// Adds what a pull on a point is to the cameras and the lens.
    void eliminate(const Equations& equations, std::size_t point, const Vector3d& pull,
                   Eigen::Ref<VectorXd> column) const {
        const Vector3d moved = equations.pointInverse(point) * pull;
        for (const auto& [camera, w] : equations.crossOf(point))
            column.template segment<B>(Index(camera) * B) -= w * moved;
        if (equations.lensCount() > 0)
            column.tail(equations.lensCount()) -= equations.lensCross(point).transpose().lazyProduct(moved);
    }

    /// A point's step for a unit pull of length k.
    Vector3d response(const Equations& equations, int point, Index k, const MatrixXd& responses,
                      const std::vector<Slope>& slopes) const {
        const KnownLength& pulled = lengths_[std::size_t(k)];
        Vector3d right = Vector3d::Zero();
        if (pulled.a == point) right += slopes[std::size_t(k)].a;
        if (pulled.b == point) right += slopes[std::size_t(k)].b;
        for (const auto& [camera, w] : equations.crossOf(std::size_t(point)))
            right -= w.transpose() * responses.col(k).template segment<B>(Index(camera) * B);
        if (equations.lensCount() > 0)
            right -= equations.lensCross(std::size_t(point)).lazyProduct(responses.col(k).tail(equations.lensCount()));
        return equations.pointInverse(std::size_t(point)) * right;
    }

    void apply(const Equations& equations, const VectorXd& steps, const std::vector<Vector3d>& pointSteps) {
        const Bundle before = bundle_;
        for (std::size_t i = 0; i < bundle_.cameras.size(); ++i) {
            const Index at = Index(i) * B;
            const Vector3d turn = steps.segment<3>(at);
            Pose& pose = bundle_.cameras[i];
            if (turn.norm() > 1e-300)
                pose.rotation = (Eigen::Quaterniond(Eigen::AngleAxisd(turn.norm(), turn.normalized())) * pose.rotation)
                                    .normalized();
            pose.translation += steps.segment<3>(at + 3);
            if constexpr (Zoom) bundle_.focals[i] += steps[at + B - 1];
        }
        for (std::size_t c = 0; c < equations.terms().size(); ++c) {
            const double step = steps[Index(bundle_.cameras.size()) * B + Index(c)];
            moveTerm(bundle_, equations.terms()[c], step);
        }
        // What its sightings hardly determine (short, far, or gone astray) would be thrown across the picture by a
        // whole step; those that are measured follow their measures.
        equations.settlePoints(bundle_, before, pointSteps);
        for (const KnownLength& known : lengths_)
            for (const int point : {known.a, known.b}) {
                const auto p = std::size_t(point);
                bundle_.points[p] = (before.points[p] + equations.tangent(p) * pointSteps[p]).normalized();
            }
    }

    Bundle& bundle_;
    const BundleOptions& options_;
    const std::vector<KnownLength>& lengths_;
    Index count_;
};

}  // namespace

std::optional<LengthFit> adjustWithLengths(Bundle& bundle, const BundleOptions& options,
                                           const std::vector<KnownLength>& lengths) {
    if (lengths.empty() || bundle.cameras.size() < 3 || !options.freePlaces) return std::nullopt;
    const auto covariance = covarianceOf(bundle, options, true);
    if (!covariance) return std::nullopt;
    if (bundle.isZoom()) return LengthAdjustment<true>(bundle, options, lengths).run(covariance->factor);
    return LengthAdjustment<false>(bundle, options, lengths).run(covariance->factor);
}

}  // namespace pinion
