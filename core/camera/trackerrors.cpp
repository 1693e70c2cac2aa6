#include "camera/trackerrors.h"

#include "base/parallel.h"
#include "camera/bundle.h"

#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <unordered_map>

namespace pinion {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

struct Sighting {
    FrameRows::View view;
    int frame = 0;
    Vector2d at;
    Vector3d ray;  ///< of length 1, in the world
};

std::vector<Sighting> sightingsOf(const SolvedViews& views, const Track& track) {
    std::vector<Sighting> seen;
    for (const Sample& sample : track.samples) {
        const FrameRows* rows = views.on(sample.frame);
        if (!rows) continue;
        Sighting one{rows->at(sample.at), sample.frame, sample.at, {}};
        const auto plane = planeFromPlate(one.view.lens, sample.at);
        if (!plane) continue;
        one.ray = (one.view.pose.rotation.conjugate() * plane->homogeneous()).normalized();
        seen.push_back(std::move(one));
    }
    return seen;
}

Projection seenBy(const Sighting& one, const Vector4d& point, Derived derived) {
    return project(one.view.lens, one.view.pose.rotation.toRotationMatrix(), one.view.pose.translation, point, derived);
}

double spreadOf(const std::vector<Sighting>& seen) {
    if (seen.empty()) return 0;
    double least = 1;
    // Against the first ray and the last: over a way that goes on, the widest is one of these.
    for (const Sighting& one : seen)
        least = std::min({least, one.ray.dot(seen.front().ray), one.ray.dot(seen.back().ray)});
    return std::acos(std::clamp(least, -1.0, 1.0)) * 180 / std::numbers::pi;
}

/// How wide the rays to a place spread, as the cameras stand.
double parallaxOf(const std::vector<Sighting>& seen, const Vector4d& point) {
    std::vector<Vector3d> towards;
    for (const Sighting& one : seen)
        towards.push_back((point.head<3>() - point[3] * one.view.pose.centre()).normalized());
    double least = 1;
    for (const Vector3d& one : towards) least = std::min({least, one.dot(towards.front()), one.dot(towards.back())});
    return towards.empty() ? 0 : std::acos(std::clamp(least, -1.0, 1.0)) * 180 / std::numbers::pi;
}

Vector4d startOf(const std::vector<Sighting>& seen) {
    Matrix3d normal = Matrix3d::Zero();
    Vector3d right = Vector3d::Zero(), mean = Vector3d::Zero();
    for (const Sighting& one : seen) {
        const Matrix3d across = Matrix3d::Identity() - one.ray * one.ray.transpose();
        normal += across;
        right += across * one.view.pose.centre();
        mean += one.ray;
    }
    const Vector4d far = Vector4d(mean.x(), mean.y(), mean.z(), 0).normalized();
    if (std::abs(normal.determinant()) < 1e-12 * std::pow(double(seen.size()), 3)) return far;
    const Vector3d near = normal.inverse() * right;
    double before = 0;
    for (const Sighting& one : seen) before += one.ray.dot(near - one.view.pose.centre()) > 0 ? 1 : -1;
    return near.allFinite() && before > 0 ? near.homogeneous().normalized().eval() : far;
}

double costOf(const std::vector<Sighting>& seen, const Vector4d& point, double width_px) {
    double cost = 0;
    for (const Sighting& one : seen) {
        const Projection projection = seenBy(one, point, Derived::nothing);
        cost += projection.inFront ? std::log1p((projection.plate - one.at).squaredNorm() / (width_px * width_px)) : 30;
    }
    return cost;
}

Vector4d refined(const std::vector<Sighting>& seen, Vector4d point, double width_px) {
    double cost = costOf(seen, point, width_px), damping = 1e-4;
    for (int round = 0; round < 12; ++round) {
        const auto tangent = tangentOf(point);
        Matrix3d normal = Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (const Sighting& one : seen) {
            const Projection projection = seenBy(one, point, Derived::byPoint);
            if (!projection.inFront) continue;
            const Vector2d error = projection.plate - one.at;
            const double weight = 1 / (1 + error.squaredNorm() / (width_px * width_px));
            const Eigen::Matrix<double, 2, 3> slope = projection.byPoint * tangent;
            normal += weight * slope.transpose() * slope;
            right -= weight * slope.transpose() * error;
        }
        normal.diagonal() *= 1 + damping;
        normal.diagonal().array() += 1e-12 * normal.trace() + 1e-300;
        const Vector4d moved = (point + tangent * (normal.inverse() * right)).normalized();
        const double movedCost = moved.allFinite() ? costOf(seen, moved, width_px) : cost;
        if (movedCost < cost) {
            const bool settled = cost - movedCost < 1e-6 * cost;
            point = moved;
            cost = movedCost;
            damping *= 0.2;
            if (settled) break;
        } else {
            damping = std::max(1e-6, damping) * 10;
            if (damping > 1e4) break;
        }
    }
    return point;
}

std::optional<Vector4d> placeOf(const std::vector<Sighting>& seen, double noise_px) {
    if (seen.size() < 2) return std::nullopt;
    const double width = 3 * std::max(0.05, noise_px);
    // A wide loss finds what a narrow one then settles.
    Vector4d point = refined(seen, refined(seen, startOf(seen), 20 * width), width);
    if (point[3] < 0) {  // rays that part: as far as can be
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
    std::vector<TrackErrors> all(solve.tracks.size());
    parallelFor(
        all.size(),
        [&](std::size_t t) {
            const SolvedTrack& solved = solve.tracks[t];
            TrackErrors& own = all[t];
            own.track = solved.track;
            own.role = solved.role;
            const auto found = byId.find(solved.track);
            if (found == byId.end() || progress.stopped()) return;
            const auto seen = sightingsOf(views, *found->second);
            const auto place = solved.xyz         ? std::optional(Vector4d(solved.xyz->homogeneous().normalized()))
                               : solved.direction ? std::optional(solved.direction->homogeneous().eval())
                                                  : placeOf(seen, solve.noise_px);
            if (!place || seen.empty()) return;
            own.point = *place;
            if (!solved.xyz && solved.direction) own.point[3] = 0;
            own.angleDegrees = own.point[3] != 0 ? parallaxOf(seen, own.point) : spreadOf(seen);
            for (const Sighting& one : seen) {
                const Projection projection = seenBy(one, own.point, Derived::nothing);
                own.isBehind |= !projection.inFront;
                if (!projection.inFront) continue;
                const Vector3d away =
                    one.view.pose.rotation * own.point.head<3>() + one.view.pose.translation * own.point[3];
                own.of.push_back({one.frame, one.at, one.at - projection.plate,
                                  own.point[3] > 1e-12 ? away.z() / own.point[3] : 1e12});
            }
        },
        8);
    return all;
}

}  // namespace pinion
