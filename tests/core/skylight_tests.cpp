// How much of the sky stand-ins keep from a place.

#include "render/skylight.h"

#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Vector3d;

Stance stoodAs(const Vector3d& place, const Vector3d& size, const Vector3d& turn_deg = {0, 0, 0}) {
    return {place, turn_deg, size};
}

/// The same by counting directions of the cosine-weighted half space that meet the unit box.
double countedBox(const Stance& stance, const Vector3d& place, const Vector3d& normal) {
    const Eigen::Affine3d unitFromWorld = stance.worldFromUnit().inverse();
    const Vector3d across = normal.unitOrthogonal(), along = normal.cross(across);
    constexpr int kRings = 400, kSteps = 800;
    int met = 0;
    for (int i = 0; i < kRings; ++i)
        for (int k = 0; k < kSteps; ++k) {
            const double sine = std::sqrt((i + 0.5) / kRings), angle = 2 * std::numbers::pi * (k + 0.5) / kSteps;
            const Vector3d way =
                sine * (std::cos(angle) * across + std::sin(angle) * along) + std::sqrt(1 - sine * sine) * normal;
            const Vector3d from = unitFromWorld * place, to = unitFromWorld.linear() * way;
            double enters = 0, leaves = 1e300;
            for (int axis = 0; axis < 3; ++axis) {
                const double low = axis == 1 ? 0 : -0.5, high = low + 1;
                const double a = (low - from[axis]) / to[axis], b = (high - from[axis]) / to[axis];
                enters = std::max(enters, std::min(a, b));
                leaves = std::min(leaves, std::max(a, b));
            }
            met += enters < leaves;
        }
    return double(met) / (double(kRings) * kSteps);
}

}  // namespace

TEST_CASE("a board that lies over a place covers what the formula for parallel rectangles says") {
    // Howell, A Catalog of Radiation Heat Transfer Configuration Factors, B-3, from memory: of a rectangle of a x b at
    // the distance c, whose corner lies above the place.
    const double a = 1.5, b = 2, c = 1.2;
    const double x = a / c, y = b / c;
    const double quarter = (x / std::sqrt(1 + x * x) * std::atan(y / std::sqrt(1 + x * x)) +
                            y / std::sqrt(1 + y * y) * std::atan(x / std::sqrt(1 + y * y))) /
                           (2 * std::numbers::pi);
    SkyCover cover;
    // A board laid down: its height then goes along z.
    cover.add(StandInKind::board, stoodAs({0, c, -b}, {2 * a, 2 * b, 1}, {90, 0, 0}).worldFromUnit());
    CHECK(cover.at({0, 0, 0}, {0, 1, 0}) == Approx(4 * quarter).epsilon(1e-6));
    CHECK(cover.at({0, 0, 0}, {0, -1, 0}) == 0);
    CHECK(cover.at({0, 0, 0}, {0, 1, 0}, 0) == 0);
}

TEST_CASE("a box covers what counted directions meet, cut at the horizon") {
    const Stance stance = stoodAs({1.1, -0.3, 0.2}, {0.8, 1.4, 0.6}, {10, 35, -20});
    SkyCover cover;
    cover.add(StandInKind::box, stance.worldFromUnit());
    const auto [place, normal] =
        GENERATE(std::pair{Vector3d(0, 0, 0), Vector3d(0, 1, 0)}, std::pair{Vector3d(0.2, 0.4, 0.9), Vector3d(1, 0, 0)},
                 std::pair{Vector3d(0, 0.1, 0), Vector3d(0.6, 0.8, 0)});
    const double counted = countedBox(stance, place, normal);
    REQUIRE(counted > 0.01);
    CHECK(cover.at(place, normal) == Approx(counted).epsilon(0.01));
}

TEST_CASE("a ball covers by its angle, and its sides as much where the horizon cuts it") {
    const Stance ball = stoodAs({1.1, 0, 0}, {1, 1, 1}), egg = stoodAs({1.1, 0, 0}, {1.04, 1, 1});
    SkyCover round, sided;
    round.add(StandInKind::ball, ball.worldFromUnit());
    sided.add(StandInKind::ball, egg.worldFromUnit());
    // (r / d)² times the cosine, Lambert.
    const double d2 = 1.1 * 1.1 + 0.25;
    CHECK(round.at({0, 0, 0}, {0, 1, 0}) == Approx(0.25 / d2 * 0.5 / std::sqrt(d2)).epsilon(1e-6));
    CHECK(sided.at({0, 0, 0}, {0, 1, 0}) == Approx(round.at({0, 0, 0}, {0, 1, 0})).epsilon(0.12));
    CHECK(round.at({0, 0.5, 0}, {0, 1, 0}) == Approx(sided.at({0, 0.5, 0}, {0, 1, 0})).epsilon(0.12));
}

TEST_CASE("what is far covers nothing, several cover no more than all, and it fades without a border") {
    SkyCover cover;
    for (int i = 0; i < 30; ++i)
        cover.add(StandInKind::figure, stoodAs({0.1, 0.01 * i, 0}, {0.5, 1.75, 0.3}).worldFromUnit());
    cover.add(StandInKind::grid, stoodAs({0, 1, 0}, {9, 1, 9}).worldFromUnit());
    const float near = cover.at({0, 0, 0.5}, {0, 0, -1});
    CHECK(near > 0.9F);
    CHECK(near <= 1);
    float before = cover.at({0.3, 0, 0}, {0, 1, 0});
    for (double x = 0.35; x < 8; x += 0.05) {
        const float now = cover.at({x, 0, 0}, {0, 1, 0});
        CHECK(now <= before + 1e-4F);
        CHECK(before - now < 0.2F);
        before = now;
    }
    CHECK(before == 0);
}

}  // namespace pinion
