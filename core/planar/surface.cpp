#include "planar/surface.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

double turnOf(const Vector2d& a, const Vector2d& b, const Vector2d& c) {
    return (b.x() - a.x()) * (c.y() - b.y()) - (b.y() - a.y()) * (c.x() - b.x());
}

bool edgesCross(const Vector2d& a, const Vector2d& b, const Vector2d& c, const Vector2d& d) {
    return turnOf(a, b, c) * turnOf(a, b, d) < 0 && turnOf(c, d, a) * turnOf(c, d, b) < 0;
}

constexpr double kPi = std::numbers::pi;

struct TieInPlane {
    int frame;
    Quad corners;
};

Quad carriedQuad(const Matrix3d& matrix, const Quad& quad) {
    Quad result;
    for (std::size_t i = 0; i < 4; ++i) result[i] = (matrix * quad[i].homogeneous()).hnormalized();
    return result;
}

/// A tie's corners as places of the surface.
Quad placesOf(const SurfaceMap& map, Quad corners) {
    for (Vector2d& corner : corners) corner = map.onSurface(corner);
    return corners;
}

Quad platesOf(const SurfaceMap& map, Quad places) {
    for (Vector2d& place : places) place = map.onPlate(place);
    return places;
}

std::vector<TieInPlane> tiesInPlane(const PlanarTrack& plane) {
    std::vector<TieInPlane> ties;
    for (const PlaneTie& tie : plane.ties)
        if (const auto map = SurfaceMap::of(plane, tie.frame)) {
            ties.push_back({tie.frame, placesOf(*map, tie.corners)});
            if (!plane.sides) continue;
            // Angles go on from one tie to the next, and from the left corner to the right one.
            Quad& now = ties.back().corners;
            const Quad& before = ties.size() > 1 ? ties[ties.size() - 2].corners : now;
            for (std::size_t i = 0; i < 4; ++i)
                now[i].x() = before[i].x() + std::remainder(now[i].x() - before[i].x(), 2 * kPi);
            for (const auto& [left, right] : {std::pair<std::size_t, std::size_t>{0, 1}, {3, 2}})
                if (ties.size() == 1 && now[right].x() < now[left].x()) now[right].x() += 2 * kPi;
        }
    return ties;
}

/// Slopes at the ties that make a monotone cubic between each two of them; none at the ends, where it stands still.
double slopeAt(const std::vector<TieInPlane>& ties, std::size_t i, std::size_t corner, int axis) {
    if (i == 0 || i + 1 == ties.size()) return 0;
    const auto value = [&](std::size_t k) { return ties[k].corners[corner][axis]; };
    const double before = ties[i].frame - ties[i - 1].frame, after = ties[i + 1].frame - ties[i].frame;
    const double left = (value(i) - value(i - 1)) / before, right = (value(i + 1) - value(i)) / after;
    if (left * right <= 0) return 0;
    const double w1 = 2 * after + before, w2 = after + 2 * before;
    return (w1 + w2) / (w1 / left + w2 / right);
}

Quad cornersInPlane(const std::vector<TieInPlane>& ties, int frame) {
    if (frame <= ties.front().frame) return ties.front().corners;
    if (frame >= ties.back().frame) return ties.back().corners;
    std::size_t i = 0;
    while (ties[i + 1].frame < frame) ++i;
    const double length = ties[i + 1].frame - ties[i].frame, t = (frame - ties[i].frame) / length;
    Quad result;
    for (std::size_t corner = 0; corner < 4; ++corner)
        for (int axis = 0; axis < 2; ++axis) {
            const double from = ties[i].corners[corner][axis], to = ties[i + 1].corners[corner][axis];
            const double a = length * slopeAt(ties, i, corner, axis), b = length * slopeAt(ties, i + 1, corner, axis);
            const double t2 = t * t, t3 = t2 * t;
            result[corner][axis] =
                (2 * t3 - 3 * t2 + 1) * from + (t3 - 2 * t2 + t) * a + (3 * t2 - 2 * t3) * to + (t3 - t2) * b;
        }
    return result;
}

