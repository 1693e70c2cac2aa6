#include "comp/insert.h"

#include "base/parallel.h"
#include "planar/surface.h"

#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kMostSide = 16384;
constexpr int kMostSamples = 4;    // of a pixel, across and down; beyond, a smaller level is read
constexpr int kBorderSamples = 5;  // of a pixel on the art's border
constexpr std::array<std::string_view, 5> kBlends{"over", "multiply", "screen", "add", "overlay"};

float toned(float value, bool isLinear, bool wanted) {
    if (isLinear == wanted) return value;
    return wanted ? decodeSrgb(value) : encodeSrgb(value);
}

float valueAt(const Picture& picture, std::size_t i) {
    return picture.depth == Picture::Depth::bits8 ? float(picture.bytes[i]) / 255.0F : picture.floats[i];
}

/// Of one colour: the art's (not multiplied by its alpha) and what lies under it.
float mixed(Blend blend, float art, float under) {
    switch (blend) {
        case Blend::multiply:
            return art * under;
        case Blend::screen:
            return art + under - art * under;
        case Blend::overlay:
            return under <= 0.5F ? 2 * art * under : 1 - 2 * (1 - art) * (1 - under);
        case Blend::over:
        case Blend::add:
            break;
    }
    return art;
}

/// How far inside the quad a place lies: pixels from its nearest edge, negative outside.
double depthIn(const Quad& quad, const Vector2d& at) {
    double depth = 1e300;
    for (std::size_t i = 0; i < 4; ++i) {
        const Vector2d edge = quad[(i + 1) % 4] - quad[i], from = at - quad[i];
        depth = std::min(depth, (edge.x() * from.y() - edge.y() * from.x()) / std::max(1e-9, edge.norm()));
    }
    return depth;
}

/// 0 to 1, smoothly.
float eased(double part) {
    const double t = std::clamp(part, 0.0, 1.0);
    return float(t * t * (3 - 2 * t));
}

PixelBox boxAbout(std::span<const Quad> quads, int width, int height) {
    Vector2d low(1e9, 1e9), high(-1e9, -1e9);
    for (const Quad& quad : quads)
        for (const Vector2d& corner : quad) {
            low = low.cwiseMin(corner);
            high = high.cwiseMax(corner);
        }
    const auto within = [](double value, int most) { return int(std::clamp(value, 0.0, double(most))); };
    return {within(std::floor(low.x()), width), within(std::floor(low.y()), height), within(std::ceil(high.x()), width),
            within(std::ceil(high.y()), height)};
}

}  // namespace

std::string_view toString(Blend blend) { return kBlends[std::size_t(blend)]; }

std::optional<Blend> blendFrom(std::string_view word) {
    const auto found = std::find(kBlends.begin(), kBlends.end(), word);
    if (found == kBlends.end()) return std::nullopt;
    return Blend(found - kBlends.begin());
}

