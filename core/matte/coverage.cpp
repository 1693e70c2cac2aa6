#include "matte/coverage.h"

#include <algorithm>
#include <cairo/cairo.h>
#include <cmath>
#include <memory>
#include <numbers>
#include <optional>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr int kMostCairo = 32767;     // pixels across and down
constexpr double kFarthest_px = 1e5;  // its places are fixed-point numbers

/// What is far outside moves to where it does the same within the frame, nearly.
Polygon nearby(Polygon outline) {
    for (Vector2d& p : outline)
        p = p.cwiseMax(Vector2d::Constant(-kFarthest_px)).cwiseMin(Vector2d::Constant(kFarthest_px));
    return outline;
}

/// Exact areas along the edges. Cairo knows them across, and in fifteen steps down: pixels drawn four times as high
/// make sixty of them. None where it has no room for the frame.
std::optional<Plane> sharp(const Polygon& outline, int width, int height) {
    Plane plane(width, height);
    if (outline.size() < 3) return plane;
    const int high = 4 * height <= kMostCairo ? 4 : 1;
    using Surface = std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)>;
    using Context = std::unique_ptr<cairo_t, decltype(&cairo_destroy)>;
    const Surface surface(cairo_image_surface_create(CAIRO_FORMAT_A8, width, high * height), &cairo_surface_destroy);
    if (cairo_surface_status(surface.get()) != CAIRO_STATUS_SUCCESS) return std::nullopt;
    const Context context(cairo_create(surface.get()), &cairo_destroy);
    cairo_set_antialias(context.get(), CAIRO_ANTIALIAS_BEST);
    cairo_set_fill_rule(context.get(), CAIRO_FILL_RULE_EVEN_ODD);
    cairo_set_tolerance(context.get(), 0.01);
    for (const Vector2d& p : outline) cairo_line_to(context.get(), p.x(), high * p.y());
    cairo_close_path(context.get());
    cairo_fill(context.get());
    cairo_surface_flush(surface.get());
    const unsigned char* bytes = cairo_image_surface_get_data(surface.get());
    const int stride = cairo_image_surface_get_stride(surface.get());
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            int sum = 0;
            for (int k = 0; k < high; ++k) sum += bytes[std::ptrdiff_t(high * y + k) * stride + x];
            plane.row(y)[x] = float(sum) / float(255 * high);
        }
    return plane;
}

/// The distance from the outline of each pixel's centre, above 0 inside; exact within `reach` of it, beyond that
/// `reach`.
Plane depths(const Polygon& outline, int width, int height, double reach) {
    Plane depth(width, height, float(reach));
    for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
        const Vector2d &from = outline[j], along = outline[i] - outline[j];
        const double length2 = along.squaredNorm();
        const auto first = [&](double a, double b) { return int(std::floor(std::min(a, b) - reach - 0.5)); };
        const auto last = [&](double a, double b) { return int(std::ceil(std::max(a, b) + reach + 0.5)); };
        const int x0 = std::max(0, first(from.x(), outline[i].x())), y0 = std::max(0, first(from.y(), outline[i].y()));
        const int x1 = std::min(width, last(from.x(), outline[i].x()));
        const int y1 = std::min(height, last(from.y(), outline[i].y()));
        for (int y = y0; y < y1; ++y)
            for (int x = x0; x < x1; ++x) {
                const Vector2d to = Vector2d(x + 0.5, y + 0.5) - from;
                const double share = length2 > 0 ? std::clamp(to.dot(along) / length2, 0.0, 1.0) : 0.0;
                depth.row(y)[x] = std::min(depth.row(y)[x], float((to - share * along).norm()));
            }
    }
    // Inside or outside, row by row: where the outline is crossed.
    std::vector<double> crossings;
    for (int y = 0; y < height; ++y) {
        crossings.clear();
        const double at = y + 0.5;
        for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
            const Vector2d &a = outline[i], &b = outline[j];
            if ((a.y() > at) != (b.y() > at))
                crossings.push_back((b.x() - a.x()) * (at - a.y()) / (b.y() - a.y()) + a.x());
        }
        std::sort(crossings.begin(), crossings.end());
        std::size_t passed = 0;
        for (int x = 0; x < width; ++x) {
            while (passed < crossings.size() && crossings[passed] <= x + 0.5) ++passed;
            if (passed % 2 == 0) depth.row(y)[x] = -depth.row(y)[x];
        }
    }
    return depth;
}

/// From 0 to 1 without a kink at either end.
float eased(double share) { return float(0.5 - 0.5 * std::cos(std::numbers::pi * std::clamp(share, 0.0, 1.0))); }

}  // namespace

Plane coverageOf(const Matte& matte, int frame, int width, int height) {
    const Polygon outline = nearby(outlineAt(matte, frame));
    std::optional<Plane> exact;
    if (outline.size() < 3 || (matte.feather_px == 0 && matte.grow_px == 0)) exact = sharp(outline, width, height);
    Plane plane = exact ? std::move(*exact)
                        : depths(outline, width, height, std::abs(matte.feather_px) + std::abs(matte.grow_px) + 1);
    if (!exact) {
        const double feather = matte.feather_px;
        for (float& value : plane.values) {
            const double depth = value + matte.grow_px;
            value = feather > 0   ? eased((depth + feather) / feather)
                    : feather < 0 ? eased(depth / -feather)
                                  : float(std::clamp(depth + 0.5, 0.0, 1.0));
        }
    }
    if (matte.invert)
        for (float& value : plane.values) value = 1 - value;
    return plane;
}

Plane coverageOf(std::span<const Matte> mattes, int frame, int width, int height) {
    Plane all(width, height);
    for (const Matte& matte : mattes) {
        const Plane own = coverageOf(matte, frame, width, height);
        for (std::size_t i = 0; i < own.values.size(); ++i) {
            float& held = all.values[i];
            held = matte.op == Matte::Op::add        ? std::max(held, own.values[i])
                   : matte.op == Matte::Op::subtract ? held * (1 - own.values[i])
                                                     : held * own.values[i];
        }
    }
    return all;
}

}  // namespace pinion
