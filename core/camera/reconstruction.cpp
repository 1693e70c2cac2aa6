#include "camera/reconstruction.h"

#include "base/median.h"
#include "base/parallel.h"
#include "base/units.h"
#include "camera/relativepose.h"
#include "camera/resect.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace pinion::solving {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

constexpr double kNear = 5;           // times nearer than the median point: worth a second look
constexpr double kNearest = 50;       // nearer than that is not believed
constexpr double kDepthShown = 6;     // rise of the log-likelihood that shows a depth

/// One sighting of a point that is being placed.
struct View {
    Matrix3d rotation;
    Vector3d translation;
    Vector2d plane, plate;
    Lens lens;
};

/// The homogeneous point nearest to all rays in the image's terms: the smallest singular vector, depths from the round before as
/// weights (Hartley and Sturm 1997).
std::optional<Vector4d> linearPlace(const std::vector<View>& views) {
    std::vector<double> weights(views.size(), 1.0);
    Vector4d point;
    for (int round = 0; round < 2; ++round) {
        Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
        for (std::size_t i = 0; i < views.size(); ++i)
            for (int axis = 0; axis < 2; ++axis) {
                Vector4d row;
                row << (views[i].rotation.row(axis) - views[i].plane[axis] * views[i].rotation.row(2)).transpose(),
                    views[i].translation[axis] - views[i].plane[axis] * views[i].translation.z();
                row *= weights[i];
                normal += row * row.transpose();
            }
        const Eigen::SelfAdjointEigenSolver<Eigen::Matrix4d> solver(normal);
        point = solver.eigenvectors().col(0);
        int front = 0;
        for (std::size_t i = 0; i < views.size(); ++i) {
            const double depth = (views[i].rotation.row(2) * point.head<3>())[0] + views[i].translation.z() * point[3];
            front += depth > 0 ? 1 : -1;
            weights[i] = 1 / std::max(1e-3, std::abs(depth));
        }
        if (front < 0) point = -point;
        if (std::abs(front) < int(views.size())) {
            if (round == 1) return std::nullopt;
            weights.assign(views.size(), 1.0);
        }
    }
    return point;
}

double costOfPlace(const Vector4d& at, const std::vector<View>& views, double width) {
    double cost = 0;
    for (const View& view : views) {
        const Projection p = project(view.lens, view.rotation, view.translation, at, false);
        cost += std::log1p((p.inFront ? (p.plate - view.plate).squaredNorm() : 1e6) / (width * width));
    }
    return cost;
}

/// Robust Gauss-Newton on the plate.
Vector4d refinedPlace(Vector4d point, const std::vector<View>& views, double width, int rounds) {
    double cost = costOfPlace(point, views, width), damping = 1e-6;
    for (int round = 0; round < rounds; ++round) {
        const auto tangent = tangentOf(point);
        Matrix3d normal = Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (const View& view : views) {
            const Projection p = project(view.lens, view.rotation, view.translation, point, true);
            if (!p.inFront) continue;
            const Vector2d residual = p.plate - view.plate;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            const Eigen::Matrix<double, 2, 3> slope = p.byPoint * tangent;
            normal.noalias() += weight * slope.transpose() * slope;
            right.noalias() -= weight * slope.transpose() * residual;
        }
        normal.diagonal() *= 1 + damping;
        normal.diagonal().array() += 1e-10 * normal.trace() + 1e-300;
        // A depth that nothing shows stays where it is instead of running off.
        const Vector3d depth = 0.1 * width * tangent.row(3).transpose();
        normal += depth * depth.transpose();
        const Vector4d moved = (point + tangent * normal.ldlt().solve(right)).normalized();
        if (!moved.allFinite()) break;
        const double movedCost = costOfPlace(moved, views, width);
        if (movedCost >= cost) {
            damping = std::max(1e-3, damping * 30);
            if (damping > 1e3) break;
            continue;
        }
        const bool settled = cost - movedCost < 1e-6 * cost;
        point = moved;
        cost = movedCost;
        damping *= 0.1;
        if (settled) break;
    }
    return point;
}

