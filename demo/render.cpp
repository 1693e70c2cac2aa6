#include "render.h"

#include "base/parallel.h"
#include "picture/picture.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace ternholm {
namespace {

constexpr float kPi = std::numbers::pi_v<float>;
constexpr int kDomeWidth = 2048;
constexpr int kDomeHeight = 512;
const Vector3f kSun = Vector3f(-0.52F, 0.62F, 0.50F).normalized();
const Colour kSunLight(2.05F, 1.80F, 1.42F);

Vector3f aroundNormal(const Vector3f& normal, float u, float v) {
    const float radius = std::sqrt(u);
    const float angle = 2 * kPi * v;
    const Vector3f side =
        normal.cross(std::abs(normal.y()) < 0.9F ? Vector3f(0, 1, 0) : Vector3f(1, 0, 0)).normalized();
    return (radius * std::cos(angle) * side + radius * std::sin(angle) * normal.cross(side) + std::sqrt(1 - u) * normal)
        .normalized();
}

}  // namespace

Renderer::Renderer(const Scene& scene, const pinion::Lens& lens) : scene_(scene), device_(rtcNewDevice(nullptr)) {
    setLens(lens);
    dome_.resize(std::size_t(kDomeWidth) * kDomeHeight);
    pinion::parallelFor(kDomeHeight, [&](std::size_t row) {
        for (int column = 0; column < kDomeWidth; ++column) {
            const float height = 0.5F * kPi * (float(row) + 0.5F) / kDomeHeight;
            const float azimuth = 2 * kPi * (float(column) + 0.5F) / kDomeWidth;
            const float up = std::sin(height);
            Colour colour = Colour(0.60F, 0.68F, 0.76F) +
                            (Colour(0.15F, 0.29F, 0.56F) - Colour(0.60F, 0.68F, 0.76F)) * std::pow(up, 0.55F);
            // Clouds lie on a plane overhead and thin out into the haze at the horizon.
            const float u = 0.5F + 0.02F * std::cos(azimuth) / (up + 0.09F) * std::cos(height);
            const float v = 0.5F + 0.02F * std::sin(azimuth) / (up + 0.09F) * std::cos(height);
            const float body = fractal(u, v, 26, 7, 1000);
            const float cover = std::clamp((body + 0.06F) * 3.4F, 0.0F, 1.0F) * std::clamp(up * 9.0F, 0.25F, 1.0F);
            const float shade = std::clamp(
                0.92F + 0.6F * fractal(u + 0.004F, v - 0.003F, 26, 7, 1000) * -1.0F + 0.5F * fractal(u, v, 90, 4, 1100),
                0.5F, 1.2F);
            colour += (Colour(1.0F, 0.985F, 0.96F) * shade - colour) * cover * 0.92F;
            dome_[row * kDomeWidth + std::size_t(column)] = colour;
        }
    });
    setTrolley(Eigen::Affine3f::Identity(), Eigen::Affine3f::Identity());
}

void Renderer::setLens(const pinion::Lens& lens) {
    lens_ = lens;
    rays_.clear();
    rays_.reserve(std::size_t(lens.width + 1) * std::size_t(lens.height + 1));
    for (int y = 0; y <= lens.height; ++y)
        for (int x = 0; x <= lens.width; ++x) {
            const auto plane = pinion::planeFromPlate(lens, {double(x), double(y)});
            rays_.emplace_back(plane ? Vector3f(float(plane->x()), float(-plane->y()), -1.0F) : Vector3f(0, 0, -1));
        }
}

Renderer::~Renderer() {
    rtcReleaseScene(world_);
    rtcReleaseDevice(device_);
}

