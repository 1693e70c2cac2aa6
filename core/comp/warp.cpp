#include "comp/warp.h"

#include "base/parallel.h"

#include <Eigen/Core>
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <vector>

namespace pinion {
namespace {

constexpr std::array<std::string_view, 3> kFilters{"bilinear", "bicubic", "lanczos"};
constexpr std::array<std::string_view, 3> kEdges{"empty", "held", "mirrored"};

/// Four floats that are computed with at once: red, green, blue and a spare.
typedef float Pixel __attribute__((vector_size(16)));  // NOLINT: the attribute wants a typedef

constexpr int kPhases = 2048;  // steps between two pixels: the place is off by a four-thousandth of a pixel at most

double kernel(ResampleFilter filter, double x) {
    x = std::abs(x);
    switch (filter) {
        case ResampleFilter::bilinear: return std::max(0.0, 1 - x);
        case ResampleFilter::bicubic: return x < 1 ? (1.5 * x - 2.5) * x * x + 1 : x < 2 ? ((-0.5 * x + 2.5) * x - 4) * x + 2 : 0.0;
        case ResampleFilter::lanczos: {
            if (x < 1e-9) return 1;
            if (x >= 3) return 0;
            const double p = std::numbers::pi * x;
            return 3 * std::sin(p) * std::sin(p / 3) / (p * p);
        }
    }
    return 0;
}

/// The weights of the taps for every phase, each set adding up to one.
template <int Taps>
const std::vector<std::array<float, Taps>>& weightsOf(ResampleFilter filter) {
    static const auto table = [filter] {
        std::vector<std::array<float, Taps>> rows(kPhases + 1);
        for (int phase = 0; phase <= kPhases; ++phase) {
            double sum = 0;
            std::array<double, Taps> row;
            for (int k = 0; k < Taps; ++k) sum += row[std::size_t(k)] = kernel(filter, k - (Taps / 2 - 1) - double(phase) / kPhases);
            for (int k = 0; k < Taps; ++k) rows[std::size_t(phase)][std::size_t(k)] = float(row[std::size_t(k)] / sum);
        }
        return rows;
    }();
    return table;
}

struct Source {
    int width;
    int height;
    std::vector<Pixel> pixels;
};

Source sourceOf(const Picture& picture) {
    Source source{picture.width, picture.height, std::vector<Pixel>(std::size_t(picture.width) * std::size_t(picture.height))};
    const auto width = std::size_t(picture.width);
    parallelFor(std::size_t(picture.height), [&](std::size_t y) {
        Pixel* row = source.pixels.data() + y * width;
        if (picture.depth == Picture::Depth::bits8) {
            const std::uint8_t* from = picture.bytes.data() + y * width * 3;
            for (std::size_t x = 0; x < width; ++x) row[x] = Pixel{float(from[3 * x]), float(from[3 * x + 1]), float(from[3 * x + 2]), 0};
        } else {
            const float* from = picture.floats.data() + y * width * 3;
            for (std::size_t x = 0; x < width; ++x) row[x] = Pixel{from[3 * x], from[3 * x + 1], from[3 * x + 2], 0};
        }
    }, 32);
    return source;
}

/// The index beyond the border; -1 where there is nothing.
int edgeIndex(int i, int count, EdgeMode edges) {
    if (i >= 0 && i < count) return i;
    if (edges == EdgeMode::empty) return -1;
    if (edges == EdgeMode::held) return std::clamp(i, 0, count - 1);
    const int period = 2 * count;
    i = ((i % period) + period) % period;
    return i < count ? i : period - 1 - i;
}

template <int Taps>
Pixel sample(const Source& source, double x, double y, const std::vector<std::array<float, Taps>>& weights, EdgeMode edges) {
    // Far away everything is border; and an int has to hold the index.
    if (!(std::abs(x) < 1e6 && std::abs(y) < 1e6)) return Pixel{};
    const double fx = std::floor(x), fy = std::floor(y);
    const auto& wx = weights[std::size_t((x - fx) * kPhases + 0.5)];
    const auto& wy = weights[std::size_t((y - fy) * kPhases + 0.5)];
    const int left = int(fx) - (Taps / 2 - 1), top = int(fy) - (Taps / 2 - 1);
    Pixel sum{};
    if (left >= 0 && top >= 0 && left + Taps <= source.width && top + Taps <= source.height) {
        const Pixel* row = source.pixels.data() + std::size_t(top) * std::size_t(source.width) + std::size_t(left);
        for (int j = 0; j < Taps; ++j, row += source.width) {
            Pixel across = row[0] * wx[0];
            for (int k = 1; k < Taps; ++k) across += row[k] * wx[std::size_t(k)];
            sum += across * wy[std::size_t(j)];
        }
        return sum;
    }
    for (int j = 0; j < Taps; ++j) {
        const int row = edgeIndex(top + j, source.height, edges);
        if (row < 0) continue;
        for (int k = 0; k < Taps; ++k) {
            const int column = edgeIndex(left + k, source.width, edges);
            if (column >= 0) sum += source.pixels[std::size_t(row) * std::size_t(source.width) + std::size_t(column)] * (wx[std::size_t(k)] * wy[std::size_t(j)]);
        }
    }
    return sum;
}

template <int Taps>
void warpInto(const Source& source, const Eigen::Matrix3d& m, ResampleFilter filter, EdgeMode edges, Picture& out) {
    const auto& weights = weightsOf<Taps>(filter);
    const bool straight = m(2, 0) == 0 && m(2, 1) == 0;
    parallelFor(std::size_t(out.height), [&](std::size_t row) {
        const double v = double(row) + 0.5;
        for (int column = 0; column < out.width; ++column) {
            const double u = column + 0.5;
            double x = m(0, 0) * u + m(0, 1) * v + m(0, 2);
            double y = m(1, 0) * u + m(1, 1) * v + m(1, 2);
            const double w = m(2, 0) * u + m(2, 1) * v + m(2, 2);
            if (!straight || w != 1) {
                x = w > 1e-9 ? x / w : 1e9;
                y = w > 1e-9 ? y / w : 1e9;
            }
            const Pixel value = sample<Taps>(source, x - 0.5, y - 0.5, weights, edges);
            const std::size_t index = (row * std::size_t(out.width) + std::size_t(column)) * 3;
            for (std::size_t c = 0; c < 3; ++c) {
                if (out.depth == Picture::Depth::bits8) out.bytes[index + c] = std::uint8_t(std::clamp(value[c] + 0.5F, 0.0F, 255.0F));
                else out.floats[index + c] = std::max(0.0F, value[c]);  // a filter's undershoot is no light
            }
        }
    }, 8);
}

}  // namespace

std::string_view toString(ResampleFilter filter) { return kFilters[std::size_t(filter)]; }

std::optional<ResampleFilter> resampleFilterFrom(std::string_view word) {
    for (std::size_t i = 0; i < kFilters.size(); ++i)
        if (kFilters[i] == word) return ResampleFilter(i);
    return std::nullopt;
}

std::string_view toString(EdgeMode edges) { return kEdges[std::size_t(edges)]; }

std::optional<EdgeMode> edgeModeFrom(std::string_view word) {
    for (std::size_t i = 0; i < kEdges.size(); ++i)
        if (kEdges[i] == word) return EdgeMode(i);
    return std::nullopt;
}

Picture warped(const Picture& source, const Eigen::Matrix3d& sourceFromOutput, ResampleFilter filter, EdgeMode edges) {
    Picture out{source.width, source.height, source.depth, source.linear, {}, {}};
    const std::size_t count = std::size_t(source.width) * std::size_t(source.height) * 3;
    if (source.depth == Picture::Depth::bits8) out.bytes.resize(count);
    else out.floats.resize(count);
    const Source from = sourceOf(source);
    switch (filter) {
        case ResampleFilter::bilinear: warpInto<2>(from, sourceFromOutput, filter, edges, out); break;
        case ResampleFilter::bicubic: warpInto<4>(from, sourceFromOutput, filter, edges, out); break;
        case ResampleFilter::lanczos: warpInto<6>(from, sourceFromOutput, filter, edges, out); break;
    }
    return out;
}

}  // namespace pinion
