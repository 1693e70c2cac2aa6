#pragma once

#include "base/framerate.h"
#include "base/list.h"
#include "comp/insert.h"
#include "matte/matte.h"
#include "planar/surface.h"
#include "steady/riding.h"
#include "track/tracking.h"

#include <array>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace pinion {

// What a shot holds of its inserts: clips beside the plate, and what is pinned to it of them.

using ClipId = std::int64_t;
using InsertId = std::int64_t;

/// A still or a clip beside the plate.
struct Clip {
    ClipId id = 0;
    std::string name;
    std::filesystem::path path;
    int width = 0, height = 0;
    FrameRate fps;
    FrameRange frames;  ///< its own numbers; of a still one frame
    bool still = false;
    bool hasAlpha = false;
    /// Whether its colours are multiplied by its alpha, as the artist said; none: as its format has it.
    std::optional<AlphaKind> alpha;
};

/// Where art lies in the surface, or the frame, that carries it: its width and height as shares of the carrier's.
struct Placing {
    Eigen::Vector2d centre{0.5, 0.5};  ///< (0, 0) the carrier's top left corner, (1, 1) its bottom right one
    Eigen::Vector2d scale{1, 1};
    double turn_deg = 0;  ///< clockwise
    /// Moved corners, on top of all that: by shares of the carrier's width and height.
    std::array<Eigen::Vector2d, 4> trims{Eigen::Vector2d(0, 0), {0, 0}, {0, 0}, {0, 0}};

    bool operator==(const Placing&) const = default;
};

/// Which frame of its clip is shown when.
struct ClipTime {
    enum class After { hold, loop, end };
    int start = 0;               ///< frame of the plate that shows the first one used
    std::optional<int> in, out;  ///< of the clip's own frames the first and the last used; none: its own ends
    After after = After::hold;   ///< the last one used
    bool ownRate = false;        ///< at its own rate; else a frame for a frame

    bool operator==(const ClipTime&) const = default;
};

struct OpacityKey {
    int frame = 0;
    double opacity = 1;
    bool operator==(const OpacityKey&) const = default;
};

/// A picture, a clip, a colour or a test picture, pinned to what carries it.
struct Insert {
    enum class Shows { clip, colour, test };
    /// What becomes of it on frames on which what carries it is not there.
    enum class Lost { ends, holds, fades };

    InsertId id = 0;
    std::string name;
    Shows shows = Shows::clip;
    ClipId clip = 0;
    std::array<double, 3> colour{0.5, 0.5, 0.5};  ///< red, green, blue as shown

    std::optional<Matte::Ride> ride;  ///< what carries it; none: it stands still in the frame
    /// It is a picture of the whole frame as it is on the reference frame (a painted patch), not of a surface.
    bool wholeFrame = false;
    /// The carrier on the ride's reference frame, in pixels of the plate; a planar track with a surface has its own.
    Quad carrier{Eigen::Vector2d(0, 0), {1, 0}, {1, 1}, {0, 1}};
    Placing placing;

    ArtShape shape;
    std::optional<ColourKey> key;
    InsertLook look;
    double shutter = 0;         ///< frames over which its motion blurs it
    List<std::string> heldOut;  ///< mattes, by their names: what passes in front
    List<std::string> within;   ///< it is seen within these alone; none: everywhere

    ClipTime time;
    std::optional<FrameRange> frames;  ///< of the plate, on which it is there; none: all
    List<OpacityKey> opacityKeys;      ///< by rising frame; in place of the look's opacity, between keys evenly
    List<Matte::Turn> turns;           ///< by rising frame: it is there, or not; before the first it is
    Lost lost = Lost::ends;
    int fadeFrames = 12;
    bool hidden = false;  ///< neither drawn nor rendered
};

/// The number of its clip's frame that is shown on a frame of the plate; none before its start, and after its end when
/// it ends there.
std::optional<int> clipFrameAt(const ClipTime& time, const Clip& clip, int frame, FrameRate plateRate);
/// How many frames of the plate the used part of a clip fills.
int shownFrames(const ClipTime& time, const Clip& clip, FrameRate plateRate);
/// On a frame of the plate: by its keys, or the look's; 0 while it is not there.
double opacityAt(const Insert& insert, int frame);

/// The art's corners within its carrier, (0, 0) to (1, 1); `widthToHeight` the carrier's.
Quad placedInside(const Placing& placing, double widthToHeight);
/// The placing by which art of one shape lies in a carrier of another, middle on middle: whole inside it, or covering
/// it; or bent to its very corners.
enum class Fitting { inside, covering, corners };
Placing fitted(Fitting fitting, double art, double carrier);

/// Width to height of what carries an insert, without working out how that moves.
double carrierRatio(const Insert& insert, const Carriers& carriers);

/// What carries an insert, over a shot: where its corners are, frame by frame.
class Carrier {
public:
    /// Of what it rides on; `problem` says what is missing, and it stays as it was placed.
    Carrier(const Insert& insert, const Carriers& carriers);
    /// Of corners a frame, by rising frame; there is nothing between them.
    explicit Carrier(std::vector<PlaneTie> corners);
    const std::string& problem() const { return problem_; }
    double widthToHeight() const { return widthToHeight_; }
    /// Where it is on a frame; none where it is not. With `nearest`, on such frames as on the nearest where it is.
    std::optional<Quad> at(int frame, bool nearest = false) const;
    /// How many frames away the nearest is on which it is; 0 there.
    int away(int frame) const;
    /// The frames on which it is not, between the ends of the carriers' range.
    const std::vector<int>& missing() const { return missing_; }
    /// The art's pieces on a frame; with an open shutter at its instants. Empty where it is not.
    std::vector<std::vector<ArtPiece>> pieces(const Placing& placing, int frame, double shutter = 0,
                                              bool nearest = false) const;
    /// The art's own corners on a frame.
    std::optional<Quad> corners(const Placing& placing, int frame, bool nearest = false) const;
    /// The places of its carrier, (0, 0) to (1, 1), and the plate's.
    std::optional<Eigen::Vector2d> inside(const Eigen::Vector2d& plate, int frame) const;
    std::optional<Eigen::Vector2d> onPlate(const Eigen::Vector2d& place, int frame) const;

private:
    std::optional<int> nearestTo(int frame) const;
    std::optional<SurfaceSheet> sheetAt(int frame) const;
    std::vector<ArtPiece> piecesAt(const Placing& placing, int frame) const;
    std::shared_ptr<const PlanarTrack> plane_;  ///< with a surface
    std::shared_ptr<const RideMotion> motion_;
    std::optional<std::vector<PlaneTie>> corners_;
    Quad carrier_;
    double widthToHeight_ = 1;
    std::string problem_;
    FrameRange range_;
    std::vector<int> missing_;
};

/// Four corners between frames, `part` of a frame after `frame`, from those on frames: cubics through those beside it
/// (Catmull and Rom 1974); where those are not known it goes on as it went.
Quad cornersBetween(const std::function<std::optional<Quad>(int frame)>& at, int frame, double part);
/// The instants of an open shutter about a frame, as parts of a frame: so many that no corner moves by more than a
/// pixel or so between two.
std::vector<double> shutterInstants(const std::function<std::optional<Quad>(int frame)>& at, int frame, double shutter);

}  // namespace pinion
