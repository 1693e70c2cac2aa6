#include "steady/steady.h"

#include "steady/fits.h"

#include "plate/plate.h"

#include <Eigen/LU>
#include <Eigen/SparseCholesky>
#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

std::array<Vector2d, 4> cornersOf(int width, int height) {
    return {Vector2d(0, 0), Vector2d(width, 0), Vector2d(width, height), Vector2d(0, height)};
}

bool readsInside(const Matrix3d& sourceFromOutput, int width, int height, double margin = 0) {
    for (const Vector2d& corner : cornersOf(width, height)) {
        const Eigen::Vector3d at = sourceFromOutput * corner.homogeneous();
        if (at.z() <= 1e-9) return false;
        const Vector2d p = at.hnormalized();
        // A thousandth of a pixel: rounding is no border.
        const double least = margin - 1e-3;
        if (p.x() < least || p.y() < least || p.x() > width - least || p.y() > height - least) return false;
    }
    return true;
}

/// What of a homography is no similarity about the middle, in units of half the diagonal: how it stretches (two
/// numbers) and how it recedes to the right and downwards. Undone in the order similarity after remainder.
struct Remainder {
    double stretch = 0, shear = 0, right = 0, down = 0;

    static Remainder of(const Matrix3d& matrix, const MotionParts& parts, const Vector2d& middle, double radius) {
        Matrix3d centred = Matrix3d::Identity() / radius;
        centred.topRightCorner<2, 1>() = -middle / radius;
        centred(2, 2) = 1;
        Matrix3d rest = centred * parts.about(middle).inverse() * matrix * centred.inverse();
        rest /= rest(2, 2);
        return {0.5 * (rest(0, 0) - rest(1, 1)), 0.5 * (rest(0, 1) + rest(1, 0)), rest(2, 0), rest(2, 1)};
    }
    Matrix3d about(const Vector2d& middle, double radius) const {
        Matrix3d centred = Matrix3d::Identity() / radius;
        centred.topRightCorner<2, 1>() = -middle / radius;
        centred(2, 2) = 1;
        Matrix3d rest;
        rest << 1 + stretch, shear, 0, shear, 1 - stretch, 0, right, down, 1;
        return centred.inverse() * rest * centred;
    }
};

Matrix3d zoomed(const Matrix3d& sourceFromOutput, double zoom, const Vector2d& about) {
    return sourceFromOutput * MotionParts{{0, 0}, 0, 1 / zoom}.about(about);
}

}  // namespace

