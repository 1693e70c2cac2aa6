#include "camera/normalequations.h"

#include "base/parallel.h"
#include "camera/kernels.h"
#include "camera/logsum.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <thread>

namespace pinion::bundling {

namespace {

template <int B>
void subtractProduct(const double* tall, const double* flat, double* target, Eigen::Index stride) {
    if constexpr (B == 6) {
        solving::subtractProduct6({target, stride}, tall, flat);
    } else {
        for (int r = 0; r < B; ++r)
            for (int c = 0; c < B; ++c)
                target[r * stride + c] -=
                    tall[r * 3] * flat[c] + tall[r * 3 + 1] * flat[B + c] + tall[r * 3 + 2] * flat[2 * B + c];
    }
}

}  // namespace

template <bool Places, bool Zoom>
NormalEquations<Places, Zoom>::NormalEquations(const Bundle& bundle, const BundleOptions& options)
    : options_(options), cameras_(bundle.cameras.size()) {
    for (int term = 0; term < int(kLensTerms); ++term) {
        const bool own = term == int(LensTerm::focal) ? !Zoom : term != int(LensTerm::k1Slope) || Zoom;
        if (own && options.free.has(LensTerm(term))) terms_.push_back(LensTerm(term));
    }
    if (bundle.readout != 0 || options.free.has(LensTerm::readout)) partsPerRow_ = RowPoses::kMost;
    starts_.assign(bundle.points.size() + 1, 0);
    for (const auto& seen : bundle.observations) ++starts_[std::size_t(seen.point) + 1];
    for (std::size_t p = 0; p < bundle.points.size(); ++p) starts_[p + 1] += starts_[p];
    order_.resize(bundle.observations.size());
    std::vector<std::size_t> next(starts_.begin(), starts_.end() - 1);
    for (std::size_t i = 0; i < bundle.observations.size(); ++i)
        order_[next[std::size_t(bundle.observations[i].point)]++] = i;
    const RowPoses reach(std::span(bundle.cameras).first(partsPerRow_ > 1 ? cameras_ : 0), bundle.times);
    const auto supportOf = [&](std::size_t camera) {
        return partsPerRow_ > 1 ? reach.support(camera) : std::pair(int(camera), int(camera));
    };
    first_.resize(cameras_);
    for (std::size_t c = 0; c < cameras_; ++c) first_[c] = std::max(0, int(c) - 2);
    for (std::size_t p = 0; p < bundle.points.size(); ++p) {
        const auto from = order_.begin() + std::ptrdiff_t(starts_[p]),
                   to = order_.begin() + std::ptrdiff_t(starts_[p + 1]);
        // Rising cameras within a point: then each block lies in the lower half.
        std::sort(from, to, [&](std::size_t a, std::size_t b) {
            return bundle.observations[a].camera < bundle.observations[b].camera;
        });
        for (auto it = from; it != to; ++it) {
            const auto [leftmost, last] = supportOf(std::size_t(bundle.observations[*it].camera));
            const int leftmostOfAll = supportOf(std::size_t(bundle.observations[*from].camera)).first;
            for (int camera = leftmost; camera <= last; ++camera)
                first_[std::size_t(camera)] = std::min(first_[std::size_t(camera)], leftmostOfAll);
        }
    }
    rows_.resize(order_.size());
    parts_.resize(order_.size() * partsPerRow_);
    pointBlocks_.resize(bundle.points.size());
    pointRights_.resize(bundle.points.size());
    pointLens_.resize(bundle.points.size());
    pointInverses_.resize(bundle.points.size());
    tangents_.resize(bundle.points.size());
}

template <bool Places, bool Zoom>
double NormalEquations<Places, Zoom>::linearise(const Bundle& bundle, bool derivatives) {
    std::vector<Eigen::Matrix3d> rotations(cameras_);
    std::vector<Lens> lenses(Zoom ? cameras_ : 1, bundle.lens);
    std::vector<double> logZoom(Zoom ? cameras_ : 1, 0.0);
    for (std::size_t i = 0; i < cameras_; ++i) {
        rotations[i] = bundle.cameras[i].rotation.toRotationMatrix();
        if constexpr (Zoom) {
            lenses[i] = bundle.lensOf(i);
            logZoom[i] = std::log(bundle.focals[i] / bundle.lens.focal_px);
        }
    }
    const bool isRolling = partsPerRow_ > 1;
    const RowPoses rowPoses(std::span(bundle.cameras).first(isRolling ? cameras_ : 0), bundle.times);
    const double width2 = options_.robustWidth_px * options_.robustWidth_px;
    std::vector<double> costs(bundle.points.size(), 0.0);
    const Derived derived = derivatives ? Derived::all : Derived::nothing;
    parallelFor(
        bundle.points.size(),
        [&](std::size_t p) {
            Eigen::Matrix3d block = Eigen::Matrix3d::Zero();
            Eigen::Vector3d right = Eigen::Vector3d::Zero();
            LensCross lensBlock = LensCross::Zero(3, lensCount());
            LogSum logs;
            if (derivatives) {
                if constexpr (Places) {
                    tangents_[p] = tangentOf(bundle.points[p]);
                } else {
                    // A direction moves on the sphere and stays at infinity.
                    tangents_[p].setZero();
                    const Eigen::Vector3d direction = bundle.points[p].template head<3>();
                    tangents_[p].template block<3, 1>(0, 0) = direction.unitOrthogonal();
                    tangents_[p].template block<3, 1>(0, 1) =
                        direction.cross(tangents_[p].template block<3, 1>(0, 0)).normalized();
                }
            }
            for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
                const auto& seen = bundle.observations[order_[k]];
                const auto camera = std::size_t(seen.camera);
                Projection projection;
                Pose pose;
                RowPoses::Slopes slopes;
                RowLens rolled;
                if (isRolling) {
                    pose = rowPoses.at(camera, bundle.readout * seen.row, &slopes);
                    rolled = rowLens(bundle, camera, slopes);
                    projection = project(rolled.lens, pose.rotation.toRotationMatrix(), pose.translation,
                                         bundle.points[p], derived, rolled.logZoom, bundle.k1Slope);
                } else {
                    projection =
                        project(lenses[Zoom ? camera : 0], rotations[camera], bundle.cameras[camera].translation,
                                bundle.points[p], derived, logZoom[Zoom ? camera : 0], bundle.k1Slope);
                }
                if (!projection.inFront) {
                    // Counts as very wrong, pulls nowhere.
                    logs.add(1e6 / width2);
                    if (derivatives) clear(k, camera);
                    continue;
                }
                Row& row = rows_[k];
                const Eigen::Vector2d residual = seen.weight * (projection.plate - seen.plate);
                const double squared = residual.squaredNorm();
                logs.add(squared / width2);
                if (!derivatives) continue;
                // The Cauchy loss to second order (Triggs et al. 2000, section 4.3): along the error its curvature
                // falls and turns negative beyond the width. Without this, what is far off stiffens directions in
                // which it has no say.
                const double root = std::sqrt(1 / (1 + squared / width2));
                const double along = std::sqrt(std::max(0.02, (width2 - squared) / (width2 + squared)));
                Eigen::Matrix2d factor = Eigen::Matrix2d::Identity() * (root * seen.weight);
                if (squared > 1e-20)
                    factor -= (root * seen.weight * (1 - along) / squared) * residual * residual.transpose();
                row.residual = (root / along) * residual;
                row.byPoint.noalias() = factor * (projection.byPoint * tangents_[p]);
                row.byLens.resize(2, lensCount());
                for (std::size_t c = 0; c < terms_.size(); ++c)
                    if (terms_[c] != LensTerm::readout)
                        row.byLens.col(Eigen::Index(c)).noalias() = factor * projection.byLens.col(int(terms_[c]));
                if (isRolling) {
                    takeRolling(k, projection, slopes, pose, seen.row, rolled.focalByTime, factor);
                } else {
                    row.parts = 1;
                    Part& part = parts_[k];
                    part.camera = int(camera);
                    constexpr int kOwn = Places ? 6 : 3;
                    part.byCamera.template leftCols<kOwn>().noalias() =
                        factor * projection.byCamera.template leftCols<kOwn>();
                    if constexpr (Zoom)
                        part.byCamera.col(B - 1).noalias() = factor * projection.byLens.col(int(LensTerm::focal));
                }
                block.noalias() += row.byPoint.transpose() * row.byPoint;
                right.noalias() -= row.byPoint.transpose() * row.residual;
                if (lensCount() > 0) lensBlock += row.byPoint.transpose().lazyProduct(row.byLens);
            }
            costs[p] = 0.5 * width2 * logs.value();
            if (!derivatives) return;
            if constexpr (!Places) {
                block(2, 2) = 1;
            } else {
                // A point seen only while the camera turns has any depth: known to within the size of the scene, no
                // better. It pulls nowhere.
                const Eigen::Vector3d depth = (0.3 * options_.noise_px) * tangents_[p].row(3).transpose();
                block.noalias() += depth * depth.transpose();
            }
            pointBlocks_[p] = block;
            pointRights_[p] = right;
            pointLens_[p] = lensBlock;
        },
        16);
    double cost = 0;
    for (double own : costs) cost += own;
    return cost + linearisePriors(bundle, derivatives);
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::reduce(double damping, Envelope& matrix, Eigen::VectorXd& right) {
    // Each part of the points into a matrix of its own, summed at the end.
    const std::size_t parts =
        order_.size() < 3000 ? 1 : std::clamp<std::size_t>(std::thread::hardware_concurrency(), 1, 4);
    std::vector<Envelope> matrices;
    std::vector<Eigen::VectorXd> rights(parts, Eigen::VectorXd::Zero(size())),
        diagonals(parts, Eigen::VectorXd::Zero(size()));
    for (std::size_t i = 1; i < parts; ++i) matrices.push_back(emptyMatrix());
    matrix.setZero();
    const auto work = [&](std::size_t index) {
        Envelope& own = index == 0 ? matrix : matrices[index - 1];
        Crossed crossed;
        for (std::size_t p = index; p + 1 < starts_.size(); p += parts)
            eliminate(p, damping, own, rights[index], diagonals[index], crossed);
    };
    if (parts == 1) work(0);
    else parallelFor(parts, work);
    for (std::size_t i = 1; i < parts; ++i) {
        matrix.add(matrices[i - 1]);
        rights[0] += rights[i];
        diagonals[0] += diagonals[i];
    }
    right = rights[0];
    addPriors(matrix, right, diagonals[0]);
    diagonal_ = diagonals[0];
    for (Eigen::Index i = 0; i < Eigen::Index(cameras_) * B; ++i) {
        const int camera = int(i / B);
        double* block = matrix.at(camera, camera);
        block[(i % B) * matrix.stride(camera) + i % B] += damping * diagonal_[i] + 1e-12;
    }
    for (Eigen::Index i = 0; i < lensCount(); ++i)
        matrix.corner()(i, i) += damping * diagonal_[Eigen::Index(cameras_) * B + i] + 1e-12;
}

template <bool Places, bool Zoom>
std::vector<Eigen::Vector3d> NormalEquations<Places, Zoom>::pointSteps(const Eigen::VectorXd& steps, double damping,
                                                                       const Eigen::VectorXd& gradient,
                                                                       double& predicted) const {
    std::vector<Eigen::Vector3d> result(pointBlocks_.size());
    std::vector<double> falls(pointBlocks_.size(), 0.0);
    const Eigen::Index lens = lensCount();
    parallelFor(
        result.size(),
        [&](std::size_t p) {
            Eigen::Vector3d right = pointRights_[p];
            for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
                for (const Part& part : partsOf(k))
                    right.noalias() -= rows_[k].byPoint.transpose() *
                                       (part.byCamera * steps.template segment<B>(Eigen::Index(part.camera) * B));
            }
            if (lens > 0) right -= pointLens_[p] * steps.tail(lens);
            result[p] = pointInverses_[p] * right;
            falls[p] =
                0.5 * result[p].dot(damping * pointBlocks_[p].diagonal().cwiseProduct(result[p]) + pointRights_[p]);
        },
        32);
    predicted = 0.5 * steps.dot(damping * diagonal_.cwiseProduct(steps) + gradient);
    for (double fall : falls) predicted += fall;
    return result;
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::settlePoints(Bundle& moved, const Bundle& before,
                                                 const std::vector<Eigen::Vector3d>& steps) const {
    std::vector<Eigen::Matrix3d> rotations(cameras_);
    std::vector<Lens> lenses(Zoom ? cameras_ : 1, moved.lens);
    for (std::size_t i = 0; i < cameras_; ++i) {
        rotations[i] = moved.cameras[i].rotation.toRotationMatrix();
        if constexpr (Zoom) lenses[i] = moved.lensOf(i);
    }
    const bool isRolling = partsPerRow_ > 1;
    const RowPoses rowPoses(std::span(moved.cameras).first(isRolling ? cameras_ : 0), moved.times);
    struct RowCamera {
        Eigen::Matrix3d rotation;
        Eigen::Vector3d translation;
        Lens lens;
    };
    const double width2 = options_.robustWidth_px * options_.robustWidth_px;
    parallelFor(
        before.points.size(),
        [&](std::size_t p) {
            std::vector<RowCamera> rolled;
            for (std::size_t k = starts_[p]; isRolling && k < starts_[p + 1]; ++k) {
                const auto& seen = before.observations[order_[k]];
                RowPoses::Slopes slopes;
                const Pose pose = rowPoses.at(std::size_t(seen.camera), moved.readout * seen.row, &slopes);
                rolled.push_back({pose.rotation.toRotationMatrix(), pose.translation,
                                  rowLens(moved, std::size_t(seen.camera), slopes).lens});
            }
            const auto visit = [&](const Eigen::Vector4d& point, Derived derived, auto&& each) {
                for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
                    const auto& seen = before.observations[order_[k]];
                    const auto camera = std::size_t(seen.camera);
                    if (isRolling) {
                        const RowCamera& own = rolled[k - starts_[p]];
                        each(project(own.lens, own.rotation, own.translation, point, derived), seen);
                        continue;
                    }
                    const Projection projection = project(lenses[Zoom ? camera : 0], rotations[camera],
                                                          moved.cameras[camera].translation, point, derived);
                    each(projection, seen);
                }
            };
            const auto costAt = [&](const Eigen::Vector4d& point) {
                LogSum cost;
                visit(point, Derived::nothing, [&](const Projection& projection, const Bundle::Observation& seen) {
                    cost.add((projection.inFront
                                  ? seen.weight * seen.weight * (projection.plate - seen.plate).squaredNorm()
                                  : 1e6) /
                             width2);
                });
                return cost.value();
            };
            Eigen::Vector4d best = before.points[p];
            double least = costAt(best);
            const auto consider = [&](const Eigen::Vector4d& point) {
                if (!point.allFinite()) return false;
                const double cost = costAt(point);
                if (!(cost < least)) return false;
                least = cost;
                best = point;
                return true;
            };
            if (!consider((before.points[p] + tangents_[p] * steps[p]).normalized()))
                consider((before.points[p] + 0.25 * tangents_[p] * steps[p]).normalized());
            for (int round = 0; round < 2; ++round) {
                Eigen::Matrix<double, 4, 3> tangent;
                if constexpr (Places) tangent = tangentOf(best);
                else tangent = tangents_[p];
                Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
                Eigen::Vector3d right = Eigen::Vector3d::Zero();
                visit(best, Derived::byPoint, [&](const Projection& projection, const Bundle::Observation& seen) {
                    if (!projection.inFront) return;
                    const Eigen::Vector2d residual = projection.plate - seen.plate;
                    const double weight =
                        seen.weight * seen.weight / (1 + seen.weight * seen.weight * residual.squaredNorm() / width2);
                    const Eigen::Matrix<double, 2, 3> slope = projection.byPoint * tangent;
                    normal.noalias() += weight * slope.transpose() * slope;
                    right.noalias() -= weight * slope.transpose() * residual;
                });
                normal.diagonal().array() += 1e-9 * normal.trace() + 1e-300;
                const double had = least;
                if (!consider((best + tangent * (normal.inverse() * right)).normalized()) || had - least < 1e-3 * had)
                    break;
            }
            moved.points[p] = best;
        },
        16);
}

