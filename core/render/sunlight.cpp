#include "render/sunlight.h"

#include "render/scenerender.h"

namespace pinion {

using Eigen::Vector2d;
using Eigen::Vector3d;

std::optional<double> heightOnUpright(const WorldRay& ray, const Vector3d& foot) {
    const Vector3d up(0, 1, 0), between = ray.from - foot;
    const double slope = ray.along.dot(up), lean = 1 - slope * slope;
    if (lean < 1e-6) return std::nullopt;
    return (between.dot(up) - slope * between.dot(ray.along)) / lean;
}

Expected<Vector3d> sunFromShadow(const WorldEye& eye, double ground, const Vector2d& foot, const Vector2d& top,
                                 const Vector2d& tip) {
    const auto onGround = [&](const Vector2d& plate) {
        const auto ray = eye.rayThrough(plate);
        return ray ? onLevel(*ray, ground) : std::nullopt;
    };
    const auto stands = onGround(foot), falls = onGround(tip);
    const auto ray = eye.rayThrough(top);
    if (!stands) return failure(Fault::input, "the foot does not lie on the ground: click below the horizon");
    if (!falls)
        return failure(Fault::input, "the tip of the shadow does not lie on the ground: click below the horizon");
    const auto height = ray ? heightOnUpright(*ray, *stands) : std::nullopt;
    if (!height || *height < 1e-3)
        return failure(Fault::input, "the top has to be above the foot: click something that stands upright");
    const Vector3d towards = *stands + Vector3d(0, *height, 0) - *falls;
    return Vector3d(towards.normalized());
}

}  // namespace pinion
