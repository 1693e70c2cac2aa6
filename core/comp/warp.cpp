#include "comp/warp.h"

#include "base/cloned.h"
#include "base/parallel.h"
#include "base/words.h"
#include "comp/resample.h"

#include <Eigen/Core>
#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <numbers>
#include <vector>

namespace pinion {
namespace {

using namespace resampling;

constexpr std::array<std::string_view, 3> kFilters{"bilinear", "bicubic", "lanczos"};
constexpr std::array<std::string_view, 3> kEdges{"empty", "held", "mirrored"};

/// One row of the output, as pixels.
template <int Taps>
inline __attribute__((always_inline)) void sampleRow(const Source& source, const double* m, double v, int width,
                                                     const std::array<float, Taps>* weights, EdgeMode edges,
                                                     Pixel* out) {
    const bool straight = m[6] == 0 && m[7] == 0 && m[8] == 1;
    for (int column = 0; column < width; ++column) {
        const double u = column + 0.5;
        double x = m[0] * u + m[1] * v + m[2];
        double y = m[3] * u + m[4] * v + m[5];
        if (!straight) {
            const double w = m[6] * u + m[7] * v + m[8];
            x = w > 1e-9 ? x / w : 1e9;
            y = w > 1e-9 ? y / w : 1e9;
        }
        out[column] = sampleAt<Taps>(source, x, y, weights, edges);
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

Picture warped(const Picture& source, const Eigen::Matrix3d& sourceFromOutput, ResampleFilter filter, EdgeMode edges,
               int width, int height) {
    Picture out{
        width > 0 ? width : source.width, height > 0 ? height : source.height, source.depth, source.linear, {}, {}};
    const std::size_t count = std::size_t(out.width) * std::size_t(out.height) * 3;
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
