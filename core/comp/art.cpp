#include "comp/art.h"

#include "base/parallel.h"
#include "comp/keying.h"
#include "planar/surface.h"

#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cairo/cairo.h>
#include <cmath>
#include <string>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr double kMostReach = 4;     // of the art, that a pixel covers across or down; beyond, a smaller level is read
constexpr double kPerSmaller = 1.2;  // the same of a smaller level
constexpr double kPerPixel = 0.7;    // samples for a pixel of the art, each way
constexpr int kBorderSamples = 5;    // of a pixel on the art's border
constexpr double kNear_px = 0.8;     // a pixel may touch the border

float toned(float value, bool isLinear, bool wanted) {
    if (isLinear == wanted) return value;
    return wanted ? decodeSrgb(value) : encodeSrgb(value);
}

/// 0 to 1, smoothly.
float eased(double part) {
    const double t = std::clamp(part, 0.0, 1.0);
    return float(t * t * (3 - 2 * t));
}

PixelBox boxAbout(std::span<const std::vector<ArtPiece>> instants, int width, int height, int margin) {
    Vector2d low(1e9, 1e9), high(-1e9, -1e9);
    for (const auto& pieces : instants)
        for (const ArtPiece& piece : pieces)
            for (const Vector2d& corner : piece.corners) {
                low = low.cwiseMin(corner);
                high = high.cwiseMax(corner);
            }
    const auto within = [&](double value, int most) {
        return int(std::clamp(value, double(-margin), most + double(margin)));
    };
    return {within(std::floor(low.x()), width), within(std::floor(low.y()), height), within(std::ceil(high.x()), width),
            within(std::ceil(high.y()), height)};
}

/// The shown part of the art, in its own pixels: a rectangle with round corners.
struct Outline {
    double x0, y0, x1, y1, radius;

    Outline(const ArtShape& shape, double w, double h)
        : x0(shape.left * w),
          y0(shape.top * h),
          x1(w - shape.right * w),
          y1(h - shape.bottom * h),
          radius(std::clamp(shape.round, 0.0, 0.5) * std::min(x1 - x0, y1 - y0)) {}

    bool isEmpty() const { return !(x1 > x0 && y1 > y0); }
    /// How far inside a place lies, and the direction in which that grows.
    double depth(double u, double v, Vector2d& inwards) const {
        const double cx = 0.5 * (x0 + x1), cy = 0.5 * (y0 + y1);
        const double ax = std::abs(u - cx) - (0.5 * (x1 - x0) - radius),
                     ay = std::abs(v - cy) - (0.5 * (y1 - y0) - radius);
        const double sx = u < cx ? 1 : -1, sy = v < cy ? 1 : -1;
        if (ax > 0 && ay > 0) {
            const double length = std::hypot(ax, ay);
            inwards = {sx * ax / length, sy * ay / length};
            return radius - length;
        }
        inwards = ax > ay ? Vector2d(sx, 0) : Vector2d(0, sy);
        return radius - std::max(ax, ay);
    }
    bool holds(double u, double v) const {
        if (!(u >= x0 && v >= y0 && u < x1 && v < y1)) return false;
        Vector2d inwards;
        return radius <= 0 || depth(u, v, inwards) >= 0;
    }
};

/// Pixels of which a value is no number, or without bounds, become the mean of those beside them: averaged over
/// levels, one would spread.
void fillHoles(std::vector<float>& rgba, int width, int height) {
    const auto isHole = [&](int x, int y) {
        const float* p = &rgba[4 * (std::size_t(y) * std::size_t(width) + std::size_t(x))];
        return !std::isfinite(p[0] + p[1] + p[2] + p[3]);
    };
    std::vector<std::pair<int, int>> holes;
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            if (isHole(x, y)) holes.emplace_back(x, y);
    std::vector<Eigen::Array4f> filled;
    for (const auto& [x, y] : holes) {
        Eigen::Array4f sum = Eigen::Array4f::Zero();
        int count = 0;
        for (int j = std::max(0, y - 1); j <= std::min(height - 1, y + 1); ++j)
            for (int i = std::max(0, x - 1); i <= std::min(width - 1, x + 1); ++i)
                if (!isHole(i, j)) {
                    sum += Eigen::Map<const Eigen::Array4f>(
                        &rgba[4 * (std::size_t(j) * std::size_t(width) + std::size_t(i))]);
                    ++count;
                }
        filled.push_back(count > 0 ? Eigen::Array4f(sum / float(count)) : Eigen::Array4f(Eigen::Array4f::Zero()));
    }
    for (std::size_t k = 0; k < holes.size(); ++k)
        for (int c = 0; c < 4; ++c)
            rgba[4 * (std::size_t(holes[k].second) * std::size_t(width) + std::size_t(holes[k].first)) +
                 std::size_t(c)] = filled[k][c];
}

}  // namespace

