#include "camera/measuring.h"

#include "base/median.h"
#include "base/units.h"
#include "camera/sortingout.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion::solving {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

/// From the scene's world to the solve's.
struct Upright {
    Matrix3d rotation = Matrix3d::Identity();
    Vector3d middle{0, 0, 0};
    double scale = 1;
    Vector3d place(const Vector3d& p) const { return scale * (rotation * (p - middle)); }
    Vector3d deviation(const Matrix3d& covariance) const {
        return scale * (rotation * covariance * rotation.transpose()).diagonal().cwiseMax(0).cwiseSqrt();
    }
};

/// Y up along the cameras' mean, the middle of the cloud at the origin, the median point ten units away.
Upright uprightOf(const Reconstruction& scene) {
    Upright upright;
    Vector3d up = Vector3d::Zero(), back = Vector3d::Zero();
    std::optional<Vector3d> eye;
    for (int f = 0; f < int(scene.material().frames.size()); ++f)
        if (scene.pose(f)) {
            const Eigen::Isometry3d camera = worldFromCamera(*scene.pose(f));
            up += camera.linear().col(1);
            back += camera.linear().col(2);
            if (!eye) eye = camera.translation();
        }
    if (!eye || up.norm() < 1e-9) return upright;
    up.normalize();
    back -= up * back.dot(up);
    if (back.norm() < 1e-9) back = up.unitOrthogonal();
    back.normalize();
    upright.rotation.row(0) = up.cross(back);
    upright.rotation.row(1) = up;
    upright.rotation.row(2) = back;
    std::vector<double> depths, axes[3];
    for (std::size_t t = 0; t < scene.material().trails.size(); ++t) {
        const auto& point = scene.point(t);
        if (!point || (*point)[3] < 1e-6) continue;
        const Vector3d place = point->head<3>() / (*point)[3];
        depths.push_back((place - *eye).norm());
        for (int a = 0; a < 3; ++a) axes[a].push_back(place[a]);
    }
    if (depths.empty() || scene.turnsOnly()) {
        upright.middle = *eye;
        return upright;
    }
    upright.scale = 10.0 / std::max(1e-12, median(depths));
    upright.middle = Vector3d(median(axes[0]), median(axes[1]), median(axes[2]));
    return upright;
}

/// Whether the depth of a point is known well enough to hand it on: twice as far or half as near would be seen.
bool hasDepth(const Vector4d& point, const std::optional<Matrix3d>& covariance, const Vector3d& eye) {
    if (point[3] < 1e-6) return false;
    if (!covariance) return point[3] > 1e-3;
    const Vector3d ray = point.head<3>() / point[3] - eye;
    const double distance = ray.norm();
    return std::sqrt(std::max(0.0, ray.dot(*covariance * ray))) / distance < 0.4 * distance;
}

/// The place from every other sighting; the mere direction where those do not speak for a depth.
std::optional<Vector4d> placedFromHalf(const Reconstruction& scene, const Trail& trail, double noise) {
    const auto point = scene.bestPlace(trail, 3 * noise, 0, 2);
    if (!point || scene.turnsOnly()) return point;
    Vector4d far = *point;
    far[3] = 0;
    if (far.norm() < 1e-6) return point;
    const Vector4d direction = scene.bestDirection(trail, far.normalized(), 3 * noise, 2);
    const auto badnessOf = [&](const Vector4d& at) {
        double sum = 0;
        for (const auto& [i, error] : scene.errorsOf(trail, at))
            if (i % 2 == 0) sum += 4.5 * std::log1p(error.squaredNorm() / (9 * noise * noise));
        return sum;
    };
    // Twice the likelihood ratio of one more freedom exceeds 9 by chance once in 370.
    return badnessOf(direction) - badnessOf(*point) < 4.5 ? direction : *point;
}

/// The scene's world as the set's measures have it, else as it is easiest to read.
Upright uprightBy(const Reconstruction& scene, const Measures& measures) {
    Upright upright = uprightOf(scene);
    if (measures.metresPerUnit) upright.scale = *measures.metresPerUnit;
    if (measures.metresFromScene) {
        upright.rotation = measures.metresFromScene->topLeftCorner<3, 3>() / upright.scale;
        upright.middle =
            -(upright.rotation.transpose() * measures.metresFromScene->topRightCorner<3, 1>()) / upright.scale;
    }
    return upright;
}

/// Turns the finished scene into a solve, track by track and frame by frame.
class Measuring {
public:
    Measuring(const Reconstruction& scene, std::span<const Track> tracks,
              const std::optional<BundleCovariance>& covariance, const Measures& measures)
        : scene_(scene),
          material_(scene.material()),
          tracks_(tracks),
          covariance_(covariance),
          noise_(std::max(scene.noise(), 0.04 * material_.scale())),
          trackNoise_(noiseOfTracks(scene)),
          upright_(uprightBy(scene, measures)),
          squaresByFrame_(material_.frames.size(), 0.0),
          countByFrame_(material_.frames.size(), 0) {
        scene.assemble(&cameraOf_, &pointOf_);
    }

