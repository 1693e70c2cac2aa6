#include "comp/putback.h"

#include "base/parallel.h"

#include <Eigen/LU>
#include <algorithm>
#include <atomic>
#include <cmath>

namespace pinion {
namespace {

constexpr int kAround = 2;  // pixels about a change that its resampling reads

std::size_t countOf(const Picture& picture) { return std::size_t(picture.width) * std::size_t(picture.height); }

/// A value as it is shown.
float shownAt(const Picture& picture, std::size_t index) {
    if (picture.depth == Picture::Depth::bits8) return float(picture.bytes[index]) / 255.0F;
    const float value = std::max(0.0F, picture.floats[index]);
    return picture.linear ? encodeSrgb(value) : value;
}

double toleranceFor(const Picture& given, const Picture& made) {
    return given.depth == Picture::Depth::bits8 || made.depth == Picture::Depth::bits8 ? 0.6 / 255 : 6e-4;
}

/// The picture with the depth and encoding of another.
Picture alike(const Picture& picture, const Picture& model) {
    if (picture.depth == model.depth && picture.linear == model.linear) return picture;
    Picture result{picture.width, picture.height, model.depth, model.linear, {}, {}};
    const std::size_t count = countOf(picture) * 3;
    if (model.depth == Picture::Depth::bits8) result.bytes.resize(count);
    else result.floats.resize(count);
    for (std::size_t i = 0; i < count; ++i) {
        const float shown = shownAt(picture, i);
        if (model.depth == Picture::Depth::bits8)
            result.bytes[i] = std::uint8_t(std::clamp(shown, 0.0F, 1.0F) * 255.0F + 0.5F);
        else if (picture.depth != Picture::Depth::bits8 && picture.linear == model.linear)
            result.floats[i] = picture.floats[i];
        else result.floats[i] = model.linear ? decodeSrgb(shown) : shown;
    }
    return result;
}

/// By a map, to a plate's size.
ComingBack comingBack(const Eigen::Matrix3d& sourceFromOutput, const Picture& plate) {
    return [to = Eigen::Matrix3d(sourceFromOutput.inverse()), width = plate.width, height = plate.height](
               const Picture& picture, ResampleFilter filter, EdgeMode edges) {
        return warped(picture, to, filter, edges, width, height);
    };
}

/// As grey pictures of three channels, so that it is warped as they are; 255 where a change is, and about it.
Picture changeOf(const Picture& given, const Picture& made, double tolerance) {
    const int width = given.width, height = given.height;
    // Files of shown values hold 0 to 1: what a filter gave beyond was cut off when they were written.
    const auto held = [&](const Picture& picture, std::size_t index) {
        const float shown = shownAt(picture, index);
        return made.linear ? shown : std::min(shown, 1.0F);
    };
    std::vector<std::uint8_t> changed(countOf(given));
    parallelFor(
        std::size_t(height),
        [&](std::size_t row) {
            for (std::size_t i = row * std::size_t(width); i < (row + 1) * std::size_t(width); ++i)
                for (std::size_t c = 0; c < 3; ++c)
                    if (std::abs(held(given, 3 * i + c) - held(made, 3 * i + c)) > tolerance) changed[i] = 1;
        },
        16);
    Picture mask{width, height, Picture::Depth::bits8, false, std::vector<std::uint8_t>(countOf(given) * 3), {}};
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            if (!changed[std::size_t(y) * std::size_t(width) + std::size_t(x)]) continue;
            for (int v = std::max(0, y - kAround); v <= std::min(height - 1, y + kAround); ++v) {
                const std::size_t line = std::size_t(v) * std::size_t(width);
                const auto first = line + std::size_t(std::max(0, x - kAround)),
                           last = line + std::size_t(std::min(width - 1, x + kAround));
                std::fill(mask.bytes.begin() + std::ptrdiff_t(3 * first),
                          mask.bytes.begin() + std::ptrdiff_t(3 * last + 3), std::uint8_t(255));
            }
        }
    return mask;
}

}  // namespace

PutBack putBack(const Picture& plate, const Picture& given, const Picture& made,
                const Eigen::Matrix3d& sourceFromOutput, const PutBackOptions& options) {
    return putBack(plate, given, made, comingBack(sourceFromOutput, plate), options);
}