/// One piece of art being laid on one instant.
class Art::Laying {
public:
    Laying(const Art& art, const ArtPiece& piece, const ArtShape& shape, float share, bool isOneOfMany)
        : levels_(art.levels_),
          outline_(shape, art.width(), art.height()),
          soft_(shape.softEdge_px),
          share_(share),
          least_(isOneOfMany ? 1 : 2),
          border_(isOneOfMany ? 2 : kBorderSamples) {
        const double w = art.width(), h = art.height();
        const double left = piece.left * w, right = piece.right * w, top = piece.top * h, bottom = piece.bottom * h;
        const auto plateFromArt = quadFromQuad(piece.corners, {Vector2d(left, top), Vector2d(right, top),
                                                               Vector2d(right, bottom), Vector2d(left, bottom)});
        const auto& c = piece.corners;
        if (piece.left > 0) joints_.push_back({c[0], c[3], true});
        if (piece.right < 1) joints_.push_back({c[1], c[2], false});
        if (piece.top > 0) joints_.push_back({c[0], c[1], false});
        if (piece.bottom < 1) joints_.push_back({c[3], c[2], true});
        // A piece may be narrow, all of the art not.
        const bool isUpright =
            joints_.empty() ? troubleOf(c).empty() : sideOf(c[0], c[2], c[1]) < sideOf(c[0], c[2], c[3]);
        works_ = plateFromArt && !outline_.isEmpty() && isUpright;
        if (!works_) return;
        artFromPlate_ = plateFromArt->inverse();
        ahead_ = artFromPlate_.determinant() > 0 ? 1 : -1;
    }
    bool works() const { return works_; }

    /// Adds what the pixel at (x, y) sees of it.
    void addTo(float* out, int x, int y) const {
        if (!joints_.empty() && !owns({x + 0.5, y + 0.5})) return;
        const Vector3d middle = artFromPlate_ * Vector3d(x + 0.5, y + 0.5, 1);
        if (!(middle.z() * ahead_ > 0)) return;
        const double inverse = 1 / middle.z();
        const Vector2d place = inverse * middle.head<2>();
        // How much of the art a pixel covers, across and down the plate.
        const Vector2d across = inverse * (artFromPlate_.col(0).head<2>() - place * artFromPlate_(2, 0)),
                       down = inverse * (artFromPlate_.col(1).head<2>() - place * artFromPlate_(2, 1));
        const double acrossNorm = std::sqrt(across.squaredNorm()), downNorm = std::sqrt(down.squaredNorm()),
                     longest = std::max(acrossNorm, downNorm);
        double depth = 1e300;  // pixels of the plate from the border
        bool touches = false;
        if (!(deepIn(place) > 1.5 * longest * std::max(kNear_px, soft_))) {
            const auto inPixels = [&](double inArt, const Vector2d& inwards) {
                return inArt / std::max(1e-12, std::hypot(inwards.dot(across), inwards.dot(down)));
            };
            Vector2d inwards;
            const double inArt = outline_.depth(place.x(), place.y(), inwards);
            depth = inPixels(inArt, inwards);
            if (depth < -kNear_px) return;
            touches = depth < kNear_px;
        }
        std::size_t index = 0;
        double scale = 1;
        while (longest / scale > kMostReach && index + 1 < levels_.size()) {
            scale *= 2;
            ++index;
        }
        // Each sample is the mean of what lies within a pixel of the level about it. A smaller level's own pixels show
        // unless it is read more finely.
        const double finely = (index > 0 ? kPerSmaller : kPerPixel) / scale;
        const int least = touches ? border_ : least_;
        const auto samplesFor = [&](double reach) {
            return std::clamp(int(std::ceil(finely * reach)), least, 4 * int(kMostReach));
        };
        const int nx = samplesFor(acrossNorm), ny = samplesFor(downNorm);
        const Array4f sum = touches ? touching(levels_[index], scale, place, across, down, nx, ny)
                                    : inner(levels_[index], scale, place, across, down, nx, ny);
        const float each = share_ * (soft_ > 0 ? eased(depth / soft_) : 1.0F) / float(nx * ny);
        for (int k = 0; k < 4; ++k) out[k] += each * sum[k];
    }

private:
    using Array4f = Eigen::Array4f;