/// The same for a point that stays at infinity.
Vector4d refinedDirection(const Vector4d& first, const std::vector<View>& views, double width) {
    Vector3d direction = first.head<3>().normalized();
    for (int round = 0; round < 6; ++round) {
        Eigen::Matrix<double, 3, 2> tangent;
        tangent.col(0) = direction.unitOrthogonal();
        tangent.col(1) = direction.cross(tangent.col(0)).normalized();
        Eigen::Matrix2d normal = Eigen::Matrix2d::Zero();
        Vector2d right = Vector2d::Zero();
        for (const View& view : views) {
            const Projection p = project(view.lens, view.rotation, view.translation, Vector4d(direction.x(), direction.y(), direction.z(), 0), true);
            if (!p.inFront) continue;
            const Vector2d residual = p.plate - view.plate;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            const Eigen::Matrix2d slope = p.byPoint.leftCols<3>() * tangent;
            normal += weight * slope.transpose() * slope;
            right -= weight * slope.transpose() * residual;
        }
        normal.diagonal().array() += 1e-12 * normal.trace() + 1e-300;
        const Vector2d moved = normal.ldlt().solve(right);
        if (!moved.allFinite()) break;
        direction = (direction + tangent * moved).normalized();
        if (moved.norm() < 1e-9) break;
    }
    return {direction.x(), direction.y(), direction.z(), 0};
}

/// Whether a point lies close to one of the cameras. What is seen only while the camera turns may be put anywhere, in the camera's
/// very place as well: there it projects anywhere, and it would nail every later camera to that place.
bool isNear(const Vector4d& point, const std::vector<View>& views, double times) {
    return std::any_of(views.begin(), views.end(), [&](const View& view) {
        return std::abs(point[3]) > times * std::abs(view.rotation.row(2).dot(point.head<3>()) + view.translation.z() * point[3]);
    });
}

/// A sighting of a placed point by the frame that is being placed.
struct Sight {
    Vector4d point;
    Vector2d plate;
};

/// Robust Gauss-Newton of one pose, and of the focal length when given.
void refinePose(Pose& pose, double* focal_px, Lens lens, double k1Slope, double lensFocal, const std::vector<Sight>& sights, double width, int rounds, bool turnsOnly) {
    const int count = (turnsOnly ? 3 : 6) + (focal_px ? 1 : 0);
    for (int round = 0; round < rounds; ++round) {
        Eigen::Matrix<double, 7, 7> normal = Eigen::Matrix<double, 7, 7>::Zero();
        Eigen::Matrix<double, 7, 1> right = Eigen::Matrix<double, 7, 1>::Zero();
        const Matrix3d rotation = pose.rotation.toRotationMatrix();
        const Lens own = focal_px ? zoomed(lens, k1Slope, *focal_px) : lens;
        const double logZoom = focal_px ? std::log(*focal_px / lensFocal) : 0;
        for (const Sight& sight : sights) {
            const Projection p = project(own, rotation, pose.translation, sight.point, true, logZoom, k1Slope);
            if (!p.inFront) continue;
            const Vector2d residual = p.plate - sight.plate;
            const double weight = 1 / (1 + residual.squaredNorm() / (width * width));
            Eigen::Matrix<double, 2, 7> slope = Eigen::Matrix<double, 2, 7>::Zero();
            if (turnsOnly) slope.leftCols<3>() = p.byCamera.leftCols<3>();
            else slope.leftCols<6>() = p.byCamera;
            if (focal_px) slope.col(count - 1) = p.byLens.col(int(LensTerm::focal));
            normal.noalias() += weight * slope.transpose() * slope;
            right.noalias() -= weight * slope.transpose() * residual;
        }
        Eigen::MatrixXd part = normal.topLeftCorner(count, count);
        part.diagonal() *= 1 + 1e-6;
        part.diagonal().array() += 1e-9 * part.trace() / count + 1e-300;
        const Eigen::VectorXd step = part.ldlt().solve(right.head(count));
        if (!step.allFinite()) return;
        const Vector3d turn = step.head<3>();
        const double angle = turn.norm();
        if (angle > 1e-14) pose.rotation = (Eigen::Quaterniond(Eigen::AngleAxisd(std::min(angle, 0.5), turn / angle)) * pose.rotation).normalized();
        if (!turnsOnly) pose.translation += step.segment<3>(3);
        if (focal_px) *focal_px = std::clamp(*focal_px + step[count - 1], 0.7 * *focal_px, 1.4 * *focal_px);
        if (angle < 1e-7 && (turnsOnly || step.segment<3>(3).norm() < 1e-7)) return;
    }
}

int agreeing(const Pose& pose, const Lens& lens, const std::vector<Sight>& sights, double limit) {
    int count = 0;
    const Matrix3d rotation = pose.rotation.toRotationMatrix();
    for (const Sight& sight : sights) {
        const Projection p = project(lens, rotation, pose.translation, sight.point, false);
        count += p.inFront && (p.plate - sight.plate).squaredNorm() < limit * limit;
    }
    return count;
}

}  // namespace

