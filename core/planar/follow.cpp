#include "planar/follow.h"

#include "base/linear.h"
#include "track/matcher.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kPatch = 15;          // pixels, of a feature that is found anew
constexpr double kNearReach = 12;   // pixels about where the motion leads
constexpr double kFarReach = 56;    // ... when that fails
constexpr double kAgreement = 2.0;  // pixels within which patches move alike
constexpr double kLeastFit = 0.7;
constexpr double kMostDeviation = 4;  // pixels, of the worst corner
constexpr double kEdgeOn = 0.1;       // of what a surface shows seen from the front: 84 degrees
constexpr double kGrown = 2.0, kShrunk = 0.3, kTurned = 2.5;
constexpr double kTurnedRound = 0.9;  // radians, of a cylinder: half of what is seen of it

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
    const double smallest = spectrumOf(spread).values[0];
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

/// From where to where outlines of the first frame of `geometry` reach along the cylinder.
std::pair<double, double> heightsOf(const SurfaceGeometry& geometry, const std::vector<Polygon>& outlines) {
    double top = 1e300, bottom = -1e300;
    for (const Polygon& outline : outlines)
        for (const Vector2d& p : outline) {
            const double along = geometry.cylinder->placeOf(geometry.cylinder->met(rayOf(*geometry.lens, p))).y();
            top = std::min(top, along);
            bottom = std::max(bottom, along);
        }
    return {top, bottom};
}

/// What a new reference is made of: of a plane, the region where the pose takes it; of a cylinder all of the side that
/// is seen then, between the region's heights, so that one that turns on and on is followed by what comes into view.
std::optional<PlaneRegion> renewedRegion(const SurfaceGeometry& geometry, const SurfacePose& pose,
                                         const PlaneRegion& region) {
    auto result = carried(geometry, pose, region);
    if (!result || !geometry.cylinder) return result;
    const auto [top, bottom] = heightsOf(geometry, region.outlines);
    const Cylinder here = geometry.cylinder->moved(pose);
    constexpr int kPieces = 12;      // to each side
    constexpr double kShown = 0.92;  // of the visible half angle: the very contour is no texture
    Polygon strip;
    for (const bool back : {false, true})
        for (int i = -kPieces; i <= kPieces; ++i) {
            const double part = double(back ? -i : i) / kPieces, height = back ? bottom : top;
            strip.push_back(seenAt(*geometry.lens, here.at({here.facing() + part * kShown * here.visible(), height})));
        }
    result->outlines = {strip};
    return result;
}

}  // namespace

