#include "track/matcher.h"

#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
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
constexpr float kSettled = 0.004F;      // pixels, at the pattern's corner
constexpr double kLeastEnergy = 1.5;    // grey levels of contrast, below which a pattern is only grain

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

/// Bilinear samples of the warped pattern square; false when a corner is outside.
__attribute__((target_clones("arch=x86-64-v3", "default")))
bool samplePattern(const Plane& plane, const double* m, bool projective, int size, float* out) {
    const double half = 0.5 * (size - 1);
    const double right = plane.width - 1.001;
    const double bottom = plane.height - 1.001;
    for (int corner = 0; corner < 4; ++corner) {
        const double u = corner & 1 ? half : -half;
        const double v = corner & 2 ? half : -half;
        const double w = m[6] * u + m[7] * v + m[8];
        if (!(w > 0.2)) return false;
        const double x = (m[0] * u + m[1] * v + m[2]) / w;
        const double y = (m[3] * u + m[4] * v + m[5]) / w;
        if (!(x >= 0 && y >= 0 && x <= right && y <= bottom)) return false;
    }
    const float* pixels = plane.values.data();
    const int stride = plane.width;
    for (int row = 0; row < size; ++row) {
        const float v = float(row - half);
        const float x0 = float(m[1]) * v + float(m[2]);
        const float y0 = float(m[4]) * v + float(m[5]);
        float* line = out + row * size;
        for (int column = 0; column < size; ++column) {
            const float u = float(column - half);
            float x = float(m[0]) * u + x0;
            float y = float(m[3]) * u + y0;
            if (projective) {
                const float w = float(m[6]) * u + float(m[7]) * v + float(m[8]);
                x /= w;
                y /= w;
            }
            const int ix = int(x);
            const int iy = int(y);
            const float fx = x - float(ix);
            const float fy = y - float(iy);
            const float* p = pixels + iy * stride + ix;
            const float top = p[0] + fx * (p[1] - p[0]);
            const float bottomLine = p[stride] + fx * (p[stride + 1] - p[stride]);
            line[column] = top + fy * (bottomLine - top);
        }
    }
    return true;
}

