#include "camera/bundle.h"
#include "camera/relativepose.h"
#include "camera/resect.h"
#include "camera/solve.h"
#include "world/world.h"

#include <ceres/ceres.h>
#include <ceres/rotation.h>
#undef CHECK  // the logging library that Ceres brings has one too
#include <catch2/catch.hpp>
#include <opencv2/calib3d.hpp>
#include <random>

using namespace pinion;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

struct SyntheticShot {
    Lens lens;
    std::vector<Pose> poses;
    std::vector<Vector3d> points;
    std::vector<Track> tracks;
};

/// A walk past boxes of points, seen through a barrel lens, with noise of 0.2 px; `move` scales the walk, 0 is a nodal
/// pan.
SyntheticShot syntheticShot(double move, int frames = 40, int count = 220) {
    SyntheticShot shot;
    shot.lens = pinholeLens(1280, 720, 1100);
    shot.lens.k1 = -0.1;
    std::mt19937 random(5);
    std::uniform_real_distribution<double> unit(-1, 1);
    std::normal_distribution<double> noise(0, 0.2);
    for (int i = 0; i < count; ++i)
        shot.points.emplace_back(5 * unit(random), 2.5 * unit(random), 9 + 4 * unit(random));
    for (int f = 0; f < frames; ++f) {
        const double t = double(f) / (frames - 1);
        Pose pose;
        pose.rotation = Eigen::Quaterniond(Eigen::AngleAxisd(0.12 * t - 0.06, Vector3d::UnitY()) *
                                           Eigen::AngleAxisd(0.02 * std::sin(9 * t), Vector3d::UnitX()));
        pose.translation =
            -(pose.rotation * Vector3d(move * (2.4 * t - 1.2), move * 0.1 * std::sin(12 * t), move * 0.8 * t));
        shot.poses.push_back(pose);
    }
    for (int i = 0; i < count; ++i) {
        Track track;
        track.id = i + 1;
        track.name = fmt::format("t{}", i);
        std::vector<Sample> samples;
        for (int f = 0; f < frames; ++f) {
            const Vector3d seen = shot.poses[std::size_t(f)].cameraFromWorld(shot.points[std::size_t(i)]);
            if (seen.z() < 0.1) continue;
            const auto plate = plateFromPlane(shot.lens, seen.hnormalized());
            if (!plate || plate->x() < 0 || plate->y() < 0 || plate->x() > 1280 || plate->y() > 720) continue;
            samples.push_back({.frame = 1001 + f, .at = *plate + Vector2d(noise(random), noise(random))});
        }
        if (samples.size() < 5) continue;
        track.samples = List<Sample>(samples);
        shot.tracks.push_back(track);
    }
    return shot;
}

SolveOptions optionsFor(const SyntheticShot& shot) {
    SolveOptions options;
    options.width = shot.lens.width;
    options.height = shot.lens.height;
    return options;
}

std::vector<PlanePair> pairsOf(const SyntheticShot& shot, std::size_t a, std::size_t b) {
    std::vector<PlanePair> pairs;
    for (const Vector3d& p : shot.points)
        pairs.push_back(
            {shot.poses[a].cameraFromWorld(p).hnormalized(), shot.poses[b].cameraFromWorld(p).hnormalized()});
    return pairs;
}

}  // namespace