    double noise() const { return noise_; }

    /// Roles, errors and places of all tracks; call before `frames`, which sums up what it saw of each frame.
    void tracks(Solve& solve) {
        std::vector<SolvedTrack> solvedTracks;
        for (std::size_t t = 0; t < material_.trails.size(); ++t) {
            SolvedTrack solved = trackOf(t);
            solve.used += solved.role == TrackRole::used;
            solve.heldOut += solved.role == TrackRole::heldOut;
            solve.disagreed += solved.role == TrackRole::disagreed;
            solvedTracks.push_back(solved);
        }
        solve.tracks = List<SolvedTrack>(std::move(solvedTracks));
        solve.rms_px = used_.rms();
        solve.heldOutRms_px = held_.rms();
    }

    void frames(Solve& solve) const {
        std::vector<SolvedFrame> frames;
        for (std::size_t f = 0; f < material_.frames.size(); ++f) {
            if (!scene_.pose(int(f))) continue;
            SolvedFrame frame{.frame = material_.frames[f], .focal_px = scene_.focalOf(int(f))};
            const Eigen::Isometry3d camera = worldFromCamera(*scene_.pose(int(f)));
            frame.worldFromCamera.linear() = upright_.rotation * camera.linear();
            frame.worldFromCamera.translation() = upright_.place(camera.translation());
            frame.rms_px = countByFrame_[f] > 0 ? std::sqrt(squaresByFrame_[f] / countByFrame_[f]) : 0;
            frame.tracks = countByFrame_[f];
            if (covariance_ && !covariance_->positions.empty())
                frame.deviation = upright_.deviation(covariance_->positions[std::size_t(cameraOf_[f])]);
            if (covariance_ && !covariance_->focals_px.empty())
                frame.focalDeviation_px = covariance_->focals_px[std::size_t(cameraOf_[f])];
            frames.push_back(frame);
        }
        solve.frames = List<SolvedFrame>(std::move(frames));
    }

private:
    struct Squares {
        double sum = 0;
        std::size_t count = 0;
        double rms() const { return count > 0 ? std::sqrt(sum / double(count)) : 0; }
    };

    SolvedTrack trackOf(std::size_t t) {
        const Trail& trail = material_.trails[t];
        SolvedTrack solved;
        solved.track = tracks_[trail.track].id;
        if (trail.heldOut) {
            heldOut(trail, solved);
        } else if (scene_.point(t) && !scene_.isDoubted(t)) {
            used(t, solved);
        } else if (const auto placed = scene_.bestPlace(trail, 3 * noise_)) {
            // What disagrees is shown where it would lie best, with the error it has there.
            measure(trail, *placed, 0, int(trail.seen.size()), solved);
            solved.role = TrackRole::disagreed;
        } else {
            solved.role = scene_.isDropped(t) ? TrackRole::disagreed : TrackRole::unplaced;
        }
        return solved;
    }

    /// Placed from every other frame, measured on the rest.
    void heldOut(const Trail& trail, SolvedTrack& solved) {
        const auto point = placedFromHalf(scene_, trail, noise_);
        if (!point) return;
        std::vector<Vector2d> all;
        Squares own;
        for (const auto& [i, error] : scene_.errorsOf(trail, *point)) {
            all.push_back(error);
            if (i % 2 == 0) continue;
            own.sum += error.squaredNorm();
            ++own.count;
        }
        if (own.count == 0) return;
        solved.frames = int(own.count);
        solved.rms_px = own.rms();
        // The same limit as for the others: a mover is no measure of the camera.
        if (!agreementOf(all, trackNoise_, material_.scale()).agrees) {
            solved.role = TrackRole::disagreed;
            return;
        }
        solved.role = TrackRole::heldOut;
        place(trail, *point, std::nullopt, solved);
        held_.sum += own.sum;
        held_.count += own.count;
    }

    void used(std::size_t t, SolvedTrack& solved) {
        const Trail& trail = material_.trails[t];
        const Vector4d& point = *scene_.point(t);
        const auto [from, to] = scene_.stretch(t);
        measure(trail, point, from, to, solved);
        solved.role = TrackRole::used;
        place(trail, point,
              covariance_ && pointOf_[t] >= 0 && !covariance_->points.empty()
                  ? covariance_->points[std::size_t(pointOf_[t])]
                  : std::nullopt,
              solved);
        if (from > 0 || to + 1 < int(trail.seen.size()))
            solved.goodFrames = {material_.frames[std::size_t(trail.seen[std::size_t(from)].frame)],
                                 material_.frames[std::size_t(trail.seen[std::size_t(to)].frame)]};
        for (const auto& [i, error] : scene_.errorsOf(trail, point)) {
            if (i < from || i > to) continue;
            const auto frame = std::size_t(trail.seen[std::size_t(i)].frame);
            squaresByFrame_[frame] += error.squaredNorm();
            ++countByFrame_[frame];
            used_.sum += error.squaredNorm();
            ++used_.count;
        }
    }

