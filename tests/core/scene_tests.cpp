// What stands in the solved scene: rendered, and compared with what was worked out another way.

#include "base/files.h"
#include "exchange/scenefile.h"
#include "jobs/standing.h"
#include "plate/framecache.h"
#include "render/meshfile.h"
#include "render/rays.h"
#include "render/scenerender.h"
#include "render/skylight.h"
#include "render/sunlight.h"
#include "scratch.h"
#include "shot/edits/sceneedits.h"
#include "shot/layers/layers.h"

#include <catch2/catch.hpp>

#include <algorithm>
#include <OpenImageIO/imageio.h>
#include <nlohmann/json.hpp>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::AngleAxisd;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kWidth = 640, kHeight = 360;

/// A camera at eye height that looks a little down, through a lens that bends.
Solve filmed(double readout = 0, bool columns = false) {
    Solve solve;
    solve.lens = pinholeLens(kWidth, kHeight, 520);
    solve.lens.k1 = -0.12;
    solve.lens.k2 = 0.03;
    solve.lens.cx += 7;
    solve.lens.cy -= 5;
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1012; ++frame) {
        const double t = frame - 1001;
        Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
        pose.translate(Vector3d(0.08 * t, 1.6 + 0.01 * t, 4 - 0.02 * t));
        pose.rotate(AngleAxisd(-0.22, Vector3d::UnitX()) * AngleAxisd(0.03 * t, Vector3d::UnitY()));
        frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = solve.lens.focal_px});
    }
    solve.frames = List<SolvedFrame>(std::move(frames));
    solve.readout = {readout, columns};
    return solve;
}

WorldEye eyeOf(const Solve& solve, int frame, const Orientation& orientation = {}) {
    auto eye = WorldEye::of(solve, orientation, frame);
    REQUIRE(eye);
    return *eye;
}

StandIn standing(StandInKind kind, const Stance& stance, StandInId id = 1) {
    StandIn one;
    one.id = id;
    one.name = std::string(toString(kind));
    one.kind = kind;
    one.stance = stance;
    return one;
}

SceneLook lookOf(std::vector<StandIn> standIns) {
    SceneLook look;
    look.standIns = List<StandIn>(std::move(standIns));
    look.groundCatches = false;
    return look;
}

SceneFrame wholeFrame(const SceneLook& look, const WorldEye& eye, int frame, int samples = 64, bool passes = false) {
    return SceneRenderer(look).frame(eye, frame,
                                     {.box = {0, 0, kWidth, kHeight}, .samples = samples, .passes = passes});
}

/// How much of each pixel the triangles cover, told by 24 x 24 places a pixel: the triangles in small pieces, each
/// corner taken to the plate by the camera. It shares the eye with what it judges, and nothing of the rays.
std::vector<double> coveredBy(const std::vector<std::array<Vector3d, 3>>& triangles, const WorldEye& eye) {
    constexpr int kFine = 24;
    const int across = kWidth * kFine, down = kHeight * kFine;
    std::vector<char> isIn(std::size_t(across) * std::size_t(down), 0);
    const std::function<void(const std::array<Vector3d, 3>&, int)> draw = [&](const std::array<Vector3d, 3>& t,
                                                                              int depth) {
        std::array<Vector2d, 3> at;
        double longest = 0;
        for (std::size_t i = 0; i < 3; ++i) {
            const auto plate = eye.plateFromWorld(t[i]);
            if (!plate) return;
            at[i] = *plate * kFine;
        }
        for (std::size_t i = 0; i < 3; ++i) longest = std::max(longest, (at[i] - at[(i + 1) % 3]).norm());
        // A side of 12 pixels bends by under a hundredth.
        if (longest > 12 * kFine && depth < 8) {
            const Vector3d a = 0.5 * (t[0] + t[1]), b = 0.5 * (t[1] + t[2]), c = 0.5 * (t[2] + t[0]);
            for (const auto& part :
                 {std::array{t[0], a, c}, std::array{a, t[1], b}, std::array{c, b, t[2]}, std::array{a, b, c}})
                draw(part, depth + 1);
            return;
        }
        const auto side = [](const Vector2d& p, const Vector2d& q, double x, double y) {
            return (q.x() - p.x()) * (y - p.y()) - (q.y() - p.y()) * (x - p.x());
        };
        const int x0 = std::max(0, int(std::min({at[0].x(), at[1].x(), at[2].x()}))),
                  x1 = std::min(across - 1, int(std::max({at[0].x(), at[1].x(), at[2].x()})) + 1),
                  y0 = std::max(0, int(std::min({at[0].y(), at[1].y(), at[2].y()}))),
                  y1 = std::min(down - 1, int(std::max({at[0].y(), at[1].y(), at[2].y()})) + 1);
        for (int y = y0; y <= y1; ++y)
            for (int x = x0; x <= x1; ++x) {
                const double a = side(at[0], at[1], x + 0.5, y + 0.5), b = side(at[1], at[2], x + 0.5, y + 0.5),
                             c = side(at[2], at[0], x + 0.5, y + 0.5);
                if ((a >= 0 && b >= 0 && c >= 0) || (a <= 0 && b <= 0 && c <= 0))
                    isIn[std::size_t(y) * std::size_t(across) + std::size_t(x)] = 1;
            }
    };
    for (const auto& triangle : triangles) draw(triangle, 0);
    std::vector<double> covered(std::size_t(kWidth) * std::size_t(kHeight), 0.0);
    for (int y = 0; y < down; ++y)
        for (int x = 0; x < across; ++x)
            covered[std::size_t(y / kFine) * std::size_t(kWidth) + std::size_t(x / kFine)] +=
                double(isIn[std::size_t(y) * std::size_t(across) + std::size_t(x)]) / (kFine * kFine);
    return covered;
}

std::vector<std::array<Vector3d, 3>> trianglesOf(const StandIn& standIn, int frame) {
    const auto mesh = unitMesh(standIn.kind);
    const Eigen::Affine3d world = standIn.at(frame).worldFromUnit();
    std::vector<std::array<Vector3d, 3>> result;
    for (const Mesh::Triangle& triangle : mesh->triangles) {
        std::array<Vector3d, 3> corners;
        for (std::size_t i = 0; i < 3; ++i) corners[i] = world * mesh->places[triangle[i]].cast<double>();
        result.push_back(corners);
    }
    return result;
}

/// The mean of how far the edge is off, over pixels that it passes through: a share of a pixel that is covered wrongly
/// is a way of the edge.
double edgeError(const SceneFrame& frame, const std::vector<double>& covered, int* count) {
    double sum = 0;
    *count = 0;
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x) {
            const double truth = covered[std::size_t(y) * kWidth + std::size_t(x)];
            const double alpha = frame.layer.isEmpty() ? 0 : double(frame.layer.at(x, y)[3]);
            if (truth <= 0.002 || truth >= 0.998) {
                INFO(x << " " << y << " " << truth << " " << alpha);
                REQUIRE(std::abs(alpha - truth) < 0.06);
                continue;
            }
            sum += std::abs(alpha - truth);
            ++*count;
        }
    return sum / std::max(1, *count);
}

}  // namespace

