#include "textures.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>

namespace ternholm {
namespace {

std::uint32_t mixed(std::uint32_t x) {
    x ^= x >> 16;
    x *= 0x7feb352dU;
    x ^= x >> 15;
    x *= 0x846ca68bU;
    return x ^ (x >> 16);
}

float smooth(float low, float high, float x) {
    const float t = std::clamp((x - low) / (high - low), 0.0F, 1.0F);
    return t * t * (3 - 2 * t);
}

float wrapped(float x) { return x - std::floor(x); }

/// Distance to the nearest of scattered points, and which it is; repeating.
std::pair<float, std::uint32_t> cell(float u, float v, int cells, std::uint32_t seed) {
    const float x = u * float(cells);
    const float y = v * float(cells);
    float nearest = 1e9F;
    float second = 1e9F;
    std::uint32_t which = 0;
    for (int dy = -1; dy <= 1; ++dy)
        for (int dx = -1; dx <= 1; ++dx) {
            const int cx = int(std::floor(x)) + dx;
            const int cy = int(std::floor(y)) + dy;
            const auto ix = std::uint32_t((cx + cells) % cells);
            const auto iy = std::uint32_t((cy + cells) % cells);
            const float px = float(cx) + 0.15F + 0.7F * hashed(ix, iy, seed);
            const float py = float(cy) + 0.15F + 0.7F * hashed(ix, iy, seed + 1);
            const float distance = std::hypot(px - x, py - y);
            if (distance < nearest) {
                second = nearest;
                nearest = distance;
                which = ix + iy * 977;
            } else {
                second = std::min(second, distance);
            }
        }
    return {second - nearest, which};
}

}  // namespace

float hashed(std::uint32_t a, std::uint32_t b, std::uint32_t c) {
    return float(mixed(a + mixed(b + mixed(c + 0x9e3779b9U))) >> 8) / 16777216.0F;
}

float noise(float u, float v, int cells, std::uint32_t seed) {
    const float x = u * float(cells);
    const float y = v * float(cells);
    const int x0 = int(std::floor(x));
    const int y0 = int(std::floor(y));
    const float fx = x - float(x0);
    const float fy = y - float(y0);
    const auto corner = [&](int dx, int dy) {
        const auto ix = std::uint32_t(((x0 + dx) % cells + cells) % cells);
        const auto iy = std::uint32_t(((y0 + dy) % cells + cells) % cells);
        return hashed(ix, iy, seed) * 2 - 1;
    };
    const float sx = fx * fx * (3 - 2 * fx);
    const float sy = fy * fy * (3 - 2 * fy);
    const float top = corner(0, 0) + (corner(1, 0) - corner(0, 0)) * sx;
    const float bottom = corner(0, 1) + (corner(1, 1) - corner(0, 1)) * sx;
    return top + (bottom - top) * sy;
}

float fractal(float u, float v, int cells, int octaves, std::uint32_t seed) {
    float sum = 0;
    float height = 0.5F;
    for (int i = 0; i < octaves; ++i, cells *= 2, height *= 0.55F)
        sum += height * noise(u, v, cells, seed + std::uint32_t(i) * 31);
    return sum;
}

Texture::Texture(int size, float metres, const std::function<Colour(float, float)>& paint) : metres_(metres) {
    std::vector<Colour> colours(std::size_t(size) * std::size_t(size));
    pinion::parallelFor(std::size_t(size), [&](std::size_t y) {
        for (int x = 0; x < size; ++x)
            colours[y * std::size_t(size) + std::size_t(x)] =
                paint((float(x) + 0.5F) / float(size), (float(y) + 0.5F) / float(size)).max(0.004F).min(0.95F);
    });
    while (true) {
        Level level{size, std::vector<std::uint8_t>(colours.size() * 3)};
        for (std::size_t i = 0; i < colours.size(); ++i)
            for (int c = 0; c < 3; ++c)
                level.texels[i * 3 + std::size_t(c)] = std::uint8_t(std::sqrt(colours[i][c]) * 255.0F + 0.5F);
        levels_.push_back(std::move(level));
        if (size == 1) break;
        const int half = size / 2;
        std::vector<Colour> smaller(std::size_t(half) * std::size_t(half));
        for (int y = 0; y < half; ++y)
            for (int x = 0; x < half; ++x) {
                const auto at = [&](int dx, int dy) {
                    return colours[std::size_t(2 * y + dy) * std::size_t(size) + std::size_t(2 * x + dx)];
                };
                smaller[std::size_t(y) * std::size_t(half) + std::size_t(x)] =
                    0.25F * (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1));
            }
        colours = std::move(smaller);
        size = half;
    }
}

