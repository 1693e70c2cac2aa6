#include "render/rays.h"

#include <embree3/rtcore.h>

#include <algorithm>
#include <limits>
#include <list>
#include <mutex>

namespace pinion {

using Eigen::Vector3d;

namespace {

RTCDevice rayDevice() {
    static const RTCDevice device = rtcNewDevice(nullptr);
    return device;
}

/// A mesh under rays by itself.
struct MeshTree {
    RTCScene scene = nullptr;
    std::shared_ptr<const Mesh> mesh;  // by which it is known

    explicit MeshTree(std::shared_ptr<const Mesh> of) : scene(rtcNewScene(rayDevice())), mesh(std::move(of)) {
        RTCGeometry geometry = rtcNewGeometry(rayDevice(), RTC_GEOMETRY_TYPE_TRIANGLE);
        // Copied: Embree reads 16 bytes at each place.
        auto* places = static_cast<float*>(rtcSetNewGeometryBuffer(
            geometry, RTC_BUFFER_TYPE_VERTEX, 0, RTC_FORMAT_FLOAT3, 3 * sizeof(float), mesh->places.size()));
        for (const Eigen::Vector3f& place : mesh->places)
            for (int i = 0; i < 3; ++i) *places++ = place[i];
        auto* corners = static_cast<std::uint32_t*>(rtcSetNewGeometryBuffer(
            geometry, RTC_BUFFER_TYPE_INDEX, 0, RTC_FORMAT_UINT3, 3 * sizeof(std::uint32_t), mesh->triangles.size()));
        for (const Mesh::Triangle& triangle : mesh->triangles)
            for (const std::uint32_t corner : triangle) *corners++ = corner;
        rtcSetSceneFlags(scene, RTC_SCENE_FLAG_ROBUST);
        rtcCommitGeometry(geometry);
        rtcAttachGeometry(scene, geometry);
        rtcReleaseGeometry(geometry);
        rtcCommitScene(scene);
    }
    ~MeshTree() { rtcReleaseScene(scene); }
    MeshTree(const MeshTree&) = delete;
    MeshTree& operator=(const MeshTree&) = delete;
};

std::shared_ptr<const MeshTree> treeOf(const std::shared_ptr<const Mesh>& mesh) {
    static std::mutex mutex;
    static std::list<std::shared_ptr<const MeshTree>> known;  // the latest used first
    constexpr std::size_t kKept = 16;
    const auto kept = [&]() -> std::shared_ptr<const MeshTree> {
        const auto found =
            std::find_if(known.begin(), known.end(), [&](const auto& tree) { return tree->mesh == mesh; });
        if (found == known.end()) return nullptr;
        known.splice(known.begin(), known, found);
        return known.front();
    };
    {
        const std::lock_guard lock(mutex);
        if (auto tree = kept()) return tree;
    }
    // A large one takes seconds, in which others are not to wait.
    auto tree = std::make_shared<const MeshTree>(mesh);
    const std::lock_guard lock(mutex);
    if (auto other = kept()) return other;
    known.push_front(std::move(tree));
    if (known.size() > kKept) known.pop_back();
    return known.front();
}

}  // namespace

struct RayScene::Own {
    RTCScene scene = nullptr;
    std::vector<std::shared_ptr<const MeshTree>> trees;
    Vector3d origin;
};

RayScene::RayScene(const std::vector<Body>& bodies, const Vector3d& origin) : own_(std::make_unique<Own>()) {
    own_->origin = origin;
    own_->scene = rtcNewScene(rayDevice());
    rtcSetSceneFlags(own_->scene, RTC_SCENE_FLAG_ROBUST);
    for (std::size_t i = 0; i < bodies.size(); ++i) {
        own_->trees.push_back(treeOf(bodies[i].mesh));
        RTCGeometry geometry = rtcNewGeometry(rayDevice(), RTC_GEOMETRY_TYPE_INSTANCE);
        rtcSetGeometryInstancedScene(geometry, own_->trees.back()->scene);
        Eigen::Affine3d placed = bodies[i].worldFromMesh;
        placed.translation() -= origin;
        const Eigen::Matrix<float, 3, 4> transform = placed.matrix().topRows<3>().cast<float>();
        rtcSetGeometryTransform(geometry, 0, RTC_FORMAT_FLOAT3X4_COLUMN_MAJOR, transform.data());
        rtcCommitGeometry(geometry);
        rtcAttachGeometryByID(own_->scene, geometry, unsigned(i));
        rtcReleaseGeometry(geometry);
    }
    rtcCommitScene(own_->scene);
}

RayScene::~RayScene() { rtcReleaseScene(own_->scene); }

namespace {

RTCRay rayOf(const Vector3d& from, const Vector3d& along, float nearest) {
    RTCRay ray{};
    ray.org_x = float(from.x());
    ray.org_y = float(from.y());
    ray.org_z = float(from.z());
    ray.dir_x = float(along.x());
    ray.dir_y = float(along.y());
    ray.dir_z = float(along.z());
    ray.tnear = nearest;
    ray.tfar = std::numeric_limits<float>::infinity();
    ray.mask = ~0U;
    return ray;
}

}  // namespace

std::optional<RayScene::Hit> RayScene::first(const Vector3d& from, const Vector3d& along, float nearest) const {
    RTCRayHit hit{};
    hit.ray = rayOf(from - own_->origin, along, nearest);
    hit.hit.geomID = RTC_INVALID_GEOMETRY_ID;
    hit.hit.instID[0] = RTC_INVALID_GEOMETRY_ID;
    RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    rtcIntersect1(own_->scene, &context, &hit);
    if (hit.hit.geomID == RTC_INVALID_GEOMETRY_ID) return std::nullopt;
    return Hit{hit.ray.tfar, hit.hit.instID[0], hit.hit.primID, hit.hit.u, hit.hit.v};
}

bool RayScene::isBlocked(const Vector3d& from, const Vector3d& along, float nearest) const {
    RTCRay ray = rayOf(from - own_->origin, along, nearest);
    RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    rtcOccluded1(own_->scene, &context, &ray);
    return ray.tfar < 0;
}

}  // namespace pinion