TEST_CASE(
    "under the sky alone the ground is darker by what a box covers of it, and the box by what the next one does") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1003);
    SceneLook look = lookOf({standing(StandInKind::box, {{0.3, 0, 0.2}, {0, 30, 0}, {0.6, 0.9, 0.5}})});
    look.groundCatches = true;
    look.sun.strength = 0;
    look.sun.skyShadow = 0.8;
    SceneWish wish{.box = {0, 0, kWidth, kHeight}, .linear = true};
    const SceneFrame dark = SceneRenderer(look).frame(eye, 1003, wish);
    SkyCover cover;
    cover.add(StandInKind::box, look.standIns[0].stance.worldFromUnit());
    int looked = 0;
    for (const Vector3d& place : {Vector3d(0.9, 0, 0.6), Vector3d(-0.5, 0, 0.9), Vector3d(0.3, 0, 1.1)}) {
        const auto plate = eye.plateFromWorld(place);
        REQUIRE(plate);
        const Vector3d met = *onLevel(*eye.rayThrough({std::floor(plate->x()) + 0.5, std::floor(plate->y()) + 0.5}), 0);
        const float* pixel = dark.layer.at(int(plate->x()), int(plate->y()));
        CHECK(pixel[0] == 0);
        CHECK(pixel[3] == Approx(0.8 * cover.at(met, {0, 1, 0})).margin(2e-3));
        CHECK(pixel[3] > 0.02);
        ++looked;
    }
    REQUIRE(looked == 3);
    // Without it nothing lies on the ground.
    look.sun.skyShadow = 0;
    const SceneFrame plain = SceneRenderer(look).frame(eye, 1003, wish);
    const Vector2d beside = *eye.plateFromWorld({0.9, 0, 0.6});
    CHECK(plain.layer.at(int(beside.x()), int(beside.y()))[3] == 0);
    // A second one covers some of what the first one's side sees of the sky.
    const Vector2d side = *eye.plateFromWorld(look.standIns[0].stance.worldFromUnit() * Vector3d(0.1, 0.15, 0.5));
    look.sun.skyShadow = 1;
    const float alone = SceneRenderer(look).frame(eye, 1003, wish).layer.at(int(side.x()), int(side.y()))[0];
    look.standIns = look.standIns.edited([](auto& all) {
        all.push_back(standing(StandInKind::ball, {{0.05, 0, 0.95}, {0, 0, 0}, {0.6, 0.6, 0.6}}, 2));
    });
    const float beside2 = SceneRenderer(look).frame(eye, 1003, wish).layer.at(int(side.x()), int(side.y()))[0];
    CHECK(beside2 < 0.97F * alone);
    CHECK(beside2 > 0.3F * alone);
}

TEST_CASE("silhouettes of stand-ins lie where polygons taken to the plate by the camera lie, through a bent lens") {
    const std::vector<StandIn> all{standing(StandInKind::box, {{0.3, 0, 0}, {10, 33, -4}, {0.8, 1.1, 0.5}}),
                                   standing(StandInKind::figure, {{-0.5, 0, 0.4}, {0, 25, 0}, {0.55, 1.75, 0.3}}),
                                   standing(StandInKind::cone, {{1.2, 0, -1}, {0, 0, 0}, {0.7, 1.2, 0.7}}),
                                   standing(StandInKind::ball, {{-1.2, 0.2, -1}, {0, 0, 20}, {0.9, 0.6, 0.7}}),
                                   standing(StandInKind::board, {{0.1, 0.1, 0.5}, {-70, 20, 5}, {1.5, 1, 1}})};
    for (const double readout : {0.0, 0.7}) {
        const Solve solve = filmed(readout);
        const WorldEye eye = eyeOf(solve, 1006);
        for (const StandIn& one : all) {
            INFO(one.name << ", readout " << readout);
            int count = 0;
            const double error =
                edgeError(wholeFrame(lookOf({one}), eye, 1006), coveredBy(trianglesOf(one, 1006), eye), &count);
            CHECK(count > 100);
            CHECK(error < 0.02);
        }
    }
}

TEST_CASE("a stand-in goes with a world that was set upright and scaled, and with the camera") {
    // The same picture, whether the world is turned and scaled under both or not.
    const Solve solve = filmed();
    StandIn box = standing(StandInKind::box, {{0.3, 0, 0}, {0, 33, 0}, {0.8, 1.1, 0.5}});
    Orientation set;
    set.scale = 2.5;
    set.rotation = AngleAxisd(0.8, Vector3d::UnitY()).toRotationMatrix();
    set.translation = Vector3d(30, -4, 12);
    const SceneFrame plain = wholeFrame(lookOf({box}), eyeOf(solve, 1003), 1003);
    box.stance.place = set.apply(box.stance.place);
    box.stance.turn_deg.y() += 0.8 * 180 / std::numbers::pi;
    box.stance.size *= set.scale;
    SceneLook look = lookOf({box});
    look.sun.towards = set.rotation * look.sun.towards;
    const SceneFrame moved = wholeFrame(look, eyeOf(solve, 1003, set), 1003);
    double most = 0;
    REQUIRE(plain.layer.rgba.size() == moved.layer.rgba.size());
    for (std::size_t i = 0; i < plain.layer.rgba.size(); ++i)
        most = std::max(most, double(std::abs(plain.layer.rgba[i] - moved.layer.rgba[i])));
    CHECK(most < 0.04);  // a ray of 64 may fall on the other side
}

TEST_CASE("a box's shadow lies on the ground where the sun behind it says, and nowhere else") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1004);
    const StandIn box = standing(StandInKind::box, {{0.2, 0, 0.2}, {0, 0, 0}, {0.6, 1.0, 0.4}});
    SceneLook look = lookOf({box});
    look.groundCatches = true;
    look.sun = {.towards = {-0.8, 1, -0.4}, .softness_deg = 0, .strength = 0.75};
    const SceneFrame frame = wholeFrame(look, eye, 1004);
    const Vector3d sun = look.sun.towards.normalized();
    // Of the light on the ground this is lost: what comes straight down at a slope.
    const double direct = 0.75 * sun.y(), lost = direct / (direct + 0.25);
    const double alpha = 1 - double(encodeSrgb(float(1 - lost)));
    int dark = 0, light = 0, wrong = 0;
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x) {
            const auto ray = eye.rayThrough({x + 0.5, y + 0.5});
            const float* pixel = frame.layer.at(x, y);
            const auto ground = ray ? onLevel(*ray, 0) : std::nullopt;
            if (!ground || pixel[0] > 0) continue;  // sky, or the box itself
            // By slabs: whether the way to the sun passes through the box.
            double from = 0, to = 1e9;
            const Vector3d low = box.stance.place - Vector3d(0.3, 0, 0.2), high = low + box.stance.size;
            for (int axis = 0; axis < 3; ++axis) {
                const double a = (low[axis] - (*ground)[axis]) / sun[axis],
                             b = (high[axis] - (*ground)[axis]) / sun[axis];
                from = std::max(from, std::min(a, b));
                to = std::min(to, std::max(a, b));
            }
            const bool isDark = from < to;
            (isDark ? dark : light)++;
            const double expected = isDark ? alpha : 0;
            if (std::abs(double(pixel[3]) - expected) > 0.02) ++wrong;
        }
    CHECK(dark > 3000);
    CHECK(light > 50000);
    // Those that the shadow's border passes through.
    CHECK(wrong < 700);
}