Colour Texture::bilinear(const Level& level, float u, float v) const {
    const float x = wrapped(u) * float(level.size) - 0.5F;
    const float y = wrapped(v) * float(level.size) - 0.5F;
    const int x0 = int(std::floor(x));
    const int y0 = int(std::floor(y));
    const float fx = x - float(x0);
    const float fy = y - float(y0);
    const int mask = level.size - 1;
    const auto texel = [&](int ix, int iy) {
        const std::uint8_t* t =
            &level.texels[(std::size_t(iy & mask) * std::size_t(level.size) + std::size_t(ix & mask)) * 3];
        return Colour(t[0], t[1], t[2]);
    };
    const Colour mean = (texel(x0, y0) * (1 - fx) + texel(x0 + 1, y0) * fx) * (1 - fy) +
                        (texel(x0, y0 + 1) * (1 - fx) + texel(x0 + 1, y0 + 1) * fx) * fy;
    return (mean / 255.0F).square();
}

Colour Texture::at(float u, float v, float footprint) const {
    const float lod = std::clamp(std::log2(std::max(footprint / metres_ * float(levels_.front().size), 1e-4F)), 0.0F,
                                 float(levels_.size() - 1));
    const auto low = std::size_t(lod);
    const std::size_t high = std::min(low + 1, levels_.size() - 1);
    const float blend = lod - float(low);
    u /= metres_;
    v /= metres_;
    if (blend < 0.02F) return bilinear(levels_[low], u, v);
    return bilinear(levels_[low], u, v) * (1 - blend) + bilinear(levels_[high], u, v) * blend;
}

Texture brickTexture() {
    return {1024, 1.8F, [](float u, float v) -> Colour {
                constexpr int rows = 24;
                constexpr int columns = 8;
                const float wobbleU = u + 0.0016F * fractal(u, v, 32, 3, 5);
                const float wobbleV = v + 0.0016F * fractal(u, v, 32, 3, 6);
                const int row = int(std::floor(wobbleV * rows));
                const float along = wobbleU * columns + (row % 2 != 0 ? 0.5F : 0.0F);
                const auto brick = std::uint32_t((int(std::floor(along)) % columns + columns) % columns);
                const float fx = wrapped(along);
                const float fy = wrapped(wobbleV * rows);
                const float edge = std::min(std::min(fx, 1 - fx) * 3.0F, std::min(fy, 1 - fy));
                const float tone = hashed(brick, std::uint32_t(row + rows) % rows, 3);
                Colour clay = Colour(0.36F, 0.13F, 0.08F) * (0.55F + 0.85F * tone);
                if (hashed(brick, std::uint32_t(row + rows) % rows, 4) > 0.82F)
                    clay = Colour(0.15F, 0.10F, 0.095F) * (0.7F + tone);
                if (hashed(brick, std::uint32_t(row + rows) % rows, 8) > 0.9F)
                    clay = Colour(0.46F, 0.30F, 0.19F) * (0.7F + 0.4F * tone);
                clay *= 1.0F + 0.55F * fractal(u, v, 64, 4, 11);
                if (fractal(u, v, 96, 2, 17) > 0.42F) clay *= 0.5F;
                const Colour mortar = Colour(0.40F, 0.38F, 0.34F) * (0.85F + 0.5F * fractal(u, v, 128, 3, 12));
                return mortar + (clay - mortar) * smooth(0.06F, 0.14F, edge);
            }};
}

