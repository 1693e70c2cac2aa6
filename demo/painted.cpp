#include "painted.h"

#include "plate/plate.h"

#include <OpenImageIO/imageio.h>
#include <algorithm>
#include <vector>

namespace ternholm {
namespace {

struct Box {
    int left, top, right, bottom;
};

// On the first frame, 1280x720: the house on its shore, and its reflection.
constexpr Box kHouse{352, 340, 572, 462}, kReflection{352, 462, 572, 566};
constexpr int kHillFrom = -216;  // how far beside the house the hill is taken from
constexpr int kWaterFrom = 272;  // where the water is taken from, to and fro
constexpr int kWaterWide = 76;
constexpr int kSoft = 7;  // pixels of the edge

double edge(int x, int y, const Box& box) {
    const int inside = std::min({x - box.left, box.right - 1 - x, y - box.top, box.bottom - 1 - y});
    return std::clamp((inside + 0.5) / kSoft, 0.0, 1.0);
}

}  // namespace

bool paintHouseOut(const std::filesystem::path& mooring, int frame, const std::filesystem::path& out) {
    const auto plate = pinion::Plate::open(mooring);
    if (!plate) return false;
    const auto picture = (*plate)->read(frame);
    if (!picture || (*picture)->depth != pinion::Picture::Depth::bits8 || (*picture)->width != 1280) return false;
    const int width = (*picture)->width, height = (*picture)->height;
    std::vector<std::uint8_t> painted(std::size_t(width) * std::size_t(height) * 4);
    const Box whole{kHouse.left, kHouse.top, kHouse.right, kReflection.bottom};
    for (int y = whole.top; y < whole.bottom; ++y)
        for (int x = whole.left; x < whole.right; ++x) {
            int from = x + kHillFrom;
            if (y >= kReflection.top) {
                const int along = (x - whole.left) % (2 * kWaterWide);
                from = kWaterFrom + (along < kWaterWide ? along : 2 * kWaterWide - 1 - along);
            }
            const std::size_t source = (std::size_t(y) * std::size_t(width) + std::size_t(from)) * 3;
            const std::size_t to = (std::size_t(y) * std::size_t(width) + std::size_t(x)) * 4;
            for (std::size_t c = 0; c < 3; ++c) painted[to + c] = (*picture)->bytes[source + c];
            painted[to + 3] = std::uint8_t(255 * edge(x, y, whole) + 0.5);
        }
    const auto file = OIIO::ImageOutput::create(out.string());
    OIIO::ImageSpec spec(width, height, 4, OIIO::TypeDesc::UINT8);
    spec.attribute("oiio:UnassociatedAlpha", 1);
    return file && file->open(out.string(), spec) && file->write_image(OIIO::TypeDesc::UINT8, painted.data()) &&
           file->close();
}

}  // namespace ternholm
