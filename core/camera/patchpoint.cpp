#include "camera/patchpoint.h"

#include "base/median.h"
#include "base/parallel.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace pinion::solving {

using Eigen::Matrix2d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

constexpr std::size_t kMostViews = 8;
constexpr std::size_t kFewestFrames = 6;
constexpr double kMostScale = 1.6;      // against the reference
constexpr double kAgrees = 0.8;         // correlation of a view with the reference
constexpr double kLessThanUsual = 0.1;  // of correlation, on a frame that is still believed
constexpr double kSeen_px = 0.25;       // by which a tilt has to move the pattern's edge to be told
constexpr double kLargestTilt = 25;     // a floor a twenty-fifth of its distance below the camera
constexpr double kWorthATilt = 0.0005;  // of correlation: less is grain
constexpr std::size_t kMostBytes = std::size_t(400) << 20;

bool countsIn(const Sample& sample, const FrameRange& range) {
    return range.holds(sample.frame) && !sample.bridged && !sample.aside;
}

/// How large a unit of the scene is seen at the point, in pixels.
std::optional<double> scaleOn(const SolvedViews& views, const Sample& sample, const Vector4d& point) {
    const FrameRows* rows = views.on(sample.frame);
    if (!rows) return std::nullopt;
    const FrameRows::View view = rows->at(sample.at);
    if (std::abs(point[3]) < 1e-9) return view.lens.focal_px;
    const double depth = view.pose.cameraFromWorld(point.head<3>() / point[3]).z();
    if (depth <= 1e-6) return std::nullopt;
    return view.lens.focal_px / depth;
}

/// Where the camera sees a point; none out of view.
std::optional<Vector2d> seenAt(const FrameRows& rows, const Vector2d& near, const Vector4d& point) {
    if (std::abs(point[3]) > 1e-9) return rows.projected(point.head<3>() / point[3]);
    const FrameRows::View view = rows.at(near);
    const Vector3d ray = view.pose.rotation * point.head<3>();
    return ray.z() > 1e-6 ? plateFromPlane(view.lens, ray.hnormalized()) : std::nullopt;
}

/// Whether the camera holds a track of which the solve says nothing for one that stands.
bool agrees(const SolvedViews& views, const Track& track, const Vector4d& point) {
    std::vector<double> off;
    for (const Sample& sample : track.samples)
        if (const FrameRows* rows = views.on(sample.frame)) {
            const auto at = seenAt(*rows, sample.at, point);
            off.push_back(at ? (*at - sample.wanted()).norm() : 1e9);
        }
    return !off.empty() && median(std::move(off)) < std::max(0.7, 4 * views.noise_px());
}

/// Up to eight samples spread evenly over the track. The first is the reference: of middling size, or the track's own
/// reference where an outline or an offset is told by that.
std::vector<PatchView> viewsOf(const Track& track, const Vector4d& point, const SolvedViews& views,
                               const FrameRange& range) {
    std::vector<std::pair<const Sample*, double>> seen;
    for (const Sample& sample : track.samples)
        if (countsIn(sample, range))
            if (const auto scale = scaleOn(views, sample, point)) seen.emplace_back(&sample, *scale);
    if (seen.size() < kFewestFrames) return {};
    std::vector<std::pair<const Sample*, double>> chosen;
    const std::size_t count = std::min(kMostViews, seen.size());
    for (std::size_t i = 0; i < count; ++i) chosen.push_back(seen[i * (seen.size() - 1) / (count - 1)]);
    std::vector<double> scales;
    for (const auto& [sample, scale] : chosen) scales.push_back(scale);
    double middle = median(scales);
    if (!track.outline.isEmpty() || !track.offset.isZero()) {
        const auto own = std::find_if(seen.begin(), seen.end(),
                                      [&](const auto& s) { return s.first->frame == track.referenceFrame; });
        if (own == seen.end()) return {};
        middle = own->second;
        std::erase_if(chosen, [&](const auto& c) { return c.first == own->first; });
        chosen.insert(chosen.begin(), *own);
    } else {
        std::iter_swap(chosen.begin(),
                       std::find_if(chosen.begin(), chosen.end(), [&](const auto& c) { return c.second == middle; }));
    }
    std::vector<PatchView> result;
    for (const auto& [sample, scale] : chosen) {
        const double ratio = scale / middle;
        if (ratio > kMostScale || ratio < 1 / kMostScale) continue;
        // The pattern turned by an eighth, as large as it may be, and what aligning it needs around.
        result.push_back({sample->frame, sample->at, 0.75 * track.pattern_px * std::max(1.0, ratio) + 5, {}});
    }
    return result.size() >= 2 ? result : std::vector<PatchView>{};
}