Texture plankTexture(const Colour& tint, float plankWidth, std::uint32_t seed, float wear) {
    const float metres = plankWidth * 8;
    return {1024, metres, [=](float u, float v) -> Colour {
                constexpr int planks = 8;
                const int plank = int(v * planks);
                const float across = wrapped(v * planks);
                const float shift = hashed(std::uint32_t(plank), seed);
                const float along = wrapped(u + shift);
                const float edge = std::min(across, 1 - across);
                const float joint = std::abs(along - 0.5F) * 2.0F;
                float grain =
                    fractal(wrapped(along), wrapped(v * 4 + 0.02F * noise(along, v, 6, seed + 2)), 8, 2, seed + 3) *
                    0.25F;
                // Grain is long and thin: many lines across, few changes along.
                grain += 0.5F * noise(u, wrapped(v * 16), 10, seed + 4) * noise(u, wrapped(v * 23), 5, seed + 5);
                grain += 0.30F * fractal(u, v, 128, 3, seed + 6);
                Colour wood = tint * (0.62F + 0.62F * hashed(std::uint32_t(plank), seed + 7)) * (1 + 0.8F * grain);
                const float patch = fractal(u, v, 10, 5, seed + 8);
                wood = wood + (Colour(0.34F, 0.30F, 0.25F) * (0.7F + 0.8F * grain) - wood) *
                                  smooth(0.5F - wear, 0.62F - wear, patch + 0.3F) * 0.75F;
                // Knots, nail heads and the odd stain.
                const auto [ring, knot] = cell(u, v, 7, seed + 9);
                (void)ring;
                const float kx = hashed(knot, seed + 10);
                const float ky = (float(int(hashed(knot, seed + 11) * planks)) + 0.5F) / planks;
                const float knotDistance =
                    std::hypot((wrapped(u - kx + 0.5F) - 0.5F) * 0.8F, wrapped(v - ky + 0.5F) - 0.5F);
                if (knotDistance < 0.016F) wood *= 0.35F + 0.3F * std::abs(std::sin(knotDistance * 900));
                for (float nail : {0.025F, 0.475F, 0.525F, 0.975F})
                    for (float side : {0.25F, 0.75F})
                        if (std::hypot((along - nail) * planks, across - side) < 0.055F)
                            wood = Colour(0.05F, 0.035F, 0.03F);
                if (fractal(u, v, 40, 3, seed + 14) > 0.48F) wood *= 0.55F;
                const float gap = std::min(smooth(0.012F, 0.05F, edge), smooth(0.0015F, 0.006F, joint));
                return wood * (0.10F + 0.90F * gap);
            }};
}

Texture stoneTexture() {
    return {1024, 2.4F, [](float u, float v) -> Colour {
                const float bentU = u + 0.012F * fractal(u, v, 12, 3, 40);
                const float bentV = v + 0.012F * fractal(u, v, 12, 3, 41);
                const auto [gap, which] = cell(wrapped(bentU), wrapped(bentV), 8, 42);
                const float tone = hashed(which, 43);
                Colour stone = Colour(0.30F, 0.29F, 0.27F) * (0.55F + 0.8F * tone);
                stone += (Colour(0.05F, 0.02F, -0.02F)) * (hashed(which, 44) - 0.4F);
                stone *= 1 + 0.9F * fractal(u, v, 48, 5, 45);
                if (fractal(u, v, 20, 4, 46) > 0.33F) stone = stone * 0.5F + Colour(0.07F, 0.09F, 0.03F);
                return stone * (0.15F + 0.85F * smooth(0.03F, 0.13F, gap));
            }};
}

Texture ropeTexture() {
    return {256, 0.16F, [](float u, float v) -> Colour {
                const float strand = wrapped(u * 4 + v * 2);
                const float round = 1 - std::pow(std::abs(strand * 2 - 1), 3.0F);
                return Colour(0.52F, 0.40F, 0.24F) * (0.15F + 0.85F * round) *
                       (0.9F + 0.5F * noise(wrapped(u * 3 + v), v, 64, 50));
            }};
}

Texture ironTexture() {
    return {512, 1.0F, [](float u, float v) -> Colour {
                const float rust = fractal(u, v, 9, 5, 60);
                Colour iron = Colour(0.055F, 0.06F, 0.065F) * (1 + 0.6F * fractal(u, v, 64, 3, 61));
                if (rust > 0.05F)
                    iron += Colour(0.20F, 0.075F, 0.025F) * std::min(1.0F, (rust - 0.05F) * 4) *
                            (0.7F + 0.6F * noise(u, v, 90, 62));
                return iron;
            }};
}

Texture roofTexture() {
    return {1024, 2.4F, [](float u, float v) -> Colour {
                constexpr int rows = 12;
                constexpr int columns = 16;
                const int row = int(v * rows);
                const float along = u * columns + (row % 2 != 0 ? 0.5F : 0.0F);
                const auto tile = std::uint32_t(int(std::floor(along)) % columns);
                const float fx = wrapped(along);
                const float fy = wrapped(v * rows);
                const float tone = hashed(tile, std::uint32_t(row), 70);
                const Colour slate =
                    Colour(0.085F, 0.09F, 0.105F) * (0.5F + 1.3F * tone) * (1 + 0.7F * fractal(u, v, 48, 4, 71));
                return slate * (0.2F + 0.8F * smooth(0.02F, 0.08F, std::min(std::min(fx, 1 - fx), fy))) *
                       (0.7F + 0.4F * fy);
            }};
}

