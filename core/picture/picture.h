#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

namespace pinion {

/// An RGB picture, three interleaved channels, rows from the top. 8-bit values are display-ready (as stored); float
/// values are 0 to 1 display-ready or, when `linear`, scene-linear and open at the top.
struct Picture {
    enum class Depth { bits8, float32 };

    int width = 0;
    int height = 0;
    Depth depth = Depth::bits8;
    bool linear = false;
    std::vector<std::uint8_t> bytes;  ///< width*height*3 when 8-bit, else empty
    std::vector<float> floats;        ///< width*height*3 when float, else empty

    std::size_t sizeBytes() const { return bytes.size() + floats.size() * sizeof(float); }
    bool isEmpty() const { return width == 0 || height == 0; }
};

using PicturePtr = std::shared_ptr<const Picture>;

/// The `i`th value of a picture's list, 0 to 1 where it is of 8 bits.
inline float valueAt(const Picture& picture, std::size_t i) {
    return picture.depth == Picture::Depth::bits8 ? float(picture.bytes[i]) / 255.0F : picture.floats[i];
}

/// Whether the colours are already multiplied by the alpha.
enum class AlphaKind { premultiplied, straight };

/// One channel of floats, rows from the top. Sample (i, j) is the pixel whose centre is (i + 0.5, j + 0.5).
struct ImageChannel {
    int width = 0;
    int height = 0;
    std::vector<float> values;

    ImageChannel() = default;
    ImageChannel(int w, int h, float value = 0.0F)
        : width(w), height(h), values(std::size_t(w) * std::size_t(h), value) {}
    float* row(int y) { return values.data() + std::size_t(y) * std::size_t(width); }
    const float* row(int y) const { return values.data() + std::size_t(y) * std::size_t(width); }
};

enum class Channel { luma, red, green, blue };

/// What analysis looks through: nothing; without grain; with the contrast of every place evened out, so that shadows
/// and flicker do not count. Both are symmetric: they move nothing.
enum class PreFilter { none, denoise, localContrast };

/// What the matcher looks at: one channel (luma after ITU-R BT.709), display-encoded, 0 to 255. Linear pictures go
/// through the sRGB curve first, so that highlights do not drown the rest.
ImageChannel analysisPlane(const Picture& picture, Channel channel = Channel::luma);

struct ViewTransform {
    double exposure = 0.0;  ///< in stops, applied to linear values
    double gamma = 1.0;     ///< above 1 lifts the shadows of the shown picture

    bool operator==(const ViewTransform&) const = default;
};

/// The picture as 8-bit values for the screen: linear pictures through exposure, the sRGB curve (IEC 61966-2-1) and
/// gamma; display-ready ones change only when exposure or gamma are set. Rows of 4-byte pixels, blue first, alpha 255.
std::vector<std::uint32_t> displayPixels(const Picture& picture, const ViewTransform& view = {});

/// The sRGB curve (IEC 61966-2-1) and its inverse, for values from 0 up.
float encodeSrgb(float linear);
float decodeSrgb(float encoded);

}  // namespace pinion