Expected<Art> Art::create(const Picture& picture, const Plane* alpha, AlphaKind kind, bool forLinear) {
    if (picture.width < 1 || picture.height < 1) return failure(Fault::input, "the art has no pixels");
    if (picture.width > kMostSide || picture.height > kMostSide)
        return failure(Fault::input, "the art is {}x{} pixels; make it smaller, {} on a side at most", picture.width,
                       picture.height, kMostSide);
    if (alpha && (alpha->width != picture.width || alpha->height != picture.height))
        return failure(Fault::input, "the art is {}x{}, its alpha {}x{}", picture.width, picture.height, alpha->width,
                       alpha->height);
    Art art;
    Level level{picture.width, picture.height,
                std::vector<float>(4 * std::size_t(picture.width) * std::size_t(picture.height))};
    parallelFor(
        std::size_t(picture.height),
        [&](std::size_t row) {
            for (std::size_t i = row * std::size_t(picture.width); i < (row + 1) * std::size_t(picture.width); ++i) {
                const float a = alpha ? std::clamp(alpha->values[i], 0.0F, 1.0F) : 1.0F;
                for (std::size_t c = 0; c < 3; ++c) {
                    float colour = valueAt(picture, 3 * i + c);
                    // Tones are of the colour itself, whatever of it is seen.
                    if (kind == AlphaKind::premultiplied && a > 0) colour /= a;
                    level.rgba[4 * i + c] = a * toned(colour, picture.linear, forLinear);
                }
                level.rgba[4 * i + 3] = a;
            }
        },
        16);
    art.levels_.push_back(std::move(level));
    while (std::min(art.levels_.back().width, art.levels_.back().height) >= 2 * kMostSamples) {
        const Level& from = art.levels_.back();
        // An odd last row or column stands for two, so that a pixel is twice as large everywhere.
        Level half{(from.width + 1) / 2, (from.height + 1) / 2, {}};
        half.rgba.resize(4 * std::size_t(half.width) * std::size_t(half.height));
        parallelFor(
            std::size_t(half.height),
            [&](std::size_t y) {
                const std::size_t top = 2 * y, bottom = std::min(top + 1, std::size_t(from.height) - 1);
                for (std::size_t x = 0; x < std::size_t(half.width); ++x) {
                    const std::size_t left = 2 * x, right = std::min(left + 1, std::size_t(from.width) - 1);
                    const auto at = [&](std::size_t px, std::size_t py) {
                        return &from.rgba[4 * (py * std::size_t(from.width) + px)];
                    };
                    const float *a = at(left, top), *b = at(right, top), *c = at(left, bottom), *d = at(right, bottom);
                    for (std::size_t k = 0; k < 4; ++k)
                        half.rgba[4 * (y * std::size_t(half.width) + x) + k] = 0.25F * (a[k] + b[k] + c[k] + d[k]);
                }
            },
            8);
        art.levels_.push_back(std::move(half));
    }
    return art;
}

void Art::add(const Quad& corners, float share, double softEdge_px, Layer& layer) const {
    const double w = width(), h = height();
    const auto plateFromArt = quadFromQuad(corners, {Vector2d(0, 0), Vector2d(w, 0), Vector2d(w, h), Vector2d(0, h)});
    if (!plateFromArt || !troubleOf(corners).empty()) return;
    const Matrix3d artFromPlate = plateFromArt->inverse();
    const auto boxWidth = std::size_t(layer.box.width());
    const auto onePixel = [&](std::size_t column, std::size_t row) {
        const Vector2d centre(layer.box.x0 + double(column) + 0.5, layer.box.y0 + double(row) + 0.5);
        const double depth = depthIn(corners, centre);
        if (depth < -0.8) return;
        const Vector3d middle = artFromPlate * centre.homogeneous();
        if (!(middle.z() * artFromPlate.determinant() > 0)) return;
        // How much of the art a pixel covers, across and down the plate.
        const Vector2d place = middle.hnormalized();
        const Vector2d across = (artFromPlate.col(0).head<2>() - place * artFromPlate(2, 0)) / middle.z(),
                       down = (artFromPlate.col(1).head<2>() - place * artFromPlate(2, 1)) / middle.z();
        const double longest = std::max(across.norm(), down.norm());
        std::size_t index = 0;
        double scale = 1;
        while (longest / scale > kMostSamples && index + 1 < levels_.size()) {
            scale *= 2;
            ++index;
        }
        const Level& level = levels_[index];
        const int least = depth < 0.8 ? kBorderSamples : 2;
        // A smaller level's own pixels show unless it is read more finely.
        const double finely = index > 0 ? 2 : 1;
        const auto samplesFor = [&](double reach) {
            return std::clamp(int(std::ceil(finely * reach / scale)), least, 4 * kMostSamples);
        };
        const int nx = samplesFor(across.norm()), ny = samplesFor(down.norm());
        const auto pixel = [&](int px, int py) {
            return Eigen::Map<const Eigen::Array4f>(
                &level.rgba[4 * (std::size_t(py) * std::size_t(level.width) + std::size_t(px))]);
        };
        Eigen::Array4f sum = Eigen::Array4f::Zero();
        for (int j = 0; j < ny; ++j) {
            const Vector3d line = middle + artFromPlate.col(1) * ((j + 0.5) / ny - 0.5);
            for (int i = 0; i < nx; ++i) {
                const double part = (i + 0.5) / nx - 0.5, inverse = 1 / (line.z() + artFromPlate(2, 0) * part);
                const double u = (line.x() + artFromPlate(0, 0) * part) * inverse,
                             v = (line.y() + artFromPlate(1, 0) * part) * inverse;
                if (!(u >= 0 && v >= 0 && u < w && v < h)) continue;
                const auto x = float(std::clamp(u / scale - 0.5, 0.0, double(level.width - 1))),
                           y = float(std::clamp(v / scale - 0.5, 0.0, double(level.height - 1)));
                const int x0 = int(x), y0 = int(y);
                const int x1 = std::min(x0 + 1, level.width - 1), y1 = std::min(y0 + 1, level.height - 1);
                const float fx = x - float(x0), fy = y - float(y0);
                sum += (1 - fy) * ((1 - fx) * pixel(x0, y0) + fx * pixel(x1, y0)) +
                       fy * ((1 - fx) * pixel(x0, y1) + fx * pixel(x1, y1));
            }
        }
        const float soft = softEdge_px > 0 ? eased(depth / softEdge_px) : 1.0F;
        float* out = &layer.rgba[4 * (row * boxWidth + column)];
        const float each = share * soft / float(nx * ny);
        for (int k = 0; k < 4; ++k) out[k] += each * sum[k];
    };
    parallelFor(
        std::size_t(layer.box.height()),
        [&](std::size_t row) {
            for (std::size_t column = 0; column < boxWidth; ++column) onePixel(column, row);
        },
        4);
}

