#include "planar/cylinderfit.h"

#include "base/linear.h"
#include "planar/alignment.h"
#include "planar/surface.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kMostRounds = 6;
constexpr double kSideSpread = 3.0;    // pixels by which a side is drawn wrongly
constexpr double kFocalSpread = 0.25;  // of an unknown focal length's logarithm
// Pixels share their grain, and what a cylinder is not is in many of them alike: as if there were so many fewer.
constexpr double kAlikeNoise = 30;
constexpr double kSureFacing = 0.35;  // the cosine: what every shape that is tried still sees

/// The two ends of the left side, of the right one, moved across the body; the focal length's logarithm.
using Change = Eigen::VectorXd;

PlanarTrack changed(const PlanarTrack& plane, const Change& change) {
    PlanarTrack result = plane;
    Quad& s = *result.sides;
    const Vector2d across = (s[1] - s[0] + s[2] - s[3]).normalized();
    constexpr std::size_t kEnds[4] = {0, 3, 1, 2};
    for (Eigen::Index i = 0; i < 4; ++i) s[kEnds[i]] += change[i] * across;
    if (change.size() > 4)
        result.lens = std::make_shared<const Lens>(atFocal(*plane.lens, plane.lens->focal_px * std::exp(change[4])));
    return result;
}

/// One shape, tried: what is left on each frame once its pose has settled.
struct Trial {
    std::vector<SurfacePose> poses;
    std::vector<std::vector<float>> residuals, weights;
    double left = 0;  ///< sum of the weighted squares
};

class Fit {
public:
    Fit(const Pyramid& reference, const std::vector<FrameForFit>& frames, PlaneExclusion excluded)
        : reference_(reference), frames_(frames), excluded_(std::move(excluded)) {}

    /// From the poses of another shape; its weights, where there are any, judge this one.
    std::optional<Trial> tried(const PlanarTrack& plane, const PlanarTrack& before, const Trial& from,
                               std::vector<PlaneConditions>& conditions, bool ownWeights) const {
        const SurfaceGeometry geometry = plane.geometry(), old = before.geometry();
        if (!geometry.cylinder || !old.cylinder) return std::nullopt;
        auto aligner = PlaneAligner::create(reference_, plane.region(), MotionModel::perspective, excluded_, geometry);
        if (!aligner) return std::nullopt;
        Trial trial;
        for (std::size_t i = 0; i < frames_.size(); ++i) {
            const SurfacePose start = poseOf(plane, geometry, old, from.poses[i]);
            std::vector<float> residual, weight;
            if (!ownWeights) weight = from.weights[i];
            PlaneConditions own = conditions[i];
            const auto pose = aligner->settle(*frames_[i].pyramid, start, own, residual, weight);
            if (!pose) return std::nullopt;
            if (ownWeights) conditions[i] = own;
            for (std::size_t k = 0; k < residual.size(); ++k)
                trial.left += double(weight[k]) * double(residual[k]) * double(residual[k]);
            trial.poses.push_back(*pose);
            trial.residuals.push_back(std::move(residual));
            trial.weights.push_back(std::move(weight));
        }
        return trial;
    }

private:
    /// The pose that shows the other shape's pixels where they were.
    static SurfacePose poseOf(const PlanarTrack& plane, const SurfaceGeometry& geometry, const SurfaceGeometry& old,
                              const SurfacePose& pose) {
        std::vector<Vector3d> points;
        std::vector<Vector2d> targets;
        const PlaneBox box = boxOf(plane.region());
        for (int row = 0; row < 4; ++row)
            for (int column = 0; column < 6; ++column) {
                const Vector2d place(box.left + (column + 0.5) / 6 * box.width(),
                                     box.top + (row + 0.5) / 4 * box.height());
                const auto to = old.carried(pose, place);
                if (!to || !plane.region().holds(place)) continue;
                points.push_back(geometry.cylinder->met(rayOf(*plane.lens, place)));
                targets.push_back(straightened(plane.lens, *to));
            }
        // Radii are the unit of either: the shift goes with them.
        const double scale = geometry.cylinder->middle.norm() / old.cylinder->middle.norm();
        return bodySeenAt(*plane.lens, points, targets, {pose.matrix, scale * pose.shift});
    }
    const Pyramid& reference_;
    const std::vector<FrameForFit>& frames_;
    PlaneExclusion excluded_;
};

}  // namespace

