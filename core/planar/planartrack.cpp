#include "planar/planartrack.h"

#include <algorithm>

namespace pinion {

std::string_view toString(PlaneEnd reason) {
    switch (reason) {
        case PlaneEnd::none:
            return "not tracked further";
        case PlaneEnd::rangeEnd:
            return "end of the range";
        case PlaneEnd::leftFrame:
            return "left the frame";
        case PlaneEnd::covered:
            return "covered";
        case PlaneEnd::unlike:
            return "looks too little like its reference";
        case PlaneEnd::edgeOn:
            return "seen edge-on";
        case PlaneEnd::turnedAway:
            return "turned away";
        case PlaneEnd::cut:
            return "another shot begins";
    }
    return "";
}

SurfaceGeometry PlanarTrack::geometry() const {
    SurfaceGeometry geometry{lens, std::nullopt};
    if (!sides || !lens) return geometry;
    if (const auto cylinder = Cylinder::fromSides(*lens, *sides)) geometry.cylinder = *cylinder;
    return geometry;
}

const PlaneSample* sampleAt(const PlanarTrack& plane, int frame) {
    const auto found = std::lower_bound(plane.samples.begin(), plane.samples.end(), frame,
                                        [](const PlaneSample& sample, int wanted) { return sample.frame < wanted; });
    return found != plane.samples.end() && found->frame == frame ? &*found : nullptr;
}

}  // namespace pinion
