#include "base/median.h"
#include "steady/fits.h"
#include "steady/motion.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using namespace fits;
using Eigen::Matrix3d;
using Eigen::Vector2d;

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
        const double width = std::max(0.3, 3 * 1.48 * median(residuals));
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
using SeenByFrame = std::vector<std::vector<Seen>>;

/// Small changes of a shift, a similarity, and a homography, that are applied after it.
struct PositionChange {
    static constexpr int kCount = 2;
    static Eigen::Matrix<double, 2, kCount> slope(const Vector2d&) { return Eigen::Matrix2d::Identity(); }
    static Matrix3d applied(const Vector2d& d, const Matrix3d& to) {
        Matrix3d change = Matrix3d::Identity();
        change.topRightCorner<2, 1>() = d;
        return change * to;
    }
};
struct SimilarityChange {
    static constexpr int kCount = 4;
    static Eigen::Matrix<double, 2, kCount> slope(const Vector2d& q) {
        Eigen::Matrix<double, 2, kCount> j;
        j << q.x(), -q.y(), 1, 0, q.y(), q.x(), 0, 1;
        return j;
    }
    static Matrix3d applied(const Eigen::Matrix<double, kCount, 1>& d, const Matrix3d& to) {
        Matrix3d change;
        change << 1 + d[0], -d[1], d[2], d[1], 1 + d[0], d[3], 0, 0, 1;
        return change * to;
    }
};
struct PerspectiveChange {
    static constexpr int kCount = 8;
    static Eigen::Matrix<double, 2, kCount> slope(const Vector2d& q) {
        const double x = q.x(), y = q.y();
        Eigen::Matrix<double, 2, kCount> j;
        j << x, y, 1, 0, 0, 0, -x * x, -x * y, 0, 0, 0, x, y, 1, -x * y, -y * y;
        return j;
    }
    static Matrix3d applied(const Eigen::Matrix<double, kCount, 1>& d, const Matrix3d& to) {
        Matrix3d change;
        change << 1 + d[0], d[1], d[2], d[3], 1 + d[4], d[5], d[6], d[7], 1;
        return change * to;
    }
};

/// All frames at once. Each frame's motion is taken backwards, to the reference frame; the places of the tracks there
/// are the means of what the frames say of them, and what is left is a linear system in small changes of the frames
/// alone, solved by conjugate gradients with the frames' own blocks as preconditioner (Gauss-Newton; for similarities
/// one step is exact). Going round frame by frame instead would carry an error along the plate at a crawl. Distances
/// count as on their own frames.
template <class Change>
class JointFrames {
public:
    static constexpr int N = Change::kCount;
    using Block = Eigen::Matrix<double, N, N>;
    using Part = Eigen::Matrix<double, N, 1>;

