#include "picture/picture.h"

#include "base/cloned.h"
#include "base/parallel.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

constexpr int kTableSize = 4096;

// Encoding through a table: a power per value would cost more than the decoding of a frame.
const std::array<float, kTableSize + 2>& encodingTable() {
    static const auto table = [] {
        std::array<float, kTableSize + 2> values{};
        // Square-root spacing, since the curve is steep at black.
        for (int i = 0; i < kTableSize + 2; ++i) {
            const float root = float(i) / kTableSize;
            values[std::size_t(i)] = encodeSrgb(root * root);
        }
        return values;
    }();
    return table;
}

float encodeFast(float linear) {
    if (!(linear > 0.0F)) return 0.0F;
    if (linear >= 1.0F) return 1.0F;
    const float position = std::sqrt(linear) * kTableSize;
    const int index = int(position);
    const auto& table = encodingTable();
    return table[std::size_t(index)] +
           (table[std::size_t(index) + 1] - table[std::size_t(index)]) * (position - float(index));
}

PINION_CLONED
void weightedRow(const std::uint8_t* __restrict in, std::size_t count, const float* __restrict weights,
                 float* __restrict out) {
    const float red = weights[0];
    const float green = weights[1];
    const float blue = weights[2];
    for (std::size_t x = 0; x < count; ++x)
        out[x] = red * float(in[3 * x]) + green * float(in[3 * x + 1]) + blue * float(in[3 * x + 2]);
}

std::uint32_t packed(float red, float green, float blue) {
    const auto byte = [](float value) { return std::uint32_t(std::clamp(value, 0.0F, 1.0F) * 255.0F + 0.5F); };
    return 0xFF000000U | byte(red) << 16 | byte(green) << 8 | byte(blue);
}

}  // namespace

float encodeSrgb(float linear) {
    if (linear <= 0.0031308F) return 12.92F * linear;
    return 1.055F * std::pow(linear, 1.0F / 2.4F) - 0.055F;
}

float decodeSrgb(float encoded) {
    if (encoded <= 0.04045F) return encoded / 12.92F;
    return std::pow((encoded + 0.055F) / 1.055F, 2.4F);
}

ImageChannel analysisPlane(const Picture& picture, Channel channel) {
    ImageChannel plane(picture.width, picture.height);
    float weights[3] = {0.2126F, 0.7152F, 0.0722F};
    if (channel != Channel::luma)
        for (int i = 0; i < 3; ++i) weights[i] = i == int(channel) - 1 ? 1.0F : 0.0F;
    const std::size_t rowLength = std::size_t(picture.width);
    parallelFor(
        std::size_t(picture.height),
        [&](std::size_t y) {
            float* out = plane.values.data() + y * rowLength;
            if (picture.depth == Picture::Depth::bits8) {
                const std::uint8_t* in = picture.bytes.data() + y * rowLength * 3;
                weightedRow(in, rowLength, weights, out);
            } else {
                const float* in = picture.floats.data() + y * rowLength * 3;
                for (std::size_t x = 0; x < rowLength; ++x, in += 3) {
                    const float value = weights[0] * in[0] + weights[1] * in[1] + weights[2] * in[2];
                    out[x] = 255.0F * (picture.linear ? encodeFast(value) : std::clamp(value, 0.0F, 4.0F));
                }
            }
        },
        64);
    return plane;
}

std::vector<std::uint32_t> displayPixels(const Picture& picture, const ViewTransform& view) {
    std::vector<std::uint32_t> pixels(std::size_t(picture.width) * std::size_t(picture.height));
    const float gain = std::exp2(float(view.exposure));
    const float power = 1.0F / std::max(0.05F, float(view.gamma));
    const bool plain = view == ViewTransform{};
    const auto shown = [&](float value) {
        const float encoded = encodeFast(value * gain);
        return power == 1.0F ? encoded : std::pow(encoded, power);
    };
    std::array<std::uint8_t, 256> bytes{};
    for (std::size_t i = 0; i < 256; ++i)
        bytes[i] = plain ? std::uint8_t(i) : std::uint8_t(shown(decodeSrgb(float(i) / 255.0F)) * 255.0F + 0.5F);
    const std::size_t rowLength = std::size_t(picture.width);
    parallelFor(
        std::size_t(picture.height),
        [&](std::size_t y) {
            std::uint32_t* out = pixels.data() + y * rowLength;
            if (picture.depth == Picture::Depth::bits8) {
                const std::uint8_t* in = picture.bytes.data() + y * rowLength * 3;
                for (std::size_t x = 0; x < rowLength; ++x, in += 3)
                    out[x] = 0xFF000000U | std::uint32_t(bytes[in[0]]) << 16 | std::uint32_t(bytes[in[1]]) << 8 |
                             bytes[in[2]];
            } else {
                const float* in = picture.floats.data() + y * rowLength * 3;
                for (std::size_t x = 0; x < rowLength; ++x, in += 3) {
                    if (picture.linear) out[x] = packed(shown(in[0]), shown(in[1]), shown(in[2]));
                    else if (plain) out[x] = packed(in[0], in[1], in[2]);
                    else out[x] = packed(shown(decodeSrgb(in[0])), shown(decodeSrgb(in[1])), shown(decodeSrgb(in[2])));
                }
            }
        },
        64);
    return pixels;
}

}  // namespace pinion
