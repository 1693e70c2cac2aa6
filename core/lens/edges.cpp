#include "lens/edges.h"

#include "base/linear.h"
#include "base/median.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kFine = 0.25;  // spacing of the samples across the edge, pixels
constexpr int kAlong = 3;       // the profile is the mean of as many samples to each side along the edge, a pixel apart
constexpr int kHalfKernel = 12;  // of the derivative, in fine samples: three deviations of a pixel

float sampleAt(const ImageChannel& plane, const Vector2d& at) {
    const double x = std::clamp(at.x() - 0.5, 0.0, plane.width - 1.001);
    const double y = std::clamp(at.y() - 0.5, 0.0, plane.height - 1.001);
    const int ix = int(x), iy = int(y);
    const auto fx = float(x - ix), fy = float(y - iy);
    const float* upper = plane.row(iy) + ix;
    const float* lower = plane.row(std::min(iy + 1, plane.height - 1)) + ix;
    const int right = ix + 1 < plane.width ? 1 : 0;
    return (1 - fy) * ((1 - fx) * upper[0] + fx * upper[right]) + fy * ((1 - fx) * lower[0] + fx * lower[right]);
}

const std::array<double, 2 * kHalfKernel + 1>& derivativeKernel() {
    static const auto kernel = [] {
        std::array<double, 2 * kHalfKernel + 1> values{};
        double moment = 0;
        for (int i = -kHalfKernel; i <= kHalfKernel; ++i) {
            const double x = i * kFine;
            values[std::size_t(i + kHalfKernel)] = x * std::exp(-0.5 * x * x);
            moment += x * values[std::size_t(i + kHalfKernel)];
        }
        // A ramp of one grey level a pixel answers one.
        for (double& value : values) value /= moment;
        return values;
    }();
    return kernel;
}

/// A place where the picture is steepest across the line.
struct Step {
    double offset;  ///< pixels across
    double slope;   ///< grey levels a pixel, signed: brighter along the normal is positive
};

/// The steepest places within `reach` of `at` along `normal`.
std::vector<Step> stepsAcross(const ImageChannel& plane, const Vector2d& at, const Vector2d& normal, double reach,
                              double leastSlope) {
    const Vector2d along(-normal.y(), normal.x());
    const int inner = int(std::ceil(reach / kFine));
    const int half = inner + kHalfKernel + 1;
    std::vector<double> profile(std::size_t(2 * half + 1), 0.0);
    for (int i = -half; i <= half; ++i)
        for (int k = -kAlong; k <= kAlong; ++k)
            profile[std::size_t(i + half)] +=
                double(sampleAt(plane, at + normal * (i * kFine) + along * k)) / (2 * kAlong + 1);
    const auto& kernel = derivativeKernel();
    std::vector<double> slopes(std::size_t(2 * inner + 3));
    for (int i = -inner - 1; i <= inner + 1; ++i) {
        double sum = 0;
        for (int k = -kHalfKernel; k <= kHalfKernel; ++k)
            sum += kernel[std::size_t(k + kHalfKernel)] * profile[std::size_t(i + k + half)];
        slopes[std::size_t(i + inner + 1)] = sum;
    }
    std::vector<Step> steps;
    for (int i = -inner; i <= inner; ++i) {
        const double before = slopes[std::size_t(i + inner)], here = slopes[std::size_t(i + inner + 1)],
                     after = slopes[std::size_t(i + inner + 2)];
        if (std::abs(here) < leastSlope || std::abs(here) < std::abs(before) || std::abs(here) <= std::abs(after))
            continue;
        const double curve = before - 2 * here + after;
        const double shift = curve != 0 ? std::clamp(0.5 * (before - after) / curve, -0.5, 0.5) : 0.0;
        steps.push_back({(i + shift) * kFine, here});
    }
    return steps;
}

/// The line as a smooth curve over its chord: how far it lies across, by how far along.
class Course {
public:
    Course(const Vector2d& from, const Vector2d& to) : from_(from), length_((to - from).norm()) {
        along_ = (to - from) / length_;
    }
    double length() const { return length_; }
    double alongOf(const Vector2d& p) const { return along_.dot(p - from_); }
    double acrossOf(const Vector2d& p) const { return normal().dot(p - from_); }
    Vector2d normal() const { return {-along_.y(), along_.x()}; }
    Vector2d at(double along) const { return from_ + along_ * along + normal() * across(along); }
    Vector2d normalAt(double along) const {
        const double slope = (across(along + 0.5) - across(along - 0.5));
        const Vector2d direction = (along_ + normal() * slope).normalized();
        return {-direction.y(), direction.x()};
    }

