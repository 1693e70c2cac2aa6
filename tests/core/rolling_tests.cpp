#include "camera/bundle.h"
#include "camera/framerows.h"
#include "camera/rolling.h"
#include "camera/rowposes.h"
#include "camera/solve.h"
#include "jobs/rowbend.h"
#include "scenarios/crowdedshot.h"
#include "scenarios/judge.h"
#include "truescene.h"

#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <random>

namespace pinion {

using bench::CrowdPlan;
using bench::MadeShot;
using Eigen::Quaterniond;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

Quaterniond turned(const Vector3d& turn) {
    return turn.norm() > 0 ? Quaterniond(Eigen::AngleAxisd(turn.norm(), turn.normalized())) : Quaterniond::Identity();
}

/// A hand's path at any time: places and turns of four sines each.
Pose handAt(double t) {
    const Vector3d turn(0.02 * std::sin(0.9 * t) + 0.01 * std::sin(0.31 * t), 0.006 * t + 0.015 * std::sin(1.1 * t + 1),
                        0.02 * std::sin(0.7 * t + 2));
    const Vector3d at(0.04 * t + 0.02 * std::sin(0.8 * t), 0.03 * std::sin(0.6 * t), 0.05 * std::sin(0.25 * t));
    Pose pose;
    pose.rotation = turned(turn);
    pose.translation = -(pose.rotation * at);
    return pose;
}

/// Points seen through rows: a bundle at its truth, but for the readout.
struct Rolled {
    Bundle bundle;
    double readout = 0.6;
    explicit Rolled(bool isZoom = false, double noise_px = 0, bool isNodal = false) {
        std::mt19937 random(4);
        std::uniform_real_distribution<double> unit(-1, 1);
        std::normal_distribution<double> noise(0, 1);
        bundle.lens = pinholeLens(1280, 720, 1000);
        bundle.lens.k1 = -0.05;
        for (int f = 0; f < 20; ++f) {
            bundle.cameras.push_back(handAt(f));
            if (isNodal) bundle.cameras.back().translation.setZero();
            bundle.times.push_back(1001 + f);
            if (isZoom) bundle.focals.push_back(1000 + 12.0 * f);
        }
        bundle.readout = readout;
        const RowPoses rows(bundle.cameras, bundle.times);
        for (int i = 0; i < 90; ++i) {
            const Vector3d place(5 * unit(random), 3 * unit(random), 8 + 3 * unit(random));
            const Eigen::Vector4d point = isNodal ? Eigen::Vector4d(place.x(), place.y(), place.z(), 0).normalized()
                                                  : place.homogeneous().normalized();
            bundle.points.push_back(point);
            for (int f = 0; f < 20; ++f) {
                Bundle::Observation seen{f, i, {0, 0}};
                for (int round = 0; round < 30; ++round) {
                    RowPoses::Slopes slopes;
                    const Pose pose = rows.at(std::size_t(f), readout * seen.row, &slopes);
                    const auto lens = rowLens(bundle, std::size_t(f), slopes).lens;
                    const Projection p =
                        project(lens, pose.rotation.toRotationMatrix(), pose.translation, point, Derived::nothing);
                    if (!p.inFront) break;
                    seen.plate = p.plate;
                    seen.row = rowOf(p.plate, false, 1280, 720);
                }
                if (seen.plate.x() <= 0 || seen.plate.y() <= 0 || seen.plate.x() >= 1280 || seen.plate.y() >= 720)
                    continue;
                seen.plate += noise_px * Vector2d(noise(random), noise(random));
                bundle.observations.push_back(seen);
            }
        }
        bundle.readout = 0;
    }
};

BundleOptions optionsOf(const Rolled& rolled, bool isNodal = false) {
    BundleOptions options;
    options.free = {LensTerm::focal, LensTerm::k1, LensTerm::readout};
    if (rolled.bundle.isZoom()) options.free.add(LensTerm::k1Slope);
    options.freePlaces = !isNodal;
    options.robustWidth_px = 3;
    options.rounds = 80;
    options.settled = 0;
    return options;
}

}  // namespace