RTCGeometry Renderer::addGeometry(const std::vector<Triangle>& triangles, const Eigen::Affine3f& opening,
                                  const Eigen::Affine3f& closing, unsigned id) {
    RTCGeometry geometry = rtcNewGeometry(device_, RTC_GEOMETRY_TYPE_TRIANGLE);
    const bool moving = !opening.isApprox(closing);
    rtcSetGeometryTimeStepCount(geometry, moving ? 2 : 1);
    for (unsigned step = 0; step < (moving ? 2U : 1U); ++step) {
        auto* vertices = static_cast<float*>(rtcSetNewGeometryBuffer(
            geometry, RTC_BUFFER_TYPE_VERTEX, step, RTC_FORMAT_FLOAT3, 3 * sizeof(float), triangles.size() * 3));
        for (const Triangle& triangle : triangles)
            for (const Vector3f& corner : triangle.corner) {
                const Vector3f at = (step == 0 ? opening : closing) * corner;
                for (int i = 0; i < 3; ++i) *vertices++ = at[i];
            }
    }
    auto* indices = static_cast<unsigned*>(rtcSetNewGeometryBuffer(geometry, RTC_BUFFER_TYPE_INDEX, 0, RTC_FORMAT_UINT3,
                                                                   3 * sizeof(unsigned), triangles.size()));
    for (unsigned i = 0; i < triangles.size() * 3; ++i) indices[i] = i;
    rtcCommitGeometry(geometry);
    rtcAttachGeometryByID(world_, geometry, id);
    rtcReleaseGeometry(geometry);
    return geometry;
}

void Renderer::setTrolley(const Eigen::Affine3f& opening, const Eigen::Affine3f& closing) {
    if (world_) rtcReleaseScene(world_);
    world_ = rtcNewScene(device_);
    opening_ = opening;
    closing_ = closing;
    addGeometry(scene_.still, Eigen::Affine3f::Identity(), Eigen::Affine3f::Identity(), 0);
    if (!scene_.trolley.empty()) addGeometry(scene_.trolley, opening, closing, 1);
    rtcCommitScene(world_);
}

std::optional<Hit> Renderer::cast(const Vector3f& origin, const Vector3f& direction, float time) const {
    RTCRayHit ray{};
    ray.ray = {origin.x(), origin.y(), origin.z(), 1e-3F, direction.x(), direction.y(), direction.z(), time,
               1e5F,       ~0U,        0,          0};
    ray.hit.geomID = RTC_INVALID_GEOMETRY_ID;
    RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    rtcIntersect1(world_, &context, &ray);
    if (ray.hit.geomID == RTC_INVALID_GEOMETRY_ID) return std::nullopt;
    Vector3f normal = Vector3f(ray.hit.Ng_x, ray.hit.Ng_y, ray.hit.Ng_z).normalized();
    if (normal.dot(direction) > 0) normal = -normal;
    const auto& triangles = ray.hit.geomID == 0 ? scene_.still : scene_.trolley;
    return Hit{ray.ray.tfar, origin + ray.ray.tfar * direction, normal, &triangles[ray.hit.primID]};
}

bool Renderer::occluded(const Vector3f& from, const Vector3f& direction, float time) const {
    RTCRay ray{from.x(), from.y(), from.z(), 2e-3F, direction.x(), direction.y(), direction.z(), time, 1e5F, ~0U, 0, 0};
    RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    rtcOccluded1(world_, &context, &ray);
    return ray.tfar < 0;
}

Colour Renderer::sky(const Vector3f& direction) const {
    const float height = std::asin(std::clamp(direction.y(), 0.0F, 1.0F));
    const float azimuth = std::atan2(direction.z(), direction.x()) + 2 * kPi;
    const float x = azimuth / (2 * kPi) * kDomeWidth - 0.5F;
    const float y = std::clamp(height / (0.5F * kPi) * kDomeHeight - 0.5F, 0.0F, kDomeHeight - 1.001F);
    const int x0 = int(std::floor(x));
    const int y0 = int(y);
    const float fx = x - float(x0);
    const float fy = y - float(y0);
    const auto at = [&](int ix, int iy) { return dome_[std::size_t(iy) * kDomeWidth + std::size_t(ix % kDomeWidth)]; };
    return (at(x0, y0) * (1 - fx) + at(x0 + 1, y0) * fx) * (1 - fy) +
           (at(x0, y0 + 1) * (1 - fx) + at(x0 + 1, y0 + 1) * fx) * fy;
}

