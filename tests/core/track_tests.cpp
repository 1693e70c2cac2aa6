#include "made.h"
#include "matte/matte.h"
#include "track/matcher.h"
#include "track/tracking.h"

#include <catch2/catch.hpp>
#include <cmath>

using namespace pinion;
using Eigen::Matrix3d;
using Eigen::Vector2d;
using namespace pinion::test;

TEST_CASE("a shifted pattern is found to a fiftieth of a pixel, whatever the light does") {
    const Pyramid reference = buildPyramid(moved(Matrix3d::Identity()));
    const Vector2d centre(100.5, 80.5);
    const auto matcher = PatternMatcher::create(reference, centre, 21, MotionModel::translation);
    REQUIRE(matcher);
    for (const auto& [dx, dy] : {std::pair{0.25, -0.4}, {1.7, 2.3}, {-0.5, 0.5}, {3.1, -2.6}}) {
        const Pyramid frame = buildPyramid(moved(shift(dx, dy), 0.7, 20));
        const auto match = matcher->align(frame, PatternPose::at(centre));
        REQUIRE(match);
        CHECK((match->pose.centre() - centre - Vector2d(dx, dy)).norm() < 0.02);
        CHECK(match->score > 0.99);
    }
}

TEST_CASE("each motion model finds the motion it is made for") {
    const Vector2d centre(100.5, 80.5);
    const Pyramid reference = buildPyramid(moved(Matrix3d::Identity()));
    const auto around = [&](const Matrix3d& local) -> Matrix3d {
        return shift(centre.x() + 0.6, centre.y() - 0.3) * local * shift(-centre.x(), -centre.y());
    };
    Matrix3d turned = Matrix3d::Identity();
    turned.topLeftCorner<2, 2>() = 1.08 * Eigen::Rotation2Dd(0.07).toRotationMatrix();
    Matrix3d sheared = Matrix3d::Identity();
    sheared.topLeftCorner<2, 2>() << 1.05, 0.08, -0.03, 0.94;
    Matrix3d tilted = sheared;
    tilted(2, 0) = 0.002;
    tilted(2, 1) = -0.001;
    for (const auto& [motion, local] : {std::pair{MotionModel::similarity, turned},
                                        {MotionModel::affine, sheared},
                                        {MotionModel::perspective, tilted}}) {
        INFO(toString(motion));
        const auto matcher = PatternMatcher::create(reference, centre, 31, motion);
        REQUIRE(matcher);
        const auto match = matcher->align(buildPyramid(moved(around(local))), PatternPose::at(centre));
        REQUIRE(match);
        CHECK((match->pose.centre() - centre - Vector2d(0.6, -0.3)).norm() < 0.03);
        // The corners too, not only the middle.
        const Vector2d corner = (match->pose.plateFromPattern * Eigen::Vector3d(14, -14, 1)).hnormalized();
        const Vector2d expected = (around(local) * Eigen::Vector3d(centre.x() + 14, centre.y() - 14, 1)).hnormalized();
        CHECK((corner - expected).norm() < 0.1);
    }
}

TEST_CASE("a pattern without texture, along an edge or over the border is refused") {
    Picture flat = moved(Matrix3d::Identity());
    std::fill(flat.floats.begin(), flat.floats.end(), 0.4F);
    CHECK_FALSE(PatternMatcher::create(buildPyramid(flat), {100, 80}, 21, MotionModel::translation));
    for (std::size_t i = 0; i < flat.floats.size(); ++i) flat.floats[i] = (i / 3) % 200 < 100 ? 0.2F : 0.8F;
    CHECK_FALSE(PatternMatcher::create(buildPyramid(flat), {100, 80}, 21, MotionModel::translation));
    CHECK_FALSE(
        PatternMatcher::create(buildPyramid(moved(Matrix3d::Identity())), {6, 80}, 21, MotionModel::translation));
}

