#pragma once

#include "base/list.h"
#include "picture/picture.h"

#include <Eigen/Core>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace pinion {

/// How a pattern may change from frame to frame: shift; + turn and scale; + shear; + perspective.
enum class MotionModel { translation, similarity, affine, perspective };

std::string_view toString(MotionModel motion);
std::optional<MotionModel> motionModelFrom(std::string_view word);
std::string_view toString(Channel channel);
std::optional<Channel> channelFrom(std::string_view word);

/// Why a track has no more frames on one of its sides.
enum class EndReason {
    none,       ///< it was not tracked further
    rangeEnd,   ///< the range ends
    leftFrame,  ///< the pattern touches the border of the plate
    covered,    ///< the pattern was not found: covered, blurred or changed
    driftLimit, ///< it was found, but matched less well than the drift limit allows
    ambiguous   ///< tracking back did not lead to where it came from
};

/// For the artist: "left the frame".
std::string_view toString(EndReason reason);

/// Where a track is on one frame, in pixels of the plate.
struct Sample {
    int frame = 0;
    Eigen::Vector2d at{0, 0};
    double score = 1.0;    ///< correlation with the reference pattern, 0 to 1
    bool tie = false;      ///< placed by hand
    bool renewed = false;  ///< the reference pattern was taken anew here
};

using TrackId = std::int64_t;

struct Track {
    TrackId id = 0;
    std::string name;
    bool byHand = false;
    bool setAside = false;  ///< out of the solve, not deleted
    MotionModel motion = MotionModel::affine;
    Channel channel = Channel::luma;
    int pattern_px = 21;     ///< side of the pattern area
    int search_px = 61;      ///< side of the search area
    double driftLimit = 0.8; ///< the least score; below it the track stops
    int referenceFrame = 0;
    EndReason startReason = EndReason::none;
    EndReason endReason = EndReason::none;
    List<Sample> samples;  ///< by rising frame, one a frame

    int firstFrame() const { return samples.isEmpty() ? referenceFrame : samples.front().frame; }
    int lastFrame() const { return samples.isEmpty() ? referenceFrame : samples.back().frame; }
};

/// The sample on `frame`, or null.
const Sample* sampleAt(const Track& track, int frame);

}  // namespace pinion
