#include "shot/carriers/carriers.h"
#include "shot/stages/worldstage.h"
#include "steady/fits.h"
#include "world/eye.h"

#include <algorithm>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kAcross = 24, kDown = 14;  // places of the frame that are followed
constexpr double kFar = 60;              // heights of the camera: beyond that the ground is a line
constexpr std::size_t kFewest = 6;

/// How the ground goes over the plate: by the places of it that the reference frame sees, through the lens.
Expected<PlateMotion> motionOf(const std::shared_ptr<const Solve>& solve, const Orientation& orientation, double height,
                               int referenceFrame, const FrameRange& range) {
    if (!solve) return failure(Fault::input, "rides on the ground, and there is no solved camera");
    const auto eye = WorldEye::of(*solve, orientation, referenceFrame);
    if (!eye)
        return failure(Fault::input, "rides on the ground, and the camera is not solved on frame {}", referenceFrame);
    std::vector<Vector2d> from;
    std::vector<Vector3d> places;
    for (int y = 0; y <= kDown; ++y)
        for (int x = 0; x <= kAcross; ++x) {
            const Vector2d at(double(x) * solve->lens.width / kAcross, double(y) * solve->lens.height / kDown);
            const auto ray = eye->rayThrough(at);
            if (!ray) continue;
            const double away = (height - ray->from.y()) / ray->along.y();
            if (!(away > 0) || away > kFar * std::abs(height - ray->from.y())) continue;
            from.push_back(at);
            places.push_back(ray->from + away * ray->along);
        }
    if (from.size() < kFewest)
        return failure(Fault::input, "rides on the ground, which frame {} does not see", referenceFrame);
    PlateMotion motion;
    motion.kind = MotionKind::perspective;
    motion.referenceFrame = referenceFrame;
    motion.reason = "the ground by the solved camera";
    motion.pivot = {0.5 * solve->lens.width, 0.5 * solve->lens.height};
    for (const SolvedFrame& frame : solve->frames) {
        if (!range.holds(frame.frame)) continue;
        const auto here = WorldEye::of(*solve, orientation, frame.frame);
        std::vector<fits::Pair> pairs;
        for (std::size_t i = 0; here && i < from.size(); ++i)
            if (const auto to = here->plateFromWorld(places[i])) pairs.push_back({from[i], *to});
        if (pairs.size() < kFewest) continue;
        motion.frames.push_back({frame.frame, fits::homographyOf(pairs), int(pairs.size()), 0});
    }
    return motion;
}

std::shared_ptr<const Carrier> groundCarrying(const Shot& shot, const Ride& ride) {
    return std::make_shared<const Carrier>(
        shot.plate.range,
        [solve = shot.solve, orientation = orientationOf(shot), height = shot.scene.ground, ride,
         whole = wholeRange(shot, ride)] { return motionOf(solve, orientation, height, ride.referenceFrame, whole); });
}

}  // namespace

Ride rideOnGround(int referenceFrame) { return {"ground", {}, referenceFrame}; }

CarrierKind groundCarrier() {
    return {.word = "ground",
            .thing = "ground",
            .make = groundCarrying,
            .addKey =
                [](Fingerprint& print, const Shot& shot, const Ride&) {
                    addWorld(print, shot);
                    print.add(shot.scene.ground);
                },
            .isThere = [](const Shot& shot, const Ride&,
                          int frame) { return !shot.solve || solvedFrameAt(*shot.solve, frame) != nullptr; },
            .words = [](const Shot&, const Ride&) { return std::string("the ground"); },
            .offered =
                [](const Shot& shot) { return shot.solve ? std::vector<Ride>{rideOnGround()} : std::vector<Ride>{}; }};
}

}  // namespace pinion