TEST_CASE("the five-point motion is the true one and OpenCV's") {
    const SyntheticShot shot = syntheticShot(1.0);
    const auto pairs = pairsOf(shot, 0, 39);
    const auto found = relativePose(pairs);
    REQUIRE(found);
    const Pose& a = shot.poses[0];
    const Pose& b = shot.poses[39];
    const Eigen::Quaterniond rotation = b.rotation * a.rotation.conjugate();
    const Vector3d translation = (b.translation - rotation * a.translation).normalized();
    CHECK(found->second.rotation.angularDistance(rotation) < 1e-6);
    CHECK((found->second.translation.normalized() - translation).norm() < 1e-6);
    CHECK(found->inlierCount == int(pairs.size()));

    std::vector<cv::Point2d> first, second;
    for (const PlanePair& pair : pairs) {
        first.emplace_back(pair.first.x(), pair.first.y());
        second.emplace_back(pair.second.x(), pair.second.y());
    }
    cv::Mat r, t, mask;
    const cv::Mat essential = cv::findEssentialMat(first, second, 1.0, {0, 0}, cv::RANSAC, 0.999, 0.001, mask);
    cv::recoverPose(essential, first, second, r, t, 1.0, {0, 0}, mask);
    const Eigen::Matrix3d ours = found->second.rotation.toRotationMatrix();
    for (int i = 0; i < 3; ++i) {
        CHECK(t.at<double>(i) == Approx(found->second.translation.normalized()[i]).margin(1e-4));
        for (int j = 0; j < 3; ++j) CHECK(r.at<double>(i, j) == Approx(ours(i, j)).margin(1e-4));
    }
}

TEST_CASE("a relative pose survives a third of wrong pairs") {
    const SyntheticShot shot = syntheticShot(1.0);
    auto pairs = pairsOf(shot, 0, 30);
    for (std::size_t i = 0; i < pairs.size(); i += 3) pairs[i].second += Vector2d(0.05 + 0.001 * double(i), -0.08);
    const auto found = relativePose(pairs);
    REQUIRE(found);
    CHECK(found->second.rotation.angularDistance(shot.poses[30].rotation * shot.poses[0].rotation.conjugate()) < 1e-4);
}

TEST_CASE("resection finds the pose, alone and from a guess, and agrees with OpenCV's solvePnP") {
    const SyntheticShot shot = syntheticShot(1.0);
    const Pose& truth = shot.poses[17];
    std::vector<Sighting> sightings;
    std::vector<cv::Point3d> world;
    std::vector<cv::Point2d> plane;
    for (const Vector3d& p : shot.points) {
        sightings.push_back({p, truth.cameraFromWorld(p).hnormalized()});
        world.emplace_back(p.x(), p.y(), p.z());
        plane.emplace_back(sightings.back().plane.x(), sightings.back().plane.y());
    }
    cv::Vec3d turn, move;
    REQUIRE(cv::solvePnP(world, plane, cv::Matx33d::eye(), cv::noArray(), turn, move));
    for (std::size_t i = 0; i < sightings.size(); i += 4) sightings[i].plane += Vector2d(0.1, 0.07);
    for (const bool guessed : {false, true}) {
        ResectionOptions options;
        if (guessed) options.guess = shot.poses[15];
        const auto pose = resect(sightings, 1100, options);
        REQUIRE(pose);
        CHECK(pose->rotation.angularDistance(truth.rotation) < 1e-5);
        CHECK((pose->centre() - truth.centre()).norm() < 1e-4);
        CHECK((pose->translation - Vector3d(move[0], move[1], move[2])).norm() < 1e-3);
    }
    const auto few = resect(std::span(sightings).first(5), 1100);
    REQUIRE_FALSE(few);
    CHECK(few.error().message.find("5") != std::string::npos);
}

TEST_CASE("three sightings give the pose among at most four") {
    const SyntheticShot shot = syntheticShot(1.0);
    for (std::size_t k = 0; k < 20; ++k) {
        std::array<Sighting, 3> three;
        for (std::size_t i = 0; i < 3; ++i)
            three[i] = {shot.points[k * 7 + i * 3],
                        shot.poses[11].cameraFromWorld(shot.points[k * 7 + i * 3]).hnormalized()};
        const auto poses = poseFromThree(three);
        REQUIRE(poses.size() <= 4);
        double best = 1e9;
        for (const Pose& pose : poses) best = std::min(best, (pose.centre() - shot.poses[11].centre()).norm());
        CHECK(best < 1e-5);
    }
}

