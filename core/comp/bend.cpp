#include "comp/bend.h"

#include "base/cloned.h"
#include "base/parallel.h"
#include "base/words.h"
#include "comp/resample.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace pinion {
namespace {

using Eigen::Vector2d;
using resampling::Pixel;
using resampling::Source;

constexpr std::array<std::string_view, 4> kBendFilters{"bilinear", "bicubic", "lanczos", "area"};
constexpr float kRim = 4;  // pixels
constexpr float kNowhere = std::numeric_limits<float>::quiet_NaN();

template <class Mapping>
LookUp tableOf(const PixelBox& out, int samples, Mapping&& mapping) {
    LookUp table{out, samples, {}};
    const std::size_t width = std::size_t(out.width()) * std::size_t(samples);
    const std::size_t height = std::size_t(out.height()) * std::size_t(samples);
    table.xy.resize(2 * width * height);
    parallelFor(
        height,
        [&](std::size_t row) {
            float* to = table.xy.data() + 2 * row * width;
            const double y = out.y0 + (double(row) + 0.5) / samples;
            for (std::size_t column = 0; column < width; ++column, to += 2) {
                const auto place = mapping(Vector2d(out.x0 + (double(column) + 0.5) / samples, y));
                to[0] = place ? float(place->x()) : kNowhere;
                to[1] = place ? float(place->y()) : kNowhere;
            }
        },
        4);
    return table;
}

/// The ellipse in the source that a pixel of the output covers: the inverse of its quadratic form.
struct Footprint {
    float a, b, c;         ///< a x^2 + 2 b x y + c y^2 is 1 on the border of two deviations
    float reachX, reachY;  ///< half of the box around it
    bool shrinks;          ///< more than about one pixel
};

Footprint footprintOf(const float* here, const float* right, const float* below) {
    const float ux = right[0] - here[0], uy = right[1] - here[1], vx = below[0] - here[0], vy = below[1] - here[1];
    // A deviation of half an output pixel; the added pixel is the source's own.
    const float xx = ux * ux + vx * vx, xy = ux * uy + vx * vy, yy = uy * uy + vy * vy;
    const float largest = 0.5F * (xx + yy + std::hypot(xx - yy, 2 * xy));
    Footprint print{};
    print.shrinks = largest > 1.21F;  // longer than 1.1 pixels
    const float sxx = 0.25F * std::max(1.0F, xx), syy = 0.25F * std::max(1.0F, yy), sxy = 0.25F * xy;
    const float determinant = std::max(1e-6F, sxx * syy - sxy * sxy);
    print.a = syy / determinant;
    print.b = -sxy / determinant;
    print.c = sxx / determinant;
    print.reachX = 2.5F * std::sqrt(sxx);
    print.reachY = 2.5F * std::sqrt(syy);
    return print;
}

Pixel byArea(const Source& source, float x, float y, const Footprint& print, EdgeMode edges) {
    Pixel sum{};
    float total = 0;
    const int x0 = int(std::floor(x - print.reachX)), x1 = int(std::ceil(x + print.reachX));
    const int y0 = int(std::floor(y - print.reachY)), y1 = int(std::ceil(y + print.reachY));
    for (int row = y0; row < y1; ++row) {
        const float dy = float(row) + 0.5F - y;
        const int sourceRow = resampling::edgeIndex(row, source.height, edges);
        for (int column = x0; column < x1; ++column) {
            const float dx = float(column) + 0.5F - x;
            const float form = print.a * dx * dx + 2 * print.b * dx * dy + print.c * dy * dy;
            if (form > 6.25F) continue;
            const float weight = std::exp(-0.5F * form);
            total += weight;
            const int sourceColumn = resampling::edgeIndex(column, source.width, edges);
            if (sourceRow < 0 || sourceColumn < 0) continue;
            sum +=
                source.pixels[std::size_t(sourceRow) * std::size_t(source.width) + std::size_t(sourceColumn)] * weight;
        }
    }
    return total > 0 ? sum * (1 / total) : sum;
}

bool isSpline(BendFilter filter) { return filter == BendFilter::bicubic || filter == BendFilter::area; }

resampling::Sampler samplerOf(BendFilter filter) {
    if (isSpline(filter)) return resampling::Sampler::spline();
    return resampling::Sampler(filter == BendFilter::lanczos ? ResampleFilter::lanczos : ResampleFilter::bilinear);
}

/// One row of the output; `line` has room for as many samples.
class BendRow {
public:
    /// `source` holds what the filter reads: coefficients for a spline; `raw` the pixels themselves.
    BendRow(const Source& source, const Source& raw, const LookUp& table, BendFilter filter, EdgeMode edges)
        : source_(source), raw_(&raw), table_(table), filter_(filter), edges_(edges), sample_(samplerOf(filter)) {}