Reconstruction::Reconstruction(const Material& material, const SolveOptions& options, const Lens& first, bool zoom)
    : material_(&material), options_(&options), lens_(first), poses_(material.frames.size()), points_(material.trails.size()),
      stretches_(material.trails.size(), {0, std::numeric_limits<int>::max()}), trusts_(material.trails.size(), 1.0), dropped_(material.trails.size(), 0), doubted_(material.trails.size(), 0), axisTrust_(options.axisTrust * options.width) {
    if (zoom) becomeZoom();
}

void Reconstruction::becomeZoom() {
    if (!isZoom()) focals_.assign(poses_.size(), lens_.focal_px);
}

std::pair<int, int> Reconstruction::stretch(std::size_t trail) const {
    return {stretches_[trail].first, std::min(stretches_[trail].second, int(material_->trails[trail].seen.size()) - 1)};
}

void Reconstruction::takeOnly(const std::vector<int>& trails) {
    ignored_.assign(points_.size(), 1);
    for (const int trail : trails) ignored_[std::size_t(trail)] = 0;
}

void Reconstruction::start(int a, int b, const RelativePose& relative, const std::vector<int>& trails, const std::vector<PlanePair>& pairs) {
    poses_[std::size_t(a)] = Pose{};
    poses_[std::size_t(b)] = relative.second;
    for (std::size_t i = 0; i < pairs.size(); ++i) {
        if (!relative.inliers[i] || (!ignored_.empty() && ignored_[std::size_t(trails[i])])) continue;
        const std::array<Ray, 2> rays{Ray{Pose{}, pairs[i].first}, Ray{relative.second, pairs[i].second}};
        if (const auto point = triangulate(rays)) points_[std::size_t(trails[i])] = point->homogeneous().normalized();
    }
}

bool Reconstruction::place(int frame, double tolerance_px) {
    double focal = focalGuessFor(frame);
    const auto pose = resected(frame, tolerance_px, isZoom() ? &focal : nullptr);
    if (!pose) return false;
    poses_[std::size_t(frame)] = *pose;
    if (isZoom()) focals_[std::size_t(frame)] = focal;
    return true;
}

int Reconstruction::placeAll(const std::vector<int>& frames, double tolerance_px) {
    std::vector<std::optional<Pose>> found(frames.size());
    std::vector<double> focals(frames.size(), lens_.focal_px);
    parallelFor(frames.size(), [&](std::size_t i) {
        focals[i] = focalGuessFor(frames[i]);
        found[i] = resected(frames[i], tolerance_px, isZoom() ? &focals[i] : nullptr);
    }, 2);
    int count = 0;
    for (std::size_t i = 0; i < frames.size(); ++i)
        if (found[i]) {
            poses_[std::size_t(frames[i])] = found[i];
            if (isZoom()) focals_[std::size_t(frames[i])] = focals[i];
            ++count;
        }
    return count;
}

int Reconstruction::sightingsOf(int frame) const {
    int count = 0;
    for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) count += points_[std::size_t(trail)].has_value();
    return count;
}

