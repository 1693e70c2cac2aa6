#include "camera/measuring.h"

#include "base/median.h"
#include "base/units.h"
#include "camera/sortingout.h"

#include <Eigen/Dense>
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
    const SolveOptions& options = scene.options();
    const double noise = std::max(scene.noise(), 0.04 * material.scale());
    const double trackNoise = noiseOfTracks(scene);
    Upright upright = uprightOf(scene);
    if (measures.metresPerUnit) upright.scale = *measures.metresPerUnit;
    if (measures.metresFromScene) {
        upright.rotation = measures.metresFromScene->topLeftCorner<3, 3>() / upright.scale;
        upright.middle =
            -(upright.rotation.transpose() * measures.metresFromScene->topRightCorner<3, 1>()) / upright.scale;
    }
    std::vector<int> cameraOf, pointOf;
    scene.assemble(&cameraOf, &pointOf);

    Solve solve;
    solve.lens = scene.lens();
    solve.sensorWidth_mm = options.sensorWidth_mm;
    solve.motion = scene.turnsOnly() ? CameraMotion::nodal : CameraMotion::travelling;
    solve.zoom = scene.isZoom();
    solve.k1Slope = scene.k1Slope();
    // What is said of a zoom's lens is said of its first frame.
    for (int f = 0; solve.zoom && f < int(material.frames.size()); ++f)
        if (scene.pose(f)) {
            solve.lens = scene.lensOf(f);
            break;
        }
    solve.inMetres = measures.metresPerUnit.has_value();
    solve.noise_px = noise;
    solve.duplicates = material.duplicates;
    solve.medianAngleDegrees = scene.turnsOnly() ? 0.0 : scene.medianAngleDegrees();
    std::vector<double> squaresByFrame(material.frames.size(), 0.0);
    std::vector<int> countByFrame(material.frames.size(), 0);
    std::vector<SolvedTrack> solvedTracks;
    double squares = 0, heldSquares = 0;
    std::size_t count = 0, heldCount = 0;
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        const Trail& trail = material.trails[t];
        SolvedTrack solved;
        solved.track = tracks[trail.track].id;
        const auto placeAs = [&](const Vector4d& point, const std::optional<Matrix3d>& deviation) {
            Vector3d eye = Vector3d::Zero();
            for (const Seen& seen : trail.seen)
                if (scene.pose(seen.frame)) eye = scene.pose(seen.frame)->centre();
            if (!scene.turnsOnly() && hasDepth(point, deviation, eye)) {
                solved.xyz = upright.place(point.head<3>() / point[3]);
                if (deviation) solved.deviation = upright.deviation(*deviation);
            } else {
                solved.direction = (upright.rotation * (point.head<3>() - point[3] * eye)).normalized();
            }
        };
        const auto measure = [&](const Vector4d& point, int from, int to) {
            double own = 0;
            for (const auto& [i, error] : scene.errorsOf(trail, point)) {
                if (i < from || i > to) continue;
                own += error.squaredNorm();
                ++solved.frames;
            }
            solved.rms_px = solved.frames > 0 ? std::sqrt(own / solved.frames) : 0;
        };
        if (trail.heldOut) {
            // Placed from every other frame, measured on the rest.
            std::vector<Vector2d> errors, all;
            const auto point = placedFromHalf(scene, trail, noise);
            if (point)
                for (const auto& [i, error] : scene.errorsOf(trail, *point)) {
                    all.push_back(error);
                    if (i % 2 == 1) errors.push_back(error);
                }
            if (!errors.empty()) {
                double own = 0;
                for (const Vector2d& error : errors) own += error.squaredNorm();
                solved.frames = int(errors.size());
                solved.rms_px = std::sqrt(own / double(errors.size()));
                // The same limit as for the others: a mover is no measure of the camera.
                if (agreementOf(all, trackNoise, material.scale()).agrees) {
                    solved.role = TrackRole::heldOut;
                    placeAs(*point, std::nullopt);
                    heldSquares += own;
                    heldCount += errors.size();
                    ++solve.heldOut;
                } else {
                    solved.role = TrackRole::disagreed;
                }
            }
        } else if (const auto& point = scene.point(t); point && !scene.isDoubted(t)) {
            const auto [from, to] = scene.stretch(t);
            measure(*point, from, to);
            solved.role = TrackRole::used;
            placeAs(*point, covariance && pointOf[t] >= 0 && !covariance->points.empty()
                                ? covariance->points[std::size_t(pointOf[t])]
                                : std::nullopt);
            if (from > 0 || to + 1 < int(trail.seen.size()))
                solved.goodFrames = {material.frames[std::size_t(trail.seen[std::size_t(from)].frame)],
                                     material.frames[std::size_t(trail.seen[std::size_t(to)].frame)]};
            ++solve.used;
            for (const auto& [i, error] : scene.errorsOf(trail, *point)) {
                if (i < from || i > to) continue;
                const auto frame = std::size_t(trail.seen[std::size_t(i)].frame);
                squaresByFrame[frame] += error.squaredNorm();
                ++countByFrame[frame];
                squares += error.squaredNorm();
                ++count;
            }
        } else if (const auto placed = scene.bestPlace(trail, 3 * noise)) {
            // What disagrees is shown where it would lie best, with the error it has there.
            measure(*placed, 0, int(trail.seen.size()));
            solved.role = TrackRole::disagreed;
        } else {
            solved.role = scene.isDropped(t) ? TrackRole::disagreed : TrackRole::unplaced;
        }
        if (solved.role == TrackRole::disagreed) ++solve.disagreed;
        solvedTracks.push_back(solved);
    }
    solve.rms_px = count > 0 ? std::sqrt(squares / double(count)) : 0;
    solve.heldOutRms_px = heldCount > 0 ? std::sqrt(heldSquares / double(heldCount)) : 0;
    std::vector<SolvedFrame> frames;
    for (std::size_t f = 0; f < material.frames.size(); ++f) {
        if (!scene.pose(int(f))) continue;
        SolvedFrame frame{.frame = material.frames[f], .focal_px = scene.focalOf(int(f))};
        const Eigen::Isometry3d camera = worldFromCamera(*scene.pose(int(f)));
        frame.worldFromCamera.linear() = upright.rotation * camera.linear();
        frame.worldFromCamera.translation() = upright.place(camera.translation());
        frame.rms_px = countByFrame[f] > 0 ? std::sqrt(squaresByFrame[f] / countByFrame[f]) : 0;
        frame.tracks = countByFrame[f];
        if (covariance && !covariance->positions.empty())
            frame.deviation = upright.deviation(covariance->positions[std::size_t(cameraOf[f])]);
        if (covariance && !covariance->focals_px.empty())
            frame.focalDeviation_px = covariance->focals_px[std::size_t(cameraOf[f])];
        frames.push_back(frame);
    }
    solve.frames = List<SolvedFrame>(std::move(frames));
    solve.tracks = List<SolvedTrack>(std::move(solvedTracks));
    if (covariance && plan.focal) {
        double deviation = covariance->deviationOf(LensTerm::focal);
        for (const double own : covariance->focals_px) deviation = std::max(deviation, own);
        solve.focalDeviation_mm = focalMillimetres(deviation, options.sensorWidth_mm, options.width);
    }
    if (covariance) {
        solve.k1Deviation = covariance->deviationOf(LensTerm::k1);
        solve.k2Deviation = covariance->deviationOf(LensTerm::k2);
        solve.axisDeviation_px = {covariance->deviationOf(LensTerm::cx), covariance->deviationOf(LensTerm::cy)};
    }
    return solve;
}

}  // namespace pinion::solving
