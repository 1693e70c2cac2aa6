#include "render/planetable.h"

#include "base/parallel.h"

#include <algorithm>
#include <limits>

namespace pinion {

using Eigen::Vector2d;

std::shared_ptr<const PlaneTable> PlaneTables::of(const Lens& lens, const PixelBox& wanted) const {
    constexpr int kMore = 48;  // pixels on each side, where frame by frame another box is asked for
    PixelBox box = wanted;
    {
        const std::lock_guard lock(mutex_);
        if (last_ && last_->lens == lens) {
            const PixelBox& had = last_->box;
            if (had.x0 <= box.x0 && had.y0 <= box.y0 && had.x1 >= box.x1 && had.y1 >= box.y1) return last_;
            box = {std::min(had.x0, box.x0 - kMore), std::min(had.y0, box.y0 - kMore), std::max(had.x1, box.x1 + kMore),
                   std::max(had.y1, box.y1 + kMore)};
        }
    }
    auto table = std::make_shared<PlaneTable>();
    table->lens = lens;
    table->box = box;
    const std::size_t across = std::size_t(box.width()) + 1, down = std::size_t(box.height()) + 1;
    table->planes.resize(across * down);
    parallelFor(
        down,
        [&](std::size_t y) {
            for (std::size_t x = 0; x < across; ++x)
                table->planes[y * across + x] =
                    planeFromPlate(lens, Vector2d(box.x0 + double(x), box.y0 + double(y)))
                        .value_or(Vector2d::Constant(std::numeric_limits<double>::quiet_NaN()));
        },
        16);
    const std::lock_guard lock(mutex_);
    last_ = table;
    return table;
}

Vector2d spreadInPixel(int i, int count) {
    std::uint32_t bits = std::uint32_t(i);
    bits = (bits << 16U) | (bits >> 16U);
    bits = ((bits & 0x55555555U) << 1U) | ((bits & 0xAAAAAAAAU) >> 1U);
    bits = ((bits & 0x33333333U) << 2U) | ((bits & 0xCCCCCCCCU) >> 2U);
    bits = ((bits & 0x0F0F0F0FU) << 4U) | ((bits & 0xF0F0F0F0U) >> 4U);
    bits = ((bits & 0x00FF00FFU) << 8U) | ((bits & 0xFF00FF00U) >> 8U);
    return {(i + 0.5) / count, double(bits) * 0x1p-32 + 0.5 / count};
}

}  // namespace pinion
