#include "render/skylight.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace pinion {

using Eigen::Vector3d;

namespace {

using SkySide = std::vector<Vector3d>;

std::vector<SkySide> boxSides(const Vector3d& low, const Vector3d& high) {
    const auto corner = [&](unsigned i) {
        return Vector3d((i & 1U) != 0 ? high.x() : low.x(), (i & 2U) != 0 ? high.y() : low.y(),
                        (i & 4U) != 0 ? high.z() : low.z());
    };
    std::vector<SkySide> sides;
    for (const auto& [a, b, c, d] : {std::array{0U, 2U, 3U, 1U},
                                     {4U, 5U, 7U, 6U},
                                     {0U, 4U, 6U, 2U},
                                     {1U, 3U, 7U, 5U},
                                     {0U, 1U, 5U, 4U},
                                     {2U, 6U, 7U, 3U}})
        sides.push_back({corner(a), corner(b), corner(c), corner(d)});
    return sides;
}

/// A body turned about its upright: rings of a radius at a height, the first and the last of which may be points.
std::vector<SkySide> turnedSides(const std::vector<std::pair<double, double>>& rings, int sides) {
    const auto at = [&](std::size_t ring, int i) {
        const double angle = 2 * std::numbers::pi * (i % sides) / sides;
        const auto [radius, height] = rings[ring];
        return Vector3d(radius * std::cos(angle), height, -radius * std::sin(angle));
    };
    std::vector<SkySide> result;
    for (std::size_t ring = 0; ring + 1 < rings.size(); ++ring)
        for (int i = 0; i < sides; ++i) {
            SkySide side{at(ring, i), at(ring, i + 1)};
            if (rings[ring].first == 0) side.pop_back();
            if (rings[ring + 1].first > 0) side.push_back(at(ring + 1, i + 1));
            side.push_back(at(ring + 1, i));
            result.push_back(std::move(side));
        }
    if (rings.front().first > 0) {
        SkySide foot;
        for (int i = sides; i-- > 0;) foot.push_back(at(0, i));
        result.push_back(std::move(foot));
    }
    return result;
}

SkySide sheetSide(double half) { return {{-half, 0, 0}, {half, 0, 0}, {half, 1, 0}, {-half, 1, 0}}; }

/// The sides of a kind's unit shape, part by part.
std::vector<std::vector<SkySide>> unitSides(StandInKind kind) {
    switch (kind) {
        case StandInKind::figure:
            return {boxSides({-0.36, 0.42, -0.3}, {0.36, 0.98, 0.3}), boxSides({-0.26, 0, -0.25}, {0.26, 0.42, 0.3})};
        case StandInKind::cone:
            return {turnedSides({{0.5, 0}, {0, 1}}, 12)};
        case StandInKind::ball:
            return {turnedSides({{0, 0}, {0.38, 0.15}, {0.52, 0.5}, {0.38, 0.85}, {0, 1}}, 10)};
        case StandInKind::board:
            return {{sheetSide(0.5)}};
        case StandInKind::card:
        case StandInKind::text:
            return {{sheetSide(0.25)}};
        default:
            return {boxSides({-0.5, 0, -0.5}, {0.5, 1, 0.5})};
    }
}

/// Of the cosine-weighted half space above `normal`, what a flat polygon covers as seen from the origin. Its sense of
/// turning does not matter.
double coveredBy(const SkySide& side, const Vector3d& place, const Vector3d& normal) {
    std::array<Vector3d, 24> cut;
    std::size_t count = 0;
    const auto add = [&](const Vector3d& at) {
        if (count < cut.size()) cut[count++] = at;
    };
    for (std::size_t i = 0; i < side.size(); ++i) {
        const Vector3d a = side[i] - place, b = side[(i + 1) % side.size()] - place;
        const double above = a.dot(normal), next = b.dot(normal);
        if (above >= 0) add(a);
        if ((above < 0) != (next < 0)) add(a + above / (above - next) * (b - a));
    }
    double sum = 0;
    for (std::size_t i = 0; i < count; ++i) {
        const Vector3d& a = cut[i];
        const Vector3d& b = cut[(i + 1) % count];
        const Vector3d turn = a.cross(b);
        const double sine = turn.norm();
        if (sine > 1e-12 * a.norm() * b.norm()) sum += std::atan2(sine, a.dot(b)) * normal.dot(turn) / sine;
    }
    return std::abs(sum) / (2 * std::numbers::pi);
}

}  // namespace

std::size_t SkyCover::add(StandInKind kind, const Eigen::Affine3d& worldFromUnit, double opacity) {
    Body body;
    body.opacity = std::clamp(opacity, 0.0, 1.0);
    body.world = worldFromUnit;
    body.unitFromWorld = worldFromUnit.inverse();
    body.depth = isUprightSheet(kind) ? 0 : 0.5;
    body.reach = reachOf(worldFromUnit);
    if (kind != StandInKind::grid)
        for (const std::vector<SkySide>& unit : unitSides(kind)) {
            Part part;
            part.isSheet = isUprightSheet(kind);
            const Vector3d sizes = worldFromUnit.linear().colwise().norm();
            if (kind == StandInKind::ball && sizes.maxCoeff() < 1.02 * sizes.minCoeff()) part.ball = 0.5 * sizes.mean();
            for (const SkySide& side : unit) {
                Side own;
                for (const Vector3d& corner : side) own.push_back(worldFromUnit * corner);
                part.sides.push_back(std::move(own));
            }
            body.parts.push_back(std::move(part));
        }
    bodies_.push_back(std::move(body));
    return bodies_.size() - 1;
}

double SkyCover::reachOf(const Eigen::Affine3d& worldFromUnit) {
    const Vector3d sizes = worldFromUnit.linear().colwise().norm();
    const double side = sizes.prod() / std::max(1e-12, sizes.minCoeff());
    return 3 * std::sqrt(side / std::numbers::pi);
}

float SkyCover::at(const Vector3d& place, const Vector3d& normal, std::optional<std::size_t> but) const {
    double open = 1;
    for (std::size_t i = 0; i < bodies_.size(); ++i) {
        const Body& body = bodies_[i];
        if (i == but) continue;
        const Vector3d own = body.unitFromWorld * place;
        const Vector3d nearest(std::clamp(own.x(), -0.5, 0.5), std::clamp(own.y(), 0.0, 1.0),
                               std::clamp(own.z(), -body.depth, body.depth));
        const double away = (body.world.linear() * (nearest - own)).norm() / body.reach;
        if (!(away < 1)) continue;
        // It fades out on the way to its reach, so that no border shows.
        const double weight = body.opacity * std::clamp(2 * (1 - away), 0.0, 1.0);
        const Vector3d towards = body.world * Vector3d(0, 0.5, 0) - place;
        const double distance = towards.norm(), height = towards.dot(normal);
        for (const Part& part : body.parts) {
            double covered = 0;
            if (part.ball > 0 && height >= part.ball * (1 - 1e-6) && distance > part.ball) {
                // The whole ball is above the horizon (Lambert 1760).
                covered = part.ball * part.ball * height / (distance * distance * distance);
            } else {
                for (const Side& side : part.sides) {
                    const Vector3d out = (side[1] - side[0]).cross(side[2] - side[0]);
                    if (part.isSheet || out.dot(place - side[0]) > 0) covered += coveredBy(side, place, normal);
                }
            }
            open *= 1 - weight * std::min(covered, 1.0);
        }
    }
    return float(1 - open);
}

}  // namespace pinion
