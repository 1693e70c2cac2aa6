#include "track/matcher.h"

#include "track/kernels.h"

#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kMostRounds = 30;
constexpr float kSettled = 0.004F;     // pixels, at the pattern's corner
constexpr int kLargestPattern = 101;   // pixels
constexpr double kMostWeakness = 0.2;  // pixels a grey level of grain: beyond it the pattern slides along an edge
constexpr double kLeastEnergy = 1.5;   // grey levels of contrast, below which a pattern is only grain

int parameterCount(MotionModel motion) {
    constexpr std::array<int, 4> counts{2, 4, 6, 8};
    return counts[std::size_t(motion)];
}

/// The small warp of `steps`, in pattern coordinates scaled by `half`.
Matrix3d warpOf(const float* steps, MotionModel motion, double half) {
    Matrix3d warp = Matrix3d::Identity();
    warp(0, 2) = steps[0];
    warp(1, 2) = steps[1];
    if (motion == MotionModel::similarity) {
        warp(0, 0) += steps[2] / half;
        warp(0, 1) -= steps[3] / half;
        warp(1, 0) += steps[3] / half;
        warp(1, 1) += steps[2] / half;
    } else if (motion != MotionModel::translation) {
        warp(0, 0) += steps[2] / half;
        warp(0, 1) += steps[3] / half;
        warp(1, 0) += steps[4] / half;
        warp(1, 1) += steps[5] / half;
        if (motion == MotionModel::perspective) {
            warp(2, 0) += steps[6] / (half * half);
            warp(2, 1) += steps[7] / (half * half);
        }
    }
    return warp;
}

kernels::Warp kernelWarp(const Matrix3d& indexFromPattern) {
    kernels::Warp warp{};
    for (int i = 0; i < 9; ++i) warp.m[i] = indexFromPattern(i / 3, i % 3);
    return warp;
}

}  // namespace

PatternPose PatternPose::at(const Vector2d& centre) {
    PatternPose pose;
    pose.plateFromPattern(0, 2) = centre.x();
    pose.plateFromPattern(1, 2) = centre.y();
    return pose;
}

PatternPose PatternPose::movedTo(const Vector2d& centre) const {
    const Vector2d shift = centre - this->centre();
    PatternPose moved = *this;
    moved.plateFromPattern.row(0) += shift.x() * plateFromPattern.row(2);
    moved.plateFromPattern.row(1) += shift.y() * plateFromPattern.row(2);
    return moved;
}

std::optional<std::vector<float>> patchUnder(const Pyramid& frame, const PatternPose& pose, int size) {
    Matrix3d indexFromPattern = pose.plateFromPattern;
    indexFromPattern.row(0) -= 0.5 * indexFromPattern.row(2);
    indexFromPattern.row(1) -= 0.5 * indexFromPattern.row(2);
    std::vector<float> patch(std::size_t(size) * std::size_t(size));
    if (!kernels::samplePattern(frame.levels.front(), kernelWarp(indexFromPattern), size, patch.data()))
        return std::nullopt;
    return patch;
}

std::optional<PatternMatcher> PatternMatcher::create(const Pyramid& reference, const Vector2d& centre, int size,
                                                     MotionModel motion, const Polygon& outline) {
    if (size < 5 || size > kLargestPattern || !centre.allFinite()) return std::nullopt;
    // One sample more on each side, for the gradients.
    std::array<float, (kLargestPattern + 2) * (kLargestPattern + 2)> patch;  // NOLINT: filled by samplePattern
    Matrix3d indexFromPattern = Matrix3d::Identity();
    indexFromPattern(0, 2) = centre.x() - 0.5;
    indexFromPattern(1, 2) = centre.y() - 0.5;
    if (!kernels::samplePattern(reference.levels.front(), kernelWarp(indexFromPattern), size + 2, patch.data()))
        return std::nullopt;
    return createFrom({patch.data(), std::size_t(size + 2) * std::size_t(size + 2)}, motion, outline);
}

