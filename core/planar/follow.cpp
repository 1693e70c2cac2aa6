#include "planar/follow.h"

#include "track/matcher.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;

constexpr int kPatch = 15;          // pixels, of a feature that is found anew
constexpr double kNearReach = 12;   // pixels about where the motion leads
constexpr double kFarReach = 56;    // ... when that fails
constexpr double kAgreement = 2.0;  // pixels within which patches move alike
constexpr double kLeastFit = 0.7;
constexpr double kMostDeviation = 4;  // pixels, of the worst corner
constexpr double kEdgeOn = 0.1;       // of what a surface shows seen from the front: 84 degrees
constexpr double kGrown = 2.0, kShrunk = 0.3, kTurned = 2.5;

/// Affine from matched places, weighted least squares; similarity or shift of few.
Matrix3d fitted(const std::vector<Vector2d>& from, const std::vector<Vector2d>& to) {
    Matrix3d result = Matrix3d::Identity();
    const std::size_t n = from.size();
    Vector2d fromMiddle(0, 0), toMiddle(0, 0);
    for (std::size_t i = 0; i < n; ++i) {
        fromMiddle += from[i] / double(n);
        toMiddle += to[i] / double(n);
    }
    Matrix2d spread = Matrix2d::Zero(), cross = Matrix2d::Zero();
    for (std::size_t i = 0; i < n; ++i) {
        spread += (from[i] - fromMiddle) * (from[i] - fromMiddle).transpose();
        cross += (to[i] - toMiddle) * (from[i] - fromMiddle).transpose();
    }
    Matrix2d shape = Matrix2d::Identity();
    const double smallest = Eigen::SelfAdjointEigenSolver<Matrix2d>(spread).eigenvalues()[0];
    if (n >= 8 && smallest > 100) {
        shape = cross * spread.inverse();
    } else if (n >= 2 && spread.trace() > 100) {
        const double a = (cross(0, 0) + cross(1, 1)) / spread.trace(), b = (cross(1, 0) - cross(0, 1)) / spread.trace();
        shape << a, -b, b, a;
    }
    result.topLeftCorner<2, 2>() = shape;
    result.topRightCorner<2, 1>() = toMiddle - shape * fromMiddle;
    return result;
}

Vector2d at(const Matrix3d& matrix, const Vector2d& place) { return (matrix * place.homogeneous()).hnormalized(); }

}  // namespace

std::optional<LocalMotion> localMotion(const Pyramid& from, const Pyramid& to, std::span<const Vector2d> places,
                                       const Matrix3d& expected, double radius_px) {
    std::vector<Vector2d> sources, targets;
    LocalMotion motion;
    for (const Vector2d& place : places) {
        ++motion.tried;
        const auto jump = searchPatch(from, place, to, at(expected, place), kPatch, radius_px);
        if (!jump || jump->score < 0.6) continue;
        sources.push_back(place);
        targets.push_back(jump->to);
    }
    if (sources.size() < 3) return std::nullopt;
    std::mt19937 random(17);
    std::vector<std::size_t> best;
    for (int trial = 0; trial < 120; ++trial) {
        const std::size_t a = random() % sources.size(), b = random() % sources.size();
        if ((sources[a] - sources[b]).norm() < 8) continue;
        const Matrix3d guess = fitted({sources[a], sources[b]}, {targets[a], targets[b]});
        const double scale = std::sqrt(std::abs(guess.topLeftCorner<2, 2>().determinant()));
        if (scale < 0.7 || scale > 1.4) continue;
        std::vector<std::size_t> agree;
        for (std::size_t i = 0; i < sources.size(); ++i)
            if ((at(guess, sources[i]) - targets[i]).norm() < kAgreement) agree.push_back(i);
        if (agree.size() > best.size()) best = std::move(agree);
    }
    if (best.size() < 3) return std::nullopt;
    for (int round = 0; round < 3; ++round) {
        std::vector<Vector2d> a, b;
        for (const std::size_t i : best) {
            a.push_back(sources[i]);
            b.push_back(targets[i]);
        }
        motion.toFromFrom = fitted(a, b);
        std::vector<std::size_t> agree;
        for (std::size_t i = 0; i < sources.size(); ++i)
            if ((at(motion.toFromFrom, sources[i]) - targets[i]).norm() < kAgreement) agree.push_back(i);
        if (agree.size() < 3) break;
        best = std::move(agree);
    }
    motion.agree = int(best.size());
    return motion;
}