/// The corners as places of the surface on a frame; there has to be one.
Quad placesOnSurface(const PlanarTrack& plane, int frame) { return cornersInPlane(tiesInPlane(plane), frame); }

/// The pose by which `places` of the surface are seen at `corners` of the plate.
void bendTo(PlaneSample& sample, const SurfaceGeometry& geometry, Quad corners, const Quad& places,
            const PlanarTrack& plane) {
    for (Vector2d& corner : corners) corner = straightened(plane.lens, corner);
    if (!geometry.cylinder) {
        if (const auto pose = quadFromQuad(corners, places)) sample.pose = {*pose};
        return;
    }
    std::array<Eigen::Vector3d, 4> points;
    for (std::size_t i = 0; i < 4; ++i) points[i] = geometry.cylinder->at(places[i]);
    sample.pose = bodySeenAt(*plane.lens, points, corners, sample.pose);
}

}  // namespace

std::optional<Matrix3d> quadFromQuad(const Quad& to, const Quad& from) {
    // About the middles and in units of the sizes, so that eight equations of alike numbers are solved.
    const auto normal = [](const Quad& quad) {
        const Vector2d middle = 0.25 * (quad[0] + quad[1] + quad[2] + quad[3]);
        double size = 0;
        for (const Vector2d& corner : quad) size = std::max(size, (corner - middle).norm());
        Matrix3d matrix = Matrix3d::Identity();
        matrix(0, 0) = matrix(1, 1) = 1 / std::max(size, 1e-9);
        matrix.topRightCorner<2, 1>() = -middle / std::max(size, 1e-9);
        return matrix;
    };
    const Matrix3d a = normal(from), b = normal(to);
    const Quad p = carriedQuad(a, from), q = carriedQuad(b, to);
    Eigen::Matrix<double, 8, 8> rows;
    Eigen::Matrix<double, 8, 1> right;
    for (int i = 0; i < 4; ++i) {
        const Vector2d& s = p[std::size_t(i)];
        const Vector2d& t = q[std::size_t(i)];
        rows.row(2 * i) << s.x(), s.y(), 1, 0, 0, 0, -t.x() * s.x(), -t.x() * s.y();
        rows.row(2 * i + 1) << 0, 0, 0, s.x(), s.y(), 1, -t.y() * s.x(), -t.y() * s.y();
        right[2 * i] = t.x();
        right[2 * i + 1] = t.y();
    }
    const Eigen::FullPivLU<Eigen::Matrix<double, 8, 8>> solver(rows);
    if (solver.rcond() < 1e-9) return std::nullopt;
    const Eigen::Matrix<double, 8, 1> h = solver.solve(right);
    Matrix3d matrix;
    matrix << h[0], h[1], h[2], h[3], h[4], h[5], h[6], h[7], 1;
    matrix = b.inverse() * matrix * a;
    if (!matrix.allFinite() || std::abs(matrix(2, 2)) < 1e-12) return std::nullopt;
    return matrix / matrix(2, 2);
}

std::string troubleOf(const Quad& c) {
    for (const Vector2d& corner : c)
        if (!corner.allFinite()) return "a corner is nowhere";
    if (edgesCross(c[0], c[1], c[2], c[3]) || edgesCross(c[1], c[2], c[3], c[0]))
        return "its edges cross: the corners are not in order round it";
    for (std::size_t i = 0; i < 4; ++i)
        for (std::size_t k = i + 1; k < 4; ++k)
            if ((c[i] - c[k]).norm() < 1) return "two of its corners lie on one place";
    int clockwise = 0;
    double least = 1e300;
    for (std::size_t i = 0; i < 4; ++i) {
        const double turn = turnOf(c[i], c[(i + 1) % 4], c[(i + 2) % 4]);
        clockwise += turn > 0 ? 1 : -1;
        // How far the corner stands out from the line through its neighbours.
        least = std::min(least, std::abs(turn) / std::max(1e-9, (c[(i + 2) % 4] - c[i]).norm()));
    }
    if (least < 0.5) return "three of its corners lie on a line";
    if (std::abs(clockwise) != 4) return "one of its corners lies inside the other three";
    if (clockwise < 0) return "its corners run the wrong way round: the picture would be mirrored";
    return {};
}

