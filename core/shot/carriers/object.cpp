#include "camera/framerows.h"
#include "camera/object.h"
#include "shot/carriers/carriers.h"
#include "shot/carriers/things.h"
#include "steady/fits.h"

#include <Eigen/Geometry>
#include <algorithm>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

/// How the plane through the object's middle that faces the camera on the reference frame goes over the plate.
Expected<PlateMotion> motionOf(const std::shared_ptr<const Solve>& solve, const ShotObject& object, int referenceFrame,
                               const FrameRange& range) {
    if (!solve) return failure(Fault::input, "rides on {}, and there is no solved camera", object.name);
    if (!object.solve) return failure(Fault::input, "rides on {}, which is not solved", object.name);
    const Solve seen = seenFromObject(*solve, *object.solve);
    const SolvedFrame* reference = solvedFrameAt(seen, referenceFrame);
    if (!reference)
        return failure(Fault::input, "rides on {}, which is not there on frame {}", object.name, referenceFrame);
    // A square about the middle, half as large as the object, which faces that camera: through the lens of each frame.
    double reach = 0;
    for (const ObjectPoint& point : object.solve->points) reach = std::max(reach, 0.5 * point.xyz.norm());
    const Vector3d towards = reference->worldFromCamera.translation().normalized(),
                   across = Vector3d(reference->worldFromCamera.linear().col(1)).cross(towards).normalized(),
                   up = towards.cross(across);
    std::vector<Vector3d> square;
    for (const auto& [x, y] : {std::pair{-1, 1}, {1, 1}, {1, -1}, {-1, -1}})
        square.emplace_back(reach * (x * across + y * up));
    const auto cornersOn = [&](int frame) {
        std::vector<Vector2d> corners;
        const auto rows = FrameRows::of(seen, frame);
        for (const Vector3d& corner : square)
            if (const auto plate = rows ? rows->projected(corner) : std::nullopt) corners.push_back(*plate);
        return corners;
    };
    const auto middle = projected(seen, referenceFrame, Vector3d::Zero());
    const std::vector<Vector2d> from = cornersOn(referenceFrame);
    if (!middle || from.size() < square.size() || !(reach > 0))
        return failure(Fault::input, "rides on {}, which reaches out of the lens's view on frame {}", object.name,
                       referenceFrame);
    PlateMotion motion;
    motion.kind = MotionKind::perspective;
    motion.referenceFrame = referenceFrame;
    motion.reason = "the object as it was solved";
    motion.pivot = *middle;
    for (const ObjectFrame& frame : object.solve->frames) {
        if (!range.holds(frame.frame)) continue;
        const std::vector<Vector2d> to = cornersOn(frame.frame);
        if (to.size() < square.size()) continue;
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
                    return !object || !object->solve || !shot.solve ||
                           (objectFrameAt(*object->solve, frame) && solvedFrameAt(*shot.solve, frame));
                },
            .nameOf = nameOfThing<&Shot::objects>,
            .idOf = idOfThing<&Shot::objects>,
            .offered = ridesOnThings<&Shot::objects, rideOnObject>};
}

}  // namespace pinion
