#include "render/mesh.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <mutex>
#include <numbers>
#include <tuple>

namespace pinion {

using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

/// A flat rectangle from its lower left corner, as seen from where its normal points.
void addQuad(Mesh& mesh, const Vector3f& corner, const Vector3f& right, const Vector3f& up) {
    const auto first = std::uint32_t(mesh.places.size());
    for (const auto& [x, y] : {std::pair{0.0F, 0.0F}, {1.0F, 0.0F}, {1.0F, 1.0F}, {0.0F, 1.0F}}) {
        mesh.places.push_back(corner + x * right + y * up);
        mesh.sheet.emplace_back(x, 1 - y);
    }
    mesh.triangles.push_back({first, first + 1, first + 2});
    mesh.triangles.push_back({first, first + 2, first + 3});
}

Mesh boxMesh() {
    Mesh mesh;
    const Vector3f x(1, 0, 0), y(0, 1, 0), z(0, 0, 1);
    addQuad(mesh, {-0.5F, 0, 0.5F}, x, y);
    addQuad(mesh, {0.5F, 0, -0.5F}, -x, y);
    addQuad(mesh, {0.5F, 0, 0.5F}, -z, y);
    addQuad(mesh, {-0.5F, 0, -0.5F}, z, y);
    addQuad(mesh, {-0.5F, 1, 0.5F}, x, -z);
    addQuad(mesh, {-0.5F, 0, -0.5F}, x, z);
    return mesh;
}

/// A body of revolution about y: rings from the top down; `outline` gives radius and height for 0 to 1, `normal` the
/// outward direction in that plane. Ends of no radius are points.
void addTurned(Mesh& mesh, int rings, int sides, const std::function<Vector2f(double)>& outline,
               const std::function<Vector2f(double)>& normal, const Vector3f& scale = {1, 1, 1},
               const Vector3f& shift = {0, 0, 0}) {
    const auto first = std::uint32_t(mesh.places.size());
    for (int ring = 0; ring <= rings; ++ring) {
        const double along = double(ring) / rings;
        const Vector2f at = outline(along), out = normal(along);
        for (int side = 0; side <= sides; ++side) {
            const double angle = 2 * std::numbers::pi * (side % sides) / sides;
            const auto c = float(std::cos(angle)), s = float(-std::sin(angle));
            mesh.places.push_back(Vector3f(at.x() * c, at.y(), at.x() * s).cwiseProduct(scale) + shift);
            mesh.normals.push_back(Vector3f(out.x() * c, out.y(), out.x() * s).cwiseQuotient(scale).normalized());
        }
    }
    const auto row = std::uint32_t(sides + 1);
    const auto isPoint = [&](int ring) { return outline(double(ring) / rings).x() == 0; };
    for (int ring = 0; ring < rings; ++ring)
        for (int side = 0; side < sides; ++side) {
            const std::uint32_t a = first + std::uint32_t(ring) * row + std::uint32_t(side), b = a + row;
            if (!isPoint(ring + 1)) mesh.triangles.push_back({a, b, b + 1});
            if (!isPoint(ring)) mesh.triangles.push_back({a, b + 1, a + 1});
        }
}

void addBall(Mesh& mesh, int sides, const Vector3f& half, const Vector3f& centre) {
    const auto circle = [](double along) -> Vector2f {
        if (along == 0 || along == 1) return {0, along == 0 ? 1.0F : -1.0F};
        const double angle = std::numbers::pi * along;
        return {float(std::sin(angle)), float(std::cos(angle))};
    };
    addTurned(mesh, sides / 2, sides, circle, circle, half, centre);
}

Mesh ballMesh(int sides) {
    Mesh mesh;
    addBall(mesh, sides, {0.5F, 0.5F, 0.5F}, {0, 0.5F, 0});
    return mesh;
}

Mesh coneMesh(int sides) {
    Mesh mesh;
    // Its tip has no normal of its own: each side's is taken.
    const Vector2f out = Vector2f(1, 0.5F).normalized();
    addTurned(
        mesh, 1, sides, [](double along) { return Vector2f(0.5F * float(along), 1 - float(along)); },
        [&](double) { return out; });
    addTurned(
        mesh, 1, sides, [](double along) { return Vector2f(0.5F * (1 - float(along)), 0); },
        [](double) { return Vector2f(0, -1); });
    return mesh;
}

/// A plain person who stands, facing +z: the usual proportions of eight heads.
Mesh figureMesh(int round) {
    Mesh mesh;
    const int sides = std::min(round, 96);
    const auto part = [&](float x, float y, float z, float halfX, float halfY, float halfZ) {
        addBall(mesh, sides, {halfX, halfY, halfZ}, {x, y, z});
    };
    part(0, 0.935F, 0.03F, 0.14F, 0.065F, 0.30F);  // head
    part(0, 0.855F, 0, 0.10F, 0.05F, 0.20F);       // neck
    part(0, 0.715F, 0, 0.34F, 0.155F, 0.42F);      // chest
    part(0, 0.535F, 0, 0.28F, 0.13F, 0.38F);       // hips
    for (const float side : {-1.0F, 1.0F}) {
        part(side * 0.38F, 0.715F, 0, 0.09F, 0.115F, 0.20F);        // upper arm
        part(side * 0.42F, 0.545F, 0.04F, 0.075F, 0.12F, 0.17F);    // forearm and hand
        part(side * 0.15F, 0.39F, 0, 0.135F, 0.155F, 0.27F);        // thigh
        part(side * 0.15F, 0.165F, 0, 0.10F, 0.155F, 0.22F);        // calf
        part(side * 0.16F, 0.0225F, 0.16F, 0.09F, 0.0225F, 0.34F);  // foot
    }
    return mesh;
}

Mesh flatMesh(const Vector3f& corner, const Vector3f& right, const Vector3f& up) {
    Mesh mesh;
    addQuad(mesh, corner, right, up);
    return mesh;
}

Mesh madeMesh(StandInKind kind, int sides) {
    switch (kind) {
        case StandInKind::board:
        case StandInKind::card:
        case StandInKind::text:
            return flatMesh({-0.5F, 0, 0}, {1, 0, 0}, {0, 1, 0});
        case StandInKind::cone:
            return coneMesh(sides);
        case StandInKind::ball:
            return ballMesh(sides);
        case StandInKind::figure:
            return figureMesh(sides);
        case StandInKind::grid:
            return flatMesh({-0.5F, 0, 0.5F}, {1, 0, 0}, {0, 0, -1});
        case StandInKind::box:
        case StandInKind::mesh:
        case StandInKind::locator:
            break;
    }
    return boxMesh();
}

}  // namespace

