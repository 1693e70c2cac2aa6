#include "matte/drawing.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Places = std::vector<Vector2d>;

constexpr double kCircle = 0.5522847498;  // tangents of a quarter of a circle, of its radius
constexpr int kRefinements = 4;

struct Curve {
    Vector2d from, leaving, arriving, to;  ///< control points
    Vector2d at(double t) const {
        const double u = 1 - t;
        return u * u * u * from + 3 * u * u * t * leaving + 3 * u * t * t * arriving + t * t * t * to;
    }
    Vector2d slope(double t) const {
        const double u = 1 - t;
        return 3 * u * u * (leaving - from) + 6 * u * t * (arriving - leaving) + 3 * t * t * (to - arriving);
    }
};

/// The places' shares of the way.
std::vector<double> sharesOf(const Places& places, std::size_t first, std::size_t last) {
    std::vector<double> shares{0};
    for (std::size_t i = first + 1; i <= last; ++i)
        shares.push_back(shares.back() + (places[i] - places[i - 1]).norm());
    for (double& share : shares) share /= std::max(1e-9, shares.back());
    return shares;
}

/// Least squares for the lengths of the tangents, whose directions are given.
Curve fitted(const Places& places, std::size_t first, std::size_t last, const std::vector<double>& shares,
             const Vector2d& leaving, const Vector2d& arriving) {
    const Vector2d &from = places[first], &to = places[last];
    Eigen::Matrix2d sums = Eigen::Matrix2d::Zero();
    Vector2d right(0, 0);
    for (std::size_t i = 0; i < shares.size(); ++i) {
        const double t = shares[i], u = 1 - t, b1 = 3 * u * u * t, b2 = 3 * u * t * t;
        const Vector2d a1 = b1 * leaving, a2 = b2 * arriving;
        const Vector2d left = places[first + i] - (u * u * u + b1) * from - (t * t * t + b2) * to;
        sums(0, 0) += a1.dot(a1);
        sums(0, 1) += a1.dot(a2);
        sums(1, 1) += a2.dot(a2);
        right += Vector2d(a1.dot(left), a2.dot(left));
    }
    sums(1, 0) = sums(0, 1);
    const double chord = (to - from).norm();
    Vector2d lengths(chord / 3, chord / 3);
    if (std::abs(sums.determinant()) > 1e-12) lengths = sums.inverse() * right;
    // Lengths that turn round or run away mean that the places do not tell them.
    if (!(lengths.minCoeff() > 1e-6 * chord) || lengths.maxCoeff() > 3 * chord) lengths.setConstant(chord / 3);
    return {from, from + lengths.x() * leaving, to + lengths.y() * arriving, to};
}

struct Piece {
    Vector2d at, leaving, arriving;  ///< a point, and the tangents of the curve that leaves it
};

/// How a stroke runs at a place: as its neighbours within `reach` places lie, on one side or about it.
Vector2d directionAt(const Places& places, std::size_t at, int reach, int side) {
    const auto count = std::ptrdiff_t(places.size());
    const auto around = [&](std::ptrdiff_t by) {
        return places[std::size_t((std::ptrdiff_t(at) + by + count) % count)];
    };
    const Vector2d along = around(side < 0 ? 0 : reach) - around(side > 0 ? 0 : -reach);
    const double length = along.norm();
    return length > 0 ? Vector2d(along / length) : Vector2d(1, 0);
}

void fitPiece(const Places& places, std::size_t first, std::size_t last, const Vector2d& leaving,
              const Vector2d& arriving, double tolerance, std::vector<Piece>& pieces) {
    std::vector<double> shares = sharesOf(places, first, last);
    Curve curve = fitted(places, first, last, shares, leaving, arriving);
    std::size_t worst = first;
    for (int round = 0; round <= kRefinements; ++round) {
        double most = 0;
        worst = (first + last) / 2;
        for (std::size_t i = 1; i + 1 < shares.size(); ++i) {
            const double away = (curve.at(shares[i]) - places[first + i]).norm();
            if (away > most) {
                most = away;
                worst = first + i;
            }
        }
        if (most <= tolerance || last - first < 4) {
            pieces.push_back({curve.from, curve.leaving - curve.from, curve.arriving - curve.to});
            return;
        }
        if (round == kRefinements || most > 16 * tolerance) break;
        for (std::size_t i = 1; i + 1 < shares.size(); ++i) {  // nearer on the curve: a step of Newton's
            const Vector2d away = curve.at(shares[i]) - places[first + i], slope = curve.slope(shares[i]);
            shares[i] = std::clamp(shares[i] - away.dot(slope) / std::max(1e-9, slope.squaredNorm()), 0.0, 1.0);
        }
        curve = fitted(places, first, last, shares, leaving, arriving);
    }
    worst = std::clamp(worst, first + 2, last - 2);
    const Vector2d through = (places[worst + 1] - places[worst - 1]).normalized();
    fitPiece(places, first, worst, leaving, -through, tolerance, pieces);
    fitPiece(places, worst, last, through, arriving, tolerance, pieces);
}