std::optional<LocalMotion> localMotion(const Pyramid& from, const Pyramid& to, std::span<const Vector2d> places,
                                       std::span<const Vector2d> expected, double radius_px) {
    std::vector<Vector2d> sources, targets;
    LocalMotion motion;
    for (std::size_t i = 0; i < places.size(); ++i) {
        ++motion.tried;
        const auto jump = searchPatch(from, places[i], to, expected[i], kPatch, radius_px);
        if (!jump || jump->score < 0.6) continue;
        sources.push_back(places[i]);
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
                                         const SurfacePose& referencePose, const SurfacePose& pose, int from,
                                         const PlaneExclusion& excluded) {
    const SurfaceGeometry geometry = plane.geometry();
    if (plane.sides && !geometry.cylinder) {
        const Lens lens = plane.lens ? *plane.lens : Lens{};
        return failure(Fault::input, "plane {}: {}", plane.name,
                       plane.lens ? Cylinder::fromSides(lens, *plane.sides).error().message
                                  : "a cylinder is tracked through a lens, and there is none");
    }
    const bool first = referencePose.matrix.isIdentity(1e-12) && referencePose.shift.isZero(1e-12);
    const auto region = first ? std::optional(plane.region()) : renewedRegion(geometry, referencePose, plane.region());
    if (!region) return failure(Fault::input, "plane {}: its outline goes through the horizon", plane.name);
    const auto aligned = [&](MotionModel motion) {
        return PlaneAligner::create(reference, *region, motion, excluded, geometry.moved(referencePose));
    };
    auto aligner = aligned(plane.motion && !plane.sides ? *plane.motion : MotionModel::perspective);
    if (!aligner) return failure(aligner.error().fault, "plane {}: {}", plane.name, aligner.error().message);
    if (!plane.motion && !plane.sides)
        if (const MotionModel motion = motionFor(*aligner); motion != MotionModel::perspective)
            aligner = aligned(motion);
    PlaneRunner runner(plane, std::move(*aligner));
    runner.geometry_ = geometry;
    runner.referencePose_ = referencePose;
    runner.pose_ = pose;
    runner.lastFrame_ = from;
    return runner;
}

std::vector<Vector2d> PlaneRunner::seenFeatures() const {
    // Features are in pixels of the aligner's reference; they are looked for where they are on the last frame.
    const SurfacePose lastFromReference = pose_ * referencePose_.inverse();
    const PlaneTexture& texture = aligner_.texture();
    std::vector<Vector2d> places;
    for (const Vector2d& feature : texture.features()) {
        const auto block = texture.blockAt(feature);
        if (!conditions_.seen.empty() && block && conditions_.seen[std::size_t(*block)] < 0.3F) continue;
        if (const auto place = texture.geometry().carried(lastFromReference, feature)) places.push_back(*place);
    }
    return places;
}

/// The pose on the next frame when the picture about the surface moves by `motion` (undistorted pixels).
SurfacePose PlaneRunner::movedLike(const Matrix3d& motion) const {
    if (!geometry_.cylinder) return {motion * pose_.matrix};
    const Cylinder& cylinder = *geometry_.cylinder;
    const Cylinder seen = cylinder.moved(pose_);
    // Points all over the side that the camera sees, within the outline's height.
    const auto [top, bottom] = heightsOf(geometry_, plane_.region().outlines);
    std::vector<Vector3d> points;
    for (const double turn : {-0.7, -0.35, 0.0, 0.35, 0.7})
        for (const double part : {0.0, 0.5, 1.0})
            points.push_back(cylinder.at({seen.facing() + turn * seen.visible(), top + part * (bottom - top)}));
    std::vector<Vector2d> targets;
    const Matrix3d pixels = pixelsFromRays(*plane_.lens);
    for (const Vector3d& point : points)
        targets.push_back(at(motion, (pixels * (pose_.matrix * point + pose_.shift)).hnormalized()));
    return bodySeenAt(*plane_.lens, points, targets, pose_);
}

std::optional<PlaneAlignment> PlaneRunner::alignFrom(const Pyramid& last, const Pyramid& pyramid) {
    const SurfacePose back = referencePose_.inverse(), lastFromReference = pose_ * back;
    const std::vector<Vector2d> places = seenFeatures();
    const SurfaceGeometry seen = geometry_.moved(pose_);
    std::vector<Vector2d> ahead;
    for (const Vector2d& place : places) ahead.push_back(seen.carried(step_, place).value_or(place));
    std::vector<SurfacePose> starts{step_ * lastFromReference};
    const auto known = localMotion(last, pyramid, places, ahead, kNearReach);
    if (known) starts.push_back(movedLike(known->toFromFrom) * back);
    if (!known || known->agree * 2 < known->tried) {
        // The hand jerked, or something covers it.
        starts.push_back(lastFromReference);
        if (const auto far = localMotion(last, pyramid, places, ahead, kFarReach);
            far && (!known || far->agree > known->agree))
            starts.push_back(movedLike(far->toFromFrom) * back);
    }
    const SurfacePose expected = samples_.empty() ? lastFromReference : step_ * lastFromReference;
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

std::vector<Vector2d> PlaneRunner::gridOfRegion() const {
    constexpr int kGrid = 12;
    const PlaneRegion region = plane_.region();
    const PlaneBox box = boxOf(region);
    std::vector<Vector2d> places;
    for (int j = 0; j < kGrid; ++j)
        for (int i = 0; i < kGrid; ++i) {
            const Vector2d place(box.left + (i + 0.5) / kGrid * box.width(),
                                 box.top + (j + 0.5) / kGrid * box.height());
            if (region.holds(place)) places.push_back(place);
        }
    return places;
}

double PlaneRunner::shareInFrame(const SurfacePose& pose, const Pyramid& pyramid) const {
    int held = 0, inside = 0;
    for (const Vector2d& place : gridOfRegion()) {
        const auto to = geometry_.carried(pose, place);
        // What is turned away is not out of the frame.
        if (!to && geometry_.cylinder) continue;
        ++held;
        inside += to && to->x() > 0 && to->y() > 0 && to->x() < pyramid.width() && to->y() < pyramid.height();
    }
    return held > 0 ? double(inside) / held : geometry_.cylinder ? 1 : 0;
}

bool PlaneRunner::isTurnedAway(const SurfacePose& pose) const {
    if (!geometry_.cylinder) return false;
    const std::vector<Vector2d> places = gridOfRegion();
    std::size_t away = 0;
    for (const Vector2d& place : places) {
        const Vector3d point = geometry_.cylinder->met(rayOf(*plane_.lens, place));
        const Vector3d to = pose.matrix * point + pose.shift;
        const Vector3d normal = pose.matrix * geometry_.cylinder->normal(geometry_.cylinder->placeOf(point).x());
        away += -normal.dot(to) < kLeastFacing * to.norm();
    }
    return away * 2 > places.size();
}

PlaneEnd PlaneRunner::verdictOn(const PlaneAlignment& alignment) const {
    const SurfacePose pose = alignment.pose * referencePose_;
    if (alignment.seen < plane_.leastSeen) {
        if (isTurnedAway(pose)) return PlaneEnd::turnedAway;
        return alignment.beyond > 0.5 * (1 - plane_.leastSeen) ? PlaneEnd::leftFrame : PlaneEnd::covered;
    }
    if (!geometry_.cylinder) {
        const Matrix2d shape = slopeAt(pose.matrix, boxOf(plane_.region()).centre());
        const Vector2d stretch = singularValuesOf(shape);
        const double narrow = stretch[1] / std::max(1e-12, stretch[0]);
        if (!(shape.determinant() > 0) || narrow < kEdgeOn) return PlaneEnd::edgeOn;
    }
    if (alignment.fit < kLeastFit) return PlaneEnd::unlike;
    if (alignment.deviation_px > kMostDeviation)
        return alignment.beyond > 0.5 ? PlaneEnd::leftFrame : PlaneEnd::covered;
    return PlaneEnd::none;
}

/// Whether the surface looks so unlike its reference that a new one is better.
bool PlaneRunner::isWornOut(const SurfacePose& pose) const {
    const PlaneTexture& texture = aligner_.texture();
    const Matrix3d flat = texture.geometry().flat(pose, texture.box().centre());
    const Vector2d stretch = singularValuesOf(slopeAt(flat, straightened(plane_.lens, texture.box().centre())));
    const double largest = stretch[0], smallest = stretch[1];
    const double scale = std::sqrt(largest * smallest);
    if (geometry_.cylinder) {
        const Cylinder before = geometry_.cylinder->moved(referencePose_), now = before.moved(pose);
        return largest > kGrown || largest < kShrunk ||
               std::abs(std::remainder(now.facing() - before.facing(), 2 * std::numbers::pi)) > kTurnedRound;
    }
    return scale >= kGrown || scale <= kShrunk || largest / smallest >= kTurned;
}

void PlaneRunner::renewWhereNeeded(const Pyramid& pyramid, const PlaneAlignment& alignment, PlaneSample& sample) {
    // Only what is seen can be a reference; with half of it covered the old one is better. What a cylinder turns away
    // is not covered.
    const double hidden = geometry_.cylinder ? alignment.beyond : 0;
    if (alignment.seen < 0.7 * (1 - hidden) || !isWornOut(alignment.pose)) return;
    const SurfaceGeometry here = geometry_.moved(pose_);
    const SurfacePose referenceFromPlate = alignment.pose.inverse();
    const auto excluded = [&](const Vector2d& place) {
        const auto before = here.carried(referenceFromPlate, place);
        const auto block = before ? aligner_.texture().blockAt(*before) : std::nullopt;
        // Of a cylinder, what was not there before has come into view.
        if (!block) return !geometry_.cylinder;
        return conditions_.seen[std::size_t(*block)] < 0.5F && aligner_.texture().holdsBlock(*block);
    };
    const auto region = renewedRegion(geometry_, pose_, plane_.region());
    if (!region) return;
    auto renewed = PlaneAligner::create(pyramid, *region, aligner_.motion(), excluded, here);
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
        const SurfacePose expected = step_ * pose_ * referencePose_.inverse();
        conditions_.barred.resize(std::size_t(texture.blockCount()));
        for (int block = 0; block < texture.blockCount(); ++block) {
            const auto place = texture.geometry().carried(expected, texture.blockCentre(block));
            conditions_.barred[std::size_t(block)] = place && excluded(*place) ? 1 : 0;
        }
    }
    const auto alignment = alignFrom(last, pyramid);
    if (!alignment) {
        const SurfacePose expected = step_ * pose_;
        reason_ = isTurnedAway(expected)                  ? PlaneEnd::turnedAway
                  : shareInFrame(expected, pyramid) < 0.5 ? PlaneEnd::leftFrame
                                                          : PlaneEnd::covered;
        return false;
    }
    if (const PlaneEnd verdict = verdictOn(*alignment); verdict != PlaneEnd::none) {
        reason_ = verdict;
        return false;
    }
    SurfacePose pose = alignment->pose * referencePose_;
    if (!geometry_.cylinder) pose.matrix /= pose.matrix(2, 2);
    step_ = pose * pose_.inverse();
    if (!geometry_.cylinder) step_.matrix /= step_.matrix(2, 2);
    pose_ = pose;
    lastFrame_ = frame;
    PlaneSample sample{.frame = frame,
                       .pose = pose_,
                       .seen = float(alignment->seen),
                       .fit = float(alignment->fit),
                       .deviation_px = float(alignment->deviation_px)};
    renewWhereNeeded(pyramid, *alignment, sample);
    samples_.push_back(sample);
    return true;
}

}  // namespace pinion