/// The tilt of the plane through a point that its neighbours in the picture lie on: their inverse depths are linear
/// there; robust (Cauchy), as some are of what is behind.
Vector2d tiltAmong(const PatchPoint& own, const std::vector<PatchPoint>& all, const SolvedViews& views) {
    if (std::abs(own.point[3]) < 1e-9 || own.views.empty()) return {0, 0};
    const FrameRows::View view = views.on(own.views.front().frame)->at(own.views.front().at);
    const Vector3d place = view.pose.cameraFromWorld(own.point.head<3>() / own.point[3]);
    if (place.z() <= 1e-6) return {0, 0};
    const Vector2d at = place.hnormalized();
    const double reach = 5.0 * own.track->pattern_px / view.lens.focal_px;
    const Eigen::Matrix3d rotation = view.pose.rotation.toRotationMatrix();
    std::vector<Vector3d> beside;  // x, y, and the inverse depth by that of the point
    for (const PatchPoint& other : all) {
        if (&other == &own || std::abs(other.point[3]) < 1e-9) continue;
        const Vector3d seen = rotation * (other.point.head<3>() / other.point[3]) + view.pose.translation;
        if (seen.z() <= 1e-6) continue;
        const Vector2d away = seen.hnormalized() - at;
        if (away.squaredNorm() < reach * reach) beside.emplace_back(away.x(), away.y(), place.z() / seen.z() - 1);
    }
    if (beside.size() < 5) return {0, 0};
    constexpr double kWidth = 0.03;
    Vector2d slope(0, 0);
    for (int round = 0; round < 8; ++round) {
        Matrix2d normal = Matrix2d::Identity() * 1e-9;
        Vector2d right(0, 0);
        for (const Vector3d& one : beside) {
            const double off = (one.z() - slope.dot(one.head<2>())) / kWidth;
            const double weight = round == 0 ? 1 : 1 / (1 + off * off);
            normal += weight * one.head<2>() * one.head<2>().transpose();
            right += weight * one.z() * one.head<2>();
        }
        slope = normal.inverse() * right;
    }
    return slope;
}

/// How well the views of a point agree when its surface is tilted so.
class Agreement {
public:
    Agreement(const PatchPoint& point, const SolvedViews& views)
        : point_(point), views_(views), half_px_(0.5 * point.track->pattern_px) {}

    std::optional<ScenePatch> patchWith(const Vector2d& tilt) const {
        const PatchView& reference = point_.views.front();
        return ScenePatch::create(views_, point_.point, reference.frame, reference.at, tilt, half_px_);
    }

    /// Where each view has the pattern; none where it does not fit.
    std::vector<std::optional<Match>> matches(const PatternMatcher& matcher, const ScenePatch& patch) const {
        std::vector<std::optional<Match>> result;
        for (const PatchView& view : point_.views) {
            const auto pose = patch.on(*views_.on(view.frame));
            result.push_back(pose ? matcher.alignPlace(view.part.pyramid,
                                                       pose->movedTo(view.at - Vector2d(view.part.left, view.part.top)))
                                  : std::nullopt);
        }
        return result;
    }

    /// The mean correlation with the reference, of the other views; -1 for a tilt that cannot be.
    double of(const PatternMatcher& matcher, const Vector2d& tilt) const {
        const auto patch = patchWith(tilt);
        if (!patch) return -1;
        double sum = 0;
        const auto found = matches(matcher, *patch);
        for (std::size_t i = 1; i < found.size(); ++i) sum += found[i] ? std::max(0.0, found[i]->score) : 0;
        return sum / double(found.size() - 1);
    }