std::optional<Vector4d> Reconstruction::bestPlace(const Trail& trail, double width_px, std::size_t from, std::size_t step, std::size_t until) const {
    if (turnsOnly_) {
        // The mean direction; every sighting gives one.
        Vector3d sum = Vector3d::Zero();
        int count = 0;
        for (std::size_t i = from; i < std::min(trail.seen.size(), until); i += step) {
            const Seen& one = trail.seen[i];
            if (!poses_[std::size_t(one.frame)]) continue;
            if (const auto plane = planeFromPlate(lensOf(one.frame), one.plate)) {
                sum += poses_[std::size_t(one.frame)]->rotation.conjugate() * plane->homogeneous().normalized();
                ++count;
            }
        }
        if (count < 1 || sum.norm() < 0.5 * count) return std::nullopt;
        Vector4d direction;
        direction << sum.normalized(), 0;
        return direction;
    }
    std::vector<View> views;
    std::size_t placed = 0;
    for (std::size_t i = from; i < std::min(trail.seen.size(), until); i += step) placed += poses_[std::size_t(trail.seen[i].frame)].has_value();
    if (placed < 2) return std::nullopt;
    // Every ray costs; two dozen over the whole length place a point as well as a hundred.
    const std::size_t stride = width_px > 0 ? 1 : std::max<std::size_t>(1, placed / 16);
    std::size_t k = 0;
    for (std::size_t i = from; i < std::min(trail.seen.size(), until); i += step) {
        const Seen& one = trail.seen[i];
        const auto& pose = poses_[std::size_t(one.frame)];
        if (!pose || k++ % stride != 0) continue;
        const Lens lens = lensOf(one.frame);
        if (const auto plane = planeFromPlate(lens, one.plate)) views.push_back({pose->rotation.toRotationMatrix(), pose->translation, *plane, one.plate, lens});
    }
    if (views.size() < 2) return std::nullopt;
    const double width = width_px > 0 ? width_px : 2.0 * material_->scale();
    // Rays that hardly converge may cross behind by their noise, and of a camera that stands still the camera itself would be an
    // answer: then the mean direction is the better start.
    Vector3d sum = Vector3d::Zero();
    for (const View& view : views) sum += view.rotation.transpose() * view.plane.homogeneous().normalized();
    Vector4d point;
    point << sum.normalized(), 0;
    const Vector4d start = point;
    if (const auto linear = linearPlace(views); linear && costOfPlace(*linear, views, width) < costOfPlace(point, views, width)) point = *linear;
    point = refinedPlace(point, views, width, width_px > 0 ? 8 : 3);
    if (!isNear(point, views, kNear)) return point;
    // In the log-likelihood, the width being three times the noise.
    const Vector4d far = refinedDirection(start, views, width);
    if (4.5 * (costOfPlace(far, views, width) - costOfPlace(point, views, width)) < kDepthShown) return far;
    if (isNear(point, views, kNearest)) return std::nullopt;
    return point;
}

Vector4d Reconstruction::bestDirection(const Trail& trail, const Vector4d& first, double width_px, std::size_t step) const {
    std::vector<View> views;
    for (std::size_t i = 0; i < trail.seen.size(); i += step) {
        const Seen& seen = trail.seen[i];
        if (const auto& pose = poses_[std::size_t(seen.frame)])
            views.push_back({pose->rotation.toRotationMatrix(), pose->translation, Vector2d::Zero(), seen.plate, lensOf(seen.frame)});
    }
    return refinedDirection(first, views, width_px);
}

void Reconstruction::triangulateAll(double tolerance_px, bool again) {
    parallelFor(material_->trails.size(), [&](std::size_t t) {
        const Trail& trail = material_->trails[t];
        if (trail.heldOut || dropped_[t] || (points_[t] && !again) || (!ignored_.empty() && ignored_[t])) return;
        const auto [from, to] = stretch(t);
        auto found = bestPlace(trail, 0, std::size_t(from), 1, std::size_t(to) + 1);
        if (found) {
            std::vector<double> errors;
            for (const auto& [i, error] : errorsOf(trail, *found))
                if (i >= from && i <= to) errors.push_back(error.norm());
            if (errors.size() < 2 || median(errors) > tolerance_px) found.reset();
        }
        // A point that was adjusted stays when the quick way does not find it again.
        if (found || !points_[t]) points_[t] = found;
        else {
            std::vector<double> errors;
            for (const auto& [i, error] : errorsOf(trail, *points_[t])) errors.push_back(error.norm());
            if (errors.size() < 2 || median(errors) > tolerance_px) points_[t].reset();
        }
    }, 8);
}

BundleOptions Reconstruction::bundleOptions(const LensTerms& free, double width_px, int rounds, double settled) const {
    BundleOptions result;
    result.free = free;
    result.freePlaces = !turnsOnly_;
    result.robustWidth_px = width_px;
    result.noise_px = std::clamp(width_px / 3, 0.03 * material_->scale(), 2.0 * material_->scale());
    result.rounds = rounds;
    result.settled = settled;
    result.step = 0.05;
    const double half = 0.5 * material_->width / lens_.focal_px;
    // Lenses bend the side of the frame by some per cent; more than that is a fit to something else.
    if (free.has(LensTerm::k1)) result.priors.push_back({LensTerm::k1, 0.0, 0.12 / (half * half)});
    if (free.has(LensTerm::k2)) result.priors.push_back({LensTerm::k2, 0.0, 0.05 / std::pow(half, 4)});
    if (free.has(LensTerm::k3)) result.priors.push_back({LensTerm::k3, 0.0, 0.03 / std::pow(half, 6)});
    if (free.has(LensTerm::p1)) result.priors.push_back({LensTerm::p1, 0.0, 0.01 / half});
    if (free.has(LensTerm::p2)) result.priors.push_back({LensTerm::p2, 0.0, 0.01 / half});
    if (free.has(LensTerm::k1Slope)) result.priors.push_back({LensTerm::k1Slope, 0.0, 0.1 / (half * half)});
    if (options_->axis == SolveOptions::Axis::automatic) {
        result.priors.push_back({LensTerm::cx, expectedAxis().x(), axisTrust_});
        result.priors.push_back({LensTerm::cy, expectedAxis().y(), axisTrust_});
    }
    if (options_->focal == Knowledge::unknown) {
        // Lenses are chosen around normal ones: a factor of two more or less. It decides only where the tracks decide nothing.
        const double own = lens_.focal_px, trust = 0.8 * own;
        result.priors.push_back({LensTerm::focal, own - own * std::log(own / (35.0 / 36.0 * material_->width)), trust});
    }
    if (options_->focal == Knowledge::guessed)
        result.priors.push_back({LensTerm::focal, focalPixels(options_->focal_mm, options_->sensorWidth_mm, material_->width),
                                 focalPixels(options_->focalTrust_mm, options_->sensorWidth_mm, material_->width)});
    return result;
}