PlanarTrack withShapeFitted(const PlanarTrack& plane, const Pyramid& reference, const std::vector<FrameForFit>& frames,
                            bool freeFocal, const PlaneExclusion& excluded) {
    const SurfaceGeometry drawn = plane.geometry();
    if (!drawn.cylinder || frames.empty()) return plane;
    // The same pixels for every shape that is tried.
    const auto left = [&](const Vector2d& place) {
        bool missed = false;
        const Vector3d point = drawn.cylinder->met(rayOf(*plane.lens, place), &missed);
        const Vector3d normal = drawn.cylinder->normal(drawn.cylinder->placeOf(point).x());
        return missed || -normal.dot(point) < kSureFacing * point.norm() || (excluded && excluded(place));
    };
    const Fit fit(reference, frames, left);
    Trial start;
    std::vector<PlaneConditions> conditions(frames.size());
    for (std::size_t i = 0; i < frames.size(); ++i) {
        const auto pose = surfacePoseOn(plane, frames[i].frame);
        if (!pose) return plane;
        start.poses.push_back(*pose);
        conditions[i].matchesBlur = false;
    }
    PlanarTrack best = plane;
    auto now = fit.tried(best, best, start, conditions, true);
    const Eigen::Index count = freeFocal ? 5 : 4;
    Change sum = Change::Zero(count);
    for (int round = 0; now && round < kMostRounds; ++round) {
        Eigen::MatrixXd normal = Eigen::MatrixXd::Zero(count, count);
        Change right = Change::Zero(count);
        double weights = 0;
        std::vector<Trial> trials;
        const auto stepOf = [](Eigen::Index k) { return k < 4 ? 1.0 : 0.02; };
        for (Eigen::Index k = 0; k < count; ++k) {
            Change change = Change::Zero(count);
            change[k] = stepOf(k);
            auto trial = fit.tried(changed(best, change), best, *now, conditions, false);
            if (!trial) return best;
            trials.push_back(*std::move(trial));
        }
        for (std::size_t f = 0; f < frames.size(); ++f)
            for (std::size_t i = 0; i < now->residuals[f].size(); ++i) {
                const double weight = double(now->weights[f][i]), r = double(now->residuals[f][i]);
                if (weight <= 0) continue;
                Eigen::Matrix<double, 5, 1> slope = Eigen::Matrix<double, 5, 1>::Zero();
                for (Eigen::Index k = 0; k < count; ++k)
                    slope[k] = (double(trials[std::size_t(k)].residuals[f][i]) - r) / stepOf(k);
                normal += weight * (slope * slope.transpose()).topLeftCorner(count, count);
                right -= weight * r * slope.head(count);
                weights += weight;
            }
        const double noise2 = kAlikeNoise * now->left / std::max(1.0, weights);
        for (Eigen::Index k = 0; k < count; ++k) {
            const double sigma = noise2 / std::pow(k < 4 ? kSideSpread : kFocalSpread, 2);
            normal(k, k) += sigma;
            right[k] -= sigma * sum[k];
        }
        Change step = solvedSymmetric(normal, right);
        if (!step.allFinite()) break;
        step.head(4) = step.head(4).cwiseMax(-4.0).cwiseMin(4.0);
        if (count > 4) step[4] = std::clamp(step[4], -0.2, 0.2);
        // Half the way where all of it leads astray.
        bool better = false;
        for (int half = 0; half < 3 && !better; ++half, step *= 0.5) {
            const PlanarTrack next = changed(best, step);
            const auto there = fit.tried(next, best, *now, conditions, false);
            if (!there || there->left >= now->left) continue;
            now = fit.tried(next, next, *there, conditions, true);
            best = next;
            sum += step;
            better = true;
            break;
        }
        if (!better || step.head(4).cwiseAbs().maxCoeff() < 0.03) break;
    }
    return best;
}

}  // namespace pinion
