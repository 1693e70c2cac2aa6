#include "steady/planemotion.h"

namespace pinion {

Expected<PlateMotion> motionOf(const PlanarTrack& plane, int referenceFrame, const FrameRange& range) {
    if (!surfacePoseOn(plane, referenceFrame))
        return failure(Fault::input, "plane {}: is not there on the reference frame {} (it has {}-{}); choose another",
                       plane.name, referenceFrame, plane.firstFrame(), plane.lastFrame());
    // By four places that go along: the surface's corners, else those of the box about what it is tracked by.
    const auto box = boxOf(plane.region()).corners();
    const auto cornersOn = [&](int frame) -> std::optional<Quad> {
        if (!plane.ties.isEmpty()) return surfaceAt(plane, frame);
        const auto pose = surfacePoseOn(plane, frame);
        if (!pose) return std::nullopt;
        // A cylinder's other side carries nothing.
        const SurfaceMap map = SurfaceMap::of(plane, *pose);
        if (!map.faces(SurfaceMap::of(plane, SurfacePose{}).onSurface(boxOf(plane.region()).centre())))
            return std::nullopt;
        Quad corners;
        for (std::size_t i = 0; i < 4; ++i) corners[i] = placedBy(plane, *pose, box[i]);
        return corners;
    };
    const auto start = cornersOn(referenceFrame);
    const bool pins = start && !plane.ties.isEmpty();
    PlateMotion motion{pins ? MotionKind::cornerPin : MotionKind::perspective, referenceFrame, {0, 0}, {}, {}};
    if (!start) return motion;
    if (pins) motion.corners.assign(start->begin(), start->end());
    for (const auto& corner : *start) motion.pivot += 0.25 * corner;
    for (int frame = range.first; frame <= range.last; ++frame) {
        const auto now = cornersOn(frame);
        const auto carried = now ? quadFromQuad(*now, *start) : std::nullopt;
        if (carried) motion.frames.push_back({frame, *carried, 1, 0.0});
    }
    return motion;
}

}  // namespace pinion
