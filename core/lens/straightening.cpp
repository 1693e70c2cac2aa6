#include "lens/straightening.h"

#include "base/linear.h"
#include "base/median.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <utility>

namespace pinion::straightening {
namespace {

using Eigen::Index;
using Eigen::Matrix2d;
using Eigen::MatrixXd;
using Eigen::Vector2d;
using Eigen::VectorXd;

constexpr double kLeastNoise = 0.02;  // pixels; nothing is surer

// What is usual of lenses, so that lines that say little do not make a term large: deviations of k1, k2 and k3 in
// half diagonals, and of the axis in widths.
constexpr double kUsualK1 = 0.5, kUsualK2 = 0.05, kUsualK3 = 0.03, kUsualAxis = 0.005;

}  // namespace

double& valueOf(Lens& lens, Term term) {
    switch (term) {
        case Term::k1:
            return lens.k1;
        case Term::k2:
            return lens.k2;
        case Term::k3:
            return lens.k3;
        case Term::cx:
            return lens.cx;
        default:
            return lens.cy;
    }
}

Straight straightThrough(std::span<const Vector2d> points, std::span<const double> weights) {
    double sum = 0;
    Vector2d middle(0, 0);
    for (std::size_t i = 0; i < points.size(); ++i) {
        sum += weights[i];
        middle += weights[i] * points[i];
    }
    middle /= sum;
    Matrix2d spread = Matrix2d::Zero();
    for (std::size_t i = 0; i < points.size(); ++i)
        spread += weights[i] * (points[i] - middle) * (points[i] - middle).transpose();
    const Vector2d normal = spectrumOf(spread).vectors.col(0);
    return {normal, normal.dot(middle)};
}

bool distances(const Lens& lens, const Line& line, std::vector<double>& out) {
    const std::size_t count = line.points.size();
    std::vector<Vector2d> straight(count);
    std::vector<Matrix2d> jacobians(count);  // d straight / d plate
    for (std::size_t i = 0; i < count; ++i) {
        const auto plane = planeFromPlate(lens, line.points[i]);
        if (!plane) return false;
        straight[i] = *plane * lens.focal_px;
        jacobians[i] = distortionJacobian(lens, *plane).inverse();
        jacobians[i].col(0) /= lens.squeeze;
    }
    std::vector<double> weights = line.weights;
    out.resize(count);
    for (int round = 0; round < 3; ++round) {
        const Straight through = straightThrough(straight, weights);
        for (std::size_t i = 0; i < count; ++i) {
            const double slope = (jacobians[i].transpose() * through.normal).norm();
            out[i] = (through.normal.dot(straight[i]) - through.distance) / slope;
            weights[i] = line.weights[i] / (slope * slope);
        }
    }
    return true;
}

double rmsOf(const std::vector<double>& errors) {
    double sum = 0;
    for (const double error : errors) sum += error * error;
    return errors.empty() ? 0 : std::sqrt(sum / double(errors.size()));
}

std::optional<VectorXd> Straightening::errors(const Lens& lens) const {
    std::vector<double> all, own;
    for (const Line& line : lines_) {
        if (!distances(lens, line, own)) return std::nullopt;
        for (std::size_t i = 0; i < own.size(); ++i) all.push_back(own[i] * std::sqrt(line.weights[i] * line.weight));
    }
    all.push_back(noise_ * lens.k1 / kUsualK1);
    // A barrel flattens out: from the division model to equal angles k2 is one to two squares of k1.
    all.push_back(noise_ * (lens.k2 - (lens.k1 < 0 ? lens.k1 * lens.k1 : 0)) / kUsualK2);
    all.push_back(noise_ * lens.k3 / kUsualK3);
    const double axis = axisIsFree_ ? 1e9 : kUsualAxis * lens.width;
    all.push_back(noise_ * (lens.cx - lens.width / 2.0) / axis);
    all.push_back(noise_ * (lens.cy - lens.height / 2.0) / axis);
    return Eigen::Map<const VectorXd>(all.data(), Index(all.size())).eval();
}

Lens Straightening::adjusted(Lens lens, const Terms& terms) const {
    auto now = errors(lens);
    double damping = 1e-4;
    for (int round = 0; now && round < 25; ++round) {
        const auto slopes = jacobian(lens, terms);
        if (!slopes) break;
        MatrixXd normal = slopes->transpose() * *slopes;
        const VectorXd right = slopes->transpose() * *now;
        bool better = false;
        double gain = 0;
        for (int tries = 0; tries < 8 && !better; ++tries, damping *= 6) {
            MatrixXd damped = normal;
            damped.diagonal() *= 1 + damping;
            damped.diagonal().array() += 1e-12;
            const VectorXd step = solvedSymmetric(damped, right);
            Lens next = lens;
            for (std::size_t t = 0; t < terms.size(); ++t) valueOf(next, terms[t]) -= step[Index(t)];
            const auto then = errors(next);
            if (!then || !(then->squaredNorm() < now->squaredNorm())) continue;
            gain = now->squaredNorm() - then->squaredNorm();
            lens = next;
            now = then;
            better = true;
            damping /= 30;
        }
        if (!better || gain < 1e-9 * now->squaredNorm()) break;
    }
    return lens;
}

std::optional<MatrixXd> Straightening::jacobian(const Lens& lens, const Terms& terms) const {
    MatrixXd slopes;
    for (std::size_t t = 0; t < terms.size(); ++t) {
        const double step = stepOf(terms[t]);
        Lens up = lens, down = lens;
        valueOf(up, terms[t]) += step;
        valueOf(down, terms[t]) -= step;
        auto above = errors(up), below = errors(down);
        double apart = 2 * step;
        // At the brink of folding over only one side has an answer.
        if (!above || !below) {
            apart = step;
            if (!above) above = errors(lens);
            else below = errors(lens);
        }
        if (!above || !below) return std::nullopt;
        if (t == 0) slopes.resize(above->size(), Index(terms.size()));
        slopes.col(Index(t)) = (*above - *below) / apart;
    }
    return slopes;
}

std::optional<MatrixXd> Straightening::covariance(const Lens& lens, const Terms& terms, double variance) const {
    const auto slopes = jacobian(lens, terms);
    if (!slopes) return std::nullopt;
    const MatrixXd normal = slopes->transpose() * *slopes;
    return (variance * (normal + 1e-12 * MatrixXd::Identity(normal.rows(), normal.cols())).inverse()).eval();
}

Lens Straightening::settled(Lens lens, const Terms& terms, double curvedFactor, double& noise) {
    for (int round = 0; round < 8; ++round) {
        lens = adjusted(lens, terms);
        noise = noise_ = reweigh(lens, curvedFactor);
    }
    return adjusted(lens, terms);
}

Lens Straightening::unmasked(Lens lens, const Terms& terms, double curvedFactor) {
    constexpr std::size_t kMost = 12;  // more lines than this outvote one
    if (lines_.size() < 4 || lines_.size() > kMost) return lens;
    for (std::size_t round = 0; round < lines_.size() / 3; ++round) {
        std::size_t worst = lines_.size();
        double most = 25;  // noise variances
        Lens without = lens;
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            if (lines_[i].weight < 0.05) continue;
            const double kept = std::exchange(lines_[i].weight, 1e-9);
            const auto before = errors(lens);
            const Lens other = adjusted(lens, terms);
            const auto after = errors(other);
            std::vector<double> own;
            const double noise = noiseOf(other);
            if (before && after && distances(other, lines_[i], own) && rmsOf(own) > curvedFactor * noise) {
                const double gain = (before->squaredNorm() - after->squaredNorm()) / (noise * noise);
                if (gain > most) {
                    most = gain;
                    worst = i;
                    without = other;
                }
            }
            lines_[i].weight = kept;
        }
        if (worst == lines_.size()) break;
        lines_[worst].weight = 1e-9;
        lines_[worst].apart = true;
        lens = without;
    }
    return lens;
}

