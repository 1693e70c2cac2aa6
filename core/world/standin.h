#pragma once

#include "base/framerange.h"
#include "base/list.h"
#include "picture/clip.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <array>
#include <cstdint>
#include <filesystem>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace pinion {

// What is put in the solved scene: things that prove the solve, and what stands in for things to come. Lengths are of
// the oriented world: metres once a length was set. The words are those of scene.json.

using StandInId = std::int64_t;

enum class StandInKind { board, box, cone, ball, figure, grid, text, mesh, card, locator };
inline constexpr std::array kStandInKinds{"board", "box",  "cone", "ball", "figure",
                                          "grid",  "text", "mesh", "card", "locator"};
std::string_view toString(StandInKind kind);
/// It has no depth and stands upright: a board, a card, text.
bool isUprightSheet(StandInKind kind);

/// Where something stands, and how large it is.
struct Stance {
    Eigen::Vector3d place{0, 0, 0};     ///< the middle of its foot
    Eigen::Vector3d turn_deg{0, 0, 0};  ///< about the world's x, then its y, then its z
    Eigen::Vector3d size{1, 1, 1};      ///< width, height and depth before it is turned

    bool operator==(const Stance&) const = default;
    /// Takes the unit shape (x and z from -0.5 to 0.5, y from 0 to 1) to the world.
    Eigen::Affine3d worldFromUnit() const;
    Eigen::Matrix3d rotation() const;
};

struct StanceKey {
    int frame = 0;
    Stance stance;
    bool operator==(const StanceKey&) const = default;
};

/// A card's picture or clip, as it is shown.
struct CardLook {
    ClipTime time;
    std::optional<ColourKey> key;  ///< what is of its colour is taken out
    bool facesCamera = false;      ///< turned about its upright towards the camera, frame by frame

    bool operator==(const CardLook&) const = default;
};

/// A board, a card and text lie in x and y with their foot on the place, and a grid's lines in x and z. A locator is a
/// named place: it is handed on, and never rendered.
struct StandIn {
    StandInId id = 0;
    std::string name;
    StandInKind kind = StandInKind::box;
    std::filesystem::path file;  ///< of a mesh; the picture or clip of a card, and of a board that has one
    std::string words;           ///< of text
    CardLook card;               ///< of what shows a file's pictures
    Stance stance;
    List<StanceKey> keys;                            ///< by rising frame; in place of the stance, evenly between keys
    std::array<double, 3> colour{0.72, 0.70, 0.66};  ///< red, green, blue as shown
    double opacity = 1;                              ///< 0 to 1
    bool casts = true;                               ///< a shadow
    bool catchesOnly = false;                        ///< the shadows on it are drawn and it is not
    bool hides = false;                              ///< it is not drawn and takes out what stands behind it
    bool hidden = false;                             ///< it takes no part
    /// The solved object that carries it, by its id in the shot: its stances are then the object's; 0: the world's.
    std::int64_t carrier = 0;
    std::int64_t group = 0;            ///< those of one are moved, turned and sized together; 0: by itself
    std::optional<FrameRange> frames;  ///< on which it is there; none: all

    bool operator==(const StandIn& other) const;
    /// `frame` may lie between two.
    Stance at(double frame) const;
    /// Facing whoever looks from `eye`, where it does.
    Stance at(double frame, const Eigen::Vector3d& eye) const { return facing(at(frame), eye); }
    Stance facing(Stance now, const Eigen::Vector3d& eye) const;
    bool showsPictures() const { return kind == StandInKind::card || (kind == StandInKind::board && !file.empty()); }
    bool isOn(double frame) const { return !frames || (frame >= frames->first - 0.5 && frame < frames->last + 0.5); }
    bool hasFile() const { return kind == StandInKind::mesh || showsPictures(); }
};

/// How large a kind is that nobody has sized yet, in metres.
Eigen::Vector3d usualSize(StandInKind kind);

/// The light that stand-ins are shown in.
struct Sun {
    Eigen::Vector3d towards{0.5, 1, 0.6};  ///< from the scene to the sun; no unit vector needed
    double softness_deg = 1.0;             ///< across its disc: a shadow's edge
    double strength = 0.75;                ///< 0 to 1: how much of the light is the sun's, and darkens where it is lost
    double skyShadow = 0;                  ///< 0 to 1: how much of the sky's, which is the rest, is lost under things

    bool operator==(const Sun&) const = default;
};

/// All that stands in a shot's world.
struct SceneLook {
    List<StandIn> standIns;
    Sun sun;
    double ground = 0;          ///< its height
    bool groundCatches = true;  ///< shadows lie on it

    bool operator==(const SceneLook& other) const {
        return standIns.vector() == other.standIns.vector() && sun == other.sun && ground == other.ground &&
               groundCatches == other.groundCatches;
    }
};

/// Standing on points: on one, in the middle of two, on the plane through more, whose upright on the side of `eye`
/// becomes its own; a board lies against that plane. Upright where the points lie on a line. The size stays.
Stance standingOn(const Stance& stance, StandInKind kind, std::span<const Eigen::Vector3d> points,
                  const Eigen::Vector3d& eye);

/// A stance taken along by a rigid motion; of the turns that mean the same the one nearest to `before`.
Stance moved(const Eigen::Isometry3d& by, const Stance& stance, const Eigen::Vector3d& before_deg);

/// The stand-in's place such that its lowest point lies at a height.
Stance standingAt(Stance stance, StandInKind kind, double height);

}  // namespace pinion