void Mesh::findEdges(double sharp_deg) {
    // Places that lie on one another are one to the edges.
    std::map<std::tuple<float, float, float>, std::uint32_t> known;
    std::vector<std::uint32_t> same(places.size());
    for (std::size_t i = 0; i < places.size(); ++i)
        same[i] = known.try_emplace({places[i].x(), places[i].y(), places[i].z()}, std::uint32_t(i)).first->second;
    const auto normalOf = [&](std::uint32_t t) -> Vector3f {
        const Triangle& triangle = triangles[t];
        return (places[triangle[1]] - places[triangle[0]])
            .cross(places[triangle[2]] - places[triangle[0]])
            .normalized();
    };
    std::map<std::pair<std::uint32_t, std::uint32_t>, std::size_t> found;
    edges.clear();
    for (std::uint32_t t = 0; t < triangles.size(); ++t)
        for (std::size_t k = 0; k < 3; ++k) {
            std::uint32_t a = same[triangles[t][k]], b = same[triangles[t][(k + 1) % 3]];
            if (a == b) continue;
            if (a > b) std::swap(a, b);
            const auto [at, isNew] = found.try_emplace({a, b}, edges.size());
            if (isNew) edges.push_back({{a, b}, {t, t}, true});
            else edges[at->second].sides[1] = t;
        }
    const auto straight = float(std::cos(sharp_deg * std::numbers::pi / 180));
    for (Edge& edge : edges)
        if (edge.sides[0] != edge.sides[1])
            edge.isSharp = normalOf(edge.sides[0]).dot(normalOf(edge.sides[1])) < straight;
}

std::shared_ptr<const Mesh> unitMesh(StandInKind kind, int sides) {
    static std::mutex mutex;
    static std::map<std::pair<StandInKind, int>, std::shared_ptr<const Mesh>> made;
    const std::lock_guard lock(mutex);
    auto& mesh = made[{kind, sides}];
    if (!mesh) {
        auto own = std::make_shared<Mesh>(madeMesh(kind, sides));
        own->findEdges();
        mesh = std::move(own);
    }
    return mesh;
}

}  // namespace pinion