Vector2d Reconstruction::expectedAxis() const {
    return options_->lens ? Vector2d(options_->lens->cx, options_->lens->cy) : Vector2d(material_->width / 2.0, material_->height / 2.0);
}

bool Reconstruction::axisStrains() const {
    return options_->axis == SolveOptions::Axis::automatic && (Vector2d(lens_.cx, lens_.cy) - expectedAxis()).norm() > 2.5 * axisTrust_;
}

bool Reconstruction::adjust(const LensTerms& free, double width_px, int rounds, const Progress& progress, double settled,
                            const std::function<void(const Bundle&)>& watch) {
    recentre();
    std::vector<int> cameraOf, pointOf;
    Bundle bundle = assemble(&cameraOf, &pointOf);
    BundleOptions own = bundleOptions(free, width_px, rounds, settled);
    own.watch = watch;
    if (settled == 0) own.damping = 1e-7;
    const bool finished = pinion::adjust(bundle, own, progress);
    take(bundle, cameraOf, pointOf);
    // Nothing holds the size of the world; what is near is told against it.
    recentre();
    if (!turnsOnly_)
        for (std::size_t i = 0; i < points_.size(); ++i) {
            if (!points_[i]) continue;
            const auto& seen = material_->trails[i].seen;
            const auto isNearTo = [&](const Seen& one) {
                const auto& pose = poses_[std::size_t(one.frame)];
                return pose && std::abs((*points_[i])[3]) > kNear * std::abs((pose->rotation * points_[i]->head<3>() + pose->translation * (*points_[i])[3]).z());
            };
            if (std::any_of(seen.begin(), seen.end(), isNearTo)) {
                const auto [from, to] = stretch(i);
                points_[i] = bestPlace(material_->trails[i], width_px, std::size_t(from), 1, std::size_t(to) + 1);
            }
        }
    return finished;
}

void Reconstruction::take(const Bundle& bundle, const std::vector<int>& cameraOf, const std::vector<int>& pointOf) {
    lens_ = bundle.lens;
    k1Slope_ = bundle.k1Slope;
    for (std::size_t i = 0; i < poses_.size(); ++i)
        if (cameraOf[i] >= 0) {
            poses_[i] = bundle.cameras[std::size_t(cameraOf[i])];
            if (isZoom()) focals_[i] = bundle.focals[std::size_t(cameraOf[i])];
        }
    for (std::size_t i = 0; i < points_.size(); ++i)
        if (pointOf[i] >= 0) points_[i] = bundle.points[std::size_t(pointOf[i])];
}

Bundle Reconstruction::assemble(std::vector<int>* cameras, std::vector<int>* points) const {
    std::vector<int> cameraOf(poses_.size(), -1), pointOf(points_.size(), -1);
    Bundle bundle;
    bundle.lens = lens_;
    bundle.k1Slope = k1Slope_;
    for (std::size_t i = 0; i < poses_.size(); ++i)
        if (poses_[i]) {
            cameraOf[i] = int(bundle.cameras.size());
            bundle.cameras.push_back(*poses_[i]);
            bundle.times.push_back(material_->frames[i]);
            if (isZoom()) bundle.focals.push_back(focals_[i]);
        }
    for (std::size_t t = 0; t < points_.size(); ++t) {
        if (!points_[t]) continue;
        const Trail& trail = material_->trails[t];
        pointOf[t] = int(bundle.points.size());
        bundle.points.push_back(*points_[t]);
        const auto [from, to] = stretch(t);
        for (int i = from; i <= to; ++i) {
            const Seen& seen = trail.seen[std::size_t(i)];
            if (cameraOf[std::size_t(seen.frame)] >= 0) bundle.observations.push_back({cameraOf[std::size_t(seen.frame)], pointOf[t], seen.plate, trail.weight * trusts_[t]});
        }
    }
    if (cameras) *cameras = std::move(cameraOf);
    if (points) *points = std::move(pointOf);
    return bundle;
}