    JointFrames(const SeenByFrame& byFrame, std::size_t tracks, std::size_t reference)
        : byFrame_(byFrame), reference_(reference), means_(tracks), weights_(tracks) {
        // Places around the middle and of about one in size: all terms then weigh alike.
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

    /// Improves `plateFromReference` by one step, with the weights as they are.
    void improve(std::vector<Matrix3d>& plateFromReference, int rounds) {
        Matrix3d normal = Matrix3d::Identity();  // normalFromPlate
        normal.topLeftCorner<2, 2>() /= size_;
        normal.topRightCorner<2, 1>() = -centre_ / size_;
        std::vector<Matrix3d> back;
        for (const Matrix3d& frame : plateFromReference) {
            back.push_back(normal * frame.inverse() * normal.inverse());
            back.back() /= back.back()(2, 2);
        }
        gather(back, normal);
        Eigen::VectorXd x = Eigen::VectorXd::Zero(Eigen::Index(byFrame_.size()) * N);
        Eigen::VectorXd residual = downhill();
        Eigen::VectorXd z = preconditioned(residual), direction = z;
        double energy = residual.dot(z);
        const double enough = 1e-16 * std::max(1e-12, energy);
        for (int round = 0; round < rounds && energy > enough; ++round) {
            Eigen::VectorXd along = product(direction);
            along.segment<N>(Eigen::Index(reference_) * N).setZero();
            const double step = energy / std::max(1e-300, direction.dot(along));
            x += step * direction;
            residual -= step * along;
            z = preconditioned(residual);
            const double next = residual.dot(z);
            direction = z + next / energy * direction;
            energy = next;
        }
        for (std::size_t f = 0; f < byFrame_.size(); ++f) {
            if (f == reference_) continue;
            const Matrix3d changed = Change::applied(x.segment<N>(Eigen::Index(f) * N), back[f]);
            if (!(std::abs(changed.determinant()) > 1e-9)) continue;
            const Matrix3d forward = normal.inverse() * changed.inverse() * normal;
            plateFromReference[f] = forward / forward(2, 2);
        }
    }

private:
    struct Term {
        std::size_t track;
        double weight;
        Vector2d place;  ///< on the reference frame, as this frame has it
    };

    /// Where each sample lies on the reference frame, and its weight there.
    void gather(const std::vector<Matrix3d>& back, const Matrix3d& normal) {
        terms_.assign(byFrame_.size(), {});
        blocks_.assign(byFrame_.size(), Block::Identity() * 1e-9);
        std::fill(weights_.begin(), weights_.end(), 0.0);
        for (std::size_t f = 0; f < byFrame_.size(); ++f)
            for (const Seen& seen : byFrame_[f]) {
                const Eigen::Vector3d at = back[f] * (normal * seen.at.homogeneous());
                if (at.z() < 0.05) continue;  // behind what the reference frame could show
                const Vector2d place = at.hnormalized();
                // By how much distances grow on the way back.
                const double stretch = std::sqrt(std::abs(back[f].determinant() / std::pow(at.z(), 3)));
                const double weight = seen.weight / std::max(1e-4, stretch * stretch);
                terms_[f].push_back({seen.track, weight, place});
                weights_[seen.track] += weight;
                const auto j = Change::slope(place);
                blocks_[f] += weight * j.transpose() * j;
            }
        for (Block& block : blocks_) block = block.inverse().eval();
    }

    /// What the places themselves ask of the frames.
    Eigen::VectorXd downhill() {
        std::fill(means_.begin(), means_.end(), Vector2d(0, 0));
        for (const auto& frame : terms_)
            for (const Term& term : frame) means_[term.track] += term.weight * term.place;
        divideMeans();
        Eigen::VectorXd result = Eigen::VectorXd::Zero(Eigen::Index(terms_.size()) * N);
        for (std::size_t f = 0; f < terms_.size(); ++f)
            for (const Term& term : terms_[f])
                result.template segment<N>(Eigen::Index(f) * N) +=
                    term.weight * Change::slope(term.place).transpose() * (means_[term.track] - term.place);
        // The reference frame stays: its part is left out.
        result.template segment<N>(Eigen::Index(reference_) * N).setZero();
        return result;
    }

    Eigen::VectorXd product(const Eigen::VectorXd& x) {
        std::fill(means_.begin(), means_.end(), Vector2d(0, 0));
        for (std::size_t f = 0; f < terms_.size(); ++f) {
            const Part own = x.segment<N>(Eigen::Index(f) * N);
            for (const Term& term : terms_[f]) means_[term.track] += term.weight * (Change::slope(term.place) * own);
        }
        divideMeans();
        Eigen::VectorXd result = 1e-9 * x;
        for (std::size_t f = 0; f < terms_.size(); ++f) {
            const Part own = x.segment<N>(Eigen::Index(f) * N);
            Part sum = Part::Zero();
            for (const Term& term : terms_[f]) {
                const auto j = Change::slope(term.place);
                sum += term.weight * (j.transpose() * (j * own - means_[term.track]));
            }
            result.segment<N>(Eigen::Index(f) * N) += sum;
        }
        return result;
    }

    void divideMeans() {
        for (std::size_t i = 0; i < means_.size(); ++i)
            if (weights_[i] > 0) means_[i] /= weights_[i];
    }

    Eigen::VectorXd preconditioned(const Eigen::VectorXd& x) const {
        Eigen::VectorXd result(x.size());
        for (std::size_t f = 0; f < blocks_.size(); ++f)
            result.segment<N>(Eigen::Index(f) * N) = blocks_[f] * x.segment<N>(Eigen::Index(f) * N);
        return result;
    }

    const SeenByFrame& byFrame_;
    std::size_t reference_;
    Vector2d centre_{0, 0};
    double size_ = 1.0;
    std::vector<std::vector<Term>> terms_;
    std::vector<Vector2d> means_;
    std::vector<double> weights_;
    std::vector<Block> blocks_;
};

/// Frames, where the tracks lie on the reference frame, and how far they are from it.
struct Fit {
    std::vector<Matrix3d> frames;
    std::vector<Vector2d> places;
    double residual_px = 0.0;  ///< median over all samples
};

/// The places as the frames have them, by weight.
void placeTracks(const SeenByFrame& byFrame, Fit& fit) {
    std::vector<double> weights(fit.places.size(), 0.0);
    std::fill(fit.places.begin(), fit.places.end(), Vector2d(0, 0));
    for (std::size_t f = 0; f < byFrame.size(); ++f) {
        const Matrix3d inverse = fit.frames[f].inverse();
        for (const Seen& seen : byFrame[f]) {
            const double weight = std::max(1e-4, seen.weight);
            fit.places[seen.track] += weight * carried(inverse, seen.at);
            weights[seen.track] += weight;
        }
    }
    for (std::size_t i = 0; i < weights.size(); ++i)
        if (weights[i] > 0) fit.places[i] /= weights[i];
}

/// Each track by how it agrees as a whole, and each sample by itself.
void weigh(SeenByFrame& byFrame, Fit& fit) {
    std::vector<double> squares(fit.places.size(), 0.0), counts(fit.places.size(), 0.0), residuals;
    for (std::size_t f = 0; f < byFrame.size(); ++f)
        for (const Seen& seen : byFrame[f]) {
            const double residual = (carried(fit.frames[f], fit.places[seen.track]) - seen.at).norm();
            squares[seen.track] += residual * residual;
            counts[seen.track] += 1;
            residuals.push_back(residual);
        }
    std::vector<double> byTrack;
    for (std::size_t i = 0; i < counts.size(); ++i)
        if (counts[i] > 0) byTrack.push_back(std::sqrt(squares[i] / counts[i]));
    fit.residual_px = median(residuals);
    const double trackWidth = std::max(0.3, 3.0 * median(byTrack));
    const double sampleWidth = std::max(0.3, 4.7 * 1.48 * fit.residual_px);
    for (std::size_t f = 0; f < byFrame.size(); ++f)
        for (Seen& seen : byFrame[f]) {
            const double residual = (carried(fit.frames[f], fit.places[seen.track]) - seen.at).norm();
            // A track of few frames says little about where it is on the reference frame. Every frame keeps a thread
            // of weight.
            const double length = std::min(1.0, counts[seen.track] / 8);
            seen.weight =
                std::max(1e-6, length * biweight(std::sqrt(squares[seen.track] / counts[seen.track]), trackWidth) *
                                   biweight(residual, sampleWidth));
        }
}

template <class Change>
void adjust(SeenByFrame& byFrame, std::size_t reference, Fit& fit, int rounds) {
    JointFrames<Change> joint(byFrame, fit.places.size(), reference);
    for (int round = 0; round < rounds; ++round) {
        placeTracks(byFrame, fit);
        weigh(byFrame, fit);
        joint.improve(fit.frames, 120);
    }
    placeTracks(byFrame, fit);
    weigh(byFrame, fit);
}

/// A first answer along the plate: each frame against its neighbour towards the reference frame.
Expected<std::vector<Matrix3d>> chained(const SeenByFrame& byFrame, std::size_t tracks, std::size_t reference,
                                        int firstFrame) {
    const std::size_t count = byFrame.size();
    std::vector<Matrix3d> frames(count, Matrix3d::Identity());
    std::vector<Vector2d> before(tracks);
    std::vector<int> seenOn(tracks, -1);
    for (const int step : {1, -1})
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
                    pairs.size(), firstFrame + int(std::min(f, next)), firstFrame + int(std::max(f, next)));
            frames[next] = agreedSimilarity(std::move(pairs)) * frames[f];
        }
    return frames;
}