    /// The polynomial of as high a degree as `points` bear (up to 4), by reweighted least squares, so that a few places
    /// on another edge do not bend it.
    void fit(const std::vector<Vector2d>& points, double scale) {
        const int degree = std::clamp(int(points.size()) - 2, 1, int(points.size()) > 12 ? 4 : 2);
        Eigen::MatrixXd rows(Eigen::Index(points.size()), degree + 1);
        Eigen::VectorXd right(Eigen::Index(points.size()));
        for (Eigen::Index i = 0; i < rows.rows(); ++i) {
            const Vector2d& p = points[std::size_t(i)];
            const double t = 2 * alongOf(p) / length_ - 1;
            double power = 1;
            for (int d = 0; d <= degree; ++d, power *= t) rows(i, d) = power;
            right[i] = acrossOf(p);
        }
        Eigen::VectorXd weights = Eigen::VectorXd::Ones(rows.rows());
        for (int round = 0; round < 12; ++round) {
            terms_ = leastSquares(weights.asDiagonal() * rows, weights.asDiagonal() * right);
            const Eigen::VectorXd errors = right - rows * terms_;
            weights = (1 + (errors / scale).array().square()).inverse();
        }
    }

private:
    double across(double along) const {
        const double t = 2 * along / length_ - 1;
        double sum = 0;
        for (Eigen::Index d = terms_.size() - 1; d >= 0; --d) sum = sum * t + terms_[d];
        return sum;
    }

    Vector2d from_;
    double length_;
    Vector2d along_;
    Eigen::VectorXd terms_;
};

/// The step that a click most likely means: steep and near.
std::optional<Step> meant(const std::vector<Step>& steps, double sign, double reach) {
    std::optional<Step> best;
    double bestScore = 0;
    for (const Step& step : steps) {
        const double score = sign * step.slope * std::exp(-2 * step.offset * step.offset / (reach * reach));
        if (score > bestScore) {
            bestScore = score;
            best = step;
        }
    }
    return best;
}

/// Dark to bright or bright to dark across the line, by what the clicks lie near.
double signOf(const std::vector<std::vector<Step>>& steps, double reach) {
    double sums[2] = {0, 0};
    for (const auto& ofClick : steps)
        for (const int side : {0, 1})
            if (const auto step = meant(ofClick, side == 0 ? 1 : -1, reach))
                sums[side] += std::abs(step->slope) * std::exp(-2 * step->offset * step->offset / (reach * reach));
    return sums[0] >= sums[1] ? 1 : -1;
}

/// The edge beside the course at `along`, or none.
std::optional<Vector2d> edgeAt(const ImageChannel& plane, const Course& course, double along, double sign, double reach,
                               double leastSlope) {
    const Vector2d at = course.at(along), normal = course.normalAt(along);
    const auto step = meant(stepsAcross(plane, at, normal, reach, leastSlope), sign, reach);
    if (!step) return std::nullopt;
    return at + normal * step->offset;
}

bool isInside(const ImageChannel& plane, const Vector2d& p) {
    return p.x() >= 1 && p.y() >= 1 && p.x() <= plane.width - 1 && p.y() <= plane.height - 1;
}

}  // namespace

SnappedLine snapped(const ImageChannel& plane, std::span<const Vector2d> clicks, const EdgeOptions& options) {
    SnappedLine line{{clicks.begin(), clicks.end()}, std::vector<bool>(clicks.size(), false), {}};
    if (clicks.size() < 2 || plane.width < 8 || plane.height < 8) return line;
    if ((clicks.back() - clicks.front()).norm() < 4) return line;
    Course course(clicks.front(), clicks.back());
    course.fit(line.clicks, 1.0);
    std::vector<std::vector<Step>> steps;
    for (const Vector2d& click : clicks)
        steps.push_back(
            stepsAcross(plane, click, course.normalAt(course.alongOf(click)), options.reach_px, options.leastSlope));
    const double sign = signOf(steps, options.reach_px);
    std::vector<Vector2d> found;
    for (std::size_t i = 0; i < clicks.size(); ++i)
        if (const auto step = meant(steps[i], sign, options.reach_px))
            found.push_back(clicks[i] + course.normalAt(course.alongOf(clicks[i])) * step->offset);
    if (found.size() < 2) return line;
    course.fit(found, 0.7);

    // Along the line, first with some room for what the clicks do not say of its bend, then closely.
    std::vector<Vector2d> edge;
    for (const double reach : {2.5, 1.5, 1.0}) {
        edge.clear();
        const int pieces = std::max(2, int(std::ceil(course.length() / options.step_px)));
        for (int i = 0; i <= pieces; ++i) {
            const double along = course.length() * i / pieces;
            const auto at = edgeAt(plane, course, along, sign, reach, options.leastSlope);
            if (at && isInside(plane, *at)) edge.push_back(*at);
        }
        if (edge.size() < 3) return line;
        course.fit(edge, 0.3);
    }
    std::vector<double> errors;
    const auto errorOf = [&](const Vector2d& p) {
        return std::abs(course.acrossOf(p) - course.acrossOf(course.at(course.alongOf(p))));
    };
    for (const Vector2d& p : edge) errors.push_back(errorOf(p));
    const double limit = std::max(0.15, 4 * median(errors));
    std::erase_if(edge, [&](const Vector2d& p) { return errorOf(p) > limit; });
    for (std::size_t i = 0; i < clicks.size(); ++i) {
        const double along = course.alongOf(clicks[i]);
        const auto at = edgeAt(plane, course, along, sign, 1.0, options.leastSlope);
        if (!at || errorOf(*at) > limit || (*at - clicks[i]).norm() > options.reach_px + 1) continue;
        line.clicks[i] = *at;
        line.onEdge[i] = true;
    }
    // An edge that is there at a few of the places only is none.
    if (2 * edge.size() >= errors.size()) line.edge = std::move(edge);
    return line;
}

}  // namespace pinion
