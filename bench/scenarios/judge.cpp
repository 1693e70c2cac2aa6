#include "scenarios/judge.h"

#include "camera/bundle.h"
#include "camera/suspects.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <set>

namespace pinion::bench {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector4d;

namespace {

/// The place that best explains exact sightings.
Vector4d bestPlace(Vector4d point, const FoundCameras& found, const std::vector<std::pair<int, Vector2d>>& seen) {
    Eigen::Matrix4d rows = Eigen::Matrix4d::Zero();
    for (const auto& [f, plate] : seen)
        if (const auto plane = planeFromPlate(found.lenses[std::size_t(f)], plate)) {
            const Pose& pose = *found.poses[std::size_t(f)];
            const Matrix3d rotation = pose.rotation.toRotationMatrix();
            for (int axis = 0; axis < 2; ++axis) {
                Vector4d row;
                row << (rotation.row(axis) - (*plane)[axis] * rotation.row(2)).transpose(),
                    pose.translation[axis] - (*plane)[axis] * pose.translation.z();
                rows += row * row.transpose();
            }
        }
    Vector4d linear = Eigen::SelfAdjointEigenSolver<Eigen::Matrix4d>(rows).eigenvectors().col(0);
    const Pose& front = *found.poses[std::size_t(seen.front().first)];
    if ((front.rotation * linear.head<3>() + front.translation * linear[3]).z() < 0) linear = -linear;
    point.normalize();
    const auto costOf = [&](const Vector4d& at) {
        double cost = 0;
        for (const auto& [f, plate] : seen) {
            const Pose& pose = *found.poses[std::size_t(f)];
            const Projection p = project(found.lenses[std::size_t(f)], pose.rotation.toRotationMatrix(),
                                         pose.translation, at, Derived::nothing);
            cost += p.inFront ? (p.plate - plate).squaredNorm() : 1e8;
        }
        return cost;
    };
    if (costOf(linear) < costOf(point)) point = linear;
    double cost = costOf(point), damping = 1e-4;
    for (int round = 0; round < 25; ++round) {
        const auto tangent = tangentOf(point);
        Matrix3d normal = Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (const auto& [f, plate] : seen) {
            const Pose& pose = *found.poses[std::size_t(f)];
            const Projection p = project(found.lenses[std::size_t(f)], pose.rotation.toRotationMatrix(),
                                         pose.translation, point, Derived::all);
            if (!p.inFront) continue;
            const Eigen::Matrix<double, 2, 3> slope = p.byPoint * tangent;
            normal += slope.transpose() * slope;
            right -= slope.transpose() * (p.plate - plate);
        }
        normal.diagonal() *= 1 + damping;
        normal.diagonal().array() += 1e-10 * normal.trace() + 1e-300;
        const Vector4d moved = (point + tangent * normal.ldlt().solve(right)).normalized();
        const double movedCost = costOf(moved);
        if (movedCost < cost) {
            const bool settled = cost - movedCost < 1e-9 * cost;
            point = moved;
            cost = movedCost;
            damping *= 0.1;
            if (settled) break;
        } else {
            damping = std::max(1e-6, damping) * 10;
            if (damping > 1e6) break;
        }
    }
    return point;
}

}  // namespace

FoundCameras camerasOf(const MadeShot& shot, const Solve& solve) {
    FoundCameras found;
    found.poses.resize(shot.poses.size());
    found.lenses.assign(shot.poses.size(), solve.lens);
    for (const SolvedFrame& frame : solve.frames) {
        found.poses[std::size_t(frame.frame - 1001)] = poseFrom(frame.worldFromCamera);
        found.lenses[std::size_t(frame.frame - 1001)] = lensOf(solve, frame);
    }
    return found;
}

Judgement judge(const MadeShot& shot, const FoundCameras& found) {
    Judgement result;
    const bool turns = shot.plan.move == Move::nodal || shot.plan.move == Move::locked;
    std::vector<Vector3d> from, to;  // found, real
    double length = 0, spread = 0;
    Vector3d middle = Vector3d::Zero();
    for (std::size_t f = 0; f < shot.poses.size(); ++f) {
        if (f > 0) length += (shot.poses[f].centre() - shot.poses[f - 1].centre()).norm();
        if (!found.poses[f]) continue;
        ++result.frames;
        middle += shot.poses[f].centre();
        result.focal = std::max(result.focal, std::abs(found.lenses[f].focal_px / shot.lensAt(int(f)).focal_px - 1));
    }
    if (result.frames < 2) return result;
    middle /= result.frames;
    for (std::size_t f = 0; f < shot.poses.size(); ++f)
        if (found.poses[f]) {
            from.push_back(found.poses[f]->centre());
            to.push_back(shot.poses[f].centre());
            spread += (to.back() - middle).squaredNorm() / result.frames;
        }
    spread = std::sqrt(spread);
    Eigen::Affine3d foundFromReal = Eigen::Affine3d::Identity();
    if (!turns && spread > 0) {
        // A walk is nearly a line and leaves the turn about it open: the cameras' axes join the comparison.
        double foundSpread = 0;
        Vector3d foundMiddle = Vector3d::Zero();
        for (const Vector3d& p : from) foundMiddle += p / double(from.size());
        for (const Vector3d& p : from) foundSpread += (p - foundMiddle).squaredNorm() / double(from.size());
        foundSpread = std::sqrt(foundSpread);
        const std::size_t places = from.size();
        std::size_t at = 0;
        for (std::size_t f = 0; f < shot.poses.size(); ++f) {
            if (!found.poses[f]) continue;
            for (int axis = 0; axis < 3; ++axis) {
                from.push_back(from[at] +
                               foundSpread * found.poses[f]->rotation.conjugate().toRotationMatrix().col(axis));
                to.push_back(to[at] + spread * shot.poses[f].rotation.conjugate().toRotationMatrix().col(axis));
            }
            ++at;
        }
        Eigen::Matrix3Xd a(3, from.size()), b(3, to.size());
        for (std::size_t i = 0; i < from.size(); ++i) {
            a.col(Eigen::Index(i)) = to[i];
            b.col(Eigen::Index(i)) = from[i];
        }
        foundFromReal.matrix() = Eigen::umeyama(a, b, true);
        const double scale = std::cbrt(std::abs(foundFromReal.linear().determinant()));
        double squares = 0;
        for (std::size_t i = 0; i < places; ++i) {
            const double error = (foundFromReal * to[i] - from[i]).norm();
            result.positionErrors.push_back(error);
            squares += error * error;
        }
        result.path = std::sqrt(squares / double(places)) / (scale * length);
    } else {
        result.path = 0;
        // Turns are compared by where the points go; the worlds meet in the first camera.
        for (std::size_t f = 0; f < shot.poses.size(); ++f)
            if (found.poses[f]) {
                foundFromReal.linear() =
                    (found.poses[f]->rotation.conjugate() * shot.poses[f].rotation).toRotationMatrix();
                foundFromReal.translation() =
                    found.poses[f]->centre() - foundFromReal.linear() * shot.poses[f].centre();
                break;
            }
    }
    double squares = 0, seenSquares = 0;
    std::size_t count = 0, seenCount = 0;
    for (std::size_t t = 0; t < shot.tracks.size(); ++t) {
        if (!shot.truth[t].good) continue;
        std::vector<std::pair<int, Vector2d>> seen;
        std::vector<Vector2d> tracked;
        const auto& samples = shot.tracks[t].samples;
        const std::size_t step = std::max<std::size_t>(1, samples.size() / 12);
        for (std::size_t i = 0; i < samples.size(); i += step) {
            const int f = samples[i].frame - 1001;
            if (!found.poses[std::size_t(f)]) continue;
            seen.emplace_back(f, shot.seen(f, shot.truth[t].point));
            tracked.push_back(samples[i].at);
        }
        if (seen.size() < 3) continue;
        const Vector4d point = bestPlace((foundFromReal * shot.truth[t].point).homogeneous(), found, seen);
        for (std::size_t i = 0; i < seen.size(); ++i) {
            const auto& [f, plate] = seen[i];
            const Pose& pose = *found.poses[std::size_t(f)];
            const Projection p = project(found.lenses[std::size_t(f)], pose.rotation.toRotationMatrix(),
                                         pose.translation, point, Derived::nothing);
            squares += p.inFront ? std::min(1e6, (p.plate - plate).squaredNorm()) : 1e6;
            ++count;
            seenSquares += p.inFront ? (p.plate - tracked[i]).squaredNorm() : 0.0;
            ++seenCount;
        }
    }
    result.truth_px = count > 0 ? std::sqrt(squares / double(count)) : 1e9;
    result.seen_px = seenCount > 0 ? std::sqrt(seenSquares / double(seenCount)) : 0;
    return result;
}

Judgement attainable(const MadeShot& shot, const SolveOptions& options) {
    Bundle bundle;
    bundle.lens = shot.lens;
    bundle.k1Slope = shot.k1Slope;
    bundle.cameras = shot.poses;
    if (shot.plan.zoomTo_mm > 0) bundle.focals = shot.focals_px;
    const bool turns = shot.plan.move == Move::nodal || shot.plan.move == Move::locked;
    for (std::size_t f = 0; f < shot.poses.size(); ++f) bundle.times.push_back(1001 + int(f));
    for (std::size_t t = 0; t < shot.tracks.size(); ++t) {
        // What moves has no place: with its tracks the adjustment would leave the truth.
        if (shot.truth[t].mover >= 0) continue;
        if (turns) {
            Vector4d direction;
            direction << (shot.truth[t].point - shot.poses[0].centre()).normalized(), 0;
            bundle.points.push_back(direction);
        } else {
            bundle.points.push_back(shot.truth[t].point.homogeneous().normalized());
        }
        for (const Sample& sample : shot.tracks[t].samples)
            bundle.observations.push_back({sample.frame - 1001, int(bundle.points.size()) - 1, sample.at, 1.0,
                                           rowOf(sample.at, shot.readout.columns, shot.plan.width, shot.plan.height)});
    }
    if (turns)
        for (Pose& pose : bundle.cameras) pose.translation.setZero();
    BundleOptions bundleOptions;
    bundleOptions.freePlaces = !turns;
    bundleOptions.free = {LensTerm::k1, LensTerm::k2, LensTerm::cx, LensTerm::cy};
    if (options.focal != Knowledge::known) bundleOptions.free.add(LensTerm::focal);
    if (bundle.isZoom()) bundleOptions.free.add(LensTerm::k1Slope);
    bundle.readout = shot.readout.share;
    if (shot.readout.isRolling()) bundleOptions.free.add(LensTerm::readout);
    bundleOptions.robustWidth_px = 3 * shot.plan.noise_px * shot.plan.width / 1920;
    bundleOptions.noise_px = shot.plan.noise_px;
    bundleOptions.rounds = 60;
    bundleOptions.settled = 0;
    bundleOptions.step = 0.05;
    adjust(bundle, bundleOptions);
    FoundCameras found;
    for (std::size_t f = 0; f < bundle.cameras.size(); ++f) {
        found.poses.push_back(bundle.cameras[f]);
        found.lenses.push_back(bundle.lensOf(f));
    }
    return judge(shot, found);
}

std::string toString(Verdict verdict) {
    switch (verdict) {
        case Verdict::good:
            return "good";
        case Verdict::fair:
            return "fair";
        case Verdict::wrong:
            return "WRONG";
        default:
            return "refused";
    }
}

Verdict verdictOf(const MadeShot& shot, const Judgement& own, const Judgement& best, bool doubtful) {
    // On a frame on which fewer of the scene are seen there is no camera to be found.
    constexpr int kFewest = 8;
    std::vector<int> seen(shot.poses.size(), 0);
    for (std::size_t t = 0; t < shot.tracks.size(); ++t)
        for (const Sample& sample : shot.tracks[t].samples)
            seen[std::size_t(sample.frame - 1001)] += shot.truth[t].good;
    const auto frames = std::count_if(seen.begin(), seen.end(), [](int count) { return count >= kFewest; });
    if (own.frames >= frames && own.truth_px <= std::max(0.5, 1.3 * best.truth_px) &&
        own.path <= std::max(0.01, 1.3 * best.path))
        return Verdict::good;
    if (!doubtful &&
        ((own.truth_px > 2 && own.truth_px > 2 * best.truth_px) || own.path > std::max(0.05, 1.3 * best.path)))
        return Verdict::wrong;
    return Verdict::fair;
}

Suspected suspected(const MadeShot& shot, const Solve& solve) {
    std::set<TrackId> listed;
    for (const Suspect& one : suspectsOf(solve, errorsOf(solve, shot.tracks)))
        if (isHarmful(one.reason)) listed.insert(one.track);
    Suspected result;
    for (const SolvedTrack& track : solve.tracks) {
        const MadeTrack& truth = shot.truth[std::size_t(track.track - 1)];
        const bool isListed = listed.contains(track.track);
        if (truth.good) {
            ++result.good;
            result.goodListed += isListed;
        } else if (truth.wrongBy_px >= 2 * shot.plan.width / 1920.0) {
            ++result.wrong;
            result.wrongListed += isListed;
        }
    }
    return result;
}

SortedOut sortedOut(const MadeShot& shot, const Solve& solve) {
    SortedOut result;
    for (const SolvedTrack& track : solve.tracks) {
        const MadeTrack& truth = shot.truth[std::size_t(track.track - 1)];
        const bool apart = track.role == TrackRole::disagreed || track.role == TrackRole::unplaced;
        if (truth.good) {
            ++result.good;
            result.goodApart += apart;
        } else if (truth.wrongBy_px >= 2 * shot.plan.width / 1920.0) {
            ++result.wrong;
            result.wrongApart += apart || (track.goodFrames && (track.goodFrames->second < truth.wrongFrom ||
                                                                track.goodFrames->first >= truth.wrongFrom));
        }
    }
    return result;
}

SolveOptions optionsFor(const MadeShot& shot, Knowledge focal) {
    SolveOptions options;
    options.width = shot.plan.width;
    options.height = shot.plan.height;
    options.focal = focal;
    // A zoom's known focal length is that of its first frame, which says that it zooms.
    if (focal != Knowledge::unknown && shot.plan.zoomTo_mm > 0) options.zoom = true;
    if (focal != Knowledge::unknown) options.focal_mm = shot.plan.focal_mm;
    if (focal == Knowledge::guessed) {
        // A guess is off by about what it claims.
        options.focalSigma_mm = 0.06 * shot.plan.focal_mm;
        options.focal_mm *= 1 + 0.05 * ((shot.plan.seed % 3) - 1.0);
    }
    return options;
}

}  // namespace pinion::bench
