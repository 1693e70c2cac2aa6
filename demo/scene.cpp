#include "scene.h"

#include <cmath>
#include <fmt/core.h>
#include <numbers>

namespace ternholm {
namespace {

constexpr float kPi = std::numbers::pi_v<float>;

class Builder {
public:
    explicit Builder(Scene& scene) : scene_(scene), into_(&scene.still) {}

    void setTarget(std::vector<Triangle>& triangles) { into_ = &triangles; }
    int material(Texture texture, Surface surface = Surface::matt) {
        scene_.textures.push_back(std::move(texture));
        scene_.materials.push_back({int(scene_.textures.size()) - 1, surface});
        return int(scene_.materials.size()) - 1;
    }
    void object(const std::string& name) {
        scene_.objects.push_back(name);
        // Each object starts elsewhere in its texture, so that no two crates look alike.
        shift_ =
            Vector2f(hashed(std::uint32_t(scene_.objects.size()), 7), hashed(std::uint32_t(scene_.objects.size()), 8)) *
            3.0F;
    }
    void place(const Eigen::Affine3f& transform) { transform_ = transform; }

    void quad(const Vector3f& a, const Vector3f& b, const Vector3f& c, const Vector3f& d, int material,
              bool turned = false, bool exact = false) {
        const float width = (b - a).norm();
        const float height = (d - a).norm();
        Vector2f uv[4] = {{0, height}, {width, height}, {width, 0}, {0, 0}};
        for (Vector2f& p : uv) {
            if (turned) p = Vector2f(p.y(), p.x());
            if (!exact) p += shift_;
        }
        triangle(a, b, c, uv[0], uv[1], uv[2], material);
        triangle(a, c, d, uv[0], uv[2], uv[3], material);
    }

    void box(const Vector3f& low, const Vector3f& high, int material, bool upright = false) {
        const auto p = [&](int x, int y, int z) {
            return Vector3f(x ? high.x() : low.x(), y ? high.y() : low.y(), z ? high.z() : low.z());
        };
        quad(p(0, 0, 1), p(1, 0, 1), p(1, 1, 1), p(0, 1, 1), material, upright);
        quad(p(1, 0, 0), p(0, 0, 0), p(0, 1, 0), p(1, 1, 0), material, upright);
        quad(p(1, 0, 1), p(1, 0, 0), p(1, 1, 0), p(1, 1, 1), material, upright);
        quad(p(0, 0, 0), p(0, 0, 1), p(0, 1, 1), p(0, 1, 0), material, upright);
        quad(p(0, 1, 1), p(1, 1, 1), p(1, 1, 0), p(0, 1, 0), material, upright);
        quad(p(0, 0, 0), p(1, 0, 0), p(1, 0, 1), p(0, 0, 1), material, upright);
    }

    /// A crate: a box with raised battens at its edges.
    void crate(const Vector3f& low, const Vector3f& high, int boards, int battens) {
        box(low + Vector3f::Constant(0.015F), high - Vector3f::Constant(0.015F), boards);
        const float w = 0.07F;
        for (int zi = 0; zi < 2; ++zi)
            for (int xi = 0; xi < 2; ++xi) {
                const float x = xi ? high.x() - w : low.x();
                const float z = zi ? high.z() - w : low.z();
                box({x, low.y(), z}, {x + w, high.y(), z + w}, battens, true);
            }
        for (int zi = 0; zi < 2; ++zi)
            for (int yi = 0; yi < 2; ++yi) {
                const float y = yi ? high.y() - w : low.y();
                const float z = zi ? high.z() - w : low.z();
                box({low.x() + w, y, z}, {high.x() - w, y + w, z + w}, battens);
            }
    }

