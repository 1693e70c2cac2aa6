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
struct Depths {
    Plane depth;
    Plane feather;  ///< what the nearest place of the outline adds to it; empty where nothing is added
};

Depths depths(const Polygon& outline, const std::vector<double>& feather, int width, int height, double reach) {
    Depths found{Plane(width, height, float(reach * reach)), feather.empty() ? Plane() : Plane(width, height)};
    Plane& depth = found.depth;
    for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
        const Vector2d &from = outline[j], along = outline[i] - outline[j];
        const double length2 = along.squaredNorm();
        const auto first = [&](double a, double b) { return int(std::floor(std::min(a, b) - reach - 0.5)); };
        const auto last = [&](double a, double b) { return int(std::ceil(std::max(a, b) + reach + 0.5)); };
        const int x0 = std::max(0, first(from.x(), outline[i].x())), y0 = std::max(0, first(from.y(), outline[i].y()));
        const int x1 = std::min(width, last(from.x(), outline[i].x()));
        const int y1 = std::min(height, last(from.y(), outline[i].y()));
        // In floats, and without a root until the end: this is where the time goes.
        const auto ax = float(length2 > 0 ? along.x() / length2 : 0), ay = float(length2 > 0 ? along.y() / length2 : 0);
        const auto lx = float(along.x()), ly = float(along.y());
        for (int y = y0; y < y1; ++y) {
            const auto ty = float(y + 0.5 - from.y());
            const auto tx0 = float(x0 + 0.5 - from.x());
            float* row = depth.row(y);
            if (feather.empty()) {
                for (int x = x0; x < x1; ++x) {
                    const float tx = tx0 + float(x - x0);
                    const float share = std::min(std::max(tx * ax + ty * ay, 0.0F), 1.0F);
                    const float dx = tx - share * lx, dy = ty - share * ly;
                    row[x] = std::min(row[x], dx * dx + dy * dy);
                }
                continue;
            }
            const auto f0 = float(feather[j]), f1 = float(feather[i]);
            float* added = found.feather.row(y);
            for (int x = x0; x < x1; ++x) {
                const float tx = tx0 + float(x - x0);
                const float share = std::min(std::max(tx * ax + ty * ay, 0.0F), 1.0F);
                const float dx = tx - share * lx, dy = ty - share * ly, distance2 = dx * dx + dy * dy;
                if (distance2 >= row[x]) continue;
                row[x] = distance2;
                added[x] = f0 + share * (f1 - f0);
            }
        }
    }
    for (float& value : depth.values) value = value < float(reach * reach) ? std::sqrt(value) : float(reach);
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
    return found;
}

/// From 0 to 1 without a kink at either end.
float eased(double share) {
    if (share <= 0) return 0;
    if (share >= 1) return 1;
    return float(0.5 - 0.5 * std::cos(std::numbers::pi * share));
}

/// The ramp of an edge at a depth: `feather` pixels wide, outwards or inwards; a pixel where there is none.
float ramp(double depth, double feather) {
    // Narrower than a pixel it would be sharper than pixels are.
    if (feather >= 1) return eased((depth + feather) / feather);
    if (feather <= -1) return eased(depth / -feather);
    return float(std::clamp(depth + 0.5 + 0.5 * feather, 0.0, 1.0));
}

void invert(Plane& plane) {
    for (float& value : plane.values) value = 1 - value;
}

}  // namespace

Plane coverageOf(const Matte& matte, int frame, int width, int height) {
    if (!isThere(matte, frame)) return {width, height};
    if (matte.pictures) {
        const auto picture = matte.pictures->at(frame);
        Plane plane = picture && picture->width == width && picture->height == height ? *picture : Plane(width, height);
        if (matte.invert) invert(plane);
        return plane;
    }
    const auto shape = shapeAt(matte, frame);
    const Polygon outline = shape ? nearby(flattened(*shape)) : Polygon{};
    const std::vector<double> added = shape ? flattenedFeather(*shape) : std::vector<double>{};
    std::optional<Plane> exact;
    if (outline.size() < 3 || (matte.feather_px == 0 && matte.grow_px == 0 && added.empty()))
        exact = sharp(outline, width, height);
    if (exact) {
        if (matte.invert) invert(*exact);
        return *std::move(exact);
    }
    double widest = std::abs(matte.feather_px);
    for (const double one : added) widest = std::max(widest, std::abs(matte.feather_px + one));
    Depths found = depths(outline, added, width, height, widest + std::abs(matte.grow_px) + 1);
    for (std::size_t i = 0; i < found.depth.values.size(); ++i) {
        float& value = found.depth.values[i];
        value = ramp(value + matte.grow_px, matte.feather_px + (added.empty() ? 0 : double(found.feather.values[i])));
    }
    if (matte.invert) invert(found.depth);
    return std::move(found.depth);
}

Plane coverageOf(std::span<const Matte> mattes, int frame, int width, int height) {
    Plane all(width, height);
    for (const Matte& matte : mattes) {
        if (!isThere(matte, frame) && matte.op != Matte::Op::intersect) continue;
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
