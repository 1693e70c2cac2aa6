#include "render/surface.h"

#include "comp/art.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>
#include <tuple>

namespace pinion {

using Eigen::Array4f;
using Eigen::Vector2d;

SurfacePicture::SurfacePicture(std::shared_ptr<const Art> art) : art_(std::move(art)) {
    for (std::size_t i = 0; i < art_->levelCount(); ++i) {
        const Art::Pixels level = art_->level(i);
        levels_.push_back({level.width, level.height, level.rgba.data()});
    }
}

SurfacePicture::SurfacePicture(const Picture& picture, const ImageChannel* alpha) {
    std::vector<Array4f> texels;
    const std::size_t count = std::size_t(picture.width) * std::size_t(picture.height);
    texels.reserve(count);
    for (std::size_t i = 0; i < count; ++i) {
        const float opaque = alpha ? alpha->values[i] : 1.0F;
        Array4f texel(valueAt(picture, 3 * i), valueAt(picture, 3 * i + 1), valueAt(picture, 3 * i + 2), opaque);
        for (int c = 0; c < 3; ++c) texel[c] = (picture.linear ? texel[c] : decodeSrgb(texel[c])) * opaque;
        texels.push_back(texel);
    }
    const auto add = [&](int width, int height) {
        own_.push_back(std::move(texels));
        levels_.push_back({width, height, own_.back().front().data()});
    };
    add(picture.width, picture.height);
    while (levels_.back().width > 1 || levels_.back().height > 1) {
        const Level fine = levels_.back();
        const std::vector<Array4f>& from = own_.back();
        const int width = std::max(1, fine.width / 2), height = std::max(1, fine.height / 2);
        texels = {};
        for (int y = 0; y < height; ++y)
            for (int x = 0; x < width; ++x) {
                // Of an odd size the last row and column go into the pixel beside them.
                const int x0 = x * fine.width / width, x1 = (x + 1) * fine.width / width;
                const int y0 = y * fine.height / height, y1 = (y + 1) * fine.height / height;
                Array4f sum = Array4f::Zero();
                for (int v = y0; v < y1; ++v)
                    for (int u = x0; u < x1; ++u)
                        sum += from[std::size_t(v) * std::size_t(fine.width) + std::size_t(u)];
                texels.emplace_back(sum / float((x1 - x0) * (y1 - y0)));
            }
        add(width, height);
    }
}

Array4f SurfacePicture::sample(const Level& level, double x, double y) {
    const double u = x * level.width - 0.5, v = y * level.height - 0.5;
    const int x0 = int(std::floor(u)), y0 = int(std::floor(v));
    const auto wx = float(u - x0), wy = float(v - y0);
    const auto texel = [&](int i, int j) {
        return Eigen::Map<const Array4f>(
            level.rgba + 4 * (std::size_t(std::clamp(j, 0, level.height - 1)) * std::size_t(level.width) +
                              std::size_t(std::clamp(i, 0, level.width - 1))));
    };
    return (1 - wy) * ((1 - wx) * texel(x0, y0) + wx * texel(x0 + 1, y0)) +
           wy * ((1 - wx) * texel(x0, y0 + 1) + wx * texel(x0 + 1, y0 + 1));
}

Array4f SurfacePicture::at(const Vector2d& at, const Vector2d& across, const Vector2d& down) const {
    constexpr int kMost = 16;
    const Vector2d size(levels_.front().width, levels_.front().height);
    Vector2d longer = across.cwiseProduct(size), shorter = down.cwiseProduct(size);
    if (shorter.squaredNorm() > longer.squaredNorm()) std::swap(longer, shorter);
    const double length = longer.norm();
    // The width of the footprint across its longer side, not the length of its other side: that may slant.
    const double width =
        length > 0 ? std::abs(longer.x() * shorter.y() - longer.y() * shorter.x()) / length : shorter.norm();
    const int samples = std::clamp(int(std::ceil(length / std::max(width, 1.0))), 1, kMost);
    const double level =
        std::clamp(std::log2(std::max({width, length / kMost, 1e-9})), 0.0, double(levels_.size() - 1));
    const auto fine = std::size_t(level);
    const std::size_t coarse = std::min(fine + 1, levels_.size() - 1);
    const auto share = float(level - double(fine));
    const Vector2d step = longer.cwiseQuotient(size) / samples;
    Array4f sum = Array4f::Zero();
    for (int i = 0; i < samples; ++i) {
        const Vector2d place = at + (i + 0.5 - 0.5 * samples) * step;
        sum += (1 - share) * sample(levels_[fine], place.x(), place.y());
        if (share > 0) sum += share * sample(levels_[coarse], place.x(), place.y());
    }
    return sum / float(samples);
}

std::shared_ptr<const SurfacePicture> boardPicture(double widthToHeight) {
    static std::mutex mutex;
    static std::map<int, std::shared_ptr<const SurfacePicture>> made;
    const std::lock_guard lock(mutex);
    // Shapes that nobody can tell apart share one; a dragged size makes few.
    const int shape = int(std::lround(20 * std::log2(std::clamp(widthToHeight, 0.02, 50.0))));
    if (made.size() > 32) made.clear();
    auto& picture = made[shape];
    if (!picture) picture = std::make_shared<const SurfacePicture>(testArt(std::exp2(shape / 20.0)));
    return picture;
}

std::shared_ptr<const SurfacePicture> textPicture(const std::string& words, double widthToHeight,
                                                  const std::array<double, 3>& colour) {
    static std::mutex mutex;
    static std::map<std::tuple<std::string, double, std::array<double, 3>>, std::shared_ptr<const SurfacePicture>> made;
    const std::lock_guard lock(mutex);
    if (made.size() > 16) made.clear();
    auto& picture = made[{words, widthToHeight, colour}];
    if (!picture) {
        const ImageChannel alpha = textAlpha(words, widthToHeight);
        picture = std::make_shared<const SurfacePicture>(plainPicture(colour, alpha.width, alpha.height), &alpha);
    }
    return picture;
}

namespace {

SurfacePicture madeGrid(double width, double depth, const std::array<double, 3>& colour) {
    // Lines a unit apart from the middle, a hundredth of a unit wide; those through the middle twice that.
    constexpr int kMost = 2048;
    const double scale = std::min({200.0, kMost / std::max(width, 1e-3), kMost / std::max(depth, 1e-3)});
    const int across = std::max(2, int(std::lround(width * scale))),
              down = std::max(2, int(std::lround(depth * scale)));
    Picture picture{across, down, Picture::Depth::float32, false, {}, {}};
    picture.floats.resize(std::size_t(across) * std::size_t(down) * 3);
    ImageChannel alpha(across, down);
    const auto coveredBy = [&](double from, double to, double extent) {
        double covered = 0;
        for (double line = std::floor(from / scale - 0.5 * extent - 1); line <= to / scale - 0.5 * extent + 1; ++line) {
            const double half = std::max(line == 0 ? 0.01 : 0.005, 0.5 / scale), at = (line + 0.5 * extent) * scale;
            covered += std::max(0.0, std::min(to, at + half * scale) - std::max(from, at - half * scale));
        }
        return std::min(1.0, covered);
    };
    std::vector<double> columns, rows;
    for (int x = 0; x < across; ++x) columns.push_back(coveredBy(x, x + 1, width));
    for (int y = 0; y < down; ++y) rows.push_back(coveredBy(y, y + 1, depth));
    for (std::size_t y = 0; y < std::size_t(down); ++y)
        for (std::size_t x = 0; x < std::size_t(across); ++x) {
            const std::size_t i = y * std::size_t(across) + x;
            alpha.values[i] = float(1 - (1 - columns[x]) * (1 - rows[y]));
            for (std::size_t c = 0; c < 3; ++c) picture.floats[3 * i + c] = float(colour[c]);
        }
    return {picture, &alpha};
}

}  // namespace

std::shared_ptr<const SurfacePicture> gridPicture(double width, double depth, const std::array<double, 3>& colour) {
    static std::mutex mutex;
    static std::map<std::tuple<double, double, std::array<double, 3>>, std::shared_ptr<const SurfacePicture>> made;
    const std::lock_guard lock(mutex);
    if (made.size() > 8) made.clear();
    auto& picture = made[{width, depth, colour}];
    if (!picture) picture = std::make_shared<const SurfacePicture>(madeGrid(width, depth, colour));
    return picture;
}

}  // namespace pinion
