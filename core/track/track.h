#pragma once

#include "base/geometry.h"
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

std::string_view toString(Origin origin);
std::optional<Origin> originFrom(std::string_view word);

std::string_view toString(PreFilter filter);
std::optional<PreFilter> preFilterFrom(std::string_view word);

/// Why a track has no more frames on one of its sides.
enum class EndReason : std::uint8_t {
    none,        ///< it was not tracked further
    rangeEnd,    ///< the range ends
    leftFrame,   ///< the pattern touches the border of the plate
    covered,     ///< the pattern was not found: covered, blurred or changed
    driftLimit,  ///< it was found, but matched less well than the drift limit allows
    ambiguous,   ///< tracking back did not lead to where it came from
    excluded     ///< it ran into what a matte takes out
};

/// For the artist: "left the frame".
std::string_view toString(EndReason reason);

/// Where a track is on one frame, in pixels of the plate.
struct Sample {
    int frame = 0;
    Eigen::Vector2f carried{0, 0};     ///< from the pattern to the offset point, as the pattern's shape carries it here
    Eigen::Vector2d at{0, 0};          ///< where the pattern is
    double score = 1.0;                ///< correlation with the reference pattern, 0 to 1
    bool tie = false;                  ///< placed by hand
    bool renewed = false;              ///< the reference pattern was taken anew here
    bool bridged = false;              ///< not seen: laid smoothly across a gap
    bool aside = false;                ///< out of the solve on this frame alone
    EndReason lost = EndReason::none;  ///< why the next frame is missing, when a gap follows

    /// The place the track stands for: the pattern's, or the offset point's.
    Eigen::Vector2d wanted() const { return at + carried.cast<double>(); }
};

using TrackId = std::int64_t;

struct Track {
    TrackId id = 0;
    std::string name;
    bool byHand = false;
    bool setAside = false;  ///< out of the solve, not deleted
    MotionModel motion = MotionModel::affine;
    Channel channel = Channel::luma;
    PreFilter preFilter = PreFilter::none;
    int pattern_px = 21;            ///< side of the pattern area
    int search_px = 61;             ///< side of the search area
    double driftLimit = 0.8;        ///< the least score; below it the track stops
    bool pickUp = false;            ///< look for the pattern again after it was lost
    Eigen::Vector2d offset{0, 0};   ///< from the pattern to the wanted place, on the reference frame
    List<Eigen::Vector2d> outline;  ///< what counts of the pattern, around its centre; empty: all of it
    std::uint32_t colour = 0;       ///< 0xRRGGBB; 0: the usual
    std::string group;
    bool locked = false;  ///< not moved, tracked or deleted
    bool hidden = false;  ///< not drawn
    int referenceFrame = 0;
    EndReason startReason = EndReason::none;
    EndReason endReason = EndReason::none;
    List<Sample> samples;  ///< by rising frame, one a frame

    int firstFrame() const { return samples.isEmpty() ? referenceFrame : samples.front().frame; }
    int lastFrame() const { return samples.isEmpty() ? referenceFrame : samples.back().frame; }
};

/// How many of its samples are set aside on their own.
int asideFrames(const Track& track);

/// The sample on `frame`, or null.
const Sample* sampleAt(const Track& track, int frame);

/// The gaps between samples filled with smooth curves (cubic Hermite, the speed at both ends kept); those samples are
/// marked and score 0. `unbridged` takes them out again.
Track bridged(const Track& track);
Track unbridged(const Track& track);

/// Both tracks of one feature as one: the frames of `first` win where both have some. Nothing is blended, since the two
/// stand for the same place.
Track joined(const Track& first, const Track& second);

/// The first frame on which the track begins to go wrong, seen from its reference frame: where its score falls for good
/// below what it had until then, or its motion jerks against both neighbours. None when nothing is wrong.
std::optional<int> firstDoubt(const Track& track);

}  // namespace pinion