    Pixel at(std::size_t row, std::size_t column) const {
        Pixel sum{};
        const auto n = std::size_t(table_.samples);
        const std::size_t width = std::size_t(table_.out.width()) * n;
        for (std::size_t y = row * n; y < (row + 1) * n; ++y)
            for (std::size_t x = column * n; x < (column + 1) * n; ++x) sum += one(y, x, width);
        return n == 1 ? sum : sum * (1.0F / float(n * n));
    }

private:
    Pixel one(std::size_t y, std::size_t x, std::size_t width) const {
        const float* place = &table_.xy[2 * (y * width + x)];
        if (!(std::abs(place[0]) < 1e6F && std::abs(place[1]) < 1e6F)) return Pixel{};
        // A rim beyond the border goes on as the border is: the way back reads there, and must not find black.
        EdgeMode edges = edges_;
        if (edges == EdgeMode::empty) {
            if (place[0] < -kRim || place[1] < -kRim || place[0] > float(source_.width) + kRim ||
                place[1] > float(source_.height) + kRim)
                return Pixel{};
            edges = EdgeMode::held;
        }
        if (filter_ == BendFilter::area) {
            const std::size_t rows = table_.xy.size() / (2 * width);
            const float* right = x + 1 < width ? place + 2 : place - 2;
            const float* below = y + 1 < rows ? place + 2 * width : place - 2 * width;
            const Footprint print = footprintOf(place, right, below);
            if (print.shrinks && std::isfinite(print.reachX + print.reachY) && print.reachX < 400 && print.reachY < 400)
                return byArea(*raw_, place[0], place[1], print, edges);
        }
        return sample_(source_, double(place[0]), double(place[1]), edges);
    }

    const Source& source_;
    const Source* raw_;
    const LookUp& table_;
    BendFilter filter_;
    EdgeMode edges_;
    resampling::Sampler sample_;
};

}  // namespace

std::string_view toString(BendFilter filter) { return kBendFilters[std::size_t(filter)]; }

std::optional<BendFilter> bendFilterFrom(std::string_view word) { return fromWord<BendFilter>(kBendFilters, word); }

Expected<PixelBox> undistortedBox(const Lens& lens, const Overscan& overscan) {
    PixelBox box{0, 0, lens.width, lens.height};
    if (overscan.kind == Overscan::Kind::automatic) box = undistortedBox(lens);
    if (overscan.kind == Overscan::Kind::pixels)
        box = {-overscan.pixels, -overscan.pixels, lens.width + overscan.pixels, lens.height + overscan.pixels};
    if (box.width() > 4 * lens.width || box.height() > 4 * lens.height)
        return failure(
            Fault::input,
            "the overscan would make the picture {}x{}, more than four times the frame of {}x{}; is the lens "
            "right? A smaller overscan can be given in pixels",
            box.width(), box.height(), lens.width, lens.height);
    return box;
}

