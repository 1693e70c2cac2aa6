#include "world/world.h"

#include "world/planefit.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <initializer_list>
#include <numbers>
#include <vector>

namespace pinion {
namespace {

using Eigen::Vector3d;

std::optional<Vector3d> pointOf(const Solve& solve, TrackId track) {
    for (const SolvedTrack& solved : solve.tracks)
        if (solved.track == track) return solved.xyz;
    return std::nullopt;
}

}  // namespace

Eigen::Isometry3d Orientation::apply(const Eigen::Isometry3d& worldFromCamera) const {
    Eigen::Isometry3d result = Eigen::Isometry3d::Identity();
    result.linear() = rotation * worldFromCamera.linear();
    result.translation() = apply(Vector3d(worldFromCamera.translation()));
    return result;
}

namespace {

/// Places of points, or what to do about one that has none.
Expected<std::vector<Vector3d>> placesOf(const Solve& solve, std::initializer_list<TrackId> tracks, const char* what) {
    std::vector<Vector3d> places;
    for (const TrackId track : tracks) {
        const auto point = pointOf(solve, track);
        if (!point) return failure(Fault::outcome, "{} is not part of the solve; choose another", what);
        places.push_back(*point);
    }
    return places;
}

Expected<FittedPlane> planeThrough(const Solve& solve, const List<TrackId>& tracks, const char* name) {
    std::vector<Vector3d> points;
    for (const TrackId track : tracks) {
        const auto point = pointOf(solve, track);
        if (!point) return failure(Fault::outcome, "a {} point is not part of the solve; choose another", name);
        points.push_back(*point);
    }
    if (points.size() < 3) return failure(Fault::input, "the {} needs three points, {} chosen", name, points.size());
    const auto plane = fittedPlane(points, 0.03);
    if (!plane) return failure(Fault::outcome, "the {} points lie on a line; choose one to the side of it", name);
    return *plane;
}

/// The part of a direction that lies on the level; fails where that is next to none.
Expected<Vector3d> levelled(const Vector3d& along, const Vector3d& up, const char* what) {
    const Vector3d flat = along - up * along.dot(up);
    if (flat.norm() < 0.05 * along.norm()) return failure(Fault::outcome, "{}: it gives no heading", what);
    return Vector3d(flat.normalized());
}

/// The world's z, the heading: of the facing or the wall; none where neither is set.
Expected<std::optional<Vector3d>> headingOf(const World& world, const Solve& solve, const Vector3d& up,
                                            const Vector3d& eye) {
    if (!world.wall.isEmpty()) {
        const auto plane = planeThrough(solve, world.wall, "wall");
        if (!plane) return tl::unexpected(plane.error());
        const Vector3d normal = plane->normal.dot(eye - plane->middle) < 0 ? Vector3d(-plane->normal) : plane->normal;
        const auto z = levelled(normal, up, "the wall lies as the ground does");
        if (!z) return tl::unexpected(z.error());
        return *z;
    }
    if (!world.facing) return std::nullopt;
    const auto ends = placesOf(solve, {world.facing->from, world.facing->to}, "a point that the world faces by");
    if (!ends) return tl::unexpected(ends.error());
    const Vector3d along = (*ends)[1] - (*ends)[0];
    if (along.norm() < 1e-9)
        return failure(Fault::input, "the two points that the world faces by are one and the same");
    const auto x = levelled(along, up, "the line of the two points stands upright");
    if (!x) return tl::unexpected(x.error());
    return Vector3d(x->cross(up));
}

/// The scale by the measured lengths.
Expected<double> scaleOf(const World& world, const Solve& solve) {
    double products = 0, squares = 0;
    for (const World::Measure& measure : world.measures) {
        const auto ends = placesOf(solve, {measure.from, measure.to}, "a point of the measured length");
        if (!ends) return tl::unexpected(ends.error());
        const double distance = ((*ends)[1] - (*ends)[0]).norm();
        if (distance < 1e-9) return failure(Fault::input, "the two points of the measured length are one and the same");
        if (!(measure.length_m > 0))
            return failure(Fault::input, "the length is {} m; it has to be above 0", measure.length_m);
        products += measure.length_m * distance;
        squares += distance * distance;
    }
    return products / squares;
}

}  // namespace

Expected<Orientation> orient(const World& world, const Solve& solve) {
    if (solve.frames.isEmpty()) return failure(Fault::outcome, "there is no solved camera to orient");
    Orientation result;
    Vector3d eye = Vector3d::Zero();
    Vector3d back = Vector3d::Zero();
    for (const SolvedFrame& frame : solve.frames) {
        eye += frame.worldFromCamera.translation() / double(solve.frames.size());
        back += frame.worldFromCamera.linear().col(2);
    }
    std::optional<double> floor;
    Vector3d up = Vector3d::UnitY();
    if (!world.ground.isEmpty()) {
        const auto plane = planeThrough(solve, world.ground, "ground");
        if (!plane) return tl::unexpected(plane.error());
        up = plane->normal.dot(eye - plane->middle) < 0 ? Vector3d(-plane->normal) : plane->normal;
        floor = up.dot(plane->middle);
    }
    if (world.flipped) {
        up = -up;
        if (floor) floor = -*floor;
    }
    const auto heading = headingOf(world, solve, up, eye);
    if (!heading) return tl::unexpected(heading.error());
    if (*heading || floor || world.flipped) {
        Vector3d z = *heading ? **heading : Vector3d(back - up * back.dot(up));
        // A camera that looks straight down has no heading; any will do.
        if (z.norm() < 1e-6 * back.norm()) z = up.unitOrthogonal();
        z.normalize();
        result.rotation.row(0) = up.cross(z);
        result.rotation.row(1) = up;
        result.rotation.row(2) = z;
    }
    result.rotation = Eigen::AngleAxisd(world.turn_deg * std::numbers::pi / 180, Vector3d::UnitY()) * result.rotation;
    if (!world.measures.isEmpty()) {
        const auto scale = scaleOf(world, solve);
        if (!scale) return tl::unexpected(scale.error());
        result.scale = *scale;
    } else if (world.height_m) {
        const double height = floor ? up.dot(Vector3d(solve.frames.front().worldFromCamera.translation())) - *floor : 0;
        if (!floor) return failure(Fault::input, "the camera's height is over the ground: set the ground first");
        if (!(std::abs(height) > 1e-9) || !(*world.height_m > 0))
            return failure(Fault::input, "the camera's height has to be above 0");
        result.scale = *world.height_m / std::abs(height);
    }
    if (world.origin) {
        const auto point = pointOf(solve, *world.origin);
        if (!point) return failure(Fault::outcome, "the origin point is not part of the solve; choose another");
        result.translation = -result.scale * (result.rotation * *point);
    }
    if (floor) result.translation.y() = -result.scale * *floor;
    return result;
}

std::vector<GroundResidual> groundResiduals(const World& world, const Solve& solve, const Orientation& orientation) {
    std::vector<GroundResidual> residuals;
    for (const TrackId track : world.ground)
        if (const auto point = pointOf(solve, track)) residuals.push_back({track, orientation.apply(*point).y()});
    std::stable_sort(residuals.begin(), residuals.end(), [](const GroundResidual& a, const GroundResidual& b) {
        return std::abs(a.height) > std::abs(b.height);
    });
    return residuals;
}

std::vector<double> measureMisses(const World& world, const Solve& solve, const Orientation& orientation) {
    std::vector<double> misses;
    for (const World::Measure& measure : world.measures) {
        const auto from = pointOf(solve, measure.from), to = pointOf(solve, measure.to);
        misses.push_back(from && to ? orientation.scale * (*to - *from).norm() / measure.length_m - 1 : 0);
    }
    return misses;
}

double groundRms(const World& world, const Solve& solve, const Orientation& orientation) {
    double squares = 0;
    const auto residuals = groundResiduals(world, solve, orientation);
    for (const GroundResidual& one : residuals) squares += one.height * one.height;
    return residuals.empty() ? 0.0 : std::sqrt(squares / double(residuals.size()));
}

}  // namespace pinion
