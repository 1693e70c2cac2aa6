#pragma once

#include "base/framerange.h"
#include "base/geometry.h"
#include "base/list.h"
#include "motion/ride.h"
#include "picture/picture.h"

#include <Eigen/Core>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace pinion {

/// What a matte covers on each frame when it was made elsewhere, as pictures.
class MattePictures {
public:
    virtual ~MattePictures() = default;
    /// 0 to 1, at the plate's size; null where there is no picture. Safe to call from several threads.
    virtual std::shared_ptr<const ImageChannel> at(int frame) const = 0;
    virtual const std::string& path() const = 0;
    /// What keeps them from covering a plate of that size on the frames of `range`, in words; empty: nothing does. A
    /// folder that was not there is looked for anew.
    virtual std::string trouble(const FrameRange& range, int width, int height) const = 0;
};

using MatteId = std::int64_t;

/// A drawn area that moves by keyframes. Between keys its points and tangents are interpolated; before the first and
/// after the last the shape stays. All keys of a matte have the same number of points.
struct Matte {
    enum class Mode { exclude, include };
    /// What it does to the shapes above it in the list.
    enum class Op { add, subtract, intersect };
    enum class Between { linear, smooth };
    struct Key {
        int frame = 0;
        Polygon polygon;
        /// Bezier tangents from each point, towards the one before and the one after; none: straight edges.
        Polygon in{}, out{};
        /// What each point adds to the matte's feather, in pixels; between points it changes along the edge. None: 0.
        std::vector<double> feather{};
    };
    /// From a frame on it counts, or does not.
    struct Turn {
        int frame = 0;
        bool there = true;
    };
    std::string name;
    Mode mode = Mode::exclude;
    std::vector<Key> keys;  ///< by rising frame; of one made of pictures there are none
    Op op = Op::add;
    bool invert = false;
    double feather_px = 0;  ///< how far its edge fades: outwards, below 0 inwards
    double grow_px = 0;     ///< its edge moved outwards, below 0 inwards
    Between between = Between::linear;
    std::optional<Ride> ride;  ///< it is carried: its keys are in the pixels of the reference frame
    std::vector<Turn> turns;   ///< by rising frame; before the first it counts
    std::uint32_t colour = 0;  ///< 0xRRGGBB, as it is drawn; 0: the usual
    double opacity = 0.2;      ///< of its surface, as it is drawn
    bool hidden = false;       ///< not drawn; it counts all the same
    bool locked = false;       ///< not changed by hand
    std::shared_ptr<const MattePictures> pictures;  ///< made elsewhere, in place of an outline
    MatteId id = 0;                                 ///< in a shot; 0 elsewhere
};

/// Whether it counts on a frame.
bool isThere(std::span<const Matte::Turn> turns, int frame);
bool isThere(const Matte& matte, int frame);
/// From `frame` up to where that changes next it counts, or does not.
void setThere(std::vector<Matte::Turn>& turns, int frame, bool there);

/// The key on `frame`, or null.
const Matte::Key* keyAt(const Matte& matte, int frame);

/// Points and tangents on one frame, without a ride; none without keys.
std::optional<Matte::Key> shapeAt(const Matte& matte, int frame);

/// Pieces of a curved edge in a polygon: of a quarter of a circle of 100 pixels they are within 0.06 of it.
inline constexpr int kCurvePieces = 24;

/// A shape as a polygon: curved edges in `kCurvePieces` even pieces.
Polygon flattened(const Matte::Key& shape);

/// What each corner of that polygon adds to the feather; empty where nothing is added.
std::vector<double> flattenedFeather(const Matte::Key& shape);

/// The shape as a transform carries it: its points, and the ends of its tangents.
Matte::Key carried(const Eigen::Matrix3d& matrix, Matte::Key shape);

/// The shape with one more point at the share `t` of the edge that leaves `point`; its outline stays the same (de
/// Casteljau).
Matte::Key withPointAt(Matte::Key shape, std::size_t point, double t);

/// The area within the outline, in square pixels, above 0 for one drawn either way round.
double areaOf(const Polygon& polygon);

/// Whether edges of the outline cross each other.
bool crossesItself(const Polygon& polygon);

/// The outline on one frame; empty without keys.
Polygon outlineAt(const Matte& matte, int frame);

/// Even-odd rule.
bool contains(const Polygon& polygon, const Eigen::Vector2d& point);

/// The signed distance from the outline, above 0 inside.
double depthIn(const Polygon& polygon, const Eigen::Vector2d& point);

/// What the mattes take out of the analysis on one frame: what the exclusions cover, and what no inclusion covers if
/// there are any. Shapes count in their order, each added to, taken from or cut with those before it of its mode; grown
/// as they say, faded edges as if they were not.
class ExcludedArea {
public:
    ExcludedArea(std::span<const Matte> mattes, int frame);
    bool holds(const Eigen::Vector2d& point) const;

private:
    struct Shape {
        Polygon outline;
        Matte::Mode mode;
        Matte::Op op;
        bool invert;
        double grow_px;
        std::shared_ptr<const ImageChannel> picture;
    };
    std::vector<Shape> shapes_;
};

/// Whether the mattes take `point` out of the analysis on `frame`.
bool isExcluded(std::span<const Matte> mattes, int frame, const Eigen::Vector2d& point);

}  // namespace pinion
