#include "matte/coverage.h"

#include "base/parallel.h"

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

constexpr double kMostWork = 2e9;  // points by pixels of a feather: a second or two
constexpr double kFinest = 100;    // steps that a feather keeps

/// What is far outside moves to where it does the same within the frame, nearly.
Polygon nearby(Polygon outline) {
    for (Vector2d& p : outline)
        p = p.cwiseMax(Vector2d::Constant(-kFarthest_px)).cwiseMin(Vector2d::Constant(kFarthest_px));
    return outline;
}

/// The pixels from (x0, y0) up to but not (x1, y1).
struct Box {
    int x0 = 0, y0 = 0, x1 = 0, y1 = 0;
    int width() const { return x1 - x0; }
    int height() const { return y1 - y0; }
    bool isEmpty() const { return x1 <= x0 || y1 <= y0; }
};

Box boxOf(const Polygon& outline, double reach, int width, int height) {
    if (outline.size() < 3) return {};
    Vector2d low = outline.front(), high = outline.front();
    for (const Vector2d& p : outline) {
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    return {std::clamp(int(std::floor(low.x() - reach)), 0, width),
            std::clamp(int(std::floor(low.y() - reach)), 0, height),
            std::clamp(int(std::ceil(high.x() + reach)), 0, width),
            std::clamp(int(std::ceil(high.y() + reach)), 0, height)};
}

/// Exact areas along the edges, of the pixels in a box. Cairo knows them across, and in fifteen steps down: pixels
/// drawn four times as high make sixty of them. None where it has no room for the box.
std::optional<ImageChannel> sharp(const Polygon& outline, const Box& box) {
    ImageChannel plane(box.width(), box.height());
    const int high = 4 * box.height() <= kMostCairo ? 4 : 1;
    using Surface = std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)>;
    using Context = std::unique_ptr<cairo_t, decltype(&cairo_destroy)>;
    const Surface surface(cairo_image_surface_create(CAIRO_FORMAT_A8, box.width(), high * box.height()),
                          &cairo_surface_destroy);
    if (cairo_surface_status(surface.get()) != CAIRO_STATUS_SUCCESS) return std::nullopt;
    const Context context(cairo_create(surface.get()), &cairo_destroy);
    cairo_set_antialias(context.get(), CAIRO_ANTIALIAS_BEST);
    cairo_set_fill_rule(context.get(), CAIRO_FILL_RULE_EVEN_ODD);
    cairo_set_tolerance(context.get(), 0.01);
    for (const Vector2d& p : outline) cairo_line_to(context.get(), p.x() - box.x0, high * (p.y() - box.y0));
    cairo_close_path(context.get());
    cairo_fill(context.get());
    cairo_surface_flush(surface.get());
    const unsigned char* bytes = cairo_image_surface_get_data(surface.get());
    const int stride = cairo_image_surface_get_stride(surface.get());
    const float scale = 1.0F / float(255 * high);
    for (int y = 0; y < box.height(); ++y) {
        float* row = plane.row(y);
        for (int k = 0; k < high; ++k) {
            const unsigned char* line = bytes + std::ptrdiff_t(high * y + k) * stride;
            for (int x = 0; x < box.width(); ++x) row[x] += float(line[x]);
        }
        for (int x = 0; x < box.width(); ++x) row[x] *= scale;
    }
    return plane;
}

/// From 0 to 1 without a kink at either end.
float eased(float share) {
    if (share <= 0) return 0;
    if (share >= 1) return 1;
    return 0.5F - 0.5F * std::cos(std::numbers::pi_v<float> * share);
}

/// The ramp of an edge at a depth: `feather` pixels wide, outwards or inwards; a pixel where there is none.
float ramp(float depth, float feather) {
    // Narrower than a pixel it would be sharper than pixels are.
    if (feather >= 1) return eased((depth + feather) / feather);
    if (feather <= -1) return eased(depth / -feather);
    return std::clamp(depth + 0.5F + 0.5F * feather, 0.0F, 1.0F);
}

/// An outline whose edge fades by the distance from it, of the pixels in a box.
class Fading {
public:
    Fading(const Polygon& outline, std::vector<double> added, double feather, double grow, double reach, const Box& box)
        : outline_(outline),
          added_(std::move(added)),
          feather_(float(feather)),
          grow_(float(grow)),
          reach_(reach),
          box_(box) {}