TEST_CASE("a sun of some width gives a shadow a soft edge, and one below the horizon none on the ground") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1004);
    SceneLook look = lookOf({standing(StandInKind::box, {{0.2, 0, 0.2}, {0, 0, 0}, {0.6, 1.0, 0.4}})});
    look.groundCatches = true;
    look.sun = {.towards = {-0.8, 1, -0.4}, .softness_deg = 0, .strength = 0.75};
    const auto between = [&](double softness) {
        look.sun.softness_deg = softness;
        const SceneFrame frame = wholeFrame(look, eye, 1004);
        int count = 0;
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x) {
                const float* pixel = frame.layer.at(x, y);
                count += pixel[0] == 0 && pixel[3] > 0.05F && pixel[3] < 0.3F;
            }
        return count;
    };
    const int hard = between(0), soft = between(8);
    CHECK(soft > 4 * hard);
    look.sun.towards = {0.3, -1, 0.2};
    const SceneFrame night = wholeFrame(look, eye, 1004);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            if (night.layer.at(x, y)[0] == 0) REQUIRE(night.layer.at(x, y)[3] == 0);
    CHECK(SceneRenderer(look).troubles().size() == 1);
}

TEST_CASE("what is nearer hides what is behind; what only hides takes it out; what only catches shows shadows alone") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1001);
    StandIn far = standing(StandInKind::box, {{0, 0, -1}, {0, 0, 0}, {1, 1, 1}}, 1);
    StandIn near = standing(StandInKind::box, {{0, 0, 1}, {0, 0, 0}, {0.3, 1.2, 0.3}}, 2);
    far.colour = {0.9, 0.1, 0.1};
    near.colour = {0.1, 0.1, 0.9};
    const Vector2d at = *eye.plateFromWorld({0, 1.0, 1.15});
    const auto pixelOf = [&](const SceneLook& look) {
        const SceneFrame frame = wholeFrame(look, eye, 1001, 16, true);
        std::array<float, 4> pixel;
        std::copy_n(frame.layer.at(int(at.x()), int(at.y())), 4, pixel.begin());
        return pixel;
    };
    const auto both = pixelOf(lookOf({far, near}));
    CHECK(both[2] > 2 * both[0]);
    CHECK(both[3] == 1);
    near.hides = true;
    CHECK(pixelOf(lookOf({far, near}))[3] == 0);
    near.hides = false;
    near.catchesOnly = true;
    near.casts = false;
    const auto behind = pixelOf(lookOf({far, near}));
    CHECK(behind[0] > 2 * behind[2]);
    near.catchesOnly = false;
    near.opacity = 0.5;
    const auto mixed = pixelOf(lookOf({far, near}));
    CHECK(mixed[3] == Approx(1));
    CHECK(mixed[0] > both[0]);
    CHECK(mixed[2] > behind[2]);
    near.hidden = true;
    CHECK(pixelOf(lookOf({far, near}))[0] == Approx(behind[0]).margin(0.01));
}

TEST_CASE("depth, place, normal and mask of a pixel are those of what its middle sees") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1002);
    const StandIn box = standing(StandInKind::box, {{0, 0, 0}, {0, 0, 0}, {1, 1, 1}}, 7);
    const SceneFrame frame = wholeFrame(lookOf({box}), eye, 1002, 16, true);
    const Vector2d at = *eye.plateFromWorld({0.1, 0.5, 0.5});
    const auto i = std::size_t(at.y()) * kWidth + std::size_t(at.x());
    CHECK(frame.passes.mask[i] == 1);
    CHECK(frame.passes.normal[3 * i + 2] == Approx(1));
    const Vector3d place(frame.passes.position[3 * i], frame.passes.position[3 * i + 1],
                         frame.passes.position[3 * i + 2]);
    CHECK(place.z() == Approx(0.5).margin(1e-4));
    CHECK(frame.passes.depth[i] == Approx(eye.depthOf(place)).margin(1e-4));
    const auto back = eye.plateFromWorld(place);
    REQUIRE(back);
    CHECK((*back - Vector2d(std::floor(at.x()) + 0.5, std::floor(at.y()) + 0.5)).norm() < 1e-2);
    CHECK(frame.passes.mask[0] == 0);
    CHECK(frame.passes.depth[0] == 0);
}

TEST_CASE("a board's chequers are the mean of what a pixel covers of them, near, far and at a slant") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1001);
    const Picture art = testArt(1);
    const auto linearAt = [&](double u, double v) {
        const auto x = std::size_t(std::clamp(u * art.width, 0.0, art.width - 1.0)),
                   y = std::size_t(std::clamp(v * art.height, 0.0, art.height - 1.0));
        return double(decodeSrgb(valueAt(art, 3 * (y * std::size_t(art.width) + x) + 1)));
    };
    for (const Stance& stance :
         {Stance{{0, 0.6, 0}, {0, 0, 0}, {1.4, 1.4, 1}}, Stance{{0, -20, -300}, {0, 20, 0}, {60, 60, 1}},
          Stance{{0, 0, -40}, {-87, 10, 0}, {60, 60, 1}}}) {
        SceneLook look = lookOf({standing(StandInKind::board, stance)});
        look.sun.strength = 0;
        const SceneFrame frame = wholeFrame(look, eye, 1001);
        const Eigen::Matrix3d turn = stance.rotation();
        const Vector3d normal = turn.col(2);
        const double facing = normal.dot(eye.place() - stance.place) > 0 ? normal.y() : -normal.y();
        const double light = 0.65 + 0.35 * facing;
        double sum = 0, bias = 0;
        int count = 0;
        for (int y = 0; y < kHeight; y += 3)
            for (int x = 0; x < kWidth; x += 3) {
                if (frame.layer.at(x, y)[3] < 1) continue;
                // Rays of our own, each to a texel of the picture as it is.
                constexpr int kRays = 20;
                double truth = 0;
                int met = 0;
                for (int i = 0; i < kRays * kRays; ++i) {
                    const auto ray =
                        eye.rayThrough({x + (i % kRays + 0.5) / kRays, y + (double(i / kRays) + 0.5) / kRays});
                    const double far = normal.dot(stance.place - ray->from) / normal.dot(ray->along);
                    const Vector3d own = turn.transpose() * (ray->from + far * ray->along - stance.place);
                    const double u = own.x() / stance.size.x() + 0.5, v = 1 - own.y() / stance.size.y();
                    if (u < 0 || u > 1 || v < 0 || v > 1) continue;
                    truth += linearAt(u, v);
                    ++met;
                }
                if (met < kRays * kRays) continue;
                const double shown = double(frame.layer.at(x, y)[1]),
                             expected = double(encodeSrgb(float(light * truth / met)));
                sum += std::abs(shown - expected);
                bias += shown - expected;
                ++count;
            }
        INFO(stance.place.transpose());
        REQUIRE(count > 300);
        CHECK(sum / count < 0.016);
        CHECK(std::abs(bias / count) < 0.006);
    }
}

