#pragma once

#include "base/framerate.h"
#include "base/list.h"
#include "matte/matte.h"
#include "picture/clip.h"
#include "planar/surfacepose.h"
#include "track/tracking.h"

#include <array>
#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>

namespace pinion {

// What a shot holds of its inserts: clips beside the plate, what is pinned to it of them, and how that looks.

/// How the art's colours are mixed with the plate's, where its alpha is; of values from 0 to 1 (the compositing
/// operators of the W3C's Compositing and Blending Level 1).
enum class Blend { over, multiply, screen, add, overlay };
std::string_view toString(Blend blend);
std::optional<Blend> blendFrom(std::string_view word);

/// In the plate's tones, in this order: saturation about luma (ITU-R BT.709), gamma (above 1 lifts), gain, lift.
struct Grade {
    std::array<double, 3> gain{1, 1, 1};
    std::array<double, 3> lift{0, 0, 0};
    double gamma = 1;
    double saturation = 1;

    bool operator==(const Grade&) const = default;
};

/// The plate's light from beyond the edge, screened over what lies within about `width_px` of it.
struct LightWrap {
    double amount = 0;  ///< 0 to 1
    double width_px = 12;

    bool operator==(const LightWrap&) const = default;
};

struct InsertLook {
    Blend blend = Blend::over;
    double opacity = 1;  ///< 0 to 1
    Grade grade{};
    double blur_px = 0;  ///< standard deviation, pixels of the plate
    LightWrap wrap{};

    bool operator==(const InsertLook&) const = default;
};

/// Which part of the art is shown: what is cut off its sides, as shares of its width and height; how round its corners
/// are, as a share of its shorter side; and how it fades in from its border.
struct ArtShape {
    double left = 0, top = 0, right = 0, bottom = 0;
    double round = 0;        ///< 0 to 0.5
    double softEdge_px = 0;  ///< pixels of the plate

    bool operator==(const ArtShape&) const = default;
};

using InsertId = std::int64_t;

/// Where art lies in the surface, or the frame, that carries it: its width and height as shares of the carrier's.
struct Placing {
    Eigen::Vector2d centre{0.5, 0.5};  ///< (0, 0) the carrier's top left corner, (1, 1) its bottom right one
    Eigen::Vector2d scale{1, 1};
    double turn_deg = 0;  ///< clockwise
    /// Moved corners, on top of all that: by shares of the carrier's width and height.
    std::array<Eigen::Vector2d, 4> trims{Eigen::Vector2d(0, 0), {0, 0}, {0, 0}, {0, 0}};

    bool operator==(const Placing&) const = default;
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
    std::string kind = "art";  ///< the kind of layer, by its word in the table (shot/layers)
    std::int64_t of = 0;       ///< of a layer that is no art: the id of what it shows
    /// Of a thrown layer whose clip has pictures of several frames of the plate: those; none: of `time.start` alone.
    List<int> thrownFrom;
    Shows shows = Shows::clip;
    ClipId clip = 0;
    std::array<double, 3> colour{0.5, 0.5, 0.5};  ///< red, green, blue as shown

    std::optional<Ride> ride;  ///< what carries it; none: it stands still in the frame
    /// It is a picture of the whole frame as it is on the reference frame (a painted patch), not of a surface.
    bool wholeFrame = false;
    bool onSurface = false;  ///< it was placed within a planar track's surface: without that it has no place
    /// The carrier on the ride's reference frame, in pixels of the plate; a planar track with a surface has its own.
    Quad carrier{Eigen::Vector2d(0, 0), {1, 0}, {1, 1}, {0, 1}};
    Placing placing;

    ArtShape shape;
    std::optional<ColourKey> key;
    InsertLook look;
    double shutter = 0;     ///< frames over which its motion blurs it
    List<MatteId> heldOut;  ///< mattes of what passes in front
    List<MatteId> within;   ///< it is seen within these alone; none: everywhere

    ClipTime time;
    std::optional<FrameRange> frames;  ///< of the plate, on which it is there; none: all
    List<OpacityKey> opacityKeys;      ///< by rising frame; in place of the look's opacity, between keys evenly
    List<Matte::Turn> turns;           ///< by rising frame: it is there, or not; before the first it is
    Lost lost = Lost::ends;
    int fadeFrames = 12;
    bool hidden = false;  ///< neither drawn nor rendered
};

}  // namespace pinion
