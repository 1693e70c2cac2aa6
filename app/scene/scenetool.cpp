#include "scene/scenetool.h"

#include "scene/scenecamera.h"

#include <Eigen/LU>

namespace pinion {

SceneSight::SceneSight(const QMatrix4x4& clipFromWorld, const QSize& screen)
    : clipFromWorld_(clipFromWorld), screen_(screen) {
    Eigen::Matrix4d clip;
    for (int r = 0; r < 4; ++r)
        for (int c = 0; c < 4; ++c) clip(r, c) = double(clipFromWorld(r, c));
    worldFromClip_ = clip.inverse();
}

std::optional<QPointF> SceneSight::screenFromWorld(const Eigen::Vector3d& world) const {
    return pinion::screenFromWorld(clipFromWorld_, screen_, world);
}

WorldRay SceneSight::rayThrough(const QPointF& screen) const {
    const auto at = [&](double depth) -> Eigen::Vector3d {
        const Eigen::Vector4d clip(2 * screen.x() / screen_.width() - 1, 1 - 2 * screen.y() / screen_.height(), depth,
                                   1);
        return (worldFromClip_ * clip).hnormalized();
    };
    // Not to the far side: there a perspective's depths run together.
    const Eigen::Vector3d near = at(-1), middle = at(0);
    return {near, (middle - near).normalized()};
}

}  // namespace pinion