TEST_CASE("a click finds what stands under it, or the ground") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1005);
    const SceneLook look = lookOf({standing(StandInKind::ball, {{0.4, 0, 0}, {0, 0, 0}, {0.8, 0.8, 0.8}}, 4)});
    const auto ball = pickedAt(look, eye, 1005, *eye.plateFromWorld({0.4, 0.4, 0}));
    REQUIRE(ball);
    CHECK(ball->standIn == 4);
    CHECK((ball->world - Vector3d(0.4, 0.4, 0)).norm() == Approx(0.4).margin(1e-3));
    const Vector3d floor(-0.7, 0, 0.9);
    const auto ground = pickedAt(look, eye, 1005, *eye.plateFromWorld(floor));
    REQUIRE(ground);
    CHECK(ground->standIn == 0);
    CHECK((ground->world - floor).norm() < 1e-6);
    CHECK_FALSE(pickedAt(look, eye, 1005, {320, 2}));  // the sky
}

TEST_CASE("nothing of a body is left out where a lens bends its edges outwards, on a large plate") {
    // Its edge between the places that are looked at runs some pixels beside the line between them.
    Solve solve = filmed();
    const double scale = 7680.0 / solve.lens.width;
    solve.lens = pinholeLens(7680, int(std::lround(solve.lens.height * scale)), solve.lens.focal_px * scale);
    solve.lens.k1 = -0.25;
    solve.frames = solve.frames.edited([&](auto& all) {
        for (SolvedFrame& frame : all) frame.focal_px = solve.lens.focal_px;
    });
    const WorldEye eye = eyeOf(solve, 1005);
    const Vector3d before = eye.place() + 1.5 * eye.forward();
    const double top = before.y() + 0.25;
    const SceneLook look =
        lookOf({standing(StandInKind::board, {{before.x(), top - 1, before.z()}, {0, 8, 0}, {2.2, 1, 0.3}})});
    const auto corners = boxCorners(StandInKind::board, look.standIns[0].stance);
    // The strip of the picture about its upper edge.
    std::vector<Vector2d> edge;
    for (int i = 0; i <= 8000; ++i) {
        const auto at = eye.plateFromWorld(corners[2] + i / 8000.0 * (corners[3] - corners[2]));
        REQUIRE(at);
        if (at->x() > 2 && at->y() > 2 && at->x() < solve.lens.width - 2) edge.push_back(*at);
    }
    REQUIRE(edge.size() > 5000);
    const auto [high, low] = std::minmax_element(edge.begin(), edge.end(),
                                                 [](const Vector2d& a, const Vector2d& b) { return a.y() < b.y(); });
    const PixelBox strip{0, std::max(0, int(high->y()) - 20), solve.lens.width, int(low->y()) + 20};
    const SceneFrame frame = SceneRenderer(look).frame(eye, 1005, {.box = strip, .samples = 4, .fps = {24, 1}});
    int missing = 0;
    for (const Vector2d& at : edge) missing += frame.layer.at(int(at.x()), int(at.y()) + 1)[3] <= 0;
    CHECK(missing == 0);
}

TEST_CASE("a click goes through what is clear of a card, to what stands behind it") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1005);
    const test::Scratch scratch;
    {
        std::vector<std::uint8_t> rgba(std::size_t(40) * 40 * 4, 200);
        for (std::size_t y = 0; y < 40; ++y)
            for (std::size_t x = 0; x < 20; ++x) rgba[(y * 40 + x) * 4 + 3] = 0;
        const auto file = OIIO::ImageOutput::create((scratch / "half.png").string());
        REQUIRE(file);
        REQUIRE(file->open((scratch / "half.png").string(), OIIO::ImageSpec(40, 40, 4, OIIO::TypeDesc::UINT8)));
        REQUIRE(file->write_image(OIIO::TypeDesc::UINT8, rgba.data()));
        REQUIRE(file->close());
    }
    StandIn card;
    card.id = 77;
    card.kind = StandInKind::card;
    card.file = scratch / "half.png";
    card.stance = {{0.4, 0, 1}, {0, 0, 0}, {1, 1, 1}};
    const SceneLook look = lookOf({standing(StandInKind::ball, {{0.2, 0, 0}, {0, 0, 0}, {0.8, 0.8, 0.8}}, 4), card});
    ArtShelf shelf;
    const CardPictures cards{&shelf, {24, 1}};
    const auto left = *eye.plateFromWorld({0.2, 0.4, 1}), right = *eye.plateFromWorld({0.6, 0.4, 1});
    CHECK(pickedAt(look, eye, 1005, left)->standIn == 77);  // solid without its pictures
    CHECK(pickedAt(look, eye, 1005, left, cards)->standIn == 4);
    CHECK(pickedAt(look, eye, 1005, right, cards)->standIn == 77);
}

TEST_CASE("what stands on a height touches it with its lowest point, however it is turned") {
    for (const StandInKind kind : {StandInKind::box, StandInKind::ball, StandInKind::board}) {
        const Stance stance = standingAt({{1, 5, 2}, {30, 40, -20}, {0.8, 1.2, 0.5}}, kind, 0.25);
        StandIn one = standing(kind, stance);
        double lowest = 1e9;
        for (const auto& triangle : trianglesOf(one, 1001))
            for (const Vector3d& corner : triangle) lowest = std::min(lowest, corner.y());
        INFO(one.name);
        CHECK(lowest == Approx(0.25).margin(2e-4));
        CHECK(stance.place.x() == 1);
    }
}

TEST_CASE("points on a line tell no upright: what is put on them stands as it would on one") {
    const std::vector<Vector3d> line{{0, 0, 0}, {1, 0, 1}, {2, 0, 2}};
    const Stance stance = standingOn({{9, 9, 9}, {0, 0, 0}, {1, 2, 3}}, StandInKind::box, line, {0, 5, 0});
    CHECK((stance.place - Vector3d(1, 0, 1)).norm() < 1e-12);
    CHECK(stance.turn_deg == Vector3d(0, 0, 0));
    CHECK(stance.size == Vector3d(1, 2, 3));
    // On a slope its upright is the slope's, on the side of the eye.
    const std::vector<Vector3d> slope{{0, 0, 0}, {1, 0, 0}, {0, 1, -1}, {1, 1, -1}};
    const Vector3d normal = Vector3d(0, 1, 1).normalized();
    for (const double side : {5.0, -5.0}) {
        const Stance box = standingOn({}, StandInKind::box, slope, side * normal);
        CHECK((box.rotation().col(1) - (side > 0 ? normal : Vector3d(-normal))).norm() < 1e-9);
        CHECK(box.rotation().determinant() == Approx(1));
    }
}