double Reconstruction::errorAt(const Seen& seen, const Vector4d& point) const {
    const auto& pose = poses_[std::size_t(seen.frame)];
    if (!pose) return std::numeric_limits<double>::infinity();
    const Projection p = project(lensOf(seen.frame), pose->rotation.toRotationMatrix(), pose->translation, point, false);
    return p.inFront ? (p.plate - seen.plate).norm() : std::numeric_limits<double>::infinity();
}

std::vector<std::pair<int, Vector2d>> Reconstruction::errorsOf(const Trail& trail, const Vector4d& point) const {
    std::vector<std::pair<int, Vector2d>> errors;
    for (std::size_t i = 0; i < trail.seen.size(); ++i) {
        const Seen& seen = trail.seen[i];
        const auto& pose = poses_[std::size_t(seen.frame)];
        if (!pose) continue;
        const Projection p = project(lensOf(seen.frame), pose->rotation.toRotationMatrix(), pose->translation, point, false);
        errors.emplace_back(int(i), p.inFront ? Vector2d(p.plate - seen.plate) : Vector2d(1e4, 1e4));
    }
    return errors;
}

double Reconstruction::noise() const {
    std::vector<double> errors;
    for (std::size_t t = 0; t < points_.size(); ++t)
        if (points_[t]) {
            const auto [from, to] = stretch(t);
            for (int i = from; i <= to; ++i) {
                const Seen& seen = material_->trails[t].seen[std::size_t(i)];
                if (poses_[std::size_t(seen.frame)]) errors.push_back(errorAt(seen, *points_[t]));
            }
        }
    if (errors.empty()) return 1e6;
    // The median of the length of a plane Gaussian vector is 1.1774 of its deviation on one axis.
    return median(errors) / 1.1774;
}

double Reconstruction::badness(const std::vector<int>& frames, double noise_px) const {
    const double scale = 9 * noise_px * noise_px;
    double sum = 0, count = 0;
    for (const int frame : frames)
        for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) {
            if (!ignored_.empty() && ignored_[std::size_t(trail)]) continue;
            ++count;
            const auto& point = points_[std::size_t(trail)];
            if (!point || !poses_[std::size_t(frame)]) {
                ++sum;
                continue;
            }
            const double error = errorAt({frame, place}, *point);
            sum += std::isfinite(error) ? error * error / (error * error + scale) : 1.0;
        }
    return count > 0 ? sum / count : 1.0;
}

int Reconstruction::placedFrames() const { return int(std::count_if(poses_.begin(), poses_.end(), [](const auto& p) { return p.has_value(); })); }
int Reconstruction::placedPoints() const { return int(std::count_if(points_.begin(), points_.end(), [](const auto& p) { return p.has_value(); })); }

void Reconstruction::recentre() {
    if (turnsOnly_) return;
    Vector3d middle = Vector3d::Zero();
    int count = 0;
    for (const auto& pose : poses_)
        if (pose) {
            middle += pose->centre();
            ++count;
        }
    if (count == 0) return;
    middle /= count;
    std::vector<double> distances;
    for (const auto& point : points_)
        if (point) distances.push_back(std::abs((*point)[3]) > 1e-6 ? (point->head<3>() / (*point)[3] - middle).norm() : 1e6);
    if (distances.empty()) return;
    // All places and all nearnesses with the other sign project alike: in front is where most points are.
    double side = 0;
    for (const auto& point : points_)
        if (point) side += (*point)[3];
    const double sign = side < 0 ? -1 : 1;
    const double scale = sign / std::clamp(median(distances), 1e-9, 1e9);
    for (auto& pose : poses_)
        if (pose) pose->translation = scale * (pose->translation + pose->rotation * middle);
    for (auto& point : points_)
        if (point) {
            Vector4d moved;
            moved << scale * sign * (point->head<3>() - (*point)[3] * middle), sign * (*point)[3];
            point = moved.normalized();
        }
}