    void measure(const Trail& trail, const Vector4d& point, int from, int to, SolvedTrack& solved) const {
        Squares own;
        for (const auto& [i, error] : scene_.errorsOf(trail, point)) {
            if (i < from || i > to) continue;
            own.sum += error.squaredNorm();
            ++own.count;
        }
        solved.frames = int(own.count);
        solved.rms_px = own.rms();
    }

    void place(const Trail& trail, const Vector4d& point, const std::optional<Matrix3d>& deviation,
               SolvedTrack& solved) const {
        Vector3d eye = Vector3d::Zero();
        for (const Seen& seen : trail.seen)
            if (scene_.pose(seen.frame)) eye = scene_.pose(seen.frame)->centre();
        if (!scene_.turnsOnly() && hasDepth(point, deviation, eye)) {
            solved.xyz = upright_.place(point.head<3>() / point[3]);
            if (deviation) solved.deviation = upright_.deviation(*deviation);
        } else {
            solved.direction = (upright_.rotation * (point.head<3>() - point[3] * eye)).normalized();
        }
    }

    const Reconstruction& scene_;
    const Material& material_;
    std::span<const Track> tracks_;
    const std::optional<BundleCovariance>& covariance_;
    double noise_, trackNoise_;
    Upright upright_;
    std::vector<int> cameraOf_, pointOf_;
    Squares used_, held_;
    std::vector<double> squaresByFrame_;
    std::vector<int> countByFrame_;
};

/// How sure the lens is.
void setDeviations(Solve& solve, const BundleCovariance& covariance, const LensPlan& plan,
                   const SolveOptions& options) {
    if (plan.focal) {
        double deviation = covariance.deviationOf(LensTerm::focal);
        for (const double own : covariance.focals_px) deviation = std::max(deviation, own);
        solve.focalDeviation_mm = focalMillimetres(deviation, options.sensorWidth_mm, options.width);
    }
    solve.k1Deviation = covariance.deviationOf(LensTerm::k1);
    solve.k2Deviation = covariance.deviationOf(LensTerm::k2);
    // A hand moves a little faster between frames than a cubic through them, and a longer readout makes up for it.
    constexpr double kBetweenFrames = 0.015;
    if (const double own = covariance.deviationOf(LensTerm::readout); own > 0)
        solve.readoutDeviation = std::hypot(own, kBetweenFrames * solve.readout.share);
    solve.axisDeviation_px = {covariance.deviationOf(LensTerm::cx), covariance.deviationOf(LensTerm::cy)};
}

}  // namespace

SolveView viewOf(const Bundle& bundle) {
    SolveView view;
    view.focal_px = bundle.lens.focal_px;
    for (std::size_t i = 0; i < bundle.cameras.size(); ++i)
        view.frames.push_back({.frame = bundle.times[i],
                               .worldFromCamera = worldFromCamera(bundle.cameras[i]),
                               .focal_px = bundle.isZoom() ? bundle.focals[i] : bundle.lens.focal_px});
    for (const Vector4d& point : bundle.points)
        if (point[3] > 1e-5) view.points.emplace_back(point.head<3>() / point[3]);
    return view;
}

Solve measured(const Reconstruction& scene, const LensPlan& plan, std::span<const Track> tracks,
               const std::optional<BundleCovariance>& covariance, const Measures& measures) {
    const Material& material = scene.material();
    Measuring measuring(scene, tracks, covariance, measures);
    Solve solve;
    solve.lens = scene.lens();
    solve.sensorWidth_mm = scene.options().sensorWidth_mm;
    solve.motion = scene.turnsOnly() ? CameraMotion::nodal : CameraMotion::travelling;
    solve.zoom = scene.isZoom();
    solve.k1Slope = scene.k1Slope();
    // What is said of a zoom's lens is said of its first frame.
    for (int f = 0; solve.zoom && f < int(material.frames.size()); ++f)
        if (scene.pose(f)) {
            solve.lens = scene.lensOf(f);
            break;
        }
    solve.readout = {scene.readout(), scene.options().readsColumns()};
    solve.inMetres = measures.metresPerUnit.has_value();
    solve.noise_px = measuring.noise();
    solve.duplicates = material.duplicates;
    solve.medianAngleDegrees = scene.turnsOnly() ? 0.0 : scene.medianAngleDegrees();
    measuring.tracks(solve);
    measuring.frames(solve);
    if (covariance) setDeviations(solve, *covariance, plan, scene.options());
    return solve;
}

}  // namespace pinion::solving
