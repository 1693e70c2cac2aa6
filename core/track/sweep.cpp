#include "track/sweep.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;

// Kalal, Mikolajczyk and Matas (2010): a step that does not lead back is no match. In pixels.
constexpr double kMostReturn = 0.6;

constexpr double kNearReach = 6.0;  // pixels around the expected place
constexpr double kSameBasin = 2.5;  // pixels within which the alignment ends at the same place
constexpr double kGoodScore = 0.9;  // a match that needs no second look

/// How far the pattern's shape is from the one the reference was taken at: 1 is unchanged.
double stretch(const PatternPose& pose) {
    const Eigen::Matrix2d shape = pose.plateFromPattern.topLeftCorner<2, 2>();
    const double area = std::abs(shape.determinant());
    const double spread = shape.squaredNorm() / 2;  // equals the area for a pure turn and scale
    const double scale = std::sqrt(std::max(area, 1e-9));
    return std::max({scale, 1 / scale, spread / std::max(area, 1e-9)});
}

}  // namespace

std::optional<Runner> Runner::start(const Track& settings, const Pyramid& pyramid, int frame, const Vector2d& from) {
    auto matcher =
        PatternMatcher::create(pyramid, from, settings.pattern_px, settings.motion, settings.outline.vector());
    if (!matcher) return std::nullopt;
    Runner runner(settings, std::move(*matcher));
    runner.pose_ = PatternPose::at(from);
    runner.samples_.push_back({.frame = frame, .carried = settings.offset.cast<float>(), .at = from});
    return runner;
}

Polygon Runner::outlineNow(const PatternPose& pose) const {
    Polygon outline;
    for (const Vector2d& corner : settings_.outline)
        outline.push_back((pose.plateFromPattern * corner.homogeneous()).hnormalized() - pose.centre());
    return outline;
}

Sample Runner::sampleOf(int frame, const Match& match) const {
    Sample sample{.frame = frame, .at = match.pose.centre(), .score = std::clamp(match.score, 0.0, 1.0)};
    // The offset turns and grows with the pattern.
    if (!settings_.offset.isZero())
        sample.carried = (match.pose.plateFromPattern.topLeftCorner<2, 2>() * settings_.offset).cast<float>();
    return sample;
}

bool Runner::pickUp(const PyramidPart& part, const Pyramid& pyramid, int frame, const Vector2d& expected,
                    double reach) {
    const Pyramid& seen = part.pyramid;
    const Vector2d from = last().at - Vector2d(part.left, part.top);
    const double margin = 0.5 * settings_.pattern_px + 2;
    if (expected.x() < -reach || expected.y() < -reach || expected.x() > pyramid.width() + reach ||
        expected.y() > pyramid.height() + reach)
        return false;
    const Vector2d inside = expected.cwiseMax(Vector2d(margin, margin))
                                .cwiseMin(Vector2d(pyramid.width() - margin, pyramid.height() - margin));
    const Polygon outline = outlineNow(pose_);
    const auto found = searchPatch(seen, from, pyramid, inside, settings_.pattern_px, reach, outline);
    if (!found || found->score < 0.6) return false;
    auto match = matcher_.alignPlace(pyramid, pose_.movedTo(found->to));
    if (match && settings_.motion != MotionModel::translation) {
        const auto shaped = matcher_.align(pyramid, match->pose);
        if (shaped && shaped->score >= match->score - 0.002) match = shaped;
    }
    // Having been away it needs the proof of a leap: nearly as good a match as before, of nearly the same shape, and
    // the way back to where it was.
    constexpr double kMostChange = 0.2;
    if (!match || match->score < std::max({kGoodScore, settings_.driftLimit, last().score - 0.03})) return false;
    const Eigen::Matrix2d change =
        match->pose.plateFromPattern.topLeftCorner<2, 2>() * pose_.plateFromPattern.topLeftCorner<2, 2>().inverse() -
        Eigen::Matrix2d::Identity();
    if (change.norm() > kMostChange) return false;
    const auto back = PatternMatcher::create(pyramid, match->pose.centre(), settings_.pattern_px, settings_.motion,
                                             outlineNow(match->pose));
    const auto returned = back ? back->alignPlace(seen, PatternPose::at(from)) : std::nullopt;
    if (!returned || (returned->pose.centre() - from).norm() > 2 * kMostReturn) return false;
    // And what lies around it looks as it did: a window like its neighbour, a brick like the next, are told apart by
    // that.
    constexpr double kLeastAround = 0.55;
    const auto around = searchPatch(seen, from, pyramid, match->pose.centre(), 2 * settings_.pattern_px + 1, 3.0);
    if (settings_.outline.isEmpty() && around && around->score < kLeastAround) return false;
    samples_.back().lost = reason_;
    reason_ = EndReason::none;
    velocity_.setZero();
    pose_ = match->pose;
    samples_.push_back(sampleOf(frame, *match));
    return true;
}