Vector2d middleOf(const std::vector<Seen>& frame) {
    Vector2d sum(0, 0);
    for (const Seen& seen : frame) sum += seen.at / double(frame.size());
    return sum;
}

Matrix3d shiftOf(const Matrix3d& motion, const Vector2d& at) {
    Matrix3d shift = Matrix3d::Identity();
    shift.topRightCorner<2, 1>() = carried(motion, at) - at;
    return shift;
}

constexpr std::size_t kFewest = 10;   // tracks of a frame that can carry perspective
constexpr double kLeastSpread = 0.3;  // of all that tracks cover, which those of a frame have to
constexpr double kLeastDepth = 0.3;   // of the corners of what is covered, seen from the reference frame

/// Whether every frame has enough tracks, far enough apart, for perspective; else the first that has not.
std::optional<std::size_t> tooPoorFor(const SeenByFrame& byFrame) {
    Vector2d low(1e9, 1e9), high(-1e9, -1e9);
    for (const auto& frame : byFrame)
        for (const Seen& seen : frame) {
            low = low.cwiseMin(seen.at);
            high = high.cwiseMax(seen.at);
        }
    for (std::size_t f = 0; f < byFrame.size(); ++f) {
        std::size_t good = 0;
        Vector2d from(1e9, 1e9), to(-1e9, -1e9);
        for (const Seen& seen : byFrame[f]) {
            if (seen.weight < 0.1) continue;
            ++good;
            from = from.cwiseMin(seen.at);
            to = to.cwiseMax(seen.at);
        }
        if (good < kFewest || ((to - from).array() < kLeastSpread * (high - low).array()).any()) return f;
    }
    return std::nullopt;
}

