#include "comp/warp.h"

#include "base/cloned.h"
#include "base/parallel.h"
#include "base/words.h"

#include <Eigen/Core>
#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
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

/// The weights of the taps for every phase, each set adding up to one.
template <int Taps>
const std::vector<std::array<float, Taps>>& weightsOf(ResampleFilter filter) {
    static const auto table = [filter] {
        std::vector<std::array<float, Taps>> rows(kPhases + 1);
        for (int phase = 0; phase <= kPhases; ++phase) {
            double sum = 0;
            std::array<double, Taps> row;
            for (int k = 0; k < Taps; ++k)
                sum += row[std::size_t(k)] = kernel(filter, k - (Taps / 2 - 1) - double(phase) / kPhases);
            for (int k = 0; k < Taps; ++k) rows[std::size_t(phase)][std::size_t(k)] = float(row[std::size_t(k)] / sum);
        }
        return rows;
    }();
    return table;
}

struct Source {
    int width;
    int height;
    std::unique_ptr<Pixel[]> pixels;
};

PINION_CLONED void widen(const std::uint8_t* __restrict from, std::size_t count, Pixel* __restrict to) {
    for (std::size_t x = 0; x < count; ++x)
        to[x] = Pixel{float(from[3 * x]), float(from[3 * x + 1]), float(from[3 * x + 2]), 0};
}

