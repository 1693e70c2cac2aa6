#pragma once

#include "base/list.h"

#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace pinion {

using Polygon = std::vector<Eigen::Vector2d>;  ///< closed, in pixels of the plate

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
    };
    /// It is carried by tracks: its keys are in the pixels of the reference frame.
    struct Ride {
        std::vector<std::string> tracks;
        int referenceFrame = 0;
    };
    std::string name;
    Mode mode = Mode::exclude;
    std::vector<Key> keys;  ///< by rising frame
    Op op = Op::add;
    bool invert = false;
    double feather_px = 0;  ///< how far its edge fades: outwards, below 0 inwards
    double grow_px = 0;     ///< its edge moved outwards, below 0 inwards
    Between between = Between::linear;
    std::optional<Ride> ride;
};

/// Points and tangents on one frame, without a ride; none without keys.
std::optional<Matte::Key> shapeAt(const Matte& matte, int frame);

/// A shape as a polygon: curved edges in 16 even pieces.
Polygon flattened(const Matte::Key& shape);

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
    };
    std::vector<Shape> shapes_;
};

/// Whether the mattes take `point` out of the analysis on `frame`.
bool isExcluded(std::span<const Matte> mattes, int frame, const Eigen::Vector2d& point);

}  // namespace pinion
