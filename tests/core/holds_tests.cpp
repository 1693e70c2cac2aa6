// What the whole picture's motion may be: a shift, a similarity, perspective; and how still a hold leaves true points.

#include "exchange/transforms.h"
#include "holds.h"
#include "scratch.h"
#include "shot/file/shotfile.h"
#include "shot/stages/steadystage.h"
#include "steady/fits.h"
#include "steady/shake.h"

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>
#include <random>

using namespace pinion;
using bench::ShakenShot;
using bench::shakenShot;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

FrameRange rangeOf(const ShakenShot& shot) { return {0, shot.frames - 1}; }

/// The same tracks' places carried by made motions instead of a camera.
std::vector<Track> heldTracks(const ShakenShot& shot, const std::function<Matrix3d(int)>& motion, double noise) {
    std::mt19937 random(3);
    std::normal_distribution<double> normal;
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks) {
        Track made = track;
        const Vector2d place = track.samples.front().at;
        made.samples = track.samples.edited([&](std::vector<Sample>& samples) {
            for (Sample& sample : samples)
                sample.at = carried(motion(sample.frame), place) + noise * Vector2d(normal(random), normal(random));
        });
        tracks.push_back(std::move(made));
    }
    return tracks;
}

}  // namespace

TEST_CASE("a hold in perspective keeps true points as still as undoing the camera's turns; a similarity does not") {
    for (const char* scene : {"far", "near"})
        for (const unsigned seed : {21U, 22U}) {
            INFO(scene << " " << seed);
            const ShakenShot shot = shakenShot(scene, seed);
            const auto found = pictureMotionOf(shot.tracks, 0, rangeOf(shot));
            REQUIRE(found);
            CHECK(found->kind == MotionKind::perspective);
            CHECK(found->reason.find("where a similarity leaves") != std::string::npos);
            CHECK(shot.jitter(*found) < 0.1 + shot.jitter(shot.undoneByTruth()));
            CHECK(shot.jitter(*found) < 0.15);
            const auto similar = pictureMotionOf(shot.tracks, 0, rangeOf(shot), PictureModel::similarity);
            REQUIRE(similar);
            CHECK(similar->kind == MotionKind::similarity);
            CHECK(shot.jitter(*similar) > 0.5);
            // Its reference frame may be any.
            const auto later = pictureMotionOf(shot.tracks, 50, rangeOf(shot));
            REQUIRE(later);
            CHECK(later->at(50)->plateFromReference.isApprox(Matrix3d::Identity(), 1e-12));
            CHECK(shot.jitter(*later) < 0.15);
        }
    const ShakenShot deep = shakenShot("deep", 23);
    const auto found = pictureMotionOf(deep.tracks, 0, rangeOf(deep));
    REQUIRE(found);
    CHECK(deep.jitter(*found) < 0.1 + deep.jitter(deep.undoneByTruth()));
}

TEST_CASE("found out, the motion is the least that explains the tracks, and it is said which") {
    const ShakenShot shot = shakenShot("far", 31);
    const auto kindOf = [&](const std::vector<Track>& tracks) {
        const auto motion = pictureMotionOf(tracks, 0, rangeOf(shot));
        REQUIRE(motion);
        INFO(motion->reason);
        CHECK_FALSE(motion->reason.empty());
        return motion->kind;
    };
    const auto shift = [](int frame) {
        return MotionParts{{9 * std::sin(0.4 * frame), 5 * std::cos(0.7 * frame)}}.about({960, 540});
    };
    const auto turnToo = [](int frame) {
        return MotionParts{{9 * std::sin(0.4 * frame), 5 * std::cos(0.7 * frame)},
                           0.01 * std::sin(0.5 * frame),
                           1 + 0.01 * std::sin(0.3 * frame)}
            .about({960, 540});
    };
    const auto recede = [&](int frame) {
        Matrix3d matrix = turnToo(frame);
        matrix(2, 0) = 4e-6 * std::sin(0.6 * frame);
        matrix(2, 1) = 3e-6 * std::cos(0.5 * frame);
        return matrix;
    };
    for (const double noise : {0.05, 0.3}) {
        CHECK(kindOf(heldTracks(shot, shift, noise)) == MotionKind::position);
        CHECK(kindOf(heldTracks(shot, turnToo, noise)) == MotionKind::similarity);
        CHECK(kindOf(heldTracks(shot, recede, noise)) == MotionKind::perspective);
    }
    // Asked for, it is what was asked.
    const auto tracks = heldTracks(shot, recede, 0.05);
    for (const auto& [model, kind] : {std::pair{PictureModel::position, MotionKind::position},
                                      std::pair{PictureModel::similarity, MotionKind::similarity},
                                      std::pair{PictureModel::perspective, MotionKind::perspective}})
        CHECK(pictureMotionOf(tracks, 0, rangeOf(shot), model)->kind == kind);
}

