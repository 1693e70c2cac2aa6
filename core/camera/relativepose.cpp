#include "camera/relativepose.h"

#include "base/linear.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <random>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

// Polynomials in x, y, z up to degree three, in the order of monomials that the elimination wants: the cubic ones
// first.
constexpr int kMonomials = 20;
using Polynomial = Eigen::Matrix<double, kMonomials, 1>;
constexpr std::array<std::array<int, 3>, kMonomials> kPowers{
    {{3, 0, 0}, {2, 1, 0}, {2, 0, 1}, {1, 2, 0}, {1, 1, 1}, {1, 0, 2}, {0, 3, 0}, {0, 2, 1}, {0, 1, 2}, {0, 0, 3},
     {2, 0, 0}, {1, 1, 0}, {1, 0, 1}, {0, 2, 0}, {0, 1, 1}, {0, 0, 2}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}, {0, 0, 0}}};

/// products[a][b]: the place of monomial a times monomial b, -1 beyond degree three.
const auto& productTable() {
    static const auto table = [] {
        std::array<std::array<int, kMonomials>, kMonomials> products{};
        for (std::size_t a = 0; a < kMonomials; ++a)
            for (std::size_t b = 0; b < kMonomials; ++b) {
                products[a][b] = -1;
                for (std::size_t c = 0; c < kMonomials; ++c)
                    if (kPowers[c][0] == kPowers[a][0] + kPowers[b][0] &&
                        kPowers[c][1] == kPowers[a][1] + kPowers[b][1] &&
                        kPowers[c][2] == kPowers[a][2] + kPowers[b][2])
                        products[a][b] = int(c);
            }
        return products;
    }();
    return table;
}

Polynomial times(const Polynomial& a, const Polynomial& b) {
    const auto& table = productTable();
    Polynomial product = Polynomial::Zero();
    for (int i = 0; i < kMonomials; ++i) {
        if (a[i] == 0) continue;
        for (int j = 0; j < kMonomials; ++j)
            if (b[j] != 0) {
                const int place = table[std::size_t(i)][std::size_t(j)];
                if (place >= 0) product[place] += a[i] * b[j];
            }
    }
    return product;
}

Vector3d homogeneous(const Vector2d& p) { return {p.x(), p.y(), 1.0}; }

/// Sampson's first-order distance to the epipolar constraint, squared (Sampson 1982).
double sampsonSquared(const Matrix3d& essential, const PlanePair& pair) {
    const Vector3d a = essential * homogeneous(pair.first);
    const Vector3d b = essential.transpose() * homogeneous(pair.second);
    const double value = homogeneous(pair.second).dot(a);
    const double slope = a.head<2>().squaredNorm() + b.head<2>().squaredNorm();
    return slope > 0 ? value * value / slope : 0.0;
}

Matrix3d essentialOf(const Pose& pose) {
    const Vector3d t = pose.translation.normalized();
    Matrix3d cross;
    cross << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
    return cross * pose.rotation.toRotationMatrix();
}

std::array<Pose, 4> posesOf(const Matrix3d& essential) {
    auto [u, values, v] = singularValuesOf(essential);
    if (u.determinant() < 0) u = -u;
    if (v.determinant() < 0) v = -v;
    Matrix3d w;
    w << 0, -1, 0, 1, 0, 0, 0, 0, 1;
    const Matrix3d r1 = u * w * v.transpose();
    const Matrix3d r2 = u * w.transpose() * v.transpose();
    const Vector3d t = u.col(2);
    return {Pose{Eigen::Quaterniond(r1), t}, Pose{Eigen::Quaterniond(r1), -t}, Pose{Eigen::Quaterniond(r2), t},
            Pose{Eigen::Quaterniond(r2), -t}};
}

}  // namespace