Expected<PlaneRunner> PlaneRunner::start(const PlanarTrack& plane, const Pyramid& reference,
                                         const Matrix3d& referencePose, const Matrix3d& pose, int from,
                                         const PlaneExclusion& excluded) {
    const auto region = carried(referencePose, plane.region(), plane.lens);
    if (!region) return failure(Fault::input, "plane {}: its outline goes through the horizon", plane.name);
    auto aligner =
        PlaneAligner::create(reference, *region, plane.motion.value_or(MotionModel::perspective), excluded, plane.lens);
    if (!aligner) return failure(aligner.error().fault, "plane {}: {}", plane.name, aligner.error().message);
    if (!plane.motion)
        if (const MotionModel motion = motionFor(*aligner); motion != MotionModel::perspective)
            aligner = PlaneAligner::create(reference, *region, motion, excluded, plane.lens);
    PlaneRunner runner(plane, std::move(*aligner));
    runner.referencePose_ = referencePose;
    runner.pose_ = pose;
    runner.lastFrame_ = from;
    return runner;
}

std::vector<Vector2d> PlaneRunner::seenFeatures() const {
    // Features are in pixels of the aligner's reference; they are looked for where they are on the last frame.
    const Matrix3d lastFromReference = pose_ * referencePose_.inverse();
    const PlaneTexture& texture = aligner_.texture();
    std::vector<Vector2d> places;
    for (const Vector2d& feature : texture.features()) {
        const auto block = texture.blockAt(feature);
        if (!conditions_.seen.empty() && block && conditions_.seen[std::size_t(*block)] < 0.3F) continue;
        places.push_back(placed(plane_.lens, lastFromReference, feature));
    }
    return places;
}

std::optional<PlaneAlignment> PlaneRunner::alignFrom(const Pyramid& last, const Pyramid& pyramid) {
    const Matrix3d lastFromReference = pose_ * referencePose_.inverse();
    const std::vector<Vector2d> places = seenFeatures();
    std::vector<Matrix3d> starts{step_ * lastFromReference};
    const auto known = localMotion(last, pyramid, places, step_, kNearReach);
    if (known) starts.push_back(known->toFromFrom * lastFromReference);
    if (!known || known->agree * 2 < known->tried) {
        // The hand jerked, or something covers it.
        starts.push_back(lastFromReference);
        if (const auto far = localMotion(last, pyramid, places, step_, kFarReach);
            far && (!known || far->agree > known->agree))
            starts.push_back(far->toFromFrom * lastFromReference);
    }
    const Matrix3d expected = samples_.empty() ? lastFromReference : step_ * lastFromReference;
    std::vector<std::pair<double, std::size_t>> order;
    for (std::size_t i = 0; i < starts.size(); ++i)
        order.emplace_back(aligner_.misfit(pyramid, starts[i], conditions_), i);
    std::sort(order.begin(), order.end());
    std::optional<PlaneAlignment> best;
    PlaneConditions bestConditions = conditions_;
    for (const auto& [misfit, index] : order) {
        PlaneConditions conditions = conditions_;
        const auto found = aligner_.align(pyramid, starts[index], conditions, 1, &expected);
        if (!found) continue;
        if (!best || found->seen * found->fit > best->seen * best->fit) {
            best = found;
            bestConditions = conditions;
        }
        if (best->seen + best->beyond > 0.85 && best->fit > 0.9) break;
    }
    // What no patch vouches for needs better proof: another picture may look alike in a part of it.
    const bool vouched = !known || known->tried < 6 || known->agree >= std::max(4, known->tried / 4);
    const bool lost = !known && places.size() >= 6;
    if (best && (lost || !vouched) && (best->fit < 0.9 || best->seen + best->beyond < 0.6)) return std::nullopt;
    if (best) conditions_ = bestConditions;
    return best;
}

double PlaneRunner::shareInFrame(const Matrix3d& pose, const Pyramid& pyramid) const {
    constexpr int kGrid = 12;
    const PlaneBox box = boxOf(plane_.region());
    int held = 0, inside = 0;
    for (int j = 0; j < kGrid; ++j)
        for (int i = 0; i < kGrid; ++i) {
            const Vector2d place(box.left + (i + 0.5) / kGrid * box.width(),
                                 box.top + (j + 0.5) / kGrid * box.height());
            if (!plane_.region().holds(place)) continue;
            const Vector2d to = placed(plane_.lens, pose, place);
            ++held;
            inside += to.x() > 0 && to.y() > 0 && to.x() < pyramid.width() && to.y() < pyramid.height();
        }
    return held > 0 ? double(inside) / held : 0;
}

