#include "comp/keying.h"

#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Colour = std::array<float, 3>;

constexpr float kNarrow = 0.57735027F;  // cot of 60 degrees: with it, green less the larger of red and blue
const float kRoot3 = std::sqrt(3.0F);

Colour chromaOf(const float* colour) {
    const float mean = (colour[0] + colour[1] + colour[2]) / 3;
    return {colour[0] - mean, colour[1] - mean, colour[2] - mean};
}

float dot(const Colour& a, const Colour& b) { return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]; }

float lightOf(const float* c) { return 0.2126F * c[0] + 0.7152F * c[1] + 0.0722F * c[2]; }

}  // namespace

KeyExcess::KeyExcess(const Colour& backing) {
    const Colour chroma = chromaOf(backing.data());
    const float length = std::sqrt(dot(chroma, chroma));
    if (length < 0.02F) return;
    for (std::size_t c = 0; c < 3; ++c) towards_[c] = chroma[c] / length;
    whole_ = of(backing.data());
}

float KeyExcess::of(const float* colour) const {
    const Colour chroma = chromaOf(colour);
    const float along = dot(chroma, towards_);
    const float across = std::sqrt(std::max(0.0F, dot(chroma, chroma) - along * along));
    // Scaled so that of pure green it is what is said above: its chroma is the root of two thirds long.
    return std::max(0.0F, (along - kNarrow * across) * kRoot3 / std::sqrt(2.0F));
}

void KeyExcess::takeSpill(float* colour, float share) const {
    const float excess = of(colour);
    if (excess <= 0 || share <= 0) return;
    const float before = lightOf(colour), down = share * excess * std::sqrt(2.0F) / kRoot3;
    for (std::size_t c = 0; c < 3; ++c) colour[c] -= down * towards_[c];
    // Grey in place of the spill, so that it does not get dark; half of it, since the light was never the foreground's.
    const float back = 0.5F * (before - lightOf(colour));
    for (std::size_t c = 0; c < 3; ++c) colour[c] = std::max(0.0F, colour[c] + back);
}

std::array<float, 3> meanColour(const Picture& picture, int x, int y, int reach) {
    Colour sum{};
    int count = 0;
    for (int py = std::max(0, y - reach); py <= std::min(picture.height - 1, y + reach); ++py)
        for (int px = std::max(0, x - reach); px <= std::min(picture.width - 1, x + reach); ++px) {
            const std::size_t at = 3 * (std::size_t(py) * std::size_t(picture.width) + std::size_t(px));
            for (std::size_t c = 0; c < 3; ++c) sum[c] += valueAt(picture, at + c);
            ++count;
        }
    for (float& value : sum) value /= float(std::max(1, count));
    return sum;
}

std::optional<ColourKey> keyOfBacking(const Picture& picture) {
    constexpr float kAlike = 0.15F, kColoured = 0.2F;
    const int reach = std::max(1, std::min(picture.width, picture.height) / 40);
    const int left = reach, right = picture.width - 1 - reach;
    std::array<Colour, 4> seen;
    std::size_t count = 0;
    for (const int y : {reach, picture.height / 2})
        for (const int x : {left, right}) seen[count++] = meanColour(picture, x, y, reach);
    ColourKey key;
    key.colour = {};
    for (const Colour& one : seen)
        for (std::size_t c = 0; c < 3; ++c) key.colour[c] += one[c] / 4;
    for (const Colour& one : seen)
        for (std::size_t c = 0; c < 3; ++c)
            if (!(std::abs(one[c] - key.colour[c]) < kAlike)) return std::nullopt;
    return KeyExcess(key.colour).ofBacking() > kColoured ? std::optional(key) : std::nullopt;
}

namespace {

/// From the share of the backing in a pixel to how clear it is: as it is in the middle, with nothing left of what the
/// foreground may have, and all of what uneven light leaves.
float cleared(float part, const ColourKey& key) {
    const float low = std::clamp(key.keeps, 0.0F, 0.45F), high = 1 - std::clamp(key.clears, 0.0F, 0.45F);
    if (part <= low) return 0;
    if (part >= high) return 1;
    const float lowEnd = std::min(0.5F, 3 * low), highEnd = std::max(0.5F, 1 - 3 * (1 - high));
    if (part < lowEnd) return (part - low) / (lowEnd - low) * lowEnd;
    if (part > highEnd) return 1 - (high - part) / (high - highEnd) * (1 - highEnd);
    return part;
}

}  // namespace

float keyed(const ColourKey& key, const KeyExcess& excess, float* colour) {
    if (excess.ofBacking() <= 0) return 1;
    const float part = excess.of(colour) / excess.ofBacking();
    const float alpha = 1 - cleared(part, key);
    if (alpha <= 0) {
        colour[0] = colour[1] = colour[2] = 0;
        return 0;
    }
    if (alpha < 1)
        for (std::size_t c = 0; c < 3; ++c)
            colour[c] = std::clamp((colour[c] - (1 - alpha) * key.colour[c]) / alpha, 0.0F, std::max(1.0F, colour[c]));
    excess.takeSpill(colour, key.spill);
    return alpha;
}

}  // namespace pinion
