#include "scenarios/crowdedshot.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/core.h>
#include <numbers>
#include <random>

namespace pinion::bench {
namespace {

using Eigen::Matrix3d;
using Eigen::Quaterniond;
using Eigen::Vector2d;
using Eigen::Vector3d;

/// Numbers of a seed.
class Chance {
public:
    explicit Chance(std::uint64_t seed) : engine_(seed) {}
    double unit() { return double(engine_() >> 11) * 0x1.0p-53; }
    double between(double a, double b) { return a + (b - a) * unit(); }
    bool says(double share) { return unit() < share; }
    double normal() {  // Box and Muller 1958: the same everywhere
        return std::sqrt(-2 * std::log(1 - unit())) * std::cos(2 * std::numbers::pi * unit());
    }
    /// Student's, of four degrees of freedom, with a standard deviation of one: the tails of real matches.
    double heavy() {
        double squares = 0;
        for (int i = 0; i < 4; ++i) squares += std::pow(normal(), 2);
        return normal() / std::sqrt(squares / 4) / std::numbers::sqrt2;
    }
    Vector3d inBox(const Vector3d& half) {
        return {between(-half.x(), half.x()), between(-half.y(), half.y()), between(-half.z(), half.z())};
    }

private:
    std::mt19937_64 engine_;
};

/// A walk whose speed wanders and is drawn back to zero, smoothed once: how a body sways.
std::vector<Vector3d> wandering(Chance& chance, int frames, double size, double memory) {
    std::vector<Vector3d> path(std::size_t(frames), Vector3d::Zero());
    Vector3d at = Vector3d::Zero(), speed = Vector3d::Zero();
    for (auto& place : path) {
        speed = memory * speed - 0.02 * at + size * Vector3d(chance.normal(), chance.normal(), chance.normal());
        at += speed;
        place = at;
    }
    std::vector<Vector3d> smooth = path;
    for (std::size_t i = 1; i + 1 < path.size(); ++i)
        smooth[i] = 0.25 * path[i - 1] + 0.5 * path[i] + 0.25 * path[i + 1];
    return smooth;
}

/// The same between frames, for sensors that are read in the meantime: a walk of eight steps a frame.
constexpr int kSteps = 8;
std::vector<Vector3d> wanderingFinely(Chance& chance, int frames, double size, double memory) {
    // Eight small pushes where there was one, and each forgets an eighth: the speeds spread alike.
    const double own = std::pow(memory, 1.0 / kSteps);
    const double push = size / kSteps * std::sqrt((1 - own * own) / (1 - memory * memory));
    std::vector<Vector3d> path;
    Vector3d at = Vector3d::Zero(), speed = Vector3d::Zero();
    for (int i = 0; i < (frames + 2) * kSteps; ++i) {
        speed = own * speed - 0.02 / (kSteps * kSteps) * at +
                push * Vector3d(chance.normal(), chance.normal(), chance.normal());
        at += speed;
        path.push_back(at);
    }
    // As smooth as a hand with a telephone in it: nothing faster than about a frame.
    for (int pass = 0; pass < 2; ++pass) {
        std::vector<Vector3d> smooth = path;
        for (std::size_t i = kSteps / 2; i + kSteps / 2 < path.size(); ++i) {
            smooth[i].setZero();
            for (std::size_t k = i - kSteps / 2; k <= i + kSteps / 2; ++k) smooth[i] += path[k] / (kSteps + 1);
        }
        path = smooth;
    }
    return path;
}

/// A value of a path that has `steps` a frame, at a time in frames.
Vector3d between(const std::vector<Vector3d>& path, double time, double steps, double before) {
    const double at = std::clamp((time + before) * steps, 0.0, double(path.size()) - 1.001);
    const auto i = std::size_t(at);
    return path[i] + (at - double(i)) * (path[i + 1] - path[i]);
}

/// A flat piece of the set: a middle and two half sides.
struct Patch {
    Vector3d middle, right, down;
    Vector3d any(Chance& chance) const { return middle + chance.between(-1, 1) * right + chance.between(-1, 1) * down; }
};

/// Y down, the camera first looks along z, the ground lies at `eye`.
std::vector<Patch> builtSet(Chance& chance, const CrowdPlan& plan, double eye) {
    std::vector<Patch> set;
    const double far = 9 + 8 * chance.unit() + 0.5 * plan.walk_m;
    if (plan.flat) {
        if (chance.says(0.5)) {
            const double turn = chance.between(-0.7, 0.7);
            set.push_back({{0, -1, chance.between(5, 9)}, {20 * std::cos(turn), 0, 20 * std::sin(turn)}, {0, 7, 0}});
        } else {
            set.push_back({{0, eye, 9}, {14, 0, 0}, {0, 0, 10}});
        }
        return set;
    }
    set.push_back({{0, eye, 0.55 * far}, {11, 0, 0}, {0, 0, 0.5 * far}});  // ground
    for (int i = 0; i < 7; ++i) {                                          // house fronts
        const double turn = chance.between(-0.9, 0.9);
        const double wide = chance.between(0.8, 3), tall = chance.between(0.8, 2.4);
        set.push_back({{chance.between(-9, 9), eye - tall, far + chance.between(-3, 6)},
                       {wide * std::cos(turn), 0, wide * std::sin(turn)},
                       {0, tall, 0}});
    }
    for (int i = 0; i < 9; ++i) {  // boards, crates, posts nearer by
        const double turn = chance.between(-1.2, 1.2);
        const double wide = chance.between(0.1, 0.7), tall = chance.between(0.2, 0.9);
        set.push_back({{chance.between(-4, 4), eye - tall, chance.between(2.6, 0.8 * far)},
                       {wide * std::cos(turn), 0, wide * std::sin(turn)},
                       {0, tall, 0}});
    }
    for (int i = 0; i < 3; ++i)  // hills and masts far behind
        set.push_back({{chance.between(-60, 60), eye - 6, chance.between(60, 180)}, {25, 0, 0}, {0, 6, 0}});
    return set;
}

/// A thing that moves by itself: a box with points on it, its place and its turn about up on every frame.
struct Mover {
    Vector3d half;
    std::vector<Vector3d> at;
    std::vector<double> turn;
    Vector3d placed(const Vector3d& own, int frame, double later = 0) const {
        const auto f = std::size_t(frame);
        const auto other = std::size_t(std::clamp(frame + (later < 0 ? -1 : 1), 0, int(at.size()) - 1));
        const double s = std::abs(later);
        return (1 - s) * at[f] + s * at[other] +
               Eigen::AngleAxisd((1 - s) * turn[f] + s * turn[other], Vector3d::UnitY()) * own;
    }
    Vector3d onSurface(Chance& chance) const {
        Vector3d own = chance.inBox(half);
        const int axis = int(chance.unit() * 2.999);
        own[axis] = std::copysign(half[axis], own[axis]);
        return own;
    }
};

Quaterniond lookingAt(const Vector3d& from, const Vector3d& at, double roll) {
    const Vector3d z = (at - from).normalized();
    const Vector3d x = Vector3d::UnitY().cross(z).normalized();
    Matrix3d rows;
    rows << x.transpose(), z.cross(x).transpose(), z.transpose();
    return Quaterniond(Eigen::AngleAxisd(roll, Vector3d::UnitZ()).toRotationMatrix() * rows);
}

Mover movingThing(Chance& chance, const CrowdPlan& plan, double eye, double distance, int which) {
    Mover mover;
    mover.half = {chance.between(0.4, 1.1), chance.between(0.35, 0.8), chance.between(0.3, 0.8)};
    const double pace = chance.between(0.015, 0.06) * (chance.says(0.5) ? 1 : -1);
    const double heading = chance.between(-0.5, 0.5) + (chance.says(0.25) ? std::numbers::pi / 2 : 0);
    const Vector3d ahead(std::cos(heading), 0, std::sin(heading));
    const double bend = chance.between(-0.006, 0.006);
    const auto unrest = wandering(chance, plan.frames, 0.0012, 0.9);
    const int waitsFrom = plan.waits ? int(chance.between(0, 0.5) * plan.frames) : plan.frames;
    const int waitsTo = waitsFrom + plan.frames / 2;
    double gone = -0.5 * pace * plan.frames;
    const double beside = which == 0 ? chance.between(-0.6, 0.6) : chance.between(-1.6, 1.6);
    for (int f = 0; f < plan.frames; ++f) {
        // Starting and stopping takes a third of a second.
        const double still = std::clamp(std::min(f - waitsFrom, waitsTo - f) / 8.0, 0.0, 1.0);
        gone += pace * (1 - still);
        const Vector3d side(-ahead.z(), 0, ahead.x());
        mover.at.push_back(Vector3d(beside, eye - mover.half.y(), distance) + gone * ahead +
                           0.5 * bend * gone * gone * side * 10 + Vector3d(unrest[std::size_t(f)].x(), 0, 0));
        mover.turn.push_back(heading + 10 * bend * gone);
    }
    return mover;
}

/// The last frame comes first.
void turnBack(MadeShot& shot) {
    const int last = 1001 + 1001 + shot.plan.frames - 1;
    std::reverse(shot.poses.begin(), shot.poses.end());
    std::reverse(shot.focals_px.begin(), shot.focals_px.end());
    shot.lens.focal_px = shot.focals_px.front();
    for (Track& track : shot.tracks) {
        auto samples = track.samples.vector();
        std::reverse(samples.begin(), samples.end());
        for (Sample& sample : samples) sample.frame = last - sample.frame;
        track.referenceFrame = samples.front().frame;
        track.samples = List<Sample>(std::move(samples));
    }
}

}  // namespace

const std::vector<std::string>& crowdKinds() {
    static const std::vector<std::string> kinds{
        "handheld",        "pan",     "flat",   "zoom",     "long-lens", "wide",        "follow",
        "two-movers",      "waiting", "shadow", "portrait", "mirror",    "foliage",     "sliding",
        "slide",           "begins",  "ends",   "quiet",    "rolling",   "rolling-pan", "rolling-quiet",
        "rolling-portrait"};
    return kinds;
}

CrowdPlan drawCrowd(const std::string& kind, unsigned seed) {
    std::uint64_t hash = 1469598103934665603ULL;
    for (const char letter : kind) hash = (hash ^ std::uint64_t(letter)) * 1099511628211ULL;
    Chance chance(hash ^ (seed * 0x9E3779B97F4A7C15ULL));
    for (int i = 0; i < 8; ++i) chance.unit();
    CrowdPlan plan;
    plan.kind = kind;
    plan.seed = unsigned(hash % 100003) * 1000 + seed;
    plan.frames = int(chance.between(60, 150));
    plan.focal_mm = 18 * std::pow(75.0 / 18, chance.unit());
    plan.k1 = chance.between(-0.09, 0.02);
    plan.k2 = chance.between(-0.01, 0.015);
    plan.walk_m = 0.5 * std::pow(8, chance.unit());
    plan.unrest = chance.between(0.5, 1.5);
    plan.tracks = int(50 * std::pow(8, chance.unit()));
    plan.halfLife = chance.between(8, 30);
    plan.noise_px = chance.between(0.08, 0.25);
    plan.moverShare = chance.between(0.05, 0.35);
    plan.sliding = chance.between(0, 0.04);
    plan.drifting = chance.between(0, 0.06);
    if (kind == "pan") plan.walk_m = 0;
    if (kind == "flat") plan.flat = true;
    if (kind == "zoom") plan.zoomTo_mm = plan.focal_mm * chance.between(1.3, 2);
    if (kind == "long-lens") plan.focal_mm = chance.between(75, 135);
    if (kind == "wide") plan.focal_mm = chance.between(15, 22);
    if (kind == "follow") {
        plan.follows = true;
        plan.walk_m = chance.between(2, 6);
    }
    if (kind == "two-movers") plan.movers = 2;
    if (kind == "waiting") plan.waits = true;
    if (kind == "shadow") plan.shadow = true;
    if (kind == "portrait") {
        plan.width = 1080;
        plan.height = 1920;
    }
    if (kind == "mirror") plan.mirrored = chance.between(0.03, 0.12);
    if (kind == "foliage") plan.swaying = chance.between(0.05, 0.2);
    if (kind == "sliding") plan.sliding = chance.between(0.1, 0.25);
    if (kind == "slide") plan.unrest = 0;
    if (kind == "begins" || kind == "ends") {
        plan.filled = int(chance.between(6, 16));
        plan.backwards = kind == "ends";
    }
    if (kind == "quiet") plan.movers = 0;
    if (kind.starts_with("rolling")) {
        plan.readout = chance.between(0.3, 0.9) * (chance.says(0.2) ? -1 : 1);
        plan.unrest = chance.between(0.8, 1.6);
        if (kind == "rolling-pan") plan.walk_m = 0;
        if (kind == "rolling-quiet") plan.movers = 0;
        if (kind == "rolling-portrait") {
            plan.width = 1080;
            plan.height = 1920;
            plan.columns = true;
        }
    }
    return plan;
}

MadeShot make(const CrowdPlan& plan) {
    Chance chance(plan.seed * 6364136223846793005ULL + 1442695040888963407ULL);
    for (int i = 0; i < 8; ++i) chance.unit();
    MadeShot shot;
    shot.plan.kind = plan.kind;
    shot.plan.seed = plan.seed;
    shot.plan.move = plan.walk_m == 0 ? Move::nodal : Move::sideways;
    shot.plan.width = plan.width;
    shot.plan.height = plan.height;
    shot.plan.frames = plan.frames;
    shot.plan.focal_mm = plan.focal_mm;
    shot.plan.zoomTo_mm = plan.zoomTo_mm;
    shot.plan.length = plan.walk_m;
    // The lens; one that does not fold well beyond the corners.
    const double perMillimetre = plan.width / 36.0;
    shot.lens = pinholeLens(plan.width, plan.height, plan.focal_mm * perMillimetre);
    shot.lens.k1 = plan.k1;
    shot.lens.k2 = plan.k2;
    while (planeRadiusLimit(shot.lens) < 0.75 * std::hypot(plan.width, plan.height) / shot.lens.focal_px) {
        shot.lens.k1 *= 0.7;
        shot.lens.k2 *= 0.7;
    }
    shot.lens.cx += plan.axisOff * plan.width * chance.normal();
    shot.lens.cy += plan.axisOff * plan.width * chance.normal();
    for (int f = 0; f < plan.frames; ++f) {
        const double t = double(f) / (plan.frames - 1);
        shot.focals_px.push_back(plan.zoomTo_mm > 0 ? shot.lens.focal_px *
                                                          std::pow(plan.zoomTo_mm / plan.focal_mm, t * t * (3 - 2 * t))
                                                    : shot.lens.focal_px);
    }

    const double eye = chance.between(1.2, 1.8);
    const std::vector<Patch> set = builtSet(chance, plan, eye);
    const double distance = chance.between(4, 9) * std::max(1.0, plan.focal_mm / 45);
    std::vector<Mover> movers;
    for (int i = 0; i < plan.movers; ++i) movers.push_back(movingThing(chance, plan, eye, distance + 1.7 * i, i));

    // The camera goes from one place to another by way of a third, and looks at a spot that wanders, or at the mover.
    const double heading = chance.between(-std::numbers::pi, std::numbers::pi);
    const Vector3d goal = plan.walk_m * Vector3d(std::cos(heading), 0.15 * chance.normal(), 0.8 * std::sin(heading));
    const Vector3d way = 0.5 * goal + 0.2 * plan.walk_m * Vector3d(chance.normal(), 0, chance.normal());
    const auto body = wandering(chance, plan.frames, 0.0016 * plan.unrest, 0.88);
    const auto head = wandering(chance, plan.frames, 0.0011 * plan.unrest, 0.8);
    const Vector3d spot(chance.between(-1.2, 1.2), chance.between(-0.6, 0.4), distance * chance.between(1.1, 1.6));
    const Vector3d drift(chance.between(-2, 2), 0, 0);
    const double pan = chance.between(0.25, 0.7) * (chance.says(0.5) ? 1 : -1);
    // Where it is at any time in frames; `bodyAt` and `headAt` are what the hand adds.
    const auto poseAt = [&](double time, const Vector3d& bodyAt, const Vector3d& headAt) {
        const double t = time / (plan.frames - 1), s = plan.unrest > 0 ? t * t * (3 - 2 * t) : t;
        Vector3d at = Vector3d::Zero(), to = spot + s * drift;
        if (plan.walk_m > 0 && plan.unrest > 0) at = 2 * s * (1 - s) * way + s * s * goal + bodyAt;
        else if (plan.walk_m > 0) at = s * goal;
        if (plan.follows) at.x() += between(movers.front().at, time, 1, 0).x() - movers.front().at.front().x();
        if (plan.follows) to = between(movers.front().at, time, 1, 0) + Vector3d(0.3, -0.3, 0);
        if (plan.walk_m == 0) to = distance * Vector3d(std::sin(pan * (s - 0.5)), 0.02, std::cos(pan * (s - 0.5)));
        Pose pose;
        pose.rotation = Quaterniond(Eigen::AngleAxisd(headAt.x(), Vector3d::UnitX()) *
                                    Eigen::AngleAxisd(headAt.y(), Vector3d::UnitY())) *
                        lookingAt(at, to, 0.5 * headAt.z());
        pose.translation = -(pose.rotation * at);
        return pose;
    };
    std::vector<Vector3d> fineBody, fineHead;
    if (plan.readout != 0) {
        fineBody = wanderingFinely(chance, plan.frames, 0.0016 * plan.unrest, 0.88);
        fineHead = wanderingFinely(chance, plan.frames, 0.0011 * plan.unrest, 0.8);
    }
    const auto rowPoseAt = [&](double time) {
        return poseAt(time, between(fineBody, time, kSteps, 1), between(fineHead, time, kSteps, 1));
    };
    for (int f = 0; f < plan.frames; ++f)
        shot.poses.push_back(plan.readout != 0 ? rowPoseAt(f) : poseAt(f, body[std::size_t(f)], head[std::size_t(f)]));
    shot.readout = {plan.readout, plan.columns};
    // Where a point that may move is seen, by the row that reads it.
    const auto seenBy = [&](int f, const auto& pointAt, bool* visible) {
        Vector2d at = shot.seen(f, pointAt(0.0), visible);
        if (plan.readout == 0) return at;
        for (int round = 0; round < 8; ++round) {
            const double later = plan.readout * rowOf(at, plan.columns, plan.width, plan.height);
            const Vector3d own = rowPoseAt(f + later).cameraFromWorld(pointAt(later));
            if (own.z() < 0.05) {
                *visible = false;
                return at;
            }
            const auto plate = plateFromPlane(shot.lensAt(f), own.head<2>() / own.z());
            if (!plate) {
                *visible = false;
                return at;
            }
            at = *plate;
        }
        *visible = *visible && at.x() > 0 && at.y() > 0 && at.x() < plan.width && at.y() < plan.height;
        return at;
    };

    // Tracks: each frame is filled up again.
    struct Life {
        Vector3d point;
        int mover = -1;  ///< whose point it is; -1: the set's
    };
    std::vector<std::size_t> alive(std::size_t(plan.frames), 0), aliveOnMovers(std::size_t(plan.frames), 0);
    TrackId next = 1;
    const auto isHidden = [&](int f, const Vector2d& at, double depth, int own) {
        for (std::size_t m = 0; m < movers.size(); ++m) {
            if (int(m) == own) continue;
            const Vector3d middle = shot.poses[std::size_t(f)].cameraFromWorld(movers[m].at[std::size_t(f)]);
            bool visible = false;
            const Vector2d seen = shot.seen(f, movers[m].at[std::size_t(f)], &visible);
            const double size =
                movers[m].half.head<2>().mean() / std::max(0.5, middle.z()) * shot.focals_px[std::size_t(f)];
            if (middle.z() > 0 && middle.z() < depth - 0.3 && (seen - at).cwiseAbs().maxCoeff() < size) return true;
        }
        return false;
    };
    const auto add = [&](int birth, const Life& life, int until) {  // 0: as long as a feature lives
        const double kind = chance.unit();
        double bound = 0;
        const auto below = [&](double share) { return kind < (bound += share); };
        const bool mirrored = life.mover < 0 && below(plan.mirrored), swaying = life.mover < 0 && below(plan.swaying),
                   sliding = life.mover < 0 && below(plan.sliding), drifting = below(plan.drifting);
        const bool shadow = life.mover >= 0 && plan.shadow && chance.says(0.3);
        const int length =
            until > 0 ? until - birth : 4 + int(plan.halfLife * std::pow(-std::log2(1 - chance.unit()), 1 / 0.8));
        const double sigma = plan.noise_px * std::exp(0.35 * chance.normal()) * shot.plan.width / 1920.0;
        const double memory = chance.between(0, 0.6);
        const double angle = chance.between(0, 2 * std::numbers::pi);
        const Vector2d edge(std::cos(angle), std::sin(angle));
        const double slide = chance.between(2, 25) / plan.halfLife / 2, creep = chance.between(0.002, 0.012);
        const double swing = chance.between(0.02, 0.12), pace = chance.between(0.15, 0.7), phase = 6.28 * chance.unit();
        const Vector3d swingAlong = chance.inBox({1, 0.3, 1});
        MadeTrack truth;
        truth.point = life.point;
        truth.mover = life.mover;
        std::vector<Sample> samples;
        Vector2d error(chance.normal(), chance.normal());
        for (int f = birth; f < std::min(plan.frames, birth + length); ++f) {
            const auto pointAt = [&](double later) {
                Vector3d point = life.point;
                if (life.mover >= 0) {
                    point = movers[std::size_t(life.mover)].placed(life.point, f, later);
                    if (shadow) point.y() = eye;
                }
                if (mirrored) point.z() = 2 * 12 - point.z() + 14;  // a pane across the street shows what is behind
                if (swaying) point += swing * std::sin(pace * (f + later) + phase) * swingAlong;
                return point;
            };
            bool visible = false;
            Vector2d at = seenBy(f, pointAt, &visible);
            const double depth = shot.poses[std::size_t(f)].cameraFromWorld(pointAt(0)).z();
            if (!visible || isHidden(f, at, depth, life.mover)) break;
            const double age = f - birth;
            if (sliding) at += slide * age * edge;
            if (drifting) at += creep * age * edge;
            const bool isSet = life.mover < 0 && !mirrored;
            bool inView = true;
            const double off = isSet ? (at - seenBy(
                                                 f, [&](double) { return life.point; }, &inView))
                                           .norm()
                                     : 1e3;
            truth.wrongBy_px = std::max(truth.wrongBy_px, off);
            const double whiten = std::sqrt(1 - memory * memory);
            error = memory * error + whiten * Vector2d(chance.heavy(), chance.heavy());
            samples.push_back({.frame = 1001 + f, .at = at + sigma * error});
        }
        if (samples.size() < 4) return false;
        truth.good = truth.wrongBy_px < 0.4 && life.mover < 0 && !mirrored;
        for (const Sample& sample : samples) {
            ++alive[std::size_t(sample.frame - 1001)];
            aliveOnMovers[std::size_t(sample.frame - 1001)] += life.mover >= 0;
        }
        Track track;
        track.id = next++;
        track.name = fmt::format("c{}", track.id);
        track.referenceFrame = samples.front().frame;
        track.samples = List<Sample>(std::move(samples));
        shot.tracks.push_back(std::move(track));
        shot.truth.push_back(truth);
        return true;
    };
    for (int f = 0; f < plan.frames; ++f) {
        const auto wanted = std::size_t(plan.tracks);
        const bool isFilled = f < plan.filled && !movers.empty();
        const double share = isFilled ? std::max(0.8, 1 - 14.0 / double(wanted)) : plan.moverShare;
        for (int tries = 0; alive[std::size_t(f)] < wanted && tries < 6 * plan.tracks; ++tries) {
            const double onMovers = double(aliveOnMovers[std::size_t(f)]);
            if (!movers.empty() && onMovers < share * double(wanted)) {
                const int m = int(chance.unit() * (double(movers.size()) - 0.001));
                // What fills the beginning and no more goes out of the picture.
                const int until = onMovers < plan.moverShare * double(wanted) ? plan.frames : plan.filled + 2;
                add(f, {movers[std::size_t(m)].onSurface(chance), m}, until);
                continue;
            }
            const Patch& patch = set[std::size_t(chance.unit() * (double(set.size()) - 0.001))];
            add(f, {patch.any(chance), -1}, 0);
        }
    }
    if (plan.backwards) turnBack(shot);
    return shot;
}

}  // namespace pinion::bench
