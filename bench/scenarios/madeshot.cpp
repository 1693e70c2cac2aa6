#include "scenarios/madeshot.h"

#include "camera/bundle.h"

#include <Eigen/Geometry>
#include <array>
#include <cmath>
#include <fmt/core.h>
#include <functional>
#include <numbers>
#include <optional>
#include <random>

namespace pinion::bench {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

/// A sum of slow sines, as a hand sways: amplitude 1 (RMS about), random in phase and rate.
class Sway {
public:
    Sway(std::mt19937& random, double fps) {
        std::uniform_real_distribution<double> unit(0, 1);
        for (int i = 0; i < 5; ++i)
            parts_.push_back(
                {(0.25 + 2.6 * unit(random) * unit(random)) / fps, 2 * std::numbers::pi * unit(random), 0.0});
        for (auto& part : parts_) part[2] = 0.8 / (1 + 40 * part[0]);
    }
    double at(double frame) const {
        double sum = 0;
        for (const auto& part : parts_) sum += part[2] * std::sin(2 * std::numbers::pi * part[0] * frame + part[1]);
        return sum;
    }

private:
    std::vector<std::array<double, 3>> parts_;
};

struct Box {
    Vector3d low, high;
};

/// What a ray meets first.
class World {
public:
    World(Scene scene, std::mt19937& random, const std::vector<Pose>& poses) : scene_(scene) {
        std::uniform_real_distribution<double> unit(0, 1);
        eye_ = 1.3 + 0.5 * unit(random);
        wallAt_ = 5 + 8 * unit(random);
        wallTurn_ = (unit(random) - 0.5) * 1.4;
        far_ = 60 + 240 * unit(random);
        side_ = 2.5 + 3 * unit(random);
        const int boxes = scene == Scene::wall || scene == Scene::floor ? 0 : scene == Scene::field ? 8 : 14;
        for (int i = 0; i < boxes; ++i) {
            // Around where the camera looks, along the whole path.
            const Pose& pose = poses[std::size_t(unit(random) * double(poses.size() - 1))];
            const double depth = 2.2 + (scene == Scene::room ? 2.5 : 9) * unit(random);
            const Vector3d ahead = pose.rotation.conjugate() * Vector3d((unit(random) - 0.5) * 1.1, 0, 1);
            Vector3d at = pose.centre() + depth * Vector3d(ahead.x(), 0, ahead.z()).normalized();
            const double half = 0.15 + 0.5 * unit(random), tall = 0.3 + 1.4 * unit(random);
            boxes_.push_back({{at.x() - half, eye_ - tall, at.z() - half}, {at.x() + half, eye_, at.z() + half}});
        }
    }

    std::optional<Vector3d> hit(const Vector3d& from, const Vector3d& ray) const {
        double nearest = 1e30;
        const auto plane = [&](const Vector3d& normal, double distance, double least = 0.4) {
            const double slope = normal.dot(ray);
            if (std::abs(slope) < 1e-9) return;
            const double t = (distance - normal.dot(from)) / slope;
            if (t > least) nearest = std::min(nearest, t);
        };
        const Vector3d turned(std::sin(wallTurn_), 0, std::cos(wallTurn_));
        switch (scene_) {
            case Scene::wall:
                plane(turned, wallAt_ * 0.7);
                break;
            case Scene::floor:
                plane(Vector3d::UnitY(), eye_);
                break;
            case Scene::room:
                plane(Vector3d::UnitY(), eye_);
                plane(-Vector3d::UnitY(), 1.2);
                plane(Vector3d::UnitX(), side_ + 0.6);
                plane(-Vector3d::UnitX(), side_);
                plane(Vector3d::UnitZ(), 0.6 * wallAt_ + 1.5);
                break;
            case Scene::street:
                plane(Vector3d::UnitY(), eye_);
                plane(Vector3d::UnitX(), side_ + 1);
                plane(-Vector3d::UnitX(), side_);
                break;
            case Scene::court:
                plane(Vector3d::UnitY(), eye_);
                plane(turned, wallAt_);
                plane(Vector3d(std::cos(wallTurn_), 0, -std::sin(wallTurn_)), 1.3 * wallAt_);
                break;
            case Scene::field:
                plane(Vector3d::UnitY(), eye_);
                break;
        }
        for (const Box& box : boxes_) {
            double in = 0.4, out = 1e30;
            for (int a = 0; a < 3; ++a) {
                const double t1 = (box.low[a] - from[a]) / ray[a], t2 = (box.high[a] - from[a]) / ray[a];
                in = std::max(in, std::min(t1, t2));
                out = std::min(out, std::max(t1, t2));
            }
            if (in < out && in > 0.41) nearest = std::min(nearest, in);
        }
        // Trees and roofs at the horizon, nothing higher.
        if (nearest > far_ * 1.5) {
            if (scene_ == Scene::wall || scene_ == Scene::floor) return std::nullopt;
            if (ray.y() < -0.28 * ray.norm()) return std::nullopt;
            const double spread = 0.5 + std::fmod(std::abs(ray.x() * 7919.0 + ray.y() * 104729.0), 1.0);
            return from + ray.normalized() * far_ * spread;
        }
        return from + nearest * ray;
    }

private:
    Scene scene_;
    double eye_, wallAt_, wallTurn_, far_, side_;
    std::vector<Box> boxes_;
};

Eigen::Quaterniond lookAlong(double yaw, double pitch, double roll) {
    // World to camera.
    return Eigen::Quaterniond(Eigen::AngleAxisd(roll, Vector3d::UnitZ()) * Eigen::AngleAxisd(pitch, Vector3d::UnitX()) *
                              Eigen::AngleAxisd(yaw, Vector3d::UnitY()));
}

}  // namespace

