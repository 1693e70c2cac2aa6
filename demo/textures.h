#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <functional>
#include <vector>

namespace ternholm {

using Colour = Eigen::Array3f;  ///< linear light, 0 to 1

/// Repeating noise over the unit square, `cells` lattice cells across, -1 to 1.
float noise(float u, float v, int cells, std::uint32_t seed);

/// Octaves of `noise`, each at twice the frequency and half the height; about -1 to 1.
float fractal(float u, float v, int cells, int octaves, std::uint32_t seed);

/// A well-mixed number in [0, 1) from integers.
float hashed(std::uint32_t a, std::uint32_t b, std::uint32_t c = 0);

/// A repeating picture with its mip levels, looked up with a footprint so that it never shimmers.
class Texture {
public:
    /// `paint(u, v)` gives the colour at u, v in [0, 1); `metres` is the length one repeat covers on a surface.
    Texture(int size, float metres, const std::function<Colour(float u, float v)>& paint);

    /// `u`, `v` and `footprint` in metres on the surface.
    Colour at(float u, float v, float footprint) const;

private:
    struct Level {
        int size;
        std::vector<std::uint8_t> texels;  ///< square roots of linear light, so that shadows keep their steps
    };
    Colour bilinear(const Level& level, float u, float v) const;
    float metres_;
    std::vector<Level> levels_;
};

Texture brickTexture();
Texture plankTexture(const Colour& tint, float plankWidth, std::uint32_t seed, float wear);
Texture stoneTexture();
Texture ropeTexture();
Texture ironTexture();
Texture roofTexture();
Texture foliageTexture();
Texture sackTexture();
Texture noticeTexture();
/// Bands of worn paint with numbers; one repeat goes once round.
Texture bollardTexture(float round);
Texture paintedTexture(const Colour& tint, std::uint32_t seed);

}  // namespace ternholm
