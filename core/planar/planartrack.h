#pragma once

#include "base/list.h"
#include "planar/region.h"
#include "planar/surfacepose.h"
#include "track/track.h"

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace pinion {

/// Why a planar track has no more frames on one of its sides.
enum class PlaneEnd : std::uint8_t {
    none,       ///< it was not tracked further
    rangeEnd,   ///< the range ends
    leftFrame,  ///< too little of it is in the frame
    covered,    ///< too little of it is seen
    unlike,     ///< it was found, but it looks too little like its reference
    edgeOn,     ///< it is seen too much from the side
    cut,        ///< another shot begins
    turnedAway  ///< a cylinder shows another side
};

/// For the artist: "left the frame".
std::string_view toString(PlaneEnd reason);

/// Where a planar track is on one frame.
struct PlaneSample {
    int frame = 0;
    SurfacePose pose;        ///< against its reference frame
    float seen = 1;          ///< share of its texture that is seen
    float fit = 1;           ///< correlation of that with the reference
    float deviation_px = 0;  ///< standard deviation of its worst corner, by the noise
    bool renewed = false;    ///< the reference was taken anew here
    bool anew = false;       ///< its shape was set here by a correction, and tracked on from
};

/// The surface as it was placed, or corrected, on one frame.
struct PlaneTie {
    int frame = 0;
    Quad corners;
};

using PlaneId = std::int64_t;

/// A plane of the scene, or a round upright body, followed through the plate: what it is tracked by, where that goes,
/// and the surface that is handed on, which is another thing.
struct PlanarTrack {
    PlaneId id = 0;
    std::string name;
    List<Polygon> outlines;  ///< on the reference frame
    List<Polygon> takenOut;  ///< parts of them that do not count
    int referenceFrame = 0;
    /// It is a cylinder, whose left side goes from sides[0] to sides[3], its right one from sides[1] to sides[2].
    std::optional<Quad> sides;
    std::optional<MotionModel> motion;  ///< none: what its texture supports; a cylinder turns and shifts
    PlaneLens lens;                     ///< that it was tracked through; null: as filmed (a cylinder needs one)
    double leastSeen = 0.2;             ///< the share of its texture below which it ends
    bool fromScene = false;             ///< its samples come from the solved camera, not from its texture
    bool locked = false;                ///< not tracked, changed or deleted
    bool hidden = false;                ///< not drawn
    PlaneEnd startReason = PlaneEnd::none;
    PlaneEnd endReason = PlaneEnd::none;
    List<PlaneSample> samples;  ///< by rising frame, one a frame
    List<PlaneTie> ties;        ///< of its surface, by rising frame; the first that was placed is one too; empty: none

    /// A plane's, or the cylinder's that its sides tell; the sides without a lens, or crossed, tell nothing.
    SurfaceGeometry geometry() const;
    PlaneRegion region() const { return {outlines.vector(), takenOut.vector()}; }
    int firstFrame() const { return samples.isEmpty() ? referenceFrame : samples.front().frame; }
    int lastFrame() const { return samples.isEmpty() ? referenceFrame : samples.back().frame; }
};

/// The sample on `frame`, or null.
const PlaneSample* sampleAt(const PlanarTrack& plane, int frame);

}  // namespace pinion