std::optional<Match> Runner::matchFrom(const Pyramid& last, const Pyramid& pyramid, const Vector2d& expected) {
    std::optional<Match> best;
    const auto consider = [&](const Vector2d& centre) {
        // Settle the place first; the shape follows from there.
        auto match = matcher_.alignPlace(pyramid, pose_.movedTo(centre));
        if (match && settings_.motion != MotionModel::translation) {
            const auto shaped = matcher_.align(pyramid, match->pose);
            if (shaped && shaped->score >= match->score - 0.002) match = shaped;
        }
        if (match && (!best || match->score > best->score)) best = match;
    };
    // Near where the motion leads: quick, and on repeating texture the near answer is the right one. Only when that
    // fails over the whole search area.
    const double reach = std::max(2.0, 0.5 * (settings_.search_px - settings_.pattern_px));
    const Polygon outline = settings_.outline.isEmpty() ? Polygon{} : outlineNow(pose_);
    const auto near = searchPatch(last, this->last().at, pyramid, expected, settings_.pattern_px,
                                  std::min(reach, kNearReach), outline);
    if (near && near->score > 0.5) consider(near->to);
    // On lines of text and rows of bricks the neighbour may win the coarse search; the expected place gets its own
    // chance.
    if (!near || (near->to - expected).norm() > kSameBasin) consider(expected);
    if (best && best->score >= std::max(settings_.driftLimit, kGoodScore)) return best;
    const auto far = searchPatch(last, this->last().at, pyramid, expected, settings_.pattern_px, reach, outline);
    if (far && far->score > 0.4 && (!near || (far->to - near->to).norm() > 1.0)) {
        const std::optional<Match> known = best;
        consider(far->to);
        // A leap needs better proof than a step: about as good as the match before it.
        const bool leapt = best && (best->pose.centre() - expected).norm() > kNearReach + 2;
        if (leapt && best->score < std::max(kGoodScore, this->last().score - 0.06)) best = known;
    }
    return best;
}

void Runner::endBefore(EndReason reason) {
    if (samples_.size() > 1) samples_.pop_back();
    reason_ = reason;
    if (!settings_.pickUp) matcher_.release();
}

bool Runner::advance(const Pyramid& last, const Pyramid& pyramid, int frame, const Vector2d& expected) {
    const Vector2d from = this->last().at;
    const int skipped = std::abs(frame - this->last().frame);
    const double margin = 0.5 * settings_.pattern_px;
    const auto nearBorder = [&](const Vector2d& at) {
        return at.x() < margin + 2 || at.y() < margin + 2 || at.x() > pyramid.width() - margin - 2 ||
               at.y() > pyramid.height() - margin - 2;
    };
    // At the border a bad match is the border's doing.
    const auto endsFor = [&](EndReason reason) {
        reason_ = nearBorder(expected) ? EndReason::leftFrame : reason;
        if (!settings_.pickUp) matcher_.release();  // thousands of ended tracks would hold on to their patterns
        return false;
    };
    const auto match = matchFrom(last, pyramid, expected);
    if (!match) return endsFor(EndReason::covered);
    if (match->score < settings_.driftLimit)
        return endsFor(match->score < 0.5 * settings_.driftLimit ? EndReason::covered : EndReason::driftLimit);
    const Vector2d at = match->pose.centre();
    const double radius = std::max(2.0, 0.5 * (settings_.search_px - settings_.pattern_px));
    if ((at - expected).cwiseAbs().maxCoeff() > radius + 2) return endsFor(EndReason::covered);
    // Back to where it came from, with the patch as it looks now.
    const auto back = PatternMatcher::create(pyramid, at, settings_.pattern_px, MotionModel::translation,
                                             settings_.outline.isEmpty() ? Polygon{} : outlineNow(match->pose));
    const auto returned = back ? back->align(last, PatternPose::at(from)) : std::nullopt;
    if (!returned || (returned->pose.centre() - from).norm() > kMostReturn) return endsFor(EndReason::ambiguous);
    velocity_ = (at - from) / std::max(1, skipped);
    pose_ = match->pose;
    Sample sample = sampleOf(frame, *match);
    if (stretch(pose_) > 1.35) {
        const Polygon outline = outlineNow(pose_);
        if (auto renewed = PatternMatcher::create(pyramid, at, settings_.pattern_px, settings_.motion, outline)) {
            matcher_ = std::move(*renewed);
            if (!settings_.outline.isEmpty()) settings_.outline = List<Vector2d>(outline);
            settings_.offset = sample.carried.cast<double>();
            pose_ = PatternPose::at(at);
            sample.renewed = true;
        }
    }
    samples_.push_back(sample);
    return true;
}

}  // namespace pinion
