#include "camera/bundle.h"

#include "camera/normalequations.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>

namespace pinion {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

using bundling::NormalEquations;

/// The bundle after a step of cameras, lens and points.
template <bool Places, bool Zoom>
Bundle stepped(const Bundle& bundle, const NormalEquations<Places, Zoom>& equations, const Eigen::VectorXd& steps,
               const std::vector<Vector3d>& pointSteps) {
    constexpr int B = NormalEquations<Places, Zoom>::B;
    Bundle moved;
    moved.lens = bundle.lens;
    moved.k1Slope = bundle.k1Slope;
    moved.cameras = bundle.cameras;
    moved.focals = bundle.focals;
    moved.times = bundle.times;
    moved.readout = bundle.readout;
    const auto focalWithin = [&](double focal_px) {
        return std::clamp(focal_px, 0.15 * bundle.lens.width, 60.0 * bundle.lens.width);
    };
    for (std::size_t i = 0; i < bundle.cameras.size(); ++i) {
        const Eigen::Index at = Eigen::Index(i) * B;
        const Vector3d turn = steps.segment<3>(at);
        const double angle = turn.norm();
        Pose& pose = moved.cameras[i];
        if (angle > 1e-300)
            pose.rotation = (Eigen::Quaterniond(Eigen::AngleAxisd(angle, turn / angle)) * pose.rotation).normalized();
        if constexpr (Places) pose.translation += steps.segment<3>(at + 3);
        if constexpr (Zoom) moved.focals[i] = focalWithin(moved.focals[i] + steps[at + B - 1]);
    }
    const auto& terms = equations.terms();
    for (std::size_t c = 0; c < terms.size(); ++c) {
        const double step = steps[Eigen::Index(bundle.cameras.size()) * B + Eigen::Index(c)];
        moveTerm(moved, terms[c], step);
    }
    moved.lens.focal_px = focalWithin(moved.lens.focal_px);
    moved.points.resize(bundle.points.size());
    equations.settlePoints(moved, bundle, pointSteps);
    return moved;
}

template <bool Places, bool Zoom>
bool adjustAs(Bundle& bundle, const BundleOptions& options, const Progress& progress) {
    NormalEquations<Places, Zoom> equations(bundle, options);
    double cost = equations.linearise(bundle, true);
    equations.collectGradient();
    double damping = options.damping, growth = 3;
    Envelope matrix = equations.emptyMatrix();
    Eigen::VectorXd right;
    for (int round = 0; round < options.rounds && !progress.stopped(); ++round) {
        equations.reduce(damping, matrix, right);
        bool better = false;
        if (matrix.factorise()) {
            const Eigen::VectorXd steps = matrix.solve(right);
            double predicted = 0;
            const auto pointSteps = equations.pointSteps(steps, damping, equations.gradient(), predicted);
            if (steps.allFinite()) {
                Bundle moved = stepped(bundle, equations, steps, pointSteps);
                moved.observations.swap(bundle.observations);
                const double movedCost = equations.linearise(moved, false);
                if (movedCost < cost) {
                    // Where the likelihood does not change, there is nothing left to find.
                    const double fall = cost - movedCost;
                    const bool settled = damping < 1e-3 && fall < std::max(options.settled * cost,
                                                                           0.01 * options.noise_px * options.noise_px);
                    bundle = std::move(moved);
                    better = true;
                    // The valley of focal length and depth is many decades flatter than its walls, and bent.
                    const double gain = fall / std::max(predicted, 1e-300);
                    damping = std::clamp(damping * (gain > 0.8 ? 0.15 : gain > 0.3 ? 0.6 : 2.0), 1e-10, 1e8);
                    growth = 3;
                    if (options.watch) options.watch(bundle);
                    if (settled) break;
                    cost = equations.linearise(bundle, true);
                    equations.collectGradient();
                } else {
                    moved.observations.swap(bundle.observations);
                }
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

}  // namespace

bool adjust(Bundle& bundle, const BundleOptions& options, const Progress& progress) {
    if (bundle.observations.empty()) return !progress.stopped();
    return bundling::withShape(
        bundle, options, [&]<bool Places, bool Zoom>() { return adjustAs<Places, Zoom>(bundle, options, progress); });
}

double costOf(const Bundle& bundle, const BundleOptions& options) {
    return bundling::withShape(bundle, options, [&]<bool Places, bool Zoom>() {
        return NormalEquations<Places, Zoom>(bundle, options).linearise(bundle, false);
    });
}

}  // namespace pinion