std::vector<Matrix3d> essentialFromFive(const std::array<PlanePair, 5>& pairs) {
    Eigen::Matrix<double, 9, 5> rows;
    for (int i = 0; i < 5; ++i) {
        const Vector3d a = homogeneous(pairs[std::size_t(i)].first);
        const Vector3d b = homogeneous(pairs[std::size_t(i)].second);
        for (int r = 0; r < 3; ++r)
            for (int c = 0; c < 3; ++c) rows(3 * r + c, i) = b[r] * a[c];
    }
    // The last four columns of Q span what the five constraints leave free.
    const Eigen::Matrix<double, 9, 9> q = fullBasisOf(rows);
    std::array<std::array<Polynomial, 3>, 3> e;
    for (int r = 0; r < 3; ++r)
        for (int c = 0; c < 3; ++c) {
            Polynomial& p = e[std::size_t(r)][std::size_t(c)];
            p.setZero();
            for (int k = 0; k < 4; ++k) p[16 + k] = q(3 * r + c, 5 + k);
        }
    Eigen::Matrix<double, 10, kMonomials> equations;
    const auto minor = [&](std::size_t r1, std::size_t c1, std::size_t r2, std::size_t c2) -> Polynomial {
        return times(e[r1][c1], e[r2][c2]) - times(e[r1][c2], e[r2][c1]);
    };
    equations.row(0) =
        (times(e[0][0], minor(1, 1, 2, 2)) - times(e[0][1], minor(1, 0, 2, 2)) + times(e[0][2], minor(1, 0, 2, 1)))
            .transpose();
    std::array<std::array<Polynomial, 3>, 3> eet;
    for (std::size_t r = 0; r < 3; ++r)
        for (std::size_t c = 0; c < 3; ++c)
            eet[r][c] = times(e[r][0], e[c][0]) + times(e[r][1], e[c][1]) + times(e[r][2], e[c][2]);
    const Polynomial halfTrace = 0.5 * (eet[0][0] + eet[1][1] + eet[2][2]);
    for (std::size_t i = 0; i < 3; ++i) eet[i][i] -= halfTrace;
    for (std::size_t r = 0; r < 3; ++r)
        for (std::size_t c = 0; c < 3; ++c)
            equations.row(Eigen::Index(1 + 3 * r + c)) =
                (times(eet[r][0], e[0][c]) + times(eet[r][1], e[1][c]) + times(eet[r][2], e[2][c])).transpose();

    const Eigen::Matrix<double, 10, 10> reduced = solved(equations.leftCols<10>(), equations.rightCols<10>());
    if (!reduced.allFinite()) return {};
    Eigen::Matrix<double, 10, 10> action = Eigen::Matrix<double, 10, 10>::Zero();
    action.topRows<6>() = -reduced.topRows<6>();
    action(6, 0) = action(7, 1) = action(8, 2) = action(9, 6) = 1;
    const auto spectrum = generalSpectrumOf(action);
    if (!spectrum) return {};
    std::vector<Matrix3d> results;
    for (int i = 0; i < 10; ++i) {
        if (std::abs(spectrum->values[i].imag()) > 1e-9 * (1 + std::abs(spectrum->values[i].real()))) continue;
        const Eigen::Matrix<double, 10, 1> v = spectrum->vectors.col(i).real();
        if (std::abs(v[9]) < 1e-14) continue;
        Eigen::Matrix<double, 9, 1> flat = (v[6] * q.col(5) + v[7] * q.col(6) + v[8] * q.col(7)) / v[9] + q.col(8);
        flat.normalize();
        Matrix3d essential;
        for (int r = 0; r < 3; ++r)
            for (int c = 0; c < 3; ++c) essential(r, c) = flat[3 * r + c];
        results.push_back(essential);
    }
    return results;
}

RotationFit fitRotation(std::span<const PlanePair> pairs) {
    std::vector<std::size_t> chosen(pairs.size());
    for (std::size_t i = 0; i < chosen.size(); ++i) chosen[i] = i;
    RotationFit fit{Eigen::Quaterniond::Identity(), 0.0};
    std::vector<double> residuals(pairs.size());
    for (int round = 0; round < 5 && !chosen.empty(); ++round) {
        Matrix3d sum = Matrix3d::Zero();
        for (std::size_t i : chosen)
            sum += homogeneous(pairs[i].second).normalized() * homogeneous(pairs[i].first).normalized().transpose();
        const Matrix3d rotation = nearestRotation(sum);
        fit.rotation = Eigen::Quaterniond(rotation);
        for (std::size_t i = 0; i < pairs.size(); ++i) {
            const Vector3d turned = rotation * homogeneous(pairs[i].first);
            residuals[i] = turned.z() > 0.01 ? (turned.hnormalized() - pairs[i].second).norm() : 1e3;
        }
        std::vector<double> sorted = residuals;
        const auto middle = sorted.begin() + std::ptrdiff_t(sorted.size() / 2);
        std::nth_element(sorted.begin(), middle, sorted.end());
        fit.medianResidual = *middle;
        chosen.clear();
        for (std::size_t i = 0; i < pairs.size(); ++i)
            if (residuals[i] <= *middle) chosen.push_back(i);
    }
    return fit;
}