namespace {

/// The same error in Ceres' own terms, differentiated by it.
struct CeresReprojection {
    Vector2d plate;
    template <class T>
    bool operator()(const T* camera, const T* point, const T* lens, T* residual) const {
        T seen[3];
        ceres::AngleAxisRotatePoint(camera, point, seen);
        for (int i = 0; i < 3; ++i) seen[i] += camera[3 + i];
        const T x = seen[0] / seen[2], y = seen[1] / seen[2];
        const T r2 = x * x + y * y;
        const T radial = T(1) + r2 * (lens[1] + r2 * lens[2]);
        residual[0] = lens[0] * x * radial + T(640) - T(plate.x());
        residual[1] = lens[0] * y * radial + T(360) - T(plate.y());
        return true;
    }
};

double robustCost(const Bundle& bundle, double width) {
    double cost = 0;
    const std::vector<Vector2d> places = modelledPlaces(bundle);
    for (std::size_t i = 0; i < places.size(); ++i)
        cost += 0.5 * width * width *
                std::log1p((places[i] - bundle.observations[i].plate).squaredNorm() / (width * width));
    return cost;
}

}  // namespace

TEST_CASE("the bundle adjustment reaches the minimum that Ceres finds") {
    const SyntheticShot shot = syntheticShot(1.0, 12, 80);
    Bundle bundle;
    bundle.lens = pinholeLens(1280, 720, 1000);
    std::mt19937 random(2);
    std::normal_distribution<double> noise(0, 0.03);
    for (const Pose& pose : shot.poses)
        bundle.cameras.push_back(
            {pose.rotation, pose.translation + Vector3d(noise(random), noise(random), noise(random))});
    for (const Vector3d& p : shot.points)
        bundle.points.push_back((p + Vector3d(noise(random), noise(random), noise(random))).homogeneous().normalized());
    for (std::size_t t = 0; t < shot.tracks.size(); ++t)
        for (const Sample& sample : shot.tracks[t].samples)
            bundle.observations.push_back({sample.frame - 1001, int(shot.tracks[t].id) - 1, sample.at});

    std::vector<std::array<double, 6>> cameras(bundle.cameras.size());
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        const Eigen::AngleAxisd turn(bundle.cameras[i].rotation);
        for (int k = 0; k < 3; ++k) {
            cameras[i][std::size_t(k)] = turn.angle() * turn.axis()[k];
            cameras[i][std::size_t(k) + 3] = bundle.cameras[i].translation[k];
        }
    }
    std::vector<Vector3d> points;
    for (const Eigen::Vector4d& p : bundle.points) points.emplace_back(p.head<3>() / p[3]);
    double lens[3] = {1000, 0, 0};
    ceres::Problem problem;
    for (const auto& seen : bundle.observations)
        problem.AddResidualBlock(
            new ceres::AutoDiffCostFunction<CeresReprojection, 2, 6, 3, 3>(new CeresReprojection{seen.plate}),
            new ceres::CauchyLoss(1.0), cameras[std::size_t(seen.camera)].data(),
            points[std::size_t(seen.point)].data(), lens);
    problem.SetParameterBlockConstant(cameras[0].data());
    ceres::Solver::Options solverOptions;
    solverOptions.linear_solver_type = ceres::DENSE_SCHUR;
    solverOptions.max_num_iterations = 200;
    solverOptions.function_tolerance = 1e-12;
    solverOptions.logging_type = ceres::SILENT;
    ceres::Solver::Summary summary;
    ceres::Solve(solverOptions, &problem, &summary);

    BundleOptions options{.free = {LensTerm::focal, LensTerm::k1, LensTerm::k2},
                          .robustWidth_px = 1.0,
                          .noise_px = 1e-4,
                          .rounds = 200,
                          .settled = 1e-12};
    REQUIRE(adjust(bundle, options));
    CHECK(robustCost(bundle, 1.0) == Approx(summary.final_cost).epsilon(1e-4));
    CHECK(bundle.lens.focal_px == Approx(lens[0]).epsilon(1e-3));
    CHECK(bundle.lens.k1 == Approx(lens[1]).margin(2e-3));
}