/// out[k] = sum over i of directions(i, k) * values[i], for N columns at once.
template <int N>
__attribute__((always_inline)) inline void projectAll(const float* directions, const float* values, int count, float* out) {
    for (int k = 0; k < N; ++k) {
        const float* direction = directions + std::ptrdiff_t(k) * count;
        // Eight partial sums: the compiler may not reorder a float sum by itself.
        std::array<float, 8> partial{};
        int i = 0;
        for (; i + 8 <= count; i += 8)
            for (int j = 0; j < 8; ++j) partial[std::size_t(j)] += direction[i + j] * values[i + j];
        float sum = 0;
        for (; i < count; ++i) sum += direction[i] * values[i];
        for (float part : partial) sum += part;
        out[k] = sum;
    }
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

std::optional<PatternMatcher> PatternMatcher::create(const Pyramid& reference, const Vector2d& centre, int size, MotionModel motion) {
    const Plane& plane = reference.levels.front();
    const double half = 0.5 * (size - 1);
    if (size < 5 || !centre.allFinite()) return std::nullopt;
    // One sample more on each side, for the gradients.
    const int padded = size + 2;
    Matrix3d indexFromPattern = Matrix3d::Identity();
    indexFromPattern(0, 2) = centre.x() - 0.5;
    indexFromPattern(1, 2) = centre.y() - 0.5;
    std::vector<float> patch(std::size_t(padded) * std::size_t(padded));
    const Eigen::Matrix<double, 3, 3, Eigen::RowMajor> rows = indexFromPattern;
    if (!samplePattern(plane, rows.data(), false, padded, patch.data())) return std::nullopt;

    PatternMatcher matcher;
    matcher.size_ = size;
    matcher.motion_ = motion;
    const int count = size * size;
    matcher.pattern_.resize(count);
    Eigen::VectorXf gradientX(count), gradientY(count), us(count), vs(count);
    for (int row = 0; row < size; ++row)
        for (int column = 0; column < size; ++column) {
            const int i = row * size + column;
            const float* p = &patch[std::size_t(row + 1) * std::size_t(padded) + std::size_t(column + 1)];
            matcher.pattern_[i] = *p;
            gradientX[i] = 0.5F * (p[1] - p[-1]);
            gradientY[i] = 0.5F * (p[padded] - p[-padded]);
            us[i] = float((column - half) / half);
            vs[i] = float((row - half) / half);
        }
    matcher.pattern_.array() -= matcher.pattern_.mean();
    matcher.energy_ = matcher.pattern_.squaredNorm();
    if (matcher.energy_ < kLeastEnergy * kLeastEnergy * count) return std::nullopt;

    const auto build = [&](MotionModel model) {
        Model built;
        auto& d = built.directions;
        d.resize(count, parameterCount(model));
        d.col(0) = gradientX;
        d.col(1) = gradientY;
        const Eigen::ArrayXf outward = gradientX.array() * us.array() + gradientY.array() * vs.array();
        if (model == MotionModel::similarity) {
            d.col(2) = outward;
            d.col(3) = gradientY.array() * us.array() - gradientX.array() * vs.array();
        } else if (model != MotionModel::translation) {
            d.col(2) = gradientX.array() * us.array();
            d.col(3) = gradientX.array() * vs.array();
            d.col(4) = gradientY.array() * us.array();
            d.col(5) = gradientY.array() * vs.array();
            if (model == MotionModel::perspective) {
                d.col(6) = -outward * us.array();
                d.col(7) = -outward * vs.array();
            }
        }
        // With the directions orthogonal to the pattern and to a constant, gain and offset drop out of the steps.
        d.rowwise() -= d.colwise().mean();
        d -= matcher.pattern_ * (matcher.pattern_.transpose() * d) / matcher.energy_;
        Eigen::MatrixXf hessian = d.transpose() * d;
        // A trace of damping: a freedom that the pattern cannot see (the turn of a dot) then stays where it is.
        hessian.diagonal().array() += 1e-4F * hessian.trace() / float(hessian.rows());
        built.inverseHessian = hessian.inverse();
        return built;
    };
    matcher.translation_ = build(MotionModel::translation);
    const Eigen::Matrix2f covariance = matcher.translation_.inverseHessian;
    matcher.weakness_ = std::sqrt(std::max(0.0F, Eigen::SelfAdjointEigenSolver<Eigen::Matrix2f>(covariance).eigenvalues()[1]));
    if (!std::isfinite(matcher.weakness_) || matcher.weakness_ > 0.2) return std::nullopt;
    if (motion != MotionModel::translation) matcher.full_ = build(motion);
    return matcher;
}

template <int N>
std::optional<Match> PatternMatcher::alignWith(const Pyramid& frame, const PatternPose& start, const Eigen::MatrixXf& directions,
                                               const Eigen::MatrixXf& inverseHessian) const {
    const Plane& plane = frame.levels.front();
    const double half = 0.5 * (size_ - 1);
    const int count = size_ * size_;
    constexpr MotionModel model = N == 2 ? MotionModel::translation : N == 4 ? MotionModel::similarity : N == 6 ? MotionModel::affine : MotionModel::perspective;
    std::array<float, 101 * 101> buffer;  // NOLINT: filled by samplePattern
    if (count > int(buffer.size())) return std::nullopt;
    Eigen::Matrix<double, 3, 3, Eigen::RowMajor> indexFromPattern = start.plateFromPattern;
    indexFromPattern.row(0) -= 0.5 * indexFromPattern.row(2);
    indexFromPattern.row(1) -= 0.5 * indexFromPattern.row(2);
    const Vector2d startCentre = start.centre();
    Match match;
    for (int round = 0; round < kMostRounds; ++round) {
        if (!samplePattern(plane, indexFromPattern.data(), N == 8, size_, buffer.data())) return std::nullopt;
        const Eigen::Map<const Eigen::VectorXf> seen(buffer.data(), count);
        const float mean = seen.mean();
        const float along = seen.dot(pattern_);
        const float energy = (seen.array() - mean).square().sum();
        match.score = energy > 0 ? double(along) / std::sqrt(double(energy) * energy_) : 0.0;
        match.rounds = round;
        const float gain = along / energy_;
        if (gain < 0.05F) return std::nullopt;
        std::array<float, N> projections;
        projectAll<N>(directions.data(), buffer.data(), count, projections.data());
        Eigen::Matrix<float, N, 1> steps = inverseHessian.topLeftCorner<N, N>() * Eigen::Map<Eigen::Matrix<float, N, 1>>(projections.data()) / gain;
        const float reach = steps.cwiseAbs().sum();
        if (!std::isfinite(reach)) return std::nullopt;
        // Far from the answer the linear model promises too much.
        const float most = 0.5F * float(half);
        if (reach > most) steps *= most / reach;
        indexFromPattern = indexFromPattern * warpOf(steps.data(), model, half).inverse();
        indexFromPattern /= indexFromPattern(2, 2);
        if (reach < kSettled) {
            Matrix3d plateFromPattern = indexFromPattern;
            plateFromPattern.row(0) += 0.5 * plateFromPattern.row(2);
            plateFromPattern.row(1) += 0.5 * plateFromPattern.row(2);
            match.pose.plateFromPattern = plateFromPattern;
            if ((match.pose.centre() - startCentre).norm() > 2 * half) return std::nullopt;
            const double area = plateFromPattern.topLeftCorner<2, 2>().determinant();
            if (!(area > 0.1 && area < 10.0)) return std::nullopt;
            return match;
        }
    }
    return std::nullopt;
}

std::optional<Match> PatternMatcher::align(const Pyramid& frame, const PatternPose& start, MotionModel motion) const {
    if (motion == MotionModel::translation || motion_ == MotionModel::translation)
        return alignWith<2>(frame, start, translation_.directions, translation_.inverseHessian);
    switch (motion_) {
        case MotionModel::similarity: return alignWith<4>(frame, start, full_.directions, full_.inverseHessian);
        case MotionModel::affine: return alignWith<6>(frame, start, full_.directions, full_.inverseHessian);
        default: return alignWith<8>(frame, start, full_.directions, full_.inverseHessian);
    }
}

__attribute__((target_clones("arch=x86-64-v3", "default")))
static void correlateRow(const float* window, int stride, const float* patch, int side, int shifts, float* products) {
    std::fill(products, products + shifts, 0.0F);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const float weight = patch[y * side + x];
            const float* source = window + y * stride + x;
            for (int s = 0; s < shifts; ++s) products[s] += weight * source[s];
        }
}