LookUp lookUpBy(const PixelBox& out, int samples,
                const std::function<std::optional<Vector2d>(const Vector2d&)>& place) {
    return tableOf(out, samples, place);
}

LookUp undistorting(const Lens& lens, const PixelBox& out, int samples) {
    return tableOf(out, samples, [&](const Vector2d& p) { return plateFromUndistorted(lens, p); });
}

LookUp redistorting(const Lens& lens, const PixelBox& source, int samples) {
    return tableOf({0, 0, lens.width, lens.height}, samples, [&](const Vector2d& p) -> std::optional<Vector2d> {
        const auto straight = undistortedFromPlate(lens, p);
        if (!straight) return std::nullopt;
        return *straight - Vector2d(source.x0, source.y0);
    });
}

LookUp lookUpOf(const StMap& map, const PixelBox& source, int width, int height) {
    LookUp table{map.data, 1, std::vector<float>(map.st.size())};
    parallelFor(
        std::size_t(map.data.height()),
        [&](std::size_t row) {
            const std::size_t from = row * std::size_t(map.data.width());
            for (std::size_t i = from; i < from + std::size_t(map.data.width()); ++i) {
                const bool none = map.st[2 * i] == -1.0F && map.st[2 * i + 1] == -1.0F;
                table.xy[2 * i] = none ? kNowhere : map.st[2 * i] * float(width) - float(source.x0);
                table.xy[2 * i + 1] = none ? kNowhere : (1 - map.st[2 * i + 1]) * float(height) - float(source.y0);
            }
        },
        16);
    return table;
}

std::vector<float> roundTripError(const LookUp& out, const LookUp& back) {
    const auto width = std::size_t(back.out.width());
    std::vector<float> error(width * std::size_t(back.out.height()), kNowhere);
    const auto outWidth = std::size_t(out.out.width());
    parallelFor(
        std::size_t(back.out.height()),
        [&](std::size_t row) {
            for (std::size_t column = 0; column < width; ++column) {
                const float* straight = &back.xy[2 * (row * width + column)];
                // Those count from the corner of the undistorted picture, which is the first of `out`.
                const double u = straight[0] - 0.5, v = straight[1] - 0.5;
                if (!(u >= 0 && v >= 0 && u <= out.out.width() - 1 && v <= out.out.height() - 1)) continue;
                const auto left = std::min(std::size_t(u), outWidth - 2);
                const auto top = std::min(std::size_t(v), std::size_t(out.out.height()) - 2);
                const auto place = [&](std::size_t r, std::size_t c) {
                    const float* at = &out.xy[2 * (r * outWidth + c)];
                    return Vector2d(at[0], at[1]);
                };
                const double fx = u - double(left), fy = v - double(top);
                const Vector2d again = (1 - fy) * ((1 - fx) * place(top, left) + fx * place(top, left + 1)) +
                                       fy * ((1 - fx) * place(top + 1, left) + fx * place(top + 1, left + 1));
                error[row * width + column] = float((again - Vector2d(double(column) + 0.5, double(row) + 0.5)).norm());
            }
        },
        8);
    return error;
}

Picture bent(const Picture& source, const LookUp& table, BendFilter filter, EdgeMode edges) {
    Picture out{table.out.width(), table.out.height(), source.depth, source.linear, {}, {}};
    const std::size_t width = std::size_t(out.width);
    const std::size_t count = width * std::size_t(out.height) * 3;
    if (source.depth == Picture::Depth::bits8) out.bytes.resize(count);
    else out.floats.resize(count);
    Source from = resampling::sourceOf(source);
    Source raw{};
    if (filter == BendFilter::area) raw = resampling::sourceOf(source);
    if (isSpline(filter)) resampling::toSpline(from);
    const BendRow reader(from, raw, table, filter, edges);
    parallelFor(
        std::size_t(out.height),
        [&](std::size_t row) {
            static thread_local std::vector<Pixel> line;
            line.resize(width);
            for (std::size_t column = 0; column < width; ++column) line[column] = reader.at(row, column);
            if (out.depth == Picture::Depth::bits8)
                resampling::narrow(line.data(), width, out.bytes.data() + row * width * 3);
            else resampling::narrow(line.data(), width, out.floats.data() + row * width * 3);
        },
        8);
    return out;
}

