// A rigid thing that moves by itself, solved against a camera that is known: made-up boxes with truth.

#include "camera/object.h"
#include "camera/solve.h"
#include "exchange/objects.h"
#include "movingbox.h"
#include "scratch.h"

#include <catch2/catch.hpp>
#include <fstream>

using namespace pinion;
using Eigen::AngleAxisd;
using Eigen::Isometry3d;
using Eigen::Vector2d;
using Eigen::Vector3d;
using pinion::test::Box;
using pinion::test::BoxPlan;

TEST_CASE("the pose of a box of forty tracks: its points within half a pixel, its size by the ground within 1 %") {
    BoxPlan plan;
    plan.seed = GENERATE(1U, 2U, 3U);
    plan.zooms = plan.seed == 3;
    const Box box(plan);
    ObjectOptions options{.tracks = box.ids, .onGround = {1, 2, 3, 4}};
    const auto object = solveObject(box.cameras, box.tracks, options);
    REQUIRE(object);
    CHECK(object->frames.size() == 100);
    CHECK(object->points.size() >= 38);
    CHECK(box.off(*object) < 0.5);
    CHECK(object->scale == ObjectScale::ground);
    CHECK(box.sizeRatio(*object) == Approx(1).margin(0.01));
    CHECK(object->scaleDeviation < 0.01);
    // As it turned and went, whatever its axes are: the way between two frames is the true one.
    for (const int f : {30, 99}) {
        const Isometry3d own =
            object->frames[std::size_t(f)].worldFromObject * object->frames[0].worldFromObject.inverse();
        const Isometry3d real = box.poses[std::size_t(f)] * box.poses[0].inverse();
        CHECK(AngleAxisd(own.linear() * real.linear().transpose()).angle() < 0.01);
        CHECK((own * Vector3d(-1.5, 0.5, -6) - real * Vector3d(-1.5, 0.5, -6)).norm() < 0.05);
    }
    // Its axes are the world's on its first frame, its origin the middle of its points.
    CHECK(object->frames[0].worldFromObject.linear().isIdentity(1e-9));
    Vector3d middle = Vector3d::Zero();
    for (const ObjectPoint& point : object->points) middle += point.xyz;
    CHECK(middle.norm() < 1e-6);
}

TEST_CASE("through a rolling shutter the pose of a box is that of the middle row") {
    BoxPlan plan;
    plan.readout = GENERATE(0.6, -0.8);
    const Box box(plan);
    ObjectOptions options{.tracks = box.ids, .onGround = {1, 2, 3, 4}, .readout = {plan.readout}};
    const auto object = solveObject(box.cameras, box.tracks, options);
    REQUIRE(object);
    CHECK(object->frames.size() == 100);
    INFO("off by " << box.off(*object) << " px, size " << box.sizeRatio(*object));
    CHECK(box.off(*object) < 0.5);
    CHECK(box.sizeRatio(*object) == Approx(1).margin(0.01));
    // Read at once it is another box.
    options.readout = {};
    const auto atOnce = solveObject(box.cameras, box.tracks, options);
    CHECK((!atOnce || box.off(*atOnce) > 2 * box.off(*object)));
}

TEST_CASE("an object's size is told by a length, by the camera's unrest, or not at all") {
    const Box box({});
    ObjectOptions options{.tracks = box.ids};
    options.length = ObjectOptions::Length{1, 2, 1.6};
    const auto byLength = solveObject(box.cameras, box.tracks, options);
    REQUIRE(byLength);
    CHECK(byLength->scale == ObjectScale::length);
    CHECK(box.sizeRatio(*byLength) == Approx(1).margin(0.01));

    options.length.reset();
    const auto byUnrest = solveObject(box.cameras, box.tracks, options);
    REQUIRE(byUnrest);
    REQUIRE(byUnrest->scale == ObjectScale::unrest);
    CHECK(byUnrest->scaleDeviation > 0);
    CHECK(std::abs(box.sizeRatio(*byUnrest) - 1) < 3 * byUnrest->scaleDeviation + 0.01);
    CHECK(byUnrest->scaleIsKnown());

    // A bad road, and a camera that is known to a millimetre and a half: less is known then, and it says so.
    for (const double own : {0.0, 0.006})
        for (const double unsure : {0.0, 0.0015}) {
            BoxPlan rough;
            rough.own_m = own;
            rough.unsure_m = unsure;
            const Box shaken(rough);
            const auto object = solveObject(shaken.cameras, shaken.tracks, options);
            REQUIRE(object);
            INFO("own " << own << ", camera " << unsure << ": " << shaken.sizeRatio(*object) << " +- "
                        << object->scaleDeviation);
            if (object->scaleIsKnown())
                CHECK(std::abs(shaken.sizeRatio(*object) - 1) < 3 * object->scaleDeviation + 0.01);
        }

    // From a camera that stands still nobody can tell a near cart from a far coach.
    BoxPlan still;
    still.unrest_m = 0;
    const Box before(still);
    options.usualDistance = 7;
    const auto free = solveObject(before.cameras, before.tracks, options);
    REQUIRE(free);
    CHECK_FALSE(free->scaleIsKnown());
    CHECK(before.off(*free) < 0.5);
    const auto& first = free->frames.front();
    CHECK((first.worldFromObject.translation() - before.cameras[0].worldFromCamera.translation()).norm() ==
          Approx(7).margin(1e-6));
}