Lens MadeShot::lensAt(int index) const {
    return plan.zoomTo_mm > 0 ? zoomed(lens, k1Slope, focals_px[std::size_t(index)]) : lens;
}

Vector2d MadeShot::seen(int index, const Vector3d& point, bool* visible) const {
    const Vector3d inCamera = poses[std::size_t(index)].cameraFromWorld(point);
    const auto plate = inCamera.z() > 0.2 ? plateFromPlane(lensAt(index), inCamera.hnormalized()) : std::nullopt;
    const bool inside =
        plate && plate->x() > 4 && plate->y() > 4 && plate->x() < plan.width - 4 && plate->y() < plan.height - 4;
    if (visible) *visible = inside;
    return plate.value_or(Vector2d(-1, -1));
}

MadeShot make(const ShotPlan& plan) {
    MadeShot shot;
    shot.plan = plan;
    std::mt19937 random(plan.seed * 7919 + 17);
    std::uniform_real_distribution<double> unit(0, 1);
    std::normal_distribution<double> normal(0, 1);
    const double fps = 24;
    shot.lens = pinholeLens(plan.width, plan.height, plan.focal_mm / 36 * plan.width);
    shot.lens.k1 = plan.k1;
    shot.lens.k2 = plan.k2;
    // A real lens does not fold within its picture circle.
    const auto folds = [&] {
        Lens shortest = shot.lens;
        if (plan.zoomTo_mm > 0) shortest.focal_px *= std::min(1.0, plan.zoomTo_mm / plan.focal_mm);
        return planeRadiusLimit(shortest) < 1.4 * std::hypot(plan.width, plan.height) / 2 / shortest.focal_px;
    };
    while (folds()) {
        shot.lens.k1 *= 0.8;
        shot.lens.k2 *= 0.8;
    }
    shot.lens.cx += plan.axisOff * plan.width * normal(random);
    shot.lens.cy += plan.axisOff * plan.width * normal(random);
    const double zoomRatio = plan.zoomTo_mm > 0 ? plan.zoomTo_mm / plan.focal_mm : 1;
    shot.k1Slope = plan.zoomTo_mm > 0 ? 0.05 : 0;

    // The path.
    std::vector<Sway> sways;
    for (int i = 0; i < 6; ++i) sways.emplace_back(random, fps);
    const double side = unit(random) < 0.5 ? -1 : 1;
    const double panTotal = (unit(random) - 0.5) * 0.5,
                 pitch = plan.scene == Scene::floor ? 0.5 + 0.3 * unit(random) : 0.14 * unit(random) - 0.02;
    const double drift = 0.2 * (unit(random) - 0.5), orbitAt = 3 + 4 * unit(random), ease = unit(random);
    for (int f = 0; f < plan.frames; ++f) {
        const double t = plan.frames > 1 ? double(f) / (plan.frames - 1) : 0;
        double s = (1 - ease) * t + ease * t * t * (3 - 2 * t);
        Vector3d at = Vector3d::Zero();
        double yaw = panTotal * s, tilt = pitch;
        switch (plan.move) {
            case Move::sideways:
            case Move::slide:
                at = plan.length * s * Vector3d(side, 0, drift);
                break;
            case Move::forward:
                at = plan.length * s * Vector3d(drift, 0, 1);
                break;
            case Move::orbit: {
                const double angle = side * plan.length / orbitAt * s;
                at = Vector3d(orbitAt * std::sin(angle), 0, orbitAt * (1 - std::cos(angle)));
                yaw = angle;
                break;
            }
            case Move::upward:
                at = plan.length * s * Vector3d(drift, -0.6 * side, 0.2 * side);
                break;
            case Move::nodal:
                yaw = side * plan.length * s;
                break;
            case Move::locked:
                yaw = 0;
                break;
            case Move::panThenWalk: {
                const double walk = std::max(0.0, (t - 0.5) * 2), smooth = walk * walk * (3 - 2 * walk);
                yaw = side * 0.5 * std::min(1.0, 2 * t);
                at = plan.length * smooth * Vector3d(side, 0, 0.4);
                break;
            }
            case Move::walk: {
                const double gone = plan.length * t;
                at = Vector3d(0.8 * std::sin(gone / 5), 0, gone);
                yaw = 0.25 * std::sin(gone / 3.1);
                break;
            }
        }
        const double frame = f;
        if (plan.move != Move::locked) {
            const bool steps =
                plan.move != Move::nodal && plan.move != Move::slide && !(plan.move == Move::panThenWalk && t < 0.5);
            const double bob = steps ? 0.014 * plan.shake : 0;
            at += bob * Vector3d(sways[0].at(frame),
                                 sways[1].at(frame) + (plan.shake > 0 ? 0.6 * std::sin(frame * 0.5) : 0),
                                 sways[2].at(frame));
            const double turn = plan.move == Move::slide ? 0 : 0.009 * plan.shake;
            yaw += turn * sways[3].at(frame);
            tilt += turn * sways[4].at(frame);
        }
        Pose pose;
        pose.rotation = lookAlong(
            plan.move == Move::slide ? 0.1 * side : yaw, tilt,
            plan.move == Move::locked || plan.move == Move::slide ? 0.0 : 0.005 * plan.shake * sways[5].at(frame));
        pose.translation = -(pose.rotation * at);
        shot.poses.push_back(pose);
        const double zs = std::clamp(1.4 * t - 0.2, 0.0, 1.0);
        shot.focals_px.push_back(shot.lens.focal_px * std::pow(zoomRatio, zs * zs * (3 - 2 * zs)));
    }

    const World world(plan.scene, random, shot.poses);
    // Movers: patches that cross the picture at a pace of their own.
    struct Mover {
        Vector2d pace, wobble;
        double rate;
    };
    std::vector<Mover> movers;
    for (int i = 0; i < 2; ++i) {
        const double angle = 2 * std::numbers::pi * unit(random), speed = 0.6 + 3 * unit(random);
        movers.push_back({speed * Vector2d(std::cos(angle), 0.4 * std::sin(angle)),
                          Vector2d(3 * normal(random), 3 * normal(random)), 0.1 + 0.3 * unit(random)});
    }
    const double scale = plan.width / 1920.0;
    std::vector<int> alive(std::size_t(plan.frames), 0);
    TrackId next = 1;
    for (int birth = 0; birth < plan.frames; ++birth) {
        int misses = 0;
        while (alive[std::size_t(birth)] < plan.tracks && misses < 20 * plan.tracks) {
            ++misses;
            const Vector2d pixel(plan.width * unit(random), plan.height * unit(random));
            const auto plane = planeFromPlate(shot.lensAt(birth), pixel);
            if (!plane) continue;
            const Pose& pose = shot.poses[std::size_t(birth)];
            const Vector3d ray = pose.rotation.conjugate() * Vector3d(plane->x(), plane->y(), 1);
            const auto point = world.hit(pose.centre(), ray);
            if (!point) continue;
            const int life = std::max(4, int(std::lround(-plan.life * std::log(1 - unit(random)))));
            MadeTrack truth;
            truth.point = *point;
            const bool wrong = unit(random) < plan.wrong;
            const double kind = unit(random);
            const double sigma = plan.noise_px * (0.6 + 0.8 * unit(random)) * scale;
            // Sliding along an edge, sitting on a mover, or jumping once.
            const double angle = 2 * std::numbers::pi * unit(random);
            const Vector2d slide = (0.04 + 0.4 * unit(random)) * Vector2d(std::cos(angle), std::sin(angle));
            const Mover& mover = movers[std::size_t(unit(random) * 1.999)];
            const int jumpAt = birth + int(life * (0.35 + 0.4 * unit(random)));
            const Vector2d jump = (4 + 10 * unit(random)) * Vector2d(std::cos(angle), std::sin(angle));
            std::vector<Sample> samples;
            Vector2d error(normal(random), normal(random));
            for (int f = birth; f < std::min(plan.frames, birth + life); ++f) {
                bool visible = false;
                const Vector2d exact = shot.seen(f, *point, &visible);
                if (!visible) break;
                error = plan.correlation * error +
                        std::sqrt(1 - plan.correlation * plan.correlation) * Vector2d(normal(random), normal(random));
                Vector2d off = Vector2d::Zero();
                const double age = f - birth;
                if (wrong) {
                    if (kind < 0.45) off = slide * age;
                    else if (kind < 0.85) off = mover.pace * age + mover.wobble * std::sin(mover.rate * age);
                    else if (f >= jumpAt) off = jump;
                }
                off *= scale;
                if (off.norm() > truth.wrongBy_px) truth.wrongBy_px = off.norm();
                if (wrong && kind >= 0.85 && f >= jumpAt) truth.wrongFrom = std::min(truth.wrongFrom, 1001 + f);
                const double tail = unit(random) < 0.01 ? 6 : 1;
                samples.push_back({.frame = 1001 + f, .at = exact + off + sigma * tail * error});
            }
            if (samples.size() < 3) continue;
            truth.good = truth.wrongBy_px == 0;
            for (const Sample& sample : samples) ++alive[std::size_t(sample.frame - 1001)];
            Track track;
            track.id = next++;
            track.name = fmt::format("t{}", track.id);
            track.referenceFrame = samples.front().frame;
            track.samples = List<Sample>(std::move(samples));
            shot.tracks.push_back(std::move(track));
            shot.truth.push_back(truth);
        }
    }
    return shot;
}