std::optional<Jump> searchPatch(const Pyramid& fromFrame, const Vector2d& from, const Pyramid& toFrame, const Vector2d& expected,
                                int size, double radius) {
    const std::size_t level = std::min(fromFrame.levels.size(), toFrame.levels.size()) > 1 && size >= 11 ? 1 : 0;
    const double scale = level == 1 ? 0.5 : 1.0;
    const Plane& source = fromFrame.levels[level];
    const Plane& target = toFrame.levels[level];
    const int half = std::max(3, int(std::lround(size * scale * 0.5 - 0.5)));
    const int side = 2 * half + 1;
    const int reach = std::max(1, int(std::ceil(radius * scale)));
    const Vector2d fromIndex = (from - Vector2d(0.5, 0.5)) * scale;
    const Vector2d toIndex = (expected - Vector2d(0.5, 0.5)) * scale;
    const int fx = int(std::lround(fromIndex.x()));
    const int fy = int(std::lround(fromIndex.y()));
    if (fx - half < 0 || fy - half < 0 || fx + half >= source.width || fy + half >= source.height) return std::nullopt;
    std::vector<float> patch(std::size_t(side) * std::size_t(side));
    float mean = 0;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) mean += patch[std::size_t(y * side + x)] = source.row(fy - half + y)[fx - half + x];
    mean /= float(side * side);
    float energy = 0;
    for (float& value : patch) {
        value -= mean;
        energy += value * value;
    }
    if (energy <= 0) return std::nullopt;

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
        correlateRow(target.row(y0 + dy - half) + x0 - half, target.width, patch.data(), side, across, products.data());
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
            const float score = variance > 1e-3 ? float(products[std::size_t(dx)] / std::sqrt(variance * energy)) : 0.0F;
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