PlaneEnd PlaneRunner::verdictOn(const PlaneAlignment& alignment) const {
    if (alignment.seen < plane_.leastSeen)
        return alignment.beyond > 0.5 * (1 - plane_.leastSeen) ? PlaneEnd::leftFrame : PlaneEnd::covered;
    const Matrix3d pose = alignment.plateFromReference * referencePose_;
    const Matrix2d shape = slopeAt(pose, boxOf(plane_.region()).centre());
    const Eigen::JacobiSVD<Matrix2d> svd(shape);
    const double narrow = svd.singularValues()[1] / std::max(1e-12, svd.singularValues()[0]);
    if (!(shape.determinant() > 0) || narrow < kEdgeOn) return PlaneEnd::edgeOn;
    if (alignment.fit < kLeastFit) return PlaneEnd::unlike;
    if (alignment.deviation_px > kMostDeviation)
        return alignment.beyond > 0.5 ? PlaneEnd::leftFrame : PlaneEnd::covered;
    return PlaneEnd::none;
}

void PlaneRunner::renewWhereNeeded(const Pyramid& pyramid, const PlaneAlignment& alignment, PlaneSample& sample) {
    const Eigen::JacobiSVD<Matrix2d> svd(slopeAt(alignment.plateFromReference, aligner_.texture().box().centre()));
    const double largest = svd.singularValues()[0], smallest = svd.singularValues()[1];
    const double scale = std::sqrt(largest * smallest);
    if (scale < kGrown && scale > kShrunk && largest / smallest < kTurned) return;
    // Only what is seen can be a reference; with half of it covered the old one is better.
    if (alignment.seen < 0.7) return;
    const Matrix3d referenceFromPlate = alignment.plateFromReference.inverse();
    const auto excluded = [&](const Vector2d& place) {
        const auto block = aligner_.texture().blockAt(placed(plane_.lens, referenceFromPlate, place));
        return !block || conditions_.seen[std::size_t(*block)] < 0.5F;
    };
    const auto region = carried(pose_, plane_.region(), plane_.lens);
    if (!region) return;
    auto renewed = PlaneAligner::create(pyramid, *region, aligner_.motion(), excluded, plane_.lens);
    if (!renewed) return;
    aligner_ = std::move(*renewed);
    referencePose_ = pose_;
    const double noise = conditions_.noise;
    conditions_ = {};
    conditions_.noise = noise;
    sample.renewed = true;
}

bool PlaneRunner::advance(const Pyramid& last, const Pyramid& pyramid, int frame, const PlaneExclusion& excluded) {
    conditions_.barred.clear();
    if (excluded) {
        // Asked at the middle of each block, where the motion leads.
        const PlaneTexture& texture = aligner_.texture();
        const Matrix3d expected = step_ * pose_ * referencePose_.inverse();
        conditions_.barred.resize(std::size_t(texture.blockCount()));
        for (int block = 0; block < texture.blockCount(); ++block)
            conditions_.barred[std::size_t(block)] =
                excluded(placed(plane_.lens, expected, texture.blockCentre(block))) ? 1 : 0;
    }
    const auto alignment = alignFrom(last, pyramid);
    if (!alignment) {
        reason_ = shareInFrame(step_ * pose_, pyramid) < 0.5 ? PlaneEnd::leftFrame : PlaneEnd::covered;
        return false;
    }
    if (const PlaneEnd verdict = verdictOn(*alignment); verdict != PlaneEnd::none) {
        reason_ = verdict;
        return false;
    }
    const Matrix3d pose = alignment->plateFromReference * referencePose_;
    step_ = pose * pose_.inverse();
    step_ /= step_(2, 2);
    pose_ = pose / pose(2, 2);
    lastFrame_ = frame;
    PlaneSample sample{.frame = frame,
                       .plateFromReference = pose_,
                       .seen = float(alignment->seen),
                       .fit = float(alignment->fit),
                       .deviation_px = float(alignment->deviation_px)};
    renewWhereNeeded(pyramid, *alignment, sample);
    samples_.push_back(sample);
    return true;
}

}  // namespace pinion
