#include "shot/carriers/carriers.h"
#include "shot/carriers/things.h"

#include <Eigen/LU>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix3d;
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

Matrix3d pixelsFromPlane(const Lens& lens) {
    Matrix3d matrix;
    matrix << lens.focal_px * lens.squeeze, 0, lens.cx, 0, lens.focal_px, lens.cy, 0, 0, 1;
    return matrix;
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
    // normal . x = 1 in the camera of the reference frame.
    const Vector3d normal = reference->shift / reference->shift.squaredNorm();
    const auto middle = plateFromPlane(reference->lens, reference->shift.head<2>() / reference->shift.z());
    if (middle) motion.pivot = *middle;
    for (const ObjectFrame& frame : object.solve->frames) {
        if (!range.holds(frame.frame)) continue;
        const auto now = seenOn(*solve, *object.solve, frame.frame);
        if (!now || now->shift.z() <= 0) continue;
        const Matrix3d turn = now->turn * reference->turn.transpose();
        const Vector3d shift = now->shift - turn * reference->shift;
        Matrix3d across = pixelsFromPlane(now->lens) * (turn + shift * normal.transpose()) *
                          pixelsFromPlane(reference->lens).inverse();
        if (!(std::abs(across(2, 2)) > 1e-12)) continue;
        across /= across(2, 2);
        motion.frames.push_back({frame.frame, across, frame.tracks, frame.rms_px});
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
