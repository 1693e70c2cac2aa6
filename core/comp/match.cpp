#include "comp/match.h"

#include "matte/matte.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <opencv2/imgproc.hpp>
#include <random>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr std::size_t kLeastPixels = 300;
constexpr std::size_t kLeastEdges = 24;
constexpr double kFine = 1.0, kCoarse = 2.2;  // the two scales edges are looked at, pixels
constexpr double kMostBlur_px = 12;
constexpr double kFirstBlur_px = 0.3;  // that is tried
constexpr double kLeastBlur_px = 0.4;  // narrower a Gaussian lies within one pixel, and does nothing
constexpr double kShare = 0.02;        // of the pixels is darker, or lighter
constexpr int kEdge = 4;  // pixels beside the border that are not asked: smoothing mixes them with what is beyond

/// Colours of a rectangle of the plate, and where they are wanted.
struct Patch {
    int width = 0, height = 0;
    std::array<ImageChannel, 3> colours;
    std::vector<bool> counts;

    std::size_t counting() const { return std::size_t(std::count(counts.begin(), counts.end(), true)); }
};

ImageChannel smoothed(const ImageChannel& from, double deviation) {
    ImageChannel to(from.width, from.height);
    const cv::Mat in(from.height, from.width, CV_32F, const_cast<float*>(from.values.data()));
    cv::Mat out(to.height, to.width, CV_32F, to.values.data());
    const int size = 2 * std::max(1, reachOf(deviation)) + 1;
    cv::GaussianBlur(in, out, {size, size}, deviation, deviation, cv::BORDER_REPLICATE);
    return to;
}

ImageChannel lumaOf(const Patch& patch) {
    ImageChannel luma(patch.width, patch.height);
    for (std::size_t i = 0; i < luma.values.size(); ++i)
        luma.values[i] = 0.2126F * patch.colours[0].values[i] + 0.7152F * patch.colours[1].values[i] +
                         0.0722F * patch.colours[2].values[i];
    return luma;
}

/// The places that count and whose neighbours within `reach` all do.
std::vector<bool> innerOf(const Patch& patch, int reach) {
    ImageChannel inside(patch.width, patch.height);
    std::vector<bool> inner(patch.counts.size(), false);
    const auto at = [&](int x, int y) { return std::size_t(y) * std::size_t(patch.width) + std::size_t(x); };
    for (int y = reach; y < patch.height - reach; ++y)
        for (int x = reach; x < patch.width - reach; ++x) {
            bool all = true;
            for (const auto& [dx, dy] : {std::pair{0, 0},
                                         {-reach, -reach},
                                         {reach, -reach},
                                         {-reach, reach},
                                         {reach, reach},
                                         {-reach, 0},
                                         {reach, 0},
                                         {0, -reach},
                                         {0, reach}})
                all = all && patch.counts[at(x + dx, y + dy)];
            inner[at(x, y)] = all;
        }
    return inner;
}

struct Slopes {
    ImageChannel x, y;
};

Slopes slopesOf(const ImageChannel& plane) {
    Slopes slopes{ImageChannel(plane.width, plane.height), ImageChannel(plane.width, plane.height)};
    for (int y = 1; y + 1 < plane.height; ++y)
        for (int x = 1; x + 1 < plane.width; ++x) {
            slopes.x.row(y)[x] = 0.5F * (plane.row(y)[x + 1] - plane.row(y)[x - 1]);
            slopes.y.row(y)[x] = 0.5F * (plane.row(y + 1)[x] - plane.row(y - 1)[x]);
        }
    return slopes;
}

