#include "planar/surface.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

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

/// A tie's corners in the undistorted picture of the plane's reference frame.
struct TieInPlane {
    int frame;
    Quad corners;
};

Quad carriedQuad(const Matrix3d& matrix, const Quad& quad) {
    Quad result;
    for (std::size_t i = 0; i < 4; ++i) result[i] = (matrix * quad[i].homogeneous()).hnormalized();
    return result;
}

Quad straightenedQuad(const PlaneLens& lens, Quad quad) {
    for (Vector2d& corner : quad) corner = straightened(lens, corner);
    return quad;
}

Quad bentQuad(const PlaneLens& lens, Quad quad) {
    for (Vector2d& corner : quad) corner = bent(lens, corner);
    return quad;
}

std::vector<TieInPlane> tiesInPlane(const PlanarTrack& plane) {
    std::vector<TieInPlane> ties;
    for (const PlaneTie& tie : plane.ties)
        if (const auto pose = poseOn(plane, tie.frame))
            ties.push_back({tie.frame, carriedQuad(pose->inverse(), straightenedQuad(plane.lens, tie.corners))});
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

std::optional<Matrix3d> poseOn(const PlanarTrack& plane, int frame) {
    if (const PlaneSample* sample = sampleAt(plane, frame)) return sample->plateFromReference;
    if (frame == plane.referenceFrame) return Matrix3d::Identity();
    return std::nullopt;
}

std::optional<Quad> surfaceAt(const PlanarTrack& plane, int frame) {
    const auto pose = poseOn(plane, frame);
    if (!pose) return std::nullopt;
    // On a tie it is as it was placed, to the last bit.
    for (const PlaneTie& tie : plane.ties)
        if (tie.frame == frame) return tie.corners;
    const std::vector<TieInPlane> ties = tiesInPlane(plane);
    if (ties.empty()) return std::nullopt;
    return bentQuad(plane.lens, carriedQuad(*pose, cornersInPlane(ties, frame)));
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
        const double width = 0.5 * (((*c)[1] - (*c)[0]).norm() + ((*c)[2] - (*c)[3]).norm());
        const double height = 0.5 * (((*c)[3] - (*c)[0]).norm() + ((*c)[2] - (*c)[1]).norm());
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
    result.samples = plane.samples.edited([&](auto& samples) {
        for (PlaneSample& sample : samples) {
            if (sample.frame <= before->frame || sample.frame > frame) continue;
            const auto now = surfaceAt(plane, sample.frame);
            const auto pose = now ? quadFromQuad(straightenedQuad(plane.lens, *now), before->corners) : std::nullopt;
            if (pose) sample.plateFromReference = *pose;
            if (sample.frame == frame) sample.anew = true;
        }
    });
    result.ties = plane.ties.edited(
        [&](auto& list) { std::erase_if(list, [&](const PlaneTie& tie) { return tie.frame >= frame; }); });
    return result;
}

}  // namespace pinion