Texture foliageTexture() {
    return {1024, 14.0F, [](float u, float v) -> Colour {
                const auto [gap, which] = cell(u, v, 22, 80);
                const float tone = hashed(which, 81);
                Colour leaf = Colour(0.055F, 0.085F, 0.035F) * (0.4F + 1.5F * tone);
                if (hashed(which, 82) > 0.8F) leaf = Colour(0.13F, 0.09F, 0.035F) * (0.6F + tone);
                return leaf * (0.5F + 1.2F * std::min(gap, 0.5F)) * (1 + 1.4F * fractal(u, v, 60, 4, 83));
            }};
}

Texture sackTexture() {
    return {512, 0.8F, [](float u, float v) -> Colour {
                const float weave = 0.75F + 0.25F * std::sin(u * 480) * std::sin(v * 480);
                Colour cloth = Colour(0.42F, 0.33F, 0.20F) * weave * (1 + 0.8F * fractal(u, v, 12, 5, 90));
                if (std::abs(v - 0.5F) < 0.06F && std::abs(wrapped(u * 2) - 0.5F) < 0.32F &&
                    hashed(std::uint32_t(u * 40), 2) > 0.35F)
                    cloth *= 0.25F;
                return cloth;
            }};
}

Texture noticeTexture() {
    // One repeat is the whole board, 1.6 m wide; its lower part stays board.
    return {1024, 1.6F, [](float u, float v) -> Colour {
                Colour paper = Colour(0.72F, 0.69F, 0.60F) * (1 + 0.14F * fractal(u, v, 24, 4, 100));
                const float frame = std::min(std::min(u, 1 - u), std::min(v, 0.7F - v));
                if (frame < 0.035F) return Colour(0.05F, 0.10F, 0.13F) * (1 + 0.7F * fractal(u, v, 48, 3, 101));
                if (v < 0.16F) {
                    const bool letter = hashed(std::uint32_t(u * 60), std::uint32_t(v * 60), 102) > 0.5F && v > 0.06F &&
                                        v < 0.135F && u > 0.12F && u < 0.88F;
                    return letter ? Colour(0.80F, 0.77F, 0.66F) : Colour(0.045F, 0.11F, 0.15F);
                }
                const int line = int((v - 0.18F) * 28);
                const float inLine = wrapped((v - 0.18F) * 28);
                const int column = u < 0.5F ? 0 : 1;
                const float start = column == 0 ? 0.08F : 0.54F;
                const float length = 0.36F * (0.45F + 0.55F * hashed(std::uint32_t(line), std::uint32_t(column), 103));
                if (inLine < 0.55F && u > start && u < start + length &&
                    hashed(std::uint32_t(u * 170), std::uint32_t(line), 104) > 0.22F && line % 5 != 4)
                    return Colour(0.07F, 0.07F, 0.08F);
                if (std::hypot(u - 0.78F, v - 0.56F) < 0.055F && std::hypot(u - 0.78F, v - 0.56F) > 0.030F)
                    return Colour(0.42F, 0.07F, 0.05F);
                return paper;
            }};
}

Texture bollardTexture(float round) {
    return {1024, round, [](float u, float v) -> Colour {
                const int band = int(v * 12);
                Colour paint = band % 3 == 1 ? Colour(0.50F, 0.10F, 0.06F) : Colour(0.55F, 0.52F, 0.44F);
                paint *= 1 + 0.35F * fractal(u, v, 14, 5, 110);
                // Stencilled marks, rust where the paint went.
                const auto column = std::uint32_t(u * 22), row = std::uint32_t(v * 22);
                const float inU = wrapped(u * 22), inV = wrapped(v * 22);
                if (hashed(column, row, 111) > 0.72F && inU > 0.2F && inU < 0.8F && inV > 0.15F && inV < 0.85F &&
                    hashed(std::uint32_t(u * 110), std::uint32_t(v * 88), 112) > 0.4F)
                    paint = Colour(0.06F, 0.07F, 0.08F);
                if (fractal(u, v, 16, 5, 113) > 0.24F)
                    paint = Colour(0.22F, 0.09F, 0.035F) * (1 + 0.8F * fractal(u, v, 64, 3, 114));
                return paint;
            }};
}

Texture paintedTexture(const Colour& tint, std::uint32_t seed) {
    return {512, 1.2F, [=](float u, float v) -> Colour {
                Colour paint = tint * (1 + 0.35F * fractal(u, v, 12, 5, seed));
                const float chip = fractal(u, v, 18, 5, seed + 1);
                if (chip > 0.26F) paint = Colour(0.28F, 0.23F, 0.17F) * (1 + 0.7F * fractal(u, v, 64, 3, seed + 2));
                if (fractal(u, v, 50, 3, seed + 3) > 0.45F) paint *= 0.45F;
                return paint;
            }};
}

}  // namespace ternholm