Expected<Quad> inOrder(const Quad& corners) {
    const Vector2d middle = 0.25 * (corners[0] + corners[1] + corners[2] + corners[3]);
    Quad sorted = corners;
    std::sort(sorted.begin(), sorted.end(), [&](const Vector2d& a, const Vector2d& b) {
        const Vector2d p = a - middle, q = b - middle;
        return std::atan2(p.y(), p.x()) < std::atan2(q.y(), q.x());
    });
    const auto first = std::min_element(sorted.begin(), sorted.end(),
                                        [](const Vector2d& a, const Vector2d& b) { return a.sum() < b.sum(); });
    std::rotate(sorted.begin(), first, sorted.end());
    if (const std::string trouble = troubleOf(sorted); !trouble.empty())
        return failure(Fault::input, "these are no corners of a surface: {}", trouble);
    return sorted;
}

Quad sidesInOrder(std::span<const Vector2d> ends) {
    // Each runs down the picture, or to the right where the body lies.
    const auto runs = [&](std::size_t from) {
        const Vector2d along = ends[from + 1] - ends[from];
        const bool lies = std::abs(along.x()) > std::abs(along.y());
        return (lies ? along.x() : along.y()) >= 0 ? std::pair(ends[from], ends[from + 1])
                                                   : std::pair(ends[from + 1], ends[from]);
    };
    auto one = runs(0), other = runs(2);
    // Seen with its axis down, the left one has the other on its left hand as it runs.
    const Vector2d along = one.second - one.first + other.second - other.first;
    const Vector2d across = other.first + other.second - one.first - one.second;
    if (along.x() * across.y() - along.y() * across.x() > 0) std::swap(one, other);
    return {one.first, other.first, other.second, one.second};
}

std::optional<SurfacePose> surfacePoseOn(const PlanarTrack& plane, int frame) {
    if (const PlaneSample* sample = sampleAt(plane, frame)) return sample->pose;
    if (frame == plane.referenceFrame) return SurfacePose{};
    return std::nullopt;
}

std::optional<SurfaceMap> SurfaceMap::of(const PlanarTrack& plane, int frame) {
    const auto pose = surfacePoseOn(plane, frame);
    if (!pose) return std::nullopt;
    return of(plane, *pose);
}

SurfaceMap SurfaceMap::of(const PlanarTrack& plane, const SurfacePose& pose) {
    SurfaceMap map;
    map.reference_ = plane.geometry();
    map.here_ = map.reference_.moved(pose);
    map.pose_ = pose;
    return map;
}

Vector2d SurfaceMap::onSurface(const Vector2d& plate) const {
    if (here_.cylinder) return here_.cylinder->placeOf(here_.cylinder->met(rayOf(*here_.lens, plate)));
    return (pose_.matrix.inverse() * straightened(here_.lens, plate).homogeneous()).hnormalized();
}

Vector2d SurfaceMap::onPlate(const Vector2d& surface) const {
    if (here_.cylinder) return seenAt(*here_.lens, here_.cylinder->at(surface));
    return bent(here_.lens, (pose_.matrix * surface.homogeneous()).hnormalized());
}

bool SurfaceMap::faces(const Vector2d& surface) const {
    if (!here_.cylinder) return true;
    return here_.cylinder->normal(surface.x()).dot(here_.cylinder->at(surface)) < 0;
}

double SurfaceMap::turn_deg() const { return here_.cylinder ? here_.cylinder->facing() * 180 / kPi : 0; }

