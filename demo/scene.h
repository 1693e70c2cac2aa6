#pragma once

#include "textures.h"

#include <Eigen/Geometry>
#include <string>
#include <vector>

namespace ternholm {

using Eigen::Vector2f;
using Eigen::Vector3f;

/// How a surface answers to light, beside its texture.
enum class Surface { matt, water, varnished };

struct Triangle {
    Vector3f corner[3];
    Vector2f uv[3];  ///< in metres
    int material;
    int object;
};

struct Material {
    int texture;
    Surface surface = Surface::matt;
};

/// The quay of Ternholm in metres: Y up, the deck at 0, the water at -1.1, the camera walks at positive z looking to
/// -z.
struct Scene {
    Vector3f lamp{0, 0, 0};  ///< what varnish mirrors softly
    std::vector<Texture> textures;
    std::vector<Material> materials;
    std::vector<std::string> objects;  ///< names
    std::vector<Triangle> still;
    std::vector<Triangle> trolley;  ///< around its own origin, on the deck
};

Scene buildLanding();

/// The landing with the ferry in place of the trolley: about its own middle, on the water.
Scene buildFerry();

/// The landing with a luggage van, sharply painted, in place of the trolley: about its own middle, on the deck.
Scene buildVan();

/// The same with a breakwater of stone and its beacon out on the water.
Scene buildHarbour();

/// The landing with its notice board varnished, and a mast before it.
Scene buildBoard();
/// The board's corners: top-left, top-right, bottom-right, bottom-left.
std::vector<Vector3f> boardCorners();

/// The landing with a straight painted bollard by itself in front.
Scene buildBollard();
/// Places on the bollard's side: rows from the top, angles from the left.
std::vector<Vector3f> bollardPlaces();

}  // namespace ternholm