ShotPlan drawPlan(const std::string& kind, unsigned seed) {
    unsigned hash = 2166136261U;  // FNV-1a: the same everywhere
    for (const char letter : kind) hash = (hash ^ unsigned(letter)) * 16777619U;
    std::mt19937 random(seed * 104729 + hash % 100003);
    std::uniform_real_distribution<double> unit(0, 1);
    const auto between = [&](double a, double b) { return a + (b - a) * unit(random); };
    ShotPlan plan;
    plan.kind = kind;
    plan.seed = seed + hash % 9973 * 1000;
    plan.frames = int(between(70, 140));
    plan.focal_mm = 20 * std::pow(75.0 / 20, unit(random));
    plan.k1 = between(-0.14, 0.03);
    plan.k2 = between(-0.015, 0.03);
    plan.length = between(0.8, 3.5);
    plan.noise_px = between(0.08, 0.25);
    const std::array scenes{Scene::court, Scene::street, Scene::room, Scene::field};
    plan.scene = scenes[std::size_t(unit(random) * 3.999)];
    const std::array moves{Move::sideways, Move::forward, Move::orbit, Move::upward};
    plan.move = moves[std::size_t(unit(random) * 3.999)];
    if (kind == "flat") plan.scene = unit(random) < 0.5 ? Scene::wall : Scene::floor;
    if (kind == "long-lens") {
        plan.focal_mm = between(70, 140);
        plan.length = between(1.5, 4);
    }
    if (kind == "wide") {
        plan.focal_mm = between(14, 22);
        plan.k1 = between(-0.12, -0.02);
    }
    if (kind == "forward") plan.move = Move::forward;
    if (kind == "few") plan.tracks = int(between(30, 70));
    if (kind == "noisy") {
        plan.noise_px = between(0.4, 0.7);
        plan.correlation = 0.5;
        plan.wrong = 0.25;
    }
    if (kind == "short-tracks") plan.life = between(10, 16);
    if (kind == "crop") plan.axisOff = 0.03;
    if (kind == "short-move") plan.length = between(0.12, 0.5);
    if (kind == "far") {
        plan.scene = Scene::field;
        plan.length = between(0.5, 2);
    }
    if (kind == "slide") plan.move = Move::slide;
    if (kind == "pan-walk") plan.move = Move::panThenWalk;
    if (kind == "walk-400" || kind == "walk-1000" || kind == "walk-3000") {
        plan.move = Move::walk;
        plan.scene = Scene::street;
        plan.frames = std::stoi(kind.substr(5));
        plan.length = plan.frames / 24.0 * 1.1;
        plan.tracks = 350;
        plan.life = kind == "walk-400" ? 25 : 35;
        plan.focal_mm = between(22, 45);
    }
    if (kind == "nodal" || kind == "zoom-nodal") {
        plan.move = Move::nodal;
        plan.length = between(0.3, 1.0);
    }
    if (kind == "locked") plan.move = Move::locked;
    if (kind == "zoom-nodal" || kind == "zoom-walk" || kind == "zoom-mild") {
        const double ratio = kind == "zoom-mild" ? between(1.05, 1.25) : between(1.4, 2.2);
        plan.focal_mm = between(22, 35);
        plan.zoomTo_mm = plan.focal_mm * ratio;
        plan.k1 = between(-0.10, 0.0);
        if (unit(random) < 0.5) std::swap(plan.focal_mm, plan.zoomTo_mm);
    }
    if (kind == "small") {  // a plate of another size
        plan.width = 1280;
        plan.height = 960;
    }
    return plan;
}

}  // namespace pinion::bench