void Reconstruction::deepen(double ratio) {
    std::vector<int> placed;
    for (std::size_t f = 0; f < poses_.size(); ++f)
        if (poses_[f]) placed.push_back(int(f));
    if (placed.empty()) return;
    const Vector3d axis = poses_[std::size_t(placed[placed.size() / 2])]->rotation.conjugate() * Vector3d::UnitZ();
    const auto along = [&](const Vector3d& v) -> Vector3d { return v + (ratio - 1) * axis.dot(v) * axis; };
    for (auto& pose : poses_)
        if (pose) pose->translation = -(pose->rotation * along(pose->centre()));
    for (auto& point : points_)
        if (point) {
            Vector4d moved;
            moved << along(point->head<3>()), (*point)[3];
            point = moved.normalized();
        }
}

Reconstruction Reconstruction::mirrored(int frame, double tolerance_px) const {
    Reconstruction twin = *this;
    const Pose& pose = *poses_[std::size_t(frame)];
    std::vector<double> nearness;
    const auto inverseDepth = [&](const Vector4d& point) {
        const Vector3d seen = pose.rotation * point.head<3>() + pose.translation * point[3];
        return point[3] / std::max(1e-9, seen.z());
    };
    for (const auto& point : points_)
        if (point) nearness.push_back(inverseDepth(*point));
    if (nearness.empty()) return twin;
    const double middle = median(nearness);
    std::vector<int> frames;
    for (std::size_t f = 0; f < poses_.size(); ++f)
        if (poses_[f]) frames.push_back(int(f));
    for (auto& point : twin.points_)
        if (point) {
            const Vector3d seen = pose.rotation * point->head<3>() + pose.translation * (*point)[3];
            const double inverse = std::max(0.02 * middle, 2 * middle - inverseDepth(*point));
            const Vector3d ray = seen / std::max(1e-9, seen.z());
            Vector4d moved;
            moved << pose.rotation.conjugate() * (ray - pose.translation * inverse), inverse;
            point = moved.normalized();
        }
    for (const int other : frames)
        if (other != frame) twin.poses_[std::size_t(other)].reset();
    // Near the mirror frame first: each starts from its neighbour.
    std::sort(frames.begin(), frames.end(), [&](int a, int b) { return std::abs(a - frame) < std::abs(b - frame); });
    for (const int other : frames)
        if (other != frame) twin.place(other, tolerance_px);
    return twin;
}

double Reconstruction::medianAngleDegrees() const {
    std::vector<double> angles;
    for (std::size_t t = 0; t < points_.size(); ++t) {
        if (!points_[t]) continue;
        if ((*points_[t])[3] < 1e-7) {
            angles.push_back(0);
            continue;
        }
        std::vector<Ray> rays;
        for (const Seen& seen : material_->trails[t].seen)
            if (poses_[std::size_t(seen.frame)]) rays.push_back({*poses_[std::size_t(seen.frame)], {0, 0}});
        if (rays.size() >= 2) angles.push_back(triangulationAngle(rays, points_[t]->head<3>() / (*points_[t])[3]));
    }
    return angles.empty() ? 0.0 : degrees(median(angles));
}