TEST_CASE("between keys a stand-in goes evenly, and stays before and after them") {
    StandIn one = standing(StandInKind::box, {});
    one.keys = List<StanceKey>(
        {StanceKey{1010, {{0, 0, 0}, {0, 0, 0}, {1, 1, 1}}}, StanceKey{1020, {{2, 0, -4}, {0, 90, 0}, {2, 1, 1}}}});
    CHECK(one.at(1015) == Stance{{1, 0, -2}, {0, 45, 0}, {1.5, 1, 1}});
    CHECK(one.at(1001) == one.keys.front().stance);
    CHECK(one.at(1030) == one.keys.back().stance);
}

TEST_CASE("turns are about the world's x, then its y, then its z") {
    const Stance stance{{0, 0, 0}, {90, 90, 0}, {1, 1, 1}};
    // Up goes to +z by the first, and that to +x by the second.
    CHECK((stance.rotation() * Vector3d(0, 1, 0) - Vector3d(1, 0, 0)).norm() < 1e-12);
}

TEST_CASE("shapes are closed, face outwards, and fill their unit") {
    for (std::size_t k = 0; k < kStandInKinds.size(); ++k) {
        const auto kind = StandInKind(k);
        const auto mesh = unitMesh(kind);
        INFO(toString(kind));
        Eigen::AlignedBox3f box;
        for (const Eigen::Vector3f& place : mesh->places) box.extend(place);
        CHECK(box.min().y() == Approx(0).margin(0.006));
        CHECK(box.max().y() == Approx(kind == StandInKind::grid ? 0 : 1).margin(0.006));
        CHECK(box.max().x() <= Approx(0.5).margin(1e-5));
        CHECK(box.min().z() >= Approx(-0.5).margin(1e-5));
        if (isUprightSheet(kind) || kind == StandInKind::grid) continue;
        double volume = 0;
        for (const Mesh::Triangle& t : mesh->triangles)
            volume += double(mesh->places[t[0]].dot(mesh->places[t[1]].cross(mesh->places[t[2]]))) / 6;
        CHECK(volume > 0.02);
        for (const Mesh::Edge& edge : mesh->edges) REQUIRE(edge.sides[0] != edge.sides[1]);
    }
    const auto volumeOf = [](StandInKind kind) {
        double volume = 0;
        const auto mesh = unitMesh(kind);
        for (const Mesh::Triangle& t : mesh->triangles)
            volume += double(mesh->places[t[0]].dot(mesh->places[t[1]].cross(mesh->places[t[2]]))) / 6;
        return volume;
    };
    CHECK(volumeOf(StandInKind::box) == Approx(1));
    CHECK(volumeOf(StandInKind::ball) == Approx(std::numbers::pi / 6).epsilon(1e-3));
    CHECK(volumeOf(StandInKind::cone) == Approx(std::numbers::pi / 12).epsilon(1e-3));
}

namespace {

void write(const std::filesystem::path& path, const std::string& text) { REQUIRE(writeFile(path, text)); }

}  // namespace

TEST_CASE("a mesh is read as OBJ and PLY, fills its unit, and has its own size and colours") {
    const test::Scratch scratch;
    // A tetrahedron on three corners, 2 wide, 3 high, 4 deep.
    write(scratch / "t.obj", "v 0 0 0\nv 2 0 0\nv 0 0 4\nv 0 3 0\nf 1 2 3\nf 1 4 2\nf 1 3 4\nf 2 4 3\n");
    write(scratch / "t.ply",
          "ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
          "property uchar red\nproperty uchar green\nproperty uchar blue\nelement face 4\n"
          "property list uchar int vertex_indices\nend_header\n"
          "0 0 0 255 0 0\n2 0 0 255 0 0\n0 0 4 255 0 0\n0 3 0 255 0 0\n3 0 1 2\n3 0 3 1\n3 0 2 3\n3 1 3 2\n");
    for (const char* name : {"t.obj", "t.ply"}) {
        INFO(name);
        const auto file = readMesh(scratch / name);
        REQUIRE(file);
        CHECK((file->extents - Vector3d(2, 3, 4)).norm() < 1e-6);
        CHECK(file->mesh->triangles.size() == 4);
        Eigen::AlignedBox3f box;
        for (const Eigen::Vector3f& place : file->mesh->places) box.extend(place);
        CHECK((box.min() - Eigen::Vector3f(-0.5F, 0, -0.5F)).norm() < 1e-6F);
        CHECK((box.max() - Eigen::Vector3f(0.5F, 1, 0.5F)).norm() < 1e-6F);
        CHECK(readMesh(scratch / name)->mesh == file->mesh);  // kept
    }
    const auto ply = readMesh(scratch / "t.ply");
    REQUIRE(ply->mesh->colours.size() == ply->mesh->places.size());
    CHECK(ply->mesh->colours[0] == Eigen::Vector3f(1, 0, 0));
    // Replaced, it is read anew.
    std::filesystem::last_write_time(scratch / "t.obj",
                                     std::filesystem::last_write_time(scratch / "t.obj") - std::chrono::hours(1));
    write(scratch / "t.obj", "v 0 0 0\nv 5 0 0\nv 0 5 0\nf 1 2 3\n");
    CHECK(readMesh(scratch / "t.obj")->extents.x() == Approx(5));
    const auto post = readMesh(std::filesystem::path(PINION_SOURCE_DIR) / "demo/lamp-post.obj");
    REQUIRE(post);
    CHECK(post->extents.y() == Approx(3.17).margin(1e-4));
    CHECK(post->mesh->colours.size() == post->mesh->places.size());
}

namespace {

/// Red and green above, blue and white below; as PNG.
void writeQuarters(const std::filesystem::path& path, int channels) {
    constexpr int kSide = 64;
    std::vector<std::uint8_t> pixels;
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x) {
            const bool right = x >= kSide / 2, below = y >= kSide / 2;
            const std::array<std::uint8_t, 4> colour{std::uint8_t(right == below ? 255 : 0),
                                                     std::uint8_t(right ? 255 : 0), std::uint8_t(below ? 255 : 0),
                                                     std::uint8_t(right || below ? 255 : 128)};
            pixels.insert(pixels.end(), colour.begin(), colour.begin() + channels);
        }
    const auto output = OIIO::ImageOutput::create(path.string());
    REQUIRE(output);
    REQUIRE(output->open(path.string(), OIIO::ImageSpec(kSide, kSide, channels, OIIO::TypeDesc::UINT8)));
    REQUIRE(output->write_image(OIIO::TypeDesc::UINT8, pixels.data()));
    output->close();
}

std::string base64(const std::string& bytes) {
    const std::string letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string text;
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        std::uint32_t word = 0;
        for (std::size_t k = 0; k < 3; ++k)
            word = word << 8U | (i + k < bytes.size() ? std::uint8_t(bytes[i + k]) : 0U);
        for (std::size_t k = 0; k < 4; ++k) text += i + k <= bytes.size() ? letters[word >> (18 - 6 * k) & 63U] : '=';
    }
    return text;
}

}  // namespace