    /// By how much a tilt of one moves the pattern's edge in the views, at most.
    double sensitivity_px() const {
        constexpr double kTried = 2;
        const auto flat = patchWith({0, 0}), across = patchWith({kTried, 0}), down = patchWith({0, kTried});
        double most = 0;
        if (!flat) return 0;
        for (const auto* tilted : {&across, &down})
            for (const PatchView& view : point_.views) {
                const FrameRows& rows = *views_.on(view.frame);
                const auto a = flat->on(rows), b = *tilted ? (*tilted)->on(rows) : std::nullopt;
                if (a && b)
                    most = std::max(
                        most,
                        half_px_ / kTried *
                            (a->plateFromPattern - b->plateFromPattern).topLeftCorner<2, 2>().cwiseAbs().maxCoeff());
            }
        return most;
    }

private:
    const PatchPoint& point_;
    const SolvedViews& views_;
    double half_px_;
};

/// The tilt for which the views agree best, from the better of facing the camera and the neighbours' plane. What the
/// views hardly tell stays as the neighbours say.
Vector2d bestTilt(const Agreement& agreement, const PatternMatcher& matcher, const Vector2d& guess) {
    const double sensitivity = agreement.sensitivity_px();
    if (kLargestTilt * sensitivity < kSeen_px) return guess;
    Vector2d best(0, 0);
    double score = agreement.of(matcher, best);
    const auto consider = [&](const Vector2d& tilt, double gain) {
        if (tilt.norm() > kLargestTilt) return false;
        const double other = agreement.of(matcher, tilt);
        if (other <= score + gain) return false;
        score = other;
        best = tilt;
        return true;
    };
    if (!guess.isZero()) consider(guess, 0);
    for (double moved_px = 0.8; moved_px > 0.15; moved_px *= 0.5)
        for (int round = 0; round < 4; ++round) {
            bool better = false;
            for (const Vector2d& way : {Vector2d(1, 0), Vector2d(-1, 0), Vector2d(0, 1), Vector2d(0, -1)})
                better = consider(best + moved_px / sensitivity * way, kWorthATilt) || better;
            if (!better) break;
        }
    return best;
}

/// The views that agree with the reference, laid over each other: light and contrast as the reference has them.
std::vector<float> laidOver(const PatchPoint& point, const std::vector<std::optional<Match>>& matches) {
    const int side = point.track->pattern_px + 2;
    const auto count = double(side) * side;
    std::vector<double> sum(std::size_t(side) * std::size_t(side), 0.0);
    double mean = 0, contrast = 0;
    int laid = 0;
    for (std::size_t i = 0; i < matches.size(); ++i) {
        if (!matches[i] || matches[i]->score < kAgrees) continue;
        const auto patch = patchUnder(point.views[i].part.pyramid, matches[i]->pose, side);
        if (!patch) continue;
        double own = 0, squares = 0;
        for (const float value : *patch) own += value;
        own /= count;
        for (const float value : *patch) squares += (value - own) * (value - own);
        const double deviation = std::sqrt(squares / count);
        if (deviation < 1e-6) continue;
        for (std::size_t k = 0; k < sum.size(); ++k) sum[k] += ((*patch)[k] - own) / deviation;
        mean += own;
        contrast += deviation;
        ++laid;
    }
    if (laid < 2) return {};
    std::vector<float> result(sum.size());
    for (std::size_t k = 0; k < sum.size(); ++k) result[k] = float(mean / laid + sum[k] / laid * (contrast / laid));
    return result;
}

}  // namespace

bool PatchPoint::isAboutAsLarge(const PatternPose& pose) {
    const Matrix2d shape = pose.plateFromPattern.topLeftCorner<2, 2>();
    const double area = shape.determinant();
    if (area <= 0) return false;
    const double scale = std::sqrt(area), longest = std::sqrt(0.5 * shape.squaredNorm());
    // Seen much from the side it is another pattern too.
    return scale < kMostScale && scale > 1 / kMostScale && longest < 1.4 * scale;
}