/// How much steeper strong edges are at the fine scale than at the coarse one: near 1 where they are soft already.
std::optional<double> steepness(const ImageChannel& luma, const std::vector<bool>& counts) {
    const Slopes fine = slopesOf(smoothed(luma, kFine)), coarse = slopesOf(smoothed(luma, kCoarse));
    const auto at = [&](int x, int y) { return std::size_t(y) * std::size_t(luma.width) + std::size_t(x); };
    const auto norm = [&](const Slopes& s, int x, int y) { return std::hypot(s.x.row(y)[x], s.y.row(y)[x]); };
    std::vector<std::pair<float, float>> edges;  // slopes at both scales on ridges of the fine one
    for (int y = 2; y + 2 < luma.height; ++y)
        for (int x = 2; x + 2 < luma.width; ++x) {
            if (!counts[at(x, y)]) continue;
            const float here = norm(fine, x, y);
            const float gx = fine.x.row(y)[x], gy = fine.y.row(y)[x];
            const int sx = std::abs(gx) > 0.4F * std::abs(gy) ? (gx > 0 ? 1 : -1) : 0,
                      sy = std::abs(gy) > 0.4F * std::abs(gx) ? (gy > 0 ? 1 : -1) : 0;
            if (here < norm(fine, x + sx, y + sy) || here < norm(fine, x - sx, y - sy)) continue;
            edges.emplace_back(here, norm(coarse, x, y));
        }
    if (edges.size() < kLeastEdges) return std::nullopt;
    // Strong ones: a third of the steepest and more. Weak ones are grain.
    std::sort(edges.begin(), edges.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    const float least = 0.33F * edges[edges.size() / 50].first;
    double steeps = 0, flats = 0;
    std::size_t count = 0;
    for (const auto& [steep, flat] : edges) {
        if (!(steep >= least && flat > 0)) continue;
        steeps += double(steep) * double(steep);
        flats += double(steep) * double(flat);
        ++count;
    }
    return count < kLeastEdges ? std::nullopt : std::optional(steeps / flats);
}

/// The deviation of what is finer than a pixel where the picture is plainest: grain.
double grainOf(const ImageChannel& luma, const std::vector<bool>& counts) {
    const ImageChannel smooth = smoothed(luma, kFine);
    const Slopes slopes = slopesOf(smooth);
    std::vector<std::pair<float, float>> places;  // by slope, what is left
    for (std::size_t i = 0; i < counts.size(); ++i)
        if (counts[i])
            places.emplace_back(std::hypot(slopes.x.values[i], slopes.y.values[i]),
                                std::abs(luma.values[i] - smooth.values[i]));
    std::sort(places.begin(), places.end());
    std::vector<float> left;
    for (std::size_t i = 0; i < std::max<std::size_t>(1, 2 * places.size() / 5); ++i) left.push_back(places[i].second);
    std::nth_element(left.begin(), left.begin() + std::ptrdiff_t(left.size() / 2), left.end());
    // A median stands for 0.6745 deviations; a Gaussian of one pixel leaves 0.872 of white noise.
    return double(left[left.size() / 2]) / (0.6745 * 0.872);
}

ImageChannel withGrain(ImageChannel plane, double deviation) {
    std::mt19937 random(7);
    std::normal_distribution<float> noise(0, float(deviation));
    for (float& value : plane.values) value += noise(random);
    return plane;
}

/// The values a fiftieth is below, and above.
std::pair<double, double> ends(const ImageChannel& plane, const std::vector<bool>& counts) {
    std::vector<float> values;
    for (std::size_t i = 0; i < counts.size(); ++i)
        if (counts[i]) values.push_back(plane.values[i]);
    const auto at = [&](double share) {
        const auto place = std::ptrdiff_t(share * double(values.size() - 1));
        std::nth_element(values.begin(), values.begin() + place, values.end());
        return double(values[std::size_t(place)]);
    };
    return {at(kShare), at(1 - kShare)};
}

Patch patchOf(const Picture& plate, std::span<const Vector2d> area) {
    Vector2d low = area[0], high = area[0];
    for (const Vector2d& p : area) {
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    const int x0 = std::clamp(int(std::floor(low.x())), 0, plate.width),
              y0 = std::clamp(int(std::floor(low.y())), 0, plate.height),
              x1 = std::clamp(int(std::ceil(high.x())), x0, plate.width),
              y1 = std::clamp(int(std::ceil(high.y())), y0, plate.height);
    Patch patch{x1 - x0, y1 - y0, {}, {}};
    for (ImageChannel& plane : patch.colours) plane = ImageChannel(patch.width, patch.height);
    const Polygon outline(area.begin(), area.end());
    for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x) {
            const std::size_t from = 3 * (std::size_t(y) * std::size_t(plate.width) + std::size_t(x));
            for (std::size_t c = 0; c < 3; ++c) patch.colours[c].row(y - y0)[x - x0] = valueAt(plate, from + c);
            patch.counts.push_back(contains(outline, {x + 0.5, y + 0.5}));
        }
    return patch;
}

Patch patchOf(const Layer& layer, std::span<const Vector2d> area) {
    Patch patch{layer.box.width(), layer.box.height(), {}, {}};
    for (ImageChannel& plane : patch.colours) plane = ImageChannel(patch.width, patch.height);
    const Polygon outline(area.begin(), area.end());
    std::vector<bool> within;
    for (int y = layer.box.y0; y < layer.box.y1; ++y)
        for (int x = layer.box.x0; x < layer.box.x1; ++x) {
            const float* pixel = layer.at(x, y);
            for (std::size_t c = 0; c < 3; ++c)
                patch.colours[c].row(y - layer.box.y0)[x - layer.box.x0] = pixel[3] > 0 ? pixel[c] / pixel[3] : 0;
            patch.counts.push_back(pixel[3] > 0.98F);
            within.push_back(patch.counts.back() && contains(outline, {x + 0.5, y + 0.5}));
        }
    // Where the area lies over it, like is compared with like.
    if (10 * std::size_t(std::count(within.begin(), within.end(), true)) >= patch.counting()) patch.counts = within;
    return patch;
}

}  // namespace