    /// A side beyond which the next piece begins. Both ask the same line, through the same two corners in the same
    /// order, so a pixel's middle belongs to one of them, and never to both or none.
    struct Joint {
        Vector2d from, to;
        bool isLeft;  ///< the piece is on the line's left hand, as it runs
    };
    static double sideOf(const Vector2d& from, const Vector2d& to, const Vector2d& at) {
        return (to.x() - from.x()) * (at.y() - from.y()) - (to.y() - from.y()) * (at.x() - from.x());
    }
    bool owns(const Vector2d& pixel) const {
        return std::all_of(joints_.begin(), joints_.end(), [&](const Joint& joint) {
            return (sideOf(joint.from, joint.to, pixel) < 0) == joint.isLeft;
        });
    }
    /// Pixels of the art to the nearest side of what is shown of it, or less.
    double deepIn(const Vector2d& place) const {
        const double across = std::min(place.x() - outline_.x0, outline_.x1 - place.x()),
                     down = std::min(place.y() - outline_.y0, outline_.y1 - place.y());
        return std::min(across, down) - outline_.radius;
    }
    /// Read between pixels, the place inside the level.
    static Array4f read(const Level& level, float u, float v) {
        const float x = std::clamp(u, 0.0F, float(level.width - 1)), y = std::clamp(v, 0.0F, float(level.height - 1));
        const int x0 = int(x), y0 = int(y);
        const std::size_t right = x0 + 1 < level.width ? 4 : 0,
                          below = y0 + 1 < level.height ? 4 * std::size_t(level.width) : 0;
        const float fx = x - float(x0), fy = y - float(y0);
        const float* at = &level.rgba[4 * (std::size_t(y0) * std::size_t(level.width) + std::size_t(x0))];
        const auto pixel = [at](std::size_t by) { return Eigen::Map<const Array4f>(at + by); };
        const Array4f top = pixel(0) + fx * (pixel(right) - pixel(0)),
                      bottom = pixel(below) + fx * (pixel(below + right) - pixel(below));
        return top + fy * (bottom - top);
    }
    /// The sum over a pixel's samples; within one pixel the perspective is flat.
    Array4f inner(const Level& level, double scale, const Vector2d& place, const Vector2d& across, const Vector2d& down,
                  int nx, int ny) const {
        const auto small = float(1 / scale);
        const float ax = float(across.x()) * small / float(nx), ay = float(across.y()) * small / float(nx),
                    bx = float(down.x()) * small / float(ny), by = float(down.y()) * small / float(ny);
        float lineX = float(place.x()) * small - 0.5F - 0.5F * (float(nx - 1) * ax + float(ny - 1) * bx),
              lineY = float(place.y()) * small - 0.5F - 0.5F * (float(nx - 1) * ay + float(ny - 1) * by);
        Array4f sum = Array4f::Zero();
        for (int j = 0; j < ny; ++j, lineX += bx, lineY += by) {
            float u = lineX, v = lineY;
            for (int i = 0; i < nx; ++i, u += ax, v += ay) sum += read(level, u, v);
        }
        return sum;
    }
    /// The same of those samples alone that lie on what is shown.
    Array4f touching(const Level& level, double scale, const Vector2d& place, const Vector2d& across,
                     const Vector2d& down, int nx, int ny) const {
        Array4f sum = Array4f::Zero();
        for (int j = 0; j < ny; ++j)
            for (int i = 0; i < nx; ++i) {
                const Vector2d at = place + ((i + 0.5) / nx - 0.5) * across + ((j + 0.5) / ny - 0.5) * down;
                if (outline_.holds(at.x(), at.y()))
                    sum += read(level, float(at.x() / scale - 0.5), float(at.y() / scale - 0.5));
            }
        return sum;
    }

    const std::vector<Level>& levels_;
    Outline outline_;
    double soft_;
    float share_;
    int least_, border_;
    std::vector<Joint> joints_;
    bool works_ = false;
    Matrix3d artFromPlate_;
    double ahead_ = 1;
};

