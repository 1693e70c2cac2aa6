#pragma once

#include "world/standin.h"

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <memory>
#include <vector>

namespace pinion {

/// Triangles, counterclockwise as seen from outside.
struct Mesh {
    using Triangle = std::array<std::uint32_t, 3>;
    std::vector<Eigen::Vector3f> places;
    std::vector<Triangle> triangles;
    std::vector<Eigen::Vector3f> normals;  ///< of the places, where the surface is smooth; empty: it is flat
    std::vector<Eigen::Vector3f> colours;  ///< of the places, linear; empty: the stand-in's own
    std::vector<Eigen::Vector2f> sheet;    ///< of the places, (0, 0) top left to (1, 1); empty: no picture lies on it
    /// Of each triangle, which of the file's pictures lies on it, from 1; 0: none. Empty: none on any. Beyond the sheet
    /// they are repeated.
    std::vector<std::uint16_t> pictureOf;

    /// Two places, and the triangles on its sides; a border has one of them twice.
    struct Edge {
        std::array<std::uint32_t, 2> ends;
        std::array<std::uint32_t, 2> sides;
        bool isSharp = false;  ///< the surface is not smooth there, or ends: what its wire is drawn of
    };
    std::vector<Edge> edges;

    /// Finds the edges. Places that lie on one another count as one. A turn of more than `sharp_deg` is sharp.
    void findEdges(double sharp_deg = 30);
};

/// What is round has so many sides: a ball of 400 pixels misses its outline by 0.03 px at most.
inline constexpr int kRoundSides = 256;

/// The shape of a kind: x and z from -0.5 to 0.5, y from 0 to 1. A board lies in z = 0, a grid in y = 0; of a mesh and
/// of a locator it is their box. Made once.
std::shared_ptr<const Mesh> unitMesh(StandInKind kind, int sides = kRoundSides);

}  // namespace pinion