std::optional<PatternMatcher> PatternMatcher::createFrom(std::span<const float> patch, MotionModel motion,
                                                         const Polygon& outline) {
    const int size = int(std::lround(std::sqrt(double(patch.size())))) - 2;
    if (size < 5 || size > kLargestPattern) return std::nullopt;
    PatternMatcher matcher;
    matcher.size_ = size;
    matcher.motion_ = motion;
    const int count = size * size;
    const int freedoms = parameterCount(motion);
    matcher.data_.resize(std::size_t(count) * std::size_t(freedoms + 1));
    float* pattern = matcher.data_.data();
    const auto column = [&](int k) { return pattern + std::ptrdiff_t(k + 1) * count; };
    kernels::differentiate(patch.data(), size, pattern, column(0), column(1));
    const double half = 0.5 * (size - 1);
    matcher.counted_ = count;
    if (outline.size() >= 3) {
        matcher.mask_.resize(std::size_t(count));
        matcher.counted_ = 0;
        for (int i = 0; i < count; ++i) {
            const bool counts = contains(outline, {i % size - half, double(i / size) - half});
            matcher.mask_[std::size_t(i)] = counts ? 1.0F : 0.0F;
            matcher.counted_ += counts;
        }
        if (matcher.counted_ < 16) return std::nullopt;
    }
    const float* mask = matcher.mask_.empty() ? nullptr : matcher.mask_.data();
    const float counted = float(matcher.counted_);
    if (mask)
        for (float* values : {pattern, column(0), column(1)}) kernels::multiply(values, mask, count);
    kernels::subtract(pattern, kernels::sums(pattern, count).sum / counted, 0, pattern, count);
    if (mask) kernels::multiply(pattern, mask, count);
    matcher.energy_ = kernels::sums(pattern, count).squares;
    if (matcher.energy_ < kLeastEnergy * kLeastEnergy * counted) return std::nullopt;

    const float *gx = column(0), *gy = column(1);
    for (int row = 0; row < size && freedoms > 2; ++row)
        for (int c = 0; c < size; ++c) {
            const int i = row * size + c;
            const float u = float((c - half) / half);
            const float v = float((row - half) / half);
            const float outward = gx[i] * u + gy[i] * v;
            if (motion == MotionModel::similarity) {
                column(2)[i] = outward;
                column(3)[i] = gy[i] * u - gx[i] * v;
                continue;
            }
            column(2)[i] = gx[i] * u;
            column(3)[i] = gx[i] * v;
            column(4)[i] = gy[i] * u;
            column(5)[i] = gy[i] * v;
            if (motion == MotionModel::perspective) {
                column(6)[i] = -outward * u;
                column(7)[i] = -outward * v;
            }
        }
    // With the directions orthogonal to the pattern and to a constant, gain and offset drop out of the steps.
    for (int k = 0; k < freedoms; ++k) {
        const float mean = kernels::sums(column(k), count).sum / counted;
        const float along = kernels::dot(column(k), pattern, count) / matcher.energy_;
        kernels::subtract(column(k), mean, along, pattern, count);
        if (mask) kernels::multiply(column(k), mask, count);
    }
    Eigen::Matrix<float, 8, 8> hessian = Eigen::Matrix<float, 8, 8>::Zero();
    for (int a = 0; a < freedoms; ++a)
        for (int b = a; b < freedoms; ++b) hessian(a, b) = hessian(b, a) = kernels::dot(column(a), column(b), count);
    const auto damped = [](auto&& matrix) {
        // A trace of damping: a freedom that the pattern cannot see (the turn of a dot) then stays where it is.
        matrix.diagonal().array() += 1e-4F * matrix.trace() / float(matrix.rows());
        return matrix;
    };
    const Eigen::Matrix2f shift = damped(Eigen::Matrix2f(hessian.topLeftCorner<2, 2>()));
    matcher.shiftInverse_ = shift.inverse();
    // The larger eigenvalue of the inverse: the variance along the direction in which the pattern slides most easily.
    const float middle = 0.5F * matcher.shiftInverse_.trace();
    const float spread = std::sqrt(std::max(0.0F, middle * middle - matcher.shiftInverse_.determinant()));
    matcher.weakness_ = std::sqrt(std::max(0.0F, middle + spread));
    if (!std::isfinite(matcher.weakness_) || matcher.weakness_ > kMostWeakness) return std::nullopt;
    matcher.fullInverse_.setZero();
    if (freedoms == 4)
        matcher.fullInverse_.topLeftCorner<4, 4>() = damped(Eigen::Matrix4f(hessian.topLeftCorner<4, 4>())).inverse();
    if (freedoms == 6)
        matcher.fullInverse_.topLeftCorner<6, 6>() =
            damped(Eigen::Matrix<float, 6, 6>(hessian.topLeftCorner<6, 6>())).inverse();
    if (freedoms == 8) matcher.fullInverse_ = damped(hessian).inverse();
    return matcher;
}