DisplayBend::DisplayBend(const LookUp& table, int width, int height)
    : out_(table.out),
      width_(width),
      height_(height),
      at_(table.xy.size() / 2),
      across_(at_.size()),
      down_(at_.size()),
      spans_(std::size_t(out_.height())) {
    const auto columns = std::size_t(out_.width());
    parallelFor(
        spans_.size(),
        [&](std::size_t row) {
            std::vector<Span>& spans = spans_[row];
            for (std::size_t i = 0; i < columns; ++i) {
                const std::size_t k = row * columns + i;
                const float x = table.xy[2 * k], y = table.xy[2 * k + 1];
                if (!(x > -0.5F && y > -0.5F && x < float(width) + 0.5F && y < float(height) + 0.5F)) continue;
                // A barrel's border bends into the row: only its ends may have a place.
                if (spans.empty() || spans.back().end != i) spans.push_back({i, i});
                spans.back().end = i + 1;
                // The pixel at the left and above, and 256ths from there; at the border its own pixel.
                const float left = std::clamp(x - 0.5F, 0.0F, float(width) - 1.01F);
                const float top = std::clamp(y - 0.5F, 0.0F, float(height) - 1.01F);
                at_[k] = int(top) * width + int(left);
                across_[k] = std::uint8_t((left - std::floor(left)) * 256);
                down_[k] = std::uint8_t((top - std::floor(top)) * 256);
            }
        },
        32);
}

namespace {

/// Between two pixels by 256ths, two of the four bytes at a time.
inline std::uint32_t between(std::uint32_t a, std::uint32_t b, std::uint32_t share) {
    constexpr std::uint32_t kEven = 0x00FF00FF;
    const std::uint32_t even = ((a & kEven) * (256 - share) + (b & kEven) * share) >> 8;
    const std::uint32_t odd = ((a >> 8) & kEven) * (256 - share) + ((b >> 8) & kEven) * share;
    return (even & kEven) | (odd & ~kEven);
}

PINION_CLONED void bendRow(const std::uint32_t* __restrict pixels, std::ptrdiff_t stride,
                           const std::int32_t* __restrict at, const std::uint8_t* __restrict across,
                           const std::uint8_t* __restrict down, std::size_t count, std::uint32_t* __restrict out) {
    const std::uint32_t* lower = pixels + stride;
    for (std::size_t i = 0; i < count; ++i) {
        const std::int32_t k = at[i];
        out[i] =
            between(between(pixels[k], pixels[k + 1], across[i]), between(lower[k], lower[k + 1], across[i]), down[i]);
    }
}

}  // namespace

std::unique_ptr<std::uint32_t[]> DisplayBend::bent(const std::vector<std::uint32_t>& pixels) const {
    auto out = std::make_unique_for_overwrite<std::uint32_t[]>(at_.size());
    const bool fits = pixels.size() == std::size_t(width_) * std::size_t(height_);
    const auto columns = std::size_t(out_.width());
    parallelFor(
        spans_.size(),
        [&](std::size_t row) {
            std::uint32_t* line = out.get() + row * columns;
            std::size_t done = 0;
            for (const Span& span : spans_[row]) {
                if (!fits) break;
                std::fill(line + done, line + span.begin, 0U);
                const std::size_t from = row * columns + span.begin;
                bendRow(pixels.data(), width_, &at_[from], &across_[from], &down_[from], span.end - span.begin,
                        line + span.begin);
                done = span.end;
            }
            std::fill(line + done, line + columns, 0U);
        },
        32);
    return out;
}

}  // namespace pinion
