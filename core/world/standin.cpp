#include "world/standin.h"

#include "world/planefit.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace pinion {

using Eigen::AngleAxisd;
using Eigen::Vector3d;

std::string_view toString(StandInKind kind) { return kStandInKinds[std::size_t(kind)]; }

bool isUprightSheet(StandInKind kind) {
    return kind == StandInKind::board || kind == StandInKind::card || kind == StandInKind::text;
}

Eigen::Matrix3d Stance::rotation() const {
    const Vector3d turn = turn_deg * (std::numbers::pi / 180);
    return (AngleAxisd(turn.z(), Vector3d::UnitZ()) * AngleAxisd(turn.y(), Vector3d::UnitY()) *
            AngleAxisd(turn.x(), Vector3d::UnitX()))
        .toRotationMatrix();
}

Eigen::Affine3d Stance::worldFromUnit() const {
    Eigen::Affine3d result;
    result.linear() = rotation() * size.asDiagonal();
    result.translation() = place;
    result.makeAffine();
    return result;
}

bool StandIn::operator==(const StandIn& other) const {
    return id == other.id && name == other.name && kind == other.kind && file == other.file && words == other.words &&
           card == other.card && stance == other.stance && keys.vector() == other.keys.vector() &&
           colour == other.colour && opacity == other.opacity && casts == other.casts &&
           catchesOnly == other.catchesOnly && hides == other.hides && hidden == other.hidden &&
           carrier == other.carrier && group == other.group && frames == other.frames;
}

Stance StandIn::at(double frame) const {
    if (keys.isEmpty()) return stance;
    const auto next = std::lower_bound(keys.begin(), keys.end(), frame,
                                       [](const StanceKey& key, double number) { return key.frame < number; });
    if (next == keys.end()) return keys.back().stance;
    if (next->frame == frame || next == keys.begin()) return next->stance;
    const StanceKey& before = *(next - 1);
    const double share = (frame - before.frame) / double(next->frame - before.frame);
    const auto between = [&](const Vector3d& a, const Vector3d& b) -> Vector3d { return (1 - share) * a + share * b; };
    return {between(before.stance.place, next->stance.place), between(before.stance.turn_deg, next->stance.turn_deg),
            between(before.stance.size, next->stance.size)};
}

Stance StandIn::facing(Stance now, const Vector3d& eye) const {
    const Vector3d towards = eye - now.place;
    if (card.facesCamera && std::hypot(towards.x(), towards.z()) > 0)
        now.turn_deg = {0, std::atan2(towards.x(), towards.z()) * (180 / std::numbers::pi), 0};
    return now;
}

Vector3d usualSize(StandInKind kind) {
    switch (kind) {
        case StandInKind::board:
            return {1, 1, 1};
        case StandInKind::box:
            return {0.5, 0.5, 0.5};
        case StandInKind::cone:
            return {0.35, 0.7, 0.35};
        case StandInKind::ball:
            return {0.4, 0.4, 0.4};
        case StandInKind::figure:
            return {0.55, 1.75, 0.3};
        case StandInKind::grid:
            return {4, 1, 4};
        case StandInKind::text:
            return {1.5, 0.4, 1};
        case StandInKind::card:
            return {1, 1.75, 1};
        case StandInKind::locator:
            return {0.2, 0.2, 0.2};
        case StandInKind::mesh:
            break;  // as its file has it
    }
    return {1, 1, 1};
}

namespace {

/// Turns about x, then y, then z that make a rotation.
Vector3d turnOf(const Eigen::Matrix3d& rotation) {
    const Vector3d zyx = rotation.eulerAngles(2, 1, 0) * (180 / std::numbers::pi);
    return {zyx[2], zyx[1], zyx[0]};
}

Vector3d nearestTurn(Vector3d turn, const Vector3d& to) {
    // There are two: the other way round about y.
    Vector3d other(turn.x() + 180, 180 - turn.y(), turn.z() + 180);
    for (int i = 0; i < 3; ++i) {
        turn[i] -= 360 * std::round((turn[i] - to[i]) / 360);
        other[i] -= 360 * std::round((other[i] - to[i]) / 360);
    }
    return (other - to).norm() < (turn - to).norm() ? other : turn;
}

}  // namespace

Stance standingOn(const Stance& stance, StandInKind kind, std::span<const Vector3d> points, const Vector3d& eye) {
    Stance result = stance;
    result.place.setZero();
    for (const Vector3d& point : points) result.place += point / double(points.size());
    const auto plane = points.size() < 3 ? std::nullopt : fittedPlane(points);
    if (!plane) return result;
    Vector3d normal = plane->normal;
    if (normal.dot(eye - plane->middle) < 0) normal = -normal;
    const Vector3d along = std::abs(normal.y()) < 0.9 ? Vector3d(0, 1, 0) : Vector3d(0, 0, -1);
    const Vector3d side = along.cross(normal).normalized(), other = normal.cross(side);
    Eigen::Matrix3d turn;
    if (isUprightSheet(kind)) turn << side, other, normal;
    else turn << side, normal, -other;
    result.turn_deg = nearestTurn(turnOf(turn), {0, 0, 0});
    return result;
}

Stance moved(const Eigen::Isometry3d& by, const Stance& stance, const Vector3d& before_deg) {
    return {by * stance.place, nearestTurn(turnOf(by.linear() * stance.rotation()), before_deg), stance.size};
}

Stance standingAt(Stance stance, StandInKind kind, double height) {
    const Eigen::Affine3d world = stance.worldFromUnit();
    const bool isFlat = isUprightSheet(kind), lies = kind == StandInKind::grid;
    double lowest = 1e300;
    for (const double x : {-0.5, 0.5})
        for (const double y : {0.0, lies ? 0.0 : 1.0})
            for (const double z : {isFlat ? 0.0 : -0.5, isFlat ? 0.0 : 0.5})
                lowest = std::min(lowest, (world * Vector3d(x, y, z)).y());
    if (kind == StandInKind::ball) {
        // Of an ellipsoid the corners of its box say too much.
        const double reach = (world.linear().row(1) * 0.5).norm();
        lowest = (world * Vector3d(0, 0.5, 0)).y() - reach;
    }
    stance.place.y() += height - lowest;
    return stance;
}

}  // namespace pinion