Expected<Art> Art::create(const Picture& picture, const ImageChannel* alpha, AlphaKind kind, bool forLinear,
                          const std::optional<ColourKey>& key) {
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
    std::optional<KeyExcess> excess;
    if (key) excess.emplace(key->colour);
    // Most art is of bytes: a tone each is worked out once.
    std::array<float, 256> tones{};
    const bool isBytes = picture.depth == Picture::Depth::bits8;
    if (isBytes)
        for (std::size_t i = 0; i < 256; ++i) tones[i] = toned(float(i) / 255.0F, picture.linear, forLinear);
    const bool isPlain = isBytes && !key && (kind == AlphaKind::straight || !alpha);
    parallelFor(
        std::size_t(picture.height),
        [&](std::size_t row) {
            for (std::size_t i = row * std::size_t(picture.width); i < (row + 1) * std::size_t(picture.width); ++i) {
                float a = alpha ? std::clamp(alpha->values[i], 0.0F, 1.0F) : 1.0F;
                float* out = &level.rgba[4 * i];
                if (isPlain) {
                    for (std::size_t c = 0; c < 3; ++c) out[c] = a * tones[picture.bytes[3 * i + c]];
                    out[3] = a;
                    continue;
                }
                float colour[3];
                for (std::size_t c = 0; c < 3; ++c) {
                    colour[c] = valueAt(picture, 3 * i + c);
                    // Tones are of the colour itself, whatever of it is seen.
                    if (kind == AlphaKind::premultiplied && a > 0) colour[c] /= a;
                }
                if (key) a *= keyed(*key, *excess, colour);
                for (std::size_t c = 0; c < 3; ++c) out[c] = a * toned(colour[c], picture.linear, forLinear);
                out[3] = a;
            }
        },
        16);
    fillHoles(level.rgba, level.width, level.height);
    art.levels_.push_back(std::move(level));
    while (std::min(art.levels_.back().width, art.levels_.back().height) >= 2 * int(kMostReach)) {
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

std::size_t Art::sizeBytes() const {
    std::size_t bytes = 0;
    for (const Level& level : levels_) bytes += level.rgba.size() * sizeof(float);
    return bytes;
}

Layer Art::laid(std::span<const std::vector<ArtPiece>> instants, int width, int height, const ArtShape& shape,
                int margin) const {
    Layer layer;
    layer.box = boxAbout(instants, width, height, margin);
    if (instants.empty() || layer.box.width() <= 0 || layer.box.height() <= 0) return {};
    layer.rgba.assign(4 * std::size_t(layer.box.width()) * std::size_t(layer.box.height()), 0.0F);
    std::vector<std::pair<Laying, PixelBox>> layings;
    for (const auto& pieces : instants)
        for (const ArtPiece& piece : pieces) {
            const Laying laying(*this, piece, shape, 1.0F / float(instants.size()), instants.size() >= 4);
            const std::vector<ArtPiece> one{piece};
            PixelBox box = boxAbout(std::span(&one, 1), width, height, margin);
            box = {box.x0 - 1, box.y0 - 1, box.x1 + 1, box.y1 + 1};
            if (laying.works()) layings.emplace_back(laying, box);
        }
    parallelFor(
        std::size_t(layer.box.height()),
        [&](std::size_t row) {
            const int y = layer.box.y0 + int(row);
            for (const auto& [laying, box] : layings) {
                if (y < box.y0 || y >= box.y1) continue;
                const int first = std::max(layer.box.x0, box.x0), end = std::min(layer.box.x1, box.x1);
                for (int x = first; x < end; ++x) laying.addTo(layer.at(x, y), x, y);
            }
        },
        4);
    return layer;
}

Layer Art::laid(std::span<const Quad> instants, int width, int height, const ArtShape& shape) const {
    std::vector<std::vector<ArtPiece>> pieces;
    for (const Quad& quad : instants) pieces.push_back({ArtPiece{quad}});
    return laid(pieces, width, height, shape);
}

Picture testArt(double widthToHeight) {
    constexpr int kSide = 64;
    const int rows = widthToHeight >= 1 ? 6 : std::clamp(int(std::lround(6 / std::max(0.1, widthToHeight))), 6, 18);
    const int columns = widthToHeight >= 1 ? std::clamp(int(std::lround(6 * widthToHeight)), 6, 18) : 6;
    const int width = columns * kSide, height = rows * kSide;
    const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
        cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height), &cairo_surface_destroy);
    const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context(cairo_create(surface.get()), &cairo_destroy);
    cairo_t* c = context.get();
    cairo_select_font_face(c, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_BOLD);
    cairo_set_font_size(c, 22);
    for (int row = 0; row < rows; ++row)
        for (int column = 0; column < columns; ++column) {
            const bool dark = (row + column) % 2 == 0;
            const auto ink = [c](bool isDark) {
                if (isDark) cairo_set_source_rgb(c, 0.23, 0.25, 0.27);
                else cairo_set_source_rgb(c, 0.85, 0.83, 0.78);
            };
            ink(dark);
            cairo_rectangle(c, column * kSide, row * kSide, kSide, kSide);
            cairo_fill(c);
            ink(!dark);
            const std::string words = fmt::format("{}{}", char('A' + row), column + 1);
            cairo_text_extents_t size;
            cairo_text_extents(c, words.c_str(), &size);
            cairo_move_to(c, (column + 0.5) * kSide - size.width / 2 - size.x_bearing,
                          (row + 0.5) * kSide - size.height / 2 - size.y_bearing);
            cairo_show_text(c, words.c_str());
        }
    cairo_set_source_rgb(c, 0.85, 0.64, 0.25);
    cairo_set_line_width(c, 8);
    cairo_rectangle(c, 4, 4, width - 8, height - 8);
    cairo_stroke(c);
    cairo_surface_flush(surface.get());
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    picture.bytes.resize(3 * std::size_t(width) * std::size_t(height));
    const unsigned char* bytes = cairo_image_surface_get_data(surface.get());
    const int stride = cairo_image_surface_get_stride(surface.get());
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            for (std::size_t k = 0; k < 3; ++k)  // blue first
                picture.bytes[3 * (std::size_t(y) * std::size_t(width) + std::size_t(x)) + k] =
                    bytes[std::ptrdiff_t(y) * stride + 4 * x + std::ptrdiff_t(2 - k)];
    return picture;
}