TEST_CASE("a row's pose passes through the frames, keeps to a steady move, and tells how it follows them") {
    std::vector<Pose> cameras;
    for (int f = 0; f < 6; ++f) cameras.push_back(handAt(f));
    const std::vector<int> times{1001, 1002, 1003, 1004, 1005, 1006};
    const RowPoses rows(cameras, times);
    for (std::size_t f = 0; f < 6; ++f) {
        CHECK(rows.at(f, 0).rotation.angularDistance(cameras[f].rotation) < 1e-12);
        CHECK((rows.at(f, 0).centre() - cameras[f].centre()).norm() < 1e-12);
    }
    // The end of one frame's time is the beginning of the next one's.
    CHECK((rows.at(2, 0.5).centre() - rows.at(3, -0.5).centre()).norm() < 1e-12);
    CHECK(rows.at(2, 0.5).rotation.angularDistance(rows.at(3, -0.5).rotation) < 1e-4);
    // Nearer to the hand's own way than a straight line is.
    CHECK((rows.at(2, 0.4).centre() - handAt(2.4).centre()).norm() <
          0.2 * (0.6 * cameras[2].centre() + 0.4 * cameras[3].centre() - handAt(2.4).centre()).norm());

    SECTION("derivatives, against differences") {
        for (const std::size_t frame : {0, 1, 2, 3, 5})
            for (const double time : {-0.45, -0.1, 0.0, 0.3}) {
                RowPoses::Slopes slopes;
                const Pose pose = rows.at(frame, time, &slopes);
                INFO("frame " << frame << " time " << time);
                constexpr double kStep = 1e-6;
                const auto turnFrom = [&](const Pose& other) {
                    const Eigen::AngleAxisd turn(other.rotation * pose.rotation.conjugate());
                    return Vector3d(turn.angle() * turn.axis());
                };
                const Pose later = rows.at(frame, time + kStep);
                CHECK((turnFrom(later) / kStep - slopes.turnByTime).norm() < 1e-5);
                CHECK(((later.centre() - pose.centre()) / kStep - slopes.centreByTime).norm() < 1e-5);
                for (std::size_t k = 0; k < std::size_t(slopes.count); ++k)
                    for (int axis = 0; axis < 6; ++axis) {
                        std::vector<Pose> moved = cameras;
                        Pose& one = moved[std::size_t(slopes.cameras[k])];
                        if (axis < 3) one.rotation = turned(kStep * Vector3d::Unit(axis)) * one.rotation;
                        else one.translation += kStep * Vector3d::Unit(axis - 3);
                        const Pose other = RowPoses(moved, times).at(frame, time);
                        CHECK((((other.centre() - pose.centre()) / kStep) - slopes.centreByPose[k].col(axis)).norm() <
                              1e-5);
                        const Vector3d turn = axis < 3 ? Vector3d(slopes.turnByTurn[k].col(axis)) : Vector3d::Zero();
                        CHECK((turnFrom(other) / kStep - turn).norm() < 1e-5);
                    }
            }
    }
    SECTION("frames without a camera beside it are not looked across") {
        const std::vector<int> gapped{1001, 1002, 1007, 1008, 1009, 1010};
        const RowPoses apart(cameras, gapped);
        CHECK(apart.support(1) == std::pair(0, 1));
        CHECK(apart.support(2) == std::pair(2, 5));
        CHECK((apart.at(1, 0.4).centre() - (1.4 * cameras[1].centre() - 0.4 * cameras[0].centre())).norm() < 1e-12);
    }
}