TEST_CASE("a mesh shows the pictures of its materials, from beside it or from within, the right way up and repeated") {
    const test::Scratch scratch;
    writeQuarters(scratch / "tex.png", 3);
    write(scratch / "q.mtl", "newmtl a\nKd 1 1 1\nmap_Kd tex.png\n");
    const std::string faces = "mtllib q.mtl\nusemtl a\nv -1 0 0\nv 1 0 0\nv 1 2 0\nv -1 2 0\n";
    write(scratch / "q.obj", faces + "vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 4/4\n");
    // The same twice across.
    write(scratch / "w.obj", faces + "vt 0 0\nvt 2 0\nvt 2 1\nvt 0 1\nf 1/1 2/2 3/3 4/4\n");
    const auto floats = [](std::initializer_list<float> values) {
        return std::string(reinterpret_cast<const char*>(std::data(values)), sizeof(float) * values.size());
    };
    const std::string places = floats({-1, 0, 0, 1, 0, 0, 1, 2, 0, -1, 2, 0}), sheet = floats({0, 1, 1, 1, 1, 0, 0, 0});
    const std::string corners{0, 0, 1, 0, 2, 0, 0, 0, 2, 0, 3, 0};
    writeQuarters(scratch / "inside.png", 3);
    write(scratch / "g.gltf", R"({"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0]}],"nodes":[{"mesh":0}],
"meshes":[{"primitives":[{"attributes":{"POSITION":0,"TEXCOORD_0":1},"indices":2,"material":0}]}],
"materials":[{"pbrMetallicRoughness":{"baseColorTexture":{"index":0}}}],"textures":[{"source":0}],
"images":[{"mimeType":"image/png","uri":"data:image/png;base64,)" +
                                  base64(*readFile(scratch / "inside.png")) + R"("}],
"buffers":[{"byteLength":92,"uri":"data:application/octet-stream;base64,)" +
                                  base64(places + sheet + corners) + R"("}],
"bufferViews":[{"buffer":0,"byteLength":48},{"buffer":0,"byteOffset":48,"byteLength":32},
{"buffer":0,"byteOffset":80,"byteLength":12}],
"accessors":[{"bufferView":0,"componentType":5126,"count":4,"type":"VEC3","min":[-1,0,0],"max":[1,2,0]},
{"bufferView":1,"componentType":5126,"count":4,"type":"VEC2"},
{"bufferView":2,"componentType":5123,"count":6,"type":"SCALAR"}]})");
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1003);
    const auto seen = [&](const char* name, double x, double y) {
        StandIn mesh = standing(StandInKind::mesh, {{0.1, 0, 0}, {0, 0, 0}, {1.6, 1.2, 1e-6}});
        mesh.file = scratch / name;
        SceneLook look = lookOf({mesh});
        look.sun.strength = 0;
        const SceneRenderer renderer(look);
        for (const std::string& trouble : renderer.troubles()) FAIL_CHECK(trouble);
        const SceneFrame frame = renderer.frame(eye, 1003, {.box = {0, 0, kWidth, kHeight}, .linear = true});
        const auto plate = eye.plateFromWorld(mesh.stance.worldFromUnit() * Vector3d(x - 0.5, y, 0));
        REQUIRE(plate);
        const float* pixel = frame.layer.at(int(plate->x()), int(plate->y()));
        return Eigen::Array4f(pixel[0], pixel[1], pixel[2], pixel[3]);
    };
    const auto isColour = [](const Eigen::Array4f& pixel, float r, float g, float b) {
        INFO(pixel.transpose());
        // By the sky alone, whose light an upright gets 0.65 of.
        CHECK((pixel - Eigen::Array4f(0.65F * r, 0.65F * g, 0.65F * b, 1)).abs().maxCoeff() < 0.02F);
    };
    for (const char* name : {"q.obj", "g.gltf"}) {
        INFO(name);
        isColour(seen(name, 0.25, 0.75), 1, 0, 0);
        isColour(seen(name, 0.75, 0.75), 0, 1, 0);
        isColour(seen(name, 0.25, 0.25), 0, 0, 1);
        isColour(seen(name, 0.75, 0.25), 1, 1, 1);
    }
    isColour(seen("w.obj", 0.125, 0.75), 1, 0, 0);
    isColour(seen("w.obj", 0.625, 0.75), 1, 0, 0);
    isColour(seen("w.obj", 0.875, 0.75), 0, 1, 0);
    // Half clear where the picture is.
    writeQuarters(scratch / "clear.png", 4);
    write(scratch / "c.mtl", "newmtl a\nKd 1 1 1\nmap_Kd clear.png\n");
    write(scratch / "c.obj",
          "mtllib c.mtl\n" + faces.substr(13) + "vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 4/4\n");
    CHECK(seen("c.obj", 0.25, 0.75)[3] == Approx(128 / 255.0).margin(0.01));
    CHECK(seen("c.obj", 0.75, 0.25)[3] == Approx(1).margin(0.01));
    // One that is gone is told, and the mesh has its colour.
    write(scratch / "n.mtl", "newmtl a\nKd 1 1 1\nmap_Kd gone.png\n");
    write(scratch / "n.obj",
          "mtllib n.mtl\n" + faces.substr(13) + "vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 4/4\n");
    const auto none = readMesh(scratch / "n.obj");
    REQUIRE(none);
    REQUIRE(none->problems.size() == 1);
    CHECK(none->problems[0].find("gone.png cannot be read") != std::string::npos);
    CHECK(none->mesh->pictureOf.empty());
    // Once it is there it is seen, and once it is another that is.
    const auto before = stampOfMesh(scratch / "n.obj");
    writeQuarters(scratch / "gone.png", 3);
    const auto there = stampOfMesh(scratch / "n.obj");
    CHECK(there != before);
    CHECK(readMesh(scratch / "n.obj")->problems.empty());
    isColour(seen("n.obj", 0.25, 0.75), 1, 0, 0);
    writeQuarters(scratch / "gone.png", 4);
    CHECK(stampOfMesh(scratch / "n.obj") != there);
    CHECK(seen("n.obj", 0.25, 0.75)[3] == Approx(128 / 255.0).margin(0.01));
}

TEST_CASE("a file that is no mesh, holds none, or is not there is refused with its name and what to do") {
    const test::Scratch scratch;
    write(scratch / "words.obj", "this is no mesh\n");
    write(scratch / "points.obj", "v 0 0 0\nv 1 1 1\np 1 2\n");
    write(scratch / "broken.ply", "ply\nformat ascii 1.0\nelement vertex 400\n");
    write(scratch / "empty.glb", "");
    for (const char* name : {"words.obj", "points.obj", "broken.ply", "empty.glb", "none.obj"}) {
        const auto file = readMesh(scratch / name);
        INFO(name);
        REQUIRE_FALSE(file);
        CHECK(file.error().fault == Fault::input);
        CHECK(file.error().message.find(name) != std::string::npos);
    }
    StandIn gone = standing(StandInKind::mesh, {});
    gone.file = scratch / "none.obj";
    const Solve solve = filmed();
    const StandIn box = standing(StandInKind::box, {{0, 0, 0}, {0, 0, 0}, {1, 1, 1}}, 2);
    // The rest is shown all the same.
    const SceneLook look = lookOf({gone, box});
    CHECK(SceneRenderer(look).troubles().size() == 1);
    const WorldEye eye = eyeOf(solve, 1001);
    const Vector2d at = *eye.plateFromWorld({0, 0.5, 0.5});
    CHECK(wholeFrame(look, eye, 1001, 4).layer.at(int(at.x()), int(at.y()))[3] == 1);
}