Picture plainPicture(const std::array<double, 3>& colour, int width, int height) {
    Picture picture{width, height, Picture::Depth::float32, false, {}, {}};
    picture.floats.resize(3 * std::size_t(width) * std::size_t(height));
    for (std::size_t i = 0; i < picture.floats.size(); ++i) picture.floats[i] = float(colour[i % 3]);
    return picture;
}

Picture plainArt(const std::array<double, 3>& colour, double widthToHeight) {
    constexpr double kSide = 64;
    const double ratio = std::clamp(widthToHeight, 0.02, 50.0);
    return plainPicture(colour, std::max(1, int(std::lround(ratio >= 1 ? kSide * ratio : kSide))),
                        std::max(1, int(std::lround(ratio >= 1 ? kSide : kSide / ratio))));
}

ImageChannel textAlpha(const std::string& words, double widthToHeight) {
    constexpr double kArea = 512.0 * 512.0;
    const double ratio = std::clamp(widthToHeight, 0.02, 50.0);
    const int width = int(std::lround(std::sqrt(kArea * ratio))), height = int(std::lround(std::sqrt(kArea / ratio)));
    const std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface(
        cairo_image_surface_create(CAIRO_FORMAT_A8, width, height), &cairo_surface_destroy);
    const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> context(cairo_create(surface.get()), &cairo_destroy);
    cairo_t* c = context.get();
    cairo_select_font_face(c, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_BOLD);
    cairo_set_font_size(c, 100);
    cairo_text_extents_t size;
    cairo_text_extents(c, words.c_str(), &size);
    if (size.width > 0 && size.height > 0) {
        const double scale = std::min(0.96 * width / size.width, 0.9 * height / size.height);
        cairo_set_font_size(c, 100 * scale);
        cairo_text_extents(c, words.c_str(), &size);
        cairo_move_to(c, 0.5 * width - size.width / 2 - size.x_bearing,
                      0.5 * height - size.height / 2 - size.y_bearing);
        cairo_show_text(c, words.c_str());
    }
    cairo_surface_flush(surface.get());
    ImageChannel alpha(width, height);
    const unsigned char* bytes = cairo_image_surface_get_data(surface.get());
    const int stride = cairo_image_surface_get_stride(surface.get());
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            alpha.values[std::size_t(y) * std::size_t(width) + std::size_t(x)] =
                float(bytes[std::ptrdiff_t(y) * stride + x]) / 255.0F;
    return alpha;
}

}  // namespace pinion
