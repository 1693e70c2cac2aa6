#include "stages/world/standdrag.h"

#include "render/scenerender.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr double kStep = 0.1;       // of the world's unit
constexpr double kTurnStep = 15;    // degrees
constexpr double kSmallest = 0.01;  // of the world's unit
constexpr double kAligned = 0.02;   // sine: a ray that runs along an axis tells nothing of it

double stepped(double value, double step, bool isStepped) {
    return isStepped ? step * std::round(value / step) : value;
}

int axisOf(StandGrip grip) { return grip == StandGrip::alongX ? 0 : grip == StandGrip::alongY ? 1 : 2; }

}  // namespace

QString verbOf(StandGrip grip) {
    switch (grip) {
        case StandGrip::alongY:
            return "Raise";
        case StandGrip::turn:
            return "Turn";
        case StandGrip::size:
            return "Size";
        default:
            return "Move";
    }
}

StandDrag::StandDrag(StandGrip grip, const Stance& start, const WorldRay& from, double level)
    : grip_(grip), start_(start), level_(level), from_(onFloor(from)), begun_(alongAxis(from)) {}

/// Where the ray meets the level; one that runs along it, as from the front and the side, meets the upright plane
/// through the place instead.
std::optional<Vector3d> StandDrag::onFloor(const WorldRay& ray) const {
    if (std::abs(ray.along.y()) > kAligned) return onLevel(ray, level_);
    const Vector3d facing = Vector3d(ray.along.x(), 0, ray.along.z()).normalized();
    const double distance = facing.dot(start_.place - ray.from) / facing.dot(ray.along);
    Vector3d met = ray.from + distance * ray.along;
    met.y() = level_;
    return met;
}

/// Where the axis through the place comes nearest to the ray, from the place.
std::optional<double> StandDrag::alongAxis(const WorldRay& ray) const {
    const Vector3d axis = Vector3d::Unit(axisOf(grip_));
    const double cosine = axis.dot(ray.along), sine2 = 1 - cosine * cosine;
    if (sine2 < kAligned * kAligned) return std::nullopt;
    const Vector3d to = ray.from - start_.place;
    return (axis.dot(to) - cosine * ray.along.dot(to)) / sine2;
}

std::optional<Stance> StandDrag::at(const WorldRay& ray, bool steps) const {
    Stance stance = start_;
    switch (grip_) {
        case StandGrip::none:
        case StandGrip::size:
            return std::nullopt;
        case StandGrip::alongX:
        case StandGrip::alongY:
        case StandGrip::alongZ: {
            const auto along = alongAxis(ray);
            if (!along || !begun_) return std::nullopt;
            double& value = stance.place[axisOf(grip_)];
            value = stepped(value + *along - *begun_, kStep, steps);
            return stance;
        }
        case StandGrip::floor:
        case StandGrip::turn:
            break;
    }
    const auto met = onFloor(ray);
    if (!met) return std::nullopt;
    if (grip_ == StandGrip::floor) {
        stance.place += *met - from_.value_or(start_.place);
        stance.place.y() = start_.place.y();
        for (const int c : {0, 2}) stance.place[c] = stepped(stance.place[c], kStep, steps);
        return stance;
    }
    if (!from_) return std::nullopt;
    const auto angleOf = [&](const Vector3d& p) {
        return std::atan2(p.x() - start_.place.x(), p.z() - start_.place.z()) * 180 / std::numbers::pi;
    };
    double turn = start_.turn_deg.y() + angleOf(*met) - angleOf(*from_);
    turn -= 360 * std::round(turn / 360);
    stance.turn_deg.y() = stepped(turn, kTurnStep, steps);
    return stance;
}

Stance StandDrag::sized(double factor, bool steps) const {
    factor = std::max(0.01, factor);
    if (steps) factor = stepped(start_.size.y() * factor, kStep, true) / start_.size.y();
    Stance stance = start_;
    stance.size = (start_.size * factor).cwiseMax(kSmallest);
    return stance;
}

}  // namespace pinion