namespace {

/// Which pairs agree with a motion and lie in front of both cameras; the better of the two directions of the base.
RelativePose withInliers(const Pose& pose, std::span<const PlanePair> pairs, double limit) {
    RelativePose result;
    result.second = pose;
    result.inliers.assign(pairs.size(), false);
    const Matrix3d essential = essentialOf(pose);
    for (std::size_t i = 0; i < pairs.size(); ++i) {
        if (sampsonSquared(essential, pairs[i]) >= limit) continue;
        const std::array<Ray, 2> rays{Ray{Pose{}, pairs[i].first}, Ray{pose, pairs[i].second}};
        if (triangulate(rays)) {
            ++result.inlierCount;
            result.inliers[i] = true;
        }
    }
    return result;
}

double robustCost(const Matrix3d& essential, std::span<const PlanePair> pairs, double limit, double ceiling = 1e300) {
    double cost = 0;  // MSAC: what agrees counts by how well (Torr and Zisserman 2000)
    for (const PlanePair& pair : pairs) {
        cost += std::min(sampsonSquared(essential, pair), limit);
        if (cost >= ceiling) break;
    }
    return cost;
}

/// Gauss-Newton on turn and direction, Sampson distances with a Cauchy loss.
Pose refined(Pose pose, std::span<const PlanePair> pairs, double width) {
    const auto moved = [](const Pose& from, const Eigen::Matrix<double, 5, 1>& step) {
        Pose to;
        const Vector3d turn = step.head<3>();
        to.rotation = from.rotation;
        if (turn.norm() > 1e-300)
            to.rotation =
                (Eigen::Quaterniond(Eigen::AngleAxisd(turn.norm(), turn.normalized())) * from.rotation).normalized();
        const Vector3d u = from.translation.unitOrthogonal(), v = from.translation.cross(u).normalized();
        to.translation = (from.translation + step[3] * u + step[4] * v).normalized();
        return to;
    };
    const auto signedDistance = [](const Matrix3d& essential, const PlanePair& pair) {
        const Vector3d a = essential * homogeneous(pair.first);
        const Vector3d b = essential.transpose() * homogeneous(pair.second);
        return homogeneous(pair.second).dot(a) /
               std::sqrt(a.head<2>().squaredNorm() + b.head<2>().squaredNorm() + 1e-300);
    };
    for (int round = 0; round < 6; ++round) {
        const Matrix3d here = essentialOf(pose);
        std::array<Matrix3d, 5> beside;
        constexpr double kStep = 1e-6;
        for (int k = 0; k < 5; ++k) {
            Eigen::Matrix<double, 5, 1> step = Eigen::Matrix<double, 5, 1>::Zero();
            step[k] = kStep;
            beside[std::size_t(k)] = essentialOf(moved(pose, step));
        }
        Eigen::Matrix<double, 5, 5> normal = Eigen::Matrix<double, 5, 5>::Zero();
        Eigen::Matrix<double, 5, 1> right = Eigen::Matrix<double, 5, 1>::Zero();
        for (const PlanePair& pair : pairs) {
            const double distance = signedDistance(here, pair);
            Eigen::Matrix<double, 5, 1> slope;
            for (int k = 0; k < 5; ++k) slope[k] = (signedDistance(beside[std::size_t(k)], pair) - distance) / kStep;
            const double weight = 1 / std::pow(1 + distance * distance / (width * width), 2);
            normal += weight * slope * slope.transpose();
            right -= weight * distance * slope;
        }
        normal.diagonal() *= 1 + 1e-4;
        const Eigen::Matrix<double, 5, 1> step = solvedSymmetric(normal, right);
        if (!step.allFinite()) break;
        const Pose next = moved(pose, step);
        if (robustCost(essentialOf(next), pairs, 9 * width * width) > robustCost(here, pairs, 9 * width * width)) break;
        pose = next;
    }
    return pose;
}

}  // namespace

