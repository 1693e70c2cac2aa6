#include "world/sceneplane.h"

#include "camera/framerows.h"
#include "world/planefit.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kNearPlane = 0.015;  // of its distance, that a point may lie off the plane
constexpr double kLeastFacing = 0.1;  // the cosine: 84 degrees
constexpr std::size_t kLeastPoints = 4;

/// Camera coordinates as planes have them, x right, y down, z ahead, from those of the solve's world.
SurfacePose cameraFromWorld(const Pose& pose) { return {pose.rotation.toRotationMatrix(), pose.translation}; }

/// The pose of the row that sees a point: what is about it is seen by nearly the same.
Pose poseSeeing(const FrameRows& rows, const Vector3d& xyz) {
    const auto plate = rows.projected(xyz);
    return (plate ? rows.at(*plate) : rows.at(0.0)).pose;
}

/// normal . point = 1
std::optional<Vector3d> planeThrough(const std::vector<Vector3d>& points) {
    const auto plane = fittedPlane(points);
    if (!plane) return std::nullopt;
    const double distance = plane->normal.dot(plane->middle);
    if (std::abs(distance) < 1e-9 * plane->middle.norm()) return std::nullopt;
    return plane->normal / distance;
}

std::vector<Vector3d> onPlane(const std::vector<Vector3d>& points, const Vector3d& normal) {
    std::vector<Vector3d> near;
    for (const Vector3d& point : points)
        if (std::abs(normal.dot(point) - 1) / normal.norm() < kNearPlane * point.norm()) near.push_back(point);
    return near;
}

/// The plane that most of the points lie on.
std::optional<Vector3d> planeOf(const std::vector<Vector3d>& points) {
    std::mt19937 random(23);
    std::vector<Vector3d> best;
    for (int trial = 0; trial < 300; ++trial) {
        const auto normal = planeThrough(
            {points[random() % points.size()], points[random() % points.size()], points[random() % points.size()]});
        if (!normal) continue;
        if (auto near = onPlane(points, *normal); near.size() > best.size()) best = std::move(near);
    }
    if (best.size() < kLeastPoints) return std::nullopt;
    return planeThrough(best);
}

/// The share of the outline that is in the frame; 0 when the plane is seen from behind, or edge-on.
double shareSeen(const PlanarTrack& plane, const Matrix3d& pose, const Vector3d& normalThere, const Vector3d& normal,
                 int width, int height) {
    if (normalThere.z() * normal.z() <= 0) return 0;
    constexpr int kGrid = 12;
    const PlaneRegion region = plane.region();
    const PlaneBox box = boxOf(region);
    int held = 0, inside = 0;
    for (int j = 0; j < kGrid; ++j)
        for (int i = 0; i < kGrid; ++i) {
            const Vector2d place(box.left + (i + 0.5) / kGrid * box.width(),
                                 box.top + (j + 0.5) / kGrid * box.height());
            if (!region.holds(place)) continue;
            ++held;
            const auto to = SurfaceGeometry{plane.lens, {}}.carried({pose}, place);
            inside += to && to->x() > 0 && to->y() > 0 && to->x() < width && to->y() < height;
        }
    return held > 0 ? double(inside) / held : 0;
}

}  // namespace

Expected<PlanarTrack> planeFromScene(const PlanarTrack& drawn, const Solve& solve, const FrameRange& range) {
    if (drawn.sides) return failure(Fault::input, "plane {}: is a cylinder; the scene tells planes alone", drawn.name);
    if (solve.zoom && solve.lens.isDistorted())
        return failure(Fault::input, "plane {}: a zoom's distortion changes; track it by its texture", drawn.name);
    const SolvedFrame* reference = solvedFrameAt(solve, drawn.referenceFrame);
    if (!reference)
        return failure(Fault::input, "plane {}: its reference frame {} is not solved", drawn.name,
                       drawn.referenceFrame);
    const Lens lens = lensOf(solve, *reference);
    const FrameRows rows = *FrameRows::of(solve, drawn.referenceFrame);
    const PlaneRegion region = drawn.region();
    std::vector<Vector3d> within;
    Vector3d middle = Vector3d::Zero();
    for (const SolvedTrack& track : solve.tracks) {
        if (!track.xyz || track.role != TrackRole::used) continue;
        const auto seen = rows.projected(*track.xyz);
        if (!seen || !region.holds(*seen)) continue;
        within.push_back(*track.xyz);
        middle += *track.xyz;
    }
    middle /= double(std::max<std::size_t>(1, within.size()));
    const SurfacePose camera = cameraFromWorld(poseSeeing(rows, middle));
    std::vector<Vector3d> points;
    for (const Vector3d& xyz : within) points.emplace_back(camera.matrix * xyz + camera.shift);
    if (points.size() < kLeastPoints)
        return failure(
            Fault::outcome,
            "plane {}: {} solved points lie inside its outline on frame {}, four are needed; draw it larger, "
            "or scatter more features there and solve again",
            drawn.name, points.size(), drawn.referenceFrame);
    const auto normal = planeOf(points);
    if (!normal)
        return failure(Fault::outcome, "plane {}: the {} solved points inside its outline do not lie on one plane",
                       drawn.name, points.size());
    PlanarTrack plane = drawn;
    plane.lens = lens.isDistorted() ? std::make_shared<const Lens>(lens) : nullptr;
    plane.fromScene = true;
    std::vector<PlaneSample> samples;
    for (const SolvedFrame& frame : solve.frames) {
        if (!range.holds(frame.frame)) continue;
        const SurfacePose moved =
            cameraFromWorld(poseSeeing(*FrameRows::of(solve, frame.frame), middle)) * camera.inverse();
        Matrix3d pose = pixelsFromRays(lensOf(solve, frame)) * (moved.matrix + moved.shift * normal->transpose()) *
                        pixelsFromRays(lens).inverse();
        pose /= pose(2, 2);
        // The plane there: normal . (R' (x - t)) = 1.
        const Vector3d turned = moved.matrix * *normal;
        const double distance = 1 + turned.dot(moved.shift);
        const double share = shareSeen(plane, pose, turned / distance, *normal, lens.width, lens.height);
        const double facing = std::abs(turned.normalized().z());
        if (share < std::max(0.02, drawn.leastSeen) || facing < kLeastFacing) continue;
        samples.push_back(
            {.frame = frame.frame, .pose = {pose}, .seen = float(share), .deviation_px = float(solve.rms_px)});
    }
    plane.samples = List<PlaneSample>(std::move(samples));
    plane.startReason = plane.firstFrame() <= range.first ? PlaneEnd::rangeEnd : PlaneEnd::leftFrame;
    plane.endReason = plane.lastFrame() >= range.last ? PlaneEnd::rangeEnd : PlaneEnd::leftFrame;
    return plane;
}

}  // namespace pinion