std::vector<PatchPoint> patchPoints(const Solve& solve, const SolvedViews& views, std::span<const Track> tracks,
                                    const FrameRange& range, const std::set<TrackId>& kept) {
    std::unordered_map<TrackId, const SolvedTrack*> byId;
    for (const SolvedTrack& track : solve.tracks) byId[track.track] = &track;
    std::vector<PatchPoint> all(tracks.size());
    parallelFor(
        tracks.size(),
        [&](std::size_t i) {
            const Track& track = tracks[i];
            if (track.locked || track.setAside) return;
            const auto solved = byId.find(track.id);
            std::optional<Vector4d> place;
            if (solved != byId.end()) {
                const SolvedTrack& own = *solved->second;
                if (own.role != TrackRole::used && own.role != TrackRole::heldOut) return;
                if (own.xyz) place = own.xyz->homogeneous();
                else if (own.direction) place = Vector4d(own.direction->x(), own.direction->y(), own.direction->z(), 0);
            }
            if (!place) {
                place = placeOf(views, track);
                if (!place || !agrees(views, track, *place)) return;
            }
            all[i].point = *place;
            all[i].views = viewsOf(track, *place, views, range);
            if (all[i].views.empty()) return;
            all[i].track = &track;
            all[i].keepsSamples = track.byHand || kept.contains(track.id) ||
                                  std::any_of(track.samples.begin(), track.samples.end(),
                                              [](const Sample& sample) { return sample.tie; });
        },
        8);
    std::erase_if(all, [](const PatchPoint& point) { return !point.track; });
    std::vector<Vector2d> tilts(all.size());
    parallelFor(
        all.size(), [&](std::size_t i) { tilts[i] = tiltAmong(all[i], all, views); }, 8);
    for (std::size_t i = 0; i < all.size(); ++i) all[i].tilt = tilts[i];
    return all;
}

void boundMemory(std::vector<PatchPoint>& points) {
    std::size_t bytes = 0;
    for (const PatchPoint& point : points)
        for (const PatchView& view : point.views) bytes += std::size_t(4 * view.radius_px * view.radius_px) * 4;
    if (bytes <= kMostBytes) return;
    const auto most = std::max<std::size_t>(2, kMostViews * kMostBytes / bytes);
    for (PatchPoint& point : points) {
        if (point.views.size() <= most) continue;
        std::vector<PatchView> fewer{point.views.front()};
        const std::size_t others = point.views.size() - 1;
        for (std::size_t i = 1; i < most; ++i) fewer.push_back(point.views[1 + (i - 1) * others / (most - 1)]);
        point.views = std::move(fewer);
    }
}

void prepare(PatchPoint& point, const SolvedViews& views) {
    const PatchView& reference = point.views.front();
    const Polygon outline = point.track->outline.vector();
    const auto single =
        PatternMatcher::create(reference.part.pyramid, reference.at - Vector2d(reference.part.left, reference.part.top),
                               point.track->pattern_px, MotionModel::translation, outline);
    if (single) {
        const Agreement agreement(point, views);
        point.tilt = bestTilt(agreement, *single, point.tilt);
        point.patch = agreement.patchWith(point.tilt);
        if (!point.patch) point.patch = agreement.patchWith({0, 0});
        if (point.patch) {
            const std::vector<float> laid = laidOver(point, agreement.matches(*single, *point.patch));
            auto matcher = laid.empty() ? std::nullopt : PatternMatcher::createFrom(laid, point.track->motion, outline);
            if (matcher) {
                std::vector<double> scores;
                for (const auto& match : agreement.matches(*matcher, *point.patch))
                    scores.push_back(match ? match->score : 0);
                const double usual = median(std::move(scores));
                point.leastScore = std::max(point.track->driftLimit, usual - kLessThanUsual);
                if (usual >= kAgrees) point.matcher = std::move(matcher);
            }
        }
    }
    for (PatchView& view : point.views) view.part = {};
}

void PatchPoint::placeAnew(const SolvedViews& all) {
    Track seen;
    std::vector<Sample> samples;
    for (const Found& one : found) samples.push_back({.frame = one.frame, .at = one.at});
    seen.samples = List<Sample>(std::move(samples));
    const auto place = placeOf(all, seen);
    if (!place) return;
    point = *place;
    for (Found& one : found)
        if (const auto at = seenAt(*all.on(one.frame), one.at, point)) one.off = one.at - *at;
}