TEST_CASE("the adjustment finds the readout that rows were seen with, of cameras that walk, turn and zoom") {
    const bool isZoom = GENERATE(false, true), isNodal = GENERATE(false, true);
    Rolled rolled(isZoom, 0, isNodal);
    std::mt19937 random(9);
    std::normal_distribution<double> noise(0, 0.002);
    for (Pose& pose : rolled.bundle.cameras)
        pose.rotation = turned(Vector3d(noise(random), noise(random), noise(random))) * pose.rotation;
    const BundleOptions options = optionsOf(rolled, isNodal);
    REQUIRE(adjust(rolled.bundle, options));
    INFO("zoom " << isZoom << " nodal " << isNodal);
    CHECK(rolled.bundle.readout == Approx(0.6).margin(2e-4));
    CHECK(costOf(rolled.bundle, options) < 1e-3);
    if (!isZoom) CHECK(rolled.bundle.lens.focal_px == Approx(1000).epsilon(1e-3));
}

TEST_CASE("where the adjustment of rows ends no camera, point or term could still lower the cost") {
    const bool isZoom = GENERATE(false, true);
    Rolled rolled(isZoom, 0.3);
    const BundleOptions options = optionsOf(rolled);
    REQUIRE(adjust(rolled.bundle, options));
    const double least = costOf(rolled.bundle, options);
    std::mt19937 random(3);
    std::normal_distribution<double> any(0, 1);
    for (int i = 0; i < 60; ++i) {
        const double size = std::pow(10, -4 - i % 3);
        Bundle moved = rolled.bundle;
        for (Pose& pose : moved.cameras) {
            pose.rotation = turned(size * Vector3d(any(random), any(random), any(random))) * pose.rotation;
            pose.translation += size * Vector3d(any(random), any(random), any(random));
        }
        for (auto& point : moved.points)
            point = (point + size * Eigen::Vector4d(any(random), any(random), any(random), any(random))).normalized();
        moved.readout += size * any(random);
        moved.lens.k1 += size * any(random);
        moved.lens.focal_px += 1000 * size * any(random);
        CHECK(costOf(moved, options) > least - 1e-6 * least);
    }
    const auto covariance = covarianceOf(rolled.bundle, options);
    REQUIRE(covariance);
    const double deviation = covariance->deviationOf(LensTerm::readout);
    CHECK(deviation > 1e-4);
    CHECK(std::abs(rolled.bundle.readout - 0.6) < 4 * deviation);
}

TEST_CASE(
    "rows are read to the end of their valley: from 2 % beside the focal length, and again from where that ended") {
    // Three passes of fifteen steps ended 1.2 % beside it, with 62 of 1313 good tracks left out, and without a doubt.
    CrowdPlan plan = bench::drawCrowd("rolling", 2001);
    plan.frames = 90;
    plan.tracks = 150;
    const MadeShot shot = make(plan);
    const SolveOptions options = bench::optionsFor(shot, Knowledge::unknown);
    const auto material = solving::gather(shot.tracks, options);
    REQUIRE(material);
    solving::Reconstruction scene = bench::trueSceneOf(shot, *material, options);
    for (std::size_t t = 0; t < material->trails.size(); ++t)
        if (!shot.truth[material->trails[t].track].good) scene.forgetPoint(t);
    Lens lens = shot.lens;
    lens.focal_px *= 1.02;
    scene.setLens(lens);
    const auto read = [&](double share) {
        solving::Material own = *material;
        const double sigma = solving::readByRows(scene, own, solving::lensPlanOf(options), share, true, Progress{});
        CHECK(std::abs(scene.readout() - shot.readout.share) < 0.015 + 3 * sigma);
        std::size_t lost = 0;
        for (std::size_t t = 0; t < material->trails.size(); ++t)
            lost += !material->trails[t].heldOut && shot.truth[material->trails[t].track].good && !scene.point(t);
        CHECK(lost <= 3);
        const double focal = scene.lens().focal_px;
        scene.continueOn(*material);
        return focal;
    };
    const double first = read(0.8 * shot.readout.share), again = read(scene.readout());
    CHECK(std::abs(first / shot.lens.focal_px - 1) < 0.006);
    CHECK(std::abs(again / first - 1) < 0.0015);
}