Expected<Matched> matched(const Picture& plate, const Layer& layer, std::span<const Vector2d> area) {
    if (area.size() < 3) return failure(Fault::input, "the area has no corners; drag a rectangle on the plate");
    const Patch there = patchOf(plate, area);
    if (there.counting() < kLeastPixels)
        return failure(Fault::input, "the area is too small to take levels from; drag a larger one");
    Patch here = patchOf(layer, area);
    if (here.counting() < kLeastPixels)
        return failure(Fault::input, "too little of the insert is seen on this frame; go to where it is larger");
    Matched result;
    const std::vector<bool> innerThere = innerOf(there, kEdge), innerHere = innerOf(here, kEdge);
    for (const std::vector<bool>* inner : {&innerThere, &innerHere})
        if (std::size_t(std::count(inner->begin(), inner->end(), true)) < kLeastPixels / 4)
            return failure(Fault::input, "the area is too narrow to take levels from; drag a larger one");
    const auto lacking = [&](double grain, const ImageChannel& plane) {
        const double has = grainOf(plane, innerHere);
        return std::sqrt(std::max(0.0, grain * grain - has * has));
    };
    struct Wanted {
        double dark, light, grain;
    };
    std::array<Wanted, 3> wanted{};
    for (std::size_t c = 0; c < 3; ++c) {
        const auto [dark, light] = ends(smoothed(there.colours[c], kFine), innerThere);
        wanted[c] = {dark, light, grainOf(there.colours[c], innerThere)};
    }
    const auto takeLevels = [&] {
        for (std::size_t c = 0; c < 3; ++c) {
            const auto& [dark, light, grain] = wanted[c];
            double &gain = result.grade.gain[c], &lift = result.grade.lift[c];
            const ImageChannel soft = result.blur_px > 0 ? smoothed(here.colours[c], result.blur_px) : here.colours[c];
            const auto [bareDark, bareLight] = ends(smoothed(soft, kFine), innerHere);
            if (bareLight - bareDark < 0.02) {  // it is plain
                gain = 1;
                lift = 0.5 * (dark + light - bareDark - bareLight);
                continue;
            }
            // With as much grain as the plate has, which makes its ends wider.
            const ImageChannel grainy = withGrain(soft, lacking(grain / std::max(0.05, gain), soft));
            const auto [ownDark, ownLight] = ends(smoothed(grainy, kFine), innerHere);
            gain = (light - dark) / (ownLight - ownDark);
            lift = dark - gain * ownDark;
        }
    };
    takeLevels();
    // Grain makes edges look as no blur does: the art gets what it has less of before its edges are looked at.
    const ImageChannel luma = lumaOf(here), wantedLuma = lumaOf(there);
    const double grain = grainOf(wantedLuma, innerThere) / std::max(0.05, result.grade.gain[1]);
    const auto steepnessAt = [&](double blur) {
        const ImageChannel soft = blur > 0 ? smoothed(luma, blur) : luma;
        return steepness(withGrain(soft, lacking(grain, soft)), innerHere);
    };
    const auto steep = steepness(wantedLuma, innerThere), own = steepnessAt(0);
    result.hasEdges = steep && own;
    if (result.hasEdges && *own > *steep) {
        const auto isSofter = [&](double blur) {
            const auto softer = steepnessAt(blur);
            return softer && *softer <= *steep;
        };
        // From no blur upwards: beyond the one that is looked for the grain is steeper than what is left of edges.
        double low = 0, high = kFirstBlur_px;
        while (high < kMostBlur_px && !isSofter(high)) {
            low = high;
            high *= 1.5;
        }
        result.hasEdges = high < kMostBlur_px;
        for (int step = 0; result.hasEdges && step < 9; ++step) {
            const double middle = 0.5 * (low + high);
            (isSofter(middle) ? high : low) = middle;
        }
        result.blur_px = result.hasEdges && high >= kLeastBlur_px ? 0.5 * (low + high) : 0;
    }
    takeLevels();
    return result;
}

}  // namespace pinion
