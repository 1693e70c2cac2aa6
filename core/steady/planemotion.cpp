#include "steady/planemotion.h"

#include <Eigen/LU>

namespace pinion {

Expected<PlateMotion> motionOf(const PlanarTrack& plane, int referenceFrame, const FrameRange& range) {
    const auto reference = poseOn(plane, referenceFrame);
    if (!reference)
        return failure(Fault::input, "plane {}: is not there on the reference frame {} (it has {}-{}); choose another",
                       plane.name, referenceFrame, plane.firstFrame(), plane.lastFrame());
    const auto surface = surfaceAt(plane, referenceFrame);
    PlateMotion motion{surface ? MotionKind::cornerPin : MotionKind::perspective, referenceFrame, {0, 0}, {}, {}};
    if (surface) {
        motion.corners.assign(surface->begin(), surface->end());
        for (const auto& corner : *surface) motion.pivot += 0.25 * corner;
    } else {
        motion.pivot = carried(*reference, boxOf(plane.region()).centre());
    }
    const Eigen::Matrix3d referenceFromPlate = reference->inverse();
    for (int frame = range.first; frame <= range.last; ++frame) {
        const auto pose = poseOn(plane, frame);
        if (!pose) continue;
        FrameMotion found{frame, *pose * referenceFromPlate, 1, 0.0};
        if (surface && plane.ties.size() > 1) {
            const auto now = surfaceAt(plane, frame);
            const auto tied = now ? quadFromQuad(*now, *surface) : std::nullopt;
            if (!tied) continue;
            found.plateFromReference = *tied;
        }
        found.plateFromReference /= found.plateFromReference(2, 2);
        motion.frames.push_back(found);
    }
    return motion;
}

}  // namespace pinion