TEST_CASE("a travelling camera is solved with its focal length and distortion, movers set apart") {
    SyntheticShot shot = syntheticShot(1.0);
    // A trolley: twenty tracks that drift across the picture on their own.
    for (std::size_t i = 0; i < 20; ++i)
        shot.tracks[i * 9].samples = shot.tracks[i * 9].samples.edited([&](auto& samples) {
            for (Sample& sample : samples)
                sample.at += Vector2d(3.0 * (sample.frame - 1001), -0.6 * (sample.frame - 1001));
        });
    const auto solve = solveCamera(shot.tracks, optionsFor(shot));
    REQUIRE(solve);
    CHECK(solve->frames.size() == 40);
    CHECK(solve->lens.focal_px == Approx(1100).epsilon(0.01));
    CHECK(solve->lens.k1 == Approx(-0.1).margin(0.02));
    CHECK(solve->rms_px < 0.35);
    CHECK(solve->heldOut > 10);
    CHECK(solve->heldOutRms_px == Approx(solve->rms_px).epsilon(0.4));
    CHECK(solve->disagreed >= 18);
    REQUIRE(solve->focalDeviation_mm);
    // The true focal length lies within a few of the deviations that are claimed.
    const double deviation_px = *solve->focalDeviation_mm / 36 * 1280;
    CHECK(std::abs(solve->lens.focal_px - 1100) < 5 * deviation_px);
    // The path, after the similarity that no camera can know.
    Eigen::Matrix3Xd found(3, 40), real(3, 40);
    for (int f = 0; f < 40; ++f) {
        found.col(f) = solve->frames[std::size_t(f)].worldFromCamera.translation();
        real.col(f) = shot.poses[std::size_t(f)].centre();
    }
    const Eigen::Matrix4d fit = Eigen::umeyama(found, real, true);
    CHECK(((fit.topLeftCorner<3, 3>() * found).colwise() + fit.topRightCorner<3, 1>() - real)
              .colwise()
              .norm()
              .maxCoeff() < 0.03);
}

TEST_CASE("a known focal length is kept, a guessed one is drawn to its value") {
    const SyntheticShot shot = syntheticShot(1.0);
    SolveOptions options = optionsFor(shot);
    options.focal = Knowledge::known;
    options.focal_mm = 1100 * 36.0 / 1280;
    const auto known = solveCamera(shot.tracks, options);
    REQUIRE(known);
    CHECK(known->lens.focal_px == Approx(1100));
    CHECK_FALSE(known->focalDeviation_mm);
    options.focal = Knowledge::guessed;
    options.focal_mm = 33;
    options.focalSigma_mm = 0.001;
    const auto guessed = solveCamera(shot.tracks, options);
    REQUIRE(guessed);
    CHECK(guessed->lens.focal_px * 36 / 1280 == Approx(33).margin(0.05));
}

TEST_CASE("what cannot be solved says why") {
    // Frames that all see the same from one place: asked to travel, it has nowhere to go.
    const SyntheticShot nodal = syntheticShot(0.0);
    const auto pan = solveCamera(nodal.tracks, optionsFor(nodal));
    REQUIRE(pan);
    CHECK(pan->motion == CameraMotion::nodal);
    CHECK(pan->reason.find("only turns") != std::string::npos);

    SyntheticShot shot = syntheticShot(1.0);
    const auto few = solveCamera(std::span(shot.tracks).first(5), optionsFor(shot));
    REQUIRE_FALSE(few);
    CHECK(few.error().message.find("only 5 tracks") != std::string::npos);
    for (Track& track : shot.tracks)
        track.samples = track.samples.edited(
            [](auto& samples) { std::erase_if(samples, [](const Sample& s) { return s.frame > 1002; }); });
    const auto two = solveCamera(shot.tracks, optionsFor(shot));
    REQUIRE_FALSE(two);
    CHECK(two.error().message.find("only 2 frames") != std::string::npos);
    CHECK_FALSE(solveCamera({}, optionsFor(shot)));
    Progress progress;
    progress.stop();
    const auto stopped = solveCamera(nodal.tracks, optionsFor(nodal), progress);
    REQUIRE_FALSE(stopped);
}

