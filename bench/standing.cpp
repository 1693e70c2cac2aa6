#include "benches.h"
#include "base/parallel.h"
#include "plate/framecache.h"
#include "render/meshfile.h"
#include "render/scenerender.h"

#include <limits>

namespace pinion::bench {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kFrames = 24;

Solve solveOf(const Truth& truth) {
    Solve solve;
    solve.lens = truth.lens;
    std::vector<SolvedFrame> frames;
    for (const auto& [frame, pose] : truth.cameras)
        frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = truth.lens.focal_px});
    solve.frames = List<SolvedFrame>(std::move(frames));
    return solve;
}

/// A board, a box and a figure beside one another on the deck.
SceneLook boardBoxFigure() {
    std::vector<StandIn> all(3);
    all[0].kind = StandInKind::board;
    all[0].stance = {{-0.6, 0, 0.4}, {0, 0, 0}, {1, 1, 1}};
    all[1].kind = StandInKind::box;
    all[1].stance = {{0.3, 0, 0.5}, {0, 25, 0}, {0.5, 0.5, 0.5}};
    all[2].kind = StandInKind::figure;
    all[2].stance = {{0.9, 0, 0.1}, {0, 0, 0}, {0.55, 1.75, 0.35}};
    for (std::size_t i = 0; i < all.size(); ++i) all[i].id = StandInId(i) + 1;
    SceneLook look;
    look.standIns = std::move(all);
    return look;
}

/// The same by a loop that tries every triangle with one ray through the middle of each pixel of `box`, and another to
/// the sun from what it meets (Moeller and Trumbore 1997): neither smoothed nor shaded. Of every `kSparse`th pixel both
/// ways: how many met something.
constexpr int kSparse = 16;
int naive(const SceneLook& look, const WorldEye& eye, const PixelBox& box) {
    struct Triangle {
        Vector3d corner, first, second;
    };
    std::vector<Triangle> triangles;
    for (const StandIn& one : look.standIns) {
        const auto mesh = shapeOf(one);
        const Eigen::Affine3d world = one.stance.worldFromUnit();
        for (const Mesh::Triangle& corners : mesh->triangles) {
            const Vector3d a = world * mesh->places[corners[0]].cast<double>();
            triangles.push_back({a, world * mesh->places[corners[1]].cast<double>() - a,
                                 world * mesh->places[corners[2]].cast<double>() - a});
        }
    }
    const auto nearest = [&](const Vector3d& from, const Vector3d& along) {
        double found = std::numeric_limits<double>::infinity();
        for (const Triangle& triangle : triangles) {
            const Vector3d p = along.cross(triangle.second);
            const double determinant = triangle.first.dot(p);
            if (std::abs(determinant) < 1e-12) continue;
            const Vector3d t = from - triangle.corner;
            const double u = t.dot(p) / determinant;
            if (u < 0 || u > 1) continue;
            const Vector3d q = t.cross(triangle.first);
            const double v = along.dot(q) / determinant;
            if (v < 0 || u + v > 1) continue;
            const double distance = triangle.second.dot(q) / determinant;
            if (distance > 1e-4) found = std::min(found, distance);
        }
        return found;
    };
    const Vector3d sun = look.sun.towards.normalized();
    int met = 0;
    for (int y = box.y0; y < box.y1; y += kSparse)
        for (int x = box.x0; x < box.x1; x += kSparse) {
            const auto ray = eye.rayThrough({x + 0.5, y + 0.5});
            if (!ray) continue;
            double distance = nearest(ray->from, ray->along);
            const bool isBody = std::isfinite(distance);
            if (!isBody)
                if (const auto ground = onLevel(*ray, look.ground)) distance = (*ground - ray->from).norm();
            if (!std::isfinite(distance)) continue;
            const bool isDark = std::isfinite(nearest(ray->from + distance * ray->along + 1e-3 * sun, sun));
            met += isBody || isDark;
        }
    return met;
}

}  // namespace

void benchStandIns(const Truth& truth) {
    const Solve solve = solveOf(truth);
    SceneLook look = boardBoxFigure();
    const int first = solve.frames.front().frame;
    const auto made = [&](const char* name, int samples, double softness, double skyShadow) {
        look.sun.softness_deg = softness;
        look.sun.skyShadow = skyShadow;
        const SceneRenderer renderer(look);
        std::vector<double> took;
        for (int i = -1; i < kFrames; ++i) {
            const int frame = first + 2 * std::max(0, i);
            const auto eye = WorldEye::of(solve, {}, frame);
            const double before = now();
            const PixelBox box = boxOfScene(look, *eye, frame, solve.lens.width, solve.lens.height);
            (void)renderer.frame(*eye, frame, {.box = box, .samples = samples});
            if (i >= 0) took.push_back(1000 * (now() - before));
        }
        Errors times{took};
        fmt::print("  {:<44} {:6.1f} ms a frame in the median, {:.1f} at most\n", name, times.at(0.5), times.at(1));
    };
    fmt::print(" a board, a box and a figure, {}x{}, {} threads\n", solve.lens.width, solve.lens.height,
               limitThreads(0));
    const Sun usual = look.sun;
    made("while something moves (hard, 4 rays)", 4, 0, 0);
    made("at rest (16 rays)", 16, usual.softness_deg, usual.skyShadow);
    made("as rendered (64 rays)", 64, usual.softness_deg, usual.skyShadow);
    made("as rendered, with the sky's shadow", 64, usual.softness_deg, 1);
    const auto eye = WorldEye::of(solve, {}, first);
    const PixelBox box = boxOfScene(look, *eye, first, solve.lens.width, solve.lens.height);
    const double before = now();
    const int met = naive(look, *eye, box);
    fmt::print("  {:<44} {:6.0f} ms for a frame, by a {}th of its pixels, {} of which meet something\n",
               "one ray a pixel, every triangle, one thread", 1000 * kSparse * kSparse * (now() - before),
               kSparse * kSparse, met);
}

}  // namespace pinion::bench