TEST_CASE("scene.json is read as it is written, and refused with the place of what is wrong") {
    const test::Scratch scratch;
    SceneLook look = lookOf({standing(StandInKind::cone, {{1, 2, 3}, {4, 5, 6}, {7, 8, 9}})});
    look.sun = {{0.1, 0.2, 0.3}, 2.5, 0.4};
    look.ground = -0.5;
    write(scratch / "s.json", sceneJson(look));
    const auto again = readScene(scratch / "s.json");
    REQUIRE(again);
    CHECK(*again == look);
    const auto refusal = [&](const std::string& object) {
        write(scratch / "b.json", R"({"format":"pinion.scene","version":1,"objects":[)" + object + "]}");
        const auto read = readScene(scratch / "b.json");
        REQUIRE_FALSE(read);
        return read.error().message;
    };
    CHECK(refusal(R"({"name":"a","kind":"tree"})").find("objects[0].kind: 'tree' is not known; there are board") !=
          std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"box","size":[1,0,1]})").find("objects[0].size") != std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"box","place":[1,2]})").find("objects[0].place: has not 3 numbers") !=
          std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"mesh"})").find("file") != std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"box","keys":[{"frame":5},{"frame":5}]})").find("keys[1].frame") !=
          std::string::npos);
    CHECK(refusal(R"({"kind":"box"})").find("name") != std::string::npos);
}

TEST_CASE("the first stand-in brings its layer over the others, and the last one takes it along") {
    Shot shot;
    Insert art;
    art.id = shot.nextInsert++;
    shot.inserts = std::vector<Insert>{art};
    StandIn box;
    StandInId first = 0, second = 0;
    Shot one = withStandInAdded(shot, box, &first);
    REQUIRE(one.inserts.size() == 2);
    CHECK(one.inserts.back().kind == kSceneLayer);
    const Shot two = withStandInAdded(one, box, &second);
    CHECK(two.inserts.size() == 2);
    CHECK(two.scene.standIns[1].name == "box 2");
    CHECK(withStandInRenamed(two, second, "box 1").scene.standIns[1].name == "box 1 2");
    CHECK(withStandInRemoved(two, first).inserts.size() == 2);
    const Shot none = withStandInRemoved(withStandInRemoved(two, first), second);
    CHECK(none.inserts.size() == 1);
    CHECK(none.inserts.front().kind == "art");
    // An id is not given again.
    StandInId third = 0;
    withStandInAdded(none, box, &third);
    CHECK(third == 3);
}

TEST_CASE("a group is moved, turned about the one that is held, and sized with it") {
    Shot shot;
    StandInId box = 0, ball = 0, sign = 0;
    StandIn made;
    made.stance = {{1, 0, 0}, {0, 0, 0}, {1, 1, 1}};
    shot = withStandInAdded(shot, made, &box);
    made.stance = {{3, 0.5, 0}, {0, 10, 0}, {1, 2, 1}};
    shot = withStandInAdded(shot, made, &ball);
    made.stance = {{0, 0, 5}, {0, 0, 0}, {1, 1, 1}};
    shot = withStandInAdded(shot, made, &sign);
    CHECK(withStandInsGrouped(shot, {ball}).scene.standIns[1].group == 0);
    shot = withStandInsGrouped(shot, {box, ball});
    REQUIRE(shot.scene.standIns[0].group != 0);
    REQUIRE(shot.scene.standIns[1].group == shot.scene.standIns[0].group);
    // A quarter turn to the left, twice as large, and up by one.
    const Shot moved = withWorldStance(shot, box, 1001, {{1, 1, 0}, {0, 90, 0}, {2, 2, 2}});
    const Stance& beside = moved.scene.standIns[1].stance;
    CHECK((beside.place - Vector3d(1, 2, -4)).norm() < 1e-9);
    CHECK((beside.turn_deg - Vector3d(0, 100, 0)).norm() < 1e-9);
    CHECK((beside.size - Vector3d(2, 4, 2)).norm() < 1e-9);
    CHECK(moved.scene.standIns[2].stance == shot.scene.standIns[2].stance);
    // Wider alone, the others stay as they are.
    const Shot wide = withWorldStance(shot, box, 1001, {{1, 0, 0}, {0, 0, 0}, {2, 1, 1}});
    CHECK(wide.scene.standIns[1].stance == shot.scene.standIns[1].stance);
    // One that has keys gets one there, and is elsewhere as it was.
    Shot keyed = withStanceKey(shot, ball, 1001);
    keyed = withWorldStance(keyed, box, 1011, {{1, 0, 2}, {0, 0, 0}, {1, 1, 1}});
    CHECK((keyed.scene.standIns[1].at(1011).place - Vector3d(3, 0.5, 2)).norm() < 1e-9);
    CHECK((keyed.scene.standIns[1].at(1001).place - Vector3d(3, 0.5, 0)).norm() < 1e-9);

    StandInId copy = 0;
    const Shot copied = withStandInCopied(shot, ball, &copy);
    REQUIRE(copied.scene.standIns.size() == 5);
    CHECK(findStandIn(copied, copy)->stance == shot.scene.standIns[1].stance);
    CHECK(findStandIn(copied, copy)->group != shot.scene.standIns[1].group);
    CHECK(copied.scene.standIns[3].group == copied.scene.standIns[4].group);
    // Into another group: what is left by itself is none.
    const Shot other = withStandInsGrouped(shot, {ball, sign});
    CHECK(other.scene.standIns[0].group == 0);
    CHECK(other.scene.standIns[2].group == other.scene.standIns[1].group);
    CHECK(withStandInRemoved(shot, ball).scene.standIns[0].group == 0);
    const Shot apart = withStandInsUngrouped(other, sign);
    CHECK(apart.scene.standIns[1].group == 0);
    CHECK(apart.scene.standIns[2].group == 0);
}

TEST_CASE("a locator is a named place: it is neither seen nor met by a ray, and goes with its name") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1003);
    StandIn locator = standing(StandInKind::locator, {{0.2, 0.5, 0}, {0, 0, 0}, {0.2, 0.2, 0.2}});
    locator.name = "lamp";
    const SceneLook look = lookOf({locator});
    const SceneFrame frame = wholeFrame(look, eye, 1003);
    CHECK(std::all_of(frame.layer.rgba.begin(), frame.layer.rgba.end(), [](float value) { return value == 0; }));
    CHECK(SceneRenderer(look).troubles().empty());
    const auto plate = eye.plateFromWorld(locator.stance.place);
    REQUIRE(plate);
    const auto picked = pickedAt(look, eye, 1003, *plate);
    CHECK((!picked || picked->standIn == 0));
}