    /// A surface of revolution about the vertical through `base`; `profile` lists (radius, height).
    void turned(const Vector3f& base, const std::vector<Vector2f>& corners, int material, int sides = 28,
                bool soft = false) {
        std::vector<Vector2f> profile = corners;
        // Chaikin's corner cutting, twice: cloth has no edges.
        for (int round = 0; soft && round < 2; ++round) {
            std::vector<Vector2f> cut{profile.front()};
            for (std::size_t i = 0; i + 1 < profile.size(); ++i) {
                cut.emplace_back(0.75F * profile[i] + 0.25F * profile[i + 1]);
                cut.emplace_back(0.25F * profile[i] + 0.75F * profile[i + 1]);
            }
            cut.push_back(profile.back());
            profile = std::move(cut);
        }
        float along = 0;
        for (std::size_t i = 0; i + 1 < profile.size(); ++i) {
            const float length = (profile[i + 1] - profile[i]).norm();
            const float radius = std::max(0.05F, std::max(profile[i].x(), profile[i + 1].x()));
            for (int s = 0; s < sides; ++s) {
                const auto point = [&](int side, const Vector2f& p) {
                    const float angle = 2 * kPi * float(side) / float(sides);
                    return Vector3f(base + Vector3f(p.x() * std::sin(angle), p.y(), p.x() * std::cos(angle)));
                };
                const float u0 = radius * 2 * kPi * float(s) / float(sides);
                const float u1 = radius * 2 * kPi * float(s + 1) / float(sides);
                const Vector3f a = point(s, profile[i]), b = point(s + 1, profile[i]);
                const Vector3f c = point(s + 1, profile[i + 1]), d = point(s, profile[i + 1]);
                triangle(a, b, c, Vector2f(u0, along) + shift_, Vector2f(u1, along) + shift_,
                         Vector2f(u1, along + length) + shift_, material);
                triangle(a, c, d, Vector2f(u0, along) + shift_, Vector2f(u1, along + length) + shift_,
                         Vector2f(u0, along + length) + shift_, material);
            }
            along += length;
        }
    }

    /// A round rope through `points`.
    void tube(const std::vector<Vector3f>& points, float radius, int material, int sides = 10) {
        float along = 0;
        for (std::size_t i = 0; i + 1 < points.size(); ++i) {
            const Vector3f direction = (points[i + 1] - points[i]).normalized();
            Vector3f side =
                direction.cross(std::abs(direction.y()) < 0.9F ? Vector3f(0, 1, 0) : Vector3f(1, 0, 0)).normalized();
            const Vector3f up = side.cross(direction);
            const float length = (points[i + 1] - points[i]).norm();
            for (int s = 0; s < sides; ++s) {
                const auto at = [&](std::size_t end, int k) {
                    const float angle = 2 * kPi * float(k) / float(sides);
                    return Vector3f(points[i + end] + radius * (std::cos(angle) * side + std::sin(angle) * up));
                };
                const float v0 = 2 * kPi * radius * float(s) / float(sides);
                const float v1 = 2 * kPi * radius * float(s + 1) / float(sides);
                triangle(at(0, s), at(1, s), at(1, s + 1), {along, v0}, {along + length, v0}, {along + length, v1},
                         material);
                triangle(at(0, s), at(1, s + 1), at(0, s + 1), {along, v0}, {along + length, v1}, {along, v1},
                         material);
            }
            along += length;
        }
    }

