#pragma once

#include "render/mesh.h"

#include <Eigen/Geometry>
#include <memory>
#include <optional>
#include <vector>

namespace pinion {

/// Shapes under rays (Embree). Places of the world are given from an origin near the camera, so that single precision
/// is enough. Safe to ask from several threads.
class RayScene {
public:
    struct Body {
        std::shared_ptr<const Mesh> mesh;
        Eigen::Affine3d worldFromMesh;
    };
    struct Hit {
        float distance = 0;
        std::uint32_t body = 0;      ///< of those given
        std::uint32_t triangle = 0;  ///< of its mesh
        float u = 0, v = 0;          ///< of the second and the third corner
    };

    RayScene(const std::vector<Body>& bodies, const Eigen::Vector3d& origin);
    ~RayScene();
    RayScene(const RayScene&) = delete;
    RayScene& operator=(const RayScene&) = delete;

    /// The first that a ray meets farther than `nearest`; `from` is in the world.
    std::optional<Hit> first(const Eigen::Vector3d& from, const Eigen::Vector3d& along, float nearest) const;
    /// Whether it meets any.
    bool isBlocked(const Eigen::Vector3d& from, const Eigen::Vector3d& along, float nearest) const;

private:
    struct Own;
    std::unique_ptr<Own> own_;
};

}  // namespace pinion