TEST_CASE("tracks alone tell a readout, its sign and whether it goes by columns") {
    CrowdPlan plan = bench::drawCrowd("rolling-quiet", 5);
    plan.frames = 90;
    plan.tracks = 150;
    plan.readout = GENERATE(0.5, -0.7, 0.0);
    plan.columns = GENERATE(false, true);
    const MadeShot shot = bench::make(plan);
    const auto material = *solving::gather(shot.tracks, bench::optionsFor(shot, Knowledge::unknown));
    const auto guess = solving::guessReadout(material, plan.columns),
               other = solving::guessReadout(material, !plan.columns);
    INFO("readout " << plan.readout << " columns " << plan.columns << ": " << guess.share << " ± " << guess.sigma
                    << ", the other way " << other.share << " ± " << other.sigma);
    CHECK(guess.isSure() == (plan.readout != 0));
    if (plan.readout == 0) return;
    CHECK(guess.share == Approx(plan.readout).margin(0.15));
    CHECK(std::abs(other.share / other.sigma) < std::abs(guess.share / guess.sigma));
}

TEST_CASE("a few frames on which something passes near by do not decide the readout") {
    // A mover fills frames of this pan: they jolt a hundred times as far, and said before that nothing was read by
    // rows.
    const MadeShot shot = bench::make(bench::drawCrowd("rolling-pan", GENERATE(1211U, 1212U)));
    const auto material = *solving::gather(shot.tracks, bench::optionsFor(shot, Knowledge::unknown));
    const auto guess = solving::guessReadout(material, false);
    INFO(guess.share << " ± " << guess.sigma << ", truly " << shot.readout.share);
    CHECK(guess.isSure());
    CHECK(guess.share == Approx(shot.readout.share).margin(0.2));
}

TEST_CASE("a true readout that was put aside, as what moves bends its reading, is taken up in the end") {
    // Read as filmed it wandered about, its truth 0.2 px off, without a word.
    CrowdPlan plan = bench::drawCrowd("rolling-pan", 1501);
    plan.frames = 104;
    plan.tracks = 60;
    const MadeShot shot = bench::make(plan);
    const SolveOptions options = bench::optionsFor(shot, Knowledge::unknown);
    const auto solve = solveCamera(shot.tracks, options);
    REQUIRE(solve);
    CHECK(solve->readout.share == Approx(shot.readout.share).margin(0.03));
    CHECK(solve->motion == CameraMotion::nodal);
    const auto own = bench::judge(shot, bench::camerasOf(shot, *solve)), best = bench::attainable(shot, options);
    INFO(own.truth_px << " px, attainable " << best.truth_px);
    CHECK(bench::verdictOf(shot, own, best, false) == bench::Verdict::good);
}

TEST_CASE("a pan that looked like a walk while its rows were not read turns once they are") {
    const MadeShot shot = bench::make(bench::drawCrowd("rolling-pan", 1901));
    const auto solve = solveCamera(shot.tracks, bench::optionsFor(shot, Knowledge::unknown));
    REQUIRE(solve);
    CHECK(solve->motion == CameraMotion::nodal);
    CHECK(solve->readout.share == Approx(shot.readout.share).margin(0.04));
}