TEST_CASE("perspective is not taken from too few tracks, nor round a corner") {
    const ShakenShot shot = shakenShot("far", 41);
    std::vector<Track> few;
    for (const Track& track : shot.tracks)
        if (track.samples.size() > 10 && few.size() < 120) few.push_back(track);
    // On one frame only a corner of the picture is tracked.
    for (Track& track : few)
        track.samples = track.samples.edited([](std::vector<Sample>& samples) {
            std::erase_if(samples, [](const Sample& s) { return s.frame == 40 && s.at.x() > 600; });
        });
    const auto found = pictureMotionOf(few, 0, rangeOf(shot));
    REQUIRE(found);
    CHECK(found->kind == MotionKind::similarity);
    CHECK(found->reason.find("too few tracks for perspective") != std::string::npos);
    const auto asked = pictureMotionOf(few, 0, rangeOf(shot), PictureModel::perspective);
    REQUIRE_FALSE(asked);
    CHECK(asked.error().message.find("perspective needs 10 tracks all over the picture") != std::string::npos);
}

TEST_CASE("what a pan in perspective is eased to stays the pan; no strength leaves the picture as it is") {
    // A pan of 12 degrees with a hand's shake on it.
    const double focal = 2000;
    Matrix3d pinhole;
    pinhole << focal, 0, 960, 0, focal, 540, 0, 0, 1;
    const auto turned = [&](double pan, double tilt) {
        const Matrix3d turn =
            (Eigen::AngleAxisd(pan, Eigen::Vector3d::UnitY()) * Eigen::AngleAxisd(tilt, Eigen::Vector3d::UnitX()))
                .toRotationMatrix();
        const Matrix3d matrix = pinhole * turn * pinhole.inverse();
        return Matrix3d(matrix / matrix(2, 2));
    };
    PlateMotion motion{MotionKind::perspective, 0, {960, 540}, {}, {}};
    std::vector<Matrix3d> intended;
    for (int frame = 0; frame < 120; ++frame) {
        const double pan = 0.2 * frame / 120;
        motion.frames.push_back(
            {frame, turned(pan + 0.004 * std::sin(1.7 * frame), 0.003 * std::sin(2.1 * frame + 1)), 100, 0.1});
        intended.push_back(turned(pan, 0));
    }
    SteadyOptions ease;
    ease.mode = SteadyOptions::Mode::ease;
    ease.fit = SteadyOptions::Fit::none;
    ease.smooth_frames = 6;
    const auto plan = planSteady(motion, 1920, 1080, ease);
    REQUIRE(plan);
    // Where a thing of the reference frame is seen in the eased picture, against the intended pan.
    const auto off = [&](const SteadyPlan& shown) {
        double worst = 0;
        for (std::size_t f = 15; f < 105; ++f)
            for (const Vector2d& place : {Vector2d(500, 300), Vector2d(1500, 900), Vector2d(960, 100)}) {
                const Vector2d eased =
                    carried(shown.frames[f].sourceFromOutput.inverse() * motion.frames[f].plateFromReference, place);
                worst = std::max(worst, (eased - carried(intended[f], place)).norm());
            }
        return worst;
    };
    CHECK(off(*plan) < 1.0);
    // Of a similarity the perspective of the shake stays in the picture.
    PlateMotion flat = motion;
    flat.kind = MotionKind::similarity;
    for (FrameMotion& frame : flat.frames)
        frame.plateFromReference = partsOf(frame.plateFromReference, {960, 540}).about({960, 540});
    CHECK(off(*planSteady(flat, 1920, 1080, ease)) > 1.5 * off(*plan));
    ease.position = ease.rotation = ease.scale = 0;
    const auto untouched = planSteady(motion, 1920, 1080, ease);
    REQUIRE(untouched);
    for (const FrameMap& map : untouched->frames)
        CHECK((map.sourceFromOutput / map.sourceFromOutput(2, 2)).isApprox(Matrix3d::Identity(), 1e-9));
    // Held whole, the reference frame stays still to the last corner.
    SteadyOptions hold;
    hold.fit = SteadyOptions::Fit::none;
    const auto held = planSteady(motion, 1920, 1080, hold);
    REQUIRE(held);
    for (std::size_t f = 0; f < 120; ++f)
        CHECK((held->frames[f].sourceFromOutput - motion.frames[f].plateFromReference).norm() < 1e-9);
    // Half of it: between the two.
    hold.position = hold.rotation = hold.scale = 0.5;
    const auto half = planSteady(motion, 1920, 1080, hold);
    REQUIRE(half);
    const Vector2d at = carried(half->frames[90].sourceFromOutput, {960, 540});
    CHECK(at.x() == Approx(0.5 * (960 + carried(motion.frames[90].plateFromReference, {960, 540}).x())).margin(8));
}

