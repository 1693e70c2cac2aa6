#include "camera/object.h"
#include "shot/carriers/carriers.h"
#include "shot/carriers/things.h"
#include "steady/fits.h"

#include <Eigen/LU>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

/// The camera of a frame with x right, y down, z ahead, from the object.
struct Seen {
    Matrix3d turn;
    Vector3d shift;
    Lens lens;
};
std::optional<Seen> seenOn(const Solve& solve, const ObjectSolve& object, int frame) {
    const SolvedFrame* camera = solvedFrameAt(solve, frame);
    const ObjectFrame* pose = objectFrameAt(object, frame);
    if (!camera || !pose) return std::nullopt;
    const Pose own = poseFrom(camera->worldFromCamera);
    return Seen{own.rotation * pose->worldFromObject.linear(), own.cameraFromWorld(pose->worldFromObject.translation()),
                lensOf(solve, *camera)};
}

/// How the plane through the object's middle that faces the camera on the reference frame goes over the plate.
Expected<PlateMotion> motionOf(const std::shared_ptr<const Solve>& solve, const ShotObject& object, int referenceFrame,
                               const FrameRange& range) {
    if (!solve) return failure(Fault::input, "rides on {}, and there is no solved camera", object.name);
    if (!object.solve) return failure(Fault::input, "rides on {}, which is not solved", object.name);
    const auto reference = seenOn(*solve, *object.solve, referenceFrame);
    if (!reference || reference->shift.z() <= 0)
        return failure(Fault::input, "rides on {}, which is not there on frame {}", object.name, referenceFrame);
    PlateMotion motion;
    motion.kind = MotionKind::perspective;
    motion.referenceFrame = referenceFrame;
    motion.reason = "the object as it was solved";
    // A square about the middle, half as large as the object, which faces that camera: through the lens of each frame.
    double reach = 0;
    for (const ObjectPoint& point : object.solve->points) reach = std::max(reach, 0.5 * point.xyz.norm());
    const Vector3d ahead = reference->shift.normalized(), across = Vector3d::UnitY().cross(ahead).normalized(),
                   down = ahead.cross(across);
    std::vector<Vector3d> square;  // of the object
    for (const auto& [x, y] : {std::pair{-1, -1}, {1, -1}, {1, 1}, {-1, 1}})
        square.emplace_back(reference->turn.transpose() * (reach * (x * across + y * down)));
    const auto cornersIn = [&](const Seen& seen) {
        std::vector<Vector2d> corners;
        for (const Vector3d& corner : square) {
            const Vector3d at = seen.turn * corner + seen.shift;
            const auto plate = at.z() > 1e-6 ? plateFromPlane(seen.lens, at.head<2>() / at.z()) : std::nullopt;
            if (!plate) return std::vector<Vector2d>{};
            corners.push_back(*plate);
        }
        return corners;
    };
    const auto middle = plateFromPlane(reference->lens, reference->shift.head<2>() / reference->shift.z());
    const std::vector<Vector2d> from = cornersIn(*reference);
    if (!middle || from.empty() || !(reach > 0))
        return failure(Fault::input, "rides on {}, which reaches out of the lens's view on frame {}", object.name,
                       referenceFrame);
    motion.pivot = *middle;
    for (const ObjectFrame& frame : object.solve->frames) {
        if (!range.holds(frame.frame)) continue;
        const auto now = seenOn(*solve, *object.solve, frame.frame);
        const std::vector<Vector2d> to = now ? cornersIn(*now) : std::vector<Vector2d>{};
        if (to.empty()) continue;
        std::vector<fits::Pair> pairs;
        for (std::size_t i = 0; i < from.size(); ++i) pairs.push_back({from[i], to[i]});
        motion.frames.push_back({frame.frame, fits::homographyOf(pairs), frame.tracks, frame.rms_px});
    }
    return motion;
}

class ObjectCarrier : public Carrier {
public:
    ObjectCarrier(const Shot& shot, const ShotObject& object, const Ride& ride)
        : Carrier(shot.plate.range, [solve = shot.solve, object, ride, whole = wholeRange(shot, ride)] {
              return motionOf(solve, object, ride.referenceFrame, whole);
          }) {}
};

std::shared_ptr<const Carrier> objectCarrying(const Shot& shot, const Ride& ride) {
    return std::make_shared<const ObjectCarrier>(shot, *findObject(shot, ride.ids.front()), ride);
}

}  // namespace

Ride rideOnObject(ObjectId object, int referenceFrame) { return {"object", {object}, referenceFrame}; }

CarrierKind objectCarrier() {
    return {.word = "object",
            .thing = "object",
            .make = objectCarrying,
            .addKey =
                [](Fingerprint& print, const Shot& shot, const Ride& ride) {
                    addSolve(print, shot);
                    Shot alone;
                    alone.objects = std::vector<ShotObject>{*findObject(shot, ride.ids.front())};
                    addObjects(print, alone);
                },
            .isThere =
                [](const Shot& shot, const Ride& ride, int frame) {
                    const ShotObject* object = findObject(shot, ride.ids.front());
                    return !object || !object->solve || !shot.solve || seenOn(*shot.solve, *object->solve, frame);
                },
            .nameOf = nameOfThing<&Shot::objects>,
            .idOf = idOfThing<&Shot::objects>,
            .offered = ridesOnThings<&Shot::objects, rideOnObject>};
}

}  // namespace pinion