template <int N>
std::optional<Match> PatternMatcher::alignWith(const Pyramid& frame, const PatternPose& start) const {
    constexpr MotionModel model = N == 2   ? MotionModel::translation
                                  : N == 4 ? MotionModel::similarity
                                  : N == 6 ? MotionModel::affine
                                           : MotionModel::perspective;
    const ImageChannel& plane = frame.levels.front();
    const double half = 0.5 * (size_ - 1);
    const int count = size_ * size_;
    std::array<float, kLargestPattern * kLargestPattern> seen;  // NOLINT: filled by samplePattern
    Matrix3d indexFromPattern = start.plateFromPattern;
    indexFromPattern.row(0) -= 0.5 * indexFromPattern.row(2);
    indexFromPattern.row(1) -= 0.5 * indexFromPattern.row(2);
    const Vector2d startCentre = start.centre();
    Eigen::Matrix<float, N, N> inverse;
    if constexpr (N == 2) inverse = shiftInverse_;
    else inverse = fullInverse_.topLeftCorner<N, N>();
    Match match;
    for (int round = 0; round < kMostRounds; ++round) {
        if (!kernels::samplePattern(plane, kernelWarp(indexFromPattern), size_, seen.data())) return std::nullopt;
        if (!mask_.empty()) kernels::multiply(seen.data(), mask_.data(), count);
        const kernels::Sums sums = kernels::sums(seen.data(), count);
        const float along = kernels::dot(seen.data(), pattern(), count);
        const double energy = double(sums.squares) - double(sums.sum) * sums.sum / counted_;
        match.score = energy > 0 ? double(along) / std::sqrt(energy * energy_) : 0.0;
        match.rounds = round;
        const float gain = along / energy_;
        if (gain < 0.05F) return std::nullopt;
        Eigen::Matrix<float, N, 1> projections;
        for (int k = 0; k < N; ++k) projections[k] = kernels::dot(direction(k), seen.data(), count);
        Eigen::Matrix<float, N, 1> steps = inverse * projections / gain;
        const float reach = steps.cwiseAbs().sum();
        if (!std::isfinite(reach)) return std::nullopt;
        // Far from the answer the linear model promises too much.
        const float most = 0.5F * float(half);
        if (reach > most) steps *= most / reach;
        if constexpr (N == 2) {
            indexFromPattern.col(2) -= indexFromPattern.leftCols<2>() * steps.template cast<double>();
        } else {
            indexFromPattern = indexFromPattern * warpOf(steps.data(), model, half).inverse();
            indexFromPattern /= indexFromPattern(2, 2);
            if constexpr (N != 8) indexFromPattern.row(2) << 0, 0, 1;
        }
        if (reach >= kSettled) continue;
        match.pose.plateFromPattern = indexFromPattern;
        match.pose.plateFromPattern.row(0) += 0.5 * indexFromPattern.row(2);
        match.pose.plateFromPattern.row(1) += 0.5 * indexFromPattern.row(2);
        if ((match.pose.centre() - startCentre).norm() > 2 * half) return std::nullopt;
        const double area = indexFromPattern.topLeftCorner<2, 2>().determinant();
        if (!(area > 0.1 && area < 10.0)) return std::nullopt;
        return match;
    }
    return std::nullopt;
}

std::optional<Match> PatternMatcher::alignPlace(const Pyramid& frame, const PatternPose& start) const {
    return alignWith<2>(frame, start);
}

std::optional<Match> PatternMatcher::align(const Pyramid& frame, const PatternPose& start) const {
    switch (motion_) {
        case MotionModel::translation:
            return alignWith<2>(frame, start);
        case MotionModel::similarity:
            return alignWith<4>(frame, start);
        case MotionModel::affine:
            return alignWith<6>(frame, start);
        default:
            return alignWith<8>(frame, start);
    }
}