TEST_CASE("a homography is fitted to what it was made of, and to the least distances in noise") {
    Matrix3d truth;
    truth << 1.03, 0.02, -14, -0.015, 0.98, 22, 2.2e-5, -1.4e-5, 1;
    std::mt19937 random(9);
    std::normal_distribution<double> normal;
    std::uniform_real_distribution<double> across(0, 1920), down(0, 1080);
    std::vector<fits::Pair> pairs;
    for (int i = 0; i < 60; ++i) {
        const Vector2d from(across(random), down(random));
        pairs.push_back({from, carried(truth, from), 1.0});
    }
    CHECK(fits::homographyOf(pairs).isApprox(truth, 1e-9));
    CHECK(fits::homographyOf({pairs[0], pairs[1], pairs[2], pairs[3]}).isApprox(truth, 1e-7));
    // On one line nothing tells it.
    std::vector<fits::Pair> line;
    for (int i = 0; i < 8; ++i) line.push_back({{100.0 * i, 50.0 * i}, {100.0 * i + 3, 50.0 * i}, 1.0});
    CHECK(fits::homographyOf(line) == Matrix3d::Identity());
    // In noise no neighbour has smaller distances.
    for (fits::Pair& pair : pairs) pair.to += Vector2d(normal(random), normal(random));
    const Matrix3d fitted = fits::homographyOf(pairs);
    const auto cost = [&](const Matrix3d& matrix) {
        double sum = 0;
        for (const fits::Pair& pair : pairs) sum += (carried(matrix, pair.from) - pair.to).squaredNorm();
        return sum;
    };
    const double least = cost(fitted);
    CHECK(least < cost(truth));
    for (int i = 0; i < 8; ++i)
        for (const double step : {1e-4, -1e-4}) {
            Matrix3d moved = fitted;
            moved(i / 3, i % 3) *= 1 + step;
            CHECK(cost(moved) >= least);
        }
}

TEST_CASE("a motion in perspective is handed on as its whole 3x3, and kept in the shot") {
    const ShakenShot shot = shakenShot("far", 51);
    const auto motion = pictureMotionOf(shot.tracks, 0, rangeOf(shot));
    REQUIRE(motion);
    REQUIRE(motion->kind == MotionKind::perspective);
    const test::Scratch scratch;
    const TransformSource source{"made", 1920, 1080, {24, 1}};
    const auto read = readMatrices(scratch.write("t.json", transformsJson(*motion, source, {})));
    REQUIRE(read);
    REQUIRE(read->size() == motion->frames.size());
    for (std::size_t f = 0; f < read->size(); ++f)
        CHECK((*read)[f].plateFromReference.isApprox(motion->frames[f].plateFromReference, 1e-9));
    const std::string csv = transformsCsv(*motion, source, {});
    CHECK(csv.find("pivot_y,m11,m12") != std::string::npos);
    // Without one of its parts it is no longer perspective, but the parts that are left.
    TransformOptions still;
    still.rotation = false;
    const auto parts = readMatrices(scratch.write("p.json", transformsJson(*motion, source, still)));
    REQUIRE(parts);
    CHECK((*parts)[20].plateFromReference(2, 0) == 0.0);

    Shot made;
    made.name = "made";
    made.steady.model = PictureModel::perspective;
    made.steady.steady = true;
    REQUIRE(saveShot(made, scratch / "made.pinion"));
    const auto again = loadShot(scratch / "made.pinion");
    REQUIRE(again);
    CHECK(again->steady.model == PictureModel::perspective);
    Shot other = made;
    other.steady.model = PictureModel::similarity;
    CHECK(steadyKey(other) != steadyKey(made));
    // The shake that is taken from it is that of its middle.
    const auto shake = takeShake(*motion, 1920, 1080, {24, 1}, 0, "made");
    REQUIRE(shake);
    CHECK(shake->shiftRms() > 0.002);
}

TEST_CASE("chosen tracks carry perspective when it is asked of five and more") {
    const ShakenShot shot = shakenShot("near", 61);
    std::vector<Track> chosen;
    for (int i = 0; i < 12; ++i) {
        const Eigen::Vector3d place = shot.points[std::size_t(i)];
        std::vector<Sample> samples;
        for (int f = 0; f < shot.frames; ++f)
            if (const auto at = shot.seen(f, place)) samples.push_back({.frame = f, .at = *at});
        Track track;
        track.id = i + 1;
        track.name = fmt::format("p-{}", i + 1);
        track.samples = std::move(samples);
        if (int(track.samples.size()) == shot.frames) chosen.push_back(std::move(track));
    }
    REQUIRE(chosen.size() >= 6);
    const auto turned = motionOf(chosen, 0, rangeOf(shot), MotionKind::perspective);
    const auto similar = motionOf(chosen, 0, rangeOf(shot), MotionKind::similarity);
    REQUIRE((turned && similar));
    CHECK(shot.jitter(*turned) < 0.25 * shot.jitter(*similar));
    chosen.resize(4);
    const auto few = motionOf(chosen, 0, rangeOf(shot), MotionKind::perspective);
    REQUIRE_FALSE(few);
    CHECK(few.error().message.find("perspective needs five tracks") != std::string::npos);
}
