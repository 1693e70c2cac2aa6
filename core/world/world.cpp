#include "world/world.h"

#include "world/planefit.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
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
    if (!world.ground.isEmpty()) {
        std::vector<Vector3d> points;
        for (TrackId track : world.ground) {
            const auto point = pointOf(solve, track);
            if (!point) return failure(Fault::outcome, "a ground point is not part of the solve; choose another");
            points.push_back(*point);
        }
        if (points.size() < 3) return failure(Fault::input, "the ground needs three points, {} chosen", points.size());
        const auto plane = fittedPlane(points, 0.03);
        if (!plane) return failure(Fault::outcome, "the ground points lie on a line; choose one to the side of it");
        Vector3d up = plane->normal;
        if (up.dot(eye - plane->middle) < 0) up = -up;
        Vector3d z = back - up * back.dot(up);
        // A camera that looks straight down has no heading; any will do.
        if (z.norm() < 1e-6 * back.norm()) z = up.unitOrthogonal();
        z.normalize();
        result.rotation.row(0) = up.cross(z);
        result.rotation.row(1) = up;
        result.rotation.row(2) = z;
        floor = up.dot(plane->middle);
    }
    if (world.measure) {
        const auto from = pointOf(solve, world.measure->from);
        const auto to = pointOf(solve, world.measure->to);
        if (!from || !to)
            return failure(Fault::outcome, "a point of the measured length is not part of the solve; choose another");
        const double distance = (*to - *from).norm();
        if (distance < 1e-9) return failure(Fault::input, "the two points of the measured length are one and the same");
        if (!(world.measure->length_m > 0))
            return failure(Fault::input, "the length is {} m; it has to be above 0", world.measure->length_m);
        result.scale = world.measure->length_m / distance;
    }
    if (world.origin) {
        const auto point = pointOf(solve, *world.origin);
        if (!point) return failure(Fault::outcome, "the origin point is not part of the solve; choose another");
        result.translation = -result.scale * (result.rotation * *point);
    }
    if (floor) result.translation.y() = -result.scale * *floor;
    return result;
}

double groundRms(const World& world, const Solve& solve, const Orientation& orientation) {
    double squares = 0;
    std::size_t count = 0;
    for (TrackId track : world.ground)
        if (const auto point = pointOf(solve, track)) {
            const double height = orientation.apply(*point).y();
            squares += height * height;
            ++count;
        }
    return count > 0 ? std::sqrt(squares / double(count)) : 0.0;
}

}  // namespace pinion