const FrameMap* SteadyPlan::at(int frame) const {
    const auto found =
        std::lower_bound(frames.begin(), frames.end(), frame, [](const FrameMap& m, int f) { return m.frame < f; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

std::vector<double> smoothGaussian(const std::vector<double>& path, double sigma) {
    const auto count = std::ptrdiff_t(path.size());
    if (count < 2 || sigma < 0.05) return path;
    const auto reach = std::ptrdiff_t(std::ceil(4 * sigma));
    // The ends by a line through the samples near them: the end samples themselves are shaken.
    const auto settled = [&](bool front) {
        const auto span = std::clamp<std::ptrdiff_t>(std::ptrdiff_t(std::ceil(2 * sigma)), 2, count);
        double st = 0, sv = 0, stt = 0, stv = 0;
        for (std::ptrdiff_t k = 0; k < span; ++k) {
            const double value = path[std::size_t(front ? k : count - 1 - k)];
            st += double(k);
            sv += value;
            stt += double(k * k);
            stv += double(k) * value;
        }
        const double n = double(span);
        const double slope = (n * stv - st * sv) / std::max(1e-12, n * stt - st * st);
        return (sv - slope * st) / n;
    };
    const double first = settled(true), last = settled(false);
    const auto at = [&](std::ptrdiff_t i) {
        // Reflected in its end points, again and again where the path is shorter than the reach.
        double carry = 0;
        double sign = 1;
        for (int guard = 0; guard < 64; ++guard) {
            if (i < 0) {
                carry += sign * 2 * first;
                sign = -sign;
                i = -i;
            } else if (i >= count) {
                carry += sign * 2 * last;
                sign = -sign;
                i = 2 * (count - 1) - i;
            } else {
                return carry + sign * path[std::size_t(i)];
            }
        }
        return path.front();
    };
    std::vector<double> smooth(path.size());
    for (std::ptrdiff_t i = 0; i < count; ++i) {
        double sum = 0, total = 0;
        for (std::ptrdiff_t k = -reach; k <= reach; ++k) {
            const double weight = std::exp(-0.5 * double(k * k) / (sigma * sigma));
            sum += weight * at(i + k);
            total += weight;
        }
        smooth[std::size_t(i)] = sum / total;
    }
    return smooth;
}

std::vector<double> smoothL1(const std::vector<double>& path, double leeway) {
    const auto count = int(path.size());
    if (count < 4 || leeway <= 0) return path;
    // Alternating directions (Boyd 2011): P minimises the quadratic part, z the absolute values, b the box around the
    // path. In units of the leeway, so that one step size fits every path.
    Eigen::VectorXd target(count);
    for (int i = 0; i < count; ++i) target[i] = (path[std::size_t(i)] - path.front()) / leeway;
    using Sparse = Eigen::SparseMatrix<double>;
    std::array<Sparse, 3> differences;
    const std::array<std::array<double, 4>, 3> stencils{{{-1, 1, 0, 0}, {1, -2, 1, 0}, {-1, 3, -3, 1}}};
    const std::array<double, 3> weights{1, 10, 100};
    for (int order = 0; order < 3; ++order) {
        std::vector<Eigen::Triplet<double>> entries;
        const int rows = count - order - 1;
        for (int row = 0; row < rows; ++row)
            for (int k = 0; k < order + 2; ++k)
                entries.emplace_back(row, row + k,
                                     weights[std::size_t(order)] * stencils[std::size_t(order)][std::size_t(k)]);
        differences[std::size_t(order)].resize(rows, count);
        differences[std::size_t(order)].setFromTriplets(entries.begin(), entries.end());
    }
    double rho = 1.0;
    Eigen::VectorXd p = target, box = target, boxDual = Eigen::VectorXd::Zero(count);
    std::array<Eigen::VectorXd, 3> z, dual;
    for (int order = 0; order < 3; ++order) {
        z[std::size_t(order)] = differences[std::size_t(order)] * p;
        dual[std::size_t(order)] = Eigen::VectorXd::Zero(z[std::size_t(order)].size());
    }
    Sparse identity(count, count);
    identity.setIdentity();
    Sparse system = identity;
    for (const Sparse& d : differences) system += Sparse(d.transpose() * d);
    const Eigen::SimplicialLDLT<Sparse> solver(system);  // the same for every rho: all terms share it
    for (int round = 0; round < 3000; ++round) {
        Eigen::VectorXd right = box - boxDual;
        for (std::size_t k = 0; k < 3; ++k) right += differences[k].transpose() * (z[k] - dual[k]);
        p = solver.solve(right);
        double primal = 0, change = 0;
        for (std::size_t k = 0; k < 3; ++k) {
            const Eigen::VectorXd value = differences[k] * p;
            const Eigen::VectorXd wanted = value + dual[k];
            const Eigen::VectorXd shrunk =
                wanted.unaryExpr([&](double v) { return std::copysign(std::max(0.0, std::abs(v) - 1 / rho), v); });
            change = std::max(change, rho * (shrunk - z[k]).cwiseAbs().maxCoeff());
            z[k] = shrunk;
            dual[k] += value - z[k];
            primal = std::max(primal, (value - z[k]).cwiseAbs().maxCoeff());
        }
        box = (p + boxDual)
                  .cwiseMax(target.array().matrix() - Eigen::VectorXd::Ones(count))
                  .cwiseMin(target + Eigen::VectorXd::Ones(count));
        boxDual += p - box;
        primal = std::max(primal, (p - box).cwiseAbs().maxCoeff());
        if (primal < 1e-4 && change < 1e-3) break;
        // Keep both residuals about alike.
        if (round % 50 == 49) {
            double factor = 1;
            if (primal > 10 * change) factor = 2;
            else if (change > 10 * primal) factor = 0.5;
            if (factor != 1) {
                rho *= factor;
                boxDual /= factor;
                for (auto& d : dual) d /= factor;
            }
        }
    }
    std::vector<double> smooth(path.size());
    for (int i = 0; i < count; ++i) smooth[std::size_t(i)] = path.front() + leeway * box[i];
    return smooth;
}

std::vector<FrameMap> squaredUp(const PlateMotion& motion, int width, int height) {
    const auto& corners = motion.corners;
    const auto side = [&](std::size_t a, std::size_t b) { return (corners[a] - corners[b]).norm(); };
    double across = 0.5 * (side(0, 1) + side(3, 2)), down = 0.5 * (side(0, 3) + side(1, 2));
    const double scale = std::min({1.0, 0.96 * width / across, 0.96 * height / down});
    across *= scale;
    down *= scale;
    const Eigen::Vector2d middle(width / 2.0, height / 2.0), half(across / 2, down / 2);
    const std::vector<fits::Pair> pairs{{middle - half, corners[0]},
                                        {middle + Eigen::Vector2d(half.x(), -half.y()), corners[1]},
                                        {middle + half, corners[2]},
                                        {middle + Eigen::Vector2d(-half.x(), half.y()), corners[3]}};
    const Eigen::Matrix3d referenceFromOutput = fits::homographyOf(pairs);
    std::vector<FrameMap> maps;
    for (const FrameMotion& frame : motion.frames)
        maps.push_back({frame.frame, frame.plateFromReference * referenceFromOutput});
    return maps;
}

std::optional<double> fillZoom(const std::vector<FrameMap>& maps, int width, int height, double margin) {
    const Vector2d middle(width / 2.0, height / 2.0);
    double zoom = 1;
    for (const FrameMap& map : maps) {
        if (readsInside(zoomed(map.sourceFromOutput, zoom, middle), width, height, margin)) continue;
        double low = zoom, high = 20;
        if (!readsInside(zoomed(map.sourceFromOutput, high, middle), width, height, margin)) return std::nullopt;
        while (high - low > 1e-6) {
            const double mid = 0.5 * (low + high);
            (readsInside(zoomed(map.sourceFromOutput, mid, middle), width, height, margin) ? high : low) = mid;
        }
        zoom = high;
    }
    return zoom;
}

void applyZoom(std::vector<FrameMap>& maps, double zoom, const Vector2d& about) {
    for (FrameMap& map : maps) map.sourceFromOutput = zoomed(map.sourceFromOutput, zoom, about);
}

Expected<SteadyPlan> planSteady(const PlateMotion& motion, int width, int height, const SteadyOptions& options,
                                double shutter) {
    if (motion.frames.empty()) return failure(Fault::outcome, "the tracks show no motion on any frame of the range");
    const Vector2d middle(width / 2.0, height / 2.0);
    const std::size_t count = motion.frames.size();
    const double radius = 0.5 * std::hypot(width, height);
    const bool recedes = motion.kind == MotionKind::perspective;
    constexpr std::size_t kParts = 8;
    // x, y, angle, logarithm of the scale; of perspective also what remains: two stretches, two recessions.
    std::array<std::vector<double>, kParts> path;
    for (const FrameMotion& frame : motion.frames) {
        const MotionParts parts = partsOf(frame.plateFromReference, middle);
        path[0].push_back(parts.shift.x());
        path[1].push_back(parts.shift.y());
        // Unwrapped: a turn past half a circle goes on, it does not jump back.
        const double previous = path[2].empty() ? 0.0 : path[2].back();
        path[2].push_back(parts.angle + 2 * M_PI * std::round((previous - parts.angle) / (2 * M_PI)));
        path[3].push_back(std::log(std::max(1e-6, parts.scale)));
        const Remainder rest = recedes ? Remainder::of(frame.plateFromReference, parts, middle, radius) : Remainder{};
        path[4].push_back(rest.stretch);
        path[5].push_back(rest.shear);
        path[6].push_back(rest.right);
        path[7].push_back(rest.down);
    }
    std::array<std::vector<double>, kParts> wanted = path;
    // A turn to the side shifts the picture and makes it recede: the two go together.
    const std::array<double, kParts> strengths{options.position, options.position, options.rotation, options.scale,
                                               options.position, options.position, options.position, options.position};
    // The angle and scale in pixels at the frame's corner, so that one leeway bounds all.
    std::array<double, kParts> leeway;
    leeway.fill(options.leeway * width / radius);
    leeway[0] = leeway[1] = options.leeway * width;
    for (std::size_t part = 0; part < (recedes ? kParts : 4); ++part) {
        std::vector<double> calm(count, 0.0);
        if (options.mode == SteadyOptions::Mode::ease)
            calm = options.smoother == SteadyOptions::Smoother::gaussian
                       ? smoothGaussian(path[part], options.smooth_frames)
                       : smoothL1(path[part], leeway[part]);
        for (std::size_t f = 0; f < count; ++f)
            wanted[part][f] = path[part][f] + std::clamp(strengths[part], 0.0, 1.0) * (calm[f] - path[part][f]);
    }
    const bool whole = options.mode == SteadyOptions::Mode::hold && options.position >= 1 && options.rotation >= 1 &&
                       options.scale >= 1;
    SteadyPlan plan;
    for (std::size_t f = 0; f < count; ++f) {
        const FrameMotion& frame = motion.frames[f];
        Matrix3d desired = Matrix3d::Identity();
        if (!whole) {
            desired = MotionParts{{wanted[0][f], wanted[1][f]}, wanted[2][f], std::exp(wanted[3][f])}.about(middle);
            if (recedes)
                desired *= Remainder{wanted[4][f], wanted[5][f], wanted[6][f], wanted[7][f]}.about(middle, radius);
        }
        // A similarity is its parts; of a corner pin they are the nearest.
        const Matrix3d now = motion.kind == MotionKind::cornerPin && !whole
                                 ? partsOf(frame.plateFromReference, middle).about(middle)
                                 : frame.plateFromReference;
        plan.frames.push_back({frame.frame, now * desired.inverse()});
    }
    const auto& bare = plan.frames;  // not zoomed yet
    for (std::size_t f = 0; f < count; ++f) {
        // What was taken out between the frames before and after, at the corners and the middle.
        const std::size_t a = f > 0 ? f - 1 : f, b = f + 1 < count ? f + 1 : f;
        double moved = 0;
        if (b > a) {
            for (const Vector2d& corner : cornersOf(width, height))
                moved = std::max(moved, (carried(bare[b].sourceFromOutput, 0.5 * (corner + middle)) -
                                         carried(bare[a].sourceFromOutput, 0.5 * (corner + middle)))
                                            .norm());
            moved /= double(b - a);
        }
        plan.blur_px.push_back(moved * shutter);
    }
    if (options.fit == SteadyOptions::Fit::fill) {
        const auto zoom = fillZoom(plan.frames, width, height);
        if (!zoom)
            return failure(
                Fault::outcome,
                "no zoom fills the frame: the picture leaves it altogether; lower the strength, or shorten the range");
        plan.zoom = *zoom;
        applyZoom(plan.frames, plan.zoom, middle);
    } else if (options.fit == SteadyOptions::Fit::crop) {
        plan.zoom = std::max(0.05, options.cropZoom);
        // The chosen middle of the crop comes to the middle of the frame.
        const Vector2d from(options.cropCentre.x() * width, options.cropCentre.y() * height);
        for (FrameMap& map : plan.frames)
            map.sourceFromOutput = map.sourceFromOutput * MotionParts{from - middle, 0, 1 / plan.zoom}.about(middle);
    }
    for (const FrameMap& map : plan.frames) plan.fills = plan.fills && readsInside(map.sourceFromOutput, width, height);
    return plan;
}

std::string blurNote(const SteadyPlan& plan, double visible_px) {
    std::vector<int> frames;
    double most = 0;
    for (std::size_t i = 0; i < plan.frames.size(); ++i) most = std::max(most, plan.blur_px[i] * plan.zoom);
    if (most < visible_px) return {};
    for (std::size_t i = 0; i < plan.frames.size(); ++i)
        if (plan.blur_px[i] * plan.zoom > std::max(visible_px, 0.6 * most)) frames.push_back(plan.frames[i].frame);
    std::string where = frameRanges(frames);
    if (where.size() > 40) where = where.substr(0, where.find(',', 30)) + " and others";
    return fmt::format("motion blur of up to {:.0f} px stays visible, most on {}; a lower strength hides it", most,
                       where);
}

}  // namespace pinion
