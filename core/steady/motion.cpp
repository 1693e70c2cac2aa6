#include "steady/motion.h"

#include "base/median.h"
#include "steady/fits.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace pinion {
namespace {

using namespace fits;
using Eigen::Matrix3d;
using Eigen::Vector2d;

double turnOf(const Vector2d& a, const Vector2d& b, const Vector2d& c) {
    return (b.x() - a.x()) * (c.y() - b.y()) - (b.y() - a.y()) * (c.x() - b.x());
}

bool isConvex(const std::vector<Vector2d>& corners) {
    for (std::size_t i = 0; i < 4; ++i)
        if (turnOf(corners[i], corners[(i + 1) % 4], corners[(i + 2) % 4]) <= 1e-6) return false;
    return true;
}

}  // namespace

Vector2d carried(const Matrix3d& matrix, const Vector2d& place) { return (matrix * place.homogeneous()).hnormalized(); }

Matrix3d MotionParts::about(const Vector2d& pivot) const {
    Matrix3d matrix = Matrix3d::Identity();
    const double c = scale * std::cos(angle), s = scale * std::sin(angle);
    matrix.topLeftCorner<2, 2>() << c, -s, s, c;
    matrix.topRightCorner<2, 1>() = pivot + shift - matrix.topLeftCorner<2, 2>() * pivot;
    return matrix;
}

MotionParts partsOf(const Matrix3d& matrix, const Vector2d& pivot) {
    const Vector2d at = carried(matrix, pivot);
    // The derivative at the pivot; for a similarity it is the matrix's own.
    const double w = matrix.row(2).dot(pivot.homogeneous());
    Eigen::Matrix2d slope = matrix.topLeftCorner<2, 2>() / w;
    slope -= at * matrix.block<1, 2>(2, 0) / w;
    const double along = slope(0, 0) + slope(1, 1), across = slope(1, 0) - slope(0, 1);
    return {at - pivot, std::atan2(across, along), 0.5 * std::hypot(along, across)};
}

Expected<PlateMotion> motionOf(const std::vector<Track>& tracks, int referenceFrame, const FrameRange& range,
                               MotionKind kind) {
    if (tracks.empty()) return failure(Fault::input, "no track is chosen");
    if (kind == MotionKind::similarity && tracks.size() < 2)
        return failure(Fault::input, "track {}: one track gives position; rotation and scale need a second one",
                       tracks.front().name);
    if (kind == MotionKind::cornerPin && tracks.size() != 4)
        return failure(Fault::input, "a corner pin needs four tracks, {} are chosen", tracks.size());
    if (kind == MotionKind::perspective && tracks.size() < 5)
        return failure(Fault::input, "perspective needs five tracks at least, {} are chosen", tracks.size());
    std::vector<Vector2d> places;
    for (const Track& track : tracks) {
        if (track.samples.size() < 2 && kind != MotionKind::position)
            return failure(Fault::input, "track {}: has a single frame and shows no motion; track it first",
                           track.name);
        const Sample* sample = sampleAt(track, referenceFrame);
        if (!sample)
            return failure(Fault::input,
                           "track {}: is not there on the reference frame {} (it has {}-{}); choose a frame that all "
                           "chosen tracks share",
                           track.name, referenceFrame, track.firstFrame(), track.lastFrame());
        places.push_back(sample->wanted());
    }
    for (std::size_t i = 0; i < places.size() && kind != MotionKind::position; ++i)
        for (std::size_t k = i + 1; k < places.size(); ++k)
            if ((places[i] - places[k]).norm() < 2)
                return failure(Fault::input,
                               "tracks {} and {} lie on the same spot on frame {}; choose two that are apart",
                               tracks[i].name, tracks[k].name, referenceFrame);
    PlateMotion motion{kind, referenceFrame, {0, 0}, {}, {}};
    for (const Vector2d& place : places) motion.pivot += place / double(places.size());
    std::vector<std::size_t> order(tracks.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    if (kind == MotionKind::cornerPin) {
        // Round the middle, clockwise on the screen, from the corner nearest to the top left.
        std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            const Vector2d p = places[a] - motion.pivot, q = places[b] - motion.pivot;
            return std::atan2(p.y(), p.x()) < std::atan2(q.y(), q.x());
        });
        const auto first = std::min_element(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return places[a].sum() < places[b].sum();
        });
        std::rotate(order.begin(), first, order.end());
        for (std::size_t i : order) motion.corners.push_back(places[i]);
        if (!isConvex(motion.corners))
            return failure(Fault::input,
                           "the four corners do not span an area without dents on frame {}: one lies inside or on a "
                           "line of the others",
                           referenceFrame);
    }
    for (int frame = range.first; frame <= range.last; ++frame) {
        std::vector<Pair> pairs;
        for (std::size_t i : order)
            if (const Sample* sample = sampleAt(tracks[i], frame)) pairs.push_back({places[i], sample->wanted(), 1.0});
        FrameMotion found{frame, Matrix3d::Identity(), int(pairs.size()), 0.0};
        if (kind == MotionKind::cornerPin) {
            if (pairs.size() < 4) continue;
            std::vector<Vector2d> now;
            for (const Pair& p : pairs) now.push_back(p.to);
            if (!isConvex(now))
                return failure(Fault::outcome,
                               "the four corners cross on frame {}; look at the tracks there, or shorten the range",
                               frame);
            found.plateFromReference = homographyOf(pairs);
        } else if (kind == MotionKind::position) {
            if (pairs.empty()) continue;
            Vector2d shift(0, 0);
            for (const Pair& p : pairs) shift += (p.to - p.from) / double(pairs.size());
            // The mean of what is left when a track ends would jump: all or none.
            if (pairs.size() < tracks.size()) continue;
            found.plateFromReference.topRightCorner<2, 1>() = shift;
        } else {
            const bool perspective = kind == MotionKind::perspective;
            if (pairs.size() < (perspective ? 5U : 2U) || (tracks.size() <= 3 && pairs.size() < tracks.size()))
                continue;
            const auto fitted = [&] { return perspective ? homographyOf(pairs) : similarityOf(pairs); };
            found.plateFromReference = fitted();
            for (int round = 0; round < 5 && pairs.size() > 3; ++round) {
                std::vector<double> residuals;
                for (const Pair& p : pairs)
                    residuals.push_back((carried(found.plateFromReference, p.from) - p.to).norm());
                const double width = std::max(0.5, 4.7 * 1.48 * median(residuals));
                for (std::size_t i = 0; i < pairs.size(); ++i)
                    pairs[i].weight = std::max(1e-6, biweight(residuals[i], width));
                found.plateFromReference = fitted();
            }
        }
        double squares = 0;
        for (const Pair& p : pairs) squares += (carried(found.plateFromReference, p.from) - p.to).squaredNorm();
        found.residual_px = std::sqrt(squares / double(pairs.size()));
        motion.frames.push_back(found);
    }
    return motion;
}

}  // namespace pinion