    ImageChannel plane() const {
        ImageChannel plane(box_.width(), box_.height());
        parallelFor(
            std::size_t(box_.height()), [&](std::size_t y) { fill(int(y), plane.row(int(y))); }, 16);
        return plane;
    }

private:
    void fill(int y, float* row) const {
        const double at = box_.y0 + y + 0.5;
        const auto farthest = float(reach_ * reach_);
        std::fill(row, row + box_.width(), farthest);
        std::vector<float> feathers(added_.empty() ? 0 : std::size_t(box_.width()));
        std::vector<double> crossings;
        for (std::size_t i = 0, j = outline_.size() - 1; i < outline_.size(); j = i++) {
            const Vector2d &a = outline_[j], &b = outline_[i];
            if (std::min(a.y(), b.y()) - reach_ > at || std::max(a.y(), b.y()) + reach_ < at) continue;
            if ((a.y() > at) != (b.y() > at))
                crossings.push_back((b.x() - a.x()) * (at - a.y()) / (b.y() - a.y()) + a.x());
            near(at, i, j, row, feathers);
        }
        std::sort(crossings.begin(), crossings.end());
        std::size_t passed = 0;
        for (int x = 0; x < box_.width(); ++x) {
            while (passed < crossings.size() && crossings[passed] <= box_.x0 + x + 0.5) ++passed;
            const float distance = std::sqrt(row[x]);
            row[x] = ramp((passed % 2 == 0 ? -distance : distance) + grow_,
                          feather_ + (feathers.empty() ? 0.0F : feathers[std::size_t(x)]));
        }
    }
    /// The squared distances from one edge, where they are the least. In floats and without branches: this is where the
    /// time goes.
    void near(double at, std::size_t i, std::size_t j, float* row, std::vector<float>& feathers) const {
        const Vector2d &from = outline_[j], along = outline_[i] - outline_[j];
        const double length2 = along.squaredNorm();
        const double left = std::min(from.x(), outline_[i].x()) - reach_,
                     right = std::max(from.x(), outline_[i].x()) + reach_;
        const int x0 = std::max(0, int(std::floor(left - box_.x0 - 0.5)));
        const int x1 = std::min(box_.width(), int(std::ceil(right - box_.x0 + 0.5)));
        const auto ax = float(length2 > 0 ? along.x() / length2 : 0), ay = float(length2 > 0 ? along.y() / length2 : 0);
        const auto lx = float(along.x()), ly = float(along.y()), ty = float(at - from.y());
        const auto start = float(box_.x0 + 0.5 - from.x());
        if (feathers.empty()) {
            for (int x = x0; x < x1; ++x) {
                const float tx = start + float(x);
                const float share = std::min(std::max(tx * ax + ty * ay, 0.0F), 1.0F);
                const float dx = tx - share * lx, dy = ty - share * ly;
                row[x] = std::min(row[x], dx * dx + dy * dy);
            }
            return;
        }
        const auto f0 = float(added_[j]), f1 = float(added_[i]);
        for (int x = x0; x < x1; ++x) {
            const float tx = start + float(x);
            const float share = std::min(std::max(tx * ax + ty * ay, 0.0F), 1.0F);
            const float dx = tx - share * lx, dy = ty - share * ly, distance2 = dx * dx + dy * dy;
            if (distance2 >= row[x]) continue;
            row[x] = distance2;
            feathers[std::size_t(x)] = f0 + share * (f1 - f0);
        }
    }

    const Polygon& outline_;
    std::vector<double> added_;
    float feather_, grow_;
    double reach_;
    Box box_;
};

/// What a shape covers within a box; beyond it nothing. Not yet turned round.
struct Covered {
    Box box;
    ImageChannel plane;
};