Expected<std::vector<RelativePose>> relativePoses(std::span<const PlanePair> pairs, const RelativePoseOptions& options,
                                                  std::size_t most) {
    if (pairs.size() < 8)
        return failure(Fault::outcome, "only {} tracks are seen by both frames of the base pair; 8 are needed",
                       pairs.size());
    std::mt19937 random(12345);  // the same tracks give the same solve
    std::uniform_int_distribution<std::size_t> pick(0, pairs.size() - 1);
    const double limit = options.inlierDistance * options.inlierDistance;
    struct Found {
        double cost;
        Matrix3d essential;
    };
    std::vector<Found> found;
    double bestCost = 1e300;
    int rounds = options.rounds;
    for (int round = 0; round < rounds; ++round) {
        std::array<std::size_t, 5> indices{};
        for (std::size_t k = 0; k < 5;) {
            indices[k] = pick(random);
            if (std::find(indices.begin(), indices.begin() + std::ptrdiff_t(k), indices[k]) ==
                indices.begin() + std::ptrdiff_t(k))
                ++k;
        }
        std::array<PlanePair, 5> minimal;
        for (std::size_t k = 0; k < 5; ++k) minimal[k] = pairs[indices[k]];
        for (const Matrix3d& essential : essentialFromFive(minimal)) {
            const double ceiling = most > 1 ? 1.5 * bestCost : bestCost;
            const double cost = robustCost(essential, pairs, limit, ceiling);
            if (cost >= ceiling) continue;
            found.push_back({cost, essential});
            if (cost >= bestCost) continue;
            bestCost = cost;
            const auto inliers = std::count_if(pairs.begin(), pairs.end(), [&](const PlanePair& pair) {
                return sampsonSquared(essential, pair) < limit;
            });
            const double share = double(inliers) / double(pairs.size());
            const double needed = std::log(1e-4) / std::log(1 - std::pow(share, 5) + 1e-12);
            rounds = std::min(options.rounds, std::max(most > 1 ? 60 : 30, int(std::ceil(needed))));
        }
    }
    if (found.empty()) return failure(Fault::outcome, "the base pair has no common motion");
    std::sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.cost < b.cost; });
    std::vector<std::pair<double, RelativePose>> distinct;
    int mostInFront = 0;
    for (std::size_t k = 0, tried = 0; k < found.size() && tried < 4 * most && distinct.size() < most + 1; ++k) {
        if (found[k].cost > 1.5 * bestCost) break;
        const auto four = posesOf(found[k].essential);
        RelativePose best;
        best.inlierCount = -1;
        for (const Pose& pose : four) {
            RelativePose own = withInliers(pose, pairs, limit);
            if (own.inlierCount > best.inlierCount) best = std::move(own);
        }
        ++tried;
        const Pose pose = refined(best.second, pairs, 0.5 * options.inlierDistance);
        const auto same = [&](const auto& other) {
            return other.second.second.rotation.angularDistance(pose.rotation) < 0.01 &&
                   other.second.second.translation.dot(pose.translation) > 0.97;
        };
        if (std::any_of(distinct.begin(), distinct.end(), same)) continue;
        RelativePose own = withInliers(pose, pairs, limit);
        mostInFront = std::max(mostInFront, own.inlierCount);
        distinct.emplace_back(robustCost(essentialOf(pose), pairs, limit), std::move(own));
    }
    std::sort(distinct.begin(), distinct.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<RelativePose> results;
    for (auto& [cost, pose] : distinct)
        if (results.size() < most && pose.inlierCount >= 8 && 2 * pose.inlierCount > mostInFront)
            results.push_back(std::move(pose));
    if (results.empty())
        return failure(Fault::outcome, "only {} tracks agree on a motion of the base pair", mostInFront);
    return results;
}

Expected<RelativePose> relativePose(std::span<const PlanePair> pairs, const RelativePoseOptions& options) {
    auto all = relativePoses(pairs, options, 1);
    if (!all) return tl::unexpected(all.error());
    return std::move(all->front());
}

std::optional<Vector3d> triangulate(std::span<const Ray> rays) {
    // Each ray gives two planes through the point; weighted by the depth of the round before, their distances become
    // image distances.
    Vector3d point = Vector3d::Zero();
    std::vector<double> weights(rays.size(), 1.0);
    for (int round = 0; round < 3; ++round) {
        Matrix3d normal = Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (std::size_t i = 0; i < rays.size(); ++i) {
            const Matrix3d rotation = rays[i].pose.rotation.toRotationMatrix();
            const Vector3d& t = rays[i].pose.translation;
            for (int axis = 0; axis < 2; ++axis) {
                const Vector3d row =
                    (rotation.row(axis) - rays[i].plane[axis] * rotation.row(2)).transpose() * weights[i];
                const double value = (rays[i].plane[axis] * t.z() - t[axis]) * weights[i];
                normal += row * row.transpose();
                right += row * value;
            }
        }
        point = solvedSymmetric(normal, right);
        if (!point.allFinite()) return std::nullopt;
        for (std::size_t i = 0; i < rays.size(); ++i) {
            const double depth = rays[i].pose.cameraFromWorld(point).z();
            if (depth <= 1e-6) {
                if (round == 2) return std::nullopt;
                weights[i] = 1.0;
            } else {
                weights[i] = 1.0 / depth;
            }
        }
    }
    for (const Ray& ray : rays)
        if (ray.pose.cameraFromWorld(point).z() <= 1e-6) return std::nullopt;
    return point;
}

double triangulationAngle(std::span<const Ray> rays, const Vector3d& point) {
    double largest = 0;
    // Against the first and the middle ray: enough to know the widest within a factor, in linear time.
    for (const std::size_t anchor : {std::size_t(0), rays.size() / 2}) {
        const Vector3d to = (point - rays[anchor].pose.centre()).normalized();
        for (const Ray& ray : rays) {
            const double cosine = std::clamp(to.dot((point - ray.pose.centre()).normalized()), -1.0, 1.0);
            largest = std::max(largest, std::acos(cosine));
        }
    }
    return largest;
}

}  // namespace pinion