Vector2d placedBy(const PlanarTrack& plane, const SurfacePose& pose, const Vector2d& reference) {
    return SurfaceMap::of(plane, pose).onPlate(SurfaceMap::of(plane, SurfacePose{}).onSurface(reference));
}

Vector2d referencePlace(const PlanarTrack& plane, const SurfacePose& pose, const Vector2d& plate) {
    return SurfaceMap::of(plane, SurfacePose{}).onPlate(SurfaceMap::of(plane, pose).onSurface(plate));
}

std::optional<double> turnAt(const PlanarTrack& plane, int frame) {
    const auto map = SurfaceMap::of(plane, frame);
    if (!map || !plane.geometry().cylinder) return std::nullopt;
    const double turn = SurfaceMap::of(plane, SurfacePose{}).turn_deg() - map->turn_deg();
    return std::remainder(turn, 360.0);
}

std::optional<SurfaceSheet> SurfaceSheet::of(const PlanarTrack& plane, int frame) {
    const auto corners = surfaceAt(plane, frame);
    if (!corners) return std::nullopt;
    if (!plane.geometry().cylinder) return of(*corners, plane.lens);
    auto map = SurfaceMap::of(plane, frame);
    if (!map) return std::nullopt;
    SurfaceSheet sheet;
    sheet.map_ = *std::move(map);
    sheet.corners_ = placesOnSurface(plane, frame);
    sheet.curved_ = true;
    return sheet;
}

std::optional<SurfaceSheet> SurfaceSheet::of(const Quad& corners, const PlaneLens& lens) {
    SurfaceSheet sheet;
    if (lens && lens->isDistorted()) sheet.lens_ = lens;
    Quad straight = corners;
    for (Vector2d& corner : straight) corner = straightened(sheet.lens_, corner);
    const auto flat = quadFromQuad(straight, {Vector2d(0, 0), {1, 0}, {1, 1}, {0, 1}});
    // Seen edge-on it is a line, from which nothing leads back.
    constexpr double kLeastArea = 1e-6;
    if (!flat || !(std::abs(flat->determinant()) > kLeastArea)) return std::nullopt;
    sheet.flat_ = *flat;
    return sheet;
}

Vector2d SurfaceSheet::onSurface(const Vector2d& sheet) const {
    const double s = sheet.x(), t = sheet.y();
    return (1 - t) * ((1 - s) * corners_[0] + s * corners_[1]) + t * ((1 - s) * corners_[3] + s * corners_[2]);
}

Vector2d SurfaceSheet::onPlate(const Vector2d& sheet) const {
    return curved_ ? map_.onPlate(onSurface(sheet)) : bent(lens_, (flat_ * sheet.homogeneous()).hnormalized());
}

double SurfaceSheet::widthToHeight() const {
    const double width = 0.5 * ((corners_[1] - corners_[0]).norm() + (corners_[2] - corners_[3]).norm());
    const double height = 0.5 * ((corners_[3] - corners_[0]).norm() + (corners_[2] - corners_[1]).norm());
    return width / std::max(1e-9, height);
}

std::optional<Vector2d> SurfaceSheet::onSheet(const Vector2d& plate) const {
    if (!curved_) {
        const Eigen::Vector3d at = flat_.inverse() * straightened(lens_, plate).homogeneous();
        if (!(at.z() * flat_.determinant() > 0)) return std::nullopt;
        return at.hnormalized();
    }
    Vector2d wanted = map_.onSurface(plate);
    const Vector2d middle = onSurface({0.5, 0.5});
    wanted.x() = middle.x() + std::remainder(wanted.x() - middle.x(), 2 * kPi);
    // Four corners need not be a rectangle on it: Newton's steps.
    Vector2d at(0.5, 0.5);
    for (int round = 0; round < 8; ++round) {
        const Vector2d off = wanted - onSurface(at);
        if (off.norm() < 1e-10) break;
        constexpr double kStep = 1e-4;
        Eigen::Matrix2d slope;
        slope << (onSurface(at + Vector2d(kStep, 0)) - onSurface(at)) / kStep,
            (onSurface(at + Vector2d(0, kStep)) - onSurface(at)) / kStep;
        if (!(std::abs(slope.determinant()) > 1e-9)) return std::nullopt;
        at += slope.inverse() * off;
    }
    return at;
}

