#pragma once

#include "comp/art.h"
#include "lens/lens.h"

#include <Eigen/Core>
#include <memory>
#include <mutex>
#include <vector>

namespace pinion {

/// Places of the image plane at the corners of pixels: between them a lens is straight to a millionth of a pixel.
struct PlaneTable {
    Lens lens;
    PixelBox box;
    std::vector<Eigen::Vector2d> planes;  ///< of (width + 1) x (height + 1) corners; NaN where no ray comes

    const Eigen::Vector2d& at(int x, int y) const {
        return planes[std::size_t(y - box.y0) * (std::size_t(box.width()) + 1) + std::size_t(x - box.x0)];
    }
    /// `inside` the pixel, (0, 0) to (1, 1).
    Eigen::Vector2d at(int x, int y, const Eigen::Vector2d& inside) const {
        const Eigen::Vector2d top = (1 - inside.x()) * at(x, y) + inside.x() * at(x + 1, y),
                              bottom = (1 - inside.x()) * at(x, y + 1) + inside.x() * at(x + 1, y + 1);
        return (1 - inside.y()) * top + inside.y() * bottom;
    }
};

/// The table that was asked for last is kept; asked for more of the same lens it grows. From any thread.
class PlaneTables {
public:
    std::shared_ptr<const PlaneTable> of(const Lens& lens, const PixelBox& wanted) const;

private:
    mutable std::mutex mutex_;
    mutable std::shared_ptr<const PlaneTable> last_;
};

/// The `i`th of `count` places of a pixel: Hammersley's, in which every `count` strips across or down hold one, so that
/// edges of any slope are met evenly.
Eigen::Vector2d spreadInPixel(int i, int count);

}  // namespace pinion