std::optional<Jump> searchPatch(const Pyramid& fromFrame, const Vector2d& from, const Pyramid& toFrame,
                                const Vector2d& expected, int size, double radius, const Polygon& outline) {
    const std::size_t level = std::min(fromFrame.levels.size(), toFrame.levels.size()) > 1 && size >= 11 ? 1 : 0;
    const double scale = level == 1 ? 0.5 : 1.0;
    const ImageChannel& source = fromFrame.levels[level];
    const ImageChannel& target = toFrame.levels[level];
    const int half = std::max(3, int(std::lround(size * scale * 0.5 - 0.5)));
    const int side = 2 * half + 1;
    const int reach = std::max(1, int(std::ceil(radius * scale)));
    const Vector2d fromIndex = (from - Vector2d(0.5, 0.5)) * scale;
    const Vector2d toIndex = (expected - Vector2d(0.5, 0.5)) * scale;
    const int fx = int(std::lround(fromIndex.x()));
    const int fy = int(std::lround(fromIndex.y()));
    if (fx - half < 0 || fy - half < 0 || fx + half >= source.width || fy + half >= source.height) return std::nullopt;
    std::vector<float> patch(std::size_t(side) * std::size_t(side));
    // What the outline leaves out is zero in the patch and adds nothing to the products.
    const bool masked = outline.size() >= 3;
    std::vector<char> counts(masked ? patch.size() : 0);
    for (int i = 0; masked && i < side * side; ++i)
        counts[std::size_t(i)] = contains(outline, Vector2d(i % side - half, double(i / side) - half) / scale);
    float mean = 0;
    for (int y = 0; y < side; ++y)
        std::copy_n(source.row(fy - half + y) + fx - half, side, patch.data() + std::ptrdiff_t(y) * side);
    float counted = float(patch.size());
    if (masked) {
        counted = 0;
        for (std::size_t i = 0; i < patch.size(); ++i)
            if (counts[i]) {
                mean += patch[i];
                ++counted;
            }
    } else {
        for (float value : patch) mean += value;
    }
    if (counted < 9) return std::nullopt;
    mean /= counted;
    float energy = 0;
    for (std::size_t i = 0; i < patch.size(); ++i) {
        patch[i] = masked && !counts[i] ? 0.0F : patch[i] - mean;
        energy += patch[i] * patch[i];
    }
    if (energy <= 0) return std::nullopt;
    // The window's variance is that of the whole square; a part of it stands for the part that counts.
    energy *= float(side * side) > counted ? counted / float(side * side) : 1.0F;

    // The shifts whose window lies inside the frame.
    const int cx = int(std::lround(toIndex.x()));
    const int cy = int(std::lround(toIndex.y()));
    const int x0 = std::max(cx - reach, half);
    const int x1 = std::min(cx + reach, target.width - 1 - half);
    const int y0 = std::max(cy - reach, half);
    const int y1 = std::min(cy + reach, target.height - 1 - half);
    if (x0 > x1 || y0 > y1) return std::nullopt;
    const int across = x1 - x0 + 1;
    const int down = y1 - y0 + 1;

    // Box sums of values and squares, a column at a time and then sliding.
    const int boxWidth = across + side - 1;
    std::vector<double> columnSum(std::size_t(boxWidth), 0.0), columnSquares(std::size_t(boxWidth), 0.0);
    std::vector<float> scores(std::size_t(across) * std::size_t(down));
    std::vector<float> products(static_cast<std::size_t>(across));
    const auto addRow = [&](int y, double sign) {
        const float* row = target.row(y) + x0 - half;
        for (int x = 0; x < boxWidth; ++x) {
            columnSum[std::size_t(x)] += sign * row[x];
            columnSquares[std::size_t(x)] += sign * double(row[x]) * row[x];
        }
    };
    for (int y = y0 - half; y < y0 + half; ++y) addRow(y, 1);
    float best = -2;
    int bestX = 0;
    int bestY = 0;
    for (int dy = 0; dy < down; ++dy) {
        addRow(y0 + dy + half, 1);
        if (dy > 0) addRow(y0 + dy - half - 1, -1);
        kernels::correlateRow(target.row(y0 + dy - half) + x0 - half, target.width, patch.data(), side, across,
                              products.data());
        double sum = 0;
        double squares = 0;
        for (int x = 0; x < side - 1; ++x) {
            sum += columnSum[std::size_t(x)];
            squares += columnSquares[std::size_t(x)];
        }
        for (int dx = 0; dx < across; ++dx) {
            sum += columnSum[std::size_t(dx + side - 1)];
            squares += columnSquares[std::size_t(dx + side - 1)];
            const double variance = squares - sum * sum / (side * side);
            const float score =
                variance > 1e-3 ? float(products[std::size_t(dx)] / std::sqrt(variance * energy)) : 0.0F;
            scores[std::size_t(dy * across + dx)] = score;
            if (score > best) {
                best = score;
                bestX = dx;
                bestY = dy;
            }
            sum -= columnSum[std::size_t(dx)];
            squares -= columnSquares[std::size_t(dx)];
        }
    }
    const auto peak = [](float before, float at, float after) {
        const float curve = before - 2 * at + after;
        return curve < -1e-6F ? std::clamp(0.5F * (before - after) / curve, -0.5F, 0.5F) : 0.0F;
    };
    double px = bestX;
    double py = bestY;
    const auto score = [&](int x, int y) { return scores[std::size_t(y * across + x)]; };
    if (bestX > 0 && bestX < across - 1) px += peak(score(bestX - 1, bestY), best, score(bestX + 1, bestY));
    if (bestY > 0 && bestY < down - 1) py += peak(score(bestX, bestY - 1), best, score(bestX, bestY + 1));
    // The patch was cut at whole samples; give its centre's fraction back.
    const Vector2d index = Vector2d(x0 + px, y0 + py) + (fromIndex - Vector2d(fx, fy));
    return Jump{index / scale + Vector2d(0.5, 0.5), double(best)};
}

}  // namespace pinion