TEST_CASE("tracks are carried to the time of the middle row along their own paths") {
    // One point that goes round, read late where it is low.
    Track track;
    track.id = 1;
    track.name = "t";
    std::vector<Sample> samples;
    const auto at = [](double t) { return Vector2d(960 + 300 * std::sin(0.2 * t), 540 + 400 * std::cos(0.2 * t)); };
    constexpr double kShare = 0.8;
    for (int f = 0; f < 40; ++f) {
        if (f == 20) continue;  // not seen
        Vector2d seen = at(f);
        for (int round = 0; round < 40; ++round) seen = at(f + kShare * rowOf(seen, false, 1920, 1080));
        samples.push_back({.frame = 1001 + f, .at = seen});
    }
    track.samples = List<Sample>(std::move(samples));
    SolveOptions options;
    options.width = 1920;
    options.height = 1080;
    options.holdOut = false;
    const std::vector<Track> tracks{track};
    auto material = *solving::gather(tracks, options);
    solving::readAtOnce(material, kShare);
    double before = 0;
    for (const auto& seen : material.trails.front().seen) {
        const int f = material.frames[std::size_t(seen.frame)] - 1001;
        INFO("frame " << f);
        before = std::max(before, (seen.filmed - at(f)).norm());
        // Beside the gap and at the ends fewer frames stand in.
        const bool isInside = f > 1 && f < 38 && std::abs(f - 20) > 2;
        CHECK((seen.plate - at(f)).norm() < (isInside ? 0.02 : 3.5));
    }
    CHECK(before > 15);

    // What leaps from the foot of the picture to its top while all of a frame is read would be read twice at once.
    Track leaping = track;
    leaping.samples = std::vector<Sample>{{.frame = 1001, .at = {900, 1080}},
                                          {.frame = 1002, .at = {900, 0}},
                                          {.frame = 1003, .at = {900, 1080}},
                                          {.frame = 1004, .at = {905, 0}}};
    const std::vector<Track> leaps{leaping};
    auto wild = *solving::gather(leaps, options);
    solving::readAtOnce(wild, 1.0);
    for (const auto& seen : wild.trails.front().seen) {
        CHECK(seen.plate.allFinite());
        CHECK((seen.plate - seen.filmed).norm() < 960);
    }
}

TEST_CASE("a shot read row by row is solved as well as one that was not, and the row is asked where a point is seen") {
    CrowdPlan plan = bench::drawCrowd("rolling", 3);
    plan.frames = 70;
    plan.tracks = 120;
    plan.noise_px = 0.1;
    const MadeShot shot = bench::make(plan);
    SolveOptions options = bench::optionsFor(shot, Knowledge::unknown);
    const auto solve = solveCamera(shot.tracks, options);
    REQUIRE(solve);
    const auto own = bench::judge(shot, bench::camerasOf(shot, *solve)), best = bench::attainable(shot, options);
    CHECK(bench::verdictOf(shot, own, best, !solve->doubt.empty()) == bench::Verdict::good);
    CHECK(solve->readout.share == Approx(plan.readout).margin(0.04));
    CHECK_FALSE(solve->readout.columns);
    // What is used lies where its tracks are, through the rows; through the frames' own poses it does not.
    std::vector<double> byRow, byFrame;
    Solve atOnce = *solve;
    atOnce.readout = {};
    for (const SolvedTrack& solved : solve->tracks) {
        if (!solved.xyz || solved.role != TrackRole::used) continue;
        for (const Sample& sample : shot.tracks[std::size_t(solved.track - 1)].samples) {
            const auto rows = projected(*solve, sample.frame, *solved.xyz),
                       frame = projected(atOnce, sample.frame, *solved.xyz);
            REQUIRE((rows && frame));
            byRow.push_back((*rows - sample.at).norm());
            byFrame.push_back((*frame - sample.at).norm());
        }
    }
    std::sort(byRow.begin(), byRow.end());
    std::sort(byFrame.begin(), byFrame.end());
    CHECK(byRow[byRow.size() / 2] < 0.3);
    CHECK(byFrame[byFrame.size() / 2] > 2 * byRow[byRow.size() / 2]);

    SECTION("what is known of the readout is kept, and none is none") {
        options.reading = SolveOptions::Reading::known;
        options.readoutShare = plan.readout;
        options.readoutSigma = 0;
        const auto known = solveCamera(shot.tracks, options);
        REQUIRE(known);
        CHECK(known->readout.share == plan.readout);
        CHECK(known->readoutDeviation == 0);
        options.reading = SolveOptions::Reading::atOnce;
        const auto none = solveCamera(shot.tracks, options);
        if (none) CHECK_FALSE(none->readout.isRolling());
    }
}