/// Whether all samples lie well in front of what the reference frame shows; turned far away, nothing can.
bool staysInSight(const SeenByFrame& byFrame, const std::vector<Matrix3d>& frames) {
    for (std::size_t f = 0; f < byFrame.size(); ++f) {
        const Matrix3d back = frames[f].inverse();
        if (!back.allFinite() || std::abs(back(2, 2)) < 1e-12) return false;
        for (const Seen& seen : byFrame[f])
            if (seen.weight > 0.1 && (back.row(2) / back(2, 2)).dot(seen.at.homogeneous()) < kLeastDepth) return false;
    }
    return true;
}

}  // namespace

Expected<PlateMotion> pictureMotionOf(const std::vector<Track>& tracks, int referenceFrame, const FrameRange& range,
                                      PictureModel model) {
    if (!range.holds(referenceFrame))
        return failure(Fault::input, "the reference frame {} lies outside the range {}-{}", referenceFrame, range.first,
                       range.last);
    SeenByFrame byFrame(std::size_t(range.count()));
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        if (tracks[i].setAside) continue;
        for (const Sample& sample : tracks[i].samples)
            if (range.holds(sample.frame) && !sample.bridged)
                byFrame[std::size_t(sample.frame - range.first)].push_back({i, sample.wanted()});
    }
    const std::size_t reference = std::size_t(referenceFrame - range.first);
    auto first = chained(byFrame, tracks.size(), reference, range.first);
    if (!first) return tl::unexpected(first.error());
    // Then all at once: where every track is on the reference frame, and where that frame is on every frame.
    Fit fit{std::move(*first), std::vector<Vector2d>(tracks.size(), Vector2d(0, 0))};
    adjust<SimilarityChange>(byFrame, reference, fit, 8);
    PlateMotion motion{MotionKind::similarity, referenceFrame, {0, 0}, {}, {}};
    if (model == PictureModel::automatic || model == PictureModel::position) {
        SeenByFrame others = byFrame;
        Fit shifted = fit;
        for (Matrix3d& frame : shifted.frames) frame = shiftOf(frame, middleOf(byFrame[reference]));
        adjust<PositionChange>(others, reference, shifted, 8);
        if (model == PictureModel::position || shifted.residual_px < 1.02 * fit.residual_px) {
            motion.kind = MotionKind::position;
            motion.reason =
                fmt::format("position: leaves {:.2f} px, a similarity {:.2f}", shifted.residual_px, fit.residual_px);
            fit = std::move(shifted);
            byFrame = std::move(others);
        }
    }
    if (motion.kind == MotionKind::similarity && model != PictureModel::similarity) {
        const auto poor = tooPoorFor(byFrame);
        if (poor && model == PictureModel::perspective)
            return failure(Fault::outcome,
                           "perspective needs {} tracks all over the picture, frame {} has fewer; scatter features, or "
                           "take a similarity",
                           kFewest, range.first + int(*poor));
        if (!poor) {
            SeenByFrame others = byFrame;
            Fit turned = fit;
            adjust<PerspectiveChange>(others, reference, turned, 8);
            const bool inSight = staysInSight(others, turned.frames);
            if (!inSight && model == PictureModel::perspective)
                return failure(Fault::outcome,
                               "the picture turns so far from frame {} that perspective has no end there; choose "
                               "another reference frame, a shorter range, or a similarity",
                               referenceFrame);
            // The least that explains the tracks: perspective has to leave clearly less.
            const bool clearly =
                turned.residual_px < 0.8 * fit.residual_px && fit.residual_px - turned.residual_px > 0.03;
            if (inSight && (model == PictureModel::perspective || clearly)) {
                motion.reason = fmt::format("perspective: leaves {:.2f} px where a similarity leaves {:.2f}",
                                            turned.residual_px, fit.residual_px);
                motion.kind = MotionKind::perspective;
                fit = std::move(turned);
                byFrame = std::move(others);
            } else if (inSight) {
                motion.reason = fmt::format("a similarity: leaves {:.2f} px, perspective {:.2f}", fit.residual_px,
                                            turned.residual_px);
            } else {
                motion.reason = "a similarity: the picture turns too far for perspective";
            }
        } else {
            motion.reason =
                fmt::format("a similarity: frame {} has too few tracks for perspective", range.first + int(*poor));
        }
    }
    double total = 0;
    for (std::size_t f = 0; f < byFrame.size(); ++f) {
        FrameMotion found{range.first + int(f), fit.frames[f], 0, 0.0};
        double sum = 0, weight = 0;
        for (const Seen& seen : byFrame[f]) {
            if (seen.weight < 0.1) continue;
            ++found.tracks;
            sum += seen.weight * (carried(fit.frames[f], fit.places[seen.track]) - seen.at).squaredNorm();
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
