#pragma once

#include "lens/lens.h"
#include "scene.h"

#include <Eigen/Geometry>
#include <cstdint>
#include <embree3/rtcore.h>
#include <functional>
#include <optional>
#include <vector>

namespace ternholm {

struct Hit {
    float distance;
    Vector3f place;
    Vector3f normal;  ///< towards the ray's origin
    const Triangle* triangle;
};

/// Renders the scene through a distorted lens: sun with soft shadows, sky light, water, motion blur over the shutter,
/// grain.
class Renderer {
public:
    Renderer(const Scene& scene, const pinion::Lens& lens);
    ~Renderer();
    Renderer(const Renderer&) = delete;
    Renderer& operator=(const Renderer&) = delete;

    /// Another lens from now on, of the same plate.
    void setLens(const pinion::Lens& lens);

    /// Where the trolley is when the shutter opens and when it closes.
    void setTrolley(const Eigen::Affine3f& opening, const Eigen::Affine3f& closing);

    /// One frame as 8-bit RGB. `poses(row)` are `worldFromCamera` at even steps over the shutter of a row of pixels;
    /// each gives one sample a pixel.
    std::vector<std::uint8_t> frame(const std::function<std::vector<Eigen::Affine3f>(int row)>& poses, float seconds,
                                    std::uint32_t seed) const;

    /// The first thing met from `origin` along `direction`, the trolley at the middle of the shutter.
    std::optional<Hit> cast(const Vector3f& origin, const Vector3f& direction, float time = 0.5F) const;

private:
    Colour radiance(const Vector3f& origin, const Vector3f& direction, float time, float seconds,
                    std::uint32_t key) const;
    Colour lit(const Hit& hit, float footprint, float time, std::uint32_t key) const;
    Colour sky(const Vector3f& direction) const;
    bool occluded(const Vector3f& from, const Vector3f& direction, float time) const;
    RTCGeometry addGeometry(const std::vector<Triangle>& triangles, const Eigen::Affine3f& opening,
                            const Eigen::Affine3f& closing, unsigned id);

    const Scene& scene_;
    pinion::Lens lens_;
    RTCDevice device_ = nullptr;
    RTCScene world_ = nullptr;
    Eigen::Affine3f opening_ = Eigen::Affine3f::Identity();
    Eigen::Affine3f closing_ = Eigen::Affine3f::Identity();
    std::vector<Vector3f> rays_;  ///< camera directions of the pixel corners
    std::vector<Colour> dome_;    ///< the sky, by azimuth and height
};

}  // namespace ternholm
