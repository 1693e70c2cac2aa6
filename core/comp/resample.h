#pragma once

// How pictures are read between their pixels; shared by the homographies of warp.cpp and the lenses of bend.cpp, and
// included by their sources alone.

#include "comp/warp.h"

#include <cmath>
#include <array>
#include <memory>
#include <vector>

namespace pinion::resampling {

/// Four floats that are computed with at once: red, green, blue and a spare.
typedef float Pixel __attribute__((vector_size(16)));  // NOLINT: the attribute wants a typedef

constexpr int kPhases = 2048;  // steps between two pixels: the place is off by a four-thousandth of a pixel at most

struct Source {
    int width;
    int height;
    std::unique_ptr<Pixel[]> pixels;
};
Source sourceOf(const Picture& picture);

/// Replaces the pixels by the coefficients of the cubic spline that runs through them (Unser 1999). On all threads.
void toSpline(Source& source);

void narrow(const Pixel* from, std::size_t count, std::uint8_t* to);
/// A filter's undershoot is no light.
void narrow(const Pixel* from, std::size_t count, float* to);

double kernel(ResampleFilter filter, double x);

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

/// The index beyond the border; -1 where there is nothing.
int edgeIndex(int i, int count, EdgeMode edges);

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

/// The picture at a place (pixels from the outer corner of the first), through `Taps` x `Taps` pixels about it.
template <int Taps>
inline __attribute__((always_inline)) Pixel sampleAt(const Source& source, double x, double y,
                                                     const std::array<float, Taps>* weights, EdgeMode edges) {
    x -= 0.5;
    y -= 0.5;
    // Far away everything is border; and an int has to hold the index.
    if (!(std::abs(x) < 1e6 && std::abs(y) < 1e6)) return Pixel{};
    const int ix = int(x) - (x < 0 && x != double(int(x)) ? 1 : 0);
    const int iy = int(y) - (y < 0 && y != double(int(y)) ? 1 : 0);
    const float* wx = weights[int((x - ix) * kPhases + 0.5)].data();
    const float* wy = weights[int((y - iy) * kPhases + 0.5)].data();
    const int left = ix - (Taps / 2 - 1), top = iy - (Taps / 2 - 1);
    if (left < 0 || top < 0 || left + Taps > source.width || top + Taps > source.height)
        return sampleAtEdge<Taps>(source, left, top, wx, wy, edges);
    const std::ptrdiff_t stride = source.width;
    const Pixel* row = source.pixels.get() + top * stride + left;
    Pixel sum{};
    for (int j = 0; j < Taps; ++j, row += stride) {
        Pixel across = row[0] * wx[0];
        for (int k = 1; k < Taps; ++k) across += row[k] * wx[k];
        sum += across * wy[j];
    }
    return sum;
}

/// Reads single places with one of the filters.
class Sampler {
public:
    explicit Sampler(ResampleFilter filter);
    /// The cubic B-spline, for a source whose pixels are its coefficients.
    static Sampler spline();
    Pixel operator()(const Source& source, double x, double y, EdgeMode edges) const {
        return read_(source, x, y, edges);
    }

private:
    Sampler() = default;
    Pixel (*read_)(const Source&, double, double, EdgeMode);
};

}  // namespace pinion::resampling
