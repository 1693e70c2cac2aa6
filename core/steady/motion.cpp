#include "steady/motion.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

struct Pair {
    Vector2d from;
    Vector2d to;
    double weight = 1.0;
};

/// The weighted least-squares similarity (Umeyama 1991, in the plane); a shift for one pair.
Matrix3d similarityOf(const std::vector<Pair>& pairs) {
    double total = 0;
    Vector2d from(0, 0), to(0, 0);
    for (const Pair& p : pairs) {
        total += p.weight;
        from += p.weight * p.from;
        to += p.weight * p.to;
    }
    if (total <= 0) return Matrix3d::Identity();
    from /= total;
    to /= total;
    double along = 0, across = 0, spread = 0;
    for (const Pair& p : pairs) {
        const Vector2d a = p.from - from, b = p.to - to;
        along += p.weight * a.dot(b);
        across += p.weight * (a.x() * b.y() - a.y() * b.x());
        spread += p.weight * a.squaredNorm();
    }
    Matrix3d result = Matrix3d::Identity();
    if (spread > 1e-9) {
        result(0, 0) = result(1, 1) = along / spread;
        result(1, 0) = across / spread;
        result(0, 1) = -across / spread;
    }
    result.topRightCorner<2, 1>() = to - result.topLeftCorner<2, 2>() * from;
    return result;
}