template <bool Places, bool Zoom>
double NormalEquations<Places, Zoom>::linearisePriors(const Bundle& bundle, bool derivatives) {
    if (derivatives) known_.clear();
    double cost = 0;
    const auto add = [&](double residual, std::vector<std::pair<Eigen::Index, double>> slope) {
        cost += 0.5 * residual * residual;
        if (derivatives) known_.push_back({residual, std::move(slope)});
    };
    for (const LensPrior& prior : options_.priors) {
        const auto found = std::find(terms_.begin(), terms_.end(), prior.term);
        if (found == terms_.end() || !(prior.sigma > 0)) continue;
        Lens lens = bundle.lens;
        const double value = prior.term == LensTerm::k1Slope   ? bundle.k1Slope
                             : prior.term == LensTerm::readout ? bundle.readout
                                                               : termOf(lens, prior.term);
        const double weight = options_.noise_px / prior.sigma;
        add(weight * (value - prior.value), {{Eigen::Index(cameras_) * B + (found - terms_.begin()), weight}});
    }
    if constexpr (Zoom) {
        const auto timeOf = [&](std::size_t i) { return bundle.times.empty() ? double(i) : double(bundle.times[i]); };
        for (std::size_t i = 1; i + 1 < cameras_; ++i) {
            // The change of speed between two stretches, against what a smooth ring turn does in that time.
            const double before = timeOf(i) - timeOf(i - 1), after = timeOf(i + 1) - timeOf(i);
            const double weight =
                options_.noise_px / (options_.zoomJerk * bundle.lens.focal_px * 0.5 * (before + after));
            const double value =
                (bundle.focals[i + 1] - bundle.focals[i]) / after - (bundle.focals[i] - bundle.focals[i - 1]) / before;
            add(weight * value, {{column(i - 1, B - 1), weight / before},
                                 {column(i, B - 1), -weight * (1 / before + 1 / after)},
                                 {column(i + 1, B - 1), weight / after}});
        }
        for (const LensPrior& prior : options_.priors)
            if (prior.term == LensTerm::focal && prior.sigma > 0 && cameras_ > 0)
                add(options_.noise_px / prior.sigma * (bundle.focals[0] - prior.value),
                    {{column(0, B - 1), options_.noise_px / prior.sigma}});
    }
    if constexpr (Places) {
        // It stiffens and pulls nowhere: the size of the world is free, and a pull to short steps would shrink it.
        if (options_.step > 0 && derivatives) {
            const double weight = options_.noise_px / options_.step;
            for (std::size_t i = 1; i < cameras_; ++i) {
                const Eigen::Matrix<double, 3, 6> a = centreByPose(bundle.cameras[i - 1]),
                                                  b = centreByPose(bundle.cameras[i]);
                for (int axis = 0; axis < 3; ++axis) {
                    std::vector<std::pair<Eigen::Index, double>> slope;
                    for (int c = 0; c < 6; ++c) {
                        slope.emplace_back(column(i - 1, c), -weight * a(axis, c));
                        slope.emplace_back(column(i, c), weight * b(axis, c));
                    }
                    add(0, std::move(slope));
                }
            }
        }
    }
    return cost;
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::addPriors(Envelope& matrix, Eigen::VectorXd& right, Eigen::VectorXd& diagonal) {
    const Eigen::Index cameras = Eigen::Index(cameras_) * B;
    for (const Known& known : known_)
        for (const auto& [i, a] : known.slope) {
            right[i] -= a * known.residual;
            diagonal[i] += a * a;
            for (const auto& [j, b] : known.slope) {
                if (i >= cameras) {
                    if (j >= cameras) matrix.corner()(i - cameras, j - cameras) += a * b;
                    else matrix.border()(i - cameras, j) += a * b;
                } else if (j < cameras && i / B >= j / B) {
                    const int row = int(i / B);
                    matrix.at(row, int(j / B))[(i % B) * matrix.stride(row) + j % B] += a * b;
                }
            }
        }
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::clear(std::size_t row, std::size_t camera) {
    Row& cleared = rows_[row];
    cleared.parts = 1;
    cleared.residual.setZero();
    cleared.byPoint.setZero();
    cleared.byLens.setZero(2, lensCount());
    Part& part = parts_[row * partsPerRow_];
    part.camera = int(camera);
    part.byCamera.setZero();
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::takeRolling(std::size_t row, const Projection& projection,
                                                const RowPoses::Slopes& slopes, const Pose& pose, double rowPlace,
                                                double focalByTime, const Eigen::Matrix2d& factor) {
    const Eigen::Matrix<double, 2, 3> byShift = projection.byCamera.template rightCols<3>();
    // Turned about its own place, where `projection` keeps the shift; and moved.
    Eigen::Matrix<double, 2, 3> byTurn = projection.byCamera.template leftCols<3>();
    const Eigen::Vector3d& t = pose.translation;
    Eigen::Matrix3d cross;
    cross << 0, -t.z(), t.y(), t.z(), 0, -t.x(), -t.y(), t.x(), 0;
    if constexpr (Places) byTurn -= byShift * cross;
    const Eigen::Matrix<double, 2, 3> byCentre = -(byShift * pose.rotation.toRotationMatrix());
    const Eigen::Vector2d byFocal = projection.byLens.col(int(LensTerm::focal));
    rows_[row].parts = slopes.count;
    for (std::size_t k = 0; k < std::size_t(slopes.count); ++k) {
        Part& part = parts_[row * partsPerRow_ + k];
        part.camera = slopes.cameras[k];
        part.byCamera.setZero();
        part.byCamera.template leftCols<3>() = byTurn * slopes.turnByTurn[k];
        if constexpr (Places) part.byCamera.template leftCols<6>() += byCentre * slopes.centreByPose[k];
        if constexpr (Zoom) part.byCamera.col(B - 1) = slopes.weights[k] * byFocal;
        part.byCamera = factor * part.byCamera;
    }
    const auto readout = std::find(terms_.begin(), terms_.end(), LensTerm::readout);
    if (readout == terms_.end()) return;
    Eigen::Vector2d byTime = byTurn * slopes.turnByTime + byFocal * focalByTime;
    if constexpr (Places) byTime += byCentre * slopes.centreByTime;
    rows_[row].byLens.col(readout - terms_.begin()) = factor * byTime * rowPlace;
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::collectCross(std::size_t p, Crossed& crossed) const {
    auto& [cameras, slots, cross, solved] = crossed;
    cameras.clear();
    slots.clear();
    if (partsPerRow_ == 1) {
        for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
            slots.push_back(cameras.size());
            cameras.push_back(parts_[k].camera);
        }
    } else {
        for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k)
            for (const Part& part : partsOf(k)) cameras.push_back(part.camera);
        const std::vector<int> all = cameras;
        std::sort(cameras.begin(), cameras.end());
        cameras.erase(std::unique(cameras.begin(), cameras.end()), cameras.end());
        for (const int camera : all)
            slots.push_back(std::size_t(std::lower_bound(cameras.begin(), cameras.end(), camera) - cameras.begin()));
    }
    cross.assign(cameras.size() * 3 * B, 0.0);
    std::size_t at = 0;
    for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k)
        for (const Part& part : partsOf(k))
            Eigen::Map<Flat>{cross.data() + slots[at++]* 3 * B} += rows_[k].byPoint.transpose() * part.byCamera;
}

template <bool Places, bool Zoom>
std::vector<std::pair<int, typename NormalEquations<Places, Zoom>::Tall>> NormalEquations<Places, Zoom>::crossOf(
    std::size_t p) const {
    Crossed crossed;
    collectCross(p, crossed);
    std::vector<std::pair<int, Tall>> result;
    for (std::size_t i = 0; i < crossed.cameras.size(); ++i)
        result.emplace_back(crossed.cameras[i], Eigen::Map<const Flat>(crossed.cross.data() + i * 3 * B).transpose());
    return result;
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::eliminate(std::size_t p, double damping, Envelope& matrix, Eigen::VectorXd& right,
                                              Eigen::VectorXd& diagonal, Crossed& crossed) {
    if (starts_[p + 1] == starts_[p]) return;
    Eigen::Matrix3d block = pointBlocks_[p];
    const double least = 1e-10 * block.trace() + 1e-300;
    for (int i = 0; i < 3; ++i) block(i, i) += damping * block(i, i) + least;
    const Eigen::Matrix3d inverse = block.inverse();
    pointInverses_[p] = inverse;
    const Eigen::Vector3d solvedRight = inverse * pointRights_[p];
    const LensCross solvedLens = inverse.lazyProduct(pointLens_[p]);
    const Eigen::Index lens = lensCount(), tail = Eigen::Index(cameras_) * B;
    using Square = Eigen::Map<Eigen::Matrix<double, B, B, Eigen::RowMajor>, 0, Eigen::OuterStride<>>;
    // What the observations say by themselves.
    for (std::size_t k = starts_[p]; k < starts_[p + 1]; ++k) {
        const Row& row = rows_[k];
        const std::span<const Part> parts = partsOf(k);
        for (std::size_t a = 0; a < parts.size(); ++a) {
            const Part& part = parts[a];
            const Eigen::Index at = Eigen::Index(part.camera) * B;
            right.template segment<B>(at).noalias() -= part.byCamera.transpose() * row.residual;
            diagonal.template segment<B>(at) += part.byCamera.colwise().squaredNorm().transpose();
            if (lens > 0)
                matrix.border().template middleCols<B>(at).noalias() +=
                    row.byLens.transpose().lazyProduct(part.byCamera);
            const Eigen::Index stride = matrix.stride(part.camera);
            for (std::size_t b = 0; b <= a; ++b) {
                double* pair = matrix.at(part.camera, parts[b].camera);
                if constexpr (B == 6)
                    solving::addSquare6({pair, stride}, part.byCamera.data(), parts[b].byCamera.data());
                else
                    Square{pair, B, B, Eigen::OuterStride<>(stride)}.noalias() +=
                        part.byCamera.transpose() * parts[b].byCamera;
            }
        }
        if (lens > 0) {
            matrix.corner() += row.byLens.transpose().lazyProduct(row.byLens);
            right.tail(lens).noalias() -= row.byLens.transpose() * row.residual;
            diagonal.segment(tail, lens) += row.byLens.colwise().squaredNorm().transpose();
        }
    }
    // What the point takes of it.
    collectCross(p, crossed);
    const std::size_t count = crossed.cameras.size();
    crossed.solved.resize(count * 3 * B);
    for (std::size_t i = 0; i < count; ++i) {
        const Eigen::Map<const Flat> cross(crossed.cross.data() + i * 3 * B);
        const Tall w = cross.transpose();
        Eigen::Map<Tall>{crossed.solved.data() + i* 3 * B} = w * inverse;
        const Eigen::Index at = Eigen::Index(crossed.cameras[i]) * B;
        right.template segment<B>(at).noalias() -= w * solvedRight;
        if (lens > 0)
            matrix.border().template middleCols<B>(at).noalias() -= solvedLens.transpose().lazyProduct(w.transpose());
    }
    if (lens > 0) {
        matrix.corner() -= pointLens_[p].transpose().lazyProduct(solvedLens);
        right.tail(lens).noalias() -= pointLens_[p].transpose() * solvedRight;
    }
    for (std::size_t a = 0; a < count; ++a) {
        const int row = crossed.cameras[a];
        const Eigen::Index stride = matrix.stride(row);
        for (std::size_t b = 0; b <= a; ++b)
            subtractProduct<B>(crossed.solved.data() + a * 3 * B, crossed.cross.data() + b * 3 * B,
                               matrix.at(row, crossed.cameras[b]), stride);
    }
}

template <bool Places, bool Zoom>
void NormalEquations<Places, Zoom>::collectGradient() {
    gradient_ = Eigen::VectorXd::Zero(size());
    for (std::size_t k = 0; k < rows_.size(); ++k) {
        for (const Part& part : partsOf(k))
            gradient_.template segment<B>(Eigen::Index(part.camera) * B).noalias() -=
                part.byCamera.transpose() * rows_[k].residual;
        if (lensCount() > 0) gradient_.tail(lensCount()).noalias() -= rows_[k].byLens.transpose() * rows_[k].residual;
    }
    for (const Known& known : known_)
        for (const auto& [i, a] : known.slope) gradient_[i] -= a * known.residual;
}

template class NormalEquations<true, true>;
template class NormalEquations<true, false>;
template class NormalEquations<false, true>;
template class NormalEquations<false, false>;

}  // namespace pinion::bundling