/// A plane of every `step`th pixel, read between its own pixels.
ImageChannel enlarged(const ImageChannel& small, const Box& coarse, int step, const Box& box) {
    ImageChannel plane(box.width(), box.height());
    parallelFor(std::size_t(box.height()), [&](std::size_t line) {
        const double v = (box.y0 + double(line) + 0.5) / step - 0.5 - coarse.y0;
        const int y = std::clamp(int(std::floor(v)), 0, small.height - 2);
        const auto down = float(v - y);
        for (int i = 0; i < box.width(); ++i) {
            const double u = (box.x0 + i + 0.5) / step - 0.5 - coarse.x0;
            const int x = std::clamp(int(std::floor(u)), 0, small.width - 2);
            const auto across = float(u - x);
            const float *a = small.row(y) + x, *b = small.row(y + 1) + x;
            plane.row(int(line))[i] =
                (1 - down) * ((1 - across) * a[0] + across * a[1]) + down * ((1 - across) * b[0] + across * b[1]);
        }
    });
    return plane;
}

Covered coveredBy(const Matte& matte, int frame, int width, int height) {
    if (!isThere(matte, frame)) return {};
    if (matte.pictures) {
        const auto picture = matte.pictures->at(frame);
        if (!picture || picture->width != width || picture->height != height) return {};
        return {{0, 0, width, height}, *picture};
    }
    const auto shape = shapeAt(matte, frame);
    if (!shape) return {};
    const Polygon outline = nearby(flattened(*shape));
    std::vector<double> added = flattenedFeather(*shape);
    double widest = std::abs(matte.feather_px);
    for (const double one : added) widest = std::max(widest, std::abs(matte.feather_px + one));
    const double reach = widest + std::abs(matte.grow_px) + 1;
    const Box box = boxOf(outline, reach, width, height);
    if (box.isEmpty()) return {};
    if (matte.feather_px == 0 && matte.grow_px == 0 && added.empty())
        if (auto exact = sharp(outline, box)) return {box, *std::move(exact)};
    // A wide feather of very many points is as good when it is worked out at every second or third pixel.
    const double cost = double(outline.size()) * box.width() * box.height();
    const int step = std::min(int(std::ceil(std::sqrt(cost / kMostWork))), int(reach / kFinest));
    if (step < 2) return {box, Fading(outline, std::move(added), matte.feather_px, matte.grow_px, reach, box).plane()};
    Polygon small = outline;
    for (Vector2d& p : small) p /= step;
    for (double& one : added) one /= step;
    const Box coarse{box.x0 / step - 1, box.y0 / step - 1, box.x1 / step + 2, box.y1 / step + 2};
    const ImageChannel plane =
        Fading(small, std::move(added), matte.feather_px / step, matte.grow_px / step, reach / step, coarse).plane();
    return {box, enlarged(plane, coarse, step, box)};
}

}  // namespace

ImageChannel coverageOf(const Matte& matte, int frame, int width, int height) {
    const Covered own = coveredBy(matte, frame, width, height);
    const bool turned = matte.invert && isThere(matte, frame);
    ImageChannel plane(width, height, turned ? 1.0F : 0.0F);
    for (int y = own.box.y0; y < own.box.y1; ++y) {
        const float* from = own.plane.row(y - own.box.y0);
        float* to = plane.row(y);
        for (int x = own.box.x0; x < own.box.x1; ++x) to[x] = turned ? 1 - from[x - own.box.x0] : from[x - own.box.x0];
    }
    return plane;
}

ImageChannel coverageOf(std::span<const Matte> mattes, int frame, int width, int height) {
    ImageChannel all(width, height);
    for (const Matte& matte : mattes) {
        const bool there = isThere(matte, frame);
        if (!there && matte.op != Matte::Op::intersect) continue;
        // What is turned round, or cuts, says something of every pixel.
        if (matte.invert || matte.op == Matte::Op::intersect) {
            const ImageChannel own = coverageOf(matte, frame, width, height);
            for (std::size_t i = 0; i < own.values.size(); ++i) {
                float& held = all.values[i];
                held = matte.op == Matte::Op::add        ? std::max(held, own.values[i])
                       : matte.op == Matte::Op::subtract ? held * (1 - own.values[i])
                                                         : held * own.values[i];
            }
            continue;
        }
        const Covered own = coveredBy(matte, frame, width, height);
        for (int y = own.box.y0; y < own.box.y1; ++y) {
            const float* from = own.plane.row(y - own.box.y0);
            float* to = all.row(y) + own.box.x0;
            for (int x = 0; x < own.box.width(); ++x)
                to[x] = matte.op == Matte::Op::add ? std::max(to[x], from[x]) : to[x] * (1 - from[x]);
        }
    }
    return all;
}

}  // namespace pinion