Colour Renderer::lit(const Hit& hit, float footprint, float time, std::uint32_t key) const {
    const Triangle& triangle = *hit.triangle;
    // Barycentric coordinates from areas would need the moved corners; for the trolley undo the move instead.
    Vector3f place = hit.place;
    if (scene_.objects[std::size_t(triangle.object)] == "trolley") {
        Eigen::Affine3f pose = opening_;
        pose.translation() += time * (closing_.translation() - opening_.translation());
        place = pose.inverse() * place;
    }
    const Vector3f e1 = triangle.corner[1] - triangle.corner[0];
    const Vector3f e2 = triangle.corner[2] - triangle.corner[0];
    const Vector3f d = place - triangle.corner[0];
    const float d11 = e1.dot(e1), d12 = e1.dot(e2), d22 = e2.dot(e2);
    const float b1 = d.dot(e1), b2 = d.dot(e2);
    const float denominator = std::max(d11 * d22 - d12 * d12, 1e-12F);
    const float s = (d22 * b1 - d12 * b2) / denominator;
    const float t = (d11 * b2 - d12 * b1) / denominator;
    const Vector2f uv = triangle.uv[0] + s * (triangle.uv[1] - triangle.uv[0]) + t * (triangle.uv[2] - triangle.uv[0]);
    const Material& material = scene_.materials[std::size_t(triangle.material)];
    const Colour albedo = scene_.textures[std::size_t(material.texture)].at(uv.x(), uv.y(), footprint);

    Colour light(0, 0, 0);
    const Vector3f from = hit.place + 1e-3F * hit.normal;
    const Vector3f toSun =
        (kSun + 0.018F * Vector3f(hashed(key, 1) - 0.5F, hashed(key, 2) - 0.5F, hashed(key, 3) - 0.5F)).normalized();
    if (const float cosine = hit.normal.dot(toSun); cosine > 0 && !occluded(from, toSun, time))
        light += kSunLight * cosine;
    const Vector3f up = aroundNormal(hit.normal, hashed(key, 4), hashed(key, 5));
    if (up.y() <= 0.0F) light += Colour(0.16F, 0.14F, 0.12F);  // light thrown back by the deck
    else if (occluded(from, up, time)) light += Colour(0.085F, 0.08F, 0.075F);
    else light += sky(up) * 0.78F;
    return albedo * light;
}

Colour Renderer::radiance(const Vector3f& origin, const Vector3f& direction, float time, float seconds,
                          std::uint32_t key) const {
    const auto hit = cast(origin, direction, time);
    if (!hit) return sky(direction);
    const Material& material = scene_.materials[std::size_t(hit->triangle->material)];
    const float cosine = std::max(0.12F, std::abs(hit->normal.dot(direction.normalized())));
    const float footprint = 0.55F * hit->distance / float(lens_.focal_px) / std::sqrt(cosine);
    Colour colour;
    if (material.surface == Surface::water) {
        Vector3f normal(0, 1, 0);
        const float reach = hit->distance;
        for (int i = 0; i < 6; ++i) {
            const float angle = 0.7F + 1.9F * float(i);
            const float frequency = 1.1F * std::pow(1.75F, float(i));
            const float calm = std::exp(-reach * frequency * 0.0045F);
            const float phase = frequency * (hit->place.x() * std::cos(angle) + hit->place.z() * std::sin(angle)) +
                                seconds * 1.9F * std::sqrt(frequency);
            const float slope = 0.034F * std::cos(phase) * calm;
            normal += Vector3f(slope * std::cos(angle), 0, slope * std::sin(angle));
        }
        normal.x() += 0.05F * (hashed(key, 6) - 0.5F);
        normal.z() += 0.05F * (hashed(key, 7) - 0.5F);
        normal.normalize();
        const Vector3f in = direction.normalized();
        Vector3f away = in - 2 * in.dot(normal) * normal;
        away.y() = std::abs(away.y()) + 1e-3F;
        const float fresnel = 0.03F + 0.97F * std::pow(1 - std::clamp(-in.dot(normal), 0.0F, 1.0F), 5.0F);
        const auto mirrored = cast(hit->place + 2e-3F * normal, away, time);
        const Colour seen = mirrored ? lit(*mirrored, footprint * 4, time, key + 77) : sky(away);
        colour = seen * fresnel + Colour(0.035F, 0.060F, 0.058F) * (1 - fresnel);
    } else {
        colour = lit(*hit, footprint, time, key);
        if (material.surface == Surface::varnished) {
            const Vector3f in = direction.normalized();
            const Vector3f away = in - 2 * in.dot(hit->normal) * hit->normal;
            const float towards = std::max(0.0F, away.dot((scene_.lamp - hit->place).normalized()));
            colour +=
                Colour(0.85F, 0.80F, 0.70F) * (0.9F * std::pow(towards, 420.0F) + 0.12F * std::pow(towards, 40.0F));
        }
    }
    const float haze = 1 - std::exp(-hit->distance * 0.0022F);
    return colour + (Colour(0.58F, 0.65F, 0.72F) - colour) * haze;
}

