#include "camera/trackerrors.h"

#include "base/parallel.h"
#include "camera/bundle.h"
#include "camera/placing.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <unordered_map>

namespace pinion {

using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

/// A sighting with its frame, and the ray to it: of length 1, in the world.
struct Sighting {
    int frame = 0;
    Vector3d ray, eye;
};
struct Sightings {
    std::vector<Sighting> seen;
    std::vector<solving::PlateSighting> views;  ///< of the same order
};

Sightings sightingsOf(const SolvedViews& views, const Track& track) {
    Sightings all;
    for (const Sample& sample : track.samples) {
        const FrameRows* rows = views.on(sample.frame);
        if (!rows) continue;
        const FrameRows::View view = rows->at(sample.at);
        const auto plane = planeFromPlate(view.lens, sample.at);
        if (!plane) continue;
        all.views.push_back(
            {view.pose.rotation.toRotationMatrix(), view.pose.translation, *plane, sample.at, view.lens});
        all.seen.push_back(
            {sample.frame, (view.pose.rotation.conjugate() * plane->homogeneous()).normalized(), view.pose.centre()});
    }
    return all;
}

/// How wide directions spread, in degrees: against the first and the last, of which over a way that goes on the widest
/// is one.
double spreadOf(const std::vector<Vector3d>& directions) {
    double least = 1;
    for (const Vector3d& one : directions)
        least = std::min({least, one.dot(directions.front()), one.dot(directions.back())});
    return std::acos(std::clamp(least, -1.0, 1.0)) * 180 / std::numbers::pi;
}
/// From the cameras to a place; to a mere direction the rays themselves.
std::vector<Vector3d> towards(const Sightings& all, const Vector4d& point) {
    std::vector<Vector3d> directions;
    for (const Sighting& one : all.seen)
        directions.push_back(point[3] != 0 ? (point.head<3>() - point[3] * one.eye).normalized() : one.ray);
    return directions;
}

std::optional<Vector4d> placeOf(const Sightings& all, double noise_px) {
    if (all.views.size() < 2) return std::nullopt;
    const double width = 3 * std::max(0.05, noise_px);
    auto start = solving::linearPlace(all.views);
    if (!start) {  // behind some: as far as can be
        Vector3d mean = Vector3d::Zero();
        for (const Sighting& one : all.seen) mean += one.ray;
        start = Vector4d(mean.x(), mean.y(), mean.z(), 0).normalized();
    }
    // A wide loss finds what a narrow one then settles.
    Vector4d point =
        solving::refinedPlace(solving::refinedPlace(*start, all.views, 20 * width, 12), all.views, width, 12);
    if (point[3] < 0) {  // rays that part
        point[3] = 0;
        point.normalize();
    }
    return point;
}

}  // namespace

SolvedViews::SolvedViews(const Solve& solve) : noise_px_(solve.noise_px) {
    if (solve.frames.isEmpty()) return;
    first_ = solve.frames.front().frame;
    rows_.resize(std::size_t(solve.frames.back().frame - first_) + 1);
    parallelFor(
        rows_.size(), [&](std::size_t i) { rows_[i] = FrameRows::of(solve, first_ + int(i)); }, 16);
}

const FrameRows* SolvedViews::on(int frame) const {
    const int at = frame - first_;
    return at >= 0 && at < int(rows_.size()) && rows_[std::size_t(at)] ? &*rows_[std::size_t(at)] : nullptr;
}

double TrackErrors::rms_px() const {
    double squares = 0;
    for (const Error& one : of) squares += one.error.squaredNorm();
    return of.empty() ? 0 : std::sqrt(squares / double(of.size()));
}

std::optional<Vector4d> placeOf(const SolvedViews& views, const Track& track) {
    return placeOf(sightingsOf(views, track), views.noise_px());
}

std::vector<TrackErrors> errorsOf(const Solve& solve, std::span<const Track> tracks, const Progress& progress) {
    std::unordered_map<TrackId, const Track*> byId;
    for (const Track& track : tracks) byId[track.id] = &track;
    const SolvedViews views(solve);
    std::vector<TrackErrors> result(solve.tracks.size());
    parallelFor(
        result.size(),
        [&](std::size_t t) {
            const SolvedTrack& solved = solve.tracks[t];
            TrackErrors& own = result[t];
            own.track = solved.track;
            own.role = solved.role;
            const auto found = byId.find(solved.track);
            if (found == byId.end() || progress.stopped()) return;
            const Sightings all = sightingsOf(views, *found->second);
            const auto place = solved.xyz         ? std::optional(Vector4d(solved.xyz->homogeneous().normalized()))
                               : solved.direction ? std::optional(solved.direction->homogeneous().eval())
                                                  : placeOf(all, solve.noise_px);
            if (!place || all.seen.empty()) return;
            own.point = *place;
            if (!solved.xyz && solved.direction) own.point[3] = 0;
            own.angleDegrees = spreadOf(towards(all, own.point));
            for (std::size_t i = 0; i < all.seen.size(); ++i) {
                const solving::PlateSighting& view = all.views[i];
                const Projection projection =
                    project(view.lens, view.rotation, view.translation, own.point, Derived::nothing);
                own.isBehind |= !projection.inFront;
                if (!projection.inFront) continue;
                const double away = view.rotation.row(2).dot(own.point.head<3>()) + view.translation.z() * own.point[3];
                own.of.push_back({all.seen[i].frame, view.plate, view.plate - projection.plate,
                                  own.point[3] > 1e-12 ? away / own.point[3] : 1e12});
            }
        },
        8);
    return result;
}

}  // namespace pinion
