#pragma once

#include "world/standin.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>
#include <vector>

namespace pinion {

/// How much of the sky's light is kept from a place by the stand-ins about it, without rays and so without noise: each
/// is taken as a ball, or as a few convex bodies with flat sides, of which a side covers exactly what Lambert's sum
/// over its edges says (Baum, Rushmeier and Winget 1989, eq. 6), cut at the place's horizon. A mesh is taken as its
/// box, and a card or text as its middle half. Several together cover 1 - (1 - a)(1 - b).
class SkyCover {
public:
    /// Returns its number. A body whose box is farther away than `reachOf` covers nothing, and fades out before that.
    std::size_t add(StandInKind kind, const Eigen::Affine3d& worldFromUnit, double opacity = 1);
    bool isEmpty() const { return bodies_.empty(); }
    /// 0 to 1, of the sky above the side that `normal` (a unit vector) points to. `but`: a body that does not count, as
    /// the place lies on it.
    float at(const Eigen::Vector3d& place, const Eigen::Vector3d& normal, std::optional<std::size_t> but = {}) const;
    /// How far from its box a stand-in covers anything: three times the radius of a disc as large as its largest side.
    static double reachOf(const Eigen::Affine3d& worldFromUnit);

private:
    using Side = std::vector<Eigen::Vector3d>;  // counterclockwise as seen from outside
    struct Part {
        std::vector<Side> sides;
        bool isSheet = false;
        double ball = 0;  ///< its radius, about the middle of the body's box; 0: it has sides
    };
    struct Body {
        Eigen::Affine3d world, unitFromWorld;
        double depth = 0;  ///< half of it, in the unit shape
        double reach = 0;
        double opacity = 1;
        std::vector<Part> parts;
    };
    std::vector<Body> bodies_;
};

}  // namespace pinion