TEST_CASE("a point is carried over grainy frames both ways without drift") {
    const auto at = [](int frame) {
        return Vector2d(100.5 + 12 * std::sin(0.35 * (frame - 10)), 80.5 + 0.9 * (frame - 10));
    };
    FrameCache frames(std::make_shared<MadePlate>(20, [&](int frame) {
        const Vector2d offset = at(frame) - at(10);
        return moved(shift(offset.x(), offset.y()), 1 + 0.01 * frame, 0, 2.0, unsigned(frame));
    }));
    const auto result = trackPoints(frames, {placed(10, at(10))}, {1, 20}, Direction::both);
    REQUIRE(result);
    const Track& track = result->tracks.front();
    REQUIRE(track.samples.size() == 20);
    CHECK(track.endReason == EndReason::rangeEnd);
    for (const Sample& sample : track.samples) {
        INFO(sample.frame);
        CHECK((sample.at - at(sample.frame)).norm() < 0.1);
    }
    CHECK(sampleAt(track, 10)->tie);
}

TEST_CASE("a covered point ends, it is not guessed") {
    FrameCache frames(std::make_shared<MadePlate>(12, [](int frame) {
        Picture picture = moved(shift(1.5 * frame, 0));
        if (frame >= 7)
            for (int y = 40; y < 120; ++y)
                for (int x = 60; x < 160; ++x)
                    for (std::size_t c = 0; c < 3; ++c)
                        picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] =
                            0.3F + 0.4F * float((x / 5 + y / 7) % 2);
        return picture;
    }));
    const auto result = trackPoints(frames, {placed(1, {100.5, 80.5})}, {1, 12}, Direction::both);
    REQUIRE(result);
    CHECK(result->tracks.front().lastFrame() == 6);
    CHECK((result->tracks.front().endReason == EndReason::covered ||
           result->tracks.front().endReason == EndReason::driftLimit ||
           result->tracks.front().endReason == EndReason::ambiguous));
}

TEST_CASE("a track ends where its pattern leaves the frame, and a bad start is refused with its place") {
    FrameCache frames(std::make_shared<MadePlate>(30, [](int frame) { return moved(shift(4.0 * frame, 0)); }));
    const auto result = trackPoints(frames, {placed(1, {140.5, 80.5})}, {1, 30}, Direction::forward);
    REQUIRE(result);
    CHECK(result->tracks.front().endReason == EndReason::leftFrame);
    const auto outside = trackPoints(frames, {placed(1, {300, 80})}, {1, 30}, Direction::both);
    REQUIRE_FALSE(outside);
    CHECK(outside.error().message.find("outside the frame of 200x160") != std::string::npos);
}

TEST_CASE("scatter covers the frame, keeps its distance, obeys mattes and stops when told") {
    FrameCache frames(std::make_shared<MadePlate>(
        10, [](int frame) { return moved(shift(0.8 * frame, 0.3 * frame), 1, 0, 1.0, unsigned(frame)); }));
    ScatterOptions options;
    options.candidates.features = 60;
    options.candidates.leastDistance_px = 12;
    options.range = {1, 10};
    options.startFrame = 1;
    options.mattes = {Matte{"left", Matte::Mode::exclude, {{1, {{0, 0}, {80, 0}, {80, 160}, {0, 160}}}}}};
    const auto result = scatter(frames, options);
    REQUIRE(result);
    REQUIRE(result->tracks.size() > 20);
    for (const Track& track : result->tracks) {
        CHECK(track.samples.front().at.x() >= 80 - 10);
        const Vector2d move = track.samples.back().at - track.samples.front().at;
        const int frames_ = track.lastFrame() - track.firstFrame();
        CHECK((move - Vector2d(0.8, 0.3) * frames_).norm() < 0.15);
    }
    for (std::size_t i = 0; i < result->tracks.size(); ++i)
        for (std::size_t k = i + 1; k < result->tracks.size(); ++k)
            if (const Sample* other = sampleAt(result->tracks[k], 1); other && sampleAt(result->tracks[i], 1))
                CHECK((sampleAt(result->tracks[i], 1)->at - other->at).norm() > 10);

    Progress progress;
    progress.stop();
    const auto stopped = scatter(frames, options, progress);
    REQUIRE(stopped);
    CHECK(stopped->stopped);

    FrameCache blank(std::make_shared<MadePlate>(5, [](int) {
        return Picture{200, 160, Picture::Depth::float32, false, {}, std::vector<float>(200 * 160 * 3, 0.5F)};
    }));
    const auto none = scatter(blank, options);
    REQUIRE_FALSE(none);
    CHECK(none.error().fault == Fault::outcome);
    CHECK(none.error().message.find("no texture") != std::string::npos);
}