Layer Art::laid(std::span<const Quad> corners, int width, int height, double softEdge_px) const {
    Layer layer;
    layer.box = boxAbout(corners, width, height);
    if (corners.empty() || layer.box.width() <= 0 || layer.box.height() <= 0) return {};
    layer.rgba.assign(4 * std::size_t(layer.box.width()) * std::size_t(layer.box.height()), 0.0F);
    for (const Quad& quad : corners) add(quad, 1.0F / float(corners.size()), softEdge_px, layer);
    return layer;
}

Picture withInsert(const Picture& plate, const Layer& layer, const InsertLook& look, const Plane* heldOut) {
    Picture result = plate;
    const auto opacity = float(std::clamp(look.opacity, 0.0, 1.0));
    parallelFor(
        std::size_t(std::max(0, layer.box.height())),
        [&](std::size_t row) {
            for (std::size_t column = 0; column < std::size_t(layer.box.width()); ++column) {
                const float* art = &layer.rgba[4 * (row * std::size_t(layer.box.width()) + column)];
                const std::size_t pixel =
                    (row + std::size_t(layer.box.y0)) * std::size_t(plate.width) + column + std::size_t(layer.box.x0);
                const float left = heldOut ? opacity * (1 - heldOut->values[pixel]) : opacity, share = left * art[3];
                if (share <= 0) continue;
                for (std::size_t c = 0; c < 3; ++c) {
                    const float under = valueAt(plate, 3 * pixel + c), colour = art[c] / art[3];
                    const float value = look.blend == Blend::add
                                            ? under + share * colour
                                            : under + share * (mixed(look.blend, colour, under) - under);
                    if (plate.depth == Picture::Depth::bits8)
                        result.bytes[3 * pixel + c] = std::uint8_t(std::clamp(255.0F * value + 0.5F, 0.0F, 255.0F));
                    else result.floats[3 * pixel + c] = value;
                }
            }
        },
        8);
    return result;
}

InsertAlone insertAlone(const Layer& layer, const InsertLook& look, int width, int height, bool linear,
                        const Plane* heldOut) {
    InsertAlone alone{{width, height, Picture::Depth::float32, linear, {}, {}}, Plane(width, height)};
    alone.picture.floats.resize(3 * alone.alpha.values.size());
    const auto opacity = float(std::clamp(look.opacity, 0.0, 1.0));
    for (int y = layer.box.y0; y < layer.box.y1; ++y)
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const auto pixel = std::size_t(y) * std::size_t(width) + std::size_t(x);
            const float* art = &layer.rgba[4 * (std::size_t(y - layer.box.y0) * std::size_t(layer.box.width()) +
                                                std::size_t(x - layer.box.x0))];
            const float left = heldOut ? opacity * (1 - heldOut->values[pixel]) : opacity;
            for (std::size_t c = 0; c < 3; ++c) alone.picture.floats[3 * pixel + c] = left * art[c];
            alone.alpha.values[pixel] = left * art[3];
        }
    return alone;
}

}  // namespace pinion