double Straightening::noiseOf(const Lens& lens) const {
    std::vector<double> sizes, own;
    for (const Line& line : lines_) {
        if (line.apart || !distances(lens, line, own)) continue;
        // A line's own two freedoms take the edge off its errors.
        const double spare = std::sqrt(double(own.size()) / std::max(1.0, double(own.size()) - 2.0));
        std::vector<double> ofLine;
        for (const double error : own) ofLine.push_back(std::abs(error) * spare);
        sizes.insert(sizes.end(), ofLine.begin(), ofLine.end());
    }
    return std::max(kLeastNoise, 1.4826 * median(sizes));
}

double Straightening::usualOf(const Lens& lens) const {
    std::vector<double> all, own;
    for (const Line& line : lines_)
        if (!line.apart && distances(lens, line, own))
            all.push_back(rmsOf(own) * std::sqrt(double(own.size()) / std::max(1.0, double(own.size()) - 2)));
    return std::max(kLeastNoise, median(all));
}

double Straightening::reweigh(const Lens& lens, double curvedFactor) {
    const double noise = noiseOf(lens);
    const double usual = std::max(noise, usualOf(lens));
    std::vector<double> own;
    for (Line& line : lines_) {
        if (line.apart || !distances(lens, line, own)) continue;
        const double limit = curvedFactor * 0.5 * std::max(usual, 0.05);
        const double rms = rmsOf(own);
        // Lines that are a little worse count less; those that are far off count for nothing.
        line.weight = lines_.size() < 3 ? 1 : 1 / std::pow(1 + std::pow(rms / limit, 4), 1.5);
        const double width = 3 * std::max(noise, std::min(rms, 2 * usual));
        for (std::size_t i = 0; i < own.size(); ++i) line.weights[i] = 1 / (1 + std::pow(own[i] / width, 2));
    }
    return noise;
}

}  // namespace pinion::straightening