double medianOf(std::vector<double> values) {
    if (values.empty()) return 0;
    const auto middle = values.begin() + std::ptrdiff_t(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

/// Tukey's biweight.
double biweight(double residual, double width) {
    const double r = residual / width;
    return r >= 1 ? 0.0 : (1 - r * r) * (1 - r * r);
}

/// The similarity most pairs agree on: RANSAC over two of them (Fischler and Bolles 1981), then re-weighted least
/// squares.
Matrix3d agreedSimilarity(std::vector<Pair> pairs) {
    std::mt19937 random(7);
    std::uniform_int_distribution<std::size_t> pick(0, pairs.size() - 1);
    constexpr double kNear = 0.75;  // pixels
    Matrix3d best = Matrix3d::Identity();
    std::size_t most = 0;
    for (int round = 0; round < 80; ++round) {
        const std::size_t a = pick(random), b = pick(random);
        if ((pairs[a].from - pairs[b].from).norm() < 8) continue;
        const Matrix3d guess = similarityOf({pairs[a], pairs[b]});
        std::size_t near = 0;
        for (const Pair& p : pairs) near += (carried(guess, p.from) - p.to).squaredNorm() < kNear * kNear;
        if (near > most) {
            most = near;
            best = guess;
        }
    }
    for (int round = 0; round < 6; ++round) {
        std::vector<double> residuals;
        for (const Pair& p : pairs) residuals.push_back((carried(best, p.from) - p.to).norm());
        const double width = std::max(0.3, 3 * 1.48 * medianOf(residuals));
        for (std::size_t i = 0; i < pairs.size(); ++i) pairs[i].weight = biweight(residuals[i], width);
        best = similarityOf(pairs);
    }
    return best;
}

/// One track on one frame.
struct Seen {
    std::size_t track;
    Vector2d at;
    double weight = 1.0;
};

/// All frames at once. Taken backwards, from each frame to the reference frame, similarities are linear in a, b and the
/// shift, and the places of the tracks are the means of what the frames say of them; what is left is a linear system in
/// the frames alone, solved by conjugate gradients with the frames' own blocks as preconditioner. Going round frame by
/// frame instead would carry an error along the plate at a crawl.
class JointFrames {
public:
    JointFrames(const std::vector<std::vector<Seen>>& byFrame, std::size_t tracks, std::size_t reference)
        : byFrame_(byFrame), reference_(reference), means_(tracks), weights_(tracks) {
        // Places around the middle and of about one in size: shift and scale then weigh alike.
        double count = 0;
        for (const auto& frame : byFrame)
            for (const Seen& seen : frame) {
                centre_ += seen.at;
                ++count;
            }
        if (count > 0) centre_ /= count;
        for (const auto& frame : byFrame)
            for (const Seen& seen : frame) size_ = std::max(size_, (seen.at - centre_).norm());
    }

    /// Improves `plateFromReference`, with the weights as they are.
    void improve(std::vector<Matrix3d>& plateFromReference, int rounds) {
        const auto size = Eigen::Index(4 * byFrame_.size());
        Matrix3d normal = Matrix3d::Identity();  // normalFromPlate
        normal.topLeftCorner<2, 2>() /= size_;
        normal.topRightCorner<2, 1>() = -centre_ / size_;
        Eigen::VectorXd x(size);
        for (std::size_t f = 0; f < byFrame_.size(); ++f) {
            const Matrix3d back = normal * plateFromReference[f].inverse() * normal.inverse();
            x.segment<4>(Eigen::Index(4 * f)) << back(0, 0), back(1, 0), back(0, 2), back(1, 2);
        }
        x.segment<4>(Eigen::Index(4 * reference_)) << 1, 0, 0, 0;
        std::fill(weights_.begin(), weights_.end(), 0.0);
        blocks_.assign(byFrame_.size(), Eigen::Matrix4d::Identity() * 1e-9);
        for (std::size_t f = 0; f < byFrame_.size(); ++f)
            for (const Seen& seen : byFrame_[f]) {
                weights_[seen.track] += seen.weight;
                const auto j = slope(seen);
                blocks_[f] += seen.weight * j.transpose() * j;
            }
        for (Eigen::Matrix4d& block : blocks_) block = block.inverse().eval();
        // The reference frame stays: its part of the residual is left out.
        Eigen::VectorXd residual = -product(x);
        residual.segment<4>(Eigen::Index(4 * reference_)).setZero();
        Eigen::VectorXd z = preconditioned(residual), direction = z;
        double energy = residual.dot(z);
        const double enough = 1e-16 * std::max(1e-12, energy);
        for (int round = 0; round < rounds && energy > enough; ++round) {
            Eigen::VectorXd along = product(direction);
            along.segment<4>(Eigen::Index(4 * reference_)).setZero();
            const double step = energy / std::max(1e-300, direction.dot(along));
            x += step * direction;
            residual -= step * along;
            z = preconditioned(residual);
            const double next = residual.dot(z);
            direction = z + next / energy * direction;
            energy = next;
        }
        for (std::size_t f = 0; f < byFrame_.size(); ++f) {
            const auto u = x.segment<4>(Eigen::Index(4 * f));
            Matrix3d back = Matrix3d::Identity();
            back.topRows<2>() << u[0], -u[1], u[2], u[1], u[0], u[3];
            if (std::abs(back.determinant()) > 1e-9)
                plateFromReference[f] = (normal.inverse() * back * normal).inverse();
        }
    }

private:
    Eigen::Matrix<double, 2, 4> slope(const Seen& seen) const {
        const Vector2d p = (seen.at - centre_) / size_;
        Eigen::Matrix<double, 2, 4> j;
        j << p.x(), -p.y(), 1, 0, p.y(), p.x(), 0, 1;
        return j;
    }

    Eigen::VectorXd product(const Eigen::VectorXd& x) {
        std::fill(means_.begin(), means_.end(), Vector2d(0, 0));
        for (std::size_t f = 0; f < byFrame_.size(); ++f)
            for (const Seen& seen : byFrame_[f])
                means_[seen.track] += seen.weight * (slope(seen) * x.segment<4>(Eigen::Index(4 * f)));
        for (std::size_t i = 0; i < means_.size(); ++i)
            if (weights_[i] > 0) means_[i] /= weights_[i];
        Eigen::VectorXd result = Eigen::VectorXd::Zero(x.size());
        for (std::size_t f = 0; f < byFrame_.size(); ++f) {
            Eigen::Vector4d sum = 1e-9 * x.segment<4>(Eigen::Index(4 * f));
            for (const Seen& seen : byFrame_[f]) {
                const auto j = slope(seen);
                sum += seen.weight * (j.transpose() * (j * x.segment<4>(Eigen::Index(4 * f)) - means_[seen.track]));
            }
            result.segment<4>(Eigen::Index(4 * f)) = sum;
        }
        return result;
    }

    Eigen::VectorXd preconditioned(const Eigen::VectorXd& x) const {
        Eigen::VectorXd result(x.size());
        for (std::size_t f = 0; f < blocks_.size(); ++f)
            result.segment<4>(Eigen::Index(4 * f)) = blocks_[f] * x.segment<4>(Eigen::Index(4 * f));
        return result;
    }

    const std::vector<std::vector<Seen>>& byFrame_;
    std::size_t reference_;
    Vector2d centre_{0, 0};
    double size_ = 1.0;
    std::vector<Vector2d> means_;
    std::vector<double> weights_;
    std::vector<Eigen::Matrix4d> blocks_;
};

double turnOf(const Vector2d& a, const Vector2d& b, const Vector2d& c) {
    return (b.x() - a.x()) * (c.y() - b.y()) - (b.y() - a.y()) * (c.x() - b.x());
}

bool isConvex(const std::vector<Vector2d>& corners) {
    for (std::size_t i = 0; i < 4; ++i)
        if (turnOf(corners[i], corners[(i + 1) % 4], corners[(i + 2) % 4]) <= 1e-6) return false;
    return true;
}

/// The homography that takes four corners to four others.
Matrix3d homographyOf(const std::vector<Vector2d>& from, const std::vector<Vector2d>& to) {
    Eigen::Matrix<double, 8, 8> a;
    Eigen::Matrix<double, 8, 1> b;
    for (int i = 0; i < 4; ++i) {
        const Vector2d &p = from[std::size_t(i)], &q = to[std::size_t(i)];
        a.row(2 * i) << p.x(), p.y(), 1, 0, 0, 0, -p.x() * q.x(), -p.y() * q.x();
        a.row(2 * i + 1) << 0, 0, 0, p.x(), p.y(), 1, -p.x() * q.y(), -p.y() * q.y();
        b[2 * i] = q.x();
        b[2 * i + 1] = q.y();
    }
    const Eigen::Matrix<double, 8, 1> h = a.fullPivLu().solve(b);
    Matrix3d result;
    result << h[0], h[1], h[2], h[3], h[4], h[5], h[6], h[7], 1;
    return result;
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

const FrameMotion* PlateMotion::at(int frame) const {
    const auto found =
        std::lower_bound(frames.begin(), frames.end(), frame, [](const FrameMotion& m, int f) { return m.frame < f; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

Expected<PlateMotion> motionOf(const std::vector<Track>& tracks, int referenceFrame, const FrameRange& range,
                               MotionKind kind) {
    if (tracks.empty()) return failure(Fault::input, "no track is chosen");
    if (kind == MotionKind::similarity && tracks.size() < 2)
        return failure(Fault::input, "track {}: one track gives position; rotation and scale need a second one",
                       tracks.front().name);
    if (kind == MotionKind::cornerPin && tracks.size() != 4)
        return failure(Fault::input, "a corner pin needs four tracks, {} are chosen", tracks.size());
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
            found.plateFromReference = homographyOf(motion.corners, now);
        } else if (kind == MotionKind::position) {
            if (pairs.empty()) continue;
            Vector2d shift(0, 0);
            for (const Pair& p : pairs) shift += (p.to - p.from) / double(pairs.size());
            // The mean of what is left when a track ends would jump: all or none.
            if (pairs.size() < tracks.size()) continue;
            found.plateFromReference.topRightCorner<2, 1>() = shift;
        } else {
            if (pairs.size() < 2 || (tracks.size() <= 3 && pairs.size() < tracks.size())) continue;
            found.plateFromReference = similarityOf(pairs);
            for (int round = 0; round < 5 && pairs.size() > 3; ++round) {
                std::vector<double> residuals;
                for (const Pair& p : pairs)
                    residuals.push_back((carried(found.plateFromReference, p.from) - p.to).norm());
                const double width = std::max(0.5, 4.7 * 1.48 * medianOf(residuals));
                for (std::size_t i = 0; i < pairs.size(); ++i)
                    pairs[i].weight = std::max(1e-6, biweight(residuals[i], width));
                found.plateFromReference = similarityOf(pairs);
            }
        }
        double squares = 0;
        for (const Pair& p : pairs) squares += (carried(found.plateFromReference, p.from) - p.to).squaredNorm();
        found.residual_px = std::sqrt(squares / double(pairs.size()));
        motion.frames.push_back(found);
    }
    return motion;
}

Expected<PlateMotion> pictureMotionOf(const std::vector<Track>& tracks, int referenceFrame, const FrameRange& range) {
    if (!range.holds(referenceFrame))
        return failure(Fault::input, "the reference frame {} lies outside the range {}-{}", referenceFrame, range.first,
                       range.last);
    const auto count = std::size_t(range.count());
    std::vector<std::vector<Seen>> byFrame(count);
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        if (tracks[i].setAside) continue;
        for (const Sample& sample : tracks[i].samples)
            if (range.holds(sample.frame) && !sample.bridged)
                byFrame[std::size_t(sample.frame - range.first)].push_back({i, sample.wanted()});
    }
    // A first answer along the plate: each frame against its neighbour towards the reference frame.
    std::vector<Matrix3d> frames(count, Matrix3d::Identity());
    const std::size_t reference = std::size_t(referenceFrame - range.first);
    std::vector<Vector2d> before(tracks.size());
    std::vector<int> seenOn(tracks.size(), -1);
    for (const int step : {1, -1}) {
        for (std::size_t f = reference; step > 0 ? f + 1 < count : f > 0; f = std::size_t(std::ptrdiff_t(f) + step)) {
            const std::size_t next = std::size_t(std::ptrdiff_t(f) + step);
            for (const Seen& seen : byFrame[f]) {
                before[seen.track] = seen.at;
                seenOn[seen.track] = int(f);
            }
            std::vector<Pair> pairs;
            for (const Seen& seen : byFrame[next])
                if (seenOn[seen.track] == int(f)) pairs.push_back({before[seen.track], seen.at, 1.0});
            if (pairs.size() < 3)
                return failure(
                    Fault::outcome,
                    "only {} tracks connect the frames {} and {}; scatter features, or track more points there",
                    pairs.size(), range.first + int(std::min(f, next)), range.first + int(std::max(f, next)));
            frames[next] = agreedSimilarity(std::move(pairs)) * frames[f];
        }
    }
    // Then all at once: where every track is on the reference frame, and where that frame is on every frame.
    std::vector<Vector2d> places(tracks.size(), Vector2d(0, 0));
    std::vector<double> squares(tracks.size()), counts(tracks.size());
    JointFrames joint(byFrame, tracks.size(), reference);
    constexpr int kRounds = 8;
    for (int round = 0; round < kRounds; ++round) {
        std::vector<double> weights(tracks.size(), 0.0);
        std::fill(places.begin(), places.end(), Vector2d(0, 0));
        for (std::size_t f = 0; f < count; ++f) {
            const Matrix3d inverse = frames[f].inverse();
            for (const Seen& seen : byFrame[f]) {
                const double weight = std::max(1e-4, seen.weight);
                places[seen.track] += weight * carried(inverse, seen.at);
                weights[seen.track] += weight;
            }
        }
        for (std::size_t i = 0; i < tracks.size(); ++i)
            if (weights[i] > 0) places[i] /= weights[i];
        std::fill(squares.begin(), squares.end(), 0.0);
        std::fill(counts.begin(), counts.end(), 0.0);
        std::vector<double> residuals;
        for (std::size_t f = 0; f < count; ++f)
            for (const Seen& seen : byFrame[f]) {
                const double residual = (carried(frames[f], places[seen.track]) - seen.at).norm();
                squares[seen.track] += residual * residual;
                counts[seen.track] += 1;
                residuals.push_back(residual);
            }
        // Each track by how it agrees as a whole, and each sample by itself.
        std::vector<double> byTrack;
        for (std::size_t i = 0; i < tracks.size(); ++i)
            if (counts[i] > 0) byTrack.push_back(std::sqrt(squares[i] / counts[i]));
        const double trackWidth = std::max(0.3, 3.0 * medianOf(byTrack));
        const double sampleWidth = std::max(0.3, 4.7 * 1.48 * medianOf(std::move(residuals)));
        for (auto& frame : byFrame)
            for (Seen& seen : frame) {
                const std::size_t f = std::size_t(&frame - byFrame.data());
                const double residual = (carried(frames[f], places[seen.track]) - seen.at).norm();
                // A track of few frames says little about where it is on the reference frame. Every frame keeps a
                // thread of weight.
                const double length = std::min(1.0, counts[seen.track] / 8);
                seen.weight =
                    std::max(1e-6, length * biweight(std::sqrt(squares[seen.track] / counts[seen.track]), trackWidth) *
                                       biweight(residual, sampleWidth));
            }
        joint.improve(frames, 120);
    }
    PlateMotion motion{MotionKind::similarity, referenceFrame, {0, 0}, {}, {}};
    double total = 0;
    for (std::size_t f = 0; f < count; ++f) {
        FrameMotion found{range.first + int(f), frames[f], 0, 0.0};
        double sum = 0, weight = 0;
        for (const Seen& seen : byFrame[f]) {
            if (seen.weight < 0.1) continue;
            ++found.tracks;
            sum += seen.weight * (carried(frames[f], places[seen.track]) - seen.at).squaredNorm();
            weight += seen.weight;
            if (f == reference) {
                motion.pivot += seen.at;
                ++total;
            }
        }
        found.residual_px = weight > 0 ? std::sqrt(sum / weight) : 0.0;
        motion.frames.push_back(found);
    }
    if (total > 0) motion.pivot /= total;
    return motion;
}

}  // namespace pinion