TEST_CASE("the ground lies at zero with the cameras above it, the origin and the scale as chosen") {
    const SyntheticShot shot = syntheticShot(1.0);
    Solve solve;
    std::vector<SolvedFrame> frames;
    for (std::size_t f = 0; f < shot.poses.size(); ++f)
        frames.push_back({.frame = 1001 + int(f), .worldFromCamera = worldFromCamera(shot.poses[f])});
    solve.frames = List<SolvedFrame>(frames);
    // A tilted floor below the cameras; in this world y points down, as a solve may come out.
    std::vector<SolvedTrack> tracks;
    for (int i = 0; i < 6; ++i) {
        const double x = (i % 3) - 1.0;
        const double z = 6 + (i / 3) * 2.0;
        tracks.push_back({.track = i + 1, .role = TrackRole::used, .xyz = Vector3d(x, 1.5 + 0.2 * x + 0.1 * z, z)});
    }
    tracks.push_back({.track = 7, .role = TrackRole::used, .xyz = Vector3d(5, 1.5 + 0.2 * 5 + 0.1 * 6, 6)});
    solve.tracks = List<SolvedTrack>(tracks);
    World world;
    world.ground = List<TrackId>({1, 2, 3, 4, 5});
    world.origin = 2;
    world.measures = std::vector<World::Measure>{{1, 3, 2.5}};
    const auto orientation = orient(world, solve);
    REQUIRE(orientation);
    for (std::size_t i = 0; i < 7; ++i) CHECK(orientation->apply(*tracks[i].xyz).y() == Approx(0).margin(1e-9));
    CHECK(orientation->apply(*tracks[1].xyz).norm() < 1e-9);
    CHECK((orientation->apply(*tracks[2].xyz) - orientation->apply(*tracks[0].xyz)).norm() == Approx(2.5));
    for (const SolvedFrame& frame : solve.frames)
        CHECK(orientation->apply(Vector3d(frame.worldFromCamera.translation())).y() > 0);
    CHECK(orientation->rotation.determinant() == Approx(1));
    CHECK((orientation->undo(orientation->apply(Vector3d(1, 2, 3))) - Vector3d(1, 2, 3)).norm() < 1e-9);

    // A second length, which says that all is a tenth larger: both count, the longer one more.
    const auto distance = [&](int i, int j) {
        return (*tracks[std::size_t(i)].xyz - *tracks[std::size_t(j)].xyz).norm();
    };
    world.measures = std::vector<World::Measure>{{1, 3, 2 * distance(0, 2)}, {1, 6, 2.2 * distance(0, 5)}};
    const auto averaged = orient(world, solve);
    REQUIRE(averaged);
    const double wider = std::pow(distance(0, 5), 2) / (std::pow(distance(0, 5), 2) + std::pow(distance(0, 2), 2));
    CHECK(averaged->scale == Approx(2 + 0.2 * wider));
    const auto misses = measureMisses(world, solve, *averaged);
    REQUIRE(misses.size() == 2);
    CHECK(misses[0] == Approx(averaged->scale / 2 - 1));
    CHECK(misses[1] == Approx(averaged->scale / 2.2 - 1));
    world.measures = {};
    world.height_m = 1.75;
    const auto high = orient(world, solve);
    REQUIRE(high);
    CHECK(high->apply(Vector3d(frames.front().worldFromCamera.translation())).y() == Approx(1.75));
    // Along x, turned from there, and upside down.
    world.facing = World::Facing{1, 6};
    const auto faced = orient(world, solve);
    REQUIRE(faced);
    const auto along = [&](const Orientation& o) {
        return Vector3d(o.apply(*tracks[5].xyz) - o.apply(*tracks[0].xyz));
    };
    CHECK(along(*faced).x() == Approx(along(*faced).norm()));
    CHECK(faced->rotation.determinant() == Approx(1));
    world.turn_deg = 90;
    // Counterclockwise from above x comes to lie where -z was.
    CHECK(along(*orient(world, solve)).z() == Approx(-along(*faced).norm()));
    world.turn_deg = 0;
    world.flipped = true;
    const auto flipped = orient(world, solve);
    REQUIRE(flipped);
    CHECK(flipped->apply(Vector3d(frames.front().worldFromCamera.translation())).y() == Approx(-1.75));
    CHECK(flipped->apply(*tracks[3].xyz).y() == Approx(0).margin(1e-9));
    CHECK(along(*flipped).x() > 0);
    CHECK(flipped->rotation.determinant() == Approx(1));
    world.flipped = false;
    // A wall of its own, a little off upright: it looks towards z, where the cameras are.
    std::vector<SolvedTrack> walled = tracks;
    for (int i = 0; i < 4; ++i)
        walled.push_back({.track = 20 + i,
                          .role = TrackRole::used,
                          .xyz = Vector3d(i % 2 - 0.5, i < 2 ? -1.0 : 1.0, 9 + 0.4 * (i % 2) + (i < 2 ? 0.02 : 0))});
    // And a post on the floor, as upright as that is.
    for (int i = 0; i < 2; ++i)
        walled.push_back({.track = 30 + i,
                          .role = TrackRole::used,
                          .xyz = *tracks[4].xyz + i * Vector3d(0.2, -1, 0.1).normalized()});
    Solve house = solve;
    house.tracks = List<SolvedTrack>(walled);
    world.facing.reset();
    world.wall = List<TrackId>({20, 21, 22, 23});
    const auto squared = orient(world, house);
    REQUIRE(squared);
    const auto placeOf = [&](std::size_t i) { return squared->apply(*walled[i].xyz); };
    const Vector3d level = placeOf(8) - placeOf(7);
    CHECK(level.z() == Approx(0).margin(0.1 * level.norm()));
    CHECK(squared->apply(Vector3d(frames.front().worldFromCamera.translation())).z() > placeOf(7).z());
    world.wall = List<TrackId>({1, 2, 3, 4, 5});
    CHECK(orient(world, house).error().message.find("no heading") != std::string::npos);
    world.wall = List<TrackId>({20, 21});
    CHECK(orient(world, house).error().message.find("the wall needs three points") != std::string::npos);
    world.wall = {};
    world.facing = World::Facing{1, 99};
    CHECK(orient(world, solve).error().message.find("not part of the solve") != std::string::npos);
    world.facing = World::Facing{30, 31};
    const auto upright = orient(world, house);
    REQUIRE_FALSE(upright);
    CHECK(upright.error().message.find("stands upright") != std::string::npos);
    world.facing.reset();
    World high2;
    high2.height_m = 1.5;
    CHECK(orient(high2, solve).error().message.find("set the ground first") != std::string::npos);
    const auto heights = groundResiduals(world, solve, *high);
    REQUIRE(heights.size() == 5);
    CHECK(std::abs(heights.front().height) >= std::abs(heights.back().height));

    world.ground = List<TrackId>({1, 2, 3});
    CHECK(orient(world, solve).error().message.find("on a line") != std::string::npos);
    world.ground = List<TrackId>({1, 2, 99});
    CHECK(orient(world, solve).error().message.find("not part of the solve") != std::string::npos);
}