    void triangle(const Vector3f& a, const Vector3f& b, const Vector3f& c, const Vector2f& ua, const Vector2f& ub,
                  const Vector2f& uc, int material) {
        into_->push_back(
            {{transform_ * a, transform_ * b, transform_ * c}, {ua, ub, uc}, material, int(scene_.objects.size()) - 1});
    }

private:
    Scene& scene_;
    std::vector<Triangle>* into_;
    Eigen::Affine3f transform_ = Eigen::Affine3f::Identity();
    Vector2f shift_{0, 0};
};

Eigen::Affine3f placed(float x, float y, float z, float turnDegrees) {
    return Eigen::Translation3f(x, y, z) * Eigen::AngleAxisf(turnDegrees * kPi / 180.0F, Vector3f::UnitY());
}

std::vector<Vector3f> hanging(const Vector3f& from, const Vector3f& to, float sag) {
    std::vector<Vector3f> points;
    for (int i = 0; i <= 16; ++i) {
        const float t = float(i) / 16;
        points.emplace_back(from + (to - from) * t - Vector3f(0, sag * 4 * t * (1 - t), 0));
    }
    return points;
}

}  // namespace

Scene buildLanding() {
    Scene scene;
    Builder build(scene);
    const int deck = build.material(plankTexture({0.27F, 0.21F, 0.155F}, 0.19F, 200, 0.30F));
    const int brick = build.material(brickTexture());
    const int stone = build.material(stoneTexture());
    const int rope = build.material(ropeTexture());
    const int iron = build.material(ironTexture());
    const int roof = build.material(roofTexture());
    const int foliage = build.material(foliageTexture());
    const int sack = build.material(sackTexture());
    const int notice = build.material(noticeTexture());
    const int green = build.material(plankTexture({0.10F, 0.20F, 0.105F}, 0.13F, 300, 0.12F));
    const int ochre = build.material(plankTexture({0.42F, 0.27F, 0.09F}, 0.14F, 400, 0.10F));
    const int red = build.material(plankTexture({0.38F, 0.085F, 0.055F}, 0.12F, 500, 0.12F));
    const int grey = build.material(plankTexture({0.33F, 0.30F, 0.26F}, 0.12F, 600, 0.25F));
    const int blue = build.material(paintedTexture({0.06F, 0.13F, 0.20F}, 700));
    const int white = build.material(paintedTexture({0.58F, 0.56F, 0.50F}, 720));
    const int water = build.material(paintedTexture({0.02F, 0.05F, 0.05F}, 740), Surface::water);

    build.object("deck");
    build.quad({-16, 0, 12}, {16, 0, 12}, {16, 0, -5.2F}, {-16, 0, -5.2F}, deck, true);
    build.object("quay-edge");
    build.box({-16, -1.6F, -5.55F}, {16, 0.06F, -5.2F}, stone);
    build.object("water");
    build.quad({-300, -1.1F, -5}, {300, -1.1F, -5}, {300, -1.1F, -400}, {-300, -1.1F, -400}, water);
    build.object("shore");
    {
        // Two ridges of trees: the nearer low, the farther high.
        for (int ridge = 0; ridge < 2; ++ridge) {
            const float z = ridge == 0 ? -74.0F : -110.0F;
            constexpr int steps = 420;
            const auto top = [&](int i) {
                const float t = float(i) / steps;
                return (ridge == 0 ? 4.6F : 11.0F) + 5.5F * fractal(t, 0.3F, 7, 6, 900 + std::uint32_t(ridge)) +
                       2.6F * fractal(t, 0.7F, 60, 3, 910);
            };
            for (int i = 0; i < steps; ++i) {
                const float x0 = -170 + 340.0F * float(i) / steps;
                const float x1 = -170 + 340.0F * float(i + 1) / steps;
                const Vector3f a(x0, -1.1F, z), b(x1, -1.1F, z), c(x1, top(i + 1), z - 3), d(x0, top(i), z - 3);
                build.triangle(a, b, c, {x0, 0}, {x1, 0}, {x1, c.y()}, foliage);
                build.triangle(a, c, d, {x0, 0}, {x1, c.y()}, {x0, d.y()}, foliage);
            }
        }
        for (int i = 0; i < 5; ++i) {
            build.object(fmt::format("farm-{}", i + 1));
            build.place(placed(-34.0F + 17.0F * float(i) + 5 * hashed(std::uint32_t(i), 3), -1.1F, -72,
                               20.0F * hashed(std::uint32_t(i), 4)));
            build.box({-2.6F, 0, -2}, {2.6F, 2.3F, 2}, i % 2 ? white : red);
            build.quad({-2.9F, 2.2F, 2.3F}, {2.9F, 2.2F, 2.3F}, {2.9F, 4.0F, 0}, {-2.9F, 4.0F, 0}, roof);
        }
        build.place(Eigen::Affine3f::Identity());
    }

    // The hut, to the right, with the board on its front.
    build.object("hut");
    build.box({1.7F, 0, -4.6F}, {5.6F, 2.7F, -1.4F}, brick);
    build.object("hut-plinth");
    build.box({1.62F, 0, -4.7F}, {5.68F, 0.32F, -1.32F}, stone);
    build.object("hut-roof");
    build.quad({1.3F, 2.62F, -0.95F}, {6.0F, 2.62F, -0.95F}, {6.0F, 4.1F, -3.0F}, {1.3F, 4.1F, -3.0F}, roof);
    build.quad({6.0F, 2.62F, -5.0F}, {1.3F, 2.62F, -5.0F}, {1.3F, 4.1F, -3.0F}, {6.0F, 4.1F, -3.0F}, roof);
    build.triangle({1.7F, 2.7F, -1.4F}, {1.7F, 2.7F, -4.6F}, {1.7F, 3.95F, -3.0F}, {0, 0}, {3.2F, 0}, {1.6F, 1.25F},
                   brick);
    build.object("hut-eave");
    build.box({1.3F, 2.50F, -0.99F}, {6.0F, 2.64F, -0.90F}, white);
    build.object("hut-door");
    build.box({4.35F, 0.3F, -1.42F}, {5.25F, 2.25F, -1.36F}, green, true);
    build.object("hut-frame");
    build.box({4.26F, 0.3F, -1.42F}, {4.35F, 2.34F, -1.32F}, white, true);
    build.box({5.25F, 0.3F, -1.42F}, {5.34F, 2.34F, -1.32F}, white, true);
    build.box({4.26F, 2.25F, -1.42F}, {5.34F, 2.34F, -1.32F}, white);
    build.object("board");
    build.quad({2.25F, 1.0F, -1.33F}, {3.85F, 1.0F, -1.33F}, {3.85F, 2.12F, -1.33F}, {2.25F, 2.12F, -1.33F}, notice,
               false, true);
    build.object("board-back");
    build.box({2.23F, 0.98F, -1.40F}, {3.87F, 2.14F, -1.335F}, blue);

    // Crates, stacked and loose.
    build.object("crate-ochre");
    build.place(placed(-1.55F, 0, -1.7F, 14));
    build.crate({-0.55F, 0, -0.45F}, {0.55F, 0.82F, 0.45F}, ochre, grey);
    build.object("crate-green");
    build.place(placed(-1.50F, 0.82F, -1.72F, -9));
    build.crate({-0.40F, 0, -0.38F}, {0.40F, 0.62F, 0.38F}, green, ochre);
    build.object("crate-red");
    build.place(placed(-0.25F, 0, -1.0F, -22));
    build.crate({-0.42F, 0, -0.35F}, {0.42F, 0.58F, 0.35F}, red, grey);
    build.object("crate-low");
    build.place(placed(0.75F, 0, -2.6F, 31));
    build.crate({-0.5F, 0, -0.4F}, {0.5F, 0.5F, 0.4F}, grey, green);
    build.object("crate-near");
    build.place(placed(-3.05F, 0, 1.3F, 24));
    build.crate({-0.45F, 0, -0.4F}, {0.45F, 0.66F, 0.4F}, green, grey);
    build.object("crate-right");
    build.place(placed(3.35F, 0, 0.9F, -17));
    build.crate({-0.45F, 0, -0.4F}, {0.45F, 0.54F, 0.4F}, ochre, red);
    build.object("crate-top");
    build.place(placed(3.28F, 0.54F, 0.92F, 11));
    build.crate({-0.28F, 0, -0.26F}, {0.28F, 0.36F, 0.26F}, red, grey);
    build.object("sacks");
    build.place(placed(1.15F, 0, -1.35F, 12));
    build.turned(
        {0, 0, 0},
        {{0.0F, 0.02F}, {0.30F, 0.03F}, {0.36F, 0.16F}, {0.31F, 0.40F}, {0.13F, 0.52F}, {0.16F, 0.60F}, {0.0F, 0.6F}},
        sack, 40, true);
    build.turned(
        {0.52F, 0, 0.18F},
        {{0.0F, 0.02F}, {0.27F, 0.03F}, {0.33F, 0.14F}, {0.28F, 0.36F}, {0.10F, 0.47F}, {0.13F, 0.54F}, {0.0F, 0.54F}},
        sack, 40, true);
    build.object("barrel");
    build.place(placed(-2.75F, 0, -2.6F, 0));
    build.turned({0, 0, 0}, {{0.27F, 0}, {0.34F, 0.25F}, {0.36F, 0.45F}, {0.34F, 0.65F}, {0.27F, 0.9F}, {0.0F, 0.88F}},
                 grey);
    build.turned({0, 0.2F, 0}, {{0.335F, 0}, {0.348F, 0.06F}}, iron);
    build.turned({0, 0.62F, 0}, {{0.352F, 0}, {0.34F, 0.06F}}, iron);
    build.place(placed(-3.45F, 0, -2.2F, 0));
    build.turned({0, 0, 0}, {{0.27F, 0}, {0.34F, 0.25F}, {0.36F, 0.45F}, {0.34F, 0.65F}, {0.27F, 0.9F}, {0.0F, 0.88F}},
                 ochre);
    build.turned({0, 0.2F, 0}, {{0.335F, 0}, {0.348F, 0.06F}}, iron);

    // Along the edge: bollards, posts and ropes; a stone stair head to the left.
    const float posts[] = {-7.2F, -5.1F, -2.2F, 0.3F};
    for (int i = 0; i < 4; ++i) {
        build.object(fmt::format("bollard-{}", i + 1));
        build.place(placed(posts[i] + 0.8F, 0, -4.75F, 30.0F * float(i)));
        build.turned(
            {0, 0, 0},
            {{0.22F, 0}, {0.17F, 0.08F}, {0.14F, 0.42F}, {0.23F, 0.50F}, {0.23F, 0.58F}, {0.10F, 0.66F}, {0.0F, 0.66F}},
            iron);
        build.turned({0, 0, 0},
                     {{0.19F, 0.14F},
                      {0.225F, 0.17F},
                      {0.19F, 0.20F},
                      {0.225F, 0.24F},
                      {0.18F, 0.27F},
                      {0.215F, 0.30F},
                      {0.17F, 0.33F}},
                     rope);
        build.object(fmt::format("post-{}", i + 1));
        build.place(placed(posts[i], 0, -5.0F, 0));
        build.box({-0.07F, 0, -0.07F}, {0.07F, 1.15F, 0.07F}, grey, true);
        build.box({-0.09F, 1.15F, -0.09F}, {0.09F, 1.2F, 0.09F}, white);
    }
    build.place(Eigen::Affine3f::Identity());
    build.object("rail-rope");
    for (int i = 0; i < 3; ++i) {
        build.tube(hanging({posts[i], 1.05F, -5.0F}, {posts[i + 1], 1.05F, -5.0F}, 0.22F), 0.028F, rope);
        build.tube(hanging({posts[i], 0.6F, -5.0F}, {posts[i + 1], 0.6F, -5.0F}, 0.18F), 0.028F, rope);
    }
    build.object("coil");
    {
        std::vector<Vector3f> coil;
        for (int i = 0; i < 200; ++i) {
            const float angle = float(i) * 0.25F;
            const float radius = 0.36F - 0.0004F * float(i) - 0.05F * float(i / 50);
            coil.emplace_back(-0.9F + radius * std::sin(angle), 0.035F + 0.0011F * float(i),
                              1.1F + radius * std::cos(angle));
        }
        build.tube(coil, 0.03F, rope);
    }
    build.object("wall");
    build.box({-9.5F, 0, -3.9F}, {-4.3F, 0.95F, -3.1F}, stone);
    build.object("wall-cap");
    build.box({-9.6F, 0.95F, -4.0F}, {-4.2F, 1.07F, -3.0F}, white);

    // A boat at the quay: a painted hull, a mast, stays.
    build.object("boat");
    build.place(placed(-3.6F, -1.1F, -8.6F, 4));
    for (int side = -1; side <= 1; side += 2) {
        const float s = float(side);
        std::vector<Vector3f> keel, rail;
        for (int i = 0; i <= 12; ++i) {
            const float t = float(i) / 12;
            const float bulge = 1.25F * std::pow(std::sin(kPi * (0.08F + 0.92F * t) * 0.97F), 0.6F);
            keel.emplace_back(-3.6F + 7.0F * t, -0.2F, s * bulge * 0.6F);
            rail.emplace_back(-3.7F + 7.4F * t, 1.05F + 0.45F * (2 * t - 1) * (2 * t - 1), s * bulge);
        }
        for (int i = 0; i < 12; ++i)
            build.quad(keel[std::size_t(i)], keel[std::size_t(i) + 1], rail[std::size_t(i) + 1], rail[std::size_t(i)],
                       side > 0 ? red : white);
        build.tube(rail, 0.06F, white);
    }
    build.object("cabin");
    build.box({-1.4F, 0.8F, -0.7F}, {1.0F, 2.2F, 0.7F}, white, true);
    build.box({-1.5F, 2.2F, -0.8F}, {1.1F, 2.3F, 0.8F}, blue);
    build.box({-0.9F, 1.35F, 0.69F}, {-0.3F, 1.9F, 0.72F}, iron);
    build.box({0.1F, 1.35F, 0.69F}, {0.7F, 1.9F, 0.72F}, iron);
    build.object("mast");
    build.turned({1.9F, 0.6F, 0}, {{0.11F, 0}, {0.07F, 5.6F}, {0, 5.6F}}, ochre, 14);
    build.tube({{1.9F, 6.0F, 0}, {-3.4F, 1.4F, 0}}, 0.018F, rope, 6);
    build.tube({{1.9F, 6.0F, 0}, {3.6F, 1.4F, 0}}, 0.018F, rope, 6);

    // Signs of work on the deck.
    build.object("hatch");
    build.place(placed(-0.4F, 0, 2.4F, 7));
    build.box({-0.6F, 0, -0.45F}, {0.6F, 0.035F, 0.45F}, iron);
    build.object("plank-pile");
    build.place(placed(1.7F, 0, 2.1F, 63));
    for (int i = 0; i < 3; ++i)
        build.box({-1.1F + 0.1F * float(i), 0.06F * float(i), -0.35F + 0.06F * float(i)},
                  {1.1F, 0.06F * float(i) + 0.055F, 0.35F - 0.05F * float(i)}, i % 2 ? ochre : grey);
    build.object("hut-crate");
    build.place(placed(2.3F, 0, -0.75F, 3));
    build.crate({-0.33F, 0, -0.3F}, {0.33F, 0.46F, 0.3F}, red, ochre);

    // The porter's trolley, around its own origin.
    build.setTarget(scene.trolley);
    build.place(Eigen::Affine3f::Identity());
    build.object("trolley");
    build.box({-0.75F, 0.28F, -0.40F}, {0.75F, 0.36F, 0.40F}, grey);
    build.crate({-0.68F, 0.36F, -0.35F}, {-0.02F, 0.92F, 0.33F}, ochre, red);
    build.crate({0.04F, 0.36F, -0.33F}, {0.64F, 0.78F, 0.30F}, green, grey);
    build.crate({-0.50F, 0.92F, -0.28F}, {0.02F, 1.30F, 0.26F}, red, ochre);
    build.turned({0.34F, 0.78F, 0},
                 {{0.0F, 0}, {0.24F, 0.02F}, {0.28F, 0.12F}, {0.22F, 0.3F}, {0.1F, 0.38F}, {0.0F, 0.38F}}, sack, 40,
                 true);
    build.tube({{0.75F, 0.32F, -0.3F}, {1.05F, 1.0F, -0.3F}, {1.05F, 1.0F, 0.3F}, {0.75F, 0.32F, 0.3F}}, 0.022F, iron);
    for (float x : {-0.52F, 0.52F})
        for (float z : {-0.42F, 0.42F}) {
            std::vector<Vector3f> rim;
            for (int i = 0; i <= 18; ++i)
                rim.emplace_back(x + 0.15F * std::cos(2 * kPi * float(i) / 18),
                                 0.18F + 0.15F * std::sin(2 * kPi * float(i) / 18), z);
            build.tube(rim, 0.032F, iron, 8);
            build.tube({{x - 0.14F, 0.18F, z}, {x + 0.14F, 0.18F, z}}, 0.015F, iron, 6);
            build.tube({{x, 0.04F, z}, {x, 0.32F, z}}, 0.015F, iron, 6);
        }
    return scene;
}

Scene buildFerry() {
    Scene scene = buildLanding();
    scene.trolley.clear();
    Builder build(scene);
    build.setTarget(scene.trolley);
    const int hull = build.material(plankTexture({0.055F, 0.12F, 0.19F}, 0.32F, 960, 0.22F));
    const int belt = build.material(plankTexture({0.40F, 0.30F, 0.14F}, 0.16F, 961, 0.30F));
    const int house = build.material(plankTexture({0.55F, 0.53F, 0.46F}, 0.21F, 962, 0.20F));
    const int upper = build.material(plankTexture({0.36F, 0.10F, 0.07F}, 0.15F, 963, 0.15F));
    const int iron = build.material(ironTexture());
    const int rope = build.material(ropeTexture());
    const int notice = build.material(noticeTexture());
    // All of it is one thing by name: what moves is told by that.
    build.object("trolley");
    build.box({-8.0F, -0.4F, -2.2F}, {8.0F, 1.5F, 2.2F}, hull);
    build.box({-8.1F, 1.5F, -2.3F}, {8.1F, 1.68F, 2.3F}, belt);
    build.box({-8.05F, 0.55F, 2.2F}, {8.05F, 0.72F, 2.28F}, belt);
    build.box({-5.6F, 1.68F, -1.6F}, {5.0F, 3.9F, 1.6F}, house, true);
    build.box({-5.8F, 3.9F, -1.8F}, {5.2F, 4.05F, 1.8F}, belt);
    build.box({-2.6F, 4.05F, -1.2F}, {1.4F, 5.7F, 1.2F}, upper, true);
    build.box({-2.8F, 5.7F, -1.4F}, {1.6F, 5.82F, 1.4F}, house);
    for (int i = 0; i < 8; ++i)
        build.box({-5.1F + 1.28F * float(i), 2.5F, 1.6F}, {-4.35F + 1.28F * float(i), 3.35F, 1.63F}, iron);
    for (int i = 0; i < 3; ++i)
        build.box({-2.2F + 1.25F * float(i), 4.7F, 1.2F}, {-1.4F + 1.25F * float(i), 5.35F, 1.23F}, iron);
    build.quad({5.3F, 1.9F, 1.61F}, {7.4F, 1.9F, 1.61F}, {7.4F, 3.3F, 1.61F}, {5.3F, 3.3F, 1.61F}, notice, false, true);
    build.box({5.25F, 1.68F, 1.5F}, {7.45F, 3.4F, 1.6F}, belt, true);
    build.turned({3.4F, 4.05F, 0}, {{0.55F, 0}, {0.5F, 1.9F}, {0.0F, 1.9F}}, upper);
    build.turned({3.4F, 5.3F, 0}, {{0.57F, 0}, {0.56F, 0.25F}}, house);
    for (int i = 0; i < 7; ++i) {
        // Fenders over the side, and the rail's posts.
        build.turned({-7.0F + 2.3F * float(i), 0.35F, 2.4F},
                     {{0.0F, 0}, {0.2F, 0.05F}, {0.24F, 0.45F}, {0.2F, 0.85F}, {0.0F, 0.9F}}, rope);
        build.box({-7.6F + 2.5F * float(i), 1.68F, 2.14F}, {-7.5F + 2.5F * float(i), 2.7F, 2.24F}, house);
    }
    build.tube({{-7.6F, 2.65F, 2.19F}, {7.5F, 2.65F, 2.19F}}, 0.04F, house);
    build.tube({{-7.6F, 2.15F, 2.19F}, {7.5F, 2.15F, 2.19F}}, 0.03F, rope);
    return scene;
}

Scene buildVan() {
    Scene scene = buildLanding();
    scene.trolley.clear();
    Builder build(scene);
    build.setTarget(scene.trolley);
    const int side = build.material(plankTexture({0.46F, 0.30F, 0.10F}, 0.12F, 970, 0.34F));
    const int front = build.material(plankTexture({0.12F, 0.22F, 0.30F}, 0.16F, 971, 0.30F));
    const int band = build.material(brickTexture());
    const int iron = build.material(ironTexture());
    const int notice = build.material(noticeTexture());
    build.object("trolley");
    build.box({-1.55F, 0.42F, -0.75F}, {1.05F, 2.05F, 0.75F}, side, true);
    build.box({-1.62F, 2.05F, -0.8F}, {1.1F, 2.13F, 0.8F}, iron);
    build.box({-1.57F, 0.62F, 0.75F}, {1.07F, 0.86F, 0.775F}, band);
    build.quad({-1.35F, 1.0F, 0.765F}, {-0.1F, 1.0F, 0.765F}, {-0.1F, 1.85F, 0.765F}, {-1.35F, 1.85F, 0.765F}, notice,
               false, true);
    build.quad({0.1F, 1.1F, 0.765F}, {0.9F, 1.1F, 0.765F}, {0.9F, 1.7F, 0.765F}, {0.1F, 1.7F, 0.765F}, notice, true);
    // The driver's stand, a crate on it, and the wheels.
    build.box({1.05F, 0.42F, -0.7F}, {1.75F, 0.95F, 0.7F}, front);
    build.crate({1.12F, 0.95F, -0.4F}, {1.6F, 1.4F, 0.45F}, band, side);
    for (float x : {-0.95F, 1.2F})
        for (float z : {-0.7F, 0.72F}) {
            std::vector<Vector3f> rim;
            for (int i = 0; i <= 20; ++i)
                rim.emplace_back(x + 0.3F * std::cos(2 * kPi * float(i) / 20),
                                 0.33F + 0.3F * std::sin(2 * kPi * float(i) / 20), z);
            build.tube(rim, 0.05F, iron, 8);
        }
    return scene;
}

Scene buildHarbour() {
    Scene scene = buildLanding();
    Builder build(scene);
    const int stone = build.material(stoneTexture());
    const int brick = build.material(brickTexture());
    const int white = build.material(paintedTexture({0.58F, 0.56F, 0.50F}, 820));
    const int red = build.material(plankTexture({0.38F, 0.085F, 0.055F}, 0.22F, 830, 0.12F));
    const int green = build.material(plankTexture({0.10F, 0.20F, 0.105F}, 0.13F, 840, 0.12F));
    const int iron = build.material(ironTexture());
    const int notice = build.material(noticeTexture());
    // Boulders in three rows, then the cap of dressed stone on which the beacon stands.
    for (int i = 0; i < 150; ++i) {
        build.object(fmt::format("boulder-{}", i + 1));
        const auto chance = [&](std::uint32_t k) { return hashed(std::uint32_t(i), 50 + k); };
        const int row = i % 3;
        const float size = 0.35F + 0.45F * chance(1);
        Eigen::Affine3f at = placed(1.0F + 0.21F * float(i) + chance(2), -1.15F + 0.30F * float(row) * chance(3),
                                    -19.2F - 0.75F * float(row) + chance(4), 360 * chance(5));
        at = at * Eigen::AngleAxisf(0.5F * (chance(6) - 0.5F), Vector3f::UnitX()) *
             Eigen::AngleAxisf(0.5F * (chance(7) - 0.5F), Vector3f::UnitZ());
        build.place(at);
        build.box({-size, -0.4F, -size * 0.7F}, {size, 0.25F + 0.5F * size, size * 0.7F}, stone);
    }
    build.place(placed(0, 0, 0, 0));
    build.object("cap");
    for (int i = 0; i < 14; ++i)
        build.box({2.5F + 2.0F * float(i), -1.2F, -22.6F},
                  {4.44F + 2.0F * float(i), -0.05F + 0.04F * hashed(std::uint32_t(i), 91), -21.0F},
                  i % 3 == 1 ? brick : stone);
    build.object("beacon-foot");
    build.box({9.2F, -0.05F, -22.4F}, {11.4F, 0.75F, -21.1F}, brick);
    build.object("beacon");
    build.place(placed(10.3F, 0.75F, -21.75F, 0));
    for (int band = 0; band < 4; ++band) {
        const float low = 0.8F * float(band), top = 0.8F * float(band + 1);
        build.turned({0, 0, 0}, {{0.62F - 0.07F * float(band), low}, {0.62F - 0.07F * float(band + 1), top}},
                     band % 2 ? white : red);
    }
    build.turned({0, 3.2F, 0}, {{0.5F, 0}, {0.5F, 0.06F}, {0.24F, 0.07F}, {0.24F, 0.5F}, {0.42F, 0.52F}, {0.0F, 0.85F}},
                 iron);
    build.object("shed");
    build.place(placed(17.5F, -0.05F, -21.8F, 6));
    build.box({-1.2F, 0, -0.7F}, {1.2F, 1.7F, 0.7F}, green, true);
    build.box({-1.35F, 1.7F, -0.85F}, {1.35F, 1.8F, 0.85F}, white);
    build.quad({-0.75F, 0.5F, 0.72F}, {0.35F, 0.5F, 0.72F}, {0.35F, 1.3F, 0.72F}, {-0.75F, 1.3F, 0.72F}, notice, false,
               true);
    build.object("marks");
    for (int i = 0; i < 7; ++i) {
        build.place(placed(3.6F + 3.9F * float(i), -0.05F, -21.2F, 15.0F * float(i)));
        build.turned({0, 0, 0}, {{0.12F, 0}, {0.12F, 0.7F}, {0.2F, 0.75F}, {0.2F, 0.95F}, {0.0F, 1.0F}},
                     i % 2 ? red : white);
    }
    build.place(Eigen::Affine3f::Identity());
    return scene;
}

namespace {

constexpr float kBollardRadius = 0.26F, kBollardHeight = 0.95F;
const Vector3f kBollardFoot(0.35F, 0, 1.9F);

}  // namespace

std::vector<Vector3f> boardCorners() {
    return {{2.25F, 2.12F, -1.33F}, {3.85F, 2.12F, -1.33F}, {3.85F, 1.0F, -1.33F}, {2.25F, 1.0F, -1.33F}};
}

Scene buildBoard() {
    Scene scene = buildLanding();
    scene.lamp = {3.7F, 2.1F, 3.4F};
    Builder build(scene);
    int board = 0;
    for (std::size_t i = 0; i < scene.objects.size(); ++i)
        if (scene.objects[i] == "board") board = int(i);
    for (Triangle& triangle : scene.still)
        if (triangle.object == board) {
            scene.materials.push_back({scene.materials[std::size_t(triangle.material)].texture, Surface::varnished});
            triangle.material = int(scene.materials.size()) - 1;
        }
    const int pine = build.material(plankTexture({0.36F, 0.25F, 0.13F}, 0.09F, 930, 0.15F));
    build.object("near-mast");
    build.place(placed(2.42F, 0, 1.35F, 0));
    build.turned({0, 0, 0}, {{0.085F, 0}, {0.075F, 5.0F}, {0, 5.0F}}, pine, 28);
    return scene;
}

std::vector<Vector3f> bollardPlaces() {
    std::vector<Vector3f> places;
    for (int row = 0; row < 5; ++row)
        for (int column = 0; column < 25; ++column) {
            const float angle = (float(column) * 15.0F - 180.0F) * kPi / 180.0F;
            const float height = kBollardHeight * (0.85F - 0.175F * float(row));
            places.emplace_back(kBollardFoot +
                                Vector3f(kBollardRadius * std::sin(angle), height, kBollardRadius * std::cos(angle)));
        }
    return places;
}

Scene buildBollard() {
    Scene scene = buildLanding();
    Builder build(scene);
    const int painted = build.material(bollardTexture(2 * kPi * kBollardRadius));
    const int iron = build.material(ironTexture());
    build.object("near-bollard");
    build.place(placed(kBollardFoot.x(), 0, kBollardFoot.z(), 0));
    build.turned({0, 0, 0}, {{kBollardRadius, 0}, {kBollardRadius, kBollardHeight}}, painted, 180);
    build.turned({0, kBollardHeight, 0},
                 {{kBollardRadius + 0.035F, 0}, {kBollardRadius + 0.04F, 0.06F}, {0.1F, 0.1F}, {0, 0.1F}}, iron, 90);
    return scene;
}

}  // namespace ternholm