std::optional<Pose> Reconstruction::resected(int frame, double tolerance_px, double* focal_px) const {
    std::vector<Sight> sights;
    for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)])
        if (points_[std::size_t(trail)]) sights.push_back({*points_[std::size_t(trail)], place});
    const int fewest = std::max(6, options_->fewestTracks);
    if (int(sights.size()) < fewest) return std::nullopt;
    const double lensFocal = lens_.focal_px;
    const auto finished = [&](Pose pose, double focal) -> std::pair<int, Pose> {
        double own = focal;
        refinePose(pose, focal_px ? &own : nullptr, lens_, k1Slope_, lensFocal, sights, tolerance_px, 10, turnsOnly_);
        refinePose(pose, focal_px ? &own : nullptr, lens_, k1Slope_, lensFocal, sights, std::max(0.5 * material_->scale(), 0.25 * tolerance_px), 8, turnsOnly_);
        if (focal_px) *focal_px = own;
        return {agreeing(pose, focal_px ? zoomed(lens_, k1Slope_, own) : lens_, sights, tolerance_px), pose};
    };
    std::pair<int, Pose> best{0, Pose{}};
    double bestFocal = focal_px ? *focal_px : 0;
    const auto tryFrom = [&](Pose pose) {
        double own = focal_px ? *focal_px : 0;
        // Wide first: a neighbour's pose may be many pixels off.
        refinePose(pose, nullptr, focal_px ? zoomed(lens_, k1Slope_, own) : lens_, k1Slope_, lensFocal, sights, 12 * tolerance_px, 8, turnsOnly_);
        if (focal_px) refinePose(pose, &own, lens_, k1Slope_, lensFocal, sights, 6 * tolerance_px, 8, turnsOnly_);
        double found = own;
        const double before = focal_px ? *focal_px : 0;
        const auto result = finished(pose, own);
        if (focal_px) {
            found = *focal_px;
            *focal_px = before;
        }
        if (result.first > best.first) {
            best = result;
            bestFocal = found;
        }
    };
    if (const auto walked = walkedTo(frame, tolerance_px)) tryFrom(*walked);
    else if (const auto guess = guessFor(frame)) tryFrom(*guess);
    if (best.first < 0.6 * double(sights.size()) && !turnsOnly_) {
        std::vector<Sighting> finite;
        const Lens lens = focal_px ? zoomed(lens_, k1Slope_, focalGuessFor(frame)) : lens_;
        for (const Sight& sight : sights)
            if (sight.point[3] > 1e-5)
                if (const auto plane = planeFromPlate(lens, sight.plate)) finite.push_back({sight.point.head<3>() / sight.point[3], *plane});
        if (const auto pose = resect(finite, lens.focal_px, {.inlier_px = tolerance_px, .fewest = fewest})) {
            const auto other = finished(*pose, lens.focal_px);
            if (other.first > best.first) {
                best = other;
                if (focal_px) bestFocal = *focal_px;
            }
        }
    }
    if (focal_px) *focal_px = bestFocal;
    if (best.first < fewest || best.first < 0.35 * double(sights.size())) return std::nullopt;
    return best.second;
}

std::optional<Pose> Reconstruction::walkedTo(int frame, double tolerance_px) const {
    if (turnsOnly_ || isZoom()) return std::nullopt;
    int before = frame - 1, after = frame + 1;
    while (before >= 0 && !poses_[std::size_t(before)]) --before;
    while (after < int(poses_.size()) && !poses_[std::size_t(after)]) ++after;
    if (before >= 0 && after < int(poses_.size())) return std::nullopt;
    const int from = before >= 0 ? before : after, step = before >= 0 ? 1 : -1;
    if (from < 0 || from >= int(poses_.size()) || std::abs(frame - from) < 2) return std::nullopt;
    Pose pose = *poses_[std::size_t(from)];
    for (int f = from + step; f != frame; f += step) {
        std::vector<Sight> sights;
        for (const auto& [trail, place] : material_->byFrame[std::size_t(f)])
            if (points_[std::size_t(trail)]) sights.push_back({*points_[std::size_t(trail)], place});
        if (int(sights.size()) < 2 * std::max(6, options_->fewestTracks)) return std::nullopt;
        refinePose(pose, nullptr, lens_, k1Slope_, lens_.focal_px, sights, 4 * tolerance_px, 4, false);
    }
    return pose;
}

double Reconstruction::focalGuessFor(int frame) const {
    if (!isZoom()) return lens_.focal_px;
    for (int apart = 0; apart < int(poses_.size()); ++apart)
        for (const int other : {frame - apart, frame + apart})
            if (other >= 0 && other < int(poses_.size()) && poses_[std::size_t(other)]) return focals_[std::size_t(other)];
    return lens_.focal_px;
}

std::optional<Pose> Reconstruction::guessFor(int frame) const {
    int before = frame - 1;
    while (before >= 0 && !poses_[std::size_t(before)]) --before;
    int after = frame + 1;
    while (after < int(poses_.size()) && !poses_[std::size_t(after)]) ++after;
    const bool hasBefore = before >= 0;
    const bool hasAfter = after < int(poses_.size());
    if (!hasBefore && !hasAfter) return std::nullopt;
    if (!hasBefore) return poses_[std::size_t(after)];
    if (!hasAfter) return poses_[std::size_t(before)];
    const double share = double(material_->frames[std::size_t(frame)] - material_->frames[std::size_t(before)]) /
                         (material_->frames[std::size_t(after)] - material_->frames[std::size_t(before)]);
    const Pose& a = *poses_[std::size_t(before)];
    const Pose& b = *poses_[std::size_t(after)];
    Pose between;
    between.rotation = a.rotation.slerp(share, b.rotation);
    between.translation = -(between.rotation * (a.centre() + share * (b.centre() - a.centre())));
    return between;
}

}  // namespace pinion::solving