TEST_CASE("where a stand-in stands is everywhere, or a key; the last key that goes leaves it where it was") {
    StandInId id = 0;
    Shot shot = withStandInAdded({}, StandIn{}, &id);
    const Stance a{{1, 0, 0}, {0, 0, 0}, {1, 1, 1}}, b{{3, 0, 0}, {0, 0, 0}, {1, 1, 1}};
    shot = withStance(shot, id, 1001, a);
    CHECK(shot.scene.standIns[0].keys.isEmpty());
    shot = withStanceKey(shot, id, 1010);
    shot = withStance(shot, id, 1020, b);
    REQUIRE(shot.scene.standIns[0].keys.size() == 2);
    CHECK(shot.scene.standIns[0].at(1015).place.x() == Approx(2));
    shot = withStance(shot, id, 1010, b);
    CHECK(shot.scene.standIns[0].keys.size() == 2);
    shot = withStanceKeyRemoved(withStanceKeyRemoved(shot, id, 1010), id, 1020);
    CHECK(shot.scene.standIns[0].keys.isEmpty());
    CHECK(shot.scene.standIns[0].stance == b);
}

TEST_CASE(
    "the shot's stand-ins are laid over its plate by its camera, in the oriented world, and what changes is stale") {
    Shot shot;
    shot.plate.width = kWidth;
    shot.plate.height = kHeight;
    shot.plate.path = "plate.mp4";
    shot.plate.range = {1001, 1012};
    StandIn box = standing(StandInKind::box, {{0, 0, 0}, {0, 0, 0}, {1, 1, 1}});
    box.casts = false;
    shot = withStandInAdded(shot, box);
    CHECK_FALSE(insertSceneOf(shot).notes.empty());  // no camera yet
    shot.solve = std::make_shared<const Solve>(filmed());
    const InsertScene scene = insertSceneOf(shot);
    CHECK(scene.notes.empty());
    Picture plate{kWidth, kHeight, Picture::Depth::bits8, false, {}, {}};
    plate.bytes.assign(std::size_t(kWidth) * kHeight * 3, 90);
    ArtShelf shelf;
    const Picture over = composed(scene, 1003, plate, shelf);
    const Vector2d at = *eyeOf(*shot.solve, 1003).plateFromWorld({0.1, 0.5, 0.5});
    const auto pixel = std::size_t(3) * (std::size_t(at.y()) * kWidth + std::size_t(at.x()));
    CHECK(over.bytes[pixel] != 90);
    CHECK(over.bytes[0] == 90);
    CHECK(composed(scene, 1050, plate, shelf).bytes == plate.bytes);  // no camera on that frame
    const PixelBox box1003 = touchedBy(scene, 1003);
    CHECK(at.x() > box1003.x0);
    CHECK(at.x() < box1003.x1);
    CHECK(box1003.width() < kWidth);
    const auto keyOf = [](const Shot& of) {
        Fingerprint print;
        addInserts(print, of);
        return print.value();
    };
    const StandInId id = shot.scene.standIns[0].id;
    CHECK(keyOf(withStance(shot, id, 1001, {{1, 0, 0}, {0, 0, 0}, {1, 1, 1}})) != keyOf(shot));
    Sun sun = shot.scene.sun;
    sun.softness_deg += 1;
    CHECK(keyOf(withSun(shot, sun)) != keyOf(shot));
}

TEST_CASE("the sun follows from the foot, the top and the shadow's tip of something upright") {
    const Solve solve = filmed();
    const WorldEye eye = eyeOf(solve, 1005);
    const Vector3d foot(0.4, 0, 0.3), top(0.4, 1.1, 0.3), sun = Vector3d(-0.5, 0.8, 0.35).normalized();
    const Vector3d tip = top - top.y() / sun.y() * sun;
    const auto found =
        sunFromShadow(eye, 0, *eye.plateFromWorld(foot), *eye.plateFromWorld(top), *eye.plateFromWorld(tip));
    REQUIRE(found);
    CHECK((*found - sun).norm() < 1e-5);
    CHECK_FALSE(sunFromShadow(eye, 0, {300, 4}, {300, 2}, {320, 300}));
    CHECK_FALSE(sunFromShadow(eye, 0, *eye.plateFromWorld(top), *eye.plateFromWorld(foot), *eye.plateFromWorld(tip)));
}

namespace {

/// The demo's landing and its true camera.
Solve landingTruth() {
    const auto truth =
        nlohmann::json::parse(*readFile(std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates/landing.truth.json"));
    Solve solve;
    const auto& lens = truth["lens"];
    solve.lens = pinholeLens(lens["width"], lens["height"], lens["focal_px"]);
    solve.lens.k1 = lens["k1"];
    solve.lens.k2 = lens["k2"];
    std::vector<SolvedFrame> frames;
    for (const auto& frame : truth["frames"]) {
        SolvedFrame one{.frame = frame["frame"], .focal_px = solve.lens.focal_px};
        for (int i = 0; i < 12; ++i)
            one.worldFromCamera.matrix()(i / 4, i % 4) = frame["world_from_camera"][std::size_t(i)];
        frames.push_back(one);
    }
    solve.frames = List<SolvedFrame>(std::move(frames));
    return solve;
}

}  // namespace

TEST_CASE(
    "a foot on landing's deck stands still with the true camera, and slides by what a wrong ground or lens makes") {
    const auto plate = Plate::open(std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4");
    REQUIRE(plate);
    FrameCache frames(*plate, std::size_t(256) << 20);
    const Solve truth = landingTruth();
    const Stance stance{{0.5, 0, 0.5}, {0, 0, 0}, {0.4, 0.8, 0.4}};
    const auto proved = [&](const Solve& solve, const Stance& where) {
        return runFootProof(frames, {1001, 1060}, solve, {}, where, 1020, 15);
    };
    const auto still = proved(truth, stance);
    REQUIRE(still);
    CHECK(still->frames.size() >= 10);
    CHECK(still->rms_px() < 0.12);
    // 10 cm under the deck.
    const auto low = proved(truth, {{0.5, -0.1, 0.5}, {0, 0, 0}, {0.4, 0.8, 0.4}});
    REQUIRE(low);
    CHECK(low->rms_px() > 8 * still->rms_px());
    // A lens that is taken for straight.
    Solve straight = truth;
    straight.lens.k1 = straight.lens.k2 = 0;
    // Towards the side, where it bends.
    const Stance side{{-1.5, 0, 0.5}, {0, 0, 0}, {0.4, 0.8, 0.4}};
    const auto right = proved(truth, side), bent = proved(straight, side);
    REQUIRE((right && bent));
    CHECK(right->rms_px() < 0.12);
    CHECK(bent->rms_px() > 3 * right->rms_px());
    CHECK(bent->worst().slide_px.norm() >= bent->rms_px());
    // In the sky, and where there is no camera.
    CHECK_FALSE(proved(truth, {{0, 60, -30}, {0, 0, 0}, {1, 1, 1}}));
    CHECK_FALSE(runFootProof(frames, {1001, 1060}, truth, {}, stance, 2000));
}

}  // namespace pinion