PINION_CLONED void widen(const float* __restrict from, std::size_t count, Pixel* __restrict to) {
    for (std::size_t x = 0; x < count; ++x) to[x] = Pixel{from[3 * x], from[3 * x + 1], from[3 * x + 2], 0};
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

/// The index beyond the border; -1 where there is nothing.
int edgeIndex(int i, int count, EdgeMode edges) {
    if (i >= 0 && i < count) return i;
    if (edges == EdgeMode::empty) return -1;
    if (edges == EdgeMode::held) return std::clamp(i, 0, count - 1);
    const int period = 2 * count;
    i = ((i % period) + period) % period;
    return i < count ? i : period - 1 - i;
}

/// Near the border, where some of the taps lie outside.
template <int Taps>
Pixel sampleAtEdge(const Source& source, int left, int top, const float* wx, const float* wy, EdgeMode edges) {
    Pixel sum{};
    for (int j = 0; j < Taps; ++j) {
        const int row = edgeIndex(top + j, source.height, edges);
        if (row < 0) continue;
        for (int k = 0; k < Taps; ++k) {
            const int column = edgeIndex(left + k, source.width, edges);
            if (column >= 0)
                sum +=
                    source.pixels[std::size_t(row) * std::size_t(source.width) + std::size_t(column)] * (wx[k] * wy[j]);
        }
    }
    return sum;
}

/// One row of the output, as pixels.
template <int Taps>
inline __attribute__((always_inline)) void sampleRow(const Source& source, const double* m, double v, int width,
                                                     const std::array<float, Taps>* weights, EdgeMode edges,
                                                     Pixel* out) {
    const bool straight = m[6] == 0 && m[7] == 0 && m[8] == 1;
    const Pixel* pixels = source.pixels.get();
    const std::ptrdiff_t stride = source.width;
    for (int column = 0; column < width; ++column) {
        const double u = column + 0.5;
        double x = m[0] * u + m[1] * v + m[2];
        double y = m[3] * u + m[4] * v + m[5];
        if (!straight) {
            const double w = m[6] * u + m[7] * v + m[8];
            x = w > 1e-9 ? x / w : 1e9;
            y = w > 1e-9 ? y / w : 1e9;
        }
        x -= 0.5;
        y -= 0.5;
        // Far away everything is border; and an int has to hold the index.
        if (!(std::abs(x) < 1e6 && std::abs(y) < 1e6)) {
            out[column] = Pixel{};
            continue;
        }
        const int ix = int(x) - (x < 0 && x != double(int(x)) ? 1 : 0);
        const int iy = int(y) - (y < 0 && y != double(int(y)) ? 1 : 0);
        const float* wx = weights[int((x - ix) * kPhases + 0.5)].data();
        const float* wy = weights[int((y - iy) * kPhases + 0.5)].data();
        const int left = ix - (Taps / 2 - 1), top = iy - (Taps / 2 - 1);
        if (left < 0 || top < 0 || left + Taps > source.width || top + Taps > source.height) {
            out[column] = sampleAtEdge<Taps>(source, left, top, wx, wy, edges);
            continue;
        }
        const Pixel* row = pixels + top * stride + left;
        Pixel sum{};
        for (int j = 0; j < Taps; ++j, row += stride) {
            Pixel across = row[0] * wx[0];
            for (int k = 1; k < Taps; ++k) across += row[k] * wx[k];
            sum += across * wy[j];
        }
        out[column] = sum;
    }
}

PINION_CLONED void sampleRow2(const Source& source, const double* m, double v, int width,
                              const std::array<float, 2>* weights, EdgeMode edges, Pixel* out) {
    sampleRow<2>(source, m, v, width, weights, edges, out);
}
PINION_CLONED void sampleRow4(const Source& source, const double* m, double v, int width,
                              const std::array<float, 4>* weights, EdgeMode edges, Pixel* out) {
    sampleRow<4>(source, m, v, width, weights, edges, out);
}
PINION_CLONED void sampleRow6(const Source& source, const double* m, double v, int width,
                              const std::array<float, 6>* weights, EdgeMode edges, Pixel* out) {
    sampleRow<6>(source, m, v, width, weights, edges, out);
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

template <int Taps, class Row>
void warpInto(const Source& source, const Eigen::Matrix3d& sourceFromOutput, ResampleFilter filter, EdgeMode edges,
              Picture& out, Row&& sampleOne) {
    const auto* weights = weightsOf<Taps>(filter).data();
    const Eigen::Matrix<double, 3, 3, Eigen::RowMajor> m = sourceFromOutput;
    const auto width = std::size_t(out.width);
    parallelFor(
        std::size_t(out.height),
        [&](std::size_t row) {
            static thread_local std::vector<Pixel> line;
            line.resize(width);
            sampleOne(source, m.data(), double(row) + 0.5, out.width, weights, edges, line.data());
            if (out.depth == Picture::Depth::bits8) narrow(line.data(), width, out.bytes.data() + row * width * 3);
            else narrow(line.data(), width, out.floats.data() + row * width * 3);
        },
        16);
}

}  // namespace

std::string_view toString(ResampleFilter filter) { return kFilters[std::size_t(filter)]; }

std::optional<ResampleFilter> resampleFilterFrom(std::string_view word) {
    return fromWord<ResampleFilter>(kFilters, word);
}

std::string_view toString(EdgeMode edges) { return kEdges[std::size_t(edges)]; }

std::optional<EdgeMode> edgeModeFrom(std::string_view word) { return fromWord<EdgeMode>(kEdges, word); }

Picture warped(const Picture& source, const Eigen::Matrix3d& sourceFromOutput, ResampleFilter filter, EdgeMode edges) {
    Picture out{source.width, source.height, source.depth, source.linear, {}, {}};
    const std::size_t count = std::size_t(source.width) * std::size_t(source.height) * 3;
    if (source.depth == Picture::Depth::bits8) out.bytes.resize(count);
    else out.floats.resize(count);
    const Source from = sourceOf(source);
    switch (filter) {
        case ResampleFilter::bilinear:
            warpInto<2>(from, sourceFromOutput, filter, edges, out, sampleRow2);
            break;
        case ResampleFilter::bicubic:
            warpInto<4>(from, sourceFromOutput, filter, edges, out, sampleRow4);
            break;
        case ResampleFilter::lanczos:
            warpInto<6>(from, sourceFromOutput, filter, edges, out, sampleRow6);
            break;
    }
    return out;
}

}  // namespace pinion