/// As many places, evenly along the closed stroke: a hand's are uneven and shake.
Places evenly(const Places& stroke, double step) {
    double length = 0;
    for (std::size_t i = 0; i < stroke.size(); ++i) length += (stroke[(i + 1) % stroke.size()] - stroke[i]).norm();
    const auto count = std::size_t(std::clamp(length / step, 12.0, 4000.0));
    const double each = length / double(count);
    Places even;
    double passed = 0;
    for (std::size_t i = 0; i < stroke.size(); ++i) {
        const Vector2d &a = stroke[i], &b = stroke[(i + 1) % stroke.size()];
        const double edge = (b - a).norm();
        while (even.size() < count && double(even.size()) * each <= passed + edge && edge > 0)
            even.push_back(a + (double(even.size()) * each - passed) / edge * (b - a));
        passed += edge;
    }
    return even;
}

}  // namespace

Matte::Key rectangleShape(const Vector2d& a, const Vector2d& b) {
    const Vector2d low = a.cwiseMin(b), high = a.cwiseMax(b);
    return {0, {low, {high.x(), low.y()}, high, {low.x(), high.y()}}};
}

Matte::Key ellipseShape(const Vector2d& a, const Vector2d& b) {
    const Vector2d middle = (a + b) / 2, reach = (b - a).cwiseAbs() / 2;
    const double x = reach.x(), y = reach.y(), tx = kCircle * x, ty = kCircle * y;
    return {0,
            {middle + Vector2d(x, 0), middle + Vector2d(0, y), middle - Vector2d(x, 0), middle - Vector2d(0, y)},
            {{0, -ty}, {tx, 0}, {0, ty}, {-tx, 0}},
            {{0, ty}, {-tx, 0}, {0, -ty}, {tx, 0}}};
}

Matte::Key smoothShape(const Places& drawn, double tolerance) {
    Places stroke;
    for (const Vector2d& place : drawn)
        if (stroke.empty() || (place - stroke.back()).norm() > 1e-6) stroke.push_back(place);
    while (stroke.size() > 1 && (stroke.back() - stroke.front()).norm() <= 1e-6) stroke.pop_back();
    if (stroke.size() < 3) return {};
    const Places places = evenly(stroke, std::max(2.0 * tolerance, 0.5));
    const std::size_t count = places.size();
    const int reach = std::max(2, int(count) / 60);
    // Cut at corners; a stroke without any is cut in three, so that each piece has an inside.
    std::vector<std::size_t> cuts;
    for (std::size_t i = 0; i < count; ++i) {
        const double turn = directionAt(places, i, reach, 1).dot(directionAt(places, i, reach, -1));
        if (turn > 0) continue;
        if (!cuts.empty() && i - cuts.back() < std::size_t(2 * reach)) {
            const double held =
                directionAt(places, cuts.back(), reach, 1).dot(directionAt(places, cuts.back(), reach, -1));
            if (turn < held) cuts.back() = i;
        } else {
            cuts.push_back(i);
        }
    }
    const bool hasCorners = !cuts.empty();
    if (!hasCorners) cuts = {0, count / 3, 2 * count / 3};
    std::vector<Piece> pieces;
    for (std::size_t k = 0; k < cuts.size(); ++k) {
        const std::size_t first = cuts[k], last = k + 1 < cuts.size() ? cuts[k + 1] : cuts.front() + count;
        Places piece;
        for (std::size_t i = first; i <= last; ++i) piece.push_back(places[i % count]);
        if (piece.size() < 3) continue;
        const int side = hasCorners ? 1 : 0;
        fitPiece(piece, 0, piece.size() - 1, directionAt(places, first, reach, side),
                 -directionAt(places, last % count, reach, -side), tolerance, pieces);
    }
    Matte::Key shape;
    for (std::size_t i = 0; i < pieces.size(); ++i) {
        shape.polygon.push_back(pieces[i].at);
        shape.out.push_back(pieces[i].leaving);
        shape.in.push_back(pieces[(i + pieces.size() - 1) % pieces.size()].arriving);
    }
    // One or two curves are closed too, but no shape of points.
    while (!shape.polygon.empty() && shape.polygon.size() < 3) shape = withPointAt(shape, 0, 0.5);
    return shape;
}

}  // namespace pinion