TEST_CASE("an object that cannot be solved says why") {
    const Box box({.frames = 30, .tracks = 12});
    CHECK_FALSE(solveObject({}, box.tracks, {.tracks = box.ids}));
    const auto few = solveObject(box.cameras, box.tracks, {.tracks = {1, 2, 3, 4, 99}});
    REQUIRE_FALSE(few);
    CHECK(few.error().message == "an object needs 6 tracks at least that go with it, and has 4");
    ObjectOptions options{.tracks = box.ids};
    options.length = ObjectOptions::Length{1, 77, 2};
    const auto missing = solveObject(box.cameras, box.tracks, options);
    REQUIRE_FALSE(missing);
    CHECK_THAT(missing.error().message, Catch::Contains("the length has no two points"));
    options.length.reset();
    options.onGround = {1, 2};
    options.ground = 5;  // above the camera
    const auto above = solveObject(box.cameras, box.tracks, options);
    REQUIRE_FALSE(above);
    CHECK_THAT(above.error().message, Catch::Contains("nothing of the object meets the ground"));
}

TEST_CASE("objects are read as they were written, and what is none is named by its place") {
    ObjectFile file;
    for (int i = 0; i < 2; ++i) {
        ObjectFile::Object object{.name = i == 0 ? "cart \"a\"" : "cart b",
                                  .tracks = {"b1", "b 2"},
                                  .frames = {},
                                  .points = {{"b1", {1, -2.25, 3e-5}}, {"b 2", {0, 0.5, 0}}},
                                  .scaleIsKnown = i == 1,
                                  .scaleDeviation = 0.0125 * i,
                                  .rms_px = 0.21 + i,
                                  .doubt = i == 1 ? "only seven tracks" : ""};
        for (const int frame : {0, 1, 1004}) {
            Isometry3d pose(AngleAxisd(0.3 * frame, Vector3d(1, 2, 2).normalized()));
            pose.translation() = Vector3d(frame, 0.1, -7);
            object.frames.push_back({frame, pose});
        }
        file.objects.push_back(std::move(object));
    }
    const test::Scratch scratch;
    const auto path = scratch / "o.json";
    const auto write = [&](const std::string& text) { std::ofstream(path) << text; };
    const std::string text = objectsJson(file);
    write(text);
    const auto read = readObjects(path);
    REQUIRE(read);
    CHECK(objectsJson(*read) == text);
    REQUIRE(read->objects.size() == 2);
    CHECK(read->objects[0].name == "cart \"a\"");
    CHECK(read->objects[1].frames[2].worldFromObject.isApprox(file.objects[1].frames[2].worldFromObject, 1e-9));
    CHECK(read->objects[1].doubt == "only seven tracks");

    const auto broken = [&](const std::string& from, const std::string& to, const std::string& place) {
        std::string other = text;
        const auto at = other.find(from);
        REQUIRE(at != std::string::npos);
        write(other.replace(at, from.size(), to));
        const auto refused = readObjects(path);
        REQUIRE_FALSE(refused);
        CHECK_THAT(refused.error().message, Catch::Contains(place));
    };
    broken("\"frame\":1004", "\"frame\":1", "objects[0].frames[2].frame: frames have to rise");
    broken("\"world_from_object\":[1", "\"world_from_object\":[3",
           "objects[0].frames[0].world_from_object: is no rotation");
    broken("\"b1\"", "7", "objects[0]");
}
