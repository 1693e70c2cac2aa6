#include "matte/matte.h"

#include <algorithm>

namespace pinion {

Polygon outlineAt(const Matte& matte, int frame) {
    if (matte.keys.empty()) return {};
    const auto after =
        std::find_if(matte.keys.begin(), matte.keys.end(), [&](const Matte::Key& key) { return key.frame >= frame; });
    if (after == matte.keys.end()) return matte.keys.back().polygon;
    if (after == matte.keys.begin() || after->frame == frame) return after->polygon;
    const auto before = after - 1;
    const double share = double(frame - before->frame) / (after->frame - before->frame);
    Polygon outline = before->polygon;
    for (std::size_t i = 0; i < outline.size() && i < after->polygon.size(); ++i)
        outline[i] += share * (after->polygon[i] - outline[i]);
    return outline;
}

bool contains(const Polygon& polygon, const Eigen::Vector2d& point) {
    bool inside = false;
    for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++) {
        const auto& a = polygon[i];
        const auto& b = polygon[j];
        if ((a.y() > point.y()) != (b.y() > point.y()) &&
            point.x() < (b.x() - a.x()) * (point.y() - a.y()) / (b.y() - a.y()) + a.x())
            inside = !inside;
    }
    return inside;
}

bool isExcluded(std::span<const Matte> mattes, int frame, const Eigen::Vector2d& point) {
    bool anyInclude = false;
    bool included = false;
    for (const Matte& matte : mattes) {
        const bool inside = contains(outlineAt(matte, frame), point);
        if (matte.mode == Matte::Mode::exclude && inside) return true;
        if (matte.mode == Matte::Mode::include) {
            anyInclude = true;
            included = included || inside;
        }
    }
    return anyInclude && !included;
}

}  // namespace pinion