TEST_CASE("rows are straightened as the middle one would have seen them, and bent again") {
    const bool isZoom = GENERATE(false, true), isNodal = GENERATE(false, true);
    auto solve = std::make_shared<Solve>();
    solve->lens = pinholeLens(1280, 720, 1000);
    solve->lens.k1 = -0.06;
    solve->lens.cx = 646;
    solve->readout = {0.7, false};
    solve->zoom = isZoom;
    solve->k1Slope = isZoom ? 0.02 : 0;
    solve->motion = isNodal ? CameraMotion::nodal : CameraMotion::travelling;
    std::vector<SolvedFrame> frames;
    for (int f = 0; f < 12; ++f) {
        Pose pose = handAt(f);
        if (isNodal) pose.translation.setZero();
        frames.push_back(
            {.frame = 1001 + f, .worldFromCamera = worldFromCamera(pose), .focal_px = isZoom ? 1000 + 10.0 * f : 1000});
    }
    solve->frames = List<SolvedFrame>(std::move(frames));
    // A wall eight units before the camera of frame 1006.
    const auto rows = *FrameRows::of(*solve, 1006);
    const FrameRows::View middle = rows.at(0.0);
    std::vector<SolvedTrack> tracks;
    for (int i = -2; i <= 2; ++i)
        if (!isNodal)
            tracks.push_back(
                {.role = TrackRole::used,
                 .xyz = middle.pose.rotation.conjugate() * (Vector3d(i, 0.4 * i, 8) - middle.pose.translation)});
    solve->tracks = List<SolvedTrack>(std::move(tracks));
    const RowGlass glass{solve};
    const PixelBox whole{0, 0, 1280, 720};
    const LookUp out = undistortingRows(glass, 1006, whole), plain = undistorting(lensOn(*solve, 1006), whole);
    const LookUp back = redistortingRows(glass, 1006, whole);
    const auto at = [&](const LookUp& table, int x, int y) {
        const std::size_t i = 2 * (std::size_t(y) * 1280 + std::size_t(x));
        return Vector2d(table.xy[i], table.xy[i + 1]);
    };
    double farthest = 0;
    for (const auto& [x, y] : {std::pair{200, 60}, {640, 360}, {1000, 650}, {300, 500}, {1100, 120}}) {
        INFO("pixel " << x << ", " << y);
        // Where the wall's point is truly read.
        const Vector3d ray((x + 0.5 - 646) / middle.lens.focal_px, (y + 0.5 - 360) / middle.lens.focal_px, 1);
        const Vector3d world =
            middle.pose.rotation.conjugate() * ((isNodal ? 50.0 : 8.0) * ray - middle.pose.translation);
        const auto read = rows.projected(world);
        REQUIRE(read);
        CHECK((at(out, x, y) - *read).norm() < 0.05);
        farthest = std::max(farthest, (at(out, x, y) - at(plain, x, y)).norm());
        // And back: the plate's pixel lies where its row's ray meets the wall.
        const Vector2d plate = at(out, x, y);
        const Vector2d straight = at(back, int(plate.x()), int(plate.y()));
        CHECK((straight - Vector2d(x + 0.5, y + 0.5)).norm() < 1.2);  // of the next whole pixel
    }
    CHECK(farthest > 1.5);
    const std::vector<float> error = roundTripError(out, back);
    double worst = 0;
    for (int y = 100; y < 620; y += 20)
        for (int x = 100; x < 1180; x += 20) {
            const float one = error[std::size_t(y) * 1280 + std::size_t(x)];
            if (std::isfinite(one)) worst = std::max(worst, double(one));
        }
    CHECK(worst < 0.1);

    const StMap map = mapOf(out, whole, 1280, 720);
    const LookUp again = lookUpOf(map, whole, 1280, 720);
    CHECK((at(again, 300, 500) - at(out, 300, 500)).norm() < 1e-3);
    // A frame without a camera is bent by its lens alone.
    CHECK(undistortingRows(glass, 1050, whole).xy == undistorting(solve->lens, whole).xy);
}

}  // namespace pinion