PutBack putBack(const Picture& plate, const Picture& given, const Picture& made, const ComingBack& back,
                const PutBackOptions& options) {
    PutBack result{plate};
    const double tolerance = options.tolerance > 0 ? options.tolerance : toleranceFor(given, made);
    const Picture mask = changeOf(given, made, tolerance);
    if (std::none_of(mask.bytes.begin(), mask.bytes.end(), [](std::uint8_t value) { return value > 0; })) return result;
    const Picture share = back(mask, ResampleFilter::bilinear, EdgeMode::empty);
    const Picture changed = back(alike(made, plate), options.filter, EdgeMode::held);
    std::atomic<std::size_t> count{0};
    parallelFor(
        std::size_t(plate.height),
        [&](std::size_t row) {
            std::size_t here = 0;
            const auto width = std::size_t(plate.width);
            for (std::size_t i = row * width; i < (row + 1) * width; ++i) {
                const float part = float(share.bytes[3 * i]) / 255.0F;
                if (part <= 0) continue;
                ++here;
                for (std::size_t k = 3 * i; k < 3 * i + 3; ++k) {
                    if (plate.depth == Picture::Depth::bits8)
                        result.picture.bytes[k] = std::uint8_t(
                            float(plate.bytes[k]) + part * (float(changed.bytes[k]) - float(plate.bytes[k])) + 0.5F);
                    else result.picture.floats[k] += part * (changed.floats[k] - plate.floats[k]);
                }
            }
            count += here;
        },
        16);
    result.changed = double(count) / double(countOf(plate));
    return result;
}

namespace {

/// Of a plane in three channels, so that it is warped as pictures are.
Picture asPicture(const ImageChannel& plane) {
    Picture picture{plane.width, plane.height, Picture::Depth::float32, true, {}, {}};
    picture.floats.resize(plane.values.size() * 3);
    for (std::size_t i = 0; i < plane.values.size(); ++i)
        for (std::size_t c = 0; c < 3; ++c) picture.floats[3 * i + c] = plane.values[i];
    return picture;
}

}  // namespace

ImageChannel putBackMatte(const ImageChannel& matte, const ComingBack& back) {
    const Picture returned = back(asPicture(matte), ResampleFilter::bicubic, EdgeMode::empty);
    ImageChannel plane(returned.width, returned.height);
    for (std::size_t i = 0; i < plane.values.size(); ++i)
        plane.values[i] = std::clamp(returned.floats[3 * i], 0.0F, 1.0F);
    return plane;
}

PutBack putBackBy(PutBackBy by, const Picture& plate, const Picture& made, const ImageChannel& part,
                  const Eigen::Matrix3d& sourceFromOutput, ResampleFilter filter) {
    return putBackBy(by, plate, made, part, comingBack(sourceFromOutput, plate), filter);
}

PutBack putBackBy(PutBackBy by, const Picture& plate, const Picture& made, const ImageChannel& part,
                  const ComingBack& back, ResampleFilter filter) {
    PutBack result{plate};
    const ImageChannel share = putBackMatte(part, back);
    const Picture returned = back(alike(made, plate), filter, EdgeMode::held);
    std::size_t count = 0;
    for (std::size_t i = 0; i < share.values.size(); ++i) {
        // What rounds to nothing is nothing: the rest stays the plate's.
        const float a = share.values[i];
        if (a < 0.5F / 255) continue;
        ++count;
        for (std::size_t k = 3 * i; k < 3 * i + 3; ++k) {
            const bool bytes = plate.depth == Picture::Depth::bits8;
            const float under = bytes ? float(plate.bytes[k]) : plate.floats[k];
            const float over = bytes ? float(returned.bytes[k]) : returned.floats[k];
            const float value = by == PutBackBy::alpha ? over + (1 - a) * under : under + a * (over - under);
            if (bytes) result.picture.bytes[k] = std::uint8_t(std::clamp(value + 0.5F, 0.0F, 255.0F));
            else result.picture.floats[k] = value;
        }
    }
    result.changed = double(count) / double(countOf(plate));
    return result;
}

double differingShare(const Picture& given, const Picture& made) {
    const double tolerance = toleranceFor(given, made);
    std::size_t differ = 0, all = 0;
    for (int y = 0; y < given.height; y += 8)
        for (int x = 0; x < given.width; ++x) {
            const auto i = std::size_t(y) * std::size_t(given.width) + std::size_t(x);
            bool same = true;
            for (std::size_t c = 0; c < 3; ++c)
                same = same && std::abs(shownAt(given, 3 * i + c) - shownAt(made, 3 * i + c)) <= tolerance;
            differ += !same;
            ++all;
        }
    return all > 0 ? double(differ) / double(all) : 0;
}

}  // namespace pinion