bool SurfaceSheet::faces(const Vector2d& sheet) const { return !curved_ || map_.faces(onSurface(sheet)); }

std::optional<Quad> surfaceAt(const PlanarTrack& plane, int frame) {
    const auto map = SurfaceMap::of(plane, frame);
    if (!map) return std::nullopt;
    // On a tie it is as it was placed, to the last bit.
    for (const PlaneTie& tie : plane.ties)
        if (tie.frame == frame) return tie.corners;
    const std::vector<TieInPlane> ties = tiesInPlane(plane);
    if (ties.empty()) return std::nullopt;
    const Quad places = cornersInPlane(ties, frame);
    // Seen from behind it is not there.
    if (!map->faces(0.25 * (places[0] + places[1] + places[2] + places[3]))) return std::nullopt;
    return platesOf(*map, places);
}

std::optional<Matrix3d> plateFromSurface(const PlanarTrack& plane, int frame) {
    const auto corners = surfaceAt(plane, frame);
    if (!corners) return std::nullopt;
    return quadFromQuad(*corners, {Vector2d(0, 0), Vector2d(1, 0), Vector2d(1, 1), Vector2d(0, 1)});
}

std::optional<SquaredSize> squaredSize(const PlanarTrack& plane) {
    std::optional<SquaredSize> best;
    double most = 0;
    const auto consider = [&](int frame) {
        const auto c = surfaceAt(plane, frame);
        if (!c) return;
        double width = 0.5 * (((*c)[1] - (*c)[0]).norm() + ((*c)[2] - (*c)[3]).norm());
        const double height = 0.5 * (((*c)[3] - (*c)[0]).norm() + ((*c)[2] - (*c)[1]).norm());
        if (const auto sheet = plane.sides ? SurfaceSheet::of(plane, frame) : std::nullopt; sheet && sheet->isCurved())
            width = height * sheet->widthToHeight();
        if (width * height <= most) return;
        most = width * height;
        const auto even = [](double length) { return std::max(16, 2 * int(std::lround(length / 2))); };
        best = SquaredSize{even(width), even(height), frame};
    };
    if (plane.samples.isEmpty()) consider(plane.referenceFrame);
    // Views ask for it at every repaint: of a long plate some frames stand for all.
    constexpr std::size_t kMost = 64;
    const std::size_t step = std::max<std::size_t>(1, plane.samples.size() / kMost);
    for (std::size_t i = 0; i < plane.samples.size(); i += step) consider(plane.samples[i].frame);
    return best;
}

PlanarTrack begunAnew(const PlanarTrack& plane, int frame) {
    PlanarTrack result = plane;
    const std::vector<TieInPlane> ties = tiesInPlane(plane);
    const auto before = std::find_if(ties.rbegin(), ties.rend(), [&](const TieInPlane& t) { return t.frame < frame; });
    // With nothing before it there is nothing to bend: the first tie is where the surface was placed.
    if (before == ties.rend()) return result;
    const SurfaceGeometry geometry = plane.geometry();
    result.samples = plane.samples.edited([&](auto& samples) {
        for (PlaneSample& sample : samples) {
            if (sample.frame <= before->frame || sample.frame > frame) continue;
            if (const auto now = surfaceAt(plane, sample.frame)) bendTo(sample, geometry, *now, before->corners, plane);
            if (sample.frame == frame) sample.anew = true;
        }
    });
    result.ties = plane.ties.edited(
        [&](auto& list) { std::erase_if(list, [&](const PlaneTie& tie) { return tie.frame >= frame; }); });
    return result;
}

}  // namespace pinion