std::vector<std::uint8_t> Renderer::frame(const std::function<std::vector<Eigen::Affine3f>(int row)>& posesOf,
                                          float seconds, std::uint32_t seed) const {
    const int width = lens_.width;
    const int height = lens_.height;
    std::vector<std::uint8_t> out(std::size_t(width) * std::size_t(height) * 3);
    pinion::parallelFor(
        std::size_t(height),
        [&](std::size_t row) {
            const auto y = std::uint32_t(row);
            const std::vector<Eigen::Affine3f> poses = posesOf(int(row));
            const int samples = int(poses.size());
            const int side = std::max(1, int(std::sqrt(float(samples))));
            for (std::uint32_t x = 0; x < std::uint32_t(width); ++x) {
                Colour sum(0, 0, 0);
                for (int s = 0; s < samples; ++s) {
                    const std::uint32_t key = (seed * 4099U + y) * 65599U + x * 131U + std::uint32_t(s) * 7919U;
                    // Places in the pixel are shuffled against the times in the shutter.
                    const int cell = int((std::uint32_t(s) * 7U + x * 3U + y * 5U) % std::uint32_t(samples));
                    const float fx = (float(cell % side) + hashed(key, 11)) / float(side);
                    const float fy = (float(cell / side) + hashed(key, 12)) / float((samples + side - 1) / side);
                    const Vector3f* corner = &rays_[row * std::size_t(width + 1) + x];
                    const Vector3f ray = (corner[0] * (1 - fx) + corner[1] * fx) * (1 - fy) +
                                         (corner[width + 1] * (1 - fx) + corner[width + 2] * fx) * fy;
                    const Eigen::Affine3f& pose = poses[std::size_t(s)];
                    const float time = (float(s) + 0.5F) / float(samples);
                    sum += radiance(pose.translation(), pose.linear() * ray, time, seconds, key).min(6.0F);
                }
                const Colour exposed = 1.0F - (-1.32F * (sum / float(samples)).pow(1.12F)).exp();
                // Grain: stronger in the mid-tones, mostly common to the three channels.
                const std::uint32_t key = (seed * 7001U + y) * 50021U + x;
                const auto gauss = [&](std::uint32_t k) {
                    return hashed(key, k) + hashed(key, k + 1) + hashed(key, k + 2) - 1.5F;
                };
                const float common = gauss(21);
                for (int c = 0; c < 3; ++c) {
                    const float encoded = pinion::encodeSrgb(exposed[c]);
                    const float strength = (1.3F + 4.0F * encoded * (1 - encoded)) / 255.0F;
                    const float value = encoded + strength * 2 * (common + 0.45F * gauss(31 + std::uint32_t(c) * 3));
                    out[(row * std::size_t(width) + x) * 3 + std::size_t(c)] =
                        std::uint8_t(std::clamp(value, 0.0F, 1.0F) * 255.0F + 0.5F);
                }
            }
        },
        4);
    return out;
}

}  // namespace ternholm