void dropShortRuns(std::vector<PatchPoint::Found>& found, int fewest) {
    std::vector<PatchPoint::Found> kept;
    for (std::size_t first = 0; first < found.size();) {
        std::size_t end = first + 1;
        while (end < found.size() && found[end].frame == found[end - 1].frame + 1) ++end;
        if (end - first >= std::size_t(fewest))
            kept.insert(kept.end(), found.begin() + std::ptrdiff_t(first), found.begin() + std::ptrdiff_t(end));
        first = end;
    }
    found = std::move(kept);
}

std::optional<Track> PatchPoint::lengthened(const SolvedViews& all, const FrameRange& range) const {
    std::size_t had = 0, again = 0;
    std::vector<double> aside, below;  // from what was found to what was there: patterns have centres of their own
    for (const Sample& sample : track->samples) had += countsIn(sample, range);
    for (const Found& one : found)
        if (one.wasThere) {
            const Vector2d away = sampleAt(*track, one.frame)->at - one.at;
            aside.push_back(away.x());
            below.push_back(away.y());
            ++again;
        }
    if (again < 3 || 10 * again < 6 * had) return std::nullopt;
    const Vector2d shift(median(std::move(aside)), median(std::move(below)));
    const auto sampleOf = [&](const Found& one, const Vector2d& by) {
        return Sample{.frame = one.frame,
                      .carried = (one.shape * track->offset).cast<float>(),
                      .at = one.at + by,
                      .score = std::clamp(one.score, 0.0, 1.0)};
    };
    const auto isFound = [&](int frame) {
        return std::any_of(found.begin(), found.end(), [frame](const Found& one) { return one.frame == frame; });
    };
    std::vector<Sample> samples;
    for (const Sample& sample : track->samples) {
        // What can be measured anew is, unless it is to stay; a bridge stays where nothing is found under it.
        const bool isOutside = !range.holds(sample.frame) || sample.aside;
        const bool isOtherSize = std::binary_search(otherSizes.begin(), otherSizes.end(), sample.frame);
        if (!keepsSamples && (sample.bridged || !(isOutside || isOtherSize))) continue;
        if (sample.bridged && isFound(sample.frame)) continue;
        samples.push_back(sample);
        if (!keepsSamples) samples.back().at -= shift;
    }
    const std::size_t kept = samples.size();
    for (const Found& one : found) {
        const auto end = samples.begin() + std::ptrdiff_t(kept);
        const auto before = std::lower_bound(samples.begin(), end, one.frame,
                                             [](const Sample& s, int frame) { return s.frame < frame; });
        if (before == end || before->frame != one.frame)
            samples.push_back(sampleOf(one, keepsSamples ? shift : Vector2d(0, 0)));
    }
    if (samples.empty()) return std::nullopt;
    std::sort(samples.begin(), samples.end(), [](const Sample& a, const Sample& b) { return a.frame < b.frame; });
    Track result = *track;
    for (std::size_t i = 0; i + 1 < samples.size(); ++i) {
        EndReason& lost = samples[i].lost;
        if (samples[i + 1].frame == samples[i].frame + 1) lost = EndReason::none;
        else if (lost == EndReason::none) lost = EndReason::covered;
    }
    const auto reasonBeyond = [&](int frame) {
        if (!range.holds(frame)) return EndReason::rangeEnd;
        const FrameRows* rows = all.on(frame);
        const auto pose = rows && patch ? patch->on(*rows) : std::nullopt;
        if (!pose) return EndReason::leftFrame;
        const double margin = 0.5 * track->pattern_px + 2;
        const Lens& lens = rows->at(0.0).lens;
        const Vector2d at = pose->centre();
        const bool isInside =
            at.x() > margin && at.y() > margin && at.x() < lens.width - margin && at.y() < lens.height - margin;
        return isInside ? EndReason::covered : EndReason::leftFrame;
    };
    result.startReason = reasonBeyond(samples.front().frame - 1);
    result.endReason = reasonBeyond(samples.back().frame + 1);
    const auto hasReference = [&](int frame) {
        return std::any_of(samples.begin(), samples.end(), [frame](const Sample& s) { return s.frame == frame; });
    };
    if (!hasReference(track->referenceFrame)) result.referenceFrame = samples[samples.size() / 2].frame;
    result.samples = List<Sample>(std::move(samples));
    return result;
}

}  // namespace pinion::solving
