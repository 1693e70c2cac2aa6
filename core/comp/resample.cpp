#include "comp/resample.h"

#include "base/cloned.h"
#include "base/parallel.h"

#include <algorithm>
#include <numbers>

namespace pinion::resampling {
namespace {

PINION_CLONED void widen(const std::uint8_t* __restrict from, std::size_t count, Pixel* __restrict to) {
    for (std::size_t x = 0; x < count; ++x)
        to[x] = Pixel{float(from[3 * x]), float(from[3 * x + 1]), float(from[3 * x + 2]), 0};
}

PINION_CLONED void widen(const float* __restrict from, std::size_t count, Pixel* __restrict to) {
    for (std::size_t x = 0; x < count; ++x) to[x] = Pixel{from[3 * x], from[3 * x + 1], from[3 * x + 2], 0};
}

template <int Taps, ResampleFilter filter>
Pixel read(const Source& source, double x, double y, EdgeMode edges) {
    static const auto* const weights = weightsOf<Taps>(filter).data();
    return sampleAt<Taps>(source, x, y, weights, edges);
}

/// The weights of the B-spline for every phase.
const std::array<float, 4>* splineWeights() {
    static const auto table = [] {
        std::vector<std::array<float, 4>> rows(kPhases + 1);
        for (int phase = 0; phase <= kPhases; ++phase) {
            const double t = double(phase) / kPhases, u = 1 - t;
            rows[std::size_t(phase)] = {float(u * u * u / 6), float((3 * t * t * t - 6 * t * t + 4) / 6),
                                        float((3 * u * u * u - 6 * u * u + 4) / 6), float(t * t * t / 6)};
        }
        return rows;
    }();
    return table.data();
}

/// Into the picture: at its border's pixels, or as in a mirror.
double within(double place, int count, EdgeMode edges) {
    if (edges == EdgeMode::mirrored) {
        const double period = 2.0 * count;
        place -= period * std::floor(place / period);
        if (place > count) place = period - place;
    }
    return std::clamp(place, 0.5, count - 0.5);
}

/// The spline goes on beyond its first and last value as if mirrored on them.
Pixel readSpline(const Source& source, double x, double y, EdgeMode edges) {
    static const auto* const weights = splineWeights();
    x = within(x, source.width, edges);
    y = within(y, source.height, edges);
    const int ix = int(x - 0.5), iy = int(y - 0.5);
    if (ix > 0 && iy > 0 && ix + 2 < source.width && iy + 2 < source.height)
        return sampleAt<4>(source, x, y, weights, edges);
    const float* wx = weights[int((x - 0.5 - ix) * kPhases + 0.5)].data();
    const float* wy = weights[int((y - 0.5 - iy) * kPhases + 0.5)].data();
    const auto mirrored = [](int i, int count) {
        return std::clamp(i < 0 ? -i : i >= count ? 2 * (count - 1) - i : i, 0, count - 1);
    };
    Pixel sum{};
    for (int j = 0; j < 4; ++j)
        for (int k = 0; k < 4; ++k)
            sum += source.pixels[std::size_t(mirrored(iy - 1 + j, source.height)) * std::size_t(source.width) +
                                 std::size_t(mirrored(ix - 1 + k, source.width))] *
                   (wx[k] * wy[j]);
    return sum;
}

constexpr float kPole = -0.26794919243F;  // sqrt(3) - 2

/// The first sum of the recursion over a mirrored line of `count` values `stride` apart.
Pixel firstOf(const Pixel* line, std::size_t count, std::size_t stride) {
    Pixel sum = line[0];
    float power = kPole;
    for (std::size_t i = 1; i < std::min<std::size_t>(count, 24); ++i, power *= kPole) sum += line[i * stride] * power;
    return sum;
}

}  // namespace

void toSpline(Source& source) {
    const auto width = std::size_t(source.width), height = std::size_t(source.height);
    if (width < 2 || height < 2) return;
    parallelFor(
        height,
        [&](std::size_t y) {
            Pixel* line = source.pixels.get() + y * width;
            line[0] = firstOf(line, width, 1);
            for (std::size_t x = 1; x < width; ++x) line[x] += line[x - 1] * kPole;
            line[width - 1] = (line[width - 1] + line[width - 2] * kPole) * (kPole / (kPole * kPole - 1));
            for (std::size_t x = width - 1; x-- > 0;) line[x] = (line[x + 1] - line[x]) * kPole;
            for (std::size_t x = 0; x < width; ++x) line[x] *= 6.0F;
        },
        16);
    // Columns in stripes, so that what is read together lies together.
    constexpr std::size_t kStripe = 32;
    parallelFor((width + kStripe - 1) / kStripe, [&](std::size_t stripe) {
        const std::size_t from = stripe * kStripe, to = std::min(width, from + kStripe);
        Pixel* pixels = source.pixels.get();
        for (std::size_t x = from; x < to; ++x) pixels[x] = firstOf(pixels + x, height, width);
        for (std::size_t y = 1; y < height; ++y)
            for (std::size_t x = from; x < to; ++x) pixels[y * width + x] += pixels[(y - 1) * width + x] * kPole;
        const std::size_t last = (height - 1) * width;
        for (std::size_t x = from; x < to; ++x)
            pixels[last + x] = (pixels[last + x] + pixels[last - width + x] * kPole) * (kPole / (kPole * kPole - 1));
        for (std::size_t y = height - 1; y-- > 0;)
            for (std::size_t x = from; x < to; ++x)
                pixels[y * width + x] = (pixels[(y + 1) * width + x] - pixels[y * width + x]) * kPole;
        for (std::size_t y = 0; y < height; ++y)
            for (std::size_t x = from; x < to; ++x) pixels[y * width + x] *= 6.0F;
    });
}

double kernel(ResampleFilter filter, double x) {
    x = std::abs(x);
    switch (filter) {
        case ResampleFilter::bilinear:
            return std::max(0.0, 1 - x);
        case ResampleFilter::bicubic:
            return x < 1 ? (1.5 * x - 2.5) * x * x + 1 : x < 2 ? ((-0.5 * x + 2.5) * x - 4) * x + 2 : 0.0;
        case ResampleFilter::lanczos: {
            if (x < 1e-9) return 1;
            if (x >= 3) return 0;
            const double p = std::numbers::pi * x;
            return 3 * std::sin(p) * std::sin(p / 3) / (p * p);
        }
    }
    return 0;
}

Source sourceOf(const Picture& picture) {
    const auto width = std::size_t(picture.width);
    Source source{picture.width, picture.height,
                  std::make_unique_for_overwrite<Pixel[]>(width * std::size_t(picture.height))};
    parallelFor(
        std::size_t(picture.height),
        [&](std::size_t y) {
            if (picture.depth == Picture::Depth::bits8)
                widen(picture.bytes.data() + y * width * 3, width, source.pixels.get() + y * width);
            else widen(picture.floats.data() + y * width * 3, width, source.pixels.get() + y * width);
        },
        64);
    return source;
}

int edgeIndex(int i, int count, EdgeMode edges) {
    if (i >= 0 && i < count) return i;
    if (edges == EdgeMode::empty) return -1;
    if (edges == EdgeMode::held) return std::clamp(i, 0, count - 1);
    const int period = 2 * count;
    i = ((i % period) + period) % period;
    return i < count ? i : period - 1 - i;
}

PINION_CLONED void narrow(const Pixel* __restrict from, std::size_t count, std::uint8_t* __restrict to) {
    for (std::size_t x = 0; x < count; ++x)
        for (std::size_t c = 0; c < 3; ++c) {
            const float value = from[x][c] + 0.5F;
            to[3 * x + c] = std::uint8_t(value < 0 ? 0 : value > 255 ? 255 : int(value));
        }
}

PINION_CLONED void narrow(const Pixel* __restrict from, std::size_t count, float* __restrict to) {
    // A filter's undershoot is no light.
    for (std::size_t x = 0; x < count; ++x)
        for (std::size_t c = 0; c < 3; ++c) to[3 * x + c] = from[x][c] > 0 ? from[x][c] : 0.0F;
}

Sampler::Sampler(ResampleFilter filter)
    : read_(filter == ResampleFilter::bilinear  ? read<2, ResampleFilter::bilinear>
            : filter == ResampleFilter::lanczos ? read<6, ResampleFilter::lanczos>
                                                : read<4, ResampleFilter::bicubic>) {}

Sampler Sampler::spline() {
    Sampler sampler;
    sampler.read_ = readSpline;
    return sampler;
}

}  // namespace pinion::resampling
